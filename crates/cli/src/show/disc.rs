//! What `disc` says.

use super::{Sheet, heading_line, size, stick::decimal_size, style};
use neat_recorder::{Disc, DiscKind, guard, write::Outcome, writers::Writer};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

/// JSON form of `disc --list`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WritersView {
    kind: &'static str,
    writers: Vec<WriterView>,
}

/// A writer of this machine.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WriterView {
    #[serde(flatten)]
    writer: Writer,
    /// Why its disc cannot be written.
    refused: Option<String>,
}

/// JSON form of `disc`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WrittenView {
    kind: &'static str,
    path: String,
    source: String,
    disc: DiscKind,
    erased: bool,
    /// Bytes of the ISO file.
    written: u64,
    /// Bytes of zeros behind it.
    behind: u64,
    /// Bytes read back; 0 without.
    compared: u64,
    /// Kilobytes in a second; null where the writer chose.
    speed: Option<u32>,
}

/// JSON form of `disc erase`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct ErasedView {
    kind: &'static str,
    path: String,
    disc: Option<Disc>,
}

impl WriterView {
    pub(crate) fn new(writer: Writer) -> Self {
        let name = writer.path.display().to_string();
        let refused = match writer.mounted.first() {
            Some(place) => Some(format!("its disc is mounted at {place}")),
            None => guard::check_use(&name, writer.disc.as_ref()).err().map(|error| error.to_string()),
        };
        Self { writer, refused }
    }
}

/// Speeds in the words of the kind.
fn speeds(disc: &Disc) -> String {
    let single = disc.kind.map_or(0.0, DiscKind::single_speed);
    let times = |speed: &u32| format!("{:.0}×", f64::from(*speed) / single);
    if single > 0.0 { disc.speeds.iter().map(times).collect::<Vec<_>>().join(", ") } else { String::new() }
}

impl WritersView {
    pub(crate) fn new(writers: Vec<WriterView>) -> Self {
        Self { kind: "writers", writers }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.writers.is_empty()
    }

    pub(crate) fn text(&self) -> String {
        let mut text = String::new();
        for (number, own) in self.writers.iter().enumerate() {
            if number > 0 {
                text.push('\n');
            }
            let Writer { path, model, serial, word, mounted, disc, trouble } = &own.writer;
            let model = if model.is_empty() { "unknown model" } else { model };
            text += &heading_line(&path.display().to_string(), model);
            let mut sheet = Sheet::default();
            sheet.row("serial", if serial.is_empty() { "none" } else { serial });
            if let Some(trouble) = trouble {
                sheet.row("trouble", trouble);
            }
            match disc {
                None => sheet.row("disc", "none"),
                Some(disc) => {
                    sheet.row("disc", disc.words());
                    if let Some(capacity) = disc.capacity {
                        sheet.row("holds", decimal_size(capacity));
                    }
                    if let Some(used) = disc.used.filter(|own| *own > 0) {
                        sheet.row("on it", decimal_size(used));
                    }
                    let speeds = speeds(disc);
                    if !speeds.is_empty() {
                        sheet.row("speeds", speeds);
                    }
                }
            }
            for (number, place) in mounted.iter().enumerate() {
                sheet.row(if number == 0 { "mounted" } else { "" }, place);
            }
            let erases = disc.as_ref().is_some_and(guard::erases);
            match &own.refused {
                Some(reason) => sheet.row("refused", format!("{}{reason}{:#}", style::CARE, style::CARE)),
                None if erases => sheet.row("erase with", format!("--yes-erase {word}")),
                None => sheet.row("write with", format!("--yes-write {word}")),
            }
            text += &sheet.text();
        }
        text
    }
}

impl WrittenView {
    pub(crate) fn new(to: &Path, source: &Path, outcome: &Outcome) -> Self {
        Self {
            kind: "disc",
            path: to.display().to_string(),
            source: source.display().to_string(),
            disc: outcome.kind,
            erased: outcome.erased,
            written: outcome.written,
            behind: outcome.behind,
            compared: outcome.compared,
            speed: outcome.speed,
        }
    }

    pub(crate) fn text(&self) -> String {
        let mut sheet = Sheet::default();
        let erased = if self.erased { ", what was on it is gone" } else { "" };
        sheet.row("disc", format!("{}{erased}", self.disc.label()));
        let behind = if self.behind > 0 {
            format!(", and {} of zeros behind it", size(self.behind))
        } else {
            String::new()
        };
        sheet.row("written", format!("{} of {}{behind}", size(self.written), self.source));
        if let Some(speed) = self.speed {
            sheet.row("speed", format!("{:.0}×", f64::from(speed) / self.disc.single_speed()));
        }
        let right = format!("{}, all of it right", size(self.compared));
        sheet.row("read back", if self.compared > 0 { right } else { "no".into() });
        heading_line(&self.path, &size(self.written)) + &sheet.text()
    }
}

impl ErasedView {
    pub(crate) fn new(path: &Path, disc: Option<Disc>) -> Self {
        Self { kind: "disc-erase", path: path.display().to_string(), disc }
    }

    pub(crate) fn text(&self) -> String {
        let mut sheet = Sheet::default();
        sheet.row("disc", self.disc.as_ref().map_or_else(|| "none".into(), Disc::words));
        heading_line(&self.path, "erased") + &sheet.text()
    }
}
