//! The media that a build starts from.

use crate::{change::restrictions, recipe::StackFile, report::SourceSummary};
use neat_content::{Content, DigestKind, Error, Event, Job, Result, Source, TreeCounts};
use neat_media::{Media, read};
use std::path::Path;

/// Opens the source of `stack`, after checking the digest that is given for it.
pub(super) fn open(stack: &StackFile, base: &Path, job: &Job<'_>) -> Result<(Media, Option<SourceSummary>)> {
    let Some(section) = &stack.source else {
        return Ok((Media::default(), None));
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
        restrictions: restrictions(&media.tree),
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
