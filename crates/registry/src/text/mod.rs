//! Registration text (`.reg` files), both signatures and both encodings.

mod parse;
mod write;

pub use write::shown;

use crate::{BadName, Hive, ValueKind};

/// What a line of registration text asks for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The key is there afterwards.
    Key,
    /// The key and everything below it is gone afterwards.
    DeleteKey,
    /// The value is as said afterwards.
    Set {
        /// Name of the value; empty for the default value.
        name: String,
        /// Its type.
        kind: ValueKind,
        /// Its bytes.
        data: Vec<u8>,
    },
    /// The value is gone afterwards.
    DeleteValue {
        /// Name of the value; empty for the default value.
        name: String,
    },
}

/// A change, the key it is for, and where it stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RegLine {
    /// The key's path, parts joined with `\`, from one of the roots on.
    pub key: String,
    /// What becomes of it.
    pub change: Change,
    /// Number of the line in the text, from 1; 0 for none.
    pub line: usize,
}

/// Which signature stands in the first line.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Signature {
    /// `REGEDIT4`: texts inside `hex(2)` and `hex(7)` have one byte for each character.
    Regedit4,
    /// Version 5.00: they are in UTF-16.
    Version5,
}

/// A registration text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RegText {
    /// Its signature.
    pub signature: Signature,
    /// What it asks for, in order.
    pub lines: Vec<RegLine>,
}

/// First lines of registration texts.
const SIGNATURES: [(&str, Signature); 2] =
    [("REGEDIT4", Signature::Regedit4), ("Windows Registry Editor Version 5.00", Signature::Version5)];

/// Whether a text begins like registration text.
pub fn is_reg_text(text: &str) -> bool {
    let first = text.trim_start_matches('\u{FEFF}').lines().next().unwrap_or_default().trim();
    SIGNATURES.iter().any(|(signature, _)| first.eq_ignore_ascii_case(signature))
}

impl Hive {
    /// Does what `change` asks for to the key at `path` from this hive's root. Returns whether anything changed.
    ///
    /// # Errors
    /// [`BadName`] for names that cannot be.
    pub fn apply(&mut self, path: &str, change: &Change) -> Result<bool, BadName> {
        match change {
            Change::Key => {
                let was_there = self.find(path).is_some();
                self.create(path)?;
                Ok(!was_there)
            }
            Change::DeleteKey => {
                let found = self.find(path).filter(|id| *id != Self::ROOT);
                if let Some(id) = found {
                    self.delete(id);
                }
                Ok(found.is_some())
            }
            Change::Set { name, kind, data } => {
                let was_there = self.find(path).is_some();
                let id = self.create(path)?;
                Ok(self.set(id, name, *kind, data)? || !was_there)
            }
            Change::DeleteValue { name } => Ok(self.find(path).is_some_and(|id| self.delete_value(id, name))),
        }
    }
}
