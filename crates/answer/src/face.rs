//! What every dialect can do.

use crate::model::Stage;
use crate::{
    Change, Dialect, Erasure, Finding, Model, Vault, autoinstall, check::MediaFacts, kickstart, preseed,
    unattend,
};
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

/// A dialect: reads files into the neutral form, writes the neutral form, and checks files.
pub(crate) trait Face: Sync {
    /// The neutral form of a text.
    fn read(&self, text: &str) -> Result<Reading>;
    /// The text of the neutral form; from an original, only what differs is changed in it.
    fn write(&self, saying: &Saying<'_>) -> Result<Written>;
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

impl Dialect {
    pub(crate) fn face(self) -> &'static dyn Face {
        match self {
            Self::Unattend => &unattend::Unattend,
            Self::Preseed => &preseed::Preseed,
            Self::Kickstart => &kickstart::Kickstart,
            Self::Autoinstall => &autoinstall::Autoinstall,
        }
    }
}
