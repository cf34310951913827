//! File identifiers of the primary tree and of Joliet.

use std::{
    cmp::Ordering,
    collections::{HashMap, HashSet},
};

/// Longest name and extension together in the primary tree (ECMA-119 7.5.1, level 2 and above).
const PRIMARY_LIMIT: usize = 30;
/// Longest extension kept when a name is cut.
const EXTENSION_LIMIT: usize = 8;

/// Hands out identifiers that are unique in one directory.
pub(crate) struct Namer {
    flavor: Flavor,
    taken: HashSet<Vec<u8>>,
    next_number: HashMap<Vec<u8>, u64>,
}

/// Which rules identifiers follow.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Flavor {
    /// d-characters (ECMA-119 7.4.1).
    Primary,
    /// UTF-16, at most this many units for name and extension.
    Joliet { limit: usize },
}

impl Namer {
    pub(crate) fn new(flavor: Flavor) -> Self {
        Self { flavor, taken: HashSet::new(), next_number: HashMap::new() }
    }

    /// Notes an identifier that is recorded already.
    pub(crate) fn reserve(&mut self, recorded: &[u8], is_folder: bool) {
        let identifier = Identifier::from_recorded(recorded, is_folder, self.flavor);
        self.take(&identifier.bytes);
    }

    /// The identifier for `name`, without version, and whether it says the same as `name`.
    pub(crate) fn identifier(&mut self, name: &str, is_folder: bool) -> Identifier {
        match self.flavor {
            Flavor::Primary => self.primary(name, is_folder),
            Flavor::Joliet { limit } => self.joliet(name, is_folder, limit),
        }
    }

    fn primary(&mut self, name: &str, is_folder: bool) -> Identifier {
        let clean = |part: &str| -> Vec<u8> {
            part.chars()
                .map(|c| c.to_ascii_uppercase())
                .map(|c| if c.is_ascii_uppercase() || c.is_ascii_digit() { c as u8 } else { b'_' })
                .collect()
        };
        let (base, extension) = if is_folder { (name, None) } else { split(name) };
        let (mut base, mut extension) = (clean(base), extension.map(clean).unwrap_or_default());
        if base.len() + extension.len() > PRIMARY_LIMIT {
            extension.truncate(EXTENSION_LIMIT.max(PRIMARY_LIMIT.saturating_sub(base.len())));
            base.truncate(PRIMARY_LIMIT - extension.len());
        }
        let assemble = |base: &[u8]| -> Vec<u8> {
            if is_folder {
                return base.to_vec();
            }
            // A file identifier has its full stop even without an extension (ECMA-119 7.5.1).
            [base, b".", &extension].concat()
        };
        let build = |number: Option<u64>| match number {
            None => assemble(&base),
            Some(number) => {
                let tail = format!("_{number}");
                let keep = base.len().min(PRIMARY_LIMIT - extension.len() - tail.len());
                assemble(&[&base[..keep], tail.as_bytes()].concat())
            }
        };
        let bytes = self.unique(&build);
        Identifier { shortened: false, bytes, is_folder, flavor: Flavor::Primary }
    }

    fn joliet(&mut self, name: &str, is_folder: bool, limit: usize) -> Identifier {
        let clean: String =
            name.chars().map(|c| if c < ' ' || "*/:;?\\".contains(c) { '_' } else { c }).collect();
        // A full stop at the end would separate nothing, so that the name would be another's in the order of records.
        let clean = clean.strip_suffix('.').map_or(clean.clone(), |front| format!("{front}_"));
        let (base, extension) = if is_folder { (clean.as_str(), None) } else { split(&clean) };
        let mut extension = extension.map(|extension| format!(".{extension}")).unwrap_or_default();
        if clean.encode_utf16().count() > limit && extension.encode_utf16().count() > limit / 2 {
            extension = first_units(&extension, limit / 2).to_owned();
        }
        let room = limit - extension.encode_utf16().count();
        let utf16 = |text: String| -> Vec<u8> { text.encode_utf16().flat_map(u16::to_be_bytes).collect() };
        let build = |number: Option<u64>| match number {
            None => utf16(format!("{}{extension}", first_units(base, room))),
            Some(number) => {
                let tail = format!("_{number}");
                utf16(format!("{}{tail}{extension}", first_units(base, room - tail.len())))
            }
        };
        let bytes = self.unique(&build);
        let shortened = bytes != utf16(clean.clone()) || clean != name;
        Identifier { shortened, bytes, is_folder, flavor: self.flavor }
    }

    /// Notes an identifier unless it is taken. A file's full stop without an extension does not count: readers
    /// show neither it nor a difference from a directory of the same name.
    fn take(&mut self, identifier: &[u8]) -> bool {
        let shown = if self.flavor == Flavor::Primary {
            identifier.strip_suffix(b".").unwrap_or(identifier)
        } else {
            identifier
        };
        self.taken.insert(shown.to_vec())
    }

    fn unique(&mut self, build: &dyn Fn(Option<u64>) -> Vec<u8>) -> Vec<u8> {
        let plain = build(None);
        if self.take(&plain) {
            return plain;
        }
        // Each crowded name counts on from its last number: twenty thousand alike must not take a square of that.
        let mut number = self.next_number.get(&plain).copied().unwrap_or(1);
        loop {
            let candidate = build(Some(number));
            number += 1;
            if self.take(&candidate) {
                self.next_number.insert(plain, number);
                return candidate;
            }
        }
    }
}

/// A file or directory identifier without its version.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Identifier {
    bytes: Vec<u8>,
    is_folder: bool,
    flavor: Flavor,
    /// Whether it had to differ from the name, beyond what its rules always change.
    pub shortened: bool,
}

impl Identifier {
    /// The identifier of a record, its version taken off.
    pub(crate) fn from_recorded(recorded: &[u8], is_folder: bool, flavor: Flavor) -> Self {
        let width = if flavor == Flavor::Primary { 1 } else { 2 };
        let unit_is = |unit: &[u8], wanted: fn(u8) -> bool| {
            unit.split_last().is_some_and(|(low, high)| wanted(*low) && high.iter().all(|byte| *byte == 0))
        };
        let mut units: Vec<&[u8]> = recorded.chunks(width).collect();
        let separator = units.iter().rposition(|unit| unit_is(unit, |low| low == b';'));
        if let Some(at) = separator.filter(|at| {
            !is_folder && units[at + 1..].iter().all(|unit| unit_is(unit, |low| low.is_ascii_digit()))
        }) {
            units.truncate(at);
        }
        Self { bytes: units.concat(), is_folder, flavor, shortened: false }
    }

    /// The bytes as recorded, with the version of files.
    pub(crate) fn recorded(&self) -> Vec<u8> {
        let mut bytes = self.bytes.clone();
        match (self.is_folder, self.flavor) {
            (true, _) => {}
            (false, Flavor::Primary) => bytes.extend(b";1"),
            (false, Flavor::Joliet { .. }) => bytes.extend([0, b';', 0, b'1']),
        }
        bytes
    }

    /// Order of records in a directory (ECMA-119 9.3): by name, then by extension, the shorter padded with what is
    /// lower than any character.
    pub(crate) fn order(&self, other: &Self) -> Ordering {
        let parts = |identifier: &Self| {
            let dot: &[u8] = if identifier.flavor == Flavor::Primary { b"." } else { &[0, b'.'] };
            let at = identifier
                .bytes
                .chunks_exact(dot.len())
                .rposition(|unit| unit == dot)
                .map(|unit| unit * dot.len());
            match at.filter(|_| !identifier.is_folder) {
                Some(at) => (identifier.bytes[..at].to_vec(), identifier.bytes[at + dot.len()..].to_vec()),
                None => (identifier.bytes.clone(), Vec::new()),
            }
        };
        parts(self).cmp(&parts(other))
    }
}

/// Name and extension at the last full stop; none at the front or the back counts.
fn split(name: &str) -> (&str, Option<&str>) {
    match name.rsplit_once('.') {
        Some((base, extension)) if !base.is_empty() && !extension.is_empty() => (base, Some(extension)),
        _ => (name, None),
    }
}

/// The beginning of `text` with at most `limit` UTF-16 units, no surrogate pair cut.
fn first_units(text: &str, limit: usize) -> &str {
    let mut units = 0;
    for (at, c) in text.char_indices() {
        units += c.len_utf16();
        if units > limit {
            return &text[..at];
        }
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    fn primary(names: &[&str]) -> Vec<String> {
        let mut namer = Namer::new(Flavor::Primary);
        names
            .iter()
            .map(|name| String::from_utf8(namer.identifier(name, false).recorded()).unwrap())
            .collect()
    }

    #[test]
    fn primary_identifiers_keep_to_the_rules_and_stay_unique() {
        assert_eq!(
            primary(&["readme", "Read Me.txt", "read_me.txt", "a.tar.gz", ".hidden", "end.", "ü"]),
            ["README.;1", "READ_ME.TXT;1", "READ_ME_1.TXT;1", "A_TAR.GZ;1", "_HIDDEN.;1", "END_.;1", "_.;1"]
        );
        let long = "x".repeat(200) + ".extension-that-is-long";
        let ids = primary(&[&long, &long.replace("200", "")]);
        assert!(ids.iter().all(|id| id.len() <= 33), "{ids:?}");
        assert_ne!(ids[0], ids[1]);
    }

    #[test]
    fn thousands_of_alike_names_stay_unique_and_fast() {
        let mut namer = Namer::new(Flavor::Primary);
        let ids: HashSet<_> = (0..20_000)
            .map(|n| {
                namer.identifier(&format!("{}{n}.dat", "same-beginning-that-is-very-long"), false).recorded()
            })
            .collect();
        assert_eq!(ids.len(), 20_000);
    }

    #[test]
    fn joliet_cuts_between_characters() {
        let mut namer = Namer::new(Flavor::Joliet { limit: 64 });
        let ship = "🚢".repeat(40) + ".txt";
        let id = namer.identifier(&ship, false);
        assert!(id.shortened);
        let units: Vec<u16> = id.recorded().chunks(2).map(|b| u16::from_be_bytes([b[0], b[1]])).collect();
        assert_eq!(String::from_utf16(&units).unwrap(), "🚢".repeat(30) + ".txt;1");
        assert!(!namer.identifier("plain name.txt", false).shortened);
        assert!(namer.identifier("a:b", true).shortened);
    }

    #[test]
    fn the_order_pads_with_what_is_lowest() {
        let mut namer = Namer::new(Flavor::Primary);
        let mut id = |name: &str| namer.identifier(name, false);
        let (short, long) = (id("A.ZZZ"), id("A0.AAA"));
        assert_eq!(short.order(&long), Ordering::Less);
    }
}
