//! An opened edition: its files and hives, changed in memory.

use crate::{Layout, Scans, layout::role, record::EditionRecord};
use neat_content::{Content, Error, Hold, ReadAt, Result, check_name};
use neat_image::{
    BlobDigest, BlobHasher, EditionInfo, Entry, EntryId, Files, ImageDraft, Times, layout::ATTRIBUTE_ARCHIVE,
};
use neat_package::{Architecture, Version};
use neat_registry::{Hive, HiveRole, LARGEST, is_hive, locate};
use rayon::iter::{IntoParallelIterator, IntoParallelRefIterator, ParallelIterator};
use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

/// A hive of an edition.
struct LoadedHive {
    path: String,
    hive: Hive,
}

impl LoadedHive {
    /// Its path, and its bytes, in `hold`, with their digest.
    fn write(self, hold: &Hold) -> Result<(String, Content, BlobDigest)> {
        let Self { path, hive } = self;
        let (mut spool, mut hasher) = (None, BlobHasher::default());
        let written = hive.write_to(&mut |len, part| {
            hasher.add(part);
            spool.get_or_insert_with(|| hold.spool(len)).push(part)
        });
        written.map_err(|error| error.within(&path))?;
        let content = spool.map_or_else(|| Ok(Content::default()), |spool| spool.content())?;
        Ok((path, content, hasher.finish()))
    }
}

/// An edition of an image file, opened to be looked at and changed. Nothing is written until
/// [`Edition::store`] puts it back into the draft.
pub struct Edition {
    /// Its number in the draft, from 1.
    pub number: usize,
    /// What the XML data says of it.
    pub info: EditionInfo,
    /// How it is laid out; nothing when no layout fits, and then only its files can be changed.
    pub layout: Option<Arc<Layout>>,
    /// Folder of the system.
    pub root: String,
    /// Its files.
    pub files: Files,
    /// What earlier builds did to it, and this one.
    pub record: EditionRecord,
    /// Notes on what was found.
    pub notes: Vec<String>,
    /// What was read in other editions of the same image file, and will be in this one.
    pub scans: Scans,
    hives: BTreeMap<HiveRole, LoadedHive>,
    /// Files of hives that are read when somebody asks for them.
    waiting: BTreeMap<HiveRole, EntryId>,
    new_blobs: HashMap<BlobDigest, Content>,
    contents: Contents,
    times: Times,
    is_changed: bool,
    version: Option<[u64; 4]>,
    languages: Vec<String>,
}

/// Where content comes from: the draft as it was when the edition was opened.
#[derive(Clone)]
pub(crate) struct Contents(Arc<ImageDraft>);

/// Hives that little is asked of; the one of components is as large as all others.
const ON_DEMAND: [HiveRole; 3] = [HiveRole::Components, HiveRole::Accounts, HiveRole::Security];
/// Largest record that is read, in bytes.
const LARGEST_RECORD: u64 = 16 << 20;

impl Edition {
    /// Opens an edition, numbered from 1. New entries get the time of `times`.
    pub fn open(
        draft: &Arc<ImageDraft>,
        number: usize,
        layouts: &[Arc<Layout>],
        times: Times,
    ) -> Result<Self> {
        let mut edition = Self::open_files(draft, number, layouts, times)?;
        edition.open_hives()?;
        Ok(edition)
    }

    /// Opens the files of an edition alone; [`Edition::open_hives`] does the rest.
    pub fn open_files(
        draft: &Arc<ImageDraft>,
        number: usize,
        layouts: &[Arc<Layout>],
        times: Times,
    ) -> Result<Self> {
        let files = Arc::unwrap_or_clone(draft.files(number)?);
        let info = draft.editions().swap_remove(number - 1);
        let said = info.system.as_ref().map(|system| system.root.clone()).unwrap_or_default();
        let found =
            layouts.iter().find_map(|layout| Some((Arc::clone(layout), layout.root_in(&files, &said)?)));
        let (layout, root) = match found {
            Some((layout, root)) => (Some(layout), root),
            None => (None, said),
        };
        let mut edition = Self {
            number,
            info,
            layout,
            root,
            files,
            record: EditionRecord::default(),
            notes: Vec::new(),
            scans: Scans::default(),
            hives: BTreeMap::new(),
            waiting: BTreeMap::new(),
            new_blobs: HashMap::new(),
            contents: Contents(Arc::clone(draft)),
            times,
            is_changed: false,
            version: None,
            languages: Vec::new(),
        };
        edition.open_record()?;
        Ok(edition)
    }

    /// Reads the hives of an edition whose files were opened.
    pub fn open_hives(&mut self) -> Result<()> {
        let Some(layout) = self.layout.clone() else { return Ok(()) };
        let mut used = Vec::new();
        for (word, path) in &layout.hives {
            let path = self.place(path);
            let Some(id) = self.files.find(&path).filter(|id| !self.files.entry(*id).is_folder()) else {
                continue;
            };
            let path = self.files.path(id);
            let content = self.content(id)?;
            let mut first = [0; 4];
            if content.len() >= 4 {
                content.read_exact_at(0, &mut first).map_err(|error| error.within(&path))?;
            }
            // Some editions keep empty files where a hive comes later.
            if !is_hive(&first) {
                if !content.is_empty() {
                    self.notes.push(format!("{path} is no hive and is left alone"));
                }
                continue;
            }
            let role = role(word)?;
            if ON_DEMAND.contains(&role) {
                self.waiting.insert(role, id);
            } else {
                used.push((role, id));
            }
        }
        self.load_hives(&used)
    }

    fn load_hives(&mut self, used: &[(HiveRole, EntryId)]) -> Result<()> {
        let read: Vec<Result<LoadedHive>> = used.par_iter().map(|(_, id)| self.read_hive(*id)).collect();
        for ((role, _), loaded) in used.iter().zip(read) {
            let loaded = loaded?;
            self.notes.extend(loaded.hive.notes().iter().map(|note| format!("{}: {note}", loaded.path)));
            self.hives.insert(*role, loaded);
        }
        Ok(())
    }

    fn read_hive(&self, id: EntryId) -> Result<LoadedHive> {
        let path = self.files.path(id);
        let bytes = self.content(id)?.to_vec(LARGEST, "hive").map_err(|error| error.within(&path))?;
        let mut hive =
            Hive::read(bytes).map_err(|error| error.within(format!("edition {}, {path}", self.number)))?;
        hive.set_time(self.times.written);
        Ok(LoadedHive { path, hive })
    }

    /// Reads the hives that wait to be asked for and that `is_wanted` says of their content, so that [`Edition::hives`]
    /// has them.
    pub fn read_hives(&mut self, is_wanted: &dyn Fn(HiveRole, BlobDigest) -> bool) -> Result<()> {
        for (role, id) in self.waiting.clone() {
            if is_wanted(role, self.files.entry(id).content()) {
                self.waiting.remove(&role);
                self.load_hives(&[(role, id)])?;
            }
        }
        Ok(())
    }

    /// Content of the hives as they lie in the edition, by role, whether they were read or not.
    pub fn hive_contents(&self) -> BTreeMap<HiveRole, BlobDigest> {
        let read = self.hives.iter().filter_map(|(role, own)| Some((*role, self.files.find(&own.path)?)));
        let all = read.chain(self.waiting.iter().map(|(role, id)| (*role, *id)));
        all.map(|(role, id)| (role, self.files.entry(id).content())).collect()
    }

    fn open_record(&mut self) -> Result<()> {
        let Some(path) = self.record_path() else { return Ok(()) };
        let Some(id) = self.files.find(&path) else { return Ok(()) };
        let bytes = self.content(id)?.to_vec(LARGEST_RECORD, "record of earlier builds")?;
        match EditionRecord::parse(&String::from_utf8_lossy(&bytes)) {
            Ok(record) => self.record = record,
            Err(error) => self.notes.push(format!("{path} is left alone: {error}")),
        }
        Ok(())
    }

    fn record_path(&self) -> Option<String> {
        let record = self.layout.as_ref()?.record.as_ref()?;
        Some(self.place(&record.file))
    }

    /// A path of the layout in this edition.
    pub fn place(&self, path: &str) -> String {
        path.replace("{root}", &self.root)
    }

    /// The layout; an error that says what cannot be done without one.
    pub fn layout_for(&self, what: &str) -> Result<Arc<Layout>> {
        self.layout.clone().ok_or_else(|| {
            Error::request(
                format!("{what}: edition {} ({}) has no layout that is known", self.number, self.name()),
                "describe its layout in a TOML file and name it in `layouts`; `neatstack schema layout --example` prints the built-in one",
            )
        })
    }

    /// Name of the edition.
    pub fn name(&self) -> &str {
        if self.info.name.is_empty() { &self.info.display_name } else { &self.info.name }
    }

    /// Architecture of the edition.
    pub fn architecture(&self) -> Option<Architecture> {
        self.info.system.as_ref().and_then(|system| Architecture::of_word(&system.architecture))
    }

    /// Version of the system in it.
    pub fn version(&self) -> Option<Version> {
        let numbers = self.version.or(self.info.system.as_ref()?.version)?;
        Version::parse(&numbers.map(|number| number.to_string()).join("."))
    }

    /// Languages of the edition.
    pub fn languages(&self) -> Vec<String> {
        let mut all = self.info.system.as_ref().map(|system| system.languages.clone()).unwrap_or_default();
        all.extend(self.languages.iter().cloned());
        all
    }

    /// Says that the system has another version now.
    pub fn set_version(&mut self, version: &Version) {
        let mut numbers = [0; 4];
        for (number, new) in numbers.iter_mut().zip(&version.0) {
            *number = *new;
        }
        self.version = Some(numbers);
        self.is_changed = true;
    }

    /// Says that the edition has another language.
    pub fn add_language(&mut self, language: &str) {
        if !self.languages().iter().any(|own| own.eq_ignore_ascii_case(language)) {
            self.languages.push(language.to_owned());
            self.is_changed = true;
        }
    }

    /// Content of a file, lazily.
    pub fn content(&self, id: EntryId) -> Result<Content> {
        let entry = self.files.entry(id);
        let digest = entry.content();
        if let Some(content) = self.new_blobs.get(&digest) {
            return Ok(content.clone());
        }
        self.contents.0.content(digest, &format!("edition {}, /{}", self.number, self.files.path(id)))
    }

    /// Bytes of a file's content.
    pub fn len_of(&self, digest: BlobDigest) -> u64 {
        self.new_blobs.get(&digest).map_or_else(|| self.contents.0.blob_len(digest), Content::len)
    }

    /// Bytes that content takes in the image file.
    pub fn packed_len(&self, digest: BlobDigest) -> u64 {
        self.new_blobs.get(&digest).map_or_else(|| self.contents.0.packed_len(digest), Content::len)
    }

    /// Small content of the file at a path; nothing if there is no such file.
    pub fn read(&self, path: &str, limit: u64, what: &str) -> Result<Option<Vec<u8>>> {
        let Some(id) = self.files.find(path).filter(|id| !self.files.entry(*id).is_folder()) else {
            return Ok(None);
        };
        self.content(id)?.to_vec(limit, what).map(Some)
    }

    /// A hive, if the edition has it and it was read: those of components, accounts and security are read when they are
    /// changed.
    pub fn hive(&self, role: HiveRole) -> Option<&Hive> {
        self.hives.get(&role).map(|loaded| &loaded.hive)
    }

    /// A hive, to be changed.
    pub fn hive_mut(&mut self, role: HiveRole) -> Result<&mut Hive> {
        if let Some(id) = self.waiting.remove(&role) {
            self.load_hives(&[(role, id)])?;
        }
        let missing = || {
            Error::request(
                format!("edition {} ({}) has no hive {}", self.number, self.name(), role.root()),
                "its files may lie elsewhere: name a layout that says where",
            )
        };
        if !self.hives.contains_key(&role) {
            return Err(missing());
        }
        self.hives
            .get_mut(&role)
            .map(|loaded| &mut loaded.hive)
            .ok_or_else(|| Error::internal("a hive that was read is gone"))
    }

    /// The hives, by role, with their paths.
    pub fn hives(&self) -> impl Iterator<Item = (HiveRole, &str, &Hive)> {
        self.hives.iter().map(|(role, loaded)| (*role, loaded.path.as_str(), &loaded.hive))
    }

    /// Hive and path in it that a path of registration text means in this edition.
    pub fn locate(&self, path: &str) -> Result<(HiveRole, String)> {
        let (role, path) = locate(path)?;
        let path = self.hive(role).map_or_else(|| path.clone(), |hive| hive.with_control_set(&path));
        Ok((role, path))
    }

    /// A path of a hive with the control set that is in use.
    pub fn in_hive(&self, role: HiveRole, path: &str) -> String {
        self.hive(role).map_or_else(|| path.to_owned(), |hive| hive.with_control_set(path))
    }

    /// Makes the folder at a path and those above it; each gets owner and security of the folder it is in.
    pub fn make_folder(&mut self, path: &str) -> Result<EntryId> {
        let mut at = Files::ROOT;
        for name in path.split(['/', '\\']).filter(|part| !part.is_empty()) {
            at = match self.files.child(at, name) {
                Some(id) if self.files.entry(id).is_folder() => id,
                Some(id) => {
                    return Err(Error::request(
                        format!("/{} is a file, and a folder is wanted there", self.files.path(id)),
                        "use another path",
                    ));
                }
                None => {
                    self.check_new_name(name)?;
                    let mut folder = Entry::folder(name, self.times);
                    folder.security = self.files.entry(at).security;
                    self.is_changed = true;
                    self.files.add(at, folder)?
                }
            };
        }
        Ok(at)
    }

    fn check_new_name(&self, name: &str) -> Result<()> {
        let bad_sign = |c: char| c.is_control() || "<>:\"|?*\\".contains(c);
        if check_name(name).is_err()
            || name.contains(bad_sign)
            || name.ends_with(['.', ' '])
            || name.encode_utf16().count() > 255
        {
            return Err(Error::request(
                format!("{name:?} is no name that edition {} can hold", self.number),
                "leave out < > : \" | ? * \\, control characters, and dots or spaces at the end",
            ));
        }
        Ok(())
    }

    /// Puts a file at a path: a new one gets owner and security of its folder, one that is there keeps its own.
    pub fn put(
        &mut self,
        path: &str,
        content: &Content,
        digest: BlobDigest,
        times: Option<Times>,
    ) -> Result<EntryId> {
        let (folder, name) = path.rsplit_once(['/', '\\']).unwrap_or(("", path));
        let parent = self.make_folder(folder)?;
        if content.is_empty() {
            // Empty content has no blob.
            return self.put_entry(parent, name, BlobDigest::NONE, times);
        }
        self.new_blobs.entry(digest).or_insert_with(|| content.clone());
        self.put_entry(parent, name, digest, times)
    }

    fn put_entry(
        &mut self,
        parent: EntryId,
        name: &str,
        digest: BlobDigest,
        times: Option<Times>,
    ) -> Result<EntryId> {
        let times = times.unwrap_or(self.times);
        self.is_changed = true;
        if let Some(id) = self.files.child(parent, name) {
            let entry = self.files.entry_mut(id);
            if entry.is_folder() || entry.is_reparse() {
                return Err(Error::request(
                    format!("/{} is a folder or a link, and a file is to be put there", self.files.path(id)),
                    "use another path",
                ));
            }
            // The other names of a group of hard links keep the old content.
            entry.set_hard_link(0);
            entry.set_content(digest);
            entry.times.written = times.written;
            return Ok(id);
        }
        self.check_new_name(name)?;
        let mut entry = Entry::file(name, ATTRIBUTE_ARCHIVE, times, digest);
        entry.security = self.files.entry(parent).security;
        self.files.add(parent, entry)
    }

    /// Puts small bytes at a path.
    pub fn put_bytes(&mut self, path: &str, bytes: Vec<u8>) -> Result<EntryId> {
        let digest = BlobDigest::of(&bytes);
        self.put(path, &Content::from_bytes(bytes), digest, None)
    }

    /// Takes a file, or a folder and all below it, out.
    pub fn remove(&mut self, id: EntryId) {
        self.files.remove(id);
        self.is_changed = true;
    }

    /// Lets go of hives whose files were taken out, so that they do not come back.
    pub(crate) fn forget_gone_hives(&mut self) {
        let Self { files, hives, waiting, .. } = self;
        hives.retain(|_, loaded| files.find(&loaded.path).is_some());
        waiting.retain(|_, id| files.find(&files.path(*id)) == Some(*id));
    }

    /// Puts the edition back into a draft, with its changed hives and its record. They wait in `hold` until they are
    /// written, so that many editions take no more memory than one.
    pub fn store(mut self, draft: &mut ImageDraft, hold: &Hold) -> Result<bool> {
        let hives = std::mem::take(&mut self.hives).into_values().filter(|loaded| loaded.hive.is_edited());
        let hives: Vec<LoadedHive> = hives.collect();
        let written: Vec<_> = hives.into_par_iter().map(|loaded| loaded.write(hold)).collect();
        for written in written {
            let (path, content, digest) = written?;
            self.put(&path, &content, digest, None)?;
        }
        if !self.is_changed {
            return Ok(false);
        }
        if let (Some(path), false) = (self.record_path(), self.record.is_empty()) {
            let text = self.record.to_text()?;
            self.put_bytes(&path, text.into_bytes())?;
        }
        for (digest, content) in self.new_blobs {
            draft.add_blob(digest, content);
        }
        draft.settle(self.number, self.files, hold)?;
        if let Some(version) = self.version {
            draft.set_version(self.number, version);
        }
        for language in &self.languages {
            draft.add_language(self.number, language);
        }
        Ok(true)
    }
}
