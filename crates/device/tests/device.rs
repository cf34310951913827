//! Devices with every fault at several places, devices of a made-up machine, and what may be erased.

#![allow(
    clippy::unwrap_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

use neat_content::{Class, Content, Job, Meta, Source, Timestamp, Tree};
use neat_device::{
    Device,
    disks::{self, Disk, Places},
    file::ImageDevice,
    guard::{self, Consent},
    simulated::{Description, Fault, Simulated},
    update,
    write::{self, Options},
};
use neat_media::stick::{self, Scheme, StickPlan, UpdateOptions, plan_update};
use std::{fs, path::Path};

const TIME: Timestamp = Timestamp::from_seconds(1_700_000_000);
const LEN: u64 = 80 << 20;

fn tree() -> Tree {
    let mut tree = Tree::new(Meta::at(TIME));
    for (path, len) in [
        ("EFI/BOOT/BOOTX64.EFI", 30_000),
        ("quayboot", 700),
        ("sources/install.wim", 9_000_000),
        ("deep/a.txt", 3),
    ] {
        let bytes: Vec<u8> = (0..len).map(|n: u32| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
        tree.put_file(path, Content::from_bytes(bytes), Meta::at(TIME)).unwrap();
    }
    tree
}

fn plan(scheme: Scheme) -> StickPlan {
    let options = stick::Options {
        scheme,
        len: Some(LEN),
        label: "QUAY".into(),
        time: TIME,
        seed: [3; 32],
        manager: None,
    };
    StickPlan::new(&tree(), &[], &options).unwrap()
}

/// A device full of garbage, with these faults.
fn device(path: &Path, size: u64, faults: &[Fault]) -> Simulated {
    if !path.exists() {
        fs::write(path, b"GARBAGE!".repeat(1 << 17)).unwrap();
    }
    let description = Description {
        model: "Pocket".into(),
        serial: "P-1".into(),
        size,
        removable: true,
        mounted: Vec::new(),
        system: false,
        faults: faults.to_vec(),
    };
    let file = fs::File::options().read(true).write(true).open(path).unwrap();
    Simulated::new(description, "pocket", file)
}

/// Whether anybody would take it for a finished stick.
fn looks_finished(path: &Path) -> bool {
    let bytes = fs::read(path).unwrap();
    bytes[510..512] == [0x55, 0xAA] || bytes[512..520] == *b"EFI PART"
}

#[test]
fn a_sound_device_is_written_and_read_back() {
    let dir = tempfile::tempdir().unwrap();
    for (scheme, faults) in [(Scheme::Gpt, vec![]), (Scheme::Mbr, vec![Fault::ShortWrites(1536)])] {
        let path = dir.path().join(scheme.name());
        let plan = plan(scheme);
        let mut device = device(&path, LEN, &faults);
        let outcome = write::stick(&mut device, &plan, Options::default(), &Job::silent()).unwrap();
        assert_eq!(outcome.files, 4);
        assert!(outcome.compared > 9_000_000 && outcome.written >= outcome.compared, "{outcome:?}");
        let seen = neat_testing::stick::walk(&path, LEN);
        assert_eq!(seen.gpt, scheme == Scheme::Gpt);
        for step in plan.tree.walk() {
            if let Some(content) = plan.tree.node(step.id).content() {
                assert!(seen.bytes(&path, &step.path) == content.to_vec(1 << 24, "file").unwrap());
            }
        }
        let unverified = write::stick(&mut device, &plan, Options { verify: false }, &Job::silent()).unwrap();
        assert_eq!(unverified.compared, 0);
    }
}

#[test]
fn every_fault_is_found_and_named_and_leaves_no_stick() {
    let dir = tempfile::tempdir().unwrap();
    let plan = plan(Scheme::Gpt);
    let place = |name: &str| {
        let slot = plan.slots.iter().find(|slot| slot.name(&plan.tree) == name).unwrap();
        slot.offset + slot.content.len() / 2
    };
    let image = place("sources/install.wim");
    let mut cases = Vec::new();
    for name in [
        "sources/install.wim",
        "the root folder",
        "the boot record",
        "the file allocation table",
        "deep/a.txt",
    ] {
        cases.push((Fault::WriteError(place(name)), "cannot write to byte"));
        cases.push((Fault::ReadError(place(name)), "cannot read back byte"));
        cases.push((Fault::WrongRead(place(name)), name));
    }
    cases.push((Fault::WriteError(0), "the old partition table"));
    cases.push((Fault::WriteError(LEN - 100), "the end of the device"));
    cases.push((Fault::ReadError(40), "cannot read back byte 0"));
    cases.push((Fault::WrongRead(40), "the partition table"));
    cases.push((Fault::WrongRead(LEN - 100), "does not keep"));
    cases.push((Fault::DropsWrites(image), "does not keep"));
    cases.push((Fault::DropsWrites(70 << 20), "does not keep"));
    for len in [20_000_000, 32 << 20, 33_554_944, 64 << 20, 79 << 20] {
        cases.push((Fault::WrapsAt(len), "lies about its size"));
    }
    for after in [0, 1 << 20, 3 << 20, 30 << 20] {
        cases.push((Fault::Disappears(after), "no longer there"));
    }
    for (fault, wanted) in cases {
        let path = dir.path().join("device");
        let _ = fs::remove_file(&path);
        let mut device = device(&path, LEN, &[fault]);
        let error = write::stick(&mut device, &plan, Options::default(), &Job::silent())
            .expect_err(&format!("{fault:?} is found"));
        let text = error.to_string();
        assert!(text.contains(wanted), "{fault:?}: {text}");
        assert!(text.contains("pocket") && text.contains("byte"), "{fault:?} names the place: {text}");
        assert!(!error.hint().is_empty() && [Class::Io, Class::Corrupt].contains(&error.class()));
        assert!(!looks_finished(&path), "{fault:?}");
    }
}

#[test]
fn a_device_that_is_too_small_is_left_alone() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("device");
    let mut device = device(&path, LEN - (5 << 20), &[]);
    let before = fs::read(&path).unwrap();
    let error =
        write::stick(&mut device, &plan(Scheme::Mbr), Options::default(), &Job::silent()).unwrap_err();
    assert_eq!(error.class(), Class::Unsafe);
    assert!(error.to_string().contains("too small by 5 MiB"), "{error}");
    assert!(fs::read(&path).unwrap() == before);
}

#[test]
fn stopped_at_a_hundred_moments_it_never_looks_finished() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("device");
    let plan = plan(Scheme::Gpt);
    let mut whole = device(&path, LEN, &[]);
    let all = write::stick(&mut whole, &plan, Options { verify: false }, &Job::silent()).unwrap().written;
    let mut moment = 12_345_u64;
    let mut finished = 0;
    for _ in 0..100 {
        // What marks and wiping write comes on top.
        moment = moment.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        let after = (moment >> 16) % (all + (20 << 20));
        let mut device = device(&path, LEN, &[Fault::Disappears(after)]);
        let result = write::stick(&mut device, &plan, Options { verify: false }, &Job::silent());
        if result.is_ok() {
            finished += 1;
            neat_testing::stick::walk(&path, LEN);
        } else if after >= 1 << 20 {
            // Before that the old stick's table is not even wiped.
            assert!(!looks_finished(&path), "after {after} bytes");
        }
    }
    assert!(finished < 50, "{finished} got through");
}

#[test]
fn an_update_stopped_anywhere_leaves_the_old_files_or_the_new() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("device");
    let plan = plan(Scheme::Gpt);
    write::stick(&mut device(&path, LEN, &[]), &plan, Options::default(), &Job::silent()).unwrap();
    let before = fs::read(&path).unwrap();
    let mut new = tree();
    // Of pieces that are no whole blocks.
    let pieces = [100, 39_000, 900].map(|len| Content::from_bytes(vec![b'x'; len]));
    new.put_file("autounattend.xml", Content::joined(pieces).unwrap(), Meta::at(TIME)).unwrap();
    new.remove(new.find("deep/a.txt").unwrap());
    let work = |faults: &[Fault]| {
        let plan = plan_update(
            &Source::open(&path).unwrap(),
            &new,
            UpdateOptions { time: TIME, quick: false, remove_others: true },
            &Job::silent(),
        )
        .unwrap();
        assert_eq!((plan.update.kept, plan.update.written.len(), plan.update.removed.len()), (3, 1, 1));
        update::apply(&mut device(&path, LEN, faults), &plan, Options::default(), &Job::silent())
    };
    let written = work(&[]).unwrap().written;
    assert!(written < 100_000, "{written} bytes: only what differs");
    let walked = neat_testing::stick::walk(&path, LEN);
    assert!(
        walked.bytes(&path, "autounattend.xml") == vec![b'x'; 40_000]
            && !walked.files.contains_key("deep/a.txt")
    );
    for after in (0..written).step_by(4096) {
        fs::write(&path, &before).unwrap();
        let error = work(&[Fault::Disappears(after)]).unwrap_err();
        assert!(error.to_string().contains("no longer there"), "{error}");
        let tree = neat_media::read::open(&path).unwrap().tree;
        let is_new = tree.find("autounattend.xml").is_some();
        assert_eq!(tree.find("deep/a.txt").is_none(), is_new, "after {after}");
        for name in ["sources/install.wim", "quayboot", "EFI/BOOT/BOOTX64.EFI"] {
            let bytes = |tree: &Tree| tree.file(name).unwrap().to_vec(1 << 24, "file").unwrap();
            assert!(bytes(&tree) == bytes(&new), "{name} after {after}");
        }
    }
    fs::write(&path, &before).unwrap();
    let at = plan
        .slots
        .iter()
        .map(|slot| slot.offset + slot.content.len())
        .filter(|end| *end < LEN / 2)
        .max()
        .unwrap();
    let error = work(&[Fault::WrongRead(at + 4000)]).unwrap_err();
    assert!(error.to_string().contains("autounattend.xml"), "{error}");
}

/// Parts of a made-up machine's sysfs.
fn machine(root: &Path) -> Places {
    let put = |path: &str, text: &str| {
        let path = root.join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, text).unwrap();
    };
    let link = |from: &str, to: &str| {
        let from = root.join(from);
        fs::create_dir_all(from.parent().unwrap()).unwrap();
        std::os::unix::fs::symlink(root.join(to), from).unwrap();
    };
    let disk = |path: &str, number: &str, sectors: u64, removable: &str| {
        put(&format!("{path}/dev"), number);
        put(&format!("{path}/size"), &sectors.to_string());
        put(&format!("{path}/removable"), removable);
        put(&format!("{path}/ro"), "0");
    };
    let usb = "sys/devices/pci/usb1/1-2";
    put(&format!("{usb}/idVendor"), "1234\n");
    put(&format!("{usb}/serial"), "AA0001\n");
    let scsi = format!("{usb}/1-2:1.0/host6/target6/6:0:0:0");
    put(&format!("{scsi}/vendor"), "Ferrous \n");
    put(&format!("{scsi}/model"), "Pocket 8        \n");
    let sdb = format!("{scsi}/block/sdb");
    disk(&sdb, "8:16", 15_000_000, "1");
    put(&format!("{sdb}/sdb1/dev"), "8:17");
    put(&format!("{sdb}/sdb1/partition"), "1");
    link(&format!("{sdb}/device"), &scsi);
    link("sys/block/sdb", &sdb);
    // The system: a partition under an encrypted volume.
    let sda = "sys/devices/pci/ata1/block/sda";
    disk(sda, "8:0", 500_000_000, "0");
    put(&format!("{sda}/sda2/dev"), "8:2");
    put(&format!("{sda}/sda2/partition"), "2");
    put("sys/devices/virtual/block/dm-0/dev", "253:0");
    put("sys/devices/virtual/block/dm-0/size", "400000000");
    link(&format!("{sda}/sda2/holders/dm-0"), "sys/devices/virtual/block/dm-0");
    put("sys/devices/pci/ata1/model", "Keel SSD");
    link(&format!("{sda}/device"), "sys/devices/pci/ata1");
    link("sys/block/sda", sda);
    link("sys/block/dm-0", "sys/devices/virtual/block/dm-0");
    // A data disk with swap on it, which udev knows the serial number of.
    let sdc = "sys/devices/pci/ata2/block/sdc";
    disk(sdc, "8:32", 100_000_000, "0");
    put(&format!("{sdc}/sdc1/dev"), "8:33");
    put(&format!("{sdc}/sdc1/partition"), "1");
    link("sys/block/sdc", sdc);
    put(&format!("{sdc}/queue/logical_block_size"), "4096\n");
    put("udev/b8:32", "S:disk/by-id/x\nE:ID_SERIAL=Long_KK7\nE:ID_SERIAL_SHORT=KK7\n");
    // Nothing to write to.
    disk("sys/devices/virtual/block/loop0", "7:0", 1000, "0");
    link("sys/block/loop0", "sys/devices/virtual/block/loop0");
    disk("sys/devices/pci/reader/block/sdd", "8:48", 0, "1");
    link("sys/block/sdd", "sys/devices/pci/reader/block/sdd");
    put(
        "proc/self/mountinfo",
        "22 1 253:0 / / rw shared:1 - ext4 /dev/mapper/root rw\n\
         30 22 8:17 / /media/my\\040stick rw - vfat /dev/sdb1 rw\n\
         31 22 0:30 / /tmp rw - tmpfs tmpfs rw\n",
    );
    let swap = root.join("dev/sdc1");
    put("proc/swaps", &format!("Filename Type Size Used Priority\n{} partition 1 0 -2\n", swap.display()));
    Places { sys: root.join("sys"), proc: root.join("proc"), dev: root.join("dev"), udev: root.join("udev") }
}

#[test]
fn the_disks_of_a_machine_are_told_with_what_uses_them() {
    let dir = tempfile::tempdir().unwrap();
    let disks = disks::list(&machine(dir.path())).unwrap();
    let names: Vec<String> =
        disks.iter().map(|disk| disk.path.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["sdb", "sda", "sdc"], "those that can be taken out first, and no made ones");
    let [stick, system, data] = &disks[..] else { panic!("three disks") };
    assert_eq!(
        (stick.model.as_str(), stick.serial.as_str(), stick.bus.as_str()),
        ("Ferrous Pocket 8", "AA0001", "usb")
    );
    assert_eq!((stick.size, stick.removable, stick.system), (15_000_000 * 512, true, false));
    assert_eq!(stick.mounted, ["/media/my stick"]);
    assert_eq!(
        (system.model.as_str(), system.system, &system.mounted[..]),
        ("Keel SSD", true, &["/".to_owned()][..])
    );
    assert_eq!(system.used_by, ["dm-0"]);
    assert_eq!((data.serial.as_str(), data.used_by.len(), data.removable), ("KK7", 1, false));
    assert!(data.used_by[0].starts_with("swap "));
    assert_eq!((stick.block_len, data.block_len), (512, 4096));
}

#[test]
fn only_the_disk_that_was_named_is_erased() {
    let sound = Disk {
        path: "/dev/sdx".into(),
        model: "Pocket".into(),
        serial: "P-1".into(),
        size: 1 << 30,
        block_len: 512,
        removable: true,
        bus: "usb".into(),
        mounted: Vec::new(),
        used_by: Vec::new(),
        system: false,
        read_only: false,
        content: String::new(),
    };
    let named = |named| Consent { named, fixed: false };
    guard::check(&sound, named(Some("P-1"))).unwrap();
    let nameless = Disk { serial: String::new(), ..sound.clone() };
    guard::check(&nameless, named(Some("Pocket"))).unwrap();
    let fixed = Disk { removable: false, ..sound.clone() };
    guard::check(&fixed, Consent { named: Some("P-1"), fixed: true }).unwrap();
    for (disk, named, wanted) in [
        (sound.clone(), None, "with the word P-1"),
        (sound.clone(), Some("P-2"), "is P-1, not P-2"),
        (sound.clone(), Some(""), "is P-1, not "),
        (fixed, Some("P-1"), "really meant"),
        (Disk { mounted: vec!["/media/x".into()], ..sound.clone() }, Some("P-1"), "mounted at /media/x"),
        (Disk { used_by: vec!["dm-0".into()], ..sound.clone() }, Some("P-1"), "in use by dm-0"),
        (Disk { block_len: 4096, ..sound.clone() }, Some("P-1"), "blocks of 4096 bytes"),
        (Disk { read_only: true, ..sound.clone() }, Some("P-1"), "cannot be written"),
        (Disk { system: true, ..sound.clone() }, Some("P-1"), "this system runs on"),
        (Disk { model: String::new(), ..nameless }, Some(""), "neither a serial number nor a model"),
    ] {
        let error = guard::check(&disk, Consent { named, fixed: false }).unwrap_err();
        assert_eq!(error.class(), Class::Unsafe);
        let text = format!("{error} / {}", error.hint());
        assert!(text.contains(wanted), "{text}");
    }
    // The system's disk is refused whatever is said.
    let system = Disk { system: true, removable: false, ..sound };
    assert!(guard::check(&system, Consent { named: Some("P-1"), fixed: true }).is_err());
}

#[test]
fn an_image_file_is_changed_by_one_run_at_a_time() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("stick.img");
    fs::write(&path, [1; 4096]).unwrap();
    let mut first = ImageDevice::open(&path).unwrap();
    let error = ImageDevice::open(&path).unwrap_err();
    assert!(error.class() == Class::Unsafe && error.to_string().contains("another run"), "{error}");
    first.write_at(512, &[2; 512]).unwrap();
    first.flush().unwrap();
    let mut back = [0; 1024];
    assert_eq!((first.len(), first.read_at(0, &mut back).unwrap()), (4096, 1024));
    assert!(back[..512] == [1; 512] && back[512..] == [2; 512]);
    drop(first);
    ImageDevice::open(&path).unwrap();
}

#[test]
fn descriptions_of_devices_are_read_and_wrong_ones_explained() {
    let dir = tempfile::tempdir().unwrap();
    let put = |name: &str, text: &str| fs::write(dir.path().join(name), text).unwrap();
    put("b.device.toml", "model = \"B\"\nserial = \"\"\nsize = 1000\nremovable = false\n");
    put(
        "a.device.toml",
        "model = \"A\"\nserial = \"1\"\nsize = 2000\nfaults = [{ short-writes = 512 }, { disappears = 7 }]\n",
    );
    put("notes.txt", "no device");
    let disks = disks::simulated(dir.path()).unwrap();
    let told: Vec<_> =
        disks.iter().map(|disk| (guard::erase_word(disk), disk.size, disk.removable)).collect();
    assert_eq!(told, [("1", 2000, true), ("B", 1000, false)]);
    let device = Simulated::open(dir.path(), "a").unwrap();
    assert_eq!(device.description.faults, [Fault::ShortWrites(512), Fault::Disappears(7)]);
    for (text, wanted) in [
        ("model = \"C\"\nserial = \"1\"\n", "size"),
        ("model = \"C\"\nserial = \"1\"\nsize = 5\nspeed = 3\n", "speed"),
        ("model = \"C\"\nserial = \"1\"\nsize = 5\nfaults = [{ burns = 1 }]\n", "burns"),
    ] {
        put("c.device.toml", text);
        let error = disks::simulated(dir.path()).unwrap_err().to_string();
        assert!(error.contains("c.device.toml") && error.contains(wanted), "{error}");
    }
}

#[test]
fn a_simulated_device_keeps_what_is_written() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("device");
    let mut device = device(&path, 1 << 20, &[Fault::WrapsAt(4096)]);
    device.write_at(8192, &[7; 512]).unwrap();
    let mut back = [0; 512];
    device.read_at(0, &mut back).unwrap();
    assert_eq!(back, [7; 512], "it begins again");
}
