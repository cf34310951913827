//! AutoYaST: the XML control file of the SUSE family's installer, by its published reference.

mod about;
mod check;
mod keymaps;
mod node;
mod read;
mod say;

use crate::{
    Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    face::{About, Face, Reading, Saying, Written},
    model::{EditionChoice, Erases, Model, PartitionKind, Stage},
    shell::{self, Ways},
    tables,
    xml::{Document, Element},
};
use neat_content::Result;
use std::fmt::Write as _;

/// The dialect.
pub(crate) struct Autoyast;

/// Namespace of the elements.
pub(super) const NAMESPACE: &str = "http://www.suse.com/1.0/yast2ns";
const CONFIG_NAMESPACE: &str = "http://www.suse.com/1.0/configns";
const STAGES: [Stage; 3] = [Stage::SetupStart, Stage::SystemInstalled, Stage::FirstStart];
const WAYS: Ways = Ways {
    inside: "",
    media: "",
    target: "",
    stop: "{ echo 'The disks are not as the answer file expects. Nothing was written.' >/dev/console; sleep 1000000; }",
    // What a script leaves there is taken instead of the file.
    name: (
        "n=\"",
        "\"; sed \"s/neatstack-name-later/$n/\" /tmp/profile/autoinst.xml >/tmp/profile/modified.xml",
    ),
};
/// Stands for a name that the machine makes itself.
const NAME_LATER: &str = "neatstack-name-later";
/// Our scripts: what looks at the machine first, and the commands of a stage.
const MACHINE: &str = "neatstack-machine.sh";
const COMMANDS: &str = "neatstack-STAGE.sh";
const COMMANDS_OUTSIDE: &str = "neatstack-STAGE-outside.sh";
/// Ids of partitions by what they are for.
const PARTITION_IDS: [(PartitionKind, &str); 2] = [(PartitionKind::Swap, "130"), (PartitionKind::Efi, "259")];

/// A list of scripts and its stage.
struct Script {
    list: &'static str,
    stage: Stage,
}

const SCRIPTS: [Script; 3] = [
    Script { list: "pre-scripts", stage: Stage::SetupStart },
    Script { list: "chroot-scripts", stage: Stage::SystemInstalled },
    Script { list: "init-scripts", stage: Stage::FirstStart },
];

/// What the neutral form has.
const UNDERSTOOD: [&str; 64] = [
    "general/mode/confirm",
    "general/mode/final_halt",
    "general/mode/final_reboot",
    "language/language",
    "keyboard/keymap",
    "timezone/hwclock",
    "timezone/timezone",
    "networking/dns/hostname",
    "networking/dns/domain",
    "networking/dns/dhcp_hostname",
    "networking/dns/nameservers",
    "networking/interfaces/interface/name",
    "networking/interfaces/interface/bootproto",
    "networking/interfaces/interface/ipaddr",
    "networking/interfaces/interface/prefixlen",
    "networking/interfaces/interface/netmask",
    "networking/interfaces/interface/startmode",
    "networking/interfaces/interface/wireless_essid",
    "networking/interfaces/interface/wireless_auth_mode",
    "networking/interfaces/interface/wireless_wpa_psk",
    "networking/routing/routes/route/destination",
    "networking/routing/routes/route/gateway",
    "partitioning/drive/device",
    "partitioning/drive/disklabel",
    "partitioning/drive/initialize",
    "partitioning/drive/use",
    "partitioning/drive/partitions/partition/create",
    "partitioning/drive/partitions/partition/format",
    "partitioning/drive/partitions/partition/filesystem",
    "partitioning/drive/partitions/partition/mount",
    "partitioning/drive/partitions/partition/label",
    "partitioning/drive/partitions/partition/size",
    "partitioning/drive/partitions/partition/partition_id",
    "bootloader/loader_type",
    "bootloader/global/append",
    "software/install_recommended",
    "software/kernel",
    "software/products",
    "software/patterns",
    "software/packages",
    "software/remove-packages",
    "users/user/username",
    "users/user/fullname",
    "users/user/user_password",
    "users/user/encrypted",
    "groups/group/groupname",
    "groups/group/userlist",
    "services-manager/services/enable",
    "firewall/enable_firewall",
    "firewall/zones/zone/name",
    "firewall/zones/zone/services",
    "scripts/pre-scripts/script/filename",
    "scripts/pre-scripts/script/interpreter",
    "scripts/pre-scripts/script/source",
    "scripts/chroot-scripts/script/filename",
    "scripts/chroot-scripts/script/interpreter",
    "scripts/chroot-scripts/script/source",
    "scripts/chroot-scripts/script/chrooted",
    "scripts/init-scripts/script/filename",
    "scripts/init-scripts/script/interpreter",
    "scripts/init-scripts/script/source",
    "scripts/pre-scripts/script/chrooted",
    "scripts/init-scripts/script/chrooted",
    "networking/keep_install_network",
];

impl Face for Autoyast {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        Document::parse_typed(text.to_owned()).map(|document| read::read(&document))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        let findings = unsaid(saying.model);
        let after = say::nodes(saying.model, saying.secrets);
        let own = saying.model.own.iter().filter(|own| own.dialect == Dialect::Autoyast);
        let text = match saying.origin {
            None => {
                let mut text = head(saying.model);
                for node in &after {
                    let _ = writeln!(text, "  {}", node.print("  ", "\n"));
                }
                own.for_each(|own| text.push_str(&format!("  {}\n", own.text.trim())));
                text + "</profile>\n"
            }
            Some(original) => {
                let document = Document::parse_typed(original.text.clone())?;
                let document = Document::parse_typed(marked(&document, saying.model.erases))?;
                let before = say::nodes(&original.reading.model, &original.reading.vault);
                node::rewrite(&document, &before, &after)
            }
        };
        // What stands in [[own]] is XML, or the file would be none.
        Document::parse_typed(text.clone())?;
        Ok(Written { text, files: Vec::new(), findings })
    }

    fn erases(&self, text: &str, _reading: &Reading) -> Erasure {
        Document::parse_typed(text.to_owned()).map(|document| erases(document.root())).unwrap_or_default()
    }

    fn check(&self, text: &str, _reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match Document::parse_typed(text.to_owned()) {
            Ok(document) => check::check(&document, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "file", error.to_string(), error.hint())],
        }
    }
}

fn head(model: &Model) -> String {
    let mut text = "<?xml version=\"1.0\"?>\n<!DOCTYPE profile>\n".to_owned();
    if model.erases == Erases::Yes {
        let _ = writeln!(text, "<!-- {} -->", crate::ERASES_MARK);
    }
    let _ = writeln!(text, "<profile xmlns=\"{NAMESPACE}\" xmlns:config=\"{CONFIG_NAMESPACE}\">");
    text
}

/// The text with or without the remark that erasing is meant.
fn marked(document: &Document, erases: Erases) -> String {
    let text = document.text();
    let is_marked = text.contains(crate::ERASES_MARK);
    match (is_marked, erases) {
        (true, Erases::No) => text.replace(crate::ERASES_MARK, ""),
        (false, Erases::Yes) => {
            let at = document.root().span.start;
            let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
            format!("{}<!-- {} -->{line_end}{}", &text[..at], crate::ERASES_MARK, &text[at..])
        }
        _ => text.to_owned(),
    }
}

fn is_true(text: &str) -> bool {
    text.eq_ignore_ascii_case("true")
}

/// A partition's size in MiB; none for what is left and what the installer finds out.
fn mib_of(text: &str) -> Option<u64> {
    neat_content::parse_size(text).ok().map(|bytes| bytes >> 20)
}

fn unsaid(model: &Model) -> Vec<Finding> {
    let mut findings = Vec::new();
    shell::unsaid(model, Dialect::Autoyast, &STAGES, &mut findings);
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Autoyast, why, hint));
    };
    let layouts: Vec<String> = model.language.keyboards.iter().filter_map(|own| tables::xkb(own)).collect();
    if let Some(first) = layouts.first().filter(|own| keymaps::of(own).is_none()) {
        add(
            "language.keyboards",
            &format!("it has no word for the layout {first}"),
            "choose another, or set it by a command",
        );
    }
    if layouts.len() > 1 {
        add(
            "language.keyboards",
            "there is one keyboard",
            "say the one for the console first, and set others by a command",
        );
    }
    if matches!(model.system.edition, Some(EditionChoice::Number(_))) {
        add("system.edition", "products have names", "give the name of the product, such as Leap");
    }
    if model.network.wireless.as_ref().is_some_and(|own| own.hidden) {
        add("network.wireless.hidden", "it does not ask for that", "leave it out");
    }
    if model.script.iter().any(|own| own.carried == crate::model::Carried::Media) {
        add("script", "the media has no known place while it installs", "carry the script inside");
    }
    if model.command.iter().any(|own| own.run.trim_start().starts_with('#') || own.run.trim().is_empty()) {
        add("command", "a line that begins with # is a remark", "write the command");
    }
    let reserved = |own: &crate::model::Script| own.name.starts_with("neatstack-");
    if model.script.iter().any(reserved) {
        add("script", "names that begin with neatstack- are ours", "give the script another name");
    }
    if model.machine.name.is_empty() && !model.machine.domain.is_empty() {
        add("machine.domain", "a domain belongs to a name", "give the machine a name");
    }
    if model.account.iter().any(|own| own.groups.iter().any(|own| own == "administrators")) {
        findings.push(Finding::told(
            Topic::ByHand,
            "account.groups",
            "who is in wheel administers the machine when sudo is set up so; there it asks for root's password as it comes",
        ));
    }
    findings
}

/// What is erased without a question.
fn erases(root: &Element) -> Erasure {
    let mut erasure = Erasure::default();
    // Until that is switched off, a person sees what will be done, and says yes.
    let is_silent =
        root.text_at(&["general", "mode", "confirm"]).is_some_and(|own| own.eq_ignore_ascii_case("false"));
    if is_silent {
        let drives = root.find(&["partitioning"]).map(|own| own.children.as_slice()).unwrap_or_default();
        if drives.is_empty() {
            erasure.add("what its own proposal takes".into());
        }
        for drive in drives {
            let text = |name: &str| drive.text_at(&[name]).unwrap_or_default();
            let name = match text("device") {
                "" => "the first disk",
                own => own.trim_start_matches("/dev/"),
            };
            match text("use") {
                "free" if !is_true(text("initialize")) => {}
                "linux" if !is_true(text("initialize")) => {
                    erasure.add(format!("the Linux partitions of {name}"));
                }
                _ => erasure.add(format!("everything on {name}")),
            }
        }
    }
    for list in SCRIPTS {
        let scripts =
            root.find(&["scripts", list.list]).map(|own| own.children.as_slice()).unwrap_or_default();
        for line in scripts.iter().filter_map(|own| own.child("source")).flat_map(|own| own.text.lines()) {
            erasure.add_command(line);
        }
    }
    erasure
}
