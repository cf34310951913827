//! The paths that a stack file names, so that what is missing is said with its line and key.

use super::schema::{self, Shape};
use neat_content::{Error, Result};
use std::path::Path;
use toml::de::{DeTable, DeValue};

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
    pub(crate) fn is_path(&self) -> bool {
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
        collect(text, document.get_ref(), &schema::STACK, "", &mut found);
    }
    found
}

fn collect(text: &str, table: &DeTable<'_>, shape: &Shape, path: &str, found: &mut Vec<Input>) {
    for (key, value) in table {
        let name: &str = key.get_ref();
        let Some(shape) = shape.below(name) else { continue };
        let line = schema::line_of(text, key.span().start);
        collect_value(text, value.get_ref(), shape, &schema::joined(path, name), line, found);
    }
}

fn collect_value(
    text: &str,
    value: &DeValue<'_>,
    shape: &Shape,
    key: &str,
    line: usize,
    found: &mut Vec<Input>,
) {
    match value {
        DeValue::Table(table) => collect(text, table, shape, key, found),
        DeValue::Array(items) => {
            items.iter().for_each(|item| collect_value(text, item.get_ref(), shape, key, line, found));
        }
        DeValue::String(path) if matches!(shape, Shape::Path) => {
            found.push(Input { key: key.to_owned(), line, path: path.clone().into_owned() });
        }
        _ => {}
    }
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
    }
}
