//! Drivers that setup takes from the media: it sees them before it looks for a disk, and installs them.

use super::file_name;
use crate::{
    change::{Editor, servicing::inputs::Inputs},
    recipe::{DriverThrough, IntoValue},
};
use neat_content::{Job, Result};
use neat_package::Architecture;
use neat_service::Item;
use std::collections::BTreeSet;

/// Folder on the media for drivers that the answer file names.
const FOLDER: &str = "drivers";

/// What decides which drivers a system takes: its architecture and version.
type System = (Option<Architecture>, Option<(u32, u32, u32)>);

/// Stages the drivers of the sections that are handed on and go into `into`, once for all these systems. Returns what becomes
/// of each.
pub(in crate::change::servicing) fn hand_on(
    inputs: &mut Inputs,
    into: IntoValue,
    systems: &BTreeSet<System>,
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<Vec<Item>> {
    let mut items: Vec<Item> = Vec::new();
    for n in 0..inputs.drivers.len() {
        let input = &inputs.drivers[n];
        if !input.through.contains(&DriverThrough::Answers) || input.into.first() != Some(&into) {
            continue;
        }
        let is_alone = !input.through.contains(&DriverThrough::Edition);
        let mut done: BTreeSet<String> = BTreeSet::new();
        for (architecture, version) in systems {
            let prepared = inputs.prepared_for(n, *architecture, *version, job)?;
            for driver in &prepared.drivers {
                let subject = driver.subject();
                if !done.insert(subject.clone()) {
                    continue;
                }
                let stem = subject.rsplit('/').next().unwrap_or(&subject);
                let stem = stem.rsplit_once('.').map_or(stem, |(stem, _)| stem);
                let folder = format!("{FOLDER}/{:02}-{}", editor.handed.drivers.len() + 1, file_name(stem));
                let mut bytes = 0;
                for (path, content) in driver.files() {
                    bytes += content.len() as i64;
                    let reason = "setup takes it from there: the answer file names its folder";
                    editor.put_made(&format!("{folder}/{path}"), content.clone(), true, reason)?;
                }
                editor.handed.drivers.push(folder.clone());
                let signed = driver.signature_remark();
                let detail =
                    format!("in media:/{folder}, from where setup takes it through the answer file{signed}");
                items.push(Item::applied("driver", subject, detail, bytes));
            }
            if is_alone {
                let left_out = prepared.items.iter().filter(|item| done.insert(item.subject.clone()));
                items.extend(left_out.cloned());
            }
        }
    }
    Ok(items)
}
