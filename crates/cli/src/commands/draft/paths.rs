//! Typing paths: what is there is completed.

use inquire::{
    CustomUserError,
    autocompletion::{Autocomplete, Replacement},
};
use std::path::Path;

/// Completes the paths of this machine.
#[derive(Clone, Debug, Default)]
pub(super) struct Paths {
    /// Endings of files that are wanted; none for all. Folders are always offered.
    pub endings: &'static [&'static str],
}

/// How many are offered at once.
const OFFERED: usize = 20;

impl Paths {
    fn offered(&self, typed: &str) -> Vec<String> {
        let (folder, begun) = typed.rsplit_once('/').map_or(("", typed), |(folder, begun)| (folder, begun));
        let place = match (folder, typed.starts_with('/')) {
            ("", true) => "/",
            ("", false) => ".",
            (folder, _) => folder,
        };
        let Ok(entries) = std::fs::read_dir(Path::new(place)) else { return Vec::new() };
        let mut names: Vec<String> = entries
            .flatten()
            .filter_map(|entry| {
                let name = entry.file_name().into_string().ok()?;
                let is_folder = entry.path().is_dir();
                let is_hidden = name.starts_with('.') && !begun.starts_with('.');
                let is_wanted = is_folder
                    || self.endings.is_empty()
                    || self.endings.iter().any(|ending| name.to_lowercase().ends_with(ending));
                let fits = name.to_lowercase().starts_with(&begun.to_lowercase()) && !is_hidden && is_wanted;
                // What would move the cursor cannot be typed either.
                let is_plain = !name.chars().any(char::is_control);
                let prefix = &typed[..typed.len() - begun.len()];
                (fits && is_plain).then(|| format!("{prefix}{name}{}", if is_folder { "/" } else { "" }))
            })
            .collect();
        names.sort();
        names.truncate(OFFERED);
        names
    }
}

impl Autocomplete for Paths {
    fn get_suggestions(&mut self, input: &str) -> Result<Vec<String>, CustomUserError> {
        Ok(self.offered(input))
    }

    fn get_completion(
        &mut self,
        input: &str,
        highlighted: Option<String>,
    ) -> Result<Replacement, CustomUserError> {
        // Without a choice, as far as all that is offered agrees.
        let common = || {
            let offered = self.offered(input);
            let first = offered.first()?;
            let same = |text: &String| first.chars().zip(text.chars()).take_while(|(a, b)| a == b).count();
            let count = offered.iter().map(same).min()?;
            let text: String = first.chars().take(count).collect();
            (text.len() > input.len()).then_some(text)
        };
        Ok(highlighted.or_else(common))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn folders_and_wanted_files_are_completed() {
        let dir = tempfile::tempdir().unwrap();
        for name in ["drivers", "devices.d"] {
            std::fs::create_dir(dir.path().join(name)).unwrap();
        }
        for name in ["devices.txt", "device.csv", ".hidden.txt", "notes.md"] {
            std::fs::write(dir.path().join(name), "").unwrap();
        }
        let base = dir.path().to_str().unwrap();
        let mut paths = Paths { endings: &[".txt"] };
        let offered = paths.get_suggestions(&format!("{base}/de")).unwrap();
        assert_eq!(offered, [format!("{base}/devices.d/"), format!("{base}/devices.txt")]);
        assert_eq!(
            paths.get_completion(&format!("{base}/de"), None).unwrap(),
            Some(format!("{base}/devices."))
        );
        assert_eq!(paths.get_suggestions(&format!("{base}/")).unwrap().len(), 3);
        assert!(paths.get_suggestions("/nowhere/at/all").unwrap().is_empty());
    }
}
