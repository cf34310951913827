//! Bringing a stick that is there up to date.

use super::{read::volume_extent, without_links};
use crate::fat::update::{self, Options, Update};
use neat_content::{Advice, Content, Error, Job, Result, Source, Tree};
use std::sync::Arc;

/// What has to be written to a stick.
#[derive(Clone, Debug)]
pub struct StickUpdate {
    /// First byte of the file system.
    pub start: u64,
    /// What is written there.
    pub update: Update,
    /// What a person should know that is not an error.
    pub notes: Vec<String>,
}

/// Works out what has to be written so that the stick in `source` holds `tree`; see [`update::plan`].
///
/// # Errors
/// `Request` when there is no such stick, or too little room.
pub fn plan_update(
    source: &Arc<Source>,
    tree: &Tree,
    options: Options,
    job: &Job<'_>,
) -> Result<StickUpdate> {
    let Some((start, len)) = volume_extent(source)? else {
        return Err(Error::request(
            format!("there is no FAT file system in {}", source.path().display()),
            Advice::WriteStick,
        ));
    };
    let volume = Content::from_source(Arc::clone(source)).part(start, len)?;
    let mut notes = Vec::new();
    let (tree, _) = without_links(tree, &mut notes)?;
    let update = update::plan(&volume, &tree, options, job)?;
    if !update.has_record && !update.others.is_empty() {
        notes.push(format!(
            "the stick does not say which files were written to it, so {} that the media does not have stay; --remove-others takes them away",
            update.others.len()
        ));
    }
    Ok(StickUpdate { start, update, notes })
}
