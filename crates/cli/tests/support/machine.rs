//! Virtual machines in QEMU, watched over their serial port.

use std::{
    io::{Read, Write},
    os::unix::net::UnixStream,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::mpsc::{Receiver, RecvTimeoutError, channel},
    time::{Duration, Instant},
};

/// What starts the media.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Firmware {
    Bios,
    Uefi,
}

/// How the media is attached.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Drive {
    Disc,
    Disk,
}

/// A running machine.
pub struct Machine {
    child: Child,
    serial: Receiver<Vec<u8>>,
    text: Vec<u8>,
    monitor: PathBuf,
    _dir: tempfile::TempDir,
}

const UEFI_CODE: &str = "/usr/share/OVMF/OVMF_CODE_4M.fd";

impl Machine {
    /// Starts a machine with `media`, and further arguments for QEMU.
    pub fn start(firmware: Firmware, drive: Drive, media: &Path, extra: &[&str]) -> Self {
        let (media, bus) = (media.display(), "bus=ide.0,bootindex=0");
        let (drive, device) = match drive {
            Drive::Disc => (
                format!("if=none,id=media,media=cdrom,readonly=on,format=raw,file={media}"),
                format!("ide-cd,drive=media,{bus}"),
            ),
            Drive::Disk => (
                format!("if=none,id=media,snapshot=on,format=raw,file={media}"),
                format!("ide-hd,drive=media,{bus}"),
            ),
        };
        Self::run(firmware, &[&["-drive", &drive, "-device", &device], extra].concat())
    }

    /// Starts a machine with nothing but what the arguments for QEMU say.
    pub fn run(firmware: Firmware, extra: &[&str]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let monitor = dir.path().join("monitor");
        let accelerated = std::fs::read_to_string("/proc/cpuinfo")
            .is_ok_and(|text| text.split_whitespace().any(|flag| flag == "vmx" || flag == "svm"))
            && std::fs::File::options().read(true).write(true).open("/dev/kvm").is_ok();
        let mut command = Command::new("qemu-system-x86_64");
        command.args([
            "-machine",
            "q35",
            "-accel",
            if accelerated { "kvm" } else { "tcg" },
            "-m",
            "1280",
            "-display",
            "none",
            "-no-reboot",
            "-serial",
            "stdio",
        ]);
        command.arg("-monitor").arg(format!("unix:{},server,nowait", monitor.display()));
        if firmware == Firmware::Uefi {
            command.arg("-drive").arg(format!("if=pflash,format=raw,readonly=on,file={UEFI_CODE}"));
        }
        if !extra.contains(&"-nic") {
            command.args(["-nic", "none"]);
        }
        command
            .args(extra)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(std::fs::File::create(dir.path().join("complaint")).unwrap());
        let mut child = command.spawn().expect("qemu-system-x86_64 is installed");
        let mut out = child.stdout.take().unwrap();
        let (send, serial) = channel();
        std::thread::spawn(move || {
            let mut buffer = [0; 4096];
            while let Ok(len @ 1..) = out.read(&mut buffer) {
                if send.send(buffer[..len].to_vec()).is_err() {
                    break;
                }
            }
        });
        Self { child, serial, text: Vec::new(), monitor, _dir: dir }
    }

    /// What came over the serial port so far.
    pub fn text(&self) -> String {
        String::from_utf8_lossy(&self.text).into_owned()
    }

    /// Reads the serial port until `wanted` says yes; panics after `limit`, or when nothing came for `silence`.
    pub fn wait(
        &mut self,
        what: &str,
        limit: Duration,
        silence: Duration,
        wanted: impl Fn(&str) -> bool,
    ) -> String {
        let end = Instant::now() + limit;
        loop {
            let text = self.text();
            if wanted(&text) {
                return text;
            }
            let left = end.saturating_duration_since(Instant::now()).min(silence);
            match self.serial.recv_timeout(left) {
                Ok(bytes) => self.text.extend(bytes),
                Err(RecvTimeoutError::Timeout) => panic!("no {what} in time; the serial port said:\n{text}"),
                Err(RecvTimeoutError::Disconnected) => {
                    let complaint = std::fs::read_to_string(self.monitor.with_file_name("complaint"));
                    panic!("the machine ended without {what}: {complaint:?}; the serial port said:\n{text}")
                }
            }
        }
    }

    /// Waits for a text, with limits that suit software emulation.
    pub fn expect(&mut self, wanted: &str) -> String {
        self.wait(wanted, Duration::from_secs(300), Duration::from_secs(180), |text| text.contains(wanted))
    }

    /// Has the machine's monitor do something.
    pub fn monitor(&self, command: &str) {
        let mut stream = UnixStream::connect(&self.monitor).unwrap();
        writeln!(stream, "{command}").unwrap();
        stream.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
        let mut answer = Vec::new();
        let _ = stream.read_to_end(&mut answer);
    }

    /// The text-mode screen of a BIOS machine.
    pub fn screen(&self) -> String {
        let path = self.monitor.with_file_name("screen");
        self.monitor(&format!("pmemsave 0xb8000 4000 \"{}\"", path.display()));
        let bytes = std::fs::read(&path).unwrap_or_default();
        bytes
            .chunks(2)
            .map(|cell| if (32..127).contains(&cell[0]) { char::from(cell[0]) } else { ' ' })
            .collect()
    }

    /// Looks at the text-mode screen until `wanted` is there.
    pub fn expect_on_screen(&self, wanted: &str) -> String {
        let end = Instant::now() + Duration::from_secs(120);
        loop {
            std::thread::sleep(Duration::from_secs(1));
            let screen = self.screen();
            if screen.contains(wanted) {
                return screen;
            }
            assert!(Instant::now() < end, "no {wanted} on the screen in time; it showed:\n{screen}");
        }
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
