//! Names with `{date}` and the like in them.

use crate::keys::nearest;
use neat_content::{Error, Result, Timestamp};

/// The time that names and media carry, handed in so that the core never looks at a clock.
#[derive(Clone, Copy, Debug)]
pub struct Clock {
    /// What `{date}` stands for.
    pub today: Timestamp,
    /// Time on the media where sources give none that is newer; `SOURCE_DATE_EPOCH` where it is set.
    pub fixed: Option<Timestamp>,
}

const KNOWN: [&str; 1] = ["date"];
const LATER: [&str; 3] = ["edition", "arch", "build"];

/// `text` with its placeholders filled in; `key` is where it stands.
pub(crate) fn fill(text: &str, key: &str, clock: &Clock) -> Result<String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some((front, after)) = rest.split_once('{') {
        let Some((name, back)) = after.split_once('}') else {
            return Err(Error::request(format!("`{key}`: {text:?} has a {{ without its }}"), "write {date}"));
        };
        out.push_str(front);
        match name {
            "date" => out.push_str(&date(clock.today)),
            _ if LATER.contains(&name) => {
                return Err(Error::request(
                    format!("`{key}`: {{{name}}} is not built yet in this version"),
                    "write the text itself",
                ));
            }
            _ => {
                let near = nearest(name, &KNOWN).unwrap_or("date");
                return Err(Error::request(
                    format!("`{key}`: there is no {{{name}}}"),
                    format!("did you mean {{{near}}}?"),
                ));
            }
        }
        rest = back;
    }
    out.push_str(rest);
    Ok(out)
}

/// Year, month and day in UTC.
pub(crate) fn date(time: Timestamp) -> String {
    let moment = jiff::Timestamp::new(time.seconds, 0).unwrap_or_default();
    moment.strftime("%Y-%m-%d").to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn placeholders_are_filled_and_unknown_ones_named() {
        let clock = Clock { today: Timestamp::from_seconds(1_700_000_000), fixed: None };
        assert_eq!(fill("a-{date}.iso", "media.iso", &clock).unwrap(), "a-2023-11-14.iso");
        assert!(fill("{dat}", "media.iso", &clock).unwrap_err().hint().contains("{date}"));
        assert!(fill("{arch}", "media.iso", &clock).unwrap_err().to_string().contains("not built yet"));
        assert!(fill("{date", "media.iso", &clock).is_err());
    }
}
