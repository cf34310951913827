//! How things are shown to a person.

pub(crate) mod answer;
pub(crate) mod depot;
pub(crate) mod image;
pub(crate) mod media;
pub(crate) mod plan;
pub(crate) mod service;
pub(crate) mod stick;
pub(crate) mod style;
pub(crate) mod touchup;
pub(crate) mod trial;

use neat_content::Timestamp;

/// A number of bytes in the binary unit that fits.
pub(crate) fn size(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return format!("{bytes} bytes");
    }
    let mut value = bytes as f64 / 1024.0;
    let mut unit = 0;
    while value >= 1024.0 && unit + 1 < UNITS.len() {
        value /= 1024.0;
        unit += 1;
    }
    format!("{value:.1} {}", UNITS[unit])
}

/// Date and time in UTC.
pub(crate) fn time(time: Timestamp) -> String {
    jiff::Timestamp::new(time.seconds, 0)
        .map(|time| time.strftime("%Y-%m-%d %H:%M UTC").to_string())
        .unwrap_or_default()
}

/// Width of the terminal that results go to; none for files and pipes, which have lines of any length.
fn terminal_width() -> Option<usize> {
    let size = rustix::termios::tcgetwinsize(std::io::stdout()).ok()?;
    Some(usize::from(size.ws_col)).filter(|width| *width >= 40)
}

/// A text that begins at a column, broken between words where the terminal would break within one.
pub(crate) fn wrapped(text: &str, column: usize) -> String {
    match terminal_width() {
        Some(width) => wrap(text, column, width),
        None => text.to_owned(),
    }
}

fn wrap(text: &str, column: usize, width: usize) -> String {
    let mut out = String::new();
    let mut at = column;
    for word in text.split(' ') {
        let len = visible_len(word);
        if at > column && at + 1 + len > width {
            out.push('\n');
            out.push_str(&" ".repeat(column));
            at = column;
        } else if at > column {
            out.push(' ');
            at += 1;
        }
        out.push_str(word);
        at += len;
    }
    out
}

/// Characters that take a place: colours do not.
fn visible_len(text: &str) -> usize {
    let mut in_colour = false;
    let takes_place = |c: char| {
        let was = in_colour;
        in_colour = c == '\u{1b}' || (in_colour && c != 'm');
        !was && !in_colour
    };
    text.chars().map(takes_place).filter(|takes| *takes).count()
}

/// A number with its noun.
pub(crate) fn count(number: u64, one: &str, many: &str) -> String {
    if number == 1 { format!("1 {one}") } else { format!("{number} {many}") }
}

/// Lines of a name and a value, the values in one column.
#[derive(Default)]
pub(crate) struct Sheet {
    rows: Vec<(String, String)>,
}

impl Sheet {
    /// Adds a line; an empty name goes on with the one above.
    pub(crate) fn row(&mut self, name: &str, value: impl Into<String>) {
        self.rows.push((name.into(), value.into()));
    }

    /// Adds a line unless the value is empty.
    pub(crate) fn row_if(&mut self, name: &str, value: &str) {
        if !value.is_empty() {
            self.row(name, value);
        }
    }

    /// The text, indented by two.
    pub(crate) fn text(&self) -> String {
        let width = self.rows.iter().map(|(name, _)| name.chars().count()).max().unwrap_or(0);
        let line = |(name, value): &(String, String)| {
            let padding = " ".repeat(width - name.chars().count());
            let value = wrapped(value, width + 4);
            format!("  {}{name}{:#}{padding}  {value}\n", style::QUIET, style::QUIET)
        };
        self.rows.iter().map(line).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn long_texts_are_broken_between_words() {
        assert_eq!(wrap("one two three", 2, 9), "one two\n  three");
        assert_eq!(wrap("a-word-longer-than-the-line x", 2, 9), "a-word-longer-than-the-line\n  x");
        assert_eq!(wrap("", 2, 9), "");
        assert_eq!(visible_len("\u{1b}[1m\u{1b}[31mred\u{1b}[0m, ü"), 6);
    }

    #[test]
    fn sizes_read_well() {
        assert_eq!(size(0), "0 bytes");
        assert_eq!(size(4096), "4.0 KiB");
        assert_eq!(size(5_000_000_000), "4.7 GiB");
        assert_eq!(size(u64::MAX), "16777216.0 TiB");
    }
}
