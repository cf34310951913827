//! Answers on media: where they lie, what is said of them, and what stops a build.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Tree;
use neat_stack::{PlanReport, Weight};
use std::{fs, os::unix::fs::PermissionsExt};
use support::{Bench, said};

const MEDIA: &str = "[media]\niso = \"b.iso\"\n";

fn text(tree: &Tree, path: &str) -> String {
    let content = tree.file(path).unwrap_or_else(|| panic!("no {path}"));
    String::from_utf8(content.to_vec(1 << 20, "file").unwrap()).unwrap()
}

fn built(bench: &Bench) -> Tree {
    bench.build();
    neat_media::read::open(&bench.at("b.iso")).unwrap().tree
}

fn answers(model: &str, section: &str) -> Bench {
    let bench = Bench::new(&format!("[answer]\nfile = \"a.answer.toml\"\n{section}\n{MEDIA}"));
    fs::write(bench.at("a.answer.toml"), format!("format = 1\n{model}")).unwrap();
    bench
}

fn findings(plan: &PlanReport) -> String {
    plan.findings.iter().map(|own| format!("{:?}: {} ({})\n", own.weight, own.message, own.hint)).collect()
}

#[test]
fn each_dialect_lies_where_its_setup_looks() {
    let model = "[machine]\nname = \"QUAY-1\"\n";
    for (dialect, path, wanted) in [
        ("unattend", "autounattend.xml", "<ComputerName>QUAY-1</ComputerName>"),
        ("preseed", "preseed.cfg", "netcfg/hostname string QUAY-1"),
        ("kickstart", "ks.cfg", "network --hostname=QUAY-1"),
        ("autoyast", "autoinst.xml", "<hostname>QUAY-1</hostname>"),
    ] {
        let bench = answers(model, &format!("dialects = [\"{dialect}\"]"));
        let plan = bench.plan();
        assert!(!plan.is_refused(), "{}", findings(&plan));
        // Only what a kernel starts must be told.
        assert_eq!(
            findings(&plan).contains("only when its kernel's command line says so"),
            dialect != "unattend"
        );
        let tree = built(&bench);
        assert!(text(&tree, path).contains(wanted));
        let notice = text(&tree, "neatstack/what-this-does.txt");
        assert!(notice.contains(&format!("With its {dialect} answers:")), "{notice}");
        assert!(!notice.contains("Do not leave it"), "{notice}");
    }
    let both = answers(model, "dialects = [\"unattend\", \"preseed\", \"kickstart\"]");
    let tree = built(&both);
    for path in ["autounattend.xml", "preseed.cfg", "ks.cfg"] {
        assert!(tree.file(path).is_some(), "{path}");
    }
}

#[test]
fn what_erases_says_so_and_must_be_meant() {
    let disk = "[[disk]]\nnumber = 0\nwipe = true\nscheme = \"gpt\"\n\
        partition = [{ kind = \"efi\", size = \"300MiB\" }, { kind = \"system\", size = \"rest\" }]\n";
    let plan = answers(disk, "").plan();
    assert!(plan.is_refused());
    let refused = said(&plan, Weight::Refused);
    assert!(refused[0].contains("erases everything on disk 0"), "{refused:?}");
    let bench = answers(&format!("erases = \"yes\"\n{disk}"), "");
    let plan = bench.plan();
    assert!(!plan.is_refused() && said(&plan, Weight::Danger).len() == 1, "{}", findings(&plan));
    let notice = text(&built(&bench), "neatstack/what-this-does.txt");
    assert!(notice.contains("erases everything on disk 0") && notice.contains("Do not leave it"), "{notice}");
    assert!(notice.lines().all(|line| notice.contains(&format!("{line}\r\n"))));
}

#[test]
fn a_problem_stops_until_its_topic_is_accepted() {
    for (model, topic) in [
        ("[machine]\nname = \"A-NAME-THAT-IS-TOO-LONG\"\n", "machine-name"),
        ("[language]\ntime_zone = \"Europe/Kopenhagen\"\n", "language"),
        ("[[account]]\nname = \"a\"\ngroups = [\"administrators\"]\n", "no-password"),
        ("[[account]]\nname = \"guest\"\n", "account"),
        ("[system]\nedition = \"Quay OS 7 Galley\"\n", "edition"),
        ("architectures = [\"arm64\"]\n[machine]\nname = \"A\"\n", "architecture"),
        ("[[command]]\nstage = \"first-start\"\nrun = \"x\"\n", "unsaid"),
        ("[[command]]\nstage = \"system-installed\"\nrun = \"cmd.exe /c D:\\\\gone.cmd\"\n", "not-on-media"),
    ] {
        let plan = answers(model, "").plan();
        let stops = findings(&plan);
        if topic == "not-on-media" && !plan.is_refused() {
            // A drive's letter says nothing of the media.
            continue;
        }
        assert!(plan.is_refused() && stops.contains(&format!("accept = [\"{topic}\"]")), "{topic}: {stops}");
        // Another topic is no help.
        assert!(answers(model, "accept = [\"product-key\"]").plan().is_refused(), "{topic}");
        for accepted in [
            answers(model, &format!("accept = [\"{topic}\"]")),
            answers(&format!("accept = [\"{topic}\"]\n{model}"), ""),
        ] {
            let plan = accepted.plan();
            assert!(!plan.is_refused(), "{topic}: {}", findings(&plan));
            assert!(!said(&plan, Weight::Problem).is_empty(), "it is shown all the same: {topic}");
        }
    }
}

#[test]
fn answers_with_passwords_make_a_media_for_its_owner_alone() {
    let account =
        "[[account]]\nname = \"helm\"\ngroups = [\"administrators\"]\npassword = { file = \"secret.txt\" }\n";
    let bench = answers(account, "");
    fs::write(bench.at("secret.txt"), "Harbour-7\n").unwrap();
    let outcome = bench.build();
    assert_eq!(fs::metadata(&outcome[0].main).unwrap().permissions().mode() & 0o077, 0);
    let ledger = fs::read_to_string(&outcome[0].ledger_path).unwrap();
    assert!(!ledger.contains("Harbour-7"), "{ledger}");
    // Without one, it is for everybody.
    let open = answers("[machine]\nname = \"A\"\n", "");
    assert_ne!(fs::metadata(&open.build()[0].main).unwrap().permissions().mode() & 0o044, 0);
    // A file that is not there is an error, not an empty password.
    let missing = answers(account, "");
    assert!(missing.error().contains("secret.txt"), "{}", missing.error());
}

#[test]
fn one_media_for_many_machines_has_the_answers_of_each() {
    let model = "erases = \"yes\"\n[machine]\nname = \"{name}\"\n[language]\nsetup = \"{tongue}\"\n";
    for (dialect, ending, chooser) in [
        ("unattend", "xml", "neatstack/choose.cmd"),
        ("preseed", "cfg", "preseed.cfg"),
        ("kickstart", "ks", "ks.cfg"),
        ("autoinstall", "yaml", "user-data"),
        ("autoyast", "xml", "autoinst.xml"),
    ] {
        let section = format!(
            "dialects = [\"{dialect}\"]\naccept = [\"asks\", \"dialect\"]\n[[variant]]\nsites = \"m.csv\"\nanswers_only = true"
        );
        let bench = answers(model, &section);
        fs::write(bench.at("m.csv"), "name,serial,tongue\nDECK-1,bf 1,nb-NO\nDECK-2,BF-2,en-GB\n").unwrap();
        let plan = bench.plan();
        assert!(!plan.is_refused(), "{dialect}: {}", findings(&plan));
        let tree = built(&bench);
        assert!(tree.file(chooser).is_some(), "{dialect}");
        for (serial, name) in [("BF1", "DECK-1"), ("BF-2", "DECK-2")] {
            let own = text(&tree, &format!("neatstack/sites/{serial}.{ending}"));
            assert!(own.contains(name), "{dialect}: {own}");
        }
    }
    let bench = answers(model, "[[variant]]\nsites = \"m.csv\"\nanswers_only = true");
    fs::write(bench.at("m.csv"), "name,serial,tongue\nDECK-1,To be filled by O.E.M.,nb-NO\n").unwrap();
    assert!(bench.plan().is_refused(), "{}", findings(&bench.plan()));
}

#[test]
fn the_media_of_each_machine_is_checked_before_the_first_is_written() {
    let model = "[machine]\nname = \"{name}\"\n[system]\nedition = \"{edition}\"\n";
    let section = "[[variant]]\nsites = \"m.csv\"\n[media]\niso = \"out/{name}.iso\"\n";
    let bench = Bench::new(&format!("[answer]\nfile = \"a.answer.toml\"\n{section}"));
    fs::write(bench.at("a.answer.toml"), format!("format = 1\n{model}")).unwrap();
    let list = |rows: &str| fs::write(bench.at("m.csv"), format!("name,edition\n{rows}")).unwrap();
    list("DECK-1,Quay OS 7 Bridge\nDECK-2,Quay OS 7 Kiosk\n");
    assert!(!bench.plan().is_refused(), "{}", findings(&bench.plan()));
    list("DECK-1,Quay OS 7 Bridge\nA-NAME-MUCH-TOO-LONG,Quay OS 7 Kiosk\n");
    let plan = bench.plan();
    assert!(plan.is_refused() && findings(&plan).contains("row 3"), "{}", findings(&plan));
    list("DECK-1,Quay OS 7 Bridge\nDECK-1,Quay OS 7 Kiosk\n");
    assert!(findings(&bench.plan()).contains("row 3"), "{}", findings(&bench.plan()));
    assert!(!bench.at("out").exists());
}
