//! Changes to text.

use super::{Change, RegLine, RegText, SIGNATURES, Signature};
use crate::{Hive, KeyId, ValueKind, texts, texts_data};
use neat_content::Encoding;

/// Longest line before the bytes of a value go on in the next one.
const LINE: usize = 78;

impl RegText {
    /// A text of version 5.00.
    pub const fn new(lines: Vec<RegLine>) -> Self {
        Self { signature: Signature::Version5, lines }
    }

    /// The text, with the line ends that systems expect.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        for (line, signature) in SIGNATURES {
            if signature == self.signature {
                text.push_str(line);
                text.push_str("\r\n");
            }
        }
        let mut open: Option<&str> = None;
        for line in &self.lines {
            let path = &line.key;
            match &line.change {
                Change::DeleteKey => {
                    text.push_str(&format!("\r\n[-{path}]\r\n"));
                    open = None;
                }
                change => {
                    if open != Some(path) {
                        text.push_str(&format!("\r\n[{path}]\r\n"));
                        open = Some(path);
                    }
                    match change {
                        Change::Set { name, kind, data } => {
                            text.push_str(&self.value(name, *kind, data));
                            text.push_str("\r\n");
                        }
                        Change::DeleteValue { name } => {
                            text.push_str(&left_side(name));
                            text.push_str("-\r\n");
                        }
                        Change::Key | Change::DeleteKey => {}
                    }
                }
            }
        }
        text
    }

    /// The bytes of the file, in the encoding that goes with its signature.
    pub fn to_bytes(&self) -> Vec<u8> {
        self.usual_encoding().encode(&self.to_text())
    }

    fn value(&self, name: &str, kind: ValueKind, data: &[u8]) -> String {
        let mut line = left_side(name);
        if kind == ValueKind::TEXT
            && let Some(text) = plain_text(data)
        {
            line.push_str(&format!("\"{}\"", escaped(&text)));
            return line;
        }
        if let (ValueKind::NUMBER, Ok(bytes)) = (kind, <[u8; 4]>::try_from(data)) {
            line.push_str(&format!("dword:{:08x}", u32::from_le_bytes(bytes)));
            return line;
        }
        let narrow;
        let mut data = data;
        if self.signature == Signature::Regedit4 && matches!(kind.0, 2 | 7) {
            narrow = narrowed(data);
            data = &narrow;
        }
        line.push_str(&if kind == ValueKind::BINARY {
            "hex:".to_owned()
        } else {
            format!("hex({:x}):", kind.0)
        });
        let mut width = line.chars().count();
        for (n, byte) in data.iter().enumerate() {
            let last = n + 1 == data.len();
            line.push_str(&format!("{byte:02x}{}", if last { "" } else { "," }));
            width += 3;
            if width >= LINE - 3 && !last {
                line.push_str("\\\r\n  ");
                width = 2;
            }
        }
        line
    }
}

/// One byte for each character.
fn narrowed(data: &[u8]) -> Vec<u8> {
    let units: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    Encoding::Ansi.encode(&String::from_utf16_lossy(&units))
}

fn left_side(name: &str) -> String {
    if name.is_empty() { "@=".into() } else { format!("\"{}\"=", escaped(name)) }
}

fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"")
}

/// The text of a value when writing it in quotation marks loses nothing.
fn plain_text(data: &[u8]) -> Option<String> {
    let units: Vec<u16> = data.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
    let (last, text) = units.split_last()?;
    let is_plain = data.len().is_multiple_of(2) && *last == 0 && text.iter().all(|unit| *unit >= 0x20);
    String::from_utf16(text).ok().filter(|_| is_plain)
}

/// A value's type and data for a person: texts as texts, numbers as numbers, bytes in hexadecimal.
pub fn shown(kind: ValueKind, data: &[u8]) -> String {
    match kind {
        kind if kind.is_text() && data.len().is_multiple_of(2) => format!("{:?}", crate::text(data)),
        ValueKind::TEXTS if texts_data(&texts(data)) == data => {
            texts(data).iter().map(|text| format!("{text:?}")).collect::<Vec<_>>().join(", ")
        }
        kind => {
            if let Some(number) = crate::number(kind, data) {
                format!("{number} ({number:#x})")
            } else {
                const SHOWN: usize = 24;
                let bytes: Vec<String> = data.iter().take(SHOWN).map(|byte| format!("{byte:02x}")).collect();
                let more =
                    if data.len() > SHOWN { format!(" … {} bytes", data.len()) } else { String::new() };
                format!("{}{more}", bytes.join(" "))
            }
        }
    }
}

impl Hive {
    /// Everything in and below a key, as registration text for a key at `path`.
    pub fn lines_of(&self, start: KeyId, path: &str) -> Vec<RegLine> {
        let base = self.path(start);
        let mut lines = Vec::new();
        for id in self.walk_from(start) {
            let own = self.path(id);
            let rest = own[base.len()..].trim_start_matches('\\');
            let key = if rest.is_empty() { path.to_owned() } else { format!("{path}\\{rest}") };
            lines.push(RegLine { key: key.clone(), change: Change::Key, line: 0 });
            for value in self.values(id) {
                let (kind, data) = self.content(value);
                let change = Change::Set { name: self.value_name(value), kind, data: data.to_vec() };
                lines.push(RegLine { key: key.clone(), change, line: 0 });
            }
        }
        lines
    }
}
