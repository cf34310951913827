//! Driver packs that the technician has at hand: good ones and others.

use crate::{RELEASED, words};
use neat_content::{Content, Error, Meta, Result, Tree};
use std::io::{Cursor, Write};

/// Text of an INF file with one storage or other device.
struct Inf<'a> {
    name: &'a str,
    class: &'a str,
    maker: &'a str,
    title: &'a str,
    version: &'a str,
    decoration: &'a str,
    ids: &'a [&'a str],
    files: &'a [&'a str],
    /// Its signed catalogue, made by `drivers/make`; none lies beside the INF file where there is none here.
    catalogue: Option<&'a [u8]>,
}

impl Inf<'_> {
    fn text(&self) -> String {
        let Self { name, class, maker, title, version, decoration, ids, files, .. } = self;
        let models: String = ids.iter().map(|id| format!("%title% = Install, {id}\r\n")).collect();
        let copied: String = files.iter().map(|file| format!("{file}\r\n")).collect();
        let disks: String = files.iter().map(|file| format!("{file} = 1\r\n")).collect();
        format!(
            "; {title}, made up by {maker}\r\n[Version]\r\nSignature   = \"$WINDOWS NT$\"\r\nClass       = {class}\r\nClassGuid   = {{4d36e97b-e325-11ce-bfc1-08002be10318}}\r\nProvider    = %maker%\r\nDriverVer   = {version}\r\nCatalogFile = {name}.cat\r\n\r\n[Manufacturer]\r\n%maker% = Models, {decoration}\r\n\r\n[Models.{decoration}]\r\n{models}\r\n[Install.{decoration}]\r\nCopyFiles = Files\r\n\r\n[Files]\r\n{copied}\r\n[SourceDisksNames]\r\n1 = %title%\r\n\r\n[SourceDisksFiles]\r\n{disks}\r\n[Strings]\r\nmaker = \"{maker}\"\r\ntitle = \"{title}\"\r\n"
        )
    }

    /// The INF file, its catalogue and its files, without those whose names are left out.
    fn files(&self, without: &[&str]) -> Vec<(String, Vec<u8>)> {
        let seed =
            |text: &str| text.bytes().fold(5, |seed: u64, byte| seed.wrapping_mul(33) ^ u64::from(byte));
        let mut all = vec![(format!("{}.inf", self.name), self.text().into_bytes())];
        all.extend(self.catalogue.map(|bytes| (format!("{}.cat", self.name), bytes.to_vec())));
        for file in self.files.iter().filter(|file| !without.contains(*file)) {
            all.push(((*file).to_owned(), words::program(seed(file) ^ seed(self.version), 40_000)));
        }
        all
    }
}

/// Puts the packs into the demo folder's tree.
pub(crate) fn put_all(tree: &mut Tree) -> Result<()> {
    let meta = Meta::at(RELEASED);
    let mut put =
        |path: &str, bytes: Vec<u8>| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    let keelson = Inf {
        name: "keelson",
        class: "SCSIAdapter",
        maker: "Keelson Works",
        title: "Keelson S4 storage",
        version: "02/11/2026, 4.2.0.17",
        decoration: "NTamd64",
        ids: &["PCI\\VEN_1AF4&DEV_2922", "PCI\\VEN_1AF4&DEV_2923"],
        files: &["keelson.sys", "keelson-note.dll"],
        catalogue: Some(include_bytes!("../drivers/keelson.cat")),
    };
    for (name, bytes) in keelson.files(&[]) {
        put(&format!("drivers/keelson-s4/{name}"), bytes)?;
    }
    let older = Inf {
        version: "06/30/2025, 4.0.0.3",
        catalogue: Some(include_bytes!("../drivers/keelson-old.cat")),
        ..keelson
    };
    for (name, bytes) in older.files(&[]) {
        put(&format!("drivers/old/keelson-s4/{name}"), bytes)?;
    }
    let lantern = Inf {
        name: "lantern",
        class: "Net",
        maker: "Lantern Networks",
        title: "Lantern 210 network",
        version: "01/20/2026, 21.0.1.5",
        decoration: "NTamd64",
        ids: &["PCI\\VEN_8086&DEV_100E", "PCI\\VEN_8086&DEV_10D3"],
        files: &["lantern.sys"],
        catalogue: Some(include_bytes!("../drivers/lantern.cat")),
    };
    put("drivers/lantern-net.cab", cabinet(&lantern.files(&[]))?)?;
    let rudder = Inf {
        name: "rudder",
        class: "USB",
        maker: "Rudder and Sons",
        title: "Rudder USB host",
        version: "11/05/2025, 3.1.4.0",
        decoration: "NTamd64",
        ids: &["PCI\\CC_0C0330", "PCI\\VEN_1B36&DEV_000D"],
        files: &["rudder.sys", "rudder-hub.sys"],
        catalogue: Some(include_bytes!("../drivers/rudder.cat")),
    };
    put("drivers/rudder-usb.exe", program(&cabinet(&rudder.files(&[]))?))?;
    let foghorn = Inf {
        name: "foghorn",
        class: "MEDIA",
        maker: "Foghorn Audio",
        title: "Foghorn sound",
        version: "09/09/2025, 1.8.0.0",
        decoration: "NTamd64",
        ids: &["PCI\\VEN_8086&DEV_2668"],
        files: &["foghorn.sys", "foghorn-mix.dll"],
        catalogue: Some(include_bytes!("../drivers/foghorn.cat")),
    };
    for (name, bytes) in foghorn.files(&["foghorn-mix.dll"]) {
        put(&format!("drivers/foghorn-sound/{name}"), bytes)?;
    }
    let barnacle = Inf {
        name: "barnacle",
        class: "Net",
        maker: "Barnacle",
        title: "Barnacle radio network",
        version: "12/12/2025, 2.0.0.1",
        decoration: "NTarm64",
        ids: &["USB\\VID_2357&PID_0138"],
        files: &["barnacle.sys"],
        catalogue: None,
    };
    for (name, bytes) in barnacle.files(&[]) {
        put(&format!("drivers/barnacle-arm/{name}"), bytes)?;
    }
    put("drivers-authority.pem", include_bytes!("../drivers/authority.pem").to_vec())?;
    put("bridge-console.devices.txt", DEVICES.as_bytes().to_vec())
}

/// What `lspci -nn` and `lsusb` say on a bridge console.
const DEVICES: &str = "\
00:01.1 IDE interface [0101]: Harbour Logic IDE [1af4:7010]
00:02.0 VGA compatible controller [0300]: Harbour Logic picture adapter [1234:1111] (rev 02)
00:03.0 Ethernet controller [0200]: Lantern 210 [8086:100e] (rev 03)
00:04.0 SATA controller [0106]: Keelson S4 [1af4:2922] (rev 02)
00:05.0 Audio device [0403]: Foghorn [8086:2668] (rev 01)
00:06.0 USB controller [0c03]: Rudder host [1b36:000d] (rev 01)
00:07.0 Communication controller [0780]: Semaphore modem [1af4:1003]
Bus 001 Device 002: ID 2357:0138 Barnacle radio network
";

pub(crate) fn cabinet(files: &[(String, Vec<u8>)]) -> Result<Vec<u8>> {
    let failed = |error: std::io::Error| Error::request(format!("a cabinet of the demo: {error}"), "");
    let date = time::Date::from_calendar_date(2026, time::Month::March, 2);
    let moment = date.map(|date| time::PrimitiveDateTime::new(date, time::Time::MIDNIGHT));
    let mut builder = cab::CabinetBuilder::new();
    let folder = builder.add_folder(cab::CompressionType::MsZip);
    for (name, _) in files {
        let file = folder.add_file(name.as_str());
        if let Ok(moment) = moment {
            file.set_datetime(moment);
        }
    }
    let mut writer = builder.build(Cursor::new(Vec::new())).map_err(failed)?;
    let mut next = files.iter();
    while let Some(mut file) = writer.next_file().map_err(failed)? {
        if let Some((_, bytes)) = next.next() {
            file.write_all(bytes).map_err(failed)?;
        }
    }
    Ok(writer.finish().map_err(failed)?.into_inner())
}

/// A program that would unpack what it carries: here only its first bytes and noise.
pub(crate) fn program(archive: &[u8]) -> Vec<u8> {
    let mut bytes = b"MZ\x90\0\x03\0\0\0".to_vec();
    bytes.extend(words::noise(321, 30_000));
    bytes.extend_from_slice(archive);
    bytes
}
