//! The built program among damaged inputs, hostile names, kills, full disks and sources that change.
//!
//! Counts are small here, and grow by `NEATSTACK_HOSTILE` (a factor). What needs root or `strace` is ignored, and run
//! with the boot tests.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

#[path = "support/attack.rs"]
mod attack;
mod support;

use attack::{Run, factor, mutate, run, run_limited};
use std::{
    fs,
    os::unix::fs::{FileExt, PermissionsExt},
    path::Path,
    process::{Command, Stdio},
    time::{Duration, Instant},
};
use support::{demo, fails, json, names, ok};

const PROGRAM: &str = env!("CARGO_BIN_EXE_neatstack");

/// Every kind of input, small, and a command that reads all of it.
fn inputs(dir: &Path) -> Vec<(&'static str, Vec<&'static str>)> {
    ok(dir, &["take", "quay-os-7.iso", "sources/install.wim", "sources/boot.wim", "--to", "."]);
    ok(dir, &["stick", "quay-os-7.iso", "--to", "a.img", "--reproducible", "-q"]);
    ok(dir, &["take", "install.wim", "--edition", "2", "Quay/System32/config/SYSTEM", "--to", "."]);
    ok(dir, &["unpack", "quay-os-7.iso", "folder", "-q"]);
    ok(dir, &["build", "bridge.stack.toml", "-q"]);
    fs::create_dir(dir.join("depot")).unwrap();
    fs::copy(dir.join("a.img"), dir.join("depot/a.img")).unwrap();
    fs::copy(dir.join("updates/quay-7-2026-10.update.tar.zst"), dir.join("depot/a.update.tar.zst")).unwrap();
    ok(dir, &["depot", "index", "depot", "-q"]);
    fs::rename(dir.join("out/bridge.ledger.json"), dir.join("a.ledger.json")).unwrap();
    vec![
        ("quay-os-7.iso", vec!["check"]),
        ("a.img", vec!["check"]),
        ("install.wim", vec!["check"]),
        ("boot.wim", vec!["files", "--edition", "1", "--digest", "sha256"]),
        ("SYSTEM", vec!["look"]),
        ("folder/.neatstack/media.toml", vec!["look-folder"]),
        ("depot/depot.json", vec!["look"]),
        ("a.ledger.json", vec!["look"]),
        ("bridge.stack.toml", vec!["look"]),
        ("bridge.answer.toml", vec!["answer", "check"]),
        ("bridge-answers.xml", vec!["answer", "check"]),
        ("site.reg", vec!["look"]),
        ("drivers/lantern-net.cab", vec!["drivers"]),
        ("updates/quay-7-2026-10.update.tar.zst", vec!["look"]),
    ]
}

#[test]
fn damaged_inputs_end_with_a_word_and_within_bounds() {
    let (_keep, dir) = demo();
    let inputs = inputs(&dir);
    let each = 144 * factor();
    let mut seed = 0x5EED_u64;
    for (name, command) in inputs {
        let path = dir.join(name);
        let sound = fs::read(&path).unwrap_or_else(|error| panic!("{name}: {error}"));
        for round in 0..each {
            let bad = mutate(&sound, &mut seed);
            fs::write(&path, &bad).unwrap();
            let target = if command == ["look-folder"] { "folder" } else { name };
            let mut args = if command == ["look-folder"] { vec!["look"] } else { command.clone() };
            args.push(target);
            let Run { code, out, error } = run_limited(&dir, &args, Duration::from_secs(10), 512);
            let place = format!("{name}, round {round}: {args:?} gave {code:?}\n{error}");
            if !matches!(code, Some(0..=4)) {
                fs::write(std::env::temp_dir().join("neatstack-hostile-input"), &bad).unwrap();
            }
            assert!(matches!(code, Some(0..=4)), "{place}");
            assert!(code == Some(0) || !error.is_empty() || !out.is_empty(), "{place}");
            assert!(!error.contains("fault in this program") && !error.contains("panicked"), "{place}");
            attack::assert_plain(&out, &place);
            attack::assert_plain(&error, &place);
            assert!(fs::read(&path).unwrap() == bad, "the input was changed: {place}");
        }
        fs::write(&path, &sound).unwrap();
    }
}

#[test]
fn one_wrong_bit_in_an_update_is_found_before_anything_is_done() {
    let (_keep, dir) = demo();
    let name = "updates/quay-7-2026-10.update.tar.zst";
    let sound = fs::read(dir.join(name)).unwrap();
    ok(&dir, &["plan", "bridge.stack.toml", "-q"]);
    let step = (sound.len() / (40 * factor())).max(1);
    for at in (0..sound.len()).step_by(step) {
        let mut bad = sound.clone();
        bad[at] ^= 1 << (at % 8);
        fs::write(dir.join(name), &bad).unwrap();
        let Run { code, error, .. } = run(&dir, &["plan", "bridge.stack.toml"]);
        assert!(
            code == Some(3) && error.contains("quay-7-2026-10.update.tar.zst"),
            "byte {at}: {code:?} {error}"
        );
    }
    // A package that lists other files than it has, in sound frames.
    fs::write(dir.join(name), &sound).unwrap();
    fs::create_dir_all(dir.join("u/files/Quay")).unwrap();
    fs::write(dir.join("u/files/Quay/a.txt"), "as it was packed").unwrap();
    fs::write(dir.join("u/update.toml"), "format = 2\n[update]\nid = \"own\"\nversion = \"1\"\n").unwrap();
    ok(&dir, &["update", "new", "u", "-o", "own.update.tar.zst"]);
    let tar = |bytes: &[u8]| {
        let mut decoder = ruzstd::decoding::StreamingDecoder::new(bytes).unwrap();
        let mut tar = Vec::new();
        std::io::Read::read_to_end(&mut decoder, &mut tar).unwrap();
        tar
    };
    let mut unpacked = tar(&fs::read(dir.join("own.update.tar.zst")).unwrap());
    let at = unpacked.windows(16).position(|window| window == b"as it was packed").unwrap();
    unpacked[at..at + 2].copy_from_slice(b"AS");
    let packed =
        ruzstd::encoding::compress_to_vec(unpacked.as_slice(), ruzstd::encoding::CompressionLevel::Fastest);
    fs::write(dir.join("own.update.tar.zst"), packed).unwrap();
    let (code, error) = fails(&dir, &["look", "own.update.tar.zst"]);
    assert!(code == 3 && error.contains("files/Quay/a.txt with the SHA-256"), "{error}");
    // A package of the first form cannot be checked, and that is said.
    fs::write(dir.join("u/update.toml"), "format = 1\n[update]\nid = \"own\"\nversion = \"1\"\n").unwrap();
    let text = fs::read_to_string(dir.join("bridge.stack.toml")).unwrap();
    fs::write(dir.join("t.stack.toml"), format!("{text}\n[[update]]\nfrom = \"u\"\n")).unwrap();
    let plan = json(&dir, &["plan", "t.stack.toml", "--json"]);
    let findings = plan["findings"].as_array().unwrap();
    assert!(
        findings.iter().any(|own| own["message"].as_str().unwrap().contains("lists no digests")),
        "{findings:?}"
    );
}

#[test]
fn driver_packs_that_are_damaged_do_not_vanish() {
    let (_keep, dir) = demo();
    let path = dir.join("drivers/lantern-net.cab");
    let sound = fs::read(&path).unwrap();
    let stack = |optional: &str| {
        fs::write(
            dir.join("t.stack.toml"),
            format!("[source]\nmedia = \"quay-os-7.iso\"\n[[driver]]\nfrom = \"drivers\"\n{optional}\n[media]\niso = \"t.iso\"\n"),
        )
        .unwrap();
    };
    for at in [106, sound.len() / 2, sound.len() - 3, 0] {
        let mut bad = sound.clone();
        bad[at] ^= 0xDC;
        fs::write(&path, &bad).unwrap();
        stack("");
        for args in [vec!["plan", "t.stack.toml"], vec!["drivers", "drivers"]] {
            let (code, error) = fails(&dir, &args);
            assert!(code == 3 && error.contains("lantern-net.cab"), "byte {at}: {args:?} {code} {error}");
        }
        stack("optional = true");
        let plan = json(&dir, &["plan", "t.stack.toml", "--json"]);
        let said = plan["findings"].as_array().unwrap().iter().any(|own| {
            own["weight"] == "problem" && own["message"].as_str().unwrap().contains("lantern-net.cab")
        });
        assert!(said, "byte {at}: {}", plan["findings"]);
    }
}

#[test]
fn damage_in_image_files_is_found_and_not_copied_on() {
    let (_keep, dir) = demo();
    ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "--to", "."]);
    ok(&dir, &["check", "install.wim"]);
    ok(&dir, &["check", "quay-os-7.iso"]);
    let sound = fs::read(dir.join("install.wim")).unwrap();
    let mut seed = 7_u64;
    let mut found = 0;
    for _ in 0..12 * factor() {
        let bad = mutate(&sound, &mut seed);
        if bad.len() != sound.len() || bad == sound {
            continue;
        }
        fs::write(dir.join("install.wim"), &bad).unwrap();
        let check = run(&dir, &["check", "install.wim", "--json"]);
        let is_sound = check.code == Some(0);
        for (args, out) in [
            (vec!["repack", "install.wim", "--level", "fast", "-o", "o.wim", "--verify"], "o.wim"),
            (vec!["editions", "install.wim", "keep", "1", "2", "3", "-o", "o.wim", "--verify"], "o.wim"),
            (vec!["split", "install.wim", "--limit", "400KiB", "-o", "o.swm", "--verify"], "o.swm"),
        ] {
            let made = run(&dir, &args);
            if made.code == Some(0) {
                assert_eq!(run(&dir, &["check", out]).code, Some(0), "{args:?} copied damage on");
            } else {
                assert!(!is_sound, "{args:?}: {}", made.error);
            }
            for name in names(&dir).iter().filter(|name| name.starts_with("o.") || name.starts_with("o2.")) {
                fs::remove_file(dir.join(name)).unwrap();
            }
        }
        // Without --verify every tree is read all the same.
        let made = run(&dir, &["editions", "install.wim", "keep", "1", "2", "3", "-o", "o.wim"]);
        if made.code == Some(0) {
            let list = run(&dir, &["files", "o.wim", "--edition", "1"]);
            assert_eq!(list.code, Some(0), "a tree that cannot be read: {}", list.error);
            fs::remove_file(dir.join("o.wim")).unwrap();
        }
        if !is_sound && check.code == Some(3) && check.out.contains("\"damage\"") {
            found += 1;
        }
    }
    assert!(found > 0, "no round damaged what only `check` finds");
    // One byte of one content: which file that is.
    let mut bad = sound.clone();
    bad[3000] ^= 0x40;
    fs::write(dir.join("install.wim"), &bad).unwrap();
    let check = run(&dir, &["check", "install.wim", "--json"]);
    assert_eq!(check.code, Some(3), "{}", check.error);
    let value: serde_json::Value = serde_json::from_str(&check.out).unwrap();
    let mut hits = value["damage"].as_array().unwrap().iter().map(|damage| &damage["hits"][0]);
    assert!(
        hits.any(|hit| hit["edition"].is_u64() && hit["path"].as_str().unwrap().contains('/')),
        "{value}"
    );
}

#[test]
fn pipes_are_refused_and_a_second_signal_always_ends() {
    let (_keep, dir) = demo();
    assert!(Command::new("mkfifo").arg(dir.join("pipe")).status().unwrap().success());
    for args in [
        vec!["look", "pipe"],
        vec!["check", "pipe"],
        vec!["files", "pipe"],
        vec!["editions", "pipe"],
        vec!["unpack", "pipe", "o"],
        vec!["take", "pipe", "a", "--to", "o"],
        vec!["stick", "pipe", "--to", "o.img"],
        vec!["plan", "pipe"],
        vec!["build", "pipe"],
        vec!["draft", "pipe"],
        vec!["inventory", "pipe", "--edition", "1"],
        vec!["compare", "pipe", "quay-os-7.iso"],
        vec!["drivers", "pipe"],
        vec!["answer", "read", "pipe"],
        vec!["touchup", "pipe", "list"],
        vec!["trial", "pipe"],
        vec!["repack", "pipe", "-o", "o.wim"],
        vec!["join", "pipe", "-o", "o.wim"],
    ] {
        let Run { code, error, .. } = run_limited(&dir, &args, Duration::from_secs(5), 4096);
        assert!(code == Some(2) && error.contains("pipe"), "{args:?}: {code:?} {error}");
    }
}

#[test]
fn a_stop_is_answered_at_once_and_leaves_nothing() {
    let (_keep, dir) = demo();
    // Large and slow to unpack: half random, so that chunks are packed.
    fs::create_dir(dir.join("big")).unwrap();
    let mut state = 1_u64;
    let block: Vec<u8> = (0..32 << 20)
        .map(|n| {
            state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            if n % 64 < 40 { (state >> 40) as u8 } else { 7 }
        })
        .collect();
    let file = fs::File::create(dir.join("big/a.bin")).unwrap();
    for n in 0..12 {
        file.write_all_at(&block, n * block.len() as u64).unwrap();
    }
    ok(&dir, &["capture", "big", "--name", "big", "-o", "big.wim", "-q"]);
    let mut child = Command::new(PROGRAM)
        .current_dir(&dir)
        .args(["take", "big.wim", "--edition", "1", "a.bin", "--to", "o", "-q"])
        .stderr(Stdio::null())
        .spawn()
        .unwrap();
    let begun = || dir.join("o").is_dir() && !names(&dir.join("o")).is_empty();
    while !begun() {
        assert!(child.try_wait().unwrap().is_none(), "it was over too soon");
        std::thread::sleep(Duration::from_millis(1));
    }
    let asked = Instant::now();
    assert!(Command::new("kill").args(["-TERM", &child.id().to_string()]).status().unwrap().success());
    let status = child.wait().unwrap();
    assert_eq!(status.code(), Some(130), "after {:?}", asked.elapsed());
    assert!(names(&dir.join("o")).is_empty());
}

#[test]
fn a_source_that_changes_fails_the_command() {
    let (_keep, dir) = demo();
    let source = dir.join("site-files/big.bin");
    let block = vec![7_u8; 1 << 20];
    let fill = || {
        let file = fs::File::create(&source).unwrap();
        for n in 0..300 {
            file.write_all_at(&block, n << 20).unwrap();
        }
    };
    for round in 0..3 {
        fill();
        let mut child = Command::new(PROGRAM)
            .current_dir(&dir)
            .args(["master", "site-files", "-o", "o.iso", "-q"])
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        let begun = || names(&dir).iter().any(|name| name.starts_with(".o.iso.unfinished-"));
        while !begun() && child.try_wait().unwrap().is_none() {
            std::thread::sleep(Duration::from_millis(1));
        }
        let file = fs::File::options().write(true).open(&source).unwrap();
        match round {
            0 => file.set_len(1 << 20).unwrap(),
            1 => file.write_all_at(b"changed", 5).unwrap(),
            _ => fs::remove_file(&source).unwrap(),
        }
        let output = child.wait_with_output().unwrap();
        let error = String::from_utf8(output.stderr).unwrap();
        assert!(output.status.code() == Some(1) && error.contains("big.bin"), "round {round}: {error}");
        assert!(!names(&dir).iter().any(|name| name.contains("o.iso")), "{:?}", names(&dir));
    }
}

#[test]
fn kills_at_any_moment_leave_nothing_that_looks_finished() {
    let (_keep, dir) = demo();
    let commands: [(&[&str], &[&str]); 4] = [
        (
            &["build", "deck.stack.toml", "-q", "--no-digest"],
            &["out/deck.iso", "out/deck.img", "out/deck.ledger.json"],
        ),
        (&["unpack", "quay-os-7.iso", "unpacked", "-q"], &["unpacked"]),
        (&["take", "quay-os-7.iso", "sources", "--to", "taken", "-q"], &["taken/sources"]),
        (&["stick", "quay-os-7.iso", "--to", "a.img", "-q"], &["a.img"]),
    ];
    for (args, outputs) in commands {
        let remove = || {
            for output in outputs {
                let path = dir.join(output);
                let _ = if path.is_dir() { fs::remove_dir_all(path) } else { fs::remove_file(path) };
            }
        };
        let begun = Instant::now();
        ok(&dir, args);
        let whole = begun.elapsed();
        let sound: Vec<bool> = outputs.iter().map(|output| dir.join(output).exists()).collect();
        assert!(sound[0], "{args:?}");
        remove();
        let rounds = 10 * factor() as u32;
        for round in 0..rounds {
            let mut child = Command::new(PROGRAM)
                .current_dir(&dir)
                .args(args)
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .spawn()
                .unwrap();
            std::thread::sleep(whole * round / rounds);
            child.kill().unwrap();
            let finished = child.wait().unwrap().success();
            let there: Vec<bool> = outputs.iter().map(|output| dir.join(output).exists()).collect();
            // Names are given one after another at the very end; what has one is whole.
            if !finished && there.iter().any(|there| *there) && outputs[0] == "a.img" {
                ok(&dir, &["check", "a.img"]);
            }
            remove();
        }
        ok(&dir, args);
        for output in outputs {
            let folder = dir.join(output).parent().unwrap().to_owned();
            let left: Vec<String> =
                names(&folder).into_iter().filter(|name| name.contains("unfinished")).collect();
            assert!(left.is_empty(), "{args:?} left {left:?}");
        }
    }
}

#[test]
fn a_limit_on_file_sizes_and_a_deaf_log_are_no_surprises() {
    let (_keep, dir) = demo();
    let shell = |script: &str| {
        let script = format!("cd '{}' && {script}", dir.display()).replace("neatstack", PROGRAM);
        Command::new("sh").args(["-c", &script]).output().unwrap()
    };
    let limited = shell("ulimit -f 500; neatstack stick quay-os-7.iso --to a.img");
    let error = String::from_utf8(limited.stderr).unwrap();
    assert!(limited.status.code() == Some(1) && error.contains("ulimit -f"), "{error}");
    assert!(!names(&dir).iter().any(|name| name.contains("a.img")), "{:?}", names(&dir));
    let deaf = shell("neatstack build bridge.stack.toml --replace 2>/dev/full");
    assert!(deaf.status.success());
    let closed = shell("neatstack build bridge.stack.toml --replace 2>&-");
    assert!(closed.status.success());
    assert_eq!(shell("neatstack look none.iso 2>&-").status.code(), Some(2));
}

/// A name with all that a terminal would act on.
const HOSTILE: &str = "x\u{1b}[2J\u{1b}]0;owned\u{7}\r\nok  all is well\u{9b}31m\u{202e}fdp\u{2066}\u{85}y";

#[test]
fn text_from_outside_never_moves_a_terminal() {
    let (_keep, dir) = demo();
    let hostile = |place: &str| HOSTILE.replace('x', place);
    // Names on a media, in an edition, in a depot, in packages; labels, titles, messages.
    fs::create_dir_all(dir.join("media").join(hostile("folder"))).unwrap();
    fs::write(dir.join("media").join(hostile("folder")).join(hostile("file")), "a").unwrap();
    fs::write(
        dir.join("media").join(hostile("driver") + ".inf"),
        format!("[Version]\nProvider=\"{HOSTILE}\"\n"),
    )
    .unwrap();
    fs::create_dir_all(dir.join("u/files/Quay")).unwrap();
    fs::write(dir.join("u/files/Quay/a.txt"), "a").unwrap();
    let quoted = |text: &str| serde_json::to_string(text).unwrap();
    fs::write(
        dir.join("u/update.toml"),
        format!("format = 2\n[update]\nid = \"own\"\nversion = \"1\"\ntitle = {}\n", quoted(HOSTILE)),
    )
    .unwrap();
    let stack = |body: &str| {
        fs::write(
            dir.join("h.stack.toml"),
            format!(
                "title = {}\n[source]\nmedia = \"quay-os-7.iso\"\n{body}\n[media]\niso = \"h.iso\"\n",
                quoted(HOSTILE)
            ),
        )
        .unwrap();
    };
    stack("[[place]]\nfrom = \"media\"\nto = \"media:/h\"");
    fs::write(
        dir.join("h.reg"),
        format!(
            "REGEDIT4\n\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\{}]\n\"a\"=\"b\"\n",
            HOSTILE.replace(['\r', '\n'], " ")
        ),
    )
    .unwrap();
    fs::write(dir.join("h.answer.toml"), format!("version = 1\n[system]\nedition = {}\n", quoted(HOSTILE)))
        .unwrap();
    fs::write(
        dir.join("h.xml"),
        format!(
            "<unattend xmlns=\"urn:schemas-microsoft-com:unattend\"><settings pass=\"{}\"/></unattend>",
            HOSTILE.replace(['\u{1b}', '\u{7}'], "")
        ),
    )
    .unwrap();
    fs::create_dir(dir.join("d")).unwrap();
    ok(&dir, &["update", "new", "u", "-o", "d/own.update.tar.zst", "-q"]);
    ok(&dir, &["depot", "index", "d", "--title", HOSTILE, "-q"]);
    let capture = hostile("edition");
    let file = hostile("none");
    for args in [
        vec!["master", "media", "-o", "h.iso"],
        vec!["look", "h.iso"],
        vec!["files", "h.iso"],
        vec!["check", "h.iso"],
        vec!["unpack", "h.iso", "h"],
        vec!["look", "media"],
        vec!["drivers", "media"],
        vec!["capture", "media", "--name", &capture, "-o", "h.wim", "--skip-bad-names"],
        vec!["look", "u"],
        vec!["look", "d/own.update.tar.zst"],
        vec!["depot", "search", "--depot", "d"],
        vec!["look", "d/depot.json"],
        vec!["plan", "h.stack.toml"],
        vec!["build", "h.stack.toml", "--replace"],
        vec!["look", "h.ledger.json"],
        vec!["look", "h.stack.toml"],
        vec!["compare", "quay-os-7.iso", "h.iso"],
        vec!["look", "h.reg"],
        vec!["answer", "check", "h.answer.toml", "--media", "quay-os-7.iso"],
        vec!["answer", "check", "h.xml"],
        vec!["answer", "read", "h.xml"],
        vec!["look", &file],
        vec!["take", "quay-os-7.iso", &file, "--to", "o"],
        vec!["stick", "h.iso", "--to", "h.img"],
        vec!["touchup", "h.iso", "list"],
        vec!["touchup", "h.iso", "hide", &file],
        vec!["editions", "quay-os-7.iso"],
        vec!["inventory", "quay-os-7.iso", "--edition", &file],
        vec!["draft", "h.iso"],
        vec!["--no-such\u{1b}[31m-option"],
    ] {
        for extra in [None, Some("--json"), Some("--color=always")] {
            let mut args = args.clone();
            args.extend(extra);
            let Run { code, out, error } = run(&dir, &args);
            let place = format!("{args:?} gave {code:?}");
            let coloured = extra == Some("--color=always");
            // A document that goes to a file is given out as it is; these two are such.
            if args[0] != "draft" && !args.starts_with(&["answer", "read"]) {
                attack::assert_plain_but(&out, coloured, &place);
            }
            attack::assert_plain_but(&error, coloured, &place);
            assert!(
                !out.lines().chain(error.lines()).any(|line| line.starts_with("ok  all")),
                "{place}: a line of its own in\n{out}{error}"
            );
        }
    }
    // JSON is exact.
    let look = json(&dir, &["look", "d/depot.json", "--json"]);
    assert_eq!(look["title"], HOSTILE);
}

#[test]
fn what_holds_a_password_is_its_owners_alone() {
    let (_keep, dir) = demo();
    let mode = |path: &str| fs::metadata(dir.join(path)).unwrap().permissions().mode() & 0o777;
    fs::write(
        dir.join("t.stack.toml"),
        "[source]\nmedia = \"quay-os-7.iso\"\n[answer]\nfile = \"bridge.answer.toml\"\n[media]\niso = \"t.iso\"\nstick = { image = \"t.img\" }\n",
    )
    .unwrap();
    let plan = ok(&dir, &["plan", "t.stack.toml", "--all"]);
    assert!(plan.contains("only you may read what is written"), "{plan}");
    ok(&dir, &["build", "t.stack.toml", "-q"]);
    assert_eq!((mode("t.iso"), mode("t.img")), (0o600, 0o600));
    ok(&dir, &["unpack", "t.iso", "o", "-q"]);
    ok(&dir, &["take", "t.iso", "autounattend.xml", "sources", "--to", "taken", "-q"]);
    ok(&dir, &["stick", "t.iso", "--to", "s.img", "-q"]);
    ok(&dir, &["touchup", "t.iso", "--copy-to", "c.iso", "put", "site.reg=a.reg"]);
    ok(&dir, &["master", "o", "-o", "again.iso", "-q"]);
    assert_eq!((mode("o"), mode("taken/autounattend.xml"), mode("taken/sources")), (0o700, 0o600, 0o700));
    assert_eq!((mode("s.img"), mode("c.iso"), mode("again.iso")), (0o600, 0o600, 0o600));
    ok(&dir, &["stick", "t.iso", "--to", "r.img", "-q", "--readable"]);
    ok(&dir, &["build", "t.stack.toml", "-q", "--readable"]);
    assert_ne!(mode("r.img") & 0o044, 0);
    assert_ne!(mode("t.iso") & 0o044, 0);
    // What is named by nothing secret stays as the umask says.
    ok(&dir, &["stick", "quay-os-7.iso", "--to", "n.img", "-q"]);
    assert_ne!(mode("n.img") & 0o044, 0);
}

#[test]
fn a_record_that_leads_out_of_its_folder_is_refused() {
    let (_keep, dir) = demo();
    ok(&dir, &["unpack", "quay-os-7.iso", "o", "-q"]);
    let record = dir.join("o/.neatstack/media.toml");
    let text = fs::read_to_string(&record).unwrap();
    fs::remove_file(&record).unwrap();
    fs::write(dir.join("elsewhere.toml"), &text).unwrap();
    std::os::unix::fs::symlink("../../elsewhere.toml", &record).unwrap();
    let (code, error) = fails(&dir, &["master", "o", "-o", "o.iso"]);
    assert!(code == 2 && error.contains("symbolic link"), "{error}");
    fs::remove_file(&record).unwrap();
    fs::write(
        &record,
        text.replace("[boot.image]\nfile = \"boot/bios.img\"", "[boot.image]\nkept = \"leak\""),
    )
    .unwrap();
    std::os::unix::fs::symlink("/etc/hostname", dir.join("o/.neatstack/leak")).unwrap();
    let (code, error) = fails(&dir, &["master", "o", "-o", "o.iso"]);
    assert!(code == 2 && error.contains("symbolic link"), "{error}");
}

#[test]
fn unpacking_under_any_umask_gives_the_same_disc() {
    let (_keep, dir) = demo();
    for umask in ["022", "077", "002"] {
        let script = format!(
            "umask {umask}; cd '{0}' && {1} unpack quay-os-7.iso o{umask} -q && {1} master o{umask} -o {umask}.iso -q",
            dir.display(),
            PROGRAM
        );
        assert!(Command::new("sh").args(["-c", &script]).status().unwrap().success());
    }
    let first = fs::read(dir.join("022.iso")).unwrap();
    assert!(first == fs::read(dir.join("077.iso")).unwrap(), "umask 077 gives other bytes");
    assert!(first == fs::read(dir.join("002.iso")).unwrap(), "umask 002 gives other bytes");
}

#[test]
fn a_group_that_does_not_belong_together_is_noticed() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "deck.stack.toml", "-q"]);
    let ledger = names(&dir.join("out")).into_iter().find(|name| name.ends_with(".ledger.json")).unwrap();
    let ledger = format!("out/{ledger}");
    let first = json(&dir, &["look", &ledger, "--json"]);
    let iso = first["output"]["path"].as_str().unwrap().to_owned();
    ok(&dir, &["check", &iso, "--ledger", &ledger]);
    assert!(!ok(&dir, &["look", &ledger]).contains("not what this build wrote"));
    ok(&dir, &["touchup", &iso, "put", "site.reg=a.reg"]);
    assert!(ok(&dir, &["look", &ledger]).contains("not what this build wrote"));
    let check = run(&dir, &["check", &iso, "--ledger", &ledger]);
    assert!(check.code == Some(3) && check.out.contains("not what the build wrote"), "{}", check.out);
}

#[test]
fn of_builds_that_write_one_name_at_once_one_wins() {
    let (_keep, dir) = demo();
    for round in 0..3 * factor() {
        let out = format!("w{round}.img");
        let children: Vec<_> = (0..4)
            .map(|_| {
                Command::new(PROGRAM)
                    .current_dir(&dir)
                    .args(["stick", "quay-os-7.iso", "--to", &out, "-q", "--reproducible"])
                    .stderr(Stdio::piped())
                    .spawn()
                    .unwrap()
            })
            .collect();
        let codes: Vec<Option<i32>> =
            children.into_iter().map(|child| child.wait_with_output().unwrap().status.code()).collect();
        assert_eq!(codes.iter().filter(|code| **code == Some(0)).count(), 1, "{codes:?}");
        assert!(codes.iter().all(|code| matches!(code, Some(0 | 4))), "{codes:?}");
        ok(&dir, &["check", &out]);
        assert!(!names(&dir).iter().any(|name| name.contains("unfinished")));
    }
}

#[test]
fn another_kind_of_input_is_named_and_is_no_damage() {
    let (_keep, dir) = demo();
    ok(&dir, &["take", "quay-os-7.iso", "sources/install.wim", "--to", "."]);
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    for (args, words) in [
        (vec!["draft", "bridge.stack.toml"], "is a stack file, and a media is wanted"),
        (vec!["unpack", "install.wim", "o"], "is an image file, and a media is wanted"),
        (vec!["check", "machines.csv"], "is a site list, and a media is wanted"),
        (vec!["stick", "quay.catalogue.toml", "--to", "o.img"], "is a catalogue, and a media is wanted"),
        (vec!["files", "bridge-answers.xml"], "is an answer file, and a media is wanted"),
        (vec!["stick", "updates", "--to", "o.img"], "is a folder of updates, and a media is wanted"),
        (vec!["repack", "bridge.stack.toml", "-o", "o.wim"], "is a stack file, and an image file is wanted"),
        (
            vec!["join", "out/bridge.ledger.json", "-o", "o.wim"],
            "is the ledger of a build, and an image file is wanted",
        ),
        (vec!["plan", "quay-os-7.iso"], "is an ISO file, and a stack file is wanted"),
        (vec!["plan", "bridge.answer.toml"], "is answers in the neutral form, and a stack file is wanted"),
        (vec!["build", "bridge-console.devices.txt"], "is a list of devices, and a stack file is wanted"),
    ] {
        let (code, error) = fails(&dir, &args);
        assert!(code == 2 && error.contains(words), "{args:?}: {code} {error}");
    }
    for (path, kind) in [
        ("quay.catalogue.toml", "catalogue"),
        ("machines.csv", "site-list"),
        ("bridge-console.devices.txt", "list-of-devices"),
        ("updates", "folder-of-updates"),
    ] {
        assert_eq!(json(&dir, &["look", path, "--json"])["kind"], kind);
    }
}

#[test]
fn a_touchup_that_the_system_ends_is_taken_back() {
    let (_keep, dir) = demo();
    let before = fs::read(dir.join("quay-os-7.iso")).unwrap();
    fs::write(dir.join("big.bin"), vec![3; 20 << 20]).unwrap();
    let script = format!(
        "ulimit -f 12000; cd '{}'; exec {PROGRAM} touchup quay-os-7.iso put big.bin=a.bin",
        dir.display()
    );
    let output = Command::new("bash").args(["-c", &script]).output().unwrap();
    let error = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.code() == Some(1) && error.contains("the disc is as it was before"), "{error}");
    assert!(fs::read(dir.join("quay-os-7.iso")).unwrap() == before);
}
