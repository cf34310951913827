//! Quay OS 7 itself: what its three editions and its setup environment consist of.

use crate::{
    BUILD, RELEASED,
    components::{self, put},
    hives, words,
};
use neat_content::{Content, Job, Meta, Result, Tree};
use neat_image::{
    Compression, ImageDraft, Level, Method, Times, capture,
    xml::{Child, Element},
};

/// How much the made-up systems hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Size {
    /// A few MB.
    Small,
    /// A few hundred MB.
    Full,
}

impl Size {
    /// How much longer the large files are.
    const fn factor(self) -> usize {
        match self {
            Self::Small => 1,
            Self::Full => 60,
        }
    }
}

/// Name, word and applications of each edition.
const EDITIONS: [(&str, &str, &str, &[&str]); 3] = [
    (
        "Quay OS 7 Kiosk",
        "Kiosk",
        "For ticket kiosks",
        &["ticket-desk", "card-reader", "shared-ui", "news-stand"],
    ),
    (
        "Quay OS 7 Bridge",
        "Bridge",
        "For bridge consoles",
        &[
            "chart-viewer",
            "radar-overlay",
            "tide-tables",
            "tide-data",
            "shared-ui",
            "card-games",
            "weather-board",
            "news-stand",
        ],
    ),
    (
        "Quay OS 7 Engine Room",
        "EngineRoom",
        "For engine-room panels",
        &["gauge-wall", "tide-tables", "tide-data", "shared-ui", "card-games"],
    ),
];

/// `sources/install.wim`: the editions, which share most of their content.
pub(crate) fn install_image(size: Size, job: &Job<'_>) -> Result<Content> {
    let mut draft = ImageDraft::new(Some(COMPRESSION));
    for (name, word, description, apps) in EDITIONS {
        let captured = capture::from_tree(&edition(word, apps, size.factor())?, job)?;
        let made = Times::from_timestamp(RELEASED);
        let mut image = capture::image_element(name, description, made);
        image.children.insert(6, Child::Element(system_element(word)));
        image.set("DISPLAYNAME", Some(name));
        image.set("DISPLAYDESCRIPTION", Some(description));
        image.set("FLAGS", Some(word));
        for (digest, content) in captured.blobs {
            draft.add_blob(digest, content);
        }
        draft.add_edition(captured.files, image)?;
    }
    draft.set_integrity(true);
    draft.to_content(&std::env::temp_dir(), 0, job)
}

/// `sources/boot.wim`: the setup environment.
pub(crate) fn setup_image(job: &Job<'_>) -> Result<Content> {
    let mut draft = ImageDraft::new(Some(COMPRESSION));
    let captured = capture::from_tree(&setup()?, job)?;
    let made = Times::from_timestamp(RELEASED);
    let mut image = capture::image_element("Quay OS 7 Setup", "Runs first and installs an edition", made);
    image.children.insert(6, Child::Element(system_element("Setup")));
    image.set("FLAGS", Some("Setup"));
    for (digest, content) in captured.blobs {
        draft.add_blob(digest, content);
    }
    draft.add_edition(captured.files, image)?;
    draft.set_boot(Some(1))?;
    draft.to_content(&std::env::temp_dir(), 0, job)
}

const COMPRESSION: Compression = Compression { method: Method::Lzx, chunk_len: 32 << 10, level: Level::Fast };

/// What the XML data says of the system.
fn system_element(word: &str) -> Element {
    let with = |name: &str, children: &[(&str, &str)]| {
        let mut element = Element::with_text(name, "");
        element.children =
            children.iter().map(|(name, text)| Child::Element(Element::with_text(name, text))).collect();
        element
    };
    let build = BUILD.to_string();
    let mut system = with(
        "QUAY",
        &[
            ("ARCH", "9"),
            ("PRODUCTNAME", "Quay OS"),
            ("EDITIONID", word),
            ("INSTALLATIONTYPE", if word == "Setup" { "Setup" } else { "Console" }),
        ],
    );
    let languages =
        [("LANGUAGE", "en-GB"), ("LANGUAGE", "nb-NO"), ("LANGUAGE", "de-DE"), ("DEFAULT", "en-GB")];
    system.children.push(Child::Element(with("LANGUAGES", &languages)));
    let version = [("MAJOR", "7"), ("MINOR", "0"), ("BUILD", &build), ("SPBUILD", "0"), ("SPLEVEL", "0")];
    system.children.push(Child::Element(with("VERSION", &version)));
    system.set("SYSTEMROOT", Some("QUAY"));
    system
}

fn new_tree() -> Tree {
    Tree::new(Meta::at(RELEASED))
}

/// The files of an edition: a base that is the same everywhere, its components and its settings.
fn edition(word: &str, apps: &[&str], factor: usize) -> Result<Tree> {
    let mut tree = new_tree();
    for (n, name) in
        ["kernel", "windlass", "dock", "spooler", "chartlib", "radio", "ledger", "winch"].iter().enumerate()
    {
        let len = (90_000 + n * 21_000) * factor;
        put(&mut tree, &format!("Quay/System32/{name}.lib"), words::program(n as u64 + 11, len))?;
    }
    components::put_all(&mut tree, apps, factor)?;
    put(&mut tree, "Quay/Config/edition.txt", format!("Quay OS 7 {word}, build {BUILD}\r\n").into_bytes())?;
    put(&mut tree, "Users/Default/desktop.txt", words::prose("desktop", 2_000))?;
    tree.make_folder("Users/Public", Meta::at(RELEASED))?;
    for (path, hive) in hives::of_edition(word, apps)? {
        put(&mut tree, path, hive)?;
    }
    Ok(tree)
}

/// The files of the setup environment.
fn setup() -> Result<Tree> {
    let mut tree = new_tree();
    put(&mut tree, "Quay/System32/kernel.lib", words::program(11, 90_000))?;
    put(&mut tree, "Setup/setup.app", words::program(901, 160_000))?;
    put(&mut tree, "Setup/questions.txt", words::prose("questions", 12_000))?;
    for (path, hive) in hives::of_setup()? {
        put(&mut tree, path, hive)?;
    }
    Ok(tree)
}
