//! `files`: digest, size, path.

use super::images;
use crate::{
    args::{Digest, FilesArgs},
    context::Context,
    show::{image::FileView, outside},
};
use neat_content::{DigestKind, NodeKind, Result, digest_of};
use std::fmt::Write as _;

pub(crate) fn run(args: &FilesArgs, context: &Context) -> Result<()> {
    let tree = images::open_tree(&args.path, &args.inside, "which is not listed", context)?;
    let kind = args.digest.map(|digest| match digest {
        Digest::Sha1 => DigestKind::Sha1,
        Digest::Sha256 => DigestKind::Sha256,
    });
    let job = context.job();
    let mut views = Vec::new();
    let mut text = String::new();
    for step in tree.walk() {
        let node = tree.node(step.id);
        let modified = node.meta.modified.seconds;
        let view = match &node.kind {
            NodeKind::Folder(_) => continue,
            NodeKind::Link(target) => FileView {
                path: step.path,
                kind: "link",
                size: 0,
                digest: None,
                target: Some(target.clone()),
                modified,
            },
            NodeKind::File(content) => {
                let digest = kind
                    .map(|kind| digest_of(content, kind, &job))
                    .transpose()
                    .map_err(|error| error.within(&step.path))?;
                FileView {
                    path: step.path,
                    kind: "file",
                    size: content.len(),
                    digest,
                    target: None,
                    modified,
                }
            }
        };
        if context.json {
            views.push(view);
            continue;
        }
        let digest = match (&view.digest, kind) {
            (Some(digest), _) => format!("{digest}  "),
            (None, Some(kind)) => {
                format!("{:width$}  ", "-", width = if kind == DigestKind::Sha1 { 40 } else { 64 })
            }
            (None, None) => String::new(),
        };
        let target = view.target.map(|target| format!(" -> {target}")).unwrap_or_default();
        let name = format!("{}{target}", view.path);
        let _ = writeln!(text, "{digest}{:>12}  {}", view.size, outside::line(&name));
        if text.len() > 64 * 1024 {
            context.print(&std::mem::take(&mut text))?;
        }
    }
    if context.json { context.print_json(&views) } else { context.print(&text) }
}
