#![no_main]
mod patches;
use libfuzzer_sys::fuzz_target;

// Descriptor sequences, anchors, file entries and directories, with checksums made right again.
fuzz_target!(|data: &[u8]| patches::run(patches::Kind::Udf, &[0x1_0000..0x2_1000, 0x8_0000..0x8_B000], true, data));
