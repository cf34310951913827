//! `drivers`: what do they serve?

use crate::{
    args::DriversArgs,
    context::{Context, clock},
    show::drivers::{self, DeviceRow, DriverRow},
};
use neat_content::{Content, Error, Result, Text};
use neat_package::{Architecture, DriverSet, IfDamaged, Version, neat_signature::Trusted, parse_devices};

/// Largest list of devices, in bytes.
const LARGEST: u64 = 16 << 20;

pub(crate) fn run(args: &DriversArgs, context: &Context) -> Result<()> {
    let architecture = Architecture::of_word(&args.arch).ok_or_else(|| {
        Error::request(format!("{:?} is no architecture", args.arch), "write x86, x64 or arm64")
    })?;
    let version = match &args.system {
        None => None,
        Some(text) => {
            let version = Version::parse(text).ok_or_else(|| {
                Error::request(format!("{text:?} is no version"), "write numbers with dots")
            })?;
            let number =
                |n: usize| version.0.get(n).map_or(0, |number| u32::try_from(*number).unwrap_or(u32::MAX));
            Some((number(0), number(1), number(2)))
        }
    };
    let mut set = DriverSet::default();
    for folder in &args.folders {
        let name = folder.display().to_string();
        set.add(folder, name.trim_end_matches('/'), IfDamaged::Refuse)?;
    }
    let superseded = set.superseded();
    let roots = match &args.root {
        None => None,
        Some(path) => {
            let bytes = Content::from_path(path)?.to_vec(LARGEST, "certificates")?;
            Some(Trusted::read(&bytes).map_err(|error| error.within(path.display()))?)
        }
    };
    let check = (clock()?.today, roots.as_ref());
    let signatures = set.signatures(architecture, check, &context.job())?;
    let mut rows: Vec<DriverRow> = Vec::new();
    for ((n, found), signature) in set.drivers.iter().enumerate().zip(signatures) {
        let driver = &found.driver;
        let files = driver.files(architecture, &found.pack.tree);
        let missing = files.iter().filter(|file| file.found.is_none()).map(|file| file.path.clone());
        rows.push(DriverRow {
            path: format!("{}/{}", found.place, driver.path),
            class: driver.class.clone(),
            provider: driver.provider.clone(),
            version: driver.version_text(),
            date: driver.date_text(),
            architectures: driver.architectures().iter().map(|own| own.name()).collect(),
            devices: driver.devices_for(architecture, version).len(),
            signature,
            missing: missing.collect(),
            superseded_by: superseded.get(&n).map(|other| {
                let other = &set.drivers[*other];
                format!("{}/{}", other.place, other.driver.path)
            }),
        });
    }
    for (path, why) in &set.skipped {
        context.note(&format!("{path}: {why}"));
    }
    for note in &set.notes {
        context.note(note);
    }
    let mut devices: Vec<DeviceRow> = Vec::new();
    if let Some(path) = &args.devices {
        let text = Text::decode(&Content::from_path(path)?.to_vec(LARGEST, "list of devices")?).text;
        for device in parse_devices(&text).map_err(|error| error.within(path.display()))? {
            let best = set.best_for(&device, architecture, version);
            let others =
                Architecture::ALL.into_iter().filter(|other| best.is_none() && *other != architecture);
            let only_for = others.filter(|other| set.best_for(&device, *other, version).is_some());
            devices.push(DeviceRow {
                only_for: only_for.map(Architecture::name).collect(),
                name: device.name.clone(),
                id: device.ids.first().cloned().unwrap_or_default(),
                driver: best.as_ref().map(|(n, _)| rows[*n].path.clone()),
                by: best.as_ref().map(|(_, id)| id.clone()),
                complete: best.is_none_or(|(n, _)| rows[n].missing.is_empty()),
            });
        }
    }
    if context.json {
        return context.print_json(&drivers::DriversView {
            architecture: architecture.name(),
            drivers: rows,
            devices,
        });
    }
    if rows.is_empty() {
        return Err(Error::request("there is no driver in there", "name a folder or pack with INF files"));
    }
    context.print(&drivers::drivers(&rows, &devices, architecture.name(), args.devices.is_some()))
}
