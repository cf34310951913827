//! A media that starts a real Linux kernel, which digests every file it can read.

use super::{
    machine::{Drive, Firmware, Machine},
    ok,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

/// The serial number of a machine that has a stick beside its media, which tells the RAM disk to wait for both.
const STICK_BESIDE: &str = "STICK-BESIDE";

/// Packages unpacked by `.ci/prepare`.
pub fn boot_files() -> PathBuf {
    let default = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/boot-files");
    std::env::var_os("NEATSTACK_BOOT_FILES").map_or(default, PathBuf::from)
}

/// Modules of the kernel package and those they depend on, each after what it needs, unpacked into `target`.
pub fn modules(kernel: &Path, names: &[&str], target: &Path) -> Vec<String> {
    let mut files = BTreeMap::new();
    let mut pending = vec![kernel.join("lib/modules")];
    while let Some(folder) = pending.pop() {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() && !path.is_symlink() {
                pending.push(path);
            } else if let Some((name, "ko" | "ko.xz")) =
                path.file_name().unwrap().to_string_lossy().split_once('.')
            {
                files.insert(name.replace('-', "_"), path);
            }
        }
    }
    fn add(
        name: &str,
        files: &BTreeMap<String, PathBuf>,
        target: &Path,
        order: &mut Vec<String>,
        seen: &mut BTreeSet<String>,
    ) {
        let name = name.replace('-', "_");
        if !seen.insert(name.clone()) {
            return;
        }
        let Some(path) = files.get(&name) else { panic!("no module {name}") };
        let bytes = match path.extension().and_then(|ending| ending.to_str()) {
            Some("xz") => Command::new("xz").arg("-dc").arg(path).output().unwrap().stdout,
            _ => fs::read(path).unwrap(),
        };
        let at = bytes.windows(8).position(|window| window == b"depends=").expect("a list of dependencies");
        let list = bytes[at + 8..].split(|byte| *byte == 0).next().unwrap();
        for needed in String::from_utf8(list.to_vec()).unwrap().split(',').filter(|name| !name.is_empty()) {
            add(needed, files, target, order, seen);
        }
        fs::write(target.join(format!("{name}.ko")), bytes).unwrap();
        order.push(name);
    }
    let (mut order, mut seen) = (Vec::new(), BTreeSet::new());
    for name in names {
        add(name, &files, target, &mut order, &mut seen);
    }
    order
}

pub fn kernel_package() -> PathBuf {
    boot_files().join("kernel")
}

pub fn kernel() -> PathBuf {
    let boot = kernel_package().join("boot");
    let found =
        fs::read_dir(&boot).unwrap_or_else(|_| panic!("run .ci/prepare first: no {}", boot.display()));
    found
        .map(|entry| entry.unwrap().path())
        .find(|path| path.file_name().unwrap().to_string_lossy().starts_with("vmlinuz-"))
        .unwrap()
}

/// An initial RAM disk with a busybox and real drivers, whose script mounts the media in every way and prints the
/// digest of every file. With a `root/boot.bin` in `dir` it puts that on the first disk instead.
pub fn digesting_initrd(dir: &Path) -> PathBuf {
    let root = dir.join("root");
    for folder in ["bin", "modules", "proc", "sys", "dev", "m"] {
        fs::create_dir_all(root.join(folder)).unwrap();
    }
    fs::copy("/bin/busybox", root.join("bin/busybox")).unwrap();
    let order = modules(
        &kernel_package(),
        &[
            "ahci",
            "ata_piix",
            "sr_mod",
            "sd_mod",
            "isofs",
            "udf",
            "nls_utf8",
            "vfat",
            "nls_cp437",
            "nls_ascii",
        ],
        &root.join("modules"),
    );
    let script = format!(
        "#!/bin/busybox sh\n\
         B=/bin/busybox\n\
         $B mount -t devtmpfs dev /dev\n\
         exec </dev/ttyS0 >/dev/ttyS0 2>&1\n\
         for m in {}; do $B insmod /modules/$m.ko || echo \"no $m\"; done\n\
         $B mount -t proc proc /proc; $B mount -t sysfs sys /sys\n\
         come() {{ for n in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do eval $1 && break; $B sleep 1; done; }}\n\
         come '[ -b /dev/sr0 -o -b /dev/sda ]'\n\
         if [ -f /boot.bin ]; then\n\
           come '[ -b /dev/sda ]'\n\
           $B cat /boot.bin >/dev/sda; $B sync; echo \"Installing the base system\"; $B poweroff -f\n\
         fi\n\
         # Disks get their names in the order in which they answer: the media is the one with an iso9660.\n\
         $B grep -q {STICK_BESIDE} /sys/class/dmi/id/product_serial && come '[ -b /dev/sda -a -b /dev/sdb ]'\n\
         D=/dev/sr0; S=\n\
         for d in /dev/sda /dev/sdb; do\n\
           [ -b $d ] || continue\n\
           if $B mount -r -t iso9660 $d /m 2>/dev/null; then D=$d; $B umount /m; else S=${{d}}1; fi\n\
         done\n\
         look() {{\n\
           $B mount -r -t $2 -o $3 $D /m || echo \"no mount $1\"\n\
           cd /m; $B find . -type f | $B sort | while read f; do echo \"@$1 $($B sha256sum \"$f\")\"; done; cd /\n\
           $B umount /m\n\
         }}\n\
         echo; look udf udf iocharset=utf8\n\
         look rock iso9660 iocharset=utf8\n\
         look joliet iso9660 norock,iocharset=utf8\n\
         if $B grep -q {STICK_BESIDE} /sys/class/dmi/id/product_serial; then\n\
           come '[ -b $S ]'; $B mount -r -t vfat -o iocharset=utf8 $S /m || echo \"no mount vfat\"\n\
           cd /m; $B find . -type f | while read f; do echo \"@vfat $($B sha256sum \"$f\")\"; done; cd /\n\
         fi\n\
         echo @END\n\
         $B poweroff -f\n",
        order.join(" ")
    );
    pack_initrd(&root, &script, &dir.join("initrd.img"))
}

/// Packs a folder with `script` as what the kernel starts.
pub fn pack_initrd(root: &Path, script: &str, initrd: &Path) -> PathBuf {
    fs::write(root.join("init"), script).unwrap();
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    fs::set_permissions(root.join("init"), mode).unwrap();
    let packed = Command::new("sh")
        .arg("-c")
        .arg("find . | cpio -o -H newc --quiet")
        .current_dir(root)
        .stdout(Stdio::from(fs::File::create(initrd).unwrap()))
        .status()
        .unwrap();
    assert!(packed.success());
    initrd.to_owned()
}

/// A media with a menu of the real kernel and the digesting RAM disk.
pub fn digesting_media(dir: &Path) -> PathBuf {
    let initrd = digesting_initrd(dir);
    let (site, code) = (dir.join("site"), "/usr/lib/ISOLINUX/isohdpfx.bin");
    fs::create_dir_all(site.join("Fährpläne/航路")).unwrap();
    fs::write(site.join("Fährpläne/航路/Brücke 1 – Übersicht 🚢.txt"), "deep").unwrap();
    fs::write(site.join("big.bin"), (0..3_000_001_u32).map(|n| ((n * 7) >> 3) as u8).collect::<Vec<_>>())
        .unwrap();
    fs::write(site.join("empty"), "").unwrap();
    let stack = format!(
        "title = \"Digests\"\n[[place]]\nfrom = \"site\"\nto = \"media:/site\"\n[menu]\ntimeout_seconds = 1\non_timeout = \"default\"\n\
         serial_speed = 115200\n[[menu.entry]]\nid = \"linux\"\ntitle = \"Linux\"\nkernel = \"{}\"\ninitrd = [\"{}\"]\n\
         options = \"console=ttyS0,115200 quiet loglevel=3\"\n[media]\nlabel = \"DIGESTS\"\niso = \"digests.iso\"\nhybrid = true\nboot_code = \"{code}\"\n",
        kernel().display(),
        initrd.display()
    );
    fs::write(dir.join("digests.stack.toml"), stack).unwrap();
    ok(dir, &["build", "digests.stack.toml", "-q"]);
    dir.join("digests.iso")
}

/// What the kernel of a digesting media says of a stick beside it.
pub fn digests_of_stick(iso: &Path, stick: &Path) -> String {
    let drive = format!("if=none,id=stick,format=raw,snapshot=on,file={}", stick.display());
    let serial = format!("type=1,serial={STICK_BESIDE}");
    let extra = ["-drive", &drive, "-device", "ide-hd,drive=stick,bus=ide.1", "-smbios", &serial];
    Machine::start(Firmware::Bios, Drive::Disk, iso, &extra).expect("@END")
}
