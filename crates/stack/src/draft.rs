//! A commented stack file for a media.

use crate::{
    editions::{edition_summaries_quickly, install_image_path, open_image},
    report::EditionSummary,
};
use neat_answer::answer_files;
use neat_content::toml_string;
use neat_media::Media;
use std::fmt::Write as _;

/// The text of a stack file that rebuilds `media`, which lies at `path`, with comments that say what can be changed.
pub fn draft(media: &Media, path: &str) -> String {
    let label = &media.volume.label;
    let stem: String = path.rsplit('/').next().unwrap_or(path).trim_end_matches(".iso").to_owned();
    let mut text = String::new();
    let mut line = |line: &str| {
        let _ = writeln!(text, "{line}");
    };
    line("# A stack file: what you have and what you want. Paths are relative to this file.");
    line("# `neatstack plan` shows what it will do, `neatstack build` does it.");
    line(&format!("title = {}", toml_string(if label.is_empty() { &stem } else { label })));
    line("");
    line("[source]");
    line(&format!("media = {}", toml_string(path)));
    line("# The vendor's digest; checked before anything else.");
    line("# sha256 = \"\"");
    let editions = editions_of(media);
    if !editions.is_empty() {
        line("# Editions to keep, by name or number; without this all.");
        for (n, edition) in editions.iter().enumerate() {
            let only = edition
                .only_here
                .map_or_else(String::new, |bytes| format!("; {} KiB only here", bytes >> 10));
            let facts = [edition.architecture.as_str(), edition.version.as_str()].join(" ");
            line(&format!("#   {}  {}  ({}{only})", n + 1, edition.name, facts.trim()));
        }
        let names: Vec<String> = editions.iter().map(|edition| toml_string(&edition.name)).collect();
        line(&format!("# editions = [{}]", names.join(", ")));
        line("# The systems of another release, installed by this media's setup.");
        line("# image_from = \"other-release.iso\"");
    }
    line("");
    if !editions.is_empty() {
        line("# Updates: a package, or a folder of them; sorted, older and replaced ones skipped.");
        line("# [[update]]");
        line("# from = \"updates/\"");
        line("");
        line("# Drivers: a folder, cabinet, zip file or self-extracting program.");
        line("# [[driver]]");
        line("# from = \"drivers/\"");
        line(
            "# into = [\"system\", \"setup\"]    # also into the setup environment, so that it sees the disk",
        );
        line("# devices = \"devices.txt\"       # only for these: the output of `lspci -nn` and `lsusb`");
        line("");
        line(&format!("# Components; `neatstack inventory {path} --edition 1` lists them."));
        line("# [remove]");
        line("# components = [\"app/…\", \"feature/…*\"]");
        line("# keep = [\"app/…\"]              # stays, with all it needs");
        line("");
        line("# How the system is set up.");
        line("# [settings]");
        line("# registry = [\"site.reg\"]");
        line("# services = { \"…\" = \"manual\" }");
        line("# features = { \"…\" = false }");
        line("");
        line("# Applications with silent installers, run once on the installed system.");
        line("# [[app]]");
        line("# installer = \"apps/setup.exe\"");
        line("# arguments = \"/quiet\"");
        line("# when = \"first-sign-in\"         # else at the end of setup");
        line("");
    }
    line("# Files to put on the media; as many of these sections as you like.");
    line("# [[place]]");
    line("# from = \"tools/\"              # a file or a folder");
    line("# to = \"media:/tools\"          # or system:/tools, on the installed disk");
    line("# replace = true               # when files that are there may be overwritten");
    line("");
    let existing = answer_files(&media.tree);
    if existing.is_empty() {
        line("# An answer file, put where setup looks for it.");
    } else {
        let names: Vec<String> =
            existing.iter().map(|(path, dialect)| format!("{path} ({})", dialect.name())).collect();
        line(&format!("# The media has an answer file already: {}.", names.join(", ")));
        line("# Your own needs `replace = true`.");
    }
    line("# [answer]");
    line("# file = \"autounattend.xml\"");
    if !existing.is_empty() {
        line("# replace = true");
    }
    line("");
    line("[media]");
    line("# In label and names {date} stands for today. Without a label the source's.");
    line(&format!("label = {}", toml_string(label)));
    line(&format!("iso = {}", toml_string(&format!("out/{stem}.iso"))));
    line(&format!(
        "# stick = {{ image = {}, scheme = \"gpt\" }}   # a stick too, or only",
        toml_string(&format!("out/{stem}.img"))
    ));
    line(
        "# trial = [\"bios\", \"uefi\"]    # start the result in a virtual machine; the build fails if it does not come up",
    );
    if media.partitions.is_some() {
        line("# The source also starts as a disk.");
        line("hybrid = true");
    } else {
        line("# So that the same file also starts as a disk (from a stick):");
        line("# hybrid = true");
    }
    if !editions.is_empty() {
        line(
            "# compression = \"max\"          # the image file with the systems, compressed anew: smaller, and slow",
        );
        line("# file_limit = \"fat32\"         # split it where it is larger than FAT32 holds");
    }
    line("# boot_code = \"boot-code.bin\"  # first block of such a disk, for BIOS");
    text
}

/// The editions of the media's image file; none if it has none that can be read.
fn editions_of(media: &Media) -> Vec<EditionSummary> {
    let image = install_image_path(&media.tree).map(|path| open_image(&media.tree, &path));
    match image {
        Some(Ok(image)) => edition_summaries_quickly(&image).unwrap_or_default(),
        _ => Vec::new(),
    }
}
