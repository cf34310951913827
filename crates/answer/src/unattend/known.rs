//! Components and settings of the documented schema.

use super::edit::PASSES;
use std::sync::LazyLock;

static TABLE: &str = include_str!("../../data/unattend-settings.txt");

/// A component of the schema.
pub(super) struct Known {
    pub name: &'static str,
    passes: &'static str,
    pub settings: Vec<&'static str>,
}

static COMPONENTS: LazyLock<Vec<Known>> = LazyLock::new(|| {
    let mut all: Vec<Known> = Vec::new();
    for line in TABLE.lines().filter(|line| !line.starts_with('#')) {
        if let Some(names) = line.strip_prefix(' ') {
            if let Some(last) = all.last_mut() {
                last.settings.extend(names.split(' '));
            }
        } else if let Some((name, passes)) = line.split_once('\t') {
            all.push(Known { name, passes, settings: Vec::new() });
        }
    }
    all
});

/// All components.
pub(super) fn all() -> &'static [Known] {
    &COMPONENTS
}

/// The component of a name.
pub(super) fn find(name: &str) -> Option<&'static Known> {
    all().iter().find(|known| known.name == name)
}

impl Known {
    /// Passes that it is valid in.
    pub fn passes(&self) -> Vec<&'static str> {
        const LETTERS: &str = "POGSAUB";
        LETTERS
            .chars()
            .zip(PASSES)
            .filter(|(letter, _)| self.passes.contains(*letter))
            .map(|(_, pass)| pass)
            .collect()
    }
}
