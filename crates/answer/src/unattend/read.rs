//! A file as the neutral form.

use super::{
    all_components, architectures,
    edit::{self, component},
    lists::{List, Meaning, Password},
    spots::SINGLES,
    tasks::{self, Task},
};
use crate::{
    Finding, Topic,
    face::Reading,
    model::{Architecture, KeyChoice, Model, PartitionKind, Secret, SecretValue, Vault},
    xml::{Document, Element},
};

pub(super) fn read(document: &Document) -> Reading {
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
pub(super) fn only(document: &Document, architecture: Architecture) -> Model {
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
