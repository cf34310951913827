//! The interpreters of the served systems, in a compatibility layer: `cmd`, `cscript` and what they need. No display.

use std::{
    fs,
    os::unix::fs::symlink,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// Longest time for one command line.
const LIMIT: Duration = Duration::from_secs(120);
/// Runs the line in a file as a program would start another, and ends with its exit code.
const STARTER: &str = "set f=createobject(\"scripting.filesystemobject\").opentextfile(wscript.arguments(0),1,false,-1)\r\n\
     l=f.readline\r\nwscript.quit createobject(\"wscript.shell\").run(l,0,true)\r\n";

/// A system of its own, with empty drives.
pub struct Windows {
    dir: tempfile::TempDir,
}

impl Windows {
    pub fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let own = Self { dir };
        fs::write(own.dir.path().join("starter.vbs"), STARTER).unwrap();
        assert_eq!(own.wine(&["cmd", "/c", "exit 7"]), 7, "the layer runs no cmd");
        own
    }

    fn prefix(&self) -> PathBuf {
        self.dir.path().join("prefix")
    }

    /// The folder that is the root of a drive.
    pub fn drive(&self, letter: char) -> PathBuf {
        if letter == 'c' {
            return self.prefix().join("drive_c");
        }
        let root = self.dir.path().join(format!("drive-{letter}"));
        if !root.exists() {
            fs::create_dir(&root).unwrap();
            symlink(&root, self.prefix().join(format!("dosdevices/{letter}:"))).unwrap();
        }
        root
    }

    /// Where the layer says what went wrong in it.
    fn said(&self) -> fs::File {
        fs::File::options().create(true).append(true).open(self.dir.path().join("said.txt")).unwrap()
    }

    fn wine(&self, args: &[&str]) -> i32 {
        // The layer needs one address for itself, and stops if chance has put something else there.
        let mut child = Command::new("setarch")
            .args(["-R", "wine"])
            .args(args)
            .current_dir(self.dir.path())
            .env("WINEPREFIX", self.prefix())
            .env("WINEDEBUG", "-all,err+all")
            .env_remove("DISPLAY")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(self.said())
            .spawn()
            .expect("wine64 and wine are installed by .ci/prepare");
        let start = Instant::now();
        loop {
            if let Some(status) = child.try_wait().unwrap() {
                return status.code().unwrap_or(-1);
            }
            if start.elapsed() > LIMIT {
                let _ = child.kill();
                let _ = child.wait();
                panic!("{args:?} did not end");
            }
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    /// The exit code of a command line, given on to the system as it is.
    pub fn run(&self, line: &str) -> i32 {
        let bytes: Vec<u8> =
            format!("\u{feff}{line}\r\n").encode_utf16().flat_map(u16::to_le_bytes).collect();
        fs::write(self.dir.path().join("line.txt"), bytes).unwrap();
        self.wine(&["cscript", "//nologo", "starter.vbs", "line.txt"])
    }

    /// Puts a file where command lines are started.
    pub fn put_beside(&self, name: &str, bytes: &[u8]) {
        fs::write(self.dir.path().join(name), bytes).unwrap();
    }

    /// What a command line prints.
    pub fn output(&self, line: &str) -> String {
        let to = self.drive('c').join("output.txt");
        self.run(&format!("cmd.exe /c {line} >C:\\output.txt"));
        neat_content::Text::decode(&fs::read(to).unwrap()).text
    }

    /// Puts a file on a drive, with the folders above it.
    pub fn put(&self, letter: char, path: &str, bytes: &[u8]) {
        let path = self.drive(letter).join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    /// The text of a file on a drive; empty if there is none.
    pub fn text(&self, letter: char, path: &str) -> String {
        let bytes = fs::read(self.drive(letter).join(path)).unwrap_or_default();
        neat_content::Text::decode(&bytes).text
    }
}

impl Drop for Windows {
    fn drop(&mut self) {
        if std::thread::panicking() {
            let said = fs::read_to_string(self.dir.path().join("said.txt")).unwrap_or_default();
            let last: Vec<_> = said.lines().rev().take(20).collect();
            eprintln!("the layer said, last first: {last:#?}");
        }
        let _ = Command::new("wineserver").arg("-k").env("WINEPREFIX", self.prefix()).status();
    }
}

/// Copies a folder.
pub fn copy_folder(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy_folder(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).unwrap();
        }
    }
}
