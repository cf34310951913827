//! Changing a stick in place: groups of writes, each flushed before the next begins.

use crate::{
    Device,
    buffer::Buffer,
    write::{Options, Outcome, differs, flush, read_all, write_all},
};
use neat_content::{Content, Event, Job, Result, SourceSet};
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
    let mut outcome = Outcome {
        written: 0,
        compared: 0,
        files: plan.update.written.len() as u64,
        // The table stays.
        announced: true,
    };
    let mut buffer = Buffer::new(BLOCK);
    let block_len = device.block_len() as usize;
    let mut sources = SourceSet::default();
    for group in &plan.update.groups {
        // What nothing points to yet may have come from a file that changed; nothing is to point to that.
        sources.check_unchanged()?;
        group.iter().for_each(|write| sources.add(&write.content));
        for write in group {
            in_blocks(&write.content, &mut buffer, block_len, job, &mut |at, slot, len| {
                write_all(device, &write.name, plan.start + write.offset + at, slot)?;
                outcome.written += slot.len() as u64;
                job.event(Event::BytesDone(len as u64));
                Ok(())
            })?;
        }
        flush(device)?;
        if options.verify {
            compare(device, plan.start, group, &mut outcome, job)?;
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
    job: &Job<'_>,
) -> Result<()> {
    let (mut wanted, mut found) = (Buffer::new(BLOCK), Buffer::new(BLOCK));
    let block_len = device.block_len() as usize;
    for write in group {
        in_blocks(&write.content, &mut wanted, block_len, job, &mut |at, slot, len| {
            let back = &mut found.as_mut_slice()[..slot.len()];
            let offset = start + write.offset + at;
            read_all(device, &write.name, offset, back)?;
            if back[..len] != slot[..len] {
                return Err(differs(device, &write.name, offset, len as u64));
            }
            outcome.compared += len as u64;
            Ok(())
        })?;
    }
    Ok(())
}

/// Does something with a place, blocks, and how many bytes of them count.
type Each<'a> = dyn FnMut(u64, &[u8], usize) -> Result<()> + 'a;

/// Calls `each` with whole blocks of `content`, however it is put together: the place in the content, the blocks, and how
/// many bytes of them belong to it. The rest of a last block is zeros: it is behind the end of a file.
fn in_blocks(
    content: &Content,
    buffer: &mut Buffer,
    block_len: usize,
    job: &Job<'_>,
    each: &mut Each<'_>,
) -> Result<()> {
    let (mut at, mut filled) = (0, 0);
    content.for_each_block(BLOCK, job, &mut |block| {
        let mut rest = block;
        while !rest.is_empty() {
            let (now, later) = rest.split_at(rest.len().min(BLOCK - filled));
            buffer.as_mut_slice()[filled..filled + now.len()].copy_from_slice(now);
            filled += now.len();
            rest = later;
            if filled == BLOCK {
                each(at, buffer.as_slice(), filled)?;
                at += filled as u64;
                filled = 0;
            }
        }
        Ok(())
    })?;
    if filled > 0 {
        let len = filled.next_multiple_of(block_len);
        buffer.as_mut_slice()[filled..len].fill(0);
        each(at, &buffer.as_slice()[..len], filled)?;
    }
    Ok(())
}
