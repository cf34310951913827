//! What packages and their parts are called.

use crate::{Architecture, Version};
use neat_image::xml::Element;
use std::fmt;

/// What stands for "any" in identities, besides nothing.
const ANY: [&str; 3] = ["neutral", "none", "*"];

/// What a package, or a part of one, is called: an `assemblyIdentity`. What is not said is empty.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Identity {
    /// Name.
    pub name: String,
    /// Version, as it stands there.
    pub version: String,
    /// Architecture, in the vendor's word.
    pub architecture: String,
    /// Language, `neutral` for all.
    pub language: String,
    /// Token of the key that it is signed with.
    pub token: String,
}

impl Identity {
    /// The identity in an element.
    pub fn of(element: &Element) -> Self {
        // It goes into texts and file names, where the end of a line would begin another.
        let attribute = |name: &str| -> String {
            let value = element.attribute(name).unwrap_or_default();
            value.chars().filter(|c| !c.is_control()).collect()
        };
        Self {
            name: attribute("name"),
            version: attribute("version"),
            architecture: attribute("processorArchitecture"),
            language: attribute("language"),
            token: attribute("publicKeyToken"),
        }
    }

    /// The identity in the name of a package's record: name, token, architecture, language and version, with `~` between.
    pub fn of_record(stem: &str) -> Option<Self> {
        let mut parts = stem.rsplitn(5, '~').map(str::to_owned);
        let [version, language, architecture, token, name] =
            [parts.next()?, parts.next()?, parts.next()?, parts.next()?, parts.next()?];
        Some(Self { name, version, architecture, language, token })
    }

    /// The numbers of the version.
    pub fn version(&self) -> Version {
        Version::parse(&self.version).unwrap_or_default()
    }

    /// The architecture, where it is one that media have.
    pub fn architecture(&self) -> Option<Architecture> {
        Architecture::of_word(&self.architecture)
    }

    /// The language that it is for; none for all.
    pub fn language(&self) -> Option<&str> {
        let is_any = |text: &str| text.is_empty() || ANY.iter().any(|any| any.eq_ignore_ascii_case(text));
        Some(self.language.as_str()).filter(|text| !is_any(text))
    }

    /// Whether both are versions of the same thing: same name, and where both say so the same architecture, language and
    /// key.
    pub fn is_kin(&self, other: &Self) -> bool {
        let same = |a: &str, b: &str| a.eq_ignore_ascii_case(b);
        let agree = |a: &str, b: &str| a.is_empty() || b.is_empty() || same(a, b);
        let language = |own: &Self| own.language().unwrap_or_default().to_ascii_lowercase();
        same(&self.name, &other.name)
            && agree(&self.architecture, &other.architecture)
            && agree(&self.token, &other.token)
            && language(self) == language(other)
    }
}

impl fmt::Display for Identity {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.name)?;
        if self.version.is_empty() { Ok(()) } else { write!(f, " {}", self.version) }
    }
}
