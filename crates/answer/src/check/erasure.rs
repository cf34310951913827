//! What a file erases.

use crate::model::{Model, Stage};
use schemars::JsonSchema;
use serde::Serialize;

/// What is erased without a question about the disk.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, JsonSchema)]
pub struct Erasure {
    /// Each thing that is erased.
    pub what: Vec<String>,
    /// What a person is asked before.
    pub asked: Vec<String>,
}

impl Erasure {
    pub(crate) fn add(&mut self, what: String) {
        if !self.what.contains(&what) {
            self.what.push(what);
        }
    }

    pub(crate) fn ask(&mut self, what: &str) {
        if !self.asked.iter().any(|own| own == what) {
            self.asked.push(what.to_owned());
        }
    }

    /// Commands that write to whole disks.
    pub(crate) fn add_command(&mut self, run: &str) {
        let lower = run.to_lowercase();
        let words: Vec<&str> = lower
            .split(|c: char| c.is_whitespace() || matches!(c, ';' | '|' | '&' | '(' | ')' | '\'' | '"'))
            .collect();
        let program = |word: &&str| {
            let name = word.rsplit(['/', '\\']).next().unwrap_or_default();
            let name = name.strip_suffix(".exe").unwrap_or(name);
            matches!(name, "diskpart" | "wipefs" | "sgdisk" | "sfdisk" | "parted" | "blkdiscard" | "shred")
                || name.starts_with("mkfs")
                || (name == "format" && lower.contains("format ") && lower.contains(':'))
                || (name == "dd" && lower.contains("of=/dev/"))
                || name == "clear-disk"
        };
        if words.iter().any(program) {
            let shown: String = run.chars().take(60).collect();
            self.add(format!("what the command `{shown}` erases"));
        }
    }

    /// What scripts erase, and commands that are packed in one, wherever a file carries them.
    pub(crate) fn add_scripts(&mut self, model: &Model) {
        for command in model.commands(Stage::FirstStart) {
            self.add_command(&command.run);
        }
        for script in &model.script {
            self.add_text(&script.text);
        }
    }

    /// What the lines of a script erase.
    pub(crate) fn add_text(&mut self, text: &str) {
        for line in text.lines().filter(|line| !is_remark(line)) {
            self.add_command(line);
        }
    }

    /// Whether anything is erased.
    pub fn is_some(&self) -> bool {
        !self.what.is_empty()
    }

    /// One line for a person.
    pub fn line(&self) -> String {
        if self.what.is_empty() {
            return "erases nothing without asking".into();
        }
        let what = self.what.join("; ");
        if self.asked.is_empty() {
            format!("erases {what}, and nobody is asked first")
        } else {
            format!(
                "erases {what}; before that setup asks for {}, but not whether to erase",
                self.asked.join(", ")
            )
        }
    }
}

/// Whether a line of a script only says something to a person, in one of the languages that scripts have.
fn is_remark(line: &str) -> bool {
    let line = line.trim_start();
    line.starts_with(['#', '\'']) || line.starts_with("::") || line.to_ascii_lowercase().starts_with("rem ")
}
