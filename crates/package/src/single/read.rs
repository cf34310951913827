//! Reading.

use super::{FIRST, HEADER_LEN, SHORTEST, SIGNATURE, SingleForm, WINDOW};
use crate::{Limits, pack::read_cabinet};
use neat_content::{Content, Error, Meta, NodeId, NodeKind, ReadAt, Result, Tree, check_name, damage_apart};

/// Most bytes that two bytes of a match stand for, with their share of the byte before each group.
const MOST_GROWTH: u64 = 9;
/// Last letters of the full names where a file does not say its own.
const ENDINGS: [&str; 17] = [
    "sys", "dll", "exe", "inf", "cat", "txt", "chm", "hlp", "bmp", "ico", "fon", "ttf", "ocx", "drv", "vxd",
    "com", "cpl",
];

/// Puts the content of compressed files in their place, under their full names. What is damaged stays, with a note; so does
/// a file whose full name is there too.
pub(crate) fn expand_all(tree: &mut Tree, limits: &Limits, notes: &mut Vec<String>) -> Result<()> {
    let found: Vec<(NodeId, String)> = tree
        .walk()
        .filter(|step| is_single_name(&step.path) && tree.node(step.id).content().is_some())
        .map(|step| (step.id, step.path))
        .collect();
    let packed: u64 = found.iter().filter_map(|(id, _)| tree.node(*id).content()).map(Content::len).sum();
    let mut left = limits.unpacked_of(packed);
    for (id, path) in found {
        let node = tree.node(id);
        let NodeKind::File(content) = &node.kind else { continue };
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
        let meta: Meta = node.meta;
        match damage_apart(expand_single(name, content, left))? {
            Ok(None) => {}
            Ok(Some(Expanded { name: full, content: bytes, .. })) => {
                left = left.saturating_sub(bytes.len());
                let full = if folder.is_empty() { full } else { format!("{folder}/{full}") };
                if tree.find_ignoring_case(&full).is_none() {
                    tree.remove(id);
                    tree.put_file(&full, bytes, meta)?;
                }
            }
            Err(error) => notes.push(format!("{path} is compressed and cannot be read: {error}")),
        }
    }
    Ok(())
}

/// Whether a name is that of a compressed file: three letters after its dot, the last a low line.
pub fn is_single_name(path: &str) -> bool {
    let name = path.rsplit('/').next().unwrap_or(path);
    name.rsplit_once('.')
        .is_some_and(|(stem, ending)| !stem.is_empty() && ending.len() == 3 && ending.ends_with('_'))
}

/// What a compressed file holds.
#[derive(Clone, Debug)]
pub struct Expanded {
    /// Its full name.
    pub name: String,
    /// Its content.
    pub content: Content,
    /// How it was compressed.
    pub form: SingleForm,
}

/// The full name and the content, at most `limit` bytes, of the file `name`, which is compressed by itself; nothing for another
/// kind.
///
/// # Errors
/// `Truncated`, `BadField` and `Mismatch` for damage, `Limit` for longer content; `Io`.
pub fn expand_single(name: &str, content: &Content, limit: u64) -> Result<Option<Expanded>> {
    let mut first = [0; 8];
    let len = content.len().min(8) as usize;
    content.read_exact_at(0, &mut first[..len])?;
    if first.starts_with(b"MSCF") {
        let found = read_cabinet(content, &|_| true, limit)?;
        let own = found.into_iter().next().map(|(inner, content)| {
            let inner = inner.rsplit(['/', '\\']).next().unwrap_or(&inner).to_owned();
            (inner, content)
        });
        let own = own.filter(|(inner, _)| is_full_name(name, inner));
        return Ok(own.map(|(name, content)| Expanded { name, content, form: SingleForm::Cabinet }));
    }
    if first != SIGNATURE {
        return Ok(None);
    }
    let bytes = content.to_vec(limit, "compressed file")?;
    let expanded = decode(&bytes, limit)?;
    let stem = name.trim_end_matches('_');
    let last = bytes.get(9).copied().filter(u8::is_ascii_alphanumeric).map(char::from);
    let ending = stem.rsplit_once('.').map(|(_, ending)| ending.to_lowercase()).unwrap_or_default();
    let usual = || ENDINGS.iter().find(|own| own.starts_with(&ending)).and_then(|own| own.chars().last());
    let Some(last) = last.or_else(usual) else { return Ok(None) };
    let (name, content) = (format!("{stem}{last}"), Content::from_bytes(expanded));
    Ok(Some(Expanded { name, content, form: SingleForm::Older }))
}

/// Whether a name is that which a compressed one stands for.
fn is_full_name(name: &str, full: &str) -> bool {
    let stem = name.strip_suffix('_').unwrap_or(name);
    let head = full.char_indices().next_back().map(|(at, _)| &full[..at]);
    check_name(full).is_ok() && head.is_some_and(|head| head.eq_ignore_ascii_case(stem))
}

/// The content of a file of the older form.
fn decode(bytes: &[u8], limit: u64) -> Result<Vec<u8>> {
    const WHAT: &str = "compressed file";
    let short =
        |at: usize| Error::Truncated { what: WHAT.into(), offset: at as u64, wanted: 1, available: 0 };
    let header = bytes.get(..HEADER_LEN).ok_or_else(|| short(bytes.len()))?;
    if header[8] != b'A' {
        return Err(Error::bad_field(WHAT, "method", 8, "A", char::from(header[8]).escape_default()));
    }
    let len = u64::from(u32::from_le_bytes([header[10], header[11], header[12], header[13]]));
    if len > (bytes.len() as u64).saturating_mul(MOST_GROWTH) {
        let expected = format!("at most {MOST_GROWTH} times the length of the file");
        return Err(Error::bad_field(WHAT, "length", 10, expected, len));
    }
    if len > limit {
        return Err(Error::Limit {
            what: "bytes of a compressed file".into(),
            offset: 10,
            limit,
            found: len,
        });
    }
    let len = len as usize;
    let mut out = Vec::with_capacity(len);
    let mut window = [b' '; WINDOW];
    let mut to = FIRST;
    let mut at = HEADER_LEN;
    let mut take = || {
        let byte = bytes.get(at).copied().ok_or_else(|| short(at));
        at += 1;
        byte
    };
    while out.len() < len {
        let group = take()?;
        for bit in 0..8 {
            if out.len() == len {
                break;
            }
            let first = take()?;
            if group >> bit & 1 == 1 {
                out.push(first);
                window[to] = first;
                to = (to + 1) % WINDOW;
                continue;
            }
            let second = take()?;
            let mut from = usize::from(first) | usize::from(second & 0xF0) << 4;
            for _ in 0..usize::from(second & 0x0F) + SHORTEST {
                if out.len() == len {
                    break;
                }
                let byte = window[from];
                out.push(byte);
                window[to] = byte;
                from = (from + 1) % WINDOW;
                to = (to + 1) % WINDOW;
            }
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;
    use proptest::prelude::*;

    /// As another program wrote it, which leaves the last letter out.
    const BY_ANOTHER: &str = "535a444488f02733410088000000ff427261636b776174ff6572204665727269ff65733a20616c6c207f61626f6172642c030d\
        fe13042120546865206cff69676874686f7573bf65206b656570f8f072bf6561647320742900633f68617274732c43083d0234430237032e0f080d0a";
    const TEXT: &[u8] = b"Brackwater Ferries: all aboard, all aboard, all aboard! The lighthouse keeper reads the charts, the charts \
        read the keeper. all aboard\r\n";

    fn hex(text: &str) -> Vec<u8> {
        let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
        let pairs =
            digits.chunks(2).map(|pair| u8::from_str_radix(std::str::from_utf8(pair).unwrap(), 16).unwrap());
        pairs.collect()
    }

    #[test]
    fn what_another_program_compressed_is_read() {
        assert_eq!(decode(&hex(BY_ANOTHER), 1 << 20).unwrap(), TEXT);
        let content = Content::from_bytes(hex(BY_ANOTHER));
        let own = expand_single("NOTES.TX_", &content, 1 << 20).unwrap().unwrap();
        assert_eq!((own.name.as_str(), own.content.len()), ("NOTES.TXt", TEXT.len() as u64));
        assert!(
            expand_single("notes.qq_", &content, 1 << 20).unwrap().is_none(),
            "no ending is known for it"
        );
        let mut named = hex(BY_ANOTHER);
        named[9] = b'g';
        let own = expand_single("keel.co_", &Content::from_bytes(named), 1 << 20).unwrap().unwrap();
        assert_eq!(own.name, "keel.cog");
    }

    #[test]
    fn damage_is_an_error_with_its_place() {
        let whole = hex(BY_ANOTHER);
        for len in 0..whole.len() {
            assert!(decode(&whole[..len], 1 << 20).is_err(), "{len}");
        }
        let changed = |at: usize, byte: u8| {
            let mut bytes = whole.clone();
            bytes[at] = byte;
            decode(&bytes, 1 << 20).unwrap_err().to_string()
        };
        assert!(changed(8, b'B').contains("byte 0x8"), "{}", changed(8, b'B'));
        assert!(changed(13, 0x7F).contains("byte 0xa"), "{}", changed(13, 0x7F));
        assert!(decode(&whole, 100).unwrap_err().to_string().contains("100"));
    }

    #[test]
    fn names_are_told_apart() {
        for (name, is) in [
            ("keel.sy_", true),
            ("a/KEEL.EX_", true),
            ("keel_", false),
            ("keel.x_", false),
            (".sy_", false),
            ("keel.sys", false),
            ("a_/keel.sysx_", false),
        ] {
            assert_eq!(is_single_name(name), is, "{name}");
        }
        assert!(is_full_name("KEEL.SY_", "keel.sys") && !is_full_name("keel.sy_", "other.sys"));
        assert!(!is_full_name("..._", "..") && !is_full_name("a_", ""));
    }

    proptest! {
        #[test]
        fn anything_ends(bytes in proptest::collection::vec(any::<u8>(), 0..600)) {
            let whole = [&SIGNATURE[..], &b"A\0"[..], &2000_u32.to_le_bytes()[..], &bytes[..]].concat();
            if let Ok(out) = decode(&whole, 1 << 20) {
                prop_assert_eq!(out.len(), 2000);
            }
            let _ = decode(&bytes, 1 << 20);
        }
    }
}
