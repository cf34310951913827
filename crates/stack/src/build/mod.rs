//! Doing what was planned.

mod record;
mod trial;
mod write;

use crate::{
    editions::verify,
    plan::{Laid, Prepared},
    report::{Finding, Ledger, LedgerFile, Weight},
};
use neat_content::{
    Content, DigestKind, Error, IfThere, Job, NodeId, PendingFile, Result, Timestamp, commit_together,
    digest_of,
};
use neat_media::master;
use std::{
    collections::HashSet,
    path::{Path, PathBuf},
};
use write::Written;

/// Most media that are written at once; what they share is read once for all of them.
const AT_ONCE: usize = 100;

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
    /// The first of the files that were written.
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
            verify(&self.ground.editor.tree, options.threads, job)?;
        }
        let sites = self.variants.each().to_vec();
        if sites.len() < 2 {
            let outcomes = self.write(std::slice::from_ref(&self.first), options, job)?;
            return Ok(outcomes);
        }
        let twins = master::Twins::find(&self.ground.editor.tree, job)?;
        let mut outcomes = Vec::new();
        for some in sites.chunks(AT_ONCE) {
            let laid = some.iter().map(|site| self.ground.lay_out(Some(site), None, Some(&twins), job));
            let laid = laid.collect::<Result<Vec<Laid>>>()?;
            outcomes.extend(self.write(&laid, options, job)?);
        }
        Ok(outcomes)
    }

    /// The files that a build writes, those of a machine together.
    pub fn outputs(&self) -> Result<Vec<Vec<PathBuf>>> {
        self.variants.outputs(&self.ground)
    }

    /// Writes media together, then their ledgers.
    fn write(&self, laid: &[Laid], options: &BuildOptions<'_>, job: &Job<'_>) -> Result<Vec<BuildOutcome>> {
        let placed: Vec<Vec<(NodeId, LedgerFile)>> = laid.iter().map(placed_files).collect();
        let nodes: Vec<Vec<NodeId>> =
            placed.iter().map(|files| files.iter().map(|(id, _)| *id).collect()).collect();
        // Only discs alone are written side by side; what else there is is written with its own disc.
        let is_disc = |own: &Laid| matches!(own.outputs.as_slice(), [one] if one.is_disc());
        let only_discs = laid.iter().all(is_disc);
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
        let empty = digest_of(&Content::default(), DigestKind::Sha256, job)?;
        let on_media = |((id, file), sha256): ((NodeId, LedgerFile), Option<String>)| LedgerFile {
            size: own.layout.tree().node(id).content().map_or(0, Content::len),
            sha256: sha256.unwrap_or_else(|| empty.clone()),
            ..file
        };
        let files = placed.into_iter().zip(written.files).map(on_media).collect();
        let ledger = self.ledger(own, files, options, &written.digests, written.trials, job)?;
        let main = own.outputs.first().map(|output| output.path.clone()).unwrap_or_default();
        let ledger_path = ledger_path(&main);
        // The ledger of what was built before may always go: it speaks of files that are replaced now.
        let (pending, mut output) = PendingFile::create_output(&ledger_path, IfThere::Replace, None)?;
        output.write_bytes(ledger.to_text()?.as_bytes())?;
        let mut ready = written.ready;
        ready.push((pending, output.finish()?.0));
        if let Some(time) = self.ground.clock.fixed.and_then(Timestamp::to_system_time) {
            for (_, file) in &ready {
                file.set_modified(time).map_err(Error::io("set the time of what was built beside", &main))?;
            }
        }
        commit_together(ready)?;
        Ok(BuildOutcome { main, ledger_path, ledger })
    }

    /// Whether outputs are digested: as asked for, else where a ledger is to vouch for several files or a trial.
    fn digest(&self, options: &BuildOptions<'_>) -> Option<DigestKind> {
        let media = &self.ground.stack.media;
        let usual = self.first.outputs.iter().any(|output| !output.is_disc()) || !media.trial.is_empty();
        options.digest.unwrap_or(usual).then_some(DigestKind::Sha256)
    }
}

/// Where the ledger of an output is.
pub fn ledger_path(output: &Path) -> PathBuf {
    let mut name = output.file_stem().map(ToOwned::to_owned).unwrap_or_default();
    name.push(".ledger.json");
    output.with_file_name(name)
}

/// Files that were put on the media and are there in the end.
fn placed_files(laid: &Laid) -> Vec<(NodeId, LedgerFile)> {
    // What a later step took off the media again is no file of it, and what was put twice is one.
    let mut seen = HashSet::new();
    let found = |file: &LedgerFile| laid.layout.tree().find_ignoring_case(&file.path);
    let own = laid.placed.iter().filter_map(|file| Some((found(file)?, file.clone())));
    own.filter(|(id, _)| seen.insert(*id)).collect()
}
