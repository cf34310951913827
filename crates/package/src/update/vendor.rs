//! Vendors' update packages: cabinets with a package manifest inside, cabinets in a cabinet, or image files with any of
//! these inside. They are recognised and staged for setup, not taken apart.

use crate::pack::{PackKind, kind_of, read_cabinet};
use neat_content::{Content, Result, Text};
use neat_image::{BlobDigest, ImageDraft, ImageFile, is_image_file, xml::Element};

/// Name of the manifest in a vendor's package.
const MANIFEST: &str = "update.mum";
/// Largest manifest, in bytes.
const LARGEST_MANIFEST: u64 = 16 << 20;
/// Most files of an image file that is a package.
const MOST_FILES: usize = 200_000;
/// Cabinets in cabinets, and image files, are opened down to this level.
const DEEPEST: usize = 2;
/// Largest inner cabinet that is looked into, in bytes.
const LARGEST_INNER: u64 = 2 << 30;

/// What a vendor's package says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VendorPackage {
    /// Whether the package is an image file, which the answer file's servicing section does not take.
    pub is_image: bool,
    /// Names of the cabinets from the outer one to that with the manifest; empty if the package itself has it.
    pub inside: Vec<String>,
    /// Name of the package.
    pub name: String,
    /// Version.
    pub version: String,
    /// Architecture in the vendor's word.
    pub architecture: String,
    /// Language, `neutral` for all.
    pub language: String,
    /// Token of the key it is signed with.
    pub public_key_token: String,
    /// What people call it, such as a number in the vendor's knowledge base.
    pub identifier: String,
    /// What sort of update the vendor calls it.
    pub release_type: String,
}

impl VendorPackage {
    /// Reads what `content` says of itself, with the cabinet that setup takes; nothing if it is no vendor's package.
    ///
    /// # Errors
    /// `Corrupt` for a package that cannot be read; `Io`.
    pub fn of_content(content: &Content) -> Result<Option<(Self, Content)>> {
        if content.len() >= 8 && is_image_file(content) {
            let package = find_in_image(content, 0)?;
            return Ok(package.map(|own| (Self { is_image: true, ..own }, content.clone())));
        }
        if kind_of(content)? != Some(PackKind::Cabinet) {
            return Ok(None);
        }
        find(content, 0)
    }
}

fn find(cabinet: &Content, level: usize) -> Result<Option<(VendorPackage, Content)>> {
    let is_manifest =
        |name: &str| name.rsplit(['/', '\\']).next().is_some_and(|last| last.eq_ignore_ascii_case(MANIFEST));
    if let Some((_, manifest)) = read_cabinet(cabinet, &is_manifest, LARGEST_MANIFEST)? {
        let bytes = manifest.to_vec(LARGEST_MANIFEST, "package manifest")?;
        let root = Element::parse(&Text::decode(&bytes).text).map_err(|error| error.within(MANIFEST))?;
        return Ok(Some((of_manifest(&root), cabinet.clone())));
    }
    // Beside the package itself there may be one that only helps to find out what is wanted.
    let is_inner = |name: &str| {
        let lower = name.to_ascii_lowercase();
        lower.ends_with(".cab") && !lower.contains("scan")
    };
    if level >= DEEPEST {
        return Ok(None);
    }
    let Some((name, inner)) = read_cabinet(cabinet, &is_inner, LARGEST_INNER)? else { return Ok(None) };
    Ok(find(&inner, level + 1)?.map(|(mut package, content)| {
        package.inside.insert(0, name);
        (package, content)
    }))
}

/// What the manifest in an image file says: its own, or that of a cabinet or image file in it.
fn find_in_image(content: &Content, level: usize) -> Result<Option<VendorPackage>> {
    let image = ImageFile::open("the package", content.clone())?;
    // Editions of a system are no package, and their trees are large.
    if image.editions().iter().any(|info| info.system.is_some()) {
        return Ok(None);
    }
    let draft = ImageDraft::of(&image);
    for number in 1..=image.editions().len() {
        let files = image.files(number)?;
        if files.len() > MOST_FILES {
            return Ok(None);
        }
        let mut inner: Vec<(String, BlobDigest)> = Vec::new();
        for step in files.walk() {
            let lower = step.path.to_lowercase();
            let name = lower.rsplit('/').next().unwrap_or(&lower);
            let digest = files.entry(step.id).content();
            if name == MANIFEST {
                let content = draft.content(digest, &step.path)?;
                let bytes = content.to_vec(LARGEST_MANIFEST, "package manifest")?;
                let root = Element::parse(&Text::decode(&bytes).text);
                return Ok(Some(of_manifest(&root.map_err(|error| error.within(&step.path))?)));
            }
            // What helps to find out what is wanted, and the stack that services, are not the package itself.
            let is_other = name.contains("scan") || name.starts_with("ssu") || name.contains("deployment");
            if [".cab", ".wim", ".esd"].iter().any(|ending| name.ends_with(ending)) && !is_other {
                inner.push((step.path, digest));
            }
        }
        inner.sort_by(|a, b| a.0.cmp(&b.0));
        for (path, digest) in inner.into_iter().filter(|_| level < DEEPEST) {
            let content = draft.content(digest, &path)?;
            let found = if content.len() >= 8 && is_image_file(&content) {
                find_in_image(&content, level + 1)?
            } else if kind_of(&content)? == Some(PackKind::Cabinet) {
                find(&content, level + 1)?.map(|(package, _)| package)
            } else {
                None
            };
            if let Some(mut package) = found {
                package.inside.insert(0, path);
                return Ok(Some(package));
            }
        }
    }
    Ok(None)
}

fn of_manifest(root: &Element) -> VendorPackage {
    let attribute = |element: Option<&Element>, name: &str| {
        element.and_then(|element| element.attribute(name)).unwrap_or_default().to_owned()
    };
    let identity = root.child("assemblyIdentity");
    let package = root.child("package");
    VendorPackage {
        is_image: false,
        inside: Vec::new(),
        name: attribute(identity, "name"),
        version: attribute(identity, "version"),
        architecture: attribute(identity, "processorArchitecture"),
        language: attribute(identity, "language"),
        public_key_token: attribute(identity, "publicKeyToken"),
        identifier: attribute(package, "identifier"),
        release_type: attribute(package, "releaseType"),
    }
}
