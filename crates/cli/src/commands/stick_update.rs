//! `stick update`: only what differs.

use super::target::{Target, bytes_of, open};
use crate::{
    args::StickUpdateArgs,
    context::{Context, clock},
    show,
};
use neat_content::Result;
use neat_device::{Device, file::ImageDevice, guard, update, write};
use neat_media::stick::UpdateOptions;
use neat_stack::plan_stick_update;

pub(crate) fn run(args: &StickUpdateArgs, context: &Context) -> Result<()> {
    let target = Target::of(&args.to, &args.device)?;
    // Opened, and so kept from everybody else, before it is looked at.
    let mut device: Box<dyn Device> = match &target {
        Target::Image => Box::new(ImageDevice::open(&args.to)?),
        Target::Device(disk) => {
            guard::check_use(disk, args.device.fixed)?;
            if !args.dry_run {
                guard::check_change(disk, args.yes_change.as_deref())?;
            }
            open(disk, &args.device)?
        }
    };
    let media = super::kind::media(&args.source)?;
    let time = clock()?.fixed.unwrap_or(media.tree.newest());
    let job = context.job();
    // Where its bytes are to be read.
    let path = match &target {
        Target::Device(disk) => bytes_of(disk, &args.device),
        Target::Image => args.to.clone(),
    };
    let options = UpdateOptions { time, quick: args.quick, remove_others: args.remove_others };
    job.event(neat_content::Event::StepStarted { step: "comparing", total_bytes: None });
    let plan = plan_stick_update(media, &path, options, &job)?;
    job.event(neat_content::Event::StepFinished);
    for note in &plan.notes {
        context.note(note);
    }
    let mut outcome = None;
    if !plan.update.is_nothing() && !args.dry_run {
        let options = write::Options { verify: !args.device.no_verify };
        outcome = Some(update::apply(&mut *device, &plan, options, &job)?);
    }
    if context.json {
        return context.print_json(&show::stick::UpdatedView::new(&args.to, &plan, outcome));
    }
    context.print(&show::stick::updated(&args.to, &plan, outcome, args.dry_run))
}
