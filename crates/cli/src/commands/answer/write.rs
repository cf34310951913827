//! `answer write`: from the neutral form to a dialect, for one machine or a list of them.

use super::super::refuse_existing;
use super::{Opened, ask::ask_secret, bytes_of, folder_of, open, secrets, write_file};
use crate::{args::WriteArgs, context::Context, show};
use neat_answer::{
    Dialect, Finding, Gravity, Model, SideFile, Topic, WrittenFile, check_file, model::Origin, read_file,
    write_model,
};
use neat_content::{Content, DigestKind, Error, IfThere, Result, digest_of};
use std::path::{Path, PathBuf};

/// A model of whatever lies at a path, with the file as its origin.
pub(in crate::commands) fn model_of(path: &Path, context: &Context) -> Result<Model> {
    match open(path)? {
        Opened::Model(model) => Ok(*model),
        Opened::File(file) => {
            let mut model = read_file(&file).map_err(|error| error.within(path.display()))?.model;
            let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            let sha256 =
                digest_of(&Content::from_bytes(bytes_of(path)?), DigestKind::Sha256, &context.job())?;
            model.origin = Some(Origin { dialect: file.dialect, file: name, sha256 });
            Ok(model)
        }
    }
}

pub(super) fn write(args: &WriteArgs, context: &Context) -> Result<()> {
    let dialect = args.dialect.0;
    let model = model_of(&args.model, context)?;
    if let Some(sites) = &args.sites {
        return write_sites(args, sites, &model, dialect, context);
    }
    let written = write_model(&model, dialect, &mut secrets(&args.model, &ask_secret))?;
    let accepted = [model.accept, args.accept.topics()].concat();
    let findings = found(&written)?;
    refuse(&findings, &accepted, context)?;
    match &args.output {
        None => context.print_document(&written.text)?,
        Some(path) => {
            refuse_existing(path, args.replace)?;
            let beside: Vec<PathBuf> =
                written.files.iter().map(|file| folder_of(path).join(&file.path)).collect();
            beside.iter().try_for_each(|path| refuse_existing(path, args.replace))?;
            let there = IfThere::replace(args.replace);
            write_file(path, &written.bytes, there, true)?;
            write_beside(&written.files, &folder_of(path), there)?;
            context.say_line(&format!("wrote {}", path.display()));
            for path in beside {
                context.say_line(&format!("wrote {}, which belongs on the media beside it", path.display()));
            }
        }
    }
    if !findings.is_empty() {
        context.say(&show::answer::findings("Mind this", &findings));
    }
    Ok(())
}

/// What there is to say of answers that were written, as `answer check` says it; lines are of a file that nobody saw.
fn found(written: &WrittenFile) -> Result<Vec<Finding>> {
    let mut findings = check_file(&written.file()?, None).findings;
    findings
        .extend(written.findings.iter().filter(|own| !findings.contains(own)).cloned().collect::<Vec<_>>());
    findings.iter_mut().for_each(|own| own.line = None);
    findings.retain(|own| own.topic != Topic::Kept);
    findings.sort_by_key(|own| own.gravity);
    Ok(findings)
}

/// Refuses to write what would not do what was meant.
fn refuse(findings: &[Finding], accepted: &[Topic], context: &Context) -> Result<()> {
    let mut stops = findings.iter().filter(|own| own.stops(accepted));
    let Some(first) = stops.next() else { return Ok(()) };
    if stops.next().is_some() {
        context.say(&show::answer::findings("Mind this", findings));
    }
    let hint = first.topic.or_accept(&first.hint, ("--accept ", ""));
    Err(Error::refused(format!("{}: {}", first.field, first.message), hint))
}

pub(super) fn write_beside(files: &[SideFile], folder: &Path, there: IfThere) -> Result<()> {
    files.iter().try_for_each(|file| write_file(&folder.join(&file.path), &file.bytes, there, true))
}

pub(super) fn write_sites(
    args: &WriteArgs,
    sites: &Path,
    model: &Model,
    dialect: Dialect,
    context: &Context,
) -> Result<()> {
    let Some(folder) = &args.output else { return Ok(()) };
    let list = super::site_list(sites)?;
    let findings = list.check(Some(model), Some(dialect));
    if let Some(finding) = findings.iter().find(|own| own.gravity == Gravity::Problem) {
        return Err(Error::request(
            format!("{}: {}", sites.display(), finding.message),
            finding.hint.clone(),
        ));
    }
    let ending = Path::new(dialect.place())
        .extension()
        .map(|own| format!(".{}", own.to_string_lossy()))
        .unwrap_or_default();
    let accepted = [model.accept.clone(), args.accept.topics()].concat();
    let mut model = model.clone();
    let mut secrets = secrets(&args.model, &ask_secret);
    let fetched = neat_answer::fetch(&mut model, &mut secrets)?;
    let mut said: Vec<Finding> = Vec::new();
    for site in &list.sites {
        context.job().check()?;
        let filled = site.fill_model(&model)?;
        let written = neat_answer::write_with(&filled, dialect, &fetched)?;
        let findings = found(&written)?;
        let place = |error: Error| error.within(format!("row {}, {}", site.row, site.name));
        refuse(&findings, &accepted, context).map_err(place)?;
        let own = folder.join(&site.name);
        let path = if written.files.is_empty() {
            folder.join(format!("{}{ending}", site.name))
        } else {
            own.join(dialect.place())
        };
        refuse_existing(&path, args.replace)?;
        let there = IfThere::replace(args.replace);
        write_file(&path, &written.bytes, there, true)?;
        write_beside(&written.files, &own, there)?;
        said.extend(findings.into_iter().filter(|finding| !said.contains(finding)).collect::<Vec<_>>());
    }
    let count = show::count(list.sites.len() as u64, "answer file", "answer files");
    if !said.is_empty() {
        context.say(&show::answer::findings("Mind this", &said));
    }
    context.print_line(&format!("{count} in {}", folder.display()))
}
