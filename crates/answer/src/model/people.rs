//! Accounts.

use super::{Secret, is_default};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// `[[account]]`
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Account {
    /// The name to sign in with.
    pub name: String,
    /// The person's name.
    #[serde(default, skip_serializing_if = "is_default")]
    pub full_name: String,
    /// Groups. `administrators` and `users` stand for what the system calls them.
    #[serde(default, skip_serializing_if = "is_default")]
    pub groups: Vec<String>,
    /// The password; without it there is none.
    #[serde(default, skip_serializing_if = "is_default")]
    pub password: Option<Secret>,
    /// Whether the password stays good for ever.
    #[serde(default, skip_serializing_if = "is_default")]
    pub password_never_expires: bool,
    /// How many times it is signed in without being asked, from the first start.
    #[serde(default, skip_serializing_if = "is_default")]
    pub automatic_sign_ins: u32,
}

impl Account {
    /// An account with nothing but a name.
    pub fn named(name: &str) -> Self {
        Self {
            name: name.into(),
            full_name: String::new(),
            groups: Vec::new(),
            password: None,
            password_never_expires: false,
            automatic_sign_ins: 0,
        }
    }

    /// Whether it may change the machine.
    pub fn administers(&self) -> bool {
        self.groups.iter().any(|own| own.eq_ignore_ascii_case("administrators"))
    }

    /// Field of its password, for messages and for fetching it.
    pub(crate) fn password_field(&self) -> String {
        format!("account.{}.password", self.name)
    }
}

/// `[administrator]`
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Administrator {
    /// Whether one can sign in with it; without it as the system has it.
    #[serde(default, skip_serializing_if = "is_default")]
    pub enabled: Option<bool>,
    /// Its password.
    #[serde(default, skip_serializing_if = "is_default")]
    pub password: Option<Secret>,
}

/// Field of the administrator's password.
pub(crate) const ADMINISTRATOR_PASSWORD: &str = "administrator.password";
