//! A hive in memory.

use crate::{ValueKind, layout};
use neat_content::fold_unit;
use std::{cmp::Ordering, sync::Arc};

/// Number of a key in its [`Hive`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct KeyId(pub(crate) u32);

/// Bytes in the file that was read, or behind its end in what was added. A hive of a system has half a million of them.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Bytes {
    pub start: u32,
    pub len: u32,
}

impl Bytes {
    pub(crate) const EMPTY: Self = Self { start: 0, len: 0 };
}

/// A name as the hive has it: one or two bytes for each UTF-16 unit.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Name {
    pub bytes: Bytes,
    pub is_wide: bool,
}

/// UTF-16 units of a stored name.
pub(crate) fn units(bytes: &[u8], is_wide: bool) -> impl Iterator<Item = u16> + Clone + '_ {
    let step = if is_wide { 2 } else { 1 };
    bytes
        .chunks_exact(step)
        .map(|unit| u16::from(unit[0]) | unit.get(1).map_or(0, |high| u16::from(*high) << 8))
}

/// A value of a key.
#[derive(Clone, Debug)]
pub struct Value {
    pub(crate) name: Name,
    pub(crate) kind: u32,
    pub(crate) data: Bytes,
    pub(crate) flags: u16,
    pub(crate) spare: u16,
}

#[derive(Clone, Debug)]
pub(crate) struct Key {
    pub name: Name,
    pub class: Bytes,
    pub flags: u16,
    pub written: u64,
    pub access: u32,
    pub user_bits: u16,
    pub work: u32,
    pub security: u32,
    pub parent: KeyId,
    /// In the order of their names.
    pub children: Vec<KeyId>,
    pub values: Vec<Value>,
    pub is_removed: bool,
}

#[derive(Clone, Debug)]
pub(crate) struct Security {
    pub reserved: u16,
    pub descriptor: Bytes,
}

/// A registry hive: keys with values, below one root.
///
/// Names are found in any case. Names that are no valid UTF-16 are kept as they are and shown with U+FFFD.
#[derive(Clone)]
pub struct Hive {
    pub(crate) source: Arc<Vec<u8>>,
    /// What was added; places in it count from the end of the source.
    pub(crate) own: Vec<u8>,
    /// Whether more was added than places can say, which no hive file could hold.
    pub(crate) is_overfull: bool,
    /// The whole base block.
    pub(crate) base: Box<[u8]>,
    pub(crate) minor: u32,
    pub(crate) keys: Vec<Key>,
    pub(crate) securities: Vec<Security>,
    pub(crate) notes: Vec<String>,
    pub(crate) is_dirty: bool,
    /// Time given to keys that are changed; without it they keep theirs.
    pub(crate) now: Option<u64>,
    pub(crate) is_edited: bool,
}

impl std::fmt::Debug for Hive {
    /// Its size only; a whole hive is too much for a message.
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Hive of version 1.{} with {:?}", self.minor, self.counts())
    }
}

/// Numbers of a hive.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Counts {
    /// Keys, the root too.
    pub keys: u64,
    /// Values.
    pub values: u64,
    /// Bytes of the values' data.
    pub data: u64,
}

impl Hive {
    /// The root key.
    pub const ROOT: KeyId = KeyId(0);

    /// An empty hive of version 1.`minor` whose root is called `root`, with one security descriptor for all keys, in
    /// self-relative form. `time` is in units of 100 ns since 1601-01-01 UTC.
    pub fn new(minor: u32, root: &str, descriptor: &[u8], time: u64) -> Self {
        use zerocopy::{FromZeros, IntoBytes};
        let mut raw = layout::RawBase::new_zeroed();
        raw.signature = *b"regf";
        raw.primary_sequence = 1.into();
        raw.secondary_sequence = 1.into();
        raw.written = time.into();
        raw.major = 1.into();
        raw.minor = minor.into();
        raw.file_format = 1.into();
        raw.clustering = 1.into();
        let mut base = vec![0; layout::BLOCK];
        base[..512].copy_from_slice(raw.as_bytes());
        let mut hive = Self {
            source: Arc::default(),
            own: Vec::new(),
            is_overfull: false,
            base: base.into(),
            minor,
            keys: Vec::new(),
            securities: Vec::new(),
            notes: Vec::new(),
            is_dirty: false,
            now: Some(time),
            is_edited: false,
        };
        let descriptor = hive.add(descriptor);
        hive.securities.push(Security { reserved: 0, descriptor });
        let name = hive.new_name(root);
        hive.keys.push(Key {
            name,
            class: Bytes::EMPTY,
            flags: layout::KEY_ROOT | layout::KEY_NO_DELETE,
            written: time,
            access: 0,
            user_bits: 0,
            work: 0,
            security: 0,
            parent: Self::ROOT,
            children: Vec::new(),
            values: Vec::new(),
            is_removed: false,
        });
        hive
    }

    /// Keeps new bytes.
    fn add(&mut self, bytes: &[u8]) -> Bytes {
        let start = u32::try_from(self.source.len() + self.own.len());
        match (start, u32::try_from(bytes.len())) {
            (Ok(start), Ok(len)) if start.checked_add(len).is_some() => {
                self.own.extend_from_slice(bytes);
                Bytes { start, len }
            }
            _ => {
                self.is_overfull = true;
                Bytes::EMPTY
            }
        }
    }

    /// Keeps a new name.
    fn new_name(&mut self, text: &str) -> Name {
        // What fits into ISO 8859-1 is stored so, as real systems do it.
        let is_wide = text.chars().any(|c| (c as u32) >= 256);
        let bytes: Vec<u8> = if is_wide {
            text.encode_utf16().flat_map(u16::to_le_bytes).collect()
        } else {
            text.chars().map(|c| c as u8).collect()
        };
        Name { bytes: self.add(&bytes), is_wide }
    }

    /// Version of the format: 3 stands for 1.3.
    pub const fn minor_version(&self) -> u32 {
        self.minor
    }

    /// Whether the system that had it did not finish writing: changes may lie in a transaction log only.
    pub const fn is_dirty(&self) -> bool {
        self.is_dirty
    }

    /// Whether anything was changed since it was read or made.
    pub const fn is_edited(&self) -> bool {
        self.is_edited
    }

    /// What is unusual about the file.
    pub fn notes(&self) -> &[String] {
        &self.notes
    }

    /// Gives keys that are changed from now on this time, in units of 100 ns since 1601-01-01 UTC.
    pub const fn set_time(&mut self, time: u64) {
        self.now = Some(time);
    }

    /// Last change of the file, in units of 100 ns since 1601-01-01 UTC.
    pub fn written(&self) -> u64 {
        self.base.get(12..20).and_then(|bytes| bytes.try_into().ok()).map_or(0, u64::from_le_bytes)
    }

    /// The path that the base block names.
    pub fn file_name(&self) -> String {
        let units: Vec<u16> = units(&self.base[48..112], true).take_while(|unit| *unit != 0).collect();
        String::from_utf16_lossy(&units)
    }

    pub(crate) fn bytes(&self, bytes: Bytes) -> &[u8] {
        let (start, len) = (bytes.start as usize, bytes.len as usize);
        match start.checked_sub(self.source.len()) {
            None => &self.source[start..start + len],
            Some(start) => &self.own[start..start + len],
        }
    }

    pub(crate) fn units<'a>(&'a self, name: &'a Name) -> impl Iterator<Item = u16> + Clone + 'a {
        units(self.bytes(name.bytes), name.is_wide)
    }

    pub(crate) fn text(&self, name: &Name) -> String {
        char::decode_utf16(self.units(name)).map(|c| c.unwrap_or(char::REPLACEMENT_CHARACTER)).collect()
    }

    pub(crate) fn key(&self, id: KeyId) -> &Key {
        &self.keys[id.0 as usize]
    }

    fn key_mut(&mut self, id: KeyId) -> &mut Key {
        &mut self.keys[id.0 as usize]
    }

    /// Name of a key.
    pub fn name(&self, id: KeyId) -> String {
        self.text(&self.key(id).name)
    }

    /// Class name of a key; mostly empty.
    pub fn class(&self, id: KeyId) -> String {
        let units: Vec<u16> = units(self.bytes(self.key(id).class), true).collect();
        String::from_utf16_lossy(&units)
    }

    /// Last change of a key, in units of 100 ns since 1601-01-01 UTC.
    pub fn key_written(&self, id: KeyId) -> u64 {
        self.key(id).written
    }

    /// The key that this one is in; the root is in itself.
    pub fn parent(&self, id: KeyId) -> KeyId {
        self.key(id).parent
    }

    /// Keys in a key, in the order of their names.
    pub fn children(&self, id: KeyId) -> &[KeyId] {
        &self.key(id).children
    }

    /// Values of a key, in the order of the file.
    pub fn values(&self, id: KeyId) -> &[Value] {
        &self.key(id).values
    }

    /// Name of a value; empty for the default value.
    pub fn value_name(&self, value: &Value) -> String {
        self.text(&value.name)
    }

    /// Bytes of a value.
    pub fn data<'a>(&'a self, value: &'a Value) -> &'a [u8] {
        self.bytes(value.data)
    }

    /// The security descriptor of a key, in self-relative form; empty if it has none.
    pub fn security(&self, id: KeyId) -> &[u8] {
        let security = self.securities.get(self.key(id).security as usize);
        security.map_or(&[], |security| self.bytes(security.descriptor))
    }

    /// Order of the names of two stored names, without regard to case.
    pub(crate) fn order(&self, name: &Name, other: impl Iterator<Item = u16>) -> Ordering {
        self.units(name).map(fold_unit).cmp(other.map(fold_unit))
    }

    fn position(&self, parent: KeyId, name: &str) -> Result<usize, usize> {
        self.key(parent)
            .children
            .binary_search_by(|child| self.order(&self.key(*child).name, name.encode_utf16()))
    }

    /// The key in `parent` with this name, in any case.
    pub fn child(&self, parent: KeyId, name: &str) -> Option<KeyId> {
        self.position(parent, name).ok().map(|n| self.key(parent).children[n])
    }

    /// The key at a path from the root, parts joined with `\`, in any case.
    pub fn find(&self, path: &str) -> Option<KeyId> {
        self.find_in(Self::ROOT, path)
    }

    /// The key at a path from `key`, parts joined with `\`, in any case.
    pub fn find_in(&self, key: KeyId, path: &str) -> Option<KeyId> {
        parts(path).try_fold(key, |id, name| self.child(id, name))
    }

    /// The path of a key from the root, parts joined with `\`; empty for the root.
    pub fn path(&self, id: KeyId) -> String {
        let mut names = Vec::new();
        let mut at = id;
        while at != Self::ROOT {
            names.push(self.name(at));
            at = self.key(at).parent;
        }
        names.reverse();
        names.join("\\")
    }

    fn value_position(&self, id: KeyId, name: &str) -> Option<usize> {
        let same = |value: &Value| self.order(&value.name, name.encode_utf16()) == Ordering::Equal;
        self.key(id).values.iter().position(same)
    }

    /// The value of a key with this name, in any case; the empty name is the default value.
    pub fn value(&self, id: KeyId, name: &str) -> Option<&Value> {
        self.value_position(id, name).map(|n| &self.key(id).values[n])
    }

    /// A value by the path of its key.
    pub fn value_at(&self, path: &str, name: &str) -> Option<&Value> {
        self.value(self.find(path)?, name)
    }

    /// The text of a value of a type that holds text.
    pub fn text_at(&self, path: &str, name: &str) -> Option<String> {
        let value = self.value_at(path, name)?;
        value.kind().is_text().then(|| crate::value::text(self.data(value)))
    }

    /// The number of a value of 4 or 8 bytes.
    pub fn number_at(&self, path: &str, name: &str) -> Option<u64> {
        self.number(self.value_at(path, name)?)
    }

    /// The number that a value of 4 or 8 bytes holds.
    pub fn number(&self, value: &Value) -> Option<u64> {
        crate::value::number(value.kind(), self.data(value))
    }

    /// How much the hive holds.
    pub fn counts(&self) -> Counts {
        let mut counts = Counts::default();
        for id in self.walk() {
            counts.keys += 1;
            for value in self.values(id) {
                counts.values += 1;
                counts.data += self.data(value).len() as u64;
            }
        }
        counts
    }

    /// Every key from the root down, each before those in it, in the order of their names.
    pub fn walk(&self) -> impl Iterator<Item = KeyId> + '_ {
        self.walk_from(Self::ROOT)
    }

    /// `start` and every key below it.
    pub fn walk_from(&self, start: KeyId) -> impl Iterator<Item = KeyId> + '_ {
        let mut stack = vec![start];
        std::iter::from_fn(move || {
            let id = stack.pop()?;
            stack.extend(self.key(id).children.iter().rev());
            Some(id)
        })
    }

    fn touch(&mut self, id: KeyId) {
        self.is_edited = true;
        if let Some(now) = self.now {
            self.key_mut(id).written = now;
        }
    }

    /// Makes the key at `path` and those above it, as far as they are missing, with the security of the key each is
    /// in. Fails with what is wrong with a name.
    ///
    /// # Errors
    /// [`BadName`] for names that are empty, too long or hold a backslash, and paths that are too deep.
    pub fn create(&mut self, path: &str) -> Result<KeyId, BadName> {
        for name in parts(path) {
            check_key_name(name)?;
        }
        if parts(path).count() > layout::DEEPEST {
            return Err(BadName::Deep);
        }
        let mut at = Self::ROOT;
        for name in parts(path) {
            at = match self.position(at, name) {
                Ok(n) => self.key(at).children[n],
                Err(n) => self.insert(at, n, name),
            };
        }
        Ok(at)
    }

    fn insert(&mut self, parent: KeyId, place: usize, name: &str) -> KeyId {
        let id = KeyId(self.keys.len() as u32);
        let written = self.now.unwrap_or(self.key(parent).written);
        let name = self.new_name(name);
        self.keys.push(Key {
            name,
            class: Bytes::EMPTY,
            flags: 0,
            written,
            access: 0,
            user_bits: 0,
            work: 0,
            security: self.key(parent).security,
            parent,
            children: Vec::new(),
            values: Vec::new(),
            is_removed: false,
        });
        self.key_mut(parent).children.insert(place, id);
        self.touch(parent);
        id
    }

    /// Sets a value; returns whether anything changed.
    ///
    /// # Errors
    /// [`BadName`] for a name that is too long.
    pub fn set(&mut self, id: KeyId, name: &str, kind: ValueKind, data: &[u8]) -> Result<bool, BadName> {
        if name.encode_utf16().count() > layout::LONGEST_VALUE_NAME {
            return Err(BadName::Long { limit: layout::LONGEST_VALUE_NAME });
        }
        let position = self.value_position(id, name);
        if let Some(n) = position {
            let value = &self.key(id).values[n];
            if value.kind == kind.0 && self.bytes(value.data) == data {
                return Ok(false);
            }
            let data = self.add(data);
            let value = &mut self.key_mut(id).values[n];
            value.kind = kind.0;
            value.data = data;
        } else {
            let (name, data) = (self.new_name(name), self.add(data));
            let value = Value { name, kind: kind.0, data, flags: 0, spare: 0 };
            self.key_mut(id).values.push(value);
        }
        self.touch(id);
        Ok(true)
    }

    /// Takes a value out; returns whether it was there.
    pub fn delete_value(&mut self, id: KeyId, name: &str) -> bool {
        let Some(n) = self.value_position(id, name) else { return false };
        self.key_mut(id).values.remove(n);
        self.touch(id);
        true
    }

    /// Takes a key out with everything below it. The root stays.
    pub fn delete(&mut self, id: KeyId) {
        if id == Self::ROOT || self.key(id).is_removed {
            return;
        }
        let below: Vec<KeyId> = self.walk_from(id).collect();
        below.into_iter().for_each(|id| self.key_mut(id).is_removed = true);
        let parent = self.key(id).parent;
        self.key_mut(parent).children.retain(|child| *child != id);
        self.touch(parent);
    }

    /// Gives a key another name. Fails if the name is taken or cannot be.
    ///
    /// # Errors
    /// [`BadName`] for both.
    pub fn rename(&mut self, id: KeyId, name: &str) -> Result<(), BadName> {
        check_key_name(name)?;
        let parent = self.key(id).parent;
        if id != Self::ROOT {
            if self.child(parent, name).is_some_and(|other| other != id) {
                return Err(BadName::Taken);
            }
            self.key_mut(parent).children.retain(|child| *child != id);
            let place = self.position(parent, name).unwrap_or_else(|place| place);
            self.key_mut(parent).children.insert(place, id);
            self.touch(parent);
        }
        self.key_mut(id).name = self.new_name(name);
        self.touch(id);
        Ok(())
    }

    /// Gives a key a security descriptor in self-relative form.
    pub fn set_security(&mut self, id: KeyId, descriptor: &[u8]) {
        let same = |security: &Security| self.bytes(security.descriptor) == descriptor;
        let known = self.securities.iter().position(same);
        let number = known.unwrap_or_else(|| {
            let descriptor = self.add(descriptor);
            self.securities.push(Security { reserved: 0, descriptor });
            self.securities.len() - 1
        });
        self.key_mut(id).security = number as u32;
        self.touch(id);
    }

    /// Gives a key a class name.
    pub fn set_class(&mut self, id: KeyId, class: &str) {
        let bytes: Vec<u8> = class.encode_utf16().flat_map(u16::to_le_bytes).collect();
        self.key_mut(id).class = self.add(&bytes);
        self.touch(id);
    }
}

impl Value {
    /// Its type.
    pub const fn kind(&self) -> ValueKind {
        ValueKind(self.kind)
    }
}

/// Parts of a path.
pub(crate) fn parts(path: &str) -> impl Iterator<Item = &str> {
    path.split('\\').filter(|part| !part.is_empty())
}

fn check_key_name(name: &str) -> Result<(), BadName> {
    match name.encode_utf16().count() {
        0 => Err(BadName::Empty),
        n if n > layout::LONGEST_KEY_NAME => Err(BadName::Long { limit: layout::LONGEST_KEY_NAME }),
        _ if name.contains('\\') => Err(BadName::Backslash),
        _ => Ok(()),
    }
}

/// Why a key or value cannot have a name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum BadName {
    /// It is empty.
    Empty,
    /// It has more UTF-16 units than the format holds.
    Long {
        /// Most that it holds.
        limit: usize,
    },
    /// It has the sign that separates keys.
    Backslash,
    /// Another key there has it.
    Taken,
    /// Too many keys in each other.
    Deep,
}

impl std::fmt::Display for BadName {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Empty => f.write_str("the name is empty"),
            Self::Long { limit } => write!(f, "the name has more than {limit} characters"),
            Self::Backslash => f.write_str("the name has a backslash"),
            Self::Taken => f.write_str("another key there has that name"),
            Self::Deep => write!(f, "there are more than {} keys in each other", layout::DEEPEST),
        }
    }
}

impl std::error::Error for BadName {}
