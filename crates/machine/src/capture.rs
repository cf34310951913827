//! The system on a partition as an edition.

use crate::{
    MachineDisk, PartitionSystem,
    leave_out::{self, LeftOut},
};
use neat_content::{Content, Error, Job, Output, Result, and_more};
use neat_image::{
    EntryId, Files, ImageDraft, Reparse, SystemInfo, Unread,
    capture::image_element,
    layout::{TAG_MOUNT_POINT, TAG_SYMLINK},
};
use neat_ntfs::{Held, Slot, VolumeFiles};
use std::sync::{Arc, Mutex, PoisonError};

/// Damaged files that are named before the rest is only counted.
const SHOWN: usize = 5;

/// What is captured and how.
#[derive(Clone, Debug, Default)]
pub struct Wishes {
    /// The partition; without it the one with a system.
    pub partition: Option<u32>,
    /// Patterns of what else stays out, as [`leave_out::find`] takes them.
    pub leave_out: Vec<String>,
    /// Go on where something speaks against it.
    pub anyway: bool,
}

/// A partition that is ready to be captured.
pub struct Capture {
    /// Its number.
    pub partition: u32,
    /// The system on it.
    pub system: Option<PartitionSystem>,
    /// What stays out.
    pub left_out: Vec<LeftOut>,
    /// What speaks against it.
    pub findings: Vec<String>,
    /// What is not taken along and does no harm.
    pub notes: Vec<String>,
    read: VolumeFiles,
    passes_damage: bool,
}

impl Capture {
    /// Reads which files there are and what speaks against capturing them.
    ///
    /// # Errors
    /// As [`MachineDisk::chosen`]; `Refused` where something speaks against it and is not accepted.
    pub fn prepare(disk: &MachineDisk, wishes: &Wishes, job: &Job<'_>) -> Result<Self> {
        let chosen = disk.chosen(wishes.partition, job)?;
        let number = chosen.partition.number;
        let mut findings = Vec::new();
        if chosen.volume().is_some_and(|info| info.is_dirty) {
            findings.push(
                "the volume was not taken out of use in order, and what lies there may be half done".into(),
            );
        }
        // Read once more for its registry: with all files twice in memory there would be less room.
        let system = if chosen.has_system() { disk.partition(number)?.open(job)?.system()? } else { None };
        let Some(mut read) = chosen.into_ntfs() else {
            return Err(Error::request(
                format!("partition {number} is not NTFS"),
                "an edition is made of such; say which partition with --partition",
            ));
        };
        if let Some(system) = &system {
            findings.extend(system_findings(system));
        }
        let left_out = leave_out::find(&read.files, &wishes.leave_out);
        let mut gone: Vec<EntryId> = left_out.iter().map(|own| own.id).collect();
        let mut notes = Vec::new();
        for step in read.files.walk() {
            if read.files.entry(step.id).name.units().contains(&u16::from(b'\\')) {
                notes.push(format!("left out: the name of /{} cannot be in an edition", step.path));
                gone.push(step.id);
            }
        }
        read.leave_out(&gone);
        findings.extend(damage_findings(&read));
        if !findings.is_empty() && !wishes.anyway {
            return Err(Error::refused(
                format!("partition {number}: {}", findings.join("; ")),
                "put it right in its system, or go on with --anyway",
            ));
        }
        let damaged: Vec<EntryId> = read.damaged.iter().filter_map(|own| own.entry).collect();
        let damaged: Vec<EntryId> = damaged.into_iter().flat_map(|id| read.names_of(id)).collect();
        read.leave_out(&damaged);
        let letter = system.as_ref().and_then(|system| system.state.letter);
        mark_points(&mut read, letter)?;
        if read.with_extended > 0 {
            notes.push(format!("extended attributes of {} files are not taken along", read.with_extended));
        }
        if !read.object_ids.is_empty() {
            notes.push(format!("object identifiers of {} files are not taken along", read.object_ids.len()));
        }
        Ok(Self { partition: number, system, left_out, findings, notes, read, passes_damage: wishes.anyway })
    }

    /// Describes the system otherwise than its own registry does.
    pub fn set_system(&mut self, described: (String, SystemInfo)) {
        self.system.get_or_insert_default().info_element = Some(described);
    }

    /// Bytes of the content that will be read.
    pub fn bytes(&self) -> u64 {
        self.read.held.iter().map(Held::len).sum()
    }

    /// Files, folders and links.
    pub fn entries(&self) -> usize {
        self.read.files.walk().count()
    }

    /// Writes the image file: what `draft` has, and behind it this as an edition called `name`. Content is read once, in
    /// the order of the disk. Returns what was damaged and left out.
    ///
    /// # Errors
    /// As [`ImageDraft::write_unread`].
    pub fn write(
        mut self,
        draft: &mut ImageDraft,
        (name, description): (&str, &str),
        output: &mut Output,
        threads: usize,
        job: &Job<'_>,
    ) -> Result<Vec<String>> {
        let held = std::mem::take(&mut self.read.held);
        let volume = Arc::clone(&self.read.volume);
        draft.set_reparse_fixed();
        let mut damaged = Vec::new();
        // Paths are put together where something goes wrong, until the edition is described.
        let read = Mutex::new(Some(self.read));
        let called = |n: usize| {
            let read = read.lock().unwrap_or_else(PoisonError::into_inner);
            let path = read.as_ref().map(|read| read.files.path(held[n].entry));
            format!("/{}", path.unwrap_or_default())
        };
        let unread = Unread {
            count: held.len(),
            content: &|n| held[n].content(&volume),
            source: &volume.content,
            name: &called,
            passes_damage: self.passes_damage,
        };
        let info = self.system.and_then(|system| system.info_element);
        draft.write_unread(&unread, output, threads, job, &mut |draft, outcomes| {
            let taken = read.lock().unwrap_or_else(PoisonError::into_inner).take();
            let mut read = taken.ok_or_else(|| Error::internal("an edition is described twice"))?;
            let mut gone = Vec::new();
            for (held, digest) in held.iter().zip(outcomes.digests) {
                if let Some(digest) = digest {
                    read.set_digest(held.entry, held.slot, digest);
                }
            }
            for (n, error) in outcomes.damaged {
                damaged.push(error.to_string());
                gone.extend(read.names_of(held[n].entry));
            }
            read.share_digests();
            read.leave_out(&gone);
            let files = read.files;
            let created = files.entry(Files::ROOT).times.written;
            let newest = files.ids().map(|id| files.entry(id).times.written).max().unwrap_or(created);
            draft.add_edition(files, image_element(name, description, newest))?;
            if let Some((element, info)) = &info {
                let number = draft.editions().len();
                draft.set_system(number, element, info);
            }
            Ok(())
        })?;
        Ok(damaged)
    }
}

/// What of a system speaks against giving it to other machines.
fn system_findings(system: &PartitionSystem) -> Vec<String> {
    let mut findings = Vec::new();
    let of_machine = system.state.of_the_machine();
    let has =
        if of_machine.is_empty() { String::new() } else { format!("; it has {}", of_machine.join(", ")) };
    match system.state.generalised {
        Some(true) => {}
        Some(false) => findings.push(format!("the system was not made ready for other machines{has}")),
        None => {
            findings.push(format!("the system does not say that it was made ready for other machines{has}"));
        }
    }
    if system.state.hibernated {
        findings.push("the system sleeps: part of it is in its saved memory".into());
    }
    if !system.state.open_updates.is_empty() {
        findings.push(format!("an update is not finished ({})", system.state.open_updates.join(", ")));
    }
    findings.extend(system.notes.iter().cloned());
    findings
}

fn damage_findings(read: &VolumeFiles) -> Vec<String> {
    let mut findings: Vec<String> = read
        .damaged
        .iter()
        .take(SHOWN)
        .map(|own| format!("/{} is damaged: {}", own.place, own.error))
        .collect();
    if read.damaged.len() > SHOWN {
        findings.push(format!("damaged files{}", and_more(read.damaged.len() - SHOWN)));
    }
    if read.lost > 0 {
        findings.push(format!("{} files are in no folder", read.lost));
    }
    findings
}

/// Says of each reparse point whether it leads to the same volume, so that whoever unpacks the edition elsewhere makes it
/// lead there: where its target begins with the volume's own letter, or is relative.
fn mark_points(read: &mut VolumeFiles, letter: Option<char>) -> Result<()> {
    let points: Vec<(EntryId, u32, Content)> = read
        .held
        .iter()
        .filter(|held| held.slot == Slot::Main)
        .filter_map(|held| {
            let point = read.files.entry(held.entry).reparse()?;
            Some((held.entry, point.tag, held.content(&read.volume)))
        })
        .collect();
    for (id, tag, content) in points {
        let stays = matches!(tag, TAG_SYMLINK | TAG_MOUNT_POINT) && {
            let data = content.to_vec(16 << 10, "reparse point")?;
            leads_inside(tag, &data, letter)
        };
        for name in read.names_of(id) {
            let not_fixed = u16::from(!stays);
            read.files.entry_mut(name).set_reparse(Reparse { tag, reserved: 0, not_fixed });
        }
    }
    Ok(())
}

/// Whether the target that the system itself uses lies on the volume of this letter.
fn leads_inside(tag: u32, data: &[u8], letter: Option<char>) -> bool {
    let number =
        |at: usize| data.get(at..at + 2).map_or(0, |two| usize::from(u16::from_le_bytes([two[0], two[1]])));
    let names_at = if tag == TAG_SYMLINK { 12 } else { 8 };
    let is_relative = tag == TAG_SYMLINK && data.get(8).is_some_and(|flags| flags & 1 == 1);
    let start = names_at + number(0);
    let Some(name) = data.get(start..start + number(2)) else { return false };
    let units: Vec<u16> = name.chunks_exact(2).map(|two| u16::from_le_bytes([two[0], two[1]])).collect();
    let name = String::from_utf16_lossy(&units);
    let own = letter.map(|letter| format!("\\??\\{letter}:\\"));
    is_relative
        || own.is_some_and(|own| name.get(..own.len()).is_some_and(|start| start.eq_ignore_ascii_case(&own)))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn data(tag: u32, target: &str, flags: u32) -> Vec<u8> {
        let name: Vec<u8> = target.encode_utf16().flat_map(u16::to_le_bytes).collect();
        let mut data = Vec::new();
        for number in [0, name.len() as u16, 0, name.len() as u16] {
            data.extend(number.to_le_bytes());
        }
        if tag == TAG_SYMLINK {
            data.extend(flags.to_le_bytes());
        }
        data.extend(name);
        data
    }

    #[test]
    fn points_lead_inside_by_letter_or_without_one() {
        for (tag, target, flags, inside) in [
            (TAG_MOUNT_POINT, "\\??\\C:\\Users", 0, true),
            (TAG_MOUNT_POINT, "\\??\\c:\\Users", 0, true),
            (TAG_MOUNT_POINT, "\\??\\D:\\Users", 0, false),
            (TAG_MOUNT_POINT, "\\??\\Volume{1}\\", 0, false),
            (TAG_SYMLINK, "\\??\\C:\\Users", 0, true),
            (TAG_SYMLINK, "..\\Users", 1, true),
            (TAG_SYMLINK, "\\\\server\\share", 0, false),
        ] {
            assert_eq!(leads_inside(tag, &data(tag, target, flags), Some('C')), inside, "{target}");
        }
        assert!(!leads_inside(TAG_MOUNT_POINT, &data(TAG_MOUNT_POINT, "\\??\\C:\\", 0), None));
        assert!(!leads_inside(TAG_MOUNT_POINT, &[1, 2], Some('C')));
    }
}
