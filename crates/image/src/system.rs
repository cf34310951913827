//! What only Linux has: attributes that file systems and servers of other systems keep beside files.

#[cfg(not(target_os = "linux"))]
compile_error!(
    "neat-image captures attributes and holes of files by calls that only Linux has; another system wants its own `system.rs`"
);

use std::path::Path;

pub(crate) use std::os::unix::fs::MetadataExt;

/// The value of an extended attribute of a file, or of a link itself, cut to `buffer`.
pub(crate) fn extended_attribute<'a>(path: &Path, name: &str, buffer: &'a mut [u8]) -> Option<&'a [u8]> {
    let len = rustix::fs::lgetxattr(path, name, &mut *buffer).ok()?;
    buffer.get(..len)
}
