//! Disks in every form, made by another program from bytes that are known.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::indexing_slicing,
    reason = "tests say what they expect by failing"
)]

mod support;

use neat_content::{Class, Content};
use neat_drive::{Form, open_content, open_path};
use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
};
use support::{bytes_of, known, read, sample};

const FORMS: [(&str, Form); 13] = [
    ("v2.qcow2", Form::Qcow2),
    ("base.qcow2", Form::Qcow2),
    ("deflate.qcow2", Form::Qcow2),
    ("zstd.qcow2", Form::Qcow2),
    ("parts.qcow2", Form::Qcow2),
    ("small.qcow2", Form::Qcow2),
    ("grows.vhd", Form::Vhd),
    ("fixed.vhd", Form::Vhd),
    ("grows.vhdx", Form::Vhdx),
    ("fixed.vhdx", Form::Vhdx),
    ("sparse.vmdk", Form::Vmdk),
    ("stream.vmdk", Form::Vmdk),
    ("flat.vmdk", Form::Vmdk),
];

/// Unpacks one of the disks into a folder.
fn put(folder: &Path, name: &str) -> PathBuf {
    let path = folder.join(name);
    fs::write(&path, sample(name)).unwrap();
    path
}

#[test]
fn every_form_holds_the_same_disk() {
    let dir = tempfile::tempdir().unwrap();
    put(dir.path(), "flat-flat.vmdk");
    put(dir.path(), "several-s001.vmdk");
    for (name, form) in FORMS.into_iter().chain([("several.vmdk", Form::Vmdk)]) {
        let disk = open_path(&put(dir.path(), name)).unwrap();
        assert_eq!(disk.form, form, "{name}");
        assert!(disk.notes.is_empty(), "{name}: {:?}", disk.notes);
        let whole = bytes_of(&disk.content);
        assert_eq!(whole.len(), known().len(), "{name}");
        assert!(whole == known(), "{name} is another disk");
        // From anywhere, across clusters.
        for (from, len) in [(1, 10), (32 * 1024 - 3, 70_000), (65_535, 2), (5_000_000, 1_291_456), (0, 0)] {
            assert!(read(&disk.content, from, len) == known()[from..from + len], "{name}, {len} from {from}");
        }
        fs::remove_file(dir.path().join(name)).unwrap();
    }
    fs::write(dir.path().join("raw.img"), known()).unwrap();
    let raw = open_path(&dir.path().join("raw.img")).unwrap();
    assert!(raw.form == Form::Raw && bytes_of(&raw.content) == known());
}

#[test]
fn a_disk_that_stands_on_others_is_read_through_them() {
    let dir = tempfile::tempdir().unwrap();
    let top = put(dir.path(), "over2.qcow2");
    let error = open_path(&top).unwrap_err();
    assert!(error.class() == Class::BadRequest && error.to_string().contains("over.qcow2"), "{error}");
    put(dir.path(), "over.qcow2");
    put(dir.path(), "base.qcow2");
    let mut expected = known();
    expected[100 << 10..140 << 10].fill(0x5A);
    expected[1 << 20..(1 << 20) + (256 << 10)].fill(0);
    expected[5 << 20..(5 << 20) + 512].fill(0x33);
    expected[3 << 20..(3 << 20) + 4096].fill(0x77);
    assert!(bytes_of(&open_path(&top).unwrap().content) == expected);
}

#[test]
fn a_disk_never_leads_out_of_its_folder_nor_in_circles() {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir(dir.path().join("inner")).unwrap();
    let top = put(&dir.path().join("inner"), "over.qcow2");
    put(dir.path(), "base.qcow2");
    let mut bytes = fs::read(&top).unwrap();
    let at = bytes.windows(10).position(|ten| ten == b"base.qcow2").unwrap();
    for name in ["../base.qcow2", "/etc/hostname"] {
        bytes[at..at + name.len()].copy_from_slice(name.as_bytes());
        bytes[16..20].copy_from_slice(&(name.len() as u32).to_be_bytes());
        fs::write(&top, &bytes).unwrap();
        let error = open_path(&top).unwrap_err();
        assert!(error.to_string().contains("not beside it"), "{error}");
    }
    bytes[at..at + 10].copy_from_slice(b"over.qcow2");
    bytes[16..20].copy_from_slice(&10_u32.to_be_bytes());
    fs::write(&top, &bytes).unwrap();
    let error = open_path(&top).unwrap_err();
    assert_eq!(error.class(), Class::LimitExceeded, "{error}");
    // A descriptor's extents neither.
    let text = "# Disk DescriptorFile\nparentCID=ffffffff\nRW 8 FLAT \"../base.qcow2\" 0\n";
    let path = dir.path().join("inner/out.vmdk");
    fs::write(&path, text).unwrap();
    let error = open_path(&path).unwrap_err().to_string();
    assert!(error.contains("line 3") && error.contains("not beside it"), "{error}");
}

#[test]
fn what_cannot_be_read_is_said() {
    let dir = tempfile::tempdir().unwrap();
    let path = put(dir.path(), "base.qcow2");
    let sound = fs::read(&path).unwrap();
    for (at, byte, word) in [
        (7, 1, "version 1"),
        (35, 1, "encrypted"),
        (79, 4, "another file"),
        (79, 0x20, "features"),
        (23, 40, "cluster bits at byte 0x14"),
    ] {
        let mut bytes = sound.clone();
        bytes[at] = byte;
        fs::write(&path, bytes).unwrap();
        let error = open_path(&path).unwrap_err().to_string();
        assert!(error.contains(word), "{at}: {error}");
    }
    let text = "# Disk DescriptorFile\nparentCID=12345678\nRW 8 FLAT \"a\" 0\n";
    fs::write(&path, text).unwrap();
    assert!(open_path(&path).unwrap_err().to_string().contains("stands on another"));
}

/// Whatever a byte is changed to, the disk is refused or read to its end, or says where it is damaged.
#[test]
fn altered_disks_end() {
    for name in ["deflate.qcow2", "parts.qcow2", "grows.vhd", "grows.vhdx", "stream.vmdk", "sparse.vmdk"] {
        let sound = sample(name);
        let starts = [0, 512, 65_536, 192 << 10, 1 << 20, 2 << 20, 3 << 20, sound.len() - 512];
        for (n, start) in starts.into_iter().enumerate().filter(|(_, start)| *start < sound.len()) {
            for step in 0..10 {
                let at = (start + step * 37 + n * 5) % sound.len();
                let mut bytes = sound.clone();
                bytes[at] ^= 0x80 >> (step % 8);
                if let Ok(disk) = open_content(Content::from_bytes(bytes)) {
                    let len = disk.content.len().min(300 << 10);
                    let part = disk.content.part(disk.content.len() - len, len).unwrap();
                    let _told = part.to_vec(1 << 20, "disk");
                }
            }
        }
    }
}

/// The same with whatever version of the other program is here.
#[test]
#[ignore = "by hand: needs qemu-img"]
fn what_the_other_program_makes_here_is_read() {
    let dir = tempfile::tempdir().unwrap();
    let raw = dir.path().join("raw.img");
    fs::write(&raw, known()).unwrap();
    for options in [
        &["-O", "qcow2"][..],
        &["-O", "qcow2", "-o", "compat=0.10"],
        &["-c", "-O", "qcow2", "-o", "compression_type=zstd"],
        &["-O", "qcow2", "-o", "extended_l2=on,cluster_size=2M"],
        &["-O", "vpc", "-o", "force_size=on"],
        &["-O", "vpc", "-o", "subformat=fixed,force_size=on"],
        &["-O", "vhdx"],
        &["-O", "vhdx", "-o", "block_size=4M"],
        &["-O", "vmdk"],
        &["-O", "vmdk", "-o", "subformat=streamOptimized"],
        &["-O", "vmdk", "-o", "subformat=twoGbMaxExtentFlat"],
    ] {
        let to = dir.path().join("disk");
        let mut command = Command::new("qemu-img");
        command.args(["convert", "-f", "raw"]).args(options).arg(&raw).arg(&to);
        assert!(command.status().unwrap().success(), "{options:?}");
        assert!(bytes_of(&open_path(&to).unwrap().content) == known(), "{options:?}");
    }
}
