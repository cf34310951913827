//! Where setup looks for the file, and how it is known.

use super::document::Document;
use crate::face::{About, Rules};

pub(super) const ABOUT: About = About {
    places: &["I386/WINNT.SIF", "AMD64/WINNT.SIF", "unattend.txt"],
    companions: &[],
    kernel: None,
    rules: Rules { short_names: true, rest_is_last: true, four_on_mbr: true, iana_zones: false },
    likeness,
    looks_secret,
    is_long: |_| false,
    chooser: || None,
};

/// Sections that these files have and other INI files have not.
const SECTIONS: [&str; 4] = ["Unattended", "GuiUnattended", "UserData", "GuiRunOnce"];

fn likeness(text: &str) -> u8 {
    let is_head = |line: &str| {
        let name =
            line.trim().strip_prefix('[').and_then(|rest| rest.split_once(']')).map(|(name, _)| name.trim());
        name.is_some_and(|name| SECTIONS.iter().any(|own| own.eq_ignore_ascii_case(name)))
    };
    if text.lines().any(is_head) { 3 } else { 0 }
}

/// Keys whose values are secrets; a star stands for none.
const SECRETS: [&str; 4] = ["password", "productkey", "productid", "secret"];

fn looks_secret(lower: &str) -> bool {
    let Ok(document) = Document::parse(lower) else { return true };
    let is_named = |key: &str| SECRETS.iter().any(|word| key.contains(word));
    document.entries.iter().any(|own| {
        // This one only says how the other is stored.
        let is_form = own.key == "encryptedadminpassword";
        is_named(&own.key) && !is_form && !matches!(own.value.as_str(), "" | "*")
            || own.section.eq_ignore_ascii_case("guirunonce")
                && own.value.contains("net")
                && own.value.contains(" user ")
    })
}
