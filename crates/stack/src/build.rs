//! Doing what was planned.

use crate::{
    Finding, Ledger, LedgerFile,
    ledger::{LEDGER_KIND, LedgerOutput, LedgerSource},
    plan::{Prepared, Weight, sha256},
    recipe::Laid,
};
use neat_content::{Content, DigestKind, Error, Job, NodeId, PendingFile, Result};
use neat_media::master;
use std::{
    collections::HashSet,
    path::{Path, PathBuf},
};

/// Most media that are written at once; what they share is read once for all of them.
const AT_ONCE: usize = 100;

/// How a build is done.
#[derive(Clone, Debug)]
pub struct BuildOptions<'a> {
    /// Text of the stack file, whose digest goes into the ledger.
    pub stack_text: &'a str,
    /// Version of the program.
    pub program: &'a str,
    /// Whether the finished file is digested while it is written.
    pub digest: bool,
    /// Number of threads that compress, 0 for as many as there are cores.
    pub threads: usize,
}

/// What a build leaves.
#[derive(Clone, Debug)]
pub struct BuildOutcome {
    /// The ISO file.
    pub iso: PathBuf,
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
        for iso in self.isos()? {
            if self.report.source.as_ref().is_some_and(|source| same_file(Path::new(&source.path), &iso)) {
                return Err(Error::refused(
                    format!("{} is the source itself, which is never written", iso.display()),
                    "give `media.iso` another name",
                ));
            }
            if let Some(folder) = iso.parent() {
                std::fs::create_dir_all(folder).map_err(Error::io("create the folder", folder))?;
            }
        }
        self.finish_image(options.threads, job)?;
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

    /// The ISO files that a build writes.
    pub fn isos(&self) -> Result<Vec<PathBuf>> {
        let sites = self.variants.each();
        if sites.is_empty() {
            return Ok(vec![self.first.iso.clone()]);
        }
        sites.iter().map(|site| self.recipe.iso(Some(site))).collect()
    }

    /// Writes media together, then their ledgers.
    fn write(&self, laid: &[Laid], options: &BuildOptions<'_>, job: &Job<'_>) -> Result<Vec<BuildOutcome>> {
        let placed: Vec<Vec<(NodeId, LedgerFile)>> = laid.iter().map(placed_files).collect();
        let nodes: Vec<Vec<NodeId>> =
            placed.iter().map(|files| files.iter().map(|(id, _)| *id).collect()).collect();
        let mut pending = Vec::new();
        let mut outputs = Vec::new();
        for own in laid {
            let (file, output) =
                PendingFile::create_output(&own.iso, options.digest.then_some(DigestKind::Sha256))?;
            pending.push(file);
            outputs.push(output);
        }
        // One alone is moved by the kernel.
        let digests = if let ([one], [output]) = (laid, outputs.as_mut_slice()) {
            vec![one.layout.write_and_digest(&nodes[0], output, job)?]
        } else {
            let plans: Vec<&master::Plan> = laid.iter().map(|own| &own.layout).collect();
            master::write_together(&plans, &nodes, &mut outputs, job)?
        };
        let empty = sha256(&Content::default(), job)?;
        let mut outcomes = Vec::new();
        let each = laid.iter().zip(pending).zip(outputs).zip(placed).zip(digests);
        for ((((own, pending), output), placed), digests) in each {
            let (file, digest) = output.finish()?;
            job.check()?;
            pending.commit(file)?;
            let on_media = |((id, file), sha256): ((NodeId, LedgerFile), Option<String>)| LedgerFile {
                size: own.layout.tree().node(id).content().map_or(0, Content::len),
                sha256: sha256.unwrap_or_else(|| empty.clone()),
                ..file
            };
            let files = placed.into_iter().zip(digests).map(on_media).collect();
            let ledger = self.ledger(own, files, options, digest, job)?;
            let mut name = own.iso.file_stem().map(ToOwned::to_owned).unwrap_or_default();
            name.push(".ledger.json");
            let ledger_path = own.iso.with_file_name(name);
            let (pending, mut output) = PendingFile::create_output(&ledger_path, None)?;
            output.write_bytes(ledger.to_text()?.as_bytes())?;
            pending.commit(output.finish()?.0)?;
            outcomes.push(BuildOutcome { iso: own.iso.clone(), ledger_path, ledger });
        }
        Ok(outcomes)
    }

    fn ledger(
        &self,
        laid: &Laid,
        files: Vec<LedgerFile>,
        options: &BuildOptions<'_>,
        digest: Option<String>,
        job: &Job<'_>,
    ) -> Result<Ledger> {
        let report = &self.report;
        let output = laid.summary();
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
            output: LedgerOutput {
                path: output.iso,
                size: output.size,
                label: output.label,
                boot: output
                    .boot
                    .iter()
                    .map(|entry| format!("{}: {}", entry.platform, entry.image))
                    .collect(),
                sha256: digest,
            },
        })
    }
}

/// Files that were put on the media and are there in the end.
fn placed_files(laid: &Laid) -> Vec<(NodeId, LedgerFile)> {
    // What a later step took off the media again is no file of it, and what was put twice is one.
    let mut seen = HashSet::new();
    let found = |file: &LedgerFile| laid.layout.tree().find_ignoring_case(&file.path);
    let own = laid.placed.iter().filter_map(|file| Some((found(file)?, file.clone())));
    own.filter(|(id, _)| seen.insert(*id)).collect()
}

fn same_file(a: &Path, b: &Path) -> bool {
    match (a.canonicalize(), b.canonicalize()) {
        (Ok(a), Ok(b)) => a == b,
        _ => false,
    }
}
