//! Checks of what is said, whatever the dialect.

use crate::{
    Finding, Topic,
    face::Rules,
    model::{Account, Disk, KeyChoice, Model, PartitionKind, Scheme, Size},
    tables,
};

/// Characters that a name of an account must not have, by the documented rules.
const NOT_IN_ACCOUNT: &str = "\"/\\[]:;|=,+*?<>@";
/// Longest name of an account where names are short, and of a machine.
const MAX_ACCOUNT: usize = 20;
const MAX_MACHINE: usize = 15;
const MAX_LINUX_ACCOUNT: usize = 32;
const MAX_LINUX_MACHINE: usize = 63;

/// What is wrong with a model for the systems that `rules` are of; without them, for those with the strictest.
pub(crate) fn check(model: &Model, rules: Option<&Rules>) -> Vec<Finding> {
    let mut findings = Vec::new();
    machine_name(&model.machine.name, rules, &mut findings);
    accounts(model, rules, &mut findings);
    administrator(model, &mut findings);
    for disk in &model.disk {
        disk_layout(disk, rules, &mut findings);
    }
    let mut names: Vec<String> = Vec::new();
    for disk in &model.disk {
        if names.contains(&disk.name()) {
            findings.push(Finding::new(
                Topic::Disk,
                "disk",
                format!("{} is laid out twice", disk.name()),
                "put both into one [[disk]]",
            ));
        }
        names.push(disk.name());
    }
    language(model, rules, &mut findings);
    super::values::check(model, &mut findings);
    if let Some(KeyChoice::Generic(key)) = &model.system.key
        && !crate::unattend::is_key(key)
    {
        findings.push(Finding::new(
            Topic::ProductKey,
            "system.key",
            "the key is not five groups of five letters and digits",
            "correct it",
        ));
    }
    for script in &model.script {
        let is_name = !script.name.is_empty()
            && script.name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.'))
            && !script.name.starts_with('.');
        if !is_name {
            findings.push(Finding::new(
                Topic::Script,
                "script",
                format!("{:?} is no file name for a script", script.name),
                "use letters, digits, '-', '_' and '.'",
            ));
        }
    }
    if let Some(fixed) = &model.network.fixed {
        let (address, prefix) = fixed.address.split_once('/').unwrap_or((&fixed.address, ""));
        let is_address =
            address.parse::<std::net::IpAddr>().is_ok() && prefix.parse::<u8>().is_ok_and(|own| own <= 128);
        if !is_address {
            findings.push(Finding::new(
                Topic::Network,
                "network.static.address",
                format!("{:?} is no address with the length of its prefix", fixed.address),
                "write it such as 192.0.2.5/24",
            ));
        }
        let others = std::iter::once(&fixed.gateway).filter(|own| !own.is_empty()).chain(&fixed.name_servers);
        for own in others.filter(|own| own.parse::<std::net::IpAddr>().is_err()) {
            findings.push(Finding::new(
                Topic::Network,
                "network.static",
                format!("{own:?} is no address"),
                "write it such as 192.0.2.1",
            ));
        }
    }
    findings
}

fn has_long_names(rules: Option<&Rules>) -> bool {
    rules.is_some_and(|own| !own.short_names)
}

/// What stands in braces in a machine's name and is filled by nothing on the machine.
pub(crate) fn unfilled(name: &str) -> Option<&str> {
    let inside = name.split('{').skip(1).filter_map(|rest| rest.split_once('}')).map(|(inside, _)| inside);
    let count = |own: &str| own.strip_prefix("random:").and_then(|own| own.parse::<usize>().ok());
    inside.into_iter().find(|own| {
        !matches!(*own, "serial" | "random") && !count(own).is_some_and(|count| (1..=16).contains(&count))
    })
}

/// What is wrong with the name of a machine; placeholders are left out of account.
pub(crate) fn machine_name(name: &str, rules: Option<&Rules>, findings: &mut Vec<Finding>) {
    if name.is_empty() || name == "{random}" || name == "*" {
        return;
    }
    let mut fixed = String::new();
    let mut rest = name;
    while let Some((before, after)) = rest.split_once('{') {
        fixed.push_str(before);
        let Some((inside, after)) = after.split_once('}') else {
            findings.push(Finding::new(
                Topic::MachineName,
                "machine.name",
                format!("{name:?} has a {{ without its }}"),
                "close it",
            ));
            return;
        };
        let count = inside.strip_prefix("random:").and_then(|own| own.parse::<usize>().ok());
        match (inside, count) {
            ("serial" | "random", _) => fixed.push('x'),
            (_, Some(count)) if (1..=16).contains(&count) => fixed.push_str(&"x".repeat(count)),
            _ => {
                let message = format!("{name:?}: there is no {{{inside}}}");
                findings.push(Finding::new(
                    Topic::MachineName,
                    "machine.name",
                    message,
                    "use {serial}, {random:4}, or a column of the site list in a stack file",
                ));
                return;
            }
        }
        rest = after;
    }
    fixed.push_str(rest);
    let limit = if has_long_names(rules) { MAX_LINUX_MACHINE } else { MAX_MACHINE };
    let len = fixed.chars().count();
    let mut add = |message: String, hint: &str| {
        findings.push(Finding::new(Topic::MachineName, "machine.name", message, hint));
    };
    if len > limit {
        add(format!("{name:?} has {len} characters, and {limit} is the most"), "shorten it");
    }
    if let Some(c) = fixed.chars().find(|c| !c.is_ascii_alphanumeric() && *c != '-') {
        add(format!("{name:?} has {c:?}, which no machine's name may have"), "use letters, digits and '-'");
    } else if fixed.starts_with('-') || fixed.ends_with('-') {
        add(format!("{name:?} begins or ends with '-'"), "begin and end with a letter or digit");
    } else if fixed.chars().all(|c| c.is_ascii_digit()) {
        add(format!("{name:?} has nothing but digits"), "add a letter");
    }
}

fn accounts(model: &Model, rules: Option<&Rules>, findings: &mut Vec<Finding>) {
    let mut seen: Vec<String> = Vec::new();
    for account in &model.account {
        let folded = account.name.to_lowercase();
        if seen.contains(&folded) {
            let message = format!("two accounts have the name {:?}", account.name);
            findings.push(Finding::new(Topic::Account, "account", message, "give each its own"));
        }
        seen.push(folded);
        account_name(account, model, rules, findings);
        if account.password.is_none() && account.groups.iter().any(|own| own == "administrators") {
            let message = format!("{} administers the machine and has no password", account.name);
            findings.push(Finding::new(
                Topic::NoPassword,
                account.password_field(),
                message,
                "give it one: password = { file = \"…\" }",
            ));
        }
        if account.automatic_sign_ins > 0 && account.groups.iter().any(|own| own == "administrators") {
            let message =
                format!("{} is signed in without being asked and administers the machine", account.name);
            findings.push(Finding::told(Topic::AutomaticSignIn, "account", message));
        }
    }
}

fn administrator(model: &Model, findings: &mut Vec<Finding>) {
    if model.administrator.enabled == Some(true) && model.administrator.password.is_none() {
        findings.push(Finding::new(
            Topic::NoPassword,
            "administrator.password",
            "the administrator can sign in and has no password",
            "give it one: password = { file = \"…\" }",
        ));
    }
}

fn account_name(account: &Account, model: &Model, rules: Option<&Rules>, findings: &mut Vec<Finding>) {
    let name = &account.name;
    let mut add =
        |message: String, hint: &str| findings.push(Finding::new(Topic::Account, "account", message, hint));
    let limit = if has_long_names(rules) { MAX_LINUX_ACCOUNT } else { MAX_ACCOUNT };
    let len = name.chars().count();
    if len == 0 {
        add("an account has no name".into(), "give it one");
    }
    if len > limit {
        add(
            format!("the account's name {name:?} has {len} characters, and {limit} is the most"),
            "shorten it",
        );
    }
    if has_long_names(rules) {
        let begins = name.chars().next().is_none_or(|c| c.is_ascii_lowercase() || c == '_');
        let is_plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '_');
        if !begins || !name.chars().all(is_plain) {
            add(
                format!("{name:?} is no name for an account there"),
                "use small letters, digits, '-' and '_', beginning with a letter",
            );
        }
    } else {
        if let Some(c) = name.chars().find(|c| NOT_IN_ACCOUNT.contains(*c) || c.is_control()) {
            add(
                format!("the account's name {name:?} has {c:?}, which no account may have"),
                "use another character",
            );
        }
        if name.ends_with('.') || (!name.is_empty() && name.chars().all(|c| c == '.' || c == ' ')) {
            add(format!("the account's name {name:?} ends with a full stop"), "take it away");
        }
        if name.eq_ignore_ascii_case(&model.machine.name) {
            add(format!("the account {name:?} has the name of the machine"), "give one of them another name");
        }
        if rules.is_some()
            && matches!(name.to_lowercase().as_str(), "administrator" | "guest" | "defaultaccount")
        {
            add(
                format!("the system has an account {name:?} of its own"),
                "use another name, or [administrator]",
            );
        }
    }
}

fn disk_layout(disk: &Disk, rules: Option<&Rules>, findings: &mut Vec<Finding>) {
    let name = disk.name();
    let mut add =
        |message: String, hint: &str| findings.push(Finding::new(Topic::Disk, "disk", message, hint));
    let count = disk.partition.len();
    let is_rest = |partition: &&crate::model::Partition| partition.size == Size::Rest;
    if let Some(at) = disk.partition.iter().position(|own| is_rest(&own))
        && at + 1 < count
        && rules.is_none_or(|own| own.rest_is_last)
    {
        let message =
            format!("{name}: partition {} takes the rest and leaves nothing for those after it", at + 1);
        add(message, "put it last");
    }
    if disk.partition.iter().filter(is_rest).count() > 1 {
        add(format!("{name}: two partitions take the rest"), "give all but one a size");
    }
    for (index, partition) in disk.partition.iter().enumerate() {
        if partition.size == Size::Mib(0) {
            add(
                format!("{name}: partition {} has no size", index + 1),
                "give it one, such as 300MiB, or rest",
            );
        }
        let most = if partition.kind == PartitionKind::Efi { 11 } else { 32 };
        if partition.label.chars().count() > most {
            add(
                format!("{name}: the label {:?} is longer than {most} characters", partition.label),
                "shorten it",
            );
        }
        if partition.letter.is_some_and(|letter| !letter.is_ascii_alphabetic()) {
            add(format!("{name}: {:?} is no drive letter", partition.letter.unwrap_or(' ')), "use a letter");
        }
    }
    let mut letters: Vec<char> =
        disk.partition.iter().filter_map(|own| own.letter).map(|own| own.to_ascii_uppercase()).collect();
    letters.sort_unstable();
    if let Some([letter, ..]) = letters.windows(2).find(|pair| pair.first() == pair.last()) {
        add(format!("{name}: two partitions have the letter {letter}"), "give each its own");
    }
    if let (Some(least), Some(most)) = (disk.at_least, disk.at_most)
        && least > most
    {
        add(format!("{name}: it must be at least {least} and at most {most}"), "correct one of the two");
    }
    let fixed: u64 = disk.partition.iter().filter_map(|own| own.size.mib()).sum();
    if let Some(Size::Mib(most)) = disk.at_most
        && fixed > most
    {
        add(
            format!(
                "{name}: the partitions need {}, and the disk has at most {}",
                Size::Mib(fixed),
                Size::Mib(most)
            ),
            "make them smaller",
        );
    }
    let has = |kind| disk.partition.iter().any(|own| own.kind == kind);
    if count > 0 && !has(PartitionKind::System) && disk.wipe && rules.is_none() {
        findings.push(Finding::told(
            Topic::Unusual,
            "disk",
            format!("{name}: no partition is for the system"),
        ));
    }
    if disk.scheme == Some(Scheme::Mbr) && count > 4 && rules.is_none_or(|own| own.four_on_mbr) {
        let message = format!("{name}: an MBR has room for 4 partitions, and there are {count}");
        findings.push(Finding::new(Topic::Disk, "disk", message, "use GPT, or fewer"));
    }
    if disk.scheme == Some(Scheme::Mbr) && has(PartitionKind::Efi) {
        let message = format!("{name}: UEFI does not start from this MBR layout everywhere");
        findings.push(Finding::told(Topic::Unusual, "disk", message));
    }
}

fn language(model: &Model, rules: Option<&Rules>, findings: &mut Vec<Finding>) {
    let language = &model.language;
    let zone = &language.time_zone;
    if !zone.is_empty() && rules.is_none_or(|own| own.iana_zones) && !tables::zones().any(|own| own == zone) {
        let near = tables::near_zone(zone);
        let hint = near.map_or_else(
            || "give its IANA name, such as Europe/Copenhagen".to_owned(),
            |near| format!("did you mean {near}?"),
        );
        findings.push(Finding::new(
            Topic::Language,
            "language.time_zone",
            format!("there is no time zone {zone:?}"),
            hint,
        ));
    }
    for (field, tag) in [
        ("language.setup", &language.setup),
        ("language.interface", &language.interface),
        ("language.system", &language.system),
        ("language.user", &language.user),
    ] {
        let mut parts = tag.split('-');
        let first = parts.next().unwrap_or_default();
        let is_tag = (2..=3).contains(&first.len())
            && first.bytes().all(|byte| byte.is_ascii_alphabetic())
            && parts.all(|part| {
                (2..=8).contains(&part.len()) && part.bytes().all(|byte| byte.is_ascii_alphanumeric())
            });
        if !tag.is_empty() && !is_tag {
            let near = tables::near_language(tag);
            let hint = near
                .map_or_else(|| "write it such as da-DK".to_owned(), |near| format!("did you mean {near}?"));
            findings.push(Finding::new(Topic::Language, field, format!("{tag:?} is no language tag"), hint));
        }
    }
    for keyboard in &language.keyboards {
        let is_known = tables::layout_pair(keyboard).is_some() || tables::xkb(keyboard).is_some();
        if !is_known {
            let near = tables::near_language(keyboard);
            let hint = near.map_or_else(
                || "write it such as da-DK, 0406:00000406 or xkb:dk".to_owned(),
                |near| format!("did you mean {near}?"),
            );
            findings.push(Finding::new(
                Topic::Language,
                "language.keyboards",
                format!("there is no keyboard {keyboard:?}"),
                hint,
            ));
        }
    }
}
