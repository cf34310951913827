//! Fetching a file: resumed, checked, and under its name only when it is right.

use crate::{
    client::{Depot, agent, failed},
    index::Item,
};
use neat_content::{Advice, Error, Event, Job, Result, sync_folder};
use rustix::fs::{FlockOperation, fadvise, flock};
use std::{
    fs::{self, File},
    io::{self, Read, Seek, SeekFrom, Write},
    num::NonZeroU64,
    path::{Path, PathBuf},
    sync::mpsc::{Receiver, SyncSender, sync_channel},
    thread::JoinHandle,
    time::Duration,
};
use ureq::{Body, http::Response};

/// Bytes read at a time.
const BLOCK: usize = 256 << 10;
/// Blocks that may wait to be digested.
const BLOCKS_WAITING: usize = 4;
/// Bytes after which the disk is asked to begin writing: what waits for the end would only be waited for there.
const WRITE_AFTER: u64 = 16 << 20;
/// A connection that brought at least this many bytes was of use.
const PROGRESS: u64 = 64 << 10;

/// How patient a fetch is.
#[derive(Clone, Copy, Debug)]
pub struct FetchOptions {
    /// How long an answer, or what one connection brings, may take.
    pub patience: Duration,
    /// Connections in a row that bring next to nothing before it gives up.
    pub attempts: u32,
}

impl Default for FetchOptions {
    fn default() -> Self {
        Self { patience: Duration::from_secs(30), attempts: 4 }
    }
}

/// A file that was fetched.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Fetched {
    /// Where it is.
    pub path: PathBuf,
    /// Bytes that came over.
    pub transferred: u64,
    /// Bytes that an earlier run had left.
    pub resumed: u64,
    /// Connections that broke off on the way.
    pub interruptions: u32,
}

impl Depot {
    /// Fetches `item` to `path`. What came over is kept in a hidden file beside it, from which the next run goes on.
    ///
    /// # Errors
    /// `Mismatch` when what comes is not what the index says, in length or digest: nothing is left then. `Io` when
    /// the depot stops answering: what came is kept.
    pub fn fetch(&self, item: &Item, path: &Path, options: FetchOptions, job: &Job<'_>) -> Result<Fetched> {
        let mut partial = Partial::open(path, item)?;
        let resumed = partial.len;
        let step = format!("fetching {}", item.file_name());
        job.event(Event::StepStarted { step: &step, total_bytes: Some(item.size) });
        job.event(Event::BytesDone(resumed));
        let mut run = Run { item, options, job, transferred: 0, failures: 0, interruptions: 0 };
        let result = match self.address(&item.file) {
            Some(address) => run.over_http(&address, &mut partial),
            None => run.copy(&self.local_path(item).unwrap_or_default(), &mut partial),
        };
        let result = result.and_then(|()| partial.finish(path, item));
        if result.is_err() && partial.len == 0 {
            // Nothing to go on with.
            let _ = partial.discard();
        }
        job.event(Event::StepFinished);
        result.map_err(|error| error.within(item.file_name()))?;
        Ok(Fetched {
            path: path.to_owned(),
            transferred: run.transferred,
            resumed,
            interruptions: run.interruptions,
        })
    }
}

/// One fetch.
struct Run<'a> {
    item: &'a Item,
    options: FetchOptions,
    job: &'a Job<'a>,
    transferred: u64,
    /// Connections in a row that were of no use.
    failures: u32,
    interruptions: u32,
}

/// What one connection came to.
enum Ended {
    /// Everything is there.
    Whole,
    /// It broke off.
    Broken(String),
}

impl Run<'_> {
    fn over_http(&mut self, address: &str, partial: &mut Partial) -> Result<()> {
        let agent = agent(self.options.patience);
        while partial.len < self.item.size
            || self.item.size == 0 && self.transferred == 0 && self.failures == 0
        {
            self.job.check()?;
            let before = partial.len;
            let mut request = agent.get(address);
            if before > 0 {
                request =
                    request.header("Range", format!("bytes={before}-")).header("If-Range", etag(self.item));
            }
            let ended = match request.call() {
                Ok(response) => self.receive(address, response, partial)?,
                Err(error @ ureq::Error::TooManyRedirects) => return Err(failed(address, &error)),
                Err(error) => Ended::Broken(error.to_string()),
            };
            let Ended::Broken(why) = ended else { break };
            self.interruptions += 1;
            self.failures = if partial.len >= before + PROGRESS { 0 } else { self.failures + 1 };
            if self.failures >= self.options.attempts {
                let kept = if partial.len > 0 {
                    "; what came is kept, and the same command goes on from there"
                } else {
                    ""
                };
                let action = format!(
                    "go on with {address} after {} of {} bytes and {} attempts{kept}",
                    partial.len, self.item.size, self.failures
                );
                return Err(Error::system(action, io::Error::other(why), ""));
            }
            std::thread::sleep(Duration::from_millis(100 << self.failures.min(4)));
        }
        Ok(())
    }

    fn receive(
        &mut self,
        address: &str,
        mut response: Response<Body>,
        partial: &mut Partial,
    ) -> Result<Ended> {
        let status = response.status().as_u16();
        let header = |name: &str| {
            response.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default().to_owned()
        };
        let lies = |expected: String, found: String| {
            let hint = "the depot's file is not the one that its index describes: tell who runs it, or have the index \
                        made again";
            Error::mismatch(expected, found, hint)
        };
        let size = self.item.size;
        match status {
            200 => {
                let len = header("content-length");
                if !len.is_empty() && len != size.to_string() {
                    partial.discard()?;
                    return Err(lies(format!("{size} bytes"), format!("{len} bytes offered by {address}")));
                }
                // The depot has another file now, or cannot go on in the middle.
                partial.restart()?;
            }
            206 => {
                let range = header("content-range");
                if range != format!("bytes {}-{}/{size}", partial.len, size.saturating_sub(1)) {
                    partial.discard()?;
                    let expected = format!("the bytes from {} on of {size}", partial.len);
                    return Err(lies(expected, format!("{range:?} from {address}")));
                }
            }
            416 => {
                partial.restart()?;
                return Ok(Ended::Broken("the depot cannot go on where the last run stopped".into()));
            }
            404 | 410 => return Err(lies(format!("{address} to be there"), format!("the answer {status}"))),
            500..=599 | 408 | 429 => return Ok(Ended::Broken(format!("the answer {status}"))),
            _ => return Err(lies(format!("a file from {address}"), format!("the answer {status}"))),
        }
        let mut reader = response.body_mut().with_config().limit(u64::MAX).reader();
        self.receive_body(&mut reader, partial, &lies)
    }

    fn receive_body(
        &mut self,
        reader: &mut dyn Read,
        partial: &mut Partial,
        lies: &dyn Fn(String, String) -> Error,
    ) -> Result<Ended> {
        let size = self.item.size;
        loop {
            self.job.check()?;
            let mut buffer = partial.buffer();
            // Filled as far as it goes, so that few and large blocks are written.
            let mut filled = 0;
            let mut broken = None;
            while filled < buffer.len() {
                match reader.read(&mut buffer[filled..]) {
                    Ok(0) => break,
                    Ok(count) => filled += count,
                    Err(error) if error.kind() == io::ErrorKind::Interrupted => {}
                    Err(error) => {
                        broken = Some(error.to_string());
                        break;
                    }
                }
            }
            let ended = filled < buffer.len();
            if partial.len + filled as u64 > size {
                partial.discard()?;
                return Err(lies(format!("{size} bytes"), "more".into()));
            }
            buffer.truncate(filled);
            partial.add(buffer)?;
            self.transferred += filled as u64;
            self.job.event(Event::BytesDone(filled as u64));
            match broken {
                Some(why) => return Ok(Ended::Broken(why)),
                None if partial.len == size => return Ok(Ended::Whole),
                None if ended => return Ok(Ended::Broken("the connection ended too early".into())),
                None => {}
            }
        }
    }

    fn copy(&mut self, from: &Path, partial: &mut Partial) -> Result<()> {
        let mut file = File::open(from).map_err(Error::io("open", from))?;
        file.seek(SeekFrom::Start(partial.len)).map_err(Error::io("read", from))?;
        let lies = |expected: String, found: String| Error::Mismatch {
            expected,
            found: format!("{found} in {}", from.display()),
            hint: Advice::IndexDepot.into(),
        };
        if partial.len == self.item.size {
            return Ok(());
        }
        match self.receive_body(&mut file, partial, &lies)? {
            Ended::Whole => Ok(()),
            Ended::Broken(_) => {
                let found = partial.len;
                partial.discard()?;
                Err(lies(format!("{} bytes", self.item.size), found.to_string()))
            }
        }
    }
}

/// What the server calls this version of the file.
pub(crate) fn etag(item: &Item) -> String {
    format!("\"{}\"", item.sha256)
}

/// What came so far, in a file with a name of its own.
struct Partial {
    path: PathBuf,
    file: File,
    len: u64,
    /// Up to where the disk was asked to write.
    begun: u64,
    hashing: Hashing,
    kind: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Blake3,
    Sha256,
}

impl Partial {
    /// Opens what an earlier run left of this very file, or starts anew.
    fn open(path: &Path, item: &Item) -> Result<Self> {
        let name = path.file_name().and_then(|name| name.to_str()).ok_or_else(|| {
            Error::request(format!("{} cannot be the name of a file", path.display()), "give a file name")
        })?;
        let digest = item.sha256.get(..16).unwrap_or_default();
        let partial_path = path.with_file_name(format!(".{name}.fetch-{digest}"));
        let file = File::options()
            .read(true)
            .write(true)
            .create(true)
            .truncate(false)
            .open(&partial_path)
            .map_err(Error::io("create", &partial_path))?;
        flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(|_| {
            Error::refused(
                format!("{} is being fetched by another run", path.display()),
                "wait for it to end",
            )
        })?;
        let kind = if item.blake3.is_empty() { Kind::Sha256 } else { Kind::Blake3 };
        let mut partial =
            Self { path: partial_path, file, len: 0, begun: 0, hashing: Hashing::start(kind), kind };
        let len = partial.file.metadata().map_err(Error::io("examine", &partial.path))?.len();
        if len > item.size {
            partial.restart()?;
        } else {
            partial.digest_what_is_there(len)?;
        }
        Ok(partial)
    }

    fn digest_what_is_there(&mut self, len: u64) -> Result<()> {
        while self.len < len {
            let mut buffer = self.hashing.buffer();
            let count = self.file.read(&mut buffer).map_err(Error::io("read", &self.path))?;
            if count == 0 {
                break;
            }
            buffer.truncate(count);
            self.len += count as u64;
            self.hashing.add(buffer);
        }
        Ok(())
    }

    fn buffer(&self) -> Vec<u8> {
        self.hashing.buffer()
    }

    fn add(&mut self, block: Vec<u8>) -> Result<()> {
        self.file.write_all(&block).map_err(Error::io("write", &self.path))?;
        self.len += block.len() as u64;
        self.hashing.add(block);
        if let Some(len) = NonZeroU64::new(self.len - self.begun).filter(|len| len.get() >= WRITE_AFTER) {
            // Pages that are not needed are written at once, in the background. A system that does not care may not.
            let _ = fadvise(&self.file, self.begun, Some(len), rustix::fs::Advice::DontNeed);
            self.begun = self.len;
        }
        Ok(())
    }

    fn restart(&mut self) -> Result<()> {
        if self.len > 0 || self.file.metadata().is_ok_and(|metadata| metadata.len() > 0) {
            self.file.set_len(0).map_err(Error::io("cut off", &self.path))?;
            self.file.seek(SeekFrom::Start(0)).map_err(Error::io("rewind", &self.path))?;
            (self.len, self.begun) = (0, 0);
            self.hashing = Hashing::start(self.kind);
        }
        Ok(())
    }

    fn discard(&self) -> Result<()> {
        fs::remove_file(&self.path).map_err(Error::io("remove", &self.path))
    }

    /// Checks the digest and gives the file its name.
    fn finish(&mut self, path: &Path, item: &Item) -> Result<()> {
        let hashing = std::mem::replace(&mut self.hashing, Hashing::start(self.kind));
        let found = hashing.finish()?;
        let (name, expected) = match self.kind {
            Kind::Blake3 => ("BLAKE3", &item.blake3),
            Kind::Sha256 => ("SHA-256", &item.sha256),
        };
        if !found.eq_ignore_ascii_case(expected) {
            self.discard()?;
            return Err(Error::Mismatch {
                expected: format!("{name} {expected}"),
                found,
                hint: "what came is not the file that the index describes, and was thrown away; try again, or tell who \
                       runs the depot"
                    .into(),
            });
        }
        self.file.sync_all().map_err(Error::io("sync", &self.path))?;
        fs::rename(&self.path, path).map_err(Error::io("give its name to", path))?;
        let folder = path.parent().filter(|folder| !folder.as_os_str().is_empty());
        sync_folder(folder.unwrap_or(Path::new(".")))
    }
}

/// A digest on a thread of its own.
struct Hashing {
    blocks: SyncSender<Vec<u8>>,
    used: Receiver<Vec<u8>>,
    thread: JoinHandle<Result<String>>,
}

impl Hashing {
    fn start(kind: Kind) -> Self {
        let (blocks, incoming) = sync_channel::<Vec<u8>>(BLOCKS_WAITING);
        let (give_back, used) = sync_channel(BLOCKS_WAITING + 2);
        let thread = std::thread::spawn(move || {
            let mut blake3 = blake3::Hasher::new();
            let mut sha256 = neat_content::Digester::for_len(neat_content::DigestKind::Sha256, 0);
            for block in incoming {
                match kind {
                    Kind::Blake3 => drop(blake3.update(&block)),
                    Kind::Sha256 => sha256.add_slice(&block),
                }
                let _ = give_back.try_send(block);
            }
            match kind {
                Kind::Blake3 => Ok(blake3.finalize().to_hex().to_string()),
                Kind::Sha256 => sha256.finish(),
            }
        });
        Self { blocks, used, thread }
    }

    /// A block to fill, one that was digested if there is one.
    fn buffer(&self) -> Vec<u8> {
        let mut buffer = self.used.try_recv().unwrap_or_default();
        buffer.resize(BLOCK, 0);
        buffer
    }

    fn add(&self, block: Vec<u8>) {
        // The thread only ends before us by a panic, which `finish` reports.
        let _ = self.blocks.send(block);
    }

    fn finish(self) -> Result<String> {
        drop(self.blocks);
        let panicked =
            |_| Error::io("digest in", Path::new("a thread"))(io::Error::other("the thread panicked"));
        self.thread.join().map_err(panicked)?
    }
}
