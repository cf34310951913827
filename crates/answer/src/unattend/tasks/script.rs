//! Scripts of the model: as bytes, in parts that commands carry, and how they are run.

use super::Task;
use crate::model::Script;
use base64::{Engine, engine::general_purpose::STANDARD};

/// Characters of a script that one command carries.
const CHUNK: usize = 150;
/// Most commands that carry one script; a longer one goes to the media as a file.
const MOST_PARTS: usize = 40;

/// Says at the start of a script for `cmd` that it is UTF-8.
const UTF8: &str = "@chcp 65001 >nul\r\n";

/// A script as those that run it want it: with their line ends, and for text beyond ASCII with what tells the encoding.
pub(crate) fn bytes(name: &str, text: &str) -> Vec<u8> {
    let lines = text.replace("\r\n", "\n").replace('\n', "\r\n");
    let lower = name.to_ascii_lowercase();
    let front = match () {
        () if text.is_ascii() => "",
        () if lower.ends_with(".cmd") || lower.ends_with(".bat") => UTF8,
        () => "\u{FEFF}",
    };
    [front.as_bytes(), lines.as_bytes()].concat()
}

/// The text of a script that [`bytes`] wrote.
pub(crate) fn text(bytes: &[u8]) -> String {
    let text = neat_content::Text::decode(bytes).text;
    text.strip_prefix(UTF8).unwrap_or(&text).replace("\r\n", "\n")
}

/// How a script is run, by its ending. Its path may name variables, which `cmd` fills in everywhere.
pub(super) fn run(path: &str, name: &str) -> String {
    let (_, ending) = name.rsplit_once('.').unwrap_or_default();
    match ending.to_ascii_lowercase().as_str() {
        "ps1" => {
            format!("cmd.exe /c powershell.exe -NoProfile -ExecutionPolicy Bypass -File \"{path}\"")
        }
        "vbs" | "js" | "wsf" => format!("cmd.exe /c cscript.exe //nologo \"{path}\""),
        _ => format!("cmd.exe /c \"{path}\""),
    }
}

/// How versions before 0.2 ran one.
pub(super) fn former_run(path: &str, name: &str) -> String {
    let run = run(path, name);
    run.strip_prefix("cmd.exe /c ").filter(|own| own.starts_with("powershell")).unwrap_or(&run).to_owned()
}

/// Whether a script is too long to be carried by commands.
pub(crate) fn is_long(script: &Script) -> bool {
    bytes(&script.name, &script.text).len().div_ceil(3) * 4 > MOST_PARTS * CHUNK
}

/// The tasks that carry a script and run it.
pub(super) fn carried(script: &Script) -> Vec<Task> {
    let packed = STANDARD.encode(bytes(&script.name, &script.text));
    let parts = packed.as_bytes().chunks(CHUNK).enumerate();
    let part = |(number, part): (usize, &[u8])| {
        Task::ScriptPart(script.name.clone(), number, String::from_utf8_lossy(part).into_owned())
    };
    parts.map(part).chain([Task::ScriptRun(script.name.clone())]).collect()
}

/// Where the parts of a script are put together.
pub(super) fn packed_file(name: &str) -> String {
    format!("%SystemRoot%\\Temp\\{name}.b64")
}
