//! From the media as all machines have it to the media of one: boot menu, answers, names, layout.

use super::{Clock, names::Names, names::fill, paths};
use crate::{
    change::{
        Editor, Given, Machine, apply_answers, apply_answers_of_all, apply_menu,
        beside::{self, Beside},
        default_boot, name_in_answers,
    },
    output::{FORMS, Form, LaidOutput, Wanted},
    recipe::StackFile,
    report::{
        AnswersSummary, BootSummary, EditionSummary, Finding, LedgerFile, MediaSummary, OutputSummary,
        PlanStep, Weight,
    },
};
use neat_answer::{Site, SiteList, answer_files, model::Ask};
use neat_content::{Content, Error, Job, Result, Timestamp, Tree};
use neat_media::{BootCatalog, BootCode, BootEntry, BootImage, Media, master};
use std::{path::PathBuf, sync::Arc};

/// What is the same for all machines.
pub(crate) struct Groundwork<'a> {
    pub stack: &'a StackFile,
    pub clock: &'a Clock,
    pub ask: Option<Ask<'a>>,
    pub base: PathBuf,
    /// The source without its tree.
    pub media: Media,
    /// Other setups on the media.
    pub besides: Vec<Beside<'a>>,
    pub editions: Vec<EditionSummary>,
    /// The tree with everything that no machine has for itself.
    pub editor: Editor,
    /// `[answer]`
    pub given: Option<Given>,
    /// Path of an image file whose size is an estimate until it is compressed.
    pub estimate: Option<String>,
}

/// A media laid out.
pub(crate) struct Laid {
    pub layout: master::Plan,
    /// The files that are written.
    pub outputs: Vec<LaidOutput>,
    pub placed: Vec<LedgerFile>,
    pub steps: Vec<PlanStep>,
    pub findings: Vec<Finding>,
    pub answers: Vec<AnswersSummary>,
    /// Whether only its owner may read what is written: it holds a password or key, or its source is private.
    pub private: bool,
}

impl Groundwork<'_> {
    /// What placeholders stand for.
    pub fn names<'b>(&'b self, site: Option<&'b Site>) -> Names<'b> {
        let kept = self.editions.iter().filter(|edition| edition.kept);
        Names { clock: self.clock, editions: kept.collect(), site }
    }

    /// The forms that are wanted, and the file of each for a machine.
    fn wanted(&self, site: Option<&Site>) -> Result<Vec<(&'static Form, PathBuf)>> {
        let section = &self.stack.media;
        let named = FORMS.iter().filter_map(|form| Some((form, (form.named)(section)?)));
        let path = |(form, name): (&'static Form, &str)| {
            let name = fill(name, form.key, &self.names(site))?;
            Ok((form, paths::path(form.key, &name, &self.base)?))
        };
        named.map(path).collect()
    }

    /// The files that are written for a machine; its ledger lies beside the first.
    pub fn outputs(&self, site: Option<&Site>) -> Result<Vec<PathBuf>> {
        let wanted = self.wanted(site)?.into_iter();
        let outputs: Vec<(&str, PathBuf)> = wanted.map(|(form, path)| (form.key, path)).collect();
        paths::apart(&outputs)?;
        Ok(outputs.into_iter().map(|(_, path)| path).collect())
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
        let root = match (&stack.answer, &self.given) {
            (Some(section), Some(given)) => section.dialects_of(given.usual_dialect()),
            _ => Vec::new(),
        };
        let source = self.media.boot.as_ref().map_or(&[][..], |own| &own.entries);
        let machine = Machine { site, ask: self.ask, root: &root, besides: &self.besides, source };
        let menu_boot = match &stack.menu {
            Some(section) => {
                Some(apply_menu(section, &stack.title, &self.label(site)?, machine, &mut editor)?)
            }
            None => None,
        };
        match (&self.given, all) {
            (Some(given), Some(list)) => apply_answers_of_all(stack, given, list, self.ask, &mut editor)?,
            (Some(given), None) => apply_answers(stack, given, site, self.ask, &mut editor)?,
            (None, _) => {}
        }
        beside::answer(&self.besides, site, self.ask, &mut editor)?;
        name_in_answers(all.is_some(), &mut editor)?;
        let Editor { mut tree, mut steps, mut findings, placed, has_secret, answers, .. } = editor;
        let private = has_secret
            || self.media.private
            || self.besides.iter().any(Beside::is_private)
            || neat_answer::tree_holds_secret(&tree)?;
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
            None => default_boot(&tree, self.media.boot.clone(), time)?,
        };
        if catalog.is_none() {
            findings.push(Finding {
                weight: Weight::Note,
                message: "the media has no boot image and will not start a machine".into(),
                hint: "put boot images where media keep them, or add a [menu]".into(),
            });
        }
        let options = self.options(site, catalog, time)?;
        let tree = Arc::new(tree);
        let layout = match twins {
            Some(twins) => master::Plan::with_twins(&tree, options, twins, job)?,
            None => master::Plan::new(&tree, options, job)?,
        };
        findings.extend(layout.notes().iter().map(Finding::note));
        let mut outputs = Vec::new();
        for (form, path) in self.wanted(site)? {
            let wanted = Wanted {
                section: &stack.media,
                path,
                media: &self.media,
                layout: &layout,
                estimate: self.estimate.as_deref(),
            };
            let laid = (form.lay_out)(wanted, job)?;
            steps.push(laid.step.clone());
            findings.extend(laid.notes.iter().map(Finding::note));
            outputs.push(laid);
        }
        for firmware in &stack.media.trial {
            steps.push(PlanStep {
                action: "trial".into(),
                subject: format!("start it with {}", firmware.firmware().name()),
                reason: "a media that does not come up gets no name".into(),
                bytes: 0,
            });
        }
        Ok(Laid { layout, outputs, placed, steps, findings, answers, private })
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

impl Laid {
    /// What is on it, in words.
    pub fn summary(&self) -> MediaSummary {
        let (tree, options) = (self.layout.tree(), self.layout.options());
        let summary = MediaSummary {
            iso: None,
            stick: None,
            size: self.layout.len(),
            label: options.volume.label.clone(),
            files: tree.counts().files,
            shared: self.layout.shared_len(),
            boot: boot_summaries(tree, options.boot.as_ref()),
            hybrid: options.hybrid.is_some(),
            answer_files: answer_files(tree).into_iter().map(|(path, _)| path).collect(),
        };
        summary.with_outputs(&self.output_summaries())
    }

    /// The files that are written, in words.
    pub fn output_summaries(&self) -> Vec<OutputSummary> {
        self.outputs.iter().map(|output| output.summary.clone()).collect()
    }
}

fn boot_summaries(tree: &Tree, catalog: Option<&BootCatalog>) -> Vec<BootSummary> {
    let entries = catalog.map(|catalog| catalog.entries.as_slice()).unwrap_or_default();
    let summary = |entry: &BootEntry| {
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
