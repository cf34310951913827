//! More than one setup on a media: other architectures, editions and generations.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use std::{fs, path::Path};
use support::{demo, fails, json, ok};

/// Another media as a folder `other`: the demo's, whose image files say that it is for 32-bit machines.
fn other_media(dir: &Path) {
    ok(dir, &["unpack", "quay-os-7.iso", "other", "-q"]);
    for name in ["install.wim", "boot.wim"] {
        let path = dir.join("other/sources").join(name);
        let mut bytes = fs::read(&path).unwrap();
        let arch: Vec<u8> = "<ARCH>9<".encode_utf16().flat_map(u16::to_le_bytes).collect();
        let places: Vec<usize> =
            bytes.windows(arch.len()).enumerate().filter(|(_, own)| *own == arch).map(|(at, _)| at).collect();
        assert!(!places.is_empty());
        // Its number for 32-bit PCs; the XML data have no digest.
        places.iter().for_each(|at| bytes[at + 12] = b'0');
        fs::write(&path, bytes).unwrap();
    }
    fs::write(dir.join("other/only-there.txt"), "of 32 bits").unwrap();
}

fn write(dir: &Path, body: &str) {
    let text =
        format!("[source]\nmedia = \"quay-os-7.iso\"\neditions = [1, 2]\n{body}\n[media]\niso = \"o.iso\"\n");
    fs::write(dir.join("o.stack.toml"), text).unwrap();
}

fn step<'a>(plan: &'a serde_json::Value, action: &str) -> &'a serde_json::Value {
    plan["steps"].as_array().unwrap().iter().find(|step| step["action"] == action).unwrap()
}

#[test]
fn another_architecture_comes_with_its_setup_its_systems_and_its_answers() {
    let (_keep, dir) = demo();
    other_media(&dir);
    let answers =
        |name: &str| format!("format = 1\n[machine]\nname = \"{name}\"\n[language]\nsetup = \"en-GB\"\n");
    fs::write(dir.join("wide.answer.toml"), answers("DECK-64")).unwrap();
    fs::write(dir.join("narrow.answer.toml"), answers("DECK-32")).unwrap();
    let body = "[answer]\nfile = \"wide.answer.toml\"\n\
                [[beside]]\nmedia = \"other\"\ntitle = \"Quay OS 7, 32 bits\"\neditions = [2, 3]\nanswer = \"narrow.answer.toml\"";
    write(&dir, body);
    let plan = json(&dir, &["plan", "o.stack.toml", "--json"]);
    let merge = step(&plan, "merge");
    // The second edition is on the media: what comes is the third alone, and nothing of the second.
    write(&dir, "");
    let alone = json(&dir, &["plan", "o.stack.toml", "--json"])["output"]["size"].as_i64().unwrap();
    let reason = merge["reason"].as_str().unwrap();
    assert!(reason.contains("bytes are there already"), "{reason}");
    write(&dir, body);
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    let look = json(&dir, &["look", "o.iso", "--json"]);
    let image = &look["image_files"][0];
    let editions: Vec<String> = image["editions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|own| format!("{} {}", own["name"].as_str().unwrap(), own["architecture"].as_str().unwrap()))
        .collect();
    assert_eq!(
        editions,
        ["Quay OS 7 Kiosk x64", "Quay OS 7 Bridge x64", "Quay OS 7 Bridge x86 x86", &editions[3],],
        "{editions:?}"
    );
    assert!(editions[3].ends_with(" x86") && editions.len() == 4, "{editions:?}");
    // What the plan said comes, came.
    let came = merge["bytes"].as_i64().unwrap();
    let grown = look["size"].as_i64().unwrap() - alone;
    assert!(came > 0 && came < 300_000 && grown < came + 250_000, "{came} {grown}");
    // Its setup has its own folder, without what started its media and without its systems.
    let paths: Vec<String> = json(&dir, &["files", "o.iso", "--json"])
        .as_array()
        .unwrap()
        .iter()
        .map(|own| own["path"].as_str().unwrap().to_owned())
        .collect();
    let has = |path: &str| paths.iter().any(|own| own == path);
    assert!(has("x86/only-there.txt") && has("x86/sources/de-DE/setup.lang") && has("sources/boo2.wim"));
    for gone in
        ["x86/boot/bcd", "x86/EFI/BOOT/BOOTX64.EFI", "x86/sources/install.wim", "x86/sources/boot.wim"]
    {
        assert!(!has(gone), "{gone}");
    }
    let titles: Vec<&str> = look["boot_stores"][0]["entries"]
        .as_array()
        .unwrap()
        .iter()
        .map(|own| own["title"].as_str().unwrap())
        .collect();
    assert_eq!(titles, ["Quay OS 7 Setup", "Quay OS 7, 32 bits"]);
    // The environment that the entry starts is the other media's, and its systems are whole.
    ok(&dir, &["take", "o.iso", "sources", "autounattend.xml", "--to", "t", "-q"]);
    let environment = fs::read(dir.join("t/sources/boo2.wim")).unwrap();
    assert!(environment == fs::read(dir.join("other/sources/boot.wim")).unwrap());
    ok(&dir, &["check", "o.iso"]);
    ok(&dir, &["take", "t/sources/install.wim", "/", "--edition", "3", "--to", "third", "-q"]);
    ok(&dir, &["take", "other/sources/install.wim", "/", "--edition", "2", "--to", "theirs", "-q"]);
    let same = std::process::Command::new("diff")
        .args(["-r", "third", "theirs"])
        .current_dir(&*dir)
        .status()
        .unwrap();
    assert!(same.success());
    // Each setup finds its own answers in the one file.
    let text = fs::read_to_string(dir.join("t/autounattend.xml")).unwrap();
    for (architecture, name) in [("amd64", "DECK-64"), ("x86", "DECK-32")] {
        let at = text.find(name).unwrap_or_else(|| panic!("{text}"));
        let component = text[..at].rfind("<component").unwrap();
        assert!(text[component..at].contains(&format!("processorArchitecture=\"{architecture}\"")), "{text}");
    }
    let check = json(&dir, &["answer", "check", "t/autounattend.xml", "--media", "o.iso", "--json"]);
    assert!(!check.to_string().contains("\"problem\""), "{check}");
    // Both for one architecture cannot be told apart.
    fs::write(
        dir.join("both.answer.toml"),
        answers("DECK-32").replace("[machine]", "architectures = [\"x64\", \"x86\"]\n[machine]"),
    )
    .unwrap();
    write(&dir, &body.replace("wide.answer.toml", "both.answer.toml"));
    let (_, error) = fails(&dir, &["build", "o.stack.toml", "--replace"]);
    assert!(error.contains("for x86, and setup would find one of them"), "{error}");
}

#[test]
fn systems_stay_apart_where_that_is_asked_and_folders_do_not_meet() {
    let (_keep, dir) = demo();
    other_media(&dir);
    write(&dir, "[[beside]]\nmedia = \"other\"\nfolder = \"narrow\"\neditions = [1]\nsystems = \"own\"");
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    ok(&dir, &["take", "o.iso", "narrow", "--to", "t", "-q"]);
    let own = json(&dir, &["editions", "t/narrow/sources/install.wim", "--json"]);
    assert_eq!((own.as_array().unwrap().len(), &own[0]["architecture"]), (1, &"x86".into()), "{own}");
    assert!(dir.join("t/narrow/sources/boot.wim").exists(), "no entry starts it: it stays where it was");
    let look = json(&dir, &["look", "o.iso", "--json"]);
    assert_eq!(look["image_files"][0]["editions"].as_array().unwrap().len(), 2);
    for (body, expected) in [
        ("[[beside]]\nmedia = \"other\"\nfolder = \"sources\"", "has a folder sources already"),
        ("[[beside]]\nmedia = \"other\"\nfolder = \"../x\"", "is no name for its folder"),
        ("[[beside]]\nmedia = \"other\"\n[[beside]]\nmedia = \"other\"", "would both lie in x86"),
        ("[[beside]]\nmedia = \"site-files\"", "it has no setup"),
        ("[[beside]]\nmedia = \"quay-os-2.iso\"\nfolder = \"two\"", "looks for its files in I386"),
        ("[[beside]]\nmedia = \"quay-os-2.iso\"\ntitle = \"Two\"", "has no setup environment"),
        ("[[beside]]\nmedia = \"other\"\neditions = [9]", "9"),
        (
            "[[beside]]\nmedia = \"other\"\n[menu]\nbios_loader = \"site-files\"\n[[menu.entry]]\nid = \"a\"\ntitle = \"A\"",
            "isolinux.bin",
        ),
    ] {
        write(&dir, body);
        let (code, error) = fails(&dir, &["build", "o.stack.toml", "--replace"]);
        let error = error.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(code != 0 && error.contains(expected), "{body}: {error}");
    }
}

#[test]
fn the_older_generation_comes_with_its_answers_where_its_setup_looks() {
    let (_keep, dir) = demo();
    write(&dir, "[[beside]]\nmedia = \"quay-os-2.iso\"\nanswer = \"purser.answer.toml\"");
    let plan = json(&dir, &["plan", "o.stack.toml", "--json"]);
    assert!(
        plan["findings"].to_string().contains("stay out, as the media has others of these names"),
        "{}",
        plan["findings"]
    );
    ok(&dir, &["build", "o.stack.toml", "-q"]);
    ok(&dir, &["take", "o.iso", "I386", "QUAY2", "BOOT.BIN", "$OEM$", "readme.txt", "--to", "t", "-q"]);
    ok(&dir, &["take", "quay-os-2.iso", "I386", "QUAY2", "BOOT.BIN", "--to", "theirs", "-q"]);
    ok(&dir, &["take", "quay-os-7.iso", "readme.txt", "--to", "ours", "-q"]);
    let read = |path: &str| fs::read(dir.join(path)).unwrap();
    for name in ["I386/TXTSETUP.SIF", "I386/KERNEL.EX_", "QUAY2", "BOOT.BIN"] {
        assert!(read(&format!("t/{name}")) == read(&format!("theirs/{name}")), "{name}");
    }
    assert!(read("t/readme.txt") == read("ours/readme.txt"), "the media's own stays");
    assert!(String::from_utf8(read("t/I386/WINNT.SIF")).unwrap().contains("PURSER-1"));
    assert!(dir.join("t/$OEM$/cmdlines.txt").exists());
    // A second build of what came out is told that it is there.
    fs::rename(dir.join("o.iso"), dir.join("first.iso")).unwrap();
    fs::write(
        dir.join("s.stack.toml"),
        "[source]\nmedia = \"first.iso\"\n[[beside]]\nmedia = \"quay-os-2.iso\"\n[media]\niso = \"s.iso\"\n",
    )
    .unwrap();
    let (_, error) = fails(&dir, &["build", "s.stack.toml"]);
    assert!(error.contains("has a folder I386 already"), "{error}");
}
