//! Vendors' update packages: staged on the media, and named in the answer file so that setup installs them.

use super::{EditionWork, inputs::update_paths};
use crate::{
    AnswerDialect, StackFile,
    answer::{answer_files, text_of},
    edit::Editor,
    plan::Weight,
};
use neat_content::{Content, Encoding, Job, ReadAt, Result};
use neat_package::{Architecture, VendorPackage};
use neat_service::Item;
use std::path::Path;

/// Folder on the media for packages that setup installs.
const FOLDER: &str = "updates";

/// Whether a file is a cabinet, by its first bytes.
pub(super) fn is_cabinet(path: &Path) -> Result<bool> {
    if path.is_dir() {
        return Ok(false);
    }
    let content = Content::from_path(path)?;
    let mut first = [0; 4];
    if content.len() >= 4 {
        content.read_exact_at(0, &mut first)?;
    }
    Ok(first == *b"MSCF")
}

/// Stages the vendors' packages of the stack file and names them in the answer file.
pub(crate) fn stage(
    stack: &StackFile,
    editor: &mut Editor,
    architectures: &[Architecture],
    job: &Job<'_>,
) -> Result<Option<EditionWork>> {
    let mut items = Vec::new();
    let mut elements = String::new();
    for section in &stack.update {
        for (path, name) in update_paths(&editor.local(&section.from), &section.from)? {
            job.check()?;
            if !is_cabinet(&path)? {
                continue;
            }
            let found = VendorPackage::of_content(&Content::from_path(&path)?)
                .map_err(|error| error.within(&name))?;
            let Some((package, cabinet)) = found else {
                let why = "it is a cabinet without a package manifest";
                items.push(Item { optional: section.optional, ..Item::refused("update", &name, why) });
                continue;
            };
            let own = Architecture::of_word(&package.architecture);
            if let Some(own) = own.filter(|own| !architectures.is_empty() && !architectures.contains(own)) {
                let list: Vec<&str> = architectures.iter().map(|own| own.name()).collect();
                let why = format!("it is for {}, and the editions are {}", own.name(), list.join(", "));
                items.push(Item { optional: section.optional, ..Item::refused("update", &name, why) });
                continue;
            }
            let file = format!("{FOLDER}/{}.cab", package.name);
            let len = cabinet.len() as i64;
            editor.put_made(&file, cabinet, true, "setup installs it: the answer file names it")?;
            elements.push_str(&element(&package, &file));
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
    if !elements.is_empty() {
        name_in_answers(editor, &elements)?;
    }
    let work = EditionWork { edition: "the media".into(), setup: false, items };
    super::tell_refusals(std::slice::from_ref(&work), editor);
    Ok(Some(work))
}

fn escape(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('"', "&quot;")
}

/// The documented form of a package that setup installs.
fn element(package: &VendorPackage, file: &str) -> String {
    let attributes = [
        ("name", &package.name),
        ("version", &package.version),
        ("processorArchitecture", &package.architecture),
        ("publicKeyToken", &package.public_key_token),
        ("language", &package.language),
    ];
    let attributes: Vec<String> = attributes
        .iter()
        .filter(|(_, text)| !text.is_empty())
        .map(|(name, text)| format!("{name}=\"{}\"", escape(text)))
        .collect();
    format!(
        "    <package action=\"install\">\r\n      <assemblyIdentity {} />\r\n      <source location=\"%configsetroot%\\{}\" />\r\n    </package>\r\n",
        attributes.join(" "),
        escape(&file.replace('/', "\\"))
    )
}

/// Adds packages to the servicing section of the answer file; makes one if the media has none.
fn name_in_answers(editor: &mut Editor, elements: &str) -> Result<()> {
    const EMPTY: &str = "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<unattend xmlns=\"urn:schemas-microsoft-com:unattend\">\r\n</unattend>\r\n";
    let found =
        answer_files(&editor.tree).into_iter().find(|(_, dialect)| *dialect == AnswerDialect::Unattend);
    let path = found.map_or_else(|| AnswerDialect::Unattend.place().to_owned(), |(path, _)| path);
    let before = editor.tree.file(&path).and_then(text_of);
    let text = before.unwrap_or_else(|| EMPTY.to_owned());
    let changed = if let Some(at) = text.find("</servicing>") {
        format!("{}{elements}  {}", text[..at].trim_end_matches(' '), &text[at..])
    } else if let Some(at) = text.rfind("</unattend>") {
        format!("{}  <servicing>\r\n{elements}  </servicing>\r\n{}", &text[..at], &text[at..])
    } else {
        editor.find(
            Weight::Refused,
            format!(
                "media:/{path} does not end as an answer file does, and the packages cannot be named in it"
            ),
            "correct the answer file",
        );
        return Ok(());
    };
    if !changed.contains("<UseConfigurationSet>true<") {
        editor.find(
            Weight::Note,
            format!("media:/{path} does not say that it uses a configuration set, and the packages are named from its root"),
            "add <UseConfigurationSet>true</UseConfigurationSet> to the part that sets setup up",
        );
    }
    editor.put_made(
        &path,
        Content::from_bytes(Encoding::Utf8.encode(&changed)),
        true,
        "its servicing section names the packages that setup installs",
    )
}
