//! Names with `{date}` and the like in them.

use crate::report::EditionSummary;
use neat_answer::Site;
use neat_content::{Error, Result, Timestamp, nearest};

/// The time that names and media carry, handed in so that the core never looks at a clock.
#[derive(Clone, Copy, Debug)]
pub struct Clock {
    /// What `{date}` stands for.
    pub today: Timestamp,
    /// Time on the media where sources give none that is newer; `SOURCE_DATE_EPOCH` where it is set.
    pub fixed: Option<Timestamp>,
}

/// What placeholders stand for.
pub(crate) struct Names<'a> {
    pub clock: &'a Clock,
    /// Editions on the finished media.
    pub editions: Vec<&'a EditionSummary>,
    /// Machine of a site list, whose columns may stand in names.
    pub site: Option<&'a Site>,
}

const KNOWN: [&str; 4] = ["date", "edition", "arch", "build"];

/// `text` with its placeholders filled in; `key` is where it stands.
pub(crate) fn fill(text: &str, key: &str, names: &Names<'_>) -> Result<String> {
    let mut out = String::new();
    let mut rest = text;
    while let Some((front, after)) = rest.split_once('{') {
        let Some((name, back)) = after.split_once('}') else {
            return Err(Error::request(format!("`{key}`: {text:?} has a {{ without its }}"), "write {date}"));
        };
        out.push_str(front);
        out.push_str(&value(name, key, names)?);
        rest = back;
    }
    out.push_str(rest);
    Ok(out)
}

fn value(name: &str, key: &str, names: &Names<'_>) -> Result<String> {
    if let Some(cell) = names.site.and_then(|site| site.cells.get(name)) {
        // What stands in a cell is a part of a name, never a path.
        return Ok(cell.replace(['/', '\\'], "-"));
    }
    let of_edition: fn(&EditionSummary) -> &str = match name {
        "date" => return Ok(date(names.clock.today)),
        "edition" => |edition| if edition.edition.is_empty() { &edition.name } else { &edition.edition },
        "arch" => |edition| &edition.architecture,
        // The third number of the version.
        "build" => |edition| edition.version.split('.').nth(2).unwrap_or_default(),
        _ => {
            let near = nearest(name, KNOWN).unwrap_or("date");
            return Err(Error::request(
                format!("`{key}`: there is no {{{name}}}"),
                format!("did you mean {{{near}}}?"),
            ));
        }
    };
    let mut values: Vec<&str> = names.editions.iter().map(|edition| of_edition(edition)).collect();
    values.dedup();
    match values.as_slice() {
        [one] if !one.is_empty() => Ok(one.replace(['/', '\\'], "-")),
        [] | [_] => Err(Error::request(
            format!("`{key}`: the media has no image file that says what {{{name}}} is"),
            "write the text itself",
        )),
        several => Err(Error::request(
            format!("`{key}`: {{{name}}} is not one thing here but {}", several.join(", ")),
            "keep one edition, or write the text itself",
        )),
    }
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
        let info = neat_image::EditionInfo {
            name: "Quay OS 7 Bridge".into(),
            system: Some(neat_image::SystemInfo {
                architecture: "x64".into(),
                edition: "Bridge".into(),
                version: Some([7, 0, 7042, 3]),
                ..neat_image::SystemInfo::default()
            }),
            ..neat_image::EditionInfo::default()
        };
        let bridge = EditionSummary::new(1, &info, None);
        let kiosk = EditionSummary { edition: "Kiosk".into(), ..bridge.clone() };
        let names = |editions| Names { clock: &clock, editions, site: None };
        let one = names(vec![&bridge]);
        assert_eq!(fill("a-{date}.iso", "media.iso", &names(vec![])).unwrap(), "a-2023-11-14.iso");
        assert_eq!(fill("{edition}_{arch}_{build}", "media.label", &one).unwrap(), "Bridge_x64_7042");
        let two = names(vec![&bridge, &kiosk]);
        assert_eq!(fill("{arch}", "media.label", &two).unwrap(), "x64");
        assert!(fill("{edition}", "media.label", &two).unwrap_err().to_string().contains("Bridge, Kiosk"));
        assert!(fill("{build}", "media.label", &names(vec![])).is_err());
        assert!(fill("{dat}", "media.iso", &one).unwrap_err().hint().to_string().contains("{date}"));
        assert!(fill("{date", "media.iso", &one).is_err());
    }
}
