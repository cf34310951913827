//! What setup copies besides the system, and what it runs: the folder `$OEM$`.

use neat_content::{Content, NodeKind, Result, Text, Tree};
use neat_package::Inf;

/// Name of the folder.
const FOLDER: &str = "$OEM$";
/// The list of commands in it.
const COMMANDS: &str = "cmdlines.txt";
/// Longest list of commands, in bytes.
const LARGEST_LIST: u64 = 1 << 20;

/// A folder whose files setup copies.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AddedFolder {
    /// Its name in the folder of additions.
    pub name: String,
    /// Where its files go, in words.
    pub to: String,
    /// Files in it.
    pub files: u64,
    /// Their bytes.
    pub bytes: u64,
}

/// What setup copies and runs besides the system.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Additions {
    /// Paths of the folders on the media that setup takes them from.
    pub places: Vec<String>,
    /// The folders in them.
    pub folders: Vec<AddedFolder>,
    /// The commands that setup runs before it ends, in their order.
    pub commands: Vec<String>,
}

impl Additions {
    /// What lies beside the folder `setup` of a media, and in it: from a disc setup takes the first, from a share the second.
    ///
    /// # Errors
    /// What the system refuses to read.
    pub(crate) fn of(tree: &Tree, setup: &str) -> Result<Self> {
        let mut own = Self::default();
        let beside = setup.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
        for place in [format!("{beside}{FOLDER}"), format!("{setup}/{FOLDER}")] {
            let Some(id) = tree.find_ignoring_case(&place) else { continue };
            let NodeKind::Folder(folder) = &tree.node(id).kind else { continue };
            let place = tree.path(id);
            for child in folder.children() {
                if matches!(tree.node(child).kind, NodeKind::Folder(_)) {
                    let name = tree.node(child).name().to_owned();
                    let inside = format!("{}/", tree.path(child));
                    let contents = tree.walk().filter(|step| step.path.starts_with(&inside));
                    let sizes = contents.filter_map(|step| tree.node(step.id).content().map(Content::len));
                    let (files, bytes) = sizes.fold((0, 0), |(count, sum), len| (count + 1, sum + len));
                    own.folders.push(AddedFolder { to: target(&name), name, files, bytes });
                }
            }
            if let Some(content) = tree.file(&format!("{place}/{COMMANDS}")) {
                let text = Text::decode(&content.to_vec(LARGEST_LIST, "list of commands")?).text;
                own.commands.extend(commands(&text));
            }
            own.places.push(place);
        }
        Ok(own)
    }
}

/// The commands of a list: the lines of its section, without the quotes around them.
fn commands(text: &str) -> Vec<String> {
    let list = Inf::parse(text);
    let lines = list.lines("Commands").iter();
    let line = |line: &neat_package::InfLine| {
        let values = line.values.join(",");
        line.key.as_ref().map_or(values.clone(), |key| format!("{key}={values}"))
    };
    lines.map(line).filter(|line| !line.trim().is_empty()).collect()
}

/// Where the files of a folder go.
fn target(name: &str) -> String {
    match name.to_ascii_uppercase().as_str() {
        "$$" => "the folder of the system".into(),
        "$1" => "the root of the system's drive".into(),
        "$PROGS" => "the folder of programs".into(),
        "$DOCS" => "the folder of accounts".into(),
        "TEXTMODE" => "drivers for the text phase".into(),
        drive if drive.len() == 1 && drive.as_bytes()[0].is_ascii_alphabetic() => {
            format!("the root of drive {drive}:")
        }
        _ => "nowhere: setup only runs what lies here".into(),
    }
}
