//! `look` at a machine's disk.

use crate::{
    context::Context,
    show::machine::{InstalledView, LeftOutView, MachineView, PartitionView},
};
use neat_content::{Job, Result, and_more, damage_apart};
use neat_image::{EntryId, Files};
use neat_machine::{MachineDisk, Partition, PartitionFiles, leave_out};
use neat_ntfs::VolumeFiles;
use std::{collections::HashSet, path::Path};

/// Damaged files that are named before the rest is only counted.
const SHOWN: usize = 5;

pub(super) fn look(path: &Path, digest: Option<String>, context: &Context) -> Result<()> {
    let disk = MachineDisk::open(path)?;
    let job = context.job();
    let partitions = disk.partitions.iter().map(|own| partition(own, &job)).collect::<Result<_>>()?;
    let view = MachineView {
        kind: "machine-disk",
        path: path.display().to_string(),
        size: disk.content.len(),
        form: disk.form.to_string(),
        digest,
        table: match &disk.table {
            Some(table) if table.gpt => "gpt",
            Some(_) => "mbr",
            None => "none",
        },
        block: disk.table.as_ref().map(|table| table.block),
        partitions,
        notes: disk.notes,
    };
    context.clear_progress();
    if context.json { context.print_json(&view) } else { context.print(&view.text()) }
}

fn partition(own: &Partition, job: &Job<'_>) -> Result<PartitionView> {
    let mut view = PartitionView {
        number: own.number,
        kind: own.kind.clone(),
        name: own.name.clone(),
        start: own.start,
        size: own.len,
        active: own.active,
        file_system: own.file_system,
        label: String::new(),
        used: None,
        dirty: false,
        entries: None,
        system: None,
        problem: None,
        notes: Vec::new(),
    };
    if !own.file_system.is_read() && own.file_system != neat_machine::FileSystem::Encrypted {
        return Ok(view);
    }
    match damage_apart(own.open(job))? {
        Ok(files) => describe(&mut view, files)?,
        Err(error) => {
            let hint = error.hint().to_string();
            view.problem = Some(if hint.is_empty() { error.to_string() } else { format!("{error}; {hint}") });
        }
    }
    Ok(view)
}

fn describe(view: &mut PartitionView, files: PartitionFiles) -> Result<()> {
    view.label.clone_from(&files.label);
    if let Some(info) = files.volume() {
        view.used = info.used;
        view.dirty = info.is_dirty;
        if info.is_dirty {
            view.notes.push("it was not taken out of use in order; it is read as it lies there".into());
        }
    }
    let Some(read) = files.ntfs() else {
        let counts = files.tree()?.0.counts();
        view.entries = Some(counts.files + counts.folders);
        return Ok(());
    };
    view.entries = Some(read.files.len() as u64 - 1);
    for own in read.damaged.iter().take(SHOWN) {
        view.notes.push(format!("/{}: {}", own.place, own.error));
    }
    if read.damaged.len() > SHOWN {
        view.notes.push(format!("damaged files{}", and_more(read.damaged.len() - SHOWN)));
    }
    if read.lost > 0 {
        view.notes.push(format!("{} that no folder names", crate::show::machine::entries(read.lost as u64)));
    }
    if !files.has_system() {
        return Ok(());
    }
    let left_out = leave_out::find(&read.files, &[])
        .into_iter()
        .map(|own| LeftOutView { size: bytes_below(read, own.id), path: own.path, why: own.why.to_owned() })
        .collect();
    if let Some(system) = files.system()? {
        let info = system.info.unwrap_or_default();
        view.notes.extend(system.notes);
        view.system = Some(InstalledView {
            version: info.version_text(),
            product: info.product,
            edition: info.edition,
            architecture: info.architecture,
            languages: info.languages,
            root: info.root,
            state: system.state,
            left_out,
        });
    }
    Ok(())
}

/// Bytes of what an entry and all below it hold.
fn bytes_below(read: &VolumeFiles, id: EntryId) -> u64 {
    let below: HashSet<EntryId> = below(&read.files, id);
    read.held.iter().filter(|held| below.contains(&held.entry)).map(neat_ntfs::Held::len).sum()
}

fn below(files: &Files, id: EntryId) -> HashSet<EntryId> {
    files.walk_from(id).map(|step| step.id).chain([id]).collect()
}
