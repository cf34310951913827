//! Values that have a form: registry values, addresses of mirrors, names of packages and interfaces.

use crate::{
    Finding, Topic,
    model::{Model, RegistryValue},
};

/// Roots of the registry that a value may stand below.
const ROOTS: [&str; 4] = ["HKLM", "HKEY_LOCAL_MACHINE", "HKCU", "HKEY_CURRENT_USER"];

pub(super) fn check(model: &Model, findings: &mut Vec<Finding>) {
    for value in &model.registry {
        registry(value, findings);
    }
    distribution(model, findings);
}

fn registry(own: &RegistryValue, findings: &mut Vec<Finding>) {
    let mut add = |message: String, hint: &str| {
        findings.push(Finding::new(Topic::Value, "registry", message, hint));
    };
    let (root, rest) = own.key.split_once('\\').unwrap_or((&own.key, ""));
    if rest.is_empty() || !ROOTS.iter().any(|known| known.eq_ignore_ascii_case(root)) {
        add(
            format!("{:?} is no key of the registry", own.key),
            "begin it with HKLM\\ for the machine or HKCU\\ for whoever signs in",
        );
    }
    let place = format!("{}\\{}", own.key, own.name);
    if [&own.key, &own.name, &own.value].iter().any(|text| text.chars().any(char::is_control)) {
        add(
            format!("{place:?} has a line end or another control character, and a command is one line"),
            "set it by a script",
        );
    }
    let bits = match own.kind.as_str() {
        "string" | "expand-string" => return,
        "dword" => 32,
        "qword" => 64,
        other => {
            let known = ["string", "expand-string", "dword", "qword"];
            let near = neat_content::nearest(other, known);
            let hint = near.map_or_else(
                || format!("known: {}", known.join(", ")),
                |near| format!("did you mean {near}?"),
            );
            return add(format!("{place}: there is no type {other:?}"), &hint);
        }
    };
    let digits = own.value.strip_prefix("0x").or_else(|| own.value.strip_prefix("0X"));
    let number = match digits {
        // A sign would be taken for a part of the number.
        _ if own.value.contains('+') => None,
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        None => own.value.parse::<u64>().ok(),
    };
    if number.is_none_or(|number| bits == 32 && number > u64::from(u32::MAX)) {
        add(
            format!("{place}: {:?} is no number of {bits} bits", own.value),
            "write it such as 1 or 0x0000000f",
        );
    }
}

fn distribution(model: &Model, findings: &mut Vec<Finding>) {
    let own = &model.distribution;
    let mut add = |field: &str, message: String, hint: &str| {
        findings.push(Finding::new(Topic::Value, field, message, hint));
    };
    let is_plain = |c: char| c.is_ascii_alphanumeric() || "-._~:/@%+".contains(c);
    if !own.mirror.is_empty() {
        let rest =
            ["http://", "https://", "ftp://"].iter().find_map(|own_kind| own.mirror.strip_prefix(own_kind));
        if rest.is_none_or(|rest| rest.is_empty() || rest.starts_with('/') || !rest.chars().all(is_plain)) {
            add(
                "distribution.mirror",
                format!("{:?} is no address of a mirror", own.mirror),
                "write it such as http://mirror.example/debian",
            );
        }
    }
    // What a package's name may have: <https://www.debian.org/doc/debian-policy/ch-controlfields.html#source>, and
    // capitals, which other distributions have.
    let is_of_package = |c: char| c.is_ascii_alphanumeric() || "-+._".contains(c);
    if !own.kernel.chars().all(is_of_package) {
        add(
            "distribution.kernel",
            format!("{:?} is no name of a package", own.kernel),
            "write it such as linux-image-amd64",
        );
    }
    let is_of_option = |c: char| c.is_ascii_alphanumeric() || " -._:/@%+=,*".contains(c);
    if let Some(c) = own.kernel_options.chars().find(|c| !is_of_option(*c)) {
        add(
            "distribution.kernel_options",
            format!("{:?} has {c:?}, which not every boot loader passes on", own.kernel_options),
            "write options such as `quiet console=ttyS0,115200`",
        );
    }
    let interface = &model.network.interface;
    if !interface.chars().all(|c| c.is_ascii_alphanumeric() || "-._:".contains(c)) || interface.len() > 15 {
        add(
            "network.interface",
            format!("{interface:?} is no name of an interface"),
            "write it such as enp1s0, or auto",
        );
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::Distribution;

    fn of_value(kind: &str, value: &str) -> Vec<Finding> {
        let mut model = Model::default();
        let key = "HKLM\\SOFTWARE\\Brackwater".into();
        model.registry.push(RegistryValue { key, name: "n".into(), kind: kind.into(), value: value.into() });
        let mut findings = Vec::new();
        check(&model, &mut findings);
        findings
    }

    #[test]
    fn numbers_are_numbers_of_their_width() {
        for (kind, value) in [
            ("dword", "0"),
            ("dword", "4294967295"),
            ("dword", "0xFFFFFFFF"),
            ("qword", "4294967296"),
            ("qword", "0x1ffffffffffff"),
            ("string", "five"),
            ("expand-string", "%TEMP%"),
        ] {
            assert_eq!(of_value(kind, value), [], "{kind} {value}");
        }
        for (kind, value) in [
            ("dword", ""),
            ("dword", "five"),
            ("dword", "-1"),
            ("dword", "+1"),
            ("dword", "0x+1"),
            ("dword", "4294967296"),
            ("dword", "0x100000000"),
            ("dword", "1 "),
            ("qword", "0x"),
            ("qword", "18446744073709551616"),
            ("number", "1"),
            ("string", "two\nlines"),
        ] {
            let found = of_value(kind, value);
            assert_eq!(found.len(), 1, "{kind} {value:?}: {found:?}");
            assert_eq!(found[0].topic, Topic::Value);
        }
    }

    #[test]
    fn keys_begin_with_a_root() {
        for key in ["SOFTWARE\\A", "HKLM", "HKLM\\", "HKXX\\A", ""] {
            let mut model = Model::default();
            let value = RegistryValue {
                key: key.into(),
                name: String::new(),
                kind: "string".into(),
                value: String::new(),
            };
            model.registry.push(value);
            let mut findings = Vec::new();
            check(&model, &mut findings);
            assert_eq!(findings.len(), 1, "{key}: {findings:?}");
        }
    }

    #[test]
    fn what_a_boot_loader_or_an_installer_would_take_apart_is_found() {
        let fields = |own: Distribution, interface: &str| -> Vec<String> {
            let mut model = Model { distribution: own, ..Model::default() };
            interface.clone_into(&mut model.network.interface);
            let mut findings = Vec::new();
            check(&model, &mut findings);
            findings.into_iter().map(|own| own.field).collect()
        };
        let good = Distribution {
            mirror: "http://mirror.example:8080/debian".into(),
            kernel: "linux-image-6.1.0-28-amd64".into(),
            kernel_options: "quiet console=ttyS0,115200n8".into(),
            recommends: Some(false),
            firmware: Some(true),
        };
        assert!(fields(good, "enp1s0").is_empty());
        for (mirror, kernel, options, interface, expected) in [
            ("mirror.example/debian", "", "", "", "distribution.mirror"),
            ("http://", "", "", "", "distribution.mirror"),
            ("http:///debian", "", "", "", "distribution.mirror"),
            ("http://a/b c", "", "", "", "distribution.mirror"),
            ("", "linux image", "", "", "distribution.kernel"),
            ("", "linux;reboot", "", "", "distribution.kernel"),
            ("", "", "quiet\nreboot", "", "distribution.kernel_options"),
            ("", "", "a=\"b\"", "", "distribution.kernel_options"),
            ("", "", "a$b", "", "distribution.kernel_options"),
            ("", "", "", "eth0 eth1", "network.interface"),
            ("", "", "", "an-interface-of-20-chars", "network.interface"),
        ] {
            let own = Distribution {
                mirror: mirror.into(),
                kernel: kernel.into(),
                kernel_options: options.into(),
                ..Distribution::default()
            };
            assert_eq!(fields(own, interface), [expected]);
        }
    }
}
