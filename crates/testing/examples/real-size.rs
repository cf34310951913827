//! Made-up editions of real shape, for measuring: `real-size OUT FILES EDITIONS` makes the folders `OUT/e1` … with so many
//! files each. The same numbers give the same bytes. What editions have in common is one file of the file system.
//!
//! The shape is that of large systems in the common layout: package records, driver packages, a component store that the
//! system's own folder links into, a folder of 20,000 names, apps, languages, fonts, tasks, and three large hives.
#![allow(clippy::expect_used, clippy::print_stdout, reason = "it stops at the first surprise")]

use neat_registry::{Hive, HiveRole, ValueKind, text_data, texts_data};
use std::{
    collections::HashSet,
    fmt::Write as _,
    fs,
    path::{Path, PathBuf},
};

/// Files of an edition at scale 1.
const FULL: f64 = 143_000.0;
/// Bytes that files take their content from.
const POOL: usize = 32 << 20;
const FAMILIES: [&str; 12] = [
    "Charts", "Printing", "Media", "Shell", "Kernel", "Network", "Fonts", "Desktop", "Radio", "Store",
    "Search", "Speech",
];
/// Owner and group of everything, and who may do what: a descriptor in its own form (self-relative).
const DESCRIPTOR: [u8; 20] = [1, 0, 4, 0x80, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0];

/// A number that follows from others and looks like chance.
fn chance(seed: u64, number: u64) -> u64 {
    let mut x = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) ^ number.wrapping_add(0x2545_F491_4F6C_DD1D);
    for _ in 0..2 {
        x = (x ^ (x >> 30)).wrapping_mul(0xBF58_476D_1CE4_E5B9);
        x = (x ^ (x >> 27)).wrapping_mul(0x94D0_49BB_1331_11EB);
    }
    x ^ (x >> 31)
}

/// A size about `median`, a few of them much larger.
fn size(median: usize, number: u64) -> usize {
    let own = chance(11, number) % 1000;
    let factor = match own {
        0..300 => 0.3,
        300..700 => 1.0,
        700..930 => 2.2,
        930..990 => 6.0,
        _ => 25.0,
    };
    (median as f64 * factor) as usize + (own as usize % 97)
}

/// Bytes of which some compress well, some a little and some not at all, as those of programs do.
fn pool() -> Vec<u8> {
    let words =
        ["anchor", "berth", "chart", "deck", "engine", "fender", "galley", "harbour", "mooring", "tide"];
    let mut bytes = Vec::with_capacity(POOL + 8192);
    let mut number = 0;
    while bytes.len() < POOL {
        number += 1;
        let until = bytes.len() + 2048 + (chance(1, number) % 4096) as usize;
        match chance(2, number) % 10 {
            0..3 => {
                while bytes.len() < until {
                    let word = words[(chance(3, bytes.len() as u64) % 10) as usize];
                    bytes.extend_from_slice(word.as_bytes());
                    bytes.push(b' ');
                }
            }
            3..8 => {
                // Instructions: few operations, some operands, offsets that are near each other.
                while bytes.len() < until {
                    let own = chance(4, bytes.len() as u64);
                    bytes.extend_from_slice(
                        &[[0x48, 0x8B], [0xE8, 0x05], [0x89, 0x44], [0x0F, 0x84]][(own % 4) as usize],
                    );
                    bytes.push((own >> 8) as u8 & 0x3F);
                    bytes.extend_from_slice(&((own >> 16) as u16 & 0x0FFF).to_le_bytes());
                }
            }
            _ => {
                while bytes.len() < until {
                    bytes.extend_from_slice(&chance(5, bytes.len() as u64).to_le_bytes());
                }
            }
        }
    }
    bytes
}

/// How editions differ in a file.
#[derive(Clone, Copy)]
enum Where {
    Everywhere,
    /// In each, with other bytes.
    Different,
    /// In one alone.
    Only(u64),
}

/// Editions as they are made.
struct Maker {
    out: PathBuf,
    editions: u64,
    pool: Vec<u8>,
    made: HashSet<PathBuf>,
    number: u64,
    files: u64,
    bytes: u64,
}

impl Maker {
    /// One in fifty files is in one edition alone, one in seventy has other bytes in each.
    fn fate(&self) -> Where {
        match chance(7, self.number) {
            own if own % 50 == 0 => Where::Only(own / 50 % self.editions + 1),
            own if own % 70 == 0 => Where::Different,
            _ => Where::Everywhere,
        }
    }

    fn path(&mut self, edition: u64, path: &str) -> PathBuf {
        let full = self.out.join(format!("e{edition}")).join(path);
        let folder = full.parent().expect("a file lies in a folder").to_owned();
        if !self.made.contains(&folder) {
            fs::create_dir_all(&folder).expect("a folder");
            self.made.insert(folder);
        }
        full
    }

    /// Content of a length that no other file has.
    fn content(&self, len: usize, variant: u64) -> Vec<u8> {
        let mut bytes = format!("{:016x}", chance(8, self.number * 64 + variant)).into_bytes();
        let at = (chance(9, self.number * 64 + variant) % (POOL as u64 / 2)) as usize;
        while bytes.len() < len {
            let part = (len - bytes.len()).min(POOL - at);
            bytes.extend_from_slice(&self.pool[at..at + part]);
        }
        bytes.truncate(len.max(16));
        bytes
    }

    /// A file in the editions that its fate says; gives the paths that it has.
    fn put(&mut self, path: &str, fate: Where, bytes: &dyn Fn(&Self, u64) -> Vec<u8>) -> Vec<(u64, PathBuf)> {
        self.number += 1;
        let mut paths: Vec<(u64, PathBuf)> = Vec::new();
        for edition in 1..=self.editions {
            if matches!(fate, Where::Only(own) if own != edition) {
                continue;
            }
            let full = self.path(edition, path);
            if let (Some((_, first)), Where::Everywhere) = (paths.first(), fate) {
                fs::hard_link(first, &full).expect("a link");
            } else {
                let bytes = bytes(self, edition);
                self.bytes += bytes.len() as u64;
                fs::write(&full, bytes).expect("a file");
            }
            paths.push((edition, full));
        }
        self.files += u64::from(paths.iter().any(|(edition, _)| *edition == 1));
        paths
    }

    fn binary(&mut self, path: &str, median: usize) -> Vec<(u64, PathBuf)> {
        let len = size(median, self.number);
        let fate = self.fate();
        self.put(path, fate, &move |own, edition| own.content(len, edition))
    }

    fn text(&mut self, path: &str, text: &str) -> Vec<(u64, PathBuf)> {
        self.put(path, Where::Everywhere, &|_, _| text.as_bytes().to_vec())
    }

    /// A second name for a file.
    fn link(&mut self, of: &[(u64, PathBuf)], path: &str) {
        for (edition, first) in of {
            let full = self.path(*edition, path);
            fs::hard_link(first, full).expect("a link");
            self.files += u64::from(*edition == 1);
        }
    }
}

/// What the hives speak of.
#[derive(Default)]
struct Names {
    packages: Vec<String>,
    features: Vec<(String, String)>,
    drivers: Vec<(String, String)>,
    apps: Vec<String>,
}

fn count(full: u64, scale: f64) -> u64 {
    ((full as f64 * scale) as u64).max(3)
}

fn packages(maker: &mut Maker, scale: f64, names: &mut Names) {
    let all = count(15_000, scale);
    for i in 0..all {
        let family = |n: u64| FAMILIES[(n % 12) as usize];
        let name = format!("Quay-{}-{}-{i:05}-Package", family(i), family(i / 12));
        let stem = format!("{name}~bw7ferry~amd64~~7.0.7042.{}", i % 900);
        let mut inside = String::new();
        if i > 100 {
            let parent = i / 7;
            let _ = write!(
                inside,
                "<parent><assemblyIdentity name=\"Quay-{}-{}-{parent:05}-Package\" language=\"neutral\"/></parent>",
                family(parent),
                family(parent / 12)
            );
        }
        if i % 100 == 0 {
            let _ = write!(inside, "<update name=\"Feature-{i}\" displayName=\"Feature {i}\"/>");
            names.features.push((stem.clone(), format!("Feature-{i}")));
        } else {
            for k in 0..chance(20, i) % 12 {
                let part = chance(21, i * 16 + k);
                let _ = write!(
                    inside,
                    "<update name=\"{part:016x}-{k}\"><package integrate=\"hidden\"><assemblyIdentity name=\"Quay-part-{}\" \
                     version=\"7.0.7042.1\" processorArchitecture=\"amd64\" language=\"neutral\"/></package></update>",
                    part % all
                );
            }
        }
        if i % 10 == 0 {
            let file = chance(22, i) % count(15_000, scale);
            let _ = write!(
                inside,
                "<customInformation><file name=\"$(runtime.system32)\\m{file}.dll\" size=\"1\"/></customInformation>"
            );
        }
        let record = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<assembly xmlns=\"urn:schemas:asm.v3\" displayName=\"{name}\" \
             description=\"Part {i}\"><assemblyIdentity name=\"{name}\" version=\"7.0.7042.{}\" processorArchitecture=\"amd64\" \
             language=\"neutral\"/><package identifier=\"{name}\" releaseType=\"Feature Pack\">{inside}</package></assembly>",
            i % 900
        );
        maker.text(&format!("Quay/servicing/Packages/{stem}.mum"), &record);
        maker.binary(&format!("Quay/servicing/Packages/{stem}.cat"), 8_500);
        names.packages.push(stem);
    }
}

fn drivers(maker: &mut Maker, scale: f64, names: &mut Names) {
    for i in 0..count(3_000, scale) {
        let name = format!("drv{i:04}");
        let folder = format!("{name}.inf_amd64_{:016x}", chance(30, i));
        let store = format!("Quay/System32/DriverStore/FileRepository/{folder}");
        let mut text = format!(
            "; Driver {i}\r\n[Version]\r\nSignature = \"$WINDOWS NT$\"\r\nClass = {}\r\nClassGuid = {{4d36e96a-e325-11ce-bfc1-08002be10318}}\r\n\
             Provider = %maker%\r\nDriverVer = 03/02/2026, 7.0.7042.0\r\nCatalogFile = {name}.cat\r\n\r\n[Manufacturer]\r\n%maker% = Models, NTamd64\r\n\r\n\
             [Models.NTamd64]\r\n",
            ["Net", "SCSIAdapter", "Display", "USB"][(i % 4) as usize]
        );
        for k in 0..5 + chance(31, i) % 200 {
            let id = chance(32, i * 256 + k);
            let _ = write!(
                text,
                "%title% = Install, PCI\\VEN_{:04X}&DEV_{:04X}&SUBSYS_{:08X}\r\n",
                id & 0xFFFF,
                id >> 16 & 0xFFFF,
                id >> 32
            );
        }
        let _ = write!(
            text,
            "\r\n[Install.NTamd64]\r\nCopyFiles = @{name}.sys\r\n\r\n[SourceDisksNames]\r\n1 = %title%\r\n\r\n[SourceDisksFiles]\r\n\
             {name}.sys = 1\r\n\r\n[Strings]\r\nmaker = \"Brackwater Ferries\"\r\ntitle = \"Driver {i}\"\r\n"
        );
        let inf = maker.text(&format!("{store}/{name}.inf"), &text);
        maker.link(&inf, &format!("Quay/INF/{name}.inf"));
        maker.binary(&format!("{store}/{name}.sys"), 90_000);
        maker.binary(&format!("{store}/{name}.cat"), 8_000);
        names.drivers.push((format!("{name}.inf"), folder));
    }
}

/// The component store, with second names in the folders of the system, and a manifest for each.
fn store(maker: &mut Maker, scale: f64) {
    let mut linked = 0;
    for c in 0..count(20_000, scale) {
        let name = format!(
            "amd64_quay-{}-{c:05}_bw7ferry_7.0.7042.{}_none_{:016x}",
            FAMILIES[(c % 12) as usize].to_lowercase(),
            c % 900,
            chance(40, c)
        );
        for k in 0..[1, 1, 2, 2, 3, 6][(chance(41, c) % 6) as usize] {
            let ending = ["dll", "dll", "exe", "xml"][(chance(42, c * 8 + k) % 4) as usize];
            let file = maker.binary(&format!("Quay/WinSxS/{name}/f{k}.{ending}"), 28_000);
            if chance(43, c * 8 + k) % 10 < 4 {
                let folder = if linked < count(15_000, scale) { "System32" } else { "SysWOW64" };
                maker.link(&file, &format!("Quay/{folder}/m{linked}.dll"));
                linked += 1;
            }
        }
        maker.binary(&format!("Quay/WinSxS/Manifests/{name}.manifest"), 1_500);
    }
}

fn others(maker: &mut Maker, scale: f64, names: &mut Names) {
    for i in 0..60 {
        let full = format!("quay.app{i:02}_7.0.1.0_x64__bw7ferry");
        let needs = if i > 5 {
            format!("<PackageDependency Name=\"quay.app{:02}\" MinVersion=\"7.0.0.0\"/>", i / 6)
        } else {
            String::new()
        };
        let manifest = format!(
            "<?xml version=\"1.0\" encoding=\"utf-8\"?><Package xmlns=\"urn:app\"><Identity Name=\"quay.app{i:02}\" Publisher=\"CN=B\" \
             Version=\"7.0.1.0\" ProcessorArchitecture=\"x64\"/><Properties><DisplayName>App {i}</DisplayName></Properties><Dependencies>{needs}\
             </Dependencies></Package>"
        );
        maker.text(&format!("Program Files/WindowsApps/{full}/AppxManifest.xml"), &manifest);
        for k in 0..count(80, scale) {
            maker.binary(&format!("Program Files/WindowsApps/{full}/Assets/a{k}.png"), 40_000);
        }
        names.apps.push(full);
    }
    for language in ["de-DE", "en-GB", "nb-NO"] {
        for k in 0..count(1_500, scale) {
            maker.binary(&format!("Quay/System32/{language}/m{k}.dll.mui"), 6_000);
        }
    }
    for i in 0..count(200, scale) {
        maker.binary(&format!("Quay/Fonts/f{i}.ttf"), 300_000);
        maker.text(
            &format!("Quay/System32/Tasks/Quay/Task{i}"),
            &format!("<?xml version=\"1.0\"?><Task><Actions><Exec><Command>m{i}.dll</Command></Exec></Actions></Task>"),
        );
    }
    // The system that repairs it, packed already.
    maker.binary("Quay/System32/Recovery/rescue.img", (25e6 * scale) as usize);
    for i in 0..30 {
        maker.binary(&format!("Quay/Web/Wallpaper/Coast/w{i}.jpg"), (1e6 * scale) as usize + 1000);
    }
}

struct Keys<'a>(&'a mut Hive);

impl Keys<'_> {
    fn text(&mut self, path: &str, name: &str, text: &str) {
        self.set(path, name, ValueKind::TEXT, &text_data(text));
    }

    fn number(&mut self, path: &str, name: &str, number: u32) {
        self.set(path, name, ValueKind::NUMBER, &number.to_le_bytes());
    }

    fn set(&mut self, path: &str, name: &str, kind: ValueKind, data: &[u8]) {
        let key = self.0.create(path).expect("a key");
        self.0.set(key, name, kind, data).expect("a value");
    }
}

/// A hive of an edition, written where the layout has it.
fn hive(maker: &mut Maker, edition: u64, path: &str, root: &str, fill: impl FnOnce(&mut Keys<'_>)) {
    let mut hive = Hive::new(5, root, &DESCRIPTOR, 134_000_000_000_000_000);
    fill(&mut Keys(&mut hive));
    let bytes = hive.write().expect("a hive");
    maker.files += u64::from(edition == 1);
    maker.bytes += bytes.len() as u64;
    let full = maker.path(edition, path);
    fs::write(full, bytes).expect("a file");
}

fn software(keys: &mut Keys<'_>, edition: u64, scale: f64, names: &Names) {
    let version = "Microsoft\\Windows NT\\CurrentVersion";
    keys.text(version, "ProductName", "Quay OS 7");
    keys.text(version, "EditionID", &format!("Edition{edition}"));
    let current = "Microsoft\\Windows\\CurrentVersion";
    keys.text(current, "DevicePath", "%SystemRoot%\\inf");
    for app in &names.apps {
        keys.text(&format!("{current}\\Appx\\AppxAllUserStore\\Applications\\{app}"), "Path", app);
    }
    for (n, stem) in names.packages.iter().enumerate() {
        let key = format!("{current}\\Component Based Servicing\\Packages\\{stem}");
        keys.number(&key, "CurrentState", 0x70);
        keys.number(&key, "Visibility", 1);
        keys.text(&key, "InstallName", &format!("{stem}.mum"));
        keys.number(&key, "InstallTimeHigh", chance(50 + edition, n as u64) as u32);
    }
    for (stem, feature) in &names.features {
        keys.number(&format!("{current}\\Component Based Servicing\\Packages\\{stem}\\Updates"), feature, 7);
    }
    for n in 0..count(110_000, scale) {
        let (a, b) = (chance(51, n), chance(52, n));
        let class = format!(
            "Classes\\CLSID\\{{{n:08X}-{:04X}-{:04X}-{:012X}}}",
            a & 0xFFFF,
            a >> 16 & 0xFFFF,
            b >> 16
        );
        keys.text(&class, "", "Harbour helper object");
        let server = format!("{class}\\InprocServer32");
        keys.set(
            &server,
            "",
            ValueKind::EXPANDED,
            &text_data(&format!("%SystemRoot%\\System32\\m{}.dll", a % 5000)),
        );
        keys.text(&server, "ThreadingModel", "Both");
    }
}

fn components(keys: &mut Keys<'_>, scale: f64) {
    for n in 0..count(60_000, scale) {
        let name = format!("amd64_quay-{n:06}_bw7ferry_7.0.7042.{}_none_{:016x}", n % 900, chance(60, n));
        let key = format!("DerivedData\\Components\\{name}");
        keys.set(
            &key,
            "identity",
            ValueKind::BINARY,
            format!("{name}, Culture=neutral, Version=7.0.7042.1").as_bytes(),
        );
        keys.set(&key, &format!("c!{name}"), ValueKind::BINARY, b"");
        for k in 0..chance(61, n) % 4 {
            keys.number(&key, &format!("f!file{k}.dll"), 1);
        }
    }
}

fn system(keys: &mut Keys<'_>, scale: f64, names: &Names) {
    keys.number("Select", "Current", 1);
    let set = "ControlSet001";
    keys.text(&format!("{set}\\Control\\Nls\\Language"), "Default", "0809");
    for language in ["de-DE", "en-GB", "nb-NO"] {
        keys.number(&format!("{set}\\Control\\MUI\\UILanguages\\{language}"), "Type", 0x91);
    }
    for n in 0..count(700, scale).max(50) {
        let key = format!("{set}\\Services\\Svc{n:04}");
        keys.text(&key, "DisplayName", &format!("Service {n}"));
        keys.number(&key, "Type", if n % 3 == 0 { 1 } else { 0x20 });
        keys.number(&key, "Start", if n < 20 { 0 } else { 3 });
        keys.text(&key, "ImagePath", &format!("System32\\drivers\\drv{n:04}.sys"));
        if n > 20 && n % 4 == 0 {
            let needs = format!("Svc{:04}", n / 2);
            keys.set(&key, "DependOnService", ValueKind::TEXTS, &texts_data(&[&needs]));
        }
    }
    for (inf, folder) in &names.drivers {
        keys.text(&format!("DriverDatabase\\DriverInfFiles\\{inf}"), "", folder);
        for k in 0..8 {
            keys.text(
                &format!("DriverDatabase\\DriverPackages\\{folder}\\Configurations\\Install{k}\\Driver"),
                "InfSection",
                &format!("Install{k}"),
            );
        }
    }
}

fn hives(maker: &mut Maker, scale: f64, names: &Names) {
    let place = |role: HiveRole| match role {
        HiveRole::Software => "Quay/System32/config/SOFTWARE",
        HiveRole::System => "Quay/System32/config/SYSTEM",
        _ => "Quay/System32/config/COMPONENTS",
    };
    for edition in 1..=maker.editions {
        hive(maker, edition, place(HiveRole::Software), "SOFTWARE", |keys| {
            software(keys, edition, scale, names);
        });
        hive(maker, edition, place(HiveRole::Components), "COMPONENTS", |keys| components(keys, scale));
        hive(maker, edition, place(HiveRole::System), "SYSTEM", |keys| system(keys, scale, names));
        for (path, root) in
            [("Quay/System32/config/DEFAULT", "DEFAULT"), ("Users/Default/NTUSER.DAT", "NTUSER")]
        {
            hive(maker, edition, path, root, |keys| {
                keys.text("Control Panel\\International", "LocaleName", "en-GB");
                for n in 0..count(3_000, scale) {
                    keys.text(&format!("Software\\Quay\\K{n:05}"), "v", &format!("value {n}"));
                }
            });
        }
    }
}

fn main() {
    let args: Vec<String> = std::env::args().skip(1).collect();
    let [out, files, editions] = args.as_slice() else {
        println!("real-size OUT FILES EDITIONS");
        std::process::exit(2);
    };
    let files: f64 = files.parse().expect("a number of files");
    let editions: u64 = editions.parse().expect("a number of editions");
    let scale = files / FULL;
    let mut maker = Maker {
        out: Path::new(out).to_owned(),
        editions,
        pool: pool(),
        made: HashSet::new(),
        number: 0,
        files: 0,
        bytes: 0,
    };
    let mut names = Names::default();
    packages(&mut maker, scale, &mut names);
    drivers(&mut maker, scale, &mut names);
    store(&mut maker, scale);
    others(&mut maker, scale, &mut names);
    hives(&mut maker, scale, &names);
    println!(
        "{} files in the first of {editions} editions, {} MiB of content",
        maker.files,
        maker.bytes >> 20
    );
}
