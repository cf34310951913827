//! Which updates go into an edition, and in which order.

use super::{Update, UpdateType, Version};
use crate::Architecture;
use std::collections::{BTreeMap, BTreeSet};

/// The edition that updates go into.
#[derive(Clone, Debug, Default)]
pub struct TargetEdition {
    /// Its architecture, if it says.
    pub architecture: Option<Architecture>,
    /// Version of the system in it.
    pub version: Option<Version>,
    /// Its languages.
    pub languages: Vec<String>,
    /// Ids of the updates that are in it, with their versions.
    pub integrated: BTreeMap<String, Version>,
    /// Ids that those replace.
    pub replaced: BTreeSet<String>,
}

/// An update that may go in.
pub type Candidate<'a> = &'a Update;

/// What becomes of an update.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Outcome {
    /// It goes in; its turn, from 0.
    Applied(usize),
    /// It is not needed, and why.
    Skipped(String),
    /// It cannot go in, and why.
    Refused(String),
    /// It is for other systems, and why.
    Elsewhere(String),
}

/// What becomes of each update, in the order in which they were given.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ordered {
    /// One for each.
    pub outcomes: Vec<Outcome>,
    /// Numbers of those that go in, in their order.
    pub order: Vec<usize>,
}

/// Works out which of `updates` go into an edition, and in which order: servicing ones first, then each after those
/// that it needs, then by version and id.
pub fn order(updates: &[Candidate<'_>], edition: &TargetEdition) -> Ordered {
    let mut outcomes: Vec<Option<Outcome>> =
        updates.iter().map(|update| wrong_edition(update, edition).map(Outcome::Elsewhere)).collect();
    for n in 0..updates.len() {
        if outcomes[n].is_none() {
            outcomes[n] = not_needed(n, updates, &outcomes, edition).map(Outcome::Skipped);
        }
    }
    let mut order = Vec::new();
    let mut done: BTreeSet<&str> = edition.integrated.keys().map(String::as_str).collect();
    let mut version = edition.version.clone();
    loop {
        // The next one whose needs are in; a language package comes after those that change the system.
        let ready = (0..updates.len()).filter(|n| {
            outcomes[*n].is_none()
                && missing(updates[*n], &done, edition).is_none()
                && is_new_enough(updates[*n], version.as_ref())
        });
        let turn = |n: &usize| {
            let section = &updates[*n].section;
            (
                section.kind != UpdateType::Servicing,
                section.kind == UpdateType::Language,
                section.version.clone(),
                section.id.clone(),
            )
        };
        let Some(next) = ready.min_by_key(turn) else { break };
        outcomes[next] = Some(Outcome::Applied(order.len()));
        order.push(next);
        let section = &updates[next].section;
        done.insert(&section.id);
        done.extend(section.replaces.iter().map(String::as_str));
        if let Some(resulting) = &section.resulting_system {
            version = version.max(Some(resulting.clone()));
        }
    }
    let finished = outcomes.into_iter().enumerate().map(|(n, outcome)| {
        outcome.unwrap_or_else(|| Outcome::Refused(why_left(updates[n], &done, edition, version.as_ref())))
    });
    Ordered { outcomes: finished.collect(), order }
}

fn wrong_edition(update: &Update, edition: &TargetEdition) -> Option<String> {
    let section = &update.section;
    if let (Some(wanted), Some(own)) = (update.architecture, edition.architecture)
        && wanted != own
    {
        return Some(format!("it is for {}, and the edition is {}", wanted.name(), own.name()));
    }
    if let (Some(language), false) = (&section.language, section.kind == UpdateType::Language)
        && !edition.languages.is_empty()
        && !edition.languages.iter().any(|own| own.eq_ignore_ascii_case(language))
    {
        return Some(format!("it is for {language}, and the edition has {}", edition.languages.join(", ")));
    }
    None
}

fn not_needed(
    n: usize,
    updates: &[Candidate<'_>],
    outcomes: &[Option<Outcome>],
    edition: &TargetEdition,
) -> Option<String> {
    let section = &updates[n].section;
    if edition.integrated.get(&section.id).is_some_and(|version| *version >= section.version) {
        return Some("it is in the edition already".into());
    }
    if edition.replaced.contains(&section.id) {
        return Some("what is in the edition already replaces it".into());
    }
    for (m, other) in updates.iter().enumerate() {
        let refused = matches!(outcomes[m], Some(Outcome::Refused(_) | Outcome::Elsewhere(_)));
        if m == n || refused {
            continue;
        }
        let other = &other.section;
        if other.replaces.contains(&section.id) {
            return Some(format!("{} replaces it", other.id));
        }
        let same_series =
            other.id == section.id || section.series.is_some() && section.series == other.series;
        let newer = (&other.version, m) > (&section.version, n);
        if same_series && newer {
            let word = if other.version == section.version { "is the same" } else { "is newer" };
            return Some(format!("{} {} {word}", other.id, other.version));
        }
    }
    None
}

/// The first need that is not in.
fn missing<'a>(update: &'a Update, done: &BTreeSet<&str>, edition: &TargetEdition) -> Option<&'a str> {
    let needs = update.section.needs.iter().map(String::as_str);
    needs.into_iter().find(|need| !done.contains(need) && !edition.replaced.contains(*need))
}

fn is_new_enough(update: &Update, version: Option<&Version>) -> bool {
    match (&update.section.minimum_system, version) {
        (Some(minimum), Some(version)) => version >= minimum,
        _ => true,
    }
}

fn why_left(
    update: &Update,
    done: &BTreeSet<&str>,
    edition: &TargetEdition,
    version: Option<&Version>,
) -> String {
    if let Some(need) = missing(update, done, edition) {
        format!("it needs {need}, which is neither in the edition nor among the updates that go in")
    } else {
        let minimum = update.section.minimum_system.clone().unwrap_or_default();
        let version = version.cloned().unwrap_or_default();
        format!("it wants the system to be {minimum} or newer, and it is {version}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::update::UpdateSection;

    fn update(id: &str, version: &str, change: impl FnOnce(&mut UpdateSection)) -> Update {
        let mut section = UpdateSection {
            id: id.into(),
            version: Version::parse(version).unwrap(),
            ..UpdateSection::default()
        };
        change(&mut section);
        let architecture = section.architecture.as_deref().and_then(Architecture::of_word);
        Update { section, architecture, files: Vec::new(), registry: Vec::new(), checked: true }
    }

    fn edition() -> TargetEdition {
        TargetEdition {
            architecture: Some(Architecture::X64),
            version: Version::parse("7.0.7042"),
            languages: vec!["en-GB".into()],
            ..TargetEdition::default()
        }
    }

    fn run(updates: &[Update], edition: &TargetEdition) -> (Vec<String>, Vec<String>) {
        let all: Vec<&Update> = updates.iter().collect();
        let ordered = order(&all, edition);
        let why = ordered.outcomes.iter().enumerate().filter_map(|(n, outcome)| match outcome {
            Outcome::Applied(_) => None,
            Outcome::Skipped(why) => Some(format!("{} skipped: {why}", updates[n].section.id)),
            Outcome::Refused(why) | Outcome::Elsewhere(why) => {
                Some(format!("{} refused: {why}", updates[n].section.id))
            }
        });
        (ordered.order.iter().map(|n| updates[*n].section.id.clone()).collect(), why.collect())
    }

    #[test]
    fn servicing_comes_first_then_needs_and_the_newest_of_a_series_wins() {
        let cumulative = |id: &str, version: &str| {
            update(id, version, |u| {
                u.kind = UpdateType::Cumulative;
                u.series = Some("monthly".into());
                u.needs = vec!["stack".into()];
                u.resulting_system = Version::parse("7.0.7091");
            })
        };
        let updates = [
            cumulative("october", "10"),
            cumulative("september", "9"),
            update("language", "1", |u| {
                u.kind = UpdateType::Language;
                u.language = Some("nb-NO".into());
                u.minimum_system = Version::parse("7.0.7091");
            }),
            update("stack", "99", |u| u.kind = UpdateType::Servicing),
            update("arm", "1", |u| u.architecture = Some("arm64".into())),
            update("fix", "1", |_| {}),
        ];
        let (order, why) = run(&updates, &edition());
        assert_eq!(order, ["stack", "fix", "october", "language"]);
        assert_eq!(
            why,
            [
                "september skipped: october 10 is newer",
                "arm refused: it is for arm64, and the edition is x64"
            ]
        );
    }

    #[test]
    fn what_is_in_is_skipped_and_what_lacks_something_is_refused() {
        let mut edition = edition();
        edition.integrated.insert("in".into(), Version::parse("2").unwrap());
        edition.replaced.insert("old".into());
        let updates = [
            update("in", "2", |_| {}),
            update("old", "1", |_| {}),
            update("lost", "1", |u| u.needs = vec!["nowhere".into()]),
            update("a", "1", |u| u.needs = vec!["b".into()]),
            update("b", "1", |u| u.needs = vec!["a".into()]),
            update("future", "1", |u| u.minimum_system = Version::parse("8")),
            update("german", "1", |u| u.language = Some("de-DE".into())),
            update("gone", "1", |_| {}),
            update("newer", "1", |u| u.replaces = vec!["gone".into()]),
            update("wants-old", "1", |u| u.needs = vec!["old".into()]),
        ];
        let (order, why) = run(&updates, &edition);
        assert_eq!(order, ["newer", "wants-old"]);
        let expected = [
            "in skipped: it is in the edition already",
            "old skipped: what is in the edition already replaces it",
            "lost refused: it needs nowhere",
            "a refused: it needs b",
            "b refused: it needs a",
            "future refused: it wants the system to be 8 or newer, and it is 7.0.7042",
            "german refused: it is for de-DE, and the edition has en-GB",
            "gone skipped: newer replaces it",
        ];
        assert_eq!(why.len(), expected.len());
        for (why, expected) in why.iter().zip(expected) {
            assert!(why.starts_with(expected), "{why}");
        }
    }

    #[test]
    fn the_order_of_arguments_does_not_matter() {
        let make = |id: &str, needs: &[&str]| {
            update(id, "1", |u| u.needs = needs.iter().map(|need| (*need).to_owned()).collect())
        };
        let mut updates = vec![make("d", &["c", "a"]), make("c", &["b"]), make("b", &["a"]), make("a", &[])];
        for _ in 0..4 {
            assert_eq!(run(&updates, &edition()).0, ["a", "b", "c", "d"]);
            updates.rotate_left(1);
        }
        assert_eq!(Version::parse("7.1.0"), Version::parse("7.1"));
        assert!(Version::parse("7.0.10") > Version::parse("7.0.9.5"));
        assert_eq!(Version::parse("7.x"), None);
    }
}
