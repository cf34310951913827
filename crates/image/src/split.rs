//! Image files in parts that fit on file systems with small files, and back.

use crate::{
    BlobDigest, ImageDraft, ImageFile, Packing, Stored,
    layout::{FLAG_READONLY, FLAG_REPARSE_FIX, HEADER_LEN, INTEGRITY_CHUNK, TABLE_ENTRY_LEN},
    pack::RawBlob,
    part_write::{Body, PartPlan, Resource, write_part},
    sink::Gather,
    xml,
};
use neat_content::{Advice, Content, Error, Job, Result};
use std::{collections::HashMap, path::Path, sync::Arc};

/// Largest part that FAT32 and its readers hold without trouble: a little less than 4 GiB, in bytes.
pub const FAT32_LIMIT: u64 = 3800 << 20;

/// The name of part `number` (from 1) by the usual rule: `install.swm`, `install2.swm`, ….
pub fn part_name(first: &str, number: usize) -> String {
    if number == 1 {
        return first.to_owned();
    }
    match first.rsplit_once('.') {
        Some((stem, ending)) => format!("{stem}{number}.{ending}"),
        None => format!("{first}{number}"),
    }
}

/// What lies together and is never cut: a blob, or a solid resource with all its blobs.
struct Unit {
    len: u64,
    blobs: Vec<Resource>,
}

/// Splits an image file into parts of at most `limit` bytes each. Nothing is decompressed, no blob is cut, the trees of
/// all editions are in the first part. Fails before anything is written if a blob alone is larger.
///
/// # Errors
/// `BadRequest` when a blob is larger than `limit` or solid; `Corrupt` where a tree cannot be read.
pub fn split(image: &ImageFile, limit: u64, job: &Job<'_>) -> Result<Vec<Content>> {
    let header = image.header();
    let count = image.editions().len();
    let metadata: Vec<Resource> = (1..=count)
        .map(|number| {
            let (digest, stored) = image.metadata(number)?;
            Ok(Resource {
                digest,
                references: 1,
                raw_len: stored.raw_len,
                body: Body::Kept(stored.clone()),
                tree_of: Some(number),
            })
        })
        .collect::<Result<_>>()?;
    let xml_len = xml::encode(&image.xml().to_text()).len() as u64 + 64;
    let integrity_len =
        if header.has_integrity() { 12 + 20 * (limit / u64::from(INTEGRITY_CHUNK) + 1) } else { 0 };
    let overhead = HEADER_LEN + xml_len + integrity_len;
    let entry_len = TABLE_ENTRY_LEN as u64;
    let trees_len: u64 = metadata.iter().map(|tree| kept_len(tree) + entry_len).sum();
    if overhead + trees_len > limit {
        return Err(Error::request(
            format!(
                "the first part needs {} bytes for the editions' trees alone, and the limit is {limit}",
                overhead + trees_len
            ),
            "use a larger limit or keep fewer editions",
        ));
    }
    let mut parts: Vec<Vec<Resource>> = vec![Vec::new()];
    let mut used = overhead + trees_len;
    for unit in units(image) {
        let len = unit.len + entry_len * (unit.blobs.len() as u64 + 1);
        if overhead + len > limit {
            return Err(too_large(image, &unit, limit));
        }
        if used + len > limit {
            parts.push(Vec::new());
            used = overhead;
        }
        used += len;
        if let Some(part) = parts.last_mut() {
            part.extend(unit.blobs);
        }
    }
    let total = u16::try_from(parts.len()).map_err(|_| {
        Error::request(
            format!("{} parts would be needed, and there can be 65,535", parts.len()),
            "use a larger limit",
        )
    })?;
    let mut metadata = Some(metadata);
    let mut contents = Vec::with_capacity(parts.len());
    for (n, blobs) in parts.into_iter().enumerate() {
        let plan = PartPlan {
            flags: header.flags & (FLAG_READONLY | FLAG_REPARSE_FIX),
            declared: header.compression,
            compression: None,
            solid: None,
            guid: header.guid,
            part: n as u16 + 1,
            parts: total,
            editions: count as u32,
            boot: header.boot,
            blobs,
            metadata: metadata.take().unwrap_or_default(),
            xml: image.xml().clone(),
            integrity: header.has_integrity(),
        };
        // Nothing is compressed, so nothing large is held.
        let mut gather = Gather::new(Path::new("."));
        write_part(&plan, 1, &mut gather, job)?;
        contents.push(gather.finish()?);
    }
    Ok(contents)
}

fn kept_len(resource: &Resource) -> u64 {
    match &resource.body {
        Body::Kept(stored) => stored.bytes.len(),
        _ => resource.raw_len,
    }
}

/// All blobs in the order of the file.
fn units(image: &ImageFile) -> Vec<Unit> {
    let mut units: Vec<((usize, u64), Unit)> = Vec::new();
    let mut solids: HashMap<*const crate::Solid, usize> = HashMap::new();
    let mut listed: Vec<_> = image.blobs().collect();
    listed.sort_by_key(|(digest, blob)| {
        let place = match &blob.stored.packing {
            Packing::Solid { group, start } => (group.offset(), *start),
            _ => (blob.stored.offset, 0),
        };
        (blob.part, place, *digest)
    });
    for (digest, blob) in listed {
        let stored = &blob.stored;
        let resource = Resource {
            digest,
            references: blob.references,
            raw_len: stored.raw_len,
            body: Body::Kept(stored.clone()),
            tree_of: None,
        };
        if let Packing::Solid { group, .. } = &stored.packing {
            let index = *solids.entry(Arc::as_ptr(group)).or_insert_with(|| {
                units
                    .push(((blob.part, group.offset()), Unit { len: group.packed_len(), blobs: Vec::new() }));
                units.len() - 1
            });
            units[index].1.blobs.push(resource);
        } else {
            units.push(((blob.part, stored.offset), Unit { len: stored.bytes.len(), blobs: vec![resource] }));
        }
    }
    units.into_iter().map(|(_, unit)| unit).collect()
}

fn too_large(image: &ImageFile, unit: &Unit, limit: u64) -> Error {
    let what = match unit.blobs.as_slice() {
        [blob] if !matches!(&blob.body, Body::Kept(Stored { packing: Packing::Solid { .. }, .. })) => {
            path_of(image, blob.digest).unwrap_or_else(|| blob.name())
        }
        _ => "a solid resource".to_owned(),
    };
    Error::request(
        format!("{what} takes {} bytes, and a part may have {limit}; a file inside is never cut", unit.len),
        Advice::RepackFirst,
    )
}

/// Edition and path of a file that has this content.
fn path_of(image: &ImageFile, digest: BlobDigest) -> Option<String> {
    (1..=image.editions().len()).find_map(|number| {
        let files = image.files(number).ok()?;
        let id = files.ids().find(|id| files.entry(*id).digests().any(|own| own == digest))?;
        Some(format!("/{} in edition {number}", files.path(id)))
    })
}

/// One image file from all its parts, as lazy content.
///
/// # Errors
/// `BadRequest` for an image file that is not in parts; `Corrupt` where a tree cannot be read.
pub fn join(image: &ImageFile, job: &Job<'_>) -> Result<Content> {
    let mut gather = Gather::new(Path::new("."));
    write_part(&joined_plan(image)?, 1, &mut gather, job)?;
    gather.finish()
}

fn joined_plan(image: &ImageFile) -> Result<PartPlan> {
    let mut plan = ImageDraft::of(image).plan()?;
    // The same file in another form keeps its GUID.
    plan.guid = image.header().guid;
    Ok(plan)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parts_are_named_by_the_usual_rule() {
        assert_eq!(part_name("install.swm", 1), "install.swm");
        assert_eq!(part_name("install.swm", 2), "install2.swm");
        assert_eq!(part_name("install", 12), "install12");
    }
}
