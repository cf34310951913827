//! Media of the generation before image files, through the built program.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use neat_content::{Content, Timestamp};
use neat_demo::program_of_version;
use neat_package::{SingleForm, compress_single, expand_single};
use std::{fs, path::Path};
use support::{demo, fails, json, ok};

const LATER: Timestamp = Timestamp::from_seconds(1_020_000_000);

/// A program that carries a service pack or fix with this description and these files.
fn carried(description: &str, files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut all = vec![("i386\\update\\update.inf", description.as_bytes().to_vec())];
    all.extend(files.iter().cloned());
    neat_testing::packs::program(&neat_testing::packs::cabinet(&all, cab::CompressionType::MsZip))
}

fn description(language: &str, more: &str) -> String {
    format!(
        "[Version]\r\nSignature=\"$Windows NT$\"\r\nLanguageType=%LangTypeVal%\r\nNtMajorVersionToUpdate=2\r\n\
         NtMinorVersionToUpdate=1\r\nMaxNtBuildToUpdate=2604\r\n{more}\r\n[Strings]\r\nLangTypeVal={language}\r\n"
    )
}

/// What becomes of the updates: subject, verdict, detail.
fn updates(dir: &Path, body: &str) -> Vec<String> {
    fs::write(dir.join("o.stack.toml"), recipe("quay-os-2", "o", body)).unwrap();
    let plan = json(dir, &["plan", "o.stack.toml", "--json"]);
    let items = plan["editions_work"][0]["items"].as_array().unwrap().clone();
    let text = |item: &serde_json::Value, key: &str| item[key].as_str().unwrap_or_default().to_owned();
    items
        .iter()
        .map(|item| format!("{} {}: {}", text(item, "subject"), text(item, "verdict"), text(item, "detail")))
        .collect()
}

fn recipe(media: &str, iso: &str, body: &str) -> String {
    format!("[source]\nmedia = \"{media}.iso\"\n{body}\n[media]\niso = \"{iso}.iso\"\n")
}

#[test]
fn a_service_pack_replaces_what_is_older_and_fixes_run_at_the_end() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("packs")).unwrap();
    let newer = |len: usize| program_of_version([2, 1, 2604, 9], 0x0809, len);
    let packed = |name: &str, bytes: &[u8]| compress_single(name, bytes, SingleForm::Cabinet, LATER).unwrap();
    let described =
        "[SetupData]\r\nMajorVersion = 2\r\nMinorVersion = 1\r\n[nls]\r\nDefaultLayout = E0010809\r\n";
    let files = [
        ("i386\\txtsetup.sif", described.as_bytes().to_vec()),
        ("i386\\WINCH.DL_", packed("winch.dll", &newer(41_000))),
        ("i386\\radio.sys", program_of_version([2, 1, 2600, 0], 0x0809, 30_000)),
        ("i386\\new.dl_", packed("new.dll", &newer(5_000))),
        ("i386\\ntoskrnl.ex_", packed("ntoskrnl.exe", &newer(100_000))),
        ("i386\\update\\update.exe", newer(700)),
    ];
    let first = description("9", "ThisServicePackVersion=256");
    fs::write(dir.join("packs/sp1.exe"), carried(&first, &files[..2])).unwrap();
    let second = description("9", "ThisServicePackVersion=0x200");
    fs::write(dir.join("packs/sp2.exe"), carried(&second, &files)).unwrap();
    let foreign = description("7", "ThisServicePackVersion=768");
    fs::write(dir.join("packs/sp3de.exe"), carried(&foreign, &files)).unwrap();
    let fix = description("9", "MinServicePackVersion=512\r\nMaxServicePackVersion=512");
    fs::write(dir.join("packs/qb100012.exe"), carried(&fix, &[])).unwrap();
    fs::write(dir.join("packs/qb100007.exe"), carried(&description("0", ""), &[])).unwrap();
    fs::write(dir.join("qb1german.exe"), carried(&description("7", ""), &[])).unwrap();
    let body = "[[update]]\nfrom = \"packs\"";
    assert_eq!(
        updates(&dir, body),
        [
            "packs/sp1.exe skipped: service pack 2 holds it",
            "packs/sp2.exe applied: service pack 2: 3 files replaced, 1 new file, 1 file stays, as it is as new",
            "packs/sp3de.exe skipped: it is for another language: its number is 0x7, and the media's is 0x9",
            "packs/qb100007.exe applied: in media:/I386/svcpack/QB100007.EXE: setup runs it when it ends, with /q /z",
            "packs/qb100012.exe applied: in media:/I386/svcpack/QB100012.EXE: setup runs it when it ends, with /q /z",
        ]
    );
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    ok(&dir, &["take", "o.iso", "I386", "--to", "taken", "-q"]);
    let read = |name: &str| fs::read(dir.join("taken/I386").join(name)).unwrap();
    let plain = |name: &str| {
        let own = expand_single(name, &Content::from_bytes(read(name)), 1 << 20)
            .unwrap()
            .expect("compressed by itself");
        own.content.to_vec(1 << 20, "").unwrap()
    };
    assert!(plain("WINCH.DL_") == newer(41_000) && plain("new.dl_") == newer(5_000));
    assert!(
        plain("RADIO.SY_") == program_of_version([2, 1, 2604, 0], 0x0809, 30_000),
        "the media's is newer"
    );
    assert!(!dir.join("taken/I386/radio.sys").exists() && !dir.join("taken/I386/update").exists());
    let look = json(&dir, &["look", "o.iso", "--json"]);
    assert_eq!(
        (&look["older_setups"][0]["service_pack"], &look["older_setups"][0]["version"]),
        (&2.into(), &"2.1.2604.9".into())
    );
    let list = String::from_utf8(read("SVCPACK.INF")).unwrap();
    assert!(list.ends_with("[SetupHotfixesToRun]\r\nQB100007.EXE /q /z\r\nQB100012.EXE /q /z\r\n"), "{list}");
    assert!(String::from_utf8(read("DOSNET.INF")).unwrap().contains("[OptionalSrcDirs]\r\nsvcpack\r\n"));
    // On what came out there is nothing more to do but to run the fixes, which stand in the list once.
    fs::write(dir.join("p.stack.toml"), recipe("o", "p", body)).unwrap();
    ok(&dir, &["build", "p.stack.toml", "-q"]);
    let compared = json(&dir, &["compare", "o.iso", "p.iso", "--json"]);
    assert_eq!(compared["files"].as_array().unwrap().len(), 0, "{}", compared["files"]);
    // Who asks for one by name that does not fit is told.
    for (from, expected) in [
        ("qb1german.exe", "it is for another language"),
        ("packs/qb100012.exe", "it wants service pack 2, and the media has 0"),
        ("apps/chartview.exe", "a program that carries a cabinet"),
    ] {
        fs::write(
            dir.join("q.stack.toml"),
            recipe("quay-os-2", "q", &format!("[[update]]\nfrom = \"{from}\"")),
        )
        .unwrap();
        let (_, error) = fails(&dir, &["build", "q.stack.toml", "--replace"]);
        let error = error.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(error.contains(expected), "{from}: {error}");
    }
    for (name, arguments, expected) in [
        ("much-too-long-a-name.exe", "/q", "at most eight letters"),
        ("qb1.exe", "/q;x", "cannot stand in setup's list"),
    ] {
        fs::write(dir.join(name), carried(&description("9", ""), &[])).unwrap();
        let body = format!("[[update]]\nfrom = \"{name}\"\narguments = \"{arguments}\"");
        fs::write(dir.join("q.stack.toml"), recipe("quay-os-2", "q", &body)).unwrap();
        let (code, error) = fails(&dir, &["build", "q.stack.toml", "--replace"]);
        let error = error.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(code == 2 && error.contains(expected), "{error}");
    }
}

#[test]
fn a_media_of_the_older_generation_is_known_and_made_smaller() {
    let (_keep, dir) = demo();
    let look = json(&dir, &["look", "quay-os-2.iso", "--json"]);
    let setup = &look["older_setups"][0];
    for (key, value) in [
        ("product", "Quay OS 2 Purser".into()),
        ("version", "2.1.2604.0".into()),
        ("service_pack", 0.into()),
        ("architecture", "x86".into()),
        ("language", "en-GB".into()),
        ("target", "\\QUAY".into()),
        ("compressed_files", serde_json::Value::from(6)),
    ] {
        assert_eq!(setup[key], value, "{key}");
    }
    assert_eq!((&look["boot"][0]["load_sectors"], &look["boot"][0]["image_size"]), (&4.into(), &2048.into()));
    assert!(json(&dir, &["look", "quay-os-7.iso", "--json"]).get("older_setups").is_none());
    let stack = |compression: &str, more: &str| {
        let text = format!(
            "[source]\nmedia = \"quay-os-2.iso\"\n{more}\n[media]\ncompression = \"{compression}\"\niso = \"o.iso\"\n"
        );
        fs::write(dir.join("o.stack.toml"), text).unwrap();
        "o.stack.toml"
    };
    let plan = json(&dir, &["plan", stack("max", ""), "--json"]);
    let step = plan["steps"].as_array().unwrap().iter().find(|step| step["action"] == "repack").unwrap();
    assert_eq!(step["subject"], "3 files of media:/I386, each by itself");
    let saved = step["bytes"].as_i64().unwrap();
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    let after = json(&dir, &["look", "o.iso", "--json"]);
    let bytes = |look: &serde_json::Value| look["older_setups"][0]["compressed_bytes"].as_i64().unwrap();
    assert_eq!(bytes(&after) - bytes(&look), saved);
    assert!(saved < -1_000 && after["older_setups"][0]["version"] == "2.1.2604.0");
    // What did not become smaller stays as it was.
    let compared = json(&dir, &["compare", "quay-os-2.iso", "o.iso", "--json"]);
    let changed: Vec<&str> =
        compared["files"].as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    assert_eq!(changed, ["I386/PURSER.HL_", "I386/RADIO.SY_", "I386/WINCH.DL_"]);
    let (code, error) = fails(&dir, &["plan", stack("good", "")]);
    assert!(code == 2 && error.contains("compression = \"max\""), "{error}");
    let (code, error) = fails(&dir, &["plan", stack("max", "editions = [1]")]);
    assert!(code == 2 && error.contains("no image file with systems"), "{error}");
}
