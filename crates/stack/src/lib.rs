//! The stack file and what follows from it: the plan, the build, the ledger.
//!
//! [`StackFile::parse`] reads a recipe, [`Prepared::new`] works out everything without writing anything, and
//! [`Prepared::build`] writes the media once and leaves a [`Ledger`].
//!
//! The modules are floors, each of which knows only those before it: `recipe` (what the stack file says), `report` (what
//! is shown of it), `editions` (what a media has), `depot` (where the inputs come from), `change` (what is done to the
//! tree), `output` (the forms in which it comes out), `plan` (everything worked out), `build` (writing it). `draft` and
//! `compare` are beside them.

#![forbid(unsafe_code)]

mod recipe;

mod report;

mod editions;

mod depot;

mod change;

mod lock;
mod output;

mod plan;

mod build;

mod compare;
mod draft;

pub use build::{BuildOptions, BuildOutcome, ledger_path};
pub use change::{MediaBootStore, boot_stores, default_boot, media_facts, restrictions};
pub use compare::{Comparison, EditionComparison, FileChange, ValueChange, compare, compare_editions};
pub use depot::{DepotPlaces, index_folder, resolve_depot};
pub use draft::{DraftOutput, DraftWishes, draft};
pub use editions::{
    compression_for, edition_insides, edition_summaries, edition_summaries_quickly, install_image_path,
    open_image, setup_image_path,
};
pub use lock::{Lock, lock_path};
pub use output::{StickWish, output_names, plan_stick, plan_stick_update};
pub use plan::{Clock, Prepared, Wishes};
pub use recipe::{
    AnswerPlace, AnswerSection, AppSection, CompanySection, CompressionValue, DriverSection, EntryAnswer,
    EntrySection, FileLimitValue, IntoValue, LanguagesSection, MediaSection, MenuSection, OnTimeoutValue,
    PlaceSection, RemoveSection, SettingsSection, SourceSection, StackFile, StackText, StickForm,
    StickSection, TrialValue, UpdateSection, VariantSection, WhenValue,
};
pub use report::{
    AnswersSummary, BootSummary, DepotState, DepotUse, DeviceSummary, EditionInside, EditionSummary,
    EditionWork, Finding, ItemChange, LEDGER_KIND, Ledger, LedgerComponents, LedgerFile, LedgerItem,
    LedgerOutput, LedgerSource, LedgerTrial, MediaSummary, NewComponents, OutputSummary, PlanReport,
    PlanStep, Since, SizeChange, SourceSummary, VariantSummary, Weight,
};
