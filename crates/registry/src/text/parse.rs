//! Text to changes.

use super::{Change, RegLine, RegText, SIGNATURES, Signature};
use crate::{Limits, ValueKind, text_data};
use neat_content::{Encoding, Error, Result, Text, ansi_text};

impl RegText {
    /// Reads the bytes of a `.reg` file, in UTF-16, UTF-8 or the code page of western Europe. An error says the line.
    ///
    /// # Errors
    /// `Corrupt` with the line, `LimitExceeded` for a text that is too large.
    pub fn read(bytes: &[u8]) -> Result<Self> {
        Self::read_with(bytes, &Limits::default())
    }

    /// As [`RegText::read`], with limits of the caller's.
    ///
    /// # Errors
    /// As [`RegText::read`].
    pub fn read_with(bytes: &[u8], limits: &Limits) -> Result<Self> {
        if bytes.len() as u64 > limits.text {
            return Err(Error::Limit {
                what: "bytes of a registration text".into(),
                offset: 0,
                limit: limits.text,
                found: bytes.len() as u64,
            });
        }
        Self::parse(&Text::decode(bytes).text)
    }

    /// Reads a registration text.
    ///
    /// # Errors
    /// `Corrupt` with the line.
    pub fn parse(text: &str) -> Result<Self> {
        let mut lines = Lines { rest: text, number: 0 };
        let first = lines.next().unwrap_or_default().trim();
        let signature = SIGNATURES.iter().find(|(line, _)| first.eq_ignore_ascii_case(line));
        let Some((_, signature)) = signature else {
            return Err(bad(1, "REGEDIT4 or the signature of version 5.00", first));
        };
        let mut reg = Self { signature: *signature, lines: Vec::new() };
        let mut key: Option<(String, bool)> = None;
        while let Some(line) = lines.next() {
            let line = line.trim_start();
            let number = lines.number;
            match line.chars().next() {
                None | Some(';') => {}
                Some('[') => {
                    let Some(end) = line.rfind(']') else {
                        return Err(bad(number, "a ] at the end of the key", line));
                    };
                    let (path, deleted) = match line[1..end].strip_prefix('-') {
                        Some(path) => (path, true),
                        None => (&line[1..end], false),
                    };
                    let path = path.trim_matches('\\').to_owned();
                    let change = if deleted { Change::DeleteKey } else { Change::Key };
                    reg.lines.push(RegLine { key: path.clone(), change, line: number });
                    key = Some((path, deleted));
                }
                Some('"' | '@') => {
                    let Some((key, deleted)) = &key else {
                        return Err(bad(number, "a key in [ ] before its values", line));
                    };
                    let change = value(line, &mut lines, *signature)?;
                    // Values below a key that is taken out mean nothing.
                    if !deleted {
                        reg.lines.push(RegLine { key: key.clone(), change, line: number });
                    }
                }
                Some(_) => return Err(bad(number, "a key in [ ], a value or a comment", line)),
            }
        }
        Ok(reg)
    }
}

fn bad(line: usize, expected: &str, found: &str) -> Error {
    let mut found: String = found.chars().take(60).collect();
    if found.is_empty() {
        found = "nothing".into();
    }
    Error::Mismatch {
        expected: expected.into(),
        found,
        hint: "correct the line; a registration text that a system exported is of this form".into(),
    }
    .within(format!("line {line}"))
}

/// Lines of a text; any of the three line ends.
struct Lines<'a> {
    rest: &'a str,
    number: usize,
}

impl<'a> Lines<'a> {
    fn next(&mut self) -> Option<&'a str> {
        if self.rest.is_empty() {
            return None;
        }
        let end = self.rest.find(['\n', '\r']).unwrap_or(self.rest.len());
        let line = &self.rest[..end];
        let after = &self.rest[end..];
        let skip = if after.starts_with("\r\n") { 2 } else { usize::from(!after.is_empty()) };
        self.rest = &after[skip..];
        self.number += 1;
        Some(line)
    }
}

/// A value's line, with those that continue it.
fn value(line: &str, lines: &mut Lines<'_>, signature: Signature) -> Result<Change> {
    let number = lines.number;
    let (name, rest) = if let Some(rest) = line.strip_prefix('@') {
        (String::new(), rest.to_owned())
    } else {
        quoted(&line[1..], lines)?
    };
    let Some(what) = rest.trim_start().strip_prefix('=').map(str::trim_start) else {
        return Err(bad(number, "= after the name of the value", rest.trim_start()));
    };
    if let Some(text) = what.strip_prefix('"') {
        let (text, rest) = quoted(text, lines)?;
        check_end(&rest, lines.number)?;
        return Ok(Change::Set { name, kind: ValueKind::TEXT, data: text_data(&text) });
    }
    if let Some(rest) = what.strip_prefix('-') {
        check_end(rest, number)?;
        return Ok(Change::DeleteValue { name });
    }
    let lower = what.to_ascii_lowercase();
    if let Some(digits) = lower.strip_prefix("dword:") {
        let digits = digits.split(';').next().unwrap_or_default().trim();
        let valid = !digits.is_empty() && digits.len() <= 8;
        let parsed = u32::from_str_radix(digits, 16).ok().filter(|_| valid && !digits.starts_with('+'));
        let Some(parsed) = parsed else {
            return Err(bad(number, "up to eight hexadecimal digits after dword:", digits));
        };
        return Ok(Change::Set { name, kind: ValueKind::NUMBER, data: parsed.to_le_bytes().to_vec() });
    }
    let Some(rest) = lower.strip_prefix("hex") else {
        return Err(bad(number, "a text in quotation marks, dword:, hex: or -", what));
    };
    let (kind, first) = if let Some(bytes) = rest.strip_prefix(':') {
        (ValueKind::BINARY, bytes)
    } else {
        let typed = rest.strip_prefix('(').and_then(|rest| rest.split_once("):"));
        match typed.and_then(|(kind, bytes)| Some((u32::from_str_radix(kind.trim(), 16).ok()?, bytes))) {
            Some((kind, bytes)) => (ValueKind(kind), bytes),
            None => return Err(bad(number, "hex: or hex(type):", what)),
        }
    };
    let mut data = Vec::new();
    let mut part = first.to_owned();
    loop {
        let bytes = part.split(';').next().unwrap_or_default().trim();
        let (bytes, continues) = match bytes.strip_suffix('\\') {
            Some(bytes) => (bytes, true),
            None => (bytes, false),
        };
        for byte in bytes.split(',').map(str::trim).filter(|byte| !byte.is_empty()) {
            let parsed =
                u8::from_str_radix(byte, 16).ok().filter(|_| byte.len() <= 2 && !byte.starts_with('+'));
            data.push(parsed.ok_or_else(|| bad(lines.number, "bytes of two hexadecimal digits", byte))?);
        }
        if !continues {
            break;
        }
        match lines.next() {
            Some(next) => next.clone_into(&mut part),
            None => return Err(bad(lines.number, "another line after the \\", "the end of the text")),
        }
    }
    let is_narrow = signature == Signature::Regedit4 && matches!(kind.0, 2 | 7);
    if is_narrow {
        data = ansi_text(&data).encode_utf16().flat_map(u16::to_le_bytes).collect();
    }
    Ok(Change::Set { name, kind, data })
}

fn check_end(rest: &str, line: usize) -> Result<()> {
    let rest = rest.trim();
    if rest.is_empty() || rest.starts_with(';') {
        Ok(())
    } else {
        Err(bad(line, "the end of the line", rest))
    }
}

/// A text up to its closing quotation mark, which may stand in a later line; and the rest of that line.
fn quoted(start: &str, lines: &mut Lines<'_>) -> Result<(String, String)> {
    let first = lines.number;
    let mut text = String::new();
    let mut line = start;
    loop {
        let mut chars = line.char_indices();
        while let Some((at, c)) = chars.next() {
            match c {
                '"' => return Ok((text, line[at + 1..].to_owned())),
                '\\' => match chars.next() {
                    Some((_, c @ ('\\' | '"'))) => text.push(c),
                    // Texts written by hand have single ones, and what they mean is plain.
                    Some((_, c)) => text.extend(['\\', c]),
                    None => text.push('\\'),
                },
                _ => text.push(c),
            }
        }
        match lines.next() {
            Some(next) => {
                text.push_str("\r\n");
                line = next;
            }
            None => return Err(bad(first, "a closing quotation mark", "the end of the text")),
        }
    }
}

impl RegText {
    /// Whether bytes are a registration text.
    pub fn is_one(bytes: &[u8]) -> bool {
        super::is_reg_text(&Text::decode(&bytes[..bytes.len().min(256)]).text)
    }

    /// The encoding that goes with the signature.
    pub const fn usual_encoding(&self) -> Encoding {
        match self.signature {
            Signature::Regedit4 => Encoding::Ansi,
            Signature::Version5 => Encoding::Utf16Le,
        }
    }
}
