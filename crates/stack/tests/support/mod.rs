//! Recipes on the demo's media, without the program.
#![allow(
    dead_code,
    clippy::unwrap_used,
    clippy::panic,
    reason = "each test binary uses its part, and fails by stopping"
)]

use neat_content::{Content, DigestKind, Job, Timestamp, digest_of};
use neat_demo::Size;
use neat_stack::{BuildOptions, BuildOutcome, Clock, PlanReport, Prepared, StackFile, Weight, Wishes};
use std::{
    collections::HashSet,
    fs,
    path::{Path, PathBuf},
    sync::LazyLock,
};

pub const CLOCK: Clock = Clock {
    today: Timestamp::from_seconds(1_790_000_000),
    fixed: Some(Timestamp::from_seconds(1_780_000_000)),
};

/// The demo, made once.
pub static DEMO: LazyLock<(tempfile::TempDir, PathBuf)> = LazyLock::new(|| {
    let dir = tempfile::tempdir().unwrap();
    let demo = neat_demo::write(dir.path(), Size::Small, &Job::silent()).unwrap();
    (dir, demo.media)
});

/// A folder with the demo's media and a stack file; what is written goes there.
pub struct Bench {
    pub dir: tempfile::TempDir,
    pub text: String,
    pub stack: StackFile,
}

impl Bench {
    pub fn new(rest: &str) -> Self {
        let dir = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(&DEMO.1, dir.path().join("quay.iso")).unwrap();
        let text = format!("title = \"T\"\n[source]\nmedia = \"quay.iso\"\n{rest}");
        let stack = StackFile::parse(&text).unwrap();
        Self { dir, text, stack }
    }

    /// Without a source: only what the text says.
    pub fn alone(text: &str) -> Self {
        let text = format!("title = \"T\"\n{text}");
        let stack = StackFile::parse(&text).unwrap();
        Self { dir: tempfile::tempdir().unwrap(), text, stack }
    }

    /// With another text in place of one that is there.
    pub fn changed(self, from: &str, to: &str) -> Self {
        assert!(self.text.contains(from), "{from}: {}", self.text);
        let text = self.text.replacen(from, to, 1);
        let stack = StackFile::parse(&text).unwrap();
        Self { dir: self.dir, text, stack }
    }

    /// With all that the demo has beside its media.
    pub fn with_demo(rest: &str) -> Self {
        let own = Self::new(rest);
        for entry in fs::read_dir(DEMO.0.path()).unwrap() {
            let entry = entry.unwrap();
            std::os::unix::fs::symlink(entry.path(), own.at(&entry.file_name().to_string_lossy())).unwrap();
        }
        own
    }

    pub fn at(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub fn prepare(&self) -> neat_content::Result<Prepared<'_>> {
        Prepared::new(&self.stack, &self.at("t.stack.toml"), &CLOCK, Wishes::default(), &Job::silent())
    }

    pub fn plan(&self) -> PlanReport {
        self.prepare().unwrap().report
    }

    pub fn error(&self) -> String {
        match self.prepare() {
            Ok(_) => panic!("it was planned: {}", self.text),
            Err(error) => error.to_string(),
        }
    }

    pub fn build(&self) -> Vec<BuildOutcome> {
        let options = BuildOptions {
            stack_text: &self.text,
            program: "test",
            digest: Some(true),
            threads: 0,
            readable: false,
            verify: false,
            replaceable: HashSet::new(),
        };
        self.prepare().unwrap().build(&options, &Job::silent()).unwrap()
    }
}

pub fn sha256(path: &Path) -> String {
    digest_of(&Content::from_path(path).unwrap(), DigestKind::Sha256, &Job::silent()).unwrap()
}

pub fn steps(plan: &PlanReport) -> Vec<String> {
    plan.steps.iter().map(|step| format!("{} {}", step.action, step.subject)).collect()
}

pub fn said(plan: &PlanReport, weight: Weight) -> Vec<&str> {
    let own = plan.findings.iter().filter(|finding| finding.weight == weight);
    own.map(|finding| finding.message.as_str()).collect()
}
