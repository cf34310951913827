//! What a driver runs: the service of each device and its program.

use super::{Architecture, Driver, files::best_section};

/// A service that an INF file sets up, and the devices that it is for.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Service {
    /// Its name.
    pub name: String,
    /// Name of its program's file, without a folder.
    pub binary: String,
    /// What people call its first device.
    pub description: String,
    /// Hardware ids of its devices.
    pub hardware_ids: Vec<String>,
}

impl Driver {
    /// The services of devices that systems of this architecture and version take the driver for; only those with a
    /// program. Of several that a device has, the one that is its function driver.
    pub fn services(&self, architecture: Architecture, version: Option<(u32, u32, u32)>) -> Vec<Service> {
        let mut services: Vec<Service> = Vec::new();
        for device in self.devices_for(architecture, version) {
            let Some((name, binary)) = self.function_driver(&device.install, architecture) else { continue };
            let index = services.iter().position(|own| own.name.eq_ignore_ascii_case(&name));
            let index = index.unwrap_or_else(|| {
                let description = device.description.clone();
                services.push(Service { name, binary, description, hardware_ids: Vec::new() });
                services.len() - 1
            });
            let ids = &mut services[index].hardware_ids;
            if !ids.iter().any(|own| own.eq_ignore_ascii_case(&device.hardware_id)) {
                ids.push(device.hardware_id.clone());
            }
        }
        services
    }

    /// Name and program of the service that an install section sets up for its device.
    fn function_driver(&self, install: &str, architecture: Architecture) -> Option<(String, String)> {
        /// The service is that of the device itself.
        const FUNCTION: u32 = 2;
        let section = best_section(&self.inf, install, architecture)?;
        let added = || {
            let lines = [format!("{section}.Services"), format!("{install}.Services")];
            lines.into_iter().flat_map(|name| self.inf.lines(&name)).filter(|line| line.is("AddService"))
        };
        let flags = |text: &str| match text.to_ascii_lowercase().strip_prefix("0x") {
            Some(digits) => u32::from_str_radix(digits, 16).unwrap_or(0),
            None => text.parse().unwrap_or(0),
        };
        let is_function = |line: &&super::InfLine| flags(&self.inf.expand(line.value(1))) & FUNCTION != 0;
        let line = added().find(is_function)?;
        let name = self.inf.expand(line.value(0));
        let own = self.inf.expand(line.value(2));
        let binary = self.inf.text(&own, "ServiceBinary")?;
        let binary = binary.rsplit(['\\', '/']).next().unwrap_or_default().to_owned();
        (!name.is_empty() && !binary.is_empty()).then_some((name, binary))
    }
}
