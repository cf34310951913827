//! What was read once and is the same in every edition that has the same file.

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

/// Drivers by the digests of their INF files. Editions of one image file that are worked on one after another share it:
/// most of their drivers are the same.
#[derive(Clone, Default)]
pub struct Scans {
    drivers: Arc<Mutex<HashMap<BlobDigest, Arc<DriverFacts>>>>,
}

impl Scans {
    /// What is known of the driver with this INF file.
    pub(super) fn driver(&self, inf: BlobDigest) -> Option<Arc<DriverFacts>> {
        self.drivers.lock().unwrap_or_else(PoisonError::into_inner).get(&inf).map(Arc::clone)
    }

    /// Keeps what the INF file says of its driver.
    pub(super) fn keep_driver(&self, inf: BlobDigest, driver: &Driver) -> Arc<DriverFacts> {
        let facts = Arc::new(DriverFacts::of(driver));
        self.drivers.lock().unwrap_or_else(PoisonError::into_inner).insert(inf, Arc::clone(&facts));
        facts
    }
}
