//! `look`: what is this?

mod boot;
mod known;
mod ledger;
mod machine;
mod ours;
mod packages;

pub(super) use ledger::ledger_text;

use super::read_text;
use crate::{
    args::{Digest, LookArgs},
    context::Context,
    show::{
        self,
        image::ImageView,
        media::{KnownView, MediaView},
    },
};
use neat_answer::{Dialect, Model, check_model};
use neat_content::{Content, DigestKind, Error, ReadAt, Result, Source, digest_of};
use neat_depot::INDEX_NAME;
use neat_image::{is_image_file, open_path};
use neat_media::{MediaForm, read, touchup};
use neat_stack::LEDGER_KIND;
use std::{path::Path, process::ExitCode, sync::Arc};

pub(crate) fn run(args: &LookArgs, context: &Context) -> Result<ExitCode> {
    let path = &args.path;
    let not_a_disc = || {
        let message = format!("{} is not an ISO file, and --known compares those", path.display());
        Error::request(message, "leave --known out")
    };
    if args.boot {
        return boot::boot(path, args.revoked.as_deref(), context);
    }
    if path.is_dir() {
        if args.known.is_some() {
            return Err(not_a_disc());
        }
        if !packages::folder(path, context)? && !ours::known_kind(path, context)? {
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
        let known = args.known.as_ref().map(|list| known::known(list, path, &source, context)).transpose()?;
        let original = known.as_ref().is_none_or(|known| known.original);
        media(path, digest, known, context)?;
        return Ok(if original { ExitCode::SUCCESS } else { ExitCode::FAILURE });
    }
    if neat_machine::MachineDisk::is_at(path)? {
        machine::look(path, digest, context)?;
        return Ok(ExitCode::SUCCESS);
    }
    if read::is_stick(&source).map_err(|error| error.within(path.display()))? {
        media(path, digest, None, context)?;
        return Ok(ExitCode::SUCCESS);
    }
    other(path, source, digest, context)?;
    Ok(ExitCode::SUCCESS)
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
        if digest.is_none() && packages::image(path, &Content::from_source(source), context)? {
            return Ok(());
        }
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
        Some(text) if text.trim_start().starts_with('{') && text.contains(LEDGER_KIND) => ledger::ledger(path, &text, context),
        Some(text) if path.file_name().is_some_and(|name| name == INDEX_NAME) => ours::depot(path, &text, context),
        _ if small && path.to_string_lossy().to_lowercase().ends_with(".inf") => packages::inf(path, context),
        Some(text) if path.to_string_lossy().ends_with(".stack.toml") => ours::stack(path, &text, context),
        Some(text) if path.to_string_lossy().ends_with(".answer.toml") => {
            let model = Model::parse(&text).map_err(|error| error.within(path.display()))?;
            ours::answers(path, &check_model(&model, None), context)
        }
        _ if packages::archive(path, context)? => Ok(()),
        _ => match Dialect::of_content(&Content::from_source(source)) {
            Some(dialect) if small => ours::answer(path, dialect, context),
            _ if ours::known_kind(path, context)? => Ok(()),
            _ => Err(Error::Mismatch {
                expected: "an ISO file, a stick, a machine's disk, a folder, an image file, a hive, a driver pack, an update, a stack file, a ledger or an answer file".into(),
                found: format!("something else in {}", path.display()),
                hint: "if it should be a media, it is damaged or cut short; compare its size and digest with the vendor's".into(),
            }),
        },
    }
}

fn media(path: &Path, digest: Option<String>, known: Option<KnownView>, context: &Context) -> Result<()> {
    let media = read::open(path)?;
    let mut view = MediaView::new(&media, path, digest);
    view.set_older(neat_older::OlderSetup::find(&media.tree)?);
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
