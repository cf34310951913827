//! Vendors' update packages: staged on the media, and named in the answer file so that setup installs them.

use super::{EditionWork, inputs::update_paths};
use crate::{change::Editor, recipe::StackFile, report::Weight};
use neat_answer::{AnswerFile, answer_files, servicing};
use neat_content::{Content, Job, ReadAt, Result};
use neat_package::{Architecture, VendorPackage};
use neat_service::Item;
use std::path::Path;

/// Folder on the media for packages that setup installs.
const FOLDER: &str = "updates";

/// Whether a file is of a kind that vendors' packages have, by its first bytes: a cabinet or an image file.
pub(super) fn is_vendors(path: &Path) -> Result<bool> {
    if path.is_dir() {
        return Ok(false);
    }
    let content = Content::from_path(path)?;
    let mut first = [0; 4];
    if content.len() >= 4 {
        content.read_exact_at(0, &mut first)?;
    }
    Ok(first == *b"MSCF" || neat_image::is_image_file(&content))
}

/// Stages the vendors' packages of the stack file and names them in the answer file.
pub(crate) fn stage(
    stack: &StackFile,
    editor: &mut Editor,
    architectures: &[Architecture],
    job: &Job<'_>,
) -> Result<Option<EditionWork>> {
    let mut items = Vec::new();
    let mut named = Vec::new();
    for section in &stack.update {
        for (path, name) in update_paths(&editor.local(&section.from), &section.from)? {
            job.check()?;
            if !is_vendors(&path)? {
                continue;
            }
            let found = VendorPackage::of_content(&Content::from_path(&path)?)
                .map_err(|error| error.within(&name))?;
            let Some((package, cabinet)) = found else {
                let why = "it is a cabinet or an image file without a package manifest";
                items.push(Item { optional: section.optional, ..Item::refused("update", &name, why) });
                continue;
            };
            let own = Architecture::of_word(&package.architecture);
            if let Some(own) = own.filter(|own| !architectures.is_empty() && !architectures.contains(own)) {
                let list: Vec<&str> = architectures.iter().map(|own| own.name()).collect();
                let why = format!("it is for {}, and the editions are {}", own.name(), list.join(", "));
                // In a folder of packages some are for other systems.
                items.push(if name == section.from {
                    Item { optional: section.optional, ..Item::refused("update", &name, why) }
                } else {
                    Item::skipped("update", &name, why)
                });
                continue;
            }
            if package.is_image {
                let why = format!(
                    "{} {} is an image file, which the answer file's servicing section does not take; name it in [[app]], so \
                     that the installed system's own handler takes it",
                    package.name, package.version
                );
                items.push(Item { optional: section.optional, ..Item::refused("update", &name, why) });
                continue;
            }
            let file = format!("{FOLDER}/{}.cab", package.name);
            let len = cabinet.len() as i64;
            editor.put_made(&file, cabinet, true, "setup installs it: the answer file names it")?;
            named.push(element(&package, &file));
            let detail = format!(
                "{} {}: staged on the media, installed by setup through the answer file",
                package.name, package.version
            );
            items.push(Item::applied("update", &name, detail, len));
        }
    }
    if items.is_empty() {
        return Ok(None);
    }
    if !named.is_empty() {
        name_in_answers(editor, &named)?;
    }
    let work = EditionWork {
        edition: "the media".into(),
        setup: false,
        items,
        components: std::collections::BTreeMap::new(),
    };
    super::tell_refusals(std::slice::from_ref(&work), editor);
    Ok(Some(work))
}

/// The package as the answer file names it.
fn element(package: &VendorPackage, file: &str) -> servicing::Package {
    servicing::Package {
        identity: [
            ("name", package.name.clone()),
            ("version", package.version.clone()),
            ("processorArchitecture", package.architecture.clone()),
            ("publicKeyToken", package.public_key_token.clone()),
            ("language", package.language.clone()),
        ],
        file: file.to_owned(),
    }
}

/// Adds packages to the servicing section of the answer file; makes one if the media has none.
fn name_in_answers(editor: &mut Editor, packages: &[servicing::Package]) -> Result<()> {
    let found = answer_files(&editor.tree).into_iter().find(|(_, dialect)| *dialect == servicing::DIALECT);
    let path = found.map_or_else(|| servicing::DIALECT.place().to_owned(), |(path, _)| path);
    let before = match editor.tree.file(&path) {
        Some(content) => Some(AnswerFile::parse(&content.to_vec(AnswerFile::MAX_LEN, "answer file")?)?),
        None => None,
    };
    let changed = servicing::with_packages(before.as_ref().map(|file| file.text.as_str()), packages);
    let text = match changed {
        Ok(text) => text,
        Err(error) => {
            editor.find(
                Weight::Refused,
                format!("the packages cannot be named in media:/{path}: {error}"),
                "correct the answer file",
            );
            return Ok(());
        }
    };
    if !servicing::uses_configuration_set(&text) {
        editor.find(
            Weight::Note,
            format!("media:/{path} does not say that it uses a configuration set, and the packages are named from its root"),
            "add <UseConfigurationSet>true</UseConfigurationSet> to the part that sets setup up",
        );
    }
    let bytes = before.map_or_else(|| text.clone().into_bytes(), |file| file.to_bytes(&text));
    editor.put_made(
        &path,
        Content::from_bytes(bytes),
        true,
        "its servicing section names the packages that setup installs",
    )
}
