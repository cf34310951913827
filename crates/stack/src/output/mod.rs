//! The forms in which a media comes out. A form more is a file beside `disc.rs` and `stick.rs`, a line in [`FORMS`] and
//! the section of the stack file that it reads.

mod disc;
mod stick;
mod stick_plan;

pub use stick_plan::{StickWish, plan_stick, plan_stick_update};

use crate::{
    recipe::MediaSection,
    report::{OutputSummary, PlanStep},
};
use neat_content::{Job, NodeId, Output, Result};
use neat_media::{Media, master, stick::StickPlan};
use neat_trial::Attached;
use std::path::PathBuf;

/// A form of media that a stack file can ask for.
pub(crate) struct Form {
    /// The word for it, also in JSON.
    pub word: &'static str,
    /// The key that names its file.
    pub key: &'static str,
    /// The name that a stack file gives its file, with placeholders; nothing when it is not wanted.
    pub named: fn(&MediaSection) -> Option<&str>,
    /// Works out what its file will be.
    pub lay_out: fn(Wanted<'_>, &Job<'_>) -> Result<LaidOutput>,
}

/// All forms, in the order in which they are planned and written. The ledger lies beside the first that is wanted.
pub(crate) const FORMS: [Form; 2] = [disc::FORM, stick::FORM];

/// What a stack file names to be written: the word for the form of each, and the name with its placeholders.
pub fn output_names(section: &MediaSection) -> Vec<(&'static str, &str)> {
    FORMS.iter().filter_map(|form| Some((form.word, (form.named)(section)?))).collect()
}

/// What an output is made from.
pub(crate) struct Wanted<'a> {
    pub section: &'a MediaSection,
    pub path: PathBuf,
    /// The source without its tree.
    pub media: &'a Media,
    /// The media as a disc: its tree, the order of its files and how it boots.
    pub layout: &'a master::Plan,
    /// Path of an image file whose size is an estimate until it is compressed.
    pub estimate: Option<&'a str>,
}

/// An output laid out.
pub(crate) struct LaidOutput {
    pub path: PathBuf,
    /// How a machine is given it when it is tried.
    pub attached: Attached,
    pub summary: OutputSummary,
    pub step: PlanStep,
    pub notes: Vec<String>,
    pub body: Box<dyn Body>,
}

/// SHA-256 of files on a media by their nodes; nothing for those that are empty.
pub(crate) type FileDigests = Vec<Option<String>>;

/// What is written into the file of an output.
pub(crate) trait Body {
    /// How its content can be read together with that of others.
    fn pass(&self) -> Pass<'_> {
        Pass::Alone
    }

    /// Writes it in a pass of its own; also gives the digests of the files in `nodes` where they were made on the way.
    fn write(
        &self,
        layout: &master::Plan,
        nodes: &[NodeId],
        out: &mut Output,
        job: &Job<'_>,
    ) -> Result<Option<FileDigests>>;
}

/// In which pass over the source an output is written.
pub(crate) enum Pass<'a> {
    /// It is the disc.
    Disc,
    /// It takes its files as the disc's pass reads them.
    WithDisc(&'a StickPlan),
    /// It has a pass of its own.
    Alone,
}
