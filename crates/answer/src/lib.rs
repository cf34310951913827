//! Answer files: what setup asks and what it is told.
//!
//! The neutral form is a [`Model`]. A [`Dialect`] reads its files into it and writes it; a file that is there is only
//! changed where the model differs from what the file says. [`check_file`] and [`check_model`] say what is wrong and
//! what will be erased.
//!
//! ```
//! use neat_answer::{AnswerFile, Dialect, Model, Secrets, check_file, write_model};
//!
//! let model = Model::parse("title = \"Deck\"\n[machine]\nname = \"DECK-01\"\n[language]\nsetup = \"nb-NO\"\n")?;
//! let preseed = write_model(&model, Dialect::Preseed, &mut Secrets::default())?;
//! assert!(preseed.text.contains("d-i netcfg/get_hostname string DECK-01"));
//!
//! // Any dialect is read back into the same form, and checked by its own rules.
//! let file = AnswerFile::parse(&preseed.bytes)?;
//! assert_eq!(file.dialect, Dialect::Preseed);
//! assert_eq!(neat_answer::read_file(&file)?.model.machine.name, "DECK-01");
//! assert!(!check_file(&file, None).has_problems());
//! # Ok::<(), neat_content::Error>(())
//! ```

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

mod autoinstall;
mod autoyast;
mod check;
pub mod command_line;
mod describe;
mod dialect;
mod disks;
mod edit;
mod face;
mod file;
mod finding;
mod kickstart;
mod limits;
pub mod model;
mod offer;
mod pieces;
mod preseed;
mod privacy;
mod registry;
mod report;
mod shell;
mod sif;
mod sites;
mod starter;
mod tables;
mod topic;
mod unattend;
mod write;
mod xml;

pub use check::{EditionFact, Erasure, MediaFacts};
pub use describe::describe;
pub use dialect::Dialect;
pub use edit::{Change, change_commands};
pub use face::{AnswersAt, Chooser, Kernel, Reading, SideFile, Written};
pub use file::AnswerFile;
pub use finding::{Finding, Gravity};
pub use limits::Limits;
pub use model::{Model, Secrets, Vault};
pub use offer::{Offer, Offered};
pub use privacy::{content_holds_secret, holds_secret, tree_holds_secret};
pub use registry::{answer_files, text_of};
pub use report::{Report, check_file, check_model, check_written, read_file};
pub use sites::{Site, SiteList, is_no_serial, serial_name};
pub use starter::{Known, starter};
pub use tables::{language_of_id, language_tags, zones as time_zones};
pub use topic::Topic;
pub use unattend::{join as join_architectures, servicing};
pub use write::{WrittenFile, fetch, write_model, write_with};

/// Stands in a comment of files whose model says that erasing is meant.
pub(crate) const ERASES_MARK: &str = "Neat Stack: erases = \"yes\"";

/// A text of lines with or without that mark, after its first line if that is a comment.
pub(crate) fn set_mark(text: &str, erases: model::Erases) -> String {
    set_mark_behind('#', text, erases)
}

/// The same where comments begin with another sign.
pub(crate) fn set_mark_behind(sign: char, text: &str, erases: model::Erases) -> String {
    let is_marked = text.contains(ERASES_MARK);
    if is_marked == (erases == model::Erases::Yes) {
        return text.to_owned();
    }
    if is_marked {
        return text.split_inclusive('\n').filter(|line| !line.contains(ERASES_MARK)).collect();
    }
    let line_end = if text.contains("\r\n") { "\r\n" } else { "\n" };
    let first = if text.starts_with(sign) { text.find('\n').map_or(text.len(), |at| at + 1) } else { 0 };
    let (head, rest) = text.split_at(first);
    let gap = if head.is_empty() || head.ends_with('\n') { "" } else { line_end };
    format!("{head}{gap}{sign} {ERASES_MARK}{line_end}{rest}")
}

/// Lines that are no comments, of the dialects that have lines.
pub(crate) fn lines_that_count(text: &str) -> impl Iterator<Item = &str> {
    text.lines().map(str::trim).filter(|line| !line.starts_with('#'))
}

/// `255.255.255.0` of `24`.
pub(crate) fn netmask(prefix: &str) -> String {
    let len: u32 = prefix.parse().unwrap_or(24).min(32);
    let mask = u32::MAX.checked_shl(32 - len).unwrap_or(0);
    std::net::Ipv4Addr::from(mask).to_string()
}

/// `24` of `255.255.255.0`.
pub(crate) fn prefix_len(netmask: &str) -> u32 {
    netmask.parse::<std::net::Ipv4Addr>().map_or(24, |mask| u32::from(mask).leading_ones())
}
