//! What the manifest of a package says.

use super::Identity;
use neat_content::{Result, Text};
use neat_image::xml::Element;
use std::borrow::Cow;

/// Largest manifest, in bytes.
pub(super) const LARGEST: u64 = 16 << 20;

/// The manifest of a package, in the form that package records in editions have too.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PackageManifest {
    /// What it is called.
    pub identity: Identity,
    /// Its title for people, if it says one itself.
    pub title: String,
    /// What it is, likewise.
    pub description: String,
    /// What people call it, such as a number in the vendor's knowledge base.
    pub identifier: String,
    /// What sort of package the vendor calls it.
    pub release_type: String,
    /// Whether the system must start anew afterwards, in the vendor's word.
    pub restart: String,
    /// What it goes into; every one of them is wanted.
    pub parents: Vec<Parent>,
    /// What is not needed any more when it is in.
    pub replaces: Vec<Identity>,
    /// Packages that come with it.
    pub packages: Vec<Identity>,
    /// Features and other parts.
    pub features: Vec<PackageFeature>,
    /// What it brings into the component store.
    pub components: Vec<Identity>,
    /// Files that it lists, with variables in their paths.
    pub files: Vec<String>,
}

/// A part of a package that can be on or off.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct PackageFeature {
    /// Its name.
    pub name: String,
    /// Whether it has a name for people: only such parts are offered to them.
    pub is_shown: bool,
}

/// What a package goes into: one of several.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Parent {
    /// Any of these.
    pub any_of: Vec<Identity>,
    /// Whether the third number of the version must be the same; else it may be higher.
    pub exact_build: bool,
    /// Whether the fourth number must be the same.
    pub exact_revision: bool,
}

impl PackageManifest {
    /// Reads a manifest; nothing if it names no package.
    ///
    /// # Errors
    /// `Corrupt` for text that is no XML.
    pub fn read(bytes: &[u8]) -> Result<Option<Self>> {
        Ok(Self::of(&Element::parse(&Text::decode(bytes).text)?))
    }

    /// What the root of a manifest says; nothing if it names no package.
    pub fn of(root: &Element) -> Option<Self> {
        let identity = Identity::of(root.local("assemblyIdentity")?);
        let empty = Element::default();
        let package = root.local("package").unwrap_or(&empty);
        let attribute = |name: &str| package.attribute(name).unwrap_or_default().into_owned();
        // Where a text stands elsewhere, the manifest has a variable.
        let text = |name: &str| {
            let text = root.attribute(name).filter(|text| !text.starts_with("$("));
            text.unwrap_or_default().into_owned()
        };
        let mut own = Self {
            identity,
            title: text("displayName"),
            description: text("description"),
            identifier: attribute("identifier"),
            release_type: attribute("releaseType"),
            restart: attribute("restart"),
            ..Self::default()
        };
        own.parents = package.locals("parent").map(Parent::of).collect();
        own.replaces = package.locals("supersedes").flat_map(identities).collect();
        for update in package.locals("update") {
            if let Some(name) = update.attribute("name") {
                let is_shown = update.attribute("displayName").is_some();
                own.features.push(PackageFeature { name: name.into_owned(), is_shown });
            }
            own.packages.extend(update.locals("package").flat_map(identities));
            let parts = update.locals("component").chain(update.locals("driver"));
            own.components.extend(parts.flat_map(identities));
        }
        let information = package.local("customInformation").into_iter();
        let files = information.flat_map(|own| own.locals("file"));
        own.files = files.filter_map(|file| file.attribute("name").map(Cow::into_owned)).collect();
        Some(own)
    }

    /// Whether it is of those that install others, and goes in before them.
    pub fn is_servicing(&self) -> bool {
        let is_word = |text: &str| text.to_ascii_lowercase().replace(' ', "").contains("servicingstack");
        is_word(&self.identity.name) || is_word(&self.release_type)
    }

    /// Whether it adds a language, which the edition then need not have.
    pub fn is_language(&self) -> bool {
        self.release_type.eq_ignore_ascii_case("Language Pack") && self.identity.language().is_some()
    }
}

impl Parent {
    fn of(element: &Element) -> Self {
        let is_exact =
            |name: &str| element.attribute(name).is_some_and(|word| word.eq_ignore_ascii_case("EQ"));
        Self {
            any_of: identities(element).collect(),
            exact_build: is_exact("buildCompare"),
            exact_revision: is_exact("revisionCompare"),
        }
    }

    /// Whether a package that is there is what is wanted. A version is wanted as it says, or a later one of the same
    /// first two numbers.
    pub fn is_met_by(&self, there: &Identity) -> bool {
        self.any_of.iter().any(|wanted| {
            let is_any_language = wanted.language().is_none();
            let same = if is_any_language {
                wanted.is_kin(&Identity { language: String::new(), ..there.clone() })
            } else {
                wanted.is_kin(there)
            };
            same && self.fits_version(wanted, there)
        })
    }

    fn fits_version(&self, wanted: &Identity, there: &Identity) -> bool {
        if wanted.version.is_empty() {
            return true;
        }
        let (wanted, there) = (wanted.version().0, there.version().0);
        let number = |version: &[u64], n: usize| version.get(n).copied().unwrap_or(0);
        let [build, revision] = [2, 3].map(|n| number(&there, n).cmp(&number(&wanted, n)));
        let is_build = build.is_eq() || build.is_gt() && !self.exact_build;
        let is_revision = match (self.exact_revision, build.is_gt()) {
            (true, _) => revision.is_eq(),
            (false, is_later) => is_later || revision.is_ge(),
        };
        (0..2).all(|n| number(&wanted, n) == number(&there, n)) && is_build && is_revision
    }
}

/// The identities in an element.
fn identities(element: &Element) -> impl Iterator<Item = Identity> {
    element.locals("assemblyIdentity").map(Identity::of)
}
