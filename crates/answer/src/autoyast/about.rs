//! Where the installer looks for the file, and how it is known.

use crate::face::{About, AnswersAt, Kernel, Rules};

/// Name of the file in a media's root.
const FILE: &str = "autoinst.xml";

pub(super) const ABOUT: About = About {
    places: &[FILE],
    companions: &[],
    kernel: Some(Kernel {
        file: FILE,
        initrd_name: Some(FILE),
        addresses: &["autoinst.xml", "autoyast.xml"],
        always: &[],
        option_for_root: "autoyast=device://sr0/autoinst.xml",
        options,
        source: Some("install="),
    }),
    rules: Rules::LINUX,
    likeness,
    looks_secret,
    // The media has no place of its own while scripts of the installer run.
    chooser: || None,
};

fn options(at: &AnswersAt<'_>) -> Vec<String> {
    vec![match at {
        AnswersAt::Initrd => format!("autoyast=file:///{FILE}"),
        AnswersAt::Media { folder, label } => format!("autoyast=label://{label}/{folder}{FILE}"),
        AnswersAt::Address(address) => format!("autoyast={address}"),
    }]
}

fn likeness(text: &str) -> u8 {
    if text.contains("<profile") && text.contains(super::NAMESPACE) { 4 } else { 0 }
}

fn looks_secret(lower: &str) -> bool {
    ["<user_password>", "<wireless_wpa_psk>", "password>"].iter().any(|word| {
        let after = lower.split(word).skip(1);
        after.filter_map(|rest| rest.trim_start().chars().next()).any(|first| first != '<')
    })
}
