#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::{Content, Timestamp};
use neat_package::{SingleForm, compress_single, expand_single};
use neat_testing::single::expand_older;

// Files that are compressed each by itself: any bytes as one, by two readings; and any bytes in one and out again.
fuzz_target!(|data: &[u8]| {
    let older = [&b"SZDD\x88\xF0\x27\x33As"[..], data].concat();
    for bytes in [data, &older] {
        let second = expand_older(bytes);
        if let Ok(Some(own)) = expand_single("keel.sy_", &Content::from_bytes(bytes.to_vec()), 1 << 20)
            && own.form == SingleForm::Older
        {
            assert_eq!(Some(own.content.to_vec(1 << 20, "content").unwrap()), second);
        }
    }
    for form in [SingleForm::Older, SingleForm::Cabinet] {
        let packed = compress_single("keel.sys", data, form, Timestamp::default()).unwrap();
        let own = expand_single("keel.sy_", &Content::from_bytes(packed), 1 << 30).unwrap().unwrap();
        assert!(own.content.to_vec(1 << 30, "content").unwrap() == data && own.form == form);
    }
});
