//! `check`: is all of it sound?

use super::{images, read_text};
use crate::{
    args::CheckAllArgs,
    context::Context,
    show::check::{CheckView, DamageView, ImageChecked, LedgerView},
};
use neat_content::{Content, DigestKind, Error, NodeKind, Result, damage_apart, digest_of};
use neat_image::{ImageFile, is_image_file};
use neat_media::check;
use neat_stack::{Ledger, open_image};
use std::{path::Path, process::ExitCode};

pub(crate) fn run(args: &CheckAllArgs, context: &Context) -> Result<ExitCode> {
    let path = &args.path;
    let mut view = CheckView::new(path);
    if images::is_image(path)? {
        check_image(&images::open(path)?, &path.display().to_string(), &mut view, context)?;
    } else {
        let outcome = check::check(path, &context.job())
            .map_err(|error| super::kind::explain(error, path, "a media"))?;
        (view.files, view.bytes) = (outcome.files, outcome.bytes);
        view.damage.extend(outcome.damage.into_iter().map(DamageView::plain));
        view.notes.clone_from(&outcome.media.warnings);
        let tree = &outcome.media.tree;
        for step in tree.walk() {
            let NodeKind::File(content) = &tree.node(step.id).kind else { continue };
            if !is_first_part(content) {
                continue;
            }
            match damage_apart(open_image(tree, &step.path))? {
                Ok(image) => check_image(&image, &step.path, &mut view, context)?,
                Err(error) => view.damage.push(DamageView::plain(format!("{}: {error}", step.path))),
            }
        }
        if let Some(ledger) = &args.ledger {
            let ledger = read_ledger(ledger)?;
            for file in &ledger.files {
                let found = tree.file(&file.path);
                let digest = found.map(|content| digest_of(content, DigestKind::Sha256, &context.job()));
                match damage_apart(digest.transpose())? {
                    Ok(Some(digest)) if digest == file.sha256 => {}
                    Ok(Some(_)) => view.damage.push(DamageView::plain(format!(
                        "{} is not the file that the build put there",
                        file.path
                    ))),
                    Ok(None) => view.damage.push(DamageView::plain(format!("{} is gone", file.path))),
                    Err(error) => view.damage.push(DamageView::plain(format!("{}: {error}", file.path))),
                }
            }
        }
    }
    if let Some(ledger) = &args.ledger {
        view.ledger = Some(against(ledger, path, context)?);
    }
    context.clear_progress();
    let sound = view.is_sound();
    if context.json {
        context.print_json(&view)?;
    } else {
        context.print(&view.text())?;
    }
    Ok(if sound {
        ExitCode::SUCCESS
    } else {
        ExitCode::from(crate::exit::code(neat_content::Class::Corrupt))
    })
}

/// Whether a file is an image file, and the first of its parts.
fn is_first_part(content: &Content) -> bool {
    is_image_file(content) && neat_image::Header::read(content).map_or(true, |header| header.part == 1)
}

fn check_image(image: &ImageFile, name: &str, view: &mut CheckView, context: &Context) -> Result<()> {
    let outcome = neat_image::check(image, context.threads, &context.job())?;
    view.images.push(ImageChecked {
        path: name.to_owned(),
        editions: image.editions().len(),
        stored_contents: outcome.blobs,
        bytes: outcome.bytes,
    });
    let damage = outcome.damage.into_iter().map(|damage| DamageView::in_image(name, damage));
    view.damage.extend(damage);
    view.notes.extend(image.warnings().iter().map(|warning| format!("{name}: {warning}")));
    Ok(())
}

fn read_ledger(path: &Path) -> Result<Ledger> {
    Ledger::parse(&read_text(path, "ledger")?).map_err(|error| error.within(path.display()))
}

/// Whether the file is what the ledger's build wrote: the output that has its size and, where there is one, its digest.
fn against(ledger: &Path, path: &Path, context: &Context) -> Result<LedgerView> {
    let parsed = read_ledger(ledger)?;
    let content = Content::from_path(path).map_err(|_| {
        Error::request(
            format!("{} is no file, and a ledger speaks of files", path.display()),
            "name the ISO file or stick image, or leave --ledger out",
        )
    })?;
    let digest = digest_of(&content, DigestKind::Sha256, &context.job())?;
    let outputs = || parsed.outputs.iter();
    let by_digest = outputs().find(|output| output.sha256.as_deref() == Some(digest.as_str()));
    let by_size = outputs().find(|output| output.sha256.is_none() && output.size == content.len());
    Ok(LedgerView {
        path: ledger.display().to_string(),
        same: by_digest.is_some() || by_size.is_some(),
        has_digest: outputs().any(|output| output.sha256.is_some()),
        sha256: digest,
    })
}
