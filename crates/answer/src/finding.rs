//! What there is to say about answers: findings, with the field or the line they belong to.

use schemars::JsonSchema;
use serde::Serialize;

/// How much a finding weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Gravity {
    /// Setup will stop, ask, or do something else than was meant.
    Problem,
    /// Good to know.
    Note,
}

/// Something found.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Finding {
    /// How much it weighs.
    pub gravity: Gravity,
    /// The field of the neutral form, or the place in the file.
    pub field: String,
    /// Line of the file, from 1, where there is one.
    pub line: Option<usize>,
    /// What was found.
    pub message: String,
    /// What to do about it; empty when nothing needs doing.
    pub hint: String,
}

impl Finding {
    /// Something that will go wrong.
    pub fn problem(field: impl Into<String>, message: impl Into<String>, hint: impl Into<String>) -> Self {
        Self {
            gravity: Gravity::Problem,
            field: field.into(),
            line: None,
            message: message.into(),
            hint: hint.into(),
        }
    }

    /// Something good to know.
    pub fn note(field: impl Into<String>, message: impl Into<String>) -> Self {
        Self { gravity: Gravity::Note, ..Self::problem(field, message, "") }
    }

    /// A field that a dialect cannot say.
    pub(crate) fn unsaid(field: impl Into<String>, dialect: crate::Dialect, why: &str, hint: &str) -> Self {
        let field = field.into();
        let message = format!("{} cannot say this: {why}", dialect.name());
        Self::problem(field, message, hint)
    }

    /// The same, at a line.
    #[must_use]
    pub fn at(self, line: usize) -> Self {
        Self { line: Some(line), ..self }
    }
}
