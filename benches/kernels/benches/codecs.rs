//! The codecs beside others of their kind: `cd benches/kernels && cargo bench`. One thread, MB/s before compression.

use divan::{Bencher, counter::BytesCount};
use neat_image::codec::{Level, lzx, xpress};
use neat_kernels::{CHUNK, chunks};
use std::sync::OnceLock;

static CHUNKS: OnceLock<Vec<Vec<u8>>> = OnceLock::new();

fn data() -> &'static [Vec<u8>] {
    CHUNKS.get_or_init(chunks)
}

/// Every chunk packed by `pack`, which gives nothing where it does not shrink.
fn packed(mut pack: impl FnMut(&[u8], &mut [u8]) -> Option<usize>) -> Vec<Vec<u8>> {
    let mut room = vec![0; 2 * CHUNK];
    let one = |chunk: &Vec<u8>| {
        pack(chunk, &mut room)
            .filter(|len| *len < CHUNK)
            .map_or_else(|| chunk.clone(), |len| room[..len].to_vec())
    };
    data().iter().map(one).collect()
}

fn deflater(level: i32) -> impl FnMut(&[u8], &mut [u8]) -> Option<usize> {
    let mut compressor = libdeflater::Compressor::new(libdeflater::CompressionLvl::new(level).unwrap());
    move |raw, packed| compressor.deflate_compress(raw, packed).ok()
}

fn encoder(level: Level) -> impl FnMut(&[u8], &mut [u8]) -> Option<usize> {
    let mut encoder = lzx::Encoder::new(CHUNK, level);
    move |raw, packed| encoder.encode(raw, packed)
}

fn xpress_encoder(level: Level) -> impl FnMut(&[u8], &mut [u8]) -> Option<usize> {
    let mut encoder = xpress::Encoder::new(CHUNK, level);
    move |raw, packed| encoder.encode(raw, packed)
}

fn total() -> usize {
    data().len() * CHUNK
}

fn main() {
    let size =
        |packed: Vec<Vec<u8>>| packed.iter().map(Vec::len).sum::<usize>() as f64 * 100.0 / total() as f64;
    let deflate = size(packed(deflater(12)));
    println!("{} MB of text and executables in chunks of 32 KiB; size in percent", total() / 1_000_000);
    for (name, percent) in [
        ("xpress fast", size(packed(xpress_encoder(Level::Fast)))),
        ("xpress good", size(packed(xpress_encoder(Level::Good)))),
        ("xpress max", size(packed(xpress_encoder(Level::Max)))),
        ("lzx fast", size(packed(encoder(Level::Fast)))),
        ("lzx good", size(packed(encoder(Level::Good)))),
        ("lzx max", size(packed(encoder(Level::Max)))),
        ("libdeflate 12", deflate),
    ] {
        println!(
            "  {name:14} {percent:6.2}   {:+.1} % beside libdeflate 12",
            (percent / deflate - 1.0) * 100.0
        );
    }
    divan::main();
}

fn encode(bencher: Bencher<'_, '_>, mut pack: impl FnMut(&[u8], &mut [u8]) -> Option<usize>) {
    let mut room = vec![0; 2 * CHUNK];
    // Every eighth chunk: the slow ones take long.
    let chunks: Vec<&Vec<u8>> = data().iter().step_by(8).collect();
    bencher
        .counter(BytesCount::new(chunks.len() * CHUNK))
        .bench_local(|| chunks.iter().map(|chunk| pack(chunk, &mut room).unwrap_or(CHUNK)).sum::<usize>());
}

fn decode(bencher: Bencher<'_, '_>, packed: &[Vec<u8>], mut unpack: impl FnMut(&[u8], &mut [u8])) {
    let mut room = vec![0; CHUNK];
    let shrunk: Vec<&Vec<u8>> = packed.iter().filter(|chunk| chunk.len() < CHUNK).collect();
    bencher
        .counter(BytesCount::new(shrunk.len() * CHUNK))
        .bench_local(|| shrunk.iter().for_each(|chunk| unpack(chunk, &mut room)));
}

#[divan::bench(sample_count = 5)]
fn encode_xpress_fast(bencher: Bencher<'_, '_>) {
    encode(bencher, xpress_encoder(Level::Fast));
}

#[divan::bench(sample_count = 5)]
fn encode_xpress_good(bencher: Bencher<'_, '_>) {
    encode(bencher, xpress_encoder(Level::Good));
}

#[divan::bench(sample_count = 5)]
fn encode_xpress_max(bencher: Bencher<'_, '_>) {
    encode(bencher, xpress_encoder(Level::Max));
}

#[divan::bench(sample_count = 5)]
fn encode_lzx_fast(bencher: Bencher<'_, '_>) {
    encode(bencher, encoder(Level::Fast));
}

#[divan::bench(sample_count = 5)]
fn encode_lzx_good(bencher: Bencher<'_, '_>) {
    encode(bencher, encoder(Level::Good));
}

#[divan::bench(sample_count = 5)]
fn encode_lzx_max(bencher: Bencher<'_, '_>) {
    encode(bencher, encoder(Level::Max));
}

#[divan::bench(sample_count = 5)]
fn encode_libdeflate_12(bencher: Bencher<'_, '_>) {
    encode(bencher, deflater(12));
}

#[divan::bench(sample_count = 20)]
fn decode_xpress(bencher: Bencher<'_, '_>) {
    let mut decoder = xpress::Decoder::default();
    decode(bencher, &packed(xpress_encoder(Level::Fast)), |packed, raw| decoder.decode(packed, raw).unwrap());
}

#[divan::bench(sample_count = 20)]
fn decode_lzx(bencher: Bencher<'_, '_>) {
    let mut decoder = lzx::Decoder::new(CHUNK);
    decode(bencher, &packed(encoder(Level::Fast)), |packed, raw| decoder.decode(packed, raw).unwrap());
}

/// The same data in the form of cabinets, which begins with a bit for the translation and names the size of the block.
#[divan::bench(sample_count = 20)]
fn decode_lzx_by_lzxd(bencher: Bencher<'_, '_>) {
    let moved: Vec<Vec<u8>> = packed(encoder(Level::Fast))
        .into_iter()
        .filter(|chunk| chunk.len() < CHUNK)
        .map(|chunk| {
            let words = chunk.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
            let mut bits: Vec<bool> =
                words.flat_map(|word| (0..16).rev().map(move |n| word >> n & 1 == 1)).collect();
            let kind: Vec<bool> = bits.drain(..4).take(3).collect();
            let mut all = vec![false];
            all.extend(kind);
            all.extend((0..24).rev().map(|n| CHUNK >> n & 1 == 1));
            all.extend(bits);
            all.resize(all.len().next_multiple_of(16), false);
            all.chunks(16)
                .flat_map(|word| word.iter().fold(0_u16, |w, bit| w << 1 | u16::from(*bit)).to_le_bytes())
                .collect()
        })
        .collect();
    bencher.counter(BytesCount::new(moved.len() * CHUNK)).bench_local(|| {
        moved.iter().for_each(|chunk| {
            let mut other = lzxd::Lzxd::new(lzxd::WindowSize::KB32);
            divan::black_box(other.decompress_next(chunk, CHUNK).unwrap());
        });
    });
}

#[divan::bench(sample_count = 20)]
fn decode_libdeflate(bencher: Bencher<'_, '_>) {
    let mut decompressor = libdeflater::Decompressor::new();
    decode(bencher, &packed(deflater(6)), |packed, raw| {
        decompressor.deflate_decompress(packed, raw).unwrap();
    });
}
