//! Reading a UDF volume's tree.

use super::{
    address::{Extent, check_tag},
    allocation::IcbFile,
    cs0,
    layout::{
        FID_DELETED, FID_DIRECTORY, FID_HIDDEN, FID_PARENT, FILE_TYPE_BYTES, FILE_TYPE_DIRECTORY,
        FILE_TYPE_LINK, FileIdentifier, LbAddr, TAG_FILE_IDENTIFIER,
    },
    volume::Volume,
};
use crate::Limits;
use neat_content::{
    Content, Error, Folder, Meta, NodeId, NodeKind, Piece, ReadAt, Result, Source, Tree, Windowed,
    check_name, read_vec,
};
use std::{collections::HashSet, sync::Arc};
use zerocopy::FromBytes;

/// Longest target of a symbolic link, in bytes.
const MAX_LINK_LEN: u64 = 64 * 1024;

/// What reading gives.
pub(crate) struct ReadVolume {
    pub tree: Tree,
    pub label: String,
    pub revision: u16,
    pub warnings: Vec<String>,
}

/// Reads the volume in `source`.
pub(crate) fn read(source: &Arc<Source>, limits: &Limits) -> Result<ReadVolume> {
    let volume = Volume::open(Windowed::new(Arc::clone(source)))?;
    let root = volume.icb(volume.root, 0)?;
    if root.file_type != FILE_TYPE_DIRECTORY {
        return Err(Error::bad_field("IcbTag", "file_type", 0, "a directory for the root", root.file_type));
    }
    let mut reader = TreeReader {
        source,
        tree: Tree::new(Meta { modified: root.modified, mode: Some(mode(root.permissions)), hidden: false }),
        visited: HashSet::from([key(volume.root)]),
        pending: vec![(Tree::ROOT, root)],
        warnings: Vec::new(),
        volume,
        limits,
    };
    while let Some((node, icb)) = reader.pending.pop() {
        reader
            .read_folder(node, &icb)
            .map_err(|error| error.within(format!("/{}", reader.tree.path(node))))?;
    }
    let TreeReader { tree, volume, warnings, .. } = reader;
    Ok(ReadVolume { tree, label: volume.label, revision: volume.revision, warnings })
}

const fn key(address: LbAddr) -> (u16, u32) {
    (address.partition.get(), address.block.get())
}

/// POSIX permission bits of UDF's (ECMA-167 4/14.9.5): five bits each, execute lowest, then write, read.
fn mode(permissions: u32) -> u16 {
    let three = |shift: u32| (permissions >> shift & 7) as u16;
    three(10) << 6 | three(5) << 3 | three(0)
}

impl<R: ReadAt> Volume<R> {
    fn icb(&self, address: LbAddr, at: u64) -> Result<IcbFile> {
        IcbFile::read(&self.reader, &self.maps, self.block_size, address, at)
    }
}

struct TreeReader<'a> {
    source: &'a Arc<Source>,
    volume: Volume<Windowed<Arc<Source>>>,
    tree: Tree,
    visited: HashSet<(u16, u32)>,
    pending: Vec<(NodeId, IcbFile)>,
    warnings: Vec<String>,
    limits: &'a Limits,
}

impl TreeReader<'_> {
    fn extents(&self, icb: &IcbFile) -> Result<Vec<Extent>> {
        icb.extents(&self.volume.reader, &self.volume.maps, self.volume.block_size, self.limits.extents)
    }

    fn bytes(&self, icb: &IcbFile, limit: u64, what: &str) -> Result<(Vec<u8>, Vec<Extent>)> {
        if icb.len > limit {
            return Err(Error::Limit {
                what: format!("size in bytes of a {what}"),
                offset: 0,
                limit,
                found: icb.len,
            });
        }
        let extents = self.extents(icb)?;
        let mut bytes = Vec::new();
        for extent in &extents {
            match extent.offset {
                Some(offset) => bytes.extend(read_vec(&self.volume.reader, offset, extent.len, limit, what)?),
                None => bytes.resize(bytes.len() + extent.len as usize, 0),
            }
        }
        Ok((bytes, extents))
    }

    fn read_folder(&mut self, node: NodeId, icb: &IcbFile) -> Result<()> {
        let (bytes, extents) = self.bytes(icb, self.limits.directory, "directory")?;
        let mut position = 0;
        while bytes.len() - position >= size_of::<FileIdentifier>() {
            let at = position_in(&extents, position as u64);
            check_tag(&bytes[position..], at, Some(TAG_FILE_IDENTIFIER))?;
            let Ok((fid, rest)) = FileIdentifier::read_from_prefix(&bytes[position..]) else { break };
            let skip = usize::from(fid.implementation_use_length.get());
            let name_len = usize::from(fid.identifier_length);
            let name = rest.get(skip..skip + name_len).ok_or_else(|| {
                Error::bad_field(
                    "FileIdentifier",
                    "identifier_length",
                    at + 19,
                    format!("at most {}", rest.len().saturating_sub(skip)),
                    name_len,
                )
            })?;
            // Each descriptor is padded to a multiple of four bytes (ECMA-167 4/14.4.9).
            position += (size_of::<FileIdentifier>() + skip + name_len).next_multiple_of(4);
            position = position.min(bytes.len());
            if fid.characteristics & (FID_PARENT | FID_DELETED) == 0 {
                self.read_entry(node, &fid, name, at)?;
            }
        }
        Ok(())
    }

    fn read_entry(&mut self, parent: NodeId, fid: &FileIdentifier, name: &[u8], at: u64) -> Result<()> {
        let bad_name = |expected: &str, found: String| {
            Error::bad_field("FileIdentifier", "file_identifier", at + 38, expected, found)
        };
        let name =
            cs0::decode(name).ok_or_else(|| bad_name("OSTA compressed Unicode", format!("{name:?}")))?;
        check_name(&name).map_err(|expected| bad_name(expected, format!("{name:?}")))?;
        let address = fid.icb.location;
        let icb = self.volume.icb(address, at + 24).map_err(|error| error.within(&name))?;
        let hidden = fid.characteristics & FID_HIDDEN != 0;
        let meta = Meta { modified: icb.modified, mode: Some(mode(icb.permissions)), hidden };
        if self.tree.child(parent, &name).is_some() {
            let folder = self.tree.path(parent);
            let slash = if folder.is_empty() { "" } else { "/" };
            self.warnings.push(format!("a second /{folder}{slash}{name} is left out"));
            return Ok(());
        }
        self.limits.check_entries(self.tree.capacity(), at)?;
        let is_folder = icb.file_type == FILE_TYPE_DIRECTORY;
        if is_folder != (fid.characteristics & FID_DIRECTORY != 0) {
            return Err(Error::bad_field(
                "FileIdentifier",
                "characteristics",
                at + 18,
                "the same kind as the file entry says",
                fid.characteristics,
            ));
        }
        match icb.file_type {
            FILE_TYPE_DIRECTORY => {
                if !self.visited.insert(key(address)) {
                    return Err(Error::Loop { what: format!("directory {name}"), offset: at });
                }
                let node = self.tree.add(parent, &name, meta, NodeKind::Folder(Folder::default()))?;
                self.pending.push((node, icb));
            }
            FILE_TYPE_LINK => {
                let (bytes, _) = self.bytes(&icb, MAX_LINK_LEN, "symbolic link")?;
                self.tree.add(parent, &name, meta, NodeKind::Link(link_target(&bytes)))?;
            }
            // 0 is "not specified", which some writers use for ordinary files.
            0 | FILE_TYPE_BYTES => {
                let pieces =
                    self.extents(&icb).map_err(|error| error.within(&name))?.into_iter().map(|extent| {
                        match extent.offset {
                            Some(offset) => {
                                Piece::Extent { source: Arc::clone(self.source), offset, len: extent.len }
                            }
                            None => Piece::Zeros(extent.len),
                        }
                    });
                let content = Content::from_pieces(pieces)?;
                self.tree.add(parent, &name, meta, NodeKind::File(content))?;
            }
            other => self.warnings.push(format!("{name} is of file type {other} and left out")),
        }
        Ok(())
    }
}

/// Where byte `position` of a directory lies in the file that holds the volume.
fn position_in(extents: &[Extent], position: u64) -> u64 {
    let mut left = position;
    for extent in extents {
        if left < extent.len {
            return extent.offset.unwrap_or(0) + left;
        }
        left -= extent.len;
    }
    0
}

/// Path of a symbolic link from its path components (ECMA-167 4/14.16).
fn link_target(bytes: &[u8]) -> String {
    let mut target = String::new();
    let mut rest = bytes;
    while let [kind, len, _, _, after @ ..] = rest {
        let Some(name) = after.get(..usize::from(*len)) else { break };
        rest = &after[name.len()..];
        if !target.is_empty() && !target.ends_with('/') {
            target.push('/');
        }
        match kind {
            1 | 2 => "/".clone_into(&mut target),
            3 => target.push_str(".."),
            4 => target.push('.'),
            _ => target.push_str(&cs0::decode(name).unwrap_or_default()),
        }
    }
    target
}

/// Path components of a symbolic link.
pub(crate) fn link_components(target: &str) -> Vec<u8> {
    let mut bytes = Vec::new();
    if target.starts_with('/') {
        bytes.extend([2, 0, 0, 0]);
    }
    for part in target.split('/').filter(|part| !part.is_empty()) {
        match part {
            "." => bytes.extend([4, 0, 0, 0]),
            ".." => bytes.extend([3, 0, 0, 0]),
            name => {
                let name = cs0::encode_within(name, 255);
                bytes.extend([5, name.len() as u8, 0, 0]);
                bytes.extend(name);
            }
        }
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_survive() {
        for target in ["a/b", "/usr/lib/x", "../up/./here", "航/ü"] {
            assert_eq!(link_target(&link_components(target)), target);
        }
        assert_eq!(link_target(&[5, 200, 0, 0, 8]), "");
    }
}
