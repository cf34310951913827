//! `look`: what is this?

mod packages;

use super::read_text;
use crate::{
    args::{Digest, LookArgs},
    context::Context,
    show::{self, Sheet, image::ImageView, style},
};
use neat_answer::{AnswerFile, Dialect, Model, check_file, check_model};
use neat_content::{Content, DigestKind, Error, ReadAt, Result, Source, digest_of};
use neat_image::{is_image_file, open_path};
use neat_media::read;
use neat_stack::{LEDGER_KIND, Ledger, StackFile};
use serde_json::json;
use std::path::Path;

pub(crate) fn run(args: &LookArgs, context: &Context) -> Result<()> {
    let path = &args.path;
    if path.is_dir() {
        return if packages::folder(path, context)? { Ok(()) } else { media(path, None, context) };
    }
    let source = Source::open(path)?;
    let is_disc = read::is_disc(&source).map_err(|error| error.within(path.display()))?;
    let digest = match args.digest {
        Some(kind) => {
            let (kind, name) = match kind {
                Digest::Sha1 => (DigestKind::Sha1, "sha1"),
                Digest::Sha256 => (DigestKind::Sha256, "sha256"),
            };
            Some(format!(
                "{name} {}",
                digest_of(&Content::from_source(source.clone()), kind, &context.job())?
            ))
        }
        None => None,
    };
    if is_disc {
        return media(path, digest, context);
    }
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
        _ if small && path.to_string_lossy().to_lowercase().ends_with(".inf") => packages::inf(path, context),
        Some(text) if path.to_string_lossy().ends_with(".stack.toml") => stack(path, &text, context),
        Some(text) if path.to_string_lossy().ends_with(".answer.toml") => {
            let model = Model::parse(&text).map_err(|error| error.within(path.display()))?;
            answers(path, &check_model(&model, None), context)
        }
        _ if packages::archive(path, context)? => Ok(()),
        _ => match Dialect::of_content(&Content::from_source(source)) {
            Some(dialect) if small => answer(path, dialect, context),
            _ => Err(Error::Mismatch {
                expected: "an ISO file, a folder, an image file, a hive, a driver pack, an update, a stack file, a ledger or an answer file".into(),
                found: format!("something else in {}", path.display()),
                hint: "if it should be a media, it is damaged or cut short; compare its size and digest with the vendor's".into(),
            }),
        },
    }
}

fn media(path: &Path, digest: Option<String>, context: &Context) -> Result<()> {
    let media = read::open(path)?;
    let view = show::media::MediaView::new(&media, path, digest);
    if context.json {
        context.print_json(&view)
    } else {
        context.print(&view.text(show::media::created(&media)))
    }
}

pub(super) fn heading(path: &Path, kind: &str) -> String {
    format!("{}{}{:#}  {kind}\n", style::HEADING, path.display(), style::HEADING)
}

fn ledger(path: &Path, text: &str, context: &Context) -> Result<()> {
    let ledger = Ledger::parse(text).map_err(|error| error.within(path.display()))?;
    if context.json { context.print_json(&ledger) } else { context.print(&ledger_text(path, &ledger)) }
}

/// A ledger for a person.
pub(super) fn ledger_text(path: &Path, ledger: &Ledger) -> String {
    let mut sheet = Sheet::default();
    sheet.row_if("title", &ledger.title);
    sheet.row("built", &ledger.output.path);
    sheet.row("label", &ledger.output.label);
    sheet.row("size", show::size(ledger.output.size));
    sheet.row_if("sha256", ledger.output.sha256.as_deref().unwrap_or_default());
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

fn stack(path: &Path, text: &str, context: &Context) -> Result<()> {
    let stack = StackFile::parse(text).map_err(|error| error.within(path.display()))?;
    let source = stack.source.as_ref().map(|source| source.media.clone());
    if context.json {
        return context.print_json(&json!({ "kind": "stack-file", "path": path.display().to_string(), "title": stack.title, "source": source, "iso": stack.media.iso }));
    }
    let mut sheet = Sheet::default();
    sheet.row_if("title", &stack.title);
    sheet.row_if("from", &source.unwrap_or_default());
    sheet.row("to", &stack.media.iso);
    sheet.row("next", format!("neatstack plan {}", path.display()));
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
        return context.print_json(&json!({
            "kind": "answer-file",
            "path": path.display().to_string(),
            "dialect": report.dialect.map_or("model", Dialect::name),
            "report": report,
        }));
    }
    context.print(&show::answer::report(&path.display().to_string(), report))
}
