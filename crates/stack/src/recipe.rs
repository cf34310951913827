//! From the media as all machines have it to the media of one: boot menu, answers, names, layout.

use crate::{
    Clock, EditionSummary, StackFile, StickForm, StickWish,
    answers::{self, Given},
    boot,
    edit::Editor,
    file::StickSection,
    images,
    ledger::LedgerFile,
    menu::{self, Machine},
    names::{Names, fill},
    outputs,
    plan::{BootSummary, Finding, OutputSummary, PlanStep, StickSummary, Weight},
    plan_stick,
    servicing::{self, EditionWork},
};
use neat_answer::{Site, SiteList, answer_files, model::Ask};
use neat_content::{Content, Error, Job, Result, Timestamp, Tree};
use neat_media::{
    BootCatalog, BootCode, BootImage, Media, master,
    stick::{StickPlan, uefi_loaders},
};
use std::{path::PathBuf, sync::Arc};

/// What is the same for all machines.
pub(crate) struct Recipe<'a> {
    pub stack: &'a StackFile,
    pub clock: &'a Clock,
    pub ask: Option<Ask<'a>>,
    pub base: PathBuf,
    /// The source without its tree.
    pub media: Media,
    pub editions: Vec<EditionSummary>,
    /// The tree with everything that no machine has for itself.
    pub editor: Editor,
    /// `[answer]`
    pub given: Option<Given>,
    /// Path of an image file whose size is an estimate until it is compressed.
    pub estimate: Option<String>,
}

/// A stick laid out.
pub(crate) struct LaidStick {
    pub path: PathBuf,
    pub plan: StickPlan,
}

/// A media laid out.
pub(crate) struct Laid {
    pub layout: master::Plan,
    /// The ISO file, if one is wanted.
    pub iso: Option<PathBuf>,
    /// The stick, if one is wanted.
    pub stick: Option<LaidStick>,
    pub placed: Vec<LedgerFile>,
    pub steps: Vec<PlanStep>,
    pub findings: Vec<Finding>,
    pub work: Vec<EditionWork>,
    /// Whether only its owner may read what is written: it holds a password or key, or its source is private.
    pub private: bool,
}

impl Recipe<'_> {
    /// What placeholders stand for.
    pub fn names<'b>(&'b self, site: Option<&'b Site>) -> Names<'b> {
        let kept = self.editions.iter().filter(|edition| edition.kept);
        Names { clock: self.clock, editions: kept.collect(), site }
    }

    /// The ISO file of a machine.
    fn iso(&self, site: Option<&Site>) -> Result<Option<PathBuf>> {
        let iso = self.stack.media.iso.as_ref();
        let path = |iso: &String| {
            outputs::path("media.iso", &fill(iso, "media.iso", &self.names(site))?, &self.base)
        };
        iso.map(path).transpose()
    }

    /// The stick's image file of a machine.
    fn stick_image(&self, site: Option<&Site>) -> Result<Option<PathBuf>> {
        let image = self.stack.media.stick.as_ref().map(|stick| &stick.image);
        let key = "media.stick.image";
        image.map(|image| outputs::path(key, &fill(image, key, &self.names(site))?, &self.base)).transpose()
    }

    /// The files that are written for a machine; its ledger lies beside the first.
    pub fn outputs(&self, site: Option<&Site>) -> Result<Vec<PathBuf>> {
        let (iso, stick) = (self.iso(site)?, self.stick_image(site)?);
        outputs::apart(iso.as_ref(), stick.as_ref())?;
        Ok(iso.into_iter().chain(stick).collect())
    }

    /// Lays out the stick of a machine: the media's files in the order of the disc's.
    fn lay_out_stick(
        &self,
        section: &StickSection,
        path: PathBuf,
        layout: &master::Plan,
        job: &Job<'_>,
    ) -> Result<LaidStick> {
        let options = layout.options();
        let mut tree = layout.tree().clone();
        if let Some(estimate) = &self.estimate {
            images::fit_estimate(&mut tree, estimate)?;
        }
        let order = layout.file_order();
        let wish = StickWish {
            form: section.form,
            scheme: section.scheme,
            len: section.size.as_deref().map(size_of).transpose()?,
            label: section.label.as_deref(),
            manager: section.boot_manager.as_deref(),
            seed: None,
            boot_code: options
                .hybrid
                .as_ref()
                .and_then(|hybrid| Some(hybrid.boot_code.as_ref()?.bytes.clone())),
            time: options.time,
            order: &order,
        };
        let media =
            Media { tree, volume: options.volume.clone(), boot: options.boot.clone(), ..self.media.clone() };
        Ok(LaidStick { path, plan: plan_stick(media, None, &wish, job)? })
    }

    /// The label of a machine's media.
    pub fn label(&self, site: Option<&Site>) -> Result<String> {
        let own = self.stack.media.label.as_deref();
        own.map_or_else(
            || Ok(self.media.volume.label.clone()),
            |label| fill(label, "media.label", &self.names(site)),
        )
    }

    /// Lays out the media of one machine, or the only one; with a list, one for all machines of it. What is known of
    /// equal files is taken from `twins`.
    pub fn lay_out(
        &self,
        site: Option<&Site>,
        all: Option<&SiteList>,
        twins: Option<&master::Twins>,
        job: &Job<'_>,
    ) -> Result<Laid> {
        let stack = self.stack;
        let mut editor = self.editor.clone();
        let mut work = Vec::new();
        let machine = Machine { site, ask: self.ask };
        let menu_boot = match &stack.menu {
            Some(section) => {
                Some(menu::apply(section, &stack.title, &self.label(site)?, machine, &mut editor)?)
            }
            None => None,
        };
        match (&self.given, all) {
            (Some(given), Some(list)) => answers::apply_all(stack, given, list, self.ask, &mut editor)?,
            (Some(given), None) => answers::apply(stack, given, site, self.ask, &mut editor)?,
            (None, _) => {}
        }
        let kept = self.editions.iter().filter(|edition| edition.kept);
        let mut architectures: Vec<_> =
            kept.filter_map(|edition| neat_package::Architecture::of_word(&edition.architecture)).collect();
        architectures.dedup();
        work.extend(servicing::stage(stack, &mut editor, &architectures, job)?);
        let Editor { mut tree, mut steps, mut findings, placed, has_secret, .. } = editor;
        let private = has_secret || self.media.private || neat_answer::tree_holds_secret(&tree)?;
        if private {
            findings.push(Finding {
                weight: Weight::Note,
                message: if self.media.private && !has_secret {
                    "only you may read the source, so only you may read what is written (mode 0600)".into()
                } else {
                    "the answers hold a password or key, so only you may read what is written (mode 0600)"
                        .into()
                },
                hint: "`neatstack build --readable` lets others read it".into(),
            });
        }
        let time = self.clock.fixed.unwrap_or(tree.newest());
        if stack.source.is_none() {
            tree.node_mut(Tree::ROOT).meta.modified = time;
        }
        let catalog = match menu_boot {
            Some(catalog) => Some(catalog),
            None => boot::default_boot(&tree, self.media.boot.clone(), time)?,
        };
        if catalog.is_none() {
            findings.push(Finding {
                weight: Weight::Note,
                message: "the media has no boot image and will not start a machine".into(),
                hint: "put boot images where media keep them, or add a [menu]".into(),
            });
        }
        let options = self.options(site, catalog, time)?;
        if stack.media.iso.is_some() {
            steps.push(PlanStep {
                action: "master".into(),
                subject: format!("the disc {}", options.volume.label),
                reason: "last, because every file's place depends on all the others".into(),
                bytes: 0,
            });
        }
        let iso = self.iso(site)?;
        let tree = Arc::new(tree);
        let layout = match twins {
            Some(twins) => master::Plan::with_twins(&tree, options, twins, job)?,
            None => master::Plan::new(&tree, options, job)?,
        };
        let note =
            |note: &String| Finding { weight: Weight::Note, message: note.clone(), hint: String::new() };
        findings.extend(layout.notes().iter().map(note));
        let mut stick = None;
        if let (Some(section), Some(path)) = (&stack.media.stick, self.stick_image(site)?) {
            let laid = self.lay_out_stick(section, path, &layout, job)?;
            findings.extend(laid.plan.notes.iter().map(note));
            steps.push(PlanStep {
                action: "stick".into(),
                subject: format!("the stick {}", laid.plan.label),
                reason: "from the same pass as the disc, so that the source is read once".into(),
                bytes: 0,
            });
            stick = Some(laid);
        }
        for firmware in &stack.media.trial {
            steps.push(PlanStep {
                action: "trial".into(),
                subject: format!("start it with {}", firmware.firmware().name()),
                reason: "a media that does not come up gets no name".into(),
                bytes: 0,
            });
        }
        Ok(Laid { layout, iso, stick, placed, steps, findings, work, private })
    }

    fn options(
        &self,
        site: Option<&Site>,
        boot: Option<BootCatalog>,
        time: Timestamp,
    ) -> Result<master::Options> {
        let Self { stack, media, base, .. } = self;
        let mut volume = media.volume.clone();
        if stack.media.label.is_some() {
            volume.label = self.label(site)?;
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
}

impl LaidStick {
    /// What comes out, in words.
    pub fn summary(&self) -> StickSummary {
        let plan = &self.plan;
        StickSummary {
            path: self.path.display().to_string(),
            size: plan.len,
            scheme: plan.scheme,
            form: if plan.is_disc() { StickForm::Disc } else { StickForm::Fat32 },
            label: plan.label.clone(),
            files: plan.tree.counts().files,
            free: plan.free,
            boot: self.boot(),
        }
    }

    /// How it starts.
    pub fn boot(&self) -> Vec<String> {
        let manager = self.plan.manager.as_ref().map(|manager| format!("BIOS: {}", manager.name));
        let loaders = uefi_loaders(&self.plan.tree).into_iter().map(|loader| format!("UEFI: {loader}"));
        manager.into_iter().chain(loaders).collect()
    }
}

/// A size as people write it in stack files.
fn size_of(text: &str) -> Result<u64> {
    let digits = text.trim_end_matches(|c: char| !c.is_ascii_digit());
    let unit: Option<u64> = match text[digits.len()..].trim() {
        "MiB" => Some(1 << 20),
        "GiB" => Some(1 << 30),
        "MB" => Some(1_000_000),
        "GB" => Some(1_000_000_000),
        _ => None,
    };
    let size =
        digits.trim().parse::<u64>().ok().zip(unit).and_then(|(number, unit)| number.checked_mul(unit));
    size.ok_or_else(|| {
        Error::request(
            format!("`media.stick.size`: {text:?} is not a size"),
            "write a whole number with MB, GB, MiB or GiB, as in \"8GB\"",
        )
    })
}

impl Laid {
    /// What comes out, in words.
    pub fn summary(&self) -> OutputSummary {
        let (tree, options) = (self.layout.tree(), self.layout.options());
        OutputSummary {
            iso: self.iso.as_ref().map(|iso| iso.display().to_string()),
            stick: self.stick.as_ref().map(LaidStick::summary),
            size: self.layout.len(),
            label: options.volume.label.clone(),
            files: tree.counts().files,
            shared: self.layout.shared_len(),
            boot: boot_summaries(tree, options.boot.as_ref()),
            hybrid: options.hybrid.is_some(),
            answer_files: answer_files(tree).into_iter().map(|(path, _)| path).collect(),
        }
    }
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
