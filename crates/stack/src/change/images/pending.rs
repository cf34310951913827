//! An image file that is compressed only when the media is built.

use super::fit::put_limited;
use neat_content::{Job, Meta, Result, Tree};
use neat_image::ImageDraft;
use std::path::Path;

/// An image file that can only be finished when the media is built, because it must be compressed.
pub(crate) struct PendingImage {
    pub(super) draft: ImageDraft,
    /// Where it goes on the media.
    pub path: String,
    pub(super) meta: Meta,
    pub(super) limit: Option<u64>,
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
