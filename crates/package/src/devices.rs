//! A machine's devices, from the lists that people have at hand.

use neat_content::{Error, Result};
use serde::Deserialize;

/// A device of a machine.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct MachineDevice {
    /// What the list calls it.
    #[serde(default)]
    pub name: String,
    /// Its ids, most specific first, in capitals.
    pub ids: Vec<String>,
}

/// Form of [`MachineDevice`]s in JSON.
#[derive(Deserialize)]
struct Machine {
    devices: Vec<MachineDevice>,
}

/// Reads a list of devices: our JSON (`{"devices": [{"name": …, "ids": […]}]}`), the output of `lspci -nn` (with `-v` or
/// without) or `lsusb`, or a plain list of hardware ids, one in each line.
///
/// # Errors
/// `BadRequest` when no form of list fits.
pub fn parse_devices(text: &str) -> Result<Vec<MachineDevice>> {
    if text.trim_start().starts_with('{') {
        let machine: Machine = serde_json::from_str(text).map_err(|error| {
            Error::request(
                format!("the list of devices: {error}"),
                "its form is {\"devices\": [{\"name\": \"…\", \"ids\": [\"PCI\\\\VEN_…\"]}]}",
            )
        })?;
        let capitals = |device: MachineDevice| MachineDevice {
            ids: device.ids.iter().map(|id| id.to_uppercase()).collect(),
            ..device
        };
        return Ok(machine.devices.into_iter().map(capitals).collect());
    }
    let mut devices: Vec<MachineDevice> = Vec::new();
    let mut pci: Option<Pci> = None;
    for (n, line) in text.lines().enumerate() {
        let trimmed = line.trim();
        if trimmed.is_empty() || trimmed.starts_with('#') {
            continue;
        }
        if line.starts_with(char::is_whitespace) && pci.is_some() {
            if let (Some(pci), Some(ids)) = (&mut pci, trimmed.strip_prefix("Subsystem:").and_then(last_pair))
            {
                pci.subsystem = Some(ids);
            }
            continue;
        }
        devices.extend(pci.take().map(Pci::device));
        if let Some(found) = Pci::parse(trimmed) {
            pci = Some(found);
        } else if let Some(device) = usb(trimmed) {
            devices.push(device);
        } else if trimmed.contains('\\') && !trimmed.contains(char::is_whitespace) {
            devices.push(MachineDevice { name: trimmed.into(), ids: vec![trimmed.to_uppercase()] });
        } else {
            return Err(Error::request(
                format!("line {}: {trimmed:?} is no device", n + 1),
                "give hardware ids, one in each line, or the output of `lspci -nn` or `lsusb`, or JSON",
            ));
        }
    }
    devices.extend(pci.take().map(Pci::device));
    Ok(devices)
}

/// A line of `lspci -nn`.
struct Pci {
    name: String,
    class: u16,
    vendor: u16,
    device: u16,
    subsystem: Option<(u16, u16)>,
    revision: Option<u8>,
}

impl Pci {
    /// `00:1f.2 SATA controller [0106]: Maker Name [8086:2922] (rev 02)`
    fn parse(line: &str) -> Option<Self> {
        let (place, rest) = line.split_once(' ')?;
        if !place.contains(':') || !place.contains('.') {
            return None;
        }
        let open = rest.find('[')?;
        let class = u16::from_str_radix(rest.get(open + 1..open + 5)?, 16).ok()?;
        let (vendor, device) = last_pair(rest)?;
        let revision =
            rest.find("(rev ").and_then(|at| u8::from_str_radix(rest.get(at + 5..at + 7)?, 16).ok());
        let name = rest.get(open + 5..)?.trim_start_matches([']', ':', ' ']);
        let name = name.split(" [").next().unwrap_or(name).to_owned();
        Some(Self { name, class, vendor, device, subsystem: None, revision })
    }

    /// Ids in the order in which systems try them.
    fn device(self) -> MachineDevice {
        let base = format!("PCI\\VEN_{:04X}&DEV_{:04X}", self.vendor, self.device);
        let mut ids = Vec::new();
        let revision = self.revision.map(|revision| format!("&REV_{revision:02X}"));
        if let Some((vendor, device)) = self.subsystem {
            let subsystem = format!("{base}&SUBSYS_{device:04X}{vendor:04X}");
            ids.extend(revision.iter().map(|revision| format!("{subsystem}{revision}")));
            ids.push(subsystem);
        }
        ids.extend(revision.iter().map(|revision| format!("{base}{revision}")));
        ids.push(base.clone());
        ids.push(format!("{base}&CC_{:04X}", self.class));
        ids.push(format!("PCI\\VEN_{:04X}&CC_{:04X}", self.vendor, self.class));
        ids.push(format!("PCI\\VEN_{:04X}", self.vendor));
        ids.push(format!("PCI\\CC_{:04X}", self.class));
        MachineDevice { name: self.name, ids }
    }
}

/// The last `[vvvv:dddd]` of a line.
fn last_pair(line: &str) -> Option<(u16, u16)> {
    line.rmatch_indices('[').find_map(|(at, _)| {
        let inner = line[at + 1..].split(']').next()?;
        let (vendor, device) = inner.split_once(':')?;
        (vendor.len() == 4 && device.len() == 4).then_some(())?;
        Some((u16::from_str_radix(vendor, 16).ok()?, u16::from_str_radix(device, 16).ok()?))
    })
}

/// `Bus 001 Device 003: ID 046d:c52b Name`
fn usb(line: &str) -> Option<MachineDevice> {
    let rest = line.strip_prefix("Bus ")?;
    let (_, rest) = rest.split_once(": ID ")?;
    let (ids, name) = rest.split_once(' ').unwrap_or((rest, ""));
    let (vendor, product) = ids.split_once(':')?;
    let (vendor, product) = (u16::from_str_radix(vendor, 16).ok()?, u16::from_str_radix(product, 16).ok()?);
    Some(MachineDevice {
        name: name.trim().into(),
        ids: vec![format!("USB\\VID_{vendor:04X}&PID_{product:04X}")],
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_usual_lists_are_understood() {
        let text = "# machine\n00:1f.2 SATA controller [0106]: Keelson Works S4 [1af4:2922] (rev 02) (prog-if 01 [AHCI 1.0])\n\tSubsystem: Brackwater Bridge [17aa:20f8]\n\tKernel driver in use: ahci\n\n02:00.0 Ethernet controller [0200]: Other [10ec:8168]\nBus 001 Device 003: ID 046d:c52b Reader\nACPI\\QUAY0001\n";
        let devices = parse_devices(text).unwrap();
        assert_eq!(devices.len(), 4);
        assert_eq!(devices[0].name, "Keelson Works S4");
        assert_eq!(devices[0].ids[0], "PCI\\VEN_1AF4&DEV_2922&SUBSYS_20F817AA&REV_02");
        assert!(devices[0].ids.contains(&"PCI\\CC_0106".to_owned()));
        assert_eq!(devices[1].ids[0], "PCI\\VEN_10EC&DEV_8168");
        assert_eq!(devices[2].ids, ["USB\\VID_046D&PID_C52B"]);
        assert_eq!(devices[3].ids, ["ACPI\\QUAY0001"]);
        let json = parse_devices("{\"devices\": [{\"ids\": [\"pci\\\\ven_1\"]}]}").unwrap();
        assert_eq!(json[0].ids, ["PCI\\VEN_1"]);
        assert!(parse_devices("{\"devices\": 5}").is_err());
        assert!(parse_devices("what is this").unwrap_err().to_string().starts_with("line 1: "));
    }
}
