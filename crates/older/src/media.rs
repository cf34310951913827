//! Which system, for which machines.

use crate::{Additions, FileVersion};
use neat_content::{Content, NodeKind, ReadAt, Result, Tree, damage_apart};
use neat_package::{Inf, expand_single, is_single_name};

/// The file that describes the text phase; a folder with it is one that setup is started from.
const DESCRIPTION: &str = "txtsetup.sif";
/// The file that says what the product is.
const PRODUCT: &str = "prodspec.ini";
/// Names of answer files: on a disc the first in the folder of setup, else where somebody says.
const ANSWERS: [&str; 2] = ["winnt.sif", "unattend.txt"];
/// Programs whose version is that of the system.
const KERNELS: [&str; 4] = ["ntoskrnl.exe", "ntkrnlmp.exe", "ntoskrnl.ex_", "ntkrnlmp.ex_"];
/// Largest description, in bytes.
const LARGEST: u64 = 16 << 20;
/// Largest program whose version is looked at.
const LARGEST_PROGRAM: u64 = 64 << 20;

/// A folder of a media that setup is started from.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct OlderSetup {
    /// Its path.
    pub folder: String,
    /// Path of the file that describes the text phase.
    pub description: String,
    /// Architecture, in our word where it is one that has any.
    pub architecture: String,
    /// Name of the system.
    pub product: String,
    /// Version: two numbers, or that of its kernel.
    pub version: String,
    /// Number of the service pack in it; 0 for none, nothing where it is not said.
    pub service_pack: Option<u32>,
    /// Identifier of its language.
    pub language: Option<u16>,
    /// Language in the maker's word.
    pub localization: String,
    /// Where the system goes on the disk.
    pub target: String,
    /// Files that are compressed each by itself, and their bytes as they are.
    pub compressed: (u64, u64),
    /// Paths of answer files.
    pub answers: Vec<String>,
    /// What setup copies and runs besides.
    pub additions: Additions,
}

impl OlderSetup {
    /// The setups of a media, by their folders; none on media of other generations.
    ///
    /// # Errors
    /// What the system refuses to read; damage is a note of its own elsewhere.
    pub fn find(tree: &Tree) -> Result<Vec<Self>> {
        let NodeKind::Folder(root) = &tree.node(Tree::ROOT).kind else { return Ok(Vec::new()) };
        let mut found = Vec::new();
        for id in root.children() {
            let folder = tree.path(id);
            let path = format!("{folder}/{DESCRIPTION}");
            if let Some(content) = tree.file(&path) {
                found.extend(damage_apart(Self::of(tree, &folder, content))?.ok());
            }
        }
        found.sort_by(|a, b| a.folder.cmp(&b.folder));
        Ok(found)
    }

    /// The folder that setup copies from besides: the one that is there, or the usual one beside the setup's own.
    pub fn additions_folder(&self) -> String {
        let beside = self.folder.rsplit_once('/').map_or(String::new(), |(parent, _)| format!("{parent}/"));
        self.additions.places.first().cloned().unwrap_or_else(|| format!("{beside}$OEM$"))
    }

    /// Where it looks for its answers when it is started from a disc.
    pub fn answers_place(&self) -> String {
        format!("{}/{}", self.folder, ANSWERS[0].to_ascii_uppercase())
    }

    fn of(tree: &Tree, folder: &str, description: &Content) -> Result<Self> {
        let text = Inf::read(&description.to_vec(LARGEST, DESCRIPTION)?)?;
        let said = |section: &str, key: &str| text.text(section, key).unwrap_or_default();
        let number = |key: &str| said("SetupData", key).parse::<u32>().ok();
        let mut own = Self {
            folder: folder.to_owned(),
            description: format!("{folder}/{DESCRIPTION}"),
            architecture: architecture_of(folder),
            target: said("SetupData", "DefaultPath"),
            additions: Additions::of(tree, folder)?,
            ..Self::default()
        };
        if let (Some(major), Some(minor)) = (number("MajorVersion"), number("MinorVersion")) {
            own.version = format!("{major}.{minor}");
        }
        // `DefaultLayout=E0010409`: the language is in the last four digits.
        let layout = said("nls", "DefaultLayout");
        let digits = layout.len().checked_sub(4).and_then(|at| layout.get(at..));
        own.language = digits.and_then(|digits| u16::from_str_radix(digits, 16).ok());
        if let Some(content) = tree.file(&format!("{folder}/{PRODUCT}")) {
            let product = Inf::read(&content.to_vec(LARGEST, PRODUCT)?)?;
            let said = |key: &str| product.text("Product Specification", key).unwrap_or_default();
            own.product = said("Product");
            own.localization = said("Localization");
            own.service_pack = said("ServicePackNumber").parse().ok();
            if own.version.is_empty() {
                own.version = said("Version");
            }
        }
        if own.product.is_empty() {
            own.product = said("Strings", "Product");
        }
        if let Some(version) = kernel_of(tree, folder)? {
            own.version = version.to_string();
        }
        own.answers = answers_of(tree, folder);
        for content in single_files(tree, folder).filter_map(|(_, content)| content) {
            own.compressed.0 += 1;
            own.compressed.1 += content.len();
        }
        Ok(own)
    }
}

/// The files of a setup that are named as compressed ones, with their content.
pub(crate) fn single_files<'a>(
    tree: &'a Tree,
    folder: &str,
) -> impl Iterator<Item = (String, Option<&'a Content>)> {
    let inside = format!("{folder}/");
    let steps = tree.walk().filter(move |step| step.path.starts_with(&inside) && is_single_name(&step.path));
    steps.map(|step| (step.path, tree.node(step.id).content()))
}

fn architecture_of(folder: &str) -> String {
    let name = folder.rsplit('/').next().unwrap_or(folder).to_ascii_lowercase();
    match name.as_str() {
        "i386" => "x86".into(),
        "amd64" => "x64".into(),
        _ => name,
    }
}

fn answers_of(tree: &Tree, folder: &str) -> Vec<String> {
    let places = ANSWERS.iter().flat_map(|name| [format!("{folder}/{name}"), (*name).to_owned()]);
    let found = places.filter_map(|path| tree.find_ignoring_case(&path).map(|id| tree.path(id)));
    found.collect()
}

/// The version of the system's kernel, where it can be read.
fn kernel_of(tree: &Tree, folder: &str) -> Result<Option<FileVersion>> {
    for name in KERNELS {
        let Some(content) = tree.file(&format!("{folder}/{name}")) else { continue };
        let expanded = damage_apart(expand_single(name, content, LARGEST_PROGRAM))?;
        let content = match expanded {
            Ok(Some(own)) => own.content,
            Ok(None) => content.clone(),
            Err(_) => continue,
        };
        if content.len() > LARGEST_PROGRAM {
            continue;
        }
        let mut bytes = vec![0; content.len() as usize];
        content.read_exact_at(0, &mut bytes)?;
        if let Ok(Some(version)) = FileVersion::of(&bytes) {
            return Ok(Some(version));
        }
    }
    Ok(None)
}
