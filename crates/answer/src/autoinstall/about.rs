//! Where the installer looks for the file, how it is known, and what chooses among several.

use crate::face::{About, AnswersAt, Chooser, Kernel, Rules};

pub(super) const ABOUT: About = About {
    places: &["user-data", "autoinstall.yaml"],
    companions: &["meta-data"],
    kernel: Some(Kernel {
        file: "user-data",
        initrd_name: None,
        addresses: &["", "user-data", ".yaml"],
        always: &[],
        option_for_root: "autoinstall ds=nocloud;s=/cdrom/",
        options,
        source: Some("url="),
    }),
    rules: Rules::LINUX,
    likeness,
    looks_secret,
    is_long: crate::shell::is_long,
    chooser: || Some(chooser()),
};

/// The source is a folder, in which both files have their fixed names.
fn options(at: &AnswersAt<'_>) -> Vec<String> {
    let source = match at {
        AnswersAt::Initrd => return Vec::new(),
        AnswersAt::Media { folder, .. } => format!("/cdrom/{folder}"),
        AnswersAt::Address(address) => {
            format!("{}/", address.trim_end_matches("/user-data").trim_end_matches('/'))
        }
    };
    vec!["autoinstall".into(), format!("ds=nocloud;s={source}")]
}

fn likeness(text: &str) -> u8 {
    let mut lines = text.lines().map(str::trim);
    let is_one = text.lines().next().is_some_and(|line| line.trim() == "#cloud-config")
        || lines.any(|line| line == "autoinstall:");
    if is_one { 3 } else { 0 }
}

fn looks_secret(lower: &str) -> bool {
    crate::lines_that_count(lower).any(|line| {
        line.split_once(':').is_some_and(|(key, value)| {
            let value = value.trim().trim_matches(['"', '\'']);
            ["passw", "passphrase", "secret"].iter().any(|word| key.contains(word)) && !value.is_empty()
        })
    })
}

fn chooser() -> Chooser {
    let (folder, serial) = (Chooser::FOLDER, Chooser::SERIAL);
    let text = format!(
        "#cloud-config\n\
         # Takes the answers of this machine by its serial number; without them the installer asks.\n\
         autoinstall:\n  version: 1\n  interactive-sections:\n    - \"*\"\n  early-commands:\n    \
         - s={serial}; if [ -e /cdrom/{folder}/$s.yaml ]; then cp /cdrom/{folder}/$s.yaml /autoinstall.yaml; fi\n"
    );
    Chooser::new(".yaml", &[(ABOUT.places[0], &text)])
}
