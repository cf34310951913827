//! Who signed the loaders of a media.

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
