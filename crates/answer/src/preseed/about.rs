//! Where the installer looks for the file, how it is known, and what chooses among several.

use crate::face::{About, AnswersAt, Chooser, Kernel, Rules};

pub(super) const ABOUT: About = About {
    places: &["preseed.cfg"],
    companions: &[],
    kernel: Some(Kernel {
        file: "preseed.cfg",
        initrd_name: Some("preseed.cfg"),
        addresses: &["preseed.cfg"],
        always: &[],
        option_for_root: "auto=true priority=critical file=/cdrom/preseed.cfg",
        options,
        source: None,
    }),
    rules: Rules::LINUX,
    likeness,
    looks_secret,
    is_long: crate::shell::is_long,
    chooser: || Some(chooser()),
};

fn options(at: &AnswersAt<'_>) -> Vec<String> {
    let place = match at {
        // It is found there without being told. Asking later, as `auto` does for answers that come later, would lose the
        // keyboard and the language, which are known already.
        AnswersAt::Initrd => return vec!["priority=critical".to_owned()],
        AnswersAt::Media { folder, .. } => format!("file=/cdrom/{folder}preseed.cfg"),
        AnswersAt::Address(address) => format!("url={address}"),
    };
    vec!["auto=true".to_owned(), "priority=critical".to_owned(), place]
}

/// Types of debconf's questions.
const TYPES: [&str; 6] = ["string", "boolean", "select", "multiselect", "password", "note"];

/// Owner, question, type and value: the four columns of debconf's answers.
fn likeness(text: &str) -> u8 {
    let is_debconf = |line: &str| {
        let words: Vec<&str> = line.split_whitespace().take(4).collect();
        words.len() >= 3 && !words[0].starts_with('#') && words[1].contains('/') && TYPES.contains(&words[2])
    };
    if text.lines().map(str::trim).any(is_debconf) { 2 } else { 0 }
}

fn looks_secret(lower: &str) -> bool {
    crate::lines_that_count(lower).any(|line| {
        let mut words = line.split_whitespace().skip(2);
        words.next() == Some("password") && words.next().is_some()
    })
}

fn chooser() -> Chooser {
    let (folder, serial) = (Chooser::FOLDER, Chooser::SERIAL);
    let text = format!(
        "# Takes the answers of this machine by its serial number; without them the installer asks.\n\
         d-i preseed/include_command string s={serial}; [ -e /cdrom/{folder}/$s.cfg ] && echo {folder}/$s.cfg || true\n"
    );
    Chooser::new(".cfg", &[(ABOUT.places[0], &text)])
}
