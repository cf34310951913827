#![no_main]
mod patches;
use libfuzzer_sys::fuzz_target;

// Partition tables, the boot record and everything behind the directories, where the boot catalog is.
fuzz_target!(|data: &[u8]| patches::run(patches::Kind::IsoOnly, &[0..0x600, 0x8800..0x9000, 0xF000..0x1_8000], false, data));
