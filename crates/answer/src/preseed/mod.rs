//! Answers for Debian's installer: lines of debconf's preseed form.

mod about;
mod check;
mod commands;
mod disks;
mod distribution;
mod document;
mod keymaps;
mod read;
mod say;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    face::{About, Face, Reading, Saying, Written},
    model::{Disk, Erases, Model, Stage},
    pieces,
    shell::{self, Ways},
    tables,
};
use document::Document;
use neat_content::Result;

/// The dialect.
pub(crate) struct Preseed;

const WAYS: Ways = Ways {
    inside: "in-target sh -c",
    media: "/cdrom",
    target: "/target",
    stop: "{ echo 'The disks are not as the answer file expects. Nothing was written.' >/dev/console; sleep 1000000; }",
    // The first is what is asked, the second wins against a name that a DHCP server gives.
    name: ("{ n=\"", "\"; debconf-set netcfg/get_hostname \"$n\" && debconf-set netcfg/hostname \"$n\"; }"),
};
const STAGES: [Stage; 3] = [Stage::SetupStart, Stage::SystemInstalled, Stage::FirstStart];
/// How versions before 0.2 said a machine's name that is made from a pattern.
const FORMER_NAME: (&str, &str) = ("debconf-set netcfg/get_hostname \"", "\"");
const SSH: &str = "openssh-server";
const GO_ON: &str = "Do not configure the network at this time";

impl Face for Preseed {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let document = Document::parse(text)?;
        Ok(read::read(&document))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let mut findings = unsaid(saying.model);
        let after = say::pieces(saying.model, saying.secrets, &mut findings);
        let text = match saying.origin {
            None => {
                let mut head = format!("# {}\n", title(saying.model));
                if saying.model.erases == Erases::Yes {
                    head.push_str(&format!("# {}\n", crate::ERASES_MARK));
                }
                pieces::fresh(&head, &after)
            }
            Some(original) => {
                let marked = crate::set_mark(&original.text, saying.model.erases);
                let document = Document::parse(&marked)?;
                let before = say::pieces(&original.reading.model, &original.reading.vault, &mut Vec::new());
                pieces::rewrite(&marked, &document.parts(), &before, &after, marked.len())
            }
        };
        Ok(Written { text, files: shell::side_files(saying.model), findings })
    }

    fn erases(&self, text: &str, reading: &Reading) -> Erasure {
        Document::parse(text).map(|document| erases(&document, reading)).unwrap_or_default()
    }

    fn check(&self, text: &str, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match Document::parse(text) {
            Ok(document) => check::check(&document, reading, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn title(model: &Model) -> String {
    let title: String = model.title.chars().filter(|c| !c.is_control()).collect();
    if title.is_empty() { "Answers for Debian's installer".into() } else { title }
}

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    shell::unsaid(model, Dialect::Preseed, &STAGES, &mut findings);
    let first = model.language.keyboards.first().and_then(|own| tables::xkb(own));
    if first.is_some_and(|own| keymaps::of(&own).is_none()) {
        findings.push(Finding::told(Topic::Unusual,
            "language.keyboards",
            "the installer offers no such keyboard: while it works, the keyboard is the American one; the system gets it",
        ));
    }
    if model.system.edition.is_some() {
        let why = "there are no editions; software.add chooses packages";
        findings.push(Finding::needless("system.edition", Dialect::Preseed, why));
    }
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Preseed, why, hint));
    };
    if model.disk.len() > 1 {
        add("disk", "one disk is laid out", "lay the others out by a command");
    }
    if model.network.wireless.as_ref().is_some_and(|own| own.hidden) {
        add("network.wireless.hidden", "it does not ask for that", "leave it out");
    }
    let described = model.command.iter().any(|command| !command.description.is_empty());
    if described {
        findings.push(Finding::told(
            Topic::Needless,
            "command.description",
            "a line of commands has no room for descriptions",
        ));
    }
    findings
}

/// Whether a disk is laid out by the installer itself.
fn is_guided(disk: &Disk) -> bool {
    disk.partition.is_empty()
}

fn erases(document: &Document<'_>, reading: &Reading) -> Erasure {
    let mut erasure = Erasure::default();
    let is_laid_out =
        document.get("partman-auto/method").is_some() || document.get("partman-auto/expert_recipe").is_some();
    if is_laid_out && document.is_true("partman/confirm") {
        let device = reading.model.disk.first().map(|disk| disk.device.clone()).unwrap_or_default();
        erasure.add(if device.is_empty() {
            "everything on the disk".into()
        } else {
            format!("everything on {device}")
        });
        if !document.is_true("partman/confirm_nooverwrite") {
            erasure.ask("whether to write the changes");
        }
        if device.is_empty() {
            erasure.ask("which disk, if there are several");
        }
    }
    for question in ["preseed/early_command", "partman/early_command", "preseed/late_command"] {
        erasure.add_command(document.value(question).unwrap_or_default());
    }
    erasure
}
