//! What is wrong with a control file, by the published reference.

use super::{NAMESPACE, UNDERSTOOD};
use crate::{
    Finding, Topic,
    check::MediaFacts,
    xml::{Document, Element},
};
use neat_content::nearest;

/// Sections that a file may have.
const SECTIONS: [&str; 56] = [
    "add-on",
    "audit-laf",
    "auth-client",
    "bootloader",
    "ca_mgm",
    "certificate",
    "configuration_management",
    "deploy_image",
    "dhcp-server",
    "dns-server",
    "fcoe-client",
    "files",
    "firewall",
    "firstboot",
    "ftp-server",
    "general",
    "groups",
    "host",
    "http-server",
    "image",
    "inetd",
    "iscsi-client",
    "iscsi-server",
    "kdump",
    "keyboard",
    "language",
    "ldap",
    "login_settings",
    "mail",
    "networking",
    "nfs",
    "nfs_server",
    "nis",
    "nis_server",
    "ntp-client",
    "partitioning",
    "partitioning_advanced",
    "printer",
    "proxy",
    "report",
    "runlevel",
    "samba-client",
    "samba-server",
    "scripts",
    "security",
    "services-manager",
    "software",
    "sound",
    "squid",
    "ssh_import",
    "suse_register",
    "sysconfig",
    "tftp-server",
    "timezone",
    "upgrade",
    "users",
];
/// Sections with defaults for users, written with an underscore.
const MORE_SECTIONS: [&str; 3] = ["user_defaults", "zfcp", "dasd"];
/// Elements that are true or false.
const BOOLEANS: [&str; 12] = [
    "chrooted",
    "confirm",
    "create",
    "dhcp_hostname",
    "enable_firewall",
    "encrypted",
    "final_halt",
    "final_reboot",
    "format",
    "initialize",
    "keep_install_network",
    "second_stage",
];
/// Elements that are lists.
const LISTS: [&str; 17] = [
    "chroot-scripts",
    "drives",
    "enable",
    "groups",
    "init-scripts",
    "interfaces",
    "nameservers",
    "packages",
    "partitioning",
    "partitions",
    "patterns",
    "post-scripts",
    "pre-scripts",
    "products",
    "remove-packages",
    "routes",
    "users",
];

/// Elements beside those that the neutral form has, which are none of these written wrongly.
const ALSO: [&str; 24] = [
    "disable",
    "forename",
    "fstopt",
    "gid",
    "halt",
    "home",
    "image",
    "is_lvm_vg",
    "kernel",
    "languages",
    "lv_name",
    "lvm_group",
    "mountby",
    "partition_nr",
    "partition_type",
    "post-packages",
    "post-patterns",
    "post-scripts",
    "postpartitioning-scripts",
    "raid_name",
    "resize",
    "second_stage",
    "shell",
    "uid",
];

struct Check<'a> {
    document: &'a Document,
    findings: Vec<Finding>,
}

pub(super) fn check(document: &Document, media: Option<&MediaFacts>) -> Vec<Finding> {
    let mut check = Check { document, findings: Vec::new() };
    let root = document.root();
    check.frame(root);
    for section in &root.children {
        check.types(section);
        check.names(&section.name, section);
    }
    check.people(root);
    check.disks(root);
    check.ends(root);
    check.scripts(root, media);
    check.findings
}

impl Check<'_> {
    fn add(&mut self, topic: Topic, element: &Element, field: &str, message: String, hint: &str) {
        let line = self.document.line(element.span.start);
        self.findings.push(Finding::new(topic, field, message, hint).at(line));
    }

    fn frame(&mut self, root: &Element) {
        if root.name != "profile" {
            let message = format!("the outermost element is <{}>, not <profile>", root.name);
            self.add(Topic::Dialect, root, "file", message, "");
        }
        if root.attribute("xmlns") != Some(NAMESPACE) {
            let message = "<profile> has not the installer's namespace: it is not read".to_owned();
            self.add(Topic::Dialect, root, "file", message, &format!("write xmlns=\"{NAMESPACE}\""));
        }
        let mut seen: Vec<&str> = Vec::new();
        for section in &root.children {
            let name = section.name.as_str();
            let all = SECTIONS.iter().chain(&MORE_SECTIONS).copied();
            if seen.contains(&name) {
                let message = format!("the section <{name}> is there twice");
                self.add(Topic::Dialect, section, name, message, "put both into one");
            }
            seen.push(name);
            if all.clone().any(|own| own == name) {
                continue;
            }
            let near = nearest(name, all).filter(|near| strsim::damerau_levenshtein(near, name) <= 3);
            let message = format!("there is no section <{name}>");
            if let Some(near) = near {
                self.add(Topic::Dialect, section, name, message, &format!("did you mean <{near}>?"));
                continue;
            }
            let line = self.document.line(section.span.start);
            let message = format!("the section <{name}> is not in the table here, and is not checked");
            self.findings.push(Finding::told(Topic::Unchecked, name, message).at(line));
        }
    }

    /// What is no text says so, or is taken for one.
    fn types(&mut self, element: &Element) {
        let name = element.name.as_str();
        let kind = element.attribute("type").or(element.attribute("t"));
        if BOOLEANS.contains(&name) && element.children.is_empty() {
            let text = element.text.trim();
            if kind != Some("boolean") {
                let hint = format!("write <{name} config:type=\"boolean\">");
                self.add(
                    Topic::Dialect,
                    element,
                    name,
                    format!("<{name}> does not say that it is a boolean: it is taken for a text"),
                    &hint,
                );
            }
            if text != "true" && text != "false" {
                let message = format!("<{name}> is {text:?}, and must be true or false");
                self.add(Topic::Dialect, element, name, message, "write true or false");
            }
        }
        let is_list = LISTS.contains(&name) && !element.children.is_empty();
        if is_list && kind != Some("list") {
            let message = format!("<{name}> does not say that it is a list: only one of its parts is read");
            self.add(Topic::Dialect, element, name, message, &format!("write <{name} config:type=\"list\">"));
        }
        element.children.iter().for_each(|child| self.types(child));
    }

    /// Elements whose names differ so little from known ones that these were meant.
    fn names(&mut self, path: &str, element: &Element) {
        for child in &element.children {
            let own = format!("{path}/{}", child.name);
            let is_known =
                UNDERSTOOD.iter().any(|known| *known == own || known.starts_with(&format!("{own}/")));
            if is_known {
                self.names(&own, child);
                continue;
            }
            let beside = UNDERSTOOD.iter().filter_map(|known| known.strip_prefix(&format!("{path}/")));
            let beside = beside.map(|rest| rest.split('/').next().unwrap_or(rest));
            let near = nearest(&child.name, beside)
                .filter(|near| strsim::damerau_levenshtein(near, &child.name) <= 2);
            if let Some(near) = near.filter(|_| !ALSO.contains(&child.name.as_str())) {
                let message = format!("there is no <{}> in <{}>", child.name, element.name);
                self.add(Topic::Dialect, child, &own, message, &format!("did you mean <{near}>?"));
            }
        }
    }

    fn people(&mut self, root: &Element) {
        let users = root.child("users").map(|own| own.children.as_slice()).unwrap_or_default();
        let mut seen: Vec<&str> = Vec::new();
        for user in users {
            let name = user.text_at(&["username"]).unwrap_or_default();
            if seen.contains(&name) {
                self.add(Topic::Account, user, "users", format!("{name:?} is there twice"), "take one out");
            }
            seen.push(name);
            let has_password = user.text_at(&["user_password"]).is_some_and(|own| !own.is_empty());
            if has_password && !user.text_at(&["encrypted"]).is_some_and(super::is_true) {
                let message = "a password stands in plain text: whoever has the media can read it".to_owned();
                self.add(
                    Topic::PlainPassword,
                    user,
                    "users",
                    message,
                    "write its hash, and <encrypted config:type=\"boolean\">true</encrypted>",
                );
            }
        }
        let groups = root.child("groups").map(|own| own.children.as_slice()).unwrap_or_default();
        for group in groups {
            let members = group.text_at(&["userlist"]).unwrap_or_default();
            for member in members.split(',').map(str::trim).filter(|own| !own.is_empty()) {
                if !seen.contains(&member) {
                    let message = format!("{member:?} is in a group and is not an account of this file");
                    self.add(Topic::Account, group, "groups", message, "add it to <users>, or take it out");
                }
            }
        }
    }

    fn disks(&mut self, root: &Element) {
        let drives = root.child("partitioning").map(|own| own.children.as_slice()).unwrap_or_default();
        for drive in drives {
            let partitions = drive.child("partitions").map(|own| own.children.as_slice()).unwrap_or_default();
            let mut rest = 0;
            let mut mounts: Vec<&str> = Vec::new();
            for own in partitions {
                let size = own.text_at(&["size"]).unwrap_or_default();
                match size {
                    "max" => rest += 1,
                    "" | "auto" => {}
                    own_size if own_size.ends_with('%') || super::mib_of(own_size).is_some() => {}
                    other => {
                        let message = format!("the size {other:?} is none");
                        self.add(
                            Topic::Disk,
                            own,
                            "partitioning",
                            message,
                            "write it such as 300M, 20G, or max",
                        );
                    }
                }
                let mount = own.text_at(&["mount"]).unwrap_or_default();
                if !mount.is_empty() && mount != "swap" && mounts.contains(&mount) {
                    let message = format!("two partitions are mounted at {mount}");
                    self.add(Topic::Disk, own, "partitioning", message, "give each its own place");
                }
                mounts.push(mount);
            }
            if rest > 1 {
                self.add(
                    Topic::Disk,
                    drive,
                    "partitioning",
                    "two partitions take the rest".into(),
                    "give all but one a size",
                );
            }
        }
    }

    fn ends(&mut self, root: &Element) {
        let mode = |name: &str| root.text_at(&["general", "mode", name]).unwrap_or_default();
        if let Some(partitioning) = root.child("partitioning")
            && mode("confirm") != "false"
        {
            let message = "the disk is laid out, and the installer shows its settings and waits for a person"
                .to_owned();
            let hint = "write <confirm config:type=\"boolean\">false</confirm> in <general><mode>";
            self.add(Topic::Asks, partitioning, "general/mode/confirm", message, hint);
        }
        if let Some(general) = root.child("general")
            && super::is_true(mode("final_halt"))
            && super::is_true(mode("final_reboot"))
        {
            let message = "the machine is to switch off and to start again".to_owned();
            self.add(Topic::Dialect, general, "general/mode", message, "keep one of the two");
        }
    }

    fn scripts(&mut self, root: &Element, media: Option<&MediaFacts>) {
        let lists = root.child("scripts").map(|own| own.children.as_slice()).unwrap_or_default();
        for list in lists {
            let mut seen: Vec<&str> = Vec::new();
            for script in &list.children {
                let name = script.text_at(&["filename"]).unwrap_or_default();
                if !name.is_empty() && seen.contains(&name) {
                    let message =
                        format!("two scripts of <{}> have the name {name:?}: one is lost", list.name);
                    self.add(Topic::Script, script, "scripts", message, "give each its own");
                }
                seen.push(name);
                let Some(source) = script.child("source") else {
                    let has_place = script.child("location").is_some();
                    if !has_place {
                        let message = format!("the script {name:?} has neither <source> nor <location>");
                        self.add(Topic::Script, script, "scripts", message, "say what it runs");
                    }
                    continue;
                };
                let missing: Vec<String> = media
                    .iter()
                    .flat_map(|media| source.text.lines().flat_map(|line| media.faults_in_command(line)))
                    .collect();
                for path in missing {
                    let message = format!("a script uses {path}");
                    self.add(
                        Topic::NotOnMedia,
                        script,
                        "scripts",
                        message,
                        "put it there with [[place]], or correct the path",
                    );
                }
            }
        }
    }
}
