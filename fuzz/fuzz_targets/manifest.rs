#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Meta, Timestamp, Tree};
use neat_package::Update;
use neat_service::{Catalogue, Layout};

fuzz_target!(|data: &str| {
    let meta = Meta::at(Timestamp::default());
    let mut tree = Tree::new(meta);
    tree.put_file("update.toml", Content::from_bytes(data.as_bytes()), meta).unwrap();
    let _ = Update::of_tree(&tree);
    let _ = Catalogue::parse(data);
    let _ = Layout::parse(data);
});
