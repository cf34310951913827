//! The frame of a cabinet ([MS-CAB] 2), walked by ourselves before the library reads it: every folder, file and data
//! block lies inside the cabinet, and every file inside the bytes of its folder.

use neat_content::{Content, Error, ReadAt, Result};

/// Length of CFHEADER without its optional fields ([MS-CAB] 2.1).
const HEADER_LEN: u64 = 36;
/// `flags` of CFHEADER: another cabinet before, one after, and reserved fields.
const PREVIOUS: u16 = 1;
const NEXT: u16 = 2;
const RESERVED: u16 = 4;
/// Fixed fields of CFFOLDER, CFFILE and CFDATA ([MS-CAB] 2.2 to 2.4).
const FOLDER_LEN: u64 = 8;
const FILE_LEN: u64 = 16;
const DATA_LEN: u64 = 8;
/// Longest name, its final zero included.
const LONGEST_NAME: u64 = 256 * 4;
/// Most data blocks of all folders together: a cabinet of 2 GiB has 65,536 blocks of the usual 32 KiB.
const MAX_BLOCKS: u64 = 1 << 20;
/// Most bytes that a block unpacks to.
const LARGEST_BLOCK: u64 = 32 << 10;

struct Walk<'a> {
    content: &'a Content,
    at: u64,
}

impl Walk<'_> {
    fn take<const N: usize>(&mut self, what: &str) -> Result<[u8; N]> {
        let mut bytes = [0; N];
        self.content.read_exact_at(self.at, &mut bytes).map_err(|error| {
            if error.is_io() { error } else { cut_short(what, self.at, N as u64, self.content.len()) }
        })?;
        self.at += N as u64;
        Ok(bytes)
    }

    fn u16(&mut self, what: &str) -> Result<u16> {
        self.take(what).map(u16::from_le_bytes)
    }

    fn u32(&mut self, what: &str) -> Result<u32> {
        self.take(what).map(u32::from_le_bytes)
    }

    /// Passes over a text that ends with a zero.
    fn name(&mut self) -> Result<()> {
        let start = self.at;
        loop {
            let left = self.content.len().saturating_sub(self.at);
            let mut block = [0; 64];
            let block = &mut block[..left.min(64) as usize];
            self.content.read_exact_at(self.at, block)?;
            if let Some(end) = block.iter().position(|byte| *byte == 0) {
                self.at += end as u64 + 1;
                return Ok(());
            }
            self.at += block.len() as u64;
            if left <= 64 || self.at - start > LONGEST_NAME {
                return Err(Error::bad_field(
                    "CFFILE",
                    "szName",
                    start,
                    "a name that ends with a zero",
                    "none",
                ));
            }
        }
    }
}

fn cut_short(what: &str, offset: u64, wanted: u64, len: u64) -> Error {
    Error::Truncated { what: what.into(), offset, wanted, available: len.saturating_sub(offset) }
}

/// Checks the frame of a cabinet. The packed bytes themselves are not looked at; their checksums are checked when they
/// are unpacked.
///
/// # Errors
/// `Truncated` and `BadField` with the byte offset in the cabinet, `Limit` for too many blocks, `Unsupported` for a part
/// of a set.
pub(super) fn check(content: &Content) -> Result<()> {
    let mut walk = Walk { content, at: 0 };
    let signature: [u8; 4] = walk.take("CFHEADER")?;
    if &signature != b"MSCF" {
        return Err(Error::bad_field("CFHEADER", "signature", 0, "MSCF", format!("{signature:02x?}")));
    }
    walk.at = 16;
    let files_at = u64::from(walk.u32("CFHEADER")?);
    walk.at = 26;
    let (folders, files, flags) = (walk.u16("CFHEADER")?, walk.u16("CFHEADER")?, walk.u16("CFHEADER")?);
    if flags & (PREVIOUS | NEXT) != 0 {
        return Err(Error::Unsupported { what: "a cabinet that is one of a set".into(), offset: 30 });
    }
    walk.at = HEADER_LEN;
    let (mut folder_reserve, mut data_reserve) = (0, 0);
    if flags & RESERVED != 0 {
        let header_reserve = walk.u16("CFHEADER")?;
        let [folder, data]: [u8; 2] = walk.take("CFHEADER")?;
        (folder_reserve, data_reserve) = (u64::from(folder), u64::from(data));
        walk.at += u64::from(header_reserve);
    }
    let mut unpacked = Vec::with_capacity(usize::from(folders));
    let mut blocks = 0;
    for _ in 0..folders {
        let (first, count) = (u64::from(walk.u32("CFFOLDER")?), u64::from(walk.u16("CFFOLDER")?));
        let after = walk.at - 6 + FOLDER_LEN + folder_reserve;
        blocks += count;
        if blocks > MAX_BLOCKS {
            return Err(Error::Limit {
                what: "data blocks of a cabinet".into(),
                offset: walk.at - 2,
                limit: MAX_BLOCKS,
                found: blocks,
            });
        }
        unpacked.push(folder_len(content, first, count, data_reserve)?);
        walk.at = after;
    }
    walk.at = files_at;
    for _ in 0..files {
        let start = walk.at;
        let (len, offset, folder) =
            (u64::from(walk.u32("CFFILE")?), u64::from(walk.u32("CFFILE")?), walk.u16("CFFILE")?);
        let Some(of_folder) = unpacked.get(usize::from(folder)) else {
            let expected = format!("a folder below {folders}");
            return Err(Error::bad_field("CFFILE", "iFolder", start + 8, expected, folder));
        };
        if offset + len > *of_folder {
            return Err(Error::bad_field(
                "CFFILE",
                "uoffFolderStart",
                start + 4,
                format!("a file inside the {of_folder} bytes of its folder"),
                format!("{len} bytes at {offset}"),
            ));
        }
        walk.at = start + FILE_LEN;
        walk.name()?;
    }
    Ok(())
}

/// Unpacked bytes of a folder whose first block is at `at`.
fn folder_len(content: &Content, at: u64, count: u64, reserve: u64) -> Result<u64> {
    let mut walk = Walk { content, at };
    let mut len = 0;
    for _ in 0..count {
        let start = walk.at;
        walk.u32("CFDATA")?;
        let (packed, unpacked) = (u64::from(walk.u16("CFDATA")?), u64::from(walk.u16("CFDATA")?));
        if unpacked > LARGEST_BLOCK {
            let expected = format!("at most {LARGEST_BLOCK} bytes");
            return Err(Error::bad_field("CFDATA", "cbUncomp", start + 6, expected, unpacked));
        }
        walk.at = start + DATA_LEN + reserve + packed;
        if walk.at > content.len() {
            return Err(cut_short("CFDATA", start, DATA_LEN + reserve + packed, content.len()));
        }
        len += unpacked;
    }
    Ok(len)
}
