//! What is wrong with a kickstart file.

use super::document::Block;
use crate::{Finding, Topic, check::MediaFacts};
use neat_content::nearest;

static COMMANDS: &str = include_str!("../../data/kickstart-commands.txt");
const SECTIONS: [&str; 11] = [
    "%packages",
    "%pre",
    "%pre-install",
    "%post",
    "%onerror",
    "%traceback",
    "%addon",
    "%anaconda",
    "%certificate",
    "%include",
    "%ksappend",
];

fn commands() -> impl Iterator<Item = &'static str> {
    COMMANDS.lines().filter(|line| !line.starts_with('#')).flat_map(|line| line.split(' '))
}

pub(super) fn check(blocks: &[Block], media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut add = |topic: Topic, block: &Block, field: &str, message: String, hint: String| {
        findings.push(Finding::new(topic, field, message, hint).at(block.line));
    };
    let mut seen_section = false;
    for block in blocks {
        let name = block.name.as_str();
        let meant = |near: Option<&str>, otherwise: &str| {
            near.map_or_else(|| otherwise.to_owned(), |near| format!("did you mean {near}?"))
        };
        if name.starts_with('%') {
            if !SECTIONS.contains(&name) {
                add(
                    Topic::Dialect,
                    block,
                    name,
                    format!("there is no section {name}"),
                    meant(nearest(name, SECTIONS), "take it out"),
                );
            }
            if block.is_section() && !block.is_closed {
                add(
                    Topic::Dialect,
                    block,
                    name,
                    format!("the section {name} has no %end"),
                    "write %end after its last line".into(),
                );
            }
            seen_section |= block.is_section();
            continue;
        }
        if !commands().any(|own| own == name) {
            add(
                Topic::Dialect,
                block,
                name,
                format!("there is no command {name:?}: the installer stops"),
                meant(nearest(name, commands()), "take it out"),
            );
            continue;
        }
        if seen_section {
            add(
                Topic::Dialect,
                block,
                name,
                format!("{name} stands after a section"),
                "put commands before all sections".into(),
            );
        }
        let is_plain = !block.has("--iscrypted") && !block.has("--lock");
        let has_password = match name {
            "rootpw" => !block.plain(&[]).is_empty(),
            "user" => block.has("--password"),
            _ => false,
        };
        if has_password && is_plain {
            add(
                Topic::PlainPassword,
                block,
                name,
                "a password stands in plain text: whoever has the media can read it".into(),
                "write its hash with --iscrypted".into(),
            );
        }
        if matches!(name, "part" | "partition")
            && !block.has("--size")
            && !block.has("--recommended")
            && !block.has("--onpart")
            && !block.has("--hibernation")
        {
            add(Topic::Disk, block, name, "a partition has no --size".into(), "say it in MiB".into());
        }
    }
    let keys: Vec<String> = blocks.iter().map(Block::key).collect();
    for (index, block) in blocks.iter().enumerate() {
        let is_single = matches!(
            block.name.as_str(),
            "lang" | "keyboard" | "timezone" | "rootpw" | "clearpart" | "bootloader" | "autopart"
        );
        let is_single = is_single || block.name == "user" || block.name.starts_with("part");
        if is_single && keys.iter().take(index).any(|own| *own == keys[index]) {
            let finding = Finding::new(
                Topic::Dialect,
                &block.name,
                format!("{} is said twice", keys[index].replace(':', " ")),
                "take one out",
            );
            findings.push(finding.at(block.line));
        }
    }
    let has = |name: &str| blocks.iter().find(|block| block.name == name);
    if let (Some(auto), true) = (has("autopart"), blocks.iter().any(|block| block.name.starts_with("part"))) {
        let finding = Finding::new(
            Topic::Disk,
            "autopart",
            "autopart and part exclude each other: the installer stops",
            "keep one of them",
        );
        findings.push(finding.at(auto.line));
    }
    // Who says accounts means nobody to be asked: the administrator, or one that administers, must be among them.
    let administers = |block: &Block| {
        block.name == "rootpw"
            || block.name == "user"
                && block.option("--groups").is_some_and(|own| own.split(',').any(|own| own == "wheel"))
    };
    if blocks.iter().any(|block| block.name == "user") && !blocks.iter().any(administers) {
        findings.push(Finding::new(
            Topic::Asks,
            "rootpw",
            "nothing is said of the administrator, and no account is in wheel: the installer asks",
            "say that it cannot sign in (rootpw --lock, administrator.enabled = false), or give it a password",
        ));
    }
    let growing: Vec<&Block> =
        blocks.iter().filter(|block| block.name.starts_with("part") && block.has("--grow")).collect();
    if let [_, second, ..] = growing.as_slice() {
        findings.push(
            Finding::told(Topic::Unusual, "part", "two partitions take the rest; they share it")
                .at(second.line),
        );
    }
    if let Some(media) = media {
        for block in blocks.iter().filter(|block| block.is_section()) {
            for path in block.body.iter().flat_map(|line| media.faults_in_command(line)) {
                let message = format!("a script uses {path}");
                findings.push(
                    Finding::new(
                        Topic::NotOnMedia,
                        &block.name,
                        message,
                        "put it there with [[place]], or correct the path",
                    )
                    .at(block.line),
                );
            }
        }
    }
    findings
}
