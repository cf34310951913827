//! Site lists: a CSV with a line for each machine, whose columns fill a model.

use crate::{Dialect, Finding, Limits, Model, Topic, check::machine_name};
use neat_content::{Error, Result, nearest};
use std::collections::{BTreeMap, BTreeSet};

/// A machine of a site list.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Site {
    /// Its line in the file, from 1.
    pub row: usize,
    /// Its name, the column `name`.
    pub name: String,
    /// All columns.
    pub cells: BTreeMap<String, String>,
}

/// A site list.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SiteList {
    /// Its columns, in order.
    pub columns: Vec<String>,
    /// Its machines.
    pub sites: Vec<Site>,
}

/// What a name may have in braces besides columns.
fn is_builtin(name: &str) -> bool {
    name == "serial"
        || name == "random"
        || name.strip_prefix("random:").is_some_and(|own| own.parse::<u32>().is_ok())
}

impl SiteList {
    /// Reads a CSV (RFC 4180) with a line of headings. Semicolons may part the cells, if the headings have them.
    ///
    /// # Errors
    /// `BadRequest` with the line, for headings that are twice or missing and rows of another length.
    pub fn parse(text: &str) -> Result<Self> {
        Self::parse_with(text, &Limits::default())
    }

    /// As [`SiteList::parse`], with limits of the caller's.
    ///
    /// # Errors
    /// As [`SiteList::parse`].
    pub fn parse_with(text: &str, limits: &Limits) -> Result<Self> {
        // Where lines end with two signs, the reader would count each row as the line before.
        let text = text.trim_start_matches('\u{feff}').replace("\r\n", "\n");
        let head = text.lines().next().unwrap_or_default();
        let delimiter = if head.contains(';') && !head.contains(',') { b';' } else { b',' };
        let mut reader = csv::ReaderBuilder::new()
            .delimiter(delimiter)
            .trim(csv::Trim::All)
            .comment(Some(b'#'))
            .from_reader(text.as_bytes());
        let wrong = |error: csv::Error| {
            let line = error.position().map_or(1, csv::Position::line);
            let message = match error.kind() {
                csv::ErrorKind::UnequalLengths { expected_len, len, .. } => {
                    format!("row {line}: it has {len} cells, and there are {expected_len} columns")
                }
                _ => format!("row {line}: {error}"),
            };
            Error::request(message, "correct the CSV; cells with commas stand in double quotes")
        };
        let columns: Vec<String> = reader.headers().map_err(wrong)?.iter().map(str::to_owned).collect();
        if !columns.iter().any(|column| column == "name") {
            let hint = nearest("name", columns.iter().map(String::as_str)).map_or_else(
                || "its first line names the columns, such as name,serial,room".to_owned(),
                |near| format!("is it the column {near:?}? Call it name"),
            );
            return Err(Error::request("the site list has no column `name`", hint));
        }
        let mut seen = BTreeSet::new();
        if let Some(twice) = columns.iter().find(|column| !seen.insert(column.as_str())) {
            return Err(Error::request(
                format!("the site list has two columns {twice:?}"),
                "give each its own name",
            ));
        }
        let mut sites = Vec::new();
        for record in reader.records() {
            let record = record.map_err(wrong)?;
            let row = record.position().map_or(0, |position| position.line() as usize);
            if sites.len() >= limits.sites {
                return Err(Error::Limit {
                    what: "machines of the site list".into(),
                    offset: record.position().map_or(0, csv::Position::byte),
                    limit: limits.sites as u64,
                    found: sites.len() as u64 + 1,
                });
            }
            let cells: BTreeMap<String, String> =
                columns.iter().cloned().zip(record.iter().map(str::to_owned)).collect();
            sites.push(Site { row, name: cells.get("name").cloned().unwrap_or_default(), cells });
        }
        Ok(Self { columns, sites })
    }

    /// What is wrong with the list for a dialect and a model, by row.
    pub fn check(&self, model: Option<&Model>, dialect: Option<Dialect>) -> Vec<Finding> {
        let rules = dialect.map(|own| &own.face().about().rules);
        let mut findings = Vec::new();
        let needed = model.map(placeholders).unwrap_or_default();
        for name in needed.iter().filter(|name| !self.columns.contains(name)) {
            let near = nearest(name, self.columns.iter().map(String::as_str));
            let hint = near.map_or_else(
                || format!("the columns are {}", self.columns.join(", ")),
                |near| format!("did you mean {{{near}}}?"),
            );
            findings.push(Finding::new(
                Topic::Unfilled,
                "sites",
                format!("the answers need a column {{{name}}}, and the site list has none"),
                hint,
            ));
        }
        let mut names: BTreeMap<String, usize> = BTreeMap::new();
        let mut serials: BTreeMap<String, usize> = BTreeMap::new();
        for site in &self.sites {
            let row = site.row;
            let mut add = |message: String, hint: &str| {
                findings
                    .push(Finding::new(Topic::Sites, "sites", format!("row {row}: {message}"), hint).at(row));
            };
            if site.name.is_empty() {
                add("the machine has no name".into(), "fill the column `name`");
                continue;
            }
            if let Some(other) = names.insert(site.name.to_lowercase(), row) {
                add(
                    format!("the name {:?} is the same as in row {other}", site.name),
                    "give each machine its own",
                );
            }
            if let Some(serial) = site.cells.get("serial").filter(|own| !own.is_empty()) {
                if is_no_serial(serial) {
                    add(
                        format!("the serial number {serial:?} is what machines say that have none"),
                        "give it the machine's own, or leave it empty",
                    );
                } else if let Some(other) = serials.insert(serial_name(serial), row) {
                    add(
                        format!("the serial number {serial:?} is the same as in row {other}"),
                        "correct one of the two",
                    );
                }
            }
            for name in &needed {
                if site.cells.get(name).is_some_and(String::is_empty) {
                    add(format!("the cell {name:?} is empty, and the answers need it"), "fill it");
                }
            }
            let mut wrong = Vec::new();
            machine_name(&site.name, rules, &mut wrong);
            for finding in wrong {
                add(finding.message, &finding.hint);
            }
        }
        findings
    }
}

/// A serial number as it stands in names of files, wherever it comes from: letters and digits of ASCII and `-`, in upper
/// case. Firmware gives numbers with blanks around and inside, and lists are typed by people.
pub fn serial_name(serial: &str) -> String {
    let own = serial.chars().filter(|c| c.is_ascii_alphanumeric() || *c == '-');
    own.map(|c| c.to_ascii_uppercase()).collect()
}

/// Whether a serial number is none: what firmware says that nobody filled in.
pub fn is_no_serial(serial: &str) -> bool {
    const UNFILLED: [&str; 14] = [
        "0123456789",
        "123456789",
        "1234567890",
        "CHASSISSERIALNUMBER",
        "DEFAULTSTRING",
        "INVALID",
        "NA",
        "NONE",
        "NOTAPPLICABLE",
        "NOTAVAILABLE",
        "NOTSPECIFIED",
        "SERIALNUMBER",
        "SYSTEMSERIALNUMBER",
        "UNKNOWN",
    ];
    let name = serial_name(serial);
    let same = |c: char| name.chars().all(|own| own == c);
    let is_one_sign = name.chars().next().is_none_or(|first| "0FX-".contains(first) && same(first));
    is_one_sign || UNFILLED.contains(&name.as_str()) || name.starts_with("TOBEFILLED")
}

/// Columns that a model names in braces.
pub(crate) fn placeholders(model: &Model) -> BTreeSet<String> {
    let mut found = BTreeSet::new();
    let Ok(value) = serde_json::to_value(model) else { return found };
    visit(&value, &mut |text| {
        let mut rest = text;
        while let Some((_, after)) = rest.split_once('{') {
            let Some((name, after)) = after.split_once('}') else { break };
            if is_column(name) && !is_builtin(name) {
                found.insert(name.to_owned());
            }
            rest = after;
        }
    });
    found
}

/// Whether what stands in braces can be a column: other braces belong to scripts.
fn is_column(name: &str) -> bool {
    !name.is_empty()
        && name.chars().all(|c| c.is_alphanumeric() || matches!(c, '_' | '-' | ' '))
        && name.chars().next().is_some_and(char::is_alphabetic)
}

fn visit(value: &serde_json::Value, each: &mut dyn FnMut(&str)) {
    match value {
        serde_json::Value::String(text) => each(text),
        serde_json::Value::Array(items) => items.iter().for_each(|item| visit(item, each)),
        serde_json::Value::Object(map) => {
            for (key, item) in map {
                // Texts in other languages have braces of their own.
                if !matches!(key.as_str(), "text" | "own" | "origin") {
                    visit(item, each);
                }
            }
        }
        _ => {}
    }
}

impl Site {
    /// A text with the columns filled in; braces of other things stay.
    pub fn fill(&self, text: &str) -> String {
        let mut out = String::with_capacity(text.len());
        let mut rest = text;
        while let Some((before, after)) = rest.split_once('{') {
            out.push_str(before);
            match after.split_once('}') {
                Some((name, after)) if self.cells.contains_key(name) && is_column(name) => {
                    out.push_str(self.cells.get(name).map_or("", String::as_str));
                    rest = after;
                }
                _ => {
                    out.push('{');
                    rest = after;
                }
            }
        }
        out.push_str(rest);
        out
    }

    /// A model with the columns filled in, and the machine's name if the model says none.
    ///
    /// # Errors
    /// `BadRequest` for a column that names no field, or a value that the field cannot have.
    pub fn fill_model(&self, model: &Model) -> Result<Model> {
        let fault = |error: serde_json::Error| {
            Error::request(
                format!("row {}: the answers do not fit after filling in: {error}", self.row),
                "correct the cells of this row",
            )
        };
        let mut value = serde_json::to_value(model).map_err(fault)?;
        self.fill_value(&mut value);
        let mut filled: Model = serde_json::from_value(value).map_err(fault)?;
        if filled.machine.name.is_empty() {
            filled.machine.name.clone_from(&self.name);
        }
        Ok(filled)
    }

    fn fill_value(&self, value: &mut serde_json::Value) {
        match value {
            serde_json::Value::String(text) if text.contains('{') => *text = self.fill(text),
            serde_json::Value::Array(items) => items.iter_mut().for_each(|item| self.fill_value(item)),
            serde_json::Value::Object(map) => {
                for (key, item) in map {
                    if key != "origin" {
                        self.fill_value(item);
                    }
                }
            }
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn serial_numbers_have_one_form_and_some_are_none() {
        for serial in ["BF-7001", " bf-7001 ", "bf-7001\r\n", "B F-70.01", "\"BF-7001\"", "BF_-7001"] {
            assert_eq!(serial_name(serial), "BF-7001", "{serial:?}");
        }
        for none in [
            "",
            "  ",
            "0",
            "0000000",
            "To be filled by O.E.M.",
            "Default string",
            "System Serial Number",
            "None",
            "...",
            "xxxxxxx",
            "FFFFFFFF",
            "Not Specified",
            "-",
        ] {
            assert!(is_no_serial(none), "{none:?}");
        }
        for own in ["BF7001", "1", "7", "00001", "X1", "NONE1", "F00F"] {
            assert!(!is_no_serial(own), "{own:?}");
        }
        let list =
            SiteList::parse("name,serial\nA-1,bf 7001\nA-2,BF7001\nA-3,Default string\nA-4,\n").unwrap();
        let messages: Vec<String> = list.check(None, None).into_iter().map(|own| own.message).collect();
        assert_eq!(messages.len(), 2, "{messages:?}");
        assert!(messages[0].starts_with("row 3") && messages[0].ends_with("row 2"), "{messages:?}");
        assert!(messages[1].starts_with("row 4") && messages[1].contains("have none"), "{messages:?}");
    }

    #[test]
    fn lists_are_read_checked_and_filled_in() {
        let list = SiteList::parse(
            "name,serial,room\nLAB-01,A1,\"3, left\"\nLAB-02,A2,\nlab-01,A1,5\nBAD_NAME,,6\n",
        )
        .unwrap();
        assert_eq!(list.sites[0].cells["room"], "3, left");
        let mut model = Model::default();
        model.machine.owner = "Room {room}".into();
        model.machine.organisation = "{colour}".into();
        let messages: Vec<String> =
            list.check(Some(&model), None).into_iter().map(|own| own.message).collect();
        assert!(messages[0].contains("{colour}"), "{messages:?}");
        assert!(
            messages.iter().any(|own| own.starts_with("row 3: the cell \"room\" is empty")),
            "{messages:?}"
        );
        assert!(messages.iter().any(|own| own.contains("row 4") && own.contains("row 2")), "{messages:?}");
        assert!(messages.iter().any(|own| own.starts_with("row 5") && own.contains("'_'")), "{messages:?}");
        let filled = list.sites[0].fill_model(&model).unwrap();
        assert_eq!((filled.machine.owner.as_str(), filled.machine.name.as_str()), ("Room 3, left", "LAB-01"));
        assert_eq!(list.sites[0].fill("${HOME} {room} {x"), "${HOME} 3, left {x");
        assert!(SiteList::parse("serial,room\n1,2\n").is_err());
        let error = SiteList::parse("name,room\na\n").unwrap_err();
        assert!(error.to_string().contains("row 2"), "{error}");
    }
}
