//! Damaging inputs, and running the program within bounds.
#![allow(dead_code, reason = "each test binary uses its part")]

use std::{
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};

/// By how much more is tried than usual.
pub fn factor() -> usize {
    std::env::var("NEATSTACK_HOSTILE").ok().and_then(|text| text.parse().ok()).unwrap_or(1)
}

/// A run that ended.
pub struct Run {
    /// Its exit code; nothing when a signal ended it.
    pub code: Option<i32>,
    pub out: String,
    pub error: String,
}

/// Runs the program in `dir`.
pub fn run(dir: &Path, args: &[&str]) -> Run {
    run_limited(dir, args, Duration::from_secs(120), 0)
}

/// The same; it must end within `time`, and with at most `megabytes` of memory (0: as it likes).
pub fn run_limited(dir: &Path, args: &[&str], time: Duration, megabytes: usize) -> Run {
    let limit = if megabytes > 0 { format!("ulimit -v {}; ", megabytes << 10) } else { String::new() };
    let (out, error) = (tempfile::tempfile().unwrap(), tempfile::tempfile().unwrap());
    let mut child = Command::new("sh")
        .current_dir(dir)
        .args(["-c", &format!("{limit}exec \"$0\" \"$@\""), env!("CARGO_BIN_EXE_neatstack")])
        .args(args)
        .env_remove("SOURCE_DATE_EPOCH")
        .env_remove("NO_COLOR")
        .stdin(Stdio::null())
        .stdout(out.try_clone().unwrap())
        .stderr(error.try_clone().unwrap())
        .spawn()
        .unwrap();
    let begun = Instant::now();
    let status = loop {
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        if begun.elapsed() > time {
            child.kill().unwrap();
            let _ = child.wait();
            panic!("{args:?} took longer than {time:?}");
        }
        std::thread::sleep(Duration::from_millis(2));
    };
    let text = |mut file: std::fs::File| {
        use std::io::{Read, Seek};
        let mut bytes = Vec::new();
        file.rewind().unwrap();
        file.read_to_end(&mut bytes).unwrap();
        String::from_utf8_lossy(&bytes).into_owned()
    };
    Run { code: status.code(), out: text(out), error: text(error) }
}

/// The next number of a simple sequence.
fn next(seed: &mut u64) -> u64 {
    *seed ^= *seed << 13;
    *seed ^= *seed >> 7;
    *seed ^= *seed << 17;
    *seed
}

/// Bytes with a few changes: flipped bits, other bytes, runs, cuts, insertions.
pub fn mutate(bytes: &[u8], seed: &mut u64) -> Vec<u8> {
    let mut out = bytes.to_vec();
    for _ in 0..=next(seed) % 4 {
        if out.is_empty() {
            break;
        }
        // Headers lie in front; half of the changes go there.
        let span = if next(seed).is_multiple_of(2) { out.len().min(4096) } else { out.len() } as u64;
        let at = (next(seed) % span) as usize;
        match next(seed) % 8 {
            0..=2 => out[at] ^= 1 << (next(seed) % 8),
            3 | 4 => out[at] = [0, 0xFF, 0x7F, 0x80, 1][(next(seed) % 5) as usize],
            5 => {
                let end = (at + (next(seed) % 16) as usize).min(out.len());
                out[at..end].fill(0xFF);
            }
            6 => {
                let end = (at + 8).min(out.len());
                let from = (next(seed) % (out.len() as u64)) as usize;
                let piece: Vec<u8> = out[from..(from + end - at).min(out.len())].to_vec();
                out[at..at + piece.len()].copy_from_slice(&piece);
            }
            _ => out.truncate(at),
        }
    }
    out
}

fn moves(c: char) -> bool {
    matches!(c, '\0'..='\u{9}' | '\u{b}'..='\u{1f}' | '\u{7f}'..='\u{9f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}')
}

/// Fails when `text` has anything that moves a terminal, but line ends.
pub fn assert_plain(text: &str, place: &str) {
    let found = text.chars().find(|c| moves(*c));
    assert!(found.is_none(), "{place}: {found:?} in {text:?}");
}

/// The same, where colours are to be there.
pub fn assert_plain_but(text: &str, coloured: bool, place: &str) {
    if !coloured {
        return assert_plain(text, place);
    }
    let mut rest = text;
    while let Some(at) = rest.find('\u{1b}') {
        assert_plain(&rest[..at], place);
        let sequence = &rest[at + 1..];
        let end = sequence.find('m').unwrap_or_else(|| panic!("{place}: {sequence:?}"));
        let inner = &sequence[..end];
        let is_colour = inner.starts_with('[') && inner[1..].chars().all(|c| c.is_ascii_digit() || c == ';');
        assert!(is_colour, "{place}: {inner:?}");
        rest = &sequence[end + 1..];
    }
    assert_plain(rest, place);
}
