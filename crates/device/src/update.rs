//! Changing a stick in place: groups of writes, each flushed before the next begins.

use crate::{
    Device,
    buffer::Buffer,
    write::{Options, Outcome, differs, flush, read_all, write_all},
};
use neat_content::{Event, Job, Result};
use neat_media::stick::StickUpdate;

/// Bytes written and read at a time.
const BLOCK: usize = 4 << 20;

/// Does what `plan` says. Stopped at any moment, the stick holds the old files or the new ones.
///
/// # Errors
/// Each names the place.
pub fn apply(
    device: &mut dyn Device,
    plan: &StickUpdate,
    options: Options,
    job: &Job<'_>,
) -> Result<Outcome> {
    let total = plan.update.groups.iter().flatten().map(|write| write.content.len()).sum();
    job.event(Event::StepStarted { step: "writing what differs", total_bytes: Some(total) });
    let mut outcome = Outcome { written: 0, compared: 0, files: plan.update.written.len() as u64 };
    let mut buffer = Buffer::new(BLOCK);
    let block_len = device.block_len() as usize;
    for (number, group) in plan.update.groups.iter().enumerate() {
        for write in group {
            // Only before the change is made may a stop leave the rest undone.
            if number < 2 {
                job.check()?;
            }
            let mut at = plan.start + write.offset;
            write.content.for_each_block(BLOCK, job, &mut |block| {
                // The rest of a last block is behind the end of a file, where anything may stand.
                let len = block.len().next_multiple_of(block_len);
                let slot = &mut buffer.as_mut_slice()[..len];
                slot[..block.len()].copy_from_slice(block);
                slot[block.len()..].fill(0);
                write_all(device, &write.name, at, slot)?;
                outcome.written += len as u64;
                at += block.len() as u64;
                job.event(Event::BytesDone(block.len() as u64));
                Ok(())
            })?;
        }
        flush(device)?;
        if options.verify {
            compare(device, plan.start, group, &mut outcome)?;
        }
    }
    job.event(Event::StepFinished);
    Ok(outcome)
}

/// Reads a group back before the next one relies on it.
fn compare(
    device: &mut dyn Device,
    start: u64,
    group: &[neat_media::fat::update::Write],
    outcome: &mut Outcome,
) -> Result<()> {
    let mut buffer = Buffer::new(BLOCK);
    let block_len = device.block_len() as usize;
    for write in group {
        let mut at = start + write.offset;
        write.content.for_each_block(BLOCK, &Job::silent(), &mut |block| {
            let slot = &mut buffer.as_mut_slice()[..block.len().next_multiple_of(block_len)];
            read_all(device, &write.name, at, slot)?;
            if slot[..block.len()] != *block {
                return Err(differs(device, &write.name, at, block.len() as u64));
            }
            at += block.len() as u64;
            outcome.compared += block.len() as u64;
            Ok(())
        })?;
    }
    Ok(())
}
