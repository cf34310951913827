//! The elements of a file: passes, components, settings.

use super::{Check, similar};
use crate::{
    Finding, Topic,
    check::MediaFacts,
    unattend::{
        NAMESPACE, all_components,
        edit::{PASSES, architecture_name, architecture_of, components},
        known,
        spots::is_true,
    },
    xml::Element,
};
use neat_content::nearest;

impl Check<'_> {
    /// The outermost elements.
    pub(super) fn frame(&mut self) {
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

    pub(super) fn components(&mut self, media: Option<&MediaFacts>) {
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

    pub(super) fn settings(&mut self, known: &known::Known, field: &str, element: &Element) {
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
}
