//! Registry values as commands set them.

use super::program::{arguments, quoted};
use crate::model::RegistryValue;

/// Types of the neutral form and of the command.
pub(crate) const KINDS: [(&str, &str); 4] = [
    ("string", "REG_SZ"),
    ("expand-string", "REG_EXPAND_SZ"),
    ("dword", "REG_DWORD"),
    ("qword", "REG_QWORD"),
];

/// Whether a value belongs to whoever signs in.
pub(crate) fn is_of_user(value: &RegistryValue) -> bool {
    let root = value.key.split('\\').next().unwrap_or_default();
    root.eq_ignore_ascii_case("HKCU") || root.eq_ignore_ascii_case("HKEY_CURRENT_USER")
}

/// The command that sets a value.
pub(crate) fn add(key: &str, name: &str, kind: &str, value: &str) -> String {
    let name = if name.is_empty() { "/ve".into() } else { format!("/v {}", quoted(name)) };
    format!("reg.exe add {} {name} /t {kind} /d {} /f", quoted(key), quoted(value))
}

/// A `reg add` command that sets one value.
pub(crate) fn value_of(run: &str) -> Option<RegistryValue> {
    let words = arguments(run);
    let program = words.first()?.to_ascii_lowercase();
    if !matches!(program.as_str(), "reg" | "reg.exe") || !words.get(1)?.eq_ignore_ascii_case("add") {
        return None;
    }
    let mut value = RegistryValue {
        key: words.get(2)?.clone(),
        name: String::new(),
        kind: "string".into(),
        value: String::new(),
    };
    let mut rest = words.iter().skip(3);
    let mut says_name = false;
    while let Some(word) = rest.next() {
        match word.to_ascii_lowercase().as_str() {
            "/v" => {
                value.name.clone_from(rest.next()?);
                says_name = true;
            }
            "/ve" => says_name = true,
            "/d" => value.value.clone_from(rest.next()?),
            "/t" => {
                let kind = rest.next()?;
                value.kind = KINDS.iter().find(|(_, name)| name.eq_ignore_ascii_case(kind))?.0.into();
            }
            "/f" => {}
            _ => return None,
        }
    }
    says_name.then_some(value)
}
