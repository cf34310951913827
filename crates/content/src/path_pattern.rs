//! Paths in which names may be patterns.

use std::{collections::HashSet, hash::Hash};
use wildmatch::WildMatch;

/// A path from a root, parts joined with `/` or `\`: `*` and `?` stand for letters of a name, `**` for folders of any
/// depth. Case does not count.
#[derive(Clone, Debug)]
pub struct PathPattern {
    parts: Vec<Part>,
}

#[derive(Clone, Debug)]
enum Part {
    Name(String),
    Like(WildMatch),
    Deep,
}

/// A tree that paths are looked for in.
pub trait PathTree {
    /// An entry.
    type Id: Copy + Eq + Hash;

    /// The entry in a folder with this name, in any case.
    fn named(&self, folder: Self::Id, name: &str) -> Option<Self::Id>;

    /// The folder that an entry below the root is in.
    fn folder_of(&self, id: Self::Id) -> Self::Id;

    /// What is in a folder; nothing for what is none.
    fn inside(&self, folder: Self::Id) -> Vec<(Self::Id, String)>;
}

impl PathPattern {
    /// Reads a path. One without parts fits nothing.
    pub fn new(text: &str) -> Self {
        let parts = text.split(['/', '\\']).filter(|part| !part.is_empty());
        let mut parts: Vec<Part> = parts
            .map(|part| match part {
                "**" => Part::Deep,
                part if part.contains(['*', '?']) => Part::Like(WildMatch::new(&part.to_lowercase())),
                part => Part::Name(part.to_owned()),
            })
            .collect();
        // All below a folder, not the folder itself.
        if matches!(parts.last(), Some(Part::Deep)) {
            parts.push(Part::Like(WildMatch::new("*")));
        }
        Self { parts }
    }

    /// The entries that fit, each once. Nothing below one of them is among them.
    pub fn find<T: PathTree>(&self, tree: &T, root: T::Id) -> Vec<T::Id> {
        let mut search = Search { tree, parts: &self.parts, seen: HashSet::new(), found: Vec::new() };
        if !self.parts.is_empty() {
            search.go(root, 0);
        }
        let all: HashSet<T::Id> = search.found.iter().copied().collect();
        let is_below = |id: &T::Id| {
            let mut at = *id;
            while at != root {
                at = tree.folder_of(at);
                if all.contains(&at) {
                    return true;
                }
            }
            false
        };
        search.found.into_iter().filter(|id| !is_below(id)).collect()
    }
}

struct Search<'a, T: PathTree> {
    tree: &'a T,
    parts: &'a [Part],
    /// Entries with the parts that were looked for from there: several `**` lead to the same in many ways.
    seen: HashSet<(T::Id, usize)>,
    found: Vec<T::Id>,
}

impl<T: PathTree> Search<'_, T> {
    fn go(&mut self, root: T::Id, first: usize) {
        let mut pending = vec![(root, first)];
        while let Some((at, n)) = pending.pop() {
            if !self.seen.insert((at, n)) {
                continue;
            }
            let Some(part) = self.parts.get(n) else {
                self.found.push(at);
                continue;
            };
            match part {
                Part::Name(name) => pending.extend(self.tree.named(at, name).map(|id| (id, n + 1))),
                Part::Like(like) => {
                    let inside = self.tree.inside(at).into_iter().rev();
                    let fitting = inside.filter(|(_, name)| like.matches(&name.to_lowercase()));
                    pending.extend(fitting.map(|(id, _)| (id, n + 1)));
                }
                Part::Deep => {
                    pending.extend(self.tree.inside(at).into_iter().rev().map(|(id, _)| (id, n)));
                    pending.push((at, n + 1));
                }
            }
        }
    }
}

impl PathTree for crate::Tree {
    type Id = crate::NodeId;

    fn named(&self, folder: Self::Id, name: &str) -> Option<Self::Id> {
        self.child_ignoring_case(folder, name)
    }

    fn folder_of(&self, id: Self::Id) -> Self::Id {
        self.node(id).parent()
    }

    fn inside(&self, folder: Self::Id) -> Vec<(Self::Id, String)> {
        let children = self.node(folder).folder().into_iter().flat_map(crate::Folder::children);
        children.map(|id| (id, self.node(id).name().to_owned())).collect()
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;
    use crate::{Content, Meta, Timestamp, Tree};

    fn found(pattern: &str) -> Vec<String> {
        let mut tree = Tree::new(Meta::at(Timestamp::default()));
        for path in [
            "setup.exe",
            "docs/Guide.pdf",
            "docs/da/guide.pdf",
            "docs/da/old/guide.PDF",
            "tools/a/a.txt",
            "a/x",
        ] {
            tree.put_file(path, Content::default(), Meta::at(Timestamp::default())).unwrap();
        }
        let mut found: Vec<String> =
            PathPattern::new(pattern).find(&tree, Tree::ROOT).into_iter().map(|id| tree.path(id)).collect();
        found.sort();
        found
    }

    #[test]
    fn names_and_patterns_of_names_stay_in_their_folder() {
        assert_eq!(found("SETUP.EXE"), ["setup.exe"]);
        assert_eq!(found("/docs\\*.pdf"), ["docs/Guide.pdf"]);
        assert_eq!(found("docs/?a/*"), ["docs/da/guide.pdf", "docs/da/old"]);
        for none in ["", "/", "docs/none", "*.txt", "docs/Guide.pdf/x", "setup.exe/**"] {
            assert_eq!(found(none), [""; 0], "{none}");
        }
    }

    #[test]
    fn two_stars_stand_for_any_depth() {
        assert_eq!(found("docs/**/*.pdf"), ["docs/Guide.pdf", "docs/da/guide.pdf", "docs/da/old/guide.PDF"]);
        assert_eq!(found("**/guide.*"), ["docs/Guide.pdf", "docs/da/guide.pdf", "docs/da/old/guide.PDF"]);
        assert_eq!(found("docs/**"), ["docs/Guide.pdf", "docs/da"]);
        // What lies below another that fits is not named again.
        assert_eq!(found("**/a"), ["a", "tools/a"]);
        assert_eq!(found("**/**/*a*"), ["a", "docs/da", "tools/a"]);
    }

    #[test]
    fn many_stars_end_soon() {
        let mut tree = Tree::new(Meta::at(Timestamp::default()));
        let deep = "a/".repeat(60) + "b";
        tree.put_file(&deep, Content::default(), Meta::at(Timestamp::default())).unwrap();
        let pattern = "**/a/".repeat(30) + "none";
        assert_eq!(PathPattern::new(&pattern).find(&tree, Tree::ROOT), []);
    }
}
