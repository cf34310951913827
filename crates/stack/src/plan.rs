//! The plan: everything worked out, nothing written.

use crate::{
    AnswerDialect, Clock, EditionSummary, StackFile,
    answer::answer_files,
    boot,
    edit::Editor,
    images::{self, ImageOutcome, PendingImage},
    ledger::LedgerFile,
    menu,
    names::{Names, fill},
    servicing::{self, EditionWork},
};
use neat_content::{
    Content, DigestKind, Error, Event, Job, Result, Source, Timestamp, Tree, TreeCounts, digest_of,
};
use neat_media::{BootCatalog, BootCode, BootImage, Media, master, read};
use serde::Serialize;
use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

/// How much a finding weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// Good to know.
    Note,
    /// The media will do something to a machine that cannot be taken back.
    Danger,
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
    /// The ISO file.
    pub iso: String,
    /// Its size in bytes.
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

/// A plan for people and programs.
#[derive(Clone, Debug, Serialize)]
pub struct PlanReport {
    /// Title of the stack file.
    pub title: String,
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
    /// What comes out.
    pub output: OutputSummary,
}

impl PlanReport {
    /// Whether `build` would refuse.
    pub fn is_refused(&self) -> bool {
        self.findings.iter().any(|finding| finding.weight == Weight::Refused)
    }
}

/// Everything worked out for a build.
pub struct Prepared {
    /// For people and programs.
    pub report: PlanReport,
    pub(crate) layout: master::Plan,
    pub(crate) iso: PathBuf,
    pub(crate) placed: Vec<LedgerFile>,
    pub(crate) pending_image: Option<PendingImage>,
}

impl Prepared {
    /// Works out what `stack`, read from `stack_path`, asks for. A digest given for the source is checked before
    /// anything else.
    pub fn new(stack: &StackFile, stack_path: &Path, clock: &Clock, job: &Job<'_>) -> Result<Self> {
        let base = stack_path.parent().unwrap_or(Path::new(""));
        let (mut media, source) = open_source(stack, base, job)?;
        let source_label = media.volume.label.clone();
        let mut editor = Editor::new(std::mem::take(&mut media.tree), base, clock.fixed);
        let images = images::apply(stack, &mut editor, job)?;
        let kept = images.editions.iter().filter(|edition| edition.kept);
        let names = Names { clock, editions: kept.collect() };
        let mut work = images.work.clone();
        work.extend(servicing::setup(stack, &mut editor, job)?);
        for place in stack.place.iter().filter(|place| !is_inside(&place.to)) {
            editor.place(place)?;
        }
        let menu_boot = match &stack.menu {
            Some(section) => {
                let label = stack
                    .media
                    .label
                    .as_deref()
                    .map_or(Ok(source_label.clone()), |label| fill(label, "media.label", &names))?;
                Some(menu::apply(section, &stack.title, &label, &mut editor)?)
            }
            None => None,
        };
        if let Some(answer) = &stack.answer {
            editor.answer(answer)?;
        }
        let kept = images.editions.iter().filter(|edition| edition.kept);
        let mut architectures: Vec<_> =
            kept.filter_map(|edition| neat_package::Architecture::of_word(&edition.architecture)).collect();
        architectures.dedup();
        work.extend(servicing::stage(stack, &mut editor, &architectures, job)?);
        let Editor { mut tree, mut steps, mut findings, placed, .. } = editor;
        findings.extend(media.warnings.iter().map(|warning| Finding {
            weight: Weight::Note,
            message: warning.clone(),
            hint: String::new(),
        }));

        let time = clock.fixed.unwrap_or(tree.newest());
        if stack.source.is_none() {
            tree.node_mut(Tree::ROOT).meta.modified = time;
        }
        let catalog = match menu_boot {
            Some(catalog) => Some(catalog),
            None => boot::default_boot(&tree, media.boot.take(), time)?,
        };
        if catalog.is_none() {
            findings.push(Finding {
                weight: Weight::Note,
                message: "the media has no boot image and will not start a machine".into(),
                hint: "put boot images where media keep them, or add a [menu]".into(),
            });
        }
        let options = options(stack, base, &media, catalog, time, &names)?;
        steps.push(PlanStep {
            action: "master".into(),
            subject: format!("the disc {}", options.volume.label),
            reason: "last, because every file's place depends on all the others".into(),
            bytes: 0,
        });
        let iso = base.join(fill(&stack.media.iso, "media.iso", &names)?);
        let tree = Arc::new(tree);
        let layout = master::Plan::new(&tree, options, job)?;
        let notes = layout.notes().iter();
        findings.extend(notes.map(|note| Finding {
            weight: Weight::Note,
            message: note.clone(),
            hint: String::new(),
        }));
        let output = OutputSummary {
            iso: iso.display().to_string(),
            size: layout.len(),
            label: layout.options().volume.label.clone(),
            files: tree.counts().files,
            shared: layout.shared_len(),
            boot: boot_summaries(&tree, layout.options().boot.as_ref()),
            hybrid: layout.options().hybrid.is_some(),
            answer_files: answer_files(&tree).into_iter().map(|(path, _)| path).collect(),
        };
        findings.sort_by_key(|finding| match finding.weight {
            Weight::Refused => 0,
            Weight::Danger => 1,
            Weight::Note => 2,
        });
        let ImageOutcome { editions, pending: pending_image, .. } = images;
        let report = PlanReport {
            title: stack.title.clone(),
            source,
            editions,
            steps,
            editions_work: work,
            findings,
            output,
        };
        Ok(Self { report, layout, iso, placed, pending_image })
    }

    /// Compresses the image file if it must be, and lays the media out again with it.
    pub(crate) fn finish_image(&mut self, threads: usize, job: &Job<'_>) -> Result<()> {
        let Some(pending) = self.pending_image.take() else { return Ok(()) };
        let spool = self.iso.parent().unwrap_or(Path::new("."));
        let mut tree = self.layout.tree().clone();
        pending.finish(&mut tree, spool, threads, job)?;
        let options = self.layout.options().clone();
        let tree = Arc::new(tree);
        self.layout = master::Plan::new(&tree, options, job)?;
        let output = &mut self.report.output;
        output.size = self.layout.len();
        output.shared = self.layout.shared_len();
        output.files = tree.counts().files;
        Ok(())
    }

    /// The dialect of answer files on the finished media, for those who look.
    pub fn answer_files(&self) -> Vec<(String, AnswerDialect)> {
        answer_files(self.layout.tree())
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
        size: 0,
        warnings: Vec::new(),
    }
}

fn options(
    stack: &StackFile,
    base: &Path,
    media: &Media,
    boot: Option<BootCatalog>,
    time: Timestamp,
    names: &Names<'_>,
) -> Result<master::Options> {
    let mut volume = media.volume.clone();
    if let Some(label) = &stack.media.label {
        volume.label = fill(label, "media.label", names)?;
        if volume.label.chars().count() > 32 || volume.label.chars().any(char::is_control) {
            return Err(Error::request(
                format!("`media.label`: {:?} is not a label", volume.label),
                "use at most 32 characters",
            ));
        }
    }
    if let Some(publisher) = &stack.media.publisher {
        volume.publisher.clone_from(publisher);
    }
    // The source's own times stay with what it was; this is another media.
    volume.created = Some(time);
    volume.modified = Some(time);
    let from_file = stack
        .media
        .boot_code
        .as_ref()
        .map(|path| Content::from_path(&base.join(path))?.to_vec(512, "boot code"))
        .transpose()?;
    let own = media.partitions.as_ref();
    let boot_code =
        from_file.map(BootCode::from_file).or_else(|| own.and_then(|table| table.boot_code.clone()));
    let wanted = stack.media.hybrid.unwrap_or(own.is_some() || stack.media.boot_code.is_some());
    let hybrid = wanted.then_some(master::Hybrid { boot_code });
    Ok(master::Options {
        volume,
        time,
        rock_ridge: stack.media.rock_ridge.unwrap_or(media.trees.rock_ridge || stack.menu.is_some()),
        boot,
        hybrid,
        ..master::Options::default()
    })
}

fn boot_summaries(tree: &Tree, catalog: Option<&BootCatalog>) -> Vec<BootSummary> {
    let entries = catalog.map(|catalog| catalog.entries.as_slice()).unwrap_or_default();
    let summary = |entry: &neat_media::BootEntry| {
        let (image, size) = match &entry.image {
            BootImage::File(path) => (path.clone(), tree.file(path).map_or(0, Content::len)),
            BootImage::Hidden(content) => ("hidden image".into(), content.len()),
        };
        BootSummary {
            platform: entry.platform.name().into(),
            image,
            size,
            load_sectors: entry.load_sectors,
            boot_info_table: entry.patch.boot_info_table,
        }
    };
    entries.iter().map(summary).collect()
}

/// SHA-256 of a small content, for the ledger.
pub(crate) fn sha256(content: &Content, job: &Job<'_>) -> Result<String> {
    digest_of(content, DigestKind::Sha256, job)
}
