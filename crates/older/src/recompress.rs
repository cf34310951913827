//! Compressed files made as small as they can be.

use crate::{OlderSetup, media::single_files};
use neat_content::{Content, Hold, Job, Result, Tree, damage_apart};
use neat_package::{SingleForm, compress_single, expand_single};
use rayon::iter::{IntoParallelRefIterator, ParallelIterator};

/// Longest content of a compressed file, in bytes.
const LARGEST: u64 = 1 << 30;
/// Files that are worked on together: what they become is in memory until it is put away.
const TOGETHER: usize = 32;

/// What became of the compressed files of a setup.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Recompressed {
    /// Files that are smaller now.
    pub smaller: u64,
    /// Files that stay as they were: the other form is not smaller.
    pub same: u64,
    /// Bytes of all of them before.
    pub before: u64,
    /// And now.
    pub after: u64,
    /// Those that cannot be read, and why. They stay.
    pub damaged: Vec<String>,
}

/// Compresses anew what is compressed each by itself in a setup, as a cabinet, and takes what is smaller than before.
///
/// # Errors
/// What the system refuses, and those of being stopped.
pub fn recompress(tree: &mut Tree, setup: &OlderSetup, hold: &Hold, job: &Job<'_>) -> Result<Recompressed> {
    let mut done = Recompressed::default();
    let files: Vec<(String, Content)> = single_files(tree, &setup.folder)
        .filter_map(|(path, content)| Some((path, content?.clone())))
        .collect();
    done.before = files.iter().map(|(_, content)| content.len()).sum();
    done.after = done.before;
    let mut spool = hold.spool(done.before);
    let mut places: Vec<(String, u64, u64)> = Vec::new();
    for some in files.chunks(TOGETHER) {
        job.check()?;
        let made: Vec<_> = some.par_iter().map(|(path, content)| anew(tree, path, content)).collect();
        for ((path, content), made) in some.iter().zip(made) {
            match damage_apart(made)? {
                Ok(Some(bytes)) => {
                    done.smaller += 1;
                    done.after = done.after + bytes.len() as u64 - content.len();
                    places.push((path.clone(), spool.len(), bytes.len() as u64));
                    spool.push(&bytes)?;
                }
                Ok(None) => done.same += 1,
                Err(error) => done.damaged.push(format!("{path}: {error}")),
            }
        }
    }
    let all = spool.content()?;
    for (path, start, len) in places {
        let Some(id) = tree.find(&path) else { continue };
        let meta = tree.node(id).meta;
        tree.put_file(&path, all.part(start, len)?, meta)?;
    }
    Ok(done)
}

/// The bytes of a compressed file as a cabinet; nothing if they are not fewer, or it is none.
fn anew(tree: &Tree, path: &str, content: &Content) -> Result<Option<Vec<u8>>> {
    let name = path.rsplit('/').next().unwrap_or(path);
    let Some(own) = expand_single(name, content, LARGEST)? else { return Ok(None) };
    let modified = tree.find(path).map(|id| tree.node(id).meta.modified).unwrap_or_default();
    let bytes = own.content.to_vec(LARGEST, "compressed file")?;
    let packed = compress_single(&own.name, &bytes, SingleForm::Cabinet, modified)?;
    Ok((packed.len() as u64).lt(&content.len()).then_some(packed))
}
