//! What a page consists of.

use crate::map::Area;

/// A page.
#[derive(Clone, Debug, Default)]
pub struct Page {
    /// What it is of.
    pub title: String,
    /// What it is, in a few words.
    pub about: String,
    /// What a person should see first, the heaviest first.
    pub remarks: Vec<Remark>,
    /// Its parts, in order.
    pub sections: Vec<Section>,
}

/// How much a remark weighs.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Weight {
    /// It was refused, or stops setup.
    Bad,
    /// It does something that cannot be taken back.
    Danger,
    /// Good to know.
    Note,
}

/// Something that a person should see.
#[derive(Clone, Debug)]
pub struct Remark {
    /// How much it weighs.
    pub weight: Weight,
    /// The word before it.
    pub word: String,
    /// What there is to say.
    pub message: String,
    /// What to do about it; empty when nothing needs doing.
    pub hint: String,
}

/// A part of a page, with a heading.
#[derive(Clone, Debug)]
pub struct Section {
    /// The heading.
    pub title: String,
    /// What is in it.
    pub blocks: Vec<Block>,
    /// Its mark, where others lead to it; then it begins a sheet of paper and is not named among the sections.
    pub mark: Option<String>,
}

/// Something in a section.
#[derive(Clone, Debug)]
pub enum Block {
    /// Names and values.
    Sheet(Vec<(String, String)>),
    /// A table.
    Table(Table),
    /// A map of sizes, with the table of its areas below.
    Map {
        /// What it shows.
        caption: String,
        /// Areas with areas in them.
        areas: Vec<Area>,
    },
    /// Two sizes as bars.
    Bars {
        /// What they are of.
        caption: String,
        /// Name and bytes of each.
        bars: Vec<(String, u64)>,
    },
    /// A paragraph.
    Text(String),
    /// Lines with a mark before each.
    List(Vec<String>),
    /// A command line to copy.
    Command(String),
    /// A picture.
    Picture {
        /// What it shows, for those who do not see it.
        alt: String,
        /// A PNG file.
        png: Vec<u8>,
    },
}

/// A table.
#[derive(Clone, Debug, Default)]
pub struct Table {
    /// What it lists; empty when the heading says it.
    pub caption: String,
    /// Its columns.
    pub heads: Vec<Head>,
    /// Its rows, a cell for each column.
    pub rows: Vec<Vec<Cell>>,
}

/// A column.
#[derive(Clone, Debug)]
pub struct Head {
    /// Its heading.
    pub text: String,
    /// Whether it holds numbers, which end at one place.
    pub is_number: bool,
}

/// A cell.
#[derive(Clone, Debug, Default)]
pub struct Cell {
    /// What it says.
    pub text: String,
    /// By what it is sorted, when that is not the text.
    pub value: Option<i64>,
    /// Whether it says that something is wrong.
    pub is_bad: bool,
    /// The mark of the section that it leads to.
    pub leads_to: Option<String>,
}

impl Page {
    /// A page with nothing on it.
    pub fn new(title: impl Into<String>, about: impl Into<String>) -> Self {
        Self { title: title.into(), about: about.into(), ..Self::default() }
    }

    /// Adds a section unless it has nothing in it.
    pub fn add(&mut self, title: &str, blocks: impl IntoIterator<Item = Block>) {
        let section = Section::new(title, blocks);
        if !section.blocks.is_empty() {
            self.sections.push(section);
        }
    }
}

impl Section {
    /// A section with these blocks; empty ones are left out.
    pub fn new(title: impl Into<String>, blocks: impl IntoIterator<Item = Block>) -> Self {
        let blocks = blocks.into_iter().filter(|block| !block.is_empty()).collect();
        Self { title: title.into(), blocks, mark: None }
    }
}

impl Block {
    /// Names and values; those without a value are left out.
    pub fn sheet<N: Into<String>, V: Into<String>>(rows: impl IntoIterator<Item = (N, V)>) -> Self {
        let rows = rows.into_iter().map(|(name, value)| (name.into(), value.into()));
        Self::Sheet(rows.filter(|(_, value): &(String, String)| !value.is_empty()).collect())
    }

    /// A table; `heads` are marked with `#` in front where they hold numbers.
    pub fn table(caption: &str, heads: &[&str], rows: Vec<Vec<Cell>>) -> Self {
        let head = |text: &&str| Head {
            text: text.trim_start_matches('#').to_owned(),
            is_number: text.starts_with('#'),
        };
        Self::Table(Table { caption: caption.into(), heads: heads.iter().map(head).collect(), rows })
    }

    fn is_empty(&self) -> bool {
        match self {
            Self::Sheet(rows) => rows.is_empty(),
            Self::Table(table) => table.rows.is_empty(),
            Self::List(lines) => lines.is_empty(),
            Self::Map { areas, .. } => areas.iter().all(|area| area.bytes == 0),
            Self::Bars { bars, .. } => bars.is_empty(),
            Self::Text(text) | Self::Command(text) => text.is_empty(),
            Self::Picture { png, .. } => png.is_empty(),
        }
    }
}

impl Cell {
    /// A cell with text.
    pub fn text(text: impl Into<String>) -> Self {
        Self { text: text.into(), ..Self::default() }
    }

    /// A cell with a number of bytes.
    pub fn bytes(bytes: i64) -> Self {
        let sign = if bytes < 0 { "−" } else { "" };
        Self { text: format!("{sign}{}", size(bytes.unsigned_abs())), value: Some(bytes), ..Self::default() }
    }

    /// A cell with a number of things.
    pub fn count(count: u64) -> Self {
        Self { text: count.to_string(), value: i64::try_from(count).ok(), ..Self::default() }
    }

    /// The same, leading to a section by its mark.
    #[must_use]
    pub fn leading_to(self, mark: impl Into<String>) -> Self {
        Self { leads_to: Some(mark.into()), ..self }
    }

    /// The same, said as something wrong.
    #[must_use]
    pub fn bad(self) -> Self {
        Self { is_bad: true, ..self }
    }
}

/// A number of bytes in the binary unit that fits.
pub fn size(bytes: u64) -> String {
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
