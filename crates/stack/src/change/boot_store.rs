//! `[boot_store]`: the entries of the boot manager, in each store that the media has.

use super::{Editor, beside::Beside};
use crate::{
    recipe::{AddedEntry, BootStoreSection, NameOrNumber, StackFile},
    report::Weight,
};
use neat_content::{Content, Error, Meta, Result, Timestamp, Tree};
use neat_image::ImageFile;
use neat_service::{BootStore, BootStoreFacts};
use schemars::JsonSchema;
use serde::Serialize;

/// Where media keep the stores that BIOS and UEFI lead to.
const STORES: [(&str, bool); 2] = [("boot/bcd", false), ("efi/microsoft/boot/bcd", true)];

/// A store of a media.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct MediaBootStore {
    /// Where it is.
    pub path: String,
    /// What it says.
    #[serde(flatten)]
    pub facts: BootStoreFacts,
}

/// What the boot managers' stores of a media say. A file in their place that is none is passed over.
pub fn boot_stores(tree: &Tree) -> Vec<MediaBootStore> {
    let found = stores(tree).into_iter().filter_map(|(path, _, store)| {
        let facts = store.ok()?.facts();
        Some(MediaBootStore { path, facts })
    });
    found.collect()
}

fn stores(tree: &Tree) -> Vec<(String, bool, Result<BootStore>)> {
    let mut found = Vec::new();
    for (path, is_uefi) in STORES {
        let Some(id) = tree.find_ignoring_case(path) else { continue };
        let Some(content) = tree.node(id).content() else { continue };
        let path = tree.path(id);
        match BootStore::read(content) {
            Ok(Some(store)) => found.push((path, is_uefi, Ok(store))),
            Ok(None) => {}
            Err(error) => found.push((path.clone(), is_uefi, Err(error.within(format!("media:/{path}"))))),
        }
    }
    found
}

/// `[boot_store]`
pub(crate) fn apply(stack: &StackFile, besides: &[Beside<'_>], editor: &mut Editor) -> Result<()> {
    let nothing = BootStoreSection::default();
    let shown: Vec<&Beside<'_>> = besides.iter().filter(|own| own.section.title.is_some()).collect();
    let section = match &stack.boot_store {
        Some(section) => section,
        None if shown.is_empty() => return Ok(()),
        None => &nothing,
    };
    let found = stores(&editor.tree);
    if let (true, None, Some(own)) = (found.is_empty(), &stack.boot_store, shown.first()) {
        return Err(Error::request(
            format!(
                "[[beside]] {} has a title, and the media has no store of a boot manager that could show it",
                own.section.media
            ),
            "take `title` out, and have an entry of [menu] start it: boot_of",
        ));
    }
    if found.is_empty() {
        return Err(Error::request(
            "[boot_store] is there, and the media has no store of a boot manager (boot/bcd, efi/microsoft/boot/bcd)",
            "take it out; [menu] makes a menu of its own for media that boot kernels",
        ));
    }
    let mut added = section.add.iter().map(|own| Added::new(own, editor)).collect::<Result<Vec<_>>>()?;
    for own in shown {
        added.push(Added::of(own)?);
    }
    let mut files: Vec<Option<String>> = vec![None; added.len()];
    for (path, is_uefi, store) in found {
        let mut store = store?;
        let said = change(section, &added, &mut files, is_uefi, &mut store, editor)
            .map_err(|error| error.within(format!("media:/{path}")))?;
        if said.is_empty() {
            continue;
        }
        let content = Content::from_bytes(store.write()?);
        let why = format!("its entries: {}", said.join(", "));
        editor.put_made(&path, content, true, &why)?;
    }
    for (own, _) in added.iter().zip(files).filter(|(_, file)| file.is_none()) {
        editor.find(
            Weight::Refused,
            format!("[[boot_store.add]] {}: no store of the media can start it", own.title),
            "its architecture has no loader on the media",
        );
    }
    Ok(())
}

/// Puts the image file of an added entry onto the media, once for all stores.
fn place(added: &Added<'_>, path: &str, file: &mut Option<String>, editor: &mut Editor) -> Result<()> {
    let path = path.trim_start_matches('/');
    if file.is_none() {
        editor.put_content(path, &added.content, added.meta, "an entry of the boot store starts from it")?;
        *file = Some(path.to_owned());
    }
    Ok(())
}

/// An entry that is added, and what is known of its image file.
struct Added<'a> {
    title: &'a str,
    like: Option<&'a NameOrNumber>,
    content: Content,
    meta: Meta,
    architecture: String,
}

impl<'a> Added<'a> {
    fn new(entry: &'a AddedEntry, editor: &Editor) -> Result<Self> {
        let from = editor.local(&entry.image);
        let content = Content::from_path(&from)?;
        let metadata = std::fs::metadata(&from).map_err(Error::io("examine", &from))?;
        let image = ImageFile::open(&entry.image, content.clone())?;
        let system = image.editions().iter().find_map(|info| info.system.as_ref());
        let architecture = system.map(|system| system.architecture.clone()).unwrap_or_default();
        let meta = Meta::at(Timestamp::from_metadata(&metadata));
        Ok(Self { title: &entry.title, like: entry.like.as_ref(), content, meta, architecture })
    }

    /// The setup environment of another setup on the media.
    fn of(own: &'a Beside<'_>) -> Result<Self> {
        let title = own.section.title.as_deref().unwrap_or_default();
        let Some((content, meta, architecture)) = own.environment() else {
            return Err(Error::request(
                format!(
                    "[[beside]] {title}: {} has no setup environment that a boot manager starts",
                    own.section.media
                ),
                "take `title` out, and have an entry of [menu] start it: boot_of",
            ));
        };
        Ok(Self { title, like: None, content, meta, architecture: architecture.to_owned() })
    }

    /// Whether the media has a loader for its architecture that UEFI starts.
    fn has_uefi_loader(&self, tree: &Tree) -> bool {
        let name = match self.architecture.as_str() {
            "x64" => "BOOTX64.EFI",
            "x86" => "BOOTIA32.EFI",
            "arm64" => "BOOTAA64.EFI",
            _ => return false,
        };
        tree.find_ignoring_case(&format!("EFI/BOOT/{name}")).is_some()
    }
}

/// Makes the changes in one store; what was changed, in words.
fn change(
    section: &BootStoreSection,
    added: &[Added<'_>],
    files: &mut [Option<String>],
    is_uefi: bool,
    store: &mut BootStore,
    editor: &mut Editor,
) -> Result<Vec<String>> {
    let before = store.facts();
    let mut said = Vec::new();
    let has = |title: &str| before.entries.iter().any(|own| own.title == title);
    // All that is named is looked for in the menu as it was, before any title changes.
    let mut titles = Vec::new();
    for (wanted, title) in &section.titles {
        match store.find(wanted) {
            Ok(id) => titles.push((id, wanted, title)),
            // An earlier build called it so.
            Err(_) if has(title) => {}
            Err(error) => return Err(error),
        }
    }
    for (id, wanted, title) in titles {
        if !before.entries.iter().any(|own| own.id == id && own.title == *title) {
            store.set_title(&id, title)?;
            said.push(format!("{wanted:?} is called {title:?}"));
        }
    }
    for (own, file) in added.iter().zip(files) {
        // An earlier build added it.
        if let Some(there) = before.entries.iter().find(|entry| entry.title == own.title) {
            place(own, &there.image.replace('\\', "/"), file, editor)?;
            continue;
        }
        if is_uefi && !own.has_uefi_loader(&editor.tree) {
            let title = own.title;
            editor.find(
                Weight::Note,
                format!(
                    "[[boot_store.add]] {title}: UEFI does not show it: the media has no loader for {}",
                    own.architecture
                ),
                "",
            );
            continue;
        }
        let usual = before.entries.iter().find(|entry| entry.default).or(before.entries.first());
        let like = match own.like.cloned() {
            Some(like) => store.find(&like.text())?,
            None => usual.map(|entry| entry.id.clone()).unwrap_or_default(),
        };
        let image = before.entries.iter().find(|entry| entry.id == like).map(|entry| entry.image.clone());
        let image = image.unwrap_or_default();
        let path = match file {
            Some(path) => path.clone(),
            None => beside(&image, &editor.tree).ok_or_else(|| {
                Error::request(
                    format!("the entry that {:?} is made after starts from no image file", own.title),
                    "name another in `like`",
                )
            })?,
        };
        place(own, &path, file, editor)?;
        store.add_like(&like, own.title, &format!("\\{}", path.replace('/', "\\")))?;
        said.push(format!("{:?} is added", own.title));
    }
    if let Some(wanted) = section.default.clone().map(NameOrNumber::text) {
        let is_there = store.facts().entries.iter().any(|own| own.title == wanted);
        // What this firmware cannot start is no default of its menu; that it does not show it is said above.
        if !is_there && added.iter().any(|own| own.title == wanted) {
            return finish(section, store, said);
        }
        let id = store.find(&wanted)?;
        if !store.facts().entries.iter().any(|own| own.id == id && own.default) {
            store.set_default(&id)?;
            said.push(format!("{wanted:?} is started when nobody chooses"));
        }
    }
    finish(section, store, said)
}

/// What concerns the whole menu.
fn finish(section: &BootStoreSection, store: &mut BootStore, mut said: Vec<String>) -> Result<Vec<String>> {
    if let Some(seconds) = section.timeout_seconds
        && store.facts().timeout_seconds != Some(u64::from(seconds))
    {
        store.set_timeout(seconds)?;
        said.push(format!("the menu waits {seconds} s"));
    }
    if let Some(on) = section.test_signing {
        let entries = store.facts().entries;
        let others: Vec<_> = entries.iter().filter(|own| own.test_signing != on).collect();
        for own in &others {
            store.set_test_signing(&own.id, on)?;
        }
        if !others.is_empty() {
            said.push(format!("what is signed for tests is {}", if on { "taken" } else { "refused" }));
        }
    }
    Ok(said)
}

/// A free path beside an image file, as long as its own.
fn beside(image: &str, tree: &Tree) -> Option<String> {
    let path = image.replace('\\', "/");
    let path = path.trim_start_matches('/');
    let (stem, ending) = path.rsplit_once('.')?;
    let head = stem.char_indices().next_back().map(|(at, _)| &stem[..at])?;
    let names = ('2'..='9').map(|n| format!("{head}{n}.{ending}"));
    names.into_iter().find(|name| tree.find_ignoring_case(name).is_none())
}
