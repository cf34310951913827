//! The frame of a cabinet ([MS-CAB] 2), walked by ourselves before the library reads it: every folder, file and data
//! block lies inside the cabinet, and every file inside the bytes of its folder.
//!
//! The library finds a file by unpacking its folder from the start, which for a folder of many files takes as many times as
//! long. So it is given a cabinet that has one file for each folder ([`Frame::by_folders`]), and the files are cut from that.

use super::{
    Cursor, Fault,
    archive::{damaged, guarded, moment},
};
use neat_content::{Content, Error, ReadAt, Result, Timestamp};
use std::io::{self, Read};

/// Length of CFHEADER without its optional fields ([MS-CAB] 2.1).
const HEADER_LEN: u64 = 36;
/// `flags` of CFHEADER: another cabinet before, one after, and reserved fields.
const PREVIOUS: u16 = 1;
const NEXT: u16 = 2;
const RESERVED: u16 = 4;
/// Where CFHEADER says where the table of files begins, and how many folders there are; behind that, how many files.
const FILES_AT: u64 = 16;
const FOLDER_COUNT_AT: u64 = 26;
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

/// A file of a cabinet (CFFILE, [MS-CAB] 2.3).
#[derive(Clone, Debug)]
pub(super) struct CabinetFile {
    /// Its name, with folders.
    pub name: String,
    /// Number of its folder of data.
    folder: u16,
    /// First byte in the folder's content.
    offset: u64,
    /// Bytes.
    pub len: u64,
    /// When it was changed last, in the time of its maker's place.
    pub time: Option<Timestamp>,
}

/// What a cabinet says of its folders and files.
#[derive(Clone, Debug)]
pub(super) struct Frame {
    /// Unpacked bytes of each folder.
    folders: Vec<u64>,
    /// The files, in the order in which their bytes lie.
    pub files: Vec<CabinetFile>,
}

/// Gets the files that have the same bytes, and the bytes.
pub(super) type Taker<'a> = dyn FnMut(&[&CabinetFile], &mut dyn Read) -> Result<()> + 'a;

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

    /// A text that ends with a zero.
    fn name(&mut self) -> Result<String> {
        let start = self.at;
        let mut text = Vec::new();
        loop {
            let left = self.content.len().saturating_sub(self.at);
            let mut block = [0; 64];
            let block = &mut block[..left.min(64) as usize];
            self.content.read_exact_at(self.at, block)?;
            if let Some(end) = block.iter().position(|byte| *byte == 0) {
                self.at += end as u64 + 1;
                text.extend_from_slice(&block[..end]);
                return Ok(String::from_utf8_lossy(&text).into_owned());
            }
            text.extend_from_slice(block);
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

impl Frame {
    /// Reads the frame of a cabinet. The packed bytes themselves are not looked at; their checksums are checked when they
    /// are unpacked.
    ///
    /// # Errors
    /// `Truncated` and `BadField` with the byte offset in the cabinet, `Limit` for too many blocks, `Unsupported` for a part
    /// of a set.
    pub(super) fn read(content: &Content) -> Result<Self> {
        let mut walk = Walk { content, at: 0 };
        let signature: [u8; 4] = walk.take("CFHEADER")?;
        if &signature != b"MSCF" {
            return Err(Error::bad_field("CFHEADER", "signature", 0, "MSCF", format!("{signature:02x?}")));
        }
        walk.at = FILES_AT;
        let files_at = u64::from(walk.u32("CFHEADER")?);
        walk.at = FOLDER_COUNT_AT;
        let (count, files, flags) = (walk.u16("CFHEADER")?, walk.u16("CFHEADER")?, walk.u16("CFHEADER")?);
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
        let mut folders = Vec::with_capacity(usize::from(count));
        let mut blocks = 0;
        for _ in 0..count {
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
            folders.push(folder_len(content, first, count, data_reserve)?);
            walk.at = after;
        }
        walk.at = files_at;
        let mut frame = Self { folders, files: Vec::with_capacity(usize::from(files)) };
        for _ in 0..files {
            let file = frame.file(&mut walk)?;
            frame.files.push(file);
        }
        frame.files.sort_by_key(|file| (file.folder, file.offset, file.len));
        Ok(frame)
    }

    /// The next file of the table.
    fn file(&self, walk: &mut Walk<'_>) -> Result<CabinetFile> {
        let start = walk.at;
        let (len, offset, folder) =
            (u64::from(walk.u32("CFFILE")?), u64::from(walk.u32("CFFILE")?), walk.u16("CFFILE")?);
        let Some(of_folder) = self.folders.get(usize::from(folder)) else {
            let expected = format!("a folder below {}", self.folders.len());
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
        let (date, time) = (walk.u16("CFFILE")?, walk.u16("CFFILE")?);
        walk.at = start + FILE_LEN;
        let name = walk.name()?;
        Ok(CabinetFile { name, folder, offset, len, time: time_of(date, time) })
    }

    /// The cabinet with one file for each folder of data, `0`, `1` and so on, which has all of the folder's bytes.
    fn by_folders(&self, content: &Content) -> Result<Content> {
        let at = u32::try_from(content.len()).map_err(|_| Error::Limit {
            what: "bytes of a cabinet".into(),
            offset: 8,
            limit: u64::from(u32::MAX),
            found: content.len(),
        })?;
        let mut table = Vec::new();
        for (number, len) in self.folders.iter().enumerate() {
            // All blocks together have fewer than 2^31 bytes.
            table.extend_from_slice(&(*len as u32).to_le_bytes());
            table.extend_from_slice(&0_u32.to_le_bytes());
            table.extend_from_slice(&(number as u16).to_le_bytes());
            // A date that every reader takes; nobody reads it.
            table.extend_from_slice(&[0x21, 0, 0, 0, 0x20, 0]);
            table.extend_from_slice(number.to_string().as_bytes());
            table.push(0);
        }
        Content::joined([content.clone(), Content::from_bytes(table)])?
            .patched(FILES_AT, &at.to_le_bytes())?
            .patched(FOLDER_COUNT_AT + 2, &(self.folders.len() as u16).to_le_bytes())
    }

    /// Unpacks the files that are wanted, each folder once: `take` gets the files that have the same bytes, and the bytes.
    ///
    /// # Errors
    /// `Mismatch` for damage and for files that lie half in each other, and those of `take`.
    pub(super) fn each(
        &self,
        content: &Content,
        fault: &Fault,
        is_wanted: &dyn Fn(&CabinetFile) -> bool,
        take: &mut Taker<'_>,
    ) -> Result<()> {
        fault.first(guarded(|| self.each_unguarded(content, fault, is_wanted, take)))
    }

    fn each_unguarded(
        &self,
        content: &Content,
        fault: &Fault,
        is_wanted: &dyn Fn(&CabinetFile) -> bool,
        take: &mut Taker<'_>,
    ) -> Result<()> {
        let wanted: Vec<&CabinetFile> = self.files.iter().filter(|file| is_wanted(file)).collect();
        if wanted.is_empty() {
            return Ok(());
        }
        let whole = self.by_folders(content)?;
        let mut cabinet = cab::Cabinet::new(Cursor::new(&whole, fault)).map_err(damaged)?;
        for of_folder in wanted.chunk_by(|a, b| a.folder == b.folder) {
            let Some(first) = of_folder.first() else { continue };
            if self.folders.get(usize::from(first.folder)) == Some(&0) {
                // Nothing but empty files.
                of_folder.iter().try_for_each(|file| take(&[file], &mut io::empty()))?;
                continue;
            }
            let folder = cabinet.read_file(&first.folder.to_string());
            let mut folder = folder.map_err(|error| damaged(error).within(&first.name))?;
            let mut at = 0;
            for twins in of_folder.chunk_by(|a, b| (a.offset, a.len) == (b.offset, b.len)) {
                let Some(file) = twins.first() else { continue };
                if file.len > 0 {
                    let Some(gap) = file.offset.checked_sub(at) else {
                        let text = format!("{} lies half in another file of the cabinet", file.name);
                        return Err(damaged(text));
                    };
                    let passed = io::copy(&mut (&mut folder).take(gap), &mut io::sink());
                    passed.map_err(|error| damaged(error).within(&file.name))?;
                    at = file.offset + file.len;
                }
                take(twins, &mut (&mut folder).take(file.len))?;
            }
        }
        Ok(())
    }
}

/// A time of a file ([MS-CAB] 2.3, `date` and `time`).
fn time_of(date: u16, time: u16) -> Option<Timestamp> {
    let part = |number: u16, bits: u16| (number & ((1 << bits) - 1)) as u8;
    moment(
        (1980 + (date >> 9), part(date >> 5, 4), part(date, 5)),
        ((time >> 11) as u8, part(time >> 5, 6), 2 * part(time, 5)),
    )
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
