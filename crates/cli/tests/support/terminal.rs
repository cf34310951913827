//! The program on a terminal of its own: keys in, screen text out.

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use std::{
    io::{Read, Write},
    num::NonZero,
    path::Path,
    sync::{Arc, Mutex},
    thread,
    time::{Duration, Instant},
};

/// How long it may take until something is seen; machines are shared.
const PATIENCE: Duration = Duration::from_secs(60);

/// Keys that have no letter.
pub const UP: &str = "\x1b[A";
pub const DOWN: &str = "\x1b[B";
pub const LEFT: &str = "\x1b[D";
pub const RIGHT: &str = "\x1b[C";
pub const ESCAPE: &str = "\x1b";
pub const ENTER: &str = "\r";

/// A terminal that the program runs on.
pub struct Terminal {
    child: Box<dyn Child + Send + Sync>,
    writer: Box<dyn Write + Send>,
    // What is held open as long as the program runs.
    _master: Box<dyn MasterPty + Send>,
    drawn: Arc<Mutex<vt100::Parser>>,
}

impl Terminal {
    /// Starts the program in `dir`.
    pub fn start(dir: &Path, args: &[&str], columns: u16, rows: u16) -> Self {
        Self::start_other(dir, env!("CARGO_BIN_EXE_neatstack"), args, columns, rows)
    }

    /// Starts another program, such as a shell, which finds ours.
    pub fn start_other(dir: &Path, program: &str, args: &[&str], columns: u16, rows: u16) -> Self {
        let size = PtySize { rows, cols: columns, pixel_width: 0, pixel_height: 0 };
        let pair = native_pty_system().openpty(size).unwrap();
        let mut command = CommandBuilder::new(program);
        let ours = Path::new(env!("CARGO_BIN_EXE_neatstack")).parent().unwrap().display();
        command.env("PATH", format!("{ours}:{}", std::env::var("PATH").unwrap_or_default()));
        command.args(args);
        command.cwd(dir);
        command.env("TERM", "xterm-256color");
        command.env_remove("SOURCE_DATE_EPOCH");
        command.env("XDG_CONFIG_HOME", "nowhere");
        let child = pair.slave.spawn_command(command).unwrap();
        drop(pair.slave);
        let mut reader = pair.master.try_clone_reader().unwrap();
        let writer = pair.master.take_writer().unwrap();
        let drawn = Arc::new(Mutex::new(vt100::Parser::new(
            NonZero::new(rows).unwrap(),
            NonZero::new(columns).unwrap(),
            200,
        )));
        let own = Arc::clone(&drawn);
        thread::spawn(move || {
            let mut bytes = [0; 4096];
            let mut waiting = Vec::new();
            // At the end of the program reading fails.
            while let Ok(count @ 1..) = reader.read(&mut bytes) {
                waiting.extend_from_slice(&bytes[..count]);
                let whole = whole_pictures(&waiting);
                own.lock().unwrap().process(&waiting[..whole]);
                waiting.drain(..whole);
            }
            own.lock().unwrap().process(&waiting);
        });
        Self { child, writer, _master: pair.master, drawn }
    }

    /// What is on the screen.
    pub fn screen(&self) -> String {
        self.drawn.lock().unwrap().screen().contents()
    }

    /// Presses keys.
    pub fn press(&mut self, keys: &str) {
        self.writer.write_all(keys.as_bytes()).unwrap();
        self.writer.flush().unwrap();
        // A key that begins like a sequence is a key of its own only when nothing follows at once.
        thread::sleep(Duration::from_millis(if keys.ends_with('\x1b') { 150 } else { 20 }));
    }

    /// Waits until a text is on the screen, which is returned.
    pub fn see(&mut self, text: &str) -> String {
        self.see_that(text, |screen| screen.contains(text))
    }

    /// Waits until the screen is as `is` wants it.
    pub fn see_that(&mut self, what: &str, is: impl Fn(&str) -> bool) -> String {
        let begun = Instant::now();
        loop {
            let screen = self.screen();
            if is(&screen) {
                return screen;
            }
            assert!(begun.elapsed() < PATIENCE, "never saw {what:?}; the screen is\n{screen}");
            thread::sleep(Duration::from_millis(20));
        }
    }

    /// The line that has a text.
    pub fn line(&self, text: &str) -> String {
        let screen = self.screen();
        screen.lines().find(|line| line.contains(text)).unwrap_or_default().to_owned()
    }

    /// Whether anything on the screen has a colour.
    pub fn has_colours(&self) -> bool {
        let drawn = self.drawn.lock().unwrap();
        let screen = drawn.screen();
        let (rows, columns) = screen.size();
        let cells = (0..rows.get())
            .flat_map(|row| (0..columns.get()).filter_map(move |column| screen.cell(row, column)));
        cells
            .into_iter()
            .any(|cell| cell.fgcolor() != vt100::Color::Default || cell.bgcolor() != vt100::Color::Default)
    }

    /// Waits for the end of the program: its exit code.
    pub fn end(&mut self) -> u32 {
        let begun = Instant::now();
        while begun.elapsed() < PATIENCE {
            if let Some(status) = self.child.try_wait().unwrap() {
                // What it said last is still on its way.
                thread::sleep(Duration::from_millis(100));
                return status.exit_code();
            }
            thread::sleep(Duration::from_millis(20));
        }
        panic!("did not end; the screen is\n{}", self.screen());
    }
}

/// How many of these bytes can be shown without showing half a picture: those before a begun one, and before what may be
/// the first bytes of the mark of one.
fn whole_pictures(bytes: &[u8]) -> usize {
    const BEGIN: &[u8] = b"\x1b[?2026h";
    const END: &[u8] = b"\x1b[?2026l";
    let last = |mark: &[u8]| bytes.windows(mark.len()).rposition(|part| part == mark);
    match (last(BEGIN), last(END)) {
        (Some(begin), end) if end.is_none_or(|end| end < begin) => begin,
        _ => {
            let split = (1..BEGIN.len()).rev().find(|count| bytes.ends_with(&BEGIN[..*count]));
            bytes.len() - split.unwrap_or(0)
        }
    }
}

impl Drop for Terminal {
    fn drop(&mut self) {
        // Has ended already where all went well.
        let _ = self.child.kill();
    }
}
