//! Leaving files and folders out of an edition.

use crate::{Edition, Item, inventory, pattern};
use neat_content::counted;
use neat_image::{BlobDigest, EntryId, Files};
use std::collections::{HashMap, HashSet};

/// What is to be left out, as the recipe says it.
#[derive(Clone, Debug)]
pub struct LeaveOut {
    /// What it is called in the plan.
    pub subject: String,
    /// Path from the edition's root, whose names may be patterns; `{root}` stands for the folder of the system.
    pub path: String,
    /// Whether also what the system does not start without goes.
    pub force: bool,
    /// Whether it does not matter when nothing fits.
    pub optional: bool,
}

impl Edition {
    /// Leaves out what fits. Item for item: what went, that nothing fitted, or why it must stay.
    pub fn leave_out(&mut self, wanted: &[LeaveOut]) -> Vec<Item> {
        if wanted.is_empty() {
            return Vec::new();
        }
        let needed = self.needed();
        wanted.iter().map(|own| self.leave_out_one(own, &needed)).collect()
    }

    fn leave_out_one(&mut self, wanted: &LeaveOut, needed: &[(EntryId, &'static str)]) -> Item {
        let found = pattern::find(&self.files, &self.place(&wanted.path));
        if found.is_empty() {
            return Item::skipped(KIND, &wanted.subject, "nothing fits");
        }
        let goes: HashSet<EntryId> = found.iter().copied().collect();
        let held = needed.iter().find(|(id, _)| is_in(&self.files, *id, &goes));
        if let Some((id, why)) = held.filter(|_| !wanted.force) {
            let path = self.files.path(*id);
            return Item::refused(
                KIND,
                &wanted.subject,
                format!("{why} /{path}; write `force = true` beside it if that is meant"),
            );
        }
        let freed = self.freed(&found);
        found.iter().for_each(|id| self.remove(*id));
        self.forget_gone_hives();
        let mut detail = counted(freed.files, "file", "files");
        if freed.shared > 0 {
            let content = counted(freed.shared, "content", "contents");
            detail.push_str(&format!("; {content} of them stays, as other files have the same"));
        }
        let bytes = i64::try_from(freed.bytes).unwrap_or(i64::MAX);
        Item::applied(KIND, &wanted.subject, detail, -bytes)
    }

    /// What the system does not start without, and why.
    fn needed(&self) -> Vec<(EntryId, &'static str)> {
        let Some(layout) = self.layout.clone() else { return Vec::new() };
        let mut needed = Vec::new();
        for path in &layout.needed {
            let found = pattern::find(&self.files, &self.place(path));
            needed.extend(found.into_iter().map(|id| (id, "the system does not start without")));
        }
        for path in layout.hives.values() {
            needed.extend(self.files.find(&self.place(path)).map(|id| (id, "the registry lies in")));
        }
        let drivers = inventory::boot_drivers(self, &layout);
        needed.extend(drivers.into_iter().map(|id| (id, "a driver that the system starts with is")));
        needed
    }

    /// What goes from the image file with these entries and all below them.
    fn freed(&self, found: &[EntryId]) -> Freed {
        let mut going: HashMap<BlobDigest, u64> = HashMap::new();
        let mut files = 0;
        let mut count = |id: EntryId| {
            let entry = self.files.entry(id);
            files += u64::from(!entry.is_folder());
            for digest in entry.digests().filter(|digest| *digest != BlobDigest::NONE) {
                *going.entry(digest).or_default() += 1;
            }
        };
        for id in found {
            count(*id);
            self.files.walk_from(*id).for_each(|step| count(step.id));
        }
        let mut all: HashMap<BlobDigest, u64> = HashMap::with_capacity(going.len());
        for digest in self.files.ids().flat_map(|id| self.files.entry(id).digests()) {
            if going.contains_key(&digest) {
                *all.entry(digest).or_default() += 1;
            }
        }
        let mut freed = Freed { files, ..Freed::default() };
        for (digest, count) in going {
            if all.get(&digest) == Some(&count) {
                freed.bytes += self.len_of(digest);
            } else {
                freed.shared += 1;
            }
        }
        freed
    }
}

/// The word for such items.
const KIND: &str = "leave-out";

#[derive(Default)]
struct Freed {
    files: u64,
    /// Bytes before compression that nothing else has.
    bytes: u64,
    /// Contents that stay.
    shared: u64,
}

/// Whether an entry is one of these or below one.
fn is_in(files: &Files, id: EntryId, goes: &HashSet<EntryId>) -> bool {
    let mut at = id;
    while at != Files::ROOT {
        if goes.contains(&at) {
            return true;
        }
        at = files.entry(at).parent();
    }
    false
}
