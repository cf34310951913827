//! `source.only` and `[environment]`: a media of the setup environment alone, and what the environment starts.

use super::{Editor, leave_out::is_read_to_start};
use crate::{
    editions::setup_image_path,
    recipe::{EnvironmentSection, NameOrNumber, OnlyValue, StackFile, StartValue},
};
use neat_content::{Content, Error, Meta, Result, counted, parse_size};
use neat_image::ImageDraft;
use neat_media::{BootCatalog, BootImage};
use neat_service::{EnvironmentWishes, SCRATCH_SIZES};

/// Where media keep the image file of the setup environment.
const IMAGE: &str = "sources/boot.wim";

/// Whether only the setup environment is taken.
pub(crate) fn is_alone(stack: &StackFile) -> bool {
    stack.source.as_ref().is_some_and(|source| source.only == Some(OnlyValue::SetupEnvironment))
}

/// Takes everything off the media that the setup environment does not start from.
pub(crate) fn keep_alone(stack: &StackFile, boot: Option<&BootCatalog>, editor: &mut Editor) -> Result<()> {
    if !is_alone(stack) {
        return Ok(());
    }
    refuse_others(stack)?;
    if let Some(from) = stack.source.as_ref().and_then(|source| source.image_from.as_deref()) {
        let path = setup_image_path(&editor.tree).unwrap_or_else(|| IMAGE.to_owned());
        let content = Content::from_path(&editor.local(from))?;
        if !neat_image::is_image_file(&content) {
            return Err(Error::request(
                format!("`source.image_from`: {from} is no image file"),
                "with `only = \"setup-environment\"` it names the image file of an environment",
            ));
        }
        let meta = Meta::at(editor.newest());
        let bytes = content.len() as i64;
        editor.tree.put_file(&path, content, editor.meta(meta))?;
        editor.step(
            "take",
            format!("the environment in {from}"),
            "it starts from this media's boot files",
            bytes,
        );
    }
    let Some(image) = setup_image_path(&editor.tree) else {
        return Err(Error::request(
            format!("the media has no setup environment ({IMAGE})"),
            "name one: [source] image_from = \"environment.wim\"",
        ));
    };
    let starts = |path: &str| {
        boot.iter().flat_map(|catalog| &catalog.entries).any(|entry| match &entry.image {
            BootImage::File(own) => own.eq_ignore_ascii_case(path),
            BootImage::Hidden(_) => false,
        })
    };
    let (mut files, mut bytes, mut kept) = (0_u64, 0_u64, 0_u64);
    let all: Vec<(neat_content::NodeId, String)> =
        editor.tree.walk().map(|step| (step.id, step.path)).collect();
    for (id, path) in &all {
        let node = editor.tree.node(*id);
        if node.folder().is_some() {
            continue;
        }
        if is_read_to_start(path) || *path == image || starts(path) {
            kept += 1;
        } else {
            files += 1;
            bytes += node.content().map_or(0, Content::len);
            editor.tree.remove(*id);
        }
    }
    // Folders in which nothing is left, the innermost first.
    for (id, _) in all.iter().rev() {
        if editor.tree.node(*id).folder().is_some_and(neat_content::Folder::is_empty) {
            editor.tree.remove(*id);
        }
    }
    editor.step(
        "keep",
        format!("the setup environment alone: {}", counted(kept, "file", "files")),
        &format!(
            "{} of the media stay out: the systems, and what installs them",
            counted(files, "file", "files")
        ),
        -i64::try_from(bytes).unwrap_or(i64::MAX),
    );
    Ok(())
}

/// What changes or chooses systems has nothing to change here.
fn refuse_others(stack: &StackFile) -> Result<()> {
    let source = stack.source.as_ref();
    let asked = [
        ("source.editions", source.is_some_and(|source| !source.editions.is_empty())),
        ("[[update]]", !stack.update.is_empty()),
        ("[remove]", stack.remove.is_some()),
        ("[settings]", stack.settings.is_some()),
        ("[setup]", stack.setup.is_some()),
        ("[[app]]", !stack.app.is_empty()),
        ("[answer]", stack.answer.is_some()),
    ];
    match asked.iter().find(|(_, is_asked)| *is_asked) {
        None => Ok(()),
        Some((what, _)) => Err(Error::request(
            format!("{what} is about systems, and `only = \"setup-environment\"` takes none"),
            "take one of the two out; `setup:` in [[place]] and `into = [\"setup\"]` in [[driver]] change the environment",
        )),
    }
}

/// `[environment]` with what it names.
pub(crate) fn wishes(section: &EnvironmentSection, editor: &Editor) -> Result<EnvironmentWishes> {
    let start = match &section.start {
        None => None,
        Some(StartValue::Word(word)) if word == "prompt" => Some(Vec::new()),
        Some(StartValue::Word(word)) => {
            return Err(Error::request(
                format!("`environment.start`: {word:?} is not known"),
                "write \"prompt\", or a list of command lines: start = ['X:\\tools\\menu.cmd']",
            ));
        }
        Some(StartValue::Lines(lines)) => Some(lines.clone()),
    };
    let scratch = section.scratch.as_deref().map(scratch).transpose()?;
    for keyboard in &section.keyboards {
        if keyboard.len() != 8 || !keyboard.bytes().all(|byte| byte.is_ascii_hexdigit()) {
            return Err(Error::request(
                format!("`environment.keyboards`: {keyboard:?} is no keyboard"),
                "write its number with eight digits, such as 00000406",
            ));
        }
    }
    let wallpaper = section.wallpaper.as_deref().map(|path| Content::from_path(&editor.local(path)));
    Ok(EnvironmentWishes {
        start,
        scratch,
        keyboards: section.keyboards.clone(),
        language: section.language.clone(),
        wallpaper: wallpaper.transpose()?,
        replace: section.replace,
    })
}

fn scratch(text: &str) -> Result<u32> {
    let bytes = parse_size(text).map_err(|error| error.within("`environment.scratch`"))?;
    SCRATCH_SIZES.into_iter().find(|mib| u64::from(*mib) << 20 == bytes).ok_or_else(|| {
        Error::request(
            format!("`environment.scratch`: such environments know no size of {text}"),
            "write 32MiB, 64MiB, 128MiB, 256MiB or 512MiB",
        )
    })
}

/// Keeps the edition that is meant, when only the environment is taken.
pub(crate) fn select(stack: &StackFile, draft: &mut ImageDraft) -> Result<()> {
    let wanted = stack.environment.as_ref().and_then(|section| section.edition.clone());
    if !is_alone(stack) {
        return match wanted {
            None => Ok(()),
            Some(_) => Err(Error::request(
                "`environment.edition` is there without `only = \"setup-environment\"`",
                "take it out: a media with systems needs all that its setup environment has",
            )),
        };
    }
    let number = match wanted.map(NameOrNumber::text) {
        Some(wanted) => draft.find_edition(&wanted)?,
        None => 1,
    };
    if draft.editions().len() > 1 {
        draft.select(&[number])?;
    }
    draft.set_boot(Some(1))
}
