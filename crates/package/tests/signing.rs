//! What the signatures of drivers are worth: those of the demo, as they are and changed.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

use neat_content::{Content, Job, Meta, Timestamp, Tree};
use neat_package::{Architecture, Driver, DriverSignature, Signing};
use std::path::Path;

const NOW: Timestamp = Timestamp::from_seconds(1_796_083_200);

fn catalogue(name: &str) -> Vec<u8> {
    std::fs::read(Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo/drivers").join(name)).unwrap()
}

/// A driver whose files no catalogue of the demo has.
const INF: &str = "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=\"Brackwater\"\n\
    DriverVer=01/02/2026,1.0.0.0\nCatalogFile.NTamd64=winch.cat\n[Manufacturer]\n\"Brackwater\"=Models,NTamd64\n\
    [Models.NTamd64]\n\"Winch\"=Install,PCI\\VEN_1AF4&DEV_1234\n[Install]\nCopyFiles=Files\n[Files]\nwinch.sys\n\
    [SourceDisksNames]\n1=Disk\n[SourceDisksFiles]\nwinch.sys=1\n";

fn signature(files: &[(&str, &[u8])]) -> DriverSignature {
    let mut tree = Tree::new(Meta::at(NOW));
    for (name, bytes) in files {
        tree.put_file(&format!("pack/{name}"), Content::from_bytes(*bytes), Meta::at(NOW)).unwrap();
    }
    let driver = Driver::read("pack/winch.inf", INF.as_bytes()).unwrap();
    driver.signature(&tree, &[Architecture::X64], (NOW, None), &Job::silent()).unwrap()
}

#[test]
fn without_a_catalogue_a_driver_is_not_signed() {
    let found = signature(&[("winch.inf", INF.as_bytes()), ("winch.sys", b"winch")]);
    assert_eq!((found.state, found.by), (Signing::Unsigned, None));
    assert_eq!(found.why.as_deref(), Some("its catalogue winch.cat is missing"));
}

#[test]
fn a_catalogue_that_nobody_signed_does_not_count() {
    // A list of no members, in signed data without a signer.
    let list: &[u8] = b"\x30\x12\x30\x0C\x06\x0A\x2B\x06\x01\x04\x01\x82\x37\x0C\x01\x01\x04\x02ab";
    let kind = b"\x06\x09\x2B\x06\x01\x04\x01\x82\x37\x0A\x01";
    let content = [&[0xA0, list.len() as u8], list].concat();
    let inner = [&[0x30, (kind.len() + content.len()) as u8][..], kind, &content].concat();
    let signed = [b"\x02\x01\x01\x31\x00", inner.as_slice(), b"\x31\x00"].concat();
    let signed = [&[0x30, signed.len() as u8], signed.as_slice()].concat();
    let outer =
        [b"\x06\x09\x2A\x86\x48\x86\xF7\x0D\x01\x07\x02\xA0", &[signed.len() as u8][..], &signed].concat();
    let bytes = [&[0x30, outer.len() as u8], outer.as_slice()].concat();
    let found = signature(&[("winch.inf", INF.as_bytes()), ("winch.sys", b"winch"), ("winch.cat", &bytes)]);
    assert_eq!(
        (found.state, found.why.as_deref()),
        (Signing::Unsigned, Some("its catalogue has no signature"))
    );
}

#[test]
fn a_catalogue_of_another_driver_covers_nothing() {
    let other = catalogue("keelson.cat");
    let found = signature(&[("winch.inf", INF.as_bytes()), ("winch.sys", b"winch"), ("WINCH.CAT", &other)]);
    assert_eq!((found.state, found.by.as_deref()), (Signing::Altered, Some("Quay Hardware Drivers")));
    assert_eq!(found.uncovered, ["winch.inf", "winch.sys"]);
    let noise: Vec<u8> = (0..900).map(|n| (n * 7) as u8).collect();
    let found = signature(&[("winch.inf", INF.as_bytes()), ("winch.sys", b"winch"), ("winch.cat", &noise)]);
    assert_eq!(found.state, Signing::Altered);
    assert!(found.remark().unwrap().starts_with("altered: its catalogue cannot be read"), "{found:?}");
}
