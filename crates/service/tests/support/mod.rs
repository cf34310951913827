//! Small editions made in memory.
#![allow(dead_code, clippy::unwrap_used, reason = "each test binary uses its part, and fails by stopping")]

use neat_content::{Job, Timestamp, Tree};
use neat_image::{ImageDraft, ImageFile, Times, capture};
use neat_registry::Hive;
use neat_service::{Edition, Layout};
use std::sync::Arc;

pub const NOW: Timestamp = Timestamp::from_seconds(1_700_000_000);

pub fn hive(root: &str, fill: impl FnOnce(&mut Hive)) -> Vec<u8> {
    let mut hive = Hive::new(5, root, &[1, 2, 3, 4], 7);
    fill(&mut hive);
    hive.write().unwrap()
}

/// An image file with one edition for each tree.
pub fn image(trees: &[Tree]) -> ImageFile {
    let mut draft = ImageDraft::new(None);
    for (n, tree) in trees.iter().enumerate() {
        let captured = capture::from_tree(tree, &Job::silent()).unwrap();
        for (digest, content) in captured.blobs {
            draft.add_blob(digest, content);
        }
        draft.add_edition(captured.files, capture::image_element(&format!("E{}", n + 1), "", 0)).unwrap();
    }
    let content = draft.to_content(&std::env::temp_dir(), 1, &Job::silent()).unwrap();
    ImageFile::open("test.wim", content).unwrap()
}

pub fn layouts() -> [Arc<Layout>; 1] {
    [Arc::new(Layout::common().unwrap())]
}

pub fn open(image: &ImageFile) -> (Arc<ImageDraft>, Edition) {
    let draft = Arc::new(ImageDraft::of(image));
    let edition = Edition::open(&draft, 1, &layouts(), Times::at(NOW)).unwrap();
    (draft, edition)
}
