//! Choosing components one by one: what follows from each choice, before and after it is made.

use crate::{Component, Inventory, Profile, Removal, RemovalRequest, pattern, removal::holders};
use std::collections::BTreeSet;

/// What changes when one component changes sides.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Follows {
    /// Ids that go with it, itself first; nothing when it comes back.
    pub goes: Vec<String>,
    /// Ids that come back with it, itself first.
    pub comes: Vec<String>,
    /// Why it cannot change sides; empty when it can.
    pub refused: String,
}

/// Files and bytes of what goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct ChoiceTotals {
    /// Components.
    pub components: usize,
    /// Bytes on the installed disk. What two of them share counts for neither.
    pub bytes: u64,
    /// Bytes in the image file, likewise.
    pub packed: u64,
}

/// What a choice says in a recipe: ids, and no patterns.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ChoiceText {
    /// The profile that it starts from.
    pub profile: Option<String>,
    /// Ids that go besides those of the profile, and what this edition does not have.
    pub components: Vec<String>,
    /// Ids that stay though the profile takes them out, and what was kept before.
    pub keep: Vec<String>,
}

/// One state of a choice.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct State {
    taken: BTreeSet<String>,
    profile: Option<String>,
}

/// Which components of an edition are to go.
#[derive(Clone, Debug, Default)]
pub struct Choice {
    inventory: Inventory,
    profiles: Vec<(String, Profile)>,
    /// Ids and patterns that stay, as the recipe has them.
    keep: Vec<String>,
    state: State,
    unknown: Vec<String>,
    done: Vec<State>,
    undone: Vec<State>,
}

impl Choice {
    /// What `request` and a profile of these, if any, take out of an edition with this inventory.
    pub fn new(
        inventory: Inventory,
        profiles: Vec<(String, Profile)>,
        profile: Option<&str>,
        request: &RemovalRequest,
    ) -> Self {
        let keep = request.keep.clone();
        let mut choice = Self { inventory, profiles, keep, ..Self::default() };
        choice.state.profile = profile.map(str::to_owned);
        let mut all = request.clone();
        if let Some(profile) = choice.profile() {
            all.remove.extend(profile.remove.iter().cloned());
            all.keep.extend(profile.keep.iter().cloned());
        }
        let removal = Removal::plan(&choice.inventory, &all, &[]);
        choice.state.taken = removal.goes.into_keys().collect();
        // Of a profile, which is for many editions, much is not here.
        let unknown = removal.unknown.into_iter().map(|(text, _)| text);
        choice.unknown = unknown.filter(|text| request.remove.contains(text)).collect();
        choice
    }

    /// The profiles that can be taken, by their names.
    pub fn profiles(&self) -> &[(String, Profile)] {
        &self.profiles
    }

    /// The name of the profile that it starts from.
    pub fn profile_name(&self) -> Option<&str> {
        self.state.profile.as_deref()
    }

    fn profile(&self) -> Option<&Profile> {
        let name = self.profile_name()?;
        self.profiles.iter().find(|(own, _)| own == name).map(|(_, profile)| profile)
    }

    /// How it is written into a recipe; [`Removal::plan`] makes the same of it again.
    pub fn text(&self) -> ChoiceText {
        let taken = &self.state.taken;
        let fits = |text: &String| taken.iter().any(|id| pattern::matches(text, id));
        let mut keep: Vec<String> = self.keep.iter().filter(|text| !fits(text)).cloned().collect();
        let mut by_profile = BTreeSet::new();
        if let Some(profile) = self.profile() {
            let keep_all = keep.iter().chain(&profile.keep).cloned().collect();
            let request =
                RemovalRequest { remove: profile.remove.clone(), keep: keep_all, with_dependents: true };
            let goes = Removal::plan(&self.inventory, &request, &[]).goes;
            // Those that it names go by themselves; those that only follow are written.
            for (id, why) in goes {
                if !taken.contains(&id) {
                    keep.push(id);
                } else if why.is_empty() {
                    by_profile.insert(id);
                }
            }
        }
        let mut components: Vec<String> = taken.difference(&by_profile).cloned().collect();
        components.extend(self.unknown.iter().cloned());
        ChoiceText { profile: self.state.profile.clone(), components, keep }
    }

    /// The components, by id.
    pub fn components(&self) -> impl Iterator<Item = &Component> {
        self.inventory.components.values()
    }

    /// One component.
    pub fn component(&self, id: &str) -> Option<&Component> {
        self.inventory.components.get(id)
    }

    /// Ids that go.
    pub const fn taken(&self) -> &BTreeSet<String> {
        &self.state.taken
    }

    /// Ids and patterns that were asked for and that this edition does not have, or no more.
    pub fn unknown(&self) -> &[String] {
        &self.unknown
    }

    /// No longer asks for what this edition does not have.
    pub fn forget(&mut self, unknown: &str) {
        self.unknown.retain(|own| own != unknown);
    }

    /// Takes over sizes that were worked out later.
    pub fn weigh(&mut self, weighed: &Inventory) {
        for (id, component) in &mut self.inventory.components {
            if let Some(known) = weighed.components.get(id) {
                (component.files, component.bytes, component.packed) =
                    (known.files, known.bytes, known.packed);
            }
        }
    }

    /// What would follow if this component changed sides.
    pub fn follows(&self, id: &str) -> Follows {
        let Some(component) = self.component(id) else { return Follows::default() };
        let taken = &self.state.taken;
        if taken.contains(id) {
            // What it needs must be there too.
            let comes = self.reach(id, |component| &component.needs, |id| taken.contains(id));
            return Follows { comes, ..Follows::default() };
        }
        if let Some(refused) = self.refusal(component) {
            return Follows { refused, ..Follows::default() };
        }
        let goes = self.reach(id, |component| &component.needed_by, |id| !taken.contains(id));
        let held = goes
            .iter()
            .filter_map(|id| self.component(id))
            .find_map(|own| self.refusal(own).map(|why| format!("{} needs it, and stays: {why}", own.id)));
        match held {
            Some(refused) => Follows { refused, ..Follows::default() },
            None => Follows { goes, ..Follows::default() },
        }
    }

    /// Why a component must not go.
    fn refusal(&self, component: &Component) -> Option<String> {
        if !component.required.is_empty() {
            return Some(component.required.clone());
        }
        let (name, profile) = (self.profile_name()?, self.profile()?);
        let kept = |id: &&String| profile.keep.iter().any(|text| pattern::matches(text, id));
        let kept: BTreeSet<&String> = self.inventory.components.keys().filter(kept).collect();
        if kept.contains(&component.id) {
            return Some(format!("the profile {name} keeps it"));
        }
        let holder = *holders(&self.inventory, &kept).get(&component.id)?;
        Some(format!("{holder}, which the profile {name} keeps, needs it"))
    }

    /// The component and all that it leads to, as far as `counts` says.
    fn reach<'a>(
        &'a self,
        id: &str,
        next: impl Fn(&'a Component) -> &'a Vec<String>,
        counts: impl Fn(&str) -> bool,
    ) -> Vec<String> {
        let mut reached = vec![id.to_owned()];
        let mut at = 0;
        while let Some(id) = reached.get(at) {
            let more: Vec<String> = self
                .component(id)
                .into_iter()
                .flat_map(&next)
                .filter(|id| counts(id) && !reached.contains(id))
                .cloned()
                .collect();
            reached.extend(more);
            at += 1;
        }
        reached
    }

    /// Changes sides, with all that follows.
    pub fn turn(&mut self, id: &str) -> Follows {
        let follows = self.follows(id);
        let mut state = self.state.clone();
        state.taken.extend(follows.goes.iter().cloned());
        state.taken.retain(|id| !follows.comes.contains(id));
        self.become_one(state);
        follows
    }

    /// Starts from a profile by its name, or from nothing: what it takes out goes, and nothing else.
    pub fn start_from(&mut self, profile: Option<&str>) {
        let before = self.state.clone();
        self.state.profile = profile.map(str::to_owned);
        let request = self.profile().map_or_else(RemovalRequest::default, |own| RemovalRequest {
            remove: own.remove.clone(),
            keep: own.keep.iter().chain(&self.keep).cloned().collect(),
            with_dependents: true,
        });
        let taken = Removal::plan(&self.inventory, &request, &[]).goes.into_keys().collect();
        let after = State { taken, profile: self.state.profile.take() };
        self.state = before;
        self.become_one(after);
    }

    fn become_one(&mut self, state: State) {
        if state != self.state {
            self.done.push(std::mem::replace(&mut self.state, state));
            self.undone.clear();
        }
    }

    /// Takes the last change back; whether there was one.
    pub fn undo(&mut self) -> bool {
        let Some(before) = self.done.pop() else { return false };
        self.undone.push(std::mem::replace(&mut self.state, before));
        true
    }

    /// Makes a change again that was taken back; whether there was one.
    pub fn redo(&mut self) -> bool {
        let Some(after) = self.undone.pop() else { return false };
        self.done.push(std::mem::replace(&mut self.state, after));
        true
    }

    /// What all that goes amounts to.
    pub fn totals(&self) -> ChoiceTotals {
        let taken = self.state.taken.iter().filter_map(|id| self.component(id));
        taken.fold(ChoiceTotals::default(), |all, own| ChoiceTotals {
            components: all.components + 1,
            bytes: all.bytes + own.bytes,
            packed: all.packed + own.packed,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `editor` needs `font`, which needs `shaper`; `desk` is needed by `frame`, which must stay.
    fn choice(remove: &[&str]) -> Choice {
        let component = |id: &str, needs: &[&str], needed_by: &[&str], required: &str| Component {
            id: id.into(),
            needs: needs.iter().map(|id| (*id).to_owned()).collect(),
            needed_by: needed_by.iter().map(|id| (*id).to_owned()).collect(),
            required: required.into(),
            bytes: 10,
            packed: 4,
            ..Component::default()
        };
        let components = [
            component("app/editor", &["font/sans"], &[], ""),
            component("font/sans", &["feature/shaper"], &["app/editor"], ""),
            component("feature/shaper", &[], &["font/sans"], ""),
            component("feature/desk", &[], &["feature/frame"], ""),
            component("feature/frame", &["feature/desk"], &[], "it is the shell"),
        ];
        let components = components.into_iter().map(|own| (own.id.clone(), own)).collect();
        let inventory = Inventory { components, ..Inventory::default() };
        let remove = remove.iter().map(|id| (*id).to_owned()).collect();
        let request = RemovalRequest { remove, keep: vec!["font/*".into()], with_dependents: false };
        let lean = Profile { remove: vec!["app/*".into(), "feature/sh*".into()], ..Profile::default() };
        let shaped = Profile { keep: vec!["font/sans".into()], ..Profile::default() };
        let profiles = vec![("lean".into(), lean), ("shaped".into(), shaped)];
        Choice::new(inventory, profiles, None, &request)
    }

    #[test]
    fn what_needs_it_goes_and_what_it_needs_comes_back() {
        let mut choice = choice(&[]);
        let follows = choice.turn("feature/shaper");
        assert_eq!(follows.goes, ["feature/shaper", "font/sans", "app/editor"]);
        assert_eq!(choice.totals(), ChoiceTotals { components: 3, bytes: 30, packed: 12 });
        assert_eq!(choice.follows("font/sans").comes, ["font/sans", "feature/shaper"]);
        choice.turn("font/sans");
        assert_eq!(choice.taken().iter().collect::<Vec<_>>(), ["app/editor"]);
        assert!(choice.undo() && choice.taken().len() == 3);
        assert!(choice.undo() && choice.taken().is_empty() && !choice.undo());
        assert!(choice.redo() && choice.redo() && !choice.redo() && choice.taken().len() == 1);
    }

    #[test]
    fn what_must_stay_keeps_what_it_needs() {
        let mut choice = choice(&[]);
        assert_eq!(choice.turn("feature/frame").refused, "it is the shell");
        assert!(choice.turn("feature/desk").refused.starts_with("feature/frame needs it"));
        assert!(choice.taken().is_empty() && !choice.undo());
    }

    #[test]
    fn what_an_edition_no_longer_has_is_told_apart() {
        let mut choice = choice(&["app/*", "app/gone", "font/none*"]);
        assert_eq!(choice.taken().len(), 1);
        assert_eq!(choice.unknown(), ["app/gone", "font/none*"]);
        choice.forget("app/gone");
        assert_eq!(choice.unknown(), ["font/none*"]);
    }

    /// What a choice is written as means the same when it is read again.
    fn holds(choice: &Choice) -> ChoiceText {
        let text = choice.text();
        let request = RemovalRequest {
            remove: text.components.clone(),
            keep: text.keep.clone(),
            with_dependents: false,
        };
        let again =
            Choice::new(choice.inventory.clone(), choice.profiles.clone(), text.profile.as_deref(), &request);
        assert_eq!(again.taken(), choice.taken(), "{text:?}");
        text
    }

    #[test]
    fn a_choice_is_written_as_ids_and_what_differs_from_its_profile() {
        let mut choice = choice(&[]);
        choice.start_from(Some("lean"));
        // The font is kept, and needs the shaper.
        assert_eq!(choice.taken().iter().collect::<Vec<_>>(), ["app/editor"]);
        assert_eq!(holds(&choice).components, [""; 0]);
        choice.turn("feature/shaper");
        let text = holds(&choice);
        assert_eq!((text.components, text.keep), (vec!["font/sans".to_owned()], vec![]));
        choice.turn("app/editor");
        let text = holds(&choice);
        assert_eq!(text.keep, ["font/*", "app/editor"]);
        assert_eq!(text.profile.as_deref(), Some("lean"));
        choice.start_from(Some("shaped"));
        assert_eq!(
            choice.turn("feature/shaper").refused,
            "font/sans, which the profile shaped keeps, needs it"
        );
        assert!(choice.undo() && choice.profile_name() == Some("lean"));
        choice.start_from(None);
        assert!(choice.taken().is_empty() && choice.text().profile.is_none());
    }
}
