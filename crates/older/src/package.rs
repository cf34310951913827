//! Service packs and fixes: programs that carry a cabinet with `update.inf`, which says what they are for.

use crate::OlderSetup;
use neat_content::{Result, Tree};
use neat_package::{Inf, Pack};

/// The file that says what a package is for, in one of these folders.
const DESCRIPTION: &str = "update.inf";
/// Largest description, in bytes.
const LARGEST: u64 = 16 << 20;
/// The part of a language's identifier that says which language; the rest says where it is spoken.
const PRIMARY: u16 = 0x3FF;

/// What a package is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OlderKind {
    /// A service pack with this number: it holds all before it, and its files replace those of the media.
    ServicePack(u32),
    /// A fix: it is run when setup ends.
    Fix,
}

/// A service pack or a fix.
#[derive(Clone, Debug)]
pub struct OlderPackage {
    /// What it is.
    pub kind: OlderKind,
    /// Its name for people, if it has one.
    pub title: String,
    /// Version of the systems that it is for: two numbers.
    pub system: Option<(u32, u32)>,
    /// Highest build that it is for.
    pub last_build: Option<u32>,
    /// Lowest and highest service pack that it is for.
    pub service_packs: (Option<u32>, Option<u32>),
    /// Identifier of its language without the place where it is spoken; nothing for all languages.
    pub language: Option<u16>,
    /// Its files.
    pub tree: Tree,
    /// The folder with the files that replace those of the media, of a service pack.
    pub folder: String,
}

impl OlderPackage {
    /// What an opened package is; nothing for other packs.
    ///
    /// # Errors
    /// `Corrupt` for a description that cannot be read; `Io`.
    pub fn of(pack: Pack) -> Result<Option<Self>> {
        let tree = pack.tree;
        let is_description =
            |path: &str| path.rsplit('/').next().is_some_and(|name| name.eq_ignore_ascii_case(DESCRIPTION));
        let mut found: Vec<String> =
            tree.walk().map(|step| step.path).filter(|path| is_description(path)).collect();
        // The one that is least deep is of the package itself.
        found.sort_by_key(|path| (path.matches('/').count(), path.clone()));
        let Some(path) = found.into_iter().next() else { return Ok(None) };
        let Some(content) = tree.file(&path) else { return Ok(None) };
        let text = Inf::read(&content.to_vec(LARGEST, DESCRIPTION)?).map_err(|error| error.within(&path))?;
        let said = |key: &str| text.text("Version", key);
        let number = |key: &str| {
            let text = said(key)?;
            let hex = text.strip_prefix("0x").or(text.strip_prefix("0X"));
            hex.map_or_else(|| text.parse().ok(), |digits| u32::from_str_radix(digits, 16).ok())
        };
        // Service packs are counted in the higher byte.
        let pack_number = |key: &str| number(key).map(|number| number >> 8);
        let folder = path.rsplit_once('/').map_or("", |(folder, _)| folder);
        let above = folder.rsplit_once('/').map_or(folder, |(above, _)| above).to_owned();
        let has_setup = tree.file(&format!("{above}/txtsetup.sif")).is_some();
        let kind = match pack_number("ThisServicePackVersion").filter(|_| has_setup) {
            Some(number) => OlderKind::ServicePack(number),
            None => OlderKind::Fix,
        };
        Ok(Some(Self {
            kind,
            title: text.text("Strings", "SP_TITLE").unwrap_or_default(),
            system: number("NtMajorVersionToUpdate").zip(number("NtMinorVersionToUpdate")),
            last_build: number("MaxNtBuildToUpdate"),
            service_packs: (pack_number("MinServicePackVersion"), pack_number("MaxServicePackVersion")),
            language: number("LanguageType").and_then(|own| u16::try_from(own).ok()).filter(|own| *own != 0),
            folder: above,
            tree,
        }))
    }

    /// Why it is not for a setup, or nothing. `service_pack` is the number of the service pack in it by then.
    pub fn misfit(&self, setup: &OlderSetup, service_pack: u32) -> Option<String> {
        let numbers: Vec<u32> = setup.version.split('.').filter_map(|part| part.parse().ok()).collect();
        if let (Some(wanted), [major, minor, ..]) = (self.system, numbers.as_slice())
            && wanted != (*major, *minor)
        {
            return Some(format!("it is for {}.{}, and the media has {major}.{minor}", wanted.0, wanted.1));
        }
        if let (Some(last), Some(build)) = (self.last_build, numbers.get(2))
            && *build > last
        {
            return Some(format!("it is for builds up to {last}, and the media has {build}"));
        }
        if let (Some(own), Some(there)) = (self.language, setup.language)
            && own & PRIMARY != there & PRIMARY
        {
            return Some(format!(
                "it is for another language: its number is {:#x}, and the media's is {:#x}",
                own & PRIMARY,
                there & PRIMARY
            ));
        }
        if self.kind == OlderKind::Fix {
            let (least, most) = self.service_packs;
            if let Some(least) = least.filter(|least| service_pack < *least) {
                return Some(format!("it wants service pack {least}, and the media has {service_pack}"));
            }
            if let Some(most) = most.filter(|most| service_pack > *most) {
                return Some(format!(
                    "it is for systems up to service pack {most}, and the media has {service_pack}"
                ));
            }
        }
        None
    }
}
