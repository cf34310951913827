//! What the XML data says of an edition.

use crate::xml::{Child, Element};
use neat_content::Timestamp;

/// What a person wants to know of an edition. Empty or nothing where the file does not say.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct EditionInfo {
    /// Name, unique in the file.
    pub name: String,
    /// Description.
    pub description: String,
    /// The name that setup shows.
    pub display_name: String,
    /// The description that setup shows.
    pub display_description: String,
    /// A word that setup knows the edition by.
    pub flags: String,
    /// Folders, as the file counts them.
    pub folders: Option<u64>,
    /// Files, as the file counts them.
    pub files: Option<u64>,
    /// Bytes of the files.
    pub bytes: Option<u64>,
    /// Bytes of them that hard links save.
    pub hard_link_bytes: Option<u64>,
    /// When it was made.
    pub created: Option<Timestamp>,
    /// When it was last changed.
    pub modified: Option<Timestamp>,
    /// The system in it.
    pub system: Option<SystemInfo>,
}

/// The system in an edition.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SystemInfo {
    /// Architecture, in the words of the trade: `x86`, `x64`, `arm64`.
    pub architecture: String,
    /// Product.
    pub product: String,
    /// Which edition of the product.
    pub edition: String,
    /// What it is installed as.
    pub installation: String,
    /// Version: major, minor, build, and the build of the service pack or update.
    pub version: Option<[u64; 4]>,
    /// Level of the service pack.
    pub service_pack: Option<u64>,
    /// Languages.
    pub languages: Vec<String>,
    /// The language that is used when nobody says.
    pub default_language: String,
    /// Folder of the system in the edition.
    pub root: String,
}

impl SystemInfo {
    /// The version as people write it.
    pub fn version_text(&self) -> String {
        match self.version {
            Some([major, minor, build, 0]) => format!("{major}.{minor}.{build}"),
            Some([major, minor, build, update]) => format!("{major}.{minor}.{build}.{update}"),
            None => String::new(),
        }
    }
}

/// Numbers of architectures in the XML data, and their names.
const ARCHITECTURES: [(u64, &str); 5] = [(0, "x86"), (5, "arm"), (6, "ia64"), (9, "x64"), (12, "arm64")];

fn architecture(number: u64) -> String {
    let known = ARCHITECTURES.iter().find(|(own, _)| *own == number);
    known.map_or_else(|| format!("number {number}"), |(_, name)| (*name).to_owned())
}

fn architecture_number(name: &str) -> Option<u64> {
    ARCHITECTURES.iter().find(|(_, own)| *own == name).map(|(number, _)| *number)
}

impl EditionInfo {
    /// Reads an `IMAGE` element.
    pub fn of(image: &Element) -> Self {
        let text = |name: &str| image.text_at(&[name]).unwrap_or_default();
        let time = |name: &str| {
            let half = |part: &str| {
                let text = image.text_at(&[name, part])?;
                u64::from_str_radix(text.trim_start_matches("0x").trim_start_matches("0X"), 16).ok()
            };
            let units = (half("HIGHPART")? & 0xFFFF_FFFF) << 32 | half("LOWPART")? & 0xFFFF_FFFF;
            Some(crate::metadata::Times::to_timestamp(units))
        };
        Self {
            name: text("NAME"),
            description: text("DESCRIPTION"),
            display_name: text("DISPLAYNAME"),
            display_description: text("DISPLAYDESCRIPTION"),
            flags: text("FLAGS"),
            folders: image.number_at(&["DIRCOUNT"]),
            files: image.number_at(&["FILECOUNT"]),
            bytes: image.number_at(&["TOTALBYTES"]),
            hard_link_bytes: image.number_at(&["HARDLINKBYTES"]),
            created: time("CREATIONTIME"),
            modified: time("LASTMODIFICATIONTIME"),
            system: system(image),
        }
    }
}

/// Changes the version in an `IMAGE` element.
pub(crate) fn set_version(image: &mut Element, [major, minor, build, update]: [u64; 4]) {
    let Some(version) = system_mut(image).and_then(|system| system.child_mut("VERSION")) else { return };
    for (name, number) in [("MAJOR", major), ("MINOR", minor), ("BUILD", build), ("SPBUILD", update)] {
        version.set(name, Some(&number.to_string()));
    }
}

/// Describes the system in an `IMAGE` element, in a new element of this name.
pub(crate) fn set_system(image: &mut Element, element: &str, info: &SystemInfo) {
    let mut system = Element::with_text(element, "");
    if let Some(number) = architecture_number(&info.architecture) {
        system.set("ARCH", Some(&number.to_string()));
    }
    for (name, text) in [
        ("PRODUCTNAME", &info.product),
        ("EDITIONID", &info.edition),
        ("INSTALLATIONTYPE", &info.installation),
    ] {
        if !text.is_empty() {
            system.set(name, Some(text));
        }
    }
    if !info.languages.is_empty() {
        let mut languages = Element::with_text("LANGUAGES", "");
        for language in &info.languages {
            languages.children.push(Child::Element(Element::with_text("LANGUAGE", language)));
        }
        if !info.default_language.is_empty() {
            languages.set("DEFAULT", Some(&info.default_language));
        }
        system.children.push(Child::Element(languages));
    }
    if let Some([major, minor, build, update]) = info.version {
        let mut version = Element::with_text("VERSION", "");
        for (name, number) in [
            ("MAJOR", major),
            ("MINOR", minor),
            ("BUILD", build),
            ("SPBUILD", update),
            ("SPLEVEL", info.service_pack.unwrap_or(0)),
        ] {
            version.set(name, Some(&number.to_string()));
        }
        system.children.push(Child::Element(version));
    }
    if !info.root.is_empty() {
        system.set("SYSTEMROOT", Some(&info.root));
    }
    image.children.retain(|child| !matches!(child, Child::Element(own) if own.name == element));
    image.children.push(Child::Element(system));
}

/// Adds a language to an `IMAGE` element, before the one that says which is used when nobody says.
pub(crate) fn add_language(image: &mut Element, language: &str) {
    let Some(languages) = system_mut(image).and_then(|system| system.child_mut("LANGUAGES")) else { return };
    if languages.elements().any(|own| own.name == "LANGUAGE" && own.text().eq_ignore_ascii_case(language)) {
        return;
    }
    let is_default = |child: &Child| matches!(child, Child::Element(element) if element.name == "DEFAULT");
    let place = languages.children.iter().position(is_default).unwrap_or(languages.children.len());
    languages.children.insert(place, Child::Element(Element::with_text("LANGUAGE", language)));
}

fn system_mut(image: &mut Element) -> Option<&mut Element> {
    image.children.iter_mut().find_map(|child| match child {
        Child::Element(element) if element.child("ARCH").is_some() || element.child("VERSION").is_some() => {
            Some(element)
        }
        _ => None,
    })
}

/// The element that describes the system is told by what is in it: its own name is the product's.
fn system(image: &Element) -> Option<SystemInfo> {
    let element = image
        .elements()
        .find(|element| element.child("ARCH").is_some() || element.child("VERSION").is_some())?;
    let text = |name: &str| element.text_at(&[name]).unwrap_or_default();
    let number = |name: &str| element.number_at(&["VERSION", name]);
    let languages = element.child("LANGUAGES");
    let all = languages.into_iter().flat_map(Element::elements);
    Some(SystemInfo {
        architecture: element.number_at(&["ARCH"]).map(architecture).unwrap_or_default(),
        product: text("PRODUCTNAME"),
        edition: text("EDITIONID"),
        installation: text("INSTALLATIONTYPE"),
        version: number("MAJOR")
            .zip(number("MINOR"))
            .zip(number("BUILD"))
            .map(|((major, minor), build)| [major, minor, build, number("SPBUILD").unwrap_or(0)]),
        service_pack: number("SPLEVEL"),
        languages: all.filter(|element| element.name == "LANGUAGE").map(Element::text).collect(),
        default_language: languages.and_then(|element| element.text_at(&["DEFAULT"])).unwrap_or_default(),
        root: text("SYSTEMROOT"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_edition_is_described() {
        let text = "<IMAGE INDEX=\"1\"><NAME>Quay</NAME><FILECOUNT>7</FILECOUNT><CREATIONTIME><HIGHPART>0x01DA01FC</HIGHPART><LOWPART>0x7E376E86</LOWPART></CREATIONTIME><QUAY><ARCH>9</ARCH><EDITIONID>Bridge</EDITIONID><LANGUAGES><LANGUAGE>en-GB</LANGUAGE><LANGUAGE>nb-NO</LANGUAGE><DEFAULT>en-GB</DEFAULT></LANGUAGES><VERSION><MAJOR>7</MAJOR><MINOR>0</MINOR><BUILD>7042</BUILD><SPBUILD>12</SPBUILD></VERSION></QUAY></IMAGE>";
        let info = EditionInfo::of(&Element::parse(text).unwrap());
        assert_eq!((info.name.as_str(), info.files, info.bytes), ("Quay", Some(7), None));
        assert_eq!(info.created.unwrap().seconds, 1_697_658_692);
        let system = info.system.unwrap();
        assert_eq!((system.architecture.as_str(), system.version_text().as_str()), ("x64", "7.0.7042.12"));
        assert_eq!(system.languages, ["en-GB", "nb-NO"]);
    }
}
