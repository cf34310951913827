//! Vendors' packages, features and drivers that are handed to setup or to the installed system, through the built program.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use serde_json::Value;
use std::{fs, path::Path};
use support::{demo, fails, json, ok};

const MSZIP: cab::CompressionType = cab::CompressionType::MsZip;

/// Answers that use a configuration set.
const WITH_A_SET: &str = "format = 1\n[software]\nconfiguration_set = true\n";

fn manifest(name: &str, version: &str, inside: &str) -> Vec<u8> {
    format!(
        "<assembly><assemblyIdentity name=\"{name}\" version=\"{version}\" language=\"neutral\" processorArchitecture=\"amd64\" \
         publicKeyToken=\"bw7ferry\"/><package identifier=\"{name}\" releaseType=\"Update\">{inside}</package></assembly>"
    )
    .into_bytes()
}

fn cabinet(files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    neat_testing::packs::cabinet(files, MSZIP)
}

/// A package in a cabinet of its own.
fn package(name: &str, version: &str, inside: &str) -> Vec<u8> {
    cabinet(&[("update.mum", manifest(name, version, inside)), ("x.dll", vec![3; 5000])])
}

fn parent(name: &str, version: &str) -> String {
    format!("<parent><assemblyIdentity name=\"{name}\" version=\"{version}\"/></parent>")
}

/// Writes a stack file for one edition with `body` and answers, and returns its name.
fn stack(dir: &Path, answers: &str, body: &str) -> &'static str {
    fs::write(dir.join("own.answer.toml"), answers).unwrap();
    let text = format!(
        "[source]\nmedia = \"quay-os-7.iso\"\neditions = [2]\n{body}\n[answer]\nfile = \"own.answer.toml\"\nreplace = true\n\
         [media]\niso = \"out/t.iso\"\n"
    );
    fs::write(dir.join("t.stack.toml"), text).unwrap();
    "t.stack.toml"
}

/// What becomes of what is handed on: kind, subject, verdict and detail.
fn handed(dir: &Path, answers: &str, body: &str) -> Vec<String> {
    let plan = json(dir, &["plan", stack(dir, answers, body), "--json"]);
    let all = plan["editions_work"].as_array().unwrap();
    let Some(work) = all.iter().find(|work| work["edition"] == "the media") else { return Vec::new() };
    let text = |item: &Value, key: &str| item[key].as_str().unwrap_or_default().to_owned();
    let items = work["items"].as_array().unwrap().iter();
    items
        .map(|item| {
            let head = ["kind", "subject", "verdict"].map(|key| text(item, key)).join(" ");
            format!("{head}: {}", text(item, "detail"))
        })
        .collect()
}

/// What is said of a stack file that is refused.
fn refused(dir: &Path, body: &str) -> String {
    let (code, error) = fails(dir, &["build", stack(dir, WITH_A_SET, body), "--replace"]);
    assert_eq!(code, 4, "{error}");
    error.split_whitespace().collect::<Vec<_>>().join(" ")
}

/// Builds, and takes the folders out of what came out.
fn build(dir: &Path, answers: &str, body: &str) {
    ok(dir, &["build", stack(dir, answers, body), "--replace", "-q"]);
    let _ = fs::remove_dir_all(dir.join("taken"));
    ok(
        dir,
        &["take", "out/t.iso", "autounattend.xml", "neatstack/what-this-does.txt", "--to", "taken", "-q"],
    );
    for folder in ["updates", "drivers", "sources/$OEM$"] {
        let _ = support::neatstack(dir, &["take", "out/t.iso", folder, "--to", "taken", "-q"]);
    }
}

fn text(dir: &Path, path: &str) -> String {
    let path = dir.join("taken").join(path);
    fs::read_to_string(&path).unwrap_or_else(|error| panic!("{}: {error}", path.display()))
}

#[test]
fn setup_installs_cabinets_that_the_answer_file_names_in_their_order() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("parcels")).unwrap();
    let rollup = package("Rollup_QB2", "7.0.7042.200", &parent("printing", "7.0.7042.0"));
    let stack_first = package("Quay_ServicingStack", "7.0.7042.150", "");
    let bundle =
        cabinet(&[("QB2-x64.cab", rollup.clone()), ("stack.cab", stack_first), ("scan.cab", vec![1])]);
    fs::write(dir.join("parcels/qb2.msu"), bundle).unwrap();
    fs::write(dir.join("parcels/later.cab"), package("Fix_QB1", "7.0.1.4", &parent("Rollup_QB2", "")))
        .unwrap();
    fs::write(dir.join("parcels/older.cab"), package("Rollup_QB2", "7.0.7042.100", "")).unwrap();
    fs::write(dir.join("parcels/other.cab"), package("Fix_QB3", "1.0.0.0", &parent("harbour-base", "")))
        .unwrap();
    fs::write(dir.join("parcels/in.cab"), package("telex", "7.0.7042.0", "")).unwrap();
    let body = "[[update]]\nfrom = \"parcels\"";
    let through = "staged on the media, installed by setup through the answer file";
    assert_eq!(
        handed(&dir, WITH_A_SET, body),
        [
            format!("update parcels/qb2.msu applied: Rollup_QB2 7.0.7042.200, with Quay_ServicingStack 7.0.7042.150: {through}"),
            format!("update parcels/later.cab applied: Fix_QB1 7.0.1.4: {through}"),
            "update parcels/in.cab skipped: telex 7.0.7042.0: it is in the edition already".into(),
            "update parcels/older.cab skipped: Rollup_QB2 7.0.7042.100: Rollup_QB2 7.0.7042.200 is newer".into(),
            "update parcels/other.cab skipped: Fix_QB3 1.0.0.0: it goes into harbour-base, which is neither in the edition nor \
             among the packages that go in"
                .into(),
        ]
    );
    build(&dir, WITH_A_SET, body);
    let answers = text(&dir, "autounattend.xml");
    let servicing = answers.split("<servicing>").nth(1).unwrap().split("</servicing>").next().unwrap();
    let names: Vec<&str> =
        servicing.split("name=\"").skip(1).map(|rest| rest.split('"').next().unwrap()).collect();
    assert_eq!(names, ["Quay_ServicingStack", "Rollup_QB2", "Fix_QB1"]);
    assert!(
        servicing.contains(
            "<assemblyIdentity name=\"Rollup_QB2\" version=\"7.0.7042.200\" processorArchitecture=\"amd64\" \
             publicKeyToken=\"bw7ferry\" language=\"neutral\" />"
        ) && servicing
            .contains("<source location=\"%configsetroot%\\updates\\Rollup_QB2~7.0.7042.200.cab\" />"),
        "{servicing}"
    );
    assert!(answers.contains("<UseConfigurationSet>true</UseConfigurationSet>"), "{answers}");
    let notice = text(&dir, "what-this-does.txt");
    assert!(notice.contains("setup also:\r\n- installs Quay_ServicingStack 7.0.7042.150\r\n"), "{notice}");
    assert!(fs::read(dir.join("taken/updates/Rollup_QB2~7.0.7042.200.cab")).unwrap() == rollup);
    assert_eq!(fs::read_dir(dir.join("taken/updates")).unwrap().count(), 3);
    // One that is asked for by its name and does not fit is refused.
    let error = refused(&dir, "[[update]]\nfrom = \"parcels/other.cab\"");
    assert!(error.contains("it goes into harbour-base"), "{error}");
    // Without a configuration set the answer file may not find what it names, which is said.
    let plan = json(
        &dir,
        &[
            "plan",
            stack(&dir, "format = 1\n", "[[update]]\nfrom = \"parcels/later.cab\"\noptional = true"),
            "--json",
        ],
    );
    assert!(
        !plan["findings"].to_string().contains("configuration set"),
        "nothing is named: {}",
        plan["findings"]
    );
    fs::write(dir.join("alone.cab"), package("Alone", "1.0.0.0", "")).unwrap();
    let plan =
        json(&dir, &["plan", stack(&dir, "format = 1\n", "[[update]]\nfrom = \"alone.cab\""), "--json"]);
    assert!(plan["findings"].to_string().contains("does not say that it uses a configuration set"));
    // Answers that are chosen by serial numbers name nothing, and that is refused.
    fs::write(dir.join("m.csv"), "name,serial\nA,AB1\nB,AB2\n").unwrap();
    let many = "[[variant]]\nsites = \"m.csv\"\nanswers_only = true\n[[update]]\nfrom = \"alone.cab\"";
    assert!(refused(&dir, many).contains("answers that are chosen by serial numbers do not name packages"));
    // Packages of our own go into editions, whoever is asked for.
    for key in ["through = \"answers\"", "arguments = \"/q\""] {
        let body = format!("[[update]]\nfrom = \"updates/quay-7-danish.update.tar.zst\"\n{key}");
        let (code, error) = fails(&dir, &["plan", stack(&dir, WITH_A_SET, &body)]);
        assert!(code == 2 && error.contains("it goes into the edition itself"), "{error}");
    }
    fs::write(dir.join("none.cab"), cabinet(&[("x", vec![1])])).unwrap();
    let (code, error) =
        fails(&dir, &["build", stack(&dir, "format = 1\n", "[[update]]\nfrom = \"none.cab\""), "--replace"]);
    assert!(code == 4 && error.contains("without a package manifest"), "{error}");
}

#[test]
fn the_installed_system_takes_what_setup_cannot() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("p")).unwrap();
    fs::write(dir.join("p/update.mum"), manifest("Rollup_QB5", "7.0.2.1", "")).unwrap();
    ok(&dir, &["capture", "p", "-o", "image.msu", "--name", "package", "-q"]);
    fs::write(dir.join("bundle.msu"), cabinet(&[("QB6.cab", package("Fix_QB6", "1.0.0.0", ""))])).unwrap();
    let carried = package("Tool_QB7", "1.0.0.0", &parent("Rollup_QB5", ""));
    fs::write(dir.join("tool & more.exe"), neat_testing::packs::program(&carried)).unwrap();
    fs::write(dir.join("bare.cab"), package("Bare_QB8", "1.0.0.0", &parent("Rollup_QB5", ""))).unwrap();
    let look = json(&dir, &["look", "image.msu", "--json"]);
    assert_eq!(
        (&look["kind"], &look["name"], &look["form"]),
        (&"vendor-package".into(), &"Rollup_QB5".into(), &"image file".into())
    );
    let said = ok(&dir, &["look", "tool & more.exe"]);
    assert!(said.contains("program with a cabinet") && said.contains("goes into  Rollup_QB5"), "{said}");
    // An image file with systems is looked at as one.
    ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "--to", ".", "-q"]);
    assert_eq!(json(&dir, &["look", "install.wim", "--json"])["kind"], "image-file");

    let body = "[[update]]\nfrom = \"bundle.msu\"\n[[update]]\nfrom = \"image.msu\"\n[[update]]\nfrom = \"tool & more.exe\"\narguments = \
                \"/q /log:100%\"\n[[app]]\ninstaller = \"apps/chartview.exe\"";
    let at_end = "staged on the media, installed at the end of setup by the system's handler for such files";
    let expected = |qb6: &str| {
        [
            format!("update bundle.msu applied: Fix_QB6 1.0.0.0: {qb6}"),
            format!("update image.msu applied: Rollup_QB5 7.0.2.1: {at_end}"),
            format!("update tool & more.exe applied: Tool_QB7 1.0.0.0: {at_end}"),
        ]
    };
    assert_eq!(handed(&dir, "format = 1\n", body), expected(at_end));
    let by_setup = "staged on the media, installed by setup through the answer file";
    assert_eq!(handed(&dir, WITH_A_SET, body), expected(by_setup));
    build(&dir, "format = 1\n", body);
    assert!(!text(&dir, "autounattend.xml").contains("<servicing>"));
    let script = text(&dir, "$OEM$/$1/NeatStack/setup-end.cmd");
    let runs: Vec<&str> = script.lines().filter(|line| line.contains("neatstack-run.cmd")).collect();
    let order = ["updates\\01-bundle", "updates\\02-image", "updates\\03-tool---more", "apps\\01-chartview"];
    assert_eq!(runs.len(), order.len());
    assert!(runs.iter().zip(order).all(|(run, folder)| run.contains(folder)), "{runs:?}");
    let run = |folder: &str| text(&dir, &format!("$OEM$/$1/NeatStack/updates/{folder}/neatstack-run.cmd"));
    assert!(run("02-image").contains("\r\nwusa.exe \"image.msu\" /quiet /norestart\r\n"));
    assert!(run("03-tool---more").contains("\r\n\"installer.exe\" /q /log:100%%\r\n"));
    assert!(
        fs::read(dir.join("taken/$OEM$/$1/NeatStack/updates/02-image/image.msu")).unwrap()
            == fs::read(dir.join("image.msu")).unwrap()
    );

    // What was chosen can be changed, as far as it can be done.
    fs::write(dir.join("alone.cab"), package("Alone", "1.0.0.0", "")).unwrap();
    let body = |file: &str, through: &str| format!("[[update]]\nfrom = \"{file}\"\nthrough = \"{through}\"");
    for (file, through, expected) in
        [("bundle.msu", "answers", "installed by setup"), ("image.msu", "setup-end", "at the end of setup")]
    {
        let said = handed(&dir, WITH_A_SET, &body(file, through));
        assert!(said.len() == 1 && said[0].contains(expected), "{said:?}");
    }
    for (file, through, expected) in [
        ("image.msu", "answers", "its manifest lies in an image file"),
        ("alone.cab", "setup-end", "the installed system has no handler for such files"),
    ] {
        let error = refused(&dir, &body(file, through));
        assert!(error.contains(expected), "{error}");
    }
    // Setup cannot install what needs something that comes later.
    let body = "[[update]]\nfrom = \"image.msu\"\n[[update]]\nfrom = \"bare.cab\"";
    let error = refused(&dir, body);
    assert!(error.contains("it needs Rollup_QB5 7.0.2.1, which goes in at the end of setup"), "{error}");
}

#[test]
fn features_are_switched_by_whoever_has_their_content() {
    let (_keep, dir) = demo();
    let feature = "<update name=\"semaphore\" displayName=\"Semaphore\"/>";
    fs::write(dir.join("semaphore.cab"), package("Semaphore", "7.0.1.0", feature)).unwrap();
    fs::create_dir_all(dir.join("extras/deep")).unwrap();
    fs::write(dir.join("extras/deep/telex.cab"), "content of a feature").unwrap();
    let place = "[[place]]\nfrom = \"extras\"\nto = \"media:/sources/extras\"\n[[update]]\nfrom = \"semaphore.cab\"\n";
    let source = |body: &str| format!("{place}[settings.features]\n{body}");
    // The content must be on the media before a feature can take it from there: of the source, or put there.
    let missing = source("telex = { on = true, through = \"answers\", content = \"media:/sources/none\" }");
    let error = refused(&dir, &missing);
    assert!(error.contains("the media has no folder sources/none"), "{error}");
    // A folder whose name only begins like it is another.
    fs::create_dir_all(dir.join("extras/s")).unwrap();
    fs::write(dir.join("extras/s/x.cab"), "not meant").unwrap();
    let other = source("telex = { on = true, through = \"answers\", content = \"media:/sources/extrass\" }");
    assert!(refused(&dir, &other).contains("the media has no folder sources/extrass"));
    fs::remove_dir_all(dir.join("extras/s")).unwrap();
    let body = source(
        "fax-receive = true\ntelex = { on = true, through = \"answers\", content = \"media:/sources/extras\" }\n\
         semaphore = { on = true, through = \"answers\" }\nfax-send = { on = false, through = \"setup-end\" }",
    );
    let said = handed(&dir, WITH_A_SET, &body);
    assert_eq!(
        said[1..],
        [
            "feature fax-send applied: off: switched at the end of setup by the installed system".to_owned(),
            "feature semaphore applied: on: switched by setup through the answer file".into(),
            "feature telex applied: on: switched by setup through the answer file, its content from media:/sources/extras".into(),
        ]
    );
    build(&dir, WITH_A_SET, &body);
    let answers = text(&dir, "autounattend.xml");
    let squeezed = answers.split_whitespace().collect::<Vec<_>>().join(" ");
    assert!(
        squeezed.contains(
            "<package action=\"install\"> <assemblyIdentity name=\"Semaphore\" version=\"7.0.1.0\" \
             processorArchitecture=\"amd64\" publicKeyToken=\"bw7ferry\" language=\"neutral\" /> <selection name=\"semaphore\" \
             state=\"true\" />"
        ) && squeezed.contains(
            "<package action=\"configure\"> <assemblyIdentity name=\"telex\" version=\"7.0.7042.0\" \
             processorArchitecture=\"amd64\" publicKeyToken=\"bw7ferry\" /> <selection name=\"telex\" state=\"true\" /> <source \
             location=\"%configsetroot%\\sources\\extras\" /> </package>"
        ),
        "{answers}"
    );
    let run = text(&dir, "$OEM$/$1/NeatStack/updates/01-fax-send/neatstack-run.cmd");
    assert!(run.contains("powershell.exe") && run.ends_with("exit %ERRORLEVEL%\r\n"), "{run}");
    // With its content at hand when setup has ended.
    let body = source("telex = { on = true, through = \"setup-end\", content = \"media:/sources/extras\" }");
    build(&dir, WITH_A_SET, &body);
    let there = text(&dir, "$OEM$/$1/NeatStack/updates/01-telex/content/deep/telex.cab");
    assert_eq!(there, "content of a feature");
    for (body, expected) in [
        ("gone = { on = true, through = \"answers\" }", "no edition has such a feature"),
        ("telex = { on = true }", "nor { on = true, through"),
        (
            "telex = { on = true, through = \"answers\", content = \"sources/extras\" }",
            "is no folder of the media",
        ),
    ] {
        let (_, error) = fails(&dir, &["build", stack(&dir, WITH_A_SET, &source(body)), "--replace"]);
        assert!(error.contains(expected), "{body}: {error}");
    }
}

#[test]
fn setup_sees_drivers_that_the_answer_file_names() {
    let (_keep, dir) = demo();
    let both = "[[driver]]\nfrom = \"drivers/\"\ninto = [\"system\", \"setup\"]\nclasses = [\"net\"]\nthrough = [\"edition\", \
                \"answers\"]\noptional = true";
    let said = handed(&dir, WITH_A_SET, both);
    let in_edition = |body: &str| {
        let plan = json(&dir, &["plan", stack(&dir, WITH_A_SET, body), "--json"]);
        let work = plan["editions_work"].as_array().unwrap().clone();
        let editions = work.iter().filter(|work| work["edition"] != "the media");
        let items = editions.flat_map(|work| work["items"].as_array().unwrap().clone());
        items.filter(|item| item["kind"] == "driver" && item["verdict"] == "applied").count()
    };
    assert!(
        !said.is_empty() && said.iter().all(|own| own.contains("setup takes it through the answer file")),
        "{said:?}"
    );
    assert_eq!(in_edition(both), 2 * said.len(), "into the edition and the setup environment too");
    build(&dir, WITH_A_SET, both);
    let answers = text(&dir, "autounattend.xml");
    for component in ["PnpCustomizationsWinPE", "PnpCustomizationsNonWinPE"] {
        let own = answers.split(&format!("Microsoft-Windows-{component}")).nth(1).unwrap();
        let own = own.split("</component>").next().unwrap();
        assert!(own.contains("<Path>%configsetroot%\\drivers\\01-"), "{own}");
    }
    let folders: Vec<_> =
        fs::read_dir(dir.join("taken/drivers")).unwrap().map(|own| own.unwrap().path()).collect();
    assert_eq!(folders.len(), said.len());
    for folder in folders {
        let names: Vec<String> = fs::read_dir(folder)
            .unwrap()
            .map(|own| own.unwrap().file_name().to_string_lossy().into_owned())
            .collect();
        assert!(names.iter().any(|name| name.ends_with(".inf")) && names.len() > 1, "{names:?}");
    }
    let alone = both.replace("[\"edition\", \"answers\"]", "[\"answers\"]");
    assert_eq!(in_edition(&alone), 0);
    let why: Vec<String> = handed(&dir, WITH_A_SET, &alone);
    assert!(why.len() > said.len() && why.iter().any(|own| own.contains("skipped: its class is")), "{why:?}");
}
