#![no_main]
use libfuzzer_sys::fuzz_target;
use neat_content::Content;
use neat_service::BootStore;

// A boot manager's store: reading, and every change in one that can be read.
fuzz_target!(|data: &[u8]| {
    let Ok(Some(mut store)) = BootStore::read(&Content::from_bytes(data.to_vec())) else { return };
    let before = store.facts();
    for entry in &before.entries {
        let _ = store.find(&entry.title);
        if !entry.image.is_empty() {
            let _ = store.add_like(&entry.id, "another", &entry.image);
        }
    }
    if store.set_timeout(3).is_err() {
        return;
    }
    if let Some(entry) = before.entries.first() {
        let _ = store.set_title(&entry.id, "title");
        let _ = store.set_default(&entry.id);
    }
    let bytes = store.write().unwrap();
    let again = BootStore::read(&Content::from_bytes(bytes)).unwrap().unwrap();
    assert_eq!(again.facts().timeout_seconds, Some(3));
    assert!(again.facts().entries.len() >= before.entries.len());
});
