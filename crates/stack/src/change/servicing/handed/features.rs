//! Features that setup or the installed system switches, because their content is not in the edition.

use super::{AtEnd, Files, packages::element};
use crate::{
    change::Editor,
    recipe::{FeatureValue, HandedFeature, SettingsSection, StackFile, ThroughValue},
};
use neat_answer::servicing::{self, PackageSource};
use neat_content::{Error, Result, Tree, check_name};
use neat_media::folder;
use neat_package::{Identity, VendorPackage};
use neat_service::{Edition, Item};
use std::collections::BTreeMap;

/// The features that are handed on.
#[derive(Default)]
pub(in crate::change::servicing) struct Switches {
    wanted: BTreeMap<String, Switch>,
}

struct Switch {
    wish: HandedFeature,
    /// The packages of editions that have it.
    owners: Vec<Identity>,
    /// Whether a package that is handed on has it.
    is_brought: bool,
    /// Whether setup was told.
    is_named: bool,
}

impl Switches {
    /// Those that the stack file hands on.
    pub fn of(settings: Option<&SettingsSection>) -> Self {
        let all = settings.into_iter().flat_map(|own| &own.features);
        let handed = all.filter_map(|(name, value)| match value {
            FeatureValue::Switch(_) => None,
            FeatureValue::Handed(wish) => Some((
                name.clone(),
                Switch { wish: wish.clone(), owners: Vec::new(), is_brought: false, is_named: false },
            )),
        });
        Self { wanted: handed.collect() }
    }

    /// Notes which packages of an edition have them.
    pub fn look_into(&mut self, edition: &Edition) -> Result<()> {
        if self.wanted.is_empty() {
            return Ok(());
        }
        let owners = edition.owners_of_features()?;
        for (name, switch) in &mut self.wanted {
            let own = owners.iter().filter(|(feature, _)| feature.eq_ignore_ascii_case(name));
            for (_, owner) in own {
                if !switch.owners.contains(owner) {
                    switch.owners.push(owner.clone());
                }
            }
        }
        Ok(())
    }

    /// Notes that packages that go in bring features.
    pub fn look_into_packages<'a>(&mut self, packages: impl Iterator<Item = &'a VendorPackage>) {
        let manifests = packages.flat_map(|package| {
            package.packages().flat_map(|own| std::iter::once(&own.manifest).chain(&own.nested))
        });
        for feature in manifests.flat_map(|manifest| &manifest.features) {
            let own = self.wanted.iter_mut().find(|(name, _)| name.eq_ignore_ascii_case(&feature.name));
            if let Some((_, switch)) = own {
                switch.is_brought = true;
            }
        }
    }

    /// Those of these features that setup switches while it installs their package.
    pub fn of_package<'a>(&mut self, features: impl Iterator<Item = &'a str>) -> Vec<(String, bool)> {
        let mut found = Vec::new();
        for feature in features {
            let own = self.wanted.iter_mut().find(|(name, _)| name.eq_ignore_ascii_case(feature));
            let Some((_, switch)) = own.filter(|(_, own)| own.wish.through == ThroughValue::Answers) else {
                continue;
            };
            switch.is_named = true;
            found.push((feature.to_owned(), switch.wish.on));
        }
        found
    }

    /// Hands on what packages did not take along. Returns what becomes of each.
    pub fn hand_on(
        self,
        stack: &StackFile,
        editor: &mut Editor,
        at_end: &mut Vec<AtEnd>,
    ) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        for (name, switch) in self.wanted {
            let Switch { wish, owners, is_brought, is_named } = switch;
            let content = wish.content.as_deref().map(|text| folder_of(&name, text, stack, editor));
            let (content, files) = match content.transpose()? {
                None => (None, Files::new()),
                Some(Ok((path, files))) => (Some(path), files),
                Some(Err(why)) => {
                    items.push(Item::refused("feature", &name, why));
                    continue;
                }
            };
            if owners.is_empty() && !is_brought {
                let why = "no edition has such a feature, and no package that goes in brings it";
                items.push(Item::refused("feature", &name, why));
                continue;
            }
            let word = if wish.on { "on" } else { "off" };
            let from =
                content.as_ref().map_or_else(String::new, |path| format!(", its content from media:/{path}"));
            let detail = match wish.through {
                ThroughValue::Answers => {
                    if !is_named {
                        editor.handed.packages.extend(owners.iter().map(|owner| servicing::Package {
                            identity: element(owner),
                            source: content.clone().map_or(PackageSource::System, PackageSource::Folder),
                            features: vec![(name.clone(), wish.on)],
                        }));
                    }
                    if !is_named && owners.is_empty() {
                        let why = "the package that brings it goes in at the end of setup: write through = \"setup-end\"";
                        items.push(Item::refused("feature", &name, why));
                        continue;
                    }
                    format!("{word}: switched by setup through the answer file{from}")
                }
                ThroughValue::SetupEnd => {
                    at_end.push(AtEnd::Feature { name: name.clone(), on: wish.on, content: files });
                    format!("{word}: switched at the end of setup by the installed system{from}")
                }
            };
            items.push(Item::applied("feature", &name, detail, 0));
        }
        Ok(items)
    }
}

/// The folder of the media with a feature's content: its path and its files by their paths in it; or why there is none.
fn folder_of(
    feature: &str,
    text: &str,
    stack: &StackFile,
    editor: &Editor,
) -> Result<std::result::Result<(String, Files), String>> {
    let parts = text.strip_prefix("media:").map(|rest| rest.split('/').filter(|part| !part.is_empty()));
    let parts: Vec<&str> = parts.map(Iterator::collect).unwrap_or_default();
    if parts.is_empty() || parts.iter().any(|part| check_name(part).is_err()) {
        return Err(Error::request(
            format!("`settings.features`: {text:?}, the content of {feature}, is no folder of the media"),
            "write `media:` and a path from its root, such as media:/sources/extras",
        ));
    }
    let mut path = parts.join("/");
    let mut files = Files::new();
    if let Some(id) = editor.tree.find_ignoring_case(&path) {
        path = editor.tree.path(id);
        files.extend(below(&editor.tree, &path));
    }
    // What the stack file puts there comes later.
    for place in &stack.place {
        let to = place.to.strip_prefix("media:").map(|to| to.trim_matches('/'));
        // The whole name of a folder counts, not how it begins.
        let rest = to
            .and_then(|to| path.strip_prefix(to))
            .filter(|rest| rest.is_empty() || rest.starts_with('/') || to.is_some_and(str::is_empty));
        let from = editor.local(&place.from);
        if let Some(rest) = rest.filter(|_| from.is_dir()) {
            files.extend(below(&folder::read_tree(&from)?.0, rest.trim_start_matches('/')));
        }
    }
    Ok(if files.is_empty() {
        Err(format!("the media has no folder {path}, where its content should be"))
    } else {
        Ok((path, files))
    })
}

/// The files below a folder, by their paths in it.
fn below(tree: &Tree, folder: &str) -> Files {
    let inside = if folder.is_empty() { String::new() } else { format!("{folder}/") };
    let files = tree.walk().filter_map(|step| {
        let path = step.path.strip_prefix(&inside)?.to_owned();
        Some((path, tree.node(step.id).content()?.clone()))
    });
    files.collect()
}
