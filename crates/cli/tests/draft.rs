//! `draft`: the questions on a terminal, and the same by options.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::fs;
use support::{
    demo, fails, ok,
    terminal::{DOWN, ENTER, ESCAPE, Terminal},
};

const ISO: &str = "quay-os-7.iso";

#[test]
fn questions_are_answered_and_the_file_plans() {
    let (_guard, dir) = demo();
    let mut terminal = Terminal::start(&dir, &["draft", ISO], 100, 40);
    for text in ["Editions to keep:", "keep Quay OS 7 Bridge", "The others leave the media"] {
        terminal.see(text);
    }
    // The first is dropped, and the third.
    terminal.press(" ");
    terminal.press(DOWN);
    terminal.press(DOWN);
    terminal.press(" ");
    terminal.press(ENTER);
    terminal.see("Updates:");
    terminal.press("upda");
    terminal.see("updates/");
    terminal.press("\t");
    terminal.press(ENTER);
    terminal.see("Drivers:");
    terminal.press("nowhere");
    terminal.press(ENTER);
    terminal.see("There is nothing of this name.");
    terminal.press(&"\u{7f}".repeat(7));
    terminal.press("drivers/keelson-s4");
    terminal.press(ENTER);
    terminal.see_that("the question again", |screen| screen.matches("Drivers:").count() == 2);
    terminal.press(ENTER);
    terminal.see("Also into the setup environment?");
    terminal.press(ENTER);
    terminal.see("Only for the devices in this list:");
    terminal.press("bridge-console.devices.txt");
    terminal.press(ENTER);
    terminal.see("Catalogue of components:");
    terminal.press("quay.catalogue.toml");
    terminal.press(ENTER);
    terminal.see("Take components out?");
    terminal.press("y");
    terminal.press(ENTER);
    terminal.see("List of machines:");
    terminal.press(ESCAPE);
    terminal.see("Answers for setup:");
    terminal.press(DOWN);
    terminal.press(DOWN);
    terminal.press(ENTER);
    terminal.see("Language:");
    terminal.press("da-DK");
    terminal.press(ENTER);
    terminal.see("Time zone:");
    terminal.press("copenh");
    terminal.see("Europe/Copenhagen");
    terminal.press(DOWN);
    terminal.press(ENTER);
    terminal.see("Name of the machine:");
    terminal.press(ENTER);
    terminal.see("First account:");
    terminal.press("helm");
    terminal.press(ENTER);
    terminal.see("What comes out?");
    terminal.press(DOWN);
    terminal.press(DOWN);
    terminal.press(ENTER);
    terminal.see("Stack file:");
    terminal.press("my.stack.toml");
    terminal.press(ENTER);
    // Then the screen to choose on.
    terminal.see("0 out, 0 bytes");
    terminal.press("p");
    terminal.press(DOWN);
    terminal.press(DOWN);
    terminal.press(ENTER);
    terminal.see("profile lean");
    terminal.press("s");
    assert_eq!(terminal.end(), 0);
    let text = fs::read_to_string(dir.join("my.stack.toml")).unwrap();
    for line in [
        "#:schema ./stack.schema.json",
        "catalogues = [\"quay.catalogue.toml\"]",
        "editions = [\"Quay OS 7 Bridge\"]",
        "[[update]]\nfrom = \"updates",
        "[[driver]]\nfrom = \"drivers/keelson-s4\"\ninto = [\"system\", \"setup\"]",
        "\ndevices = \"bridge-console.devices.txt\"",
        "[answer]\nfile = \"my.answer.toml\"",
        "iso = \"out/quay-os-7.iso\"\nstick = { image = \"out/quay-os-7.img\"",
        "[remove]\nprofile = \"lean\"",
    ] {
        assert!(text.contains(line), "{line}: {text}");
    }
    let answers = fs::read_to_string(dir.join("my.answer.toml")).unwrap();
    assert!(
        answers.contains("time_zone = \"Europe/Copenhagen\"") && answers.contains("\"helm\""),
        "{answers}"
    );
    let mut terminal = Terminal::start(&dir, &["plan", "my.stack.toml"], 100, 60);
    terminal.see("(not shown)");
    terminal.press("Quay-12-tide\r");
    let plan = terminal.see("quay-os-7.img");
    assert!(plan.contains("quay-os-7.iso") && !plan.contains("Quay-12-tide"), "{plan}");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn everything_can_be_skipped_and_left() {
    let (_guard, dir) = demo();
    let mut terminal = Terminal::start(&dir, &["draft", ISO, "-o", "a.stack.toml"], 80, 40);
    let questions = [
        "Editions to keep:",
        "Updates:",
        "Drivers:",
        "Catalogue of components:",
        "Take components out?",
        "List of machines:",
        "Answers for setup:",
        "What comes out?",
    ];
    for question in questions {
        let screen = terminal.see(question);
        assert!(screen.lines().all(|line| line.chars().count() <= 80), "{screen}");
        terminal.press(ESCAPE);
    }
    assert_eq!(terminal.end(), 0);
    assert_eq!(fs::read_to_string(dir.join("a.stack.toml")).unwrap(), ok(&dir, &["draft", ISO]));
    let mut terminal = Terminal::start(&dir, &["draft", ISO], 80, 40);
    terminal.see("Editions to keep:");
    terminal.press("\u{3}");
    assert_eq!(terminal.end(), 130);
    let mut terminal = Terminal::start(&dir, &["draft", ISO, "--plain", "-o", "b.stack.toml"], 80, 40);
    terminal.see("look it over");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn options_fill_in_and_paths_are_right_wherever_the_file_lies() {
    let (_guard, dir) = demo();
    fs::create_dir(dir.join("work")).unwrap();
    let args = [
        "draft",
        ISO,
        "--edition",
        "2",
        "--updates",
        "updates",
        "--drivers",
        "drivers/keelson-s4",
        "--drivers",
        "drivers",
        "--devices",
        "bridge-console.devices.txt",
        "--catalogue",
        "quay.catalogue.toml",
        "--answer",
        "bridge.answer.toml",
        "--sites",
        "machines.csv",
        "--form",
        "stick",
        "-o",
        "work/b.stack.toml",
    ];
    ok(&dir, &args);
    let text = fs::read_to_string(dir.join("work/b.stack.toml")).unwrap();
    for line in [
        "media = \"../quay-os-7.iso\"",
        "editions = [\"Quay OS 7 Bridge\"]",
        "from = \"../updates\"",
        "from = \"../drivers\"",
        "file = \"../bridge.answer.toml\"",
        "[[variant]]\nsites = \"../machines.csv\"",
        "# iso = \"out/{name}.iso\"\nstick = { image = \"out/{name}.img\"",
    ] {
        assert!(text.contains(line), "{line}: {text}");
    }
    let (code, said) = fails(&dir, &["draft", ISO, "--edition", "Quay OS 7 Brige"]);
    assert!(code == 2 && said.contains("did you mean \"Quay OS 7 Bridge\"?"), "{said}");
    let (code, said) = fails(&dir, &["draft", ISO, "--updates", "nowhere"]);
    assert!(code == 2 && said.contains("nowhere is not there"), "{said}");
    let (code, said) = fails(&dir, &["draft", ISO, "--sites", "quay.catalogue.toml"]);
    assert!(code == 2 || code == 3, "{said}");
}

/// What a draft has as comments works when the marks are taken away.
#[test]
fn what_is_commented_out_plans_when_it_is_not() {
    let (_guard, dir) = demo();
    let draft = ok(&dir, &["draft", ISO]);
    let section = |head: &str, keys: &[&str]| -> String {
        let mut out = String::new();
        let mut lines = draft.lines().skip_while(|line| *line != format!("# {head}"));
        out.push_str(&lines.next().unwrap_or_else(|| panic!("no {head}"))[2..]);
        for line in lines.take_while(|line| !line.is_empty()) {
            if keys.iter().any(|key| line.starts_with(&format!("# {key} = "))) {
                out.push_str(&format!("\n{}", &line[2..]));
            }
        }
        out + "\n"
    };
    fs::copy(dir.join("bridge-console.devices.txt"), dir.join("devices.txt")).unwrap();
    fs::copy(dir.join("bridge-answers.xml"), dir.join("autounattend.xml")).unwrap();
    fs::create_dir(dir.join("tools")).unwrap();
    fs::write(dir.join("tools/probe.txt"), "x").unwrap();
    fs::copy(dir.join("apps/chartview.exe"), dir.join("apps/setup.exe")).unwrap();
    let sections = [
        section("[[update]]", &["from"]),
        section("[[driver]]", &["from", "into", "devices"]),
        section("[[place]]", &["from", "to"]),
        section("[[app]]", &["installer", "arguments", "when"]),
    ];
    for own in &sections {
        fs::write(dir.join("t.stack.toml"), format!("{draft}\n{own}")).unwrap();
        let plan = support::neatstack(&dir, &["plan", "t.stack.toml", "--all"]);
        let text = String::from_utf8_lossy(&plan.stdout).into_owned();
        // A pack without a file is a fault of the pack.
        let is_pack = own.contains("[[driver]]") && text.contains("foghorn-mix.dll is missing");
        assert!(plan.status.success() || is_pack, "{own}: {text}{}", String::from_utf8_lossy(&plan.stderr));
    }
}

#[test]
fn what_is_always_the_same_is_filled_in_and_changes_no_stack_file() {
    let (_guard, dir) = demo();
    fs::create_dir_all(dir.join("home/neatstack")).unwrap();
    let config = dir.join("home/neatstack/config.toml");
    fs::write(
        &config,
        "publisher = \"BRACKWATER\"\noutput_folder = \"media/\"\nlanguage = \"da-DK\"\ndepot = \"http://192.0.2.9:8080\"\n",
    )
    .unwrap();
    let run = |args: &[&str]| {
        let mut command = std::process::Command::new(env!("CARGO_BIN_EXE_neatstack"));
        command.current_dir(&dir).args(args).env("XDG_CONFIG_HOME", dir.join("home")).env("NO_COLOR", "1");
        command.env_remove("NEATSTACK_DEPOT").output().unwrap()
    };
    let text = |args: &[&str]| String::from_utf8(run(args).stdout).unwrap();
    let shown = text(&["config"]);
    for said in ["home/neatstack/config.toml", "BRACKWATER", "media/", "da-DK", "http://192.0.2.9:8080"] {
        assert!(shown.contains(said), "{said}: {shown}");
    }
    let draft = text(&["draft", ISO]);
    assert!(
        draft.contains("publisher = \"BRACKWATER\"") && draft.contains("iso = \"media/quay-os-7.iso\""),
        "{draft}"
    );
    // What a stack file says stays.
    let plan = |args: &[&str]| serde_json::from_slice::<serde_json::Value>(&run(args).stdout).unwrap();
    assert_eq!(
        plan(&["plan", "bridge.stack.toml", "--json"])["outputs"],
        support::json(&dir, &["plan", "bridge.stack.toml", "--json"])["outputs"]
    );
    fs::write(&config, "publsher = \"x\"\n").unwrap();
    let output = run(&["config"]);
    let said = String::from_utf8(output.stderr).unwrap();
    assert!(output.status.code() == Some(2) && said.contains("publsher"), "{said}");
    assert!(ok(&dir, &["config"]).contains("is not there"));
}
