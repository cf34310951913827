//! Where the paths of registration text lie: which hive, and where in it.

use crate::Hive;
use neat_content::{Error, Result};

/// A hive of an edition, by what it is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum HiveRole {
    /// Settings of programs, for the whole machine.
    Software,
    /// Services, drivers and how the system starts.
    System,
    /// Settings of the system's own account, before anybody signs in.
    SystemUser,
    /// Settings that every new account starts with.
    DefaultUser,
    /// Packages and features.
    Components,
    /// Accounts.
    Accounts,
    /// Policy of security.
    Security,
}

impl HiveRole {
    /// All of them.
    pub const ALL: [Self; 7] = [
        Self::Software,
        Self::System,
        Self::SystemUser,
        Self::DefaultUser,
        Self::Components,
        Self::Accounts,
        Self::Security,
    ];

    /// The path that registration text has for its root.
    pub const fn root(self) -> &'static str {
        match self {
            Self::Software => "HKEY_LOCAL_MACHINE\\SOFTWARE",
            Self::System => "HKEY_LOCAL_MACHINE\\SYSTEM",
            Self::SystemUser => "HKEY_USERS\\.DEFAULT",
            Self::DefaultUser => "HKEY_CURRENT_USER",
            Self::Components => "HKEY_LOCAL_MACHINE\\COMPONENTS",
            Self::Accounts => "HKEY_LOCAL_MACHINE\\SAM",
            Self::Security => "HKEY_LOCAL_MACHINE\\SECURITY",
        }
    }

    /// A word for it, as in layouts.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Software => "software",
            Self::System => "system",
            Self::SystemUser => "system-user",
            Self::DefaultUser => "default-user",
            Self::Components => "components",
            Self::Accounts => "accounts",
            Self::Security => "security",
        }
    }
}

/// Long and short names of roots, and what they stand for.
const PREFIXES: [(&str, &str); 5] = [
    ("HKLM", "HKEY_LOCAL_MACHINE"),
    ("HKCU", "HKEY_CURRENT_USER"),
    ("HKU", "HKEY_USERS"),
    ("HKCR", "HKEY_CLASSES_ROOT"),
    ("HKCC", "HKEY_CURRENT_CONFIG"),
];

/// The hive that a path of registration text lies in, and the path from that hive's root. `CurrentControlSet` is still
/// in it: see [`Hive::with_control_set`].
///
/// # Errors
/// `BadRequest` for a root that no hive has.
pub fn locate(path: &str) -> Result<(HiveRole, String)> {
    let unknown =
        |hint: &'static str| Err(Error::request(format!("{path} lies in no hive of an edition"), hint));
    let mut long = path.trim_matches('\\').to_owned();
    let first = long.split('\\').next().unwrap_or_default().to_owned();
    if let Some((short, full)) = PREFIXES.iter().find(|(short, _)| first.eq_ignore_ascii_case(short)) {
        long.replace_range(..short.len(), full);
    }
    // What other roots show is part of the two large hives.
    for (view, place) in [
        ("HKEY_CLASSES_ROOT", "HKEY_LOCAL_MACHINE\\SOFTWARE\\Classes"),
        ("HKEY_CURRENT_CONFIG", "HKEY_LOCAL_MACHINE\\SYSTEM\\CurrentControlSet\\Hardware Profiles\\Current"),
        ("HKEY_USERS\\S-1-5-18", "HKEY_USERS\\.DEFAULT"),
    ] {
        if below(&long, view).is_some() {
            long.replace_range(..view.len(), place);
        }
    }
    if below(&long, "HKEY_LOCAL_MACHINE\\HARDWARE").is_some() {
        return unknown("HARDWARE exists only while a system runs");
    }
    for role in HiveRole::ALL {
        if let Some(rest) = below(&long, role.root()) {
            return Ok((role, rest.to_owned()));
        }
    }
    if below(&long, "HKEY_USERS").is_some() {
        return unknown(
            "accounts are made when the system is installed; use HKEY_CURRENT_USER for every new one",
        );
    }
    unknown("begin with HKEY_LOCAL_MACHINE\\SOFTWARE, …\\SYSTEM, HKEY_CURRENT_USER or HKEY_USERS\\.DEFAULT")
}

/// What follows `prefix` in `path`, in any case, if the prefix is whole parts of it.
fn below<'a>(path: &'a str, prefix: &str) -> Option<&'a str> {
    let start = path.get(..prefix.len()).filter(|start| start.eq_ignore_ascii_case(prefix))?;
    let rest = &path[start.len()..];
    if rest.is_empty() { Some(rest) } else { rest.strip_prefix('\\') }
}

impl Hive {
    /// The control set that is in use, such as `ControlSet001`; for the hive [`HiveRole::System`].
    pub fn control_set(&self) -> Option<String> {
        let number = self.number_at("Select", "Current").or_else(|| self.number_at("Select", "Default"))?;
        Some(format!("ControlSet{number:03}"))
    }

    /// A path with `CurrentControlSet` replaced by the control set that is in use; unchanged where there is none.
    pub fn with_control_set(&self, path: &str) -> String {
        match (below(path, "CurrentControlSet"), self.control_set()) {
            (Some(""), Some(set)) => set,
            (Some(rest), Some(set)) => format!("{set}\\{rest}"),
            _ => path.to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn roots_are_mapped_to_hives() {
        let at = |path: &str| locate(path).map(|(role, path)| (role.word(), path)).unwrap();
        assert_eq!(at("HKEY_LOCAL_MACHINE\\SOFTWARE\\Quay\\A"), ("software", "Quay\\A".into()));
        assert_eq!(at("hklm\\software"), ("software", String::new()));
        assert_eq!(at("HKCU\\Console"), ("default-user", "Console".into()));
        assert_eq!(at("HKU\\.default\\Keyboard"), ("system-user", "Keyboard".into()));
        assert_eq!(at("HKEY_USERS\\S-1-5-18\\X"), ("system-user", "X".into()));
        assert_eq!(at("HKCR\\.txt"), ("software", "Classes\\.txt".into()));
        assert_eq!(
            at("HKLM\\SYSTEM\\CurrentControlSet\\Services"),
            ("system", "CurrentControlSet\\Services".into())
        );
        for bad in
            ["HKLM\\SOFTWAREX\\A", "HKU\\S-1-5-21-1-2-3-1001\\A", "HKLM\\HARDWARE", "SOFTWARE\\A", "", "HKLM"]
        {
            assert!(locate(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn the_control_set_in_use_is_found() {
        let mut hive = Hive::new(5, "SYSTEM", b"", 0);
        assert_eq!(hive.with_control_set("CurrentControlSet\\Services"), "CurrentControlSet\\Services");
        let select = hive.create("Select").unwrap();
        hive.set(select, "Current", crate::ValueKind::NUMBER, &[2, 0, 0, 0]).unwrap();
        assert_eq!(hive.with_control_set("currentcontrolset\\Services"), "ControlSet002\\Services");
        assert_eq!(hive.with_control_set("CurrentControlSetX"), "CurrentControlSetX");
    }
}
