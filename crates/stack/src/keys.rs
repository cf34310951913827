//! Which keys a stack file may have, so that none is ignored in silence.

use neat_content::{Error, Result};
use std::path::Path;
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
    ("signed_by", Value),
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

/// Keys whose values are paths of this machine. What may also name a file of the media is not among them.
const INPUTS: [&str; 15] = [
    "source.media",
    "source.image_from",
    "catalogues",
    "layouts",
    "update.from",
    "driver.from",
    "driver.devices",
    "settings.registry",
    "settings.company.logo",
    "settings.wallpaper",
    "place.from",
    "app.files",
    "answer.file",
    "media.boot_code",
    "variant.sites",
];

/// A path in a stack file, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Input {
    /// The key with the tables that it is in.
    pub key: String,
    /// Line of the key, from 1.
    pub line: usize,
    /// The path as it is written.
    pub path: String,
}

impl Input {
    /// Whether it is certainly a path: not an address, and without parts that are filled in later.
    fn is_path(&self) -> bool {
        let has_scheme =
            self.path.split_once(':').is_some_and(|(scheme, _)| scheme.len() > 1 && !scheme.contains('/'));
        !has_scheme && !self.path.contains('{')
    }

    /// Fails when nothing is there.
    ///
    /// # Errors
    /// `Request`, with the line and the key.
    pub(crate) fn check(&self, base: &Path) -> Result<()> {
        let full = base.join(&self.path);
        match std::fs::metadata(&full) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound && self.is_path() => {
                Err(Error::request(
                    format!(
                        "line {}: `{}` names {}, and {} is not there",
                        self.line,
                        self.key,
                        self.path,
                        full.display()
                    ),
                    "check the name; paths are relative to the stack file",
                ))
            }
            _ => Ok(()),
        }
    }
}

/// The paths that a stack file names, in the order of its keys. What is no TOML has none.
pub(crate) fn inputs(text: &str) -> Vec<Input> {
    let mut found = Vec::new();
    if let Ok(document) = DeTable::parse(text) {
        collect(text, document.get_ref(), "", &mut found);
    }
    found
}

fn collect(text: &str, table: &DeTable<'_>, path: &str, found: &mut Vec<Input>) {
    for (key, value) in table {
        let name: &str = key.get_ref();
        let full = if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") };
        let line = line_of(text, key.span().start);
        collect_value(text, value.get_ref(), &full, line, found);
    }
}

fn collect_value(text: &str, value: &DeValue<'_>, key: &str, line: usize, found: &mut Vec<Input>) {
    match value {
        DeValue::Table(table) => collect(text, table, key, found),
        DeValue::Array(items) => {
            items.iter().for_each(|item| collect_value(text, item.get_ref(), key, line, found));
        }
        DeValue::String(path) if INPUTS.contains(&key) => {
            found.push(Input { key: key.to_owned(), line, path: path.clone().into_owned() });
        }
        _ => {}
    }
}

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

    #[test]
    fn what_is_not_there_is_said_with_its_line_and_key() {
        let text = "title = \"a\"\n[source]\nmedia = \"none.iso\"\n\n[[place]]\nfrom = \"{machine}.txt\"\n[[driver]]\nfrom = \"gone/\"\n[[update]]\nfrom = \"depot:x\"\n";
        let found = inputs(text);
        assert_eq!(found.len(), 4, "{found:?}");
        let errors: Vec<String> = found
            .iter()
            .filter_map(|input| input.check(Path::new("/nowhere")).err())
            .map(|error| error.to_string())
            .collect();
        assert_eq!(
            errors,
            [
                "line 3: `source.media` names none.iso, and /nowhere/none.iso is not there",
                "line 8: `driver.from` names gone/, and /nowhere/gone/ is not there",
            ]
        );
        // Every key of the list is one that stack files have.
        for key in INPUTS {
            let mut known = STACK;
            for part in key.split('.') {
                let (_, kind) =
                    known.iter().find(|(name, _)| *name == part).unwrap_or_else(|| panic!("{key}"));
                known = if let Table(inner) = kind { inner } else { &[] };
            }
        }
    }

    fn message(text: &str) -> (String, String) {
        let error = check(text).unwrap_err();
        (error.to_string(), error.hint().to_string())
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
        assert!(
            text.contains("`qqq`") && hint.starts_with("known here: title, depot, signed_by, source"),
            "{hint}"
        );
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
