//! Putting updates in: files, removals and registry of our own packages.

use crate::{Edition, Inventory, Item, RecordedUpdate, drivers::digest_of};
use neat_content::{Result, counted};
use neat_image::BlobDigest;
use neat_package::{Identity, Outcome, TargetEdition, Update, UpdateType, VendorTarget, Version, order};
use std::sync::Arc;

/// An update made ready to go in: its files are digested once, however many editions get it.
pub struct PreparedUpdate {
    /// The update.
    pub update: Arc<Update>,
    /// What it is called in the plan.
    pub subject: String,
    /// Whether a refusal does not stop the build.
    pub optional: bool,
    /// Whether it lay in a folder of packages, in which some may be for other systems.
    pub from_folder: bool,
    digests: Vec<BlobDigest>,
}

impl PreparedUpdate {
    /// Reads the files of an update.
    pub fn new(update: Update, subject: String, optional: bool) -> Result<Self> {
        let digests = update.files.iter().map(|(_, content)| digest_of(content)).collect::<Result<_>>()?;
        Ok(Self { update: Arc::new(update), subject, optional, from_folder: false, digests })
    }
}

impl Edition {
    /// What decides which updates go in.
    pub fn update_target(&self) -> TargetEdition {
        let versions = self
            .record
            .updates
            .iter()
            .map(|update| (update.id.clone(), Version::parse(&update.version).unwrap_or_default()));
        TargetEdition {
            architecture: self.architecture(),
            version: self.version(),
            languages: self.languages(),
            integrated: versions.collect(),
            replaced: self.record.updates.iter().flat_map(|update| update.replaces.iter().cloned()).collect(),
        }
    }

    /// What decides which vendors' packages go in.
    pub fn vendor_target(&self) -> VendorTarget {
        VendorTarget {
            architecture: self.architecture(),
            languages: self.languages(),
            records: crate::inventory::identities(self),
        }
    }

    /// The features that the edition's packages have, each with its package.
    ///
    /// # Errors
    /// What the system refuses to read.
    pub fn owners_of_features(&self) -> Result<Vec<(String, Identity)>> {
        let inventory = Inventory::unweighed(self, &[])?;
        let features = inventory.components.values().filter(|own| own.id.starts_with("feature/"));
        let values = features.flat_map(|own| &own.values);
        // The value lies in a key of the package's own.
        let owner = |(_, key, name): &(_, String, String)| {
            let stem = key.rsplit('\\').nth(1)?;
            Some((name.clone(), Identity::of_record(stem)?))
        };
        Ok(values.filter_map(owner).collect())
    }

    /// Puts updates in, in the right order; those that are not needed or do not fit are said.
    pub fn add_updates(&mut self, updates: &[PreparedUpdate]) -> Result<Vec<Item>> {
        let all: Vec<&Update> = updates.iter().map(|prepared| &*prepared.update).collect();
        let ordered = order(&all, &self.update_target());
        let mut items = Vec::new();
        for n in &ordered.order {
            items.push(self.add_update(&updates[*n])?);
        }
        for (prepared, outcome) in updates.iter().zip(&ordered.outcomes) {
            let subject = prepared.update.line();
            match outcome {
                Outcome::Applied(_) => {}
                Outcome::Skipped(why) => items.push(Item::skipped("update", subject, why)),
                Outcome::Elsewhere(why) if prepared.from_folder => {
                    items.push(Item::skipped("update", subject, why));
                }
                Outcome::Refused(why) | Outcome::Elsewhere(why) => {
                    let optional = prepared.optional;
                    items.push(Item { optional, ..Item::refused("update", subject, why) });
                }
            }
        }
        Ok(items)
    }

    fn add_update(&mut self, prepared: &PreparedUpdate) -> Result<Item> {
        let update = &prepared.update;
        let section = &update.section;
        // All or nothing: what cannot be done is found out before anything is.
        for (name, text) in &update.registry {
            for line in &text.lines {
                let (role, _) =
                    self.locate(&line.key).map_err(|error| error.within(&section.id).within(name))?;
                if self.hive(role).is_none() {
                    let why = format!("{name} changes {}, and the edition has no such hive", role.root());
                    return Ok(Item {
                        optional: prepared.optional,
                        ..Item::refused("update", update.line(), why)
                    });
                }
            }
        }
        let (mut new, mut replaced, mut bytes) = (0_usize, 0_usize, 0_i64);
        for ((path, content), digest) in update.files.iter().zip(&prepared.digests) {
            let before = self.files.find(path).map(|id| self.files.entry(id).content());
            if before == Some(*digest) {
                continue;
            }
            bytes += content.len() as i64;
            if let Some(before) = before {
                bytes -= self.len_of(before) as i64;
                replaced += 1;
            } else {
                new += 1;
            }
            self.put(path, content, *digest, None)?;
        }
        let mut removed = 0_usize;
        for path in &section.removes {
            if let Some(id) = self.files.find(path) {
                bytes -= self.len_of(self.files.entry(id).content()) as i64;
                self.remove(id);
                removed += 1;
            }
        }
        let mut values = 0;
        for (name, text) in &update.registry {
            let items = self.apply_lines("update", &format!("{}: {name}", section.id), &text.lines)?;
            values += items.iter().filter(|item| item.verdict == crate::Verdict::Applied).count();
        }
        if let Some(version) = &section.resulting_system
            && self.version().is_none_or(|own| own < *version)
        {
            self.set_version(version);
        }
        if let (UpdateType::Language, Some(language)) = (section.kind, &section.language) {
            self.add_language(language);
        }
        self.record.updates.retain(|own| own.id != section.id);
        self.record.updates.push(RecordedUpdate {
            id: section.id.clone(),
            version: section.version.to_string(),
            title: section.title.clone(),
            replaces: section.replaces.clone(),
        });
        let mut parts = Vec::new();
        for (count, one, many) in [
            (new, "new file", "new files"),
            (replaced, "file replaced", "files replaced"),
            (removed, "file taken out", "files taken out"),
            (values, "value set", "values set"),
        ] {
            if count > 0 {
                parts.push(counted(count as u64, one, many));
            }
        }
        if let Some(version) = &section.resulting_system {
            parts.push(format!("system {version}"));
        }
        Ok(Item::applied("update", update.line(), parts.join(", "), bytes))
    }
}
