//! The JSON documents that commands print: which there are, and their schemas.
//!
//! [`Context::print_json`](crate::context::Context::print_json) takes only what is listed here, so that nothing is
//! printed that has no schema.

use crate::show;
use neat_answer::Model;
use neat_stack::{Comparison, EditionSummary, Ledger, PlanReport, Since};
use schemars::{JsonSchema, Schema, SchemaGenerator, generate::SchemaSettings};
use serde::Serialize;

/// What a command prints with `--json`.
pub(crate) trait Document: Serialize + JsonSchema {}

/// Documents that are known by one word.
pub(crate) struct Published {
    /// The word that `schema` takes.
    pub word: &'static str,
    /// Which command prints it.
    pub about: &'static str,
    forms: &'static [fn(&mut SchemaGenerator) -> Schema],
}

macro_rules! documents {
    ($($word:literal, $about:literal: $($form:ty),+;)+) => {
        $($(impl Document for $form {})+)+

        /// All of them.
        pub(crate) const ALL: &[Published] = &[$(
            Published { word: $word, about: $about, forms: &[$(SchemaGenerator::subschema_for::<$form>),+] },
        )+];
    };
}

documents! {
    "answer-change", "`answer insert`, `move` and `remove`": show::answer::ChangedView;
    "answer-check", "`answer check`": show::answer::CheckedView;
    "answer-new", "`answer new`": Model;
    "answer-read", "`answer read`": show::answer::ReadView;
    "check", "`check`": show::check::CheckView;
    "compare", "`compare`; with a page as `report`": Comparison, Since;
    "config", "`config`": show::config::ConfigView;
    "demo", "`demo`": show::build::DemoView;
    "depot-fetch", "`depot fetch`": show::depot::FetchView;
    "depot-index", "`depot index`": show::depot::IndexView;
    "depot-key", "`depot key`": show::depot::KeyView;
    "depot-search", "`depot search`": show::depot::SearchView;
    "depot-serve", "`depot serve`": show::depot::ServeView;
    "depot-sign", "`depot sign`": show::depot::SignView;
    "disc", "`disc`": show::disc::WrittenView;
    "disc-erase", "`disc erase`": show::disc::ErasedView;
    "disks", "`stick --list`": show::stick::DisksView;
    "draft", "`draft`": show::build::DraftView;
    "drivers", "`drivers`": show::drivers::DriversView;
    "editions", "`editions IMAGE`": Vec<EditionSummary>;
    "error", "any command that fails, on standard error": show::build::ErrorView;
    "files", "`files`": Vec<show::image::FileView>;
    "image", "what writes an image file: `editions IMAGE keep` and others, `capture`, `repack`": show::image::WrittenView;
    "inventory", "`inventory`": show::inventory::InventoryView;
    "join", "`join`": show::image::JoinedView;
    "ledger", "`build`, and of several machines a list": Ledger, Vec<Ledger>;
    "look", "`look`": show::media::MediaView, show::image::ImageView, show::machine::MachineView, show::trial::WalksView,
        show::known::HiveView, show::known::RegView, show::known::DriversView, show::known::DriverView,
        show::known::UpdateView, show::known::VendorView, show::known::KindView, show::known::LedgerView,
        show::known::DepotView, show::known::StackView, show::known::AnswerView;
    "manual", "`manual`": show::build::ManualView;
    "master", "`master`": show::media::MasteredView;
    "pick", "`pick` without its screen": show::pick::PickView;
    "plan", "`plan` and `build --dry-run`": PlanReport, show::plan::WaitingView;
    "report", "`report`": show::build::PageView;
    "split", "`split`": show::image::SplitView;
    "stick", "`stick`": show::stick::StickView;
    "stick-update", "`stick update`": show::stick::UpdatedView;
    "take", "`take`": Vec<show::media::TakenView>;
    "touchup", "`touchup ISO put`, `hide` and `show`": show::touchup::DoneView;
    "touchup-list", "`touchup ISO list` and `undo`": show::touchup::HistoryView;
    "trial", "`trial`": show::trial::TrialView;
    "unpack", "`unpack`": show::media::UnpackedView;
    "update-new", "`update new`": show::update::UpdateWrittenView;
    "writers", "`disc --list`": show::disc::WritersView;
}

impl Published {
    /// What it is, in one line.
    pub(crate) fn title(&self) -> String {
        format!("Printed by {}", self.about.replace('`', ""))
    }

    /// The schema, as JSON Schema 2020-12.
    pub(crate) fn schema(&self) -> Schema {
        let mut generator = SchemaSettings::draft2020_12().for_serialize().into_generator();
        let mut forms: Vec<Schema> = self.forms.iter().map(|form| form(&mut generator)).collect();
        let mut schema = match forms.pop() {
            Some(only) if forms.is_empty() => only,
            last => {
                forms.extend(last);
                let mut any = Schema::default();
                any.insert("anyOf".into(), forms.into_iter().map(Schema::to_value).collect());
                any
            }
        };
        schema.insert("$schema".into(), "https://json-schema.org/draft/2020-12/schema".into());
        schema.insert("title".into(), self.title().into());
        let definitions = generator.take_definitions(true);
        if !definitions.is_empty() {
            schema.insert("$defs".into(), definitions.into());
        }
        schema
    }
}
