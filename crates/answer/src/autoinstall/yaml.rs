//! YAML: read into values by a parser, written by us in a plain form, and found again in a text by its lines.

use crate::{pieces::Part, xml::line_of};
use neat_content::{Error, Result};
use serde_json::{Map, Value};
use std::ops::Range;
use yaml_rust2::{
    Yaml, YamlLoader,
    parser::{Event, EventReceiver, Parser},
};

/// How deep values may nest.
const MAX_DEPTH: usize = 64;

struct Refusals {
    depth: usize,
    deepest: usize,
    has_alias: bool,
}

impl EventReceiver for Refusals {
    fn on_event(&mut self, event: Event) {
        match event {
            Event::Alias(_) => self.has_alias = true,
            Event::SequenceStart(..) | Event::MappingStart(..) => {
                self.depth += 1;
                self.deepest = self.deepest.max(self.depth);
            }
            Event::SequenceEnd | Event::MappingEnd => self.depth = self.depth.saturating_sub(1),
            _ => {}
        }
    }
}

fn wrong(what: impl std::fmt::Display) -> Error {
    Error::Mismatch {
        expected: "YAML".into(),
        found: what.to_string(),
        hint:
            "correct the answer file in an editor; blanks at the start of a line matter, tabs are not allowed"
                .into(),
    }
}

/// The value of a text.
pub(super) fn parse(text: &str) -> Result<Value> {
    // The parser goes down once for each of them.
    let opens = text
        .lines()
        .map(|line| line.bytes().filter(|byte| matches!(byte, b'[' | b'{')).count())
        .sum::<usize>();
    let deepest_indent =
        text.lines().map(|line| line.len() - line.trim_start_matches([' ', '-']).len()).max().unwrap_or(0);
    if opens > 10_000 || deepest_indent > 1_000 {
        return Err(wrong("more brackets, or deeper ones, than an answer file has"));
    }
    let mut refusals = Refusals { depth: 0, deepest: 0, has_alias: false };
    Parser::new_from_str(text).load(&mut refusals, true).map_err(wrong)?;
    if refusals.deepest > MAX_DEPTH {
        return Err(wrong("values that nest deeper than an answer file's"));
    }
    if refusals.has_alias {
        return Err(wrong(
            "an alias (*name), which can make a text grow without bound; write the value itself",
        ));
    }
    let documents = YamlLoader::load_from_str(text).map_err(wrong)?;
    match documents.as_slice() {
        [one] => Ok(value(one)),
        [] => Err(wrong("nothing")),
        _ => Err(wrong("several documents")),
    }
}

fn value(yaml: &Yaml) -> Value {
    match yaml {
        Yaml::Real(text) => text.parse::<f64>().ok().map_or_else(|| Value::String(text.clone()), Value::from),
        Yaml::Integer(number) => Value::from(*number),
        Yaml::String(text) => Value::String(text.clone()),
        Yaml::Boolean(truth) => Value::Bool(*truth),
        Yaml::Array(items) => Value::Array(items.iter().map(value).collect()),
        Yaml::Hash(pairs) => {
            let pair = |(key, own): (&Yaml, &Yaml)| {
                let key = match key {
                    Yaml::String(text) | Yaml::Real(text) => text.clone(),
                    Yaml::Integer(number) => number.to_string(),
                    Yaml::Boolean(truth) => truth.to_string(),
                    _ => String::new(),
                };
                (key, value(own))
            };
            Value::Object(pairs.iter().map(pair).collect::<Map<_, _>>())
        }
        Yaml::Alias(_) | Yaml::Null | Yaml::BadValue => Value::Null,
    }
}

/// A key with its value as lines, each after `indent`.
pub(super) fn say(key: &str, own: &Value, indent: usize) -> String {
    let mut out = format!("{}{}:", " ".repeat(indent), scalar(&Value::String(key.into())));
    say_value(own, indent, &mut out);
    out
}

fn say_value(own: &Value, indent: usize, out: &mut String) {
    match own {
        Value::Object(map) if !map.is_empty() => {
            for (key, inner) in map {
                out.push('\n');
                out.push_str(&say(key, inner, indent + 2));
            }
        }
        Value::Array(items) if !items.is_empty() => {
            for item in items {
                out.push_str(&format!("\n{}-", " ".repeat(indent + 2)));
                match item {
                    Value::Object(map) if !map.is_empty() => {
                        // The first key stands beside the dash.
                        for (index, (key, inner)) in map.iter().enumerate() {
                            let line = say(key, inner, indent + 4);
                            if index == 0 {
                                out.push(' ');
                                out.push_str(line.trim_start());
                            } else {
                                out.push('\n');
                                out.push_str(&line);
                            }
                        }
                    }
                    Value::Array(_) => say_value(item, indent + 2, out),
                    other => {
                        out.push(' ');
                        out.push_str(&scalar(other));
                    }
                }
            }
        }
        other => {
            out.push(' ');
            out.push_str(&scalar(other));
        }
    }
}

/// A value in one line. Text that could be taken for something else stands in quotes.
fn scalar(own: &Value) -> String {
    match own {
        Value::Null => "null".into(),
        Value::Array(_) => "[]".into(),
        Value::Object(_) => "{}".into(),
        Value::Bool(_) | Value::Number(_) => own.to_string(),
        Value::String(text) => {
            let is_plain = |c: char| c.is_ascii_alphanumeric() || "-_./@".contains(c);
            let begins = text.chars().next().is_some_and(|c| c.is_ascii_alphabetic() || c == '/');
            let is_word = matches!(
                text.to_ascii_lowercase().as_str(),
                "true" | "false" | "yes" | "no" | "on" | "off" | "null" | "y" | "n"
            );
            if begins && !is_word && text.chars().all(is_plain) { text.clone() } else { quoted(text) }
        }
    }
}

/// Text in double quotes, YAML 1.2.2, 7.3.1.
fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            c if c.is_control()
                || matches!(c, '\u{2028}' | '\u{2029}' | '\u{feff}' | '\u{fffe}' | '\u{ffff}') =>
            {
                out.push_str(&if (c as u32) < 0x100 {
                    format!("\\x{:02x}", c as u32)
                } else {
                    format!("\\u{:04x}", c as u32)
                });
            }
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// Where the keys of a block stand in a text.
pub(super) struct Block {
    /// Blanks before each key.
    pub indent: usize,
    pub parts: Vec<Part>,
    /// Where the block ends.
    pub end: usize,
}

/// Finds the keys of the block below `autoinstall:`, or those of the whole file where there is no such key. None where
/// they are not written in lines of their own.
pub(super) fn block(text: &str) -> Option<Block> {
    let mut lines: Vec<(Range<usize>, &str)> = Vec::new();
    let mut at = 0;
    for raw in text.split('\n') {
        let line = raw.trim_end_matches('\r');
        lines.push((at..at + line.len(), line));
        at += raw.len() + 1;
    }
    let is_nothing = |line: &str| line.trim().is_empty() || line.trim_start().starts_with('#');
    let head = lines
        .iter()
        .position(|(_, line)| line.split('#').next().is_some_and(|line| line.trim_end() == "autoinstall:"));
    let has_head = head.is_some() || text.lines().any(|line| line.starts_with("autoinstall:"));
    if head.is_none() && has_head {
        return None;
    }
    let first = head.map_or(0, |head| head + 1);
    let indent_of = |line: &str| line.len() - line.trim_start_matches(' ').len();
    let own = lines.iter().skip(first).find(|(_, line)| !is_nothing(line) && !line.starts_with("---"))?;
    let indent = indent_of(own.1);
    if head.is_some() && indent == 0 {
        return None;
    }
    let mut parts: Vec<Part> = Vec::new();
    let mut end = own.0.start;
    for (span, line) in lines.iter().skip(first) {
        if is_nothing(line) || line.starts_with("---") {
            continue;
        }
        if indent_of(line) < indent {
            break;
        }
        if indent_of(line) == indent && !line.trim_start().starts_with("- ") && line.trim() != "-" {
            let (key, _) = line.trim_start().split_once(':')?;
            let key = key.trim().trim_matches(['"', '\'']).to_owned();
            parts.push(Part { key, span: span.clone() });
        } else if let Some(part) = parts.last_mut() {
            part.span.end = span.end;
        }
        end = span.end;
    }
    Some(Block { indent, parts, end })
}

/// Line of a key of the block.
pub(super) fn line_of_key(text: &str, key: &str) -> Option<usize> {
    let block = block(text)?;
    let part = block.parts.iter().find(|part| part.key == key)?;
    Some(line_of(text, part.span.start))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn values_are_read_as_they_are_said() {
        let own = json!({
            "a": "x: y", "no": ["yes", "", "é \"𐐷\" ]]> \\ \u{1}\r\n", "# x", "- a", "1.0", "0x10", "~"],
            "b": {"c": [], "d": {}, "e": [{"f": 1, "g": {"h": true}}, {"i": [1, [2, 3]]}], "j": null},
            "k l": "trailing ", "m": -7
        });
        let text = say("top", &own, 0);
        assert_eq!(parse(&text).unwrap(), json!({ "top": own }), "{text}");
    }

    #[test]
    fn blocks_are_found_and_hostile_texts_refused() {
        let text = "#cloud-config\n# x\nautoinstall:\n  version: 1 # one\n  late-commands:\n  - a: b\n  - |\n    x\n  # about locale\n  locale: en_GB\nother: 1\n";
        let block = block(text).unwrap();
        let keys: Vec<&str> = block.parts.iter().map(|part| part.key.as_str()).collect();
        assert_eq!(keys, ["version", "late-commands", "locale"]);
        assert_eq!(&text[block.parts[1].span.clone()], "  late-commands:\n  - a: b\n  - |\n    x");
        assert_eq!(&text[block.end..], "\nother: 1\n");
        assert!(parse("a: &x [1]\nb: [*x, *x]\n").unwrap_err().to_string().contains("alias"));
        assert!(parse(&"[".repeat(20_000)).is_err());
        assert!(parse(&"- ".repeat(5_000)).is_err());
        assert!(parse("a: [\n").is_err());
    }
}
