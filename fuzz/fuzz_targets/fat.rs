#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Meta, Timestamp, Tree};
use neat_media::fat;
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

// Changes to a sound FAT12 image: three bytes of place, one of value.
fuzz_target!(|data: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        let mut tree = Tree::new(Meta::at(Timestamp::default()));
        for n in 0..5_u8 {
            let content = Content::from_bytes(vec![n; 1000 * usize::from(n)]);
            let _ = tree.put_file(&format!("folder{n}/a long file name {n}.txt"), content, Meta::at(Timestamp::default()));
        }
        let image = fat::write::image(&tree, &fat::write::Options::default()).unwrap();
        image.to_vec(1 << 24, "image").unwrap()
    });
    let mut bytes = sound.clone();
    for change in data.chunks_exact(4).take(64) {
        let place = (usize::from(change[0]) << 16 | usize::from(change[1]) << 8 | usize::from(change[2])) % bytes.len();
        bytes[place] = change[3];
    }
    let image = Content::from_bytes(bytes);
    let _ = fat::read::volume_len(&image);
    if let Ok(tree) = fat::read::read(&image) {
        let _ = tree.counts();
    }
});
