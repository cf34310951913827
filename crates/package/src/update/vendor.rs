//! Vendors' update packages: cabinets with a package manifest inside, or cabinets in a cabinet. They are recognised
//! and staged for setup, not taken apart.

use crate::pack::{PackKind, kind_of, read_cabinet};
use neat_content::{Content, Result, Text};
use neat_image::xml::Element;

/// Name of the manifest in a vendor's package.
const MANIFEST: &str = "update.mum";
/// Largest manifest, in bytes.
const LARGEST_MANIFEST: u64 = 16 << 20;
/// Cabinets in cabinets are opened down to this level.
const DEEPEST: usize = 2;
/// Largest inner cabinet that is looked into, in bytes.
const LARGEST_INNER: u64 = 2 << 30;

/// What a vendor's package says of itself.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct VendorPackage {
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

fn of_manifest(root: &Element) -> VendorPackage {
    let attribute = |element: Option<&Element>, name: &str| {
        element.and_then(|element| element.attribute(name)).unwrap_or_default().to_owned()
    };
    let identity = root.child("assemblyIdentity");
    let package = root.child("package");
    VendorPackage {
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
