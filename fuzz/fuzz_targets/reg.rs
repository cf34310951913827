#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_registry::{Hive, RegText, locate};

fuzz_target!(|data: &[u8]| {
    let Ok(text) = RegText::read(data) else { return };
    let again = RegText::read(&text.to_bytes());
    assert!(again.is_ok(), "{:?}", again.err());
    let mut hive = Hive::new(5, "R", b"", 0);
    for line in &text.lines {
        if let Ok((_, path)) = locate(&line.key) {
            let _ = hive.apply(&path, &line.change);
        }
    }
    Hive::read(hive.write().unwrap()).unwrap();
});
