//! `look`: what is this?

mod packages;

use super::{kind::Kind, read_text};
use crate::{
    args::{Digest, LookArgs},
    context::Context,
    show::{
        self, Sheet,
        image::ImageView,
        known::{AnswerView, DepotView, KindView, LedgerView, OutputNow, OutputView, StackView},
        media::{KnownView, MediaView},
        trial::WalksView,
    },
};
use neat_answer::{AnswerFile, Dialect, Model, SiteList, check_file, check_model};
use neat_content::{Content, DigestKind, Error, ReadAt, Result, Source, digest_of, read_known};
use neat_depot::{INDEX_NAME, Index, Search};
use neat_image::{is_image_file, open_path};
use neat_media::{MediaForm, bootwalk, read, touchup};
use neat_package::parse_devices;
use neat_service::{Catalogue, Layout};
use neat_stack::{LEDGER_KIND, Ledger, LedgerOutput, StackFile, output_names};
use std::{path::Path, process::ExitCode, sync::Arc};

pub(crate) fn run(args: &LookArgs, context: &Context) -> Result<ExitCode> {
    let path = &args.path;
    let not_a_disc = || {
        let message = format!("{} is not an ISO file, and --known compares those", path.display());
        Error::request(message, "leave --known out")
    };
    if args.boot {
        return boot(path, context);
    }
    if path.is_dir() {
        if args.known.is_some() {
            return Err(not_a_disc());
        }
        if !packages::folder(path, context)? && !known_kind(path, context)? {
            media(path, None, None, context)?;
        }
        return Ok(ExitCode::SUCCESS);
    }
    let source = Source::open(path)?;
    let is_disc = read::is_disc(&source).map_err(|error| error.within(path.display()))?;
    if args.known.is_some() && !is_disc {
        return Err(not_a_disc());
    }
    let digest = match args.digest {
        Some(kind) => {
            let kind = match kind {
                Digest::Sha1 => DigestKind::Sha1,
                Digest::Sha256 => DigestKind::Sha256,
            };
            let digest = digest_of(&Content::from_source(source.clone()), kind, &context.job())?;
            Some(format!("{} {digest}", kind.name()))
        }
        None => None,
    };
    if is_disc {
        let known = args.known.as_ref().map(|list| known(list, path, &source, context)).transpose()?;
        let original = known.as_ref().is_none_or(|known| known.original);
        media(path, digest, known, context)?;
        return Ok(if original { ExitCode::SUCCESS } else { ExitCode::FAILURE });
    }
    if read::is_stick(&source).map_err(|error| error.within(path.display()))? {
        media(path, digest, None, context)?;
        return Ok(ExitCode::SUCCESS);
    }
    other(path, source, digest, context)?;
    Ok(ExitCode::SUCCESS)
}

/// The way of each firmware through the media. Exit code 1 when something is missing for one that it is made for.
fn boot(path: &Path, context: &Context) -> Result<ExitCode> {
    if path.is_dir() {
        let message = format!("{} is a folder, and firmware starts discs and disks", path.display());
        return Err(Error::request(message, "master it first: `neatstack master DIR -o OUT.iso`"));
    }
    let walks = bootwalk::walk(path)?;
    let missing = walks.iter().any(|walk| walk.claimed && !walk.is_good());
    if context.json {
        let (name, good) = (path.display().to_string(), !missing);
        context.print_json(&WalksView { kind: "boot-walk", path: name, good, walks })?;
    } else {
        context.print(&show::trial::walks(path, &walks))?;
    }
    Ok(if missing { ExitCode::FAILURE } else { ExitCode::SUCCESS })
}

/// Whether the file is one of those in a list of digests.
fn known(list: &Path, path: &Path, source: &Arc<Source>, context: &Context) -> Result<KnownView> {
    let files =
        read_known(&read_text(list, "list of digests")?).map_err(|error| error.within(list.display()))?;
    let mut view = KnownView {
        list: list.display().to_string(),
        files: files.len(),
        original: false,
        name: None,
        digests: Vec::new(),
        same_name: false,
    };
    let own_name = path.file_name().map(|name| name.to_string_lossy().into_owned());
    for kind in [DigestKind::Sha256, DigestKind::Sha1] {
        if view.original || !files.iter().any(|file| file.kind == kind) {
            continue;
        }
        let digest = digest_of(&Content::from_source(source.clone()), kind, &context.job())?;
        let mut alike = files.iter().filter(|file| file.kind == kind && file.digest == digest);
        // Of several copies in the list the one with the file's own name.
        let found = alike.clone().find(|file| own_name.as_ref() == Some(&file.name)).or_else(|| alike.next());
        view.original = found.is_some();
        view.name = found.map(|file| file.name.clone());
        view.digests.push(format!("{} {digest}", kind.name()));
    }
    let base = |name: &str| name.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
    view.same_name = !view.original && files.iter().any(|file| own_name.as_ref() == Some(&base(&file.name)));
    context.clear_progress();
    Ok(view)
}

/// What is not a disc.
fn other(path: &Path, source: Arc<Source>, digest: Option<String>, context: &Context) -> Result<()> {
    let mut first = [0; 4];
    if source.len() >= 4 {
        source.read_exact_at(0, &mut first)?;
    }
    if neat_registry::is_hive(&first) {
        return packages::hive(path, digest.as_deref(), context);
    }
    if is_image_file(&Content::from_source(source.clone())) {
        let image = open_path(path)?;
        // Who has everything read for a digest also wants to know whether it is sound.
        if digest.is_some() {
            image.check_integrity(&context.job())?;
        }
        let view = ImageView::new(&image, path, digest)?;
        return if context.json { context.print_json(&view) } else { context.print(&view.text()) };
    }
    let small = source.len() <= 16 << 20;
    if small
        && neat_registry::RegText::is_one(&Content::from_source(source.clone()).to_vec(16 << 20, "file")?)
    {
        return packages::reg(path, context);
    }
    let text = if small { read_text(path, "file").ok() } else { None };
    match text {
        Some(text) if text.trim_start().starts_with('{') && text.contains(LEDGER_KIND) => ledger(path, &text, context),
        Some(text) if path.file_name().is_some_and(|name| name == INDEX_NAME) => depot(path, &text, context),
        _ if small && path.to_string_lossy().to_lowercase().ends_with(".inf") => packages::inf(path, context),
        Some(text) if path.to_string_lossy().ends_with(".stack.toml") => stack(path, &text, context),
        Some(text) if path.to_string_lossy().ends_with(".answer.toml") => {
            let model = Model::parse(&text).map_err(|error| error.within(path.display()))?;
            answers(path, &check_model(&model, None), context)
        }
        _ if packages::archive(path, context)? => Ok(()),
        _ => match Dialect::of_content(&Content::from_source(source)) {
            Some(dialect) if small => answer(path, dialect, context),
            _ if known_kind(path, context)? => Ok(()),
            _ => Err(Error::Mismatch {
                expected: "an ISO file, a stick, a folder, an image file, a hive, a driver pack, an update, a stack file, a ledger or an answer file".into(),
                found: format!("something else in {}", path.display()),
                hint: "if it should be a media, it is damaged or cut short; compare its size and digest with the vendor's".into(),
            }),
        },
    }
}

/// What only a kind can be said of, and how much is in it; returns whether it was one.
fn known_kind(path: &Path, context: &Context) -> Result<bool> {
    let Some(kind) = Kind::of(path)? else { return Ok(false) };
    let text = || read_text(path, "file");
    let (name, parts): (&str, Vec<(&str, String)>) = match kind {
        Kind::Catalogue => {
            let own = Catalogue::parse(&text()?)?;
            let counts = format!(
                "{}, {}, {}",
                show::count(own.components.len() as u64, "component", "components"),
                show::count(own.settings.len() as u64, "setting", "settings"),
                show::count(own.profiles.len() as u64, "profile", "profiles")
            );
            ("catalogue", vec![("name", own.name), ("describes", counts)])
        }
        Kind::Layout => ("layout", vec![("name", Layout::parse(&text()?)?.name)]),
        Kind::Sites => {
            let own = SiteList::parse(&text()?)?;
            ("site list", vec![("names", show::count(own.sites.len() as u64, "machine", "machines"))])
        }
        Kind::Devices => {
            let own = parse_devices(&text()?)?;
            ("list of devices", vec![("names", show::count(own.len() as u64, "device", "devices"))])
        }
        Kind::UpdateFolder => {
            let files = std::fs::read_dir(path).map_err(Error::io("list", path))?.count();
            ("folder of updates", vec![("holds", show::count(files as u64, "package", "packages"))])
        }
        _ => return Ok(false),
    };
    if context.json {
        let mut view = KindView {
            kind: name.replace(' ', "-"),
            path: path.display().to_string(),
            ..KindView::default()
        };
        for (key, text) in parts {
            let slot = match key {
                "name" => &mut view.name,
                "describes" => &mut view.describes,
                "names" => &mut view.names,
                _ => &mut view.holds,
            };
            *slot = Some(text);
        }
        return context.print_json(&view).map(|()| true);
    }
    let mut sheet = Sheet::default();
    parts.into_iter().for_each(|(key, text)| sheet.row_if(key, &text));
    context.print(&format!("{}{}", heading(path, name), sheet.text())).map(|()| true)
}

fn media(path: &Path, digest: Option<String>, known: Option<KnownView>, context: &Context) -> Result<()> {
    let media = read::open(path)?;
    let mut view = MediaView::new(&media, path, digest);
    if let Some(known) = known {
        view.set_known(known);
    }
    if path.is_file() && media.form == MediaForm::Disc {
        view.set_history(&touchup::list(path)?);
    }
    if context.json {
        context.print_json(&view)
    } else {
        context.print(&view.text(show::media::created(&media)))
    }
}

pub(super) fn heading(path: &Path, kind: &str) -> String {
    show::heading_line(&path.display().to_string(), kind)
}

fn ledger(path: &Path, text: &str, context: &Context) -> Result<()> {
    let ledger = Ledger::parse(text).map_err(|error| error.within(path.display()))?;
    let now: Vec<OutputNow> =
        ledger.outputs.iter().map(|output| output_now(path, output, context)).collect::<Result<_>>()?;
    context.clear_progress();
    if context.json {
        return context.print_json(&LedgerView { ledger, now });
    }
    let mut text = ledger_text(path, &ledger);
    for own in now.iter().filter(|own| own.state != "as built") {
        text.push_str(&show::note(&format!("{} is {}", own.path, own.state)));
    }
    context.print(&text)
}

/// Compares an output with its ledger: a build that was killed while names were given leaves files that do not belong
/// together. It is looked for where it was written, and beside the ledger.
fn output_now(ledger: &Path, output: &LedgerOutput, context: &Context) -> Result<OutputNow> {
    let written = Path::new(&output.path);
    let beside = written.file_name().map(|name| ledger.with_file_name(name));
    let found = std::iter::once(written.to_owned()).chain(beside).find(|path| path.is_file());
    let now = |path: &Path, state| Ok(OutputNow { path: path.display().to_string(), state });
    let Some(found) = found else { return now(written, "not there any more") };
    let content = Content::from_path(&found)?;
    if content.len() != output.size {
        return now(&found, "not what this build wrote: it has another size");
    }
    match &output.sha256 {
        None => now(&found, "as built"),
        Some(sha256) if digest_of(&content, DigestKind::Sha256, &context.job())? == *sha256 => {
            now(&found, "as built")
        }
        Some(_) => now(&found, "not what this build wrote: it has another digest"),
    }
}

/// A ledger for a person.
pub(super) fn ledger_text(path: &Path, ledger: &Ledger) -> String {
    let mut sheet = Sheet::default();
    sheet.row_if("title", &ledger.title);
    for (number, output) in ledger.outputs.iter().enumerate() {
        if number == 0 {
            sheet.row("built", &output.path);
            sheet.row("label", &output.label);
            sheet.row("size", show::size(output.size));
        } else {
            sheet.row(&output.form, format!("{}, {}", output.path, show::size(output.size)));
        }
        sheet.row_if("sha256", output.sha256.as_deref().unwrap_or_default());
    }
    for (number, trial) in ledger.trials.iter().enumerate() {
        let text = format!("{} as a {}: {}", trial.firmware.name(), trial.attached.name(), trial.evidence);
        sheet.row(if number == 0 { "came up" } else { "" }, text);
    }
    if let Some(source) = &ledger.source {
        sheet.row("from", &source.path);
    }
    for (number, step) in ledger.steps.iter().enumerate() {
        sheet.row(if number == 0 { "done" } else { "" }, step);
    }
    for (number, finding) in ledger.findings.iter().enumerate() {
        sheet.row(if number == 0 { "said" } else { "" }, finding);
    }
    let inside = show::service::done(&ledger.items);
    format!("{}{}{inside}", heading(path, "ledger of a build"), sheet.text())
}

fn depot(path: &Path, text: &str, context: &Context) -> Result<()> {
    let index = Index::parse(text).map_err(|error| error.within(path.display()))?;
    if context.json {
        let (path, Index { title, items, .. }) = (path.display().to_string(), index);
        return context.print_json(&DepotView { kind: "depot", path, title, items });
    }
    let all = index.search(&Search::default());
    context.print(&show::depot::search(&path.display().to_string(), &index, &all))
}

fn stack(path: &Path, text: &str, context: &Context) -> Result<()> {
    let stack = StackFile::parse(text).map_err(|error| error.within(path.display()))?;
    let source = stack.source.as_ref().map(|source| source.media.clone());
    let outputs = output_names(&stack.media);
    if context.json {
        return context.print_json(&StackView {
            kind: "stack-file",
            path: path.display().to_string(),
            title: stack.title.clone(),
            source,
            iso: stack.media.iso.clone(),
            stick: stack.media.stick.as_ref().map(|stick| stick.image.clone()),
            outputs: outputs
                .into_iter()
                .map(|(form, path)| OutputView { form, path: path.to_owned() })
                .collect(),
        });
    }
    let mut sheet = Sheet::default();
    sheet.row_if("title", &stack.title);
    sheet.row_if("from", &source.unwrap_or_default());
    for (form, path) in outputs {
        sheet.row(if form == "disc" { "to" } else { form }, path);
    }
    sheet.row("next", format!("neatstack plan {}", show::in_command(path)));
    context.print(&format!("{}{}", heading(path, "stack file"), sheet.text()))
}

fn answer(path: &Path, dialect: Dialect, context: &Context) -> Result<()> {
    let bytes = Content::from_path(path)?.to_vec(AnswerFile::MAX_LEN, "answer file")?;
    let file = AnswerFile::parse(&bytes).map_err(|error| error.within(path.display()))?;
    debug_assert_eq!(file.dialect, dialect);
    answers(path, &check_file(&file, None), context)
}

fn answers(path: &Path, report: &neat_answer::Report, context: &Context) -> Result<()> {
    if context.json {
        return context.print_json(&AnswerView {
            kind: "answer-file",
            path: path.display().to_string(),
            dialect: report.dialect.map_or("model", Dialect::name),
            report: report.clone(),
        });
    }
    context.print(&show::answer::report(&path.display().to_string(), report))
}
