#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Job, Meta, Timestamp, Tree};
use neat_image::{Compression, ImageDraft, ImageFile, Level, Method, capture, to_tree};
use std::sync::OnceLock;

static SOUND: OnceLock<Vec<u8>> = OnceLock::new();

// Changes to a sound image file: three bytes of place, one of value.
fuzz_target!(|data: &[u8]| {
    let sound = SOUND.get_or_init(|| {
        let mut tree = Tree::new(Meta::at(Timestamp::default()));
        for n in 0..6_u8 {
            let content = Content::from_bytes(vec![n; 9000 * usize::from(n)]);
            let _ = tree.put_file(&format!("folder{}/file {n}", n % 3), content, Meta::at(Timestamp::default()));
        }
        let compression = Compression { method: Method::Xpress, chunk_len: 32768, level: Level::Fast };
        let mut draft = ImageDraft::new(Some(compression));
        capture::from_tree(&tree, &Job::silent()).unwrap().add_to(&mut draft, "A", "").unwrap();
        draft.set_integrity(true);
        draft.to_content(&std::env::temp_dir(), 1, &Job::silent()).unwrap().to_vec(1 << 24, "image").unwrap()
    });
    let mut bytes = sound.clone();
    for change in data.chunks_exact(4).take(64) {
        let place = (usize::from(change[0]) << 16 | usize::from(change[1]) << 8 | usize::from(change[2])) % bytes.len();
        bytes[place] = change[3];
    }
    let Ok(image) = ImageFile::open("fuzz", Content::from_bytes(bytes)) else { return };
    for number in 1..=image.editions().len().min(4) {
        if let Ok(files) = image.files(number)
            && let Ok((tree, _)) = to_tree(&image, number, &files)
        {
            for content in tree.walk().filter_map(|step| tree.node(step.id).content()) {
                let _ = content.to_vec(1 << 20, "content");
            }
        }
    }
    let _ = ImageDraft::of(&image).to_content(std::path::Path::new("/nowhere"), 1, &Job::silent());
});
