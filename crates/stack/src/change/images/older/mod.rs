//! Media of the generation before image files: service packs, fixes, drivers, and `media.compression`, as their files are compressed
//! each by itself.

mod drivers;

use crate::{
    change::{Editor, servicing},
    recipe::{CompressionValue, StackFile, UpdateSection},
    report::{EditionWork, Weight},
};
use neat_content::{Content, Error, Job, Meta, Result, Timestamp, counted};
use neat_older::{OlderKind, OlderPackage, OlderSetup, integrate, note_service_pack, recompress, stage_fix};
use neat_package::Pack;
use neat_service::Item;
use std::{collections::BTreeMap, path::PathBuf};

/// Arguments of fixes that nobody gave any: without questions, without a new start.
const QUIET: &str = "/q /z";

/// A package that the stack file names.
struct Named<'a> {
    section: &'a UpdateSection,
    path: PathBuf,
    name: String,
    package: OlderPackage,
}

/// Does what the stack file asks for on such a media. Returns what was done; nothing if it is no such media, or something is
/// asked for that only an image file has.
pub(super) fn apply(
    stack: &StackFile,
    needs_image: bool,
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<Option<Vec<EditionWork>>> {
    let setups = if needs_image { Vec::new() } else { OlderSetup::find(&editor.tree)? };
    if setups.is_empty() {
        return Ok(None);
    }
    let mut work = Vec::new();
    if !stack.update.is_empty() || !stack.driver.is_empty() {
        let named = read(stack, editor, job)?;
        for setup in &setups {
            let mut items = update(setup, &named, editor, job)?;
            items.extend(drivers::add(stack, setup, editor, job)?);
            let edition = if setup.product.is_empty() { setup.folder.clone() } else { setup.product.clone() };
            work.push(EditionWork { edition, setup: false, items, components: BTreeMap::new() });
        }
        servicing::tell(&work, editor);
    }
    compress(stack, &setups, editor, job)?;
    Ok(Some(work))
}

/// Opens what `[[update]]` names: service packs by their numbers, then fixes in their order.
fn read<'a>(stack: &'a StackFile, editor: &Editor, job: &Job<'_>) -> Result<Vec<Named<'a>>> {
    let mut named = Vec::new();
    for section in &stack.update {
        if section.through.is_some() {
            return Err(Error::request(
                format!(
                    "[[update]] {}: on a media of this generation there is one way for each package",
                    section.from
                ),
                "take out `through`",
            ));
        }
        for (path, name) in servicing::update_paths(&editor.local(&section.from), &section.from)? {
            job.check()?;
            servicing::check_signature(stack, section, &path, &name)?;
            let pack = Pack::open(&path).map_err(|error| error.within(&name))?;
            let Some(package) = OlderPackage::of(pack).map_err(|error| error.within(&name))? else {
                return Err(Error::request(
                    format!(
                        "[[update]] {name} is neither a service pack nor a fix of this media's generation"
                    ),
                    "name programs that carry a cabinet with update.inf, or folders that such ones were unpacked to",
                ));
            };
            named.push(Named { section, path, name, package });
        }
    }
    named.sort_by_key(|own| match own.package.kind {
        OlderKind::ServicePack(number) => (0, number),
        OlderKind::Fix => (1, 0),
    });
    Ok(named)
}

/// Puts packages into a setup. Returns what becomes of each.
fn update(setup: &OlderSetup, named: &[Named<'_>], editor: &mut Editor, job: &Job<'_>) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    let mut service_pack = setup.service_pack.unwrap_or(0);
    let fits = |own: &&Named<'_>| own.package.misfit(setup, 0).is_none();
    let packs = named.iter().filter(fits).filter_map(|own| match own.package.kind {
        OlderKind::ServicePack(number) => Some(number),
        OlderKind::Fix => None,
    });
    // The newest holds all before it.
    let newest = packs.max();
    for own in named {
        let Named { section, path, name, package } = own;
        let refused = |why: String| Item { optional: section.optional, ..Item::refused("update", name, why) };
        if let Some(why) = package.misfit(setup, service_pack) {
            items.push(if *name == section.from { refused(why) } else { Item::skipped("update", name, why) });
            continue;
        }
        match package.kind {
            OlderKind::ServicePack(number) if number <= service_pack => {
                items.push(Item::skipped(
                    "update",
                    name,
                    format!("service pack {service_pack} is in already"),
                ));
            }
            OlderKind::ServicePack(number) if Some(number) != newest => {
                let why = format!("service pack {} holds it", newest.unwrap_or(number));
                items.push(Item::skipped("update", name, why));
            }
            OlderKind::ServicePack(number) => {
                let hold = editor.hold.clone();
                let done = integrate(&mut editor.tree, setup, package, &hold, job)?;
                note_service_pack(&mut editor.tree, setup, number)?;
                service_pack = number;
                let detail = format!("service pack {number}: {}", done.words());
                items.push(Item::applied("update", name, detail, done.bytes));
            }
            OlderKind::Fix => {
                let file = name.rsplit('/').next().unwrap_or(name);
                if path.is_dir() {
                    items.push(refused("setup runs programs, and this is a folder".into()));
                    continue;
                }
                let metadata = std::fs::metadata(path).map_err(Error::io("examine", path))?;
                let meta = editor.meta(Meta::at(Timestamp::from_metadata(&metadata)));
                let content = Content::from_path(path)?;
                let len = content.len() as i64;
                let arguments = section.arguments.as_deref().unwrap_or(QUIET);
                let staged = stage_fix(&mut editor.tree, setup, file, content, meta, arguments)?;
                let detail = format!("in media:/{staged}: setup runs it when it ends, with {arguments}");
                items.push(Item::applied("update", name, detail, len));
            }
        }
    }
    Ok(items)
}

/// `media.compression`
fn compress(stack: &StackFile, setups: &[OlderSetup], editor: &mut Editor, job: &Job<'_>) -> Result<()> {
    let Some(compression) = stack.media.compression else { return Ok(()) };
    if compression != CompressionValue::Max {
        return Err(Error::request(
            "`media.compression`: the files of this media are compressed each by itself, and only made as small as they can be",
            "write compression = \"max\", or leave it out",
        ));
    }
    for setup in setups {
        let hold = editor.hold.clone();
        let done = recompress(&mut editor.tree, setup, &hold, job)?;
        for damaged in &done.damaged {
            editor.find(
                Weight::Problem,
                format!("media:/{damaged}"),
                "it stays as it is; setup will not be able to read it either",
            );
        }
        let files = counted(done.smaller, "file", "files");
        let subject = format!("{files} of media:/{}, each by itself", setup.folder);
        let (before, after) = (counted(done.before, "byte", "bytes"), counted(done.after, "byte", "bytes"));
        let stays = counted(done.same, "file stays", "files stay");
        let reason = format!("from {before} to {after} in all; {stays}, as the other form is not smaller");
        editor.step("repack", subject, &reason, done.after as i64 - done.before as i64);
    }
    Ok(())
}
