//! The plan: everything worked out, nothing written.

use crate::{
    Clock, DepotUse, EditionSummary, StackFile, StickForm, answers,
    edit::Editor,
    images::{self, ImageOutcome, PendingImage},
    outputs,
    recipe::{Laid, Recipe},
    servicing::{self, EditionWork},
    variants::Variants,
};
use neat_answer::model::Ask;
use neat_content::{Content, DigestKind, Error, Event, Job, Result, Source, Tree, TreeCounts, digest_of};
use neat_media::{Media, read, stick::Scheme};
use serde::Serialize;
use std::path::Path;

/// How much a finding weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// Good to know.
    Note,
    /// The media will do something to a machine that cannot be taken back.
    Danger,
    /// Setup will stop, ask, or do something else than was meant.
    Problem,
    /// `build` refuses until the stack file says that it is meant.
    Refused,
}

/// Something that a person should see before building.
#[derive(Clone, Debug, Serialize)]
pub struct Finding {
    /// How much it weighs.
    pub weight: Weight,
    /// What was found.
    pub message: String,
    /// What to do about it; empty when nothing needs doing.
    pub hint: String,
}

/// One thing that the build will do.
#[derive(Clone, Debug, Serialize)]
pub struct PlanStep {
    /// What, as a command.
    pub action: String,
    /// To what.
    pub subject: String,
    /// Why it comes here.
    pub reason: String,
    /// Bytes that it adds to the media; negative when it takes some away.
    pub bytes: i64,
}

/// The media that the build starts from.
#[derive(Clone, Debug, Serialize)]
pub struct SourceSummary {
    /// Where it is.
    pub path: String,
    /// Bytes of the ISO file; 0 for a folder.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// Number of files.
    pub files: u64,
    /// Bytes in them.
    pub content: u64,
    /// SHA-256, when the stack file asks for it to be checked.
    pub sha256: Option<String>,
}

/// A boot entry in words.
#[derive(Clone, Debug, Serialize)]
pub struct BootSummary {
    /// For which firmware.
    pub platform: String,
    /// The image: a path on the media, or `hidden image` when no file shows it.
    pub image: String,
    /// Bytes of the image.
    pub size: u64,
    /// Sectors of 512 bytes that the firmware loads; 0 for all.
    pub load_sectors: u16,
    /// Whether a boot-info table is written into it.
    pub boot_info_table: bool,
}

/// What will come out.
#[derive(Clone, Debug, Serialize)]
pub struct OutputSummary {
    /// The ISO file, if one is written.
    pub iso: Option<String>,
    /// The stick, if one is written.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stick: Option<StickSummary>,
    /// Size of the disc in bytes.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// Number of files on it.
    pub files: u64,
    /// Bytes saved because identical files are stored once.
    pub shared: u64,
    /// How it boots.
    pub boot: Vec<BootSummary>,
    /// Whether it also starts as a disk.
    pub hybrid: bool,
    /// Answer files that setup will find.
    pub answer_files: Vec<String>,
}

/// A stick in words.
#[derive(Clone, Debug, Serialize)]
pub struct StickSummary {
    /// The image file.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// How it is partitioned.
    pub scheme: Scheme,
    /// How the files lie on it.
    pub form: StickForm,
    /// Its label.
    pub label: String,
    /// Number of files on it.
    pub files: u64,
    /// Bytes that are free on it.
    pub free: u64,
    /// How it starts.
    pub boot: Vec<String>,
}

/// A plan for people and programs.
#[derive(Clone, Debug, Serialize)]
pub struct PlanReport {
    /// Title of the stack file.
    pub title: String,
    /// What is taken from a depot.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub depot: Vec<DepotUse>,
    /// What it starts from.
    pub source: Option<SourceSummary>,
    /// Editions of the image file that the systems come from.
    pub editions: Vec<EditionSummary>,
    /// What is done, in order.
    pub steps: Vec<PlanStep>,
    /// What is done inside each edition, item for item.
    pub editions_work: Vec<EditionWork>,
    /// What a person should see first.
    pub findings: Vec<Finding>,
    /// What comes out; with a site list the first of the media.
    pub output: OutputSummary,
    /// Media for the machines of a site list.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub variants: Vec<VariantSummary>,
}

/// A media for one machine.
#[derive(Clone, Debug, Serialize)]
pub struct VariantSummary {
    /// Its line in the site list.
    pub row: usize,
    /// Name of the machine.
    pub machine: String,
    /// The ISO file; empty when one media serves all machines.
    pub iso: String,
    /// Its label.
    pub label: String,
    /// Its cells by column, in the order of the site list.
    pub cells: serde_json::Map<String, serde_json::Value>,
}

impl PlanReport {
    /// Whether `build` would refuse.
    pub fn is_refused(&self) -> bool {
        self.findings.iter().any(|finding| finding.weight == Weight::Refused)
    }
}

/// What a person or a command line adds to a stack file.
#[derive(Clone, Copy, Default)]
pub struct Wishes<'a> {
    /// How a person is asked for passwords.
    pub ask: Option<Ask<'a>>,
    /// Machines of the site list to do; all if there are none.
    pub only: &'a [String],
}

/// Everything worked out for a build.
pub struct Prepared<'a> {
    /// For people and programs.
    pub report: PlanReport,
    pub(crate) recipe: Recipe<'a>,
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
        let base = stack_path.parent().unwrap_or(Path::new(""));
        let named = |error: Error| error.within(stack_path.display());
        let check = |is_wanted: &dyn Fn(&str) -> bool| {
            let mut inputs = stack.inputs.iter().filter(|input| is_wanted(&input.key));
            inputs.try_for_each(|input| input.check(base)).map_err(named)
        };
        // The source comes before anything else, also before what is missing.
        check(&|key| key == "source.media")?;
        let (mut media, source) = open_source(stack, base, job)?;
        check(&|_| true)?;
        let mut editor = Editor::new(std::mem::take(&mut media.tree), base, clock.fixed);
        let images = images::apply(stack, &mut editor, job)?;
        let mut work = images.work.clone();
        work.extend(servicing::setup(stack, &mut editor, job)?);
        for place in stack.place.iter().filter(|place| !is_inside(&place.to)) {
            editor.place(place)?;
        }
        editor.findings.extend(media.warnings.iter().map(|warning| Finding {
            weight: Weight::Note,
            message: warning.clone(),
            hint: String::new(),
        }));
        let given = stack.answer.as_ref().map(|section| answers::given(section, &editor)).transpose()?;
        let variants = Variants::open(stack, given.as_ref(), wishes.only, &mut editor)?;
        let ImageOutcome { editions, pending: pending_image, .. } = images;
        let recipe = Recipe {
            stack,
            clock,
            ask: wishes.ask,
            base: base.to_owned(),
            media,
            editions,
            editor,
            given,
            estimate: pending_image.as_ref().map(|pending| pending.path.clone()),
        };
        let mut first = recipe.lay_out(variants.first(), variants.all_in_one(), None, job)?;
        work.append(&mut first.work);
        let mut findings = std::mem::take(&mut first.findings);
        findings.extend(variants.check(&recipe, &findings, job)?);
        for own in variants.outputs(&recipe)? {
            findings.extend(outputs::over_sources(stack, base, &own));
        }
        findings.sort_by_key(|finding| match finding.weight {
            Weight::Refused => 0,
            Weight::Danger => 1,
            Weight::Problem => 2,
            Weight::Note => 3,
        });
        let report = PlanReport {
            title: stack.title.clone(),
            depot: Vec::new(),
            source,
            editions: recipe.editions.clone(),
            steps: std::mem::take(&mut first.steps),
            editions_work: work,
            findings,
            output: first.summary(),
            variants: variants.summaries(&recipe)?,
        };
        Ok(Self { report, recipe, first, pending_image, variants })
    }

    /// Compresses the image file if it must be, and lays the first media out again with it.
    pub(crate) fn finish_image(&mut self, threads: usize, job: &Job<'_>) -> Result<()> {
        let Some(pending) = self.pending_image.take() else { return Ok(()) };
        self.recipe.estimate = None;
        let outputs = self.recipe.outputs(self.variants.first())?;
        let spool = outputs.first().and_then(|path| path.parent()).unwrap_or(Path::new(".")).to_owned();
        pending.finish(&mut self.recipe.editor.tree, &spool, threads, job)?;
        self.first = self.recipe.lay_out(self.variants.first(), self.variants.all_in_one(), None, job)?;
        self.report.output = self.first.summary();
        Ok(())
    }
}

/// Whether a target lies inside an image file.
fn is_inside(to: &str) -> bool {
    to.starts_with("system:") || to.starts_with("setup:")
}

fn open_source(stack: &StackFile, base: &Path, job: &Job<'_>) -> Result<(Media, Option<SourceSummary>)> {
    let Some(section) = &stack.source else {
        return Ok((empty_media(), None));
    };
    let path = base.join(&section.media);
    let mut sha256 = None;
    if let Some(expected) = &section.sha256 {
        if !path.is_file() {
            return Err(Error::request(
                format!("`source.sha256` is given, and {} is not a file", path.display()),
                "a digest belongs to an ISO file; take it out for a folder",
            ));
        }
        sha256 = Some(check_digest(&path, expected, job)?);
    }
    let media = read::open(&path)?;
    let TreeCounts { files, bytes, .. } = media.tree.counts();
    let summary = SourceSummary {
        path: path.display().to_string(),
        size: media.size,
        label: media.volume.label.clone(),
        files,
        content: bytes,
        sha256,
    };
    Ok((media, Some(summary)))
}

fn check_digest(path: &Path, expected: &str, job: &Job<'_>) -> Result<String> {
    let content = Content::from_source(Source::open(path)?);
    job.event(Event::StepStarted { step: "checking the source", total_bytes: Some(content.len()) });
    let mut digester = neat_content::Digester::start(DigestKind::Sha256);
    content.for_each_block(1 << 20, job, &mut |block| {
        job.event(Event::BytesDone(block.len() as u64));
        digester.add_slice(block);
        Ok(())
    })?;
    let found = digester.finish()?;
    job.event(Event::StepFinished);
    if found.eq_ignore_ascii_case(expected.trim()) {
        return Ok(found);
    }
    let error = Error::Mismatch {
        expected: format!("SHA-256 {}", expected.trim()),
        found,
        hint: "this is not the media that the stack file was written for: fetch it again, or correct `source.sha256`".into(),
    };
    Err(error.within(path.display()))
}

fn empty_media() -> Media {
    Media {
        tree: Tree::default(),
        volume: neat_media::VolumeIdentity::default(),
        trees: neat_media::TreesFound {
            iso9660: false,
            joliet: false,
            rock_ridge: false,
            udf: None,
            chosen: neat_media::TreeKind::Folder,
        },
        boot: None,
        partitions: None,
        private: false,
        size: 0,
        warnings: Vec::new(),
    }
}

/// SHA-256 of a small content, for the ledger.
pub(crate) fn sha256(content: &Content, job: &Job<'_>) -> Result<String> {
    digest_of(content, DigestKind::Sha256, job)
}
