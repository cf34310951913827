//! What is read of volumes that others made, held against their listings.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

mod support;

use neat_content::{Content, Job};
use neat_image::{EntryId, Files};
use neat_ntfs::{Slot, Volume, VolumeFiles};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};
use support::{image, unpacked};

/// What must be read; of the damaged ones the entries of the sound one.
fn expected(name: &str) -> Value {
    let mut own: Value = serde_json::from_slice(&unpacked(&format!("{name}.expected.json.zst"))).unwrap();
    if let Some(other) = own.get("entries_from").and_then(Value::as_str) {
        own["entries"] = expected(other)["entries"].take();
    }
    own
}

fn volume_of(bytes: Vec<u8>, expected: &Value) -> Arc<Volume> {
    let mut content = Content::from_bytes(bytes);
    if let Some(start) = expected.pointer("/partition/first_sector").and_then(Value::as_u64) {
        let geometry = &expected["volume"];
        let len = (geometry["clusters"].as_u64().unwrap() * geometry["cluster"].as_u64().unwrap()) + 512;
        content = content.part(start * 512, len).unwrap();
    }
    Arc::new(Volume::open(content).unwrap())
}

fn files_of(volume: &Arc<Volume>) -> VolumeFiles {
    volume.files(&Job::silent()).unwrap()
}

fn sha256(bytes: &[u8]) -> String {
    Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Everything of an entry that a listing tells, in the listing's words.
fn described(read: &VolumeFiles, id: EntryId) -> Value {
    let entry = read.files.entry(id);
    let held = |slot: Slot| {
        let found = read.held.iter().find(|held| held.entry == id && held.slot == slot);
        found.map_or(Ok(Vec::new()), |held| held.content(&read.volume).to_vec(1 << 30, "sample"))
    };
    let shown = |bytes: neat_content::Result<Vec<u8>>| match bytes {
        Ok(bytes) => json!({"size": bytes.len(), "sha256": sha256(&bytes)}),
        Err(error) => json!({"error": error.to_string()}),
    };
    let (mut streams, mut plain) = (BTreeMap::new(), held(Slot::Main));
    let mut reparse = Value::Null;
    if let Some(point) = entry.reparse() {
        reparse = json!({"tag": format!("{:#010X}", point.tag).replace("0X", "0x"), "data_sha256": sha256(&plain.unwrap())});
        plain = Ok(Vec::new());
    }
    for (n, stream) in entry.streams().iter().enumerate() {
        if stream.name.is_empty() {
            plain = held(Slot::Stream(n as u32));
        } else {
            streams.insert(stream.name.to_string(), shown(held(Slot::Stream(n as u32))));
        }
    }
    let security = read.files.security.get(entry.security as usize);
    let object_id = read.object_ids.iter().find(|(own, _)| *own == id);
    json!({
        "type": if entry.is_folder() { "directory" } else { "file" },
        "content": if entry.is_folder() { Value::Null } else { shown(plain) },
        "short_name": String::from_utf16(entry.short_name()).unwrap(),
        "times": [entry.times.created, entry.times.written, entry.times.accessed],
        "attributes": entry.attributes & !0x1000_0000,
        "reparse": reparse,
        "streams": streams,
        "security": security.map(|own| sha256(own)),
        "object_id": object_id.map(|(_, id)| id.iter().map(|byte| format!("{byte:02x}")).collect::<String>()),
        "minds_case": read.minding_case.contains(&id),
    })
}

/// The same from a listing.
fn listed(entry: &Value) -> Value {
    let is_folder = entry["type"] == "directory";
    let content = json!({"size": entry["size"], "sha256": entry["sha256"]});
    let mut streams = BTreeMap::new();
    for (name, stream) in entry["streams"].as_object().unwrap() {
        streams.insert(name.clone(), json!({"size": stream["size"], "sha256": stream["sha256"]}));
    }
    let times = &entry["times"];
    let mut attributes = entry["attributes"].as_u64().unwrap() | if is_folder { 0x10 } else { 0 };
    let mut reparse = match &entry["reparse"] {
        Value::Null => Value::Null,
        point => json!({"tag": point["tag"], "data_sha256": point["data_sha256"]}),
    };
    if entry.get("wof").is_some() {
        // To whoever opens it, such a file is one like others.
        reparse = Value::Null;
        attributes &= !0x600;
    }
    json!({
        "type": entry["type"],
        "content": if is_folder { Value::Null } else { content },
        // A name that is short itself needs no second one.
        "short_name": entry["short_name"].as_str().filter(|short| !entry["path"].as_str().unwrap().ends_with(short)).unwrap_or_default(),
        "times": [times["created"], times["modified"], times["accessed"]],
        "attributes": attributes & !0x1000_0000,
        "reparse": reparse,
        "streams": streams,
        "security": entry["security"]["sha256"],
        "object_id": entry["object_id"],
        "minds_case": entry.get("case_sensitive_folder").is_some(),
    })
}

fn paths(files: &Files) -> HashMap<String, EntryId> {
    let mut paths: HashMap<String, EntryId> = files.walk().map(|step| (step.path, step.id)).collect();
    paths.insert(String::new(), Files::ROOT);
    paths
}

/// The path as it is shown here, where a unit that is no character has its number.
fn path_of(entry: &Value) -> String {
    entry["path"].as_str().unwrap().replace('\u{FFFD}', "\\u{d83d}")
}

/// Compares all of a listing but what `is_hurt` names; returns how many entries were compared.
fn compare(name: &str, read: &VolumeFiles, expected: &Value, is_hurt: &dyn Fn(&str) -> bool) -> usize {
    let found = paths(&read.files);
    let mut compared = 0;
    let mut wanted = Vec::new();
    for entry in expected["entries"].as_array().unwrap() {
        let path = path_of(entry);
        wanted.push(path.clone());
        if is_hurt(&path) {
            continue;
        }
        let id = *found.get(&path).unwrap_or_else(|| panic!("{name}: {path} was not read"));
        assert_eq!(
            described(read, read.first_name(id)),
            {
                let mut own = listed(entry);
                // A short name belongs to one name of a file, not to all.
                let first = read.files.entry(read.first_name(id));
                let short = |id| String::from_utf16(read.files.entry(id).short_name()).unwrap();
                assert_eq!(short(id), own["short_name"].as_str().unwrap(), "{name}: {path}");
                own["short_name"] = json!(String::from_utf16(first.short_name()).unwrap());
                own
            },
            "{name}: {path}"
        );
        if let Some(group) = entry.get("group").and_then(Value::as_array) {
            let link = read.files.entry(id).hard_link();
            assert!(
                link != 0
                    && read.files.entry(id).streams().len() == entry["streams"].as_object().unwrap().len()
            );
            for other in group {
                let other = found[other.as_str().unwrap()];
                assert_eq!(read.files.entry(other).hard_link(), link, "{name}: {path}");
            }
        } else {
            assert_eq!(read.files.entry(id).hard_link(), 0, "{name}: {path}");
        }
        compared += 1;
    }
    wanted.sort();
    let mut unexpected: Vec<&String> =
        found.keys().filter(|path| wanted.binary_search(path).is_err()).collect();
    unexpected.sort();
    assert!(unexpected.is_empty(), "{name}: also read {unexpected:?}");
    compared
}

#[test]
fn sound_volumes_are_read_as_they_are_listed() {
    for (name, at_least) in [
        ("basic", 170),
        ("wof", 30),
        ("gpt", 130),
        ("cluster64k", 130),
        ("bigdir", 1000),
        ("damaged-none", 300),
    ] {
        let expected = expected(name);
        let volume = volume_of(image(name), &expected);
        let geometry = volume.geometry();
        let own = &expected["volume"];
        assert_eq!(
            json!([geometry.sector, geometry.cluster, geometry.record, geometry.index_block]),
            json!([own["sector"], own["cluster"], own["record"], own["index_block"]]),
        );
        let info = volume.info().unwrap();
        assert_eq!(json!(info.is_dirty), own["dirty"], "{name}");
        assert!(info.used.unwrap() < info.bytes && info.version.0 == 3, "{info:?}");
        let read = files_of(&volume);
        assert!(read.damaged.is_empty() && read.lost == 0, "{name}: {:?}, {} lost", read.damaged, read.lost);
        let compared = compare(name, &read, &expected, &|_| false);
        assert!(compared >= at_least, "{name}: {compared}");
        for gone in expected["must_not_appear"].as_array().unwrap() {
            assert!(read.files.find(gone.as_str().unwrap()).is_none());
        }
        // In the order of the disk.
        assert!(read.held.windows(2).all(|pair| pair[0].at(&read.volume) <= pair[1].at(&read.volume)));
    }
}

#[test]
fn what_is_damaged_is_told_and_all_else_is_read() {
    for name in ["bad-fixup", "run-past-end", "lznt1-garbage", "looping-index"] {
        let name = format!("damaged-{name}");
        let expected = expected(&name);
        let read = files_of(&volume_of(image(&name), &expected));
        // The index of a folder is not asked, so that one that leads in circles hurts nothing.
        let hurt: Vec<&str> = match name.as_str() {
            "damaged-looping-index" => Vec::new(),
            _ => expected["damage"]["hurt"]
                .as_array()
                .unwrap()
                .iter()
                .map(|own| own.as_str().unwrap())
                .collect(),
        };
        assert!(compare(&name, &read, &expected, &|path| hurt.contains(&path)) > 300, "{name}");
        for path in hurt {
            let told = read
                .damaged
                .iter()
                .any(|damaged| damaged.place == path && damaged.error.to_string().contains("0x"));
            let fails = read.files.find(path).is_some_and(|id| {
                let mut own = read.held.iter().filter(|held| held.entry == id);
                own.any(|held| held.content(&read.volume).to_vec(1 << 30, "sample").is_err())
            });
            assert!(told || fails, "{name}: {path} is not told: {:?}", read.damaged);
        }
    }
}

#[test]
fn parts_of_content_are_what_they_are_of_the_whole() {
    for name in ["basic", "wof", "cluster64k"] {
        let volume = volume_of(image(name), &expected(name));
        let read = files_of(&volume);
        for held in &read.held {
            let content = held.content(&read.volume);
            let whole = content.to_vec(1 << 30, "sample").unwrap();
            let len = whole.len();
            for (from, to) in [(0, len.min(1)), (len / 3, len / 2), (len / 2, len), (len - len.min(7), len)] {
                let part = content.part(from as u64, (to - from) as u64).unwrap();
                assert_eq!(
                    part.to_vec(1 << 30, "part").unwrap(),
                    whole[from..to],
                    "{name}, {from} to {to} of {len}"
                );
            }
        }
    }
}

#[test]
fn a_volume_that_is_encrypted_or_of_another_kind_is_refused() {
    let mut bytes = image("basic");
    bytes[3..11].copy_from_slice(b"-FVE-FS-");
    let error = neat_ntfs::Volume::open(neat_content::Content::from_bytes(bytes.clone())).err().unwrap();
    assert!(
        error.to_string().contains("encrypted") && error.hint().to_string().contains("switch"),
        "{error}"
    );
    bytes[3..11].copy_from_slice(b"EXFAT   ");
    let error = neat_ntfs::Volume::open(neat_content::Content::from_bytes(bytes)).err().unwrap();
    assert!(error.to_string().contains("BootSector.name at byte 0x3"), "{error}");
}

#[test]
fn copies_of_the_first_sector_and_record_are_used() {
    let listing = expected("basic");
    let sound = image("basic");
    let mut first = sound.clone();
    first[..512].fill(0);
    let mut table = sound.clone();
    let at = volume_of(sound, &listing).geometry().table as usize * 4096;
    table[at..at + 1024].fill(0xEE);
    let read = files_of(&volume_of(first, &listing));
    assert!(compare("basic", &read, &listing, &|_| false) > 150);
    let read = files_of(&volume_of(table, &listing));
    assert!(compare("basic", &read, &listing, &|_| false) > 150);
}
