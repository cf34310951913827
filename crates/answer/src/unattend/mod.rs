//! The documented XML answer file of install images: passes, components, settings.

mod about;
mod check;
mod edit;
mod known;
mod lists;
mod node;
pub mod servicing;
mod spots;
pub(crate) mod tasks;

use crate::{
    Change, Dialect, Erasure, Finding, Topic,
    check::MediaFacts,
    face::{About, Face, Reading, Saying, SideFile, Written},
    model::{
        Account, Architecture, Carried, Disk, FileSystem, KeyChoice, Model, PartitionKind, Scheme, Secret,
        SecretValue, Stage, Vault, WhenDone,
    },
    tables,
    xml::{Document, Element},
};
use edit::{ACTIONS, Editor, PASSES, architecture_of, component, component_node, components};
use lists::{List, Meaning, Password};
use neat_content::{Advice, Error, Hint, Result};
use node::Node;
use spots::{SINGLES, Said};
use tasks::Task;

pub(crate) use check::is_key;

pub(crate) const NAMESPACE: &str = "urn:schemas-microsoft-com:unattend";

/// The dialect.
pub(crate) struct Unattend;

impl Face for Unattend {
    fn about(&self) -> &'static About {
        &about::ABOUT
    }

    fn read(&self, text: &str) -> Result<Reading> {
        let document = Document::parse(text.to_owned())?;
        Ok(read(&document))
    }

    fn write(&self, saying: &Saying<'_>) -> Result<Written> {
        write(saying)
    }

    fn change_commands(&self, text: &str, stage: Stage, change: &Change) -> Option<Result<(String, usize)>> {
        Some(change_commands(text, stage, change))
    }

    fn erases(&self, text: &str, reading: &Reading) -> Erasure {
        Document::parse(text.to_owned()).map(|document| erases(&document, reading)).unwrap_or_default()
    }

    fn check(&self, text: &str, reading: &Reading, media: Option<&MediaFacts>) -> Vec<Finding> {
        match Document::parse(text.to_owned()) {
            Ok(document) => check::check(&document, reading, media),
            Err(error) => vec![Finding::new(Topic::Dialect, "xml", error.to_string(), error.hint())],
        }
    }
}

fn all_components(root: &Element) -> impl Iterator<Item = (&'static str, &Element)> {
    PASSES.iter().flat_map(move |pass| components(root, pass).map(move |component| (*pass, component)))
}

fn architectures(root: &Element) -> Vec<Architecture> {
    let mut all: Vec<Architecture> = all_components(root)
        .filter_map(|(_, component)| component.attribute("processorArchitecture").and_then(architecture_of))
        .collect();
    all.sort_unstable();
    all.dedup();
    all
}

fn read(document: &Document) -> Reading {
    let root = document.root();
    let mut model = Model { architectures: architectures(root), ..Model::default() };
    let mut vault = Vault::new();
    let mut findings = Vec::new();
    if document.text().contains(crate::ERASES_MARK) {
        model.erases = crate::model::Erases::Yes;
    }
    let mut understood: Vec<usize> = Vec::new();
    for architecture in model.architectures.clone() {
        // Every architecture says the same in a file for several; where one says more, its own say is taken up.
        let mut own = Model::default();
        read_architecture(root, architecture, &mut own, &mut vault, &mut findings, &mut understood);
        if model.architectures.first() == Some(&architecture) {
            own.architectures.clone_from(&model.architectures);
            own.erases = model.erases;
            model = own;
        } else {
            own.architectures.clone_from(&model.architectures);
            own.erases = model.erases;
            if own != model {
                findings.push(Finding::told(Topic::Kept,
                    "architectures",
                    format!(
                        "what is said for {} differs from what is said for {}; the neutral form has the latter",
                        architecture.name(),
                        model.architectures.first().map_or("", |first| first.name())
                    ),
                ));
            }
        }
    }
    findings.dedup();
    for (pass, component) in all_components(root) {
        unread(document, pass, component, &understood, &mut findings);
    }
    if root.child("servicing").is_some() {
        findings.push(Finding::told(
            Topic::Kept,
            "servicing",
            "packages that setup installs are kept as they are",
        ));
    }
    Reading { model, vault, findings }
}

/// What is said for one architecture alone.
fn only(document: &Document, architecture: Architecture) -> Model {
    let mut model = Model::default();
    let (mut vault, mut findings, mut understood) = (Vault::new(), Vec::new(), Vec::new());
    read_architecture(document.root(), architecture, &mut model, &mut vault, &mut findings, &mut understood);
    model
}

fn read_architecture(
    root: &Element,
    architecture: Architecture,
    model: &mut Model,
    vault: &mut Vault,
    findings: &mut Vec<Finding>,
    understood: &mut Vec<usize>,
) {
    for single in SINGLES {
        let found = single.spots.iter().find_map(|spot| {
            let element = component(root, spot.pass, spot.component, architecture)?.find(spot.path)?;
            Some((spot, element))
        });
        let Some((_, element)) = found else { continue };
        let value = element.text.trim();
        if (single.take)(model, value) {
            understood.push(element.span.start);
            if single.field == "system.key" && model.system.key == Some(KeyChoice::Origin(true)) {
                vault.entry("system.key".into()).or_insert_with(|| SecretValue::Plain(value.to_owned()));
            }
        }
    }
    let language = &mut model.language;
    if language.interface == language.setup {
        language.interface.clear();
    }
    let mut lists: Vec<(List, Vec<Meaning>)> = Vec::new();
    for list in List::all() {
        let mut meanings = Vec::new();
        for element in edit::items(root, list, architecture) {
            if let Some(meaning) = list.understand(element) {
                understood.push(element.span.start);
                meanings.push(meaning);
            }
        }
        lists.push((list, meanings));
    }
    for (list, meanings) in lists {
        into_model(list, meanings, model, vault, findings);
    }
}

fn into_model(
    list: List,
    meanings: Vec<Meaning>,
    model: &mut Model,
    vault: &mut Vault,
    findings: &mut Vec<Finding>,
) {
    let mut secret = |field: String, password: &Password| {
        vault.insert(field, password.value());
        Some(Secret::Origin(true))
    };
    if let List::Commands(stage, _) = list {
        let mut tasks: Vec<Task> = meanings
            .into_iter()
            .filter_map(|meaning| match meaning {
                Meaning::Task(task) => Some(task),
                _ => None,
            })
            .collect();
        tasks::number_parts(&mut tasks);
        return tasks::into_model(&tasks, stage, model, findings);
    }
    for meaning in meanings {
        match meaning {
            Meaning::Disk(disk) => model.disk.push(disk),
            Meaning::InstallTo { disk, partition } => {
                let own = model.disk.iter_mut().find(|own| own.number == Some(disk));
                let partition =
                    own.and_then(|own| own.partition.get_mut((partition as usize).checked_sub(1)?));
                if let Some(partition) = partition {
                    partition.kind = PartitionKind::System;
                }
            }
            Meaning::Folder(path) => {
                if !model.software.drivers.contains(&path) {
                    model.software.drivers.push(path);
                }
            }
            Meaning::Account { mut account, password } => {
                let field = account.password_field();
                account.password = password.and_then(|password| secret(field, &password));
                model.account.push(account);
            }
            Meaning::SignIn { name, count, .. } => {
                if let Some(account) = model.account.iter_mut().find(|account| account.name == name) {
                    account.automatic_sign_ins = count;
                } else {
                    findings.push(Finding::told(
                        Topic::Unusual,
                        "account",
                        format!(
                            "{name} is signed in automatically and is not an account that this file makes"
                        ),
                    ));
                }
            }
            Meaning::Administrator(password) => {
                model.administrator.password = secret(crate::model::ADMINISTRATOR_PASSWORD.into(), &password);
            }
            Meaning::Address { interface, address, gateway } => {
                let servers = model.network.fixed.take().map(|fixed| fixed.name_servers).unwrap_or_default();
                model.network.fixed =
                    Some(crate::model::StaticAddress { interface, address, gateway, name_servers: servers });
            }
            Meaning::NameServers { interface, servers } => {
                if let Some(fixed) = model.network.fixed.as_mut().filter(|fixed| fixed.interface == interface)
                {
                    fixed.name_servers = servers;
                }
            }
            Meaning::Firewall | Meaning::Task(_) => {}
        }
    }
}

/// Names each element that the neutral form does not have, the outermost of what is all unknown.
fn unread(
    document: &Document,
    pass: &str,
    component: &Element,
    understood: &[usize],
    findings: &mut Vec<Finding>,
) {
    fn holds(element: &Element, understood: &[usize]) -> bool {
        understood.contains(&element.span.start)
            || element.children.iter().any(|child| holds(child, understood))
    }
    fn walk(
        document: &Document,
        path: &str,
        element: &Element,
        understood: &[usize],
        findings: &mut Vec<Finding>,
    ) {
        if understood.contains(&element.span.start) {
            return;
        }
        if !holds(element, understood) {
            // What goes with something that was understood, and says nothing by itself.
            if !matches!(element.name.as_str(), "WillShowUI" | "PlainText" | "Enabled") {
                let finding =
                    Finding::told(Topic::Kept, path, "is not in the neutral form, and is kept as it is");
                findings.push(finding.at(document.line(element.span.start)));
            }
            return;
        }
        for child in &element.children {
            walk(document, &format!("{path}/{}", child.name), child, understood, findings);
        }
    }
    let name = component.attribute("name").unwrap_or("a component without a name");
    walk(document, &format!("{pass}: {name}"), component, understood, findings);
}

/// What a disk says here: the partition table's kind follows from the partitions and the firmware.
fn spoken_disk(disk: &Disk) -> Disk {
    let mut own = Disk {
        number: Some(disk.number.unwrap_or(0)),
        device: String::new(),
        wipe: disk.wipe,
        scheme: None,
        only_disk: false,
        at_least: None,
        at_most: None,
        partition: disk.partition.clone(),
    };
    for partition in &mut own.partition {
        let usual = if partition.kind == PartitionKind::Efi { FileSystem::Fat32 } else { FileSystem::Ntfs };
        partition.file_system =
            partition.file_system.filter(|own| *own == FileSystem::Fat32 && *own != usual);
        partition.mount.clear();
        if matches!(partition.kind, PartitionKind::System | PartitionKind::Swap) {
            partition.kind = PartitionKind::Data;
        }
        if partition.kind == PartitionKind::Reserved {
            partition.label.clear();
            partition.letter = None;
            partition.file_system = None;
        }
    }
    let has = |kind| own.partition.iter().any(|partition| partition.kind == kind);
    own.scheme = if has(PartitionKind::Efi) || has(PartitionKind::Reserved) {
        Some(Scheme::Gpt)
    } else if has(PartitionKind::Recovery) {
        Some(disk.scheme.unwrap_or(Scheme::Gpt))
    } else {
        has(PartitionKind::Boot).then_some(Scheme::Mbr)
    };
    own
}

/// What the model says in each list.
fn meanings(list: List, model: &Model, secrets: &Vault) -> Vec<Meaning> {
    let password =
        |field: &str| secrets.get(field).and_then(SecretValue::plain).map(|text| Password(text.to_owned()));
    match list {
        List::Disks => model.disk.iter().map(spoken_disk).map(Meaning::Disk).collect(),
        List::InstallTo => {
            let target = |disk: &Disk| {
                let at = disk.partition.iter().position(|own| own.kind == PartitionKind::System)?;
                Some(Meaning::InstallTo { disk: disk.number.unwrap_or(0), partition: at as u32 + 1 })
            };
            model.disk.iter().find_map(target).into_iter().collect()
        }
        List::SetupDrivers | List::Drivers => {
            model.software.drivers.iter().cloned().map(Meaning::Folder).collect()
        }
        List::Accounts => {
            let own = |account: &Account| Meaning::Account {
                account: Account {
                    password: None,
                    password_never_expires: false,
                    automatic_sign_ins: 0,
                    ..account.clone()
                },
                password: account.password.as_ref().and_then(|_| password(&account.password_field())),
            };
            model.account.iter().map(own).collect()
        }
        List::SignIn => {
            let own = model.account.iter().find(|account| account.automatic_sign_ins > 0);
            own.map(|account| Meaning::SignIn {
                name: account.name.clone(),
                count: account.automatic_sign_ins,
                password: account.password.as_ref().and_then(|_| password(&account.password_field())),
            })
            .into_iter()
            .collect()
        }
        List::Administrator => {
            password(crate::model::ADMINISTRATOR_PASSWORD).map(Meaning::Administrator).into_iter().collect()
        }
        List::Addresses => {
            let own = |fixed: &crate::model::StaticAddress| Meaning::Address {
                interface: fixed.interface.clone(),
                address: fixed.address.clone(),
                gateway: fixed.gateway.clone(),
            };
            model.network.fixed.as_ref().map(own).into_iter().collect()
        }
        List::NameServers => {
            let fixed = model.network.fixed.as_ref().filter(|fixed| !fixed.name_servers.is_empty());
            let own = |fixed: &crate::model::StaticAddress| Meaning::NameServers {
                interface: fixed.interface.clone(),
                servers: fixed.name_servers.clone(),
            };
            fixed.map(own).into_iter().collect()
        }
        List::Firewall => model.remote.allow.then_some(Meaning::Firewall).into_iter().collect(),
        List::Commands(stage, wait) => {
            let is_own = |task: &Task| match task {
                Task::Own(command) => command.wait == wait,
                _ => wait,
            };
            tasks::of_model(model, stage).into_iter().filter(is_own).map(Meaning::Task).collect()
        }
    }
}

fn write(saying: &Saying<'_>) -> Result<Written> {
    let mut written = Written { findings: unsaid(saying.model, saying.secrets), ..Written::default() };
    side_files(saying, &mut written.files);
    written.text = match saying.origin {
        None => fresh(saying)?,
        Some(original) => changed(saying, &original.text, &original.reading)?,
    };
    if !crate::xml::is_sayable(&written.text) {
        return Err(Error::request(
            "the answers have control characters, which XML cannot hold",
            "take them out of the model, or write another dialect",
        ));
    }
    Ok(written)
}

fn said<'a>(model: &'a Model, secrets: &'a Vault) -> Said<'a> {
    Said { model, key: secrets.get("system.key").and_then(SecretValue::plain) }
}

/// A new file.
fn fresh(saying: &Saying<'_>) -> Result<String> {
    let mut root = Node::new("unattend").attribute("xmlns", NAMESPACE).attribute("xmlns:wcm", ACTIONS);
    let values = said(saying.model, saying.secrets);
    for pass in PASSES {
        let mut settings = Node::new("settings").attribute("pass", pass);
        for architecture in saying.model.architectures() {
            let mut own: Vec<Node> = Vec::new();
            let mut ensure = |name: &'static str, path: &[&str], fill: &mut dyn FnMut(&mut Node)| {
                let is_it = |node: &Node| node.attributes.first().is_some_and(|(_, own)| own == name);
                let at = own.iter().position(is_it).unwrap_or_else(|| {
                    own.push(component_node(name, *architecture));
                    own.len() - 1
                });
                fill(path.iter().fold(&mut own[at], |node, part| node.ensure(part)));
            };
            for single in SINGLES {
                let Some(spot) = single.spots.first().filter(|spot| spot.pass == pass) else { continue };
                let Some(value) = (single.say)(&values) else { continue };
                ensure(spot.component, spot.path, &mut |node| node.text.clone_from(&value));
            }
            for list in List::all() {
                let Some(place) = list.place().filter(|place| place.pass == pass) else { continue };
                let meanings = meanings(list, saying.model, saying.secrets);
                if meanings.is_empty() {
                    continue;
                }
                ensure(place.component, place.path, &mut |node| {
                    let items = meanings.iter().enumerate();
                    node.children.extend(items.map(|(index, meaning)| list.node(meaning, index + 1)));
                });
            }
            settings.children.extend(own);
        }
        if !settings.children.is_empty() {
            root.children.push(settings);
        }
    }
    let mark = if saying.model.erases == crate::model::Erases::Yes {
        format!("<!-- {} -->\r\n", crate::ERASES_MARK)
    } else {
        String::new()
    };
    let text =
        format!("<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n{mark}{}\r\n", root.render("", "  ", "\r\n"));
    let mut editor = Editor::new(Document::parse(text)?)?;
    add_own(&mut editor, saying.model)?;
    Ok(editor.document.text().to_owned())
}

fn add_own(editor: &mut Editor, model: &Model) -> Result<()> {
    for own in model.own.iter().filter(|own| own.dialect == Dialect::Unattend) {
        let pass = PASSES.into_iter().find(|pass| pass.eq_ignore_ascii_case(&own.pass)).ok_or_else(|| {
            neat_content::Error::request(
                format!("`own`: there is no pass {:?}", own.pass),
                format!("known: {}", PASSES.join(", ")),
            )
        })?;
        for architecture in model.architectures() {
            editor.own(pass, *architecture, &own.text)?;
        }
    }
    Ok(())
}

/// The original with what differs.
fn changed(saying: &Saying<'_>, text: &str, reading: &Reading) -> Result<String> {
    let before = &reading.model;
    let mut document = Document::parse(text.to_owned())?;
    let is_marked = document.text().contains(crate::ERASES_MARK);
    if saying.model.erases == crate::model::Erases::Yes && !is_marked {
        let at = document.root().span.start;
        let mark = format!("<!-- {} -->{}", crate::ERASES_MARK, document.line_end());
        document.splice(at..at, &mark)?;
    } else if saying.model.erases == crate::model::Erases::No && is_marked {
        let without = document.text().replace(crate::ERASES_MARK, "");
        document = Document::parse(without)?;
    }
    let mut editor = Editor::new(document)?;
    let (old, new) = (said(before, &reading.vault), said(saying.model, saying.secrets));
    for gone in before.architectures().iter().filter(|own| !saying.model.architectures().contains(own)) {
        editor.remove_architecture(*gone)?;
    }
    for architecture in saying.model.architectures() {
        let is_there = before.architectures.contains(architecture);
        for single in SINGLES {
            let was = is_there.then(|| (single.say)(&old)).flatten();
            match ((single.say)(&new), was) {
                (Some(value), was) if was.as_ref() != Some(&value) => {
                    editor.set(single, *architecture, &value)?;
                }
                (None, Some(_)) => editor.unset(single, *architecture)?,
                _ => {}
            }
        }
        for list in List::all() {
            let was = if is_there { meanings(list, before, &reading.vault) } else { Vec::new() };
            let now = meanings(list, saying.model, saying.secrets);
            if was != now {
                editor.change(list, *architecture, &was, &now)?;
            }
        }
    }
    add_own(&mut editor, saying.model)?;
    Ok(editor.document.text().to_owned())
}

fn side_files(saying: &Saying<'_>, files: &mut Vec<SideFile>) {
    for script in saying.model.script.iter().filter(|script| script.carried == Carried::Media) {
        if script.text.is_empty() {
            continue;
        }
        let folder =
            if script.stage == Stage::SetupStart { String::new() } else { "sources/$OEM$/$1/".into() };
        files.push(SideFile {
            path: format!("{folder}{}/{}", tasks::FOLDER, script.name),
            bytes: tasks::script_bytes(&script.name, &script.text),
        });
    }
    let Some(wireless) = &saying.model.network.wireless else { return };
    let password = saying.secrets.get("network.wireless.password").and_then(SecretValue::plain);
    if wireless.password.is_some() && password.is_none() {
        return;
    }
    files.push(SideFile {
        path: format!("sources/$OEM$/$1/{}/wireless.xml", tasks::FOLDER),
        bytes: lists::wireless_profile(&wireless.name, password, wireless.hidden),
    });
}

/// What this dialect cannot say of a model.
fn unsaid(model: &Model, secrets: &Vault) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut notes = Vec::new();
    let mut add = |field: &str, why: &str, hint: &str| {
        findings.push(Finding::unsaid(field, Dialect::Unattend, why, hint));
    };
    let zone = &model.language.time_zone;
    if !zone.is_empty() && tables::zone_name(zone).is_none() {
        let near = neat_content::nearest(zone, tables::zones()).unwrap_or("Europe/London");
        let hint = format!("did you mean {near}?");
        if tables::zones().any(|own| own == zone) {
            add("language.time_zone", &format!("{zone} has no name there"), &hint);
        } else {
            let message = format!("there is no time zone {zone:?}");
            notes.push(Finding::new(Topic::Language, "language.time_zone", message, hint));
        }
    }
    for keyboard in model.language.keyboards.iter().filter(|own| tables::layout_pair(own).is_none()) {
        let why = format!("the layout {keyboard} has no identifier here");
        add("language.keyboards", &why, "give its identifiers, such as 0406:00000406");
    }
    for disk in &model.disk {
        if disk.number.is_none() && !disk.device.is_empty() {
            add(
                "disk.device",
                "disks have numbers there; disk 0 is taken",
                "add number = 0, or another number",
            );
        }
        let spoken = spoken_disk(disk);
        if disk.scheme.is_some() && disk.scheme != spoken.scheme && !disk.partition.is_empty() {
            add(
                "disk.scheme",
                "the firmware that starts setup decides, and the partitions fit the other kind",
                "add an efi partition for GPT, a boot partition for MBR",
            );
        }
        for partition in &disk.partition {
            if matches!(
                partition.file_system,
                Some(FileSystem::Ext4 | FileSystem::Xfs | FileSystem::Btrfs | FileSystem::Swap)
            ) || partition.kind == PartitionKind::Swap
            {
                add("disk.partition.file_system", "it knows NTFS and FAT32", "leave file_system out");
            }
            if !partition.mount.is_empty() {
                notes.push(Finding::needless(
                    "disk.partition.mount",
                    Dialect::Unattend,
                    "partitions have letters there",
                ));
            }
        }
    }
    for (field, value) in secrets {
        if matches!(value, SecretValue::Hash(_)) {
            add(
                field,
                "it takes no hashes of passwords",
                "give the password itself, from a file or the environment",
            );
        }
    }
    if model.account.iter().filter(|account| account.automatic_sign_ins > 0).count() > 1 {
        add("account.automatic_sign_ins", "one account can be signed in", "keep it for one account");
    }
    if !model.software.add.is_empty() {
        add(
            "software.add",
            "packages of a distribution are not installed by it",
            "put installers into [[app]] of the stack file",
        );
    }
    if model.power.when_done == Some(WhenDone::Off) {
        add("power.when_done", "the machine starts again by itself", "add a command for the first sign-in");
    }
    for command in &model.command {
        if List::Commands(command.stage, command.wait).place().is_none() {
            let (why, hint) = match command.stage {
                Stage::FirstStart => (
                    "nothing runs before somebody signs in",
                    "use the stage system-installed, or first-sign-in",
                ),
                Stage::FirstSignIn => ("commands there are waited for", "leave out wait = false"),
                _ => ("commands there are not waited for", "add wait = false"),
            };
            add("command", &format!("`{}` at {}: {why}", command.run, command.stage.name()), hint);
        }
    }
    for script in &model.script {
        let name = &script.name;
        if List::Commands(script.stage, true).place().is_none() {
            add("script", &format!("{name} at {}", script.stage.name()), "use another stage");
        } else if script.carried == Carried::Inside && script.stage == Stage::SetupStart {
            add(
                "script",
                &format!("{name} cannot be unpacked while setup starts"),
                "write carried = \"media\"",
            );
        } else if script.carried == Carried::Media && script.text.is_empty() {
            notes.push(Finding::told(
                Topic::ByHand,
                "script",
                format!("{name} must be put on the media by another way"),
            ));
        }
    }
    findings.append(&mut notes);
    findings
}

/// What is erased without a question about the disk, and what is asked before.
fn erases(document: &Document, reading: &Reading) -> Erasure {
    let root = document.root();
    let mut erasure = Erasure::default();
    for architecture in &reading.model.architectures {
        for disk in edit::items(root, List::Disks, *architecture) {
            let number = disk.text_at(&["DiskID"]).unwrap_or("0");
            if disk.text_at(&["WillWipeDisk"]).is_some_and(spots::is_true) {
                erasure.add(format!("everything on disk {number}"));
                continue;
            }
            let modified =
                disk.child("ModifyPartitions").map(|list| list.children.as_slice()).unwrap_or_default();
            for partition in modified.iter().filter(|own| own.child("Format").is_some()) {
                let id = partition.text_at(&["PartitionID"]).unwrap_or("?");
                erasure.add(format!("partition {id} of disk {number}"));
            }
        }
        for list in List::all().into_iter().filter(|list| list.is_numbered()) {
            for element in edit::items(root, list, *architecture) {
                let run = element.text_at(&[list.line_name()]).unwrap_or_default();
                erasure.add_command(run);
            }
        }
        let has = |pass, name, path: &[&str]| {
            component(root, pass, name, *architecture).is_some_and(|own| own.find(path).is_some())
        };
        // Setup of an architecture that the file does not speak to is not answered at all.
        if component(root, "windowsPE", spots::SETUP, *architecture).is_none() {
            continue;
        }
        let language = spots::INTERNATIONAL_SETUP;
        if !has("windowsPE", language, &["SetupUILanguage", "UILanguage"])
            || !has("windowsPE", language, &["UILanguage"])
        {
            erasure.ask("the language");
        }
        let accepts = component(root, "windowsPE", spots::SETUP, *architecture)
            .and_then(|own| own.text_at(&["UserData", "AcceptEula"]))
            .is_some_and(spots::is_true);
        if !accepts {
            erasure.ask("the licence");
        }
    }
    erasure
}

/// Changes the commands of a stage in a file by their numbers there, whatever they mean; gives the text and how many
/// there are then.
fn change_commands(text: &str, stage: Stage, change: &Change) -> Result<(String, usize)> {
    let mut editor = Editor::new(Document::parse(text.to_owned())?)?;
    let mut all = architectures(editor.document.root());
    if all.is_empty() {
        all.push(Architecture::X64);
    }
    let mut count = 0;
    for architecture in all {
        let tasks = |editor: &Editor, wait| -> Vec<Meaning> {
            editor
                .items(List::Commands(stage, wait), architecture)
                .into_iter()
                .filter_map(|(_, own)| own)
                .collect()
        };
        let waits = match change {
            Change::Insert { command, .. } => command.wait,
            // Those that are waited for come first, and are most often the only ones.
            _ => !tasks(&editor, true).is_empty() || tasks(&editor, false).is_empty(),
        };
        let list = List::Commands(stage, waits);
        if list.place().is_none() {
            return Err(Error::request(
                format!("unattend has no place for such a command at {}", stage.name()),
                match stage {
                    Stage::FirstStart => Hint::from(
                        "nothing runs before somebody signs in: use system-installed or first-sign-in",
                    ),
                    Stage::FirstSignIn => Advice::CommandWaits.into(),
                    _ => Advice::CommandDoesNotWait.into(),
                },
            ));
        }
        let before = tasks(&editor, waits);
        let mut after = before.clone();
        change.apply(&mut after, stage, |command| Meaning::Task(Task::Own(command.clone())))?;
        editor.change(list, architecture, &before, &after)?;
        count = after.len();
    }
    Ok((editor.document.text().to_owned(), count))
}
