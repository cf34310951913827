#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_image::{EditionInfo, xml::Element};

fuzz_target!(|data: &str| {
    if let Ok(root) = Element::parse(data) {
        let _ = EditionInfo::of(&root);
        let text = root.to_text();
        assert_eq!(Element::parse(&text).unwrap().to_text(), text);
    }
});
