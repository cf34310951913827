//! The neutral form as a file.

use super::{
    NAMESPACE,
    edit::{ACTIONS, Editor, PASSES, component_node},
    lists::{self, List, Meaning, Password},
    node::Node,
    spots::{SINGLES, Said},
    tasks::{self, Task},
    unsaid::unsaid,
};
use crate::{
    Dialect,
    face::{Reading, Saying, SideFile, Written},
    model::{Account, Carried, Disk, FileSystem, Model, PartitionKind, Scheme, SecretValue, Stage, Vault},
    xml::Document,
};
use neat_content::{Error, Result};

/// What a disk says here: the partition table's kind follows from the partitions and the firmware.
pub(super) fn spoken_disk(disk: &Disk) -> Disk {
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

pub(super) fn write(saying: &Saying<'_>) -> Result<Written> {
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
            bytes: crate::command_line::script::bytes(&script.name, &script.text),
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
