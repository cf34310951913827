//! Images of whole disks, read and never written.
//!
//! [`open_path`] takes a disk as it is (raw, a block device) and the forms in which virtual machines keep theirs: qcow2,
//! VHD, VHDX, VMDK. What comes back is [`Content`], whose bytes are found when they are read.
//!
//! A disk that stands on another one finds it beside itself: the name in it must lead to the same folder or one below,
//! so that what a stranger's file names is never read elsewhere.

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

mod map;
mod open;
mod qcow2;
mod vhd;
mod vhdx;
mod vhdx_log;
mod vmdk;

pub use open::{is_own_form, open_content, open_path};

use neat_content::Content;
use std::fmt;

/// A disk.
#[derive(Clone, Debug)]
pub struct Disk {
    /// Its bytes.
    pub content: Content,
    /// The form in which it is kept.
    pub form: Form,
    /// What is unusual about it.
    pub notes: Vec<String>,
}

/// The form in which a disk is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Form {
    /// Byte after byte.
    Raw,
    /// qcow2.
    Qcow2,
    /// VHD, of fixed size, growing, or standing on another.
    Vhd,
    /// VHDX.
    Vhdx,
    /// VMDK, in one file or several.
    Vmdk,
}

impl fmt::Display for Form {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Raw => "raw",
            Self::Qcow2 => "qcow2",
            Self::Vhd => "VHD",
            Self::Vhdx => "VHDX",
            Self::Vmdk => "VMDK",
        })
    }
}
