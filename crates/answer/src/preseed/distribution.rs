//! Where packages come from, which kernel goes in, and what else is seldom asked.

use super::document::Document;
use crate::model::Model;

/// Mirrors by the ways in which they are reached.
const PROTOCOLS: [&str; 3] = ["http", "https", "ftp"];

/// Questions about it that the neutral form has.
pub(super) const QUESTIONS: [&str; 18] = [
    "mirror/country",
    "mirror/protocol",
    "mirror/http/hostname",
    "mirror/http/directory",
    "mirror/http/proxy",
    "mirror/https/hostname",
    "mirror/https/directory",
    "mirror/https/proxy",
    "mirror/ftp/hostname",
    "mirror/ftp/directory",
    "mirror/ftp/proxy",
    "base-installer/kernel/image",
    "base-installer/install-recommends",
    "debian-installer/add-kernel-opts",
    "hw-detect/load_firmware",
    "hw-detect/firmware-lookup",
    "cdrom-detect/eject",
    "netcfg/choose_interface",
];

pub(super) fn say(model: &Model, say: &mut dyn FnMut(&str, &str, &str)) {
    let own = &model.distribution;
    if let Some((protocol, rest)) = own.mirror.split_once("://") {
        let (host, folder) = rest.split_once('/').unwrap_or((rest, ""));
        // The list of countries is not asked for, and the proxy neither.
        say("mirror/country", "string", "manual");
        say("mirror/protocol", "select", protocol);
        say(&format!("mirror/{protocol}/hostname"), "string", host);
        say(&format!("mirror/{protocol}/directory"), "string", &format!("/{}", folder.trim_end_matches('/')));
        say(&format!("mirror/{protocol}/proxy"), "string", "");
    }
    if !own.kernel.is_empty() {
        say("base-installer/kernel/image", "string", &own.kernel);
    }
    if !own.kernel_options.is_empty() {
        say("debian-installer/add-kernel-opts", "string", &own.kernel_options);
    }
    let truth = |value: bool| if value { "true" } else { "false" };
    if let Some(recommends) = own.recommends {
        say("base-installer/install-recommends", "boolean", truth(recommends));
    }
    if let Some(firmware) = own.firmware {
        say("hw-detect/load_firmware", "boolean", truth(firmware));
        if !firmware {
            // Later installers ask by this one.
            say("hw-detect/firmware-lookup", "string", "never");
        }
    }
    if let Some(leave) = model.power.leave_disc {
        say("cdrom-detect/eject", "boolean", truth(!leave));
    }
    if model.network.fixed.is_none() && !model.network.interface.is_empty() {
        say("netcfg/choose_interface", "select", &model.network.interface);
    }
}

pub(super) fn read(document: &Document<'_>, model: &mut Model) {
    let value = |question: &str| document.value(question).filter(|value| !value.is_empty());
    let truth = |question: &str| value(question).map(|value| value == "true");
    let protocol = value("mirror/protocol").filter(|own| PROTOCOLS.contains(own));
    let found = protocol.into_iter().chain(PROTOCOLS).find_map(|protocol| {
        let host = value(&format!("mirror/{protocol}/hostname"))?;
        let folder = value(&format!("mirror/{protocol}/directory")).unwrap_or_default();
        Some(format!("{protocol}://{host}/{}", folder.trim_matches('/')))
    });
    let own = &mut model.distribution;
    own.mirror = found.map(|own| own.trim_end_matches('/').to_owned()).unwrap_or_default();
    value("base-installer/kernel/image").unwrap_or_default().clone_into(&mut own.kernel);
    value("debian-installer/add-kernel-opts").unwrap_or_default().clone_into(&mut own.kernel_options);
    own.recommends = truth("base-installer/install-recommends");
    own.firmware = truth("hw-detect/load_firmware");
    model.power.leave_disc = truth("cdrom-detect/eject").map(|eject| !eject);
    if model.network.fixed.is_none() {
        value("netcfg/choose_interface").unwrap_or_default().clone_into(&mut model.network.interface);
    }
}
