#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_registry::{Hive, ValueKind, compare};

// The checksum is put right first, so that what lies behind it is reached.
fuzz_target!(|data: &[u8]| {
    let mut bytes = data.to_vec();
    if bytes.len() >= 512 {
        let word = |n: usize| u32::from_le_bytes([bytes[n * 4], bytes[n * 4 + 1], bytes[n * 4 + 2], bytes[n * 4 + 3]]);
        let sum = match (0..127).fold(0, |sum, n| sum ^ word(n)) {
            0 => 1,
            u32::MAX => u32::MAX - 1,
            sum => sum,
        };
        bytes[508..512].copy_from_slice(&sum.to_le_bytes());
    }
    let Ok(mut hive) = Hive::read(bytes) else { return };
    let written = Hive::read(hive.write().unwrap()).unwrap();
    assert!(compare(&hive, &written, "").is_empty());
    if let Ok(key) = hive.create("Neat\\Stack") {
        hive.set(key, "x", ValueKind::BINARY, &[1, 2, 3, 4, 5]).unwrap();
        let again = Hive::read(hive.write().unwrap()).unwrap();
        assert_eq!(again.counts(), hive.counts());
    }
});
