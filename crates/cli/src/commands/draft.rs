//! `draft`: a commented stack file.

use super::refuse_existing;
use crate::{args::DraftArgs, context::Context, show};
use neat_content::{Error, IfThere, PendingFile, Result};
use neat_media::Media;
use std::path::{Component, Path, PathBuf};

pub(crate) fn run(args: &DraftArgs, context: &Context) -> Result<()> {
    let media = super::kind::media(&args.media)?;
    let Some(output) = &args.output else {
        let text = text(&media, &args.media, None)?;
        if context.json {
            return context.print_json(&show::build::DraftView { stack: text, path: None });
        }
        return context.print_document(&text);
    };
    refuse_existing(output, args.replace)?;
    let text = text(&media, &args.media, Some(output))?;
    let (pending, mut file) = PendingFile::create_output(output, IfThere::replace(args.replace), None)?;
    file.write_bytes(text.as_bytes())?;
    pending.commit(file.finish()?.0)?;
    let path = output.display().to_string();
    if context.json {
        return context.print_json(&show::build::DraftView { stack: text, path: Some(path) });
    }
    let next = show::in_command(output);
    context.print(&show::heading_line(&path, &format!("look it over, then `neatstack plan {next}`")))
}

/// A draft for a media at `path`, as it is right in the file `output`; without one, in this folder.
pub(super) fn text(media: &Media, path: &Path, output: Option<&Path>) -> Result<String> {
    let Some(output) = output else {
        return Ok(neat_stack::draft(media, &path.to_string_lossy()));
    };
    let whole = |path: &Path| std::fs::canonicalize(path).map_err(Error::io("find", path));
    let folder = output.parent().filter(|folder| !folder.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let way = relative(&whole(path)?, &whole(folder)?);
    Ok(neat_stack::draft(media, &way.to_string_lossy()))
}

/// The way from a folder to a file, both from the root.
fn relative(file: &Path, folder: &Path) -> PathBuf {
    let (file, folder): (Vec<Component<'_>>, Vec<Component<'_>>) =
        (file.components().collect(), folder.components().collect());
    let same = file.iter().zip(&folder).take_while(|(a, b)| a == b).count();
    let up = folder[same..].iter().map(|_| Component::ParentDir);
    up.chain(file[same..].iter().copied()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ways_lead_from_folder_to_file() {
        for (file, folder, way) in [
            ("/a/b/m.iso", "/a/b", "m.iso"),
            ("/a/b/m.iso", "/a/c/d", "../../b/m.iso"),
            ("/m.iso", "/a", "../m.iso"),
            ("/a/m.iso", "/", "a/m.iso"),
        ] {
            assert_eq!(relative(Path::new(file), Path::new(folder)), Path::new(way));
        }
    }
}
