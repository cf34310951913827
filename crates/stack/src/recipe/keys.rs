//! Which keys a stack file may have, so that none is ignored in silence.

use super::schema::{self, Shape};
use neat_content::{Error, Result, nearest};
use toml::de::{DeTable, DeValue};

/// Checks every key of `text`; the error names the line and, where one is near, the key that was meant.
pub(crate) fn check(text: &str) -> Result<()> {
    let document = DeTable::parse(text).map_err(|error| {
        let line = error.span().map_or(1, |span| schema::line_of(text, span.start));
        Error::request(
            format!("line {line}: {}", neat_content::plain_toml(error.message())),
            "correct the TOML; strings stand in double quotes",
        )
    })?;
    check_table(text, document.get_ref(), &schema::STACK, "")
}

fn check_table(text: &str, table: &DeTable<'_>, known: &Shape, path: &str) -> Result<()> {
    let Shape::Table(keys) = known else { return Ok(()) };
    for (key, value) in table {
        let name: &str = key.get_ref();
        let full = schema::joined(path, name);
        let Some(shape) = known.below(name) else {
            return Err(unknown(&full, name, schema::line_of(text, key.span().start), keys));
        };
        check_value(text, value.get_ref(), shape, &full)?;
    }
    Ok(())
}

fn check_value(text: &str, value: &DeValue<'_>, known: &Shape, path: &str) -> Result<()> {
    match value {
        DeValue::Table(table) => check_table(text, table, known, path),
        DeValue::Array(items) => {
            items.iter().try_for_each(|item| check_value(text, item.get_ref(), known, path))
        }
        // A value of another type is reported, with its line, when the file is read into its types.
        _ => Ok(()),
    }
}

fn unknown(full: &str, name: &str, line: usize, known: &[(String, Shape)]) -> Error {
    let names = || known.iter().map(|(name, _)| name.as_str());
    let hint = match nearest(name, names()) {
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("known here: {}", names().collect::<Vec<_>>().join(", ")),
    };
    Error::request(format!("line {line}: there is no key `{full}`"), hint)
}

#[cfg(test)]
mod tests {
    use super::*;

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
