//! A running virtual machine.

use crate::{Attached, Firmware, Options, Tools, monitor::Monitor, screen::Picture};
use neat_content::{Error, Result};
use serde_json::json;
use std::{
    ffi::OsString,
    fs::File,
    io::Read,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::mpsc::{Receiver, channel},
    time::Duration,
};

/// Where a PC keeps the text of its screen: 80 columns, 25 lines, two bytes each.
const TEXT_AT: u64 = 0xB8000;
const COLUMNS: usize = 80;
const LINES: usize = 25;
/// How long the last bytes of a machine that has ended may take.
const REST: Duration = Duration::from_secs(2);

/// What is started.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Start {
    /// The media, with a blank disk beside it.
    Media,
    /// The disk alone, after something was installed to it.
    Disk,
}

/// A machine. Dropped, it is switched off.
pub(crate) struct Machine {
    child: Child,
    serial: Receiver<Vec<u8>>,
    monitor: Monitor,
    folder: PathBuf,
    /// What the program said against something.
    complaint: PathBuf,
}

/// A path in an option's list: commas are doubled there.
fn option_path(path: &Path) -> String {
    path.display().to_string().replace(',', ",,")
}

impl Machine {
    /// Starts a machine whose files (scratch disk, firmware variables, sockets) are in `folder`.
    pub(crate) fn start(
        tools: &Tools,
        media: &Path,
        firmware: Firmware,
        start: Start,
        options: &Options<'_>,
        folder: &Path,
    ) -> Result<Self> {
        let disk = folder.join("scratch.disk");
        if !disk.exists() {
            let file = File::create(&disk).map_err(Error::io("create", &disk))?;
            file.set_len(options.disk).map_err(Error::io("make room in", &disk))?;
        }
        let socket = folder.join(if start == Start::Media { "monitor" } else { "monitor-disk" });
        let complaint = folder.join("complaint");
        let mut command = Command::new(&tools.program);
        let accelerator = if tools.accelerated { "kvm" } else { "tcg" };
        command.args(["-machine", "q35", "-accel", accelerator, "-m", &options.memory.to_string()]);
        command.args([
            "-display",
            "none",
            "-no-reboot",
            "-nic",
            "none",
            "-serial",
            "stdio",
            "-monitor",
            "none",
        ]);
        command.arg("-qmp").arg(format!("unix:{},server=on,wait=off", option_path(&socket)));
        if let (Firmware::Uefi, Some((code, vars))) = (firmware, &tools.uefi) {
            let own = folder.join("variables");
            if !own.exists() {
                std::fs::copy(vars, &own).map_err(Error::io("copy", vars))?;
            }
            command.arg("-drive").arg(format!("if=pflash,format=raw,readonly=on,file={}", option_path(code)));
            command.arg("-drive").arg(format!("if=pflash,format=raw,file={}", option_path(&own)));
        }
        if start == Start::Media {
            let file = option_path(media);
            // The media stays as it is: a disc is read-only, and what is written to a disk goes elsewhere.
            let (drive, device) = match options.attached {
                Attached::Disc => ("media=cdrom,readonly=on", "ide-cd,bus=ide.0"),
                Attached::Disk => ("snapshot=on", "ide-hd,bus=ide.0"),
                Attached::Stick => ("snapshot=on", "usb-storage,bus=usb.0,removable=on"),
            };
            if options.attached == Attached::Stick {
                command.args(["-device", "qemu-xhci,id=usb"]);
            }
            command.arg("-drive").arg(format!("if=none,id=media,format=raw,{drive},file={file}"));
            command.args(["-device", &format!("{device},drive=media,bootindex=0")]);
        }
        command
            .arg("-drive")
            .arg(format!("if=none,id=scratch,format=raw,cache=unsafe,file={}", option_path(&disk)));
        command.args(["-device", "ide-hd,drive=scratch,bus=ide.1,bootindex=1"]);
        let said = File::create(&complaint).map_err(Error::io("create", &complaint))?;
        command.stdin(Stdio::null()).stdout(Stdio::piped()).stderr(said);
        let mut child = command.spawn().map_err(Error::io("start", &tools.program))?;
        let out = child.stdout.take();
        let (send, serial) = channel();
        std::thread::spawn(move || {
            let Some(mut out) = out else { return };
            let mut buffer = [0; 4096];
            while let Ok(len @ 1..) = out.read(&mut buffer) {
                if send.send(buffer[..len].to_vec()).is_err() {
                    break;
                }
            }
        });
        let connected = Monitor::connect(&socket, &mut || matches!(child.try_wait(), Ok(None)));
        match connected {
            Ok(monitor) => Ok(Self { child, serial, monitor, folder: folder.to_owned(), complaint }),
            Err(error) => {
                let _ = child.kill();
                let _ = child.wait();
                let said = std::fs::read_to_string(&complaint).unwrap_or_default();
                let last = said.lines().last().map_or_else(|| error.to_string(), str::to_owned);
                Err(Error::request(
                    format!("the virtual machine does not start: {last}"),
                    "check the media's path and the memory of this machine",
                ))
            }
        }
    }

    /// What came over the serial port since the last call; from a machine that has ended, all that is still under way.
    pub(crate) fn serial(&mut self, ended: bool) -> Vec<u8> {
        let mut fresh: Vec<u8> = self.serial.try_iter().flatten().collect();
        // The reading thread hangs up behind the last byte.
        while ended && let Ok(more) = self.serial.recv_timeout(REST) {
            fresh.extend(more);
        }
        fresh
    }

    /// Whether it has ended: switched off, or started again, which ends it too.
    pub(crate) fn has_ended(&mut self) -> bool {
        matches!(self.child.try_wait(), Ok(Some(_)) | Err(_))
    }

    /// What the program said last, if it complained.
    pub(crate) fn complaint(&self) -> Option<String> {
        let said = std::fs::read_to_string(&self.complaint).unwrap_or_default();
        said.lines().last().map(str::to_owned)
    }

    /// Whether it ended by starting again; events tell, as far as they came.
    pub(crate) fn was_reset(&mut self) -> bool {
        // Asking makes waiting events come in, or fails because nobody is there any more.
        let _ = self.monitor.command("query-status", &json!({}));
        self.monitor.events.iter().any(|event| event == "RESET")
    }

    /// Name of a file for the program to write to, as an option's value.
    fn file(&self, name: &str) -> PathBuf {
        self.folder.join(name)
    }

    /// The lines of the screen, when it is in text mode.
    pub(crate) fn text_screen(&mut self) -> Vec<String> {
        let path = self.file("text");
        let size = (COLUMNS * LINES * 2) as u64;
        let arguments = json!({ "val": TEXT_AT, "size": size, "filename": path.display().to_string() });
        if self.monitor.command("pmemsave", &arguments).is_err() {
            return Vec::new();
        }
        let bytes = std::fs::read(&path).unwrap_or_default();
        let cell = |cell: &[u8]| if (32..127).contains(&cell[0]) { char::from(cell[0]) } else { ' ' };
        bytes
            .chunks(COLUMNS * 2)
            .map(|line| line.chunks(2).map(cell).collect::<String>().trim_end().to_owned())
            .collect()
    }

    /// A picture of the screen.
    pub(crate) fn picture(&mut self) -> Option<Picture> {
        let path: OsString = self.file("picture.ppm").into();
        let arguments = json!({ "filename": path.to_string_lossy() });
        self.monitor.command("screendump", &arguments).ok()?;
        Picture::from_ppm(&std::fs::read(&path).ok()?)
    }
}

impl Drop for Machine {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
