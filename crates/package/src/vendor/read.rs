//! From a file to the packages in it.

use super::{Identity, PackageManifest, manifest::LARGEST};
use crate::{
    Limits,
    pack::{PackKind, archive_in, kind_of, read_cabinet},
};
use neat_content::{Content, Error, Result, damage_apart};
use neat_image::{BlobDigest, ImageDraft, ImageFile, is_image_file};

/// Name of the manifest in a vendor's package.
const MANIFEST: &str = "update.mum";
/// Ending of the manifests of packages that come with it.
const MANIFESTS: &str = ".mum";
/// Most bytes of manifests that are read of one cabinet.
const MOST_MANIFESTS: u64 = 64 << 20;
/// Most files of an image file that is a package.
const MOST_FILES: usize = 200_000;
/// Cabinets in cabinets, and image files, are opened down to this level.
const DEEPEST: usize = 2;
/// Most bytes of cabinets that are taken out of one to look into them.
const LARGEST_INNER: u64 = 4 << 30;
/// Most packages of one file.
const MOST_PACKAGES: usize = 64;

/// What a vendor's package is as a file.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum VendorForm {
    /// A cabinet with the manifest.
    #[default]
    Cabinet,
    /// A cabinet with such cabinets.
    Bundle,
    /// An image file.
    ImageFile,
    /// A program that carries a cabinet.
    Program,
}

impl VendorForm {
    /// A word for it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Cabinet => "cabinet",
            Self::Bundle => "cabinet in a cabinet",
            Self::ImageFile => "image file",
            Self::Program => "program with a cabinet",
        }
    }
}

/// One package in a file.
#[derive(Clone, Debug, Default)]
pub struct InnerPackage {
    /// Names from the file down to the cabinet or image file with its manifest; empty if the file itself has it.
    pub inside: Vec<String>,
    /// What it says of itself.
    pub manifest: PackageManifest,
    /// What the packages say that come with it.
    pub nested: Vec<PackageManifest>,
    /// The cabinet with the manifest, which setup takes; none where it lies in an image file.
    pub cabinet: Option<Content>,
}

/// A file with a vendor's packages.
#[derive(Clone, Debug, Default)]
pub struct VendorPackage {
    /// What it is as a file.
    pub form: VendorForm,
    /// The package that it is about: the first that does not only install others.
    pub main: InnerPackage,
    /// Further packages, in the order in which they go in; all go in before the main one.
    pub others: Vec<InnerPackage>,
    /// Whether it has a store of patches, of which only the installed system makes files.
    pub has_patches: bool,
}

/// What was found in a file.
#[derive(Default)]
struct Found {
    packages: Vec<InnerPackage>,
    has_patches: bool,
}

impl VendorPackage {
    /// Reads what `content` holds; nothing if it is no vendor's package.
    ///
    /// # Errors
    /// `Corrupt` for a package that cannot be read; `Io`.
    pub fn of_content(content: &Content) -> Result<Option<Self>> {
        let mut found = Found::default();
        let mut form = VendorForm::Cabinet;
        if content.len() >= 8 && is_image_file(content) {
            form = VendorForm::ImageFile;
            found.add_image(content, &[])?;
        } else {
            match kind_of(content)? {
                Some(PackKind::Cabinet) => found.add_cabinet(content, &[])?,
                Some(PackKind::Program) => {
                    form = VendorForm::Program;
                    // Most programs carry nothing of the kind.
                    match damage_apart(archive_in(content, &Limits::default()))? {
                        Ok((PackKind::Cabinet, part)) => found.add_cabinet(&part, &[])?,
                        Ok(_) | Err(_) => return Ok(None),
                    }
                }
                _ => return Ok(None),
            }
        }
        let Found { packages: mut others, has_patches } = found;
        if form == VendorForm::Cabinet && others.iter().any(|own| !own.inside.is_empty()) {
            form = VendorForm::Bundle;
        }
        // What installs the others goes in before them.
        others.sort_by_key(|own| !own.manifest.is_servicing());
        let main = others.iter().position(|own| !own.manifest.is_servicing()).unwrap_or(0);
        if others.is_empty() {
            return Ok(None);
        }
        let main = others.remove(main);
        Ok(Some(Self { form, main, others, has_patches }))
    }

    /// Its packages, in the order in which they go in.
    pub fn packages(&self) -> impl Iterator<Item = &InnerPackage> {
        self.others.iter().chain(std::iter::once(&self.main))
    }

    /// What is in an edition when it went in: its packages and those that come with them.
    pub fn identities(&self) -> impl Iterator<Item = &Identity> {
        self.packages().flat_map(|own| {
            let nested = own.nested.iter().map(|own| &own.identity);
            std::iter::once(&own.manifest.identity).chain(nested).chain(&own.manifest.packages)
        })
    }

    /// What it goes into: what any of its manifests wants, and no other package in it brings. A package that wants an
    /// earlier version of itself wants it in before.
    pub fn parents(&self) -> impl Iterator<Item = &super::Parent> {
        let all = self.packages().flat_map(|own| std::iter::once(&own.manifest).chain(&own.nested));
        all.flat_map(move |manifest| {
            let brings = move |parent: &super::Parent| {
                let mut others = self.identities().filter(|own| !own.is_kin(&manifest.identity));
                others.any(|own| parent.is_met_by(own))
            };
            let wanted = manifest.parents.iter().filter(|parent| !parent.any_of.is_empty());
            wanted.filter(move |parent| !brings(parent))
        })
    }
}

impl Found {
    fn add(&mut self, own: InnerPackage) -> Result<()> {
        if self.packages.len() == MOST_PACKAGES {
            return Err(Error::Limit {
                what: "packages in one file".into(),
                offset: 0,
                limit: MOST_PACKAGES as u64,
                found: MOST_PACKAGES as u64 + 1,
            });
        }
        self.packages.push(own);
        Ok(())
    }

    /// The package that a cabinet is, or those in the cabinets in it.
    fn add_cabinet(&mut self, cabinet: &Content, inside: &[String]) -> Result<()> {
        let manifest = read_cabinet(cabinet, &|name| is_named(name, MANIFEST), LARGEST)?;
        if let Some((name, content)) = manifest.into_iter().next() {
            let Some(manifest) = manifest_of(&content, &name)? else { return Ok(()) };
            let nested = if manifest.packages.is_empty() { Vec::new() } else { nested_in(cabinet)? };
            let (inside, cabinet) = (inside.to_vec(), Some(cabinet.clone()));
            return self.add(InnerPackage { inside, manifest, nested, cabinet });
        }
        if inside.len() >= DEEPEST {
            return Ok(());
        }
        // Beside the package itself there may be one that only helps to find out what is wanted.
        let is_inner = |name: &str| {
            let lower = name.to_ascii_lowercase();
            lower.ends_with(".cab") && !lower.contains("scan")
        };
        for (name, inner) in read_cabinet(cabinet, &is_inner, LARGEST_INNER)? {
            let below = [inside, std::slice::from_ref(&name)].concat();
            if kind_of(&inner)? == Some(PackKind::Cabinet) {
                self.add_cabinet(&inner, &below).map_err(|error| error.within(&name))?;
            }
        }
        Ok(())
    }

    /// The packages in an image file: itself, cabinets and image files in it.
    fn add_image(&mut self, content: &Content, inside: &[String]) -> Result<()> {
        let image = ImageFile::open("the package", content.clone())?;
        // Editions of a system are no package, and their trees are large.
        if image.editions().iter().any(|info| info.system.is_some()) {
            return Ok(());
        }
        let draft = ImageDraft::of(&image);
        for number in 1..=image.editions().len() {
            let files = image.files(number)?;
            if files.len() > MOST_FILES {
                return Ok(());
            }
            let mut inner: Vec<(String, BlobDigest)> = Vec::new();
            let (mut manifest, mut nested, mut nested_len) = (None, Vec::new(), 0_u64);
            for step in files.walk() {
                let lower = step.path.to_lowercase();
                let digest = files.entry(step.id).content();
                if lower.ends_with(MANIFESTS) {
                    let content = draft.content(digest, &step.path)?;
                    nested_len += content.len();
                    let own = (nested_len <= MOST_MANIFESTS).then(|| manifest_of(&content, &step.path));
                    match own.transpose()?.flatten() {
                        Some(own) if is_named(&lower, MANIFEST) => manifest = Some(own),
                        own => nested.extend(own),
                    }
                }
                self.has_patches |= lower.ends_with(".psf");
                let is_other = lower.contains("scan") || lower.contains("deployment");
                if [".cab", ".wim", ".esd"].iter().any(|ending| lower.ends_with(ending)) && !is_other {
                    inner.push((step.path, digest));
                }
            }
            if let Some(manifest) = manifest {
                let nested = if manifest.packages.is_empty() { Vec::new() } else { nested };
                self.add(InnerPackage { inside: inside.to_vec(), manifest, nested, cabinet: None })?;
                continue;
            }
            inner.sort();
            for (path, digest) in inner.into_iter().filter(|_| inside.len() < DEEPEST) {
                let content = draft.content(digest, &path)?;
                let below = [inside, std::slice::from_ref(&path)].concat();
                if content.len() >= 8 && is_image_file(&content) {
                    self.add_image(&content, &below)
                } else if kind_of(&content)? == Some(PackKind::Cabinet) {
                    self.add_cabinet(&content, &below)
                } else {
                    Ok(())
                }
                .map_err(|error| error.within(&path))?;
            }
        }
        Ok(())
    }
}

/// The manifests of a cabinet besides its own.
fn nested_in(cabinet: &Content) -> Result<Vec<PackageManifest>> {
    let is_nested = |name: &str| name.to_lowercase().ends_with(MANIFESTS) && !is_named(name, MANIFEST);
    let found = read_cabinet(cabinet, &is_nested, MOST_MANIFESTS)?;
    let read = found.iter().map(|(name, content)| manifest_of(content, name));
    Ok(read.collect::<Result<Vec<_>>>()?.into_iter().flatten().collect())
}

fn manifest_of(content: &Content, name: &str) -> Result<Option<PackageManifest>> {
    let bytes = content.to_vec(LARGEST, "package manifest")?;
    PackageManifest::read(&bytes).map_err(|error| error.within(name))
}

/// Whether a path ends in this name.
fn is_named(path: &str, name: &str) -> bool {
    path.rsplit(['/', '\\']).next().is_some_and(|last| last.eq_ignore_ascii_case(name))
}
