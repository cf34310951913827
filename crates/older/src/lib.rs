//! Media of the generation before image files: a folder for each architecture, with single compressed files, described by
//! information files in INI form. Setup copies them to the disk in a phase of text, and goes on from there.
//!
//! [`OlderSetup::find`] tells what such a media is; [`recompress`] makes its compressed files as small as they can be;
//! [`FileVersion`] is what a program says of its version.

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

mod additions;
mod integrate;
mod media;
mod package;
mod recompress;
mod text;
mod text_phase;
mod version;

pub use additions::{AddedFolder, Additions};
pub use integrate::{Integrated, integrate, note_service_pack, stage_fix};
pub use media::OlderSetup;
pub use package::{OlderKind, OlderPackage};
pub use recompress::{Recompressed, recompress};
pub use text_phase::{TextDriver, add_text_driver};
pub use version::FileVersion;
