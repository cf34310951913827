//! Servicing an edition: what is in it, and taking out, putting in and setting up.
//!
//! [`Edition::open`] opens an edition of an image file's draft; [`Inventory::of`] says what is in it; the other modules
//! change its files and hives in memory, and [`Edition::store`] puts it back. Where things lie is a [`Layout`], what is
//! known besides is a [`Catalogue`].

#![forbid(unsafe_code)]

mod boot_store;
mod catalogue;
mod choice;
mod drivers;
mod edition;
mod environment;
mod files;
mod identity;
mod installed;
mod inventory;
pub mod layout;
mod leave_out;
pub mod pattern;
mod record;
mod removal;
mod report;
mod settings;
mod updates;

pub use boot_store::{BootStore, BootStoreEntry, BootStoreFacts};
pub use catalogue::{Catalogue, CatalogueComponent, CatalogueSetting, Profile, SettingValue};
pub use choice::{Choice, ChoiceText, ChoiceTotals, Follows};
pub use drivers::{DriverChoice, PreparedDriver, PreparedDrivers, is_class};
pub use edition::Edition;
pub use environment::{EnvironmentWishes, SCRATCH_SIZES};
pub use files::PreparedFiles;
pub use installed::InstalledState;
pub use inventory::{Category, Component, Inventory, OtherFiles, Scans};
pub use layout::Layout;
pub use leave_out::LeaveOut;
pub use record::{EditionRecord, RECORD_KIND, RecordedDriver, RecordedUpdate};
pub use removal::{Removal, RemovalRequest};
pub use report::{Item, Verdict};
pub use updates::PreparedUpdate;
