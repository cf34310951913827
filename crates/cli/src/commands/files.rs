//! `files`: digest, size, path.

use super::images;
use crate::{
    args::{Digest, FilesArgs},
    context::Context,
    show::{image::FileView, outside},
};
use neat_content::{DigestKind, Error, NodeKind, Result, digest_of};
use neat_image::{ImageDraft, Times};
use std::collections::BTreeMap;

pub(crate) fn run(args: &FilesArgs, context: &Context) -> Result<()> {
    let tree = images::open_tree(&args.path, &args.inside, "which is not listed", context)?;
    let kind = args.digest.map(|digest| match digest {
        Digest::Sha1 => DigestKind::Sha1,
        Digest::Sha256 => DigestKind::Sha256,
    });
    let job = context.job();
    let mut views = Vec::new();
    let mut text = String::new();
    let mut streams = if args.streams { named_streams(args, kind, context)? } else { BTreeMap::new() };
    for step in tree.walk() {
        let own = streams.remove(&step.path).unwrap_or_default();
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
            views.extend(own);
            continue;
        }
        for view in std::iter::once(view).chain(own) {
            text.push_str(&line(&view, kind));
        }
        if text.len() > 64 * 1024 {
            context.print(&std::mem::take(&mut text))?;
        }
    }
    if context.json { context.print_json(&views) } else { context.print(&text) }
}

/// The named streams of an edition's files, by the path of the file.
fn named_streams(
    args: &FilesArgs,
    kind: Option<DigestKind>,
    context: &Context,
) -> Result<BTreeMap<String, Vec<FileView>>> {
    if let Some(disk) = images::on_disk(&args.path, &args.inside, context)? {
        let mut all: BTreeMap<String, Vec<FileView>> = BTreeMap::new();
        for (path, name, content, modified) in disk.streams() {
            let digest = kind.map(|kind| digest_of(&content, kind, &context.job())).transpose()?;
            all.entry(path.clone()).or_default().push(FileView {
                path: format!("{path}:{name}"),
                kind: "stream",
                size: content.len(),
                digest,
                target: None,
                modified: modified.seconds,
            });
        }
        return Ok(all);
    }
    let image = images::open_anywhere(&args.path, args.inside.image.as_deref())?;
    let number = match &args.inside.edition {
        Some(wanted) => image.find_edition(wanted)?,
        None if image.editions().len() == 1 => 1,
        None => {
            return Err(Error::request(
                "only files of editions have streams",
                "say which edition with --edition",
            ));
        }
    };
    let files = image.files(number)?;
    let draft = ImageDraft::of(&image);
    let mut all: BTreeMap<String, Vec<FileView>> = BTreeMap::new();
    for id in files.ids() {
        let entry = files.entry(id);
        let path = files.path(id);
        for stream in entry.streams().iter().filter(|stream| !stream.name.units().is_empty()) {
            let name = format!("{path}:{}", stream.name);
            let content = draft.content(stream.digest, &name)?;
            let digest = kind.map(|kind| digest_of(&content, kind, &context.job())).transpose()?;
            all.entry(path.clone()).or_default().push(FileView {
                path: name,
                kind: "stream",
                size: content.len(),
                digest,
                target: None,
                modified: Times::to_timestamp(entry.times.written).seconds,
            });
        }
    }
    Ok(all)
}

/// Digest, size and path in a line.
fn line(view: &FileView, kind: Option<DigestKind>) -> String {
    let digest = match (&view.digest, kind) {
        (Some(digest), _) => format!("{digest}  "),
        (None, Some(kind)) => {
            format!("{:width$}  ", "-", width = if kind == DigestKind::Sha1 { 40 } else { 64 })
        }
        (None, None) => String::new(),
    };
    let target = view.target.as_ref().map(|target| format!(" -> {target}")).unwrap_or_default();
    let name = format!("{}{target}", view.path);
    format!("{digest}{:>12}  {}\n", view.size, outside::line(&name))
}
