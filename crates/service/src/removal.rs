//! Taking components out, with what follows from it worked out before anything happens.

use crate::{Edition, Inventory, Item, OtherFiles, inventory::Together, pattern};
use neat_content::{Result, counted};
use neat_image::EntryId;
use std::collections::{BTreeMap, BTreeSet};

/// What is to go.
#[derive(Clone, Debug, Default)]
pub struct RemovalRequest {
    /// Ids and patterns.
    pub remove: Vec<String>,
    /// Ids and patterns that stay, whatever the others say.
    pub keep: Vec<String>,
    /// Whether what needs a component goes with it.
    pub with_dependents: bool,
}

/// What will go from an edition, and what will not.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Removal {
    /// Ids that go, with why: empty where it was asked for.
    pub goes: BTreeMap<String, String>,
    /// Ids that stay though they were asked for by a pattern, with why.
    pub stays: BTreeMap<String, String>,
    /// Ids that must not go, with why.
    pub refused: BTreeMap<String, String>,
    /// Ids and patterns that nothing fits, with what was perhaps meant.
    pub unknown: Vec<(String, Vec<String>)>,
}

impl Removal {
    /// Works out what taking these components out of an edition means.
    pub fn plan(inventory: &Inventory, request: &RemovalRequest, removed_before: &[String]) -> Self {
        let mut plan = Self::default();
        let components = &inventory.components;
        let fitting = |text: &String| -> Vec<&String> {
            components.keys().filter(|id| pattern::matches(text, id)).collect()
        };
        let kept: BTreeSet<&String> = request.keep.iter().flat_map(&fitting).collect();
        let held = holders(inventory, &kept);
        let mut asked: BTreeMap<&String, bool> = BTreeMap::new();
        for text in &request.remove {
            let ids = fitting(text);
            let gone_before = || removed_before.iter().any(|id| pattern::matches(text, id));
            if ids.is_empty() && !gone_before() {
                let near = pattern::nearest(text, components.keys().map(String::as_str));
                plan.unknown.push((text.clone(), near.into_iter().map(str::to_owned).collect()));
            }
            for id in ids {
                *asked.entry(id).or_default() |= !pattern::is_pattern(text);
            }
        }
        for (id, by_name) in asked {
            if kept.contains(id) {
                plan.stays.insert(id.clone(), "`keep` names it".into());
            } else if let Some(holder) = held.get(id) {
                let why = format!("{holder}, which `keep` names, needs it");
                if by_name { &mut plan.refused } else { &mut plan.stays }.insert(id.clone(), why);
            } else if let Some(component) =
                components.get(id).filter(|component| !component.required.is_empty())
            {
                let why = component.required.clone();
                if by_name { &mut plan.refused } else { &mut plan.stays }.insert(id.clone(), why);
            } else {
                plan.goes.insert(id.clone(), String::new());
            }
        }
        plan.follow(inventory, request.with_dependents, &kept);
        plan
    }

    /// What needs something that goes must go too, or the something stays.
    fn follow(&mut self, inventory: &Inventory, with_dependents: bool, kept: &BTreeSet<&String>) {
        loop {
            let change = self.goes.keys().find_map(|id| {
                let needed_by = &inventory.components.get(id)?.needed_by;
                let dependent = needed_by.iter().find(|dependent| !self.goes.contains_key(*dependent))?;
                Some((id.clone(), dependent.clone()))
            });
            let Some((id, dependent)) = change else { return };
            let required =
                inventory.components.get(&dependent).is_some_and(|component| !component.required.is_empty());
            let may_go = with_dependents
                && !required
                && !kept.contains(&dependent)
                && !self.refused.contains_key(&dependent);
            if may_go {
                self.stays.remove(&dependent);
                self.goes.insert(dependent, format!("it needs {id}"));
            } else {
                // What would have gone only because of it stays too.
                let mut pending = vec![id.clone()];
                while let Some(id) = pending.pop() {
                    self.goes.remove(&id);
                    let because = format!("it needs {id}");
                    pending.extend(
                        self.goes.iter().filter(|(_, why)| **why == because).map(|(id, _)| id.clone()),
                    );
                }
                self.refused.insert(id, format!("{dependent} needs it"));
            }
        }
    }

    /// Takes what goes out of the edition. Returns an item for each component.
    pub fn apply(
        &self,
        edition: &mut Edition,
        inventory: &Inventory,
        others: Option<&OtherFiles>,
    ) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        let going = || self.goes.keys().filter_map(|id| inventory.components.get(id));
        let all_go = |holders: &[String]| holders.iter().all(|id| self.goes.contains_key(id));
        let held: Vec<EntryId> = inventory
            .held
            .iter()
            .filter(|(holders, _)| all_go(holders))
            .flat_map(|(_, entries)| entries.iter().copied())
            .collect();
        let mut entries: Vec<EntryId> = going().flat_map(|own| own.entries.iter().copied()).collect();
        entries.extend(&held);
        let together = (!entries.is_empty()).then(|| Together::of(edition, &entries, others));
        let alone: u64 = going().map(|own| own.packed).sum();
        let stays: BTreeMap<&String, u64> = together
            .iter()
            .flat_map(|all| going().map(|own| (&own.id, all.stays_of(edition, own))))
            .collect();
        for (id, why) in &self.goes {
            let Some(component) = inventory.components.get(id) else { continue };
            for entry in &component.entries {
                edition.remove(*entry);
            }
            for (role, key) in &component.keys {
                let hive = edition.hive_mut(*role)?;
                if let Some(found) = hive.find(key) {
                    hive.delete(found);
                }
            }
            for (role, key, value) in &component.values {
                let hive = edition.hive_mut(*role)?;
                if let Some(found) = hive.find(key) {
                    hive.delete_value(found, value);
                }
            }
            if !edition.record.removed.contains(id) {
                edition.record.removed.push(id.clone());
            }
            // What one regrets afterwards is said before.
            let lasting = if component.gone_for_good { "cannot be put back after installation" } else { "" };
            let stays = stays.get(id).copied().filter(|bytes| *bytes > 0).map(|bytes| {
                format!("{} of it stay: other files are the same", counted(bytes, "byte", "bytes"))
            });
            let stays = stays.unwrap_or_default();
            let parts = [why.as_str(), lasting, component.caution.as_str(), stays.as_str()];
            let detail = parts.into_iter().filter(|part| !part.is_empty()).collect::<Vec<_>>().join("; ");
            items.push(Item::applied("remove", id, detail, -(component.packed as i64)));
        }
        for entry in held {
            edition.remove(entry);
        }
        // What two of them have alike goes only with both, and is counted with neither.
        let shared = together.map_or(0, |all| all.packed).saturating_sub(alone);
        if shared > 0 {
            let what = "content that several of these have alike";
            items.push(Item::applied("remove", "together", what, -(shared as i64)));
        }
        // An app that an update would bring back is named as one that must not come again.
        self.not_again(edition, inventory)?;
        items.extend(self.stays.iter().map(|(id, why)| Item::skipped("remove", id, why)));
        items.extend(self.refused.iter().map(|(id, why)| Item::refused("remove", id, why)));
        for (text, near) in &self.unknown {
            let hint =
                if near.is_empty() { String::new() } else { format!("; did you mean {}?", near.join(", ")) };
            items.push(Item::skipped("remove", text, format!("nothing in this edition fits{hint}")));
        }
        Ok(items)
    }

    fn not_again(&self, edition: &mut Edition, inventory: &Inventory) -> Result<()> {
        let Some(apps) = edition.layout.as_ref().and_then(|layout| layout.apps.clone()) else {
            return Ok(());
        };
        for id in self.goes.keys().filter(|id| id.starts_with("app/")) {
            let keys =
                inventory.components.get(id).map(|component| component.keys.as_slice()).unwrap_or_default();
            // Full name: name, version, architecture, resource, publisher; family: name and publisher.
            let families: BTreeSet<String> = keys
                .iter()
                .filter_map(|(_, key)| {
                    let parts: Vec<&str> = key.rsplit('\\').next()?.split('_').collect();
                    (parts.len() == 5).then(|| format!("{}_{}", parts[0], parts[4]))
                })
                .collect();
            for family in families {
                let path = format!("{}\\{family}", apps.not_again);
                let hive = edition.hive_mut(neat_registry::HiveRole::Software)?;
                hive.create(&path).map_err(|error| crate::settings::bad_name(&path, error))?;
            }
        }
        Ok(())
    }
}

/// What each kept component needs, directly or through others, and who needs it.
pub(crate) fn holders<'a>(
    inventory: &'a Inventory,
    kept: &BTreeSet<&'a String>,
) -> BTreeMap<&'a String, &'a String> {
    let mut held = BTreeMap::new();
    for keeper in kept {
        let mut pending = vec![*keeper];
        while let Some(id) = pending.pop() {
            let needs =
                inventory.components.get(id).map(|component| component.needs.as_slice()).unwrap_or_default();
            for need in needs {
                if !kept.contains(need) && held.insert(need, *keeper).is_none() {
                    pending.push(need);
                }
            }
        }
    }
    held
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Component;
    use proptest::prelude::*;

    fn inventory(needs: &[(&str, &[&str])]) -> Inventory {
        let mut inventory = Inventory::default();
        for (id, _) in needs {
            inventory.components.insert((*id).into(), Component { id: (*id).into(), ..Component::default() });
        }
        for (id, needs) in needs {
            for need in *needs {
                inventory.components.get_mut(*need).unwrap().needed_by.push((*id).into());
                inventory.components.get_mut(*id).unwrap().needs.push((*need).into());
            }
        }
        inventory
    }

    fn plan(inventory: &Inventory, remove: &[&str], keep: &[&str], with_dependents: bool) -> [String; 3] {
        let own = |list: &[&str]| list.iter().map(|text| (*text).to_owned()).collect();
        let request = RemovalRequest { remove: own(remove), keep: own(keep), with_dependents };
        let plan = Removal::plan(inventory, &request, &[]);
        [&plan.goes, &plan.stays, &plan.refused]
            .map(|map| map.iter().map(|(id, why)| format!("{id}({why})")).collect::<Vec<_>>().join(" "))
    }

    #[test]
    fn what_is_needed_stays_unless_its_dependents_go_too() {
        let all = inventory(&[("a/1", &["a/2"]), ("a/2", &["a/3"]), ("a/3", &[]), ("a/4", &[])]);
        assert_eq!(plan(&all, &["a/3"], &[], false), ["", "", "a/3(a/2 needs it)"]);
        assert_eq!(plan(&all, &["a/3"], &[], true), ["a/1(it needs a/2) a/2(it needs a/3) a/3()", "", ""]);
        assert_eq!(plan(&all, &["a/*"], &[], false), ["a/1() a/2() a/3() a/4()", "", ""]);
        let needs = "needs it";
        assert_eq!(
            plan(&all, &["a/*"], &["a/1"], false),
            [
                "a/4()".to_owned(),
                format!(
                    "a/1(`keep` names it) a/2(a/1, which `keep` names, {needs}) a/3(a/1, which `keep` names, {needs})"
                ),
                String::new()
            ]
        );
        assert_eq!(plan(&all, &["a/3"], &["a/1"], true), ["", "", "a/3(a/1, which `keep` names, needs it)"]);
    }

    #[test]
    fn circles_of_needs_and_required_ones_end() {
        let mut circle = inventory(&[("a/1", &["a/2"]), ("a/2", &["a/1"]), ("a/9", &["a/1"])]);
        assert_eq!(plan(&circle, &["a/1"], &[], true), ["a/1() a/2(it needs a/1) a/9(it needs a/1)", "", ""]);
        circle.components.get_mut("a/9").unwrap().required = "no".into();
        let [goes, _, refused] = plan(&circle, &["a/1"], &[], true);
        assert_eq!((goes.as_str(), refused.as_str()), ("", "a/1(a/9 needs it)"));
        assert_eq!(plan(&circle, &["a/9"], &[], false), ["", "", "a/9(no)"]);
        assert_eq!(plan(&circle, &["a/9*"], &[], false), ["", "a/9(no)", ""]);
    }

    #[test]
    fn near_misses_are_offered() {
        let all = inventory(&[("app/card-games", &[]), ("app/chart-viewer", &[])]);
        let request = RemovalRequest {
            remove: vec!["app/cardgames".into(), "feature/x*".into()],
            ..RemovalRequest::default()
        };
        let plan = Removal::plan(&all, &request, &["feature/xylophone".into()]);
        assert_eq!(plan.unknown, [("app/cardgames".to_owned(), vec!["app/card-games".to_owned()])]);
    }

    proptest! {
        #[test]
        fn nothing_that_stays_needs_anything_that_goes(
            edges in proptest::collection::vec((0_usize..9, 0_usize..9), 0..20),
            required in proptest::collection::btree_set(0_usize..9, 0..3),
            remove in proptest::collection::vec(0_usize..9, 1..6),
            keep in proptest::collection::vec(0_usize..9, 0..3),
            with_dependents in any::<bool>(),
        ) {
            let ids: Vec<String> = (0..9).map(|n| format!("app/{n}")).collect();
            let mut all = Inventory::default();
            for (n, id) in ids.iter().enumerate() {
                let required = if required.contains(&n) { "yes" } else { "" }.to_owned();
                all.components.insert(id.clone(), Component { id: id.clone(), required, ..Component::default() });
            }
            for (a, b) in edges.iter().filter(|(a, b)| a != b) {
                all.components.get_mut(&ids[*a]).unwrap().needs.push(ids[*b].clone());
                all.components.get_mut(&ids[*b]).unwrap().needed_by.push(ids[*a].clone());
            }
            let named = |list: &[usize]| list.iter().map(|n| ids[*n].clone()).collect::<Vec<_>>();
            let request = RemovalRequest { remove: named(&remove), keep: named(&keep), with_dependents };
            let plan = Removal::plan(&all, &request, &[]);
            for (id, component) in &all.components {
                if plan.goes.contains_key(id) {
                    prop_assert!(component.required.is_empty() && !request.keep.contains(id));
                    prop_assert!(!plan.refused.contains_key(id) && !plan.stays.contains_key(id));
                    prop_assert!(with_dependents || request.remove.contains(id), "{} was not asked for", id);
                } else {
                    for need in &component.needs {
                        prop_assert!(!plan.goes.contains_key(need), "{} stays and needs {}", id, need);
                    }
                }
            }
            // Nothing that was asked for is passed over in silence.
            for id in &request.remove {
                let told = plan.goes.contains_key(id) || plan.stays.contains_key(id) || plan.refused.contains_key(id);
                prop_assert!(told, "{} is not told of", id);
            }
        }
    }
}
