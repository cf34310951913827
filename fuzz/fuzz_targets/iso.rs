#![no_main]
mod patches;
use libfuzzer_sys::fuzz_target;

// Descriptors, path tables, directories with Rock Ridge and Joliet of a disc without UDF.
fuzz_target!(|data: &[u8]| patches::run(patches::Kind::IsoOnly, &[0x8000..0x9800, 0x9800..0x14000], false, data));
