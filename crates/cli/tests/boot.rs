//! Media started in virtual machines, and read by systems that share no code with us. `.ci/run` installs what these
//! need and runs them with `cargo test -- --ignored`.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{
    collections::BTreeSet,
    fs,
    path::{Path, PathBuf},
    process::Command,
    time::Duration,
};
use support::{
    demo, json,
    linux::{boot_files, digesting_media, kernel},
    machine::{Drive, Firmware, Machine},
    ok,
};

fn built_demo() -> (tempfile::TempDir, PathBuf) {
    let (dir, path) = demo();
    ok(&path, &["build", "bridge.stack.toml", "-q"]);
    let iso = path.join("out/bridge.iso");
    (dir, iso)
}

#[test]
#[ignore = "needs QEMU"]
fn the_demo_starts_from_a_disc_on_bios() {
    let (_dir, iso) = built_demo();
    Machine::start(Firmware::Bios, Drive::Disc, &iso, &[])
        .expect("started by BIOS from a disc, answer file autounattend.xml");
}

#[test]
#[ignore = "needs QEMU"]
fn the_demo_starts_as_a_disk_on_bios() {
    let (_dir, iso) = built_demo();
    Machine::start(Firmware::Bios, Drive::Disk, &iso, &[])
        .expect("started by BIOS from a disk, answer file autounattend.xml");
}

#[test]
#[ignore = "needs QEMU"]
fn a_media_of_the_older_generation_starts_from_four_blocks_and_finds_its_folder() {
    let (_dir, path) = demo();
    let stack = "[source]\nmedia = \"quay-os-2.iso\"\n[media]\ncompression = \"max\"\niso = \"older.iso\"\n";
    fs::write(path.join("older.stack.toml"), stack).unwrap();
    ok(&path, &["build", "older.stack.toml", "-q"]);
    for iso in ["quay-os-2.iso", "older.iso"] {
        Machine::start(Firmware::Bios, Drive::Disc, &path.join(iso), &[])
            .expect("Quay OS 2 setup: started by BIOS from a disc, text phase in I386");
    }
}

#[test]
#[ignore = "needs QEMU and OVMF"]
fn the_demo_starts_from_a_disc_on_uefi_whose_own_udf_driver_finds_the_answer_file() {
    let (_dir, iso) = built_demo();
    Machine::start(Firmware::Uefi, Drive::Disc, &iso, &[])
        .expect("started by UEFI, answer file autounattend.xml");
}

#[test]
#[ignore = "needs QEMU and OVMF"]
fn the_demo_starts_as_a_disk_on_uefi() {
    let (_dir, iso) = built_demo();
    Machine::start(Firmware::Uefi, Drive::Disk, &iso, &[]).expect("started by UEFI, no answer file in sight");
}

#[test]
#[ignore = "needs QEMU and isolinux"]
fn a_menu_starts_setups_of_two_generations_from_one_disc() {
    let (_dir, path) = demo();
    for (default, expected) in [
        ("bridge", "Quay OS 7 setup: started by BIOS from a disc, answer file autounattend.xml"),
        ("purser", "Quay OS 2 setup: started by BIOS from a disc, text phase in I386"),
    ] {
        let stack = format!(
            "[source]\nmedia = \"quay-os-7.iso\"\n[answer]\nfile = \"bridge.answer.toml\"\n[[beside]]\nmedia = \"quay-os-2.iso\"\n\
             answer = \"purser.answer.toml\"\n[menu]\ntimeout_seconds = 1\non_timeout = \"default\"\ndefault = \"{default}\"\n\
             [[menu.entry]]\nid = \"bridge\"\ntitle = \"Quay OS 7\"\nboot_of = \"source\"\n[[menu.entry]]\nid = \"purser\"\n\
             title = \"Quay OS 2\"\nboot_of = \"I386\"\n[media]\niso = \"{default}.iso\"\n"
        );
        fs::write(path.join("two.stack.toml"), stack).unwrap();
        ok(&path, &["build", "two.stack.toml", "-q"]);
        Machine::start(Firmware::Bios, Drive::Disc, &path.join(format!("{default}.iso")), &[])
            .expect(expected);
    }
}

/// Puts new files and folders into a disc, other bytes into one that is there, hides one, and gives every boot image
/// that is a file another place.
fn touch_up(dir: &Path, iso: &str) {
    fs::write(dir.join("new.txt"), "touched up ".repeat(1000)).unwrap();
    ok(
        dir,
        &["touchup", iso, "put", "new.txt=site/Fährpläne/neu – 航海.txt", "new.txt=another/folder/new.txt"],
    );
    ok(dir, &["touchup", iso, "put", "new.txt=site/big.bin"]);
    ok(dir, &["touchup", iso, "hide", "site/empty"]);
    move_boot_images(dir, iso);
}

/// Puts each boot image over itself, so that everything that points at it has to follow. Says how many there are.
fn move_boot_images(dir: &Path, iso: &str) -> usize {
    let sectors = || -> Vec<(String, u64)> {
        let look = json(dir, &["look", iso, "--json"]);
        let entries = look["boot"].as_array().unwrap().iter();
        entries.filter_map(|e| Some((e["image"].as_str()?.to_owned(), e["sector"].as_u64()?))).collect()
    };
    let before = sectors();
    for (path, _) in &before {
        let name = path.rsplit('/').next().unwrap();
        ok(dir, &["take", iso, path, "--to", "taken", "--replace"]);
        ok(dir, &["touchup", iso, "put", &format!("taken/{name}={path}")]);
    }
    assert!(before.iter().zip(sectors()).all(|(old, new)| old.0 == new.0 && old.1 < new.1), "all have moved");
    before.len()
}

fn check_digests(firmware: Firmware, drive: Drive, touched_up: bool) {
    let dir = tempfile::tempdir().unwrap();
    let iso = digesting_media(dir.path());
    let original = fs::read(&iso).unwrap();
    if touched_up {
        touch_up(dir.path(), "digests.iso");
    }
    let mut machine = Machine::start(firmware, drive, &iso, &[]);
    let text = machine.expect("@END");
    let ours: BTreeSet<(String, String)> =
        json(dir.path(), &["files", "digests.iso", "--digest", "sha256", "--json"])
            .as_array()
            .unwrap()
            .iter()
            .map(|file| {
                (file["path"].as_str().unwrap().to_owned(), file["digest"].as_str().unwrap().to_owned())
            })
            .collect();
    assert!(ours.len() > 10);
    for how in ["udf", "rock", "joliet"] {
        let seen: BTreeSet<(String, String)> = text
            .lines()
            .filter_map(|line| line.trim().strip_prefix(&format!("@{how} "))?.split_once("  ./"))
            .map(|(digest, path)| (path.to_owned(), digest.to_owned()))
            .collect();
        assert_eq!(seen, ours, "{how} on {firmware:?}");
    }
    drop(machine);
    if touched_up {
        assert!(ours.iter().any(|(path, _)| path == "site/Fährpläne/neu – 航海.txt"));
        assert!(!ours.iter().any(|(path, _)| path == "site/empty"));
        ok(dir.path(), &["touchup", "digests.iso", "undo", "--all"]);
        assert!(fs::read(&iso).unwrap() == original);
    }
}

#[test]
#[ignore = "needs QEMU, isolinux, grub-efi-amd64-bin, busybox-static and a kernel package"]
fn a_real_kernel_started_on_bios_reads_the_same_digests_from_the_disc() {
    check_digests(Firmware::Bios, Drive::Disc, false);
}

#[test]
#[ignore = "needs QEMU, OVMF, isolinux, grub-efi-amd64-bin, busybox-static and a kernel package"]
fn a_real_kernel_started_on_uefi_reads_the_same_digests_from_a_touched_up_disc() {
    check_digests(Firmware::Uefi, Drive::Disc, true);
}

#[test]
#[ignore = "needs QEMU, isolinux, grub-efi-amd64-bin, busybox-static and a kernel package"]
fn a_real_kernel_started_on_bios_reads_the_same_digests_from_a_touched_up_disk() {
    check_digests(Firmware::Bios, Drive::Disk, true);
}

#[test]
#[ignore = "needs QEMU, OVMF, isolinux, grub-efi-amd64-bin, busybox-static and a kernel package"]
fn a_real_kernel_started_on_uefi_reads_the_same_digests_from_the_disk() {
    check_digests(Firmware::Uefi, Drive::Disk, false);
}

/// A media whose menu nobody answers hands over to the disk behind it.
fn check_time_out(firmware: Firmware) {
    let (dir, demo_iso) = built_demo();
    let initrd = dir.path().join("initrd.img");
    fs::write(&initrd, "nothing that could start").unwrap();
    let stack = format!(
        "title = \"Left alone\"\n[menu]\ntimeout_seconds = 2\nserial_speed = 115200\n[[menu.entry]]\nid = \"install\"\ntitle = \"Install again\"\n\
         kernel = \"{}\"\ninitrd = [\"initrd.img\"]\noptions = \"console=ttyS0,115200\"\n[media]\nlabel = \"ALONE\"\niso = \"alone.iso\"\n",
        kernel().display()
    );
    fs::write(dir.path().join("alone.stack.toml"), stack).unwrap();
    ok(dir.path(), &["build", "alone.stack.toml", "-q"]);
    let disk = format!("if=none,id=disk,snapshot=on,format=raw,file={}", demo_iso.display());
    let extra = ["-drive", &disk, "-device", "ide-hd,drive=disk,bus=ide.1,bootindex=1"];
    let mut machine = Machine::start(firmware, Drive::Disc, &dir.path().join("alone.iso"), &extra);
    let name = if firmware == Firmware::Bios { "BIOS from a disk" } else { "UEFI" };
    let text = machine.expect(&format!("Quay OS 7 setup: started by {name}"));
    assert!(text.contains("Install again"), "the menu was shown before:\n{text}");
}

#[test]
#[ignore = "needs QEMU, isolinux and a kernel package"]
fn a_machine_left_alone_on_bios_starts_its_disk() {
    check_time_out(Firmware::Bios);
}

#[test]
#[ignore = "needs QEMU, OVMF, grub-efi-amd64-bin and a kernel package"]
fn a_machine_left_alone_on_uefi_starts_its_disk() {
    check_time_out(Firmware::Uefi);
}

const INSTALLER: &str = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64";

/// The installer's own RAM disk holds no partitioning modules and no network reaches a mirror here, so the furthest it
/// gets is asking the mirror that the answers name; up to there it must not ask a person anything.
const PRESEED: &str = "\
d-i preseed/early_command string echo @EARLY >/dev/ttyS0\n\
d-i debian-installer/locale string en_GB.UTF-8\n\
d-i keyboard-configuration/xkb-keymap select gb\n\
d-i netcfg/choose_interface select auto\n\
d-i netcfg/get_hostname string bridge-01\n\
d-i netcfg/get_domain string brackwater.invalid\n\
d-i netcfg/get_nameservers string 10.0.2.3\n\
d-i netcfg/no_default_route boolean true\n\
d-i mirror/country string manual\n\
d-i mirror/http/hostname string mirror.brackwater.invalid\n\
d-i mirror/http/directory string /debian\n\
d-i mirror/http/proxy string\n";

/// The same in the neutral form, with a name that only the machine knows, and a command that says what it became.
/// What the neutral form has no word for, the mirror that cannot be had here, stands in the dialect's own words.
const MODEL: &str = r#"format = 1
title = "Bridge console, by Debian's installer"
erases = "yes"

[language]
setup = "en-GB"
keyboards = ["en-GB"]
time_zone = "Europe/London"

[machine]
name = "bridge-{serial}"
domain = "ferries.example"

[[account]]
name = "helm"
full_name = "The helm's \"own\" & 航"
groups = ["administrators"]
password = { file = "password" }

[administrator]
enabled = false

[[disk]]
device = "sda"
wipe = true
only_disk = true

[[command]]
stage = "setup-start"
run = "echo @EARLY >/dev/ttyS0"

[[command]]
stage = "setup-start"
run = "( while sleep 3; do echo \"@NAME $(cat /etc/hostname)\" >/dev/ttyS0; done )"
wait = false

[[own]]
dialect = "preseed"
text = """
d-i netcfg/get_nameservers string 10.0.2.3
d-i netcfg/no_default_route boolean true
d-i mirror/country string manual
d-i mirror/http/hostname string mirror.ferries.example
d-i mirror/http/directory string /debian
d-i mirror/http/proxy string"""
"#;

/// Starts the installer with answers in the file `name`, and watches that it asks nothing. The modules that the
/// stock RAM disk fetches after the mirror cannot be had here, so it ends at the mirror's check.
fn check_installer(firmware: Firmware, name: &str, text: &str, wanted: &[&str]) {
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join(name), text).unwrap();
    fs::write(dir.path().join("password"), "only here\n").unwrap();
    let stack = format!(
        "title = \"Installer\"\n[menu]\ntimeout_seconds = 1\non_timeout = \"default\"\nserial_speed = 115200\n[[menu.entry]]\nid = \"debian\"\n\
         title = \"Debian installer\"\nkernel = \"{INSTALLER}/linux\"\ninitrd = [\"{INSTALLER}/initrd.gz\"]\n\
         options = \"console=ttyS0,115200 DEBIAN_FRONTEND=text ipv6.disable=1 --- quiet\"\nanswer = {{ file = \"{name}\", at = \"initrd\" }}\n\
         [media]\nlabel = \"INSTALLER\"\niso = \"installer.iso\"\n"
    );
    fs::write(dir.path().join("installer.stack.toml"), stack).unwrap();
    ok(dir.path(), &["build", "installer.stack.toml", "-q"]);
    let mut machine = Machine::start(
        firmware,
        Drive::Disc,
        &dir.path().join("installer.iso"),
        &["-nic", "user,restrict=on,model=virtio-net-pci", "-smbios", "type=1,serial=BF7001"],
    );
    machine.expect("@EARLY");
    let limit = Duration::from_secs(400);
    let reached = "Checking the Debian archive mirror";
    // A question would stand there for ever; waiting for either tells at once what was asked.
    let text = machine.wait(reached, limit, limit, |text| {
        (text.contains(reached) && wanted.iter().all(|own| text.contains(own))) || text.contains("Prompt:")
    });
    assert!(
        text.contains("Configuring the network with DHCP") && !text.contains("Prompt:"),
        "it asked something:\n{text}"
    );
}

#[test]
#[ignore = "needs QEMU, isolinux and the Debian installer's netboot files"]
fn the_debian_installer_takes_its_answers_on_bios() {
    check_installer(Firmware::Bios, "bridge.preseed", PRESEED, &[]);
}

#[test]
#[ignore = "needs QEMU, OVMF, grub-efi-amd64-bin and the Debian installer's netboot files"]
fn the_debian_installer_takes_its_answers_on_uefi() {
    check_installer(Firmware::Uefi, "bridge.answer.toml", MODEL, &["@NAME bridge-BF7001"]);
}

#[test]
#[ignore = "needs debconf"]
fn debconf_reads_what_is_written() {
    let dir = tempfile::tempdir().unwrap();
    let golden = Path::new(env!("CARGO_MANIFEST_DIR")).join("../answer/tests/golden/lab.answer.toml");
    fs::write(dir.path().join("bridge.answer.toml"), MODEL).unwrap();
    fs::write(dir.path().join("password"), "only here\n").unwrap();
    for model in ["bridge.answer.toml", golden.to_str().unwrap()] {
        ok(dir.path(), &["answer", "write", model, "--dialect", "preseed", "-o", "p.cfg", "--replace", "-q"]);
        let checked = Command::new("debconf-set-selections")
            .args(["--checkonly", "p.cfg"])
            .current_dir(dir.path())
            .output()
            .unwrap();
        let said = String::from_utf8_lossy(&checked.stderr);
        assert!(checked.status.success() && said.is_empty(), "{said}");
    }
    fs::write(dir.path().join("p.cfg"), "nonsense\n").unwrap();
    let checked = Command::new("debconf-set-selections")
        .args(["--checkonly", "p.cfg"])
        .current_dir(dir.path())
        .output()
        .unwrap();
    assert!(!checked.status.success(), "it finds what is wrong");
}

#[test]
#[ignore = "needs bsdtar (libarchive-tools)"]
fn bsdtar_lists_and_unpacks_the_same_files() {
    let (dir, iso) = built_demo();
    let out = dir.path().join("tar");
    fs::create_dir(&out).unwrap();
    let listed = Command::new("bsdtar").arg("-tf").arg(&iso).env("LC_ALL", "C.UTF-8").output().unwrap();
    assert!(listed.status.success(), "{}", String::from_utf8_lossy(&listed.stderr));
    let unpacked = Command::new("bsdtar")
        .arg("-xf")
        .arg(&iso)
        .arg("-C")
        .arg(&out)
        .env("LC_ALL", "C.UTF-8")
        .status()
        .unwrap();
    assert!(unpacked.success());
    let listed = String::from_utf8(listed.stdout).unwrap();
    let listed: BTreeSet<&str> =
        listed.lines().map(|line| line.trim_end_matches('/')).filter(|line| *line != ".").collect();
    let files = json(dir.path(), &["files", "out/bridge.iso", "--json"]);
    for file in files.as_array().unwrap() {
        let path = file["path"].as_str().unwrap();
        assert!(listed.contains(path), "{path}");
        let taken = dir.path().join("taken");
        ok(dir.path(), &["take", "out/bridge.iso", path, "--to", "taken", "-q"]);
        let name = path.rsplit('/').next().unwrap();
        assert!(fs::read(taken.join(name)).unwrap() == fs::read(out.join(path)).unwrap(), "{path}");
        fs::remove_dir_all(taken).unwrap();
    }
    assert_eq!(
        listed.iter().filter(|path| out.join(path).is_file()).count(),
        files.as_array().unwrap().len()
    );
}

#[test]
#[ignore = "needs mtools and dosfstools"]
fn mtools_and_fsck_agree_on_fat_images() {
    use neat_content::{Content, Meta, Output, Timestamp, Tree};
    let dir = tempfile::tempdir().unwrap();
    for least_len in [0, 20 << 20, 140 << 20] {
        let meta = Meta::at(Timestamp::from_seconds(1_700_000_000));
        let mut tree = Tree::new(meta);
        for (path, len) in [
            ("EFI/BOOT/BOOTX64.EFI", 100_001_usize),
            ("a long name with ü and 航.conf", 5),
            ("empty.txt", 0),
            ("deep/er/and/deeper.bin", 70_000),
        ] {
            tree.put_file(path, Content::from_bytes(vec![path.len() as u8; len]), meta).unwrap();
        }
        let image = neat_media::fat::write::image(
            &tree,
            &neat_media::fat::write::Options { label: "FERRY".into(), time: meta.modified, least_len },
        )
        .unwrap();
        let path = dir.path().join("fat.img");
        let mut output = Output::new(fs::File::create(&path).unwrap(), &path, None);
        output.write_content(&image, &neat_content::Job::silent()).unwrap();
        output.finish().unwrap();
        let check = Command::new("/sbin/fsck.vfat").args(["-n", "-v"]).arg(&path).output().unwrap();
        assert!(check.status.success(), "{}", String::from_utf8_lossy(&check.stdout));
        let out = dir.path().join(format!("out{least_len}"));
        fs::create_dir(&out).unwrap();
        let copied = Command::new("mcopy")
            .args(["-s", "-n", "-i"])
            .arg(&path)
            .arg("::*")
            .arg(&out)
            .env("LC_ALL", "C.UTF-8")
            .status()
            .unwrap();
        assert!(copied.success());
        for step in tree.walk() {
            if let Some(content) = tree.node(step.id).content() {
                assert!(
                    fs::read(out.join(&step.path)).unwrap() == content.to_vec(1 << 20, "file").unwrap(),
                    "{}",
                    step.path
                );
            }
        }
    }
}

/// A disc made by others, and what it shows when it starts. Every file keeps its bytes, but for the `rewritten` ones: the
/// boot catalog, and images with a table of where they lie.
fn check_foreign(path: &str, firmware: Firmware, wanted: &str, rewritten: &[&str]) {
    let iso = boot_files().join(path);
    assert!(iso.is_file(), "run .ci/prepare first: no {}", iso.display());
    let dir = tempfile::tempdir().unwrap();
    let shows = |iso: &Path| {
        let mut machine = Machine::start(firmware, Drive::Disc, iso, &[]);
        match firmware {
            Firmware::Bios => machine.expect_on_screen(wanted),
            Firmware::Uefi => machine.expect(wanted),
        };
    };
    shows(&iso);
    let original = iso.to_str().unwrap();
    ok(dir.path(), &["unpack", original, "folder", "-q"]);
    ok(dir.path(), &["master", "folder", "-o", "again.iso", "-q"]);
    let listing = |iso: &str| {
        let files = json(dir.path(), &["files", iso, "--digest", "sha256", "--json"]);
        let name = |file: &serde_json::Value| {
            let path = file["path"].as_str().unwrap().to_owned();
            let digest =
                if rewritten.contains(&path.as_str()) { "" } else { file["digest"].as_str().unwrap() };
            (path, file["size"].as_u64().unwrap(), file["modified"].as_i64().unwrap(), digest.to_owned())
        };
        files.as_array().unwrap().iter().map(name).collect::<Vec<_>>()
    };
    assert_eq!(listing(original), listing("again.iso"));
    let facts = |iso: &str| {
        let look = json(dir.path(), &["look", iso, "--json"]);
        let boot: Vec<_> = look["boot"]
            .as_array()
            .unwrap()
            .iter()
            .map(|entry| {
                [
                    "platform_id",
                    "emulation",
                    "load_sectors",
                    "load_segment",
                    "image",
                    "image_size",
                    "boot_info_table",
                    "block_pointer",
                    "loaders",
                ]
                .map(|key| entry[key].clone())
            })
            .collect();
        (look["label"].clone(), look["created"].clone(), look["file_systems"].clone(), boot)
    };
    assert_eq!(facts(original), facts("again.iso"));
    shows(&dir.path().join("again.iso"));

    fs::copy(&iso, dir.path().join("touched.iso")).unwrap();
    fs::write(dir.path().join("new.txt"), "new").unwrap();
    let folder =
        listing(original)[0].0.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
    let within = format!("new.txt={folder}put here.txt");
    ok(dir.path(), &["touchup", "touched.iso", "put", "new.txt=put/into/new folders.txt", &within]);
    assert!(move_boot_images(dir.path(), "touched.iso") > 0);
    let there: BTreeSet<_> = listing("touched.iso").into_iter().collect();
    let patched =
        |path: &str| rewritten.contains(&path) || facts(original).3.iter().any(|boot| boot[4] == *path);
    let missing: Vec<_> =
        listing(original).into_iter().filter(|f| !there.contains(f) && !patched(&f.0)).collect();
    assert!(missing.is_empty(), "{missing:?}");
    assert_eq!(facts(original), facts("touched.iso"));
    // A reader of others finds the new file, by the name that this disc's trees have for it.
    let bsdtar = |args: &[&str]| {
        let output = Command::new("bsdtar").args(args).current_dir(dir.path()).output().unwrap();
        String::from_utf8_lossy(&output.stdout).into_owned()
    };
    let names = bsdtar(&["-tf", "touched.iso"]);
    let name = names.lines().find(|name| name.to_lowercase().starts_with("put/into/new")).expect(&names);
    assert_eq!(bsdtar(&["-xOf", "touched.iso", name]), "new");
    shows(&dir.path().join("touched.iso"));
    ok(dir.path(), &["touchup", "touched.iso", "undo", "--all"]);
    assert!(fs::read(&iso).unwrap() == fs::read(dir.path().join("touched.iso")).unwrap());
}

#[test]
#[ignore = "needs QEMU and the package memtest86+"]
fn memtest86_is_mastered_again_touched_up_and_starts() {
    check_foreign(
        "memtest86+/usr/lib/memtest86+/memtest86+x64.iso",
        Firmware::Bios,
        "Memtest86+",
        &["boot.catalog"],
    );
}

#[test]
#[ignore = "needs QEMU and the package ipxe"]
fn ipxe_is_mastered_again_touched_up_and_starts_on_bios() {
    check_foreign("ipxe/usr/lib/ipxe/ipxe.iso", Firmware::Bios, "iPXE", &["boot.cat", "isolinux.bin"]);
}

#[test]
#[ignore = "needs QEMU, OVMF and the package ipxe"]
fn ipxe_is_mastered_again_touched_up_and_starts_on_uefi() {
    check_foreign("ipxe/usr/lib/ipxe/ipxe.iso", Firmware::Uefi, "iPXE", &["boot.cat", "isolinux.bin"]);
}

#[test]
#[ignore = "needs QEMU and the package grub-rescue-pc"]
fn grub_rescue_is_mastered_again_touched_up_and_starts() {
    check_foreign(
        "grub-rescue-pc/usr/lib/grub-rescue/grub-rescue-cdrom.iso",
        Firmware::Bios,
        "GNU GRUB",
        &["boot.catalog", "boot/grub/i386-pc/eltorito.img"],
    );
}
