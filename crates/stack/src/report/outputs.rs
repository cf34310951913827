//! What comes out, in words.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Map, Value};

/// A boot entry in words.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct BootSummary {
    /// For which firmware.
    pub platform: String,
    /// The image: a path on the media, or `hidden image` when no file shows it.
    pub image: String,
    /// Bytes of the image.
    pub size: u64,
    /// Sectors of 512 bytes that the firmware loads; 0 for all.
    pub load_sectors: u16,
    /// Whether a boot-info table is written into it.
    pub boot_info_table: bool,
}

/// What is on the media that comes out, whatever its form.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct MediaSummary {
    /// The ISO file, if one is written; as in the list of outputs, for programs that know only this key.
    pub iso: Option<String>,
    /// The stick, if one is written; as in the list of outputs, for programs that know only this key.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub stick: Option<Map<String, Value>>,
    /// Size of the disc in bytes.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// Number of files on it.
    pub files: u64,
    /// Bytes saved because identical files are stored once.
    pub shared: u64,
    /// How it boots as a disc.
    pub boot: Vec<BootSummary>,
    /// Whether it also starts as a disk.
    pub hybrid: bool,
    /// Answer files that setup will find.
    pub answer_files: Vec<String>,
}

/// A file that comes out.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct OutputSummary {
    /// In which form the media is in it: `disc`, `stick`.
    pub form: &'static str,
    /// The file.
    pub path: String,
    /// Its size in bytes.
    pub size: u64,
    /// Its label.
    pub label: String,
    /// Number of files on it.
    pub files: u64,
    /// What else tells it from others of its form, in a few words; empty for a disc.
    pub what: String,
    /// How it starts.
    pub boot: Vec<String>,
    /// What only its form has.
    #[serde(flatten)]
    pub own: Map<String, Value>,
}

/// A media for one machine.
#[derive(Clone, Debug, Serialize, JsonSchema)]
pub struct VariantSummary {
    /// Its line in the site list.
    pub row: usize,
    /// Name of the machine.
    pub machine: String,
    /// The first of its files; empty when one media serves all machines.
    pub iso: String,
    /// All its files; none when one media serves all machines.
    pub outputs: Vec<String>,
    /// Its label.
    pub label: String,
    /// Its cells by column, in the order of the site list.
    pub cells: Map<String, Value>,
}

impl MediaSummary {
    /// The outputs by the two keys that older programs know.
    pub(crate) fn with_outputs(mut self, outputs: &[OutputSummary]) -> Self {
        let of = |form: &str| outputs.iter().find(|output| output.form == form);
        self.iso = of("disc").map(|output| output.path.clone());
        self.stick = of("stick").map(|output| {
            let mut keys = output.own.clone();
            for (key, value) in [
                ("path", Value::from(output.path.clone())),
                ("size", output.size.into()),
                ("label", output.label.clone().into()),
                ("files", output.files.into()),
                ("boot", output.boot.clone().into()),
            ] {
                keys.insert(key.into(), value);
            }
            // What is a form here was the layout there.
            if let Some(layout) = keys.remove("layout") {
                keys.insert("form".into(), layout);
            }
            keys
        });
        self
    }
}
