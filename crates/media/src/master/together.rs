//! Several discs at once: what they share is read once.

use super::{Part, Plan};
use neat_content::{Content, DigestKind, Digester, Event, Job, NodeId, Output, Result};
use std::collections::{HashMap, HashSet};

/// Bytes read at a time.
const BLOCK: usize = 1 << 20;

/// Digests of the wanted files of each disc, in their order.
type Digests = Vec<Vec<Option<String>>>;

/// Writes each plan to the output of the same index, and gives the SHA-256 of the files that are wanted of each as
/// [`Plan::write_and_digest`] does. Content that all have is read once for all of them.
///
/// # Errors
/// As [`Plan::write`].
pub fn write_together(
    plans: &[&Plan],
    wanted: &[Vec<NodeId>],
    outputs: &mut [Output],
    job: &Job<'_>,
) -> Result<Digests> {
    let Some((first, rest)) = plans.split_first() else { return Ok(Vec::new()) };
    let is_alike = |plan: &&Plan| {
        plan.regions.len() == first.regions.len()
            && plan.regions.iter().zip(&first.regions).all(|(own, other)| own.part == other.part)
    };
    if !rest.iter().all(is_alike) {
        let each = plans.iter().zip(wanted).zip(outputs);
        return each.map(|((plan, wanted), out)| plan.write_and_digest(wanted, out, job)).collect();
    }
    let numbers: Vec<Vec<Option<u32>>> = plans
        .iter()
        .zip(wanted)
        .map(|(plan, wanted)| wanted.iter().map(|id| plan.blobs.number(*id)).collect())
        .collect();
    let wanted: HashSet<u32> = numbers.iter().flatten().copied().flatten().collect();
    let mut digests: HashMap<(usize, u32), String> = HashMap::new();
    let total = plans.iter().map(|plan| plan.content_len()).sum();
    job.event(Event::StepStarted { step: "writing the discs", total_bytes: Some(total) });
    for (index, region) in first.regions.iter().enumerate() {
        for (plan, out) in plans.iter().zip(outputs.iter_mut()) {
            out.pad_to(plan.regions[index].sector.byte_offset())?;
        }
        let shared = match region.part {
            Part::Blob(number) => shared_content(plans, number).map(|content| (number, content)),
            _ => None,
        };
        if let Some((number, content)) = shared {
            let mut digester =
                wanted.contains(&number).then(|| Digester::for_len(DigestKind::Sha256, content.len()));
            outputs.iter_mut().for_each(|out| out.note_sources(content));
            content.for_each_block(BLOCK, job, &mut |block| {
                if let Some(digester) = &mut digester {
                    digester.add_slice(block);
                }
                for out in outputs.iter_mut() {
                    out.write_bytes(block)?;
                    job.event(Event::BytesDone(block.len() as u64));
                }
                Ok(())
            })?;
            if let Some(digest) = digester.map(Digester::finish).transpose()? {
                digests.extend((0..plans.len()).map(|plan| ((plan, number), digest.clone())));
            }
        } else {
            for (number, (plan, out)) in plans.iter().zip(outputs.iter_mut()).enumerate() {
                let own = &plan.regions[index];
                match own.part {
                    Part::Blob(blob) if wanted.contains(&blob) => {
                        let content = &plan.blobs.list[blob as usize].content;
                        digests.insert((number, blob), out.write_digested(content, DigestKind::Sha256, job)?);
                    }
                    _ => plan.write_part(own, out, job)?,
                }
            }
        }
        for (plan, out) in plans.iter().zip(outputs.iter_mut()) {
            let own = &plan.regions[index];
            out.pad_to(own.sector.after(own.sectors).byte_offset())?;
        }
    }
    for (plan, out) in plans.iter().zip(outputs.iter_mut()) {
        out.pad_to(plan.len())?;
    }
    job.event(Event::StepFinished);
    let digest = |plan: usize, number: &Option<u32>| digests.get(&(plan, (*number)?)).cloned();
    Ok(numbers
        .iter()
        .enumerate()
        .map(|(plan, own)| own.iter().map(|number| digest(plan, number)).collect())
        .collect())
}

/// The content of a blob that all plans have alike.
fn shared_content<'a>(plans: &[&'a Plan], number: u32) -> Option<&'a Content> {
    let content = |plan: &&'a Plan| plan.blobs.list.get(number as usize).map(|blob| &blob.content);
    let first = plans.first().and_then(content)?;
    plans.iter().all(|plan| content(plan).is_some_and(|own| own.is_same(first))).then_some(first)
}
