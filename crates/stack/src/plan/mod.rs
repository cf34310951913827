//! The plan: everything worked out, nothing written.

mod groundwork;
mod names;
mod paths;
mod source;
mod variants;

pub(crate) use groundwork::{Groundwork, Laid};
pub use names::Clock;
pub(crate) use variants::Variants;

use crate::{
    change::{
        Editor, ImageOutcome, PACKED_WHEN_PLANNED, PendingImage, apply_images, apply_setup, ask_answers,
        beside, boot_store, environment, given, leave_out, restrictions,
    },
    output::FORMS,
    recipe::StackFile,
    report::{Finding, PlanReport},
};
use neat_answer::model::Ask;
use neat_content::{Error, Hold, Job, Result};
use std::path::Path;

/// What a person or a command line adds to a stack file.
#[derive(Clone, Copy, Default)]
pub struct Wishes<'a> {
    /// How a person is asked for passwords.
    pub ask: Option<Ask<'a>>,
    /// Machines of the site list to do; all if there are none.
    pub only: &'a [String],
    /// Whether nothing will be built from it: then only the lengths of large results are kept.
    pub only_plan: bool,
}

impl Wishes<'_> {
    /// Where what is made for image files waits until it is written.
    fn hold(&self) -> Hold {
        let hold = Hold::new(PACKED_WHEN_PLANNED as usize, &std::env::temp_dir());
        if self.only_plan { hold.measuring_beyond(PACKED_WHEN_PLANNED) } else { hold }
    }
}

/// Everything worked out for a build.
pub struct Prepared<'a> {
    /// For people and programs.
    pub report: PlanReport,
    pub(crate) ground: Groundwork<'a>,
    /// The first media, or the only one.
    pub(crate) first: Laid,
    pub(crate) pending_image: Option<PendingImage>,
    pub(crate) variants: Variants,
}

impl<'a> Prepared<'a> {
    /// Works out what `stack`, read from `stack_path`, asks for. A digest given for the source is checked before
    /// anything else.
    pub fn new(
        stack: &'a StackFile,
        stack_path: &Path,
        clock: &'a Clock,
        wishes: Wishes<'a>,
        job: &Job<'_>,
    ) -> Result<Self> {
        if !FORMS.iter().any(|form| (form.named)(&stack.media).is_some()) {
            return Err(Error::request(
                "[media] names neither an ISO file nor a stick",
                "write iso = \"out/media.iso\", stick = { image = \"out/media.img\" }, or both",
            ));
        }
        let base = stack_path.parent().unwrap_or(Path::new(""));
        let named = |error: Error| error.within(stack_path.display());
        let check = |is_wanted: &dyn Fn(&str) -> bool| {
            let mut inputs = stack.inputs.iter().filter(|input| is_wanted(&input.key));
            inputs.try_for_each(|input| input.check(base)).map_err(named)
        };
        // The source comes before anything else, also before what is missing.
        check(&|key| key == "source.media")?;
        let (mut media, source) = source::open(stack, base, job)?;
        check(&|_| true)?;
        let mut editor =
            Editor::new(std::mem::take(&mut media.tree), base, (clock.today, clock.fixed), wishes.hold());
        let mut given = stack.answer.as_ref().map(|section| given(section, &editor)).transpose()?;
        ask_answers(stack, given.as_mut(), &mut editor)?;
        leave_out::media(stack, given.as_ref(), &mut media.boot, &mut editor)?;
        environment::keep_alone(stack, media.boot.as_ref(), &mut editor)?;
        restrictions::apply(stack, &mut editor)?;
        let besides = beside::open(stack, &editor)?;
        let images = apply_images(stack, &besides, &mut editor, job)?;
        let mut work = images.work.clone();
        work.extend(apply_setup(stack, &mut editor, job)?);
        for place in stack.place.iter().filter(|place| !is_inside(&place.to)) {
            editor.place(place)?;
        }
        beside::place(&besides, &mut editor, job)?;
        boot_store::apply(stack, &besides, &mut editor)?;
        editor.findings.extend(media.warnings.iter().map(Finding::note));
        let variants = Variants::open(stack, given.as_ref(), wishes.only, &mut editor)?;
        let ImageOutcome { editions, pending: pending_image, .. } = images;
        let ground = Groundwork {
            stack,
            besides,
            clock,
            ask: wishes.ask,
            base: base.to_owned(),
            media,
            editions,
            editor,
            given,
            estimate: pending_image.as_ref().map(|pending| pending.path.clone()),
        };
        let mut first = ground.lay_out(variants.first(), variants.all_in_one(), None, job)?;
        let mut findings = std::mem::take(&mut first.findings);
        findings.extend(variants.check(&ground, &findings, job)?);
        for own in variants.outputs(&ground)? {
            findings.extend(paths::over_sources(stack, base, &own));
        }
        findings.sort_by_key(|finding| finding.weight.rank());
        let report = PlanReport {
            since: None,
            title: stack.title.clone(),
            depot: Vec::new(),
            source,
            editions: ground.editions.clone(),
            steps: std::mem::take(&mut first.steps),
            editions_work: work,
            devices: ground.editor.devices.clone(),
            answers: first.answers.clone(),
            findings,
            output: first.summary(),
            outputs: first.output_summaries(),
            variants: variants.summaries(&ground)?,
        };
        Ok(Self { report, ground, first, pending_image, variants })
    }

    /// Compresses the image file if it must be, and lays the first media out again with it.
    pub(crate) fn finish_image(&mut self, threads: usize, job: &Job<'_>) -> Result<()> {
        let Some(pending) = self.pending_image.take() else { return Ok(()) };
        self.ground.estimate = None;
        let outputs = self.ground.outputs(self.variants.first())?;
        let spool = outputs.first().and_then(|path| path.parent()).unwrap_or(Path::new(".")).to_owned();
        pending.finish(&mut self.ground.editor.tree, &spool, threads, job)?;
        self.first = self.ground.lay_out(self.variants.first(), self.variants.all_in_one(), None, job)?;
        self.report.output = self.first.summary();
        self.report.outputs = self.first.output_summaries();
        Ok(())
    }
}

/// Whether a target lies inside an image file.
fn is_inside(to: &str) -> bool {
    to.starts_with("system:") || to.starts_with("setup:")
}
