#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_image::codec::xpress;
use std::cell::RefCell;

thread_local! {
    static DECODER: RefCell<(xpress::Decoder, Vec<u8>)> = RefCell::new((xpress::Decoder::default(), vec![0; 65536]));
}

// Two bytes say how long the chunk is, the rest is the chunk. The same twice, because tables are used again.
fuzz_target!(|data: &[u8]| {
    let Some((head, packed)) = data.split_first_chunk::<2>() else { return };
    let len = usize::from(u16::from_le_bytes(*head));
    DECODER.with_borrow_mut(|(decoder, raw)| {
        let first = decoder.decode(packed, &mut raw[..len]).map(|()| raw[..len].to_vec());
        let second = decoder.decode(packed, &mut raw[..len]).map(|()| raw[..len].to_vec());
        assert_eq!(first, second);
    });
});
