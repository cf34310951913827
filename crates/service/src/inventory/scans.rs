//! What was read once and is the same in every edition that has the same file.

use super::packages::RecordFacts;
use neat_image::BlobDigest;
use neat_package::Driver;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};

/// What an inventory says of a driver.
pub(super) struct DriverFacts {
    pub class: String,
    pub version: String,
    /// What its first device is called.
    pub device: Option<String>,
    pub provider: String,
}

impl DriverFacts {
    pub(super) fn of(driver: &Driver) -> Self {
        Self {
            class: driver.class.clone(),
            version: driver.version_text(),
            device: driver.devices.first().map(|device| device.description.clone()),
            provider: driver.provider.clone(),
        }
    }
}

/// Facts by the digest of the file they stand in.
type Known<T> = Arc<Mutex<HashMap<BlobDigest, Arc<T>>>>;

/// Drivers by the digests of their INF files, packages by those of their records. Editions of one image file that are
/// worked on one after another share it: most of their drivers and packages are the same.
#[derive(Clone, Default)]
pub struct Scans {
    drivers: Known<DriverFacts>,
    records: Known<RecordFacts>,
}

fn known<T>(map: &Known<T>, digest: BlobDigest) -> Option<Arc<T>> {
    map.lock().unwrap_or_else(PoisonError::into_inner).get(&digest).map(Arc::clone)
}

fn keep<T>(map: &Known<T>, digest: BlobDigest, facts: &Arc<T>) {
    map.lock().unwrap_or_else(PoisonError::into_inner).insert(digest, Arc::clone(facts));
}

impl Scans {
    /// What is known of the driver with this INF file.
    pub(super) fn driver(&self, inf: BlobDigest) -> Option<Arc<DriverFacts>> {
        known(&self.drivers, inf)
    }

    /// Keeps what the INF file says of its driver.
    pub(super) fn keep_driver(&self, inf: BlobDigest, driver: &Driver) -> Arc<DriverFacts> {
        let facts = Arc::new(DriverFacts::of(driver));
        keep(&self.drivers, inf, &facts);
        facts
    }

    /// What is known of the package with this record.
    pub(super) fn record(&self, digest: BlobDigest) -> Option<Arc<RecordFacts>> {
        known(&self.records, digest)
    }

    /// Keeps what a record says of its package, if it is short.
    pub(super) fn keep_record(&self, digest: BlobDigest, facts: RecordFacts) -> Arc<RecordFacts> {
        let facts = Arc::new(facts);
        if facts.is_short() {
            keep(&self.records, digest, &facts);
        }
        facts
    }
}
