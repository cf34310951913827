//! Drivers of such media: for the installed system in a folder that setup copies, and for its text phase beside its own.

use crate::{
    change::{Editor, servicing},
    recipe::{IntoValue, StackFile},
};
use neat_content::{Job, Meta, Result, counted};
use neat_older::{OlderSetup, add_text_driver};
use neat_package::Architecture;
use neat_service::{Item, PreparedDriver, is_class};

/// The class of drivers that setup needs before it sees a disk.
const CLASS: &str = "storage";
/// Folder of drivers in the root of the system's drive. Short: setup takes a list of such folders that has an end.
const FOLDER: &str = "Drivers";

/// Architecture and version, by which drivers are chosen.
type System = (Option<Architecture>, Option<(u32, u32, u32)>);

/// Puts the drivers that the stack file asks for where setup takes them from. Returns what becomes of each.
pub(super) fn add(
    stack: &StackFile,
    setup: &OlderSetup,
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    let system = system_of(setup);
    let is_asked = |into| stack.driver.iter().any(|section| section.into.contains(&into));
    if is_asked(IntoValue::System) {
        for prepared in servicing::prepared_drivers(stack, IntoValue::System, system, editor, job)? {
            for driver in &prepared.drivers {
                items.push(for_the_system(driver, setup, editor)?);
            }
            items.extend(prepared.items.iter().cloned());
        }
    }
    if is_asked(IntoValue::Setup) {
        for prepared in servicing::prepared_drivers(stack, IntoValue::Setup, system, editor, job)? {
            for driver in &prepared.drivers {
                items.extend(for_the_text_phase(driver, setup, system, editor)?);
            }
            let left_out = prepared.items.iter().filter(|item| !items.contains(item)).cloned();
            let left_out: Vec<Item> = left_out.collect();
            items.extend(left_out);
        }
    }
    Ok(items)
}

fn system_of(setup: &OlderSetup) -> System {
    let numbers: Vec<u32> = setup.version.split('.').filter_map(|own| own.parse().ok()).collect();
    let version = match numbers.as_slice() {
        [major, minor, rest @ ..] => Some((*major, *minor, rest.first().copied().unwrap_or(0))),
        _ => None,
    };
    (Architecture::of_word(&setup.architecture), version)
}

/// A folder that setup copies to the system's drive, named in the answers.
fn for_the_system(driver: &PreparedDriver, setup: &OlderSetup, editor: &mut Editor) -> Result<Item> {
    let root = setup.additions_folder();
    let number = editor.handed.older_drivers.len() + 1;
    let folder = format!("{FOLDER}\\D{number:02}");
    let path = format!("{root}/$1/{}", folder.replace('\\', "/"));
    let mut bytes = 0;
    for (inside, content) in driver.files() {
        bytes += content.len() as i64;
        let reason = "setup copies it, and the answers name its folder";
        editor.put_made(&format!("{path}/{inside}"), content.clone(), true, reason)?;
    }
    editor.handed.older_drivers.push(folder);
    let signed = driver.signature_remark();
    let detail = format!("in media:/{path}, which the answers name{signed}");
    Ok(Item::applied("driver", driver.subject(), detail, bytes))
}

/// Its programs beside those of setup, which loads them for their devices.
fn for_the_text_phase(
    driver: &PreparedDriver,
    setup: &OlderSetup,
    (architecture, version): System,
    editor: &mut Editor,
) -> Result<Vec<Item>> {
    let subject = driver.subject();
    let refused = |why: String| vec![Item::refused("driver", subject.clone(), why)];
    let class = &driver.driver().class;
    if !is_class(CLASS, class) {
        let why = format!("setup's text phase takes drivers of disks, and the class of this one is {class}");
        return Ok(vec![Item::skipped("driver", subject, why)]);
    }
    let services = driver.driver().services(architecture.unwrap_or(Architecture::X86), version);
    if services.is_empty() {
        return Ok(refused("its INF file names no service with a program for these systems".into()));
    }
    let mut items = Vec::new();
    for service in services {
        let is_it = |path: &str| {
            path.rsplit('/').next().is_some_and(|name| name.eq_ignore_ascii_case(&service.binary))
        };
        let Some((_, content)) = driver.files().find(|(path, _)| is_it(path)) else {
            items.extend(refused(format!("{} is not beside its INF file", service.binary)));
            continue;
        };
        let meta = editor.meta(Meta::at(editor.newest()));
        let done = match add_text_driver(&mut editor.tree, setup, &service, content, meta) {
            Ok(done) => done,
            Err(error) if error.is_io() => return Err(error),
            Err(error) => {
                items.extend(refused(format!("{error}; {}", error.hint())));
                continue;
            }
        };
        let ids = counted(done.ids as u64, "device", "devices");
        let instead = if done.replaced { ", instead of one of this name" } else { "" };
        let detail = format!("in media:/{} for setup's text phase, for {ids}{instead}", done.path);
        items.push(Item::applied("driver", &subject, detail, done.bytes));
    }
    Ok(items)
}
