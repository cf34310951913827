//! `answer write`: from the neutral form to a dialect, for one machine or a list of them.

use super::super::{read_text, refuse_existing};
use super::{Opened, ask::ask_secret, bytes_of, folder_of, open, secrets, write_file};
use crate::{args::WriteArgs, context::Context, show};
use neat_answer::{
    Dialect, Finding, Gravity, Model, SideFile, SiteList, model::Origin, read_file, write_model,
};
use neat_content::{Content, DigestKind, Error, IfThere, Result, digest_of};
use std::path::{Path, PathBuf};

/// A model of whatever lies at a path, with the file as its origin.
pub(super) fn model_of(path: &Path, context: &Context) -> Result<Model> {
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
    if !written.findings.is_empty() {
        context.say(&show::answer::findings("Mind this", &written.findings));
    }
    Ok(())
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
    let list =
        SiteList::parse(&read_text(sites, "site list")?).map_err(|error| error.within(sites.display()))?;
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
    let mut model = model.clone();
    let mut secrets = secrets(&args.model, &ask_secret);
    let fetched = neat_answer::fetch(&mut model, &mut secrets)?;
    let mut said: Vec<Finding> = Vec::new();
    for site in &list.sites {
        context.job().check()?;
        let filled = site.fill_model(&model)?;
        let written = neat_answer::write_with(&filled, dialect, &fetched)?;
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
        said.extend(
            written.findings.into_iter().filter(|finding| !said.contains(finding)).collect::<Vec<_>>(),
        );
    }
    let count = show::count(list.sites.len() as u64, "answer file", "answer files");
    if !said.is_empty() {
        context.say(&show::answer::findings("Mind this", &said));
    }
    context.print_line(&format!("{count} in {}", folder.display()))
}
