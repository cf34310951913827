//! The boot manager's own store: a registry hive with an object for each entry and for the manager itself.
//!
//! `Objects\{id}\Description` has the object's type, `Objects\{id}\Elements\TTTTTTTT` one element each, whose type's first
//! digit says whom it is for and whose second says its form: 1 a device, 2 a text, 3 an object, 4 a list of objects, 5 a
//! number, 6 a switch.

use neat_content::{Content, Error, Result};
use neat_registry::{Hive, KeyId, LARGEST, ValueKind, is_hive, text, text_data, texts, texts_data};
use schemars::JsonSchema;
use serde::Serialize;

/// The boot manager itself.
const MANAGER: &str = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
/// Type of an entry that loads a system.
const LOADER: u64 = 0x1020_0003;
const DEVICE: &str = "11000001";
const PATH: &str = "12000002";
const TITLE: &str = "12000004";
const TEST_SIGNING: &str = "16000049";
const SYSTEM_DEVICE: &str = "21000001";
const DEFAULT: &str = "23000003";
const ORDER: &str = "24000001";
const TIMEOUT: &str = "25000004";
/// Ending of image files that are named in a device, in UTF-16.
const IMAGE_ENDING: &str = ".wim";
/// Bytes of a device in which a path is looked for.
const LARGEST_DEVICE: usize = 4096;
/// Entries that are read of a store: one with more is none.
const MOST_ENTRIES: usize = 1000;

/// A boot manager's store.
pub struct BootStore {
    hive: Hive,
    objects: KeyId,
}

/// An entry that loads a system.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BootStoreEntry {
    /// Its id, in braces.
    pub id: String,
    /// What the menu shows.
    pub title: String,
    /// The program that loads the system.
    pub loader: String,
    /// The image file that it starts from, where it starts from one.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub image: String,
    /// Whether it takes what is signed for tests.
    pub test_signing: bool,
    /// Whether it is started when nobody chooses.
    pub default: bool,
}

/// What a store says.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct BootStoreFacts {
    /// Entries as the menu shows them, then those that it does not show.
    pub entries: Vec<BootStoreEntry>,
    /// Seconds that the menu waits; none where the store does not say.
    pub timeout_seconds: Option<u64>,
}

impl BootStore {
    /// Reads a store; nothing for a hive of another kind or no hive at all.
    ///
    /// # Errors
    /// What reading the hive gives.
    pub fn read(content: &Content) -> Result<Option<Self>> {
        let mut first = [0; 4];
        if content.len() < 4096 {
            return Ok(None);
        }
        neat_content::ReadAt::read_exact_at(content, 0, &mut first)?;
        if !is_hive(&first) {
            return Ok(None);
        }
        let hive = Hive::read(content.to_vec(LARGEST, "boot store")?)?;
        let Some(objects) = hive.find("Objects").filter(|id| hive.children(*id).len() <= MOST_ENTRIES) else {
            return Ok(None);
        };
        let store = Self { hive, objects };
        Ok(store.object(MANAGER).is_some().then_some(store))
    }

    /// The bytes of the store.
    ///
    /// # Errors
    /// What writing the hive gives.
    pub fn write(&self) -> Result<Vec<u8>> {
        self.hive.write()
    }

    fn object(&self, id: &str) -> Option<KeyId> {
        self.hive.child(self.objects, id)
    }

    fn element(&self, id: &str, element: &str) -> Option<(ValueKind, &[u8])> {
        let key = self.hive.find_in(self.object(id)?, &format!("Elements\\{element}"))?;
        let value = self.hive.value(key, "Element")?;
        Some((value.kind(), self.hive.data(value)))
    }

    fn text(&self, id: &str, element: &str) -> String {
        self.element(id, element).map(|(_, data)| text(data)).unwrap_or_default()
    }

    fn is_on(&self, id: &str, element: &str) -> bool {
        self.element(id, element).is_some_and(|(_, data)| data.first().is_some_and(|byte| *byte != 0))
    }

    /// Ids of the entries that load systems, those first that the menu shows.
    fn loaders(&self) -> Vec<String> {
        let shown = self.element(MANAGER, ORDER).map(|(_, data)| texts(data)).unwrap_or_default();
        let all: Vec<String> =
            self.hive.children(self.objects).iter().map(|key| self.hive.name(*key)).collect();
        let is_loader = |id: &&String| {
            let key = self.object(id).and_then(|key| self.hive.find_in(key, "Description"));
            let kind = key.and_then(|key| self.hive.number(self.hive.value(key, "Type")?));
            kind == Some(LOADER)
        };
        let place = |id: &String| shown.iter().position(|own| own.eq_ignore_ascii_case(id));
        let mut loaders: Vec<String> = all.iter().filter(is_loader).cloned().collect();
        loaders.sort_by_key(|id| (place(id).unwrap_or(usize::MAX), id.to_lowercase()));
        loaders
    }

    /// What the store says.
    pub fn facts(&self) -> BootStoreFacts {
        let default = self.text(MANAGER, DEFAULT);
        let entry = |id: String| BootStoreEntry {
            title: self.text(&id, TITLE),
            loader: self.text(&id, PATH),
            image: self.image_of(&id).map(|(path, _)| path).unwrap_or_default(),
            test_signing: self.is_on(&id, TEST_SIGNING),
            default: id.eq_ignore_ascii_case(&default),
            id,
        };
        let timeout = self.element(MANAGER, TIMEOUT).and_then(|(_, data)| {
            let bytes: [u8; 8] = data.get(..8)?.try_into().ok()?;
            Some(u64::from_le_bytes(bytes))
        });
        BootStoreFacts { entries: self.loaders().into_iter().map(entry).collect(), timeout_seconds: timeout }
    }

    /// The image file in an entry's device, with its place in the device's bytes. Its form is not described anywhere; the
    /// path stands in it as text.
    fn image_of(&self, id: &str) -> Option<(String, usize)> {
        let (_, data) = self.element(id, DEVICE)?;
        let data = data.get(..data.len().min(LARGEST_DEVICE))?;
        let units = |at: usize| data[at..].chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]]));
        (0..data.len().saturating_sub(1)).find_map(|at| {
            if data[at..at + 2] != [b'\\', 0] {
                return None;
            }
            let path: Vec<u16> = units(at).take_while(|unit| *unit != 0).collect();
            let path = String::from_utf16(&path).ok()?;
            path.to_lowercase().ends_with(IMAGE_ENDING).then_some((path, at))
        })
    }

    /// The entry that is meant by its title, its id or its number in the menu, from 1.
    ///
    /// # Errors
    /// `Request` when there is none.
    pub fn find(&self, wanted: &str) -> Result<String> {
        let entries = self.facts().entries;
        let is = |own: &&BootStoreEntry| {
            own.title.eq_ignore_ascii_case(wanted) || own.id.eq_ignore_ascii_case(wanted)
        };
        let by_number = || wanted.parse::<usize>().ok()?.checked_sub(1).and_then(|n| entries.get(n));
        let found = entries.iter().find(is).or_else(by_number);
        found.map(|own| own.id.clone()).ok_or_else(|| {
            let titles: Vec<String> = entries.iter().map(|own| format!("{:?}", own.title)).collect();
            Error::request(
                format!("the boot store has no entry {wanted:?}"),
                format!("it has {}", titles.join(", ")),
            )
        })
    }

    fn set(&mut self, id: &str, element: &str, kind: ValueKind, data: &[u8]) -> Result<()> {
        let path = format!("{}\\{id}\\Elements\\{element}", self.hive.path(self.objects));
        let bad = |error| Error::request(format!("the boot store: {path}: {error}"), "use another store");
        let key = self.hive.create(&path).map_err(bad)?;
        self.hive.set(key, "Element", kind, data).map_err(bad)?;
        Ok(())
    }

    /// Gives an entry another title.
    ///
    /// # Errors
    /// `Request` when the hive cannot hold it.
    pub fn set_title(&mut self, id: &str, title: &str) -> Result<()> {
        self.set(id, TITLE, ValueKind::TEXT, &text_data(title))
    }

    /// Says how long the menu waits, in seconds.
    ///
    /// # Errors
    /// `Request` when the hive cannot hold it.
    pub fn set_timeout(&mut self, seconds: u32) -> Result<()> {
        self.set(MANAGER, TIMEOUT, ValueKind::BINARY, &u64::from(seconds).to_le_bytes())
    }

    /// Says what is started when nobody chooses.
    ///
    /// # Errors
    /// `Request` when the hive cannot hold it.
    pub fn set_default(&mut self, id: &str) -> Result<()> {
        self.set(MANAGER, DEFAULT, ValueKind::TEXT, &text_data(id))
    }

    /// Says whether an entry takes what is signed for tests.
    ///
    /// # Errors
    /// `Request` when the hive cannot hold it.
    pub fn set_test_signing(&mut self, id: &str, on: bool) -> Result<()> {
        self.set(id, TEST_SIGNING, ValueKind::BINARY, &[u8::from(on)])
    }

    /// Adds an entry like another that starts from another image file, at the end of the menu; its id. The path must be as
    /// long as that of the other: only so its device's bytes are sure to be right.
    ///
    /// # Errors
    /// `Request` when the other does not start from an image file, or the lengths differ.
    pub fn add_like(&mut self, like: &str, title: &str, image: &str) -> Result<String> {
        let Some((before, _)) = self.image_of(like) else {
            return Err(Error::request(
                format!("the boot store's entry {like} starts from no image file"),
                "name another in `like`",
            ));
        };
        if before.encode_utf16().count() != image.encode_utf16().count() {
            return Err(Error::request(
                format!("{image} cannot take the place of {before} in the boot store: their lengths differ"),
                "give it a name of the same length",
            ));
        }
        let id = free_id(like, |id| self.object(id).is_none()).ok_or_else(|| {
            Error::request(format!("the boot store's entry {like} has no usual id"), "name another in `like`")
        })?;
        let source = self.object(like).unwrap_or(self.objects);
        let to = format!("{}\\{id}", self.hive.path(self.objects));
        self.copy(source, &to)?;
        let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_le_bytes).collect::<Vec<u8>>();
        let (from, into) = (utf16(&before), utf16(image));
        for element in [DEVICE, SYSTEM_DEVICE] {
            let Some((kind, data)) = self.element(&id, element) else { continue };
            let mut data = data.to_vec();
            let mut at = 0;
            while let Some(found) =
                data.get(at..).and_then(|rest| rest.windows(from.len()).position(|own| own == from))
            {
                data[at + found..at + found + from.len()].copy_from_slice(&into);
                at += found + from.len();
            }
            self.set(&id, element, kind, &data)?;
        }
        self.set_title(&id, title)?;
        let mut order = self.element(MANAGER, ORDER).map(|(_, data)| texts(data)).unwrap_or_default();
        order.push(id.clone());
        let order: Vec<&str> = order.iter().map(String::as_str).collect();
        self.set(MANAGER, ORDER, ValueKind::TEXTS, &texts_data(&order))?;
        Ok(id)
    }

    fn copy(&mut self, from: KeyId, to: &str) -> Result<()> {
        let mut pending = vec![(from, to.to_owned())];
        while let Some((from, to)) = pending.pop() {
            let bad = |error| Error::request(format!("the boot store: {to}: {error}"), "use another store");
            let values: Vec<(String, ValueKind, Vec<u8>)> = self
                .hive
                .values(from)
                .iter()
                .map(|own| (self.hive.value_name(own), own.kind(), self.hive.data(own).to_vec()))
                .collect();
            let key = self.hive.create(&to).map_err(bad)?;
            for (name, kind, data) in values {
                self.hive.set(key, &name, kind, &data).map_err(bad)?;
            }
            let below = self.hive.children(from).iter();
            pending.extend(below.map(|key| (*key, format!("{to}\\{}", self.hive.name(*key)))));
        }
        Ok(())
    }
}

/// An id like another that is free; the same for the same store.
fn free_id(like: &str, is_free: impl Fn(&str) -> bool) -> Option<String> {
    let head = like.strip_suffix('}').filter(|own| own.is_ascii() && own.len() > 5)?;
    let (head, number) = head.split_at(head.len() - 4);
    let number = u16::from_str_radix(number, 16).ok()?;
    let mut ids = (1..=u16::MAX).map(|n| format!("{head}{:04x}}}", number.wrapping_add(n)));
    ids.find(|id| is_free(id))
}
