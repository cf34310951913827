//! What an installed system says of the machine it runs on.

use crate::{
    Edition,
    layout::{ValueLayout, role},
};
use neat_content::{ReadAt, Result};
use neat_registry::{HiveRole, text};
use schemars::JsonSchema;
use serde::Serialize;

/// What a file with saved memory begins with while the system sleeps in it.
const ASLEEP: [&[u8; 4]; 2] = [b"hibr", b"HIBR"];

/// The state of an installed system.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct InstalledState {
    /// Whether it was made ready for other machines; nothing where it does not say.
    pub generalised: Option<bool>,
    /// The machine's name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub computer_name: Option<String>,
    /// The domain that the machine belongs to.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub domain: Option<String>,
    /// Whether the installation has its number.
    pub has_machine_id: bool,
    /// Folders of people's accounts that have signed in.
    pub accounts: Vec<String>,
    /// Whether its memory is saved on the disk, so that what is there may not be all.
    pub hibernated: bool,
    /// What says that an update is not finished.
    pub open_updates: Vec<String>,
    /// The letter that its own volume has while it runs.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub letter: Option<char>,
}

impl InstalledState {
    /// What belongs to the one machine, for people.
    pub fn of_the_machine(&self) -> Vec<String> {
        let mut found = Vec::new();
        if !self.accounts.is_empty() {
            found.push(format!("accounts ({})", self.accounts.join(", ")));
        }
        found.extend(self.computer_name.as_ref().map(|name| format!("the name {name}")));
        found.extend(self.domain.as_ref().map(|name| format!("the domain {name}")));
        if self.has_machine_id {
            found.push("the number of this installation".into());
        }
        found
    }
}

/// The letter of a volume that a path begins with.
fn letter_of(path: &str) -> Option<char> {
    let mut characters = path.chars();
    let letter = characters.next().filter(char::is_ascii_alphabetic)?;
    (characters.next() == Some(':')).then(|| letter.to_ascii_uppercase())
}

impl Edition {
    /// The state of the system, by its own registry; nothing where the layout says nothing of such.
    ///
    /// # Errors
    /// Those of a layout that names no hive; `Io`.
    pub fn installed_state(&self) -> Result<Option<InstalledState>> {
        let Some(own) = self.layout.as_ref().and_then(|layout| layout.installed.as_ref()) else {
            return Ok(None);
        };
        let value = |place: &ValueLayout| -> Result<Option<String>> {
            let role = role(&place.hive)?;
            let key = self.in_hive(role, &place.key);
            let found = self.hive(role).and_then(|hive| hive.text_at(&key, &place.value));
            Ok(found.filter(|text| !text.is_empty()))
        };
        let state = value(&own.state)?;
        let software = self.hive(HiveRole::Software);
        let mut accounts = Vec::new();
        if let Some((hive, key)) = software.and_then(|hive| Some((hive, hive.find(&own.profiles)?))) {
            for child in hive.children(key) {
                if !hive.name(*child).starts_with(&own.of_people) {
                    continue;
                }
                let path = hive.value(*child, &own.profile_path).map(|value| text(hive.data(value)));
                let path = path.unwrap_or_else(|| hive.name(*child));
                accounts.push(path.rsplit(['\\', '/']).next().unwrap_or_default().to_owned());
            }
        }
        let open_files = own.open_update_files.iter().map(|path| self.place(path));
        let mut open_updates: Vec<String> =
            open_files.filter(|path| self.files.find(path).is_some()).collect();
        let open_keys =
            own.open_update_keys.iter().filter(|key| software.is_some_and(|hive| hive.find(key).is_some()));
        open_updates.extend(open_keys.cloned());
        let mut hibernated = false;
        if let Some(id) = self.files.find(&own.hibernation) {
            let mut first = [0; 4];
            let content = self.content(id)?;
            if content.len() >= 4 {
                content.read_exact_at(0, &mut first)?;
            }
            hibernated = ASLEEP.contains(&&first);
        }
        Ok(Some(InstalledState {
            generalised: state.map(|state| own.generalised.contains(&state)),
            computer_name: value(&own.computer_name)?,
            domain: value(&own.domain)?,
            has_machine_id: value(&own.machine_id)?.is_some(),
            accounts,
            hibernated,
            open_updates,
            letter: value(&own.running_root)?.as_deref().and_then(letter_of),
        }))
    }
}
