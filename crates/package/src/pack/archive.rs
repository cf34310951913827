//! Unpacking archives, with a limit on what comes out.

use super::{
    Cursor, Fault,
    cabinet::{CabinetFile, Frame},
};
use crate::Limits;
use neat_content::{Content, Error, Meta, Result, Spool, Timestamp, Tree, check_name, damage_apart};
use ruzstd::decoding::{FrameDecoder, StreamingDecoder};
use std::{
    io::{self, BufRead, BufReader, Read},
    panic::{AssertUnwindSafe, catch_unwind},
};

/// Unpacked bytes that are held in memory.
const IN_MEMORY: usize = 32 << 20;

/// Files that came out of an archive.
pub(super) struct Unpacked {
    /// Path, place in the spool, length, time.
    files: Vec<(String, u64, u64, Timestamp)>,
    folders: Vec<String>,
    spool: Spool,
    limit: u64,
    limits: Limits,
    modified: Timestamp,
    notes: Vec<String>,
}

impl Unpacked {
    pub(super) fn new(packed_len: u64, modified: Timestamp, limits: &Limits) -> Self {
        Self {
            files: Vec::new(),
            folders: Vec::new(),
            spool: Spool::new(IN_MEMORY, &std::env::temp_dir()),
            limit: limits.unpacked_of(packed_len),
            limits: *limits,
            modified,
            notes: Vec::new(),
        }
    }

    /// Fails if so many more bytes would be too many.
    fn check(&self, more: u64) -> Result<()> {
        let found = self.spool.len().saturating_add(more);
        let count = self.files.len() as u64;
        if found > self.limit || count > self.limits.files {
            let (what, limit, found) = if found > self.limit {
                ("unpacked bytes of the archive", self.limit, found)
            } else {
                ("files of the archive", self.limits.files, count)
            };
            return Err(Error::Limit { what: what.into(), offset: 0, limit, found });
        }
        Ok(())
    }

    /// Takes a file of `claimed` bytes.
    fn add(
        &mut self,
        path: String,
        reader: &mut dyn Read,
        claimed: u64,
        time: Option<Timestamp>,
    ) -> Result<()> {
        self.check(0)?;
        let start = self.spool.len();
        let mut buffer = vec![0; 64 << 10];
        loop {
            let len = reader.read(&mut buffer).map_err(|error| damaged(error).within(&path))?;
            if len == 0 {
                break;
            }
            self.check(len as u64)?;
            self.spool.push(&buffer[..len])?;
        }
        let len = self.spool.len() - start;
        if len != claimed {
            return Err(damaged(format!("{path} has {len} bytes and should have {claimed}")));
        }
        self.files.push((path, start, len, time.unwrap_or(self.modified)));
        Ok(())
    }

    pub(super) fn add_cabinet(&mut self, content: &Content, fault: &Fault) -> Result<()> {
        let frame = Frame::read(content)?;
        self.check(frame.files.iter().map(|file| file.len).sum())?;
        frame.each(content, fault, &|_| true, &mut |twins, bytes| {
            let Some((first, others)) = twins.split_first() else { return Ok(()) };
            self.add(path_of(&first.name)?, bytes, first.len, first.time)?;
            let Some((_, start, len, _)) = self.files.last().cloned() else { return Ok(()) };
            for file in others {
                self.check(0)?;
                let time = file.time.unwrap_or(self.modified);
                self.files.push((path_of(&file.name)?, start, len, time));
            }
            Ok(())
        })
    }

    pub(super) fn add_zip(&mut self, content: &Content, fault: &Fault) -> Result<()> {
        let mut zip = zip::ZipArchive::new(BufReader::new(Cursor::new(content, fault))).map_err(damaged)?;
        for number in 0..zip.len() {
            let mut entry = zip.by_index(number).map_err(damaged)?;
            let path = path_of(&entry.name().map_err(damaged)?)?;
            if entry.is_dir() {
                self.folders.push(path);
                continue;
            }
            if entry.is_symlink() {
                self.notes.push(format!("{path} is a symbolic link and was left out"));
                continue;
            }
            self.check(entry.size())?;
            let time = entry.last_modified().and_then(|time| {
                let date = (time.year(), time.month(), time.day());
                moment(date, (time.hour(), time.minute(), time.second()))
            });
            let len = entry.size();
            self.add(path, &mut entry, len, time)?;
        }
        Ok(())
    }

    pub(super) fn add_tar_zstd(&mut self, content: &Content, fault: &Fault) -> Result<()> {
        let unpacked = Frames { packed: Some(BufReader::new(Cursor::new(content, fault))), frame: None };
        // What is not kept must not be endless either.
        let mut tar = tar::Archive::new(unpacked.take(self.limit.saturating_add(self.limits.unpacked)));
        for entry in tar.entries().map_err(damaged)? {
            let mut entry = entry.map_err(damaged)?;
            let name = String::from_utf8_lossy(&entry.path_bytes()).into_owned();
            let name = name.strip_prefix("./").unwrap_or(&name);
            if name.trim_matches('/').is_empty() || name == "." {
                continue;
            }
            let path = path_of(name)?;
            let time = entry.header().mtime().ok().and_then(|time| i64::try_from(time).ok());
            match entry.header().entry_type() {
                kind if kind.is_dir() => self.folders.push(path),
                kind if kind.is_file() => {
                    let len = entry.size();
                    self.check(len)?;
                    self.add(path, &mut entry, len, time.map(Timestamp::from_seconds))?;
                }
                _ => self.notes.push(format!("{path} is neither a file nor a folder and was left out")),
            }
        }
        // Behind the end of the archive: the checksum of a frame is only compared when all of it was read.
        io::copy(&mut tar.into_inner(), &mut io::sink()).map_err(damaged)?;
        Ok(())
    }

    pub(super) fn finish(self) -> Result<(Tree, Vec<String>)> {
        let all = self.spool.content()?;
        let mut tree = Tree::new(Meta::at(self.modified));
        for folder in &self.folders {
            tree.make_folder(folder, Meta::at(self.modified))?;
        }
        for (path, start, len, time) in self.files {
            if tree.find_ignoring_case(&path).is_some() {
                return Err(Error::Mismatch {
                    expected: "each name once".into(),
                    found: format!("{path} twice, or in two cases"),
                    hint: "unpack it yourself, take the right one and name the folder".into(),
                });
            }
            tree.put_file(&path, all.part(start, len)?, Meta::at(time))?;
        }
        Ok((tree, self.notes))
    }
}

/// Whether a zip file's directory can be read.
pub(super) fn has_zip_directory(content: &Content) -> Result<bool> {
    let fault = Fault::default();
    let zip = zip::ZipArchive::new(BufReader::new(Cursor::new(content, &fault))).map_err(damaged);
    damage_apart(fault.first(zip.map(drop))).map(|opened| opened.is_ok())
}

/// The frames of a zstd file, one after another.
struct Frames {
    packed: Option<BufReader<Cursor>>,
    frame: Option<StreamingDecoder<BufReader<Cursor>, FrameDecoder>>,
}

impl Read for Frames {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        loop {
            if let Some(mut frame) = self.frame.take() {
                let len = frame.read(buffer)?;
                if len > 0 || buffer.is_empty() {
                    self.frame = Some(frame);
                    return Ok(len);
                }
                let decoder = &frame.decoder;
                match (decoder.get_checksum_from_data(), decoder.get_calculated_checksum()) {
                    (Some(stated), Some(found)) if stated != found => {
                        let text =
                            format!("a frame has the checksum {found:08x} and should have {stated:08x}");
                        return Err(io::Error::other(text));
                    }
                    _ => {}
                }
                self.packed = Some(frame.into_inner());
            }
            let Some(mut packed) = self.packed.take() else { return Ok(0) };
            if packed.fill_buf()?.is_empty() {
                return Ok(0);
            }
            let frame = StreamingDecoder::new(packed).map_err(|error| io::Error::other(error.to_string()))?;
            self.frame = Some(frame);
        }
    }
}

/// A date and a time of day, of whatever place, as archives have them.
pub(super) fn moment(
    (year, month, day): (u16, u8, u8),
    (hour, minute, second): (u8, u8, u8),
) -> Option<Timestamp> {
    let small = |number: u8| i8::try_from(number).ok();
    let date = jiff::civil::Date::new(i16::try_from(year).ok()?, small(month)?, small(day)?).ok()?;
    let time = jiff::civil::Time::new(small(hour)?, small(minute)?, small(second.min(59))?, 0).ok()?;
    let zoned = date.to_datetime(time).to_zoned(jiff::tz::TimeZone::UTC).ok()?;
    Some(Timestamp::from_seconds(zoned.timestamp().as_second()))
}

/// A name of an archive as a path; one that would leave the archive's own folder is an error.
pub(crate) fn path_of(name: &str) -> Result<String> {
    let unified = name.replace('\\', "/");
    let parts: Vec<&str> = unified.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
    let is_absolute = unified.starts_with('/') || parts.first().is_some_and(|part| part.contains(':'));
    if is_absolute || parts.is_empty() || parts.iter().any(|part| check_name(part).is_err()) {
        return Err(Error::Mismatch {
            expected: "names that stay in the archive's own folder".into(),
            found: format!("{name:?}"),
            hint: "the archive is damaged or made to do harm; get it again from its maker".into(),
        });
    }
    Ok(parts.join("/"))
}

pub(super) fn damaged(error: impl std::fmt::Display) -> Error {
    Error::Mismatch {
        expected: "a sound archive".into(),
        found: error.to_string(),
        hint: "it is damaged or of a kind that is not handled; compare its size and digest with its maker's"
            .into(),
    }
}

/// Runs what reads by a library that may stop the program on hostile input, and makes an error of that.
pub(super) fn guarded<T>(work: impl FnOnce() -> Result<T>) -> Result<T> {
    catch_unwind(AssertUnwindSafe(work)).unwrap_or_else(|_| {
        Err(damaged("the library that reads cabinets gave up on it; this cabinet is made to do harm"))
    })
}

/// A file that came out of a cabinet.
pub(crate) type Unfolded = (String, Content);

/// Files of a cabinet whose names are wanted, in the order of their bytes, at most `limit` bytes of all together.
pub(crate) fn read_cabinet(
    content: &Content,
    is_wanted: &dyn Fn(&str) -> bool,
    limit: u64,
) -> Result<Vec<Unfolded>> {
    let frame = Frame::read(content)?;
    let wanted = |file: &CabinetFile| is_wanted(&file.name);
    let found: u64 = frame.files.iter().filter(|file| wanted(file)).map(|file| file.len).sum();
    if found > limit {
        return Err(Error::Limit { what: "bytes of files in a cabinet".into(), offset: 0, limit, found });
    }
    let mut unpacked = Unpacked::new(content.len(), Timestamp::default(), &Limits::default());
    frame.each(content, &Fault::default(), &wanted, &mut |twins, bytes| {
        twins.first().map_or(Ok(()), |file| unpacked.add(file.name.clone(), bytes, file.len, file.time))
    })?;
    let all = unpacked.spool.content()?;
    let files = unpacked.files.into_iter();
    files.map(|(name, start, len, _)| Ok((name, all.part(start, len)?))).collect()
}
