//! Servicing, through the built program: inventory, taking out, putting in, setting up, comparing.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use serde_json::Value;
use std::{fs, path::Path};
use support::{demo, fails, json, ok};

const BRIDGE: &str = "Quay OS 7 Bridge";
const KIOSK: &str = "Quay OS 7 Kiosk";
const SOFTWARE: &str = "Quay/System32/config/SOFTWARE";

/// Writes a stack file for all editions of the demo's media with `body` in it, and returns its name.
fn stack(dir: &Path, body: &str) -> &'static str {
    let (head, rest) = body.split_once("---").unwrap_or(("", body));
    let text = format!(
        "{head}\ncatalogues = [\"quay.catalogue.toml\"]\n[source]\nmedia = \"quay-os-7.iso\"\n{rest}\n[media]\niso = \"out/t.iso\"\n"
    );
    fs::write(dir.join("t.stack.toml"), text).unwrap();
    "t.stack.toml"
}

/// The items of an edition in a plan: kind, subject and verdict in one text, and the detail.
fn items(plan: &Value, edition: &str) -> Vec<(String, String)> {
    let work =
        plan["editions_work"].as_array().unwrap().iter().find(|work| work["edition"] == edition).unwrap();
    let text = |item: &Value, key: &str| item[key].as_str().unwrap_or_default().to_owned();
    let all = work["items"].as_array().unwrap().iter();
    all.map(|item| {
        let head = format!("{} {} {}", text(item, "kind"), text(item, "subject"), text(item, "verdict"));
        (head, text(item, "detail"))
    })
    .collect()
}

fn plan(dir: &Path, body: &str) -> Value {
    json(dir, &["plan", stack(dir, body), "--json"])
}

/// Everything that differs in an edition: paths with a sign, and the lines of the registration text.
fn difference(dir: &Path, edition: &str) -> (Vec<String>, Vec<String>) {
    let comparison = json(dir, &["compare", "quay-os-7.iso", "out/t.iso", "--json"]);
    let all = comparison["editions"].as_array().unwrap();
    let found = all.iter().find(|own| own["after"] == edition).unwrap();
    let sign = |file: &Value| match (file["before"].is_null(), file["after"].is_null()) {
        (true, _) => '+',
        (_, true) => '-',
        _ => '~',
    };
    let files = found["files"].as_array().unwrap().iter();
    let files = files.map(|file| format!("{}{}", sign(file), file["path"].as_str().unwrap())).collect();
    let registry = found["registry"].as_str().unwrap().lines().filter(|line| !line.is_empty());
    (files, registry.skip(1).map(str::to_owned).collect())
}

#[test]
fn the_inventory_is_found_in_the_edition_itself() {
    let (_keep, dir) = demo();
    let list = json(&dir, &["inventory", "quay-os-7.iso", "--edition", BRIDGE, "--json"]);
    let components = list["components"].as_array().unwrap();
    let find = |id: &str| components.iter().find(|own| own["id"] == id).unwrap_or_else(|| panic!("no {id}"));
    let count =
        |word: &str| components.iter().filter(|own| own["id"].as_str().unwrap().starts_with(word)).count();
    let counts = [
        "app/",
        "feature/",
        "package/",
        "language/",
        "driver/",
        "service/",
        "task/",
        "font/",
        "screensaver/",
        "wallpaper/",
    ];
    assert_eq!(counts.map(count), [8, 6, 2, 3, 3, 10, 6, 6, 2, 2]);
    assert_eq!(find("app/radar-overlay")["needs"][0], "app/chart-viewer");
    assert_eq!(find("app/radar-overlay")["title"], "Radar overlay");
    assert_eq!(find("feature/fax-receive")["needs"][0], "feature/fax-send");
    assert_eq!(
        (&find("feature/telex")["state"], &find("feature/telex")["gone_for_good"]),
        (&"off".into(), &true.into())
    );
    assert_eq!(find("service/faxdispatch")["needs"][0], "service/printspool");
    assert_eq!(find("service/printspool")["state"], "automatic");
    assert_eq!(find("language/en-gb")["required"], "it is the language that the edition starts with");
    assert_eq!(
        (&find("driver/quay-vga")["group"], &find("driver/quay-vga")["version"]),
        (&"Display".into(), &"7.0.7042.0".into())
    );
    assert_eq!(find("font/harbour-bold")["title"], "Harbour Bold");
    // What two components share goes with neither.
    assert_eq!(find("app/card-games")["files"], 3);
    assert!(find("app/card-games")["bytes"].as_u64().unwrap() > 140 << 10);

    let filtered = |extra: &[&str]| {
        let args = [&["inventory", "quay-os-7.iso", "--edition", "2", "--json"], extra].concat();
        let list = json(&dir, &args);
        list["components"]
            .as_array()
            .unwrap()
            .iter()
            .map(|own| own["id"].as_str().unwrap().to_owned())
            .collect::<Vec<_>>()
    };
    assert_eq!(filtered(&["--match", "feature/FAX*"]), ["feature/fax-receive", "feature/fax-send"]);
    assert_eq!(filtered(&["--category", "screensaver", "--category", "wallpaper"]).len(), 4);
    assert_eq!(filtered(&["--category", "app", "--least", "150KiB"]), ["app/card-games", "app/chart-viewer"]);
    let known = json(
        &dir,
        &["inventory", "quay-os-7.iso", "--edition", "2", "--catalogue", "quay.catalogue.toml", "--json"],
    );
    let viewer =
        known["components"].as_array().unwrap().iter().find(|own| own["id"] == "app/chart-viewer").unwrap();
    assert!(viewer["needs"].as_array().unwrap().contains(&"service/harbourradio".into()));
    assert_eq!(viewer["group"], "Navigation");

    let (code, error) = fails(&dir, &["inventory", "quay-os-7.iso"]);
    assert!(code == 2 && error.contains("several editions") && error.contains(KIOSK), "{error}");
    assert_eq!(fails(&dir, &["inventory", "quay-os-7.iso", "--edition", "1", "--category", "ship"]).0, 2);
    assert_eq!(fails(&dir, &["inventory", "quay-os-7.iso", "--edition", "1", "--match", "nothing"]).0, 2);
}

#[test]
fn components_go_from_every_edition_and_nothing_else_does() {
    let (_keep, dir) = demo();
    ok(
        &dir,
        &[
            "build",
            stack(
                &dir,
                "[remove]\ncomponents = [\"app/card-games\", \"task/system-set-clock\", \"font/log-book\"]",
            ),
        ],
    );
    let (files, registry) = difference(&dir, BRIDGE);
    assert_eq!(
        files,
        [
            "-Program Files/WindowsApps/card-games_7.0.1.0_x64__bw7ferry/AppxManifest.xml",
            "-Program Files/WindowsApps/card-games_7.0.1.0_x64__bw7ferry/card-games.app",
            "-Program Files/WindowsApps/card-games_7.0.1.0_x64__bw7ferry/manual.txt",
            "+ProgramData/Neat Stack/edition.json",
            "-Quay/Fonts/log-book.fnt",
            "-Quay/System32/Tasks/System/Set clock",
        ]
    );
    let short: Vec<&str> = registry.iter().map(|line| line.rsplit('\\').next().unwrap()).collect();
    assert_eq!(
        short,
        [
            "Deprovisioned]",
            "card-games_bw7ferry]",
            "card-games_7.0.1.0_x64__bw7ferry]",
            "Fonts]",
            "\"Log Book\"=-",
            "{00000000-0000-4000-8000-000000000006}]",
            "{00000000-0000-4000-8000-000000000006}]",
            "Set clock]",
        ]
    );
    assert!(registry[2].starts_with("[-HKEY_LOCAL_MACHINE\\SOFTWARE\\") && registry[7].starts_with("[-"));
    // The kiosk never had card games; the rest goes from it too.
    let (kiosk, _) = difference(&dir, KIOSK);
    assert_eq!(kiosk.len(), 3, "{kiosk:?}");
    // What is gone from all editions is gone from the image file.
    let sizes = ["quay-os-7.iso", "out/t.iso"]
        .map(|iso| json(&dir, &["look", iso, "--json"])["image_files"][0]["size"].as_u64().unwrap());
    let saved = json(&dir, &["plan", "t.stack.toml", "--json"])["steps"][0]["bytes"].as_i64().unwrap();
    assert!(sizes[0] - sizes[1] > 60 << 10 && saved < -(60 << 10), "{sizes:?} {saved}");
}

#[test]
fn what_is_needed_is_refused_unless_its_dependents_go_or_keep_decides() {
    let (_keep, dir) = demo();
    let (code, error) = fails(&dir, &["build", stack(&dir, "[remove]\ncomponents = [\"app/tide-data\"]")]);
    assert!(code == 4 && error.contains("app/tide-data") && error.contains("needs it"), "{error}");
    assert!(error.contains("with_dependents = true"), "{error}");
    assert!(!dir.join("out/t.iso").exists());

    let all = plan(&dir, "[remove]\ncomponents = [\"app/tide-data\"]\nwith_dependents = true");
    let bridge = items(&all, BRIDGE);
    let went: Vec<&str> = bridge.iter().map(|(head, _)| head.as_str()).collect();
    assert_eq!(
        went,
        [
            "remove app/chart-viewer applied",
            "remove app/radar-overlay applied",
            "remove app/tide-data applied",
            "remove app/tide-tables applied"
        ]
    );
    assert_eq!(bridge[1].1, "it needs app/chart-viewer");
    let lasting = plan(&dir, "[remove]\ncomponents = [\"feature/remote-hands\"]");
    let said = "cannot be put back after installation; The harbour office cannot help from afar without it";
    assert_eq!(
        items(&lasting, BRIDGE),
        [("remove feature/remote-hands applied".to_owned(), said.to_owned())]
    );

    let kept = plan(
        &dir,
        "[remove]\ncomponents = [\"app/*\", \"font/*\"]\nkeep = [\"app/chart-viewer\", \"font/harbour\"]",
    );
    let bridge = items(&kept, BRIDGE);
    let find = |head: &str| {
        bridge.iter().find(|(own, _)| own == head).unwrap_or_else(|| panic!("{head}: {bridge:?}"))
    };
    find("remove app/radar-overlay applied");
    assert_eq!(find("remove app/chart-viewer skipped").1, "`keep` names it");
    assert_eq!(find("remove app/tide-data skipped").1, "app/chart-viewer, which `keep` names, needs it");
    find("remove font/harbour skipped");
    find("remove font/harbour-bold applied");

    // One that must never go: by name refused, by a pattern left.
    assert_eq!(fails(&dir, &["build", stack(&dir, "[remove]\ncomponents = [\"language/en-gb\"]")]).0, 4);
    let left = plan(&dir, "[remove]\ncomponents = [\"language/*\"]");
    assert!(items(&left, BRIDGE).contains(&(
        "remove language/en-gb skipped".into(),
        "it is the language that the edition starts with".into()
    )));
    ok(&dir, &["build", stack(&dir, "[remove]\ncomponents = [\"app/tide-data\"]\noptional = true")]);
}

#[test]
fn profiles_come_from_catalogues_and_near_misses_are_offered() {
    let (_keep, dir) = demo();
    let lean = plan(&dir, "[remove]\nprofile = \"lean\"\ncomponents = [\"app/cardgames\"]\n[settings]");
    let bridge = items(&lean, BRIDGE);
    assert!(bridge.iter().any(|(head, _)| head == "remove service/usagereport applied"), "{bridge:?}");
    assert!(bridge.iter().any(|(_, detail)| detail.ends_with("SendUsage: 1 (0x1) → 0 (0x0)")), "{bridge:?}");
    let notes = lean["findings"].to_string();
    assert!(notes.contains("app/cardgames") && notes.contains("did you mean app/card-games"), "{notes}");
    let (code, error) = fails(&dir, &["plan", stack(&dir, "[remove]\nprofile = \"laen\"")]);
    assert!(code == 2 && error.contains("did you mean \"lean\""), "{error}");
    let (code, error) = fails(&dir, &["plan", stack(&dir, "[settings]\nuse = [\"show-file-ending\"]")]);
    assert!(code == 2 && error.contains("did you mean show-file-endings"), "{error}");
    fs::write(dir.join("bad.toml"), "format = 1\n[[component]]\nid = 7\n").unwrap();
    let (code, error) =
        fails(&dir, &["inventory", "quay-os-7.iso", "--edition", "1", "--catalogue", "bad.toml"]);
    assert!(code == 2 && error.contains("bad.toml") && error.contains("line 3"), "{error}");
}

#[test]
fn settings_change_exactly_what_they_say() {
    let (_keep, dir) = demo();
    let body = "[settings]\nuse = [\"show-file-endings\"]\nregistry = [\"site.reg\"]\nservices = { \"printspool\" = \"disabled\", \"HarbourRadio\" = \"automatic\" }\nfeatures = { \"telex\" = true }\n[settings.company]\nname = \"Brackwater\"\n[[settings.value]]\nkey = 'HKLM\\SOFTWARE\\Brackwater\\Console'\nname = \"Lamps\"\nvalue = [\"red\", \"green\"]\n[[settings.value]]\nkey = 'HKLM\\SOFTWARE\\Brackwater\\Console'\nname = \"Depth\"\ntype = \"long-number\"\nvalue = -2\n[[settings.value]]\nkey = 'HKLM\\SOFTWARE\\Brackwater\\Console'\nname = \"SendUsage\"\ndelete = true";
    let bridge = items(&plan(&dir, body), BRIDGE);
    let details: Vec<&str> = bridge.iter().map(|(_, detail)| detail.as_str()).collect();
    assert!(
        details.contains(&"start: automatic → disabled") && details.contains(&"it is automatic already"),
        "{details:?}"
    );
    assert!(
        details.iter().any(|text| text.ends_with("Greeting: \"Welcome aboard\" → \"Welcome to the bridge\"")),
        "{details:?}"
    );
    let slip = "[[settings.value]]\nkey = 'HKLM\\SOFTWARE\\Brakwater\\Console'\nname = \"Depth\"\nvalue = 3";
    let notes = plan(&dir, slip)["findings"].to_string();
    assert!(notes.contains("makes a key that is not there: HKLM\\\\SOFTWARE\\\\Brakwater"), "{notes}");
    ok(&dir, &["build", stack(&dir, body)]);
    for edition in [BRIDGE, KIOSK] {
        let (files, registry) = difference(&dir, edition);
        assert_eq!(files, ["+ProgramData/Neat Stack/edition.json"]);
        assert_eq!(
            registry,
            [
                "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Brackwater\\Console]",
                "\"SendUsage\"=-",
                "\"Greeting\"=\"Welcome to the bridge\"",
                "\"Volume\"=dword:00000003",
                "\"Lamps\"=hex(7):72,00,65,00,64,00,00,00,67,00,72,00,65,00,65,00,6e,00,00,00,\\",
                "  00,00",
                "\"Depth\"=hex(b):fe,ff,ff,ff,ff,ff,ff,ff",
                "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\OEMInformation]",
                "\"Manufacturer\"=\"Brackwater\"",
                "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Component Based Servicing\\Packages\\telex~bw7ferry~amd64~~7.0.7042.0\\Updates]",
                "\"telex\"=dword:00000007",
                "[HKEY_LOCAL_MACHINE\\SYSTEM\\ControlSet001\\Services\\ClockKeeper]",
                "\"Start\"=dword:00000002",
                "[HKEY_LOCAL_MACHINE\\SYSTEM\\ControlSet001\\Services\\PrintSpool]",
                "\"Start\"=dword:00000004",
                "[HKEY_CURRENT_USER\\Software\\Brackwater\\Desktop]",
                "\"Tips\"=-",
                "[HKEY_CURRENT_USER\\Software\\Brackwater\\Files]",
                "\"HideEndings\"=dword:00000000",
            ]
        );
    }
    for (body, code, wanted) in [
        ("[settings]\nservices = { \"PrintSpol\" = \"manual\" }", 4, "did you mean PrintSpool?"),
        ("[settings]\nservices = { \"PrintSpool\" = \"sometimes\" }", 2, "is no start type"),
        ("[settings]\nfeatures = { \"telx\" = true }", 4, "did you mean telex?"),
        (
            "[[settings.value]]\nkey = 'HKEY_USERS\\S-1-5-21-1\\X'\nvalue = 1",
            2,
            "accounts are made when the system is installed",
        ),
        (
            "[[settings.value]]\nkey = 'HKLM\\SOFTWARE\\X'\nname = \"n\"\ntype = \"number\"\nvalue = 5000000000",
            2,
            "32 bits",
        ),
        (
            "[[settings.value]]\nkey = 'HKLM\\SAM\\X'\nname = \"n\"\nvalue = 1",
            4,
            "no hive HKEY_LOCAL_MACHINE\\SAM",
        ),
        ("[settings]\nregistry = [\"bridge-answers.xml\"]", 3, "line 1"),
        ("[settings.languages]\ninterface = \"fr-FR\"", 4, "put the language in first"),
    ] {
        let (found, error) = fails(&dir, &["build", stack(&dir, body), "--replace"]);
        assert!(found == code && error.contains(wanted), "{body}: {found} {error}");
    }
}

#[test]
fn drivers_go_into_the_system_and_the_setup_environment() {
    let (_keep, dir) = demo();
    ok(
        &dir,
        &[
            "build",
            stack(
                &dir,
                "[[driver]]\nfrom = \"drivers/lantern-net.cab\"\ninto = [\"system\", \"setup\"]\n[[driver]]\nfrom = \"drivers/rudder-usb.exe\"\nclasses = [\"usb\"]",
            ),
        ],
    );
    let (files, registry) = difference(&dir, KIOSK);
    assert_eq!(
        files,
        [
            "+Drivers/lantern/lantern.cat",
            "+Drivers/lantern/lantern.inf",
            "+Drivers/lantern/lantern.sys",
            "+Drivers/rudder/rudder-hub.sys",
            "+Drivers/rudder/rudder.cat",
            "+Drivers/rudder/rudder.inf",
            "+Drivers/rudder/rudder.sys",
            "+ProgramData/Neat Stack/edition.json",
        ]
    );
    assert_eq!(registry[0], "[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion]");
    let (setup, _) = difference(&dir, "Quay OS 7 Setup");
    assert_eq!(setup.len(), 4, "{setup:?}");
    ok(&dir, &["take", "out/t.iso", SOFTWARE, "--edition", "1", "--to", "h"]);
    let list = json(&dir, &["inventory", "out/t.iso", "--edition", "1", "--json"]);
    assert_eq!(list["integrated"]["drivers"][0]["version"], "21.0.1.5");

    let (code, error) =
        fails(&dir, &["build", stack(&dir, "[[driver]]\nfrom = \"drivers/foghorn-sound\""), "--replace"]);
    assert!(code == 4 && error.contains("foghorn-mix.dll is missing") && error.contains("line "), "{error}");
    let (code, error) = fails(&dir, &["build", stack(&dir, "[[driver]]\nfrom = \"apps\""), "--replace"]);
    assert!(code == 4 && error.contains("holds no driver"), "{error}");
    fs::create_dir(dir.join("odd")).unwrap();
    fs::write(dir.join("odd/x.inf"), "[Strings]\na=b\n").unwrap();
    let (code, error) = fails(&dir, &["build", stack(&dir, "[[driver]]\nfrom = \"odd\""), "--replace"]);
    assert!(code == 4 && error.contains("holds no driver"), "{error}");
    let skipped = plan(&dir, "[[driver]]\nfrom = \"drivers\"\nclasses = [\"storage\"]\noptional = true");
    let bridge = items(&skipped, BRIDGE);
    let find = |head: &str| {
        bridge.iter().find(|(own, _)| own == head).unwrap_or_else(|| panic!("{head}: {bridge:?}"))
    };
    find("driver drivers/keelson-s4/keelson.inf applied");
    assert_eq!(
        find("driver drivers/old/keelson-s4/keelson.inf skipped").1,
        "drivers/keelson-s4/keelson.inf is newer"
    );
    assert_eq!(find("driver drivers/barnacle-arm/barnacle.inf skipped").1, "it is for arm64, not for x64");
    assert_eq!(find("driver drivers/lantern-net.cab/lantern.inf skipped").1, "its class is Net");
}

#[test]
fn coverage_of_a_machine_is_told_device_by_device() {
    let (_keep, dir) = demo();
    let report = json(&dir, &["drivers", "drivers/", "--for", "bridge-console.devices.txt", "--json"]);
    let devices = report["devices"].as_array().unwrap();
    let of = |name: &str| devices.iter().find(|device| device["name"] == name).unwrap();
    assert_eq!(of("Lantern 210")["driver"], "drivers/lantern-net.cab/lantern.inf");
    assert_eq!(of("Rudder host")["driver"], "drivers/rudder-usb.exe/rudder.inf");
    assert_eq!(of("Keelson S4")["driver"], "drivers/keelson-s4/keelson.inf");
    assert_eq!(of("Foghorn")["complete"], false);
    assert!(of("Semaphore modem")["driver"].is_null() && of("Barnacle radio network")["driver"].is_null());
    let inf = json(&dir, &["look", "drivers/keelson-s4/keelson.inf", "--json"]);
    assert_eq!((&inf["kind"], &inf["hardware_ids"][1]), (&"driver".into(), &"PCI\\VEN_1AF4&DEV_2923".into()));
    let text = ok(&dir, &["drivers", "drivers/", "--for", "bridge-console.devices.txt"]);
    assert!(text.contains("3 of 8 devices have a driver for x64 in there"), "{text}");
    let arm = json(
        &dir,
        &["drivers", "drivers/", "--for", "bridge-console.devices.txt", "--arch", "arm64", "--json"],
    );
    let served =
        arm["devices"].as_array().unwrap().iter().filter(|device| !device["driver"].is_null()).count();
    assert_eq!(served, 1);
    fs::write(dir.join("bad.txt"), "just words\n").unwrap();
    assert_eq!(fails(&dir, &["drivers", "drivers/", "--for", "bad.txt"]).0, 2);
    assert_eq!(fails(&dir, &["drivers", "drivers/", "--arch", "vax"]).0, 2);
}

#[test]
fn updates_go_in_by_need_and_the_build_number_rises() {
    let (_keep, dir) = demo();
    let body = "[[update]]\nfrom = \"updates\"\noptional = true";
    let bridge = items(&plan(&dir, body), BRIDGE);
    let heads: Vec<&str> = bridge.iter().map(|(head, _)| head.split(' ').nth(1).unwrap()).collect();
    assert_eq!(heads[..3], ["quay-7-servicing-2026-08", "quay-7-2026-10", "quay-7-danish"]);
    assert_eq!(bridge[3].1, "quay-7-2026-10 7.0.7091.3 is newer");
    assert_eq!(bridge[4].1, "it is for arm64, and the edition is x64");
    // A folder may hold what is for other systems; what is named itself must fit.
    assert!(
        items(&plan(&dir, "[[update]]\nfrom = \"updates\""), BRIDGE)
            .iter()
            .all(|(head, _)| !head.ends_with("refused"))
    );
    stack(&dir, body);
    ok(&dir, &["build", "t.stack.toml"]);
    let look = json(&dir, &["look", "out/t.iso", "--json"]);
    let install = &look["image_files"][0];
    assert_eq!(
        (&install["editions"][0]["version"], &install["editions"][0]["languages"][3]),
        (&"7.0.7091.3".into(), &"da-DK".into())
    );
    assert_eq!(install["inside"][1]["integrated"]["updates"][1]["id"], "quay-7-2026-10");
    let text = ok(&dir, &["look", "out/t.iso"]);
    assert!(text.contains("by earlier builds 3 updates"), "{text}");
    let (files, _) = difference(&dir, BRIDGE);
    assert!(
        files.contains(&"~Quay/System32/kernel.lib".into())
            && files.contains(&"+Quay/System32/da-DK/help.txt".into())
    );

    // The same updates again: nothing is left to do.
    let again = fs::read_to_string(dir.join("t.stack.toml"))
        .unwrap()
        .replace("quay-os-7.iso", "out/t.iso")
        .replace("iso = \"out/t.iso\"", "iso = \"out/u.iso\"");
    fs::write(dir.join("u.stack.toml"), again).unwrap();
    let second = json(&dir, &["plan", "u.stack.toml", "--json"]);
    assert!(items(&second, BRIDGE).iter().all(|(head, _)| !head.ends_with("applied")), "{second}");

    let named = "[[update]]\nfrom = \"updates/quay-7-radio-fix.update.tar.zst\"";
    let (code, error) = fails(&dir, &["build", stack(&dir, named), "--replace"]);
    assert!(code == 4 && error.contains("quay-7-radio-fix") && error.contains("optional = true"), "{error}");
    let lonely = "[[update]]\nfrom = \"updates/quay-7-2026-10.update.tar.zst\"";
    let (code, error) = fails(&dir, &["build", stack(&dir, lonely), "--replace"]);
    assert!(code == 4 && error.contains("needs quay-7-servicing-2026-08"), "{error}");
}

#[test]
fn an_update_is_made_from_a_folder_and_bad_ones_are_refused() {
    let (_keep, dir) = demo();
    fs::create_dir_all(dir.join("fix/Quay/System32")).unwrap();
    fs::write(dir.join("fix/Quay/System32/lamp.lib"), "light").unwrap();
    ok(
        &dir,
        &[
            "update",
            "new",
            "fix",
            "--id",
            "lamp-fix",
            "--version",
            "7.0.7100",
            "--arch",
            "x64",
            "-o",
            "lamp.update.tar.zst",
        ],
    );
    assert_eq!(
        fails(
            &dir,
            &["update", "new", "fix", "--id", "lamp-fix", "--version", "1", "-o", "lamp.update.tar.zst"]
        )
        .0,
        4
    );
    assert_eq!(json(&dir, &["look", "lamp.update.tar.zst", "--json"])["update"]["id"], "lamp-fix");
    ok(&dir, &["build", stack(&dir, "[[update]]\nfrom = \"lamp.update.tar.zst\"")]);
    let (files, _) = difference(&dir, KIOSK);
    assert_eq!(files, ["+ProgramData/Neat Stack/edition.json", "+Quay/System32/lamp.lib"]);

    fs::create_dir_all(dir.join("full/files/Quay")).unwrap();
    fs::write(dir.join("full/files/Quay/x.txt"), "x").unwrap();
    fs::write(
        dir.join("full/update.toml"),
        "format = 1\n[update]\nid = \"full\"\nversion = \"1\"\nregistry = [\"a.reg\"]\n",
    )
    .unwrap();
    let (code, error) = fails(&dir, &["update", "new", "full", "-o", "full.update.tar.zst"]);
    assert!(code == 3 && error.contains("a.reg"), "{error}");
    fs::write(dir.join("full/a.reg"), "REGEDIT4\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Full]\n\"a\"=\"b\"\n")
        .unwrap();
    ok(&dir, &["update", "new", "full", "-o", "full.update.tar.zst"]);
    ok(&dir, &["build", stack(&dir, "[[update]]\nfrom = \"full.update.tar.zst\""), "--replace"]);
    let (_, registry) = difference(&dir, KIOSK);
    assert_eq!(registry, ["[HKEY_LOCAL_MACHINE\\SOFTWARE\\Full]", "\"a\"=\"b\""]);

    fs::write(
        dir.join("full/update.toml"),
        "format = 1\n[update]\nid = \"full\"\nversion = \"1\"\nremoves = [\"../../etc/passwd\"]\n",
    )
    .unwrap();
    let (code, error) = fails(&dir, &["build", stack(&dir, "[[update]]\nfrom = \"full\""), "--replace"]);
    assert!(code == 3 && error.contains("stay"), "{error}");
}

fn cabinet(files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    neat_testing::packs::cabinet(files, cab::CompressionType::MsZip)
}

#[test]
fn files_apps_pictures_and_languages_reach_the_installed_system() {
    let (_keep, dir) = demo();
    let body = "[[place]]\nfrom = \"site-files\"\nto = \"system:/Brackwater\"\n[[place]]\nfrom = \"site-files/telephone-list.txt\"\nto = \"setup:/Setup/list.txt\"\n[[app]]\ninstaller = \"apps/chartview.exe\"\narguments = \"/quiet 100%\"\n[[app]]\ninstaller = \"setup.cmd\"\nfiles = \"apps/moorings\"\nwhen = \"first-sign-in\"\n[settings]\nwallpaper = \"site-files/wallpaper.bmp\"\n[settings.languages]\ninterface = \"nb-NO\"\nregion = \"nb-NO\"\nkeyboards = [\"00000414\"]\n[settings.company]\nlogo = \"site-files/wallpaper.bmp\"";
    ok(&dir, &["build", stack(&dir, body)]);
    let (files, registry) = difference(&dir, KIOSK);
    assert_eq!(
        files,
        [
            "+Brackwater/charts/approach.txt",
            "+Brackwater/telephone-list.txt",
            "+Brackwater/wallpaper.bmp",
            "+ProgramData/Neat Stack/edition.json",
            "+Quay/System32/company-logo.bmp",
            "+Quay/Web/Wallpaper/Company/wallpaper.bmp",
        ]
    );
    let registry = registry.join("\n");
    for line in [
        "\"Logo\"=\"C:\\\\Quay\\\\System32\\\\company-logo.bmp\"",
        "\"WallPaper\"=\"C:\\\\Quay\\\\Web\\\\Wallpaper\\\\Company\\\\wallpaper.bmp\"",
        "\"LocaleName\"=\"nb-NO\"",
        "\"1\"=\"00000414\"",
        "\"!NeatStackApps\"=\"cmd.exe /c \\\"%SystemDrive%\\\\NeatStack\\\\first-sign-in.cmd\\\"\"",
    ] {
        assert!(registry.contains(line), "{line}: {registry}");
    }
    assert_eq!(difference(&dir, "Quay OS 7 Setup").0, ["+Setup/list.txt"]);
    ok(&dir, &["take", "out/t.iso", "sources/$OEM$", "--to", "oem"]);
    let read = |path: &str| fs::read_to_string(dir.join("oem/$OEM$").join(path)).unwrap();
    assert_eq!(
        read("$$/Setup/Scripts/SetupComplete.cmd"),
        "@echo off\r\nif exist \"%~dp0SetupComplete-before.cmd\" cmd.exe /d /c \"\"%~dp0SetupComplete-before.cmd\"\"\r\n\
         cmd.exe /d /c \"\"%SystemDrive%\\NeatStack\\setup-end.cmd\"\"\r\n"
    );
    let script = read("$1/NeatStack/setup-end.cmd");
    assert!(script.contains("\"\"%~dp0apps\\01-chartview\\neatstack-run.cmd\"\" 2>&1\r\n"), "{script}");
    assert!(
        script
            .contains("\r\nset \"NEATSTACK_CODE=%ERRORLEVEL%\"\r\n>>\"%NEATSTACK_LOG%\" echo %DATE% %TIME% chartview.exe ended with %NEATSTACK_CODE%\r\ncall :meaning\r\n"),
        "{script}"
    );
    assert!(script.contains(" is done\r\nexit /b 0\r\n:meaning\r\n"), "{script}");
    let run = read("$1/NeatStack/apps/01-chartview/neatstack-run.cmd");
    assert!(run.contains("\r\n\"chartview.exe\" /quiet 100%%\r\n"), "{run}");
    let script = read("$1/NeatStack/first-sign-in.cmd");
    assert!(script.contains("apps\\02-setup\\neatstack-run.cmd"), "{script}");
    assert!(dir.join("oem/$OEM$/$1/NeatStack/apps/02-setup/data/moorings.txt").is_file());

    let over =
        "[[place]]\nfrom = \"site-files/telephone-list.txt\"\nto = \"system:/Quay/Config/edition.txt\"";
    let (code, error) = fails(&dir, &["build", stack(&dir, over), "--replace"]);
    assert!(code == 4 && error.contains("is there already") && error.contains("replace = true"), "{error}");
    ok(&dir, &["build", stack(&dir, &format!("{over}\nreplace = true")), "--replace"]);
    assert!(difference(&dir, KIOSK).0.contains(&"~Quay/Config/edition.txt".into()));
}

#[test]
fn building_on_what_was_built_changes_nothing_more() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    let text = fs::read_to_string(dir.join("bridge.stack.toml")).unwrap();
    let again = text
        .replace("media = \"quay-os-7.iso\"", "media = \"out/bridge.iso\"")
        .replace("iso = \"out/bridge.iso\"", "iso = \"out/again.iso\"")
        .replace("file = \"bridge.answer.toml\"", "file = \"bridge.answer.toml\"\nreplace = true");
    fs::write(dir.join("again.stack.toml"), again).unwrap();
    let second = json(&dir, &["plan", "again.stack.toml", "--json"]);
    for work in second["editions_work"].as_array().unwrap() {
        for item in work["items"].as_array().unwrap() {
            assert!(item["verdict"] != "applied" || item["kind"] == "app", "{item}");
        }
    }
    ok(&dir, &["build", "again.stack.toml", "-q"]);
    let same = json(&dir, &["compare", "out/bridge.iso", "out/again.iso", "--json"]);
    assert_eq!(same["files"], Value::Array(vec![]));
    for edition in same["editions"].as_array().unwrap() {
        assert!(edition["files"] == Value::Array(vec![]) && edition["registry"] == "", "{edition}");
    }
    assert_eq!(ok(&dir, &["compare", "out/bridge.iso", "out/again.iso"]), "nothing differs\n");
    let ledger = json(&dir, &["look", "out/bridge.ledger.json", "--json"]);
    let verdicts = |verdict: &str| {
        ledger["items"].as_array().unwrap().iter().filter(|item| item["verdict"] == verdict).count()
    };
    assert!(verdicts("applied") > 30 && verdicts("skipped") > 3 && verdicts("refused") == 1);
}

#[test]
fn hives_are_looked_at_and_compared_as_registration_text() {
    let (_keep, dir) = demo();
    ok(&dir, &["take", "quay-os-7.iso", SOFTWARE, "--edition", "1", "--to", "a"]);
    ok(&dir, &["build", stack(&dir, "[settings]\nregistry = [\"site.reg\"]")]);
    ok(&dir, &["take", "out/t.iso", SOFTWARE, "--edition", "1", "--to", "b"]);
    let shown = ok(&dir, &["compare", "a/SOFTWARE", "b/SOFTWARE"]);
    assert_eq!(
        shown,
        "    HKLM\\SOFTWARE\\Brackwater\\Console\n      Greeting: \"Welcome aboard\" → \"Welcome to the bridge\"\n      Volume: nothing → 3 (0x3)\n"
    );
    let back = ok(&dir, &["compare", "b/SOFTWARE", "a/SOFTWARE"]);
    assert!(back.contains("      Volume: 3 (0x3) → gone\n"), "{back}");
    let text = ok(&dir, &["compare", "a/SOFTWARE", "b/SOFTWARE", "--reg"]);
    assert!(
        text.starts_with("Windows Registry Editor Version 5.00\n")
            && text.contains("\"Volume\"=dword:00000003\n"),
        "{text}"
    );
    assert!(text.contains("[HKEY_LOCAL_MACHINE\\SOFTWARE\\Brackwater\\Console]"), "{text}");
    assert_eq!(ok(&dir, &["compare", "a/SOFTWARE", "a/SOFTWARE"]), "no key and no value differs\n");
    let look = json(&dir, &["look", "a/SOFTWARE", "--json"]);
    assert_eq!(
        (&look["kind"], &look["version"], &look["dirty"]),
        (&"hive".into(), &"1.5".into(), &false.into())
    );
    assert_eq!(json(&dir, &["look", "site.reg", "--json"])["values_set"], 3);
    let mut bytes = fs::read(dir.join("a/SOFTWARE")).unwrap();
    bytes.truncate(6000);
    fs::write(dir.join("cut"), bytes).unwrap();
    let (code, error) = fails(&dir, &["look", "cut"]);
    assert!(code == 3 && error.contains("at byte 0x1000"), "{error}");
    assert_eq!(fails(&dir, &["compare", "a/SOFTWARE", "quay-os-7.iso"]).0, 2);
}

#[test]
fn damage_inside_editions_and_packs_ends_without_an_output() {
    let (_keep, dir) = demo();
    // A hive with a damaged bin, put in as a file, then read by the next build.
    ok(&dir, &["take", "quay-os-7.iso", SOFTWARE, "--edition", "1", "--to", "h"]);
    let mut bytes = fs::read(dir.join("h/SOFTWARE")).unwrap();
    bytes[4096] = b'X';
    fs::write(dir.join("h/SOFTWARE"), bytes).unwrap();
    ok(
        &dir,
        &[
            "build",
            stack(
                &dir,
                &format!("[[place]]\nfrom = \"h/SOFTWARE\"\nto = \"system:/{SOFTWARE}\"\nreplace = true"),
            ),
        ],
    );
    fs::rename(dir.join("out/t.iso"), dir.join("damaged.iso")).unwrap();
    fs::remove_dir_all(dir.join("out")).unwrap();
    fs::write(dir.join("d.stack.toml"), "[source]\nmedia = \"damaged.iso\"\n[settings]\nservices = { \"PrintSpool\" = \"manual\" }\n[media]\niso = \"out/d.iso\"\n").unwrap();
    let (code, error) = fails(&dir, &["build", "d.stack.toml"]);
    assert!(
        code == 3 && error.contains("edition 1, Quay/System32/config/SOFTWARE") && error.contains("0x1000"),
        "{error}"
    );
    assert!(!dir.join("out").exists());
    assert!(ok(&dir, &["look", "damaged.iso"]).contains("hive bin.signature"), "the rest is still told");

    let bomb = cabinet(&[("bomb.inf", vec![0; 100 << 20])]);
    fs::write(dir.join("bomb.cab"), bomb).unwrap();
    let (code, error) = fails(&dir, &["build", stack(&dir, "[[driver]]\nfrom = \"bomb.cab\"")]);
    assert!(code == 3 && error.contains("at most"), "{error}");
    let climbing = cabinet(&[("..\\..\\x.inf", b"[Version]\nClass=Net\n".to_vec())]);
    fs::write(dir.join("climb.cab"), climbing).unwrap();
    let (code, error) = fails(&dir, &["build", stack(&dir, "[[driver]]\nfrom = \"climb.cab\"")]);
    assert!(code == 3 && error.contains("stay"), "{error}");
    assert!(!dir.join("out/t.iso").exists());
}

#[test]
fn editions_of_another_layout_need_one_that_is_named() {
    let (_keep, dir) = demo();
    fs::create_dir_all(dir.join("plain/etc")).unwrap();
    fs::write(dir.join("plain/etc/name"), "x").unwrap();
    ok(&dir, &["capture", "plain", "-o", "plain.wim", "--name", "Plain"]);
    let (code, error) = fails(&dir, &["inventory", "plain.wim"]);
    assert!(code == 2 && error.contains("no layout that is known"), "{error}");
    // Quay OS with its registry elsewhere: the files stay where they are, and the layout says where.
    let common = include_str!("../../service/layouts/common.toml");
    let moved = common.replace("{root}/System32/config/SOFTWARE", "{root}/Registry/Software.hive");
    fs::write(dir.join("moved.toml"), moved).unwrap();
    ok(&dir, &["take", "quay-os-7.iso", "Quay", "--edition", "1", "--to", "sys"]);
    fs::create_dir(dir.join("sys/Quay/Registry")).unwrap();
    fs::rename(dir.join("sys").join(SOFTWARE), dir.join("sys/Quay/Registry/Software.hive")).unwrap();
    ok(&dir, &["capture", "sys", "-o", "sys.wim", "--name", "Moved"]);
    assert_eq!(fails(&dir, &["inventory", "sys.wim"]).0, 2);
    let list = json(&dir, &["inventory", "sys.wim", "--layout", "moved.toml", "--json"]);
    assert!(list["components"].as_array().unwrap().iter().any(|own| own["id"] == "task/system-check-disk"));
    fs::write(dir.join("moved.toml"), "format = 9\n").unwrap();
    assert_eq!(fails(&dir, &["inventory", "sys.wim", "--layout", "moved.toml"]).0, 2);
}

#[test]
fn every_form_has_a_schema() {
    let (_keep, dir) = demo();
    for (form, key) in
        [("stack", "update"), ("catalogue", "profile"), ("layout", "drivers"), ("update", "update")]
    {
        let schema = json(&dir, &["schema", form]);
        assert!(schema["properties"].get(key).is_some(), "{form}: {schema}");
        assert_eq!(schema["additionalProperties"], false);
    }
    let stack = json(&dir, &["schema", "stack"]).to_string();
    assert!(stack.contains("\"NameOrNumber\"") && stack.contains("first-sign-in"), "{stack}");
}

/// What was built is the next release: its updates are contained, what was taken out is gone, and something is new.
#[test]
fn a_plan_says_what_differs_from_an_earlier_build() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    let ledger = "out/bridge.ledger.json";
    let recipe = fs::read_to_string(dir.join("bridge.stack.toml")).unwrap();
    // The same again differs in nothing.
    let same = json(&dir, &["plan", "bridge.stack.toml", "--since", ledger, "--json"]);
    for key in ["editions_gone", "editions_new", "items", "new_components", "sizes"] {
        assert_eq!(same["since"][key], serde_json::json!([]), "{key}");
    }
    assert!(ok(&dir, &["plan", "bridge.stack.toml", "--since", ledger]).contains("nothing: the same items"));
    // A release with another name for the edition, the updates in it, and another app.
    ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "--to", "."]);
    let next = recipe
        .replace("quay-os-7.iso", "next.iso")
        .replace("editions = [\"Quay OS 7 Bridge\"]", "editions = [\"Quay OS 8 Bridge\"]")
        .replace("out/bridge.iso", "out/next.iso");
    let release = "[source]\nmedia = \"quay-os-7.iso\"\neditions = [\"Quay OS 7 Bridge\"]\n[[update]]\nfrom = \"updates\"\n\
                   [[place]]\nfrom = \"Games\"\nto = \"system:/Quay/System32\"\n[remove]\ncomponents = [\"app/news-stand\"]\n\
                   [media]\niso = \"next.iso\"\n";
    fs::create_dir(dir.join("Games")).unwrap();
    fs::write(dir.join("Games/bowls.scr"), "roll".repeat(90_000)).unwrap();
    fs::write(dir.join("release.stack.toml"), release).unwrap();
    ok(&dir, &["build", "release.stack.toml", "-q", "--replace"]);
    ok(&dir, &["take", "next.iso", "sources/install.wim", "--to", "taken"]);
    ok(
        &dir,
        &["editions", "taken/install.wim", "rename", "1", "--name", "Quay OS 8 Bridge", "-o", "renamed.wim"],
    );
    ok(&dir, &["touchup", "next.iso", "put", "renamed.wim=sources/install.wim", "Games=more", "-q"]);
    fs::write(dir.join("next.stack.toml"), next).unwrap();
    let answers = fs::read_to_string(dir.join("bridge.answer.toml")).unwrap();
    fs::write(dir.join("bridge.answer.toml"), answers.replace("Quay OS 7 Bridge", "Quay OS 8 Bridge"))
        .unwrap();
    let plan = json(&dir, &["plan", "next.stack.toml", "--since", ledger, "--json"]);
    let since = &plan["since"];
    assert_eq!(since["editions_gone"], serde_json::json!(["Quay OS 7 Bridge"]));
    assert_eq!(since["editions_new"], serde_json::json!(["Quay OS 8 Bridge"]));
    let find = |kind: &str, subject: &str| {
        let all = since["items"].as_array().unwrap().iter();
        let mut found =
            all.filter(|item| item["kind"] == kind && item["subject"].as_str().unwrap().starts_with(subject));
        found.next().unwrap_or_else(|| panic!("{kind} {subject}: {since}"))
    };
    let contained = find("update", "quay-7-2026-10");
    assert_eq!((&contained["before"], &contained["after"]), (&"applied".into(), &"skipped".into()));
    assert!(contained["detail"].as_str().unwrap().contains("in the edition already"), "{contained}");
    assert!(find("remove", "app/news-stand")["after"] != "applied");
    let new = &since["new_components"][0];
    assert_eq!(
        (&new["category"], &new["ids"]),
        (&"screensaver".into(), &serde_json::json!(["screensaver/bowls"]))
    );
    assert_eq!(since["sizes"].as_array().unwrap().len(), 1);
    let text = ok(&dir, &["plan", "next.stack.toml", "--since", ledger]);
    for said in ["Quay OS 7 Bridge is called Quay OS 8 Bridge now", "skipped now", "no longer", "size"] {
        assert!(text.contains(said), "{said}: {text}");
    }
    // The same between the two ledgers.
    ok(&dir, &["build", "next.stack.toml", "-q"]);
    let ledgers = json(&dir, &["compare", ledger, "out/next.ledger.json", "--json"]);
    assert_eq!(ledgers["items"], since["items"]);
    assert!(ok(&dir, &["compare", ledger, "out/next.ledger.json"]).contains("Between the two builds"));
    assert!(ok(&dir, &["compare", ledger, ledger]).contains("nothing"));
}
