//! Quay OS 2: a made-up system of the generation before image files, as its media were.

use crate::{
    BIOS_OLDER,
    packs::{cabinet, program},
    words,
};
use neat_content::{Content, Meta, Result, Timestamp, Tree};
use neat_media::{BootEntry, BootImage, Platform, VolumeIdentity, eltorito::find, master};
use neat_package::{SingleForm, compress_single};

/// 4 May 2001, 08:00 UTC: the day Quay OS 2 was pressed.
pub(crate) const PRESSED: Timestamp = Timestamp::from_seconds(988_963_200);
/// Its version, with the build.
const VERSION: [u16; 4] = [2, 1, 2604, 0];

const DESCRIPTION: &str = "[Version]\r\nsignature=\"$Windows NT$\"\r\n\r\n[SetupData]\r\nMajorVersion = 2\r\nMinorVersion = 1\r\n\
    DefaultPath = \\QUAY\r\nSetupSourceDevice = \\device\\cdrom0\r\n\r\n[SourceDisksNames.x86]\r\n_x = %cdname%,%cdtagfile%,,\"\"\r\n\r\n\
    [SourceDisksFiles]\r\nkernel.exe = 1,,,,,,3_,2,0,0\r\nwinch.dll = 1,,,,,,,2,0,0\r\nradio.sys = 1,,,,,,4_,4,0,0\r\n\r\n\
    [HardwareIdsDatabase]\r\nPCI\\VEN_1AF4&DEV_1001 = \"radio\"\r\n\r\n[SCSI.load]\r\nradio = radio.sys,4\r\n\r\n[SCSI]\r\n\
    radio = \"Radio disk\"\r\n\r\n[nls]\r\nAnsiCodepage = 1252\r\nDefaultLayout = E0010809\r\n\r\n[Strings]\r\n\
    cdname = \"Quay OS 2 disc\"\r\ncdtagfile = \"QUAY2\"\r\n";
const PRODUCT: &str = "[SMS Inventory Identification]\r\nVersion=1.0\r\n\r\n[Product Specification]\r\nProduct=Quay OS 2 Purser\r\n\
    Version=2.1\r\nLocalization=English\r\nServicePackNumber=0\r\nBitVersion=40\r\n";

/// A program that does nothing and says that it has this version, in this language.
///
/// ```
/// assert!(neat_demo::program_of_version([2, 1, 2604, 0], 0x0409, 4_000).starts_with(b"MZ"));
/// ```
pub fn program_of_version(numbers: [u16; 4], language: u16, len: usize) -> Vec<u8> {
    const HEADER: usize = 0x80;
    const SECTION: usize = 0x400;
    const ADDRESS: u32 = 0x1000;
    let mut bytes = b"MZ".to_vec();
    let put = |bytes: &mut Vec<u8>, at: usize, own: &[u8]| {
        bytes.resize(bytes.len().max(at + own.len()), 0);
        bytes[at..at + own.len()].copy_from_slice(own);
    };
    put(&mut bytes, 0x3C, &(HEADER as u32).to_le_bytes());
    // COFF header: machine, one section, length of the optional header.
    put(&mut bytes, HEADER, b"PE\0\0\x4C\x01\x01\x00");
    put(&mut bytes, HEADER + 20, &224_u16.to_le_bytes());
    put(&mut bytes, HEADER + 24, &0x10B_u16.to_le_bytes());
    put(&mut bytes, HEADER + 24 + 96 + 16, &ADDRESS.to_le_bytes());
    put(&mut bytes, HEADER + 24 + 96 + 20, &0x200_u32.to_le_bytes());
    let table = HEADER + 24 + 224;
    put(&mut bytes, table, b".rsrc");
    for (at, number) in [(8, 0x200), (12, ADDRESS), (16, 0x200), (20, SECTION as u32)] {
        put(&mut bytes, table + at, &number.to_le_bytes());
    }
    // Three levels of folders with one entry each: type, name, language; then the place of the data.
    let folders: [(u32, u32); 3] = [(16, 0x18 | 1 << 31), (1, 0x30 | 1 << 31), (u32::from(language), 0x48)];
    for (level, (id, to)) in folders.into_iter().enumerate() {
        let at = SECTION + 0x18 * level;
        put(&mut bytes, at + 14, &1_u16.to_le_bytes());
        put(&mut bytes, at + 16, &id.to_le_bytes());
        put(&mut bytes, at + 20, &to.to_le_bytes());
    }
    put(&mut bytes, SECTION + 0x48, &(ADDRESS + 0x60).to_le_bytes());
    put(&mut bytes, SECTION + 0x4C, &92_u32.to_le_bytes());
    let key: Vec<u8> = "VS_VERSION_INFO\0".encode_utf16().flat_map(u16::to_le_bytes).collect();
    let data = SECTION + 0x60;
    put(&mut bytes, data, &[92, 0, 52, 0, 0, 0]);
    put(&mut bytes, data + 6, &key);
    put(&mut bytes, data + 40, &0xFEEF_04BD_u32.to_le_bytes());
    let [a, b, c, d] = numbers;
    for (at, high, low) in [(8, a, b), (12, c, d), (16, a, b), (20, c, d)] {
        let number = u32::from(high) << 16 | u32::from(low);
        put(&mut bytes, data + 40 + at, &number.to_le_bytes());
    }
    let filler = words::program(u64::from(c) + u64::from(language), len.saturating_sub(0x600));
    put(&mut bytes, 0x600, &filler);
    bytes
}

/// The tree of the media.
pub(crate) fn tree() -> Result<Tree> {
    let meta = Meta::at(PRESSED);
    let mut tree = Tree::new(meta);
    let mut put =
        |path: &str, bytes: Vec<u8>| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    put("BOOT.BIN", BIOS_OLDER.to_vec())?;
    put("QUAY2", b"Quay OS 2 disc\r\n".to_vec())?;
    put("README.TXT", words::prose("quay-os-2", 3_000))?;
    put("I386/TXTSETUP.SIF", DESCRIPTION.as_bytes().to_vec())?;
    put("I386/PRODSPEC.INI", PRODUCT.as_bytes().to_vec())?;
    put(
        "I386/DOSNET.INF",
        b"[Directories]\r\nd1 = \\\r\n\r\n[Files]\r\nd1,kernel.exe\r\nd1,winch.dll\r\n".to_vec(),
    )?;
    put("I386/SETUPLDR.BIN", words::program(801, 20_000))?;
    let single = |name: &str, bytes: &[u8], form| compress_single(name, bytes, form, PRESSED);
    for (name, packed, len, form) in [
        ("kernel.exe", "KERNEL.EX_", 90_000, SingleForm::Cabinet),
        ("ntoskrnl.exe", "NTOSKRNL.EX_", 120_000, SingleForm::Cabinet),
        ("winch.dll", "WINCH.DL_", 40_000, SingleForm::Older),
        ("radio.sys", "RADIO.SY_", 30_000, SingleForm::Older),
    ] {
        let bytes = program_of_version(VERSION, 0x0809, len);
        put(&format!("I386/{packed}"), single(name, &bytes, form)?)?;
    }
    let help = words::prose("help of quay os 2", 60_000);
    put("I386/PURSER.HL_", single("purser.hlp", &help, SingleForm::Older)?)?;
    let class =
        b"[Version]\r\nSignature=\"$Windows NT$\"\r\nClass=Net\r\nProvider=\"Brackwater\"\r\n".repeat(20);
    put("I386/NET.IN_", single("net.inf", &class, SingleForm::Cabinet)?)?;
    put("SUPPORT/CHARTS.TXT", words::prose("charts of 2001", 5_000))?;
    Ok(tree)
}

/// How it was mastered: it boots without emulation from a boot image of 2 KiB.
pub(crate) fn options() -> master::Options {
    let image = BootImage::File("BOOT.BIN".into());
    let bios = BootEntry { load_sectors: 4, ..find::plain(Platform::BIOS, image) };
    let volume = VolumeIdentity {
        label: "QUAY_OS_2".into(),
        publisher: "BRACKWATER FERRIES".into(),
        created: Some(PRESSED),
        modified: Some(PRESSED),
        ..VolumeIdentity::default()
    };
    let boot = find::Found { bios: Some(bios), uefi: None }.into_catalog();
    master::Options { volume, time: PRESSED, boot, ..master::Options::default() }
}

/// What a service pack or fix says it is for: systems in English.
fn described(more: &str) -> Vec<u8> {
    format!(
        "[Version]\r\nSignature=\"$Windows NT$\"\r\nLanguageType=%LangTypeVal%\r\nNtMajorVersionToUpdate=2\r\n\
         NtMinorVersionToUpdate=1\r\nMaxNtBuildToUpdate=2604\r\n{more}\r\n[Strings]\r\nLangTypeVal=9\r\n"
    )
    .into_bytes()
}

/// The INF file of a driver for 32-bit systems, with one device and its service.
fn driver(maker: &str, class: &str, service: &str, id: &str, description: &str) -> Vec<u8> {
    format!(
        "[Version]\r\nSignature=\"$Windows NT$\"\r\nClass={class}\r\nProvider=\"{maker} of Brackwater\"\r\n\
         DriverVer=05/20/2001,2.1.2604.7\r\n\r\n[Manufacturer]\r\n\"{maker}\"=Models\r\n\r\n[Models]\r\n\
         \"{description}\"=Install, {id}\r\n\r\n[Install]\r\nCopyFiles=@{service}.sys\r\n\r\n\
         [Install.Services]\r\nAddService={service},0x2,Service\r\n\r\n[Service]\r\nServiceType=1\r\n\
         StartType=0\r\nErrorControl=1\r\nServiceBinary=%12%\\{service}.sys\r\n\r\n\
         [SourceDisksNames]\r\n1=Disk\r\n\r\n[SourceDisksFiles]\r\n{service}.sys=1\r\n"
    )
    .into_bytes()
}

/// Puts a service pack, a fix and drivers into the demo folder's tree.
pub(crate) fn put_packages(tree: &mut Tree) -> Result<()> {
    const SERVICE_PACK: [u16; 4] = [2, 1, 2604, 1100];
    let meta = Meta::at(Timestamp::from_seconds(PRESSED.seconds + 40_000_000));
    let mut put =
        |path: &str, bytes: Vec<u8>| tree.put_file(path, Content::from_bytes(bytes), meta).map(drop);
    let newer = |name: &str, len| {
        let bytes = program_of_version(SERVICE_PACK, 0x0809, len);
        compress_single(name, &bytes, SingleForm::Cabinet, meta.modified)
    };
    let own = [
        ("i386\\update\\update.inf", described("ThisServicePackVersion=256")),
        ("i386\\txtsetup.sif", DESCRIPTION.as_bytes().to_vec()),
        ("i386\\winch.dl_", newer("winch.dll", 42_000)?),
        ("i386\\ntoskrnl.ex_", newer("ntoskrnl.exe", 121_000)?),
        ("i386\\lantern.dl_", newer("lantern.dll", 18_000)?),
        ("i386\\radio.sys", program_of_version([2, 1, 2590, 0], 0x0809, 29_000)),
    ];
    let own: Vec<(String, Vec<u8>)> = own.into_iter().map(|(name, bytes)| (name.to_owned(), bytes)).collect();
    put("older/q2-sp1.exe", program(&cabinet(&own)?))?;
    let mast = driver("Mast", "SCSIAdapter", "mast", "PCI\\VEN_1AF4&DEV_1042", "Mast disk of old ships");
    let printer = driver("Printer", "Printer", "ticket", "LPTENUM\\TicketRoll", "Ticket roll");
    put("older/mast/mast.inf", mast)?;
    put("older/mast/mast.sys", program_of_version([2, 1, 2604, 7], 0x0809, 9_000))?;
    put("older/printer/ticket.inf", printer)?;
    put("older/printer/ticket.sys", program_of_version([2, 1, 2604, 8], 0x0809, 7_000))?;
    let fix = vec![("update\\update.inf".to_owned(), described("MinServicePackVersion=256"))];
    put("older/qb100012.exe", program(&cabinet(&fix)?))
}
