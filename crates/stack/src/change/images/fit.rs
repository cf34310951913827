//! Image files that are larger than a file system holds.

use super::take_out;
use crate::{change::Editor, editions::install_image_path, report::Weight};
use neat_content::{Content, Error, Job, Meta, NodeKind, ReadAt, Result, Tree};
use neat_image::{FAT32_LIMIT, ImageFile, part_name, split};

/// Largest file that FAT32 holds, in bytes.
const FAT32_LARGEST_FILE: u64 = (4 << 30) - 1;

/// Puts an image file into the tree, in parts if it is larger than `limit`; returns their number.
pub(super) fn put_limited(
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
pub(super) fn check_limit(limit: Option<u64>, editor: &mut Editor) {
    if limit.is_none() {
        return;
    }
    let image = install_image_path(&editor.tree).unwrap_or_default();
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
