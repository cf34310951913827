//! Driver information files (INF): text, sections, models, files.

mod files;
mod model;
mod parse;
mod services;

pub use files::NeededFile;
pub use model::{Architecture, Device, Driver, Target};
pub(crate) use parse::LARGEST;
pub use parse::{Inf, InfLine};
pub use services::Service;
