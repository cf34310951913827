//! `[[leave_out]]`: what stays out of the media, of editions and of the setup environment.

use super::{Editor, Given};
use crate::{
    editions::{install_image_path, setup_image_path},
    recipe::{LeaveOutSection, StackFile},
    report::{EditionWork, Weight},
};
use neat_content::{Error, NodeId, NodeKind, PathPattern, Result, Tree, counted, fold_case};
use neat_media::{BootCatalog, BootImage, stick::is_boot_manager};
use neat_service::{LeaveOut, Verdict};

/// Folders in the root that firmware and boot managers read.
const BOOT_FOLDERS: [&str; 5] = ["boot", "efi", "isolinux", "syslinux", "grub"];
/// Files in the root that they read.
const BOOT_FILES: [&str; 3] = ["bootmgr.efi", "isolinux.cfg", "syslinux.cfg"];
/// Largest file of a boot manager in which names are looked for, in bytes.
const LARGEST_CONFIGURATION: u64 = 1 << 20;

/// Where a path of the section lies.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    Media,
    System,
    Setup,
}

/// The place and the path there of a text such as `media:/docs`.
fn split(text: &str) -> Result<(Place, &str)> {
    let places = [("media:", Place::Media), ("system:", Place::System), ("setup:", Place::Setup)];
    let found = places.iter().find_map(|(word, place)| Some((*place, text.strip_prefix(word)?)));
    match found {
        Some((place, path)) if path.contains(|c: char| !"/\\".contains(c)) => Ok((place, path)),
        _ => Err(Error::request(
            format!("`leave_out.paths`: {text:?} does not say what"),
            "write `media:`, `system:` or `setup:` and a path from its root, such as media:/docs",
        )),
    }
}

/// Whether the stack file leaves something out there.
pub(crate) fn is_asked(stack: &StackFile, place: Place) -> bool {
    wanted(stack).any(|(_, _, split)| matches!(split, Ok((own, _)) if own == place))
}

fn wanted(stack: &StackFile) -> impl Iterator<Item = (&LeaveOutSection, &String, Result<(Place, &str)>)> {
    stack
        .leave_out
        .iter()
        .flat_map(|section| section.paths.iter().map(move |text| (section, text, split(text))))
}

/// What is to be left out of editions, or of the setup environment.
pub(crate) fn of_editions(stack: &StackFile, place: Place) -> Result<Vec<LeaveOut>> {
    let mut all = Vec::new();
    for (section, text, split) in wanted(stack) {
        let (own, path) = split?;
        if own == place {
            all.push(LeaveOut {
                subject: text.clone(),
                path: path.to_owned(),
                force: section.force,
                optional: section.optional,
            });
        }
    }
    Ok(all)
}

/// Says which of these fitted nothing in any edition.
pub(crate) fn tell_unmatched(wanted: &[LeaveOut], work: &[EditionWork], editor: &mut Editor) {
    for own in wanted.iter().filter(|own| !own.optional) {
        let of_it = || work.iter().flat_map(|work| &work.items).filter(|item| item.subject == own.subject);
        if of_it().next().is_some() && of_it().all(|item| item.verdict == Verdict::Skipped) {
            nothing_fits(&own.subject, editor);
        }
    }
}

fn nothing_fits(text: &str, editor: &mut Editor) {
    editor.find(
        Weight::Note,
        format!("[[leave_out]] {text}: nothing fits"),
        "correct it, take it out, or write `optional = true` beside it",
    );
}

/// Leaves out what the stack file names on the media, before anything is put there.
pub(crate) fn media(
    stack: &StackFile,
    given: Option<&Given>,
    boot: &mut Option<BootCatalog>,
    editor: &mut Editor,
) -> Result<()> {
    let mut texts = Vec::new();
    for (section, text, split) in wanted(stack) {
        let (place, path) = split?;
        if place != Place::Media {
            continue;
        }
        let found = PathPattern::new(path).find(&editor.tree, Tree::ROOT);
        if found.is_empty() {
            if !section.optional {
                nothing_fits(text, editor);
            }
            continue;
        }
        let files = files_of(&editor.tree, &found);
        if !section.force {
            if texts.is_empty() {
                texts = texts_of(stack, given, &editor.tree);
            }
            let needed = Needed {
                boot: boot.as_ref(),
                install: install_image_path(&editor.tree),
                setup: setup_image_path(&editor.tree),
                texts: &texts,
            };
            let held = files.iter().find_map(|(file, _)| Some((file, needed.why(file)?)));
            if let Some((file, why)) = held {
                editor.find(
                    Weight::Refused,
                    format!("[[leave_out]] {text}: media:/{file} must stay: {why}"),
                    "name something else, or write `force = true` beside it if that is meant",
                );
                continue;
            }
        }
        let bytes: u64 = files.iter().map(|(_, bytes)| bytes).sum();
        found.iter().for_each(|id| editor.tree.remove(*id));
        forget_entries(boot, &editor.tree);
        editor.step(
            "leave out",
            format!("{}: {}", text, counted(files.len() as u64, "file", "files")),
            "first, so that what you put comes after",
            -i64::try_from(bytes).unwrap_or(i64::MAX),
        );
    }
    Ok(())
}

/// Takes out of a boot catalogue what is no longer on the media.
fn forget_entries(boot: &mut Option<BootCatalog>, tree: &Tree) {
    if let Some(catalog) = boot {
        catalog.entries.retain(|entry| match &entry.image {
            BootImage::File(path) => tree.find_ignoring_case(path).is_some(),
            BootImage::Hidden(_) => true,
        });
        if catalog.entries.is_empty() {
            *boot = None;
        }
    }
}

/// The files among these entries and below them, with their bytes.
fn files_of(tree: &Tree, found: &[NodeId]) -> Vec<(String, u64)> {
    let mut files = Vec::new();
    let mut add = |id: NodeId| match &tree.node(id).kind {
        NodeKind::File(content) => files.push((tree.path(id), content.len())),
        NodeKind::Link(_) => files.push((tree.path(id), 0)),
        NodeKind::Folder(_) => {}
    };
    for id in found {
        add(*id);
        tree.walk_from(*id).for_each(|step| add(step.id));
    }
    files
}

/// What a media needs of its files.
struct Needed<'a> {
    boot: Option<&'a BootCatalog>,
    /// The image files of the systems and of the setup environment.
    install: Option<String>,
    setup: Option<String>,
    /// Who says it, and what, as [`plain`] makes it.
    texts: &'a [(String, String)],
}

impl Needed<'_> {
    /// Why a file must stay.
    fn why(&self, path: &str) -> Option<String> {
        let folded = fold_case(path);
        let is = |other: &str| fold_case(other) == folded;
        let images = self.boot.iter().flat_map(|catalog| &catalog.entries);
        let mut images = images.filter_map(|entry| match &entry.image {
            BootImage::File(path) => Some(path),
            BootImage::Hidden(_) => None,
        });
        if images.any(|image| is(image)) {
            return Some("firmware starts it".into());
        }
        if self.install.as_ref().is_some_and(|image| is_part_of(&folded, &fold_case(image))) {
            return Some("the systems are in it".into());
        }
        if self.setup.as_ref().is_some_and(|image| is(image)) {
            return Some("the setup environment starts from it".into());
        }
        if is_read_to_start(path) {
            return Some("firmware and boot managers read what lies there".into());
        }
        let path = plain(path);
        let naming = self.texts.iter().find(|(_, text)| names(text, &path));
        naming.map(|(who, _)| format!("{who} name it"))
    }
}

/// Whether firmware and boot managers read what lies there.
pub(crate) fn is_read_to_start(path: &str) -> bool {
    let folded = fold_case(path);
    let is = |own: &&str, name: &str| fold_case(own) == name;
    match folded.split_once('/') {
        Some((first, _)) => BOOT_FOLDERS.iter().any(|own| is(own, first)),
        None => is_boot_manager(path) || BOOT_FILES.iter().any(|own| is(own, &folded)),
    }
}

/// Whether a file is an image file or one of the parts that it is split into, both folded.
fn is_part_of(path: &str, image: &str) -> bool {
    let stem = |path: &str| path.rsplit_once('.').map(|(stem, _)| stem.to_owned()).unwrap_or_default();
    let (own, image) = (stem(path), stem(image));
    let part = own.strip_prefix(image.as_str());
    !image.is_empty() && part.is_some_and(|part| part.bytes().all(|byte| byte.is_ascii_digit()))
}

/// Texts in which files of the media may be named: of the menu, of the answers, of boot managers.
fn texts_of(stack: &StackFile, given: Option<&Given>, tree: &Tree) -> Vec<(String, String)> {
    let mut texts = Vec::new();
    if let Some(menu) = &stack.menu {
        texts.push(("the entries of [menu]".to_owned(), plain(&format!("{menu:?}"))));
    }
    match given {
        Some(Given::Model { model, .. }) => {
            texts.push(("the answers".to_owned(), plain(&format!("{model:?}"))));
        }
        Some(Given::File { file, .. }) => texts.push(("the answers".to_owned(), plain(&file.text))),
        None => {}
    }
    for step in tree.walk() {
        let folded = fold_case(&step.path);
        let first = folded.split('/').next().unwrap_or_default();
        let is_read = BOOT_FOLDERS.iter().any(|own| fold_case(own) == first) || !folded.contains('/');
        let is_text = [".cfg", ".conf"].iter().any(|ending| folded.ends_with(&fold_case(ending)));
        let Some(content) = tree.node(step.id).content().filter(|_| is_read && is_text) else { continue };
        if let Ok(bytes) = content.to_vec(LARGEST_CONFIGURATION, "configuration") {
            texts.push((
                format!("the lines of media:/{}", step.path),
                plain(&String::from_utf8_lossy(&bytes)),
            ));
        }
    }
    texts
}

/// A text in small letters, with one slash for each that stands between names.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars().flat_map(char::to_lowercase) {
        let c = if c == '\\' { '/' } else { c };
        if !(c == '/' && out.ends_with('/')) {
            out.push(c);
        }
    }
    out
}

/// Whether a text names a path, whatever stands before its root.
fn names(text: &str, path: &str) -> bool {
    let ends = |c: Option<char>| c.is_none_or(|c| !c.is_alphanumeric() && !"._-".contains(c));
    text.match_indices(path)
        .any(|(at, _)| ends(text[..at].chars().next_back()) && ends(text[at + path.len()..].chars().next()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_are_told_apart() {
        assert_eq!(split("media:/docs/*").unwrap(), (Place::Media, "/docs/*"));
        assert_eq!(split("system:{root}/Web").unwrap(), (Place::System, "{root}/Web"));
        for wrong in ["docs", "media:", "media:/", "setup:\\", "Media:/x", ""] {
            assert!(split(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_path_is_found_in_texts_of_every_kind() {
        let text =
            plain("run = 'D:\\\\Tools\\\\First.cmd /q'\nlinux /casper/vmlinuz file=/cdrom/preseed.cfg");
        for path in ["tools/first.cmd", "casper/vmlinuz", "preseed.cfg", "first.cmd"] {
            assert!(names(&text, path), "{path}: {text}");
        }
        for path in ["ols/first.cmd", "tools/first", "vmlinuz.old", "seed.cfg", "casper/vmlin"] {
            assert!(!names(&text, path), "{path}: {text}");
        }
    }

    #[test]
    fn parts_of_an_image_file_belong_to_it() {
        for (path, is) in [
            ("sources/install.swm", true),
            ("sources/install2.swm", true),
            ("sources/install.wim", true),
            ("sources/installer.exe", false),
            ("sources/boot.wim", false),
        ] {
            assert_eq!(is_part_of(path, "sources/install.swm"), is, "{path}");
        }
    }
}
