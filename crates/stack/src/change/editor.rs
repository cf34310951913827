//! Changes to a media's tree, each with its step in the plan and what there is to say about it.

use super::Handed;
use crate::{
    recipe::PlaceSection,
    report::{AnswersSummary, DeviceSummary, Finding, LedgerFile, PlanStep, Weight},
};
use neat_content::{
    Content, DigestKind, Error, Folder, Hold, Job, Meta, NodeKind, Result, Timestamp, Tree, counted,
    digest_of,
};
use neat_media::folder;
use std::path::{Path, PathBuf};

/// A tree being changed.
#[derive(Clone)]
pub(crate) struct Editor {
    pub tree: Tree,
    pub steps: Vec<PlanStep>,
    pub findings: Vec<Finding>,
    pub placed: Vec<LedgerFile>,
    pub devices: Vec<DeviceSummary>,
    /// What the answers on the media will do.
    pub answers: Vec<AnswersSummary>,
    /// Whether answers with passwords or keys were put on the media, wherever they lie there.
    pub has_secret: bool,
    /// Whether the answers have run what runs once at the first sign-in.
    pub answers_run_apps: bool,
    /// Whether the answers that the stack file brings use a configuration set.
    pub answers_use_a_set: Option<bool>,
    /// What the answer file is to name.
    pub handed: Handed,
    /// Where what is made for image files waits until it is written.
    pub hold: Hold,
    base: PathBuf,
    /// The day of the build, as its clock says.
    pub today: Timestamp,
    /// Times later than this are set to it.
    latest: Option<Timestamp>,
}

/// What became of one file that was put on the media.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Put {
    New,
    Same,
    Replaced { before: u64 },
    Refused,
}

impl Editor {
    pub(crate) fn new(
        tree: Tree,
        base: &Path,
        (today, latest): (Timestamp, Option<Timestamp>),
        hold: Hold,
    ) -> Self {
        Self {
            tree,
            steps: Vec::new(),
            findings: Vec::new(),
            placed: Vec::new(),
            devices: Vec::new(),
            answers: Vec::new(),
            has_secret: false,
            answers_run_apps: false,
            answers_use_a_set: None,
            handed: Handed::default(),
            hold,
            base: base.to_owned(),
            today,
            latest,
        }
    }

    /// A path of the stack file.
    pub(crate) fn local(&self, path: &str) -> PathBuf {
        self.base.join(path)
    }

    /// Notes a step.
    pub(crate) fn step(&mut self, action: &str, subject: String, reason: &str, bytes: i64) {
        self.steps.push(PlanStep { action: action.into(), subject, reason: reason.into(), bytes });
    }

    /// Notes whether answers that go onto the media hold a secret.
    pub(crate) fn note_secret(&mut self, answers: &[u8]) {
        self.has_secret |= neat_answer::holds_secret(answers);
    }

    /// Notes a finding.
    pub(crate) fn find(&mut self, weight: Weight, message: String, hint: impl Into<String>) {
        self.findings.push(Finding { weight, message, hint: hint.into() });
    }

    /// Metadata as it goes on the media.
    pub(crate) fn meta(&self, meta: Meta) -> Meta {
        // On a media everything is readable and nothing is writable, whatever the file's mode was here.
        let modified = self.latest.map_or(meta.modified, |latest| meta.modified.min(latest));
        Meta { modified, mode: None, hidden: meta.hidden }
    }

    /// Puts one file at `path`; one that is there with other bytes is replaced only if `replace` says so.
    fn put(&mut self, path: &str, content: Content, meta: Meta, replace: bool) -> Result<Put> {
        let existing = self.tree.find_ignoring_case(path);
        let outcome = match existing.map(|id| &self.tree.node(id).kind) {
            None => Put::New,
            Some(NodeKind::File(old)) => {
                if old.len() == content.len() && digest(old)? == digest(&content)? {
                    Put::Same
                } else if replace {
                    Put::Replaced { before: old.len() }
                } else {
                    Put::Refused
                }
            }
            Some(NodeKind::Folder(_)) => {
                return Err(Error::request(
                    format!("media:/{path} is a folder, and a file was to be put there"),
                    "give the file another name",
                ));
            }
            Some(NodeKind::Link(_)) => Put::Refused,
        };
        if matches!(outcome, Put::New | Put::Replaced { .. }) {
            let meta = self.meta(meta);
            self.placed.push(LedgerFile { path: path.into(), size: content.len(), sha256: String::new() });
            self.tree.put_file(path, content, meta)?;
        }
        Ok(outcome)
    }

    /// Puts a file that the tool made itself, with its step.
    pub(crate) fn put_made(
        &mut self,
        path: &str,
        content: Content,
        replace: bool,
        reason: &str,
    ) -> Result<()> {
        let bytes = content.len() as i64;
        let meta = Meta::at(self.latest.unwrap_or_default().max(self.newest()));
        let outcome = self.put(path, content, meta, replace)?;
        self.report(outcome, path, bytes, reason);
        Ok(())
    }

    /// Puts a file of this machine at `path`, with its step.
    pub(crate) fn put_local(
        &mut self,
        path: &str,
        from: &Path,
        replace: bool,
        reason: &str,
    ) -> Result<Content> {
        let metadata = std::fs::metadata(from).map_err(Error::io("examine", from))?;
        let content = Content::from_path(from)?;
        let outcome =
            self.put(path, content.clone(), Meta::at(Timestamp::from_metadata(&metadata)), replace)?;
        self.report(outcome, path, content.len() as i64, reason);
        Ok(content)
    }

    /// Puts a file of another media at `path`, with its step.
    pub(crate) fn put_content(
        &mut self,
        path: &str,
        content: &Content,
        meta: Meta,
        reason: &str,
    ) -> Result<()> {
        let outcome = self.put(path, content.clone(), meta, false)?;
        self.report(outcome, path, content.len() as i64, reason);
        Ok(())
    }

    /// The newest time on the media.
    pub(crate) fn newest(&self) -> Timestamp {
        self.tree.newest().max(self.tree.node(Tree::ROOT).meta.modified)
    }

    fn report(&mut self, outcome: Put, path: &str, bytes: i64, reason: &str) {
        match outcome {
            Put::New => self.step("put", format!("media:/{path}"), reason, bytes),
            Put::Same => self.step("keep", format!("media:/{path}"), "the same bytes are there already", 0),
            Put::Replaced { before } => {
                self.step("replace", format!("media:/{path}"), reason, bytes - before as i64);
            }
            Put::Refused => {
                self.step("replace", format!("media:/{path}"), reason, bytes);
                self.find(
                    Weight::Refused,
                    format!("media:/{path} is there already, with other bytes"),
                    "write `replace = true` beside it if that is meant, or use another path",
                );
            }
        }
    }

    /// `[[place]]`
    pub(crate) fn place(&mut self, section: &PlaceSection) -> Result<()> {
        let target = media_path(&section.to)?;
        let from = self.local(&section.from);
        if !from.is_dir() {
            let name = from.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            let is_folder = section.to.ends_with('/')
                || target.is_empty()
                || self
                    .tree
                    .find_ignoring_case(&target)
                    .is_some_and(|id| self.tree.node(id).folder().is_some());
            let path = match (is_folder, target.is_empty()) {
                (true, true) => name,
                (true, false) => format!("{target}/{name}"),
                _ => target,
            };
            return self
                .put_local(&path, &from, section.replace, "files come early, so that the rest sees them")
                .map(drop);
        }
        let (tree, warnings) = folder::read_tree(&from)?;
        self.findings.extend(warnings.iter().map(Finding::note));
        // A folder's own time tells when something in it last came or went here; its files' times say more, and
        // stay the same when the folder is copied.
        let folder_meta = self.meta(Meta::at(tree.newest()));
        let (mut files, mut bytes) = (0_u64, 0_i64);
        let mut refused = Vec::new();
        let mut replaced = 0_u64;
        for step in tree.walk() {
            let path = if target.is_empty() { step.path.clone() } else { format!("{target}/{}", step.path) };
            let node = tree.node(step.id);
            match &node.kind {
                NodeKind::Folder(_) => {
                    self.tree.make_folder(&path, folder_meta)?;
                }
                NodeKind::File(content) => {
                    match self.put(&path, content.clone(), node.meta, section.replace)? {
                        Put::New => {
                            files += 1;
                            bytes += content.len() as i64;
                        }
                        Put::Replaced { before } => {
                            files += 1;
                            replaced += 1;
                            bytes += content.len() as i64 - before as i64;
                        }
                        Put::Same => {}
                        Put::Refused => refused.push(path),
                    }
                }
                NodeKind::Link(link) => {
                    let (folder, name) = path.rsplit_once('/').unwrap_or(("", &path));
                    let meta = self.meta(node.meta);
                    let parent = self.tree.make_folder(folder, folder_meta)?;
                    if self.tree.child_ignoring_case(parent, name).is_none() {
                        self.tree.add(parent, name, meta, NodeKind::Link(link.clone()))?;
                    }
                }
            }
        }
        let also = if replaced > 0 { format!(", {replaced} of them replaced") } else { String::new() };
        let counted = counted(files, "file", "files");
        self.step(
            "put",
            format!("{counted} of {} into media:/{target}{also}", section.from),
            "files come early, so that the rest sees them",
            bytes,
        );
        if let [first, rest @ ..] = refused.as_slice() {
            let more = neat_content::and_more(rest.len());
            self.find(
                Weight::Refused,
                format!("media:/{first}{more} would be overwritten by {}", section.from),
                "write `replace = true` beside it if that is meant",
            );
        }
        Ok(())
    }

    /// Makes sure that a folder is there.
    pub(crate) fn folder(&mut self, path: &str) -> Result<()> {
        let meta = Meta::at(self.newest());
        let mut at = Tree::ROOT;
        for name in path.split('/').filter(|name| !name.is_empty()) {
            at = match self.tree.child_ignoring_case(at, name) {
                Some(id) => id,
                None => self.tree.add(at, name, meta, NodeKind::Folder(Folder::default()))?,
            };
        }
        Ok(())
    }
}

fn digest(content: &Content) -> Result<String> {
    digest_of(content, DigestKind::Sha256, &Job::silent())
}

/// The path of a `media:` target, without slashes at its ends.
fn media_path(to: &str) -> Result<String> {
    let hint = "write `media:`, `system:` or `setup:` and a path from its root, such as media:/tools";
    if let Some(rest) = to.strip_prefix("media:") {
        let parts: Vec<&str> = rest.split('/').filter(|part| !part.is_empty()).collect();
        if parts.iter().any(|part| neat_content::check_name(part).is_err()) {
            return Err(Error::request(format!("`place.to`: {to:?} leaves the media"), hint));
        }
        return Ok(parts.join("/"));
    }
    Err(Error::request(format!("`place.to`: {to:?} does not say where"), hint))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn targets_stay_on_the_media() {
        assert_eq!(media_path("media:/a//b/").unwrap(), "a/b");
        assert_eq!(media_path("media:").unwrap(), "");
        assert!(media_path("media:/../x").is_err());
        assert!(media_path("/x").is_err());
    }
}
