//! Colours, each for one meaning.

use anstyle::{AnsiColor, Style};

/// Headings.
pub(crate) const HEADING: Style = Style::new().bold();
/// Names of values.
pub(crate) const QUIET: Style = AnsiColor::Cyan.on_default();
/// Reasons, which are there for those who want them.
pub(crate) const REASON: Style = Style::new().dimmed();
/// Errors and what is refused.
pub(crate) const BAD: Style = AnsiColor::Red.on_default().bold();
/// Dangers.
pub(crate) const CARE: Style = AnsiColor::Yellow.on_default().bold();
/// What to do, and what went well.
pub(crate) const GOOD: Style = AnsiColor::Green.on_default();
