#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Timestamp};
use neat_package::{Pack, Update, VendorPackage};

fuzz_target!(init: {
    // What the library for cabinets does on hostile ones is caught by us; a panic of our own still ends the run.
    std::panic::set_hook(Box::new(|panic| eprintln!("{panic}")));
}, |data: &[u8]| {
    let content = Content::from_bytes(data);
    if let Ok(pack) = Pack::of_content(&content, Timestamp::default()) {
        let _ = Update::of_tree(&pack.tree);
    }
    let _ = VendorPackage::of_content(&content);
});
