//! What comes from outside: archives, drivers, updates.
//!
//! [`Pack::open`] turns a folder, cabinet, zip file, tar file packed with zstd or self-extracting program into a tree.
//! [`Driver`] is an INF file and what it needs; [`DriverSet`] finds the drivers of packs and matches them with the
//! devices of a machine. [`Update`] is our update package, and [`VendorPackage`] recognises those of vendors.
//!
//! ```
//! use neat_package::{Architecture, Driver};
//!
//! let inf = "[Version]\nSignature=\"$Windows NT$\"\nClass=Net\nProvider=\"Brackwater\"\nDriverVer=01/02/2026,1.2.0.0\n\
//!            [Manufacturer]\n\"Brackwater\"=Models,NTamd64\n\
//!            [Models.NTamd64]\n\"Winch\"=Install,PCI\\VEN_1AF4&DEV_1234\n[Install]\n";
//! let driver = Driver::read("winch.inf", inf.as_bytes())?;
//! assert_eq!(driver.class, "Net");
//! let devices = driver.devices_for(Architecture::X64, Some((10, 0, 19041)));
//! assert_eq!((devices.len(), devices[0].description.as_str()), (1, "Winch"));
//! # Ok::<(), neat_content::Error>(())
//! ```

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crates whose types stand in the signatures here.
pub use {neat_content, neat_signature};

mod devices;
mod drivers;
mod inf;
mod limits;
mod pack;
mod signing;
mod single;
mod update;
mod vendor;

pub use devices::{MachineDevice, parse_devices};
pub use drivers::{DriverSet, FoundDriver, IfDamaged};
pub use inf::{Architecture, Device, Driver, Inf, InfLine, NeededFile, Service, Target};
pub use limits::Limits;
pub use pack::{Pack, PackKind};
pub use signing::{DriverSignature, Signing};
pub use single::{Expanded, SingleForm, compress_single, expand_single, is_single_name, single_name};
pub use update::{
    Candidate, FILES_FOLDER, MANIFEST_NAME, Manifest, Ordered, Outcome, TargetEdition, UPDATE_ENDING, Update,
    UpdateSection, UpdateType, Version, order, write_update,
};
pub use vendor::{
    Identity, InnerPackage, PackageFeature, PackageManifest, Parent, VendorForm, VendorPackage, VendorTarget,
    order_vendors,
};
