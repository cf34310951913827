//! A folder of this machine as an edition.

use crate::{
    BlobDigest, Entry, EntryId, Files, ImageDraft, Name, Reparse, Times,
    digest::digest_each,
    layout::{
        ATTRIBUTE_ARCHIVE, ATTRIBUTE_DIRECTORY, ATTRIBUTE_NORMAL, ATTRIBUTE_READONLY, ATTRIBUTE_REPARSE,
        ATTRIBUTE_SPARSE, TAG_SYMLINK,
    },
    system::{MetadataExt, extended_attribute},
    xml::{Child, Element},
};
use neat_content::{Advice, Content, Error, Event, Job, Meta, NodeKind, Result, Source, Timestamp, Tree};
use std::{
    collections::HashMap,
    fs::{self, Metadata},
    path::Path,
};

/// Most entries of a folder that is captured.
const MAX_ENTRIES: usize = 8_000_000;
/// Longest name in UTF-16 units that the target systems hold.
const LONGEST_NAME: usize = 255;

/// How a folder is captured.
#[derive(Clone, Debug, Default)]
pub struct Options {
    /// Names or paths to leave out, with `*` and `?`, in any case. One with a `/` is compared with the path from the
    /// folder, another with each name.
    pub exclude: Vec<String>,
    /// Leave out names that the target systems cannot hold, instead of refusing.
    pub skip_bad_names: bool,
    /// Times later than this are set to it.
    pub latest: Option<Timestamp>,
    /// Number of threads, 0 for as many as there are cores.
    pub threads: usize,
}

/// A captured folder.
pub struct Captured {
    /// Its files.
    pub files: Files,
    /// Their content.
    pub blobs: HashMap<BlobDigest, Content>,
    /// What was left out or is unusual.
    pub notes: Vec<String>,
}

struct Walk<'a> {
    options: &'a Options,
    files: Files,
    notes: Vec<String>,
    bad_names: Vec<String>,
    /// Files whose content is digested later.
    contents: Vec<(EntryId, Content)>,
    links: HashMap<(u64, u64), u64>,
}

/// Reads a folder: names, times, attributes, links, and the digests of all content.
///
/// # Errors
/// `Io`, `BadRequest` for what no image file can hold, `Cancelled`.
pub fn capture(folder: &Path, options: &Options, job: &Job<'_>) -> Result<Captured> {
    let metadata = fs::metadata(folder).map_err(Error::input("examine", folder))?;
    if !metadata.is_dir() {
        return Err(Error::request(format!("{} is not a folder", folder.display()), "name a folder"));
    }
    let times = times_of(&metadata, options);
    let mut walk = Walk {
        options,
        files: Files::new(times),
        notes: Vec::new(),
        bad_names: Vec::new(),
        contents: Vec::new(),
        links: HashMap::new(),
    };
    let mut pending = vec![(Files::ROOT, folder.to_owned(), String::new())];
    while let Some((parent, path, shown)) = pending.pop() {
        job.check()?;
        let mut entries: Vec<fs::DirEntry> =
            fs::read_dir(&path).and_then(Iterator::collect).map_err(Error::io("list", &path))?;
        entries.sort_by_key(fs::DirEntry::file_name);
        for entry in entries {
            if let Some((id, shown)) = walk.add(parent, &entry, &shown)? {
                pending.push((id, entry.path(), shown));
            }
        }
    }
    if let ([first, rest @ ..], false) = (walk.bad_names.as_slice(), options.skip_bad_names) {
        let more = if rest.is_empty() { String::new() } else { format!(" (and {} more)", rest.len()) };
        return Err(Error::refused(format!("{first}{more}"), Advice::LeaveOutNames));
    }
    let Walk { mut files, mut notes, bad_names, contents, .. } = walk;
    notes.extend(bad_names.into_iter().map(|bad| format!("left out: {bad}")));
    let digests = digest_all(&contents, options.threads, job)?;
    let mut blobs = HashMap::new();
    for ((id, content), digest) in contents.into_iter().zip(digests) {
        files.entry_mut(id).digest = digest;
        blobs.entry(digest).or_insert(content);
    }
    Ok(Captured { files, blobs, notes })
}

impl Walk<'_> {
    /// Adds what a folder lists; returns it if it is a folder to go on with.
    fn add(
        &mut self,
        parent: EntryId,
        entry: &fs::DirEntry,
        folder: &str,
    ) -> Result<Option<(EntryId, String)>> {
        let full = entry.path();
        let shown_name = entry.file_name().to_string_lossy().into_owned();
        let shown = if folder.is_empty() { shown_name.clone() } else { format!("{folder}/{shown_name}") };
        if is_excluded(&self.options.exclude, &shown, &shown_name) {
            return Ok(None);
        }
        let Ok(name) = entry.file_name().into_string() else {
            self.bad_names.push(format!("the name of {} is not UTF-8", full.display()));
            return Ok(None);
        };
        if let Some(reason) = bad_name(&name) {
            self.bad_names.push(format!("{shown}: {reason}"));
            return Ok(None);
        }
        if self.files.entries.len() >= MAX_ENTRIES {
            return Err(Error::request(
                format!("the folder holds more than {MAX_ENTRIES} entries"),
                "capture less",
            ));
        }
        let metadata = entry.metadata().map_err(Error::io("examine", &full))?;
        let times = times_of(&metadata, self.options);
        let mut made = if metadata.is_dir() {
            Entry::folder(name.as_str(), times)
        } else if metadata.is_symlink() {
            let target = fs::read_link(&full).map_err(Error::io("read the link", &full))?;
            let mut made = Entry::file(name.as_str(), 0, times, BlobDigest::NONE);
            made.set_reparse(Reparse { tag: TAG_SYMLINK, reserved: 0, not_fixed: 0 });
            // A link to a folder must say so in the target systems; what leads nowhere is taken for a file.
            if fs::metadata(&full).is_ok_and(|target| target.is_dir()) {
                made.attributes |= ATTRIBUTE_DIRECTORY;
                made.had_list = false;
            }
            self.add_data(parent, made, Content::from_bytes(link_data(&target.to_string_lossy())))?;
            return Ok(None);
        } else if metadata.is_file() {
            Entry::file(name.as_str(), attributes_of(&metadata, &full), times, BlobDigest::NONE)
        } else {
            self.notes.push(format!("left out: {shown} is neither file, folder nor link"));
            return Ok(None);
        };
        if metadata.is_dir() {
            made.attributes |=
                stored_attributes(&full).unwrap_or(0) & !(ATTRIBUTE_REPARSE | ATTRIBUTE_NORMAL);
            return Ok(self.add_entry(parent, made, &shown)?.map(|id| (id, shown)));
        }
        if metadata.nlink() > 1 {
            let next = self.links.len() as u64 + 1;
            made.set_hard_link(*self.links.entry((metadata.dev(), metadata.ino())).or_insert(next));
        }
        if let Some(id) = self.add_entry(parent, made, &shown)?
            && metadata.len() > 0
        {
            self.contents.push((id, Content::from_source(Source::opened_on_use(&full, &metadata))));
        }
        Ok(None)
    }

    fn add_data(&mut self, parent: EntryId, entry: Entry, content: Content) -> Result<()> {
        let shown = entry.name.to_string();
        if let Some(id) = self.add_entry(parent, entry, &shown)? {
            self.contents.push((id, content));
        }
        Ok(())
    }

    /// Adds an entry, or notes that another has its name in another case.
    fn add_entry(&mut self, parent: EntryId, entry: Entry, shown: &str) -> Result<Option<EntryId>> {
        let name = entry.name.to_string();
        if let Some(other) = self.files.child(parent, &name) {
            let other = self.files.path(other);
            self.bad_names.push(format!("{shown} and {other} differ only in case"));
            return Ok(None);
        }
        self.files.add(parent, entry).map(Some)
    }
}

/// Whether one of `patterns` names an entry, as [`Options::exclude`] says.
pub fn is_excluded(patterns: &[String], path: &str, name: &str) -> bool {
    patterns.iter().any(|pattern| {
        let pattern = pattern.trim_matches('/');
        let subject = if pattern.contains('/') { path } else { name };
        wildmatch::WildMatch::new(&pattern.to_lowercase()).matches(&subject.to_lowercase())
    })
}

/// Why the target systems cannot hold a file of this name.
fn bad_name(name: &str) -> Option<String> {
    let found =
        name.chars().find(|c| matches!(c, '<' | '>' | ':' | '"' | '|' | '?' | '*' | '\\') || c.is_control());
    if let Some(found) = found {
        return Some(format!("a name there cannot have {found:?}"));
    }
    if name.ends_with(['.', ' ']) {
        return Some("a name there cannot end in a full stop or a space".into());
    }
    if name.encode_utf16().count() > LONGEST_NAME {
        return Some(format!("a name there has at most {LONGEST_NAME} units"));
    }
    let stem = name.split('.').next().unwrap_or_default().trim_end().to_uppercase();
    let numbered = ["COM", "LPT"].iter().any(|device| {
        stem.strip_prefix(device)
            .is_some_and(|rest| rest.len() == 1 && matches!(rest.as_bytes()[0], b'1'..=b'9'))
    });
    if numbered || ["CON", "PRN", "AUX", "NUL"].contains(&stem.as_str()) {
        return Some(format!("{stem} is the name of a device there"));
    }
    None
}

fn times_of(metadata: &Metadata, options: &Options) -> Times {
    let limit = |time: Timestamp| options.latest.map_or(time, |latest| time.min(latest));
    let written = limit(Timestamp::from_metadata(metadata));
    let created = metadata.created().ok().and_then(|time| time.duration_since(std::time::UNIX_EPOCH).ok());
    let created = created.map_or(written, |since| {
        limit(Timestamp { seconds: since.as_secs() as i64, nanoseconds: since.subsec_nanos() })
    });
    // Reading a file changes when it was last read; the time of the last change says more and stays.
    let [created, written] = [created, written].map(Times::from_timestamp);
    Times { created, accessed: written, written }
}

fn attributes_of(metadata: &Metadata, path: &Path) -> u32 {
    let mut attributes =
        stored_attributes(path).unwrap_or(ATTRIBUTE_ARCHIVE) & !(ATTRIBUTE_DIRECTORY | ATTRIBUTE_REPARSE);
    if metadata.mode() & 0o200 == 0 {
        attributes |= ATTRIBUTE_READONLY;
    }
    // Fewer blocks than the length needs: there are holes.
    if metadata.len() > 0 && metadata.blocks() * 512 < metadata.len() / 4096 * 4096 {
        attributes |= ATTRIBUTE_SPARSE;
    }
    attributes
}

/// Attributes as file systems and servers of other systems keep them on this one: NTFS as 32 bits big-endian, file
/// servers as text.
fn stored_attributes(path: &Path) -> Option<u32> {
    let mut buffer = [0; 64];
    if let Some([a, b, c, d]) = extended_attribute(path, "system.ntfs_attrib_be", &mut buffer) {
        return Some(u32::from_be_bytes([*a, *b, *c, *d]));
    }
    let text = extended_attribute(path, "user.DOSATTRIB", &mut buffer)?;
    let text = std::str::from_utf8(text).ok()?;
    u32::from_str_radix(text.trim_end_matches('\0').strip_prefix("0x")?, 16).ok()
}

/// The data of a symbolic link ([MS-FSCC] 2.1.2.4): both names, the flag for a target that starts where the link is.
fn link_data(target: &str) -> Vec<u8> {
    let name: Vec<u8> = target.replace('/', "\\").encode_utf16().flat_map(u16::to_le_bytes).collect();
    let len = name.len() as u16;
    let mut data = Vec::with_capacity(12 + 2 * name.len());
    for number in [0, len, len, len] {
        data.extend(number.to_le_bytes());
    }
    data.extend(1_u32.to_le_bytes());
    data.extend_from_slice(&name);
    data.extend_from_slice(&name);
    data
}

/// Digests of all contents, on all cores.
fn digest_all(contents: &[(EntryId, Content)], threads: usize, job: &Job<'_>) -> Result<Vec<BlobDigest>> {
    let total = contents.iter().map(|(_, content)| content.len()).sum();
    job.event(Event::StepStarted { step: "reading the files", total_bytes: Some(total) });
    let content = |n: usize| Ok(contents[n].1.clone());
    let digests =
        digest_each(contents.len(), threads, job, &content, &|bytes| job.event(Event::BytesDone(bytes)))?;
    job.event(Event::StepFinished);
    Ok(digests)
}

impl Captured {
    /// Adds it to a draft as an edition called `name`.
    ///
    /// # Errors
    /// As [`ImageDraft::add_edition`].
    pub fn add_to(self, draft: &mut ImageDraft, name: &str, description: &str) -> Result<()> {
        let created = self.files.entry(Files::ROOT).times.written;
        let newest = self.files.ids().map(|id| self.files.entry(id).times.written).max().unwrap_or(created);
        for (digest, content) in self.blobs {
            draft.add_blob(digest, content);
        }
        draft.add_edition(self.files, image_element(name, description, newest))
    }
}

/// An `IMAGE` element with names and times; counts are filled in when it is written.
pub fn image_element(name: &str, description: &str, made: u64) -> Element {
    let mut image = Element::with_text("IMAGE", "");
    for count in ["DIRCOUNT", "FILECOUNT", "TOTALBYTES", "HARDLINKBYTES"] {
        image.set(count, Some("0"));
    }
    for time in ["CREATIONTIME", "LASTMODIFICATIONTIME"] {
        let mut element = Element::with_text(time, "");
        element.set("HIGHPART", Some(&format!("0x{:08X}", made >> 32)));
        element.set("LOWPART", Some(&format!("0x{:08X}", made & 0xFFFF_FFFF)));
        image.children.push(Child::Element(element));
    }
    image.set("NAME", Some(name));
    if !description.is_empty() {
        image.set("DESCRIPTION", Some(description));
    }
    image
}

/// A tree of names as an edition, for what was put together in memory. All content is read to digest it.
///
/// # Errors
/// As reading the content; `BadRequest` for names that no image file can hold.
pub fn from_tree(tree: &Tree, job: &Job<'_>) -> Result<Captured> {
    let moment = |meta: Meta| Times::at(meta.modified);
    let mut files = Files::new(moment(tree.node(Tree::ROOT).meta));
    let mut contents = Vec::new();
    let mut folders = HashMap::from([(Tree::ROOT, Files::ROOT)]);
    for step in tree.walk() {
        let node = tree.node(step.id);
        let Some(parent) = folders.get(&node.parent()).copied() else { continue };
        let (name, times) = (Name::from(node.name()), moment(node.meta));
        match &node.kind {
            NodeKind::Folder(_) => {
                folders.insert(step.id, files.add(parent, Entry::folder(name, times))?);
            }
            NodeKind::File(content) => {
                let id = files.add(parent, Entry::file(name, ATTRIBUTE_ARCHIVE, times, BlobDigest::NONE))?;
                if !content.is_empty() {
                    contents.push((id, content.clone()));
                }
            }
            NodeKind::Link(target) => {
                let mut entry = Entry::file(name, 0, times, BlobDigest::NONE);
                entry.set_reparse(Reparse { tag: TAG_SYMLINK, reserved: 0, not_fixed: 0 });
                let id = files.add(parent, entry)?;
                contents.push((id, Content::from_bytes(link_data(target))));
            }
        }
    }
    let digests = digest_all(&contents, 0, job)?;
    let mut blobs = HashMap::new();
    for ((id, content), digest) in contents.into_iter().zip(digests) {
        files.entry_mut(id).digest = digest;
        blobs.entry(digest).or_insert(content);
    }
    Ok(Captured { files, blobs, notes: Vec::new() })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_the_target_cannot_hold() {
        for bad in ["a:b", "x?", "tab\t", "end.", "end ", "nul", "Com1.txt", "aux.tar.gz", &"n".repeat(256)] {
            assert!(bad_name(bad).is_some(), "{bad}");
        }
        for good in ["a b", ".hidden", "com0", "COM10", "console", "ü", &"n".repeat(255)] {
            assert!(bad_name(good).is_none(), "{good}");
        }
    }

    #[test]
    fn patterns_are_for_names_or_paths() {
        let exclude = |pattern: &str, path: &str| {
            is_excluded(&[pattern.to_owned()], path, path.rsplit('/').next().unwrap_or_default())
        };
        assert!(exclude("*.TMP", "a/b/x.tmp"));
        assert!(exclude("a/*/x.tmp", "a/b/x.tmp"));
        assert!(!exclude("a/x.tmp", "a/b/x.tmp"));
        assert!(exclude("/cache/", "cache"));
    }
}
