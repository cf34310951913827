//! Setting up: values of the registry, services, features, languages, company, desktop.

use crate::{
    Catalogue, CatalogueSetting, Edition, Inventory, Item, SettingValue, inventory::START_TYPES, pattern,
};
use neat_content::{Content, Error, Result};
use neat_image::BlobDigest;
use neat_registry::{BadName, Change, HiveRole, RegLine, RegText, ValueKind, shown, text_data, texts_data};

/// Largest picture, in bytes.
const LARGEST_PICTURE: u64 = 256 << 20;

pub(crate) fn bad_name(path: &str, error: BadName) -> Error {
    Error::request(format!("{path}: {error}"), "use another name")
}

/// A change of the registry in words: from what to what.
fn change_text(edition: &Edition, role: HiveRole, path: &str, change: &Change) -> Option<String> {
    let hive = edition.hive(role)?;
    let value_text = |name: &str| if name.is_empty() { "(default)".to_owned() } else { name.to_owned() };
    Some(match change {
        Change::Key if hive.find(path).is_some() => return None,
        Change::Key => "new key".into(),
        Change::DeleteKey => match hive.find(path) {
            Some(_) => "the key and all below it → gone".into(),
            None => return None,
        },
        Change::DeleteValue { name } => match hive.value_at(path, name) {
            Some(value) => format!("{}: {} → gone", value_text(name), shown(value.kind(), hive.data(value))),
            None => return None,
        },
        Change::Set { name, kind, data } => {
            let before = hive.value_at(path, name);
            if before.is_some_and(|value| hive.content(value) == (*kind, data.as_slice())) {
                return None;
            }
            let before =
                before.map_or_else(|| "nothing".to_owned(), |value| shown(value.kind(), hive.data(value)));
            format!("{}: {before} → {}", value_text(name), shown(*kind, data))
        }
    })
}

impl Edition {
    /// Applies changes of the registry. Each that changes something becomes an item; `subject` says whose they are.
    pub fn apply_lines(&mut self, kind: &'static str, subject: &str, lines: &[RegLine]) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        let mut missing: Vec<HiveRole> = Vec::new();
        for line in lines {
            let place =
                if line.line > 0 { format!("{subject}, line {}", line.line) } else { subject.to_owned() };
            let (role, path) = self.locate(&line.key).map_err(|error| error.within(&place))?;
            if self.hive(role).is_none() {
                if !missing.contains(&role) {
                    missing.push(role);
                    items.push(Item::refused(
                        kind,
                        subject,
                        format!("the edition has no hive {}", role.root()),
                    ));
                }
                continue;
            }
            let Some(text) = change_text(self, role, &path, &line.change) else { continue };
            self.hive_mut(role)?
                .apply(&path, &line.change)
                .map_err(|error| bad_name(&line.key, error).within(&place))?;
            // A new key is told by the values in it.
            if line.change != Change::Key {
                let join = if line.change == Change::DeleteKey { ": " } else { "\\" };
                items.push(Item::applied(kind, subject, format!("{}{join}{text}", line.key), 0));
            }
        }
        if items.is_empty() {
            items.push(Item::skipped(kind, subject, "all of it is as wanted already"));
        }
        Ok(items)
    }

    /// Notes keys that values are put into and that are not there: a slip of the pen makes them too.
    fn note_new_keys(&mut self, subject: &str, lines: &[RegLine]) -> Result<()> {
        let mut new: Vec<&str> = Vec::new();
        for line in lines.iter().filter(|line| matches!(line.change, Change::Set { .. })) {
            let (role, path) = self.locate(&line.key)?;
            let is_new = self.hive(role).is_some_and(|hive| hive.find(&path).is_none());
            if is_new && !new.contains(&line.key.as_str()) {
                new.push(&line.key);
            }
        }
        self.notes.extend(new.iter().map(|key| format!("{subject} makes a key that is not there: {key}")));
        Ok(())
    }

    /// Applies a registration text.
    pub fn apply_reg(&mut self, subject: &str, text: &RegText) -> Result<Vec<Item>> {
        self.note_new_keys(subject, &text.lines).map_err(|error| error.within(subject))?;
        self.apply_lines("setting", subject, &text.lines)
    }

    /// Applies values as a person writes them.
    pub fn apply_values(&mut self, subject: &str, values: &[SettingValue]) -> Result<Vec<Item>> {
        let lines = values.iter().map(SettingValue::to_line).collect::<Result<Vec<_>>>()?;
        self.note_new_keys(subject, &lines)?;
        self.apply_lines("setting", subject, &lines)
    }

    /// Applies a setting of a catalogue by its id.
    pub fn apply_setting(&mut self, id: &str, catalogues: &[Catalogue]) -> Result<Vec<Item>> {
        let product = self.info.system.as_ref().map_or("", |system| &system.product).to_owned();
        let settings = || catalogues.iter().filter(|own| own.is_for(&product)).flat_map(|own| &own.settings);
        let Some(setting) = settings().find(|setting| setting.id == id) else {
            let near = pattern::nearest(id, settings().map(|setting| setting.id.as_str()));
            let hint = if near.is_empty() {
                "name the catalogue that has it in `catalogues`".to_owned()
            } else {
                format!("did you mean {}?", near.join(", "))
            };
            return Err(Error::request(format!("no catalogue has a setting {id:?}"), hint));
        };
        let CatalogueSetting { values, services, features, .. } = setting;
        let mut items = if values.is_empty() { Vec::new() } else { self.apply_values(id, values)? };
        for (name, start) in services {
            items.push(self.set_service(name, start)?);
        }
        for (name, on) in features {
            items.push(self.set_feature(name, *on, None)?);
        }
        if !self.record.settings.iter().any(|own| own == id) {
            self.record.settings.push(id.to_owned());
        }
        Ok(items)
    }

    /// Sets the start type of a service: `boot`, `system`, `automatic`, `manual` or `disabled`.
    pub fn set_service(&mut self, name: &str, start: &str) -> Result<Item> {
        let layout = self.layout_for("a service")?;
        let services = layout.section(layout.services.as_ref(), "services", "a service")?;
        let Some((word, number)) = START_TYPES.iter().find(|(word, _)| *word == start) else {
            let words: Vec<&str> = START_TYPES.iter().map(|(word, _)| *word).collect();
            return Err(Error::request(
                format!("service {name}: {start:?} is no start type"),
                format!("write {}", words.join(", ")),
            ));
        };
        let base = self.in_hive(HiveRole::System, &services.keys);
        let path = format!("{base}\\{name}");
        let Some(hive) = self.hive(HiveRole::System) else {
            return Ok(Item::refused("service", name, "the edition has no hive of the system"));
        };
        let Some(id) = hive.find(&path) else {
            let names: Vec<String> = hive
                .find(&base)
                .map(|id| hive.children(id).iter().map(|id| hive.name(*id)).collect())
                .unwrap_or_default();
            let near = pattern::nearest(name, names.iter().map(String::as_str));
            let hint =
                if near.is_empty() { String::new() } else { format!("; did you mean {}?", near.join(", ")) };
            return Ok(Item::refused("service", name, format!("the edition has no such service{hint}")));
        };
        let before = hive.number_at(&path, "Start");
        let name = hive.name(id);
        if before == Some(u64::from(*number)) {
            return Ok(Item::skipped("service", name, format!("it is {word} already")));
        }
        let before =
            before.and_then(|before| START_TYPES.iter().find(|(_, number)| u64::from(*number) == before));
        let before = before.map_or("not set", |(word, _)| word);
        let hive = self.hive_mut(HiveRole::System)?;
        hive.set(id, "Start", ValueKind::NUMBER, &number.to_le_bytes())
            .map_err(|error| bad_name(&path, error))?;
        Ok(Item::applied("service", name, format!("start: {before} → {word}"), 0))
    }

    /// Switches an optional feature on or off.
    pub fn set_feature(&mut self, name: &str, on: bool, inventory: Option<&Inventory>) -> Result<Item> {
        let layout = self.layout_for("a feature")?;
        let packages = layout.section(layout.packages.as_ref(), "packages", "a feature")?;
        let scanned;
        let inventory = if let Some(inventory) = inventory {
            inventory
        } else {
            scanned = Inventory::unweighed(self, &[])?;
            &scanned
        };
        let id = if name.starts_with("feature/") {
            name.to_owned()
        } else {
            format!("feature/{}", crate::inventory::slug(name))
        };
        let found = inventory.components.get(&id).and_then(|component| component.values.first());
        let Some((role, key, value)) = found.cloned() else {
            let features = inventory.components.keys().filter_map(|id| id.strip_prefix("feature/"));
            let near = pattern::nearest(name, features);
            let hint =
                if near.is_empty() { String::new() } else { format!("; did you mean {}?", near.join(", ")) };
            return Ok(Item::refused("feature", name, format!("the edition has no such feature{hint}")));
        };
        let wanted = if on { packages.on } else { packages.off };
        let word = |on: bool| if on { "on" } else { "off" };
        let is_on =
            self.hive(role).and_then(|hive| hive.number_at(&key, &value)) == Some(u64::from(packages.on));
        if is_on == on {
            return Ok(Item::skipped("feature", id, format!("it is {} already", word(on))));
        }
        // A feature that is on needs what it needs to be on.
        if on && let Some(component) = inventory.components.get(&id) {
            let off = component
                .needs
                .iter()
                .find(|need| inventory.components.get(*need).is_some_and(|need| need.state == "off"));
            if let Some(off) = off {
                return Ok(Item::refused("feature", id, format!("it needs {off}, which is off")));
            }
        }
        let hive = self.hive_mut(role)?;
        let Some(found) = hive.find(&key) else {
            return Ok(Item::refused("feature", id, "its record in the registry is gone"));
        };
        hive.set(found, &value, ValueKind::NUMBER, &wanted.to_le_bytes())
            .map_err(|error| bad_name(&key, error))?;
        Ok(Item::applied("feature", id, format!("{} → {}", word(is_on), word(on)), 0))
    }

    /// Sets the languages: of the interface, of regional forms, and keyboards (numbers of layouts, as the registry has
    /// them). What is empty stays.
    pub fn set_languages(
        &mut self,
        interface: &str,
        region: &str,
        keyboards: &[String],
    ) -> Result<Vec<Item>> {
        let layout = self.layout_for("languages")?;
        let layout = layout.section(layout.languages.as_ref(), "languages", "languages")?;
        let mut lines = Vec::new();
        let own = self.languages();
        if !interface.is_empty()
            && !own.is_empty()
            && !own.iter().any(|own| own.eq_ignore_ascii_case(interface))
        {
            return Ok(vec![Item::refused(
                "language",
                interface,
                format!("the edition has {}; put the language in first", own.join(", ")),
            )]);
        }
        for (language, values) in [(interface, &layout.interface), (region, &layout.region)] {
            for value in values.iter().filter(|_| !language.is_empty()) {
                let (kind, data) = language_data(value, language);
                lines.push((value, value.value.clone(), kind, data));
            }
        }
        for value in &layout.input {
            for (n, keyboard) in keyboards.iter().enumerate() {
                lines.push((value, (n + 1).to_string(), ValueKind::TEXT, text_data(keyboard)));
            }
        }
        let lines: Vec<RegLine> = lines
            .into_iter()
            .map(|(value, name, kind, data)| {
                let root = crate::layout::role(&value.hive).map_or("", HiveRole::root);
                RegLine {
                    key: format!("{root}\\{}", value.key),
                    change: Change::Set { name, kind, data },
                    line: 0,
                }
            })
            .collect();
        self.apply_lines("language", "languages", &lines)
    }

    /// Sets what the system says of the company; names of values as the registry has them. `logo` is a picture.
    pub fn set_company(
        &mut self,
        values: &[(&str, &str)],
        logo: Option<(&str, &Content)>,
    ) -> Result<Vec<Item>> {
        let layout = self.layout_for("the company")?;
        let company = layout.section(layout.company.as_ref(), "company", "the company")?;
        let key = format!("{}\\{}", HiveRole::Software.root(), company.key);
        let mut values: Vec<(String, String)> =
            values.iter().map(|(name, text)| ((*name).to_owned(), (*text).to_owned())).collect();
        let mut items = Vec::new();
        if let Some((name, content)) = logo {
            let ending = name.rsplit_once('.').map_or("", |(_, ending)| ending);
            let path = format!("{}.{ending}", self.place(&company.logo));
            items.push(self.put_picture(&path, content)?);
            let disk = layout.section(layout.run_once.as_ref(), "run_once", "the company's logo")?;
            values.push(("Logo".into(), disk_path(&disk.disk, &path)));
        }
        let lines: Vec<RegLine> = values
            .into_iter()
            .map(|(name, text)| RegLine {
                key: key.clone(),
                change: Change::Set { name, kind: ValueKind::TEXT, data: text_data(&text) },
                line: 0,
            })
            .collect();
        items.extend(self.apply_lines("setting", "company", &lines)?);
        Ok(items)
    }

    /// Puts a picture among the wallpapers, and makes it that of new accounts.
    pub fn set_wallpaper(&mut self, name: &str, content: &Content) -> Result<Vec<Item>> {
        let layout = self.layout_for("a wallpaper")?;
        let wallpapers = layout.section(layout.wallpapers.as_ref(), "wallpapers", "a wallpaper")?;
        let desktop = layout.section(layout.desktop.as_ref(), "desktop", "a wallpaper")?;
        let disk = layout.section(layout.run_once.as_ref(), "run_once", "a wallpaper")?;
        let path = format!("{}/Company/{name}", self.place(&wallpapers.folder));
        let mut items = vec![self.put_picture(&path, content)?];
        let lines: Vec<RegLine> = desktop
            .wallpaper
            .iter()
            .map(|value| {
                let root = crate::layout::role(&value.hive).map_or("", HiveRole::root);
                let data = text_data(&disk_path(&disk.disk, &path));
                RegLine {
                    key: format!("{root}\\{}", value.key),
                    change: Change::Set { name: value.value.clone(), kind: ValueKind::TEXT, data },
                    line: 0,
                }
            })
            .collect();
        items.extend(self.apply_lines("setting", "wallpaper", &lines)?);
        Ok(items)
    }

    fn put_picture(&mut self, path: &str, content: &Content) -> Result<Item> {
        let bytes = content.to_vec(LARGEST_PICTURE, "picture")?;
        let len = bytes.len() as i64;
        let digest = BlobDigest::of(&bytes);
        if self.files.find(path).is_some_and(|id| self.files.entry(id).content() == digest) {
            return Ok(Item::skipped("file", format!("system:/{path}"), "the same bytes are there already"));
        }
        self.put_bytes(path, bytes)?;
        Ok(Item::applied("file", format!("system:/{path}"), "", len))
    }
}

/// A language as a value of the layout has it.
pub(crate) fn language_data(value: &crate::layout::ValueLayout, language: &str) -> (ValueKind, Vec<u8>) {
    match value.kind.as_str() {
        "texts" => (ValueKind::TEXTS, texts_data(&[language])),
        _ => (ValueKind::TEXT, text_data(language)),
    }
}

/// A change that sets a value of a layout; nothing when the edition has no such hive, or the value has no name and none
/// is given.
pub(crate) fn set_line(
    edition: &Edition,
    value: &crate::layout::ValueLayout,
    name: Option<&str>,
    kind: ValueKind,
    data: Vec<u8>,
) -> Option<RegLine> {
    let role = crate::layout::role(&value.hive).ok()?;
    edition.hive(role)?;
    let name = name.unwrap_or(&value.value).to_owned();
    let key = format!("{}\\{}", role.root(), value.key);
    Some(RegLine { key, change: Change::Set { name, kind, data }, line: 0 })
}

/// A path on the installed disk.
pub(crate) fn disk_path(disk: &str, path: &str) -> String {
    format!("{disk}\\{}", path.replace('/', "\\"))
}

impl SettingValue {
    /// The change that it asks for.
    pub fn to_line(&self) -> Result<RegLine> {
        let wrong = |what: &str| {
            Error::request(
                format!("{}\\{}: {what}", self.key, self.name),
                "give text in quotes, a number, a list of texts, or bytes in hexadecimal with type = \"bytes\"",
            )
        };
        let line = |change| Ok(RegLine { key: self.key.trim_matches('\\').to_owned(), change, line: 0 });
        let Some(value) = &self.value else {
            return match (self.delete, self.name.is_empty()) {
                (true, true) => line(Change::DeleteKey),
                (true, false) => line(Change::DeleteValue { name: self.name.clone() }),
                (false, _) => Err(wrong("there is no value")),
            };
        };
        if self.delete {
            return Err(wrong("it has a value and `delete`"));
        }
        let text = || value.as_str().ok_or_else(|| wrong("text is wanted"));
        let number = || match value {
            toml::Value::Integer(number) => Ok(*number),
            toml::Value::Boolean(on) => Ok(i64::from(*on)),
            _ => Err(wrong("a number is wanted")),
        };
        let usual = match value {
            toml::Value::Integer(_) | toml::Value::Boolean(_) => "number",
            toml::Value::Array(_) => "texts",
            _ => "text",
        };
        let (kind, data) = match self.kind.as_deref().unwrap_or(usual) {
            "text" => (ValueKind::TEXT, text_data(text()?)),
            "expanded-text" => (ValueKind::EXPANDED, text_data(text()?)),
            "texts" => {
                let all = value.as_array().ok_or_else(|| wrong("a list of texts is wanted"))?;
                let all: Option<Vec<&str>> = all.iter().map(toml::Value::as_str).collect();
                (ValueKind::TEXTS, texts_data(&all.ok_or_else(|| wrong("a list of texts is wanted"))?))
            }
            "number" => {
                // Numbers below zero are written as they are stored.
                let number = number()?;
                let stored =
                    u32::try_from(number).or_else(|_| i32::try_from(number).map(|number| number as u32));
                let stored = stored.map_err(|_| wrong("the number does not fit into 32 bits"))?;
                (ValueKind::NUMBER, stored.to_le_bytes().to_vec())
            }
            "long-number" => (ValueKind::LONG_NUMBER, number()?.to_le_bytes().to_vec()),
            "bytes" => {
                let digits: String = text()?.chars().filter(|c| !c.is_whitespace() && *c != ',').collect();
                let pairs = digits.as_bytes().chunks(2).map(|pair| {
                    let pair = std::str::from_utf8(pair).ok().filter(|pair| pair.len() == 2)?;
                    pair.bytes().all(|b| b.is_ascii_hexdigit()).then(|| u8::from_str_radix(pair, 16).ok())?
                });
                let bytes: Option<Vec<u8>> = pairs.collect();
                (ValueKind::BINARY, bytes.ok_or_else(|| wrong("bytes of two hexadecimal digits are wanted"))?)
            }
            other => return Err(wrong(&format!("{other:?} is no type"))),
        };
        line(Change::Set { name: self.name.clone(), kind, data })
    }
}
