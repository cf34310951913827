//! Scripts as files of the served systems, and how they are run.

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
pub(crate) fn run(path: &str, name: &str) -> String {
    let (_, ending) = name.rsplit_once('.').unwrap_or_default();
    match ending.to_ascii_lowercase().as_str() {
        "ps1" => {
            format!("cmd.exe /c powershell.exe -NoProfile -ExecutionPolicy Bypass -File \"{path}\"")
        }
        "vbs" | "js" | "wsf" => format!("cmd.exe /c cscript.exe //nologo \"{path}\""),
        _ => format!("cmd.exe /c \"{path}\""),
    }
}
