//! Doing what was planned.

use crate::{
    Finding, Ledger, LedgerFile,
    ledger::{LEDGER_KIND, LedgerOutput, LedgerSource},
    plan::{Prepared, Weight, sha256},
};
use neat_content::{Content, DigestKind, Error, Job, NodeId, PendingFile, Result};
use std::{
    collections::HashSet,
    path::{Path, PathBuf},
};

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

impl Prepared {
    /// Writes the media and its ledger. Refuses while there are findings that must be answered in the stack file
    /// first; nothing is written then.
    pub fn build(mut self, options: &BuildOptions<'_>, job: &Job<'_>) -> Result<BuildOutcome> {
        if let Some(Finding { message, hint, .. }) =
            self.report.findings.iter().find(|finding| finding.weight == Weight::Refused)
        {
            return Err(Error::refused(message.clone(), hint.clone()));
        }
        if self.report.source.as_ref().is_some_and(|source| same_file(Path::new(&source.path), &self.iso)) {
            return Err(Error::refused(
                format!("{} is the source itself, which is never written", self.iso.display()),
                "give `media.iso` another name",
            ));
        }
        if let Some(folder) = self.iso.parent() {
            std::fs::create_dir_all(folder).map_err(Error::io("create the folder", folder))?;
        }
        self.finish_image(options.threads, job)?;
        // What a later step took off the media again is no file of it, and what was put twice is one.
        let mut seen = HashSet::new();
        let found = |file: &LedgerFile| self.layout.tree().find_ignoring_case(&file.path);
        let placed: Vec<(NodeId, LedgerFile)> = self
            .placed
            .iter()
            .filter_map(|file| Some((found(file)?, file.clone())))
            .filter(|(id, _)| seen.insert(*id))
            .collect();
        let nodes: Vec<NodeId> = placed.iter().map(|(id, _)| *id).collect();
        let (digest, digests) = write_iso(&self, &nodes, options.digest, job)?;
        let empty = sha256(&Content::default(), job)?;
        let on_media = |((id, file), sha256): ((NodeId, LedgerFile), Option<String>)| LedgerFile {
            size: self.layout.tree().node(id).content().map_or(0, Content::len),
            sha256: sha256.unwrap_or_else(|| empty.clone()),
            ..file
        };
        self.placed = placed.into_iter().zip(digests).map(on_media).collect();
        let ledger = self.ledger(options, digest, job)?;
        let mut name = self.iso.file_stem().map(ToOwned::to_owned).unwrap_or_default();
        name.push(".ledger.json");
        let ledger_path = self.iso.with_file_name(name);
        let (pending, mut output) = PendingFile::create_output(&ledger_path, None)?;
        output.write_bytes(ledger.to_text()?.as_bytes())?;
        pending.commit(output.finish()?.0)?;
        Ok(BuildOutcome { iso: self.iso, ledger_path, ledger })
    }

    fn ledger(&self, options: &BuildOptions<'_>, digest: Option<String>, job: &Job<'_>) -> Result<Ledger> {
        let report = &self.report;
        Ok(Ledger {
            kind: LEDGER_KIND.into(),
            version: Ledger::VERSION,
            program: options.program.into(),
            title: report.title.clone(),
            stack_sha256: sha256(&Content::from_bytes(options.stack_text.as_bytes()), job)?,
            source: report.source.as_ref().map(|source| LedgerSource {
                path: source.path.clone(),
                size: source.size,
                label: source.label.clone(),
                sha256: source.sha256.clone(),
            }),
            steps: report.steps.iter().map(|step| format!("{} {}", step.action, step.subject)).collect(),
            items: report.editions_work.iter().flat_map(crate::EditionWork::ledger_items).collect(),
            files: self.placed.clone(),
            findings: report.findings.iter().map(|finding| finding.message.clone()).collect(),
            output: LedgerOutput {
                path: report.output.iso.clone(),
                size: report.output.size,
                label: report.output.label.clone(),
                boot: report
                    .output
                    .boot
                    .iter()
                    .map(|entry| format!("{}: {}", entry.platform, entry.image))
                    .collect(),
                sha256: digest,
            },
        })
    }
}

fn same_file(a: &Path, b: &Path) -> bool {
    match (a.canonicalize(), b.canonicalize()) {
        (Ok(a), Ok(b)) => a == b,
        _ => false,
    }
}

/// Digest of the whole file, if wanted, and of each of `nodes`.
type Digests = (Option<String>, Vec<Option<String>>);

fn write_iso(prepared: &Prepared, nodes: &[NodeId], digest: bool, job: &Job<'_>) -> Result<Digests> {
    let (pending, mut output) =
        PendingFile::create_output(&prepared.iso, digest.then_some(DigestKind::Sha256))?;
    let digests = prepared.layout.write_and_digest(nodes, &mut output, job)?;
    let (file, digest) = output.finish()?;
    job.check()?;
    pending.commit(file)?;
    Ok((digest, digests))
}
