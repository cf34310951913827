//! A disk and its partitions.

use crate::{FileSystem, PartitionFiles};
use neat_content::{Content, Error, Job, Result, Source};
use neat_drive::Form;
use neat_image::ImageDraft;
use neat_media::disk::{MachineTable, read_machine};
use std::path::Path;

/// A disk of a machine.
#[derive(Clone, Debug)]
pub struct MachineDisk {
    /// Its bytes.
    pub content: Content,
    /// The form in which it is kept.
    pub form: Form,
    /// Its partition table; none where the disk is one file system.
    pub table: Option<MachineTable>,
    /// What it is divided into; the disk itself, as number 1, where it has no table.
    pub partitions: Vec<Partition>,
    /// What is unusual about it.
    pub notes: Vec<String>,
}

/// A partition of a disk.
#[derive(Clone, Debug)]
pub struct Partition {
    /// Its number.
    pub number: u32,
    /// What kind the table says it is.
    pub kind: String,
    /// Name, where the table has one.
    pub name: String,
    /// First byte on the disk.
    pub start: u64,
    /// Number of bytes.
    pub len: u64,
    /// Whether BIOS boot code is told to start it.
    pub active: bool,
    /// What it holds.
    pub file_system: FileSystem,
    /// Its bytes.
    pub content: Content,
}

impl MachineDisk {
    /// Whether the file or device at `path` is a disk of a machine: in a form that only such disks have, or with a
    /// partition that holds NTFS, or is encrypted. A disk with nothing but FAT is a stick.
    ///
    /// # Errors
    /// `Io`.
    pub fn is_at(path: &Path) -> Result<bool> {
        if path.is_dir() {
            return Ok(false);
        }
        let source = Source::open(path)?;
        // A disc may have partitions too, for starting it as a disk.
        if neat_content::damage_apart(neat_media::read::is_disc(&source))?.unwrap_or(false) {
            return Ok(false);
        }
        let content = Content::from_source(source);
        // What is encrypted or stands on a file that is not there is one too.
        if neat_drive::is_own_form(&content)? {
            return Ok(true);
        }
        let disk = neat_content::damage_apart(Self::divide(content, Form::Raw, Vec::new()))?;
        Ok(disk.is_ok_and(|disk| {
            disk.partitions.iter().any(|own| {
                matches!(own.file_system, FileSystem::Ntfs | FileSystem::Encrypted)
                    || own.file_system == FileSystem::Exfat && disk.table.is_none()
            })
        }))
    }

    /// Opens the disk at `path`.
    ///
    /// # Errors
    /// As [`neat_drive::open_path`]; `Corrupt` for a partition table that is damaged.
    pub fn open(path: &Path) -> Result<Self> {
        let disk = neat_drive::open_path(path)?;
        Self::divide(disk.content, disk.form, disk.notes).map_err(|error| error.within(path.display()))
    }

    fn divide(content: Content, form: Form, mut notes: Vec<String>) -> Result<Self> {
        let whole = FileSystem::of(&content)?;
        // The first sector of a file system may look like a table.
        let table = match whole {
            FileSystem::Ntfs | FileSystem::Encrypted | FileSystem::Exfat | FileSystem::Fat => None,
            _ => read_machine(&content)?,
        };
        let mut partitions = Vec::new();
        for own in table.iter().flat_map(|table| &table.partitions) {
            let end = own.start.checked_add(own.len).filter(|end| *end <= content.len());
            if end.is_none() {
                notes.push(format!("partition {} goes past the end of the disk", own.number));
            }
            let start = own.start.min(content.len());
            let part = content.part(start, own.len.min(content.len() - start))?;
            partitions.push(Partition {
                number: own.number,
                kind: own.kind.clone(),
                name: own.name.clone(),
                start: own.start,
                len: own.len,
                active: own.active,
                file_system: FileSystem::of(&part)?,
                content: part,
            });
        }
        if table.is_none() {
            partitions.push(Partition {
                number: 1,
                kind: "the whole disk".into(),
                name: String::new(),
                start: 0,
                len: content.len(),
                active: false,
                file_system: whole,
                content: content.clone(),
            });
        }
        Ok(Self { content, form, table, partitions, notes })
    }

    /// The partition with this number.
    ///
    /// # Errors
    /// `Request` when there is none, naming those that there are.
    pub fn partition(&self, number: u32) -> Result<&Partition> {
        self.partitions.iter().find(|own| own.number == number).ok_or_else(|| {
            let all: Vec<String> = self.partitions.iter().map(|own| own.number.to_string()).collect();
            Error::request(
                format!("the disk has no partition {number}"),
                format!("it has: {}", all.join(", ")),
            )
        })
    }

    /// As [`PartitionFiles::digested`], of the partition that [`MachineDisk::chosen`] finds, with what its system says of
    /// itself. `disk` is what the disk is called.
    ///
    /// # Errors
    /// Those of both.
    pub fn digested(
        &self,
        number: Option<u32>,
        disk: &str,
        job: &Job<'_>,
    ) -> Result<(ImageDraft, Vec<String>)> {
        let files = self.chosen(number, job)?;
        let number = files.partition.number;
        // Read once more for its registry, as for a capture.
        let system = if files.has_system() { self.partition(number)?.open(job)?.system()? } else { None };
        let (mut draft, damaged) = files.digested(&format!("partition {number} of {disk}"), job)?;
        if let Some((element, info)) = system.and_then(|system| system.info_element) {
            draft.set_system(1, &element, &info);
        }
        Ok((draft, damaged))
    }

    /// The partition that is meant: the one with this number, or else the only one with a system.
    ///
    /// # Errors
    /// `Request` when none or several have one.
    pub fn chosen(&self, number: Option<u32>, job: &Job<'_>) -> Result<PartitionFiles> {
        if let Some(number) = number {
            let own = self.partition(number)?;
            return own.open(job).map_err(|error| error.within(format!("partition {number}")));
        }
        let mut found: Vec<PartitionFiles> = Vec::new();
        for own in self.partitions.iter().filter(|own| own.file_system == FileSystem::Ntfs) {
            match own.open(job) {
                Ok(files) if files.has_system() => found.push(files),
                Err(error) if error.is_io() || matches!(error, Error::Cancelled) => return Err(error),
                // One that is damaged is named when it is asked for.
                Ok(_) | Err(_) => {}
            }
        }
        let numbers: Vec<String> = found.iter().map(|own| own.partition.number.to_string()).collect();
        let mut found = found.into_iter();
        match (found.next(), found.next()) {
            (Some(only), None) => Ok(only),
            (None, _) => Err(Error::request(
                "no partition of the disk has a system that is known",
                "say which is meant with --partition; `neatstack look` lists them",
            )),
            (Some(_), Some(_)) => Err(Error::request(
                format!("several partitions have a system: {}", numbers.join(", ")),
                "say which is meant with --partition",
            )),
        }
    }
}
