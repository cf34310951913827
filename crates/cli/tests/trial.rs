//! Sticks started by real firmware, checked by programs and a kernel that share no code with us; trials. `.ci/run`
//! installs what these need and runs them with `cargo test -- --ignored`.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use serde_json::Value;
use std::{
    fs::{self, File},
    os::unix::fs::FileExt,
    path::Path,
    process::Command,
};
use support::{
    demo, fails, json, linux, neatstack, ok,
    ports::{self, Plugged},
};

/// A trial's results, whatever its exit code.
fn trial(dir: &Path, args: &[&str]) -> (i32, Vec<Value>) {
    let args = [&["trial"], args, &["--json", "--limit", "600"]].concat();
    let output = neatstack(dir, &args);
    let error = String::from_utf8_lossy(&output.stderr).into_owned();
    let document: Value =
        serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{args:?}: {error}"));
    (output.status.code().unwrap(), document["results"].as_array().unwrap().clone())
}

/// The demo's media with another boot manager and, where `answers` says so, an answer file.
fn media(dir: &Path, manager: &[u8]) {
    fs::create_dir_all(dir.join("folder")).unwrap();
    ok(dir, &["unpack", "quay-os-7.iso", "folder", "-q"]);
    fs::write(dir.join("folder/quayboot"), manager).unwrap();
    fs::copy(dir.join("bridge-answers.xml"), dir.join("folder/autounattend.xml")).unwrap();
}

const STARTED: &str = "started by BIOS from a stick, answer file autounattend.xml";

#[test]
#[ignore = "needs QEMU and OVMF"]
fn the_demo_stick_starts_with_both_firmwares_and_both_schemes() {
    let (_dir, dir) = demo();
    media(&dir, &neat_demo::boot_manager(0));
    for (scheme, attached, how) in
        [("gpt", "stick", &[][..]), ("mbr", "stick", &["--as", "stick"]), ("gpt", "disk", &["--as", "disk"])]
    {
        ok(&dir, &["stick", "folder", "--to", "quay.img", "--scheme", scheme, "--replace", "-q"]);
        let args = ["quay.img", "--expect", "answer file autounattend.xml", "--shot", "shot.png"];
        let (code, results) = trial(&dir, &[&args, how].concat());
        assert_eq!((code, results.len()), (0, 2), "{scheme}: {results:?}");
        for result in &results {
            assert_eq!(
                (&result["came_up"], &result["end"], &result["attached"]),
                (&true.into(), &"expected".into(), &attached.into())
            );
            assert_eq!(result["stage"], "system");
            let picture = fs::read(dir.join(result["picture"].as_str().unwrap())).unwrap();
            assert_eq!(&picture[1..4], b"PNG");
        }
    }
}

/// Gives the clusters of `name` on a stick every second place, from the end of the file system on.
fn fragment(path: &Path, name: &str) {
    let len = fs::metadata(path).unwrap().len();
    let stick = neat_testing::stick::walk(path, len);
    let bytes = stick.bytes(path, name);
    let file = File::options().read(true).write(true).open(path).unwrap();
    let read = |at: u64, len: usize| {
        let mut bytes = vec![0; len];
        file.read_exact_at(&mut bytes, at).unwrap();
        bytes
    };
    let boot = read(stick.start, 512);
    let word = |at: usize| u64::from(u32::from_le_bytes(boot[at..at + 4].try_into().unwrap()));
    let reserved = u64::from(u16::from_le_bytes(boot[14..16].try_into().unwrap()));
    let data = stick.start + (reserved + 2 * word(36)) * 512;
    let clusters = stick.files[name].clusters.clone();
    let last = ((stick.len - (data - stick.start)) / stick.cluster_len + 1) as u32;
    // Backwards, so that no two neighbours are neighbours on the stick.
    let places: Vec<u32> = (0..clusters.len() as u32).map(|number| last - 2 * number - 1).collect();
    let put = |cluster: u32, entry: u32| {
        for copy in 0..2 {
            let at = stick.start + (reserved + copy * word(36)) * 512 + u64::from(cluster) * 4;
            file.write_all_at(&entry.to_le_bytes(), at).unwrap();
        }
    };
    for (index, (old, new)) in clusters.iter().zip(&places).enumerate() {
        put(*old, 0);
        put(*new, places.get(index + 1).copied().unwrap_or(0x0FFF_FFFF));
        let start = index * stick.cluster_len as usize;
        let end = (start + stick.cluster_len as usize).min(bytes.len());
        file.write_all_at(&bytes[start..end], data + u64::from(new - 2) * stick.cluster_len).unwrap();
    }
    // The directory entry.
    let root = data + (word(44) - 2) * stick.cluster_len;
    let entries = read(root, 4096);
    let at = entries.chunks(32).position(|entry| entry[..11] == stick.files[name].short).unwrap() * 32;
    let first = places[0].to_le_bytes();
    file.write_all_at(&first[2..], root + at as u64 + 20).unwrap();
    file.write_all_at(&first[..2], root + at as u64 + 26).unwrap();
    let seen = neat_testing::stick::walk(path, len);
    assert_eq!(seen.files[name].clusters, places);
    assert!(seen.bytes(path, name) == bytes);
}

#[test]
#[ignore = "needs QEMU"]
fn the_boot_record_loads_large_and_fragmented_boot_managers_and_says_what_is_missing() {
    let (_dir, dir) = demo();
    let image = dir.join("quay.img");
    let make = |len: usize, size: &str| {
        media(&dir, &neat_demo::boot_manager(len));
        ok(&dir, &["stick", "folder", "--to", "quay.img", "--replace", "--size", size, "-q"]);
    };
    let starts = |what: &str| {
        let (code, results) = trial(&dir, &["quay.img", "--firmware", "bios", "--expect", STARTED]);
        assert_eq!(code, 0, "{what}: {results:?}");
    };
    // Clusters of 512 and of 4,096 bytes.
    for size in ["64MiB", "400MiB"] {
        make(300 << 10, size);
        starts("300 KiB");
        fragment(&image, "quayboot");
        starts("300 KiB in pieces");
        fs::remove_dir_all(dir.join("folder")).unwrap();
    }
    // As large as the memory has room for.
    make(500 << 10, "64MiB");
    starts("500 KiB");
    // Each message, by what is broken.
    let sound = fs::read(&image).unwrap();
    let stick = neat_testing::stick::walk(&image, sound.len() as u64);
    let entry = sound.windows(11).rposition(|window| window == b"QUAYBOOT   ").unwrap();
    let volume = stick.start as usize;
    for (at, bytes, wanted) in [
        (entry, &[0xE5][..], "quayboot is not in its root folder"),
        (entry + 28, &[0; 4], "quayboot is empty"),
        (entry + 28, &[0, 0, 0x20, 0], "quayboot is too large for the memory"),
        (entry + 26, &[1, 0], "file system damaged"),
        (volume + 12 * 512, &[0; 4], "file system damaged"),
        (volume + 510, &[0, 0], "no boot record"),
        (512 * 2 + 48, &[0], "no partition to start"),
    ] {
        let mut broken = sound.clone();
        broken[at..at + bytes.len()].copy_from_slice(bytes);
        fs::write(&image, &broken).unwrap();
        let (code, results) = trial(&dir, &["quay.img", "--firmware", "bios"]);
        let text = results[0].to_string();
        assert!(code == 1 && text.contains(wanted), "{wanted}: {text}");
        assert_eq!(results[0]["came_up"], false);
    }
}

#[test]
#[ignore = "needs QEMU, isolinux, grub-efi-amd64-bin, busybox-static and a kernel package"]
fn a_kernel_media_becomes_a_stick_that_is_a_disc_and_reads_another_stick() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    let iso = linux::digesting_media(dir);
    // The stick whose files the kernel digests, in folders with long names.
    fs::create_dir_all(dir.join("site/many")).unwrap();
    for number in 0..300 {
        fs::write(dir.join(format!("site/many/a file with a long name {number}.txt")), format!("{number}"))
            .unwrap();
    }
    for scheme in ["gpt", "mbr"] {
        ok(
            dir,
            &[
                "stick",
                "site",
                "--to",
                "other.img",
                "--scheme",
                scheme,
                "--size",
                "300MiB",
                "--replace",
                "-q",
            ],
        );
        let wanted: Vec<String> = json(dir, &["files", "site", "--digest", "sha256", "--json"])
            .as_array()
            .unwrap()
            .iter()
            .map(|file| format!("{}  ./{}", file["digest"].as_str().unwrap(), file["path"].as_str().unwrap()))
            .collect();
        let text = linux::digests_of_stick(&iso, &dir.join("other.img"));
        let mut seen: Vec<&str> =
            text.lines().filter_map(|line| line.trim().strip_prefix("@vfat ")).collect();
        let mut wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
        seen.sort_unstable();
        wanted.sort_unstable();
        assert!(wanted.len() > 300 && seen == wanted, "{scheme}: {} of {}", seen.len(), wanted.len());
    }
    let plain = fs::read_to_string(dir.join("digests.stack.toml")).unwrap();
    let plain = plain.replace("hybrid = true\n", "").replace("iso = ", "hybrid = false\niso = ");
    let plain: String = plain
        .lines()
        .filter(|line| !line.starts_with("boot_code"))
        .fold(String::new(), |text, line| text + line + "\n");
    fs::write(dir.join("plain.stack.toml"), plain.replace("digests.iso", "plain.iso")).unwrap();
    ok(dir, &["build", "plain.stack.toml", "-q"]);
    for source in ["digests.iso", "plain.iso"] {
        let written = json(dir, &["stick", source, "--to", "linux.img", "--replace", "--json"]);
        assert_eq!(written["form"], "disc", "{written}");
        let (code, results) = trial(
            dir,
            &["linux.img", "--as", "disk", "--firmware", "both", "--expect", "@END", "--quiet-after", "120"],
        );
        assert_eq!(code, 0, "{source}: {results:?}");
    }
    assert!(
        fs::read(dir.join("digests.iso")).unwrap() == {
            ok(dir, &["stick", "digests.iso", "--to", "same.img", "-q"]);
            fs::read(dir.join("same.img")).unwrap()
        }
    );
}

#[test]
#[ignore = "needs QEMU, the installer's images and busybox-static"]
fn under_a_real_kernel_usb_disks_are_listed_refused_written_updated_and_pulled_out() {
    let (_dir, dir) = demo();
    let images = [("good", 96), ("small", 2), ("locked", 64), ("blocks", 64), ("gone", 64)];
    for (name, len) in images {
        File::create(dir.join(format!("{name}.img"))).unwrap().set_len(len << 20).unwrap();
    }
    // This one has been a stick before.
    ok(&dir, &["stick", "quay-os-7.iso", "--to", "gone.img", "--size", "64MiB", "--replace", "-q"]);
    let steps = "\
        come '[ $(ls -d /sys/block/sd* 2>/dev/null | wc -l) = 5 ]'\n\
        G=/dev/$(disk QS-GOOD); N=$(disk QS-GONE)\n\
        files() { come \"[ -b ${G}1 ]\"; cat /sys/block/*/${G##*/}1/size | sed 's/^/@size /'\n\
          mount -r -t vfat -o iocharset=utf8 ${G}1 /m && cd /m\n\
          find . -type f | sort | while read f; do echo \"@$1 $(sha256sum \"$f\")\"; done; cd /w; }\n\
        to() { name=$1; target=$2; shift 2; ns $name stick quay-os-7.iso --to $target \"$@\"; }\n\
        ns list stick --list --json\n\
        ns seen stick --list\n\
        to unasked $G -q </dev/null\n\
        to wrong $G --yes-erase QS-GONE\n\
        to small /dev/$(disk QS-SMALL) --yes-erase QS-SMALL\n\
        to locked /dev/$(disk QS-LOCKED) --yes-erase QS-LOCKED\n\
        to blocks /dev/$(disk QS-BLOCKS) --yes-erase QS-BLOCKS\n\
        to first $G --yes-erase QS-GOOD --size 48MiB --scheme mbr -q\n\
        files first\n\
        to mounted $G --yes-erase QS-GOOD\n\
        ns busy stick update quay-os-7.iso --to $G\n\
        umount /m\n\
        ns itself stick ${G}1 --to $G --yes-erase QS-GOOD\n\
        S=/dev/$(disk QS-SMALL); mkswap $S >/dev/null; swapon $S; to swap $S --yes-erase QS-SMALL; swapoff $S\n\
        to part ${G}1 --yes-erase QS-GOOD\n\
        to second $G --yes-erase QS-GOOD --json --reproducible\n\
        files second; umount /m; sync\n\
        ns unpack unpack $G folder -q\n\
        ns same compare $G quay-os-7.iso\n\
        echo added >folder/added.txt\n\
        ns unsaid stick update folder --to $G\n\
        ns update stick update folder --to $G --yes-change QS-GOOD --json\n\
        files third; umount /m\n\
        dd if=/dev/urandom of=folder/large.bin bs=1M count=24 2>/dev/null\n\
        ( come '[ $(cut -c1-200 /sys/block/'$N'/stat | tr -s \" \" | cut -d\" \" -f8) -gt 53000 ]'; echo @PULL ) &\n\
        ns gone stick folder --to /dev/$N --yes-erase QS-GONE\n\
        wait";
    let initrd = ports::ramdisk(&dir, &[&dir.join("quay-os-7.iso")], steps);
    let paths = images.map(|(name, _)| dir.join(format!("{name}.img")));
    let [good, small, locked, blocks, gone] = &paths;
    let mut machine = ports::start(
        &initrd,
        &[
            Plugged::new(good, "QS-GOOD"),
            Plugged::new(small, "QS-SMALL"),
            Plugged { backing: ",readonly=on", ..Plugged::new(locked, "QS-LOCKED") },
            Plugged { block_len: 4096, ..Plugged::new(blocks, "QS-BLOCKS") },
            Plugged { backing: ",throttling.bps-write=4000000", ..Plugged::new(gone, "QS-GONE") },
        ],
    );
    machine.expect("@PULL");
    machine.monitor("device_del s4");
    let text = machine.expect("@END");
    for (name, code, wanted) in [
        ("unasked", 4, "say so with --yes-erase QS-GOOD"),
        ("wrong", 4, "is QS-GOOD, not QS-GONE"),
        ("small", 2, "35 MiB are missing"),
        ("locked", 4, "cannot be written"),
        ("blocks", 4, "has blocks of 4096 bytes"),
        ("first", 0, "MBR, FAT32"),
        ("mounted", 4, "is mounted at /m"),
        ("busy", 4, "is mounted at /m"),
        ("swap", 4, "in use by swap"),
        ("itself", 4, "is the source itself"),
        ("part", 4, "is a part of a disk"),
        ("second", 0, "\"verified\": true"),
        ("same", 0, "nothing differs"),
        ("unsaid", 4, "give --yes-change QS-GOOD"),
        ("update", 0, "\"kept\": 19"),
        ("gone", 1, "large.bin: cannot write to byte"),
    ] {
        let (found, said) = ports::step(&text, name);
        assert!(found == code && said.contains(wanted), "{name}: {found}, {said}");
        assert!(!said.contains("old partitions"), "{name}: {said}");
    }
    // What the kernel tells of each.
    let list: Value = serde_json::from_str(ports::step(&text, "list").1).unwrap();
    let mut disks: Vec<_> = list["disks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|disk| (disk["serial"].as_str().unwrap(), disk["size"].as_u64().unwrap(), &disk["refused"]))
        .map(|(serial, size, refused)| (serial.to_owned(), size >> 20, refused.is_null()))
        .collect();
    disks.sort();
    let wanted = [("BLOCKS", 64, false), ("GONE", 64, true), ("GOOD", 96, true), ("LOCKED", 64, false)];
    let mut wanted: Vec<_> =
        wanted.map(|(name, size, may)| (format!("QS-{name}"), size, may)).into_iter().collect();
    wanted.push(("QS-SMALL".into(), 2, true));
    assert_eq!(disks, wanted);
    // The partitions that the kernel offers are those of the newest table, and their files those of the media.
    let sizes: Vec<_> = text.lines().filter_map(|line| line.strip_prefix("@size ")).collect();
    assert_eq!(
        sizes,
        [((48 - 1) << 11).to_string(), ((96 - 2) << 11).to_string(), ((96 - 2) << 11).to_string()]
    );
    let files = json(&dir, &["files", "quay-os-7.iso", "--digest", "sha256", "--json"]);
    let mut wanted: Vec<String> = files
        .as_array()
        .unwrap()
        .iter()
        .map(|file| format!("{}  ./{}", file["digest"].as_str().unwrap(), file["path"].as_str().unwrap()))
        .collect();
    for name in ["first", "second", "third"] {
        let mut seen: Vec<_> = text
            .lines()
            .filter_map(|line| line.strip_prefix(&format!("@{name} ")).filter(|rest| rest.len() > 64))
            .map(str::to_owned)
            .collect();
        if name == "third" {
            let added = seen.iter().position(|line| line.ends_with("./added.txt")).unwrap();
            seen.remove(added);
        }
        wanted.sort();
        seen.sort();
        assert_eq!(seen, wanted, "{name}");
    }
    // The bytes are those of a stick in an image file, and what was pulled out does not look finished.
    fs::create_dir(dir.join("again")).unwrap();
    let args = ["--size", "96MiB", "--reproducible", "-q"];
    ok(&dir, &[&["stick", "quay-os-7.iso", "--to", "again/good.img"], &args[..]].concat());
    ok(&dir, &["unpack", "quay-os-7.iso", "again/folder", "-q"]);
    fs::write(dir.join("again/folder/added.txt"), "added\n").unwrap();
    ok(&dir, &["stick", "update", "again/folder", "--to", "again/good.img", "-q"]);
    assert!(ok(&dir, &["compare", "good.img", "again/good.img"]).contains("nothing differs"));
    let mut beginning = vec![1; 1 << 20];
    File::open(gone).unwrap().read_exact_at(&mut beginning, 0).unwrap();
    assert!(beginning.iter().all(|byte| *byte == 0));
    let (code, results) = trial(&dir, &["good.img", "--expect", "started by"]);
    assert_eq!((code, results.len()), (0, 2), "{results:?}");
}

#[test]
#[ignore = "needs QEMU, isolinux, grub-efi-amd64-bin, busybox-static and a kernel package"]
fn an_installation_that_asks_nothing_is_followed_to_its_disk() {
    let dir = tempfile::tempdir().unwrap();
    // cli; xor ax, ax; mov ds, ax; mov si, 0x7C16; then byte for byte to the serial port, and halt.
    let mut code = vec![0xFA, 0x31, 0xC0, 0x8E, 0xD8, 0xBE, 0x16, 0x7C, 0xAC, 0x84, 0xC0, 0x74, 0x06];
    code.extend([0xBA, 0xF8, 0x03, 0xEE, 0xEB, 0xF5, 0xF4, 0xEB, 0xFD]);
    code.extend(b"Quay OS 7 setup: started from its own disk\r\n\0");
    code.resize(510, 0);
    code.extend([0x55, 0xAA]);
    fs::create_dir(dir.path().join("root")).unwrap();
    fs::write(dir.path().join("root/boot.bin"), code).unwrap();
    linux::digesting_media(dir.path());
    let args = [
        "digests.iso",
        "--firmware",
        "bios",
        "--unattended",
        "64MiB",
        "--quiet-after",
        "180",
        "--expect",
        "started from its own disk",
        "--log",
        "log.txt",
    ];
    let (code, results) = trial(dir.path(), &args);
    assert_eq!(code, 0, "{results:?}");
    assert_eq!((&results[0]["end"], &results[0]["stage"]), (&"off".into(), &"off".into()));
    assert_eq!(results[0]["installed"], "system", "{results:?}");
    assert!(fs::read_to_string(dir.path().join("log.txt")).unwrap().contains("started from its own disk"));
}

#[test]
#[ignore = "needs dosfstools, mtools, gdisk and fdisk"]
fn other_programs_find_nothing_wrong_with_sticks() {
    let (_dir, dir) = demo();
    fs::create_dir_all(dir.join("folder/Fährpläne/航路")).unwrap();
    fs::write(dir.join("folder/Fährpläne/航路/Übersicht – 図.txt"), "deep").unwrap();
    for number in 0..500 {
        fs::write(dir.join(format!("folder/a long name that repeats {number}.bin")), vec![1; number * 37])
            .unwrap();
    }
    let check = |program: &str, args: &[&str]| {
        let output = Command::new(program).args(args).current_dir(&dir).env("LC_ALL", "C.UTF-8").output();
        let output = output.unwrap_or_else(|error| panic!("{program}: {error}"));
        let text = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
        assert!(output.status.success(), "{program} {args:?}: {text}");
        text
    };
    for (scheme, size) in
        [("gpt", "40MiB"), ("mbr", "300MiB"), ("gpt", "9GiB"), ("mbr", "17GiB"), ("gpt", "33GiB")]
    {
        ok(
            &dir,
            &["stick", "folder", "--to", "s.img", "--scheme", scheme, "--size", size, "--replace", "-q"],
        );
        let is_sound = |step: &str| {
            let image = fs::File::open(dir.join("s.img")).unwrap();
            let start = 1 << 20;
            let len = neat_testing::stick::walk(&dir.join("s.img"), image.metadata().unwrap().len()).len;
            // The file system alone, by its extents, as fsck.vfat knows no offset.
            check(
                "dd",
                &[
                    "if=s.img",
                    "of=s.fat",
                    "bs=1M",
                    "skip=1",
                    "conv=sparse",
                    &format!("count={}", len >> 20),
                    "status=none",
                ],
            );
            check("truncate", &["-s", &len.to_string(), "s.fat"]);
            check("/sbin/fsck.vfat", &["-n", "-v", "s.fat"]);
            if scheme == "gpt" {
                let text = check("/sbin/sgdisk", &["-v", "s.img"]);
                assert!(text.contains("No problems found"), "{step}: {text}");
            }
            let text = check("/sbin/sfdisk", &["-V", "s.img"]);
            assert!(text.contains("No errors detected"), "{step}: {text}");
            let out = dir.join("out-of-it");
            let _ = fs::remove_dir_all(&out);
            fs::create_dir(&out).unwrap();
            check("mcopy", &["-s", "-n", "-m", "-i", &format!("s.img@@{start}"), "::*", "out-of-it"]);
            check("diff", &["-r", "folder", "out-of-it"]);
        };
        is_sound("written");
        let extra = dir.join("folder/new.bin");
        fs::write(&extra, vec![7; 100_000]).unwrap();
        // What another program puts there stays.
        fs::write(dir.join("Letter to the harbour.txt"), "mine").unwrap();
        check("mcopy", &["-i", "s.img@@1048576", "Letter to the harbour.txt", "::"]);
        check("mmd", &["-i", "s.img@@1048576", "::/Own things"]);
        ok(&dir, &["stick", "update", "folder", "--to", "s.img", "-q"]);
        fs::copy(dir.join("Letter to the harbour.txt"), dir.join("folder/Letter to the harbour.txt"))
            .unwrap();
        fs::create_dir(dir.join("folder/Own things")).unwrap();
        is_sound("brought up to date");
        fs::remove_file(dir.join("folder/Letter to the harbour.txt")).unwrap();
        fs::remove_dir(dir.join("folder/Own things")).unwrap();
        fs::remove_file(extra).unwrap();
    }
}

#[test]
#[ignore = "needs some GiB and a minute"]
fn an_image_file_of_six_gib_goes_onto_a_stick_in_parts() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    fs::create_dir_all(dir.join("system")).unwrap();
    for number in 0..4_u8 {
        // Mostly holes.
        let file = File::create(dir.join(format!("system/{number}.bin"))).unwrap();
        file.set_len(1536 << 20).unwrap();
        file.write_all_at(&[number + 1; 5000], 700 << 20).unwrap();
    }
    fs::create_dir_all(dir.join("media/sources")).unwrap();
    ok(
        dir,
        &["capture", "system", "-o", "media/sources/install.wim", "--name", "Big", "--level", "none", "-q"],
    );
    assert!(fs::metadata(dir.join("media/sources/install.wim")).unwrap().len() > 6 << 30);
    ok(dir, &["stick", "media", "--to", "big.img", "-q"]);
    ok(dir, &["take", "big.img", "sources", "--to", "back", "-q"]);
    let parts: Vec<String> = support::names(&dir.join("back/sources"));
    assert_eq!(parts, ["install.swm", "install2.swm"]);
    ok(dir, &["join", "back/sources/install.swm", "-o", "joined.wim", "-q"]);
    assert!(ok(dir, &["compare", "joined.wim", "media/sources/install.wim"]).contains("nothing differs"));
    let digest = |image: &str| json(dir, &["files", image, "--edition", "1", "--digest", "sha1", "--json"]);
    assert_eq!(digest("joined.wim"), digest("media/sources/install.wim"));
    // The stick itself is sound with files near 4 GiB.
    let len = fs::metadata(dir.join("big.img")).unwrap().len();
    assert!(neat_testing::stick::walk(&dir.join("big.img"), len).files["sources/install.swm"].len > 3 << 30);
}

#[test]
#[ignore = "needs QEMU and OVMF"]
fn a_build_that_does_not_come_up_leaves_nothing_but_a_picture() {
    let (_dir, dir) = demo();
    let text = fs::read_to_string(dir.join("deck.stack.toml")).unwrap();
    fs::write(dir.join("t.stack.toml"), text.replace("[media]\n", "[media]\ntrial = [\"bios\", \"uefi\"]\n"))
        .unwrap();
    let ledger = json(&dir, &["build", "t.stack.toml", "--json"]);
    let trials = ledger["trials"].as_array().unwrap();
    assert_eq!(trials.len(), 4);
    for trial in trials {
        assert!(trial["evidence"].as_str().unwrap().contains("answer file autounattend.xml"), "{trial}");
        assert!(dir.join(trial["picture"].as_str().unwrap()).is_file());
    }
    // A boot image that stops at once: BIOS does not come up.
    let mut halted = vec![0xFA, 0xF4, 0xEB, 0xFD];
    halted.resize(4096, 0);
    fs::write(dir.join("bios.img"), halted).unwrap();
    let text = fs::read_to_string(dir.join("t.stack.toml")).unwrap();
    let text = text
        .replace(
            "[media]\n",
            "[[place]]\nfrom = \"bios.img\"\nto = \"media:/boot/\"\nreplace = true\n\n[media]\n",
        )
        .replace("trial = [\"bios\", \"uefi\"]", "trial = [\"bios\"]")
        .replace("out/deck", "out/halted")
        .lines()
        .filter(|line| !line.starts_with("stick = "))
        .fold(String::new(), |text, line| text + line + "\n");
    fs::write(dir.join("h.stack.toml"), text).unwrap();
    let (code, error) = fails(&dir, &["build", "h.stack.toml"]);
    assert!(code == 1 && error.contains("does not come up as a disc with BIOS"), "{error}");
    let left = support::names(&dir.join("out"));
    assert!(left.contains(&"halted-disc-bios.png".to_owned()), "{left:?}");
    assert!(!left.iter().any(|name| name.contains("halted") && !name.ends_with(".png")), "{left:?}");
}

#[test]
#[ignore = "needs QEMU and OVMF"]
fn the_setup_environment_alone_starts_from_disc_and_stick() {
    let (_dir, dir) = demo();
    ok(&dir, &["build", "bench.stack.toml", "-q"]);
    for media in ["out/bench.iso", "out/bench.img"] {
        let (code, results) = trial(&dir, &[media, "--expect", "Quay OS 7 setup: started by"]);
        assert_eq!((code, results.len()), (0, 2), "{media}: {results:?}");
        for result in &results {
            assert_eq!((&result["came_up"], &result["end"]), (&true.into(), &"expected".into()), "{result}");
        }
    }
}
