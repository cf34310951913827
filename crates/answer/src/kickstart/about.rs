//! Where the installer looks for the file, how it is known, and what chooses among several.

use crate::face::{About, AnswersAt, Chooser, Kernel, Rules};

pub(super) const ABOUT: About = About {
    places: &["ks.cfg"],
    companions: &[],
    kernel: Some(Kernel {
        file: "ks.cfg",
        initrd_name: Some("ks.cfg"),
        addresses: &[".ks", "ks.cfg"],
        always: &[],
        option_for_root: "inst.ks=cdrom:/ks.cfg",
        options,
        source: Some("inst.repo="),
    }),
    rules: Rules::LINUX,
    likeness,
    looks_secret,
    is_long: |_| false,
    chooser: || Some(chooser()),
};

fn options(at: &AnswersAt<'_>) -> Vec<String> {
    vec![match at {
        AnswersAt::Initrd => "inst.ks=file:/ks.cfg".to_owned(),
        AnswersAt::Media { folder, label } => {
            format!("inst.ks=hd:LABEL={}:/{folder}ks.cfg", label.replace(' ', "\\x20"))
        }
        AnswersAt::Address(address) => format!("inst.ks={address}"),
    }]
}

/// Commands and sections that most files have.
const COMMANDS: [&str; 13] = [
    "%packages",
    "rootpw ",
    "clearpart ",
    "autopart",
    "timezone ",
    "lang ",
    "keyboard ",
    "bootloader",
    "user ",
    "part ",
    "network ",
    "%post",
    "%pre",
];

fn likeness(text: &str) -> u8 {
    let has = |command: &&&str| text.lines().any(|line| line.trim().starts_with(**command));
    u8::from(COMMANDS.iter().filter(has).count() >= 2)
}

fn looks_secret(lower: &str) -> bool {
    crate::lines_that_count(lower).any(|line| {
        let has_value =
            |option: &str| line.split_once(option).is_some_and(|(_, value)| !value.trim().is_empty());
        let is_root = line
            .strip_prefix("rootpw")
            .is_some_and(|rest| rest.split_whitespace().any(|word| !word.starts_with("--")));
        is_root || ["--password", "--wpakey", "--passphrase"].iter().any(|option| has_value(option))
    })
}

fn chooser() -> Chooser {
    let (folder, serial) = (Chooser::FOLDER, Chooser::SERIAL);
    let text = format!(
        "# Takes the answers of this machine by its serial number; without them the installation stops.\n\
         %include /tmp/neatstack-site.ks\n\
         %pre --erroronfail\n\
         cp \"/run/install/repo/{folder}/{serial}.ks\" /tmp/neatstack-site.ks\n\
         %end\n"
    );
    Chooser::new(".ks", &[(ABOUT.places[0], &text)])
}
