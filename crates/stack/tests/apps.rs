//! Applications on a media: under which names they are staged, by which scripts they run, and what becomes of a script
//! that the media has at the end of setup.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_content::{Content, Job, Timestamp, Tree};
use neat_demo::Size;
use neat_media::read;
use neat_stack::{BuildOptions, Clock, Prepared, StackFile, Wishes};
use std::{
    collections::HashSet,
    fs,
    path::{Path, PathBuf},
    sync::LazyLock,
};

const CLOCK: Clock = Clock {
    today: Timestamp::from_seconds(1_790_000_000),
    fixed: Some(Timestamp::from_seconds(1_780_000_000)),
};
const BASE: &str = "sources/$OEM$/$1/NeatStack";
const AT_END: &str = "sources/$OEM$/$$/Setup/Scripts/SetupComplete.cmd";
const BEFORE: &str = "sources/$OEM$/$$/Setup/Scripts/SetupComplete-before.cmd";

static DEMO: LazyLock<(tempfile::TempDir, PathBuf)> = LazyLock::new(|| {
    let dir = tempfile::tempdir().unwrap();
    let demo = neat_demo::write(dir.path(), Size::Small, &Job::silent()).unwrap();
    (dir, demo.media)
});

/// A media's tree.
fn tree(path: &Path) -> Tree {
    read::open(path).unwrap().tree
}

fn bytes(tree: &Tree, path: &str) -> Option<Vec<u8>> {
    let id = tree.find(path)?;
    Some(tree.node(id).content()?.to_vec(1 << 20, "file").unwrap())
}

fn text(tree: &Tree, path: &str) -> String {
    String::from_utf8(bytes(tree, path).unwrap_or_else(|| panic!("{path} is not there"))).unwrap()
}

/// Paths below the folder of applications.
fn staged(tree: &Tree) -> Vec<String> {
    let prefix = format!("{BASE}/apps/");
    let files = tree.walk().filter(|step| tree.node(step.id).content().is_some());
    files.filter_map(|step| step.path.strip_prefix(&prefix).map(str::to_owned)).collect()
}

/// A folder in which stack files are built.
struct Bench(tempfile::TempDir);

impl Bench {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        std::os::unix::fs::symlink(&DEMO.1, dir.path().join("quay.iso")).unwrap();
        Self(dir)
    }

    fn at(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn put(&self, name: &str, bytes: &[u8]) {
        fs::create_dir_all(self.at(name).parent().unwrap()).unwrap();
        fs::write(self.at(name), bytes).unwrap();
    }

    fn try_build(&self, media: &str, iso: &str, rest: &str) -> neat_content::Result<Tree> {
        let text = format!("[source]\nmedia = {media:?}\n[media]\niso = {iso:?}\n{rest}");
        let stack = StackFile::parse(&text)?;
        let prepared =
            Prepared::new(&stack, &self.at("t.stack.toml"), &CLOCK, Wishes::default(), &Job::silent())?;
        let options = BuildOptions {
            stack_text: &text,
            program: "test",
            digest: None,
            threads: 0,
            readable: false,
            verify: false,
            replaceable: HashSet::new(),
        };
        prepared.build(&options, &Job::silent())?;
        Ok(tree(&self.at(iso)))
    }

    fn build(&self, media: &str, iso: &str, rest: &str) -> Tree {
        self.try_build(media, iso, rest).unwrap()
    }

    /// The demo's media with a script at the end of setup.
    fn with_vendors_script(&self, script: &[u8]) {
        self.put("vendor.cmd", script);
        self.build(
            "quay.iso",
            "vendor.iso",
            &format!("[[place]]\nfrom = \"vendor.cmd\"\nto = \"media:/{AT_END}\"\n"),
        );
    }
}

const APP: &str = "[[app]]\ninstaller = \"own/tool.exe\"\narguments = \"/quiet\"\n";

#[test]
fn installers_are_staged_under_names_that_every_script_can_say() {
    let bench = Bench::new();
    bench.put("own/tool.exe", b"MZ");
    bench.put("own/F\u{e4}hre & Co 100%.MSI", b"package");
    bench.put("own/kit/sub dir/st\u{e4}rt.cmd", b"@echo off\r\n");
    bench.put("own/kit/data.bin", b"data");
    let apps = format!(
        "{APP}[[app]]\ninstaller = \"own/F\u{e4}hre & Co 100%.MSI\"\n\
         [[app]]\ninstaller = \"sub dir/st\u{e4}rt.cmd\"\nfiles = \"own/kit\"\nwhen = \"first-sign-in\"\n"
    );
    let tree = bench.build("quay.iso", "t.iso", &apps);
    assert_eq!(
        staged(&tree),
        [
            "01-tool/neatstack-run.cmd",
            "01-tool/tool.exe",
            "02-F-hre---Co-100-/installer.msi",
            "02-F-hre---Co-100-/neatstack-run.cmd",
            "03-st-rt/data.bin",
            "03-st-rt/sub dir/installer.cmd",
            "03-st-rt/sub dir/neatstack-run.cmd",
        ]
    );
    assert_eq!(bytes(&tree, &format!("{BASE}/apps/02-F-hre---Co-100-/installer.msi")).unwrap(), b"package");
    let run = text(&tree, &format!("{BASE}/apps/03-st-rt/sub dir/neatstack-run.cmd"));
    assert!(run.contains("\r\n\"installer.cmd\"\r\n"), "{run}");
    // The log has the names that people know.
    let end = text(&tree, &format!("{BASE}/setup-end.cmd"));
    assert!(
        end.contains("F\u{e4}hre ^& Co 100%%.MSI") && end.starts_with("@echo off\r\nchcp 65001"),
        "{end}"
    );
    let first = text(&tree, &format!("{BASE}/first-sign-in.cmd"));
    assert!(first.contains("apps\\03-st-rt\\sub dir\\neatstack-run.cmd"), "{first}");
    assert!(!end.contains("03-st-rt") && !first.contains("01-tool"), "each at its moment");
}

#[test]
fn what_nothing_can_run_is_refused_before_anything_is_written() {
    let bench = Bench::new();
    for name in ["own/readme.txt", "own/tool", "own/net.inf", "own/b\u{fc}ro/x.cmd"] {
        bench.put(name, b"x");
    }
    for (app, word) in [
        ("installer = \"own/readme.txt\"", "nothing runs a file of this kind"),
        ("installer = \"own/tool\"", "nothing runs a file of this kind"),
        ("installer = \"own/net.inf\"", "nothing runs a file of this kind"),
        ("installer = \"b\u{fc}ro/x.cmd\"\nfiles = \"own\"", "no script can name the installer's folder"),
        ("installer = \"gone.cmd\"\nfiles = \"own\"", "there is no such file in own"),
    ] {
        let error = bench.try_build("quay.iso", "t.iso", &format!("[[app]]\n{app}\n")).unwrap_err();
        assert!(error.to_string().contains(word), "{app}: {error}");
        assert!(!bench.at("t.iso").exists());
    }
}

#[test]
fn a_vendors_script_is_kept_byte_for_byte_and_runs_first() {
    let utf16: Vec<u8> = "\u{feff}@echo f\u{e4}hre\r\n".encode_utf16().flat_map(u16::to_le_bytes).collect();
    for vendor in [b"@echo off\r\nexit /b 3".as_slice(), b"", &utf16, b"call x.cmd\n"] {
        let bench = Bench::new();
        bench.put("own/tool.exe", b"MZ");
        bench.with_vendors_script(vendor);
        let tree = bench.build("vendor.iso", "t.iso", APP);
        assert_eq!(bytes(&tree, BEFORE).unwrap(), vendor);
        let ours = text(&tree, AT_END);
        let (before, own) =
            (ours.find("SetupComplete-before.cmd").unwrap(), ours.find("setup-end.cmd").unwrap());
        assert!(before < own, "{ours}");
        // Nothing of the vendor's can end ours.
        assert!(
            ours.lines().filter(|line| line.contains("cmd.exe /d /c")).count() == 2 && !ours.contains("call"),
            "{ours}"
        );
    }
}

#[test]
fn building_on_what_was_built_adds_no_second_script() {
    let bench = Bench::new();
    bench.put("own/tool.exe", b"MZ");
    bench.with_vendors_script(b"@echo vendor\r\n");
    let first = bench.build("vendor.iso", "first.iso", APP);
    let second = bench.build("first.iso", "second.iso", APP);
    for path in [AT_END, BEFORE] {
        assert_eq!(bytes(&first, path), bytes(&second, path), "{path}");
    }
    // Without applications everything stays as the media has it.
    let third = bench.build("vendor.iso", "third.iso", "");
    assert_eq!(bytes(&third, AT_END).unwrap(), b"@echo vendor\r\n");
    assert!(third.find(BEFORE).is_none());
}

#[test]
fn the_call_of_an_earlier_version_is_not_run_beside_ours() {
    let bench = Bench::new();
    bench.put("own/tool.exe", b"MZ");
    bench.with_vendors_script(b"@echo vendor\r\ncall C:\\NeatStack\\setup-end.cmd\r\n");
    let tree = bench.build("vendor.iso", "t.iso", APP);
    assert_eq!(bytes(&tree, BEFORE).unwrap(), b"@echo vendor\r\n");
}

#[test]
fn content_of_an_installer_stays_an_extent_of_its_file() {
    let bench = Bench::new();
    let large: Vec<u8> = (0..3_000_000_u32).map(|n| (n % 251) as u8).collect();
    bench.put("own/tool.exe", &large);
    let tree = bench.build("quay.iso", "t.iso", APP);
    let id = tree.find(&format!("{BASE}/apps/01-tool/tool.exe")).unwrap();
    let content: &Content = tree.node(id).content().unwrap();
    assert_eq!(content.len(), large.len() as u64);
    assert!(content.to_vec(4 << 20, "file").unwrap() == large);
}

/// The text of a built media's answers.
fn answers_of(tree: &Tree) -> String {
    text(tree, "autounattend.xml")
}

#[test]
fn what_runs_once_is_asked_of_the_answers_where_who_signs_in_first_may_not() {
    let app = "[[app]]\ninstaller = \"own/tool.exe\"\nwhen = \"first-sign-in\"\n";
    let model = |groups: &str| {
        format!(
            "{app}[answer]\naccept = [\"no-password\"]\nmodel = {{ account = [{{ name = \"pupil\", groups = [{groups}] }}] }}\n"
        )
    };
    let bench = Bench::new();
    bench.put("own/tool.exe", b"MZ");
    let line = "cmd.exe /c &quot;%SystemDrive%\\NeatStack\\first-sign-in.cmd&quot;";
    let tree = bench.build("quay.iso", "pupil.iso", &model("\"users\""));
    let answers = answers_of(&tree);
    assert_eq!(answers.matches(line).count(), 1, "{answers}");
    assert!(answers.contains("<FirstLogonCommands>"));
    let tree = bench.build("quay.iso", "teacher.iso", &model("\"administrators\""));
    assert!(!answers_of(&tree).contains("first-sign-in.cmd"));
    // Both have the script; the system's own list has it where the answers do not.
    assert!(tree.find(&format!("{BASE}/first-sign-in.cmd")).is_some());
    let change = |iso: &str| {
        let comparison =
            neat_stack::compare(&DEMO.1, &bench.at(iso), Some("Quay OS 7 Bridge"), &Job::silent()).unwrap();
        comparison.editions.iter().any(|own| own.registry.contains("first-sign-in.cmd"))
            || comparison.registry.contains("first-sign-in.cmd")
    };
    assert!(change("teacher.iso"));
    assert!(!change("pupil.iso"));
}

#[test]
fn the_plan_says_which_way_applications_take_and_what_leaves_them_out() {
    let bench = Bench::new();
    bench.put("own/tool.exe", b"MZ");
    let notes = |rest: &str| -> String {
        let text = format!("[source]\nmedia = \"quay.iso\"\n[media]\niso = \"t.iso\"\n{rest}");
        let stack = StackFile::parse(&text).unwrap();
        let prepared =
            Prepared::new(&stack, &bench.at("t.stack.toml"), &CLOCK, Wishes::default(), &Job::silent());
        let all = prepared.unwrap().report.findings;
        all.into_iter().map(|own| format!("{}\n", own.message)).collect()
    };
    let first = "[[app]]\ninstaller = \"own/tool.exe\"\nwhen = \"first-sign-in\"\n";
    let keyed = "[answer]\nmodel = { system = { key = { generic = \"AAAAA-BBBBB-CCCCC-DDDDD-EEEEE\" } } }\n";
    let pupil = "[answer]\nmodel = { account = [{ name = \"pupil\" }] }\n";
    assert!(notes(&format!("{first}{pupil}")).contains("pupil signs in first and is no administrator"));
    assert!(!notes(&format!("{APP}{pupil}")).contains("signs in first"));
    assert!(notes(&format!("{APP}{keyed}")).contains("product keys of some makers"));
    assert!(!notes(&format!("{first}{keyed}")).contains("product keys"));
    // Answers of another kind of system have no part in it.
    let other = "[answer]\ndialects = [\"preseed\"]\nmodel = { account = [{ name = \"pupil\" }] }\n";
    assert!(!notes(&format!("{first}{other}")).contains("signs in first"));
}

#[test]
fn answers_that_are_a_file_get_the_line_too_and_keep_what_they_say() {
    let theirs = "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<unattend xmlns=\"urn:schemas-microsoft-com:unattend\">\n  \
        <!-- ours since spring -->\n  <settings pass=\"oobeSystem\">\n    <component name=\"Microsoft-Windows-Shell-Setup\" \
        processorArchitecture=\"amd64\">\n      <UserAccounts><LocalAccounts><LocalAccount \
        xmlns:wcm=\"http://schemas.microsoft.com/WMIConfig/2002/State\" wcm:action=\"add\"><Name>pupil</Name>\
        <Group>Users</Group></LocalAccount></LocalAccounts></UserAccounts>\n    </component>\n  </settings>\n</unattend>\n";
    let bench = Bench::new();
    bench.put("own/tool.exe", b"MZ");
    bench.put("theirs.xml", theirs.as_bytes());
    let rest = "[[app]]\ninstaller = \"own/tool.exe\"\nwhen = \"first-sign-in\"\n\
        [answer]\nfile = \"theirs.xml\"\naccept = [\"dialect\", \"no-password\", \"asks\"]\n";
    let answers = answers_of(&bench.build("quay.iso", "t.iso", rest));
    assert!(answers.contains("<!-- ours since spring -->"), "{answers}");
    assert_eq!(answers.matches("NeatStack\\first-sign-in.cmd").count(), 1, "{answers}");
    assert_eq!(fs::read_to_string(bench.at("theirs.xml")).unwrap(), theirs, "the source stays as it is");
}
