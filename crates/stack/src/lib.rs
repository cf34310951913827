//! The stack file and what follows from it: the plan, the build, the ledger.
//!
//! [`StackFile::parse`] reads a recipe, [`Prepared::new`] works out everything without writing anything, and
//! [`Prepared::build`] writes the media once and leaves a [`Ledger`].

#![forbid(unsafe_code)]

mod answers;
mod boot;
mod build;
mod compare;
mod depot;
mod draft;
mod edit;
mod file;
mod images;
mod keys;
mod ledger;
mod menu;
mod names;
mod outputs;
mod plan;
mod recipe;
mod servicing;
mod stick;
mod variants;

pub use answers::media_facts;
pub use boot::default_boot;
pub use build::{BuildOptions, BuildOutcome, ledger_path};
pub use compare::{Comparison, EditionComparison, FileChange, compare};
pub use depot::{DepotPlaces, DepotState, DepotUse, index_folder, resolve_depot};
pub use draft::draft;
pub use file::{
    AnswerSection, AppSection, CompanySection, CompressionValue, DriverSection, FileLimitValue, IntoValue,
    LanguagesSection, MediaSection, MenuSection, PlaceSection, RemoveSection, SettingsSection, SourceSection,
    StackFile, StickSection, TrialValue, UpdateSection, WhenValue,
};
pub use images::{
    EditionInside, EditionSummary, compression_for, edition_insides, edition_summaries,
    edition_summaries_quickly, install_image_path, open_image, setup_image_path,
};
pub use ledger::{LEDGER_KIND, Ledger, LedgerFile, LedgerOutput, LedgerSource, LedgerTrial};
pub use names::Clock;
pub use plan::{
    BootSummary, Finding, OutputSummary, PlanReport, PlanStep, Prepared, SourceSummary, StickSummary,
    VariantSummary, Weight, Wishes,
};
pub use servicing::{EditionWork, LedgerItem};
pub use stick::{StickForm, StickWish, plan_stick, plan_stick_update};
