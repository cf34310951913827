//! The built program on the demo data in temporary folders.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    clippy::semicolon_if_nothing_returned,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{
    fs,
    os::unix::fs::FileExt,
    path::Path,
    process::{Command, Stdio},
    time::Duration,
};
use support::{demo, fails, json, names, neatstack, ok, refused};

#[test]
fn look_says_what_a_technician_wants_to_know() {
    let (_keep, dir) = demo();
    let text = ok(&dir, &["look", "quay-os-7.iso"]);
    for wanted in [
        "QUAY_OS_7",
        "UDF 1.02 (read), Joliet, ISO 9660",
        "19 files in 11 folders",
        "BIOS: boot/bios.img, 4.0 KiB, loads 8 sectors",
        "holds EFI/BOOT/BOOTX64.EFI",
        "none where setup looks",
    ] {
        assert!(text.contains(wanted), "{wanted} in\n{text}");
    }
    let look = json(&dir, &["look", "quay-os-7.iso", "--json", "--digest", "sha256"]);
    assert_eq!(
        (&look["kind"], &look["files"], &look["boot"][0]["load_sectors"]),
        (&"media".into(), &19.into(), &8.into())
    );
    assert_eq!(look["digest"].as_str().unwrap().len(), "sha256 ".len() + 64);
    for (path, kind) in [("bridge.stack.toml", "stack-file"), ("bridge-answers.xml", "answer-file")] {
        assert_eq!(json(&dir, &["look", path, "--json"])["kind"], kind);
    }
    let (code, error) = fails(&dir, &["look", "boot-code.bin"]);
    assert_eq!(code, 3);
    assert!(error.contains("expected an ISO file"), "{error}");
    assert_eq!(fails(&dir, &["look", "missing.iso"]).0, 2);
}

#[test]
fn files_and_take_agree_with_the_demo_data() {
    let (_keep, dir) = demo();
    let tree = neat_demo::media_tree(neat_demo::Size::Small, &neat_content::Job::silent()).unwrap();
    let files = json(&dir, &["files", "quay-os-7.iso", "--json", "--digest", "sha1"]);
    let paths: Vec<_> = files.as_array().unwrap().iter().map(|file| file["path"].as_str().unwrap()).collect();
    let wanted: Vec<_> =
        tree.walk().filter(|step| tree.node(step.id).content().is_some()).map(|step| step.path).collect();
    assert_eq!(paths, wanted);
    let text = ok(&dir, &["files", "quay-os-7.iso", "--digest", "sha1"]);
    let line = text.lines().find(|line| line.ends_with("empty-page.txt")).unwrap();
    assert!(line.starts_with("da39a3ee5e6b4b0d3255bfef95601890afd80709             0  support/"), "{line}");
    ok(&dir, &["take", "quay-os-7.iso", "SOURCES/products.TOML", "support", "--to", "here"]);
    // The list also shows that no unfinished name is left.
    assert_eq!(names(&dir.join("here")), ["products.toml", "support"]);
    assert_eq!(
        fs::read(dir.join("here/support/charts/航路図.txt")).unwrap(),
        tree.file("support/charts/航路図.txt").unwrap().to_vec(1 << 20, "x").unwrap()
    );
    assert_eq!(fails(&dir, &["take", "quay-os-7.iso", "sources/products.toml", "--to", "here"]).0, 4);
    ok(&dir, &["take", "quay-os-7.iso", "sources/products.toml", "--to", "here", "--replace"]);
    let (code, error) = fails(&dir, &["take", "quay-os-7.iso", "readme.txt", "nothing.txt", "--to", "there"]);
    assert!(code == 2 && error.contains("nothing.txt") && !dir.join("there").exists(), "{error}");
}

#[test]
fn unpack_and_master_give_an_equal_file() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    ok(&dir, &["unpack", "out/bridge.iso", "folder"]);
    ok(&dir, &["master", "folder", "-o", "again.iso"]);
    // Nothing of our own media is lost in the folder, so even the bytes are the same.
    assert!(fs::read(dir.join("again.iso")).unwrap() == fs::read(dir.join("out/bridge.iso")).unwrap());
    assert_eq!(fails(&dir, &["unpack", "out/bridge.iso", "folder"]).0, 4);
    assert_eq!(fails(&dir, &["master", "folder", "-o", "again.iso"]).0, 4);
    let result = json(
        &dir,
        &["master", "folder", "-o", "again.iso", "--replace", "--digest", "--json", "--label", "OTHER"],
    );
    let look = json(&dir, &["look", "again.iso", "--json", "--digest", "sha256"]);
    assert_eq!(look["digest"], format!("sha256 {}", result["sha256"].as_str().unwrap()));
    assert_eq!(look["label"], "OTHER");
}

#[test]
fn master_finds_boot_images_and_takes_others() {
    let (_keep, dir) = demo();
    let folder = dir.join("plain");
    fs::create_dir_all(folder.join("boot")).unwrap();
    fs::create_dir_all(folder.join("efi/boot")).unwrap();
    fs::write(folder.join("boot/etfsboot.com"), vec![1; 4096]).unwrap();
    fs::write(folder.join("efi/boot/bootx64.efi"), vec![2; 9000]).unwrap();
    ok(&dir, &["master", "plain", "-o", "a.iso"]);
    let look = json(&dir, &["look", "a.iso", "--json"]);
    let entry = |number: usize, key: &str| look["boot"][number][key].clone();
    assert_eq!(
        (entry(0, "image"), entry(0, "load_sectors"), entry(1, "loaders")),
        ("boot/etfsboot.com".into(), 8.into(), serde_json::json!(["EFI/BOOT/BOOTX64.EFI"]))
    );
    assert_eq!(look["label"], "PLAIN");
    fs::write(dir.join("loader.bin"), vec![3; 5000]).unwrap();
    ok(
        &dir,
        &[
            "master",
            "plain",
            "-o",
            "b.iso",
            "--bios",
            "loader.bin",
            "--load-sectors",
            "4",
            "--load-segment",
            "0x2000",
            "--boot-info-table",
            "--joliet",
            "off",
            "--rock-ridge",
            "on",
        ],
    );
    let look = json(&dir, &["look", "b.iso", "--json"]);
    let entry = |key: &str| look["boot"][0][key].clone();
    assert_eq!(
        (entry("image"), entry("load_sectors"), entry("load_segment"), entry("boot_info_table")),
        (serde_json::Value::Null, 4.into(), 0x2000.into(), true.into())
    );
    assert_eq!(fs::read(dir.join("loader.bin")).unwrap(), vec![3; 5000], "the source stays as it is");
    let (code, error) = fails(&dir, &["master", "plain", "-o", "c.iso", "--bios", "boot/missing.bin"]);
    assert!(code == 2 && error.contains("boot/missing.bin"), "{error}");
    assert!(!dir.join("c.iso").exists());
}

#[test]
fn build_writes_the_media_and_a_ledger_and_is_repeatable() {
    let (_keep, dir) = demo();
    let source = fs::read(dir.join("quay-os-7.iso")).unwrap();
    let ledger = json(&dir, &["build", "bridge.stack.toml", "--digest", "--json"]);
    let first = fs::read(dir.join("out/bridge.iso")).unwrap();
    let look = json(&dir, &["look", "out/bridge.iso", "--json", "--digest", "sha256"]);
    assert_eq!(look["digest"], format!("sha256 {}", ledger["output"]["sha256"].as_str().unwrap()));
    assert_eq!(look["answer_files"][0]["path"], "autounattend.xml");
    assert_eq!(look["label"], "BRIDGE_7");
    assert_eq!(names(&dir.join("out")), ["bridge.iso", "bridge.ledger.json"]);
    assert_eq!(ledger["files"].as_array().unwrap().len(), 13);
    let on_disc = json(&dir, &["files", "out/bridge.iso", "--digest", "sha256", "--json"]);
    for file in ledger["files"].as_array().unwrap() {
        let same = on_disc.as_array().unwrap().iter().find(|other| other["path"] == file["path"]).unwrap();
        assert_eq!((&same["digest"], &same["size"]), (&file["sha256"], &file["size"]));
    }
    ok(&dir, &["build", "bridge.stack.toml"]);
    assert!(fs::read(dir.join("out/bridge.iso")).unwrap() == first, "the same inputs give the same bytes");
    assert!(fs::read(dir.join("quay-os-7.iso")).unwrap() == source, "the source is never written");
    let text = ok(&dir, &["look", "out/bridge.ledger.json"]);
    assert!(text.contains("ledger of a build") && text.contains("put media:/autounattend.xml"), "{text}");
    // Every file of the source is there, with the same bytes; only the image files are others.
    let list = |iso: &str| {
        json(&dir, &["files", iso, "--digest", "sha256", "--json"])
            .as_array()
            .unwrap()
            .iter()
            .map(|file| (file["path"].to_string(), file["digest"].to_string()))
            .collect::<Vec<_>>()
    };
    let built = list("out/bridge.iso");
    let source = list("quay-os-7.iso");
    let changed: Vec<_> =
        source.iter().filter(|file| !built.contains(file)).map(|(path, _)| path.as_str()).collect();
    assert_eq!(changed, ["\"sources/boot.wim\"", "\"sources/install.wim\""]);
}

fn stack(dir: &Path, body: &str) -> &'static str {
    fs::write(
        dir.join("t.stack.toml"),
        format!("[source]\nmedia = \"quay-os-7.iso\"\n{body}\n[media]\niso = \"t.iso\"\n"),
    )
    .unwrap();
    "t.stack.toml"
}

#[test]
fn what_would_be_overwritten_is_shown_and_refused_until_it_is_meant() {
    let (_keep, dir) = demo();
    fs::write(dir.join("other.txt"), "other").unwrap();
    let name = stack(&dir, "[[place]]\nfrom = \"other.txt\"\nto = \"media:/README.TXT\"");
    let plan = refused(&dir, &["plan", name]);
    assert!(plan.contains("refused  media:/README.TXT is there already"), "{plan}");
    let (code, error) = fails(&dir, &["build", name]);
    assert!(code == 4 && error.contains("replace = true"), "{error}");
    assert_eq!(fails(&dir, &["build", name, "--dry-run"]).0, 4);
    assert!(!dir.join("t.iso").exists());
    stack(&dir, "[[place]]\nfrom = \"other.txt\"\nto = \"media:/README.TXT\"\nreplace = true");
    ok(&dir, &["build", name]);
    ok(&dir, &["take", "t.iso", "readme.txt", "--to", "x"]);
    assert_eq!(fs::read_to_string(dir.join("x/readme.txt")).unwrap(), "other");
}

#[test]
fn a_second_answer_file_is_refused_until_it_is_meant() {
    let (_keep, dir) = demo();
    // What else is wrong with that file is not the matter here.
    let stack = |body: &str| {
        let accepted = "accept = [\"machine-name\", \"edition\", \"architecture\", \"language\", \"plain-password\", \"command\", \
             \"not-on-media\"]\n";
        stack(&dir, &body.replace("[answer]\n", &format!("[answer]\n{accepted}")));
    };
    stack(
        "[[place]]\nfrom = \"bridge-answers.xml\"\nto = \"media:/Unattend.xml\"\n[answer]\nfile = \"bridge-answers.xml\"",
    );
    let plan = serde_json::from_str::<serde_json::Value>(&refused(&dir, &["plan", "t.stack.toml", "--json"]))
        .unwrap();
    let finding =
        plan["findings"].as_array().unwrap().iter().find(|finding| finding["weight"] == "refused").unwrap();
    assert!(finding["message"].as_str().unwrap().contains("another answer file, Unattend.xml"), "{finding}");
    assert_eq!(fails(&dir, &["build", "t.stack.toml"]).0, 4);
    stack(
        "[[place]]\nfrom = \"bridge-answers.xml\"\nto = \"media:/Unattend.xml\"\n[answer]\nfile = \"bridge-answers.xml\"\nreplace = true",
    );
    ok(&dir, &["build", "t.stack.toml"]);
    let look = json(&dir, &["look", "t.iso", "--json"]);
    assert_eq!(
        look["answer_files"],
        serde_json::json!([{ "path": "autounattend.xml", "dialect": "unattend" }])
    );
}

#[test]
fn an_answer_file_that_needs_a_kernel_option_says_which() {
    let (_keep, dir) = demo();
    for (name, text, place, option) in [
        ("a.cfg", "d-i debian-installer/locale string en_GB\n", "preseed.cfg", "file=/cdrom/preseed.cfg"),
        ("b.ks", "lang en_GB\ntimezone UTC\n", "ks.cfg", "inst.ks=cdrom:/ks.cfg"),
        (
            "c.yaml",
            "#cloud-config\nautoinstall:\n  version: 1\n  user-data: {}\n",
            "user-data",
            "ds=nocloud;s=/cdrom/",
        ),
    ] {
        fs::write(dir.join(name), text).unwrap();
        let plan = json(&dir, &["plan", stack(&dir, &format!("[answer]\nfile = \"{name}\"")), "--json"]);
        assert_eq!(plan["output"]["answer_files"], serde_json::json!([place]));
        let hints = plan["findings"].to_string();
        assert!(hints.contains(option), "{hints}");
    }
}

#[test]
fn a_wrong_digest_stops_before_anything_else() {
    let (_keep, dir) = demo();
    let digest = json(&dir, &["look", "quay-os-7.iso", "--digest", "sha256", "--json"])["digest"]
        .as_str()
        .unwrap()
        .replace("sha256 ", "");
    let text = |digest: &str| {
        format!(
            "[source]\nmedia = \"quay-os-7.iso\"\nsha256 = \"{digest}\"\n[[place]]\nfrom = \"missing\"\nto = \"media:/\"\n[media]\niso = \"t.iso\"\n"
        )
    };
    fs::write(dir.join("t.stack.toml"), text(&"0".repeat(64))).unwrap();
    let (code, error) = fails(&dir, &["build", "t.stack.toml"]);
    assert!(code == 3 && error.contains(&digest), "{error}");
    // With the right one the missing file is the next to be found.
    fs::write(dir.join("t.stack.toml"), text(&digest.to_uppercase())).unwrap();
    let (code, error) = fails(&dir, &["build", "t.stack.toml"]);
    assert!(code == 2 && error.contains("t.stack.toml: line 5: `place.from` names missing"), "{error}");
}

#[test]
fn stack_files_with_mistakes_are_explained() {
    let (_keep, dir) = demo();
    for (body, code, wanted) in [
        ("[[plaec]]\n", 2, "did you mean `place`?"),
        ("[[variant]]\nsites = \"x\"", 2, "line 4: `variant.sites` names x"),
        ("[answer]\n", 2, "needs one of `file` and `model`"),
        ("[[driver]]\nform = \"x\"", 2, "did you mean `from`?"),
        ("[[place]]\nfrom = \"site-files\"\nto = \"system:/../x\"", 2, "leaves the edition"),
        ("[[place]]\nfrom = \"site-files\"\nto = \"media:/../x\"", 2, "leaves the media"),
        ("[answer]\nfile = \"boot-code.bin\"", 2, "no answer file that is known"),
        ("[menu]\n", 2, "[[menu.entry]]"),
    ] {
        let (found, error) = fails(&dir, &["plan", stack(&dir, body)]);
        assert!(found == code && error.contains(wanted), "{body}: {error}");
    }
    let (code, error) = fails(&dir, &["build", "t.stack.toml", "--json"]);
    let error: serde_json::Value = serde_json::from_str(&error).unwrap();
    assert_eq!((code, &error["exit_code"]), (2, &2.into()));
    fs::write(
        dir.join("t.stack.toml"),
        "[source]\nmedia = \"quay-os-7.iso\"\n[media]\niso = \"quay-os-7.iso\"\n",
    )
    .unwrap();
    let (code, error) = fails(&dir, &["build", "t.stack.toml", "--replace"]);
    assert!(code == 4 && error.contains("the source itself"), "{error}");
}

#[test]
fn outputs_that_cannot_be_are_explained_before_any_work() {
    let (_keep, dir) = demo();
    let before = names(&dir);
    let stick = |rest: &str| format!("stick = {{ image = \"x.img\", {rest} }}");
    for (media, wanted) in [
        (String::new(), "names neither an ISO file nor a stick"),
        ("iso = \"\"".into(), "not the name of a file"),
        ("iso = \"out/\"".into(), "not the name of a file"),
        ("iso = \"site-files\"".into(), "not the name of a file"),
        ("iso = \"/dev/sdb\"".into(), "is a device"),
        ("stick = { image = \"/dev/null\" }".into(), "`media.stick.image`: \"/dev/null\" is a device"),
        ("iso = \"x.img\"\nstick = { image = \"./x.img\" }".into(), "are the same file"),
        ("stick = { }".into(), "line 4: missing key `image`"),
        ("stick = \"x.img\"".into(), "line 4: wrong kind of value: string \"x.img\", expected a table"),
        (
            "iso = \"x.iso\"\ntrial = \"bios\"".into(),
            "line 5: wrong kind of value: string \"bios\", expected a list",
        ),
        ("iso = \"x.iso\"\ntrial = [\"bois\"]".into(), "expected `bios` or `uefi`"),
        ("iso = \"x.iso\"\niso = \"y.iso\"".into(), "line 5: duplicate key"),
        ("iso = \"x.iso\"\nlabel = \"{nothing}\"".into(), "there is no {nothing}"),
        (stick("scheme = \"gtp\""), "unknown value `gtp`, expected `gpt` or `mbr`"),
        (stick("size = \"8X\""), "`media.stick.size`: \"8X\" is not a size"),
        (stick("size = \"64K\""), "too small"),
        (stick("size = \"1MB\""), "too small"),
        (stick("size = \"20MiB\""), "MiB are missing"),
        (stick("size = 8"), "expected a string"),
        (stick("boot_manager = \"nothing\""), "no boot manager nothing"),
        (stick("lable = \"X\""), "no key `media.stick.lable`"),
    ] {
        let text = format!("[source]\nmedia = \"quay-os-7.iso\"\n[media]\n{media}\n");
        fs::write(dir.join("t.stack.toml"), text).unwrap();
        for command in ["plan", "build"] {
            let (code, error) = fails(&dir, &[command, "t.stack.toml"]);
            assert!(code == 2 && error.contains(wanted), "{command} {media}: {code} {error}");
            assert!(error.contains("what to do: "), "{error}");
        }
    }
    // The plan says so too when the source would be written, by whatever name.
    std::os::unix::fs::symlink("quay-os-7.iso", dir.join("link.iso")).unwrap();
    let original = fs::read(dir.join("quay-os-7.iso")).unwrap();
    for output in ["iso = \"link.iso\"", "stick = { image = \"quay-os-7.iso\" }"] {
        let text = format!("[source]\nmedia = \"quay-os-7.iso\"\n[media]\n{output}\n");
        fs::write(dir.join("t.stack.toml"), text).unwrap();
        let plan: serde_json::Value =
            serde_json::from_str(&refused(&dir, &["plan", "t.stack.toml", "--json"])).unwrap();
        let findings = plan["findings"].to_string();
        assert!(findings.contains("the source itself") && findings.contains("refused"), "{findings}");
        assert_eq!(fails(&dir, &["build", "t.stack.toml", "--replace"]).0, 4);
    }
    assert!(fs::read(dir.join("quay-os-7.iso")).unwrap() == original);
    // A label that FAT cannot hold is changed, and that is said.
    let text =
        format!("[source]\nmedia = \"quay-os-7.iso\"\n[media]\n{}\n", stick("label = \"Much too long\""));
    fs::write(dir.join("t.stack.toml"), text).unwrap();
    let plan = ok(&dir, &["plan", "t.stack.toml", "--all"]);
    assert!(plan.contains("the stick's label is \"MUCH TOO LO\" and not \"Much too long\""), "{plan}");
    for name in ["link.iso", "t.stack.toml"] {
        fs::remove_file(dir.join(name)).unwrap();
    }
    assert_eq!(names(&dir), before);
}

#[test]
fn no_command_writes_over_a_device() {
    let (_keep, dir) = demo();
    ok(&dir, &["unpack", "quay-os-7.iso", "folder", "-q"]);
    // What stands for a device, so that nothing happens if this fails.
    rustix::fs::mknodat(
        rustix::fs::CWD,
        dir.join("device"),
        rustix::fs::FileType::Fifo,
        rustix::fs::Mode::RUSR | rustix::fs::Mode::WUSR,
        0,
    )
    .unwrap();
    for to in ["device", "/dev/sd-not-there"] {
        for args in [
            &["master", "folder", "-o", to, "--replace"][..],
            &["stick", "folder", "--to", to, "--replace"],
            &["touchup", "quay-os-7.iso", "put", "site.reg", "--copy-to", to, "--replace"],
            &["split", "folder/sources/install.wim", "--limit", "200KiB", "-o", to, "--replace"],
        ] {
            let (code, error) = fails(&dir, args);
            let said = error.contains("is a device") || error.contains("is not a disk");
            assert!(code == 2 && said, "{args:?}: {code} {error}");
        }
    }
}

#[test]
fn the_five_commands_chain_wherever_the_stack_file_lies() {
    let (_keep, dir) = demo();
    fs::create_dir(dir.join("work")).unwrap();
    for (stack, iso) in
        [("my.stack.toml", "out/quay-os-7.iso"), ("work/my.stack.toml", "work/out/quay-os-7.iso")]
    {
        ok(&dir, &["look", "quay-os-7.iso"]);
        assert!(
            ok(&dir, &["draft", "quay-os-7.iso", "-o", stack]).contains(&format!("neatstack plan {stack}"))
        );
        ok(&dir, &["plan", stack]);
        ok(&dir, &["build", stack, "-q"]);
        assert!(ok(&dir, &["look", iso, "--boot"]).contains("BIOS"));
        assert_eq!(fails(&dir, &["draft", "quay-os-7.iso", "-o", stack]).0, 4);
        ok(&dir, &["draft", "quay-os-7.iso", "-o", stack, "--replace"]);
    }
}

#[test]
fn what_was_changed_since_it_was_built_is_not_overwritten() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml", "--digest", "-q"]);
    ok(&dir, &["build", "bridge.stack.toml", "--digest", "-q"]);
    let iso = dir.join("out/bridge.iso");
    // A copy that is younger and the same is no change.
    let bytes = fs::read(&iso).unwrap();
    std::thread::sleep(Duration::from_millis(20));
    fs::write(&iso, &bytes).unwrap();
    ok(&dir, &["build", "bridge.stack.toml", "--digest", "-q"]);
    std::thread::sleep(Duration::from_millis(20));
    ok(&dir, &["touchup", "out/bridge.iso", "hide", "readme.txt"]);
    let touched = fs::read(&iso).unwrap();
    let (code, error) = fails(&dir, &["build", "bridge.stack.toml", "-q"]);
    assert!(code == 4 && error.contains("not as its ledger says") && error.contains("--replace"), "{error}");
    assert!(fs::read(&iso).unwrap() == touched);
    ok(&dir, &["build", "bridge.stack.toml", "--replace", "-q"]);
    // Without a digest in the ledger, its time says enough.
    let mut changed = fs::read(&iso).unwrap();
    changed[40_000] ^= 1;
    std::thread::sleep(Duration::from_millis(20));
    fs::write(&iso, changed).unwrap();
    assert_eq!(fails(&dir, &["build", "bridge.stack.toml", "-q"]).0, 4);
}

#[test]
fn a_locked_build_takes_only_what_was_locked() {
    let (_keep, dir) = demo();
    let build = ["build", "bridge.stack.toml", "--locked", "-q"];
    let (code, error) = fails(&dir, &build);
    assert!(code == 2 && error.contains("plan STACK --lock"), "{error}");
    ok(&dir, &["plan", "bridge.stack.toml", "--lock"]);
    let lock = fs::read_to_string(dir.join("bridge.stack.lock")).unwrap();
    for named in ["quay-os-7.iso", "site.reg", "drivers/keelson-s4/keelson.inf", "bridge.stack.toml"] {
        assert!(lock.contains(&format!("[files.\"{named}\"]")), "{named} in {lock}");
    }
    ok(&dir, &build);
    // Locked again it is the same.
    ok(&dir, &["plan", "bridge.stack.toml", "--lock"]);
    assert_eq!(fs::read_to_string(dir.join("bridge.stack.lock")).unwrap(), lock);
    let list = "site-files/telephone-list.txt";
    let original = fs::read(dir.join(list)).unwrap();
    fs::write(dir.join(list), [&original[..], b"Bilge 7\n"].concat()).unwrap();
    fs::write(dir.join("drivers/new.txt"), "new").unwrap();
    let (code, error) = fails(&dir, &build);
    assert!(
        code == 4 && error.contains("telephone-list.txt has") && error.contains("drivers/new.txt is new"),
        "{error}"
    );
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    fs::write(dir.join(list), original).unwrap();
    fs::remove_file(dir.join("drivers/new.txt")).unwrap();
    ok(&dir, &build);
    fs::write(dir.join("bridge.stack.lock"), "version = 7\n[files]\n").unwrap();
    assert!(fails(&dir, &build).1.contains("version 7"));
}

#[test]
fn a_draft_builds_as_it_is() {
    let (_keep, dir) = demo();
    ok(&dir, &["build", "bridge.stack.toml"]);
    fs::rename(dir.join("out/bridge.iso"), dir.join("bridge.iso")).unwrap();
    let draft = ok(&dir, &["draft", "bridge.iso"]);
    assert!(draft.contains("answer file already: autounattend.xml"), "{draft}");
    fs::write(dir.join("d.stack.toml"), draft).unwrap();
    ok(&dir, &["build", "d.stack.toml"]);
    let facts = |iso: &str| {
        let look = json(&dir, &["look", iso, "--json"]);
        (look["label"].clone(), look["files"].clone(), look["partition_table"]["boot_code"].clone())
    };
    assert_eq!(facts("bridge.iso"), facts("out/bridge.iso"));
}

/// A menu made from loaders that are only stand-ins: what is on the media, and what the configurations say.
#[test]
fn a_menu_puts_systems_loaders_and_answers_on_the_media() {
    let dir = tempfile::tempdir().unwrap();
    let dir = dir.path();
    fs::create_dir(dir.join("loader")).unwrap();
    for name in ["isolinux.bin", "ldlinux.c32", "libcom32.c32", "libutil.c32", "menu.c32"] {
        fs::write(dir.join("loader").join(name), vec![b'x'; 3000]).unwrap();
    }
    for (name, text) in [
        ("vmlinuz", "kernel"),
        ("initrd", "ram disk"),
        ("grub.efi", "loader"),
        ("a.preseed", "d-i debian-installer/locale string en_GB\n"),
        ("b.ks", "lang en_GB\ntimezone UTC\n"),
        ("c.yaml", "#cloud-config\nautoinstall:\n  version: 1\n  user-data: {}\n"),
    ] {
        fs::write(dir.join(name), text).unwrap();
    }
    let entry = |id: &str, answer: &str| {
        format!(
            "[[menu.entry]]\nid = \"{id}\"\ntitle = \"System {id}\"\nkernel = \"vmlinuz\"\ninitrd = [\"initrd\"]\noptions = \"quiet\"\n{answer}\n"
        )
    };
    let text = format!(
        "title = \"Workshop\"\n[menu]\nbios_loader = \"loader\"\nuefi_loader = \"grub.efi\"\ntimeout_seconds = 30\ndefault = \"b\"\n{}{}{}{}[media]\nlabel = \"WORKSHOP\"\niso = \"w.iso\"\n",
        entry("a", "answer = { file = \"a.preseed\", at = \"initrd\" }"),
        entry("b", "answer = { file = \"b.ks\", at = \"media\" }"),
        entry("c", "answer = { file = \"c.yaml\", at = \"media\" }"),
        entry("d", "answer = { at = \"address\", address = \"http://192.0.2.1/d.cfg\" }")
            + &entry("e", "answer = { file = \"a.preseed\", at = \"root\" }"),
    );
    fs::write(dir.join("w.stack.toml"), &text).unwrap();
    ok(dir, &["build", "w.stack.toml"]);
    ok(dir, &["unpack", "w.iso", "w"]);
    let read = |path: &str| fs::read_to_string(dir.join("w").join(path)).unwrap();
    let bios = read("isolinux/isolinux.cfg");
    for wanted in [
        "UI menu.c32",
        "TIMEOUT 300\nONTIMEOUT disk",
        "DEFAULT b",
        "MENU TITLE Workshop",
        "LABEL a\n  MENU LABEL System a\n  KERNEL /systems/a/linux\n  INITRD /systems/a/initrd0.img,/systems/a/answers.img\n  APPEND priority=critical quiet\n",
        "APPEND inst.ks=hd:LABEL=WORKSHOP:/systems/b/ks.cfg quiet\n",
        "APPEND autoinstall ds=nocloud;s=/cdrom/systems/c/ quiet\n",
        "APPEND auto=true priority=critical url=http://192.0.2.1/d.cfg quiet\n",
        "APPEND auto=true priority=critical file=/cdrom/preseed.cfg quiet\n",
    ] {
        assert!(bios.contains(wanted), "{wanted} in\n{bios}");
    }
    let uefi = read("boot/grub/grub.cfg");
    for wanted in [
        "set default=disk\nset timeout=30",
        "menuentry 'System a' --id a {\n  linux /systems/a/linux priority=critical quiet\n  initrd /systems/a/initrd0.img /systems/a/answers.img",
        "'ds=nocloud;s=/cdrom/systems/c/'",
    ] {
        assert!(uefi.contains(wanted), "{wanted} in\n{uefi}");
    }
    assert_eq!(read("systems/b/ks.cfg"), "lang en_GB\ntimezone UTC\n");
    assert!(read("systems/a/answers.img").contains("preseed.cfg\0"));
    assert!(dir.join("w/systems/c/meta-data").is_file() && dir.join("w/.disk/info").is_file());
    let look = json(dir, &["look", "w.iso", "--json"]);
    let entry = |number: usize, key: &str| look["boot"][number][key].clone();
    assert_eq!(
        (entry(0, "image"), entry(0, "load_sectors"), entry(0, "boot_info_table")),
        ("isolinux/isolinux.bin".into(), 4.into(), true.into())
    );
    assert_eq!(entry(1, "loaders"), serde_json::json!(["EFI/BOOT/BOOTX64.EFI"]));
    fs::write(dir.join("w.stack.toml"), text.replace("default = \"b\"", "default = \"bb\"")).unwrap();
    let (code, error) = fails(dir, &["plan", "w.stack.toml"]);
    assert!(code == 2 && error.contains("did you mean"), "{error}");
}

#[test]
fn damaged_media_are_refused_with_an_offset_and_nothing_is_written() {
    let (_keep, dir) = demo();
    let bytes = fs::read(dir.join("quay-os-7.iso")).unwrap();
    fs::write(dir.join("cut.iso"), &bytes[..bytes.len() / 2]).unwrap();
    for args in [
        vec!["look", "cut.iso"],
        vec!["files", "cut.iso"],
        vec!["unpack", "cut.iso", "out"],
        vec!["take", "cut.iso", "readme.txt", "--to", "out"],
        vec!["draft", "cut.iso"],
    ] {
        let (code, error) = fails(&dir, &args);
        assert!(
            code == 3 && error.contains("at byte 0x") && error.contains("what to do:"),
            "{args:?}: {error}"
        );
    }
    assert!(!dir.join("out").exists());
    // A name that climbs out, in the Joliet tree of a disc without UDF.
    ok(&dir, &["unpack", "quay-os-7.iso", "folder"]);
    ok(&dir, &["master", "folder", "-o", "joliet.iso", "--udf", "off"]);
    let mut bytes = fs::read(dir.join("joliet.iso")).unwrap();
    let utf16 = |text: &str| text.encode_utf16().flat_map(u16::to_be_bytes).collect::<Vec<_>>();
    let (name, climbing) = (utf16("products.toml"), utf16("../../tmp/xxx"));
    let at = bytes.windows(name.len()).position(|window| window == name).unwrap();
    bytes[at..at + name.len()].copy_from_slice(&climbing);
    fs::write(dir.join("climb.iso"), bytes).unwrap();
    let (code, error) = fails(&dir, &["unpack", "climb.iso", "out"]);
    assert!(code == 3 && error.contains("a name without '/'") && error.contains("at byte 0x"), "{error}");
    assert!(!dir.join("out").exists());
}

#[test]
fn a_stopped_or_killed_build_leaves_nothing_that_looks_finished() {
    let (_keep, dir) = demo();
    let big = fs::File::create(dir.join("site-files/big.bin")).unwrap();
    let block = vec![7; 1 << 20];
    for n in 0..400 {
        big.write_all_at(&block, n << 20).unwrap();
    }
    let program = env!("CARGO_BIN_EXE_neatstack");
    for (signal, leaves_trace) in [("INT", false), ("KILL", true)] {
        let mut child = Command::new(program)
            .current_dir(&dir)
            .args(["build", "bridge.stack.toml", "-q", "--digest"])
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let out = dir.join("out");
        let unfinished =
            || out.is_dir() && names(&out).iter().any(|name| name.starts_with(".bridge.iso.unfinished-"));
        while !unfinished() {
            assert!(child.try_wait().unwrap().is_none(), "the build was over too soon to be stopped");
            std::thread::sleep(Duration::from_millis(2));
        }
        assert!(
            Command::new("kill")
                .args([format!("-{signal}"), child.id().to_string()])
                .status()
                .unwrap()
                .success()
        );
        let status = child.wait().unwrap();
        assert!(!status.success());
        if signal == "INT" {
            assert_eq!(status.code(), Some(130));
        }
        assert!(!out.join("bridge.iso").exists());
        assert_eq!(unfinished(), leaves_trace, "{signal}");
    }
    ok(&dir, &["build", "bridge.stack.toml", "-q"]);
    assert_eq!(names(&dir.join("out")), ["bridge.iso", "bridge.ledger.json"], "the next build cleans up");
}

#[test]
fn demo_tells_its_story_and_needs_nothing() {
    let dir = tempfile::tempdir().unwrap();
    let story = ok(dir.path(), &["demo", "d"]);
    for wanted in ["Brackwater Ferries does not exist", "bridge.stack.toml", "What to try next", "danger"] {
        assert!(story.contains(wanted), "{wanted} in\n{story}");
    }
    assert!(story.lines().count() <= 44, "a screen holds it:\n{story}");
    let whole = ok(dir.path(), &["demo", "d", "--all"]);
    assert!(whole.contains("autounattend.xml (unattend)") && whole.lines().count() > 200);
    assert!(dir.path().join("d/out/bridge.iso").is_file());
    let result = json(dir.path(), &["demo", "d", "--json"]);
    assert_eq!(result["ledger"]["title"], "Bridge console");
}

#[test]
fn results_go_to_standard_output_and_nothing_else_does() {
    let (_keep, dir) = demo();
    let output = neatstack(&dir, &["build", "bridge.stack.toml"]);
    let (out, error) = (String::from_utf8(output.stdout).unwrap(), String::from_utf8(output.stderr).unwrap());
    assert!(out.starts_with("out/bridge.iso") && !out.contains("danger"), "{out}");
    assert!(error.contains("danger") && !error.contains('\u{1b}'), "{error}");
    let quiet = neatstack(&dir, &["build", "bridge.stack.toml", "--quiet"]);
    let quiet = String::from_utf8(quiet.stderr).unwrap();
    assert!(quiet.contains("danger") && !quiet.contains("note"), "{quiet}");
    let colored = neatstack(&dir, &["look", "quay-os-7.iso", "--color", "always"]);
    assert!(String::from_utf8(colored.stdout).unwrap().contains('\u{1b}'));
    assert_eq!(fails(&dir, &["look"]).0, 2);
}

#[test]
fn a_disc_for_the_work_bench_has_the_setup_environment_alone() {
    let (_keep, dir) = demo();
    let plan = json(&dir, &["plan", "bench.stack.toml", "--json"]);
    let ledger = json(&dir, &["build", "bench.stack.toml", "--json"]);
    assert!(fs::metadata(dir.join("out/bench.iso")).unwrap().len() < 1 << 20);
    // The plan's items are the ledger's, each with its verdict and bytes.
    let items = |list: &serde_json::Value| -> Vec<(String, String, i64)> {
        let list = list.as_array().unwrap().iter();
        let text = |own: &serde_json::Value, key: &str| own[key].as_str().unwrap().to_owned();
        list.map(|own| (text(own, "subject"), text(own, "verdict"), own["bytes"].as_i64().unwrap())).collect()
    };
    let planned = items(&plan["editions_work"][0]["items"]);
    assert_eq!(planned, items(&ledger["items"]));
    let left_out = planned.iter().find(|own| own.0 == "setup:/Setup").unwrap();
    assert_eq!((left_out.1.as_str(), left_out.2), ("applied", -172_002));
    // What came out is what was asked for, and what comes out of it is the same.
    let look = json(&dir, &["look", "out/bench.iso", "--json"]);
    let names: Vec<&str> =
        look["image_files"].as_array().unwrap().iter().map(|own| own["path"].as_str().unwrap()).collect();
    assert_eq!(names, ["sources/boot.wim"]);
    let store = &look["boot_stores"][0];
    assert_eq!(
        (&store["timeout_seconds"], &store["entries"][0]["title"]),
        (&5.into(), &"Brackwater work bench".into())
    );
    let compared = json(&dir, &["compare", "quay-os-7.iso", "out/bench.iso", "--json"]);
    let kept = ["EFI/BOOT/BOOTX64.EFI", "boot/bios.img", "quayboot"];
    for change in compared["files"].as_array().unwrap() {
        let path = change["path"].as_str().unwrap();
        assert!(!kept.contains(&path), "{path} changed");
        assert_eq!(change["after"].is_null(), path != "boot/bcd", "{change}");
    }
    let systems =
        compared["files"].as_array().unwrap().iter().any(|own| own["path"] == "sources/install.wim");
    assert!(systems, "{}", compared["files"]);
    let registry = ok(&dir, &["compare", "quay-os-7.iso", "out/bench.iso"]);
    for text in ["WinPECacheThreshold", "00000414", "nb-NO"] {
        assert!(registry.contains(text), "{text}: {registry}");
    }
}
