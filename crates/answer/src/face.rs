//! What every dialect can do.

use crate::{Change, Erasure, Finding, MediaFacts, Model, Vault, model::Stage};
use neat_content::Result;

/// What was read from a file.
#[derive(Clone, Debug, Default)]
pub struct Reading {
    /// The neutral form.
    pub model: Model,
    /// Passwords and keys that the file has.
    pub vault: Vault,
    /// What the neutral form does not have; it stays in the file.
    pub findings: Vec<Finding>,
}

/// A file that lies beside the answers on the media.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SideFile {
    /// Its path on the media.
    pub path: String,
    /// Its content.
    pub bytes: Vec<u8>,
}

impl SideFile {
    /// Its bytes where the media has such a file already: a list of commands gets ours besides, anything else is replaced.
    pub fn beside(&self, there: &[u8]) -> Vec<u8> {
        if !self.path.eq_ignore_ascii_case(crate::sif::LIST) {
            return self.bytes.clone();
        }
        let list = neat_content::Text::decode(there);
        list.encoding.encode(&crate::sif::with_our_line(&list.text))
    }
}

/// What is to be written.
pub(crate) struct Saying<'a> {
    /// What is said.
    pub model: &'a Model,
    /// Its passwords and keys, fetched.
    pub secrets: &'a Vault,
    /// The file that the model was read from, if it was of this dialect.
    pub origin: Option<&'a Original>,
}

/// The file that a model was read from.
pub(crate) struct Original {
    pub text: String,
    pub reading: Reading,
}

/// A file in a dialect.
#[derive(Clone, Debug, Default)]
pub struct Written {
    /// Its text.
    pub text: String,
    /// Files that it needs beside it on the media.
    pub files: Vec<SideFile>,
    /// What the dialect cannot say.
    pub findings: Vec<Finding>,
}

/// What is true of every file in a dialect.
pub(crate) struct About {
    /// Where setup looks for the file on a media's root, the usual place first. Of several, setup takes the first.
    pub places: &'static [&'static str],
    /// Files without content that setup takes together with it, or neither.
    pub companions: &'static [&'static str],
    /// How a kernel's installer is told where it is; nothing where no kernel reads it.
    pub kernel: Option<Kernel>,
    /// What its systems ask of the neutral form.
    pub rules: Rules,
    /// How surely a text is in this dialect; 0 when it is not. Of several the surest counts.
    pub likeness: fn(&str) -> u8,
    /// Whether a text, in lower case, has something that looks like a password or key: rather once too often.
    pub looks_secret: fn(&str) -> bool,
    /// Whether a script is too long to be carried inside and goes to the media as a file.
    pub is_long: fn(&crate::model::Script) -> bool,
    /// What chooses among answers by the machine's serial number.
    pub chooser: fn() -> Option<Chooser>,
}

/// What the systems of a dialect ask of the neutral form.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Rules {
    /// Names of machines have at most 15 characters, those of accounts 20; else 63 and 32.
    pub short_names: bool,
    /// Partitions are made in their order, so that one which takes the rest is the last.
    pub rest_is_last: bool,
    /// An MBR holds four partitions and no more.
    pub four_on_mbr: bool,
    /// Time zones have the names of the IANA.
    pub iana_zones: bool,
}

impl Rules {
    /// What Linux systems ask.
    pub const LINUX: Self =
        Self { short_names: false, rest_is_last: false, four_on_mbr: false, iana_zones: true };
}

/// How an installer that a kernel starts is told where its answers are.
pub struct Kernel {
    /// The file's name on the media.
    pub file: &'static str,
    /// The file's name inside an initial RAM disk; `None` where installers do not look there.
    pub initrd_name: Option<&'static str>,
    /// Names and endings of addresses by which it is known.
    pub(crate) addresses: &'static [&'static str],
    /// Options wherever the answers are.
    pub(crate) always: &'static [&'static str],
    /// Options for answers in the media's root, read by a kernel that somebody else starts.
    pub(crate) option_for_root: &'static str,
    /// What an option begins with that says where the installation source is; `None` where there is none.
    pub(crate) source: Option<&'static str>,
    /// Options for a place.
    pub(crate) options: fn(&AnswersAt<'_>) -> Vec<String>,
}

/// Where an installer finds its answers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum AnswersAt<'a> {
    /// In an initial RAM disk, under their usual name.
    Initrd,
    /// On the media.
    Media {
        /// Their folder, with a slash at its end; empty for the root.
        folder: &'a str,
        /// The media's label.
        label: &'a str,
    },
    /// At an address.
    Address(&'a str),
}

impl Kernel {
    /// The option that says where the installation source is, where the installer has one.
    pub fn source(&self, address: &str) -> Option<String> {
        self.source.map(|option| format!("{option}{address}"))
    }

    /// What the kernel's command line must say.
    pub fn options(&self, at: &AnswersAt<'_>) -> Vec<String> {
        self.always.iter().map(|option| (*option).to_owned()).chain((self.options)(at)).collect()
    }
}

/// What chooses among the answers on a media, which lie in a folder by serial number.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Chooser {
    /// Folder of the answers on the media.
    pub folder: &'static str,
    /// Ending of their names.
    pub ending: &'static str,
    /// The files that choose.
    pub files: Vec<SideFile>,
}

impl Chooser {
    /// Where answers lie that are chosen by serial number.
    pub(crate) const FOLDER: &str = "neatstack/sites";
    /// The machine's serial number in a shell, cleaned as [`crate::serial_name`] cleans it.
    pub(crate) const SERIAL: &str = "$(tr -cd A-Za-z0-9- </sys/class/dmi/id/product_serial | tr a-z A-Z)";

    pub(crate) fn new(ending: &'static str, files: &[(&str, &str)]) -> Self {
        let file =
            |(path, text): &(&str, &str)| SideFile { path: (*path).into(), bytes: text.as_bytes().to_vec() };
        Self { folder: Self::FOLDER, ending, files: files.iter().map(file).collect() }
    }
}

/// A dialect: reads files into the neutral form, writes the neutral form, and checks files.
pub(crate) trait Face: Sync {
    /// What is true of every file in it.
    fn about(&self) -> &'static About;
    /// The neutral form of a text.
    fn read(&self, text: &str) -> Result<Reading>;
    /// The text of the neutral form; from an original, only what differs is changed in it.
    fn write(&self, saying: &Saying<'_>) -> Result<Written>;
    /// The bytes of a text that is new.
    fn encode(&self, text: &str) -> Vec<u8> {
        text.as_bytes().to_vec()
    }
    /// Files that a file of this dialect needs beside it, as far as it says what is in them.
    fn side_files(&self, _model: &Model, _secrets: &Vault) -> Vec<SideFile> {
        Vec::new()
    }
    /// Changes the commands of a stage by their numbers in the file, where the file has such numbers: the text, and how
    /// many there are then.
    fn change_commands(
        &self,
        _text: &str,
        _stage: Stage,
        _change: &Change,
    ) -> Option<Result<(String, usize)>> {
        None
    }
    /// What a file erases, and what a person is asked before.
    fn erases(&self, text: &str, reading: &Reading) -> Erasure;
    /// What is wrong with a text by the rules of the dialect, and for a media if one is given.
    fn check(&self, text: &str, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding>;
}
