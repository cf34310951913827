//! The shape of a stack file, taken from the types that it is read into: which keys stand where, and which of them
//! name files of this machine.

use super::StackFile;
use serde_json::{Map, Value};
use std::sync::LazyLock;

/// What may stand at a place of a stack file; in a list, what each of its items may be.
#[derive(Debug)]
pub(super) enum Shape {
    /// A value, or a table whose names are not ours.
    Any,
    /// A path of this machine: the types say so by the format `path`. What may also name a file of the media is none.
    Path,
    /// A table with these keys, in the order in which they are declared.
    Table(Vec<(String, Shape)>),
}

/// The whole stack file.
pub(super) static STACK: LazyLock<Shape> = LazyLock::new(|| {
    let schema = schemars::schema_for!(StackFile);
    shape_of(schema.as_value(), schema.as_value(), 0)
});

impl Shape {
    /// What may stand below the key `name`; nothing when there is no such key here.
    pub(super) fn below(&self, name: &str) -> Option<&Self> {
        match self {
            Self::Table(keys) => keys.iter().find(|(known, _)| known == name).map(|(_, shape)| shape),
            Self::Any | Self::Path => None,
        }
    }
}

/// Tables within tables; the types have fewer, and none within itself.
const DEEPEST: usize = 12;

fn shape_of(schema: &Value, root: &Value, depth: usize) -> Shape {
    if depth == DEEPEST {
        return Shape::Any;
    }
    let at = |key: &str| schema.get(key);
    if at("format").and_then(Value::as_str) == Some("path") {
        return Shape::Path;
    }
    let target = at("$ref").and_then(Value::as_str).and_then(|path| root.pointer(path.strip_prefix('#')?));
    if let Some(target) = target {
        return shape_of(target, root, depth + 1);
    }
    if let Some(items) = at("items") {
        return shape_of(items, root, depth + 1);
    }
    // What may be left out is one of two: itself, or nothing.
    if let Some([one, other]) = at("anyOf").and_then(Value::as_array).map(Vec::as_slice)
        && other.get("type").and_then(Value::as_str) == Some("null")
    {
        return shape_of(one, root, depth + 1);
    }
    let is_ours = at("additionalProperties") == Some(&Value::Bool(false));
    match at("properties").and_then(Value::as_object) {
        Some(keys) if is_ours => Shape::Table(keys_of(keys, root, depth)),
        _ => Shape::Any,
    }
}

fn keys_of(keys: &Map<String, Value>, root: &Value, depth: usize) -> Vec<(String, Shape)> {
    keys.iter().map(|(name, schema)| (name.clone(), shape_of(schema, root, depth + 1))).collect()
}

/// A key with the tables that it is in.
pub(super) fn joined(path: &str, name: &str) -> String {
    if path.is_empty() { name.to_owned() } else { format!("{path}.{name}") }
}

/// Line of the byte `at`, from 1.
pub(super) fn line_of(text: &str, at: usize) -> usize {
    text.bytes().take(at).filter(|byte| *byte == b'\n').count() + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Keys of tables and of what is below them; `paths` gathers those that name files.
    fn walk(shape: &Shape, path: &str, all: &mut Vec<String>, paths: &mut Vec<String>) {
        match shape {
            Shape::Any => {}
            Shape::Path => paths.push(path.to_owned()),
            Shape::Table(keys) => {
                for (name, shape) in keys {
                    let full = joined(path, name);
                    all.push(full.clone());
                    walk(shape, &full, all, paths);
                }
            }
        }
    }

    #[test]
    fn the_types_say_which_keys_there_are_and_which_name_files() {
        let (mut all, mut paths) = (Vec::new(), Vec::new());
        walk(&STACK, "", &mut all, &mut paths);
        for key in [
            "title",
            "source.editions",
            "settings.value.value",
            "settings.company.logo",
            "menu.entry.answer.file",
            "media.stick.boot_manager",
            "answer.model.machine.name",
            "variant.answers_only",
        ] {
            assert!(all.iter().any(|known| known == key), "{key} is not among {all:?}");
        }
        // Names of services and features are the system's own.
        assert!(!all.iter().any(|key| key.starts_with("settings.services.")));
        assert_eq!(
            paths,
            [
                "source.media",
                "source.image_from",
                "beside.media",
                "beside.answer",
                "catalogues",
                "layouts",
                "update.from",
                "driver.from",
                "driver.devices",
                "environment.wallpaper",
                "boot_store.add.image",
                "settings.registry",
                "settings.company.logo",
                "settings.wallpaper",
                "app.files",
                "place.from",
                "answer.file",
                "variant.sites",
                "media.boot_code",
            ]
        );
    }
}
