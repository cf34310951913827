//! Path tables of a changed ECMA-119 tree.

use super::{
    SECTOR,
    draft::{Draft, Fresh},
    iso::IsoTree,
};
use crate::iso9660::layout::{BothU32, PathTableRecordL, PathTableRecordM};
use neat_content::Result;
use zerocopy::IntoBytes;

/// Positions of fields in a volume descriptor (ECMA-119 8.4).
const SIZE_AT: u64 = 132;
const LITTLE_AT: u64 = 140;
const BIG_AT: u64 = 148;

/// Makes new tables in fresh space from the directories as they are.
pub(super) fn rebuild(tree: &IsoTree, draft: &mut Draft) -> Result<()> {
    let (mut little, mut big) = (Vec::new(), Vec::new());
    for (location, parent, identifier) in tree.directory_list(draft)? {
        let (identifier_length, extended_attribute_length) = (identifier.len() as u8, 0);
        let (location_le, parent_le) = (location.0.into(), parent.into());
        let row = PathTableRecordL {
            identifier_length,
            extended_attribute_length,
            location: location_le,
            parent: parent_le,
        };
        little.extend(row.as_bytes());
        let (location, parent) = (location.0.into(), parent.into());
        big.extend(
            PathTableRecordM { identifier_length, extended_attribute_length, location, parent }.as_bytes(),
        );
        for table in [&mut little, &mut big] {
            table.extend(&identifier);
            table.resize(table.len().next_multiple_of(2), 0);
        }
    }
    let len = little.len() as u32;
    let little_at = draft.append(Fresh::Bytes(little), SECTOR) / tree.block;
    let big_at = draft.append(Fresh::Bytes(big), SECTOR) / tree.block;
    for at in &tree.descriptors {
        draft.write(at + SIZE_AT, BothU32::from(len).as_bytes())?;
        // The second copy that may follow each is given up: none is as good as one that says the same.
        draft.write(at + LITTLE_AT, &(little_at as u32).to_le_bytes())?;
        draft.write(at + LITTLE_AT + 4, &[0; 4])?;
        draft.write(at + BIG_AT, &(big_at as u32).to_be_bytes())?;
        draft.write(at + BIG_AT + 4, &[0; 4])?;
    }
    Ok(())
}
