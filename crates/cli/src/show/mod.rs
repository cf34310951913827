//! How things are shown to a person.

pub(crate) mod answer;
pub(crate) mod brief;
pub(crate) mod build;
pub(crate) mod check;
pub(crate) mod compare;
pub(crate) mod config;
pub(crate) mod depot;
pub(crate) mod disc;
pub(crate) mod drivers;
pub(crate) mod image;
pub(crate) mod inventory;
pub(crate) mod items;
pub(crate) mod known;
pub(crate) mod machine;
pub(crate) mod media;
mod older;
pub(crate) mod outside;
pub(crate) mod pick;
pub(crate) mod plan;
pub(crate) mod since;
pub(crate) mod stick;
pub(crate) mod style;
pub(crate) mod touchup;
pub(crate) mod trial;
pub(crate) mod update;

use neat_content::Timestamp;
pub(crate) use neat_report::size;
use std::{borrow::Cow, path::Path};
use unicode_width::UnicodeWidthChar;

/// Date and time in UTC.
pub(crate) fn time(time: Timestamp) -> String {
    jiff::Timestamp::new(time.seconds, 0)
        .map(|time| time.strftime("%Y-%m-%d %H:%M UTC").to_string())
        .unwrap_or_default()
}

/// Width of the terminal that results go to, or for files and pipes what `COLUMNS` says; without it they have lines of
/// any length.
pub(crate) fn terminal_width() -> Option<usize> {
    let terminal = rustix::termios::tcgetwinsize(std::io::stdout()).ok().map(|size| usize::from(size.ws_col));
    let said = || std::env::var("COLUMNS").ok()?.trim().parse().ok();
    terminal.or_else(said).filter(|width| *width >= 40)
}

/// A text that begins at a column, broken between words where the terminal would break within one. It is one line
/// otherwise, wherever it comes from.
pub(crate) fn wrapped(text: &str, column: usize) -> String {
    let text = outside::line(text);
    match terminal_width() {
        Some(width) => wrap(&text, column, width),
        None => text.replace(TOGETHER, " "),
    }
}

/// A name as a heading, and what it is.
pub(crate) fn heading_line(name: &str, what: &str) -> String {
    let (name, what) = (outside::line(name), outside::line(what));
    format!("{}{name}{:#}  {what}\n", style::HEADING, style::HEADING)
}

/// A heading after an empty line.
pub(crate) fn heading(text: &str) -> String {
    format!("\n{}{}{:#}\n", style::HEADING, outside::line(text), style::HEADING)
}

/// A line with a note.
pub(crate) fn note(text: &str) -> String {
    format!("{}note:{:#} {}\n", style::CARE, style::CARE, outside::line(text))
}

/// A path as a word of a command that a person may copy into a shell.
pub(crate) fn in_command(path: &Path) -> String {
    let text = path.display().to_string();
    let is_plain = |c: char| c.is_alphanumeric() || "_-./+=:,@%".contains(c);
    if !text.is_empty() && text.chars().all(is_plain) && !text.starts_with('-') {
        return text;
    }
    let quoted = text.replace('\'', r"'\''");
    if text.starts_with('-') { format!("'./{quoted}'") } else { format!("'{quoted}'") }
}

/// Cells in columns; those whose numbers are in `right` end at one place. Empty columns are left out. Where the lines
/// would not fit the terminal, the widest cells lose their middle.
pub(crate) fn table(rows: &[Vec<String>], right: &[usize]) -> Vec<String> {
    table_of_width(rows, right, terminal_width())
}

fn table_of_width(rows: &[Vec<String>], right: &[usize], width: Option<usize>) -> Vec<String> {
    let mut rows: Vec<Vec<Cow<'_, str>>> =
        rows.iter().map(|row| row.iter().map(|cell| outside::line(cell)).collect()).collect();
    let columns = rows.iter().map(Vec::len).max().unwrap_or(0);
    let widest = |column: usize| {
        rows.iter().filter_map(|row| row.get(column)).map(|cell| visible_len(cell)).max().unwrap_or(0)
    };
    let mut widths: Vec<usize> = (0..columns).map(widest).collect();
    if let Some(width) = width {
        fit(&mut widths, right, width);
        for row in &mut rows {
            for (cell, width) in row.iter_mut().zip(&widths) {
                if visible_len(cell) > *width {
                    *cell = without_middle(cell, *width).into();
                }
            }
        }
    }
    let line = |row: &Vec<Cow<'_, str>>| {
        let cells = row.iter().enumerate().filter(|(column, _)| widths[*column] > 0).map(|(column, cell)| {
            let padding = " ".repeat(widths[column].saturating_sub(visible_len(cell)));
            if right.contains(&column) { format!("{padding}{cell}") } else { format!("{cell}{padding}") }
        });
        cells.collect::<Vec<_>>().join("  ").trim_end().to_owned()
    };
    rows.iter().map(line).collect()
}

/// Makes the widest columns narrower until lines fit; numbers stay whole.
fn fit(widths: &mut [usize], right: &[usize], width: usize) {
    /// What tables are indented by, at most.
    const INDENT: usize = 4;
    /// No column gets narrower than this.
    const LEAST: usize = 10;
    loop {
        let shown = widths.iter().filter(|own| **own > 0).count();
        let total = widths.iter().sum::<usize>() + 2 * shown.saturating_sub(1) + INDENT;
        let wide = widths.iter_mut().enumerate().filter(|(n, own)| !right.contains(n) && **own > LEAST);
        match wide.max_by_key(|(_, own)| **own) {
            Some((_, widest)) if total > width => {
                *widest -= (total - width).min(*widest - LEAST).clamp(1, 8);
            }
            _ => return,
        }
    }
}

/// A text in `width` columns, with a mark in place of its middle. What has colours is left as it is: it is ours, and short.
fn without_middle(text: &str, width: usize) -> String {
    let letters: Vec<char> = text.chars().collect();
    if width < 3 || letters.iter().any(|c| !style::takes_place(*c)) {
        return text.to_owned();
    }
    let len = |letters: &[char]| letters.iter().map(|c| c.width().unwrap_or(0)).sum::<usize>();
    // The end of a path says more than its start.
    let (mut front, mut back) =
        ((width - 1) / 3, letters.len() - (width - 1 - (width - 1) / 3).min(letters.len()));
    while len(&letters[..front]) + 1 + len(&letters[back..]) > width && (front > 0 || back < letters.len()) {
        if front > 0 {
            front -= 1;
        } else {
            back += 1;
        }
    }
    letters[..front].iter().chain(&['…']).chain(&letters[back..]).collect()
}

pub(crate) fn wrap(text: &str, column: usize, width: usize) -> String {
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
    out.replace(TOGETHER, " ")
}

/// A blank at which no line is broken, in text that is wrapped.
pub(crate) const TOGETHER: &str = "\u{a0}";

/// Columns that a text takes on a terminal: colours take none, the letters of some scripts two.
fn visible_len(text: &str) -> usize {
    text.chars().filter(|c| style::takes_place(*c)).map(|c| c.width().unwrap_or(0)).sum()
}

pub(crate) use neat_content::counted as count;

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
        let width = self.rows.iter().map(|(name, _)| visible_len(name)).max().unwrap_or(0);
        let line = |(name, value): &(String, String)| {
            let padding = " ".repeat(width - visible_len(name));
            let (name, value) = (outside::line(name), wrapped(&outside::shortened(value), width + 4));
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
        assert_eq!(visible_len(&format!("{}red{:#}, ü", style::BAD, style::BAD)), 6);
    }

    #[test]
    fn columns_stand_under_each_other_in_every_script() {
        let row = |name: &str| vec![name.to_owned(), "1".to_owned()];
        let lines = table(&[row("埠頭"), row("kai"), row("e\u{301}")], &[]);
        assert_eq!(lines, ["埠頭  1", "kai   1", "e\u{301}     1"]);
        let mut sheet = Sheet::default();
        sheet.row("埠", "x");
        sheet.row("abc", "y");
        let plain: Vec<String> = sheet
            .text()
            .lines()
            .map(|line| line.chars().filter(|c| style::takes_place(*c)).collect())
            .collect();
        assert_eq!(plain, ["  埠   x", "  abc  y"]);
    }

    #[test]
    fn tables_fit_the_terminal() {
        let row = |path: &str, size: &str, why: &str| vec![path.to_owned(), size.to_owned(), why.to_owned()];
        let rows = [
            row(
                "Program Files/WindowsApps/card-games_7.0.1.0_x64__bw7ferry/AppxManifest.xml",
                "390 bytes",
                "gone",
            ),
            row(
                "埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭埠頭",
                "1.2 GiB",
                "new and larger than it was",
            ),
        ];
        assert!(table_of_width(&rows, &[1], None)[0].contains("/AppxManifest.xml  390 bytes"));
        for width in [40, 60, 80] {
            let lines = table_of_width(&rows, &[1], Some(width));
            assert!(lines.iter().all(|line| visible_len(line) + 4 <= width), "{width}: {lines:#?}");
            assert!(lines[0].contains('…') && lines[0].contains("390 bytes"), "{lines:?}");
        }
        let narrow = table_of_width(&rows, &[1], Some(80));
        assert!(narrow[0].starts_with("Program") && narrow[0].contains("Manifest.xml"), "{narrow:?}");
    }

    #[test]
    fn paths_in_commands_are_one_word() {
        for (path, word) in [
            ("out/a-1.iso", "out/a-1.iso"),
            ("a b;rm -rf x", "'a b;rm -rf x'"),
            ("it's", r"'it'\''s'"),
            ("-o", "'./-o'"),
            ("", "''"),
        ] {
            assert_eq!(in_command(Path::new(path)), word);
        }
    }

    #[test]
    fn sizes_read_well() {
        assert_eq!(size(0), "0 bytes");
        assert_eq!(size(4096), "4.0 KiB");
        assert_eq!(size(5_000_000_000), "4.7 GiB");
        assert_eq!(size(u64::MAX), "16777216.0 TiB");
    }
}
