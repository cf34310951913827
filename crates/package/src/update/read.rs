//! A package to an update.

use super::{FILES_FOLDER, MANIFEST_NAME, Manifest, Update, UpdateSection, model::check};
use crate::{Pack, pack::path_of};
use neat_content::{Advice, DigestKind, Error, Job, NodeKind, Result, Text, Tree, digest_of};
use neat_registry::RegText;
use std::{collections::HashMap, path::Path};

/// Largest manifest, in bytes.
const LARGEST_MANIFEST: u64 = 1 << 20;
/// Largest registration text, in bytes.
const LARGEST_TEXT: u64 = 64 << 20;

impl Update {
    /// Opens the update at `path`: a package, or an unpacked folder.
    ///
    /// # Errors
    /// `Io`, and `Corrupt` for files that are not listed, missing, or of other digests than listed.
    pub fn open(path: &Path) -> Result<Self> {
        let pack = Pack::open(path)?;
        Self::of_tree(&pack.tree).map_err(|error| error.within(path.display()))
    }

    /// Whether a tree is that of an update.
    pub fn is_one(tree: &Tree) -> bool {
        tree.file(MANIFEST_NAME).is_some()
    }

    /// Reads an unpacked update, and compares its files with the digests that the manifest lists.
    ///
    /// # Errors
    /// `Mismatch` for a file that is not what the manifest says, that it does not list, or that is not there; `Request`
    /// for a manifest that makes no sense.
    pub fn of_tree(tree: &Tree) -> Result<Self> {
        let manifest = manifest_of(tree)?;
        let checked = !manifest.files.is_empty();
        if checked {
            check_files(tree, &manifest)?;
        }
        Ok(Self { checked, ..Self::of_manifest(manifest.update, tree)? })
    }

    /// Reads a folder that a package is to be made of: what its manifest lists is of an earlier package.
    ///
    /// # Errors
    /// As [`Update::of_tree`], but for what is listed.
    pub fn to_be_packed(tree: &Tree) -> Result<Self> {
        Self::of_manifest(manifest_of(tree)?.update, tree)
    }

    fn of_manifest(section: UpdateSection, tree: &Tree) -> Result<Self> {
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
        Ok(Self { section, architecture, files, registry, checked: false })
    }
}

fn manifest_of(tree: &Tree) -> Result<Manifest> {
    let Some(manifest) = tree.file(MANIFEST_NAME) else {
        return Err(Error::mismatch(
            format!("an update, with {MANIFEST_NAME} in its root"),
            "none",
            Advice::MakeUpdate,
        ));
    };
    let text = Text::decode(&manifest.to_vec(LARGEST_MANIFEST, MANIFEST_NAME)?).text;
    let manifest: Manifest = toml::from_str(&text).map_err(|error| {
        let line = error.span().map_or(1, |span| text[..span.start].matches('\n').count() + 1);
        Error::request(
            format!("{MANIFEST_NAME}, line {line}: {}", neat_content::plain_toml(error.message())),
            Advice::UpdateManifest,
        )
    })?;
    if !(1..=Manifest::FORMAT).contains(&manifest.format) {
        return Err(Error::Unsupported {
            what: format!("update format {} in {MANIFEST_NAME}", manifest.format),
            offset: 0,
        });
    }
    Ok(manifest)
}

/// Compares the files of a package with what its manifest lists, both ways.
fn check_files(tree: &Tree, manifest: &Manifest) -> Result<()> {
    const HINT: &str = "the package is damaged or was changed; get it again from its maker";
    let mut listed = HashMap::new();
    for file in &manifest.files {
        if listed.insert(path_of(&file.path)?, file).is_some() {
            return Err(Error::mismatch("each file listed once", format!("{} twice", file.path), HINT));
        }
    }
    for step in tree.walk() {
        let NodeKind::File(content) = &tree.node(step.id).kind else { continue };
        if step.path == MANIFEST_NAME {
            continue;
        }
        let Some(file) = listed.remove(&step.path) else {
            let expected = format!("the files that {MANIFEST_NAME} lists");
            return Err(Error::mismatch(expected, format!("{}, which it does not list", step.path), HINT));
        };
        if content.len() != file.size {
            let expected = format!("{} with {} bytes", step.path, file.size);
            return Err(Error::mismatch(expected, format!("{} bytes", content.len()), HINT));
        }
        let found = digest_of(content, DigestKind::Sha256, &Job::silent())?;
        if found != file.sha256.to_ascii_lowercase() {
            let expected = format!("{} with the SHA-256 {}", step.path, file.sha256);
            return Err(Error::mismatch(expected, found, HINT));
        }
    }
    // The order of a map is not the same at each run.
    match listed.into_keys().min() {
        Some(path) => Err(Error::mismatch(
            format!("{path}, which {MANIFEST_NAME} lists"),
            "no such file in the package",
            HINT,
        )),
        None => Ok(()),
    }
}
