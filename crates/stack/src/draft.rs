//! A commented stack file for a media.

use crate::{
    editions::{edition_summaries_quickly, install_image_path, open_image},
    report::EditionSummary,
};
use neat_answer::answer_files;
use neat_content::toml_string;
use neat_media::Media;
use std::fmt::Write as _;

/// What is known already when a draft is written; what is not stands in it as comments. Paths are as they shall stand.
#[derive(Clone, Debug, Default)]
pub struct DraftWishes {
    /// Editions to keep, by name; none for all.
    pub editions: Vec<String>,
    /// Packages and folders of updates.
    pub updates: Vec<String>,
    /// Folders and packs of drivers.
    pub drivers: Vec<String>,
    /// Whether these also go into the setup environment.
    pub drivers_for_setup: bool,
    /// The list of devices that drivers are for.
    pub devices: Option<String>,
    /// Catalogues of components.
    pub catalogues: Vec<String>,
    /// An answer file, or answers in the neutral form.
    pub answer: Option<String>,
    /// A list of machines.
    pub sites: Option<String>,
    /// What comes out.
    pub output: DraftOutput,
    /// The publisher.
    pub publisher: Option<String>,
    /// Folder that is written into; `out` without it.
    pub folder: Option<String>,
}

/// What a build writes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum DraftOutput {
    /// A disc.
    #[default]
    Disc,
    /// A stick.
    Stick,
    /// Both.
    Both,
}

impl DraftOutput {
    const fn has_disc(self) -> bool {
        !matches!(self, Self::Stick)
    }

    const fn has_stick(self) -> bool {
        !matches!(self, Self::Disc)
    }
}

/// Lines of the text.
#[derive(Default)]
struct Lines(String);

impl Lines {
    fn line(&mut self, line: &str) {
        let _ = writeln!(self.0, "{line}");
    }

    /// A line that counts, or stands as a comment.
    fn line_if(&mut self, counts: bool, line: &str) {
        let _ = writeln!(self.0, "{}{line}", if counts { "" } else { "# " });
    }

    fn lines(&mut self, lines: &[&str]) {
        lines.iter().for_each(|line| self.line(line));
    }
}

/// A list of texts in one line.
fn list(texts: &[String]) -> String {
    let texts: Vec<String> = texts.iter().map(|text| toml_string(text)).collect();
    format!("[{}]", texts.join(", "))
}

/// The text of a stack file that rebuilds `media`, which lies at `path`, with comments that say what can be changed.
pub fn draft(media: &Media, path: &str, wishes: &DraftWishes) -> String {
    let label = &media.volume.label;
    let stem: String = path.rsplit('/').next().unwrap_or(path).trim_end_matches(".iso").to_owned();
    let mut text = Lines::default();
    text.lines(&[
        "#:schema ./stack.schema.json",
        "# A stack file: what you have and what you want. Paths are relative to this file.",
        "# `neatstack plan` shows what it will do, `neatstack build` does it. Editors that read the line above complete and",
        "# check the keys once there is the file: `neatstack schema stack > stack.schema.json`.",
    ]);
    text.line(&format!("title = {}", toml_string(if label.is_empty() { &stem } else { label })));
    if !wishes.catalogues.is_empty() {
        text.line(
            "# What is known of components besides what an edition tells by itself; settings and profiles.",
        );
        text.line(&format!("catalogues = {}", list(&wishes.catalogues)));
    }
    text.line("");
    let editions = editions_of(media);
    source(&mut text, path, &editions, &wishes.editions);
    text.line("");
    if !editions.is_empty() {
        inside(&mut text, path, wishes);
    }
    text.lines(&[
        "# Files to put on the media; as many of these sections as you like.",
        "# [[place]]",
        "# from = \"tools/\"              # a file or a folder",
        "# to = \"media:/tools\"          # or system:/tools, on the installed disk",
        "# replace = true               # when files that are there may be overwritten",
        "",
        "# What stays out; * and ? in names, ** for folders of any depth.",
        "# [[leave_out]]",
        "# paths = [\"media:/support/**/*.pdf\"]   # or system:/…, setup:/…",
        "# optional = true              # when nothing may fit",
        "",
    ]);
    answers(&mut text, media, wishes);
    output(&mut text, media, &stem, !editions.is_empty(), wishes);
    text.0
}

fn source(text: &mut Lines, path: &str, editions: &[EditionSummary], kept: &[String]) {
    text.line("[source]");
    text.line(&format!("media = {}", toml_string(path)));
    text.lines(&["# The vendor's digest; checked before anything else.", "# sha256 = \"\""]);
    if editions.is_empty() {
        return;
    }
    text.line("# Editions to keep, by name or number; without this all.");
    for (n, edition) in editions.iter().enumerate() {
        let only =
            edition.only_here.map_or_else(String::new, |bytes| format!("; {} KiB only here", bytes >> 10));
        let facts = [edition.architecture.as_str(), edition.version.as_str()].join(" ");
        text.line(&format!("#   {}  {}  ({}{only})", n + 1, edition.name, facts.trim()));
    }
    let names: Vec<String> = editions.iter().map(|edition| edition.name.clone()).collect();
    text.line_if(
        !kept.is_empty(),
        &format!("editions = {}", list(if kept.is_empty() { &names } else { kept })),
    );
    text.line("# The systems of another release, installed by this media's setup.");
    text.line("# image_from = \"other-release.iso\"");
}

/// What changes the editions.
fn inside(text: &mut Lines, path: &str, wishes: &DraftWishes) {
    text.line("# Updates: a package, or a folder of them; sorted, older and replaced ones skipped.");
    for update in &wishes.updates {
        text.line(&format!("[[update]]\nfrom = {}\n", toml_string(update)));
    }
    if wishes.updates.is_empty() {
        text.lines(&["# [[update]]", "# from = \"updates/\"", ""]);
    }
    text.line("# Drivers: a folder, cabinet, zip file or self-extracting program.");
    let has_drivers = !wishes.drivers.is_empty();
    let none = ["drivers/".to_owned()];
    for driver in if has_drivers { wishes.drivers.as_slice() } else { &none } {
        text.line_if(has_drivers, "[[driver]]");
        text.line_if(has_drivers, &format!("from = {}", toml_string(driver)));
        text.line_if(
            has_drivers && wishes.drivers_for_setup,
            "into = [\"system\", \"setup\"]    # also into the setup environment, so that it sees the disk",
        );
        let devices = wishes.devices.as_deref().unwrap_or("devices.txt");
        text.line_if(
            has_drivers && wishes.devices.is_some(),
            &format!(
                "devices = {}       # only for these: the output of `lspci -nn` and `lsusb`",
                toml_string(devices)
            ),
        );
        text.line("");
    }
    text.line(&format!("# Components; `neatstack pick` chooses on a screen, `neatstack inventory {path} --edition 1` lists them."));
    text.lines(&[
        "# [remove]",
        "# components = [\"app/…\", \"feature/…*\"]",
        "# keep = [\"app/…\"]              # stays, with all it needs",
        "",
        "# How the system is set up.",
        "# [settings]",
        "# registry = [\"site.reg\"]",
        "# services = { \"…\" = \"manual\" }",
        "# features = { \"…\" = false }",
        "",
        "# Applications with silent installers, run once on the installed system.",
        "# [[app]]",
        "# installer = \"apps/setup.exe\"",
        "# arguments = \"/quiet\"",
        "# when = \"first-sign-in\"         # else at the end of setup",
        "",
    ]);
}

fn answers(text: &mut Lines, media: &Media, wishes: &DraftWishes) {
    let existing = answer_files(&media.tree);
    if existing.is_empty() {
        text.line("# An answer file, put where setup looks for it.");
    } else {
        let names: Vec<String> =
            existing.iter().map(|(path, dialect)| format!("{path} ({})", dialect.name())).collect();
        text.line(&format!("# The media has an answer file already: {}.", names.join(", ")));
        text.line("# Your own needs `replace = true`.");
    }
    let answer = wishes.answer.as_deref();
    text.line_if(answer.is_some(), "[answer]");
    text.line_if(answer.is_some(), &format!("file = {}", toml_string(answer.unwrap_or("autounattend.xml"))));
    if !existing.is_empty() {
        text.line_if(answer.is_some(), "replace = true");
    }
    text.line("");
    if let Some(sites) = &wishes.sites {
        text.line("# A media for each line of the list.");
        text.line(&format!("[[variant]]\nsites = {}\n", toml_string(sites)));
    }
}

fn output(text: &mut Lines, media: &Media, stem: &str, has_editions: bool, wishes: &DraftWishes) {
    let output = wishes.output;
    // Each machine's media has a name of its own.
    let stem = if wishes.sites.is_some() { "{name}" } else { stem };
    let folder = wishes.folder.as_deref().unwrap_or("out").trim_end_matches('/');
    text.line("[media]");
    text.line("# In label and names {date} stands for today. Without a label the source's.");
    text.line(&format!("label = {}", toml_string(&media.volume.label)));
    text.line_if(output.has_disc(), &format!("iso = {}", toml_string(&format!("{folder}/{stem}.iso"))));
    text.line_if(
        output.has_stick(),
        &format!(
            "stick = {{ image = {}, scheme = \"gpt\" }}   # a stick too, or only",
            toml_string(&format!("{folder}/{stem}.img"))
        ),
    );
    if let Some(publisher) = &wishes.publisher {
        text.line(&format!("publisher = {}", toml_string(publisher)));
    }
    text.line(
        "# trial = [\"bios\", \"uefi\"]    # start the result in a virtual machine; the build fails if it does not come up",
    );
    if media.partitions.is_some() && output.has_disc() {
        text.lines(&["# The source also starts as a disk.", "hybrid = true"]);
    } else {
        text.lines(&["# So that the same file also starts as a disk (from a stick):", "# hybrid = true"]);
    }
    if has_editions {
        text.line(
            "# compression = \"max\"          # the image file with the systems, compressed anew: smaller, and slow",
        );
        text.line("# file_limit = \"fat32\"         # split it where it is larger than FAT32 holds");
    }
    text.line("# boot_code = \"boot-code.bin\"  # first block of such a disk, for BIOS");
}

/// The editions of the media's image file; none if it has none that can be read.
fn editions_of(media: &Media) -> Vec<EditionSummary> {
    let image = install_image_path(&media.tree).map(|path| open_image(&media.tree, &path));
    match image {
        Some(Ok(image)) => edition_summaries_quickly(&image).unwrap_or_default(),
        _ => Vec::new(),
    }
}
