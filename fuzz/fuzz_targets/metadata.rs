#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_image::metadata;

// What can be read can be written, and is then the same.
fuzz_target!(|data: &[u8]| {
    if let Ok(files) = metadata::read(data)
        && let Ok(bytes) = metadata::write(&files)
    {
        let again = metadata::read(&bytes).unwrap();
        assert!(metadata::write(&again).unwrap() == bytes);
    }
});
