//! Image files on a media: where they are, and what the stack file does to the one that holds the systems.

use crate::{
    edit::Editor,
    file::{CompressionValue, FileLimitValue, StackFile},
    plan::Weight,
    servicing::{self, EditionWork},
};
use neat_content::{Advice, Content, Error, Job, Meta, NodeKind, ReadAt, Result, Tree};
use neat_image::{
    Compression, EditionInfo, FAT32_LIMIT, Header, ImageDraft, ImageFile, Level, Method, Times,
    is_image_file, open_path, part_name, sibling_names, split, usage,
};
use neat_media::read;
use neat_service::{Category, Edition, EditionRecord, Inventory, Layout};
use serde::Serialize;
use std::{collections::BTreeMap, path::Path, sync::Arc};

/// Where media keep the image file that holds the systems, without its ending.
const INSTALL_STEM: &str = "sources/install";
/// Endings of that file: ordinary, solid, first of several parts.
const INSTALL_ENDINGS: [&str; 3] = ["wim", "esd", "swm"];
/// Where media keep the setup environment.
const SETUP_PATH: &str = "sources/boot.wim";
/// New content up to this many bytes is compressed while planning, so that the plan's sizes are exact.
const PACKED_WHEN_PLANNED: u64 = 16 << 20;
/// Largest file that FAT32 holds, in bytes.
const FAT32_LARGEST_FILE: u64 = (4 << 30) - 1;

/// The image file of a media that holds the systems to install, by its path; of a split one the first part.
pub fn install_image_path(tree: &Tree) -> Option<String> {
    let mut endings = INSTALL_ENDINGS.iter().map(|ending| format!("{INSTALL_STEM}.{ending}"));
    endings.find_map(|path| image_at(tree, &path))
}

/// The image file of a media that holds the setup environment.
pub fn setup_image_path(tree: &Tree) -> Option<String> {
    image_at(tree, SETUP_PATH)
}

fn image_at(tree: &Tree, path: &str) -> Option<String> {
    let id = tree.find_ignoring_case(path)?;
    tree.node(id).content().filter(|content| is_image_file(content))?;
    Some(tree.path(id))
}

/// The paths of all parts of the image file that `path` is, or is a part of.
fn part_paths(tree: &Tree, path: &str) -> Result<Vec<String>> {
    let missing = || {
        Error::request(format!("there is no {path} on the media"), "list its files with `neatstack files`")
    };
    let id = tree.find_ignoring_case(path).ok_or_else(missing)?;
    let node = tree.node(id);
    let content = node.content().ok_or_else(missing)?;
    let header = Header::read(content).map_err(|error| error.within(path))?;
    if header.parts < 2 {
        return Ok(vec![tree.path(id)]);
    }
    let folder = tree.node(node.parent()).folder();
    let siblings: Vec<_> = folder.into_iter().flat_map(neat_content::Folder::children).collect();
    let names = sibling_names(node.name(), siblings.iter().map(|id| tree.node(*id).name()));
    let is_part = |name: &&str| {
        let content = tree.child(node.parent(), name).and_then(|id| tree.node(id).content());
        content.is_some_and(|content| {
            Header::read(content).is_ok_and(|other| other.guid == header.guid && other.parts == header.parts)
        })
    };
    let folder = tree.path(node.parent());
    let full = |name: &str| if folder.is_empty() { name.to_owned() } else { format!("{folder}/{name}") };
    Ok(names.into_iter().filter(is_part).map(full).collect())
}

/// Opens the image file at `path` of a tree, with its other parts.
pub fn open_image(tree: &Tree, path: &str) -> Result<ImageFile> {
    let paths = part_paths(tree, path)?;
    let parts = paths.into_iter().filter_map(|path| {
        let content = tree.file(&path)?.clone();
        Some((path, content))
    });
    ImageFile::open_parts(parts.collect())
}

/// An edition and what the plan knows of it.
#[derive(Clone, Debug, Serialize)]
pub struct EditionSummary {
    /// Number in the source.
    pub number: usize,
    /// Name, unique in the file.
    pub name: String,
    /// The name that setup shows, where it is another.
    pub display_name: String,
    /// Description.
    pub description: String,
    /// Architecture: `x86`, `x64`, `arm64`.
    pub architecture: String,
    /// Version of the system, with the build.
    pub version: String,
    /// Which edition of the product, in one word.
    pub edition: String,
    /// Languages.
    pub languages: Vec<String>,
    /// Files.
    pub files: u64,
    /// Bytes of the files before compression.
    pub bytes: u64,
    /// Bytes in the image file that only this edition uses: what dropping it saves. Nothing when the trees were too
    /// large to read them all for a quick look.
    pub only_here: Option<u64>,
    /// Whether it is on the finished media.
    pub kept: bool,
}

impl EditionSummary {
    /// What the XML data says of an edition.
    pub fn new(number: usize, info: &EditionInfo, only_here: Option<u64>) -> Self {
        let system = info.system.clone().unwrap_or_default();
        Self {
            number,
            name: if info.name.is_empty() { info.display_name.clone() } else { info.name.clone() },
            display_name: info.display_name.clone(),
            description: info.description.clone(),
            architecture: system.architecture.clone(),
            version: system.version_text(),
            edition: system.edition,
            languages: system.languages,
            files: info.files.unwrap_or(0),
            bytes: info.bytes.unwrap_or(0),
            only_here,
            kept: true,
        }
    }
}

impl EditionSummary {
    /// Takes over what servicing changed.
    fn update(&mut self, info: &EditionInfo) {
        if let Some(system) = &info.system {
            self.version = system.version_text();
            self.languages.clone_from(&system.languages);
        }
    }
}

/// All editions of an image file.
pub fn edition_summaries(image: &ImageFile) -> Result<Vec<EditionSummary>> {
    let usages = usage(image)?;
    let editions = image.editions().iter().enumerate().zip(usages);
    Ok(editions.map(|((n, info), usage)| EditionSummary::new(n + 1, info, Some(usage.only_here))).collect())
}

/// What is inside an edition, in short.
#[derive(Clone, Debug, Default, Serialize)]
pub struct EditionInside {
    /// Number of components of each category, by its word.
    pub components: BTreeMap<&'static str, usize>,
    /// What earlier builds did.
    pub integrated: EditionRecord,
    /// What could not be read.
    pub notes: Vec<String>,
}

/// What is inside each edition, for a quick look: nothing where the trees are large.
pub fn edition_insides(image: &ImageFile) -> Result<Vec<EditionInside>> {
    if !is_quick(image)? {
        return Ok(Vec::new());
    }
    let draft = Arc::new(ImageDraft::of(image));
    let layouts = [Arc::new(Layout::common()?)];
    let inside = |number: usize| -> Result<EditionInside> {
        let edition = Edition::open(&draft, number, &layouts, Times::default())?;
        let mut inside = EditionInside { integrated: edition.record.clone(), ..EditionInside::default() };
        if edition.layout.is_some() {
            for id in Inventory::of(&edition, &[], &[])?.components.keys() {
                *inside.components.entry(Category::of_id(id).word()).or_default() += 1;
            }
        }
        Ok(inside)
    };
    // A damaged hive is no reason to say nothing of the rest.
    let or_note = |result: Result<EditionInside>| {
        result.unwrap_or_else(|error| EditionInside {
            notes: vec![error.to_string()],
            ..EditionInside::default()
        })
    };
    Ok((1..=image.editions().len()).map(|number| or_note(inside(number))).collect())
}

/// Whether all trees are read within a few hundredths of a second.
fn is_quick(image: &ImageFile) -> Result<bool> {
    const QUICK: u64 = 8 << 20;
    let mut trees_len = 0;
    for number in 1..=image.editions().len() {
        trees_len += image.metadata(number)?.1.raw_len;
    }
    Ok(trees_len <= QUICK)
}

/// The same for a quick look: what each takes alone is told only where the trees are small.
pub fn edition_summaries_quickly(image: &ImageFile) -> Result<Vec<EditionSummary>> {
    if is_quick(image)? {
        return edition_summaries(image);
    }
    Ok(image.editions().iter().enumerate().map(|(n, info)| EditionSummary::new(n + 1, info, None)).collect())
}

/// The compression that a stack file or a command asks for, for an image file that is compressed as `now`.
pub fn compression_for(level: Level, now: Option<(Method, u32)>) -> Compression {
    // Setup environments read LZX with 32 KiB everywhere; a file that has something else keeps it.
    match now {
        Some((method @ (Method::Lzx | Method::Xpress), chunk_len)) => {
            Compression { method, chunk_len, level }
        }
        _ => Compression { method: Method::Lzx, chunk_len: 32 << 10, level },
    }
}

/// An image file that can only be finished when the media is built, because it must be compressed.
pub(crate) struct PendingImage {
    draft: ImageDraft,
    /// Where it goes on the media.
    pub path: String,
    meta: Meta,
    limit: Option<u64>,
}

impl PendingImage {
    /// Compresses it and puts it into the tree.
    pub(crate) fn finish(self, tree: &mut Tree, spool: &Path, threads: usize, job: &Job<'_>) -> Result<()> {
        let content = self.draft.to_content(spool, threads, job)?;
        if let Some(id) = tree.find_ignoring_case(&self.path) {
            tree.remove(id);
        }
        put_limited(tree, &self.path, content, self.meta, self.limit, job).map(drop)
    }
}

/// Unpacks and digests everything in the image files of a media.
///
/// # Errors
/// `Mismatch` for what is damaged, naming a file that it hits.
pub(crate) fn verify(tree: &Tree, threads: usize, job: &Job<'_>) -> Result<()> {
    for path in [install_image_path(tree), setup_image_path(tree)].into_iter().flatten() {
        let outcome = neat_image::check(&open_image(tree, &path)?, threads, job)?;
        if let Some(damage) = outcome.damage.first() {
            let hit = damage.hits.first().map(|(edition, own)| format!(" of edition {edition}, /{own}"));
            return Err(Error::mismatch(
                format!("{} sound contents in {path}", outcome.blobs),
                format!("{} damaged{}: {}", outcome.damage.len(), hit.unwrap_or_default(), damage.what),
                Advice::CheckAll,
            ));
        }
    }
    Ok(())
}

/// What was done with the image file.
pub(crate) struct ImageOutcome {
    pub editions: Vec<EditionSummary>,
    pub work: Vec<EditionWork>,
    pub pending: Option<PendingImage>,
}

/// `source.editions`, `source.image_from`, `media.compression` and `media.file_limit`.
pub(crate) fn apply(stack: &StackFile, editor: &mut Editor, job: &Job<'_>) -> Result<ImageOutcome> {
    let section = stack.source.as_ref();
    let wanted = section.map_or(&[][..], |section| &section.editions);
    let image_from = section.and_then(|section| section.image_from.as_deref());
    let limit = matches!(stack.media.file_limit, Some(FileLimitValue::Fat32)).then_some(FAT32_LIMIT);
    let services = servicing::is_asked(stack);
    let asks = !wanted.is_empty() || image_from.is_some() || stack.media.compression.is_some() || services;
    let own_path = install_image_path(&editor.tree);
    let Some(found) = find_image(image_from, own_path.as_deref(), editor)? else {
        if asks {
            return Err(Error::request(
                "the media has no image file with systems (sources/install.wim, .esd or .swm)",
                "take out `editions`, `image_from`, `compression` and what changes editions, or name the media that has one",
            ));
        }
        check_limit(limit, editor);
        return Ok(ImageOutcome { editions: Vec::new(), work: Vec::new(), pending: None });
    };
    // Reading all trees takes a while where they are large, and only a choice needs what it tells.
    let mut editions =
        if asks { edition_summaries(&found.image)? } else { edition_summaries_quickly(&found.image)? };
    for warning in found.image.warnings() {
        editor.find(Weight::Note, warning.clone(), "");
    }
    if !asks && (limit.is_none() || found.image.parts().iter().all(|part| part.content.len() <= FAT32_LIMIT))
    {
        check_limit(limit, editor);
        return Ok(ImageOutcome { editions, work: Vec::new(), pending: None });
    }
    if let Some(part) = found.image.parts().iter().find(|part| part.header.is_unfinished()) {
        editor.find(
            Weight::Refused,
            format!("{} says that somebody was still writing to it", part.name),
            "use a copy whose writing was finished",
        );
    }
    let mut draft = ImageDraft::of(&found.image);
    let before = found.image.len();
    if !wanted.is_empty() {
        let numbers =
            wanted.iter().map(|wanted| found.image.find_edition(wanted)).collect::<Result<Vec<usize>>>()?;
        draft.select(&numbers)?;
        editions.iter_mut().for_each(|edition| edition.kept = numbers.contains(&edition.number));
    }
    let is_solid = found.image.solid_count() > 0;
    let level = match stack.media.compression {
        None if is_solid => Some(Some(Level::Fast)),
        None => None,
        Some(CompressionValue::None) => Some(None),
        Some(CompressionValue::Fast) => Some(Some(Level::Fast)),
        Some(CompressionValue::Max) => Some(Some(Level::Max)),
    };
    let now = found.image.header().compression;
    if let Some(level) = level {
        draft.repack(level.map(|level| compression_for(level, now)))?;
    }
    let target = target_path(own_path.as_deref());
    let meta = found.meta;
    take_out(&mut editor.tree, own_path.as_deref())?;
    let kept: Vec<&EditionSummary> = editions.iter().filter(|edition| edition.kept).collect();
    let names = kept.iter().map(|edition| edition.name.as_str()).collect::<Vec<_>>().join(", ");
    let chosen = format!("{} of {} editions: {names}", kept.len(), editions.len());
    if let Some(from) = image_from {
        editor.step(
            "take",
            format!("the systems of {from}"),
            "this media's setup installs that media's systems",
            0,
        );
    }
    if !wanted.is_empty() {
        let saved = estimated_len(&found.image, &editions) as i64 - before as i64;
        editor.step("keep", chosen, "first of all, so that no work goes into what is not wanted", saved);
    }
    let mut work = Vec::new();
    if services {
        (draft, work) = servicing::systems(stack, editor, draft, job)?;
        for info in draft.editions() {
            if let Some(edition) = editions.iter_mut().find(|edition| edition.name == info.name) {
                edition.update(&info);
            }
        }
    }
    let mut pending = None;
    let to_pack = draft.bytes_to_pack()?;
    if to_pack > PACKED_WHEN_PLANNED || to_pack > 0 && level.is_some_and(|level| level.is_some()) {
        // Its size is known when it is compressed; until then the media is planned with what it has now.
        let new = if level.is_none() { to_pack / 2 } else { 0 };
        let estimate = estimated_len(&found.image, &editions) + new;
        editor.tree.put_file(&target, Content::zeros(estimate), meta)?;
        pending = Some(PendingImage { draft, path: target.clone(), meta, limit });
        editor.find(
            Weight::Note,
            format!("the size of {target} is an estimate: it is compressed anew when the media is built"),
            "",
        );
    } else {
        let content = draft.to_content(&std::env::temp_dir(), 0, job)?;
        let parts = put_limited(&mut editor.tree, &target, content, meta, limit, job)?;
        if parts > 1 {
            editor.step(
                "split",
                format!("{target} into {parts} parts"),
                "no file may be larger than FAT32 holds",
                0,
            );
        }
    }
    match level {
        Some(Some(_)) if is_solid && stack.media.compression.is_none() => {
            editor.step(
                "repack",
                target,
                "the source is solid, and only an ordinary image file can be changed",
                0,
            );
        }
        Some(level) => {
            let word = match level {
                None => "none",
                Some(Level::Fast) => "fast",
                Some(Level::Max) => "max",
            };
            editor.step(
                "repack",
                format!("{target} with level {word}"),
                "the stack file asks for this compression",
                0,
            );
        }
        None => {}
    }
    check_limit(limit, editor);
    Ok(ImageOutcome { editions, work, pending })
}

struct FoundImage {
    image: ImageFile,
    meta: Meta,
}

/// The image file that the systems come from.
fn find_image(from: Option<&str>, own: Option<&str>, editor: &Editor) -> Result<Option<FoundImage>> {
    let Some(from) = from else {
        let Some(path) = own else { return Ok(None) };
        let image = open_image(&editor.tree, path)?;
        let meta = editor.tree.find(path).map(|id| editor.tree.node(id).meta);
        return Ok(Some(FoundImage { image, meta: meta.unwrap_or(Meta::at(editor.newest())) }));
    };
    let place = editor.local(from);
    if place.is_file() && is_image_file(&Content::from_path(&place)?) {
        let metadata = std::fs::metadata(&place).map_err(Error::io("examine", &place))?;
        let meta = Meta::at(neat_content::Timestamp::from_metadata(&metadata));
        return Ok(Some(FoundImage { image: open_path(&place)?, meta: editor.meta(meta) }));
    }
    let media = read::open(&place)?;
    let Some(path) = install_image_path(&media.tree) else {
        return Err(Error::request(
            format!("{from} has no image file with systems (sources/install.wim, .esd or .swm)"),
            "name a media or an image file that has the systems",
        ));
    };
    let image = open_image(&media.tree, &path).map_err(|error| error.within(from))?;
    let meta = media.tree.find(&path).map_or(Meta::at(editor.newest()), |id| media.tree.node(id).meta);
    Ok(Some(FoundImage { image, meta: editor.meta(meta) }))
}

/// An ordinary image file has the usual name, whatever the source's was.
fn target_path(own: Option<&str>) -> String {
    match own.and_then(|path| path.rsplit_once('.')) {
        Some((stem, ending)) if ending.eq_ignore_ascii_case("wim") => format!("{stem}.{ending}"),
        Some((stem, _)) => format!("{stem}.wim"),
        None => format!("{INSTALL_STEM}.wim"),
    }
}

fn take_out(tree: &mut Tree, path: Option<&str>) -> Result<()> {
    let Some(path) = path else { return Ok(()) };
    for path in part_paths(tree, path)? {
        if let Some(id) = tree.find(&path) {
            tree.remove(id);
        }
    }
    Ok(())
}

/// What the kept editions take now.
fn estimated_len(image: &ImageFile, editions: &[EditionSummary]) -> u64 {
    let dropped: u64 =
        editions.iter().filter(|edition| !edition.kept).filter_map(|edition| edition.only_here).sum();
    image.len().saturating_sub(dropped)
}

/// Puts an image file into the tree, in parts if it is larger than `limit`; returns their number.
fn put_limited(
    tree: &mut Tree,
    path: &str,
    content: Content,
    meta: Meta,
    limit: Option<u64>,
    job: &Job<'_>,
) -> Result<usize> {
    let Some(limit) = limit.filter(|limit| ReadAt::len(&content) > *limit) else {
        tree.put_file(path, content, meta)?;
        return Ok(1);
    };
    let image = ImageFile::open(path, content)?;
    let parts = split(&image, limit, job)?;
    let first = format!("{}.swm", path.rsplit_once('.').map_or(path, |(stem, _)| stem));
    let count = parts.len();
    for (n, part) in parts.into_iter().enumerate() {
        tree.put_file(&part_name(&first, n + 1), part, meta)?;
    }
    Ok(count)
}

/// Stands parts of the right size in the place of an image file at `path` whose bytes are not known yet.
pub(crate) fn fit_estimate(tree: &mut Tree, path: &str) -> Result<()> {
    let Some(id) = tree.find_ignoring_case(path) else { return Ok(()) };
    let len = tree.node(id).content().map_or(0, Content::len);
    if len <= FAT32_LARGEST_FILE {
        return Ok(());
    }
    let meta = tree.node(id).meta;
    tree.remove(id);
    let first = format!("{}.swm", path.rsplit_once('.').map_or(path, |(stem, _)| stem));
    for (number, start) in (0..len).step_by(FAT32_LIMIT as usize).enumerate() {
        let content = Content::zeros(FAT32_LIMIT.min(len - start));
        tree.put_file(&part_name(&first, number + 1), content, meta)?;
    }
    Ok(())
}

/// Splits the image file with the systems where FAT32 cannot hold it. Gives its path and the number of parts.
///
/// # Errors
/// `Request` for any other file that is too large.
pub(crate) fn fit_fat32(tree: &mut Tree, job: &Job<'_>) -> Result<Option<(String, usize)>> {
    let path = install_image_path(tree);
    let mut split = None;
    if let Some(path) = path
        && let Some(content) = tree.file(&path).filter(|content| content.len() > FAT32_LARGEST_FILE).cloned()
    {
        let meta = tree.find(&path).map_or(Meta::at(tree.newest()), |id| tree.node(id).meta);
        take_out(tree, Some(&path))?;
        let parts = put_limited(tree, &path, content, meta, Some(FAT32_LIMIT), job)
            .map_err(|error| error.within(&path))?;
        split = Some((path, parts));
    }
    let too_large = tree.walk().find_map(|step| {
        let content = tree.node(step.id).content()?;
        (content.len() > FAT32_LARGEST_FILE).then_some((step.path, content.len()))
    });
    if let Some((path, len)) = too_large {
        return Err(Error::request(
            format!(
                "{path} has {len} bytes: FAT32 holds files below 4 GiB, and only the image file with the systems can be split"
            ),
            "make it smaller, or leave it out",
        ));
    }
    Ok(split)
}

/// Other files than the image file cannot be split.
fn check_limit(limit: Option<u64>, editor: &mut Editor) {
    if limit.is_none() {
        return;
    }
    let image = target_path(install_image_path(&editor.tree).as_deref());
    let too_large: Vec<String> = editor
        .tree
        .walk()
        .filter(|step| match &editor.tree.node(step.id).kind {
            NodeKind::File(content) => content.len() > FAT32_LARGEST_FILE && step.path != image,
            _ => false,
        })
        .map(|step| step.path)
        .collect();
    for path in too_large {
        editor.find(
            Weight::Refused,
            format!("media:/{path} is larger than FAT32 holds, and only the image file with the systems can be split"),
            "make it smaller, leave it out, or take `file_limit` out of the stack file",
        );
    }
}
