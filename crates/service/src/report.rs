//! What a step did, or would do, to an edition.

use schemars::JsonSchema;
use serde::Serialize;

/// What became of an item.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Done.
    Applied,
    /// Not needed.
    Skipped,
    /// It cannot or must not be done.
    Refused,
}

impl Verdict {
    /// A word for it.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Applied => "applied",
            Self::Skipped => "skipped",
            Self::Refused => "refused",
        }
    }
}

/// One item of a plan: a component, driver, update, setting, file or application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Item {
    /// What sort of item: `remove`, `leave-out`, `driver`, `update`, `setting`, `feature`, `service`, `file`, `app`, `language`.
    pub kind: &'static str,
    /// Which one.
    pub subject: String,
    /// What becomes of it.
    pub verdict: Verdict,
    /// Why, or what exactly.
    #[serde(skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// Bytes that it adds to the image file before compression; negative when it takes some away.
    pub bytes: i64,
    /// Whether a refusal does not stop the build.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub optional: bool,
}

impl Item {
    /// Words of the sorts of items with their headings, in the order in which they are done.
    pub const KINDS: [(&'static str, &'static str); 10] = [
        ("update", "Updates"),
        ("remove", "Taken out"),
        ("leave-out", "Left out"),
        ("driver", "Drivers"),
        ("file", "Files"),
        ("app", "Applications"),
        ("language", "Languages"),
        ("setting", "Settings"),
        ("service", "Services"),
        ("feature", "Features"),
    ];

    /// An item that was done.
    pub fn applied(
        kind: &'static str,
        subject: impl Into<String>,
        detail: impl Into<String>,
        bytes: i64,
    ) -> Self {
        Self {
            kind,
            subject: subject.into(),
            verdict: Verdict::Applied,
            detail: detail.into(),
            bytes,
            optional: false,
        }
    }

    /// An item that was not needed.
    pub fn skipped(kind: &'static str, subject: impl Into<String>, why: impl Into<String>) -> Self {
        Self { verdict: Verdict::Skipped, ..Self::applied(kind, subject, why, 0) }
    }

    /// An item that cannot be done.
    pub fn refused(kind: &'static str, subject: impl Into<String>, why: impl Into<String>) -> Self {
        Self { verdict: Verdict::Refused, ..Self::applied(kind, subject, why, 0) }
    }
}
