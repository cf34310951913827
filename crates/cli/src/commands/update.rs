//! `update new`: a folder as an update package.

use super::refuse_existing;
use crate::{
    args::{UpdateAction, UpdateArgs, UpdateNewArgs},
    context::Context,
    show,
};
use neat_content::{Content, Error, IfThere, NodeKind, PendingFile, Result, Tree};
use neat_media::folder;
use neat_package::{MANIFEST_NAME, Update, UpdateSection, Version, write_update};

pub(crate) fn run(args: &UpdateArgs, context: &Context) -> Result<()> {
    let UpdateAction::New(args) = &args.action;
    new(args, context)
}

fn new(args: &UpdateNewArgs, context: &Context) -> Result<()> {
    refuse_existing(&args.output, args.replace)?;
    let (tree, notes) = folder::read_tree(&args.folder)?;
    for note in notes {
        context.note(&note);
    }
    let (section, files, texts) = if tree.file(MANIFEST_NAME).is_some() {
        if args.id.is_some() || args.version.is_some() || args.title.is_some() || args.arch.is_some() {
            return Err(Error::request(
                format!("{} has an {MANIFEST_NAME}, which says what the update is", args.folder.display()),
                "leave out --id, --version, --title and --arch, or take the file away",
            ));
        }
        let update = Update::to_be_packed(&tree).map_err(|error| error.within(args.folder.display()))?;
        let mut files = Tree::new(tree.node(Tree::ROOT).meta);
        for (path, content) in &update.files {
            files.put_file(path, content.clone(), tree.node(Tree::ROOT).meta)?;
        }
        let text = |name: &String| Some((name.clone(), tree.file(name)?.clone()));
        let texts: Vec<(String, Content)> = update.section.registry.iter().filter_map(text).collect();
        (update.section, files, texts)
    } else {
        let (Some(id), Some(version)) = (&args.id, &args.version) else {
            return Err(Error::request(
                format!("{} has no {MANIFEST_NAME}", args.folder.display()),
                "write one, or say what the update is with --id and --version",
            ));
        };
        let version = Version::parse(version)
            .ok_or_else(|| Error::request(format!("{version:?} is no version"), "write numbers with dots"))?;
        let section = UpdateSection {
            id: id.clone(),
            version,
            title: args.title.clone().unwrap_or_default(),
            architecture: args.arch.clone(),
            ..UpdateSection::default()
        };
        (section, tree, Vec::new())
    };
    let count = files.walk().filter(|step| matches!(files.node(step.id).kind, NodeKind::File(_))).count();
    let (pending, mut output) =
        PendingFile::create_output(&args.output, IfThere::replace(args.replace), None)?;
    write_update(&section, &files, &texts, &mut output, &context.job())?;
    let len = output.position();
    pending.commit(output.finish()?.0)?;
    let path = args.output.display().to_string();
    if context.json {
        return context.print_json(&show::update::UpdateWrittenView {
            path,
            size: len,
            files: count,
            update: section,
        });
    }
    context.print_line(&format!(
        "{path}  {}, {}",
        show::size(len),
        show::count(count as u64, "file", "files")
    ))
}
