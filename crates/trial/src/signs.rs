//! What texts mean.

use neat_content::{Error, Result};
use serde::{Deserialize, Serialize};

/// How far a machine got.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum Stage {
    /// The firmware found nothing that it could start.
    #[default]
    Nothing,
    /// The firmware found a boot entry.
    Entry,
    /// The boot image ran.
    Image,
    /// A loader ran.
    Loader,
    /// A kernel or the setup environment ran.
    System,
    /// It asks a person something.
    Asks,
    /// It installs.
    Installs,
    /// It switched the machine off, or started it again.
    Off,
}

impl Stage {
    /// What people call it.
    pub const fn words(self) -> &'static str {
        match self {
            Self::Nothing => "firmware found nothing to start",
            Self::Entry => "firmware found a boot entry",
            Self::Image => "boot image ran",
            Self::Loader => "loader ran",
            Self::System => "kernel or setup environment ran",
            Self::Asks => "asks a question",
            Self::Installs => "installs",
            Self::Off => "switched the machine off",
        }
    }
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Sign {
    stage: Option<Stage>,
    failed: Option<String>,
    texts: Vec<String>,
}

/// All that is known.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Signs {
    sign: Vec<Sign>,
}

impl Signs {
    /// Those that come with the program.
    pub(crate) fn known() -> Result<Self> {
        toml::from_str(include_str!("signs.toml"))
            .map_err(|error| Error::internal(format!("signs.toml: {}", error.message())))
    }

    /// The farthest stage that `text` shows, with the line that shows it.
    pub(crate) fn stage(&self, text: &str) -> Option<(Stage, String)> {
        let stages = self.sign.iter().filter_map(|sign| Some((sign.stage?, &sign.texts)));
        let seen = stages.filter_map(|(stage, texts)| {
            let at = texts.iter().filter_map(|sign| text.rfind(sign.as_str())).max()?;
            Some((stage, line_at(text, at)))
        });
        seen.max_by_key(|(stage, _)| *stage)
    }

    /// What went wrong by what `text` shows, with the line that shows it.
    pub(crate) fn failure(&self, text: &str) -> Option<(String, String)> {
        let failures = self.sign.iter().filter_map(|sign| Some((sign.failed.as_ref()?, &sign.texts)));
        let mut seen = failures.filter_map(|(failed, texts)| {
            let at = texts.iter().find_map(|sign| text.rfind(sign.as_str()))?;
            Some((failed.clone(), line_at(text, at)))
        });
        seen.next()
    }
}

/// The line around a position, without control characters.
pub(crate) fn line_at(text: &str, at: usize) -> String {
    let is_end = |c: char| c == '\n' || c == '\r';
    let start = text[..at].rfind(is_end).map_or(0, |end| end + 1);
    let end = text[at..].find(is_end).map_or(text.len(), |len| at + len);
    let line: String = text[start..end].chars().filter(|c| !c.is_control()).collect();
    line.trim().chars().take(160).collect()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    #[test]
    fn texts_tell_how_far_it_got() {
        let signs = Signs::known().unwrap();
        let text = "SeaBIOS\r\nBooting from DVD/CD...\r\nISOLINUX 6.04\r\n[    0.0] Linux version 6.12\r\n";
        assert_eq!(signs.stage(text), Some((Stage::System, "[    0.0] Linux version 6.12".into())));
        assert_eq!(signs.stage("SeaBIOS (version rel)"), None);
        assert_eq!(signs.failure("a\nNo bootable device.\n").unwrap().1, "No bootable device.");
        assert_eq!(signs.failure(text), None);
        assert!(signs.sign.iter().all(|sign| sign.stage.is_some() != sign.failed.is_some()));
    }
}
