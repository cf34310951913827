//! What the setup environment starts and how it is set up, as such environments are documented.

use crate::{
    Edition, Item,
    settings::{language_data, set_line},
};
use neat_content::{Content, Result};
use neat_image::BlobDigest;
use neat_registry::{RegLine, ValueKind, text_data};

/// Largest wallpaper, in bytes.
const LARGEST_PICTURE: u64 = 64 << 20;
/// Sizes of the scratch space that such environments know, in MiB.
pub const SCRATCH_SIZES: [u32; 5] = [32, 64, 128, 256, 512];

/// How a setup environment is wanted.
#[derive(Clone, Debug, Default)]
pub struct EnvironmentWishes {
    /// Command lines that are run when it has started, before its prompt; none leaves what it starts.
    pub start: Option<Vec<String>>,
    /// Room for files that are written while it runs, in MiB.
    pub scratch: Option<u32>,
    /// Keyboards, as numbers of eight digits.
    pub keyboards: Vec<String>,
    /// Language of the interface and of regional forms, where it has it.
    pub language: Option<String>,
    /// Its wallpaper.
    pub wallpaper: Option<Content>,
    /// Whether files that are there may be replaced.
    pub replace: bool,
}

impl Edition {
    /// Sets a setup environment up.
    pub fn set_environment(&mut self, wishes: &EnvironmentWishes) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        let common = self.layout_for("the setup environment")?;
        let layout = common.section(common.environment.as_ref(), "environment", "the setup environment")?;
        if let Some(lines) = &wishes.start {
            if let Some(line) =
                lines.iter().find(|line| !line.bytes().all(|byte| (0x20..0x7F).contains(&byte)))
            {
                // Which code page a prompt reads its file in depends on its language.
                items.push(Item::refused("file", line, "a line that is started has plain letters alone"));
                return Ok(items);
            }
            let script: String = std::iter::once("@echo off\r\n".to_owned())
                .chain(lines.iter().map(|line| format!("{line}\r\n")))
                .collect();
            let prompt = if lines.is_empty() {
                layout.prompt.clone()
            } else {
                // The prompt stays when the lines are done: the machine restarts when the last program ends.
                format!("{}, /k {}", layout.prompt, layout.script_when_running)
            };
            let launcher = format!("[LaunchApps]\r\n{}\r\n{prompt}\r\n", layout.first);
            if !lines.is_empty() {
                items.push(self.put_start_file(&layout.script, script.into_bytes(), wishes.replace)?);
            }
            items.push(self.put_start_file(&layout.launcher, launcher.into_bytes(), wishes.replace)?);
        }
        if let Some(content) = &wishes.wallpaper {
            let bytes = content.to_vec(LARGEST_PICTURE, "wallpaper")?;
            // The file is known by its name, and is a JPEG whatever that says.
            items.push(if bytes.starts_with(&[0xFF, 0xD8, 0xFF]) {
                self.put_start_file(&layout.wallpaper, bytes, wishes.replace)?
            } else {
                let subject = format!("setup:/{}", self.place(&layout.wallpaper));
                Item::refused("file", subject, "the setup environment shows JPEG files alone")
            });
        }
        let mut lines: Vec<RegLine> = Vec::new();
        if let Some(scratch) = wishes.scratch {
            let data = scratch.to_le_bytes().to_vec();
            let own = set_line(self, &layout.scratch, None, ValueKind::NUMBER, data);
            items.extend(add_lines("setting", "scratch", own.into_iter(), &mut lines));
        }
        let languages = common.languages.as_ref();
        for (n, keyboard) in wishes.keyboards.iter().enumerate() {
            let name = (n + 1).to_string();
            let values = languages.into_iter().flat_map(|own| &own.input);
            let own = values
                .filter_map(|value| set_line(self, value, Some(&name), ValueKind::TEXT, text_data(keyboard)));
            items.extend(add_lines("setting", keyboard, own, &mut lines));
        }
        if let Some(language) = &wishes.language {
            let has = self.languages();
            if has.iter().any(|own| own.eq_ignore_ascii_case(language)) || has.is_empty() {
                let values = languages.into_iter().flat_map(|own| own.interface.iter().chain(&own.region));
                let own = values.filter_map(|value| {
                    let (kind, data) = language_data(value, language);
                    set_line(self, value, None, kind, data)
                });
                items.extend(add_lines("language", language, own, &mut lines));
            } else {
                let why = format!("the environment has {}; put the language in first", has.join(", "));
                items.push(Item::refused("language", language, why));
            }
        }
        if !lines.is_empty() {
            items.extend(self.apply_lines("setting", "environment", &lines)?);
        }
        Ok(items)
    }

    /// Puts a file that decides what starts; one that is there with other bytes is replaced only if that is allowed.
    fn put_start_file(&mut self, path: &str, bytes: Vec<u8>, replace: bool) -> Result<Item> {
        let path = self.place(path);
        let subject = format!("setup:/{path}");
        let before = self.files.find(&path).map(|id| self.files.entry(id).content());
        if before == Some(BlobDigest::of(&bytes)) {
            return Ok(Item::skipped("file", subject, "the same bytes are there already"));
        }
        if before.is_some() && !replace {
            let why = "it is there already, with other bytes; write `replace = true` in [environment] if that is meant";
            return Ok(Item::refused("file", subject, why));
        }
        let delta = bytes.len() as i64 - before.map_or(0, |digest| self.len_of(digest) as i64);
        self.put_bytes(&path, bytes)?;
        Ok(Item::applied("file", subject, if before.is_some() { "replaced" } else { "new" }, delta))
    }
}

/// Adds what sets one thing; nothing that could be set is a refusal.
fn add_lines(
    kind: &'static str,
    subject: &str,
    own: impl Iterator<Item = RegLine>,
    lines: &mut Vec<RegLine>,
) -> Option<Item> {
    let before = lines.len();
    lines.extend(own);
    (lines.len() == before)
        .then(|| Item::refused(kind, subject, "the environment has no hive in which that is set"))
}
