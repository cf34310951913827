//! Reading everything of an image file, to find what is damaged and which files that hits.

use crate::{
    BlobDigest, ImageFile, Packing, Stored,
    threads::{thread_count, thread_failed},
    to_tree,
};
use neat_content::{Error, Event, Job, Result, damage_apart};
use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering},
    },
};

/// Names of one damaged content that are listed; the others are counted.
const LISTED: usize = 100;

/// Something damaged in an image file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Damage {
    /// What is wrong, with its place.
    pub what: String,
    /// Files that it hits: number of the edition, and path.
    pub hits: Vec<(usize, String)>,
    /// How many files it hits in all.
    pub count: usize,
}

/// What reading everything came to.
#[derive(Clone, Debug, Default)]
pub struct CheckOutcome {
    /// Contents that were unpacked and digested.
    pub blobs: usize,
    /// Their bytes before compression.
    pub bytes: u64,
    /// What is damaged; empty for a sound file.
    pub damage: Vec<Damage>,
}

/// Reads every tree and every content of `image` on `threads` threads (0: as many as there are cores), compares all
/// digests, and the integrity table where there is one.
///
/// # Errors
/// What the system refuses to read, and `Cancelled`; damage is in the outcome.
pub fn check(image: &ImageFile, threads: usize, job: &Job<'_>) -> Result<CheckOutcome> {
    let mut outcome = CheckOutcome::default();
    let plain = |what: String| Damage { what, hits: Vec::new(), count: 0 };
    let mut trees = Vec::new();
    for number in 1..=image.editions().len() {
        job.check()?;
        match damage_apart(image.files(number))? {
            Ok(files) => trees.push((number, files)),
            Err(error) => {
                let what = format!("no file of edition {number} can be read: {error}");
                outcome.damage.push(plain(what));
            }
        }
    }
    let all: Vec<(BlobDigest, Stored)> = image.blobs().map(|(digest, blob)| (digest, blob.stored)).collect();
    outcome.blobs = all.len();
    outcome.bytes = all.iter().map(|(_, stored)| stored.raw_len).sum();
    let mut wrong: HashMap<BlobDigest, String> =
        verify(&all, threads, job)?.into_iter().map(|(digest, error)| (digest, error.to_string())).collect();
    let mut hits: HashMap<BlobDigest, Damage> = HashMap::new();
    for (number, files) in &trees {
        for id in files.ids() {
            for digest in files.entry(id).digests() {
                if image.blob_len(digest).is_none() {
                    wrong.entry(digest).or_insert_with(|| format!("the content {digest} is missing"));
                }
                if let Some(what) = wrong.get(&digest) {
                    let damage = hits.entry(digest).or_insert_with(|| plain(what.clone()));
                    damage.count += 1;
                    if damage.hits.len() < LISTED {
                        damage.hits.push((*number, files.path(id)));
                    }
                }
            }
        }
        // Names that no folder can hold twice, and links that lead nowhere in their own data.
        if let Err(error) = damage_apart(to_tree(image, *number, files))?
            && hits.is_empty()
        {
            outcome.damage.push(plain(error.to_string()));
        }
    }
    let unused = wrong.iter().filter(|(digest, _)| !hits.contains_key(digest));
    outcome.damage.extend(unused.map(|(_, what)| plain(format!("{what}; no file of an edition has it"))));
    outcome.damage.extend(hits.into_values());
    if let Err(error) = damage_apart(image.check_integrity(job))? {
        outcome.damage.push(plain(format!("the integrity table does not fit: {error}")));
    }
    // What hits files comes first.
    outcome
        .damage
        .sort_by(|a, b| (a.hits.is_empty(), &a.hits, &a.what).cmp(&(b.hits.is_empty(), &b.hits, &b.what)));
    Ok(outcome)
}

/// Unpacks and digests contents, and gives those that are damaged with what is wrong.
pub(crate) fn verify(
    all: &[(BlobDigest, Stored)],
    threads: usize,
    job: &Job<'_>,
) -> Result<Vec<(BlobDigest, Error)>> {
    let units = units(all);
    let total = all.iter().map(|(_, stored)| stored.raw_len).sum();
    job.event(Event::StepStarted { step: "reading and checking", total_bytes: Some(total) });
    let next = AtomicUsize::new(0);
    let work = || -> Result<Vec<(BlobDigest, Error)>> {
        let mut wrong = Vec::new();
        while let Some(unit) = units.get(next.fetch_add(1, Ordering::Relaxed)) {
            for number in unit {
                let (digest, stored) = &all[*number];
                let read = stored.read(*digest, job, &mut |block| {
                    job.event(Event::BytesDone(block.len() as u64));
                    Ok(())
                });
                if let Err(error) = damage_apart(read)? {
                    wrong.push((*digest, error));
                }
            }
        }
        Ok(wrong)
    };
    let mut wrong = Vec::new();
    std::thread::scope(|scope| -> Result<()> {
        let threads: Vec<_> = (0..thread_count(threads)).map(|_| scope.spawn(work)).collect();
        for thread in threads {
            wrong.extend(thread.join().unwrap_or_else(|_| Err(thread_failed()))?);
        }
        Ok(())
    })?;
    job.event(Event::StepFinished);
    Ok(wrong)
}

/// What one thread does at a time, in the order of the file: a content, or all contents of a solid resource.
fn units(all: &[(BlobDigest, Stored)]) -> Vec<Vec<usize>> {
    let mut order: Vec<usize> = (0..all.len()).collect();
    let place = |stored: &Stored| match &stored.packing {
        Packing::Solid { group, start } => (group.offset(), *start),
        _ => (stored.offset, 0),
    };
    order.sort_by_key(|n| place(&all[*n].1));
    let mut units: Vec<Vec<usize>> = Vec::new();
    let mut last = None;
    for n in order {
        let group = match &all[n].1.packing {
            Packing::Solid { group, .. } => Some(Arc::as_ptr(group)),
            _ => None,
        };
        match units.last_mut() {
            Some(unit) if group.is_some() && group == last => unit.push(n),
            _ => units.push(vec![n]),
        }
        last = group;
    }
    units
}
