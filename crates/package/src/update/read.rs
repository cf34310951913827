//! A package to an update.

use super::{FILES_FOLDER, MANIFEST_NAME, Manifest, Update, model::check};
use crate::{Pack, pack::path_of};
use neat_content::{Error, NodeKind, Result, Text, Tree};
use neat_registry::RegText;
use std::path::Path;

/// Largest manifest, in bytes.
const LARGEST_MANIFEST: u64 = 1 << 20;
/// Largest registration text, in bytes.
const LARGEST_TEXT: u64 = 64 << 20;

impl Update {
    /// Opens the update at `path`: a package, or an unpacked folder.
    pub fn open(path: &Path) -> Result<Self> {
        let pack = Pack::open(path)?;
        Self::of_tree(&pack.tree).map_err(|error| error.within(path.display()))
    }

    /// Whether a tree is that of an update.
    pub fn is_one(tree: &Tree) -> bool {
        tree.file(MANIFEST_NAME).is_some()
    }

    /// Reads an unpacked update.
    pub fn of_tree(tree: &Tree) -> Result<Self> {
        let Some(manifest) = tree.file(MANIFEST_NAME) else {
            return Err(Error::Mismatch {
                expected: format!("an update, with {MANIFEST_NAME} in its root"),
                found: "none".into(),
                hint: "make one with `neatstack update new`".into(),
            });
        };
        let text = Text::decode(&manifest.to_vec(LARGEST_MANIFEST, MANIFEST_NAME)?).text;
        let manifest: Manifest = toml::from_str(&text).map_err(|error| {
            let line = error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1);
            Error::request(
                format!("{MANIFEST_NAME}, line {line}: {}", neat_content::plain_toml(error.message())),
                "see `neatstack update --help` for what it holds",
            )
        })?;
        if manifest.format != Manifest::FORMAT {
            return Err(Error::Unsupported {
                what: format!("update format {} in {MANIFEST_NAME}", manifest.format),
                offset: 0,
            });
        }
        let section = manifest.update;
        let architecture = check(&section)?;
        for path in &section.removes {
            path_of(path)?;
        }
        let mut registry = Vec::new();
        for name in &section.registry {
            let path = path_of(name)?;
            let Some(content) = tree.file(&path) else {
                return Err(Error::Mismatch {
                    expected: format!("{path}, which {MANIFEST_NAME} names"),
                    found: "no such file in the package".into(),
                    hint: "the package is not complete; get it again from its maker".into(),
                });
            };
            let text = RegText::read(&content.to_vec(LARGEST_TEXT, "registration text")?);
            registry.push((path.clone(), text.map_err(|error| error.within(&path))?));
        }
        let mut files = Vec::new();
        for step in tree.walk() {
            let inside = step.path.strip_prefix(FILES_FOLDER).and_then(|rest| rest.strip_prefix('/'));
            match (&tree.node(step.id).kind, inside) {
                (NodeKind::File(content), Some(path)) => files.push((path.to_owned(), content.clone())),
                (NodeKind::Link(_), Some(path)) => {
                    return Err(Error::Mismatch {
                        expected: "files only".into(),
                        found: format!("{path}, a link"),
                        hint: "put the file itself into the package".into(),
                    });
                }
                _ => {}
            }
        }
        Ok(Self { section, architecture, files, registry })
    }
}
