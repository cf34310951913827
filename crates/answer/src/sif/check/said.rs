//! Passwords, languages, and what setup will ask.

use super::{super::zones, Check};
use crate::{
    Finding, Topic, check::MediaFacts, face::Reading, model::SecretValue, sif::installed, tables,
    unattend::is_key,
};

/// What setup stops with a message for where nothing is to be asked.
const NEEDED: [(&str, &str); 4] = [
    ("UserData", "FullName"),
    ("UserData", "ComputerName"),
    ("GuiUnattended", "AdminPassword"),
    ("GuiUnattended", "TimeZone"),
];

impl Check<'_> {
    pub(super) fn people(&mut self, reading: &Reading) {
        let document = self.document;
        if let Some(own) = document.get("GuiUnattended", "AdminPassword") {
            let is_hash = document.is_yes("GuiUnattended", "EncryptedAdminPassword");
            if own.value == "*" || own.value.is_empty() {
                self.at(Topic::NoPassword, own, "the administrator has no password".into(), "give it one");
            } else if is_hash {
                let is_form = own.value.len() == 64 && own.value.bytes().all(|c| c.is_ascii_hexdigit());
                if !is_form {
                    let message = "it is said to be encrypted, and is not 64 hexadecimal digits".into();
                    self.at(
                        Topic::Value,
                        own,
                        message,
                        "write EncryptedAdminPassword=No beside a password as it is",
                    );
                }
            } else {
                let message = "a password stands in plain text: whoever has the media can read it".into();
                self.at(Topic::PlainPassword, own, message, "change it after the first sign-in");
            }
        }
        for (section, key) in [("Identification", "DomainAdminPassword"), ("Unattended", "ActivateProxy")] {
            if let Some(own) =
                document.get(section, key).filter(|own| key.contains("Password") && !own.value.is_empty())
            {
                let message = "a password stands in plain text: whoever has the media can read it".into();
                self.at(Topic::PlainPassword, own, message, "use an account that may do little");
            }
        }
        for own in document.section(installed::SECTION) {
            if own.key.to_ascii_lowercase().ends_with(".password") && !own.value.is_empty() {
                let message = "a password stands in plain text, here and in the batch file beside: whoever has the media can read it";
                self.at(Topic::PlainPassword, own, message.into(), "change it after the first sign-in");
            }
        }
        if let Some(own) = document.get("GuiUnattended", "AutoLogon")
            && document.is_yes("GuiUnattended", "AutoLogon")
        {
            self.at(
                Topic::AutomaticSignIn,
                own,
                "the administrator is signed in without being asked".into(),
                "",
            );
        }
        if let Some(key) = reading.vault.get("system.key").and_then(SecretValue::plain) {
            let own = document.get("UserData", "ProductKey").or(document.get("UserData", "ProductID"));
            if let Some(own) = own.filter(|_| !is_key(key)) {
                let message = "the product key is not five groups of five letters and digits".into();
                self.at(Topic::ProductKey, own, message, "correct it");
            }
        }
    }

    pub(super) fn language(&mut self) {
        let document = self.document;
        if let Some(own) = document.get("GuiUnattended", "TimeZone") {
            let number = own.value.parse::<u32>().ok();
            if !number.is_some_and(zones::is_number) {
                let by_name = tables::zone_of_name(&own.value)
                    .or(tables::near_zone(&own.value))
                    .and_then(zones::number);
                let hint = by_name.map_or_else(
                    || "write the number of one, such as 85".to_owned(),
                    |own| format!("did you mean {own}?"),
                );
                self.at(Topic::Language, own, format!("there is no time zone {:?}", own.value), hint);
            }
        }
        let is_all = document.value("RegionalSettings", "Language").is_some();
        for own in document.section("RegionalSettings") {
            let key = own.key.to_ascii_lowercase();
            let is_locale =
                key == "language" || key.starts_with("systemlocale") || key.starts_with("userlocale");
            let id = u32::from_str_radix(&own.value, 16).ok().and_then(|own| u16::try_from(own).ok());
            if is_locale && id.is_none() {
                self.at(
                    Topic::Language,
                    own,
                    format!("{:?} is no identifier of a language", own.value),
                    "write it in hexadecimal digits, such as 00000406",
                );
            } else if is_locale && id.is_some_and(|own| tables::language_of_id(own).is_none()) {
                self.at(
                    Topic::Unchecked,
                    own,
                    format!("the language {} is not in the tables here", own.value),
                    "",
                );
            }
            if key.starts_with("inputlocale") {
                let mut pairs = own.value.split(',').map(|own| own.trim().trim_matches('"'));
                if let Some(wrong) = pairs.find(|own| !tables::is_layout_pair(own)) {
                    self.at(
                        Topic::Language,
                        own,
                        format!("{wrong:?} is no keyboard"),
                        "write language and layout, such as 0406:00000406",
                    );
                }
            }
            if is_all
                && (key.starts_with("systemlocale")
                    || key.starts_with("userlocale")
                    || key.starts_with("inputlocale"))
            {
                self.at(
                    Topic::Dialect,
                    own,
                    "Language is said, and then this does not count".into(),
                    "keep one of them",
                );
            }
        }
    }

    /// What setup asks, where it was told to ask nothing.
    pub(super) fn questions(&mut self, media: Option<&MediaFacts>) {
        let document = self.document;
        let mode = document.get("Unattended", "UnattendMode");
        if !document.has_section("Unattended") {
            self.found(
                Topic::Asks,
                "[Unattended]",
                "the section is missing: setup asks everything",
                "add it, with UnattendMode",
            );
        }
        if let Some(own) = mode.filter(|own| own.value.eq_ignore_ascii_case("FullUnattended")) {
            for (section, key) in NEEDED {
                if document.value(section, key).is_none() {
                    let message =
                        format!("nothing is to be asked, and [{section}] has no {key}: setup stops there");
                    self.at(
                        Topic::Asks,
                        own,
                        message,
                        format!("say {key}, or write UnattendMode=DefaultHide"),
                    );
                }
            }
            let has_key =
                ["ProductKey", "ProductID"].iter().any(|key| document.value("UserData", key).is_some());
            if !has_key {
                let message = "nothing is to be asked, and there is no ProductKey: setup stops there where its media wants one";
                self.at(Topic::Asks, own, message.into(), "say it, or write UnattendMode=DefaultHide");
            }
            if !document.is_yes("Unattended", "OemSkipEula") {
                let message = "nothing is to be asked, and OemSkipEula is not Yes: setup shows the licence";
                self.at(Topic::Asks, own, message.into(), "write OemSkipEula=Yes if it is accepted");
            }
        }
        let from_disc = document.is_yes("Data", "UnattendedInstall")
            && document.value("Data", "MsDosInitiated").is_some_and(|own| own == "0");
        if !from_disc {
            let message = "from a disc setup reads the file only with MsDosInitiated=\"0\" and UnattendedInstall=\"Yes\"";
            let hint = "add both to [Data]";
            match media {
                Some(_) => self.found(Topic::Asks, "[Data]", message, hint),
                None => self.findings.push(Finding::told(Topic::Unusual, "[Data]", message)),
            }
        }
        let is_laid_out = document.is_yes("Unattended", "Repartition");
        if is_laid_out && document.get("Data", "AutoPartition").is_some_and(|own| own.value == "0") {
            let own = document.get("Unattended", "Repartition");
            if let Some(own) = own {
                let message =
                    "AutoPartition is 0, so that setup asks where to install after it has erased the disk";
                self.at(Topic::Asks, own, message.into(), "write AutoPartition=\"1\"");
            }
        }
    }
}
