#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Timestamp};
use neat_package::{Pack, Update, VendorPackage};

fuzz_target!(|data: &[u8]| {
    let content = Content::from_bytes(data);
    if let Ok(pack) = Pack::of_content(&content, Timestamp::default()) {
        let _ = Update::of_tree(&pack.tree);
    }
    let _ = VendorPackage::of_content(&content);
});
