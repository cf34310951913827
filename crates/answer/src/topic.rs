//! What findings are about, and how much each weighs: the one table of that.

use crate::Gravity;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What a finding is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Topic {
    /// Data of a machine are erased.
    Erases,
    /// An account that may do everything, or one that can sign in, has no password.
    NoPassword,
    /// A password stands in plain text.
    PlainPassword,
    /// The text breaks the rules of its dialect: setup ignores a part, or stops.
    Dialect,
    /// Several answer files compete, and one is never read.
    Competing,
    /// The dialect has no word for what the model says.
    Unsaid,
    /// What is to be filled in has nothing to fill it.
    Unfilled,
    /// A list of machines cannot be what it should.
    Sites,
    /// The name of the machine.
    MachineName,
    /// The name of an account, or of its groups.
    Account,
    /// Languages, keyboards and time zones that are not there.
    Language,
    /// The edition is not on the media.
    Edition,
    /// The media is for other machines.
    Architecture,
    /// The layout of a disk cannot be made.
    Disk,
    /// Addresses that are none.
    Network,
    /// The key has not the form of one.
    ProductKey,
    /// A command cannot run, or its failure is not seen.
    Command,
    /// The name of a script.
    Script,
    /// A value that its kind cannot hold.
    Value,
    /// A file that the answers name is not on the media, or is another.
    NotOnMedia,
    /// The installer stops with a question.
    Asks,
    /// Something is kept as it is, because the neutral form has no word for it.
    Kept,
    /// Something is not in the tables here, and is not checked.
    Unchecked,
    /// The dialect has no such thing, and needs none.
    Needless,
    /// Something has to be done by hand, or by another part of the stack file.
    ByHand,
    /// Somebody is signed in without being asked, and may do everything.
    AutomaticSignIn,
    /// Something that works and is seldom meant.
    Unusual,
}

/// One line for each: its gravity, and what it is about.
const TABLE: [(Topic, &str, Gravity, &str); 27] = {
    use Gravity::{Danger, Note, Problem};
    [
        (
            Topic::Erases,
            "erases",
            Danger,
            "data of the machine are erased; `erases = \"yes\"` in the model says that it is meant",
        ),
        (
            Topic::NoPassword,
            "no-password",
            Problem,
            "an account that administers the machine, or must sign in, has no password",
        ),
        (Topic::PlainPassword, "plain-password", Problem, "a password stands in plain text on the media"),
        (
            Topic::Dialect,
            "dialect",
            Problem,
            "the text breaks the rules of its dialect: setup ignores a part of it, or stops",
        ),
        (
            Topic::Competing,
            "competing",
            Problem,
            "several answer files of one kind are on the media, and one is never read",
        ),
        (Topic::Unsaid, "unsaid", Problem, "the dialect cannot say what the model says"),
        (Topic::Unfilled, "unfilled", Problem, "a placeholder that nothing fills"),
        (
            Topic::Sites,
            "sites",
            Problem,
            "a site list in which machines are missing, twice, or without what they need",
        ),
        (Topic::MachineName, "machine-name", Problem, "a name that no machine may have"),
        (Topic::Account, "account", Problem, "an account or a group that cannot be made"),
        (Topic::Language, "language", Problem, "a language, keyboard or time zone that is not there"),
        (Topic::Edition, "edition", Problem, "an edition that is not on the media: setup stops or asks"),
        (Topic::Architecture, "architecture", Problem, "answers for other machines than the media's"),
        (Topic::Disk, "disk", Problem, "a layout that cannot be made on the disk"),
        (Topic::Network, "network", Problem, "an address that is none"),
        (Topic::ProductKey, "product-key", Problem, "a product key that has not the form of one"),
        (
            Topic::Command,
            "command",
            Problem,
            "a command that cannot run as it stands, or whose failure is not seen",
        ),
        (Topic::Script, "script", Problem, "a script that cannot be carried or is too long"),
        (
            Topic::Value,
            "value",
            Problem,
            "a value that its kind cannot hold: a number, an address, a package's name",
        ),
        (
            Topic::NotOnMedia,
            "not-on-media",
            Problem,
            "a file that the answers name and the media has not, or has with other bytes",
        ),
        (Topic::Asks, "asks", Problem, "a question that the installer stops with"),
        (Topic::Kept, "kept", Note, "something without a word in the neutral form, kept as it is"),
        (Topic::Unchecked, "unchecked", Note, "something that is not in the tables here, and not checked"),
        (
            Topic::Needless,
            "needless",
            Note,
            "something that the dialect's system does not have, so that nothing is to be said",
        ),
        (Topic::ByHand, "by-hand", Note, "something that the answers cannot bring, and another way must"),
        (
            Topic::AutomaticSignIn,
            "automatic-sign-in",
            Note,
            "somebody who is signed in without being asked and administers the machine",
        ),
        (Topic::Unusual, "unusual", Note, "something that works and is seldom meant"),
    ]
};

impl Topic {
    /// All of them, in the order of the table.
    pub fn all() -> impl Iterator<Item = Self> {
        TABLE.iter().map(|(topic, ..)| *topic)
    }

    fn row(self) -> (&'static str, Gravity, &'static str) {
        let row = TABLE.iter().find(|(topic, ..)| *topic == self);
        row.map_or(("", Gravity::Problem, ""), |(_, name, gravity, about)| (name, *gravity, about))
    }

    /// The word that `accept` takes.
    pub fn name(self) -> &'static str {
        self.row().0
    }

    /// How much a finding of it weighs.
    pub fn gravity(self) -> Gravity {
        self.row().1
    }

    /// What to do about a finding, or instead of it to accept it, by what is written before and after the topic's name.
    pub fn or_accept(self, hint: &str, (before, after): (&str, &str)) -> String {
        let how = format!("{before}{}{after}", self.name());
        match hint.chars().last() {
            None => format!("accept it: {how}"),
            Some('?' | '.') => format!("{hint} Or accept it: {how}"),
            Some(_) => format!("{hint}, or accept it: {how}"),
        }
    }

    /// What it is about, in half a sentence.
    pub fn about(self) -> &'static str {
        self.row().2
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_topic_is_in_the_table_once_under_the_name_that_files_have() {
        let names: Vec<&str> = Topic::all().map(Topic::name).collect();
        for (index, name) in names.iter().enumerate() {
            assert!(!names[..index].contains(name), "{name} is there twice");
            let read: Result<Topic, _> = serde_json::from_value(serde_json::json!(name));
            assert_eq!(read.ok().map(Topic::name), Some(*name));
        }
        // A topic that is missing in the table would have no name.
        let schema = serde_json::to_string(&schemars::schema_for!(Topic)).unwrap_or_default();
        assert_eq!(schema.matches("\"const\"").count(), names.len(), "{schema}");
    }

    #[test]
    fn the_page_of_answers_has_the_table() {
        let page = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/answers.md");
        let page = std::fs::read_to_string(page).unwrap_or_default();
        for topic in Topic::all() {
            let gravity = serde_json::to_value(topic.gravity()).unwrap_or_default();
            let gravity = gravity.as_str().unwrap_or_default();
            let row = format!("| `{}` | {gravity} | {} |", topic.name(), topic.about());
            assert!(page.contains(&row), "{row}");
        }
    }
}
