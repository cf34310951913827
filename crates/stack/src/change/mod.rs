//! What is done to the tree of a media, each change with its step in the plan.

mod answers;
pub(crate) mod beside;
mod boot;
pub(crate) mod boot_store;
mod editor;
pub(crate) mod environment;
mod images;
pub(crate) mod leave_out;
mod menu;
pub(crate) mod restrictions;
mod servicing;

pub use answers::media_facts;
pub(crate) use answers::{Given, apply as apply_answers, apply_all as apply_answers_of_all, examine, given};
pub use boot::default_boot;
pub use boot_store::{MediaBootStore, boot_stores};
pub(crate) use editor::Editor;
pub(crate) use images::{
    ImageOutcome, PACKED_WHEN_PLANNED, PendingImage, apply as apply_images, fit_estimate, fit_fat32,
};
pub(crate) use menu::{Machine, apply as apply_menu};
pub use restrictions::restrictions;
pub(crate) use servicing::{Handed, apps::ask_answers, name_in_answers, setup as apply_setup};
