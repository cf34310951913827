//! Image files on a media: where they are, and which editions they hold.

use crate::report::{EditionInside, EditionSummary};
use neat_content::{Advice, Error, Job, Result, Tree};
use neat_image::{
    Compression, Header, ImageDraft, ImageFile, Level, Method, Times, is_image_file, sibling_names, usage,
};
use neat_service::{Category, Edition, Inventory, Layout};
use std::sync::Arc;

/// Where media keep the image file that holds the systems, without its ending.
pub(crate) const INSTALL_STEM: &str = "sources/install";
/// Endings of that file: ordinary, solid, first of several parts.
const INSTALL_ENDINGS: [&str; 3] = ["wim", "esd", "swm"];
/// Where media keep the setup environment.
const SETUP_PATH: &str = "sources/boot.wim";

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
pub(crate) fn part_paths(tree: &Tree, path: &str) -> Result<Vec<String>> {
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

/// All editions of an image file.
pub fn edition_summaries(image: &ImageFile) -> Result<Vec<EditionSummary>> {
    let usages = usage(image)?;
    let editions = image.editions().iter().enumerate().zip(usages);
    Ok(editions.map(|((n, info), usage)| EditionSummary::new(n + 1, info, Some(usage.only_here))).collect())
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
            for id in Inventory::unweighed(&edition, &[])?.components.keys() {
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
