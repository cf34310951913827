//! A real Linux kernel with USB ports, under which the built program runs.

use super::{
    linux::{kernel, kernel_package, modules, pack_initrd},
    machine::{Firmware, Machine},
};
use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

const INSTALLER: &str = "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64";

/// What is plugged in: an image file as a USB disk.
pub struct Plugged<'a> {
    pub image: &'a Path,
    pub serial: &'a str,
    pub block_len: u32,
    /// Further properties of what keeps its bytes.
    pub backing: &'a str,
}

impl<'a> Plugged<'a> {
    pub fn new(image: &'a Path, serial: &'a str) -> Self {
        Self { image, serial, block_len: 512, backing: "" }
    }
}

/// A kernel and what it is to load.
pub struct Kernel {
    pub image: PathBuf,
    /// Where its modules are.
    package: PathBuf,
    names: &'static [&'static str],
}

impl Kernel {
    /// The installer's, with its drivers for USB disks, unpacked in `dir`.
    pub fn installers(dir: &Path) -> Self {
        let package = dir.join("installer");
        fs::create_dir(&package).unwrap();
        let unpacked = Command::new("sh")
            .arg("-c")
            .arg(format!("zcat {INSTALLER}/initrd.gz | cpio -idm --quiet 'lib/modules/*'"))
            .current_dir(&package)
            .stderr(Stdio::null())
            .status()
            .unwrap();
        assert!(unpacked.success());
        let names = &["xhci-pci", "usb-storage", "sd_mod", "vfat", "nls_cp437", "nls_ascii", "nls_utf8"];
        Self { image: format!("{INSTALLER}/linux").into(), package, names }
    }

    /// That of the kernel's package, with its drivers for discs.
    pub fn with_discs() -> Self {
        Self { image: kernel(), package: kernel_package(), names: &["ahci", "sr_mod", "isofs"] }
    }
}

/// A RAM disk with the program, what it needs, `files` below /w and the installer's drivers for USB disks; `steps` is
/// what its shell does. `ns NAME ARGUMENTS…` there runs the program and prints what it says between `@NAME` and
/// `@NAME CODE`; `come TEST` waits until a test holds.
pub fn ramdisk(dir: &Path, files: &[&Path], steps: &str) -> PathBuf {
    ramdisk_of(&Kernel::installers(dir), dir, files, steps)
}

/// The same for another kernel.
pub fn ramdisk_of(kernel: &Kernel, dir: &Path, files: &[&Path], steps: &str) -> PathBuf {
    let root = dir.join("ports");
    for folder in ["bin", "modules", "proc", "sys", "dev", "m", "tmp", "w"] {
        fs::create_dir_all(root.join(folder)).unwrap();
    }
    fs::copy("/bin/busybox", root.join("bin/busybox")).unwrap();
    let program = Path::new(env!("CARGO_BIN_EXE_neatstack"));
    fs::copy(program, root.join("bin/neatstack")).unwrap();
    let libraries = Command::new("ldd").arg(program).output().unwrap().stdout;
    for library in
        String::from_utf8(libraries).unwrap().split_whitespace().filter(|word| word.starts_with('/'))
    {
        let to = root.join(&library[1..]);
        fs::create_dir_all(to.parent().unwrap()).unwrap();
        fs::copy(library, to).unwrap();
    }
    for file in files {
        fs::copy(file, root.join("w").join(file.file_name().unwrap())).unwrap();
    }
    let order = modules(&kernel.package, kernel.names, &root.join("modules"));
    let script = format!(
        "#!/bin/busybox sh\n\
         /bin/busybox --install -s /bin\n\
         export PATH=/bin NO_COLOR=1\n\
         mount -t devtmpfs dev /dev; mount -t proc proc /proc; mount -t sysfs sys /sys\n\
         exec </dev/ttyS0 >/dev/ttyS0 2>&1\n\
         stty -onlcr\n\
         for m in {}; do insmod /modules/$m.ko || echo \"no $m\"; done\n\
         come() {{ for n in $(seq 60); do eval \"$1\" && return; sleep 0.5; done; echo \"@never: $1\"; }}\n\
         ns() {{ name=$1; shift; echo \"@$name\"; neatstack \"$@\"; echo \"@$name $?\"; }}\n\
         disk() {{ for d in /sys/block/sd*; do\n\
           case $(cat $d/device/../../../../../serial $d/device/../../../../serial 2>/dev/null) in *$1*) echo ${{d##*/}};; esac\n\
         done; }}\n\
         cd /w\n\
         {steps}\n\
         echo @END\n\
         poweroff -f\n",
        order.join(" ")
    );
    pack_initrd(&root, &script, &dir.join("ports.img"))
}

/// Starts the installer's kernel with that RAM disk and what is plugged in.
pub fn start(initrd: &Path, plugged: &[Plugged]) -> Machine {
    let kernel = format!("{INSTALLER}/linux");
    let mut args: Vec<String> = vec![
        "-kernel".into(),
        kernel,
        "-initrd".into(),
        initrd.display().to_string(),
        "-append".into(),
        "console=ttyS0,115200 quiet loglevel=1".into(),
        "-device".into(),
        "qemu-xhci,id=usb,p2=8,p3=8".into(),
    ];
    for (number, stick) in plugged.iter().enumerate() {
        let (image, serial, blocks) = (stick.image.display(), stick.serial, stick.block_len);
        args.extend([
            "-drive".into(),
            format!("if=none,id=d{number},format=raw,file={image}{}", stick.backing),
            "-device".into(),
            format!("usb-bot,id=s{number},bus=usb.0,serial={serial}"),
            "-device".into(),
            format!(
                "scsi-hd,bus=s{number}.0,drive=d{number},removable=on,vendor=Brackwtr,product=Ferry stick,\
                 logical_block_size={blocks},physical_block_size={blocks}"
            ),
        ]);
    }
    let args: Vec<&str> = args.iter().map(String::as_str).collect();
    Machine::run(Firmware::Bios, &args)
}

/// Starts a kernel with a RAM disk and an image as a disc in a drive.
pub fn start_with_disc(kernel: &Kernel, initrd: &Path, image: &Path) -> Machine {
    let drive = format!("if=none,id=disc,media=cdrom,format=raw,file={}", image.display());
    let (kernel, initrd) = (kernel.image.display().to_string(), initrd.display().to_string());
    let args = [
        "-kernel",
        &kernel,
        "-initrd",
        &initrd,
        "-append",
        "console=ttyS0,115200 quiet loglevel=1",
        "-drive",
        &drive,
        "-device",
        "ide-cd,drive=disc,bus=ide.0,serial=QS-DISC-1",
    ];
    Machine::run(Firmware::Bios, &args)
}

/// What step `name` printed, and its exit code.
pub fn step<'a>(text: &'a str, name: &str) -> (i32, &'a str) {
    let begin = format!("@{name}\n");
    let at = text.find(&begin).unwrap_or_else(|| panic!("no step {name} in:\n{text}"));
    let rest = &text[at + begin.len()..];
    let (said, rest) =
        rest.split_once(&format!("@{name} ")).unwrap_or_else(|| panic!("no end of step {name} in:\n{text}"));
    (rest.lines().next().unwrap().trim().parse().unwrap(), said)
}
