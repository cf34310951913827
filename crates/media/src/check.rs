//! Reading everything of a media, to find what is damaged and which files that hits.

use crate::{BootImage, Limits, Media, MediaForm, TreeKind, disk, folder, iso9660, read, stick, udf};
use neat_content::{Content, Error, Event, Job, NodeKind, Result, Source, Tree, damage_apart};
use std::{path::Path, sync::Arc};

/// Bytes that are read at a time.
const BLOCK: usize = 1 << 20;

/// What reading everything came to.
#[derive(Debug)]
pub struct CheckOutcome {
    /// The media, as [`read::open`] gives it.
    pub media: Media,
    /// Files whose bytes were read.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
    /// What is damaged, each with its place; empty for a sound media.
    pub damage: Vec<String>,
}

/// Reads every tree, every boot image and every byte of every file of the media at `path`. What a file holds is not
/// looked into.
///
/// # Errors
/// What [`read::open`] cannot open at all, `Cancelled`; what else is damaged or unreadable is in the outcome.
pub fn check(path: &Path, job: &Job<'_>) -> Result<CheckOutcome> {
    let media = if path.is_dir() { folder::open(path)? } else { read::open(path)? };
    let mut damage = Vec::new();
    if !path.is_dir() {
        damage.extend(other_trees(&Source::open(path)?, &media)?);
    }
    let mut outcome = CheckOutcome { files: 0, bytes: 0, damage: Vec::new(), media };
    let tree = &outcome.media.tree;
    job.event(Event::StepStarted { step: "reading the files", total_bytes: Some(tree.counts().bytes) });
    for step in tree.walk() {
        let NodeKind::File(content) = &tree.node(step.id).kind else { continue };
        outcome.files += 1;
        outcome.bytes += content.len();
        damage.extend(unreadable(content, &step.path, job)?);
    }
    for entry in outcome.media.boot.iter().flat_map(|catalog| &catalog.entries) {
        match &entry.image {
            BootImage::Hidden(content) => damage.extend(unreadable(content, "a boot image", job)?),
            BootImage::File(path) if tree.file(path).is_none() => {
                damage.push(format!("the boot image {path} is not there"));
            }
            BootImage::File(_) => {}
        }
    }
    job.event(Event::StepFinished);
    outcome.damage = damage;
    Ok(outcome)
}

/// Why a content cannot be read, if it cannot. Here also what the system refuses is a finding: it names the file.
fn unreadable(content: &Content, name: &str, job: &Job<'_>) -> Result<Option<String>> {
    let mut count = |block: &[u8]| {
        job.event(Event::BytesDone(block.len() as u64));
        Ok(())
    };
    match content.for_each_block(BLOCK, job, &mut count) {
        Ok(()) => Ok(None),
        Err(error @ (Error::Cancelled | Error::Internal { .. })) => Err(error),
        Err(error) => Ok(Some(format!("{name} cannot be read: {error}"))),
    }
}

/// What is wrong with the trees that the media was not opened by: systems that install from it may take another.
fn other_trees(source: &Arc<Source>, media: &Media) -> Result<Vec<String>> {
    let mut damage = Vec::new();
    if let Err(error) = damage_apart(disk::read(source, None))? {
        damage.push(format!("the partition table: {error}"));
    }
    if media.form == MediaForm::Stick {
        damage.extend(
            damage_apart(stick::read::check_tables(source))?.unwrap_or_else(|error| vec![error.to_string()]),
        );
        return Ok(damage);
    }
    let descriptors = iso9660::read::read_descriptors(source)?;
    let mut say = |name: &str, result: Result<Tree>| -> Result<()> {
        if let Err(error) = damage_apart(result)? {
            damage.push(format!("the {name} tree cannot be read: {error}"));
        }
        Ok(())
    };
    if media.trees.chosen != TreeKind::Udf && udf::volume::is_announced(source)? {
        say("UDF", udf::read::read(source, &Limits::default()).map(|volume| volume.tree))?;
    }
    let kinds = [(&descriptors.primary, TreeKind::Iso9660), (&descriptors.joliet, TreeKind::Joliet)];
    for (descriptor, kind) in kinds {
        if let Some(descriptor) = descriptor {
            say(
                kind.name(),
                iso9660::read::read_tree(source, descriptor, kind, &Limits::default()).map(|read| read.tree),
            )?;
        }
    }
    Ok(damage)
}
