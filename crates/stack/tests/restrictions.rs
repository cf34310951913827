//! What a media allows setup to do: said, set aside, brought back.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Tree;
use neat_media::read;
use neat_stack::{Weight, restrictions};
use std::{fs, path::Path};
use support::{Bench, said};

const EDITION: &str = "[EditionID]\r\nBridge\r\n[Channel]\r\nOEM\r\n[VL]\r\n0\r\n";
const RELEASE: &str = "[HostBuild]\r\nMinClient=7000.0\r\nMinServer=6500.0\r\n";

/// A media with the demo's files and these in `sources`.
fn source(files: &[(&str, &str)]) -> Bench {
    let places: String = files
        .iter()
        .map(|(name, _)| {
            format!("[[place]]\nfrom = {name:?}\nto = \"media:/sources/{name}\"\nreplace = true\n")
        })
        .collect();
    let bench = Bench::new(&format!("{places}[media]\niso = \"t.iso\"\n"));
    for (name, text) in files {
        fs::write(bench.at(name), text).unwrap();
    }
    bench.build();
    bench
}

/// The media at `from` with `[setup]` saying this.
fn serviced(from: &Path, setup: &str) -> Bench {
    let bench = Bench::new(&format!("[setup]\n{setup}\n[media]\niso = \"t.iso\"\n"));
    bench.changed("quay.iso", &from.display().to_string())
}

fn tree(bench: &Bench) -> Tree {
    read::open(&bench.at("t.iso")).unwrap().tree
}

fn text(tree: &Tree, path: &str) -> Option<String> {
    tree.file(path).map(|content| String::from_utf8(content.to_vec(1 << 16, "text").unwrap()).unwrap())
}

#[test]
fn a_plan_says_what_a_media_restricts() {
    let plain = restrictions(&tree(&source(&[])));
    assert_eq!(plain, ["setup upgrades from release 6500.0 on (sources/cversion.ini)"]);
    let key = "[PID]\r\nValue=SECRET-OF-THE-HARBOUR\r\n";
    let bench = source(&[("ei.cfg", EDITION), ("pid.txt", key), ("cversion.ini", RELEASE)]);
    let said = serviced(&bench.at("t.iso"), "").plan().source.unwrap().restrictions;
    assert_eq!(
        said,
        [
            "setup offers the edition Bridge alone, with keys of the channel OEM (sources/ei.cfg)",
            "setup takes the product key in sources/pid.txt",
            "setup upgrades from release 7000.0 or 6500.0 on (sources/cversion.ini)",
        ]
    );
    assert!(!said.concat().contains("HARBOUR"));
}

#[test]
fn setup_asks_for_the_edition_and_no_longer() {
    let key = "[PID]\r\nValue=X\r\n";
    let bench = source(&[("ei.cfg", EDITION), ("pid.txt", key), ("cversion.ini", RELEASE)]);
    let open = serviced(&bench.at("t.iso"), "ask_edition = true\nupgrade_any = true");
    open.build();
    let own = tree(&open);
    assert_eq!(text(&own, "sources/ei.cfg").unwrap(), "[Channel]\r\nOEM\r\n[VL]\r\n0\r\n");
    assert!(own.file("sources/pid.txt").is_none() && own.file("sources/cversion.ini").is_none());
    assert_eq!(
        restrictions(&own),
        ["setup asks for the edition, with keys of the channel OEM (sources/ei.cfg)"]
    );
    // Once more changes nothing.
    let again = serviced(&open.at("t.iso"), "ask_edition = true\nupgrade_any = true");
    again.build();
    assert_eq!(text(&tree(&again), "neatstack/set-aside/sources/ei.cfg").as_deref(), Some(EDITION));
    // And back.
    let back = serviced(&again.at("t.iso"), "ask_edition = false\nupgrade_any = false");
    back.build();
    let own = tree(&back);
    for (path, wanted) in
        [("sources/ei.cfg", EDITION), ("sources/pid.txt", key), ("sources/cversion.ini", RELEASE)]
    {
        assert_eq!(text(&own, path).as_deref(), Some(wanted), "{path}");
    }
    assert!(
        own.find("neatstack")
            .is_none_or(|id| own.node(id).folder().is_some_and(neat_content::Folder::is_empty))
    );
}

#[test]
fn a_media_without_restrictions_gets_what_makes_setup_ask() {
    let bench = source(&[]);
    let open = serviced(&bench.at("t.iso"), "ask_edition = true\nupgrade_any = true");
    let open = open.changed("[media]", "[[leave_out]]\npaths = [\"media:/sources/cversion.ini\"]\n[media]");
    let notes = open.plan();
    assert!(said(&notes, Weight::Note).iter().any(|own| own.contains("there is no sources/cversion.ini")));
    open.build();
    assert_eq!(text(&tree(&open), "sources/ei.cfg").unwrap(), "[Channel]\r\nRetail\r\n[VL]\r\n0\r\n");
    // Back there is none again.
    let back = serviced(&open.at("t.iso"), "ask_edition = false");
    back.build();
    assert!(
        tree(&back).find("sources/ei.cfg").is_none() && tree(&back).find("neatstack/set-aside").is_none()
    );
    let plan = serviced(&bench.at("t.iso"), "ask_edition = false\nupgrade_any = false").plan();
    let notes = said(&plan, Weight::Note);
    assert_eq!(notes.iter().filter(|own| own.contains("nothing was set aside")).count(), 2, "{notes:?}");
}
