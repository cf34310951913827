//! Kickstart: commands, packages and scripts for installers that read it.

mod about;
mod check;
mod document;
mod read;
mod say;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    face::{About, Face, Reading, Saying, Written},
    model::{Erases, Model, Stage},
    pieces::{self, Piece},
    shell::{self, Ways},
};
use document::{Block, parse, parts};
use neat_content::Result;

/// The dialect.
pub(crate) struct Kickstart;

const STAGES: [Stage; 2] = [Stage::SetupStart, Stage::SystemInstalled];
const WAYS: Ways = Ways {
    inside: "",
    media: "/run/install/repo",
    target: "/mnt/sysimage",
    stop: "exit 1",
    name: ("echo \"network --hostname=", "\" >/tmp/neatstack-name.ks"),
};
/// Sections of ours: the installer goes on after one that fails unless it is told not to.
const PRE: &str = "%pre --erroronfail";
const POST: &str = "%post --erroronfail";
const POST_OUTSIDE: &str = "%post --nochroot --erroronfail";
/// Has the first command that fails end the section.
const STOP_AT_FAILURE: &str = "set -e";
/// How lines outside of the installed system reach it.
const OUTSIDE: Ways = Ways { inside: "chroot /mnt/sysimage sh -c", ..WAYS };
/// The file that a machine's name is written to before it is read.
const NAME_FILE: &str = "/tmp/neatstack-name.ks";

impl Face for Kickstart {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let blocks = parse(text)?;
        Ok(read::read(text, &blocks))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let mut findings = unsaid(saying.model);
        let after = say::pieces(saying.model, saying.secrets, &mut findings);
        let text = match saying.origin {
            None => {
                let title: String = saying.model.title.chars().filter(|c| !c.is_control()).collect();
                let title = if title.is_empty() { "Answers for kickstart".into() } else { title };
                let mut head = format!("# {title}\n");
                if saying.model.erases == Erases::Yes {
                    head.push_str(&format!("# {}\n", crate::ERASES_MARK));
                }
                pieces::fresh(&head, &after)
            }
            Some(original) => {
                let marked = crate::set_mark(&original.text, saying.model.erases);
                let blocks = parse(&marked)?;
                let before = say::pieces(&original.reading.model, &original.reading.vault, &mut Vec::new());
                // Commands stand before sections.
                let first = blocks
                    .iter()
                    .find(|block| block.is_section())
                    .map_or(marked.len(), |block| block.span.start);
                let is_section = |piece: &&Piece| piece.key.starts_with('%');
                let split = |all: &[Piece]| -> (Vec<Piece>, Vec<Piece>) {
                    let (sections, commands) = all.iter().partition::<Vec<_>, _>(is_section);
                    (commands.into_iter().cloned().collect(), sections.into_iter().cloned().collect())
                };
                let (old_commands, old_sections) = split(&before);
                let (commands, sections) = split(&after);
                let text = pieces::rewrite(&marked, &parts(&blocks), &old_commands, &commands, first);
                let blocks = parse(&text)?;
                // Behind a section that does not end, new ones would belong to it.
                let open = blocks.last().filter(|block| block.is_section() && !block.is_closed);
                let end = open.map_or(text.len(), |block| block.span.start);
                pieces::rewrite(&text, &parts(&blocks), &old_sections, &sections, end)
            }
        };
        Ok(Written { text, files: shell::side_files(saying.model), findings })
    }

    fn erases(&self, text: &str, _reading: &Reading) -> Erasure {
        parse(text).map(|blocks| erases(&blocks)).unwrap_or_default()
    }

    fn check(&self, text: &str, _reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match parse(text) {
            Ok(blocks) => check::check(&blocks, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    let stages = [&STAGES[..], &[Stage::FirstStart]].concat();
    shell::unsaid(model, Dialect::Kickstart, &stages, &mut findings);
    if model.system.edition.is_some() {
        let why = "there are no editions; software.add chooses an environment such as @^minimal-environment";
        findings.push(Finding::needless("system.edition", Dialect::Kickstart, why));
    }
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Kickstart, why, hint));
    };
    if model.disk.len() > 1 {
        add("disk", "the neutral form lays out one disk here", "add part lines for others with [[own]]");
    }
    if model.network.fixed.is_some() && model.network.wireless.is_some() {
        add("network.wireless", "one network is set up", "leave one out");
    }
    if model.network.wireless.as_ref().is_some_and(|own| own.hidden) {
        add("network.wireless.hidden", "it does not ask for that", "leave it out");
    }
    let name = &model.machine.name;
    if !model.machine.domain.is_empty() && (name.is_empty() || name.contains('{')) {
        add("machine.domain", "the domain is a part of a fixed name", "give the machine a fixed name");
    }
    if model.network.needed == Some(false) {
        findings.push(Finding::told(
            Topic::Needless,
            "network.needed",
            "kickstart asks for none when everything is on the media",
        ));
    }
    if model.first_start.privacy.is_some() {
        findings.push(Finding::told(
            Topic::Needless,
            "first_start.privacy",
            "kickstart has no such questions, so there is nothing to say",
        ));
    }
    findings
}

fn erases(blocks: &[Block]) -> Erasure {
    let mut erasure = Erasure::default();
    for block in blocks {
        if block.name == "clearpart" && !block.has("--none") {
            let drives = block.option("--drives").or(block.option("--list"));
            let what = if block.has("--linux") { "the Linux partitions" } else { "everything" };
            erasure.add(
                drives.map_or_else(
                    || format!("{what} on every disk it sees"),
                    |own| format!("{what} on {own}"),
                ),
            );
        }
        for line in &block.body {
            erasure.add_command(line);
        }
    }
    erasure
}
