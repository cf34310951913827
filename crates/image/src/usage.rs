//! What each edition takes that no other uses.

use crate::ImageFile;
use neat_content::Result;
use rayon::iter::{IntoParallelRefIterator, ParallelIterator};

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
    let numbers: Vec<usize> = (1..=image.editions().len()).collect();
    let mut usages = Vec::with_capacity(numbers.len());
    // The one edition that uses a blob, or none when there are several.
    let mut users: Vec<Option<Option<usize>>> = vec![None; image.blob_count()];
    // A few trees are read at a time.
    for some in numbers.chunks(rayon::current_num_threads().min(4)) {
        let read: Vec<Result<Vec<u32>>> = some.par_iter().map(|number| blobs_of(image, *number)).collect();
        for (number, places) in some.iter().zip(read) {
            let tree = image.metadata(*number)?.1.packed_len();
            let mut all = tree;
            for place in places? {
                let user = &mut users[place as usize];
                *user = Some(if user.is_none() { Some(*number) } else { None });
                all += image.packed_len_at(place as usize);
            }
            usages.push(Usage { only_here: tree, all });
        }
    }
    for (place, user) in users.into_iter().enumerate() {
        if let Some(Some(number)) = user {
            usages[number - 1].only_here += image.packed_len_at(place);
        }
    }
    Ok(usages)
}

/// The places of the blobs that an edition uses, each once.
fn blobs_of(image: &ImageFile, number: usize) -> Result<Vec<u32>> {
    let mut places = Vec::new();
    image.walk(number, &mut |_, _, seen| {
        places.extend(seen.digests().filter_map(|digest| Some(image.place_of(digest)? as u32)));
    })?;
    places.sort_unstable();
    places.dedup();
    Ok(places)
}
