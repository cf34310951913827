//! Changing single keys of a stack file and leaving every other byte of it as it is.

use neat_content::{Error, Result, toml_string};
use std::{fmt::Write as _, ops::Range};
use toml::{
    Spanned, Table, Value,
    de::{DeTable, DeValue},
};

/// Texts in one line up to this many characters, key and all; else each has a line of its own.
const WIDEST: usize = 100;

/// The text of a stack file that is being changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct StackText {
    text: String,
}

impl StackText {
    /// A text that is valid TOML.
    ///
    /// # Errors
    /// `Request` when it is not.
    pub fn new(text: &str) -> Result<Self> {
        let own = Self { text: text.to_owned() };
        own.parsed()?;
        Ok(own)
    }

    /// The text as it is now.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Sets a list of texts in a section, or takes it out where it is empty. Comments within the list stay.
    ///
    /// # Errors
    /// `Request` when the file is written in a way that cannot be changed here.
    pub fn set_texts(&mut self, section: &str, key: &str, texts: &[String]) -> Result<()> {
        if texts.is_empty() {
            return self.set(section, key, None, "");
        }
        let values = texts.iter().map(|text| Value::String(text.clone())).collect();
        let within = self.find(section, key)?.map(|place| place.value);
        let rest = within.as_ref().and_then(|value| self.list_with(value.clone(), texts));
        let new = rest.unwrap_or_else(|| self.list(key, texts));
        self.set(section, key, Some(Value::Array(values)), &new)
    }

    /// Sets a text in a section, or takes it out.
    ///
    /// # Errors
    /// As for [`Self::set_texts`].
    pub fn set_text(&mut self, section: &str, key: &str, text: Option<&str>) -> Result<()> {
        let written = text.map(toml_string).unwrap_or_default();
        self.set(section, key, text.map(|text| Value::String(text.to_owned())), &written)
    }

    /// Sets a key below a section whose value is a table of switches, or takes it out.
    ///
    /// # Errors
    /// As for [`Self::set_texts`].
    pub fn set_switch(&mut self, section: &str, key: &str, name: &str, on: Option<bool>) -> Result<()> {
        let parsed = self.parsed()?;
        let now = parsed.get(section).and_then(|table| table.get(key)).and_then(Value::as_table);
        let is_more = now.and_then(|table| table.get(name)).is_some_and(Value::is_table);
        if let (Some(on), true) = (on, is_more) {
            // Whoever switches it stays.
            let own = format!("{section}.{key}.{name}");
            return self.set(&own, "on", Some(Value::Boolean(on)), &written_switch(Some(on)));
        }
        let found = self.find(section, key)?;
        let is_inline = |place: &Place| self.text[place.value.clone()].starts_with('{');
        if found.as_ref().is_some_and(|place| !is_inline(place)) {
            // A section of its own.
            return self.set(&format!("{section}.{key}"), name, on.map(Value::Boolean), &written_switch(on));
        }
        let mut table = now.cloned().unwrap_or_default();
        match on {
            Some(on) => drop(table.insert(name.to_owned(), Value::Boolean(on))),
            None => drop(table.remove(name)),
        }
        if table.is_empty() {
            return self.set(section, key, None, "");
        }
        let pairs: Vec<String> =
            table.iter().map(|(name, value)| format!("{} = {value}", toml_string(name))).collect();
        self.set(section, key, Some(Value::Table(table)), &format!("{{ {} }}", pairs.join(", ")))
    }

    /// Writes `new`, which means `value`, as a key of a section; whatever else it did would be an error.
    fn set(&mut self, section: &str, key: &str, value: Option<Value>, new: &str) -> Result<()> {
        let mut wanted = self.parsed()?;
        if !put(&mut wanted, section, key, value) {
            return Ok(());
        }
        let text = match self.find(section, key)? {
            Some(place) if new.is_empty() => self.without(&place),
            Some(place) => Some(self.replaced(place.value, new)),
            None => self.with(section, key, new)?,
        };
        let again = text.as_deref().and_then(|text| text.parse::<Table>().ok());
        match text {
            // A section that has become empty means nothing.
            Some(text) if again.map(pruned) == Some(pruned(wanted)) => {
                self.text = text;
                Ok(())
            }
            _ => Err(Error::request(
                format!("`{section}.{key}` stands in a form that is not changed by itself"),
                format!("write it as a section of its own: [{section}], and below it {key} = {new}"),
            )),
        }
    }

    fn parsed(&self) -> Result<Table> {
        self.text.parse().map_err(|error: toml::de::Error| {
            Error::request(neat_content::plain_toml(error.message()), "correct the TOML")
        })
    }

    fn newline(&self) -> &'static str {
        if self.text.contains("\r\n") { "\r\n" } else { "\n" }
    }

    /// Where a key of a section stands.
    fn find(&self, section: &str, key: &str) -> Result<Option<Place>> {
        let document = DeTable::parse(&self.text)
            .map_err(|error| Error::request(neat_content::plain_toml(error.message()), "correct the TOML"))?;
        let mut table = document.get_ref();
        for name in section.split('.') {
            match table.get(name).map(Spanned::get_ref) {
                Some(DeValue::Table(below)) => table = below,
                _ => return Ok(None),
            }
        }
        Ok(table.get_key_value(key).map(|(key, value)| Place { key: key.span(), value: value.span() }))
    }

    fn replaced(&self, range: Range<usize>, new: &str) -> String {
        format!("{}{new}{}", &self.text[..range.start], &self.text[range.end..])
    }

    /// Without the lines of a key that has them for itself.
    fn without(&self, place: &Place) -> Option<String> {
        let start = self.text[..place.key.start].rfind('\n').map_or(0, |at| at + 1);
        let end =
            self.text[place.value.end..].find('\n').map_or(self.text.len(), |at| place.value.end + at + 1);
        let rest = self.text[place.value.end..end].trim();
        let is_alone =
            self.text[start..place.key.start].trim().is_empty() && (rest.is_empty() || rest.starts_with('#'));
        is_alone.then(|| self.replaced(start..end, ""))
    }

    /// With a new key: in its section, or in a new one at the end.
    fn with(&self, section: &str, key: &str, new: &str) -> Result<Option<String>> {
        let newline = self.newline();
        let (outer, name) = section.rsplit_once('.').unwrap_or(("", section));
        let header = if outer.is_empty() {
            self.find_top(name)?
        } else {
            self.find(outer, name)?.map(|place| place.key)
        };
        let Some(header) = header else {
            let gap = if self.text.is_empty() || self.text.ends_with('\n') { "" } else { newline };
            return Ok(Some(format!(
                "{}{gap}{newline}[{section}]{newline}{key} = {new}{newline}",
                self.text
            )));
        };
        let line = self.text[..header.start].rfind('\n').map_or(0, |at| at + 1);
        if !self.text[line..].trim_start().starts_with('[') {
            return Ok(None);
        }
        let end = self.text[header.end..].find('\n').map(|at| header.end + at + 1);
        Ok(Some(match end {
            Some(end) => self.replaced(end..end, &format!("{key} = {new}{newline}")),
            None => format!("{}{newline}{key} = {new}{newline}", self.text),
        }))
    }

    fn find_top(&self, name: &str) -> Result<Option<Range<usize>>> {
        let document = DeTable::parse(&self.text)
            .map_err(|error| Error::request(neat_content::plain_toml(error.message()), "correct the TOML"))?;
        Ok(document.get_ref().get_key_value(name).map(|(key, _)| key.span()))
    }

    /// A list as it is written anew.
    fn list(&self, key: &str, texts: &[String]) -> String {
        let written: Vec<String> = texts.iter().map(|text| toml_string(text)).collect();
        let line = format!("[{}]", written.join(", "));
        if key.len() + 3 + line.chars().count() <= WIDEST {
            return line;
        }
        let newline = self.newline();
        written.iter().fold(format!("[{newline}"), |mut list, text| {
            let _ = write!(list, "  {text},{newline}");
            list
        }) + "]"
    }

    /// A list that has a line for each text already, with other texts: lines of what stays, and comments, are kept.
    fn list_with(&self, list: Range<usize>, texts: &[String]) -> Option<String> {
        let newline = self.newline();
        let inside = self.text[list].strip_prefix('[')?.strip_suffix(']')?;
        let mut lines: Vec<&str> = inside.split('\n').collect();
        // What stands before the bracket that ends the list, on its line.
        let last = lines.pop()?;
        if lines.is_empty() || !lines.remove(0).trim().is_empty() || !last.trim().is_empty() {
            return None;
        }
        let mut out = format!("[{newline}");
        let mut left: Vec<&String> = texts.iter().collect();
        let mut indent = "  ";
        for line in lines {
            let line = line.trim_end_matches('\r');
            let text = line.trim_start();
            if text.is_empty() || text.starts_with('#') {
                let _ = write!(out, "{line}{newline}");
                continue;
            }
            let own: Table = format!("a = [{text}\n]").parse().ok()?;
            let [Value::String(own)] = own.get("a")?.as_array()?.as_slice() else { return None };
            let Some(at) = left.iter().position(|text| *text == own) else { continue };
            left.remove(at);
            indent = &line[..line.len() - text.len()];
            // The last one may have no comma; what follows it needs one.
            let value = toml_string(own);
            let rest = text.strip_prefix(&value)?;
            let comma = if rest.trim_start().starts_with(',') { "" } else { "," };
            let _ = write!(out, "{indent}{value}{comma}{rest}{newline}");
        }
        for text in left {
            let _ = write!(out, "{indent}{},{newline}", toml_string(text));
        }
        Some(out + last + "]")
    }
}

/// Where a key stands.
#[derive(Clone, Debug)]
struct Place {
    key: Range<usize>,
    value: Range<usize>,
}

fn written_switch(on: Option<bool>) -> String {
    on.map(|on| on.to_string()).unwrap_or_default()
}

/// Sets a key of a section in what a text means; whether that changes anything.
fn put(table: &mut Table, section: &str, key: &str, value: Option<Value>) -> bool {
    let mut at = table;
    for name in section.split('.') {
        let below = at.entry(name).or_insert_with(|| Value::Table(Table::new()));
        match below {
            Value::Table(below) => at = below,
            _ => return true,
        }
    }
    match value {
        Some(value) => at.insert(key.to_owned(), value.clone()).as_ref() != Some(&value),
        None => at.remove(key).is_some(),
    }
}

/// Without sections that hold nothing.
fn pruned(table: Table) -> Table {
    let keep = |(name, value): (String, Value)| match value {
        Value::Table(below) => {
            let below = pruned(below);
            (!below.is_empty()).then_some((name, Value::Table(below)))
        }
        other => Some((name, other)),
    };
    table.into_iter().filter_map(keep).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn texts(all: &[&str]) -> Vec<String> {
        all.iter().map(|text| (*text).to_owned()).collect()
    }

    fn set(text: &str, section: &str, key: &str, to: &[&str]) -> String {
        let mut own = StackText::new(text).unwrap();
        own.set_texts(section, key, &texts(to)).unwrap();
        own.as_str().to_owned()
    }

    #[test]
    fn a_key_is_replaced_and_the_rest_stays_byte_for_byte() {
        let file = "# one\n[source]\nmedia = 'a.iso'   # two\r\n\n[remove]\ncomponents = [\"a/*\"] # three\nkeep   = []\n";
        assert_eq!(
            set(file, "remove", "components", &["app/b", "app/c"]),
            file.replace("[\"a/*\"]", "[\"app/b\", \"app/c\"]")
        );
        assert_eq!(
            set(file, "remove", "components", &[]),
            file.replace("components = [\"a/*\"] # three\n", "")
        );
        assert_eq!(set(file, "remove", "components", &["a/*"]), file);
        assert_eq!(
            set(file, "source", "editions", &["One"]),
            file.replace("[source]\n", "[source]\neditions = [\"One\"]\r\n")
        );
    }

    #[test]
    fn a_section_that_is_not_there_comes_at_the_end() {
        assert_eq!(set("a = 1", "remove", "components", &["x"]), "a = 1\n\n[remove]\ncomponents = [\"x\"]\n");
        assert_eq!(set("a = 1\r\n", "remove", "keep", &["x"]), "a = 1\r\n\r\n[remove]\r\nkeep = [\"x\"]\r\n");
        assert_eq!(set("a = 1\n", "remove", "keep", &[]), "a = 1\n");
        // What only looks like it is text.
        let file = "title = \"\"\"\n[remove]\n\"\"\"\n";
        assert_eq!(set(file, "remove", "keep", &["x"]), format!("{file}\n[remove]\nkeep = [\"x\"]\n"));
    }

    #[test]
    fn lines_and_comments_of_a_list_stay() {
        let file =
            "[remove]\ncomponents = [\n    # apps\n    \"app/a\",   # of last year\n    \"app/b\"\n]\n";
        assert_eq!(
            set(file, "remove", "components", &["app/b", "app/c"]),
            "[remove]\ncomponents = [\n    # apps\n    \"app/b\",\n    \"app/c\",\n]\n"
        );
        let long: Vec<String> = (0..9).map(|n| format!("component/number-{n}")).collect();
        let mut own = StackText::new("a = 1\n").unwrap();
        own.set_texts("remove", "components", &long).unwrap();
        assert!(own.as_str().contains("components = [\n  \"component/number-0\",\n"), "{}", own.as_str());
    }

    #[test]
    fn switches_stand_in_either_form() {
        let mut own = StackText::new("[settings]\nfeatures = { \"a\" = true }\n").unwrap();
        own.set_switch("settings", "features", "b", Some(false)).unwrap();
        assert_eq!(own.as_str(), "[settings]\nfeatures = { \"a\" = true, \"b\" = false }\n");
        own.set_switch("settings", "features", "a", None).unwrap();
        own.set_switch("settings", "features", "b", None).unwrap();
        assert_eq!(own.as_str(), "[settings]\n");
        let mut own = StackText::new("[settings.features]\na = true\n").unwrap();
        own.set_switch("settings", "features", "b", Some(false)).unwrap();
        own.set_switch("settings", "features", "a", None).unwrap();
        assert_eq!(own.as_str(), "[settings.features]\nb = false\n");
        // Who switches a feature stays, wherever that is written.
        for (before, after) in [
            (
                "[settings]\nfeatures = { \"a\" = { on = true, through = \"answers\" } }\n",
                "[settings]\nfeatures = { \"a\" = { on = false, through = \"answers\" } }\n",
            ),
            (
                "[settings.features]\na = { through = \"answers\", on = true }\n",
                "[settings.features]\na = { through = \"answers\", on = false }\n",
            ),
            (
                "[settings.features.a]\non = true\nthrough = \"answers\"\n",
                "[settings.features.a]\non = false\nthrough = \"answers\"\n",
            ),
        ] {
            let mut own = StackText::new(before).unwrap();
            own.set_switch("settings", "features", "a", Some(false)).unwrap();
            assert_eq!(own.as_str(), after);
        }
        let mut own = StackText::new("a = 1\n").unwrap();
        own.set_switch("settings", "features", "b", Some(true)).unwrap();
        assert_eq!(own.as_str(), "a = 1\n\n[settings]\nfeatures = { \"b\" = true }\n");
    }

    #[test]
    fn what_cannot_be_changed_is_an_error_and_stays() {
        for file in ["remove = { keep = [] }\n", "remove.keep = []\n"] {
            let mut own = StackText::new(file).unwrap();
            let error = own.set_texts("remove", "components", &texts(&["x"])).unwrap_err();
            assert!(error.hint().to_string().contains("[remove]"), "{error}");
            assert_eq!(own.as_str(), file);
        }
        let mut own = StackText::new("remove = { components = [\"a\"], keep = [] }\n").unwrap();
        own.set_texts("remove", "components", &texts(&["x"])).unwrap();
        assert_eq!(own.as_str(), "remove = { components = [\"x\"], keep = [] }\n");
    }
}
