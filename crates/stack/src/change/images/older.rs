//! `media.compression` on media of the generation before image files: their files are compressed each by itself.

use crate::{
    change::Editor,
    recipe::{CompressionValue, StackFile},
    report::Weight,
};
use neat_content::{Error, Job, Result, counted};
use neat_older::{OlderSetup, recompress};

/// Compresses the files of such a media anew if that is asked for. Returns whether it is one, and nothing else is wanted that
/// only an image file has.
pub(super) fn apply(
    stack: &StackFile,
    needs_systems: bool,
    editor: &mut Editor,
    job: &Job<'_>,
) -> Result<bool> {
    if needs_systems {
        return Ok(false);
    }
    let setups = OlderSetup::find(&editor.tree)?;
    let Some(compression) = stack.media.compression.filter(|_| !setups.is_empty()) else {
        return Ok(!setups.is_empty());
    };
    if compression != CompressionValue::Max {
        return Err(Error::request(
            "`media.compression`: the files of this media are compressed each by itself, and only made as small as they can be",
            "write compression = \"max\", or leave it out",
        ));
    }
    for setup in &setups {
        let hold = editor.hold.clone();
        let done = recompress(&mut editor.tree, setup, &hold, job)?;
        for damaged in &done.damaged {
            editor.find(
                Weight::Problem,
                format!("media:/{damaged}"),
                "it stays as it is; setup will not be able to read it either",
            );
        }
        let files = counted(done.smaller, "file", "files");
        let subject = format!("{files} of media:/{}, each by itself", setup.folder);
        let (before, after) = (counted(done.before, "byte", "bytes"), counted(done.after, "byte", "bytes"));
        let stays = counted(done.same, "file stays", "files stay");
        let reason = format!("from {before} to {after} in all; {stays}, as the other form is not smaller");
        editor.step("repack", subject, &reason, done.after as i64 - done.before as i64);
    }
    Ok(true)
}
