//! Which files a driver copies, and where its pack has them.

use super::{Architecture, Driver, Inf, InfLine, model::Target};
use neat_content::{Content, NodeKind, Tree};
use std::collections::{BTreeMap, BTreeSet};

/// A file that a driver needs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NeededFile {
    /// Path from the INF file's folder, as the file says.
    pub path: String,
    /// Where the pack has it; nothing if it has not. A name that ends with `_` is a packed copy.
    pub found: Option<String>,
    /// Line of the INF file that wants it.
    pub line: usize,
}

/// Sections of an install section that may copy files.
const SUFFIXES: [&str; 4] = ["", ".CoInstallers", ".WDF", ".Components"];

impl Driver {
    /// The files that it needs on this architecture, and which of them are in `tree`, where the INF file lies at its
    /// path.
    pub fn files(&self, architecture: Architecture, tree: &Tree) -> Vec<NeededFile> {
        needed(self, &self.inf, architecture, tree)
    }
}

fn needed(driver: &Driver, inf: &Inf, architecture: Architecture, tree: &Tree) -> Vec<NeededFile> {
    let mut sources: BTreeMap<String, (String, usize)> = BTreeMap::new();
    let devices = driver.devices_for(architecture, None);
    let mut installs: BTreeSet<String> = devices.iter().map(|device| device.install.clone()).collect();
    installs.extend(["ClassInstall32".to_owned(), "DefaultInstall".to_owned()]);
    for install in installs {
        let Some(section) = best_section(inf, &install, architecture) else { continue };
        for suffix in SUFFIXES {
            for line in inf.lines(&format!("{section}{suffix}")) {
                if line.is("CopyFiles") {
                    copied(inf, line, &mut sources);
                } else if line.is("CopyINF") {
                    for name in line.values.iter().filter(|name| !name.is_empty()) {
                        let name = inf.expand(name);
                        sources.entry(name.to_lowercase()).or_insert((name, line.number));
                    }
                }
            }
        }
    }
    let folder = driver.path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let file = |(name, line): (String, usize)| {
        let path = source_path(inf, &name, architecture);
        let found = find(tree, folder, &path).or_else(|| find(tree, folder, &name));
        NeededFile { path, found, line }
    };
    sources.into_values().map(file).collect()
}

/// The section that this architecture would use: of those with a decoration the one that fits best.
pub(super) fn best_section(inf: &Inf, install: &str, architecture: Architecture) -> Option<String> {
    let prefix = format!("{}.", install.to_lowercase());
    let decorated = inf.sections().filter_map(|name| {
        let target = Target::parse(name.to_lowercase().strip_prefix(&prefix)?)?;
        let fits = !target.is_foreign && target.architecture.is_none_or(|own| own == architecture);
        fits.then_some((target.architecture.is_some(), target.version, name.to_owned()))
    });
    let best = decorated.max_by(|a, b| (a.0, a.1).cmp(&(b.0, b.1)));
    best.map(|(.., name)| name).or_else(|| inf.has(install).then(|| install.to_owned()))
}

/// The files of a `CopyFiles` line: names after `@`, or sections of `target, source, …`.
fn copied(inf: &Inf, line: &InfLine, sources: &mut BTreeMap<String, (String, usize)>) {
    for value in line.values.iter().map(|value| inf.expand(value)).filter(|value| !value.is_empty()) {
        let mut add = |name: String, line: usize| {
            if !name.is_empty() {
                sources.entry(name.to_lowercase()).or_insert((name, line));
            }
        };
        if let Some(name) = value.strip_prefix('@') {
            add(name.to_owned(), line.number);
            continue;
        }
        for line in inf.lines(&value) {
            let source = if line.value(1).is_empty() { line.value(0) } else { line.value(1) };
            add(inf.expand(source), line.number);
        }
    }
}

/// Where the source disks' sections say that a file lies, from the INF file's folder.
fn source_path(inf: &Inf, name: &str, architecture: Architecture) -> String {
    let word = architecture.inf_word();
    let listed = |section: &str, key: &str| {
        inf.line(&format!("{section}.{word}"), key).or_else(|| inf.line(section, key))
    };
    let mut parts: Vec<String> = Vec::new();
    if let Some(file) = listed("SourceDisksFiles", name) {
        let disk = inf.expand(file.value(0));
        if let Some(disk) = listed("SourceDisksNames", &disk) {
            parts.push(inf.expand(disk.value(3)));
        }
        parts.push(inf.expand(file.value(1)));
    }
    parts.push(name.to_owned());
    let joined = parts.join("/").replace('\\', "/");
    let clean: Vec<&str> = joined.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
    clean.join("/")
}

/// The file at a path from the INF file's folder, or its packed copy, whose name ends with `_`.
fn find(tree: &Tree, folder: &str, path: &str) -> Option<String> {
    if path.split('/').any(|part| part == "..") {
        return None;
    }
    let full = format!("{folder}/{path}");
    let is_file = |path: &str| {
        let id = tree.find_ignoring_case(path)?;
        matches!(tree.node(id).kind, NodeKind::File(Content { .. })).then(|| tree.path(id))
    };
    let mut packed = full.clone();
    packed.pop();
    packed.push('_');
    is_file(&full).or_else(|| is_file(&packed))
}
