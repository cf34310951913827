//! What `compare` says.

use super::{heading, outside, size, style, table};
use neat_stack::{Comparison, FileChange, ValueChange};

fn file_lines(files: &[FileChange]) -> String {
    let rows: Vec<Vec<String>> = files
        .iter()
        .map(|file| match (file.before, file.after) {
            (Some(before), None) => vec!["−".into(), file.path.clone(), size(before)],
            (None, Some(after)) => vec!["+".into(), file.path.clone(), size(after)],
            (Some(before), Some(after)) if before == after => {
                vec!["~".into(), file.path.clone(), size(after), "other bytes".into()]
            }
            (before, after) => {
                vec![
                    "~".into(),
                    file.path.clone(),
                    size(after.unwrap_or(0)),
                    format!("was {}", size(before.unwrap_or(0))),
                ]
            }
        })
        .collect();
    table(&rows, &[2]).into_iter().map(|line| format!("  {line}\n")).collect()
}

/// Registration text in lines of ours.
fn registry(text: &str) -> String {
    text.replace("\r\n", "\n")
}

/// Values below their keys, old and new side by side; keys that came or went with all below them are told once.
fn values(all: &[ValueChange]) -> String {
    let mut text = String::new();
    let (mut shown, mut told): (&str, Option<&str>) = ("", None);
    for own in all {
        let is_below = |key: &str| own.key.strip_prefix(key).is_some_and(|rest| rest.starts_with('\\'));
        let new_key = own.name.is_none() && own.before.is_none();
        if new_key && told.is_some_and(is_below) {
            continue;
        }
        if own.key != shown {
            shown = &own.key;
            let sign = match (&own.name, &own.after) {
                (None, Some(_)) => "+",
                (None, None) => "−",
                _ => " ",
            };
            let key = own
                .key
                .replacen("HKEY_LOCAL_MACHINE", "HKLM", 1)
                .replacen("HKEY_CURRENT_USER", "HKCU", 1)
                .replacen("HKEY_USERS", "HKU", 1);
            text.push_str(&format!(
                "  {sign} {}{}{:#}\n",
                style::REASON,
                super::wrapped(&key, 4),
                style::REASON
            ));
        }
        if new_key {
            told = Some(&own.key);
        }
        let Some(name) = &own.name else { continue };
        let name = if name.is_empty() { "(default)" } else { name };
        let before = own.before.as_deref().unwrap_or("nothing");
        let change = format!("{name}: {before} → {}", own.after.as_deref().unwrap_or("gone"));
        text.push_str(&format!("      {}\n", super::wrapped(&change, 8)));
    }
    text
}

/// What differs; between registries as registration text where `as_text` asks for it.
pub(crate) fn comparison(comparison: &Comparison, as_text: bool) -> String {
    if comparison.kind == "hive" {
        return if comparison.registry.is_empty() {
            "no key and no value differs\n".into()
        } else if as_text {
            registry(&comparison.registry)
        } else {
            values(&comparison.values)
        };
    }
    if comparison.is_same() {
        return "nothing differs\n".into();
    }
    let mut text = String::new();
    let list = |name: &str, ids: &[String]| {
        if ids.is_empty() {
            String::new()
        } else {
            format!("  {}{name}{:#}\n{}", style::QUIET, style::QUIET, wrapped(ids))
        }
    };
    let editions = list("editions gone:", &comparison.gone) + &list("editions new:", &comparison.new);
    if !comparison.files.is_empty() || !editions.is_empty() {
        let (before, after) = comparison.bytes;
        let what = if comparison.kind == "media" { "On the media" } else { "The image file" };
        text.push_str(&heading(&format!("{what}: {} → {}", size(before), size(after))));
        text.push_str(&editions);
        text.push_str(&file_lines(&comparison.files));
    }
    for edition in comparison.editions.iter().filter(|edition| !edition.is_same()) {
        let (before, after) = edition.bytes;
        text.push_str(&heading(&format!("{}: {} → {}", edition.after, size(before), size(after))));
        if let Some((before, after)) = &edition.version {
            text.push_str(&format!(
                "  {}version{:#} {}\n",
                style::QUIET,
                style::QUIET,
                outside::line(&format!("{before} → {after}"))
            ));
        }
        text.push_str(&list("components gone:", &edition.gone));
        text.push_str(&list("components new:", &edition.new));
        text.push_str(&file_lines(&edition.files));
        if !edition.registry.is_empty() && as_text {
            text.push_str(&format!("\n{}", registry(&edition.registry)));
        } else if !edition.values.is_empty() {
            text.push_str(&format!("  {}registry:{:#}\n", style::QUIET, style::QUIET));
            text.push_str(&values(&edition.values));
        }
    }
    text.trim_start_matches('\n').to_owned()
}

/// Words with commas between, in lines that fit.
fn wrapped(words: &[String]) -> String {
    const WIDTH: usize = 90;
    let mut lines = vec![String::new()];
    for (n, word) in words.iter().enumerate() {
        let word = if n + 1 < words.len() { format!("{word}, ") } else { word.clone() };
        let is_full = lines
            .last()
            .is_some_and(|line| !line.is_empty() && line.chars().count() + word.chars().count() > WIDTH);
        if is_full {
            lines.push(String::new());
        }
        if let Some(line) = lines.last_mut() {
            line.push_str(&word);
        }
    }
    lines.iter().map(|line| format!("    {}\n", outside::line(line.trim_end()))).collect()
}
