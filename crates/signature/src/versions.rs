//! What an application says of its parts: section `.sbat`, as the loaders' own public description has it. Each line
//! names a part, its security version, and who maintains it.

use crate::pe::Loader;
use serde::Serialize;

/// A part of an application.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct SecurityVersion {
    /// The part.
    pub part: String,
    /// Its security version, which rises when something dangerous was put right.
    pub version: u32,
}

pub(crate) fn read(loader: &Loader<'_>) -> Vec<SecurityVersion> {
    let Some(bytes) = loader.section(b".sbat") else { return Vec::new() };
    let text = String::from_utf8_lossy(bytes);
    let lines = text.trim_end_matches('\0').lines();
    lines
        .filter_map(|line| {
            let (part, rest) = line.split_once(',')?;
            let version = rest.split(',').next()?.trim().parse().ok()?;
            Some(SecurityVersion { part: part.to_owned(), version })
        })
        .collect()
}
