//! What differs between two media, image files, editions or hives.

use crate::editions::{install_image_path, open_image, setup_image_path};
use neat_content::{Content, DigestKind, Error, Job, NodeKind, Result, Source, Tree, digest_of};
use neat_image::{EntryId, ImageDraft, ImageFile, Times, is_image_file, open_path};
use neat_media::read;
use neat_registry::{
    Change, Hive, HiveRole, LARGEST, RegLine, RegText, compare as compare_hives, is_hive, shown,
};
use neat_service::{Edition, Inventory, Layout};
use schemars::JsonSchema;
use serde::Serialize;
use std::{
    collections::{BTreeMap, BTreeSet},
    path::Path,
    sync::Arc,
};

/// A file that differs; bytes before and after, nothing where it is not there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FileChange {
    /// Path.
    pub path: String,
    /// Bytes before.
    pub before: Option<u64>,
    /// Bytes after.
    pub after: Option<u64>,
}

/// A value of the registry that differs, as people read it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ValueChange {
    /// Path of the key, from one of the roots.
    pub key: String,
    /// Name of the value, empty for the default value; nothing for a key that is there or gone with all below it.
    pub name: Option<String>,
    /// What it was; nothing where it was not there.
    pub before: Option<String>,
    /// What it is; nothing where it is gone.
    pub after: Option<String>,
}

impl ValueChange {
    /// What `lines` do to the values of `old`, whose root is called `root`.
    fn of(lines: &[RegLine], old: &Hive, root: &str) -> Vec<Self> {
        let was = |key: &str, name: &str| {
            let id = old.find(key.strip_prefix(root)?.trim_start_matches('\\'))?;
            let value = old.value(id, name)?;
            Some(shown(value.kind(), old.data(value)))
        };
        let change = |line: &RegLine| {
            let (name, before, after) = match &line.change {
                Change::Key => (None, None, Some("there".to_owned())),
                Change::DeleteKey => (None, Some("there".to_owned()), None),
                Change::Set { name, kind, data } => {
                    (Some(name.clone()), was(&line.key, name), Some(shown(*kind, data)))
                }
                Change::DeleteValue { name } => (Some(name.clone()), was(&line.key, name), None),
            };
            Self { key: line.key.clone(), name, before, after }
        };
        lines.iter().map(change).collect()
    }
}

/// What differs between two editions.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct EditionComparison {
    /// Name before.
    pub before: String,
    /// Name after.
    pub after: String,
    /// Version of the system before and after, where it differs.
    pub version: Option<(String, String)>,
    /// Files.
    pub files: Vec<FileChange>,
    /// Registration text that makes the one registry the other; empty where nothing differs.
    pub registry: String,
    /// The same value by value.
    pub values: Vec<ValueChange>,
    /// Components that are only in the first.
    pub gone: Vec<String>,
    /// Components that are only in the second.
    pub new: Vec<String>,
    /// Bytes of all files before and after, each content once.
    pub bytes: (u64, u64),
}

impl EditionComparison {
    /// Whether nothing differs.
    pub fn is_same(&self) -> bool {
        self.files.is_empty() && self.registry.is_empty() && self.version.is_none()
    }
}

/// What differs.
#[derive(Clone, Debug, Default, Serialize, JsonSchema)]
pub struct Comparison {
    /// `media`, `image-file`, `edition` or `hive`.
    pub kind: &'static str,
    /// Files of the media, without the image files that are compared edition by edition.
    pub files: Vec<FileChange>,
    /// Editions in both.
    pub editions: Vec<EditionComparison>,
    /// Names of editions that are only in the first.
    pub gone: Vec<String>,
    /// Names of editions that are only in the second.
    pub new: Vec<String>,
    /// Of hives, the registration text that makes the first the second.
    pub registry: String,
    /// The same value by value.
    pub values: Vec<ValueChange>,
    /// Bytes of both.
    pub bytes: (u64, u64),
}

impl Comparison {
    /// Whether nothing differs.
    pub fn is_same(&self) -> bool {
        self.files.is_empty()
            && self.registry.is_empty()
            && self.gone.is_empty()
            && self.new.is_empty()
            && self.editions.iter().all(EditionComparison::is_same)
    }
}

/// One side of a comparison.
enum Side {
    Media(Box<Tree>),
    Image(ImageFile),
    Hive(Box<Hive>),
}

fn open(path: &Path) -> Result<Side> {
    if path.is_dir() {
        return Ok(Side::Media(Box::new(read::open(path)?.tree)));
    }
    let content = Content::from_source(Source::open(path)?);
    let mut first = [0; 4];
    if content.len() >= 4 {
        neat_content::ReadAt::read_exact_at(&content, 0, &mut first)?;
    }
    if is_hive(&first) {
        let bytes = content.to_vec(LARGEST, "hive")?;
        return Ok(Side::Hive(Box::new(Hive::read(bytes).map_err(|error| error.within(path.display()))?)));
    }
    if is_image_file(&content) {
        return Ok(Side::Image(open_path(path)?));
    }
    Ok(Side::Media(Box::new(read::open(path)?.tree)))
}

/// Compares what lies at two paths: two media, two image files, or two hives. With `edition`, only that one of both.
pub fn compare(before: &Path, after: &Path, edition: Option<&str>, job: &Job<'_>) -> Result<Comparison> {
    let layouts = [Arc::new(Layout::common()?)];
    match (open(before)?, open(after)?) {
        (Side::Hive(a), Side::Hive(b)) => {
            let root = root_of(after);
            let lines = compare_hives(&a, &b, &root);
            let values = ValueChange::of(&lines, &a, &root);
            let registry = if lines.is_empty() { String::new() } else { RegText::new(lines).to_text() };
            Ok(Comparison { kind: "hive", registry, values, ..Comparison::default() })
        }
        (Side::Image(a), Side::Image(b)) => {
            let mut comparison =
                Comparison { kind: "image-file", bytes: (a.len(), b.len()), ..Comparison::default() };
            images(&a, &b, edition, &layouts, &mut comparison)?;
            Ok(comparison)
        }
        (Side::Media(a), Side::Media(b)) => media(&a, &b, edition, &layouts, job),
        _ => Err(Error::request(
            format!("{} and {} are not of one kind", before.display(), after.display()),
            "compare two media, two image files, or two hives",
        )),
    }
}

/// The path that the root of a hive stands for: by the usual name of its file, else a key of that name.
fn root_of(path: &Path) -> String {
    let name = path.file_stem().map(|stem| stem.to_string_lossy().to_uppercase()).unwrap_or_default();
    let usual = match name.as_str() {
        "NTUSER" => Some(HiveRole::DefaultUser),
        "DEFAULT" => Some(HiveRole::SystemUser),
        _ => HiveRole::ALL.into_iter().find(|role| role.root().rsplit('\\').next() == Some(&name)),
    };
    usual.map_or_else(|| format!("HKEY_LOCAL_MACHINE\\{name}"), |role| role.root().to_owned())
}

fn media(
    a: &Tree,
    b: &Tree,
    edition: Option<&str>,
    layouts: &[Arc<Layout>],
    job: &Job<'_>,
) -> Result<Comparison> {
    let mut comparison =
        Comparison { kind: "media", bytes: (a.counts().bytes, b.counts().bytes), ..Comparison::default() };
    let mut inside: Vec<String> = Vec::new();
    for find in [install_image_path, setup_image_path] {
        if let (Some(a_path), Some(b_path)) = (find(a), find(b)) {
            images(&open_image(a, &a_path)?, &open_image(b, &b_path)?, edition, layouts, &mut comparison)?;
            inside.extend([a_path.to_lowercase(), b_path.to_lowercase()]);
        }
    }
    if let Some(wanted) = edition {
        if comparison.editions.is_empty() {
            return Err(Error::request(
                format!("the two media do not both have an edition {wanted:?}"),
                "list those of each with `neatstack editions`",
            ));
        }
        return Ok(comparison);
    }
    let list = |tree: &Tree| -> BTreeMap<String, (String, Content)> {
        let files = tree.walk().filter_map(|step| match &tree.node(step.id).kind {
            NodeKind::File(content) => Some((step.path.to_lowercase(), (step.path, content.clone()))),
            _ => None,
        });
        files.filter(|(key, _)| !inside.contains(key)).collect()
    };
    let (before, after) = (list(a), list(b));
    for (key, (path, content)) in &before {
        let change = match after.get(key) {
            None => Some(None),
            Some((_, other)) if other.len() != content.len() => Some(Some(other.len())),
            Some((_, other)) => {
                let same =
                    digest_of(content, DigestKind::Sha1, job)? == digest_of(other, DigestKind::Sha1, job)?;
                (!same).then(|| Some(other.len()))
            }
        };
        if let Some(after) = change {
            comparison.files.push(FileChange { path: path.clone(), before: Some(content.len()), after });
        }
    }
    for (key, (path, content)) in &after {
        if !before.contains_key(key) {
            comparison.files.push(FileChange {
                path: path.clone(),
                before: None,
                after: Some(content.len()),
            });
        }
    }
    comparison.files.sort_by(|a, b| a.path.cmp(&b.path));
    Ok(comparison)
}

fn images(
    a: &ImageFile,
    b: &ImageFile,
    edition: Option<&str>,
    layouts: &[Arc<Layout>],
    comparison: &mut Comparison,
) -> Result<()> {
    let names =
        |image: &ImageFile| image.editions().iter().map(|info| info.name.clone()).collect::<Vec<String>>();
    let (before, after) = (names(a), names(b));
    let pairs: Vec<(usize, usize)> = if let Some(wanted) = edition {
        match (a.find_edition(wanted), b.find_edition(wanted)) {
            (Ok(a), Ok(b)) => vec![(a, b)],
            (Err(error), _) | (_, Err(error)) if comparison.kind == "image-file" => return Err(error),
            // Of the two image files of a media only one has it.
            _ => Vec::new(),
        }
    } else {
        comparison.gone.extend(before.iter().filter(|name| !after.contains(name)).cloned());
        comparison.new.extend(after.iter().filter(|name| !before.contains(name)).cloned());
        let find = |(n, name): (usize, &String)| Some((n + 1, after.iter().position(|own| own == name)? + 1));
        before.iter().enumerate().filter_map(find).collect()
    };
    let (a, b) = (Arc::new(ImageDraft::of(a)), Arc::new(ImageDraft::of(b)));
    for (before, after) in pairs {
        comparison.editions.push(pair((&a, before), (&b, after), layouts)?);
    }
    Ok(())
}

fn pair(
    (a, before): (&Arc<ImageDraft>, usize),
    (b, after): (&Arc<ImageDraft>, usize),
    layouts: &[Arc<Layout>],
) -> Result<EditionComparison> {
    let mut before = Edition::open(a, before, layouts, Times::default())?;
    let mut after = Edition::open(b, after, layouts, Times::default())?;
    let (olds, news) = (before.hive_contents(), after.hive_contents());
    before.read_hives(&|role, own| news.get(&role) != Some(&own))?;
    after.read_hives(&|role, own| olds.get(&role) != Some(&own))?;
    editions(&before, &after)
}

/// Compares two editions, numbered from 1, wherever they are.
///
/// # Errors
/// Those of reading their trees and registries.
pub fn compare_editions(
    before: (&Arc<ImageDraft>, usize),
    after: (&Arc<ImageDraft>, usize),
) -> Result<Comparison> {
    let own = pair(before, after, &[Arc::new(Layout::common()?)])?;
    Ok(Comparison { kind: "edition", bytes: own.bytes, editions: vec![own], ..Comparison::default() })
}

fn editions(before: &Edition, after: &Edition) -> Result<EditionComparison> {
    let list = |edition: &Edition| -> BTreeMap<String, (String, EntryId)> {
        let steps = edition.files.walk().filter(|step| !edition.files.entry(step.id).is_folder());
        steps.map(|step| (step.path.to_lowercase(), (step.path, step.id))).collect()
    };
    let (olds, news) = (list(before), list(after));
    let hives: Vec<String> = before
        .hives()
        .map(|(_, path, _)| path)
        .chain(after.hives().map(|(_, path, _)| path))
        .map(str::to_lowercase)
        .collect();
    let len = |edition: &Edition, id: EntryId| edition.len_of(edition.files.entry(id).content());
    let mut files = Vec::new();
    for (key, (path, id)) in &olds {
        let own = before.files.entry(*id).content();
        let other = news.get(key).map(|(_, id)| (*id, after.files.entry(*id).content()));
        // Hives are compared value by value.
        let is_compared = hives.contains(key) && other.is_some();
        if other.is_none_or(|(_, other)| other != own) && !is_compared {
            let after = other.map(|(id, _)| len(after, id));
            files.push(FileChange { path: path.clone(), before: Some(len(before, *id)), after });
        }
    }
    for (key, (path, id)) in &news {
        if !olds.contains_key(key) {
            files.push(FileChange { path: path.clone(), before: None, after: Some(len(after, *id)) });
        }
    }
    files.sort_by(|a, b| a.path.cmp(&b.path));
    let (mut lines, mut values) = (Vec::new(), Vec::new());
    let (old_hives, new_hives) = (before.hive_contents(), after.hive_contents());
    for (role, _, hive) in before.hives().filter(|(role, ..)| old_hives.get(role) != new_hives.get(role)) {
        if let Some(other) = after.hive(role) {
            let own = compare_hives(hive, other, role.root());
            values.extend(ValueChange::of(&own, hive, role.root()));
            lines.extend(own);
        }
    }
    let registry = if lines.is_empty() { String::new() } else { RegText::new(lines).to_text() };
    // Where no file differs, no component does.
    let is_same = files.is_empty() && old_hives == new_hives;
    let components = |edition: &Edition| -> Result<BTreeSet<String>> {
        if is_same || edition.layout.is_none() {
            return Ok(BTreeSet::new());
        }
        Ok(Inventory::unweighed(edition, &[])?.components.into_keys().collect())
    };
    let (olds, news) = (components(before)?, components(after)?);
    let versions = [before, after]
        .map(|edition| edition.version().map(|version| version.to_string()).unwrap_or_default());
    let [old_version, new_version] = versions;
    Ok(EditionComparison {
        before: before.name().to_owned(),
        after: after.name().to_owned(),
        version: (old_version != new_version).then_some((old_version, new_version)),
        files,
        registry,
        values,
        gone: olds.difference(&news).cloned().collect(),
        new: news.difference(&olds).cloned().collect(),
        bytes: (total(before), total(after)),
    })
}

/// Bytes of all content of an edition, each once.
fn total(edition: &Edition) -> u64 {
    let digests: std::collections::HashSet<_> =
        edition.files.ids().flat_map(|id| edition.files.entry(id).digests()).collect();
    digests.into_iter().map(|digest| edition.len_of(digest)).sum()
}
