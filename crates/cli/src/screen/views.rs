//! The rows of each page, and what is said of the marked one.

use super::state::{Devices, EditionRow, Screen, Shown, Tab};
use crate::show::{count, outside, size};
use neat_content::and_more;
use neat_service::{Category, Choice, Component};
use neat_stack::DeviceSummary;

/// A line of a page.
#[derive(Clone, Debug)]
pub(super) enum Row<'a> {
    /// A component of the edition.
    Component(&'a Component),
    /// An id or pattern of the stack file that fits nothing in it.
    Unknown(&'a str),
    /// An optional feature.
    Feature(&'a Component),
    Edition(&'a EditionRow),
    Device(&'a DeviceSummary),
}

impl Row<'_> {
    /// The id of the component that it is about.
    pub(super) fn id(&self) -> Option<&str> {
        match self {
            Self::Component(own) | Self::Feature(own) => Some(&own.id),
            Self::Unknown(_) | Self::Edition(_) | Self::Device(_) => None,
        }
    }
}

/// How a line of the details reads.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Tone {
    Plain,
    Heading,
    Quiet,
    Care,
    Follows,
}

/// The rows of the page that is shown.
pub(super) fn rows(screen: &Screen) -> Vec<Row<'_>> {
    let wanted = screen.search.to_lowercase();
    let fits =
        |texts: &[&str]| wanted.is_empty() || texts.iter().any(|text| text.to_lowercase().contains(&wanted));
    let of_component = |own: &&Component| fits(&[&own.id, &own.title, &own.group, &own.description]);
    match screen.tab {
        Tab::Components => {
            let Some(choice) = &screen.choice else { return Vec::new() };
            let category = screen.shown_category();
            let mut found: Vec<&Component> = choice
                .components()
                .filter(|own| category.is_none_or(|category| Category::of_id(&own.id) == category))
                .filter(of_component)
                .filter(|own| match screen.shown {
                    Shown::All => true,
                    Shown::Going => choice.taken().contains(&own.id),
                    Shown::Changed => change(screen, choice, &own.id) != ' ',
                })
                .collect();
            if screen.by_size {
                found.sort_by_key(|own| std::cmp::Reverse(own.bytes));
            }
            let unknown = choice.unknown().iter().map(String::as_str).filter(|text| {
                category.is_none() && !screen.reading && screen.shown != Shown::Changed && fits(&[text])
            });
            unknown.map(Row::Unknown).chain(found.into_iter().map(Row::Component)).collect()
        }
        Tab::Features => {
            let all = screen.choice.iter().flat_map(Choice::components);
            let features = all.filter(|own| Category::of_id(&own.id) == Category::Feature);
            features.filter(of_component).map(Row::Feature).collect()
        }
        Tab::Editions => {
            let fitting = screen.editions.iter().filter(|row| fits(&[&row.name, &row.facts]));
            fitting.map(Row::Edition).collect()
        }
        Tab::Devices => {
            let Devices::Known(Ok(devices)) = &screen.devices else { return Vec::new() };
            devices.iter().filter(|own| fits(&[&own.name, &own.id])).map(Row::Device).collect()
        }
    }
}

/// How the choice differs from the earlier one: `+` for what goes now and did not, `-` for what went and stays now.
pub(super) fn change(screen: &Screen, choice: &Choice, id: &str) -> char {
    match (&screen.earlier, choice.taken().contains(id)) {
        (Some(earlier), true) if !earlier.contains(id) => '+',
        (Some(earlier), false) if earlier.contains(id) => '-',
        _ => ' ',
    }
}

/// The word before a row.
pub(super) fn word(screen: &Screen, row: &Row<'_>) -> &'static str {
    match row {
        Row::Component(own) if !own.required.is_empty() => "stays",
        Row::Component(own) => {
            let goes = screen.choice.as_ref().is_some_and(|choice| choice.taken().contains(&own.id));
            if goes { "out" } else { "" }
        }
        Row::Unknown(_) => "none",
        Row::Feature(own) => match screen.features.get(feature_name(own)) {
            Some(true) => "on",
            Some(false) => "off",
            None => "",
        },
        Row::Edition(own) => {
            if own.kept {
                "keep"
            } else {
                "drop"
            }
        }
        Row::Device(own) => {
            if own.driver.is_some() {
                "ok"
            } else {
                "open"
            }
        }
    }
}

/// The name by which `[settings] features` knows a feature.
pub(super) fn feature_name(component: &Component) -> &str {
    component.id.strip_prefix("feature/").unwrap_or(&component.id)
}

/// The texts of a row: what it is called, how it is set, how much it is.
pub(super) fn texts(screen: &Screen, row: &Row<'_>) -> [String; 3] {
    let bytes = |bytes: u64| if bytes > 0 { size(bytes) } else { String::new() };
    match row {
        Row::Component(own) => {
            let named = screen.shown_category().is_some();
            let name =
                if named { own.id.split_once('/').map_or(&*own.id, |(_, name)| name) } else { &own.id };
            [clean(name), clean(&own.state), bytes(own.bytes)]
        }
        Row::Unknown(text) => [clean(text), "not in this edition".into(), String::new()],
        Row::Feature(own) => [clean(feature_name(own)), clean(&own.state), bytes(own.bytes)],
        Row::Edition(own) => [clean(&own.name), clean(&own.facts), bytes(own.bytes)],
        Row::Device(own) => {
            [clean(&own.name), clean(own.driver.as_deref().unwrap_or("no driver")), String::new()]
        }
    }
}

/// What is said of the marked row.
pub(super) fn details(screen: &Screen, row: &Row<'_>) -> Vec<(Tone, String)> {
    let mut lines: Vec<(Tone, String)> = Vec::new();
    let mut say = |tone: Tone, text: String| {
        if !text.is_empty() {
            lines.push((tone, text));
        }
    };
    match row {
        Row::Component(own) | Row::Feature(own) => {
            let is_titled = !own.title.is_empty() && !own.id.ends_with(&format!("/{}", own.title));
            let title =
                if is_titled { format!("{}  {}", clean(&own.title), clean(&own.id)) } else { clean(&own.id) };
            let parts = [clean(&own.version), clean(&own.state), clean(&own.group)];
            let facts: Vec<&str> = parts.iter().map(String::as_str).filter(|part| !part.is_empty()).collect();
            say(Tone::Heading, [&[title.as_str()], facts.as_slice()].concat().join("  "));
            if matches!(row, Row::Component(_)) {
                follows(screen, own, &mut say);
            } else {
                let wish = match screen.features.get(feature_name(own)) {
                    Some(true) => "is switched on",
                    Some(false) => "is switched off",
                    None => "stays as it is",
                };
                say(Tone::Follows, format!("It {wish}; Space goes on to the next."));
            }
            say(Tone::Plain, clean(&own.description));
            say(Tone::Care, clean(&own.caution));
            if own.gone_for_good {
                say(Tone::Care, "cannot be put back after installation".into());
            }
            let amount = if own.files > 0 || own.bytes > 0 {
                format!(
                    "{}: {} installed, {} of the image file",
                    count(own.files, "file", "files"),
                    size(own.bytes),
                    size(own.packed)
                )
            } else {
                String::new()
            };
            say(Tone::Quiet, amount);
            say(Tone::Quiet, list("needs", &own.needs));
            say(Tone::Quiet, list("needed by", &own.needed_by));
        }
        Row::Unknown(text) => {
            say(Tone::Heading, clean(text));
            say(
                Tone::Care,
                format!("The stack file names it, and nothing in {} fits.", clean(&screen.subject.edition)),
            );
            say(Tone::Follows, "Space takes it out of the stack file.".into());
        }
        Row::Edition(own) => {
            say(Tone::Heading, clean(&own.name));
            say(Tone::Quiet, clean(&own.facts));
            let turn = if own.kept { "drops it" } else { "keeps it" };
            say(Tone::Follows, format!("Space {turn}."));
        }
        Row::Device(own) => {
            say(Tone::Heading, format!("{}  {}", clean(&own.name), clean(&own.id)));
            say(Tone::Quiet, format!("from {}", clean(&own.list)));
            match &own.driver {
                Some(driver) => say(Tone::Plain, format!("served by {}", clean(driver))),
                None => say(
                    Tone::Care,
                    "No named driver serves it; the system may have one of its own. Add a pack that does: [[driver]] from = \"…\"".into(),
                ),
            }
        }
    }
    lines
}

/// What would happen if the component changed sides.
fn follows(screen: &Screen, own: &Component, say: &mut impl FnMut(Tone, String)) {
    let Some(choice) = screen.choice() else { return };
    let follows = choice.follows(&own.id);
    if !follows.refused.is_empty() {
        return say(Tone::Care, format!("stays: {}", clean(&follows.refused)));
    }
    let (ids, verb) = if follows.goes.is_empty() {
        (&follows.comes, "puts it back")
    } else {
        (&follows.goes, "takes it out")
    };
    let bytes: u64 = ids.iter().filter_map(|id| choice.component(id)).map(|own| own.bytes).sum();
    let amount = if screen.weighed { format!(" ({})", size(bytes)) } else { String::new() };
    let with = ids.get(1..).unwrap_or_default();
    say(
        Tone::Follows,
        match with {
            [] => format!("Space {verb}{amount}."),
            _ => format!("Space {verb}, and {}{amount}.", list("with it", with)),
        },
    );
}

/// Some ids of a list.
fn list(name: &str, ids: &[String]) -> String {
    const SHOWN: usize = 6;
    if ids.is_empty() {
        return String::new();
    }
    let shown: Vec<String> = ids.iter().take(SHOWN).map(|id| clean(id)).collect();
    format!("{name} {}{}", shown.join(", "), and_more(ids.len().saturating_sub(SHOWN)))
}

/// Text from outside, in one line and without what would move the cursor.
pub(super) fn clean(text: &str) -> String {
    outside::line(text).into_owned()
}
