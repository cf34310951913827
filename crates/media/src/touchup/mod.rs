//! Small changes to a finished disc, in place.
//!
//! [`Disc::apply`] puts files into a disc's file, takes them out of its directories or brings them back, in every tree that
//! the disc has, and keeps boot entries right. Only what has to change is written: new content and structures go
//! behind the end, then a few sectors change over. What was there before is kept in a record inside the file, so that
//! [`Disc::undo`] gives the former bytes back, all of them. See `commit` for what a crash leaves, `journal` for the record.

mod boot;
mod commit;
mod directory;
mod draft;
mod iso;
mod journal;
mod susp;
mod tables;
mod tree;
mod udf;
mod work;

pub use journal::{Change, Verb};

use crate::{
    TreeKind,
    system::{FlockOperation, flock},
};
use commit::FileStore;
use draft::Draft;
use journal::Story;
use neat_content::{Advice, Content, Error, Job, ReadAt, Result, Source, Timestamp};
use std::{
    collections::{BTreeMap, BTreeSet},
    fs::File,
    path::Path,
    sync::Arc,
};
use work::Work;

/// Bytes of a sector.
const SECTOR: u64 = 2048;

/// What to do.
#[derive(Clone, Debug)]
pub enum Action {
    /// Makes `path` a file with these bytes; folders on the way are made. A name that is there in another case is
    /// that file.
    Put {
        /// The bytes.
        content: Content,
        /// When they were last changed.
        modified: Timestamp,
        /// Where on the disc.
        path: String,
    },
    /// Takes `path`, a file or a folder with all that is in it, out of the directories.
    Hide {
        /// Where on the disc.
        path: String,
    },
    /// Brings back what an earlier `Hide` took out.
    Show {
        /// Where on the disc.
        path: String,
    },
}

/// What a touch-up did.
#[derive(Clone, Debug)]
pub struct Outcome {
    /// One for each action.
    pub changes: Vec<Change>,
    /// Bytes of the file before.
    pub old_len: u64,
    /// Bytes of the file now.
    pub new_len: u64,
    /// Bytes written in all.
    pub written: u64,
    /// Whether an earlier touch-up that was cut off had to be taken back first.
    pub settled: bool,
}

/// A touch-up that a disc has.
#[derive(Clone, Debug)]
pub struct Touchup {
    /// When it was made.
    pub time: Timestamp,
    /// What it did.
    pub changes: Vec<Change>,
    /// Bytes by which it made the file longer.
    pub added: u64,
}

/// What [`list`] and [`Disc::undo`] find.
#[derive(Clone, Debug)]
pub struct History {
    /// Touch-ups, the oldest first. Of `undo` those that were taken back.
    pub touchups: Vec<Touchup>,
    /// Paths that are hidden now.
    pub hidden: Vec<String>,
    /// Whether one that was cut off is there (`list`) or was taken back first (`undo`).
    pub unfinished: bool,
    /// Bytes of the file.
    pub len: u64,
}

/// A disc's file that is open for changes.
#[derive(Debug)]
pub struct Disc {
    store: FileStore,
    source: Arc<Source>,
    settled: bool,
}

impl Disc {
    /// Opens the disc in the file at `path`, locked against other touch-ups. One that was cut off is taken back.
    ///
    /// # Errors
    /// `Request` for what is not a file, `Refused` while another touch-up works on it.
    pub fn open(path: &Path) -> Result<Self> {
        let file = File::options()
            .read(true)
            .write(true)
            .open(path)
            .map_err(Error::input("open for writing", path))?;
        let metadata = file.metadata().map_err(Error::io("examine", path))?;
        if !metadata.is_file() {
            return Err(Error::request(
                format!("{} is not a file", path.display()),
                "a touch-up makes the file longer, which a device or a folder cannot be: name an ISO file",
            ));
        }
        flock(&file, FlockOperation::NonBlockingLockExclusive).map_err(|_| {
            let message = format!("{} is being touched up by another run", path.display());
            Error::refused(message, "wait for it to end")
        })?;
        Self::from_file(file, path)
    }

    /// A disc in a file that is open for reading and writing and that nobody else uses; `path` is what errors call it.
    ///
    /// # Errors
    /// `Io`, and `Corrupt` where the record of touch-ups cannot be read.
    pub fn from_file(file: File, path: &Path) -> Result<Self> {
        let mut store = FileStore { file, path: path.to_owned() };
        let source = source_of(&store)?;
        let settled = commit::settle(&source, &mut store).map_err(|error| error.within(path.display()))?;
        let source = if settled { source_of(&store)? } else { source };
        Ok(Self { store, source, settled })
    }

    /// Does `actions`, all or none. `time` is recorded as the time of the touch-up.
    ///
    /// # Errors
    /// `Request` for paths that are not there, are there already or cannot be; nothing is written then.
    pub fn apply(&mut self, actions: Vec<Action>, time: Timestamp, job: &Job<'_>) -> Result<Outcome> {
        let result = apply_to(&self.source, &mut self.store, actions, time, job);
        let mut outcome = result.map_err(|error| self.restored_after(error))?;
        outcome.settled = self.settled;
        self.source = source_of(&self.store)?;
        Ok(outcome)
    }

    /// Puts the disc back after a touch-up that the system did not let come to its end, and says so.
    fn restored_after(&mut self, error: Error) -> Error {
        let place = self.store.path.display().to_string();
        if !error.is_io() {
            return error.within(place);
        }
        match self.put_back() {
            Ok(()) => Error::failed(format!("{place}: {error}; the disc is as it was before"), error.hint()),
            Err(_) => Error::failed(
                format!("{place}: {error}; the disc is between old and new"),
                Advice::UndoTouchup,
            ),
        }
    }

    fn put_back(&mut self) -> Result<()> {
        let source = source_of(&self.store)?;
        if commit::settle(&source, &mut self.store)? || source.len() == self.source.len() {
            return Ok(());
        }
        if journal::Trailer::read(&source, source.len())?.is_some() {
            return Err(Error::internal("a touch-up failed after its end"));
        }
        // Longer, and nothing says that anything before was changed.
        commit::Store::set_len(&mut self.store, self.source.len())
    }

    /// Takes back the latest `count` touch-ups (all there are when it is `None`), byte for byte. One that was cut off
    /// counts as one.
    ///
    /// # Errors
    /// `Request` when there are fewer.
    pub fn undo(&mut self, count: Option<usize>) -> Result<History> {
        let path = self.store.path.clone();
        self.take_back(count).map_err(|error| error.within(path.display()))
    }

    fn take_back(&mut self, count: Option<usize>) -> Result<History> {
        let there = journal::count(&self.source)?;
        // One that was cut off is the latest, and back already.
        let count = count.map_or(there, |count| count.saturating_sub(usize::from(self.settled)));
        if count > there || there == 0 && !self.settled {
            let message = match there {
                0 => "there is no touch-up to take back".to_owned(),
                _ => format!("there are only {there} touch-ups to take back"),
            };
            return Err(Error::request(message, Advice::ListTouchups));
        }
        let mut touchups = Vec::new();
        for _ in 0..count {
            let Some((trailer, record)) = journal::latest(&self.source)? else { break };
            let added = self.source.len() - trailer.old_len;
            commit::take_back(&self.source, &trailer, &record.regions, &mut self.store)?;
            touchups.insert(0, touchup(record.story, added));
            self.source = source_of(&self.store)?;
        }
        let hidden = hidden(&self.source)?.into_iter().map(|change| change.path).collect();
        Ok(History { touchups, hidden, unfinished: self.settled, len: self.source.len() })
    }
}

fn source_of(store: &FileStore) -> Result<Arc<Source>> {
    let file = store.file.try_clone().map_err(Error::io("open again", &store.path))?;
    Source::from_file(file, &store.path)
}

fn apply_to(
    source: &Arc<Source>,
    store: &mut dyn commit::Store,
    actions: Vec<Action>,
    time: Timestamp,
    job: &Job<'_>,
) -> Result<Outcome> {
    let hidden = hidden(source)?;
    let mut work = Work::open(Draft::new(Arc::clone(source)), hidden)?;
    let mut changes = Vec::new();
    for action in actions {
        job.check()?;
        changes.push(match action {
            Action::Put { content, modified, path } => work.put(&path, content, modified)?,
            Action::Hide { path } => work.hide(&path)?,
            Action::Show { path } => work.show(&path)?,
        });
    }
    let story = Story { time: time.seconds, changes, hidden: work.hidden() };
    let (new_len, written) = work.commit(&story, store, job)?;
    Ok(Outcome { changes: story.changes, old_len: source.len(), new_len, written, settled: false })
}

/// What is hidden now, the latest last.
fn hidden(source: &Arc<Source>) -> Result<Vec<Change>> {
    Ok(journal::latest(source)?.map(|(_, record)| record.story.hidden).unwrap_or_default())
}

/// What [`Disc::apply`] would do with the disc in the file at `path`. Nothing is written.
///
/// # Errors
/// As for [`Disc::apply`]; `Request` where a touch-up that was cut off has to be taken back first.
pub fn rehearse(path: &Path, actions: Vec<Action>, time: Timestamp, job: &Job<'_>) -> Result<Outcome> {
    let source = Source::open(path)?;
    let within = |error: Error| error.within(path.display());
    if is_unfinished(&source).map_err(within)? {
        return Err(Error::request(
            format!("{} has a touch-up that was cut off", path.display()),
            "`neatstack touchup ISO undo` takes it back",
        ));
    }
    apply_to(&source, &mut commit::Nowhere, actions, time, job).map_err(within)
}

/// The touch-ups of the disc in the file at `path`. Nothing is written.
///
/// # Errors
/// `Io`, and `Corrupt` where the record of touch-ups cannot be read.
pub fn list(path: &Path) -> Result<History> {
    let source = Source::open(path)?;
    let within = |error: Error| error.within(path.display());
    let unfinished = is_unfinished(&source).map_err(within)?;
    // What is unfinished counts as not there, as it will be taken back.
    let chain = if unfinished { Vec::new() } else { journal::chain(&source).map_err(within)? };
    let hidden = if unfinished { Vec::new() } else { hidden(&source).map_err(within)? };
    let mut len = source.len();
    let mut touchups: Vec<Touchup> = chain
        .into_iter()
        .map(|(trailer, record)| {
            let added = len - trailer.old_len;
            len = trailer.old_len;
            touchup(record.story, added)
        })
        .collect();
    touchups.reverse();
    let hidden = hidden.into_iter().map(|change| change.path).collect();
    Ok(History { touchups, hidden, unfinished, len: source.len() })
}

fn touchup(story: Story, added: u64) -> Touchup {
    Touchup { time: Timestamp::from_seconds(story.time), changes: story.changes, added }
}

/// Whether the file ends with a touch-up that was cut off.
///
/// # Errors
/// `Io`, and `Corrupt` where the record of touch-ups cannot be read.
pub fn is_unfinished(source: &Arc<Source>) -> Result<bool> {
    Ok(journal::Trailer::read(source, source.len())?.is_some_and(|trailer| !trailer.done))
}

/// What stands at one step of the way to a file, by which the step is found in a tree with other names.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
enum Target {
    /// A file whose bytes begin here.
    File(u64),
    /// A file without bytes.
    Empty,
    /// A folder with these files.
    Folder(Mark),
    /// Nothing is known; the name decides.
    #[default]
    Unknown,
    /// Nothing is there.
    Absent,
}

/// What the first entries in and below a folder are: the same in all trees of a disc. Links do not count, as not every
/// tree can have them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
struct Mark {
    /// Where files with bytes begin.
    files: BTreeSet<u64>,
    /// Lengths of the files, and how often each is there.
    lens: BTreeMap<u64, usize>,
    folders: usize,
    /// Whether there are more.
    more: bool,
}

impl Mark {
    /// Files and folders that are looked at for one mark.
    const LIMIT: usize = 64;

    /// Counts a file; `false` when there are enough.
    fn add_file(&mut self, offset: Option<u64>, len: u64) -> bool {
        self.files.extend(offset);
        *self.lens.entry(len).or_default() += 1;
        self.more |= self.lens.values().sum::<usize>() >= Self::LIMIT;
        !self.more
    }

    /// Counts a folder; `false` when there are enough.
    fn add_folder(&mut self) -> bool {
        self.folders += 1;
        self.more |= self.folders >= Self::LIMIT;
        !self.more
    }

    fn fits(&self, other: &Self) -> bool {
        if self.more || other.more { !self.files.is_disjoint(&other.files) } else { self == other }
    }
}

/// A way through a tree: names as the tree spells them, and what stands there.
#[derive(Clone, Debug, Default)]
struct Trail {
    names: Vec<String>,
    targets: Vec<Target>,
}

impl Trail {
    /// How many folders of the way are there.
    fn folders(&self) -> usize {
        self.targets.iter().filter(|target| matches!(target, Target::Folder(_))).count()
    }

    fn target(&self, depth: usize) -> &Target {
        self.targets.get(depth).unwrap_or(&Target::Absent)
    }
}

/// The kinds of trees in the order in which people think of them.
fn sorted(mut trees: Vec<TreeKind>) -> Vec<TreeKind> {
    trees.sort_by_key(|kind| match kind {
        TreeKind::Udf => 0,
        TreeKind::Joliet => 1,
        TreeKind::RockRidge => 2,
        _ => 3,
    });
    trees
}

#[cfg(test)]
mod tests;
