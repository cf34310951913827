//! Recognising answer files: which dialect, where a media keeps it, what it erases.

use neat_content::{Content, Text, Tree};
use serde::Serialize;

/// Kind of answer file.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum AnswerDialect {
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

/// Where setup looks for an answer file on a media's root, by dialect, the usual place first.
const PLACES: [(AnswerDialect, &[&str]); 4] = [
    (AnswerDialect::Unattend, &["autounattend.xml", "unattend.xml", "sources/unattend.xml"]),
    (AnswerDialect::Preseed, &["preseed.cfg"]),
    (AnswerDialect::Kickstart, &["ks.cfg"]),
    (AnswerDialect::Autoinstall, &["user-data", "autoinstall.yaml"]),
];

impl AnswerDialect {
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
        if text.contains("<unattend") {
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
        let commands = ["%packages", "rootpw ", "clearpart ", "autopart", "timezone ", "lang ", "keyboard "];
        let found = commands.iter().filter(|command| lines().any(|line| line.starts_with(**command))).count();
        (found >= 2).then_some(Self::Kickstart)
    }

    /// The dialect of a file's content.
    pub fn of_content(content: &Content) -> Option<Self> {
        Self::of_text(&text_of(content)?)
    }

    /// Where this dialect is looked for on the media's root.
    pub(crate) fn place(self) -> &'static str {
        PLACES.iter().find(|(dialect, _)| *dialect == self).map_or("", |(_, places)| places[0])
    }

    /// What the kernel's command line must say so that the installer finds the file on the media's root; `None` where
    /// setup looks there by itself.
    pub(crate) const fn option_for_root(self) -> Option<&'static str> {
        match self {
            Self::Unattend => None,
            Self::Preseed => Some("auto=true priority=critical file=/cdrom/preseed.cfg"),
            Self::Kickstart => Some("inst.ks=cdrom:/ks.cfg"),
            Self::Autoinstall => Some("autoinstall ds=nocloud;s=/cdrom/"),
        }
    }

    /// The file's name inside an initial RAM disk; `None` where installers do not look there.
    pub(crate) const fn initrd_name(self) -> Option<&'static str> {
        match self {
            Self::Preseed => Some("preseed.cfg"),
            Self::Kickstart => Some("ks.cfg"),
            Self::Unattend | Self::Autoinstall => None,
        }
    }
}

/// The text of an answer file; `None` when it is too large to be one.
pub(crate) fn text_of(content: &Content) -> Option<String> {
    let bytes = content.to_vec(MAX_LEN, "answer file").ok()?;
    Some(Text::decode(&bytes).text)
}

/// Answer files on a media where setup would find them: path and dialect.
pub fn answer_files(tree: &Tree) -> Vec<(String, AnswerDialect)> {
    let places =
        PLACES.iter().flat_map(|(dialect, places)| places.iter().map(move |place| (*dialect, *place)));
    places
        .filter_map(|(dialect, place)| {
            let id = tree.find_ignoring_case(place)?;
            tree.node(id).content().map(|_| (tree.path(id), dialect))
        })
        .collect()
}

/// What an answer file erases without asking anybody, as a sentence; `None` when nothing of the kind is seen. This is
/// a warning from the plain text, not a reading of the whole file.
pub(crate) fn danger(dialect: AnswerDialect, text: &str) -> Option<&'static str> {
    let compact: String = text.split_whitespace().collect::<Vec<_>>().join(" ").to_lowercase();
    let found = match dialect {
        AnswerDialect::Unattend => {
            compact.replace("> ", ">").replace(" <", "<").contains("<willwipedisk>true")
        }
        AnswerDialect::Preseed => {
            compact.contains("partman/confirm boolean true")
                || compact.contains("partman-partitioning/confirm_write_new_label boolean true")
        }
        AnswerDialect::Kickstart => {
            text.lines().map(str::trim).any(|line| line.starts_with("clearpart") && !line.contains("--none"))
        }
        AnswerDialect::Autoinstall => text.lines().map(str::trim).any(|line| line.starts_with("storage:")),
    };
    found.then_some("it erases a disk of the machine without asking")
}

#[cfg(test)]
mod tests {
    use super::*;
    use neat_content::{Meta, Timestamp};

    #[test]
    fn dialects_are_told_apart() {
        let is = AnswerDialect::of_text;
        assert_eq!(is("<?xml version=\"1.0\"?>\n<unattend xmlns=\"x\"/>"), Some(AnswerDialect::Unattend));
        assert_eq!(is("d-i debian-installer/locale string en_GB\n"), Some(AnswerDialect::Preseed));
        assert_eq!(is("#cloud-config\nautoinstall:\n  version: 1\n"), Some(AnswerDialect::Autoinstall));
        assert_eq!(is("lang en_GB\nkeyboard uk\n%packages\n%end\n"), Some(AnswerDialect::Kickstart));
        assert_eq!(is("hello"), None);
        let utf16: Vec<u8> =
            [0xFF, 0xFE].into_iter().chain("<unattend/>".encode_utf16().flat_map(u16::to_le_bytes)).collect();
        assert_eq!(AnswerDialect::of_content(&Content::from_bytes(utf16)), Some(AnswerDialect::Unattend));
    }

    #[test]
    fn files_that_setup_would_find_are_listed_in_any_case() {
        let mut tree = Tree::default();
        let meta = Meta::at(Timestamp::default());
        tree.put_file("AutoUnattend.XML", Content::default(), meta).unwrap();
        tree.put_file("deep/autounattend.xml", Content::default(), meta).unwrap();
        assert_eq!(answer_files(&tree), [("AutoUnattend.XML".into(), AnswerDialect::Unattend)]);
    }

    #[test]
    fn an_erased_disk_is_seen() {
        let wipe = "<Disk>\n<WillWipeDisk>\n true </WillWipeDisk>";
        assert!(danger(AnswerDialect::Unattend, wipe).is_some());
        assert!(danger(AnswerDialect::Unattend, "<WillWipeDisk>false").is_none());
        assert!(danger(AnswerDialect::Kickstart, "clearpart --all --initlabel").is_some());
        assert!(danger(AnswerDialect::Kickstart, "clearpart --none").is_none());
    }
}
