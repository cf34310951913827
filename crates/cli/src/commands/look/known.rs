//! `look --known`: whether a list of digests knows a disc.

use super::super::read_text;
use crate::{context::Context, show::media::KnownView};
use neat_content::{Content, DigestKind, Result, Source, digest_of, read_known};
use std::{path::Path, sync::Arc};

/// Whether the file is one of those in a list of digests.
pub(super) fn known(list: &Path, path: &Path, source: &Arc<Source>, context: &Context) -> Result<KnownView> {
    let files =
        read_known(&read_text(list, "list of digests")?).map_err(|error| error.within(list.display()))?;
    let mut view = KnownView {
        list: list.display().to_string(),
        files: files.len(),
        original: false,
        name: None,
        digests: Vec::new(),
        same_name: false,
    };
    let own_name = path.file_name().map(|name| name.to_string_lossy().into_owned());
    for kind in [DigestKind::Sha256, DigestKind::Sha1] {
        if view.original || !files.iter().any(|file| file.kind == kind) {
            continue;
        }
        let digest = digest_of(&Content::from_source(source.clone()), kind, &context.job())?;
        let mut alike = files.iter().filter(|file| file.kind == kind && file.digest == digest);
        // Of several copies in the list the one with the file's own name.
        let found = alike.clone().find(|file| own_name.as_ref() == Some(&file.name)).or_else(|| alike.next());
        view.original = found.is_some();
        view.name = found.map(|file| file.name.clone());
        view.digests.push(format!("{} {digest}", kind.name()));
    }
    let base = |name: &str| name.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
    view.same_name = !view.original && files.iter().any(|file| own_name.as_ref() == Some(&base(&file.name)));
    context.clear_progress();
    Ok(view)
}
