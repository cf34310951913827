//! Registry hives: read, edit, write; and registration text.
//!
//! [`Hive::read`] takes the bytes of a hive file, [`Hive::write`] gives those of a compact one. Between the two, keys
//! and values are found, set and deleted. [`RegText`] is the text form of such changes, [`locate`] says which hive of an
//! edition a path in it means, and [`compare`] makes the text that turns one hive into another.
//!
//! ```
//! use neat_registry::{Hive, ValueKind, text, text_data};
//!
//! // A key's security descriptor comes from whoever makes the hive; this one is empty.
//! let mut hive = Hive::new(5, "ROOT", &[1, 0, 4, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0], 0);
//! let key = hive.create("Brackwater\\Console").unwrap();
//! hive.set(key, "Greeting", ValueKind::TEXT, &text_data("all aboard")).unwrap();
//!
//! let bytes = hive.write()?;
//! let hive = Hive::read(bytes)?;
//! let value = hive.value_at("brackwater\\console", "greeting").unwrap();
//! assert_eq!(text(hive.data(value)), "all aboard");
//! # Ok::<(), neat_content::Error>(())
//! ```

#![warn(clippy::missing_errors_doc)]
#![forbid(unsafe_code)]

/// The crate whose types stand in the signatures here.
pub use neat_content;

mod compare;
pub mod layout;
mod limits;
mod model;
mod read;
mod roots;
mod text;
mod value;
mod write;

pub use compare::compare;
pub use limits::Limits;
pub use model::{BadName, Counts, Hive, KeyId, Value};
pub use read::{LARGEST, is_hive};
pub use roots::{HiveRole, locate};
pub use text::{Change, RegLine, RegText, Signature, is_reg_text, shown};
pub use value::{ValueKind, number, text, text_data, texts, texts_data};
