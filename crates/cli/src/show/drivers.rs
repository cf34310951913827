//! What `drivers` says.

use super::{heading, outside, style, table, wrapped};
use neat_package::{DriverSignature, Signing};
use schemars::JsonSchema;
use serde::Serialize;

/// JSON form of `drivers`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DriversView {
    pub architecture: &'static str,
    pub drivers: Vec<DriverRow>,
    pub devices: Vec<DeviceRow>,
}

/// A driver of a pack.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DriverRow {
    pub path: String,
    pub class: String,
    pub provider: String,
    pub version: String,
    pub date: String,
    pub architectures: Vec<&'static str>,
    /// Devices that it serves on the architecture asked for.
    pub devices: usize,
    /// What its catalogue's signature is worth.
    pub signature: DriverSignature,
    pub missing: Vec<String>,
    pub superseded_by: Option<String>,
}

/// A device of a machine.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct DeviceRow {
    pub name: String,
    pub id: String,
    pub driver: Option<String>,
    /// The id that the driver serves it by.
    pub by: Option<String>,
    /// Whether that driver has all its files.
    pub complete: bool,
    /// Architectures that there is a driver for, where there is none for this one.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub only_for: Vec<&'static str>,
}

/// Drivers, and the devices that they serve.
pub(crate) fn drivers(rows: &[DriverRow], devices: &[DeviceRow], arch: &str, asked: bool) -> String {
    let mut cells = vec![
        ["driver", "class", "version", "date", "for", "devices", "signed by"].map(str::to_owned).to_vec(),
    ];
    let mut remarks = vec![String::new()];
    for row in rows {
        // Its state stands in the table.
        let remark = match row.signature.state {
            Signing::Signed => row.signature.remark(),
            _ => row.signature.why.clone(),
        };
        let mut notes: Vec<String> = remark.into_iter().collect();
        if !row.missing.is_empty() {
            notes.push(format!("lacks {}", row.missing.join(", ")));
        }
        if let Some(other) = &row.superseded_by {
            notes.push(format!("older than {other}"));
        }
        cells.push(vec![
            row.path.clone(),
            row.class.clone(),
            row.version.clone(),
            row.date.clone(),
            row.architectures.join(" "),
            row.devices.to_string(),
            match row.signature.state {
                Signing::Signed => row.signature.by.clone().unwrap_or_default(),
                other => other.word().to_owned(),
            },
        ]);
        remarks.push(notes.join("; "));
    }
    let mut text = String::new();
    for (n, (line, remark)) in table(&cells, &[5]).into_iter().zip(remarks).enumerate() {
        let style = if n == 0 { style::QUIET } else { style::PLAIN };
        text.push_str(&format!("{style}{line}{style:#}\n"));
        if !remark.is_empty() {
            text.push_str(&format!(
                "    {}{}{:#}\n",
                style::CARE,
                wrapped(&outside::line(&remark), 4),
                style::CARE
            ));
        }
    }
    let is_signed = |row: &DriverRow| matches!(row.signature.state, Signing::Signed | Signing::Expired);
    if rows.iter().any(|row| is_signed(row) && row.signature.trusted.is_none()) {
        text.push_str("\nthat a signature fits says who made it; whom to trust is said with --root\n");
    }
    if !asked {
        return text;
    }
    let served = devices.iter().filter(|device| device.driver.is_some() && device.complete).count();
    text.push_str(&heading(&format!(
        "{served} of {} devices have a driver for {arch} in there",
        devices.len()
    )));
    let mut cells = Vec::new();
    for device in devices {
        let (state, detail) = match (&device.driver, device.complete) {
            (Some(driver), true) => ("ok", driver.clone()),
            (Some(driver), false) => ("lacks", format!("{driver} is not complete")),
            (None, _) if !device.only_for.is_empty() => {
                ("none", format!("{}, only for {}", device.id, device.only_for.join(", ")))
            }
            (None, _) => ("none", device.id.clone()),
        };
        cells.push(vec![state.to_owned(), device.name.clone(), detail]);
    }
    for (line, device) in table(&cells, &[]).into_iter().zip(devices) {
        let style = match (&device.driver, device.complete) {
            (Some(_), true) => style::PLAIN,
            (Some(_), false) => style::CARE,
            (None, _) => style::BAD,
        };
        text.push_str(&format!("  {style}{line}{style:#}\n"));
    }
    text
}
