//! What comes from outside: archives, drivers, updates.
//!
//! [`Pack::open`] turns a folder, cabinet, zip file, tar file packed with zstd or self-extracting program into a tree.
//! [`Driver`] is an INF file and what it needs; [`DriverSet`] finds the drivers of packs and matches them with the
//! devices of a machine. [`Update`] is our update package, and [`VendorPackage`] recognises those of vendors.

#![forbid(unsafe_code)]

mod devices;
mod drivers;
mod inf;
mod pack;
mod update;

pub use devices::{MachineDevice, parse_devices};
pub use drivers::{DriverSet, FoundDriver, IfDamaged};
pub use inf::{Architecture, Device, Driver, Inf, InfLine, NeededFile, Target};
pub use pack::{Pack, PackKind};
pub use update::{
    Candidate, FILES_FOLDER, MANIFEST_NAME, Manifest, Ordered, Outcome, TargetEdition, UPDATE_ENDING, Update,
    UpdateSection, UpdateType, VendorPackage, Version, order, write_update,
};
