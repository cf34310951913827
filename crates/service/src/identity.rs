//! What an edition is, by its own hives: for editions that no image file describes yet.

use crate::{Edition, layout};
use neat_content::Result;
use neat_image::SystemInfo;
use neat_registry::HiveRole;

/// Words of the system for architectures, and those of the trade.
const ARCHITECTURES: [(&str, &str); 4] =
    [("AMD64", "x64"), ("x86", "x86"), ("ARM64", "arm64"), ("ARM", "arm")];

impl Edition {
    /// What the hives say that the system is, with the name of the element that says so in XML data; nothing where the
    /// edition has no known layout, or its hives say no version.
    ///
    /// # Errors
    /// Those of a layout that names no hive.
    pub fn identity(&self) -> Result<Option<(String, SystemInfo)>> {
        let Some(layout) = &self.layout else { return Ok(None) };
        let (Some(identity), Some(software)) = (&layout.identity, self.hive(HiveRole::Software)) else {
            return Ok(None);
        };
        let text = |name: &str| software.text_at(&identity.key, name).unwrap_or_default();
        let number = |name: &str| software.number_at(&identity.key, name);
        let build = [text("CurrentBuildNumber"), text("CurrentBuild")];
        let build = build.iter().find_map(|text| text.trim().parse::<u64>().ok());
        // Before the numbers there was a text of two.
        let old = text("CurrentVersion");
        let old =
            old.split_once('.').and_then(|(major, minor)| Some((major.parse().ok()?, minor.parse().ok()?)));
        let pair = number("CurrentMajorVersionNumber").zip(number("CurrentMinorVersionNumber")).or(old);
        let Some(((major, minor), build)) = pair.zip(build) else { return Ok(None) };
        let place = &identity.architecture;
        let role = layout::role(&place.hive)?;
        let key = self.in_hive(role, &place.key);
        let word = self.hive(role).and_then(|hive| hive.text_at(&key, &place.value)).unwrap_or_default();
        let known = ARCHITECTURES.iter().find(|(own, _)| own.eq_ignore_ascii_case(&word));
        Ok(Some((
            identity.element.clone(),
            SystemInfo {
                architecture: known.map(|(_, word)| (*word).to_owned()).unwrap_or_default(),
                product: text("ProductName"),
                edition: text("EditionID"),
                installation: text("InstallationType"),
                version: Some([major, minor, build, number("UBR").unwrap_or(0)]),
                service_pack: number("CSDVersion"),
                languages: self.installed_languages(),
                default_language: self.default_language().unwrap_or_default(),
                root: self.root.clone(),
            },
        )))
    }

    /// Languages with a key of their own.
    fn installed_languages(&self) -> Vec<String> {
        let (Some(layout), Some(hive)) =
            (self.layout.as_ref().and_then(|own| own.languages.as_ref()), self.hive(HiveRole::System))
        else {
            return Vec::new();
        };
        let keys = layout.keys.iter().map(|key| hive.with_control_set(key));
        let found = keys.filter_map(|key| hive.find(&key)).flat_map(|id| hive.children(id));
        found.map(|child| hive.name(*child)).collect()
    }

    /// The language that new accounts see: the one that is set, or the only one.
    fn default_language(&self) -> Option<String> {
        let layout = self.layout.as_ref()?.languages.as_ref()?;
        let set = layout.interface.iter().find_map(|place| {
            let role = layout::role(&place.hive).ok()?;
            let value = self.hive(role)?.text_at(&self.in_hive(role, &place.key), &place.value)?;
            value.split(['\0', '\n']).map(str::to_owned).find(|tag| !tag.is_empty())
        });
        let mut known = self.installed_languages();
        set.or_else(|| if known.len() == 1 { known.pop() } else { None })
    }
}
