//! Doing what was planned.

use crate::{
    Finding, Ledger, LedgerFile, LedgerTrial, TrialValue,
    ledger::{LEDGER_KIND, LedgerOutput, LedgerSource},
    plan::{Prepared, Weight, sha256},
    recipe::Laid,
};
use neat_content::{
    Content, DigestKind, Error, Event, IfThere, Job, NodeId, Output, PendingFile, Result, commit_together,
};
use neat_media::{master, stick::write_with_disc};
use neat_trial::{Attached, Firmware, Tools};
use std::{
    collections::HashSet,
    path::{Path, PathBuf},
    time::Duration,
};

/// Most media that are written at once; what they share is read once for all of them.
const AT_ONCE: usize = 100;
/// A trial ends when nothing changes for so long.
const TRIAL_QUIET: Duration = Duration::from_secs(20);

/// How a build is done.
#[derive(Clone, Debug)]
pub struct BuildOptions<'a> {
    /// Text of the stack file, whose digest goes into the ledger.
    pub stack_text: &'a str,
    /// Version of the program.
    pub program: &'a str,
    /// Whether finished files are digested while they are written; `None` for those of sticks and trials.
    pub digest: Option<bool>,
    /// Number of threads that compress, 0 for as many as there are cores.
    pub threads: usize,
    /// Whether others may read the outputs although they hold a secret.
    pub readable: bool,
    /// Whether everything in image files is unpacked and digested before anything is written.
    pub verify: bool,
    /// Outputs that may take the place of what has their name; others must find it free, at the end too.
    pub replaceable: HashSet<PathBuf>,
}

impl BuildOptions<'_> {
    fn if_there(&self, output: &Path) -> IfThere {
        IfThere::replace(self.replaceable.contains(output))
    }

    fn protect(&self, own: &Laid, output: &PendingFile) -> Result<()> {
        if own.private && !self.readable { output.make_private() } else { Ok(()) }
    }
}

/// What a build leaves.
#[derive(Clone, Debug)]
pub struct BuildOutcome {
    /// The ISO file, or the stick where there is none.
    pub main: PathBuf,
    /// Where the ledger is.
    pub ledger_path: PathBuf,
    /// What it says.
    pub ledger: Ledger,
}

impl Prepared<'_> {
    /// Writes each media and its ledger. Refuses while there are findings that must be answered in the stack file
    /// first; nothing is written then.
    pub fn build(mut self, options: &BuildOptions<'_>, job: &Job<'_>) -> Result<Vec<BuildOutcome>> {
        if let Some(Finding { message, hint, .. }) =
            self.report.findings.iter().find(|finding| finding.weight == Weight::Refused)
        {
            return Err(Error::refused(message.clone(), hint.clone()));
        }
        for iso in self.outputs()?.into_iter().flatten() {
            if let Some(folder) = iso.parent() {
                std::fs::create_dir_all(folder).map_err(Error::io("create the folder", folder))?;
            }
        }
        self.finish_image(options.threads, job)?;
        if options.verify {
            crate::images::verify(&self.recipe.editor.tree, options.threads, job)?;
        }
        let sites = self.variants.each().to_vec();
        if sites.len() < 2 {
            let outcomes = self.write(std::slice::from_ref(&self.first), options, job)?;
            return Ok(outcomes);
        }
        let twins = master::Twins::find(&self.recipe.editor.tree, job)?;
        let mut outcomes = Vec::new();
        for some in sites.chunks(AT_ONCE) {
            let laid = some.iter().map(|site| self.recipe.lay_out(Some(site), None, Some(&twins), job));
            let laid = laid.collect::<Result<Vec<Laid>>>()?;
            outcomes.extend(self.write(&laid, options, job)?);
        }
        Ok(outcomes)
    }

    /// The files that a build writes, those of a machine together.
    pub fn outputs(&self) -> Result<Vec<Vec<PathBuf>>> {
        self.variants.outputs(&self.recipe)
    }

    /// Writes media together, then their ledgers.
    fn write(&self, laid: &[Laid], options: &BuildOptions<'_>, job: &Job<'_>) -> Result<Vec<BuildOutcome>> {
        let placed: Vec<Vec<(NodeId, LedgerFile)>> = laid.iter().map(placed_files).collect();
        let nodes: Vec<Vec<NodeId>> =
            placed.iter().map(|files| files.iter().map(|(id, _)| *id).collect()).collect();
        // Only discs alone are written side by side; a stick is written with its own disc.
        let only_discs = laid.iter().all(|own| own.stick.is_none());
        let mut outcomes = Vec::new();
        if laid.len() > 1 && only_discs {
            let written = self.write_discs(laid, &nodes, options, job)?;
            for ((own, placed), written) in laid.iter().zip(placed).zip(written) {
                outcomes.push(self.finish(own, placed, written, options, job)?);
            }
        } else {
            for ((own, nodes), placed) in laid.iter().zip(&nodes).zip(placed) {
                let written = self.write_one(own, nodes, options, job)?;
                outcomes.push(self.finish(own, placed, written, options, job)?);
            }
        }
        Ok(outcomes)
    }

    /// Gives what was written for one machine its names, and writes the ledger.
    fn finish(
        &self,
        own: &Laid,
        placed: Vec<(NodeId, LedgerFile)>,
        written: Written,
        options: &BuildOptions<'_>,
        job: &Job<'_>,
    ) -> Result<BuildOutcome> {
        let empty = sha256(&Content::default(), job)?;
        let on_media = |((id, file), sha256): ((NodeId, LedgerFile), Option<String>)| LedgerFile {
            size: own.layout.tree().node(id).content().map_or(0, Content::len),
            sha256: sha256.unwrap_or_else(|| empty.clone()),
            ..file
        };
        let files = placed.into_iter().zip(written.files).map(on_media).collect();
        let ledger = self.ledger(own, files, options, written.digests, written.trials, job)?;
        let main = PathBuf::from(&ledger.output.path);
        let ledger_path = ledger_path(&main);
        // The ledger of what was built before may always go: it speaks of files that are replaced now.
        let (pending, mut output) = PendingFile::create_output(&ledger_path, IfThere::Replace, None)?;
        output.write_bytes(ledger.to_text()?.as_bytes())?;
        let mut ready = written.ready;
        ready.push((pending, output.finish()?.0));
        if let Some(time) = self.recipe.clock.fixed.and_then(neat_content::Timestamp::to_system_time) {
            for (_, file) in &ready {
                file.set_modified(time).map_err(Error::io("set the time of what was built beside", &main))?;
            }
        }
        commit_together(ready)?;
        Ok(BuildOutcome { main, ledger_path, ledger })
    }

    /// Whether outputs are digested: as asked for, else where a ledger is to vouch for several files or a trial.
    fn digest(&self, options: &BuildOptions<'_>) -> Option<DigestKind> {
        let media = &self.recipe.stack.media;
        let usual = media.stick.is_some() || !media.trial.is_empty();
        options.digest.unwrap_or(usual).then_some(DigestKind::Sha256)
    }

    /// Many discs, what they share read once.
    fn write_discs(
        &self,
        laid: &[Laid],
        nodes: &[Vec<NodeId>],
        options: &BuildOptions<'_>,
        job: &Job<'_>,
    ) -> Result<Vec<Written>> {
        let mut pending = Vec::new();
        let mut outputs = Vec::new();
        for own in laid {
            let Some(iso) = &own.iso else { continue };
            let (file, output) =
                PendingFile::create_output(iso, options.if_there(iso), self.digest(options))?;
            options.protect(own, &file)?;
            pending.push(file);
            outputs.push(output);
        }
        let plans: Vec<&master::Plan> = laid.iter().map(|own| &own.layout).collect();
        let files = master::write_together(&plans, nodes, &mut outputs, job)?;
        let mut written = Vec::new();
        for (((own, pending), output), files) in laid.iter().zip(pending).zip(outputs).zip(files) {
            let (file, digest) = output.finish()?;
            job.check()?;
            let trials = self.try_out(own, Some(&pending), None, job)?;
            written.push(Written { files, digests: [digest, None], trials, ready: vec![(pending, file)] });
        }
        Ok(written)
    }

    /// The disc, the stick or both of one machine.
    fn write_one(
        &self,
        own: &Laid,
        nodes: &[NodeId],
        options: &BuildOptions<'_>,
        job: &Job<'_>,
    ) -> Result<Written> {
        let digest = self.digest(options);
        let mut disc = own
            .iso
            .as_ref()
            .map(|iso| PendingFile::create_output(iso, options.if_there(iso), digest))
            .transpose()?;
        let stick_path = own.stick.as_ref().map(|stick| &stick.path);
        let mut stick = stick_path
            .map(|path| PendingFile::create_output(path, options.if_there(path), digest))
            .transpose()?;
        for (pending, _) in disc.iter().chain(&stick) {
            options.protect(own, pending)?;
        }
        let files = match (&mut disc, &mut stick, &own.stick) {
            (Some((_, disc)), Some((_, out)), Some(laid)) if !laid.plan.is_disc() => {
                write_with_disc(&own.layout, nodes, disc, &laid.plan, out, job)?
            }
            (disc, stick, laid) => {
                let files = match disc {
                    Some((_, disc)) => own.layout.write_and_digest(nodes, disc, job)?,
                    None => nodes.iter().map(|id| digest_of_file(own, *id, job)).collect::<Result<_>>()?,
                };
                if let (Some((_, out)), Some(laid)) = (stick, laid) {
                    laid.plan.write(out, job)?;
                }
                files
            }
        };
        // Both are complete before either gets its name.
        let finish = |made: Option<(PendingFile, Output)>| {
            made.map(|(pending, output)| Ok((pending, output.finish()?))).transpose()
        };
        let (disc, stick) = (finish(disc)?, finish(stick)?);
        job.check()?;
        let pending = |made: &Option<(PendingFile, (std::fs::File, Option<String>))>| {
            made.as_ref().map(|(pending, _)| pending.temporary_path().to_owned())
        };
        let trials = self.try_paths(own, pending(&disc), pending(&stick), job)?;
        let mut digests = [None, None];
        let mut ready = Vec::new();
        for (slot, made) in digests.iter_mut().zip([disc, stick]) {
            if let Some((pending, (file, digest))) = made {
                ready.push((pending, file));
                *slot = digest;
            }
        }
        Ok(Written { files, digests, trials, ready })
    }

    fn try_out(
        &self,
        own: &Laid,
        disc: Option<&PendingFile>,
        stick: Option<&PendingFile>,
        job: &Job<'_>,
    ) -> Result<Vec<LedgerTrial>> {
        let path = |pending: &PendingFile| pending.temporary_path().to_owned();
        self.try_paths(own, disc.map(path), stick.map(path), job)
    }

    /// Starts what was written, before it has its name, with the firmwares that the stack file names.
    ///
    /// # Errors
    /// `Failed` when one of them does not come up.
    fn try_paths(
        &self,
        own: &Laid,
        disc: Option<PathBuf>,
        stick: Option<PathBuf>,
        job: &Job<'_>,
    ) -> Result<Vec<LedgerTrial>> {
        let firmwares: Vec<Firmware> =
            self.recipe.stack.media.trial.iter().map(|value| value.firmware()).collect();
        if firmwares.is_empty() {
            return Ok(Vec::new());
        }
        let tools = Tools::find()?;
        let mut trials = Vec::new();
        let named = [
            (disc, own.iso.as_ref(), Attached::Disc),
            (stick, own.stick.as_ref().map(|stick| &stick.path), Attached::Stick),
        ];
        for (path, name, attached) in named {
            let (Some(path), Some(name)) = (path, name) else { continue };
            job.event(Event::StepStarted { step: "trying it", total_bytes: None });
            let options =
                neat_trial::Options { attached, quiet: TRIAL_QUIET, ..neat_trial::Options::default() };
            let outcomes = neat_trial::run(&tools, &path, &firmwares, &options, job)?;
            job.event(Event::StepFinished);
            for outcome in outcomes {
                let picture = match &outcome.picture {
                    Some(bytes) => Some(save_picture(name, attached, outcome.firmware, bytes)?),
                    None => None,
                };
                let picture = picture.map(|path| path.display().to_string());
                if !outcome.came_up {
                    let seen =
                        picture.as_ref().map(|path| format!("; {path} shows its screen")).unwrap_or_default();
                    return Err(Error::failed(
                        format!(
                            "{} does not come up as a {} with {}: {} ({})",
                            name.display(),
                            attached.name(),
                            outcome.firmware.name(),
                            outcome.failure,
                            outcome.stage.words()
                        ),
                        format!(
                            "nothing was left under its name{seen}; `neatstack look MEDIA --boot` says what is missing"
                        ),
                    ));
                }
                trials.push(LedgerTrial {
                    path: name.display().to_string(),
                    attached,
                    firmware: outcome.firmware,
                    stage: outcome.stage,
                    evidence: outcome.evidence,
                    picture,
                });
            }
        }
        Ok(trials)
    }

    fn ledger(
        &self,
        laid: &Laid,
        files: Vec<LedgerFile>,
        options: &BuildOptions<'_>,
        digests: [Option<String>; 2],
        trials: Vec<LedgerTrial>,
        job: &Job<'_>,
    ) -> Result<Ledger> {
        let report = &self.report;
        let summary = laid.summary();
        let [disc_digest, stick_digest] = digests;
        let disc = laid.iso.as_ref().map(|iso| LedgerOutput {
            path: iso.display().to_string(),
            size: summary.size,
            label: summary.label.clone(),
            boot: summary.boot.iter().map(|entry| format!("{}: {}", entry.platform, entry.image)).collect(),
            sha256: disc_digest,
        });
        let stick = laid.stick.as_ref().map(|stick| LedgerOutput {
            path: stick.path.display().to_string(),
            size: stick.plan.len,
            label: stick.plan.label.clone(),
            boot: stick.boot(),
            sha256: stick_digest,
        });
        let (output, stick) = match (disc, stick) {
            (Some(disc), stick) => (disc, stick),
            (None, Some(stick)) => (stick, None),
            (None, None) => {
                return Err(Error::request("nothing is to be written", "name an ISO file or a stick"));
            }
        };
        Ok(Ledger {
            kind: LEDGER_KIND.into(),
            version: Ledger::VERSION,
            program: options.program.into(),
            title: report.title.clone(),
            stack_sha256: sha256(&Content::from_bytes(options.stack_text.as_bytes()), job)?,
            depot: report.depot.clone(),
            source: report.source.as_ref().map(|source| LedgerSource {
                path: source.path.clone(),
                size: source.size,
                label: source.label.clone(),
                sha256: source.sha256.clone(),
            }),
            steps: report.steps.iter().map(|step| format!("{} {}", step.action, step.subject)).collect(),
            items: report.editions_work.iter().flat_map(crate::EditionWork::ledger_items).collect(),
            files,
            findings: report.findings.iter().map(|finding| finding.message.clone()).collect(),
            output,
            stick,
            trials,
        })
    }
}

/// What was written for one machine.
struct Written {
    /// SHA-256 of the files that the ledger lists.
    files: Vec<Option<String>>,
    /// SHA-256 of the disc and of the stick.
    digests: [Option<String>; 2],
    trials: Vec<LedgerTrial>,
    /// The files, which have no names yet.
    ready: Vec<(PendingFile, std::fs::File)>,
}

impl TrialValue {
    /// The firmware that is meant.
    pub const fn firmware(self) -> Firmware {
        match self {
            Self::Bios => Firmware::Bios,
            Self::Uefi => Firmware::Uefi,
        }
    }
}

/// Where the ledger of an output is.
pub fn ledger_path(output: &Path) -> PathBuf {
    let mut name = output.file_stem().map(ToOwned::to_owned).unwrap_or_default();
    name.push(".ledger.json");
    output.with_file_name(name)
}

/// SHA-256 of a file that goes only to a stick; `None` for an empty one.
fn digest_of_file(own: &Laid, id: NodeId, job: &Job<'_>) -> Result<Option<String>> {
    let content = own.layout.tree().node(id).content().filter(|content| !content.is_empty());
    content.map(|content| sha256(content, job)).transpose()
}

/// Saves the picture of a trial beside what was tried: `NAME-disc-bios.png`.
fn save_picture(output: &Path, attached: Attached, firmware: Firmware, bytes: &[u8]) -> Result<PathBuf> {
    let stem = output.file_stem().unwrap_or_default().to_string_lossy();
    let word = firmware.name().to_ascii_lowercase();
    let path = output.with_file_name(format!("{stem}-{}-{word}.png", attached.name()));
    let (pending, mut out) = PendingFile::create_output(&path, IfThere::Replace, None)?;
    out.write_bytes(bytes)?;
    pending.commit(out.finish()?.0)?;
    Ok(path)
}

/// Files that were put on the media and are there in the end.
fn placed_files(laid: &Laid) -> Vec<(NodeId, LedgerFile)> {
    // What a later step took off the media again is no file of it, and what was put twice is one.
    let mut seen = HashSet::new();
    let found = |file: &LedgerFile| laid.layout.tree().find_ignoring_case(&file.path);
    let own = laid.placed.iter().filter_map(|file| Some((found(file)?, file.clone())));
    own.filter(|(id, _)| seen.insert(*id)).collect()
}
