//! What `look` says of a machine's disk.

use super::{Sheet, count, heading, heading_line, note, outside, size, table};
use neat_machine::{FileSystem, InstalledState};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `look` at a machine's disk.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct MachineView {
    pub kind: &'static str,
    pub path: String,
    /// Bytes of the disk.
    pub size: u64,
    /// The form in which it is kept: `raw`, `qcow2`, `VHD`, `VHDX`, `VMDK`.
    pub form: String,
    pub digest: Option<String>,
    /// `gpt`, `mbr` or `none`.
    pub table: &'static str,
    /// Bytes of a block, as far as the table tells.
    pub block: Option<u64>,
    pub partitions: Vec<PartitionView>,
    pub notes: Vec<String>,
}

/// A partition of a disk.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct PartitionView {
    pub number: u32,
    /// What the table says it is.
    pub kind: String,
    pub name: String,
    pub start: u64,
    pub size: u64,
    pub active: bool,
    pub file_system: FileSystem,
    pub label: String,
    /// Bytes in use, where the file system says.
    pub used: Option<u64>,
    /// Whether the volume was not taken out of use in order.
    pub dirty: bool,
    /// Files, folders and links.
    pub entries: Option<u64>,
    pub system: Option<InstalledView>,
    /// Why its files cannot be read.
    pub problem: Option<String>,
    pub notes: Vec<String>,
}

/// The system on a partition.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct InstalledView {
    pub product: String,
    pub edition: String,
    pub architecture: String,
    pub version: String,
    pub languages: Vec<String>,
    /// Its folder.
    pub root: String,
    pub state: InstalledState,
    /// What a capture leaves out.
    pub left_out: Vec<LeftOutView>,
}

/// Something that a capture leaves out.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct LeftOutView {
    pub path: String,
    pub why: String,
    pub size: u64,
}

impl MachineView {
    /// For a person.
    pub(crate) fn text(&self) -> String {
        let mut sheet = Sheet::default();
        sheet.row(
            "partition table",
            match self.table {
                "gpt" => "GPT",
                "mbr" => "MBR",
                _ => "none: one file system",
            },
        );
        if let Some(block) = self.block.filter(|block| *block != 512) {
            sheet.row("blocks", size(block));
        }
        sheet.row_if("digest", self.digest.as_deref().unwrap_or_default());
        let what = format!("disk of a machine ({}), {}", self.form, size(self.size));
        let mut text = format!("{}{}\n", heading_line(&self.path, &what), sheet.text());
        let head = ["", "kind", "name", "file system", "label", "size", "used", "entries"];
        let mut rows: Vec<Vec<String>> = vec![head.map(str::to_owned).into()];
        for own in &self.partitions {
            rows.push(vec![
                own.number.to_string(),
                outside::line(&own.kind).into_owned(),
                outside::line(&own.name).into_owned(),
                own.file_system.to_string(),
                outside::line(&own.label).into_owned(),
                size(own.size),
                own.used.map(size).unwrap_or_default(),
                own.entries.map(|entries| entries.to_string()).unwrap_or_default(),
            ]);
        }
        for line in table(&rows, &[0, 5, 6, 7]) {
            text.push_str(&format!("  {line}\n"));
        }
        for own in &self.partitions {
            if let Some(problem) = &own.problem {
                text.push_str(&note(&format!("partition {}: {problem}", own.number)));
            }
            for own_note in &own.notes {
                text.push_str(&note(&format!("partition {}: {own_note}", own.number)));
            }
        }
        for own in &self.partitions {
            if let Some(system) = &own.system {
                text.push_str(&system.text(own.number));
            }
        }
        for own in &self.notes {
            text.push_str(&note(own));
        }
        text
    }
}

impl InstalledView {
    fn text(&self, number: u32) -> String {
        let mut sheet = Sheet::default();
        let what = [&self.product, &self.edition, &self.architecture, &self.version];
        let what: Vec<&str> = what.into_iter().map(String::as_str).filter(|word| !word.is_empty()).collect();
        sheet.row("is", if what.is_empty() { "not said by its registry".into() } else { what.join(", ") });
        sheet.row_if("languages", &self.languages.join(" "));
        sheet.row("folder", format!("/{}", self.root));
        let of_machine = self.state.of_the_machine();
        let names = outside::shown(&of_machine.join(", "));
        sheet.row(
            "made ready for others",
            match self.state.generalised {
                Some(true) => "yes".to_owned(),
                Some(false) if names.is_empty() => "no".to_owned(),
                Some(false) => format!("no; it has {names}"),
                None if names.is_empty() => "not said".to_owned(),
                None => format!("not said; it has {names}"),
            },
        );
        sheet.row(
            "sleeps",
            if self.state.hibernated {
                "yes: its memory is saved, and the disk alone is not all of it"
            } else {
                "no"
            },
        );
        let open = &self.state.open_updates;
        sheet.row("unfinished update", if open.is_empty() { "no".to_owned() } else { open.join(", ") });
        for (n, own) in self.left_out.iter().enumerate() {
            let name = if n == 0 { "left out of a capture" } else { "" };
            sheet.row(name, format!("{}, {} ({})", outside::line(&own.path), size(own.size), own.why));
        }
        if self.left_out.is_empty() {
            sheet.row("left out of a capture", "nothing");
        }
        format!("{}{}", heading(&format!("the system on partition {number}")), sheet.text())
    }
}

/// How many entries, for a heading.
pub(crate) fn entries(number: u64) -> String {
    count(number, "entry", "entries")
}
