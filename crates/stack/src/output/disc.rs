//! A disc: the layout that every other form is made from, as a file.

use super::{Body, FileDigests, Form, LaidOutput, Pass, Wanted};
use crate::report::{OutputSummary, PlanStep};
use neat_content::{Job, NodeId, Output, Result};
use neat_media::{BootImage, master};
use neat_trial::Attached;
use serde_json::Map;

pub(super) const FORM: Form = Form {
    word: WORD,
    key: "media.iso",
    named: |media| media.iso.as_deref(),
    lay_out: |wanted, _| Ok(lay_out(wanted)),
};

const WORD: &str = "disc";

fn lay_out(Wanted { path, layout, .. }: Wanted<'_>) -> LaidOutput {
    let options = layout.options();
    let label = &options.volume.label;
    let entries = options.boot.iter().flat_map(|catalog| &catalog.entries);
    let boot = entries.map(|entry| {
        let image = match &entry.image {
            BootImage::File(path) => path,
            BootImage::Hidden(_) => "hidden image",
        };
        format!("{}: {image}", entry.platform.name())
    });
    let summary = OutputSummary {
        form: WORD,
        path: path.display().to_string(),
        size: layout.len(),
        label: label.clone(),
        files: layout.tree().counts().files,
        what: String::new(),
        boot: boot.collect(),
        own: Map::new(),
    };
    let step = PlanStep {
        action: "master".into(),
        subject: format!("the disc {label}"),
        reason: "last, because every file's place depends on all the others".into(),
        bytes: 0,
    };
    LaidOutput { path, attached: Attached::Disc, summary, step, notes: Vec::new(), body: Box::new(Disc) }
}

struct Disc;

impl Body for Disc {
    fn pass(&self) -> Pass<'_> {
        Pass::Disc
    }

    fn write(
        &self,
        layout: &master::Plan,
        nodes: &[NodeId],
        out: &mut Output,
        job: &Job<'_>,
    ) -> Result<Option<FileDigests>> {
        layout.write_and_digest(nodes, out, job).map(Some)
    }
}
