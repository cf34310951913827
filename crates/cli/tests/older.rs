//! Media of the generation before image files, through the built program.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use std::fs;
use support::{demo, fails, json, ok};

#[test]
fn a_media_of_the_older_generation_is_known_and_made_smaller() {
    let (_keep, dir) = demo();
    let look = json(&dir, &["look", "quay-os-2.iso", "--json"]);
    let setup = &look["older_setups"][0];
    for (key, value) in [
        ("product", "Quay OS 2 Purser".into()),
        ("version", "2.1.2604.0".into()),
        ("service_pack", 0.into()),
        ("architecture", "x86".into()),
        ("language", "en-GB".into()),
        ("target", "\\QUAY".into()),
        ("compressed_files", serde_json::Value::from(6)),
    ] {
        assert_eq!(setup[key], value, "{key}");
    }
    assert_eq!((&look["boot"][0]["load_sectors"], &look["boot"][0]["image_size"]), (&4.into(), &2048.into()));
    assert!(json(&dir, &["look", "quay-os-7.iso", "--json"]).get("older_setups").is_none());
    let stack = |compression: &str, more: &str| {
        let text = format!(
            "[source]\nmedia = \"quay-os-2.iso\"\n{more}\n[media]\ncompression = \"{compression}\"\niso = \"o.iso\"\n"
        );
        fs::write(dir.join("o.stack.toml"), text).unwrap();
        "o.stack.toml"
    };
    let plan = json(&dir, &["plan", stack("max", ""), "--json"]);
    let step = plan["steps"].as_array().unwrap().iter().find(|step| step["action"] == "repack").unwrap();
    assert_eq!(step["subject"], "3 files of media:/I386, each by itself");
    let saved = step["bytes"].as_i64().unwrap();
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    let after = json(&dir, &["look", "o.iso", "--json"]);
    let bytes = |look: &serde_json::Value| look["older_setups"][0]["compressed_bytes"].as_i64().unwrap();
    assert_eq!(bytes(&after) - bytes(&look), saved);
    assert!(saved < -1_000 && after["older_setups"][0]["version"] == "2.1.2604.0");
    // What did not become smaller stays as it was.
    let compared = json(&dir, &["compare", "quay-os-2.iso", "o.iso", "--json"]);
    let changed: Vec<&str> =
        compared["files"].as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(changed, ["I386/PURSER.HL_", "I386/RADIO.SY_", "I386/WINCH.DL_"]);
    let (code, error) = fails(&dir, &["plan", stack("good", "")]);
    assert!(code == 2 && error.contains("compression = \"max\""), "{error}");
    let (code, error) = fails(&dir, &["plan", stack("max", "editions = [1]")]);
    assert!(code == 2 && error.contains("no image file with systems"), "{error}");
}
