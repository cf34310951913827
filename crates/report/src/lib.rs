//! Pages to hand on: one HTML file that shows what a plan, a build or an image file comes to, with a map of where the
//! megabytes are. Nothing is fetched, and nothing but sorting needs a script.
//!
//! [`of_ledger`], [`of_plan`] and [`of_image`] make a [`Page`] of what is known; [`Page::html`] writes it.
//!
//! ```
//! use neat_report::{Block, Page, Section};
//! let mut page = Page::new("Bridge console", "Report of a build");
//! page.sections.push(Section::new("Outputs", [Block::sheet([("media", "out/<bridge>.iso")])]));
//! assert!(page.html().contains("out/&lt;bridge&gt;.iso"));
//! ```
#![forbid(unsafe_code)]

mod build;
mod compare;
mod html;
mod image;
mod map;
mod model;
mod style;

pub use build::{Pictures, of_ledger, of_plan};
pub use compare::{of_comparison, of_since};
pub use image::{EditionMap, of_image};
pub use map::{Area, Rect, squarified};
pub use model::{Block, Cell, Head, Page, Remark, Section, Table, Weight, size};
