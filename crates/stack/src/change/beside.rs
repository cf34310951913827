//! `[[beside]]`: setups of other media on the same one, each where its own files find each other.

use super::{Editor, answers};
use crate::{
    editions::{INSTALL_STEM, install_image_path, open_image, part_paths, setup_image_path},
    recipe::{BesideSection, StackFile, SystemsValue},
    report::Weight,
};
use neat_answer::{Site, model::Ask};
use neat_content::{Content, DigestKind, Error, Job, Meta, NodeKind, Result, Tree, counted, digest_of};
use neat_image::{ImageDraft, ImageFile};
use neat_media::{BootEntry, BootImage, Media, Platform, read};
use neat_older::OlderSetup;
use std::collections::{BTreeSet, HashMap, HashSet};

/// Folders and files of a media's root that only start it; what starts this media is its own.
const STARTS: [&str; 2] = ["boot/", "efi/"];
const MANAGERS: &str = "bootmgr";
/// By which contents are told to be the same.
const KIND: DigestKind = DigestKind::Sha256;

/// A setup that comes beside.
#[derive(Clone)]
pub(crate) struct Beside<'a> {
    pub section: &'a BesideSection,
    /// Its folder on the media; of the older generation the one that it has.
    pub folder: String,
    media: Media,
    /// Setups of the generation before image files.
    older: Vec<OlderSetup>,
    /// The image file with its systems, and which of them are taken.
    systems: Option<(ImageFile, Vec<usize>)>,
    /// Its architecture; empty where nothing says it.
    architecture: String,
}

/// Opens the media that `[[beside]]` names.
pub(crate) fn open<'a>(stack: &'a StackFile, editor: &Editor) -> Result<Vec<Beside<'a>>> {
    if !stack.beside.is_empty() && stack.source.as_ref().is_none_or(|own| own.only.is_some()) {
        return Err(Error::request(
            "[[beside]] is there, and [source] has no setup with its systems that it could be beside",
            "name the media that starts in [source], without `only`",
        ));
    }
    let mut found: Vec<Beside<'_>> = Vec::new();
    for section in &stack.beside {
        let own = Beside::open(section, editor).map_err(|error| error.within(&section.media))?;
        if let Some(other) = found.iter().find(|other| other.folder.eq_ignore_ascii_case(&own.folder)) {
            return Err(Error::request(
                format!("{} and {} would both lie in {}", other.section.media, section.media, own.folder),
                "give each its own `folder`",
            ));
        }
        if editor.tree.find_ignoring_case(&own.folder).is_some() {
            return Err(Error::request(
                format!("{}: the media has a folder {} already", section.media, own.folder),
                "write another `folder`; setups of the generation before image files cannot move",
            ));
        }
        found.push(own);
    }
    Ok(found)
}

impl<'a> Beside<'a> {
    fn open(section: &'a BesideSection, editor: &Editor) -> Result<Self> {
        let media = read::open(&editor.local(&section.media))?;
        let older = OlderSetup::find(&media.tree)?;
        let image = install_image_path(&media.tree).map(|path| open_image(&media.tree, &path)).transpose()?;
        if older.is_empty() && image.is_none() && setup_image_path(&media.tree).is_none() {
            return Err(Error::request(
                "it has no setup: neither image files in `sources`, nor a folder with files of the generation before",
                "name a media that setup is started from",
            ));
        }
        let mut architecture = older.first().map(|own| own.architecture.clone()).unwrap_or_default();
        let mut systems = None;
        if let Some(image) = image {
            let numbers = match section.editions.as_slice() {
                [] => (1..=image.editions().len()).collect(),
                wanted => wanted.iter().map(|own| image.find_edition(own)).collect::<Result<Vec<usize>>>()?,
            };
            let system = image.editions().iter().find_map(|info| info.system.as_ref());
            architecture = system.map(|own| own.architecture.clone()).unwrap_or(architecture);
            systems = Some((image, numbers));
        }
        let folder = match (older.first(), &section.folder) {
            (Some(own), None) => own.folder.clone(),
            (Some(own), Some(folder)) if folder.eq_ignore_ascii_case(&own.folder) => own.folder.clone(),
            (Some(own), Some(_)) => {
                return Err(Error::request(
                    format!("its setup looks for its files in {}", own.folder),
                    "take `folder` out",
                ));
            }
            (None, Some(folder)) => folder.clone(),
            (None, None) if architecture.is_empty() => {
                return Err(Error::request("nothing says its architecture", "write `folder`"));
            }
            (None, None) => architecture.clone(),
        };
        let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_');
        if folder.is_empty() || folder.len() > 30 || !folder.chars().all(is_plain) {
            return Err(Error::request(
                format!("{folder:?} is no name for its folder"),
                "write letters, digits, `-` and `_`",
            ));
        }
        Ok(Self { section, folder, media, older, systems, architecture })
    }

    /// Whether only its owner may read it.
    pub(crate) fn is_private(&self) -> bool {
        self.media.private
    }

    /// Its systems, where they go into the media's own image file.
    pub(crate) fn merged(&self) -> Option<(&ImageFile, &[usize])> {
        let systems = self.systems.as_ref().filter(|_| self.section.systems == SystemsValue::Merged);
        systems.map(|(image, numbers)| (image, numbers.as_slice()))
    }

    /// What tells its editions from others of the same name.
    pub(crate) fn mark(&self) -> &str {
        if self.architecture.is_empty() { &self.folder } else { &self.architecture }
    }

    /// The image file of its setup environment.
    pub(crate) fn environment(&self) -> Option<(Content, Meta, &str)> {
        let path = setup_image_path(&self.media.tree)?;
        let node = self.media.tree.node(self.media.tree.find(&path)?);
        Some((node.content()?.clone(), node.meta, &self.architecture))
    }

    /// What BIOS starts of it, with the path that its image has on this media.
    pub(crate) fn boot_entry(&self, editor: &mut Editor) -> Result<Option<BootEntry>> {
        boot_entry(self.media.boot.as_ref().map_or(&[], |own| &own.entries), &self.folder, editor)
    }

    /// Files that are not taken: what only starts that media, and systems that go elsewhere.
    fn left_out(&self) -> Result<BTreeSet<String>> {
        let tree = &self.media.tree;
        let mut paths = BTreeSet::new();
        if !self.older.is_empty() {
            return Ok(paths);
        }
        if let Some(path) = install_image_path(tree)
            && (self.merged().is_some() || !self.section.editions.is_empty())
        {
            paths.extend(part_paths(tree, &path)?);
        }
        // An entry of the boot manager starts it from beside the media's own.
        paths.extend(setup_image_path(tree).filter(|_| self.section.title.is_some()));
        let starts = |path: &str| {
            let lower = path.to_lowercase();
            STARTS.iter().any(|own| lower.starts_with(own))
                || !lower.contains('/') && lower.starts_with(MANAGERS)
        };
        paths.extend(tree.walk().map(|step| step.path).filter(|path| starts(path)));
        for entry in self.media.boot.iter().flat_map(|own| &own.entries) {
            if let BootImage::File(path) = &entry.image {
                paths.insert(path.clone());
            }
        }
        Ok(paths)
    }
}

/// What BIOS starts of a media, with its image at a path on this one.
pub(crate) fn boot_entry(
    entries: &[BootEntry],
    folder: &str,
    editor: &mut Editor,
) -> Result<Option<BootEntry>> {
    let Some(entry) = entries.iter().find(|own| own.platform == Platform::BIOS) else { return Ok(None) };
    let image = match &entry.image {
        BootImage::File(path) if editor.tree.find_ignoring_case(path).is_some() => {
            BootImage::File(path.clone())
        }
        BootImage::Hidden(content) => {
            let path = format!("systems/{}/boot.img", folder.to_ascii_lowercase());
            editor.put_made(&path, content.clone(), true, "a boot image that the menu starts")?;
            BootImage::File(path)
        }
        BootImage::File(_) => return Ok(None),
    };
    Ok(Some(BootEntry { image, location: None, ..entry.clone() }))
}

/// Puts the files of other setups onto the media.
pub(crate) fn place(besides: &[Beside<'_>], editor: &mut Editor, job: &Job<'_>) -> Result<()> {
    for own in besides {
        let mut known = Known::of(&editor.tree);
        let mut count = Count::default();
        let left_out = own.left_out()?;
        let tree = &own.media.tree;
        let front = if own.older.is_empty() { format!("{}/", own.folder) } else { String::new() };
        for step in tree.walk() {
            job.check()?;
            let node = tree.node(step.id);
            let Some(content) = node.content().filter(|_| !left_out.contains(&step.path)) else { continue };
            put(
                own,
                &format!("{front}{}", step.path),
                content,
                node.meta,
                &mut known,
                &mut count,
                editor,
                job,
            )?;
        }
        if own.section.systems == SystemsValue::Own && !own.section.editions.is_empty() {
            put_own_systems(own, &mut count, editor, job)?;
        }
        count.tell(own, editor);
    }
    Ok(())
}

/// How much came, and how much of it was there.
#[derive(Default)]
struct Count {
    files: u64,
    bytes: u64,
    shared: u64,
    passed_over: Vec<String>,
}

impl Count {
    fn tell(&self, own: &Beside<'_>, editor: &mut Editor) {
        let files = counted(self.files, "file", "files");
        let shared = counted(self.shared, "byte", "bytes");
        let reason =
            format!("its setup, where it finds its files; {shared} of them are on the media already");
        let subject = format!("{files} of {} in media:/{}", own.section.media, own.folder);
        editor.step("put", subject, &reason, (self.bytes - self.shared) as i64);
        if !self.passed_over.is_empty() {
            let message = format!(
                "{} of {} in the root stay out, as the media has others of these names: {}",
                counted(self.passed_over.len() as u64, "file", "files"),
                own.section.media,
                self.passed_over.join(", ")
            );
            editor.find(Weight::Note, message, "");
        }
    }
}

/// Contents that are on the media, by their lengths: what has a length of its own is nothing else.
struct Known {
    by_len: HashMap<u64, SameLen>,
}

/// Contents of one length, and their digests once somebody asked.
#[derive(Default)]
struct SameLen {
    contents: Vec<Content>,
    digests: Option<HashSet<String>>,
}

impl Known {
    fn of(tree: &Tree) -> Self {
        let mut by_len: HashMap<u64, SameLen> = HashMap::new();
        for step in tree.walk() {
            if let Some(content) = tree.node(step.id).content().filter(|own| !own.is_empty()) {
                by_len.entry(content.len()).or_default().contents.push(content.clone());
            }
        }
        Self { by_len }
    }

    fn has(&mut self, content: &Content, job: &Job<'_>) -> Result<bool> {
        let Some(same) = self.by_len.get_mut(&content.len()) else { return Ok(false) };
        let digests = match &mut same.digests {
            Some(digests) => digests,
            none => {
                none.insert(same.contents.iter().map(|own| digest_of(own, KIND, job)).collect::<Result<_>>()?)
            }
        };
        Ok(digests.contains(&digest_of(content, KIND, job)?))
    }
}

#[expect(clippy::too_many_arguments, reason = "one file, with all that is counted")]
fn put(
    own: &Beside<'_>,
    path: &str,
    content: &Content,
    meta: Meta,
    known: &mut Known,
    count: &mut Count,
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<()> {
    if let Some(id) = editor.tree.find_ignoring_case(path) {
        let is_same = match &editor.tree.node(id).kind {
            NodeKind::File(there) => {
                there.len() == content.len() && digest_of(there, KIND, job)? == digest_of(content, KIND, job)?
            }
            _ => false,
        };
        // In the folder of a setup it matters; others in the root only tell of their media.
        let is_in_folder = path.to_lowercase().starts_with(&format!("{}/", own.folder.to_lowercase()));
        if !is_same && is_in_folder {
            editor.find(
                Weight::Refused,
                format!(
                    "media:/{path} is there already, with other bytes, and {} brings one",
                    own.section.media
                ),
                "give the setup another `folder`",
            );
        } else if !is_same {
            count.passed_over.push(path.to_owned());
        }
        return Ok(());
    }
    count.files += 1;
    count.bytes += content.len();
    if known.has(content, job)? {
        count.shared += content.len();
    }
    let meta = editor.meta(meta);
    editor.tree.put_file(path, content.clone(), meta)?;
    Ok(())
}

/// An image file with the editions that are taken, in the setup's own folder.
fn put_own_systems(own: &Beside<'_>, count: &mut Count, editor: &mut Editor, job: &Job<'_>) -> Result<()> {
    let Some((image, numbers)) = &own.systems else { return Ok(()) };
    let mut draft = ImageDraft::of(image);
    draft.select(numbers)?;
    let content = draft.to_content(&std::env::temp_dir(), 0, job)?;
    let path = format!("{}/{INSTALL_STEM}.wim", own.folder);
    count.files += 1;
    count.bytes += content.len();
    let meta = Meta::at(editor.newest());
    editor.tree.put_file(&path, content, meta)?;
    Ok(())
}

/// The answers of other setups, each where its own setup looks.
pub(crate) fn answer(
    besides: &[Beside<'_>],
    site: Option<&Site>,
    ask: Option<Ask<'_>>,
    editor: &mut Editor,
) -> Result<()> {
    for own in besides {
        let Some(file) = &own.section.answer else { continue };
        let given = answers::open(&editor.local(file), file, &own.section.accept)?;
        let folders: Vec<&OlderSetup> = own.older.iter().collect();
        if folders.is_empty() {
            answers::put_for_architecture(given, &own.architecture, (site, ask), editor)?;
        } else {
            answers::put_for_setups(&given, &folders, (site, ask), editor)?;
        }
    }
    Ok(())
}
