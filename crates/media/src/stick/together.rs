//! A disc and a stick from one pass: what both hold is read once.

use super::{SlotKind, StickPlan};
use crate::{fat::volume::Part, master};
use neat_content::{DigestKind, Digester, Event, Job, NodeId, Output, Result};
use std::collections::HashMap;

/// Bytes read at a time.
const BLOCK: usize = 1 << 20;

/// Writes `disc` and `stick`, each to its output, and gives the SHA-256 of the `wanted` files of the disc as
/// [`master::Plan::write_and_digest`] does. The stick's tree is a copy of the disc's; where its files come in the order
/// of the disc's ([`master::Plan::file_order`]), content that both have is read once.
///
/// # Errors
/// As [`Plan::write`](crate::master::Plan::write) and [`StickPlan::write`].
pub fn write_with_disc(
    disc: &master::Plan,
    wanted: &[NodeId],
    disc_out: &mut Output,
    stick: &StickPlan,
    stick_out: &mut Output,
    job: &Job<'_>,
) -> Result<Vec<Option<String>>> {
    let numbers: Vec<Option<u32>> = wanted.iter().map(|id| disc.blob_number(*id)).collect();
    let mut digests: HashMap<u32, Option<String>> =
        numbers.iter().copied().flatten().map(|number| (number, None)).collect();
    let mut beside = slots_by_blob(disc, stick);
    let total = disc.content_len() + stick.content_len();
    job.event(Event::StepStarted { step: "writing disc and stick", total_bytes: Some(total) });
    let mut written = 0;
    disc.write_regions(disc_out, job, &mut |number, content, disc_out| {
        let slot = beside.remove(&number).filter(|slot| *slot >= written);
        let slot = slot.and_then(|slot| Some((slot, stick.slots.get(slot)?)));
        let slot = slot.filter(|(_, slot)| slot.content.is_same(content));
        let mut digester =
            digests.contains_key(&number).then(|| Digester::for_len(DigestKind::Sha256, content.len()));
        if slot.is_none() && digester.is_none() {
            return disc_out.write_content(content, job);
        }
        if let Some((index, slot)) = slot {
            // What lies before it on the stick and not on the disc.
            write_slots(stick, written..index, stick_out, job)?;
            written = index + 1;
            stick_out.pad_to(slot.offset)?;
        }
        disc_out.note_sources(content);
        if slot.is_some() {
            stick_out.note_sources(content);
        }
        content.for_each_block(BLOCK, job, &mut |block| {
            if let Some(digester) = &mut digester {
                digester.add_slice(block);
            }
            disc_out.write_bytes(block)?;
            job.event(Event::BytesDone(block.len() as u64));
            if slot.is_some() {
                stick_out.write_bytes(block)?;
                job.event(Event::BytesDone(block.len() as u64));
            }
            Ok(())
        })?;
        if let Some(digest) = digester.map(Digester::finish).transpose()? {
            digests.insert(number, Some(digest));
        }
        Ok(())
    })?;
    write_slots(stick, written..stick.slots.len(), stick_out, job)?;
    stick_out.pad_to(stick.len)?;
    job.event(Event::StepFinished);
    Ok(numbers.into_iter().map(|number| digests.get(&number?).cloned().flatten()).collect())
}

/// The first slot of the stick that may hold each content of the disc.
fn slots_by_blob(disc: &master::Plan, stick: &StickPlan) -> HashMap<u32, usize> {
    let mut slots = HashMap::new();
    for (index, slot) in stick.slots.iter().enumerate() {
        if let SlotKind::Volume(Part::File(id)) = slot.kind
            && let Some(number) = disc.blob_number(id)
        {
            slots.entry(number).or_insert(index);
        }
    }
    slots
}

pub(super) fn write_slots(
    stick: &StickPlan,
    which: std::ops::Range<usize>,
    out: &mut Output,
    job: &Job<'_>,
) -> Result<()> {
    for slot in &stick.slots[which] {
        out.pad_to(slot.offset)?;
        out.write_content(&slot.content, job).map_err(|error| error.within(slot.name(&stick.tree)))?;
    }
    Ok(())
}
