//! The dialects of answer files: which one a text is in, and where setup looks for it.

use neat_content::{Content, Text, Tree};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Kind of answer file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Dialect {
    /// The documented XML of install images.
    Unattend,
    /// Debian's installer.
    Preseed,
    /// Kickstart.
    Kickstart,
    /// cloud-init's autoinstall.
    Autoinstall,
}

/// Bytes of a file that are looked at.
const MAX_LEN: u64 = 4 << 20;

/// Where setup looks for an answer file on a media's root, by dialect, the usual place first. Of several, setup takes
/// the first.
const PLACES: [(Dialect, &[&str]); 4] = [
    (Dialect::Unattend, &["autounattend.xml", "unattend.xml", "sources/unattend.xml"]),
    (Dialect::Preseed, &["preseed.cfg"]),
    (Dialect::Kickstart, &["ks.cfg"]),
    (Dialect::Autoinstall, &["user-data", "autoinstall.yaml"]),
];

impl Dialect {
    /// All of them.
    pub const ALL: [Self; 4] = [Self::Unattend, Self::Preseed, Self::Kickstart, Self::Autoinstall];

    /// What people call it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Unattend => "unattend",
            Self::Preseed => "preseed",
            Self::Kickstart => "kickstart",
            Self::Autoinstall => "autoinstall",
        }
    }

    /// The dialect of `text`; `None` when it is none that we know.
    pub fn of_text(text: &str) -> Option<Self> {
        let lines = || text.lines().map(str::trim);
        if text.contains("<unattend") || text.contains(":unattend") {
            return Some(Self::Unattend);
        }
        if lines().next().is_some_and(|line| line == "#cloud-config")
            || lines().any(|line| line == "autoinstall:")
        {
            return Some(Self::Autoinstall);
        }
        // Owner, question, type and value: the four columns of debconf's answers.
        let is_debconf = |line: &str| {
            let words: Vec<&str> = line.split_whitespace().take(4).collect();
            let types = ["string", "boolean", "select", "multiselect", "password", "note"];
            words.len() >= 3
                && !words[0].starts_with('#')
                && words[1].contains('/')
                && types.contains(&words[2])
        };
        if lines().any(is_debconf) {
            return Some(Self::Preseed);
        }
        let commands = [
            "%packages",
            "rootpw ",
            "clearpart ",
            "autopart",
            "timezone ",
            "lang ",
            "keyboard ",
            "bootloader",
            "user ",
            "part ",
            "network ",
            "%post",
            "%pre",
        ];
        let found = commands.iter().filter(|command| lines().any(|line| line.starts_with(**command))).count();
        (found >= 2).then_some(Self::Kickstart)
    }

    /// The dialect of a file's content.
    pub fn of_content(content: &Content) -> Option<Self> {
        Self::of_text(&text_of(content)?)
    }

    /// Where this dialect is looked for on the media's root.
    pub fn place(self) -> &'static str {
        self.places().first().copied().unwrap_or_default()
    }

    /// All places on the media where setup looks, the first one first.
    pub fn places(self) -> &'static [&'static str] {
        PLACES.iter().find(|(dialect, _)| *dialect == self).map_or(&[], |(_, places)| *places)
    }

    /// What the kernel's command line must say so that the installer finds the file on the media's root; `None` where
    /// setup looks there by itself.
    pub const fn option_for_root(self) -> Option<&'static str> {
        match self {
            Self::Unattend => None,
            Self::Preseed => Some("auto=true priority=critical file=/cdrom/preseed.cfg"),
            Self::Kickstart => Some("inst.ks=cdrom:/ks.cfg"),
            Self::Autoinstall => Some("autoinstall ds=nocloud;s=/cdrom/"),
        }
    }

    /// The file's name inside an initial RAM disk; `None` where installers do not look there.
    pub const fn initrd_name(self) -> Option<&'static str> {
        match self {
            Self::Preseed => Some("preseed.cfg"),
            Self::Kickstart => Some("ks.cfg"),
            Self::Unattend | Self::Autoinstall => None,
        }
    }
}

/// The text of an answer file; `None` when it is too large to be one.
pub fn text_of(content: &Content) -> Option<String> {
    let bytes = content.to_vec(MAX_LEN, "answer file").ok()?;
    Some(Text::decode(&bytes).text)
}

/// Answer files on a media where setup would find them: path and dialect.
pub fn answer_files(tree: &Tree) -> Vec<(String, Dialect)> {
    let places =
        PLACES.iter().flat_map(|(dialect, places)| places.iter().map(move |place| (*dialect, *place)));
    let found = |(dialect, place): (Dialect, &str)| {
        let id = tree.find_ignoring_case(place)?;
        tree.node(id).content()?;
        Some((tree.path(id), dialect))
    };
    places.filter_map(found).collect()
}
