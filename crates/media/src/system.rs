//! What only systems of the Unix family have, or have in this form: modes and links of files, locks, writing at positions.

#[cfg(not(unix))]
compile_error!(
    "neat-media writes modes, symbolic links and parts of files by calls that only Unix-like systems have; another system \
     wants its own `system.rs`"
);

pub(crate) use rustix::fs::{FlockOperation, flock};
pub(crate) use std::os::unix::fs::{FileExt, MetadataExt, PermissionsExt, symlink};
