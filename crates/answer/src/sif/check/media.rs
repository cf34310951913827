//! What the answers name and the media has, or has not.

use super::Check;
use crate::{Topic, check::MediaFacts, face::Reading, sif::installed};

impl Check<'_> {
    /// What the answers name and the media has, or has not.
    pub(super) fn media(&mut self, reading: &Reading, media: &MediaFacts) {
        let document = self.document;
        let folder = |path: &str| media.paths.get(path).is_some_and(Option::is_none);
        let place = ["$oem$", "i386/$oem$", "amd64/$oem$"].into_iter().find(|path| folder(path));
        let is_looked_at = document.is_yes("Unattended", "OemPreinstall");
        let copied = place
            .into_iter()
            .any(|place| media.paths.keys().any(|path| path.starts_with(&format!("{place}/"))));
        if copied && !is_looked_at {
            let message = "the media has files in $OEM$, and setup does not look there";
            self.found(Topic::Dialect, "[Unattended] OemPreinstall", message, "write OemPreinstall=Yes");
        }
        if let Some(own) = document.get("Unattended", "OemPnPDriversPath") {
            for path in
                own.value.split(';').map(|own| own.trim().trim_matches('\\')).filter(|own| !own.is_empty())
            {
                let local = path.replace('\\', "/").to_lowercase();
                let inside = place.map(|place| format!("{place}/$1/{local}"));
                let front = inside.as_ref().map(|own| format!("{own}/"));
                let has_driver = front.is_some_and(|front| {
                    media.paths.keys().any(|path| path.starts_with(&front) && path.ends_with(".inf"))
                });
                if !inside.as_deref().is_some_and(folder) {
                    self.at(
                        Topic::NotOnMedia,
                        own,
                        format!("the folder {path} is not in $OEM$/$1 of the media"),
                        "put the drivers there with [[driver]]",
                    );
                } else if !has_driver {
                    self.at(
                        Topic::NotOnMedia,
                        own,
                        format!("the folder {path} has no .inf file"),
                        "put the drivers there with [[driver]]",
                    );
                }
            }
        }
        for file in installed::side_files(&reading.model, &reading.vault) {
            let local = file.path.to_lowercase();
            let in_place = place.map(|place| local.replacen("$oem$", place, 1)).unwrap_or(local);
            let content = media.paths.get(&in_place).and_then(Option::as_ref);
            let is_same = content.is_some_and(|own| {
                own.to_vec(4 << 20, "file").is_ok_and(|there| file.beside(&there) == there)
            });
            if !is_same {
                let what = if content.is_some() {
                    "has other bytes than these answers need"
                } else {
                    "is not on the media"
                };
                let message = format!("{} {what}", file.path);
                self.found(Topic::NotOnMedia, "[NeatStack]", &message, "build the media with these answers");
            }
        }
        let scripts = reading.model.script.iter().filter(|own| own.text.is_empty());
        for own in scripts {
            let path = format!("{}/$1/neatstack/{}", place.unwrap_or("$oem$"), own.name.to_lowercase());
            if !media.paths.contains_key(&path) {
                let message = format!("the script {} is not in $OEM$/$1/neatstack of the media", own.name);
                self.found(Topic::NotOnMedia, "[NeatStack]", &message, "build the media with these answers");
            }
        }
    }
}
