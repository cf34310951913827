//! `look` at hives, registration texts, driver packs and updates.

use super::heading;
use crate::{
    context::Context,
    show::{
        self, Sheet,
        known::{DriverView, DriversView, FoundDriver, HiveView, RegView, UpdateView, VendorView},
    },
};
use neat_content::{Content, Result, and_more, damage_apart};
use neat_image::Times;
use neat_package::{Driver, DriverSet, IfDamaged, Pack, PackKind, Update, VendorForm, VendorPackage};
use neat_registry::{Change, Hive, LARGEST, RegText};
use std::path::Path;

/// Names that are listed before the rest is only counted.
const SHOWN: usize = 12;

/// A registry hive.
pub(super) fn hive(path: &Path, digest: Option<&str>, context: &Context) -> Result<()> {
    let bytes = Content::from_path(path)?.to_vec(LARGEST, "hive")?;
    let len = bytes.len() as u64;
    let hive = Hive::read(bytes).map_err(|error| error.within(path.display()))?;
    let counts = hive.counts();
    let top: Vec<String> = hive.children(Hive::ROOT).iter().map(|id| hive.name(*id)).collect();
    if context.json {
        return context.print_json(&HiveView {
            kind: "hive",
            path: path.display().to_string(),
            size: len,
            digest: digest.map(str::to_owned),
            version: format!("1.{}", hive.minor_version()),
            root: hive.name(Hive::ROOT),
            file_name: hive.file_name(),
            keys: counts.keys,
            values: counts.values,
            data: counts.data,
            dirty: hive.is_dirty(),
            top,
            notes: hive.notes().to_vec(),
        });
    }
    let mut sheet = Sheet::default();
    sheet.row("version", format!("1.{}", hive.minor_version()));
    sheet.row_if("root", &hive.name(Hive::ROOT));
    sheet.row_if("named", &hive.file_name());
    sheet.row(
        "holds",
        format!(
            "{}, {}, {} of data",
            show::count(counts.keys, "key", "keys"),
            show::count(counts.values, "value", "values"),
            show::size(counts.data)
        ),
    );
    sheet.row("changed", show::time(Times::to_timestamp(hive.written())));
    sheet.row_if("digest", digest.unwrap_or_default());
    for (n, name) in top.iter().take(SHOWN).enumerate() {
        sheet.row(if n == 0 { "keys" } else { "" }, name);
    }
    sheet.row_if("", and_more(top.len().saturating_sub(SHOWN)).trim_start());
    let mut text =
        format!("{}{}", heading(path, &format!("registry hive, {}", show::size(len))), sheet.text());
    for note in hive.notes() {
        text.push_str(&show::note(note));
    }
    context.print(&text)
}

/// A registration text.
pub(super) fn reg(path: &Path, context: &Context) -> Result<()> {
    let bytes = Content::from_path(path)?.to_vec(64 << 20, "registration text")?;
    let text = RegText::read(&bytes).map_err(|error| error.within(path.display()))?;
    let count =
        |wanted: fn(&Change) -> bool| text.lines.iter().filter(|line| wanted(&line.change)).count() as u64;
    let set = count(|change| matches!(change, Change::Set { .. }));
    let gone = count(|change| matches!(change, Change::DeleteValue { .. } | Change::DeleteKey));
    let mut keys: Vec<&str> = text.lines.iter().map(|line| line.key.as_str()).collect();
    keys.dedup();
    if context.json {
        return context.print_json(&RegView {
            kind: "registration-text",
            path: path.display().to_string(),
            values_set: set,
            deletions: gone,
            keys: keys.into_iter().map(str::to_owned).collect(),
        });
    }
    let mut sheet = Sheet::default();
    sheet.row("sets", show::count(set, "value", "values"));
    if gone > 0 {
        sheet.row("deletes", show::count(gone, "key or value", "keys and values"));
    }
    for (n, key) in keys.iter().take(SHOWN).enumerate() {
        sheet.row(if n == 0 { "in" } else { "" }, *key);
    }
    sheet.row_if("", and_more(keys.len().saturating_sub(SHOWN)).trim_start());
    context.print(&format!("{}{}", heading(path, "registration text"), sheet.text()))
}

/// An unpacked update or a folder of drivers; returns whether it was one.
pub(super) fn folder(path: &Path, context: &Context) -> Result<bool> {
    if path.join(neat_package::MANIFEST_NAME).is_file() {
        return update(path, &Update::open(path)?, context).map(|()| true);
    }
    // A media may hold INF files too; a folder of drivers has nothing that a media has.
    if path.join("sources").exists() || path.join("boot").exists() || path.join("EFI").exists() {
        return Ok(false);
    }
    let has_inf =
        |entry: &std::fs::DirEntry| entry.file_name().to_string_lossy().to_lowercase().ends_with(".inf");
    let lists = |folder: &Path| {
        let entries = std::fs::read_dir(folder).map(|entries| entries.flatten().collect::<Vec<_>>());
        entries.unwrap_or_default()
    };
    let top = lists(path);
    let found = top.iter().any(has_inf)
        || top.iter().any(|entry| entry.path().is_dir() && lists(&entry.path()).iter().any(has_inf));
    if found {
        let mut set = DriverSet::default();
        set.add(path, &path.display().to_string(), IfDamaged::LeaveOut)?;
        tell_damage(&set, context);
        drivers(path, &set, "folder of drivers", context)?;
    }
    Ok(found)
}

/// A vendor's package that is an image file; returns whether it was one.
pub(super) fn image(path: &Path, content: &Content, context: &Context) -> Result<bool> {
    match damage_apart(VendorPackage::of_content(content))? {
        Ok(Some(package)) => vendor(path, &package, context).map(|()| true),
        // What is wrong with it is said when it is looked at as an image file.
        Ok(None) | Err(_) => Ok(false),
    }
}

/// A driver pack or an update; returns whether it was one.
pub(super) fn archive(path: &Path, context: &Context) -> Result<bool> {
    let content = Content::from_path(path)?;
    if let Some(package) = damage_apart(VendorPackage::of_content(&content))?.unwrap_or(None) {
        vendor(path, &package, context)?;
        return Ok(true);
    }
    let mut first = [0; 4];
    if content.len() >= 4 {
        neat_content::ReadAt::read_exact_at(&content, 0, &mut first)?;
    }
    let known = first == *b"MSCF"
        || first.starts_with(b"PK")
        || first.starts_with(b"MZ")
        || first == [0x28, 0xB5, 0x2F, 0xFD];
    if !known {
        return Ok(false);
    }
    let pack = Pack::open(path)?;
    if Update::is_one(&pack.tree) {
        let opened = Update::of_tree(&pack.tree).map_err(|error| error.within(path.display()))?;
        return update(path, &opened, context).map(|()| true);
    }
    let kind = pack.kind;
    let mut set = DriverSet::default();
    set.add(path, &path.display().to_string(), IfDamaged::LeaveOut)?;
    tell_damage(&set, context);
    let word = if kind == PackKind::Program { "self-extracting program" } else { kind.name() };
    drivers(path, &set, &format!("{word} with drivers"), context)?;
    Ok(true)
}

/// Says which packs inside are damaged: a look shows what can be read, and says what cannot.
fn tell_damage(set: &DriverSet, context: &Context) {
    set.damaged.iter().for_each(|damage| context.note(&format!("a pack is damaged: {damage}")));
}

fn drivers(path: &Path, set: &DriverSet, kind: &str, context: &Context) -> Result<()> {
    if context.json {
        let all: Vec<_> = set
            .drivers
            .iter()
            .map(|found| FoundDriver {
                path: format!("{}/{}", found.place, found.driver.path),
                class: found.driver.class.clone(),
                version: found.driver.version_text(),
                provider: found.driver.provider.clone(),
            })
            .collect();
        return context.print_json(&DriversView {
            kind: "drivers",
            path: path.display().to_string(),
            drivers: all,
        });
    }
    let mut sheet = Sheet::default();
    for (n, found) in set.drivers.iter().enumerate() {
        let driver = &found.driver;
        let line =
            format!("{}  {} {}, {}", driver.path, driver.class, driver.version_text(), driver.provider);
        sheet.row(if n == 0 { "drivers" } else { "" }, line);
    }
    if set.drivers.is_empty() {
        sheet.row("drivers", "none");
    }
    sheet.row("next", format!("neatstack drivers {} --for DEVICES", path.display()));
    context.print(&format!("{}{}", heading(path, kind), sheet.text()))
}

/// An INF file.
pub(super) fn inf(path: &Path, context: &Context) -> Result<()> {
    let bytes = Content::from_path(path)?.to_vec(16 << 20, "INF file")?;
    let driver =
        Driver::read(&path.display().to_string(), &bytes).map_err(|error| error.within(path.display()))?;
    let architectures: Vec<&str> = driver.architectures().iter().map(|own| own.name()).collect();
    if context.json {
        let hardware_ids = driver.devices.iter().map(|device| device.hardware_id.clone()).collect();
        return context.print_json(&DriverView {
            kind: "driver",
            path: path.display().to_string(),
            version: driver.version_text(),
            date: driver.date_text(),
            class: driver.class,
            class_guid: driver.class_guid,
            provider: driver.provider,
            architectures,
            hardware_ids,
        });
    }
    let mut sheet = Sheet::default();
    sheet.row("class", driver.class.as_str());
    sheet.row_if("maker", &driver.provider);
    sheet.row("version", format!("{} {}", driver.version_text(), driver.date_text()).trim());
    sheet.row_if("for", &architectures.join(" "));
    for (n, device) in driver.devices.iter().take(SHOWN).enumerate() {
        sheet.row(
            if n == 0 { "devices" } else { "" },
            format!("{}  {}", device.hardware_id, device.description),
        );
    }
    sheet.row_if("", and_more(driver.devices.len().saturating_sub(SHOWN)).trim_start());
    context.print(&format!("{}{}", heading(path, "driver information file"), sheet.text()))
}

fn update(path: &Path, update: &Update, context: &Context) -> Result<()> {
    let section = &update.section;
    if context.json {
        return context.print_json(&UpdateView {
            kind: "update",
            path: path.display().to_string(),
            update: section.clone(),
            files: update.files.len(),
            bytes: update.files_len(),
        });
    }
    let mut sheet = Sheet::default();
    sheet.row("id", section.id.as_str());
    sheet.row_if("title", &section.title);
    sheet.row("version", section.version.to_string());
    sheet.row("type", section.kind.name());
    sheet.row("for", section.architecture.as_deref().unwrap_or("any architecture"));
    sheet.row_if("language", section.language.as_deref().unwrap_or_default());
    sheet.row_if("needs", &section.needs.join(", "));
    sheet.row_if("replaces", &section.replaces.join(", "));
    if let Some(version) = &section.minimum_system {
        sheet.row("goes into", format!("{version} and newer"));
    }
    if let Some(version) = &section.resulting_system {
        sheet.row("makes it", version.to_string());
    }
    sheet.row(
        "holds",
        format!(
            "{}, {}",
            show::count(update.files.len() as u64, "file", "files"),
            show::size(update.files_len())
        ),
    );
    context.print(&format!("{}{}", heading(path, "update package"), sheet.text()))
}

fn vendor(path: &Path, package: &VendorPackage, context: &Context) -> Result<()> {
    const SHOWN: usize = 3;
    let view = VendorView::of(path, package);
    if context.json {
        return context.print_json(&view);
    }
    let some = |list: &[String], joint: &str| {
        let first = list.iter().take(SHOWN).map(String::as_str).collect::<Vec<_>>().join(joint);
        first + &neat_content::and_more(list.len().saturating_sub(SHOWN))
    };
    let mut sheet = Sheet::default();
    sheet.row("name", view.name.as_str());
    sheet.row("version", view.version.as_str());
    sheet.row_if("for", &view.architecture);
    sheet.row_if("language", &view.language);
    sheet.row_if("known as", &view.identifier);
    sheet.row_if("type", &view.release_type);
    sheet.row("file", view.form);
    sheet.row_if("inside", &view.inside.join(", "));
    sheet.row_if("with", &some(&view.with, ", "));
    for need in view.needs.iter().take(SHOWN) {
        sheet.row("goes into", some(need, " or "));
    }
    if view.needs.len() > SHOWN {
        sheet.row("goes into", format!("{} more", view.needs.len() - SHOWN));
    }
    sheet.row_if("replaces", &some(&view.replaces, ", "));
    sheet.row_if("features", &some(&view.features, ", "));
    sheet.row_if("restart", &view.restart);
    let way = if view.has_patches || package.packages().any(|own| own.cabinet.is_none()) {
        "at the end of setup, by the installed system's own handler"
    } else {
        match package.form {
            VendorForm::Cabinet => "by setup, through the answer file",
            _ => {
                "by setup, through the answer file; or at the end of setup, by the installed system's own handler"
            }
        }
    };
    sheet.row("goes in", way);
    context.print(&format!("{}{}", heading(path, "vendor's update package"), sheet.text()))
}
