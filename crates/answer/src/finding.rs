//! What there is to say about answers: findings, with the field or the line they belong to.

use crate::Topic;
use schemars::JsonSchema;
use serde::Serialize;

/// How much a finding weighs. [`Topic::gravity`] has the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Gravity {
    /// Something is done to a machine that cannot be taken back.
    Danger,
    /// Setup will stop, ask, or do something else than was meant. Nothing is built or written with it, unless it is
    /// accepted.
    Problem,
    /// Good to know.
    Note,
}

/// Something found.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, JsonSchema)]
pub struct Finding {
    /// How much it weighs.
    pub gravity: Gravity,
    /// What it is about: the word that `accept` takes.
    pub topic: Topic,
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
    /// Something found, and what to do about it.
    pub fn new(
        topic: Topic,
        field: impl Into<String>,
        message: impl Into<String>,
        hint: impl Into<String>,
    ) -> Self {
        Self {
            gravity: topic.gravity(),
            topic,
            field: field.into(),
            line: None,
            message: message.into(),
            hint: hint.into(),
        }
    }

    /// Something found that needs nothing done.
    pub fn told(topic: Topic, field: impl Into<String>, message: impl Into<String>) -> Self {
        Self::new(topic, field, message, "")
    }

    /// Whether nothing is built or written with it.
    pub fn stops(&self, accepted: &[Topic]) -> bool {
        self.gravity == Gravity::Problem && !accepted.contains(&self.topic)
    }

    /// A field that a dialect cannot say.
    pub(crate) fn unsaid(field: impl Into<String>, dialect: crate::Dialect, why: &str, hint: &str) -> Self {
        let field = field.into();
        let message = format!("{} cannot say this: {why}", dialect.name());
        Self::new(Topic::Unsaid, field, message, hint)
    }

    /// A field that a dialect's systems have nothing for, so that nothing is lost.
    pub(crate) fn needless(field: impl Into<String>, dialect: crate::Dialect, why: &str) -> Self {
        Self::told(Topic::Needless, field, format!("{} leaves this out: {why}", dialect.name()))
    }

    /// The same, at a line.
    #[must_use]
    pub fn at(self, line: usize) -> Self {
        Self { line: Some(line), ..self }
    }
}
