//! Discs written by writers that are not there, and looked at in a drive under a real kernel.

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
use support::{
    demo, fails, json, ok,
    ports::{self, Kernel},
};

/// What an error says, in one line.
fn refused(dir: &Path, args: &[&str]) -> (i32, String) {
    let (code, error) = fails(dir, args);
    (code, error.split_whitespace().collect::<Vec<_>>().join(" "))
}

#[test]
fn a_disc_is_written_read_back_and_closed() {
    let (_keep, dir) = demo();
    let writer = "writers/lantern.writer.toml";
    let list = json(&dir, &["disc", "--list", "--simulated", writer, "--json"]);
    let own = &list["writers"][0];
    assert_eq!((&own["model"], &own["word"]), (&"LANTERN DW-12 Deck".into(), &"LW12-0001".into()));
    assert_eq!(own["disc"]["capacity"], 2_295_104_u64 * 2048);
    for (args, expected) in [
        (&["disc", "quay-os-2.iso"][..], "a writer is wanted"),
        (&["disc", "quay-os-2.iso", "--simulated", writer], "give --yes-write LW12-0001"),
        (
            &["disc", "quay-os-2.iso", "--simulated", writer, "--yes-write", "BN16-0007"],
            "is LW12-0001, not BN16-0007",
        ),
        (&["disc", "drivers", "--simulated", writer, "--yes-write", "LW12-0001"], "no ISO file"),
        (&["disc", "quay-os-2.iso", "--to", "machines.csv", "--yes-write", "x"], "no drive for discs"),
        (&["disc", "quay-os-2.iso", "--simulated", "machines.csv"], "it says maker, model, serial"),
    ] {
        let (code, error) = refused(&dir, args);
        assert!(code != 0 && error.contains(expected), "{args:?}: {error}");
    }
    let args = [
        "disc",
        "quay-os-2.iso",
        "--simulated",
        writer,
        "--yes-write",
        "LW12-0001",
        "--speed",
        "8",
        "--json",
    ];
    let done = json(&dir, &args);
    let image = fs::read(dir.join("quay-os-2.iso")).unwrap();
    assert_eq!(
        (&done["disc"], &done["compared"], &done["speed"]),
        (&"dvd+r".into(), &image.len().into(), &11_080.into())
    );
    let disc = fs::read(dir.join(format!("{writer}.bytes"))).unwrap();
    assert!(disc.starts_with(&image) && disc[image.len()..].iter().all(|byte| *byte == 0));
    assert_eq!(disc.len() % (16 * 2048), 0);
    // What lies on it is the media.
    fs::rename(dir.join(format!("{writer}.bytes")), dir.join("read.iso")).unwrap();
    ok(&dir, &["compare", "read.iso", "quay-os-2.iso"]);
    // It is written once.
    let (_, error) =
        refused(&dir, &["disc", "quay-os-2.iso", "--simulated", writer, "--yes-erase", "LW12-0001"]);
    assert!(error.contains("its disc (DVD+R, written) cannot be written"), "{error}");
}

#[test]
fn a_disc_that_can_be_written_again_is_erased_when_that_is_said() {
    let (_keep, dir) = demo();
    let writer = "writers/beacon.writer.toml";
    let own = ["disc", "quay-os-2.iso", "--simulated", writer];
    let (code, error) = refused(&dir, &[&own[..], &["--yes-write", "BN16-0007"]].concat());
    assert!(
        code == 4 && error.contains("everything on the CD-RW") && error.contains("--yes-erase BN16-0007"),
        "{error}"
    );
    let done = json(&dir, &[&own[..], &["--yes-erase", "BN16-0007", "--no-eject", "--json"]].concat());
    assert_eq!((&done["erased"], &done["behind"]), (&true.into(), &(150 * 2048).into()));
    let commands = fs::read_to_string(dir.join(format!("{writer}.commands"))).unwrap();
    assert!(commands.contains("BLANK 1\n") && !commands.contains("START STOP UNIT"), "{commands}");
    let erased = json(
        &dir,
        &["disc", "erase", "--simulated", writer, "--yes-erase", "BN16-0007", "--whole", "--json"],
    );
    assert_eq!(erased["disc"]["state"], "empty");
    let commands = fs::read_to_string(dir.join(format!("{writer}.commands"))).unwrap();
    assert!(commands.contains("BLANK 0\n"), "{commands}");
    // One that fails half-way is spoilt, and says where.
    let (_, error) = refused(
        &dir,
        &["disc", "quay-os-7.iso", "--simulated", "writers/worn.writer.toml", "--yes-write", "LW04-0310"],
    );
    assert!(error.contains("block 192") && error.contains("this DVD-R cannot be used again"), "{error}");
}

#[test]
#[ignore = "needs QEMU, the kernel's package and busybox-static"]
fn under_a_real_kernel_a_drive_says_what_it_is_and_what_lies_in_it() {
    let (_keep, dir) = demo();
    let steps = "\
        come '[ -b /dev/sr0 ]'\n\
        ns list disc --list --json\n\
        ns seen disc --list\n\
        ns write disc quay-os-2.iso --to /dev/sr0 --yes-write QS-DISC-1\n\
        ns erase disc erase --to /dev/sr0 --yes-erase QS-DISC-1\n\
        mount -r -t iso9660 /dev/sr0 /m\n\
        ns mounted disc quay-os-2.iso --to /dev/sr0 --yes-write QS-DISC-1\n\
        umount /m\n\
        ns none disc quay-os-2.iso --to /dev/ttyS0 --yes-write QS-DISC-1";
    let kernel = Kernel::with_discs();
    let initrd = ports::ramdisk_of(&kernel, &dir, &[&dir.join("quay-os-2.iso")], steps);
    let mut machine = ports::start_with_disc(&kernel, &initrd, &dir.join("quay-os-7.iso"));
    let text = machine.expect("@END");
    let (code, list) = ports::step(&text, "list");
    let list: serde_json::Value =
        serde_json::from_str(list).unwrap_or_else(|error| panic!("{error}: {list}"));
    let own = &list["writers"][0];
    assert_eq!(
        (code, &own["path"], &own["trouble"]),
        (0, &"/dev/sr0".into(), &serde_json::Value::Null),
        "{list}"
    );
    assert!(own["model"].as_str().unwrap().contains("QEMU"), "{list}");
    // The drive is one that reads pressed discs, with as many bytes as the image has.
    let len = fs::metadata(dir.join("quay-os-7.iso")).unwrap().len();
    assert_eq!(own["disc"]["used"], len, "{list}");
    assert!(["dvd-rom", "cd-rom"].contains(&own["disc"]["kind"].as_str().unwrap()), "{list}");
    for (name, wanted) in [
        ("write", "cannot be written"),
        ("erase", ""),
        ("mounted", "is mounted at /m"),
        ("none", "/dev/ttyS0"),
    ] {
        let (code, said) = ports::step(&text, name);
        assert!(code != 0 && said.contains(wanted), "{name}: {said}");
    }
}
