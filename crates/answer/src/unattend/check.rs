//! What is wrong with a file by the rules of the schema, and for a media.

use super::{
    NAMESPACE, all_components,
    edit::{PASSES, architecture_name, architecture_of, components, items},
    known,
    lists::List,
    spots::is_true,
};
use crate::{
    Finding, Topic,
    check::{MediaFacts, neutral_findings as neutral},
    face::Reading,
    model::{Architecture, SecretValue},
    xml::{Document, Element},
};
use neat_content::nearest;

/// Longest command of a list, in characters, by the schema.
const MAX_PATH: usize = 259;
const MAX_COMMAND_LINE: usize = 1024;

pub(super) fn check(document: &Document, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut check = Check { document, findings: Vec::new() };
    check.frame();
    check.components(media);
    for architecture in &reading.model.architectures {
        check.commands(*architecture);
        check.disks(*architecture);
        check.drivers(*architecture, media);
        // The neutral form has what the first architecture says; the others are looked at here.
        check
            .findings
            .extend(neutral(&super::only(document, *architecture), Some(&super::about::ABOUT.rules)));
    }
    check.passwords(document.root());
    check.key(reading);
    check.edition(reading, media);
    check.time_zone();
    let mut findings = check.findings;
    findings.dedup();
    findings
}

struct Check<'a> {
    document: &'a Document,
    findings: Vec<Finding>,
}

impl Check<'_> {
    fn line(&self, element: &Element) -> usize {
        self.document.line(element.span.start)
    }

    fn problem(
        &mut self,
        topic: Topic,
        element: &Element,
        field: &str,
        message: String,
        hint: impl Into<String>,
    ) {
        let line = self.line(element);
        self.findings.push(Finding::new(topic, field, message, hint).at(line));
    }

    /// The outermost elements.
    fn frame(&mut self) {
        let root = self.document.root();
        if root.name != "unattend" {
            self.problem(
                Topic::Dialect,
                root,
                "xml",
                format!("the outermost element is <{}>, not <unattend>", root.name),
                "",
            );
        }
        match root.attribute("xmlns") {
            Some(NAMESPACE) => {}
            other => {
                let found = other.map_or("no namespace".to_owned(), |other| format!("the namespace {other}"));
                self.problem(
                    Topic::Dialect,
                    root,
                    "xml",
                    format!("{found} on <unattend>: setup ignores the file"),
                    format!("write xmlns=\"{NAMESPACE}\""),
                );
            }
        }
        let mut seen: Vec<&str> = Vec::new();
        for child in &root.children {
            match child.name.as_str() {
                "settings" => {
                    let pass = child.attribute("pass").unwrap_or_default();
                    if !PASSES.contains(&pass) {
                        let hint = nearest(pass, PASSES).map_or_else(
                            || format!("the passes are {}", PASSES.join(", ")),
                            |near| format!("did you mean {near}?"),
                        );
                        self.problem(
                            Topic::Dialect,
                            child,
                            "pass",
                            format!("there is no pass {pass:?}"),
                            hint,
                        );
                    } else if seen.contains(&pass) {
                        self.problem(
                            Topic::Dialect,
                            child,
                            "pass",
                            format!("the pass {pass} is there twice"),
                            "put both into one <settings>",
                        );
                    }
                    seen.push(pass);
                }
                "servicing" | "offlineImage" | "cpi:offlineImage" => {}
                other => self.problem(
                    Topic::Dialect,
                    child,
                    "xml",
                    format!("<{other}> does not belong below <unattend>"),
                    "take it out",
                ),
            }
        }
    }

    fn components(&mut self, media: Option<&MediaFacts>) {
        let root = self.document.root();
        for (pass, component) in all_components(root) {
            let name = component.attribute("name").unwrap_or_default();
            let field = format!("{pass}: {name}");
            let arch = component.attribute("processorArchitecture").unwrap_or_default();
            match architecture_of(arch) {
                None => {
                    let hint = match arch {
                        "x64" | "x86_64" | "AMD64" => "write amd64",
                        _ => "write amd64, x86 or arm64",
                    };
                    self.problem(
                        Topic::Dialect,
                        component,
                        &field,
                        format!("there is no architecture {arch:?}: setup ignores this part"),
                        hint,
                    );
                }
                Some(own) => {
                    let others = media.map(|media| media.architectures.as_slice()).unwrap_or_default();
                    if !others.is_empty() && !others.contains(&own) {
                        let names: Vec<&str> = others.iter().map(|own| own.name()).collect();
                        // A file may serve several: it is a fault only when nothing serves this media.
                        let serves = components(root, pass).any(|other| {
                            other.attribute("name") == Some(name)
                                && other
                                    .attribute("processorArchitecture")
                                    .and_then(architecture_of)
                                    .is_some_and(|other| others.contains(&other))
                        });
                        if serves {
                            continue;
                        }
                        self.problem(
                            Topic::Architecture,
                            component,
                            &field,
                            format!(
                                "it is for {}, and the media is for {}: setup ignores it",
                                own.name(),
                                names.join(", ")
                            ),
                            format!(
                                "write processorArchitecture=\"{}\", or add a part for it",
                                others.first().map_or("", |own| architecture_name(*own))
                            ),
                        );
                    }
                }
            }
            let same = |other: &&Element| {
                other.attribute("name") == Some(name)
                    && other.attribute("processorArchitecture") == Some(arch)
                    && other.span.start < component.span.start
            };
            if components(root, pass).any(|other| same(&other)) {
                self.problem(
                    Topic::Dialect,
                    component,
                    &field,
                    "the component is there twice for one architecture".into(),
                    "put both into one",
                );
            }
            if let Some(known) = known::find(name) {
                let passes = known.passes();
                if !passes.contains(&pass) {
                    self.problem(
                        Topic::Dialect,
                        component,
                        &field,
                        format!("{name} has no settings in the pass {pass}: setup ignores them or stops"),
                        format!("it belongs to {}", passes.join(", ")),
                    );
                }
                for child in &component.children {
                    self.settings(known, &field, child);
                }
            } else {
                let names = known::all().iter().map(|known| known.name);
                if let Some(near) = nearest(name, names).filter(|near| similar(near, name)) {
                    self.problem(
                        Topic::Dialect,
                        component,
                        &field,
                        format!("there is no component {name:?}"),
                        format!("did you mean {near}?"),
                    );
                } else {
                    let line = self.line(component);
                    let note = Finding::told(
                        Topic::Unchecked,
                        field,
                        format!("the component {name:?} is not in the table here, and is not checked"),
                    );
                    self.findings.push(note.at(line));
                }
            }
        }
    }

    fn settings(&mut self, known: &known::Known, field: &str, element: &Element) {
        if !known.settings.contains(&element.name.as_str()) {
            if let Some(near) = nearest(&element.name, known.settings.iter().copied())
                .filter(|near| similar(near, &element.name))
            {
                self.problem(
                    Topic::Dialect,
                    element,
                    field,
                    format!("there is no setting <{}>", element.name),
                    format!("did you mean <{near}>?"),
                );
            } else {
                let line = self.line(element);
                let note = Finding::told(
                    Topic::Unchecked,
                    field,
                    format!("<{}> is not in the table here, and is not checked", element.name),
                );
                self.findings.push(note.at(line));
            }
            return;
        }
        let is_boolean = matches!(
            element.name.as_str(),
            "WillWipeDisk"
                | "Extend"
                | "Active"
                | "AcceptEula"
                | "PlainText"
                | "HideEULAPage"
                | "HideOnlineAccountScreens"
                | "HideLocalAccountScreen"
                | "HideOEMRegistrationScreen"
                | "HideWirelessSetupInOOBE"
                | "CopyProfile"
                | "InstallToAvailablePartition"
                | "UseConfigurationSet"
                | "fDenyTSConnections"
                | "DhcpEnabled"
        );
        let text = element.text.trim();
        if is_boolean && !is_true(text) && !text.eq_ignore_ascii_case("false") && text != "0" {
            let message = format!("<{}> is {text:?}, and must be true or false", element.name);
            self.problem(Topic::Dialect, element, field, message, "write true or false");
        }
        for child in &element.children {
            self.settings(known, field, child);
        }
    }

    fn commands(&mut self, architecture: Architecture) {
        let root = self.document.root();
        for list in List::all().into_iter().filter(|list| list.is_numbered()) {
            let Some(place) = list.place() else { continue };
            let field = format!("{}: {}", place.pass, place.path.join("/"));
            let mut seen: Vec<(u64, usize)> = Vec::new();
            for element in items(root, list, architecture) {
                let order = element.text_at(&["Order"]);
                let line = self.line(element);
                match order.map(str::parse::<u64>) {
                    None => self.problem(
                        Topic::Command,
                        element,
                        &field,
                        "a command has no number in <Order>: setup stops".into(),
                        "number it, or have it inserted with the next free number",
                    ),
                    Some(Err(_) | Ok(0)) => self.problem(
                        Topic::Command,
                        element,
                        &field,
                        format!("the number of a command is {:?}", order.unwrap_or_default()),
                        "numbers start with 1",
                    ),
                    Some(Ok(number)) => match seen.iter().find(|(own, _)| *own == number) {
                        Some((_, other)) => {
                            let message = format!(
                                "two commands have the number {number} (lines {other} and {line}): setup stops, or runs one of them"
                            );
                            self.problem(
                                Topic::Command,
                                element,
                                &field,
                                message,
                                "give each its own; moving one numbers them all anew",
                            );
                        }
                        None => seen.push((number, line)),
                    },
                }
                let limit = if list.line_name() == "Path" { MAX_PATH } else { MAX_COMMAND_LINE };
                match element.text_at(&[list.line_name()]) {
                    None | Some("") => self.problem(Topic::Command, element,
                        &field,
                        format!("a command has no <{}>", list.line_name()),
                        "say what it runs",
                    ),
                    Some(run) if run.chars().count() > limit => {
                        let message = format!(
                            "a command has {} characters, and {limit} is the most",
                            run.chars().count()
                        );
                        self.problem(Topic::Command, element, &field, message, "put it into a script and run that");
                    }
                    Some(run) if takes_silence_for_success(run) => self.problem(Topic::Command, element,
                        &field,
                        "a script host is asked and its exit code taken for success: it ends with 0 too when it cannot \
                         ask the system"
                            .into(),
                        "let the script end with a number of its own, and go on after that one alone",
                    ),
                    Some(_) => {}
                }
            }
            seen.sort_unstable();
            if let Some((number, line)) = seen
                .iter()
                .enumerate()
                .find(|(index, (number, _))| *number != *index as u64 + 1)
                .map(|(_, own)| own)
            {
                let all_differ = seen.windows(2).all(|pair| pair[0].0 != pair[1].0);
                if all_differ {
                    let message = format!(
                        "the numbers of commands have a gap before {number}; they run in order all the same"
                    );
                    self.findings.push(Finding::told(Topic::Unusual, field, message).at(*line));
                }
            }
        }
    }

    fn disks(&mut self, architecture: Architecture) {
        let root = self.document.root();
        let field = "windowsPE: DiskConfiguration";
        let mut seen: Vec<String> = Vec::new();
        for disk in items(root, List::Disks, architecture) {
            let number = disk.text_at(&["DiskID"]).unwrap_or_default().to_owned();
            if number.parse::<u32>().is_err() {
                self.problem(
                    Topic::Disk,
                    disk,
                    field,
                    format!("the disk's number is {number:?}"),
                    "write <DiskID>0</DiskID>",
                );
            }
            if seen.contains(&number) {
                self.problem(
                    Topic::Disk,
                    disk,
                    field,
                    format!("disk {number} is there twice"),
                    "put both into one <Disk>",
                );
            }
            seen.push(number);
            let created =
                disk.child("CreatePartitions").map(|list| list.children.as_slice()).unwrap_or_default();
            let mut orders: Vec<u64> = Vec::new();
            for (index, partition) in created.iter().enumerate() {
                match partition.text_at(&["Order"]).and_then(|text| text.parse::<u64>().ok()) {
                    Some(order) if orders.contains(&order) => {
                        self.problem(
                            Topic::Disk,
                            partition,
                            field,
                            format!("two partitions have the number {order}: one would lie over the other"),
                            "number them 1, 2, 3 …",
                        );
                    }
                    Some(order) => orders.push(order),
                    None => self.problem(
                        Topic::Disk,
                        partition,
                        field,
                        "a partition has no number in <Order>".into(),
                        "number them 1, 2, 3 …",
                    ),
                }
                let extends = partition.text_at(&["Extend"]).is_some_and(is_true);
                let size = partition.text_at(&["Size"]);
                match (size, extends) {
                    (Some(_), true) => self.problem(
                        Topic::Disk,
                        partition,
                        field,
                        "a partition has a <Size> and takes the rest as well".into(),
                        "keep one of <Size> and <Extend>",
                    ),
                    (None, false) => self.problem(
                        Topic::Disk,
                        partition,
                        field,
                        "a partition has neither <Size> nor <Extend>".into(),
                        "say how large it is, in MiB",
                    ),
                    _ => {}
                }
                if extends && index + 1 < created.len() {
                    self.problem(
                        Topic::Disk,
                        partition,
                        field,
                        "a partition takes the rest of the disk and leaves nothing for those after it".into(),
                        "put it last",
                    );
                }
            }
            let modified =
                disk.child("ModifyPartitions").map(|list| list.children.as_slice()).unwrap_or_default();
            let wipes = disk.text_at(&["WillWipeDisk"]).is_some_and(is_true);
            for partition in modified {
                let id = partition.text_at(&["PartitionID"]).unwrap_or_default();
                let number: usize = id.parse().unwrap_or(0);
                if wipes && (number == 0 || number > created.len()) {
                    self.problem(
                        Topic::Disk,
                        partition,
                        field,
                        format!("partition {id:?} is formatted and is not made"),
                        "give the number of one that is",
                    );
                }
            }
            let mut letters: Vec<String> = Vec::new();
            for partition in modified {
                let letter = partition.text_at(&["Letter"]).unwrap_or_default().to_ascii_uppercase();
                if !letter.is_empty() && letters.contains(&letter) {
                    self.problem(
                        Topic::Disk,
                        partition,
                        field,
                        format!("two partitions have the letter {letter}"),
                        "give each its own",
                    );
                }
                letters.push(letter);
            }
            let target = items(root, List::InstallTo, architecture).into_iter().next();
            let own_target = target.filter(|to| to.text_at(&["DiskID"]) == disk.text_at(&["DiskID"]));
            if let Some(to) = own_target {
                let id = to.text_at(&["PartitionID"]).unwrap_or_default();
                let number: usize = id.parse().unwrap_or(0);
                if wipes && (number == 0 || number > created.len()) {
                    self.problem(
                        Topic::Disk,
                        to,
                        "windowsPE: InstallTo",
                        format!("the system goes to partition {id:?}, which is not made"),
                        "give the number of one that is",
                    );
                } else if let Some(kind) =
                    created.get(number.wrapping_sub(1)).and_then(|own| own.text_at(&["Type"]))
                    && wipes
                    && !kind.eq_ignore_ascii_case("primary")
                {
                    self.problem(
                        Topic::Disk,
                        to,
                        "windowsPE: InstallTo",
                        format!("the system goes to partition {id}, which is of type {kind}"),
                        "give the number of a primary one",
                    );
                }
            }
        }
    }

    fn drivers(&mut self, architecture: Architecture, media: Option<&MediaFacts>) {
        let Some(media) = media else { return };
        for list in [List::SetupDrivers, List::Drivers] {
            for element in items(self.document.root(), list, architecture) {
                let path = element.text_at(&["Path"]).unwrap_or_default().to_owned();
                if let Some(missing) = media.missing(&path) {
                    self.problem(
                        Topic::NotOnMedia,
                        element,
                        "software.drivers",
                        format!("the folder {path} is not on the media (looked for {missing})"),
                        "put it there with [[place]], or correct the path",
                    );
                }
            }
        }
        for list in List::all().into_iter().filter(|list| list.is_numbered()) {
            for element in items(self.document.root(), list, architecture) {
                let run = element.text_at(&[list.line_name()]).unwrap_or_default().to_owned();
                for path in media.missing_in_command(&run) {
                    let message = format!("a command runs {path}, which is not on the media");
                    self.problem(
                        Topic::NotOnMedia,
                        element,
                        "command",
                        message,
                        "put it there with [[place]], or correct the path",
                    );
                }
            }
        }
    }

    fn passwords(&mut self, element: &Element) {
        for child in &element.children {
            if matches!(child.name.as_str(), "Password" | "AdministratorPassword")
                && child.child("Value").is_some()
            {
                let is_plain = child.text_at(&["PlainText"]).is_none_or(is_true);
                let is_empty = child.child("Value").is_some_and(|value| value.text.is_empty());
                if is_plain && !is_empty {
                    self.problem(Topic::PlainPassword, child,
                        "password",
                        "a password stands in plain text: whoever has the media can read it".into(),
                        "write it from a model that names a file for it, and change it after the first sign-in",
                    );
                }
            } else if child.name == "Password" && child.children.is_empty() && !child.text.trim().is_empty() {
                self.problem(
                    Topic::PlainPassword,
                    child,
                    "password",
                    "a password stands in plain text: whoever has the media can read it".into(),
                    "use an account that may do little",
                );
            } else {
                self.passwords(child);
            }
        }
    }

    fn key(&mut self, reading: &Reading) {
        let Some(key) = reading.vault.get("system.key").and_then(SecretValue::plain) else { return };
        if !is_key(key) {
            let element = super::SINGLES
                .iter()
                .filter(|single| single.field == "system.key")
                .flat_map(|single| single.spots)
                .find_map(|spot| {
                    components(self.document.root(), spot.pass).find_map(|own| own.find(spot.path))
                });
            let line = element.map(|element| self.line(element));
            let finding = Finding::new(
                Topic::ProductKey,
                "system.key",
                "the product key is not five groups of five letters and digits",
                "correct it, for example in the file that it comes from",
            );
            self.findings.push(Finding { line, ..finding });
        }
    }

    fn edition(&mut self, reading: &Reading, media: Option<&MediaFacts>) {
        let (Some(choice), Some(media)) = (&reading.model.system.edition, media) else { return };
        let line = components(self.document.root(), "windowsPE")
            .find_map(|own| own.find(&["ImageInstall", "OSImage", "InstallFrom", "MetaData", "Value"]))
            .map(|element| self.line(element));
        let finding = media.edition_finding(choice);
        self.findings.extend(finding.map(|finding| Finding { line, ..finding }));
    }

    fn time_zone(&mut self) {
        for (pass, component) in all_components(self.document.root()) {
            let Some(zone) = component.child("TimeZone") else { continue };
            let name = zone.text.trim();
            // A zone may be without summer time, by a word at its end.
            let base = name.trim_end_matches("_dstoff");
            if crate::tables::zone_of_name(base).is_none() {
                let hint = crate::tables::zone_name(base)
                    .or_else(|| nearest(base, crate::tables::zone_names()))
                    .map_or_else(
                        || "see the names of time zones that the system has".to_owned(),
                        |near| format!("did you mean {near}?"),
                    );
                self.problem(
                    Topic::Language,
                    zone,
                    &format!("{pass}: TimeZone"),
                    format!("there is no time zone {name:?}"),
                    hint,
                );
            }
        }
    }
}

/// Whether two names differ so little that one was meant for the other.
/// Whether a command stops only where a script host failed.
fn takes_silence_for_success(run: &str) -> bool {
    let lower = run.to_ascii_lowercase();
    let host = ["cscript", "wscript"].iter().filter_map(|own| lower.find(own)).min();
    host.is_some_and(|at| lower[at..].contains("||"))
}

fn similar(a: &str, b: &str) -> bool {
    strsim::damerau_levenshtein(&a.to_lowercase(), &b.to_lowercase()) <= 3
}

/// Whether a product key has the form of one.
pub(crate) fn is_key(key: &str) -> bool {
    let groups: Vec<&str> = key.split('-').collect();
    groups.len() == 5
        && groups
            .iter()
            .all(|group| group.len() == 5 && group.bytes().all(|byte| byte.is_ascii_alphanumeric()))
}
