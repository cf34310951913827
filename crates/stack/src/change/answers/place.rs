//! Answers where setup looks for them, with the files that they need.

use super::older;
use crate::{change::Editor, recipe::AnswerSection, report::Weight};
use neat_answer::{Dialect, SideFile, WrittenFile, answer_files};
use neat_content::{Content, Result};

/// Most bytes of a file beside answers that is there already.
const MAX_LEN: u64 = 16 << 20;

/// Answer files of the same dialect in other places compete with ours.
pub(super) fn make_room(
    section: &AnswerSection,
    dialect: Dialect,
    ours: &[Dialect],
    editor: &mut Editor,
) -> Result<()> {
    let usual = match dialect {
        Dialect::Sif => older::places(editor)?,
        _ => vec![dialect.place().to_owned()],
    };
    for (path, other) in answer_files(&editor.tree) {
        if usual.iter().any(|own| path.eq_ignore_ascii_case(own))
            || (other != dialect && ours.contains(&other))
        {
            continue;
        }
        if section.replace {
            let gone =
                editor.tree.find(&path).and_then(|id| editor.tree.node(id).content().map(Content::len));
            if let Some(id) = editor.tree.find(&path) {
                editor.tree.remove(id);
            }
            let why = "a second answer file would compete with the new one";
            editor.step("remove", format!("media:/{path}"), why, -(gone.unwrap_or(0) as i64));
        } else {
            editor.find(
                Weight::Refused,
                format!(
                    "the media has another answer file, {path} ({}), and setup would find both",
                    other.name()
                ),
                "write `replace = true` in [answer] to take the other one out",
            );
        }
    }
    Ok(())
}

/// Puts answers where setup looks, with the files they need.
pub(super) fn put(
    section: &AnswerSection,
    written: &WrittenFile,
    name: &str,
    editor: &mut Editor,
) -> Result<()> {
    let dialect = written.dialect;
    if dialect == Dialect::Sif {
        return older::put(written, section.replace, name, editor);
    }
    let usual = dialect.place();
    let target =
        editor.tree.find_ignoring_case(usual).map_or_else(|| usual.to_owned(), |id| editor.tree.path(id));
    put_companions(dialect, "", true, editor)?;
    let reason = format!("from {name}, where setup looks for an answer file of the kind {}", dialect.name());
    editor.put_made(&target, Content::from_bytes(written.bytes.clone()), section.replace, &reason)?;
    put_side_files(&written.files, editor)?;
    tell_option(dialect, &target, editor);
    Ok(())
}

/// Answers in the root are read by installers that a kernel's command line tells of them.
pub(super) fn tell_option(dialect: Dialect, target: &str, editor: &mut Editor) {
    if let Some(option) = dialect.option_for_root() {
        editor.find(
            Weight::Note,
            format!("the installer reads media:/{target} only when its kernel's command line says so"),
            format!(
                "have the media's own menu add `{option}`, or write a [menu] whose entry says answer = {{ at = \"root\" }}"
            ),
        );
    }
}

/// Puts the empty files that setup takes together with answers in `folder`, which ends in a slash, or neither.
pub(crate) fn put_companions(
    dialect: Dialect,
    folder: &str,
    replace: bool,
    editor: &mut Editor,
) -> Result<()> {
    for name in dialect.companions() {
        let why = format!("{} wants it beside the answers", dialect.name());
        editor.put_made(&format!("{folder}{name}"), Content::from_bytes(Vec::new()), replace, &why)?;
    }
    Ok(())
}

/// Puts files that answers need beside them.
pub(crate) fn put_side_files(files: &[SideFile], editor: &mut Editor) -> Result<()> {
    for file in files {
        let there = editor.tree.file(&file.path).map(|own| own.to_vec(MAX_LEN, "file beside answers"));
        let bytes = match there.transpose()? {
            Some(there) => file.beside(&there),
            None => file.bytes.clone(),
        };
        editor.put_made(&file.path, Content::from_bytes(bytes), true, "the answers need it")?;
    }
    Ok(())
}
