//! What each edition takes that no other uses.

use crate::{BlobDigest, ImageFile};
use neat_content::Result;
use std::collections::HashMap;

/// What an edition takes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Usage {
    /// Bytes in the file of blobs that no other edition uses, and of its own tree: what dropping it saves.
    pub only_here: u64,
    /// Bytes in the file of all blobs that it uses, and of its tree.
    pub all: u64,
}

/// What each edition takes, in order. Reads all trees.
///
/// # Errors
/// `Corrupt` where a tree cannot be read.
pub fn usage(image: &ImageFile) -> Result<Vec<Usage>> {
    let count = image.editions().len();
    let mut usages = vec![Usage::default(); count];
    // The one edition that uses the blob, or none when there are several; and the last one it was counted for.
    let mut users: HashMap<BlobDigest, (Option<usize>, usize)> = HashMap::new();
    for (n, usage) in usages.iter_mut().enumerate() {
        let tree = image.metadata(n + 1)?.1.packed_len();
        *usage = Usage { only_here: tree, all: tree };
        image.walk(n + 1, &mut |_, _, seen| {
            for digest in seen.digests() {
                let user = users.entry(digest).or_insert((Some(n), usize::MAX));
                if user.1 != n {
                    *user = (user.0.filter(|only| *only == n), n);
                    usage.all += image.packed_len(digest).unwrap_or(0);
                }
            }
        })?;
    }
    for (digest, (only, _)) in users {
        if let Some(only) = only {
            usages[only].only_here += image.packed_len(digest).unwrap_or(0);
        }
    }
    Ok(usages)
}
