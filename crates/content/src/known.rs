//! Lists of digests, as vendors publish them.

use crate::{DigestKind, Error, Result};

/// Lines of a list that are read.
const MAX_LINES: usize = 1_000_000;

/// A file that a list knows.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct KnownFile {
    /// Which digest.
    pub kind: DigestKind,
    /// In small hexadecimal digits.
    pub digest: String,
    /// Name of the file, as the list has it; may be empty.
    pub name: String,
}

/// Reads a list: lines of `DIGEST  NAME`, `DIGEST *NAME` or `KIND (NAME) = DIGEST`. Empty lines and those that begin
/// with `#` or `;` are passed over, and so are digests of other kinds than SHA-1 and SHA-256.
///
/// # Errors
/// `Mismatch` when no line is one of these.
pub fn read_known(text: &str) -> Result<Vec<KnownFile>> {
    let mut known = Vec::new();
    let mut first_strange = None;
    for (number, line) in text.lines().take(MAX_LINES).enumerate() {
        let line = line.trim().trim_start_matches('\u{feff}');
        if line.is_empty() || line.starts_with(['#', ';']) {
            continue;
        }
        let (digest, name) = match line.rsplit_once(") = ") {
            Some((front, digest)) => (digest, front.split_once('(').map_or("", |(_, name)| name)),
            None => line.split_once(char::is_whitespace).unwrap_or((line, "")),
        };
        let digest = digest.trim().to_ascii_lowercase();
        let is_digest = digest.len() >= 32 && digest.bytes().all(|byte| byte.is_ascii_hexdigit());
        let kind = match digest.len() {
            40 => Some(DigestKind::Sha1),
            64 => Some(DigestKind::Sha256),
            _ => None,
        };
        match kind {
            Some(kind) if is_digest => {
                let name = name.trim().trim_start_matches('*').to_owned();
                known.push(KnownFile { kind, digest, name });
            }
            _ if is_digest => {}
            _ => first_strange = first_strange.or(Some(number + 1)),
        }
    }
    if known.is_empty() {
        let found = match first_strange {
            Some(line) => format!("something else in line {line}"),
            None => "none".into(),
        };
        return Err(Error::Mismatch {
            expected: "lines with a SHA-1 or SHA-256 and a name".into(),
            found,
            hint: "a list has lines such as `9f0c…  quay-os-7.iso`".into(),
        });
    }
    Ok(known)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_all_usual_forms_are_read() {
        let (sha1, sha256) = ("ab".repeat(20), "CD".repeat(32));
        let list = format!(
            "# a list\n{sha1}  one.iso\n\n{sha256} *two with spaces.iso\nSHA256 (three (x64).iso) = {sha256}\n{}  md5.iso\n",
            "ef".repeat(16)
        );
        let known = read_known(&list).unwrap();
        let names: Vec<_> = known.iter().map(|file| (file.kind, file.name.as_str())).collect();
        assert_eq!(
            names,
            [
                (DigestKind::Sha1, "one.iso"),
                (DigestKind::Sha256, "two with spaces.iso"),
                (DigestKind::Sha256, "three (x64).iso")
            ]
        );
        assert_eq!(known[1].digest, "cd".repeat(32));
        let error = read_known("hello\n").unwrap_err().to_string();
        assert!(error.contains("line 1"), "{error}");
        assert!(read_known("").is_err());
    }
}
