//! The lists of a file: commands, disks, drivers.

use super::Check;
use crate::{
    Finding, Topic,
    check::MediaFacts,
    model::Architecture,
    unattend::{edit::items, lists::List, spots::is_true},
};

/// Longest command of a list, in characters, by the schema.
const MAX_PATH: usize = 259;
const MAX_COMMAND_LINE: usize = 1024;
/// Most commands of a list, by the schema.
const MAX_COMMANDS: usize = 500;

impl Check<'_> {
    pub(super) fn commands(&mut self, architecture: Architecture) {
        let root = self.document.root();
        for list in List::all().into_iter().filter(|list| list.is_numbered()) {
            let Some(place) = list.place() else { continue };
            let field = format!("{}: {}", place.pass, place.path.join("/"));
            let mut seen: Vec<(u64, usize)> = Vec::new();
            let all = items(root, list, architecture);
            if let Some(element) = all.get(MAX_COMMANDS) {
                let message = format!("there are {} commands, and {MAX_COMMANDS} are the most", all.len());
                let hint = "put them into a script, and a script onto the media: carried = \"media\"";
                self.problem(Topic::Command, element, &field, message, hint);
            }
            for element in all {
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

    pub(super) fn disks(&mut self, architecture: Architecture) {
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

    pub(super) fn drivers(&mut self, architecture: Architecture, media: Option<&MediaFacts>) {
        let Some(media) = media else { return };
        for list in [List::SetupDrivers, List::Drivers] {
            for element in items(self.document.root(), list, architecture) {
                let path = element.text_at(&["Path"]).unwrap_or_default().to_owned();
                if let Some(fault) = media.folder_fault(&path, "inf") {
                    self.problem(
                        Topic::NotOnMedia,
                        element,
                        "software.drivers",
                        format!("drivers are taken from {path}: that is {fault}"),
                        "put it there with [[place]], or correct the path",
                    );
                }
            }
        }
        for list in List::all().into_iter().filter(|list| list.is_numbered()) {
            for element in items(self.document.root(), list, architecture) {
                let run = element.text_at(&[list.line_name()]).unwrap_or_default().to_owned();
                for path in media.faults_in_command(&run) {
                    let message = format!("a command runs {path}");
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
}

/// Whether a command stops only where a script host failed.
fn takes_silence_for_success(run: &str) -> bool {
    let lower = run.to_ascii_lowercase();
    let host = ["cscript", "wscript"].iter().filter_map(|own| lower.find(own)).min();
    host.is_some_and(|at| lower[at..].contains("||"))
}
