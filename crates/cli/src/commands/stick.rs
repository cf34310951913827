//! `stick`: bootable sticks.

use super::{
    refuse_existing,
    target::{Target, bytes_of, open},
};
use crate::{
    args::{DeviceArgs, FormName, SchemeName, StickAction, StickArgs},
    context::{Context, clock},
    show::{
        self,
        stick::{DiskView, DisksView},
    },
};
use neat_content::{Content, Error, IfThere, PendingFile, Result};
use neat_device::{
    disks::{self, Disk},
    guard::{self, Consent},
    write,
};
use neat_media::stick::{Scheme, StickPlan};
use neat_stack::{StickWish, plan_stick};
use std::{
    io::{IsTerminal, Read},
    path::Path,
};

pub(crate) fn run(args: &StickArgs, context: &Context) -> Result<()> {
    if let Some(StickAction::Update(args)) = &args.action {
        return super::stick_update::run(args, context);
    }
    if args.list {
        return list(&args.device, context);
    }
    let (Some(source), Some(to)) = (&args.source, &args.to) else {
        return Err(Error::request("a source and --to are wanted", "see `neatstack stick --help`"));
    };
    let target = Target::of(to, &args.device)?;
    let len = match &target {
        Target::Image => {
            refuse_existing(to, args.replace)?;
            refuse_source(source, to)?;
            args.size
        }
        Target::Device(disk) => {
            guard::check_use(disk, args.device.fixed)?;
            refuse_source(source, &bytes_of(disk, &args.device))?;
            Some(args.size.unwrap_or(disk.size))
        }
    };
    let (plan, private) = plan(args, source, to, len, context)?;
    for note in &plan.notes {
        context.note(note);
    }
    match target {
        Target::Image => write_image(to, args, private, &plan, context),
        Target::Device(disk) => {
            consent(&disk, &args.device, context)?;
            let mut device = open(&disk, &args.device)?;
            let options = write::Options { verify: !args.device.no_verify };
            let outcome = write::stick(&mut *device, &plan, options, &context.job())?;
            if !outcome.announced {
                context.say(
                    "note: this system may still know the old partitions: pull the stick out and put it in again before \
                     you use it here",
                );
            }
            report(&disk.path, &plan, Some(outcome), context)
        }
    }
}

/// Lays the stick out.
fn plan(
    args: &StickArgs,
    source: &Path,
    to: &Path,
    len: Option<u64>,
    context: &Context,
) -> Result<(StickPlan, bool)> {
    let media = super::kind::media(source)?;
    let is_image = matches!(Target::of(to, &args.device)?, Target::Image);
    let private = is_image && super::is_private(&media, args.readable, context)?;
    for warning in &media.warnings {
        context.note(warning);
    }
    let clock = clock()?;
    let reproducible = args.reproducible || clock.fixed.is_some();
    let boot_code =
        args.boot_code.as_ref().map(|path| Content::from_path(path)?.to_vec(512, "boot code")).transpose()?;
    let wish = StickWish {
        form: if boot_code.is_some() { FormName::Disc.form() } else { args.form.form() },
        scheme: match args.scheme {
            SchemeName::Gpt => Scheme::Gpt,
            SchemeName::Mbr => Scheme::Mbr,
        },
        len,
        label: args.label.as_deref(),
        manager: args.boot_manager.as_deref(),
        seed: if reproducible { None } else { Some(random_seed()?) },
        boot_code,
        time: clock.fixed.unwrap_or(media.tree.newest()),
        order: &[],
    };
    let mut plan = plan_stick(media, Some(source), &wish, &context.job())?;
    if plan.manager.is_none() && neat_media::stick::uefi_loaders(&plan.tree).is_empty() {
        plan.notes.push(format!("{} has no loader for UEFI and will start nothing", to.display()));
    }
    Ok((plan, private))
}

fn refuse_source(source: &Path, to: &Path) -> Result<()> {
    let (Ok(source), Ok(target)) = (source.canonicalize(), to.canonicalize()) else { return Ok(()) };
    // A partition is named after its disk: sdb1, nvme0n1p1.
    let is_partition = target.starts_with("/dev")
        && source
            .to_str()
            .zip(target.to_str())
            .and_then(|(source, target)| source.strip_prefix(target))
            .is_some_and(|rest| {
                let number = rest.strip_prefix('p').unwrap_or(rest);
                !number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit())
            });
    if source == target || is_partition {
        return Err(Error::refused(
            format!("{} is the source itself, which is never written", to.display()),
            "name another place to write to",
        ));
    }
    Ok(())
}

/// Erasing is agreed on the command line, or by typing the device's word on a terminal.
fn consent(disk: &Disk, args: &DeviceArgs, context: &Context) -> Result<()> {
    let named = args.yes_erase.as_deref();
    let asks = named.is_none()
        && !context.json
        && std::io::stdin().is_terminal()
        && !guard::erase_word(disk).is_empty();
    if !asks {
        return guard::check(disk, Consent { named, fixed: args.fixed });
    }
    context.say(&show::stick::disks(std::slice::from_ref(disk), args.fixed));
    context.say_line(&format!("Everything on it is erased. Type {} to go on:", guard::erase_word(disk)));
    let mut line = String::new();
    std::io::stdin().read_line(&mut line).map_err(Error::io("read from", Path::new("the terminal")))?;
    guard::check(disk, Consent { named: Some(line.trim()), fixed: args.fixed })
}

fn random_seed() -> Result<[u8; 32]> {
    let path = Path::new("/dev/urandom");
    let mut seed = [0; 32];
    let mut file = std::fs::File::open(path).map_err(Error::io("open", path))?;
    file.read_exact(&mut seed).map_err(Error::io("read", path))?;
    Ok(seed)
}

fn write_image(
    to: &Path,
    args: &StickArgs,
    private: bool,
    plan: &StickPlan,
    context: &Context,
) -> Result<()> {
    let job = context.job();
    let (pending, mut output) = PendingFile::create_output(to, IfThere::replace(args.replace), None)?;
    if private {
        pending.make_private()?;
    }
    plan.write(&mut output, &job)?;
    let (file, _) = output.finish()?;
    job.check()?;
    pending.commit(file)?;
    report(to, plan, None, context)
}

fn report(to: &Path, plan: &StickPlan, outcome: Option<write::Outcome>, context: &Context) -> Result<()> {
    if context.json {
        return context.print_json(&show::stick::StickView::new(to, plan, outcome));
    }
    context.print(&show::stick::written(to, plan, outcome))
}

fn list(args: &DeviceArgs, context: &Context) -> Result<()> {
    let mut disks = match &args.simulated {
        Some(folder) => disks::simulated(folder)?,
        None => disks::list(&disks::Places::default())?,
    };
    if !args.fixed {
        disks.retain(|disk| disk.removable);
    }
    if context.json {
        let disks = disks.into_iter().map(|disk| DiskView {
            erase_word: guard::erase_word(&disk).to_owned(),
            refused: guard::check_use(&disk, args.fixed).err().map(|error| error.to_string()),
            disk,
        });
        return context.print_json(&DisksView { kind: "disks", disks: disks.collect() });
    }
    if disks.is_empty() {
        context.say("There is no disk here that can be taken out; --fixed also shows the others.");
        return Ok(());
    }
    context.print(&show::stick::disks(&disks, args.fixed))
}
