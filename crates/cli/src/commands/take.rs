//! `take`: files out of a media.

use super::{images, refuse_existing};
use crate::{args::TakeArgs, context::Context, show};
use neat_content::{Content, Error, Folder, IfThere, NodeId, NodeKind, PendingFile, Result, Source, Tree};
use neat_media::folder;
use std::path::Path;

pub(crate) fn run(args: &TakeArgs, context: &Context) -> Result<()> {
    let tree = &images::open_tree(&args.path, &args.inside, "which is not taken along", context)?;
    // Everything is looked up before anything is written.
    let mut found: Vec<NodeId> = Vec::new();
    for what in &args.what {
        // All of it.
        if matches!(what.trim_matches('/'), "" | "." | "*") {
            found.extend(tree.node(Tree::ROOT).folder().into_iter().flat_map(Folder::children));
        } else {
            found.push(find(tree, what)?);
        }
    }
    for id in &found {
        refuse_existing(&args.to.join(tree.node(*id).name()), args.replace)?;
    }
    let of_private = args.path.is_file() && Source::open(&args.path)?.is_private();
    super::make_folder(&args.to)?;
    let mut taken = Vec::new();
    for id in found {
        let target = args.to.join(tree.node(id).name());
        let private = !args.readable && (of_private || holds_secret(tree, id)?);
        let size = take(tree, id, &target, IfThere::replace(args.replace), private, context)?;
        taken.push(show::media::TakenView { path: tree.path(id), to: target.display().to_string(), size });
        if !context.json && !context.quiet {
            context.print_line(&format!("{}  {}", target.display(), show::size(size)))?;
        }
    }
    if context.json { context.print_json(&taken) } else { Ok(()) }
}

fn find(tree: &Tree, what: &str) -> Result<NodeId> {
    let id = tree.find_ignoring_case(what);
    id.filter(|id| *id != Tree::ROOT).ok_or_else(|| {
        Error::request(format!("there is no {what} there"), "list what is there with `neatstack files`")
    })
}

/// Whether a file is answers with a password or key; of a folder, whether the media has such answers.
fn holds_secret(tree: &Tree, id: NodeId) -> Result<bool> {
    match tree.node(id).content() {
        Some(content) => neat_answer::content_holds_secret(content),
        None => neat_answer::tree_holds_secret(tree),
    }
}

/// What is at a place, without following links.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Is {
    Folder,
    Link,
    File,
}

fn kind_of(path: &Path) -> Option<Is> {
    let kind = std::fs::symlink_metadata(path).ok()?.file_type();
    Some(if kind.is_dir() {
        Is::Folder
    } else if kind.is_symlink() {
        Is::Link
    } else {
        Is::File
    })
}

fn take(
    tree: &Tree,
    id: NodeId,
    target: &Path,
    there: IfThere,
    private: bool,
    context: &Context,
) -> Result<u64> {
    let job = context.job();
    match &tree.node(id).kind {
        // What is there stays beside it. A link is no folder, wherever it leads.
        NodeKind::Folder(own) if there == IfThere::Replace && kind_of(target) == Some(Is::Folder) => {
            own.children().try_fold(0, |all, child| {
                let place = target.join(tree.node(child).name());
                Ok(all + take(tree, child, &place, there, private, context)?)
            })
        }
        NodeKind::Folder(_) => {
            folder::write_new(tree, id, target, private, &job)?;
            Ok(tree.walk_from(id).filter_map(|step| tree.node(step.id).content().map(Content::len)).sum())
        }
        NodeKind::Link(link) => {
            if there == IfThere::Replace && kind_of(target) == Some(Is::Link) {
                std::fs::remove_file(target).map_err(Error::io("replace the link", target))?;
            }
            std::os::unix::fs::symlink(link, target).map_err(Error::io("create the link", target))?;
            Ok(0)
        }
        NodeKind::File(content) => {
            let (pending, mut output) = PendingFile::create_output(target, there, None)?;
            if private {
                pending.make_private()?;
            }
            output.write_content(content, &job)?;
            let (file, _) = output.finish()?;
            if let Some(time) = tree.node(id).meta.modified.to_system_time() {
                file.set_modified(time).map_err(Error::io("set the time of", target))?;
            }
            pending.commit(file)?;
            Ok(content.len())
        }
    }
}
