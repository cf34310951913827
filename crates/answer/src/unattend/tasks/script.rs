//! Scripts of the model: as bytes, in parts that commands carry, and how they are run.

use super::Task;
use crate::{
    command_line::script::{bytes, run},
    model::Script,
};
use base64::{Engine, engine::general_purpose::STANDARD};

/// Characters of a script that one command carries.
const CHUNK: usize = 150;
/// Most commands that carry one script; a longer one goes to the media as a file.
const MOST_PARTS: usize = 40;

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
