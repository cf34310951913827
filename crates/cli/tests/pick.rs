//! `pick`: the screen, by its keys, and the same by options.

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
    demo, fails, json, ok,
    terminal::{DOWN, ENTER, ESCAPE, LEFT, Terminal},
};

const STACK: &str = "bridge.stack.toml";

#[test]
fn keys_choose_and_the_rest_of_the_file_stays() {
    let (_guard, dir) = demo();
    let before = fs::read_to_string(dir.join(STACK)).unwrap();
    let mut terminal = Terminal::start(&dir, &["pick", STACK], 80, 24);
    let screen = terminal.see("8 out, 4");
    assert!(screen.lines().all(|line| line.chars().count() <= 80));
    for text in ["Quay OS 7 Bridge", "1 Components", "app/chart-viewer", "screensaver", "profile lean"] {
        assert!(screen.contains(text), "{text}: {screen}");
    }
    assert!(terminal.has_colours());
    // What would follow is said before it is done.
    terminal.press("/");
    terminal.press("shared");
    terminal.see("Space takes it out, and with it app/");
    terminal.press(ENTER);
    terminal.press(" ");
    terminal.see("Space puts it back");
    terminal.see("12 out");
    terminal.press("u");
    terminal.see("8 out");
    terminal.press("r");
    terminal.see("12 out");
    terminal.press("u");
    terminal.press(ESCAPE);
    // By category, and only what goes.
    terminal.press(LEFT);
    terminal.press(DOWN);
    terminal.see("out      card-games");
    terminal.press("m");
    terminal.see("only what goes");
    terminal.press("m");
    terminal.press(" ");
    terminal.see("7 out");
    terminal.press("q");
    terminal.see("Save?");
    terminal.press("x");
    terminal.press("s");
    assert_eq!(terminal.end(), 0);
    let after = fs::read_to_string(dir.join(STACK)).unwrap();
    let remove = |text: &str| text.parse::<toml::Table>().unwrap().remove("remove").unwrap();
    let wanted =
        ["feature/fax-receive", "feature/fax-send", "screensaver/lighthouse", "screensaver/rain-on-deck"];
    assert_eq!(remove(&after)["components"], toml::Value::from(wanted.to_vec()));
    assert_eq!(remove(&after)["keep"], toml::Value::from(vec!["app/chart-viewer", "app/card-games"]));
    // Nothing but the section has changed, and in it neither the profile nor what follows.
    let (head, tail) = before.split_once("components = ").unwrap();
    assert!(after.starts_with(head) && after.ends_with(tail.split_once("[settings]").unwrap().1), "{after}");
    // The plan says the same.
    let plan = json(&dir, &["plan", STACK, "--json"]);
    let goes = plan["editions_work"][0]["items"].as_array().unwrap().iter();
    let goes = goes.filter(|item| item["kind"] == "remove" && item["verdict"] == "applied").count();
    assert_eq!(goes, 7);
}

#[test]
fn other_pages_choose_features_and_editions_and_show_devices() {
    let (_guard, dir) = demo();
    let mut terminal = Terminal::start(&dir, &["pick", STACK, "--color", "never"], 100, 30);
    terminal.see("8 out, 4");
    assert!(!terminal.has_colours());
    terminal.press("2");
    terminal.see("is switched off");
    assert!(terminal.line("directory-play").starts_with("off"), "{}", terminal.screen());
    terminal.press(" ");
    terminal.see("stays as it is");
    terminal.press("3");
    let screen = terminal.see("1 of 3 editions kept");
    assert!(screen.contains("keep     Quay OS 7 Bridge"), "{screen}");
    terminal.press("/Kiosk\r ");
    terminal.see("2 of 3 editions kept");
    terminal.press("4");
    let screen = terminal.see("3 of 8 devices served");
    assert!(screen.contains("Harbour Logic IDE") && screen.contains("drivers/keelson-s4"), "{screen}");
    terminal.press("s");
    assert_eq!(terminal.end(), 0);
    let text = fs::read_to_string(dir.join(STACK)).unwrap();
    assert!(text.contains("editions = [\"Quay OS 7 Kiosk\", \"Quay OS 7 Bridge\"]"), "{text}");
    assert!(text.contains("features = { \"telex\" = true }"), "{text}");
    assert!(text.contains("components = [\"feature/fax*\", \"screensaver/*\"]"), "{text}");
}

#[test]
fn leaving_changes_nothing_and_small_terminals_are_told() {
    let (_guard, dir) = demo();
    let before = fs::read(dir.join(STACK)).unwrap();
    for keys in ["q", " qd", " \u{3}"] {
        let mut terminal = Terminal::start(&dir, &["pick", STACK], 80, 24);
        terminal.see("8 out, 4");
        terminal.press(keys);
        assert_eq!(terminal.end(), 0, "{keys:?}");
        terminal.see("nothing was changed");
        assert_eq!(fs::read(dir.join(STACK)).unwrap(), before);
    }
    let mut terminal = Terminal::start(&dir, &["pick", STACK], 50, 12);
    terminal.see("This needs 60 columns and 16 lines");
    terminal.press("q");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn the_mouse_chooses_too() {
    let (_guard, dir) = demo();
    let mut terminal = Terminal::start(&dir, &["pick", STACK], 80, 24);
    terminal.see("8 out, 4");
    // A click on the word before the second row: column 26, line 4 of the terminal.
    terminal.press("\x1b[<0;26;4M");
    terminal.see("10 out");
    terminal.press("\x1b[<0;4;5M");
    terminal.see_that("features alone", |screen| screen.contains("! fax-receive"));
    terminal.press("q");
    terminal.press("d");
    assert_eq!(terminal.end(), 0);
}

#[test]
fn profiles_and_an_earlier_choice() {
    let (_guard, dir) = demo();
    ok(&dir, &["build", STACK, "-q"]);
    let ledger = "out/bridge.ledger.json";
    let args = [
        "pick",
        "quay-os-7.iso",
        "--edition",
        "Quay OS 7 Bridge",
        "--catalogue",
        "quay.catalogue.toml",
        "-o",
        "new.stack.toml",
        "--since",
        ledger,
    ];
    let mut terminal = Terminal::start(&dir, &args, 100, 30);
    terminal.see("0 out, 0 bytes");
    terminal.press("d");
    let screen = terminal.see("only what differs from the earlier build");
    assert!(screen.contains("- ") && screen.contains("app/card-games"), "{screen}");
    terminal.press("d");
    terminal.press("p");
    terminal.see("Start from");
    terminal.press(DOWN);
    terminal.press(DOWN);
    terminal.press(ENTER);
    terminal.see("Starts from the profile lean.");
    terminal.press("s");
    assert_eq!(terminal.end(), 0);
    let text = fs::read_to_string(dir.join("new.stack.toml")).unwrap();
    assert!(text.contains("\n[remove]\nprofile = \"lean\"\n"), "{text}");
    // What a draft has commented out is still there.
    assert!(text.contains("# components = ["), "{text}");
}

#[test]
fn options_do_the_same_without_a_terminal() {
    let (_guard, dir) = demo();
    let before = fs::read_to_string(dir.join(STACK)).unwrap();
    let view = json(
        &dir,
        &["pick", STACK, "--remove", "app/shared-ui", "--put-back", "app/card-games", "--dry-run", "--json"],
    );
    assert_eq!(view["edition"], "Quay OS 7 Bridge");
    assert!(view["path"].is_null());
    let removed: Vec<&str> =
        view["removed"].as_array().unwrap().iter().map(|id| id.as_str().unwrap()).collect();
    // Card games need what windows are made of, so that comes back too.
    assert!(!removed.contains(&"app/card-games") && !removed.contains(&"app/shared-ui"), "{removed:?}");
    assert_eq!(fs::read_to_string(dir.join(STACK)).unwrap(), before);
    let text = ok(&dir, &["pick", STACK, "--profile", "none", "--remove", "font/*"]);
    assert!(text.contains("next is `neatstack plan bridge.stack.toml`"), "{text}");
    let after = fs::read_to_string(dir.join(STACK)).unwrap();
    assert!(!after.contains("profile = \"lean\"") && after.contains("\"font/"), "{after}");
    // Without a stack file the text is printed.
    let text = ok(&dir, &["pick", "quay-os-7.iso", "--edition", "2", "--remove", "app/card-games"]);
    assert!(
        text.starts_with("#:schema") && text.ends_with("[remove]\ncomponents = [\"app/card-games\"]\n"),
        "{text}"
    );
    let (code, said) = fails(&dir, &["pick", STACK, "--remove", "app/card-gmes"]);
    assert!(code == 2 && said.contains("did you mean app/card-games?"), "{said}");
    let (code, said) = fails(&dir, &["pick", STACK, "--profile", "leen"]);
    assert!(code == 2 && said.contains("no catalogue has a profile \"leen\""), "{said}");
    // What this edition does not have is said, and can be taken out.
    fs::write(dir.join(STACK), before.replace("\"screensaver/*\"", "\"screensaver/*\", \"app/gone\""))
        .unwrap();
    let view = json(&dir, &["pick", STACK, "--json"]);
    assert_eq!(view["unknown"], serde_json::json!(["app/gone"]));
    ok(&dir, &["pick", STACK, "--put-back", "app/gone", "--remove", "app/tide-data"]);
    assert!(!fs::read_to_string(dir.join(STACK)).unwrap().contains("app/gone"));
}
