//! A stick, as an image file.

use super::{Body, FileDigests, Form, LaidOutput, Pass, StickWish, Wanted, plan_stick};
use crate::{
    change::fit_estimate,
    recipe::{MediaSection, StickForm, StickSection},
    report::{OutputSummary, PlanStep},
};
use neat_content::{Job, NodeId, Output, Result, parse_size};
use neat_media::{
    Media, master,
    stick::{StickPlan, uefi_loaders},
};
use neat_trial::Attached;
use serde_json::{Map, json};

const WORD: &str = "stick";

pub(super) const FORM: Form = Form {
    word: WORD,
    key: "media.stick.image",
    named: |media| media.stick.as_ref().map(|stick| stick.image.as_str()),
    lay_out,
};

/// The media's files in the order of the disc's.
fn lay_out(wanted: Wanted<'_>, job: &Job<'_>) -> Result<LaidOutput> {
    let Wanted { section, path, media, layout, estimate } = wanted;
    let MediaSection { stick, .. } = section;
    let usual = StickSection::default();
    let section = stick.as_ref().unwrap_or(&usual);
    let options = layout.options();
    let mut tree = layout.tree().clone();
    if let Some(estimate) = estimate {
        fit_estimate(&mut tree, estimate)?;
    }
    let order = layout.file_order();
    let len = section.size.as_deref().map(parse_size).transpose();
    let wish = StickWish {
        form: section.form,
        scheme: section.scheme,
        len: len.map_err(|error| error.within("`media.stick.size`"))?,
        label: section.label.as_deref(),
        manager: section.boot_manager.as_deref(),
        seed: None,
        boot_code: options.hybrid.as_ref().and_then(|hybrid| Some(hybrid.boot_code.as_ref()?.bytes.clone())),
        time: options.time,
        order: &order,
    };
    let media = Media { tree, volume: options.volume.clone(), boot: options.boot.clone(), ..media.clone() };
    let plan = plan_stick(media, None, &wish, job)?;
    let step = PlanStep {
        action: "stick".into(),
        subject: format!("the stick {}", plan.label),
        reason: "from the same pass as the disc, so that the source is read once".into(),
        bytes: 0,
    };
    let summary = summary(&plan, path.display().to_string());
    let notes = plan.notes.clone();
    Ok(LaidOutput { path, attached: Attached::Stick, summary, step, notes, body: Box::new(Stick { plan }) })
}

/// What comes out, in words.
fn summary(plan: &StickPlan, path: String) -> OutputSummary {
    let layout = if plan.is_disc() { StickForm::Disc } else { StickForm::Fat32 };
    let what = match layout {
        StickForm::Disc => "a disc that starts as a disk".to_owned(),
        _ => format!("{}, FAT32", plan.scheme.name()),
    };
    let manager = plan.manager.as_ref().map(|manager| format!("BIOS: {}", manager.name));
    let loaders = uefi_loaders(&plan.tree).into_iter().map(|loader| format!("UEFI: {loader}"));
    let own = [("scheme", json!(plan.scheme)), ("layout", json!(layout)), ("free", json!(plan.free))];
    OutputSummary {
        form: WORD,
        path,
        size: plan.len,
        label: plan.label.clone(),
        files: plan.tree.counts().files,
        what,
        boot: manager.into_iter().chain(loaders).collect(),
        own: own.into_iter().map(|(key, value)| (key.to_owned(), value)).collect::<Map<_, _>>(),
    }
}

struct Stick {
    plan: StickPlan,
}

impl Body for Stick {
    fn pass(&self) -> Pass<'_> {
        if self.plan.is_disc() { Pass::Alone } else { Pass::WithDisc(&self.plan) }
    }

    fn write(
        &self,
        _: &master::Plan,
        _: &[NodeId],
        out: &mut Output,
        job: &Job<'_>,
    ) -> Result<Option<FileDigests>> {
        self.plan.write(out, job).map(|()| None)
    }
}
