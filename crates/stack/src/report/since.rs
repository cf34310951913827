//! What has changed since an earlier build: in a plan of the same recipe for the next release, or between two ledgers.

use super::{EditionWork, Ledger, LedgerItem, PlanReport};
use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

/// An item whose fate is another now.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ItemChange {
    /// Edition, as it is called now.
    pub edition: String,
    /// What sort of item.
    pub kind: String,
    /// Which one.
    pub subject: String,
    /// What became of it then: `applied`, `skipped`, `refused`; nothing where it was not there.
    pub before: Option<String>,
    /// What becomes of it now.
    pub after: Option<String>,
    /// Why, or what exactly.
    pub detail: String,
}

/// Components of a category that were not there then, while the recipe takes some of their kind out.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct NewComponents {
    /// Edition.
    pub edition: String,
    /// Word of the category.
    pub category: String,
    /// Their ids.
    pub ids: Vec<String>,
}

/// A file that comes out, and its size.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct SizeChange {
    /// Where it is now, or was.
    pub path: String,
    /// Bytes then.
    pub before: Option<u64>,
    /// Bytes now.
    pub after: Option<u64>,
}

/// What differs from an earlier build.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Since {
    /// Editions that there are no more.
    pub editions_gone: Vec<String>,
    /// Editions that there were not.
    pub editions_new: Vec<String>,
    /// Items whose fate is another.
    pub items: Vec<ItemChange>,
    /// New components of categories that the recipe thins.
    pub new_components: Vec<NewComponents>,
    /// What comes out, where its size or name is another.
    pub sizes: Vec<SizeChange>,
}

/// What both a ledger and a plan say.
#[derive(Default)]
struct Facts {
    items: Vec<LedgerItem>,
    /// Ids by edition and category.
    components: BTreeMap<(String, String), BTreeSet<String>>,
    /// Form, path and bytes.
    outputs: Vec<(String, String, u64)>,
}

impl Facts {
    fn of_ledger(ledger: &Ledger) -> Self {
        let components = ledger
            .components
            .iter()
            .map(|own| ((own.edition.clone(), own.category.clone()), own.ids.iter().cloned().collect()));
        let outputs = ledger.outputs.iter().map(|own| (own.form.clone(), own.path.clone(), own.size));
        Self { items: ledger.items.clone(), components: components.collect(), outputs: outputs.collect() }
    }

    fn of_plan(report: &PlanReport) -> Self {
        let work = &report.editions_work;
        let components = work.iter().flat_map(|work| {
            work.components.iter().map(|(category, ids)| {
                ((work.edition.clone(), (*category).to_owned()), ids.iter().cloned().collect())
            })
        });
        let outputs = report.outputs.iter().map(|own| (own.form.to_owned(), own.path.clone(), own.size));
        Self {
            items: work.iter().flat_map(EditionWork::ledger_items).collect(),
            components: components.collect(),
            outputs: outputs.collect(),
        }
    }

    fn editions(&self) -> BTreeSet<&str> {
        self.items.iter().map(|item| item.edition.as_str()).collect()
    }

    /// Calls an edition by another name.
    fn rename(&mut self, from: &str, to: &str) {
        for item in self.items.iter_mut().filter(|item| item.edition == from) {
            to.clone_into(&mut item.edition);
        }
        let components = std::mem::take(&mut self.components);
        let renamed = |((edition, category), ids): ((String, String), _)| {
            ((if edition == from { to.to_owned() } else { edition }, category), ids)
        };
        self.components = components.into_iter().map(renamed).collect();
    }
}

impl Since {
    /// What a plan changes against the build of a ledger.
    pub fn plan(ledger: &Ledger, report: &PlanReport) -> Self {
        Self::between(Facts::of_ledger(ledger), &Facts::of_plan(report))
    }

    /// What the second of two builds did otherwise.
    pub fn ledgers(before: &Ledger, after: &Ledger) -> Self {
        Self::between(Facts::of_ledger(before), &Facts::of_ledger(after))
    }

    /// Whether nothing differs.
    pub fn is_nothing(&self) -> bool {
        *self == Self::default()
    }

    fn between(mut before: Facts, after: &Facts) -> Self {
        let names = |all: BTreeSet<&str>, others: &BTreeSet<&str>| -> Vec<String> {
            all.difference(others).map(|name| (*name).to_owned()).collect()
        };
        let mut since = Self {
            editions_gone: names(before.editions(), &after.editions()),
            editions_new: names(after.editions(), &before.editions()),
            ..Self::default()
        };
        // One that has gone and one that is new are the same under another name.
        if let ([from], [to]) = (since.editions_gone.as_slice(), since.editions_new.as_slice()) {
            before.rename(from, to);
        }
        since.items = items(&before.items, &after.items);
        for ((edition, category), ids) in &after.components {
            // Without a record of then everything would seem new.
            let Some(known) = before.components.get(&(edition.clone(), category.clone())) else { continue };
            let new: Vec<String> = ids.difference(known).cloned().collect();
            if !new.is_empty() {
                since.new_components.push(NewComponents {
                    edition: edition.clone(),
                    category: category.clone(),
                    ids: new,
                });
            }
        }
        since.sizes = sizes(&before.outputs, &after.outputs);
        since
    }
}

fn items(before: &[LedgerItem], after: &[LedgerItem]) -> Vec<ItemChange> {
    type Key<'a> = (&'a str, &'a str, &'a str);
    fn by_key(items: &[LedgerItem]) -> BTreeMap<Key<'_>, &LedgerItem> {
        items.iter().map(|item| ((&*item.edition, &*item.kind, &*item.subject), item)).collect()
    }
    let (then, now) = (by_key(before), by_key(after));
    let keys: BTreeSet<&Key<'_>> = then.keys().chain(now.keys()).collect();
    let changes = keys.into_iter().filter_map(|key| {
        let (was, is) = (then.get(key), now.get(key));
        let verdict = |item: Option<&&LedgerItem>| item.map(|item| item.verdict.clone());
        let (before, after) = (verdict(was), verdict(is));
        (before != after).then(|| ItemChange {
            edition: key.0.to_owned(),
            kind: key.1.to_owned(),
            subject: key.2.to_owned(),
            detail: is.map_or_else(String::new, |item| item.detail.clone()),
            before,
            after,
        })
    });
    changes.collect()
}

/// Files of the same form belong together, in their order.
fn sizes(before: &[(String, String, u64)], after: &[(String, String, u64)]) -> Vec<SizeChange> {
    let forms: BTreeSet<&str> = before.iter().chain(after).map(|(form, ..)| form.as_str()).collect();
    let mut changes = Vec::new();
    for form in forms {
        let of = |all: &[(String, String, u64)]| -> Vec<(String, u64)> {
            all.iter().filter(|own| own.0 == form).map(|own| (own.1.clone(), own.2)).collect()
        };
        let (then, now) = (of(before), of(after));
        for n in 0..then.len().max(now.len()) {
            let (was, is) = (then.get(n), now.get(n));
            let size = |own: Option<&(String, u64)>| own.map(|(_, size)| *size);
            if size(was) != size(is) {
                let path = is.or(was).map(|(path, _)| path.clone()).unwrap_or_default();
                changes.push(SizeChange { path, before: size(was), after: size(is) });
            }
        }
    }
    changes
}
