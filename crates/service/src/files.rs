//! Putting files into an edition.

use crate::{Edition, Item, drivers::digest_of};
use neat_content::{NodeKind, Result, Tree};
use neat_image::{BlobDigest, Times};

/// Files made ready to go in: digested once, however many editions get them.
pub struct PreparedFiles {
    /// Path below the target, content, digest, times.
    files: Vec<(String, neat_content::Content, BlobDigest, Times)>,
    folders: Vec<String>,
}

impl PreparedFiles {
    /// Reads the files of a tree.
    pub fn new(tree: &Tree) -> Result<Self> {
        let mut prepared = Self { files: Vec::new(), folders: Vec::new() };
        for step in tree.walk() {
            let node = tree.node(step.id);
            match &node.kind {
                NodeKind::File(content) => {
                    let times = Times::at(node.meta.modified);
                    prepared.files.push((step.path, content.clone(), digest_of(content)?, times));
                }
                NodeKind::Folder(_) => prepared.folders.push(step.path),
                NodeKind::Link(_) => {}
            }
        }
        Ok(prepared)
    }
}

impl Edition {
    /// Puts files at a path. Those that are there with other bytes are replaced only if `replace` says so.
    pub fn add_files(
        &mut self,
        place: &str,
        target: &str,
        files: &PreparedFiles,
        replace: bool,
    ) -> Result<Vec<Item>> {
        let join = |path: &str| if target.is_empty() { path.to_owned() } else { format!("{target}/{path}") };
        for folder in &files.folders {
            self.make_folder(&join(folder))?;
        }
        let (mut new, mut replaced, mut bytes) = (0_u64, 0_u64, 0_i64);
        let mut refused = Vec::new();
        for (path, content, digest, times) in &files.files {
            let path = join(path);
            let before = self.files.find(&path).map(|id| self.files.entry(id).content());
            let wanted = if content.is_empty() { BlobDigest::NONE } else { *digest };
            match before {
                Some(before) if before == wanted => continue,
                Some(_) if !replace => {
                    refused.push(path);
                    continue;
                }
                Some(before) => {
                    bytes -= self.len_of(before) as i64;
                    replaced += 1;
                }
                None => new += 1,
            }
            bytes += content.len() as i64;
            self.put(&path, content, *digest, Some(*times))?;
        }
        let subject = format!("{place}:/{target}");
        let mut items = Vec::new();
        if let [first, rest @ ..] = refused.as_slice() {
            let more = neat_content::and_more(rest.len());
            items.push(Item::refused(
                "file",
                &subject,
                format!("/{first}{more} is there already, with other bytes; write `replace = true` if that is meant"),
            ));
        }
        if new + replaced > 0 {
            let mut parts = Vec::new();
            for (count, what) in [(new, "new"), (replaced, "replaced")] {
                if count > 0 {
                    parts.push(format!("{count} {what}"));
                }
            }
            items.push(Item::applied("file", subject, parts.join(", "), bytes));
        } else if items.is_empty() {
            items.push(Item::skipped("file", subject, "the same bytes are there already"));
        }
        Ok(items)
    }
}
