//! Whether a disc may be written or erased.

use crate::{Disc, DiscKind, plan, unit::Identity};
use neat_content::{Error, Result};

/// What a person said.
#[derive(Clone, Copy, Debug, Default)]
pub struct Consent<'a> {
    /// The writer's serial number, or its model where it has none, given for writing an empty disc.
    pub write: Option<&'a str>,
    /// The same, given for erasing what is on a disc; writing is meant, too.
    pub erase: Option<&'a str>,
}

/// What a writer is called when its disc is to be written: its serial number, or its model where it has none.
pub fn word(identity: &Identity) -> &str {
    if identity.serial.is_empty() { &identity.model } else { &identity.serial }
}

/// Whether writing erases something.
#[must_use]
pub fn erases(disc: &Disc) -> bool {
    plan::loses(disc)
}

/// Checks everything but the consent: whether anybody may ask for this disc to be written.
///
/// # Errors
/// `Refused`, with the reason.
pub fn check_use(name: &str, disc: Option<&Disc>) -> Result<()> {
    let Some(disc) = disc else {
        return Err(Error::refused(format!("{name} has no disc in it"), "put one in, and close it"));
    };
    let can_be = disc.kind.is_some_and(|own| own.is_rewritable() || !plan::loses(disc));
    if !can_be || disc.kind.is_some_and(|own| own.way() == crate::kind::Way::Never) {
        return Err(Error::refused(
            format!("{name}: its disc ({}) cannot be written", disc.words()),
            "put in an empty one, or one that can be written again",
        ));
    }
    Ok(())
}

/// Checks that this very writer was named, for what will happen to its disc.
///
/// # Errors
/// `Refused`, with what to say.
pub fn check(name: &str, identity: &Identity, disc: &Disc, consent: Consent<'_>) -> Result<()> {
    let word = word(identity);
    let label = disc.kind.map_or("disc", DiscKind::label);
    if word.is_empty() {
        return Err(Error::refused(
            format!("{name} has neither a serial number nor a model to name it by"),
            "use another writer",
        ));
    }
    let wanted = if erases(disc) { consent.erase } else { consent.erase.or(consent.write) };
    match wanted {
        Some(named) if named == word => Ok(()),
        Some(named) => Err(Error::refused(
            format!("{name} is {word}, not {named}"),
            "`neatstack disc --list` shows the writers",
        )),
        None if erases(disc) => Err(Error::refused(
            format!("everything on the {label} in {name} ({}) would be erased", identity.model),
            format!("give --yes-erase {word} if that is meant"),
        )),
        None => Err(Error::refused(
            format!("the empty {label} in {name} ({}) would be written", identity.model),
            format!("give --yes-write {word} if that is meant"),
        )),
    }
}
