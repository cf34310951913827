//! Which keys a stack file may have, so that none is ignored in silence.

use neat_content::{Error, Result};
use toml::de::{DeTable, DeValue};

/// A key and what may stand below it.
enum Key {
    /// A value.
    Value,
    /// Anything: names below it are not ours.
    Any,
    /// A table with these keys.
    Table(&'static [(&'static str, Key)]),
}
use Key::{Any, Table, Value};

const STACK: &[(&str, Key)] = &[
    ("title", Value),
    ("depot", Value),
    ("source", Table(&[("media", Value), ("sha256", Value), ("image_from", Value), ("editions", Value)])),
    ("catalogues", Value),
    ("layouts", Value),
    ("update", Table(&[("from", Value), ("optional", Value)])),
    (
        "driver",
        Table(&[
            ("from", Value),
            ("into", Value),
            ("classes", Value),
            ("devices", Value),
            ("optional", Value),
        ]),
    ),
    (
        "remove",
        Table(&[
            ("profile", Value),
            ("components", Value),
            ("keep", Value),
            ("with_dependents", Value),
            ("optional", Value),
        ]),
    ),
    (
        "settings",
        Table(&[
            ("use", Value),
            ("registry", Value),
            (
                "value",
                Table(&[("key", Value), ("name", Value), ("type", Value), ("value", Any), ("delete", Value)]),
            ),
            ("services", Any),
            ("features", Any),
            (
                "company",
                Table(&[
                    ("name", Value),
                    ("model", Value),
                    ("phone", Value),
                    ("hours", Value),
                    ("url", Value),
                    ("logo", Value),
                ]),
            ),
            ("wallpaper", Value),
            ("languages", Table(&[("interface", Value), ("region", Value), ("keyboards", Value)])),
        ]),
    ),
    ("place", Table(&[("from", Value), ("to", Value), ("replace", Value)])),
    ("app", Table(&[("installer", Value), ("files", Value), ("arguments", Value), ("when", Value)])),
    ("answer", Table(&[("file", Value), ("replace", Value), ("dialects", Value), ("model", Any)])),
    (
        "menu",
        Table(&[
            ("title", Value),
            ("default", Value),
            ("timeout_seconds", Value),
            ("on_timeout", Value),
            ("serial_speed", Value),
            ("bios_loader", Value),
            ("uefi_loader", Value),
            ("replace", Value),
            (
                "entry",
                Table(&[
                    ("id", Value),
                    ("title", Value),
                    ("kernel", Value),
                    ("initrd", Value),
                    ("options", Value),
                    (
                        "answer",
                        Table(&[("file", Value), ("at", Value), ("address", Value), ("dialect", Value)]),
                    ),
                ]),
            ),
        ]),
    ),
    (
        "media",
        Table(&[
            ("label", Value),
            ("iso", Value),
            ("publisher", Value),
            ("hybrid", Value),
            ("boot_code", Value),
            ("rock_ridge", Value),
            (
                "stick",
                Table(&[
                    ("image", Value),
                    ("scheme", Value),
                    ("size", Value),
                    ("label", Value),
                    ("form", Value),
                    ("boot_manager", Value),
                ]),
            ),
            ("trial", Value),
            ("compression", Value),
            ("file_limit", Value),
        ]),
    ),
    ("variant", Table(&[("sites", Value), ("answers_only", Value)])),
];

/// Checks every key of `text`; the error names the line and, where one is near, the key that was meant.
pub(crate) fn check(text: &str) -> Result<()> {
    let document = DeTable::parse(text).map_err(|error| {
        let line = error.span().map_or(1, |span| line_of(text, span.start));
        Error::request(
            format!("line {line}: {}", neat_content::plain_toml(error.message())),
            "correct the TOML; strings stand in double quotes",
        )
    })?;
    check_table(text, document.get_ref(), STACK, "")
}

fn check_table(text: &str, table: &DeTable<'_>, known: &[(&str, Key)], path: &str) -> Result<()> {
    for (key, value) in table {
        let name: &str = key.get_ref();
        let full = if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
        let line = line_of(text, key.span().start);
        let Some((_, kind)) = known.iter().find(|(known, _)| *known == name) else {
            return Err(unknown(&full, name, line, known));
        };
        match kind {
            Value | Any => {}
            Table(inner) => check_value(text, value.get_ref(), inner, &full)?,
        }
    }
    Ok(())
}

fn check_value(text: &str, value: &DeValue<'_>, inner: &[(&str, Key)], path: &str) -> Result<()> {
    match value {
        DeValue::Table(table) => check_table(text, table, inner, path),
        DeValue::Array(items) => {
            items.iter().try_for_each(|item| check_value(text, item.get_ref(), inner, path))
        }
        // A value of another type is reported, with its line, when the file is read into its types.
        _ => Ok(()),
    }
}

fn unknown(full: &str, name: &str, line: usize, known: &[(&str, Key)]) -> Error {
    let names: Vec<&str> = known.iter().map(|(name, _)| *name).collect();
    let hint = match nearest(name, &names) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("known here: {}", names.join(", ")),
    };
    Error::request(format!("line {line}: there is no key `{full}`"), hint)
}

/// The candidate that `word` was probably meant to be.
pub(crate) fn nearest<'a>(word: &str, candidates: &[&'a str]) -> Option<&'a str> {
    let scored = candidates
        .iter()
        .map(|candidate| (strsim::jaro_winkler(&word.to_lowercase(), &candidate.to_lowercase()), *candidate));
    scored
        .filter(|(score, _)| *score > 0.8)
        .max_by(|(a, _), (b, _)| a.total_cmp(b))
        .map(|(_, candidate)| candidate)
}

pub(crate) fn line_of(text: &str, at: usize) -> usize {
    text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    fn message(text: &str) -> (String, String) {
        let error = check(text).unwrap_err();
        (error.to_string(), error.hint())
    }

    #[test]
    fn wrong_keys_are_named_with_line_and_suggestion() {
        assert!(check("title = \"x\"\n[source]\nmedia = \"a.iso\"\n").is_ok());
        let (text, hint) = message("[source]\nmedai = \"a.iso\"\n");
        assert_eq!(
            (text.as_str(), hint.as_str()),
            ("line 2: there is no key `source.medai`", "did you mean `media`?")
        );
        let (text, hint) = message("[qqq]\n");
        assert!(text.contains("`qqq`") && hint.starts_with("known here: title, depot, source"), "{hint}");
        let (text, _) = message("[[menu.entry]]\nid = \"a\"\nanswer = { flie = \"x\" }\n");
        assert!(text.contains("line 3: there is no key `menu.entry.answer.flie`"), "{text}");
    }

    #[test]
    fn keys_of_a_stick_are_checked_too() {
        assert!(
            check("[media]\nstick = { image = \"x.img\", scheme = \"mbr\" }\ntrial = [\"bios\"]\n").is_ok()
        );
        let (message, hint) = message("[media]\nstick = { imgae = \"x\" }\n");
        assert!(message.contains("`media.stick.imgae`") && hint.contains("`image`"), "{message} {hint}");
    }

    #[test]
    fn broken_toml_is_reported_with_its_line() {
        let (text, _) = message("title = \"x\"\n[source\n");
        assert!(text.starts_with("line 2: "), "{text}");
    }
}
