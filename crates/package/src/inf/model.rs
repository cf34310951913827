//! What a driver serves: class, version, and for each architecture the devices.

use super::Inf;
use neat_content::{Error, Result};
use schemars::JsonSchema;
use serde::Serialize;

/// Architecture of a system.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Architecture {
    /// 32-bit x86.
    X86,
    /// 64-bit x86.
    X64,
    /// 64-bit ARM.
    Arm64,
}

impl Architecture {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::X86, Self::X64, Self::Arm64];

    /// The word of the trade, as in the XML data of image files read here.
    pub const fn name(self) -> &'static str {
        match self {
            Self::X86 => "x86",
            Self::X64 => "x64",
            Self::Arm64 => "arm64",
        }
    }

    /// The architecture that a word means; that of INF files and manifests too.
    pub fn of_word(word: &str) -> Option<Self> {
        match word.to_ascii_lowercase().as_str() {
            "x86" => Some(Self::X86),
            "x64" | "amd64" => Some(Self::X64),
            "arm64" => Some(Self::Arm64),
            _ => None,
        }
    }

    /// The word in names of sections.
    pub const fn inf_word(self) -> &'static str {
        match self {
            Self::X86 => "x86",
            Self::X64 => "amd64",
            Self::Arm64 => "arm64",
        }
    }
}

/// What stands after a dot in the name of a section: `NTamd64.10.0...16299`.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Target {
    /// Architecture; none for all that need none (`NT`, or nothing at all).
    pub architecture: Option<Architecture>,
    /// Least version of the system: major, minor, build.
    pub version: (u32, u32, u32),
    /// It names an architecture that no media here has.
    pub is_foreign: bool,
}

impl Target {
    /// Reads the decoration of a section's name; none if the text is no decoration.
    pub fn parse(text: &str) -> Option<Self> {
        let lower = text.to_ascii_lowercase();
        let mut parts = lower.split('.');
        let word = parts.next()?.strip_prefix("nt")?;
        let mut target = Self::default();
        match word {
            "" => {}
            "ia64" | "arm" => target.is_foreign = true,
            word => target.architecture = Some(Architecture::of_word(word)?),
        }
        let numbers = parts.map(|text| match text.strip_prefix("0x") {
            _ if text.is_empty() => Some(0),
            Some(digits) => u32::from_str_radix(digits, 16).ok(),
            None => text.parse().ok(),
        });
        let numbers = numbers.collect::<Option<Vec<u32>>>()?;
        let number = |n: usize| numbers.get(n).copied().unwrap_or(0);
        // Major, minor, product type, suite mask, build.
        target.version = (number(0), number(1), number(4));
        Some(target)
    }

    /// Whether a system of this architecture uses the section. Without an architecture only 32-bit systems do.
    pub fn serves(&self, architecture: Architecture) -> bool {
        !self.is_foreign && self.architecture.unwrap_or(Architecture::X86) == architecture
    }
}

/// A device that a driver serves.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Device {
    /// What people call it.
    pub description: String,
    /// The section that installs it, without decoration.
    pub install: String,
    /// The hardware id.
    pub hardware_id: String,
    /// Compatible ids, most specific first.
    pub compatible_ids: Vec<String>,
    /// Which systems.
    pub target: Target,
}

/// A driver: one INF file and what it needs.
#[derive(Clone, Debug)]
pub struct Driver {
    /// Path of the INF file in its pack.
    pub path: String,
    /// Class, as the file says.
    pub class: String,
    /// GUID of the class.
    pub class_guid: String,
    /// Who made it.
    pub provider: String,
    /// Date: year, month, day.
    pub date: Option<(u16, u8, u8)>,
    /// Version, up to four numbers.
    pub version: [u32; 4],
    /// Catalogues (signatures) that the file names.
    pub catalogues: Vec<String>,
    /// Devices of all architectures.
    pub devices: Vec<Device>,
    pub(super) inf: Inf,
}

impl Driver {
    /// Reads the INF file at `path`. One without a `Version` section with a class, or devices, is no driver.
    ///
    /// # Errors
    /// `Corrupt` with the line, and `BadRequest` for a file that is no driver's.
    pub fn read(path: &str, bytes: &[u8]) -> Result<Self> {
        let inf = Inf::read(bytes)?;
        if !inf.has("Version") {
            return Err(no_driver(
                "a section [Version]",
                "none",
                "every INF file of a driver begins with one",
            ));
        }
        let class = inf.text("Version", "Class").unwrap_or_default();
        let class_guid = inf.text("Version", "ClassGuid").unwrap_or_default();
        if class.is_empty() && class_guid.is_empty() {
            return Err(no_driver(
                "a class in [Version]",
                "none",
                "it is no driver, or of a kind that is not installed by class",
            ));
        }
        let version_line = inf.line("Version", "DriverVer");
        let catalogues = inf.lines("Version").iter().filter(|line| {
            line.key.as_deref().is_some_and(|key| {
                let key = key.to_ascii_lowercase();
                key == "catalogfile" || key.starts_with("catalogfile.")
            })
        });
        let mut driver = Self {
            path: path.into(),
            class,
            class_guid,
            provider: inf.text("Version", "Provider").unwrap_or_default(),
            date: version_line.and_then(|line| date(&inf.expand(line.value(0)))),
            version: version_line.map_or([0; 4], |line| version(&inf.expand(line.value(1)))),
            catalogues: catalogues
                .map(|line| inf.expand(line.value(0)))
                .filter(|name| !name.is_empty())
                .collect(),
            devices: Vec::new(),
            inf: Inf::default(),
        };
        driver.devices = devices(&inf);
        driver.inf = inf;
        Ok(driver)
    }

    /// Architectures that it serves, in order.
    pub fn architectures(&self) -> Vec<Architecture> {
        let serves = |architecture: &Architecture| {
            self.devices.iter().any(|device| device.target.serves(*architecture))
        };
        Architecture::ALL.into_iter().filter(serves).collect()
    }

    /// Devices that a system of this architecture and version (major, minor, build) would take it for: of sections
    /// that only differ in the version they want, the highest that the system has.
    pub fn devices_for(&self, architecture: Architecture, version: Option<(u32, u32, u32)>) -> Vec<&Device> {
        let fits = |device: &&Device| {
            device.target.serves(architecture)
                && version.is_none_or(|version| device.target.version <= version)
        };
        let all: Vec<&Device> = self.devices.iter().filter(fits).collect();
        let best = all.iter().map(|device| device.target.version).max();
        all.into_iter().filter(|device| version.is_none() || Some(device.target.version) == best).collect()
    }

    /// Version as people write it.
    pub fn version_text(&self) -> String {
        self.version.map(|number| number.to_string()).join(".")
    }

    /// Date as people write it; empty if it has none.
    pub fn date_text(&self) -> String {
        self.date.map_or_else(String::new, |(year, month, day)| format!("{year:04}-{month:02}-{day:02}"))
    }

    /// Name of the INF file.
    pub fn name(&self) -> &str {
        self.path.rsplit('/').next().unwrap_or(&self.path)
    }

    /// Whether it is newer than another of the same name: by date, then by version, as systems choose.
    pub fn is_newer_than(&self, other: &Self) -> bool {
        (self.date, self.version) > (other.date, other.version)
    }
}

fn no_driver(expected: &str, found: &str, hint: &'static str) -> Error {
    Error::Mismatch { expected: expected.into(), found: found.into(), hint: hint.into() }
}

/// `month/day/year`
fn date(text: &str) -> Option<(u16, u8, u8)> {
    let mut parts = text.split(['/', '-']).map(str::trim);
    let (month, day, year) =
        (parts.next()?.parse().ok()?, parts.next()?.parse().ok()?, parts.next()?.parse().ok()?);
    ((1..=12).contains(&month) && (1..=31).contains(&day)).then_some((year, month, day))
}

fn version(text: &str) -> [u32; 4] {
    let mut numbers = [0; 4];
    for (number, part) in numbers.iter_mut().zip(text.split('.')) {
        *number = part.trim().parse().unwrap_or(0);
    }
    numbers
}

fn devices(inf: &Inf) -> Vec<Device> {
    let mut devices = Vec::new();
    for maker in inf.lines("Manufacturer") {
        // `maker = section, decoration, …`; a line with nothing else is section and maker in one.
        let Some(section) = maker.values.first().or(maker.key.as_ref()) else { continue };
        let section = inf.expand(section);
        let decorations =
            maker.values.iter().skip(1).map(|value| inf.expand(value)).filter(|value| !value.is_empty());
        let plain = (section.clone(), Target::default());
        let decorated = decorations
            .filter_map(|decoration| Some((format!("{section}.{decoration}"), Target::parse(&decoration)?)));
        for (name, target) in std::iter::once(plain).chain(decorated) {
            for line in inf.lines(&name) {
                let [install, ids @ ..] = line.values.as_slice() else { continue };
                let mut ids = ids.iter().map(|id| inf.expand(id)).filter(|id| !id.is_empty());
                let Some(hardware_id) = ids.next() else { continue };
                devices.push(Device {
                    description: inf.expand(line.key.as_deref().unwrap_or_default()),
                    install: inf.expand(install),
                    hardware_id,
                    compatible_ids: ids.collect(),
                    target: target.clone(),
                });
            }
        }
    }
    devices
}
