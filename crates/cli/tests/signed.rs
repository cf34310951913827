//! Who signed the loaders of a media, and drivers.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use std::{fs, path::Path};
use support::{fails, json, ok};

/// A media whose loader these bytes are.
fn media(dir: &Path, name: &str, loader: &[u8]) {
    let folder = dir.join(format!("{name}.folder/EFI/BOOT"));
    fs::create_dir_all(&folder).unwrap();
    fs::write(folder.join("BOOTX64.EFI"), loader).unwrap();
    ok(dir, &["master", &format!("{name}.folder"), "-o", name]);
}

fn signed() -> Vec<u8> {
    let samples = Path::new(env!("CARGO_MANIFEST_DIR")).join("../signature/tests/samples");
    fs::read(samples.join("signed.efi")).unwrap()
}

#[test]
fn look_says_who_signed_the_loader_and_whether_it_fits() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    media(dir, "good.iso", &signed());
    let text = ok(dir, &["look", "good.iso", "--boot"]);
    for expected in [
        "the signature of EFI/BOOT/BOOTX64.EFI",
        "Quay OS Loaders, by Brackwater Loaders Authority",
        "firmware that knows Brackwater Loaders Authority",
        "yes: digest, key and chain",
    ] {
        assert!(text.contains(expected), "{expected} is not in\n{text}");
    }
    let view = json(dir, &["look", "good.iso", "--boot", "--json"]);
    assert_eq!(view["loaders"][0]["signatures"][0]["digest_fits"], true);
    let mut changed = signed();
    changed[0x250] ^= 1;
    media(dir, "changed.iso", &changed);
    let text = ok(dir, &["look", "changed.iso", "--boot"]);
    assert!(text.contains("it was changed since"), "{text}");
    media(dir, "plain.iso", include_bytes!("../../demo/boot/uefi.bin"));
    let text = ok(dir, &["look", "plain.iso", "--boot"]);
    assert!(text.contains("no: firmware that checks signatures does not start it"), "{text}");
}

#[test]
fn a_list_says_what_was_taken_back() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    media(dir, "good.iso", &signed());
    let view = json(dir, &["look", "good.iso", "--boot", "--json"]);
    let digest = view["loaders"][0]["sha256"].as_str().unwrap();
    let digest: Vec<u8> =
        (0..32).map(|n| u8::from_str_radix(&digest[2 * n..2 * n + 2], 16).unwrap()).collect();
    let kind =
        [0x26, 0x16, 0xC4, 0xC1, 0x4C, 0x50, 0x92, 0x40, 0xAC, 0xA9, 0x41, 0xF9, 0x36, 0x93, 0x43, 0x28];
    let numbers: Vec<u8> = [76_u32, 0, 48].iter().flat_map(|number| number.to_le_bytes()).collect();
    fs::write(dir.join("list.bin"), [&kind[..], &numbers, &[0; 16], &digest].concat()).unwrap();
    let text = ok(dir, &["look", "good.iso", "--boot", "--revoked", "list.bin"]);
    assert!(text.contains("firmware with this list does not start it"), "{text}");
    fs::write(dir.join("list.bin"), "no list").unwrap();
    let (code, error) = fails(dir, &["look", "good.iso", "--boot", "--revoked", "list.bin"]);
    assert!(code == 3 && error.contains("list.bin"), "{code} {error}");
}

/// The state of each driver's signature, by the name of its INF file's folder or pack.
fn states(view: &serde_json::Value) -> Vec<(String, String)> {
    let drivers = view["drivers"].as_array().unwrap().iter();
    let text = |value: &serde_json::Value| value.as_str().unwrap().to_owned();
    drivers.map(|own| (text(&own["path"]), text(&own["signature"]["state"]))).collect()
}

#[test]
fn drivers_are_signed_expired_altered_or_not_signed() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    ok(dir, &["demo", "demo"]);
    let demo = dir.join("demo");
    let view = json(&demo, &["drivers", "drivers", "--root", "drivers-authority.pem", "--json"]);
    let expected = [
        ("drivers/barnacle-arm/barnacle.inf", "unsigned"),
        ("drivers/foghorn-sound/foghorn.inf", "altered"),
        ("drivers/keelson-s4/keelson.inf", "signed"),
        ("drivers/old/keelson-s4/keelson.inf", "expired"),
        ("drivers/lantern-net.cab/lantern.inf", "signed"),
        ("drivers/rudder-usb.exe/rudder.inf", "signed"),
    ];
    assert_eq!(states(&view), expected.map(|(path, state)| (path.to_owned(), state.to_owned())));
    assert_eq!(view["drivers"][1]["signature"]["uncovered"], serde_json::json!(["foghorn.sys"]));
    assert_eq!(view["drivers"][2]["signature"]["trusted"], true);
    let text = ok(&demo, &["drivers", "drivers"]);
    assert!(text.contains("whom to trust is said with --root"), "{text}");
    let error = fails(&demo, &["drivers", "drivers", "--root", "bridge.stack.toml"]);
    assert!(error.0 == 2 && error.1.contains("the certificates cannot be read"), "{error:?}");
}

/// A byte of a driver's program changed after it was signed: the plan says so as a problem, the ledger beside the driver.
#[test]
fn a_driver_that_was_changed_is_said_in_plan_and_ledger() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    ok(dir, &["demo", "demo"]);
    let demo = dir.join("demo");
    let stack = "title = \"a\"\n[source]\nmedia = \"quay-os-7.iso\"\n[[driver]]\nfrom = \"drivers/keelson-s4\"\n[media]\niso = \"out/a.iso\"\n";
    fs::write(demo.join("a.stack.toml"), stack).unwrap();
    let findings = |view: &serde_json::Value| view["findings"].to_string();
    let sound = json(&demo, &["plan", "a.stack.toml", "--json"]);
    assert!(!findings(&sound).contains("keelson"), "{}", findings(&sound));
    let program = demo.join("drivers/keelson-s4/keelson.sys");
    let mut bytes = fs::read(&program).unwrap();
    bytes[1000] ^= 1;
    fs::write(&program, bytes).unwrap();
    let view = json(&demo, &["plan", "a.stack.toml", "--json"]);
    let said = "driver drivers/keelson-s4/keelson.inf: altered: keelson.sys: not as the catalogue has it";
    assert_eq!(findings(&view).matches(said).count(), 1, "{}", findings(&view));
    ok(&demo, &["build", "a.stack.toml"]);
    let ledger = fs::read_to_string(demo.join("out/a.ledger.json")).unwrap();
    assert!(ledger.contains("SCSIAdapter, 4.2.0.17, altered: keelson.sys: not as the catalogue has it"));
}

/// The clock may be set: what had not begun then, and what has not ended yet, are told apart from what has ended.
#[test]
fn certificates_have_to_hold_on_the_day_that_counts() {
    let (_keep, dir) = support::demo();
    for (seconds, state, why) in [
        ("1600000000", "expired", "its certificate begins on 2024-01-01, after the day of this check"),
        ("1750000000", "signed", ""),
        (
            "1796083200",
            "expired",
            "its certificate ended on 2025-12-01, and nothing says that it was signed before",
        ),
    ] {
        let output = std::process::Command::new(env!("CARGO_BIN_EXE_neatstack"))
            .current_dir(&dir)
            .args(["drivers", "drivers/old/keelson-s4", "--json"])
            .env("SOURCE_DATE_EPOCH", seconds)
            .output()
            .unwrap();
        let view: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let signature = &view["drivers"][0]["signature"];
        let found = (signature["state"].as_str().unwrap(), signature["why"].as_str().unwrap_or_default());
        assert_eq!(found, (state, why), "{seconds}");
    }
}
