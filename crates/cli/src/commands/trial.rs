//! `trial`: a media in a virtual machine.

use crate::{
    args::{AttachedName, FirmwareName, TrialArgs},
    context::{self, Context},
    show,
};
use neat_content::{Error, IfThere, PendingFile, Result};
use neat_media::{bootwalk, read};
use neat_trial::{Attached, Firmware, Options, Outcome, Tools};
use std::{
    path::{Path, PathBuf},
    process::ExitCode,
    time::Duration,
};

pub(crate) fn run(args: &TrialArgs, context: &Context) -> Result<ExitCode> {
    if args.media.is_dir() {
        return Err(Error::request(
            format!("{} is a folder, and a machine starts files", args.media.display()),
            "master it first: `neatstack master DIR -o OUT.iso`",
        ));
    }
    let source = neat_content::Source::open(&args.media)?;
    let attached = match args.attached {
        Some(AttachedName::Disc) => Attached::Disc,
        Some(AttachedName::Disk) => Attached::Disk,
        None if read::is_disc(&source)? => Attached::Disc,
        Some(AttachedName::Stick) | None => Attached::Stick,
    };
    let claimed = match super::kind::media(&args.media) {
        Ok(media) => bootwalk::claims(&bootwalk::walk_media(&media, &source), attached.way()),
        // What cannot be read can be started all the same, by whoever says with what.
        Err(error) if args.firmware.is_some() => {
            context.note(&error.to_string());
            Vec::new()
        }
        Err(error) => return Err(error),
    };
    let firmwares = match args.firmware {
        Some(FirmwareName::Bios) => vec![Firmware::Bios],
        Some(FirmwareName::Uefi) => vec![Firmware::Uefi],
        Some(FirmwareName::Both) => vec![Firmware::Bios, Firmware::Uefi],
        None => claimed,
    };
    if firmwares.is_empty() {
        return Err(Error::request(
            format!("{} is made for no firmware as a {}", args.media.display(), attached.name()),
            "`neatstack look MEDIA --boot` says what is missing; --firmware starts it all the same",
        ));
    }
    let tools = Tools::find()?;
    let kind = if tools.accelerated { "with the processor's help" } else { "in software, which is slow" };
    context.say_line(&format!("{}, {kind}", tools.version));
    let options = Options {
        attached,
        expect: args.expect.as_deref(),
        limit: Duration::from_secs(args.limit),
        quiet: Duration::from_secs(args.quiet_after),
        memory: u32::try_from(args.memory >> 20).unwrap_or(u32::MAX).max(64),
        disk: args.unattended.unwrap_or(1 << 30),
        unattended: args.unattended.is_some(),
    };
    let job = context.job();
    job.event(neat_content::Event::StepStarted { step: context::TRIAL, total_bytes: None });
    let outcomes = neat_trial::run(&tools, &args.media, &firmwares, &options, &job)?;
    job.event(neat_content::Event::StepFinished);
    let mut pictures = Vec::new();
    for outcome in &outcomes {
        let name = |path: &Path| named(path, outcome.firmware, outcomes.len() > 1);
        let picture = match (&args.shot, &outcome.picture) {
            (Some(path), Some(bytes)) => Some(save(&name(path), bytes)?),
            _ => None,
        };
        if let Some(path) = &args.log {
            save(&name(path), outcome.serial.as_bytes())?;
        }
        pictures.push(picture);
    }
    if context.json {
        context.print_json(&show::trial::TrialView::new(&args.media, &tools, &outcomes, &pictures))?;
    } else {
        context.print(&show::trial::table(&args.media, &outcomes, &pictures))?;
    }
    let all = outcomes.iter().all(|outcome: &Outcome| outcome.came_up);
    Ok(if all { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// The file for one of several firmwares.
pub(super) fn named(path: &Path, firmware: Firmware, several: bool) -> PathBuf {
    if !several {
        return path.to_owned();
    }
    let stem = path.file_stem().unwrap_or_default().to_string_lossy();
    let word = firmware.name().to_ascii_lowercase();
    let ending = path.extension().map(|ending| format!(".{}", ending.to_string_lossy())).unwrap_or_default();
    path.with_file_name(format!("{stem}-{word}{ending}"))
}

fn save(path: &Path, bytes: &[u8]) -> Result<PathBuf> {
    let (pending, mut output) = PendingFile::create_output(path, IfThere::Replace, None)?;
    output.write_bytes(bytes)?;
    pending.commit(output.finish()?.0)?;
    Ok(path.to_owned())
}
