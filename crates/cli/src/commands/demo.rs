//! `demo`: the whole example, in plain words.

use super::build::PROGRAM;
use crate::{
    args::{DemoArgs, DemoSize},
    context::Context,
    show::{self, style},
};
use neat_content::{Error, Result};
use neat_media::read;
use neat_stack::{BuildOptions, BuildOutcome, Clock, PlanReport, Prepared, StackFile, Wishes};
use std::path::Path;

pub(crate) fn run(args: &DemoArgs, context: &Context) -> Result<()> {
    let dir = &args.dir;
    super::make_folder(dir)?;
    let job = context.job();
    let size = match args.size {
        DemoSize::Small => neat_demo::Size::Small,
        DemoSize::Full => neat_demo::Size::Full,
    };
    let demo = neat_demo::write(dir, size, &job)?;
    let text = std::fs::read_to_string(&demo.stack).map_err(Error::io("read", &demo.stack))?;
    let clock = Clock { today: neat_demo::RELEASED, fixed: None };
    let stack = StackFile::parse(&text)?;
    let prepared = Prepared::new(&stack, &demo.stack, &clock, Wishes::default(), &job)?;
    let prepared_report = prepared.report.clone();
    let replaceable = prepared.outputs()?.into_iter().flatten().collect();
    let outcomes = prepared.build(
        &BuildOptions {
            stack_text: &text,
            program: PROGRAM,
            digest: Some(true),
            threads: context.threads,
            replaceable,
            verify: false,
            readable: false,
        },
        &job,
    )?;
    let Some(outcome) = outcomes.first() else { return Ok(()) };
    if context.json {
        return context.print_json(&show::build::DemoView {
            media: demo.media.display().to_string(),
            stack: demo.stack.display().to_string(),
            ledger: outcome.ledger.clone(),
        });
    }
    let told = Told { folder: dir, demo: &demo, plan: &prepared_report, outcome };
    context.print(&if args.all { told.whole()? } else { told.short()? })
}

/// What was made and done.
struct Told<'a> {
    folder: &'a Path,
    demo: &'a neat_demo::Demo,
    plan: &'a PlanReport,
    outcome: &'a BuildOutcome,
}

fn heading(text: &str) -> String {
    format!("\n{}{text}{:#}\n", style::HEADING, style::HEADING)
}

impl Told<'_> {
    fn opening(&self) -> String {
        let text = format!(
            "Brackwater Ferries does not exist, and nor does its Quay OS 7, but its installation media does: it was \
             just made in {}, with driver packs, updates, applications, an answer file, a catalogue and a stack file \
             that puts them together.",
            self.folder.display()
        );
        show::wrap(&text, 0, show::terminal_width().unwrap_or(100)) + "\n"
    }

    /// The story on one screen.
    fn short(&self) -> Result<String> {
        let Self { folder, demo, plan, outcome } = self;
        let mut story = self.opening();
        let media = read::open(&demo.media)?;
        story.push_str(&heading("1. The vendor's media"));
        let names: Vec<&str> = plan.editions.iter().map(|own| own.name.as_str()).collect();
        let mut sheet = show::Sheet::default();
        sheet.row("media", format!("{} ({})", demo.media.display(), show::size(media.size)));
        sheet.row("editions", names.join(", "));
        story.push_str(&sheet.text());
        story.push_str(&heading(&format!("2. What {} wants of it", demo.stack.display())));
        story.push_str(&show::brief::steps(&plan.steps));
        story.push_str(&show::brief::heavy(&plan.findings));
        story.push_str(&heading("3. What came out"));
        let mut sheet = show::Sheet::default();
        for output in &outcome.ledger.outputs {
            sheet.row("media", format!("{} ({})", outcome.main.display(), show::size(output.size)));
            sheet.row_if("sha256", output.sha256.as_deref().unwrap_or_default());
        }
        let done = outcome.ledger.items.len() as u64;
        let what = show::count(done, "item", "items");
        sheet.row("ledger", format!("{}: {what}, each with its reason", outcome.ledger_path.display()));
        story.push_str(&sheet.text());
        story.push_str(&heading("What to try next"));
        let iso = outcome.main.display();
        let vendor = demo.media.display();
        let folder = folder.display();
        let next = [
            (
                format!("neatstack plan {}", demo.stack.display()),
                "what to mind before a build, and what is left out",
            ),
            (format!("neatstack compare {vendor} {iso}"), "exactly what the build changed"),
            (format!("neatstack trial {iso}"), "start it in a virtual machine, with BIOS and UEFI"),
            (format!("neatstack inventory {vendor} --edition 2"), "what an edition consists of"),
            (format!("neatstack build {folder}/fleet.stack.toml"), "a media for each machine of a list"),
            ("neatstack draft YOUR.iso > my.stack.toml".to_owned(), "start with a media of your own"),
            (format!("neatstack demo {folder} --all"), "the same, every result whole, and more to try"),
        ];
        let rows: Vec<Vec<String>> =
            next.into_iter().map(|(command, why)| vec![command, why.to_owned()]).collect();
        // Commands are to be copied, so they are never cut.
        let widest = |n: usize| rows.iter().map(|row| row[n].chars().count()).max().unwrap_or(0);
        let is_wide = show::terminal_width().is_none_or(|width| 2 + widest(0) + 2 + widest(1) <= width);
        let lines = if is_wide {
            show::table(&rows, &[])
        } else {
            rows.iter().flat_map(|row| [row[0].clone(), format!("    {}", row[1])]).collect()
        };
        for line in lines {
            story.push_str(&format!("  {line}\n"));
        }
        Ok(story)
    }

    /// Every result as its command shows it.
    fn whole(&self) -> Result<String> {
        let Self { folder, demo, outcome, .. } = self;
        let look = |path: &std::path::Path| -> Result<String> {
            let media = read::open(path)?;
            Ok(show::media::MediaView::new(&media, path, None).text(show::media::created(&media)))
        };
        let (folder, stack, iso) = (folder.display(), demo.stack.display(), outcome.main.display());
        let mut story = self.opening();
        story.push_str(&heading("1. The vendor's media, as `neatstack look` sees it"));
        story.push_str(&look(&demo.media)?);
        story.push_str(&heading("2. What the stack file wants, as `neatstack plan` shows it"));
        story.push_str(&show::plan::plan(self.plan));
        story.push_str(&heading("3. The media that `neatstack build` wrote"));
        story.push_str(&look(&outcome.main)?);
        story.push_str(&heading("4. The ledger that it left, as `neatstack look` shows it"));
        story.push_str(&super::look::ledger_text(&outcome.ledger_path, &outcome.ledger));
        story.push_str(&heading("What to try next"));
        for (command, why) in [
            (
                format!("neatstack trial {iso}"),
                "start it in a virtual machine with BIOS and UEFI: it says which answer file it found",
            ),
            (
                format!("neatstack stick --list --simulated {folder}/sticks"),
                "rehearse erasing a stick: one is sound, one lies about its size, one is in use",
            ),
            (
                format!("neatstack build {folder}/deck.stack.toml"),
                "an ISO file and a stick, from the same pass",
            ),
            (
                format!("neatstack build {folder}/bench.stack.toml"),
                "a small disc and stick of the setup environment alone",
            ),
            (
                format!(
                    "neatstack inventory {} --edition 2 --catalogue {folder}/quay.catalogue.toml",
                    demo.media.display()
                ),
                "what an edition consists of, and what needs what",
            ),
            (
                format!("neatstack drivers {folder}/drivers --for {folder}/bridge-console.devices.txt"),
                "which devices of a console are still without a driver",
            ),
            (
                format!(
                    "neatstack answer check {folder}/bridge-answers.xml --media {}",
                    demo.media.display()
                ),
                "what is wrong with last year's answer file",
            ),
            (
                format!("neatstack build {folder}/fleet.stack.toml"),
                "a media for each machine of a list, from one pass",
            ),
            (format!("neatstack compare {} {iso}", demo.media.display()), "exactly what the build changed"),
            (format!("neatstack files {iso} --digest sha256"), "every file with its digest"),
            (format!("neatstack build {stack}"), "build it again: the same bytes come out"),
            (
                format!("neatstack unpack {iso} {folder}/unpacked"),
                "the whole media as a folder; `master` turns it back",
            ),
            ("neatstack draft YOUR.iso > my.stack.toml".to_owned(), "start with a media of your own"),
        ] {
            story.push_str(&format!("  {}{command}{:#}\n      {why}\n", style::GOOD, style::GOOD));
        }
        Ok(story)
    }
}
