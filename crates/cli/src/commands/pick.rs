//! `pick`: which components go?

use super::{depot, images, kind, plan, refuse_existing};
use crate::{
    args::PickArgs,
    context::{Context, clock},
    screen::{self, EditionRow, Left, News, Screen, Subject},
    show::{self, pick::PickView},
};
use neat_content::{Error, IfThere, Job, PendingFile, Result, nearest};
use neat_image::{ImageDraft, ImageFile, Times};
use neat_service::{
    Catalogue, Choice, Edition, Inventory, Layout, OtherFiles, Profile, RemovalRequest, pattern,
};
use neat_stack::{DeviceSummary, EditionSummary, Prepared, StackFile, StackText, Wishes};
use std::{
    collections::{BTreeMap, BTreeSet},
    io::IsTerminal,
    path::{Path, PathBuf},
    sync::{
        Arc,
        mpsc::{Sender, channel},
    },
};

pub(crate) fn run(args: &PickArgs, context: &Context) -> Result<()> {
    let table = Table::open(args, context)?;
    let is_screen = !args.says_all()
        && !context.json
        && std::io::stdout().is_terminal()
        && std::io::stdin().is_terminal();
    if is_screen { on_screen(&table, context) } else { by_options(&table, args, context) }
}

/// The same for a stack file that was just written, on the terminal.
pub(super) fn on(stack: &Path, context: &Context) -> Result<()> {
    let args = PickArgs::of(stack);
    on_screen(&Table::open(&args, context)?, context)
}

/// What is chosen from, and what the choice is written into.
#[derive(Clone)]
struct Table {
    source: PathBuf,
    image: ImageFile,
    number: usize,
    /// Numbers of the editions that are kept.
    kept: Vec<usize>,
    text: StackText,
    stack: Option<StackFile>,
    stack_path: PathBuf,
    /// Where the text goes; nothing for standard output.
    target: Option<PathBuf>,
    catalogues: Vec<Catalogue>,
    layouts: Vec<Arc<Layout>>,
    earlier: Option<BTreeSet<String>>,
}

impl Table {
    fn open(args: &PickArgs, context: &Context) -> Result<Self> {
        if let Some(output) = &args.output {
            refuse_existing(output, args.replace)?;
        }
        let is_stack = kind::Kind::of(&args.path)? == Some(kind::Kind::Stack);
        let (text, stack, source) = if is_stack {
            let (text, mut stack) = plan::open(&args.path)?;
            depot::resolve_here(&mut stack, &args.path, &args.depot, context)?;
            let base = args.path.parent().unwrap_or(Path::new("")).to_owned();
            let section = stack.source.as_ref().ok_or_else(|| {
                Error::request(
                    format!("{} starts from nothing", args.path.display()),
                    "only what has a [source] has components to choose from",
                )
            })?;
            let source = base.join(section.image_from.as_ref().unwrap_or(&section.media));
            (text, Some(stack), source)
        } else if images::is_image(&args.path).unwrap_or(false) {
            (String::new(), None, args.path.clone())
        } else {
            let media = kind::media(&args.path)?;
            (super::draft::plain(&media, &args.path, args.output.as_deref())?, None, args.path.clone())
        };
        let image = images::open_anywhere(&source, None)?;
        let wanted = stack.as_ref().and_then(|stack| stack.source.as_ref()).map(|own| own.editions.clone());
        let mut kept = wanted
            .unwrap_or_default()
            .iter()
            .map(|name| image.find_edition(name))
            .collect::<Result<Vec<usize>>>()?;
        if kept.is_empty() {
            kept = (1..=image.editions().len()).collect();
        }
        let number = match &args.edition {
            Some(wanted) => image.find_edition(wanted)?,
            None => kept.first().copied().unwrap_or(1),
        };
        let base = args.path.parent().unwrap_or(Path::new("")).to_owned();
        let of_stack = |list: fn(&StackFile) -> &Vec<String>| -> Vec<PathBuf> {
            stack.iter().flat_map(list).map(|path| base.join(path)).collect()
        };
        let catalogues =
            of_stack(|stack| &stack.catalogues).into_iter().chain(args.catalogue.iter().cloned());
        let catalogues = catalogues.map(|path| Catalogue::open(&path)).collect::<Result<_>>()?;
        let layouts = of_stack(|stack| &stack.layouts).into_iter().chain(args.layout.iter().cloned());
        let mut layouts =
            layouts.map(|path| Layout::open(&path).map(Arc::new)).collect::<Result<Vec<_>>>()?;
        layouts.push(Arc::new(Layout::common()?));
        let name = image.editions().get(number - 1).map_or("", |info| info.name.as_str());
        let earlier = args.since.as_ref().map(|path| taken_out(path, name)).transpose()?;
        let target = args.output.clone().or_else(|| is_stack.then(|| args.path.clone()));
        let text = StackText::new(&text).map_err(|error| error.within(args.path.display()))?;
        Ok(Self {
            source,
            image,
            number,
            kept,
            text,
            stack,
            stack_path: args.path.clone(),
            target,
            catalogues,
            layouts,
            earlier,
        })
    }

    fn edition_name(&self) -> &str {
        self.image.editions().get(self.number - 1).map_or("", |info| info.name.as_str())
    }

    fn rows(&self) -> Vec<EditionRow> {
        let each = self.image.editions().iter().enumerate();
        each.map(|(n, info)| {
            let summary = EditionSummary::new(n + 1, info, None);
            let facts = [&*summary.architecture, &*summary.version, &*summary.languages.join(" ")];
            EditionRow {
                kept: self.kept.contains(&(n + 1)),
                facts: facts.join("  ").trim().to_owned(),
                bytes: summary.bytes,
                name: summary.name,
            }
        })
        .collect()
    }

    fn features(&self) -> BTreeMap<String, bool> {
        let settings = self.stack.as_ref().and_then(|stack| stack.settings.as_ref());
        let features = settings.into_iter().flat_map(|settings| &settings.features);
        features.map(|(name, value)| (name.clone(), value.is_on())).collect()
    }

    /// The components with what the stack file takes out, and what is needed to weigh them. Those that are known first
    /// are shown to `early`.
    fn choice(
        &self,
        early: Option<&mut dyn FnMut(Choice)>,
    ) -> Result<(Choice, Inventory, Edition, Arc<ImageDraft>)> {
        let draft = Arc::new(ImageDraft::of(&self.image));
        let mut edition = Edition::open_files(&draft, self.number, &self.layouts, Times::default())?;
        let profiles: Vec<(String, Profile)> = self
            .catalogues
            .iter()
            .flat_map(|own| own.profiles.iter().map(|(name, profile)| (name.clone(), profile.clone())))
            .collect();
        let section = self.stack.as_ref().and_then(|stack| stack.remove.clone()).unwrap_or_default();
        let request = RemovalRequest {
            remove: section.components,
            keep: section.keep,
            with_dependents: section.with_dependents,
        };
        let of = |inventory| Choice::new(inventory, profiles.clone(), section.profile.as_deref(), &request);
        if let Some(early) = early {
            early(of(Inventory::early(&edition, &self.catalogues)?));
        }
        edition.open_hives()?;
        let inventory = Inventory::unweighed(&edition, &self.catalogues)?;
        Ok((of(inventory.clone()), inventory, edition, draft))
    }

    /// Sizes: what the other editions that are kept have stays in the image file.
    fn weigh(&self, mut inventory: Inventory, edition: &Edition, draft: &ImageDraft) -> Result<Inventory> {
        let others = self.kept.iter().copied().filter(|other| *other != self.number);
        let others = OtherFiles::of(draft, others)?;
        inventory.measure(edition, Some(&others));
        Ok(inventory)
    }

    /// What serves the devices of the lists that the stack file names.
    fn devices(&self) -> Result<Vec<DeviceSummary>> {
        let Some(stack) =
            self.stack.as_ref().filter(|stack| stack.driver.iter().any(|own| own.devices.is_some()))
        else {
            return Ok(Vec::new());
        };
        let wishes = Wishes { only_plan: true, ask: None, only: &[] };
        let clock = clock()?;
        let prepared = Prepared::new(stack, &self.stack_path, &clock, wishes, &Job::silent())?;
        Ok(prepared.report.devices)
    }

    /// The stack file with another choice; the parts that were not changed stay as they are.
    fn changed(&self, before: &Choice, after: &Choice) -> Result<StackText> {
        let mut text = self.text.clone();
        let (before, after) = (before.text(), after.text());
        if before != after {
            text.set_texts("remove", "components", &after.components)?;
            text.set_texts("remove", "keep", &after.keep)?;
            text.set_text("remove", "profile", after.profile.as_deref())?;
        }
        Ok(text)
    }

    /// Writes the text; where.
    fn write(&self, text: &StackText, context: &Context) -> Result<Option<String>> {
        let Some(target) = &self.target else {
            if !context.json {
                context.print_document(text.as_str().trim_start())?;
            }
            return Ok(None);
        };
        let (pending, mut file) = PendingFile::create_output(target, IfThere::Replace, None)?;
        file.write_bytes(text.as_str().as_bytes())?;
        pending.commit(file.finish()?.0)?;
        Ok(Some(target.display().to_string()))
    }
}

/// What a build took out of an edition.
fn taken_out(path: &Path, edition: &str) -> Result<BTreeSet<String>> {
    let ledger = plan::read_ledger(path)?;
    let of_edition = ledger.items.iter().filter(|item| item.edition == edition);
    let gone = of_edition.filter(|item| item.kind == "remove" && item.verdict == "applied");
    Ok(gone.map(|item| item.subject.clone()).collect())
}

fn by_options(table: &Table, args: &PickArgs, context: &Context) -> Result<()> {
    let (before, inventory, edition, draft) = table.choice(None)?;
    let mut choice = before.clone();
    if let Some(profile) = &args.profile {
        let known: Vec<&str> = choice.profiles().iter().map(|(name, _)| name.as_str()).collect();
        if profile != "none" && !known.contains(&profile.as_str()) {
            let hint = match nearest(profile, known.iter().copied()) {
                Some(near) => format!("did you mean {near:?}?"),
                None if known.is_empty() => "name the catalogue that has it with --catalogue".into(),
                None => format!("the profiles are {}", known.join(", ")),
            };
            return Err(Error::request(format!("no catalogue has a profile {profile:?}"), hint));
        }
        choice.start_from(Some(profile.as_str()).filter(|name| *name != "none"));
    }
    for (texts, goes) in [(&args.remove, true), (&args.put_back, false)] {
        for text in texts {
            turn(&mut choice, text, goes)?;
        }
    }
    choice.weigh(&table.weigh(inventory, &edition, &draft)?);
    let text = table.changed(&before, &choice)?;
    let mut view = PickView::new(table.edition_name(), table.number, &choice, table.earlier.as_ref());
    let kept = table.rows().into_iter().filter(|row| row.kept);
    view.editions = kept.map(|row| row.name).collect();
    if !context.json && (table.target.is_some() || args.dry_run) {
        context.print(&show::pick::pick(&view, &choice))?;
    }
    if args.says_all() && !args.dry_run {
        view.path = table.write(&text, context)?;
    }
    if context.json {
        return context.print_json(&view);
    }
    match &view.path {
        Some(path) => said(path, context),
        None => Ok(()),
    }
}

/// Takes out or puts back what an id or a pattern means.
fn turn(choice: &mut Choice, text: &str, goes: bool) -> Result<()> {
    let ids: Vec<String> = choice.components().map(|own| own.id.clone()).collect();
    let fitting: Vec<&String> = ids.iter().filter(|id| pattern::matches(text, id)).collect();
    if fitting.is_empty() {
        if !goes && choice.unknown().iter().any(|own| own == text) {
            choice.forget(text);
            return Ok(());
        }
        let near = pattern::nearest(text, ids.iter().map(String::as_str));
        let hint = if near.is_empty() {
            "`neatstack inventory` lists what it has".to_owned()
        } else {
            format!("did you mean {}?", near.join(", "))
        };
        return Err(Error::request(format!("nothing in this edition fits {text:?}"), hint));
    }
    for id in fitting {
        if choice.taken().contains(id) == goes {
            continue;
        }
        let follows = choice.turn(id);
        // A pattern means what may go.
        if !follows.refused.is_empty() && !pattern::is_pattern(text) {
            return Err(Error::refused(
                format!("{id} stays: {}", follows.refused),
                "leave it out, or look at it with `neatstack inventory`",
            ));
        }
    }
    Ok(())
}

fn said(path: &str, context: &Context) -> Result<()> {
    let next = show::in_command(Path::new(path));
    context.print(&show::heading_line(path, &format!("written; next is `neatstack plan {next}`")))
}

fn on_screen(table: &Table, context: &Context) -> Result<()> {
    let target =
        table.target.as_ref().map_or_else(|| "standard output".into(), |path| path.display().to_string());
    let subject = Subject {
        edition: table.edition_name().to_owned(),
        source: table.source.display().to_string(),
        target,
    };
    let mut screen = Screen::new(subject, table.rows(), table.features(), table.earlier.clone());
    screen.colours = context.has_colours();
    let (news, heard) = channel();
    let worker = table.clone();
    // It is left alone when the screen is left before it has ended: it only reads.
    std::thread::spawn(move || work(&worker, &news));
    let left = screen::show(&mut screen, &heard, context.stop_flag())?;
    if left == Left::Drop {
        context.say_line("nothing was changed");
        return Ok(());
    }
    let mut text = table.text.clone();
    if let (Some(before), Some(after)) = (screen.first(), screen.choice()) {
        text = table.changed(before, after)?;
    }
    let kept: Vec<String> =
        screen.editions().iter().filter(|row| row.kept).map(|row| row.name.clone()).collect();
    let before: Vec<String> = table.rows().into_iter().filter(|row| row.kept).map(|row| row.name).collect();
    if kept != before {
        let all = kept.len() == screen.editions().len();
        text.set_texts("source", "editions", if all { &[] } else { &kept })?;
    }
    let features = table.features();
    let names: BTreeSet<&String> = features.keys().chain(screen.features().keys()).collect();
    for name in names {
        let now = screen.features().get(name).copied();
        if features.get(name).copied() != now {
            text.set_switch("settings", "features", name, now)?;
        }
    }
    if let Some(choice) = screen.choice() {
        let view = PickView::new(table.edition_name(), table.number, choice, table.earlier.as_ref());
        if table.target.is_some() {
            context.print(&show::pick::pick(&view, choice))?;
        }
    }
    match table.write(&text, context)? {
        Some(path) => said(&path, context),
        None => Ok(()),
    }
}

/// Works out what the screen shows, the quickest first.
fn work(table: &Table, news: &Sender<News>) {
    let outcome = (|| {
        let mut early = |choice| drop(news.send(News::Early(Box::new(choice))));
        let (choice, inventory, edition, draft) = table.choice(Some(&mut early))?;
        let _ = news.send(News::Choice(Box::new(choice)));
        let weighed = table.weigh(inventory, &edition, &draft)?;
        let _ = news.send(News::Weighed(weighed));
        Ok(())
    })();
    if let Err(error) = outcome {
        let error: Error = error;
        let _ = news.send(News::Failed(error.to_string()));
    }
    let devices = table.devices().map_err(|error| error.to_string());
    let _ = news.send(News::Devices(devices));
}
