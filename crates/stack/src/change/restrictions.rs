//! What a media allows setup to do: which editions it offers, and from which release it upgrades.

use super::Editor;
use crate::{
    recipe::{SetupSection, StackFile},
    report::Weight,
};
use neat_content::{Content, Folder, Result, Text, Tree};

/// Names the edition, and the channel that its keys are from.
const EDITION: &str = "sources/ei.cfg";
/// Holds the product key that setup takes.
const KEY: &str = "sources/pid.txt";
/// Names the oldest release that setup upgrades.
const RELEASE: &str = "sources/cversion.ini";
/// Where on the media what was set aside waits to be brought back.
const ASIDE: &str = "neatstack/set-aside";
/// Largest of these files that is read, in bytes.
const LARGEST: u64 = 64 << 10;

/// What a media restricts, in words; keys are not among them.
pub fn restrictions(tree: &Tree) -> Vec<String> {
    let mut found = Vec::new();
    if let Some(file) = Ini::of(tree, EDITION) {
        let channel = file.first("Channel").map(|own| format!(", with keys of the channel {own}"));
        let channel = channel.unwrap_or_default();
        match file.first("EditionID") {
            Some(edition) => {
                found.push(format!("setup offers the edition {edition} alone{channel} ({EDITION})"));
            }
            None => found.push(format!("setup asks for the edition{channel} ({EDITION})")),
        }
    }
    if tree.find_ignoring_case(KEY).is_some() {
        found.push(format!("setup takes the product key in {KEY}"));
    }
    if let Some(file) = Ini::of(tree, RELEASE) {
        let oldest = ["MinClient", "MinServer"].iter().filter_map(|name| file.value("HostBuild", name));
        let oldest: Vec<String> = oldest.collect();
        if !oldest.is_empty() {
            found.push(format!("setup upgrades from release {} on ({RELEASE})", oldest.join(" or ")));
        }
    }
    found
}

/// `[setup]`
pub(crate) fn apply(stack: &StackFile, editor: &mut Editor) -> Result<()> {
    let Some(SetupSection { ask_edition, upgrade_any }) = stack.setup else { return Ok(()) };
    match ask_edition {
        Some(true) => ask(editor)?,
        Some(false) => bring_back("ask_edition", &[EDITION, KEY], editor)?,
        None => {}
    }
    match upgrade_any {
        Some(true) if !set_aside(RELEASE, "setup upgrades from every release without it", editor)? => {
            let message = format!("`setup.upgrade_any`: there is no {RELEASE} on the media");
            editor.find(Weight::Note, message, "");
        }
        Some(false) => bring_back("upgrade_any", &[RELEASE], editor)?,
        Some(true) | None => {}
    }
    Ok(())
}

/// Has setup ask for the edition: a file that names a channel and no edition, and no key.
fn ask(editor: &mut Editor) -> Result<()> {
    let file = Ini::of(&editor.tree, EDITION);
    let first = |section: &str| file.as_ref().and_then(|file| file.first(section));
    let channel = first("Channel").unwrap_or_else(|| "Retail".into());
    let volume = first("VL").unwrap_or_else(|| "0".into());
    let asks_already = file.is_some() && first("EditionID").is_none();
    if !asks_already {
        if !set_aside(EDITION, "setup offers one edition alone with it", editor)? {
            let marker = Content::from_bytes(Vec::new());
            editor.put_made(&format!("{ASIDE}/{EDITION}"), marker, true, "empty: there was none before")?;
        }
        let text = format!("[Channel]\r\n{channel}\r\n[VL]\r\n{volume}\r\n");
        let why = "it names no edition, so setup asks";
        editor.put_made(EDITION, Content::from_bytes(text.into_bytes()), true, why)?;
    }
    set_aside(KEY, "a key decides which edition it is", editor)?;
    Ok(())
}

/// Moves a file to where it waits; whether it was there.
fn set_aside(path: &str, why: &str, editor: &mut Editor) -> Result<bool> {
    let Some(id) = editor.tree.find_ignoring_case(path) else { return Ok(false) };
    let own = editor.tree.path(id);
    let Some(content) = editor.tree.node(id).content().cloned() else { return Ok(false) };
    let bytes = content.len() as i64;
    editor.tree.remove(id);
    editor.step("set aside", format!("media:/{own}"), why, -bytes);
    editor.put_made(&format!("{ASIDE}/{path}"), content, true, "so that it can be brought back")?;
    Ok(true)
}

/// Puts what was set aside back to where it was.
fn bring_back(key: &str, paths: &[&str], editor: &mut Editor) -> Result<()> {
    let mut is_back = false;
    for path in paths {
        let Some(id) = editor.tree.find_ignoring_case(&format!("{ASIDE}/{path}")) else { continue };
        let Some(content) = editor.tree.node(id).content().cloned() else { continue };
        editor.tree.remove(id);
        is_back = true;
        if !content.is_empty() {
            editor.put_made(path, content, true, "it was set aside by an earlier build")?;
        } else if let Some(id) = editor.tree.find_ignoring_case(path) {
            let bytes = editor.tree.node(id).content().map_or(0, Content::len) as i64;
            editor.tree.remove(id);
            editor.step("remove", format!("media:/{path}"), "an earlier build put it there", -bytes);
        }
    }
    // An empty folder would say that something waits.
    for folder in [&format!("{ASIDE}/sources"), ASIDE] {
        let empty = editor.tree.find_ignoring_case(folder);
        let empty = empty.filter(|id| editor.tree.node(*id).folder().is_some_and(Folder::is_empty));
        empty.into_iter().for_each(|id| editor.tree.remove(id));
    }
    if !is_back {
        editor.find(
            Weight::Note,
            format!("`setup.{key}`: nothing was set aside on this media, so nothing comes back"),
            "",
        );
    }
    Ok(())
}

/// A small file with sections, of which some hold one line without a name.
struct Ini(Vec<(String, Vec<String>)>);

impl Ini {
    fn of(tree: &Tree, path: &str) -> Option<Self> {
        let content = tree.node(tree.find_ignoring_case(path)?).content()?;
        let bytes = content.to_vec(LARGEST, "setup file").ok()?;
        let mut sections: Vec<(String, Vec<String>)> = Vec::new();
        for line in Text::decode(&bytes).text.lines().map(str::trim).filter(|line| !line.is_empty()) {
            if let Some(name) = line.strip_prefix('[').and_then(|rest| rest.strip_suffix(']')) {
                sections.push((name.trim().to_lowercase(), Vec::new()));
            } else if let (Some((_, lines)), false) = (sections.last_mut(), line.starts_with(';')) {
                lines.push(line.to_owned());
            }
        }
        Some(Self(sections))
    }

    fn lines(&self, section: &str) -> impl Iterator<Item = &String> {
        let section = section.to_lowercase();
        self.0.iter().filter(move |(name, _)| *name == section).flat_map(|(_, lines)| lines)
    }

    fn first(&self, section: &str) -> Option<String> {
        self.lines(section).next().cloned()
    }

    fn value(&self, section: &str, name: &str) -> Option<String> {
        let mut pairs = self.lines(section).filter_map(|line| line.split_once('='));
        let found = pairs.find(|(own, _)| own.trim().eq_ignore_ascii_case(name));
        found.map(|(_, value)| value.trim().to_owned()).filter(|value| !value.is_empty())
    }
}
