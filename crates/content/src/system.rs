//! What only Linux has, or has in this form: reading and writing at positions, holes, copies that the kernel makes, locks,
//! names that are given without replacing others.

#[cfg(not(target_os = "linux"))]
compile_error!(
    "neat-content finds holes, lets the kernel copy, and gives names that replace nothing, by calls that only Linux has; \
     another system wants its own `system.rs`"
);

pub(crate) use rustix::{
    fs::{
        Advice as PageAdvice, CWD, FlockOperation, OFlags, RenameFlags, SeekFrom, copy_file_range, fadvise,
        flock, renameat_with, seek,
    },
    io::Errno,
};
pub(crate) use std::os::unix::fs::{FileExt, FileTypeExt, MetadataExt, OpenOptionsExt, PermissionsExt};
