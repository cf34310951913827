//! Writing what comes out, in as few passes over the source as can be.

use super::BuildOptions;
use crate::{
    output::{FileDigests, LaidOutput, Pass},
    plan::{Laid, Prepared},
    report::LedgerTrial,
};
use neat_content::{DigestKind, Job, NodeId, Output, PendingFile, Result, digest_of};
use neat_media::{master, stick::write_with_disc};
use std::{fs::File, path::Path};

/// What was written for one machine.
pub(super) struct Written {
    /// SHA-256 of the files that the ledger lists.
    pub files: FileDigests,
    /// SHA-256 of each output, where they are digested.
    pub digests: Vec<Option<String>>,
    pub trials: Vec<LedgerTrial>,
    /// The files, which have no names yet.
    pub ready: Vec<(PendingFile, File)>,
}

/// An output that is being written.
type Open = (PendingFile, Output);

impl LaidOutput {
    /// Whether it is the disc.
    pub(super) fn is_disc(&self) -> bool {
        matches!(self.body.pass(), Pass::Disc)
    }
}

impl Prepared<'_> {
    fn open(&self, own: &Laid, output: &LaidOutput, options: &BuildOptions<'_>) -> Result<Open> {
        let if_there = options.if_there(&output.path);
        let open = PendingFile::create_output(&output.path, if_there, self.digest(options))?;
        options.protect(own, &open.0)?;
        Ok(open)
    }

    /// Many discs, what they share read once.
    pub(super) fn write_discs(
        &self,
        laid: &[Laid],
        nodes: &[Vec<NodeId>],
        options: &BuildOptions<'_>,
        job: &Job<'_>,
    ) -> Result<Vec<Written>> {
        let (mut pending, mut outputs) = (Vec::new(), Vec::new());
        for own in laid {
            for output in &own.outputs {
                let (file, out) = self.open(own, output, options)?;
                pending.push(file);
                outputs.push(out);
            }
        }
        let plans: Vec<&master::Plan> = laid.iter().map(|own| &own.layout).collect();
        let files = master::write_together(&plans, nodes, &mut outputs, job)?;
        let mut written = Vec::new();
        for (((own, pending), output), files) in laid.iter().zip(pending).zip(outputs).zip(files) {
            written.push(self.finish_outputs(own, vec![(pending, output)], files, job)?);
        }
        Ok(written)
    }

    /// The outputs of one machine.
    pub(super) fn write_one(
        &self,
        own: &Laid,
        nodes: &[NodeId],
        options: &BuildOptions<'_>,
        job: &Job<'_>,
    ) -> Result<Written> {
        let open = own.outputs.iter().map(|output| self.open(own, output, options));
        let mut open = open.collect::<Result<Vec<Open>>>()?;
        let files = match write_all(own, nodes, &mut open, job)? {
            Some(files) => files,
            None => nodes.iter().map(|id| digest_of_file(own, *id, job)).collect::<Result<_>>()?,
        };
        self.finish_outputs(own, open, files, job)
    }

    /// All are complete before any gets its name, and tried under the names that they have until then.
    fn finish_outputs(
        &self,
        own: &Laid,
        open: Vec<Open>,
        files: FileDigests,
        job: &Job<'_>,
    ) -> Result<Written> {
        let (mut ready, mut digests) = (Vec::new(), Vec::new());
        for (pending, output) in open {
            let (file, digest) = output.finish()?;
            ready.push((pending, file));
            digests.push(digest);
        }
        job.check()?;
        let paths: Vec<&Path> = ready.iter().map(|(pending, _)| pending.temporary_path()).collect();
        let trials = self.try_out(own, &paths, job)?;
        Ok(Written { files, digests, trials, ready })
    }
}

/// Writes each output; the disc and the first that can take its files from the same pass go together. Gives the digests
/// of the files in `nodes`, if a pass made them.
fn write_all(own: &Laid, nodes: &[NodeId], open: &mut [Open], job: &Job<'_>) -> Result<Option<FileDigests>> {
    let mut digests = None;
    let mut is_written = vec![false; open.len()];
    let disc = own.outputs.iter().position(LaidOutput::is_disc);
    let beside = own.outputs.iter().enumerate().find_map(|(number, output)| match output.body.pass() {
        Pass::WithDisc(stick) => Some((number, stick)),
        Pass::Disc | Pass::Alone => None,
    });
    if let (Some(disc), Some((number, stick))) = (disc, beside)
        && let Ok([(_, out), (_, beside)]) = open.get_disjoint_mut([disc, number])
    {
        digests = Some(write_with_disc(&own.layout, nodes, out, stick, beside, job)?);
        is_written[disc] = true;
        is_written[number] = true;
    }
    for ((output, (_, out)), is_written) in own.outputs.iter().zip(open).zip(is_written) {
        if !is_written {
            let own = output.body.write(&own.layout, nodes, out, job)?;
            digests = digests.or(own);
        }
    }
    Ok(digests)
}

/// SHA-256 of a file that no pass digested; `None` for an empty one.
fn digest_of_file(own: &Laid, id: NodeId, job: &Job<'_>) -> Result<Option<String>> {
    let content = own.layout.tree().node(id).content().filter(|content| !content.is_empty());
    content.map(|content| digest_of(content, DigestKind::Sha256, job)).transpose()
}
