//! What `stick` says.

use super::{Sheet, count, heading_line, size, style};
use neat_content::and_more;
use neat_device::{disks::Disk, guard, write::Outcome};
use neat_media::stick::{Scheme, StickPlan, StickUpdate, uefi_loaders};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of `stick`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct StickView {
    kind: &'static str,
    path: String,
    size: u64,
    /// `fat32` or `disc`.
    form: &'static str,
    scheme: Scheme,
    label: String,
    files: u64,
    /// Bytes of the files.
    content: u64,
    /// Bytes of a cluster.
    cluster: u64,
    free: u64,
    boot_manager: Option<String>,
    uefi_loaders: Vec<String>,
    notes: Vec<String>,
    /// Null for an image file, as are the other two.
    verified: Option<bool>,
    written: Option<u64>,
    compared: Option<u64>,
}

/// JSON form of `stick update`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct UpdatedView {
    kind: &'static str,
    path: String,
    /// How many files stay.
    kept: u64,
    written: Vec<String>,
    removed: Vec<String>,
    /// Files that somebody else put there, and that stay.
    others: Vec<String>,
    bytes: u64,
    compared: u64,
    notes: Vec<String>,
}

/// JSON form of `stick --list`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DisksView {
    pub kind: &'static str,
    pub disks: Vec<DiskView>,
}

/// A disk of this machine.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DiskView {
    #[serde(flatten)]
    pub disk: Disk,
    /// What has to be typed before it is erased.
    pub erase_word: String,
    /// Why it is never erased as it is.
    pub refused: Option<String>,
}

/// A number of bytes as makers of disks count them.
pub(super) fn decimal_size(bytes: u64) -> String {
    let gigabytes = bytes as f64 / 1e9;
    if gigabytes >= 1.0 { format!("{gigabytes:.1} GB") } else { format!("{:.0} MB", bytes as f64 / 1e6) }
}

/// Disks with what a person must know before erasing one; `fixed` when those that cannot be taken out are meant too.
pub(crate) fn disks(disks: &[Disk], fixed: bool) -> String {
    let mut text = String::new();
    for (number, disk) in disks.iter().enumerate() {
        if number > 0 {
            text.push('\n');
        }
        let bus = if disk.bus.is_empty() { String::new() } else { format!(", {}", disk.bus) };
        let model = if disk.model.is_empty() { "unknown model" } else { &disk.model };
        let what = format!("{model} ({}{bus})", decimal_size(disk.size));
        text += &heading_line(&disk.path.display().to_string(), &what);
        let mut sheet = Sheet::default();
        sheet.row("serial", if disk.serial.is_empty() { "none" } else { &disk.serial });
        sheet.row("on it", if disk.content.is_empty() { "cannot be read by you" } else { &disk.content });
        for (number, place) in disk.mounted.iter().enumerate() {
            sheet.row(if number == 0 { "mounted" } else { "" }, place);
        }
        for (number, user) in disk.used_by.iter().enumerate() {
            sheet.row(if number == 0 { "used by" } else { "" }, user);
        }
        let more = if disk.removable { "" } else { " --fixed" };
        match guard::check_use(disk, fixed) {
            Ok(()) => sheet.row("erase with", format!("--yes-erase {}{more}", guard::erase_word(disk))),
            Err(error) => sheet.row("refused", format!("{}{error}{:#}", style::CARE, style::CARE)),
        }
        text += &sheet.text();
    }
    text
}

/// How it starts, in words.
fn starts(plan: &StickPlan) -> Vec<String> {
    let mut ways = Vec::new();
    if let Some(manager) = &plan.manager {
        ways.push(format!("BIOS: boot code, boot record, {}", manager.name));
    }
    for loader in uefi_loaders(&plan.tree) {
        ways.push(format!("UEFI: {loader}"));
    }
    ways
}

impl StickView {
    pub(crate) fn new(to: &Path, plan: &StickPlan, outcome: Option<Outcome>) -> Self {
        let counts = plan.tree.counts();
        Self {
            kind: "stick",
            path: to.display().to_string(),
            size: plan.len,
            form: if plan.is_disc() { "disc" } else { "fat32" },
            scheme: plan.scheme,
            label: plan.label.clone(),
            files: counts.files,
            content: counts.bytes,
            cluster: plan.cluster_len,
            free: plan.free,
            boot_manager: plan.manager.as_ref().map(|manager| manager.name.clone()),
            uefi_loaders: uefi_loaders(&plan.tree),
            notes: plan.notes.clone(),
            verified: outcome.map(|outcome| outcome.compared > 0),
            written: outcome.map(|outcome| outcome.written),
            compared: outcome.map(|outcome| outcome.compared),
        }
    }
}

/// A stick that was written.
pub(crate) fn written(to: &Path, plan: &StickPlan, outcome: Option<Outcome>) -> String {
    let counts = plan.tree.counts();
    let mut sheet = Sheet::default();
    sheet.row("label", &plan.label);
    sheet.row("files", format!("{}, {}", count(counts.files, "file", "files"), size(counts.bytes)));
    if plan.is_disc() {
        sheet.row("form", "a disc that also starts as a disk");
    } else {
        let free = if plan.free == 0 { "full".into() } else { format!("{} free", size(plan.free)) };
        let cluster = size(plan.cluster_len);
        sheet.row("form", format!("{}, FAT32 with clusters of {cluster}, {free}", plan.scheme.name()));
    }
    for (number, way) in starts(plan).into_iter().enumerate() {
        sheet.row(if number == 0 { "starts" } else { "" }, way);
    }
    if let Some(outcome) = outcome {
        let right = format!("{}, all of it right", size(outcome.compared));
        sheet.row("read back", if outcome.compared > 0 { right } else { "no".into() });
    }
    heading_line(&to.display().to_string(), &size(plan.len)) + &sheet.text()
}

impl UpdatedView {
    pub(crate) fn new(to: &Path, plan: &StickUpdate, outcome: Option<Outcome>) -> Self {
        let update = &plan.update;
        Self {
            kind: "stick-update",
            path: to.display().to_string(),
            kept: update.kept,
            written: update.written.clone(),
            removed: update.removed.clone(),
            others: update.others.clone(),
            bytes: outcome.map_or(0, |outcome| outcome.written),
            compared: outcome.map_or(0, |outcome| outcome.compared),
            notes: plan.notes.clone(),
        }
    }
}

/// A stick that was brought up to date.
pub(crate) fn updated(to: &Path, plan: &StickUpdate, outcome: Option<Outcome>, dry_run: bool) -> String {
    const SHOWN: usize = 12;
    let update = &plan.update;
    if outcome.is_none() && update.is_nothing() {
        let kept = count(update.kept, "file", "files");
        return heading_line(&to.display().to_string(), &format!("up to date already: {kept}"));
    }
    let mut sheet = Sheet::default();
    sheet.row("stay", count(update.kept, "file", "files"));
    let lists = [("written", &update.written), ("gone", &update.removed), ("of others", &update.others)];
    for (word, paths) in lists {
        for (number, path) in paths.iter().take(SHOWN).enumerate() {
            sheet.row(if number == 0 { word } else { "" }, path);
        }
        sheet.row_if("", and_more(paths.len().saturating_sub(SHOWN)).trim_start());
    }
    let Some(outcome) = outcome else {
        sheet.row("in all", format!("{} would be written", size(update.bytes)));
        let what = if dry_run { "would be brought up to date" } else { "is not up to date" };
        return heading_line(&to.display().to_string(), what) + &sheet.text();
    };
    let back = if outcome.compared > 0 { ", read back and right" } else { "" };
    sheet.row("in all", format!("{} written{back}", size(outcome.written)));
    heading_line(&to.display().to_string(), "brought up to date") + &sheet.text()
}
