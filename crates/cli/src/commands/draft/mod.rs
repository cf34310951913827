//! `draft`: a commented stack file.

mod ask;
mod paths;

use super::{answer, pick, refuse_existing};
use crate::{
    args::{DraftArgs, DraftForm},
    config::Config,
    context::Context,
    show,
};
use ask::Answered;
use neat_content::{Error, IfThere, PendingFile, Result};
use neat_media::Media;
use neat_stack::{DraftOutput, DraftWishes, EditionSummary, install_image_path, open_image};
use std::{
    io::IsTerminal,
    path::{Component, Path, PathBuf},
};

pub(crate) fn run(args: &DraftArgs, context: &Context) -> Result<()> {
    let media = super::kind::media(&args.media)?;
    let names = edition_names(&media)?;
    let mut known = Answered::of(args);
    known.config = Config::read()?;
    for edition in &mut known.editions {
        *edition = find(&names, edition, &args.media)?;
    }
    let asks = !args.plain
        && !context.json
        && !context.quiet
        && std::io::stdin().is_terminal()
        && std::io::stdout().is_terminal();
    if asks {
        ask::ask(&mut known, args, &names)?;
    }
    for path in known.paths() {
        if !path.exists() {
            return Err(Error::request(format!("{} is not there", path.display()), "check the name"));
        }
    }
    if let Some(list) = &known.sites {
        answer::site_list(list)?;
    }
    let Some(output) = &known.output else {
        let text = neat_stack::draft(&media, &args.media.to_string_lossy(), &wishes(&known, None)?);
        if context.json {
            return context.print_json(&show::build::DraftView { stack: text, path: None });
        }
        return context.print_document(&text);
    };
    refuse_existing(output, args.replace)?;
    if let Some(text) = &known.new_answers {
        let path = answers_beside(output);
        refuse_existing(&path, args.replace)?;
        write(&path, text, args.replace)?;
        known.answer = Some(path);
    }
    let text = text(&media, &args.media, Some(output), &known)?;
    write(output, &text, args.replace)?;
    let path = output.display().to_string();
    if context.json {
        return context.print_json(&show::build::DraftView { stack: text, path: Some(path) });
    }
    let next = show::in_command(output);
    context.print(&show::heading_line(&path, &format!("look it over, then `neatstack plan {next}`")))?;
    if known.picks {
        return pick::on(output, context);
    }
    Ok(())
}

/// A draft for a media at `path` in which nothing is filled in, as it is right in the file `output`.
pub(super) fn plain(media: &Media, path: &Path, output: Option<&Path>) -> Result<String> {
    text(media, path, output, &Answered::default())
}

/// The same with what is known; without a file, as it is right in this folder.
fn text(media: &Media, path: &Path, output: Option<&Path>, known: &Answered) -> Result<String> {
    let folder = output.map(folder_of).transpose()?;
    let way = match &folder {
        Some(folder) => relative(&whole(path)?, folder),
        None => path.to_owned(),
    };
    Ok(neat_stack::draft(media, &way.to_string_lossy(), &wishes(known, folder.as_deref())?))
}

fn write(path: &Path, text: &str, replace: bool) -> Result<()> {
    let (pending, mut file) = PendingFile::create_output(path, IfThere::replace(replace), None)?;
    file.write_bytes(text.as_bytes())?;
    pending.commit(file.finish()?.0)
}

/// Where answers lie that are written with a stack file.
fn answers_beside(output: &Path) -> PathBuf {
    let name = output.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let stem = name.strip_suffix(".toml").unwrap_or(&name);
    let stem = stem.strip_suffix(".stack").unwrap_or(stem);
    output.with_file_name(format!("{stem}.answer.toml"))
}

fn whole(path: &Path) -> Result<PathBuf> {
    std::fs::canonicalize(path).map_err(Error::io("find", path))
}

fn folder_of(output: &Path) -> Result<PathBuf> {
    whole(output.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new(".")))
}

/// What is known, as it stands in a file in `folder`.
fn wishes(known: &Answered, folder: Option<&Path>) -> Result<DraftWishes> {
    let way = |path: &PathBuf| -> Result<String> {
        let way = match folder {
            Some(folder) => relative(&whole(path)?, folder),
            None => path.clone(),
        };
        Ok(way.to_string_lossy().into_owned())
    };
    let ways = |paths: &[PathBuf]| paths.iter().map(way).collect::<Result<Vec<String>>>();
    Ok(DraftWishes {
        editions: known.editions.clone(),
        updates: ways(&known.updates)?,
        drivers: ways(&known.drivers)?,
        drivers_for_setup: known.drivers_for_setup,
        devices: known.devices.as_ref().map(way).transpose()?,
        catalogues: ways(&known.catalogues)?,
        answer: known.answer.as_ref().map(way).transpose()?,
        sites: known.sites.as_ref().map(way).transpose()?,
        publisher: known.config.publisher.clone(),
        folder: known.config.output_folder.clone(),
        output: match known.form {
            None | Some(DraftForm::Disc) => DraftOutput::Disc,
            Some(DraftForm::Stick) => DraftOutput::Stick,
            Some(DraftForm::Both) => DraftOutput::Both,
        },
    })
}

/// Names of the editions with their facts; none where a media has none.
fn edition_names(media: &Media) -> Result<Vec<EditionSummary>> {
    let Some(path) = install_image_path(&media.tree) else { return Ok(Vec::new()) };
    let image = open_image(&media.tree, &path)?;
    let each = image.editions().iter().enumerate();
    Ok(each.map(|(n, info)| EditionSummary::new(n + 1, info, None)).collect())
}

/// The name of an edition that is given by name or number.
fn find(editions: &[EditionSummary], wanted: &str, media: &Path) -> Result<String> {
    let same = |own: &&EditionSummary| {
        own.number.to_string() == wanted.trim() || own.name.to_lowercase() == wanted.trim().to_lowercase()
    };
    editions.iter().find(same).map(|own| own.name.clone()).ok_or_else(|| {
        let names = || editions.iter().map(|own| own.name.as_str());
        let hint = neat_content::nearest(wanted, names()).map_or_else(
            || format!("it has {}", names().collect::<Vec<_>>().join(", ")),
            |near| format!("did you mean {near:?}?"),
        );
        Error::request(format!("{} has no edition {wanted:?}", media.display()), hint)
    })
}

/// The way from a folder to a file, both from the root.
fn relative(file: &Path, folder: &Path) -> PathBuf {
    let (file, folder): (Vec<Component<'_>>, Vec<Component<'_>>) =
        (file.components().collect(), folder.components().collect());
    let same = file.iter().zip(&folder).take_while(|(a, b)| a == b).count();
    let up = folder[same..].iter().map(|_| Component::ParentDir);
    up.chain(file[same..].iter().copied()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ways_lead_from_folder_to_file() {
        for (file, folder, way) in [
            ("/a/b/m.iso", "/a/b", "m.iso"),
            ("/a/b/m.iso", "/a/c/d", "../../b/m.iso"),
            ("/m.iso", "/a", "../m.iso"),
            ("/a/m.iso", "/", "a/m.iso"),
        ] {
            assert_eq!(relative(Path::new(file), Path::new(folder)), Path::new(way));
        }
        for (stack, answers) in
            [("a/b.stack.toml", "a/b.answer.toml"), ("b.toml", "b.answer.toml"), ("b", "b.answer.toml")]
        {
            assert_eq!(answers_beside(Path::new(stack)), Path::new(answers));
        }
    }
}
