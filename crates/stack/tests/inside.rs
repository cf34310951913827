//! What is done inside editions, compared with the media that it was done to.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

mod support;

use neat_content::Job;
use neat_stack::{Comparison, EditionComparison, Weight, compare};
use support::{Bench, DEMO, said};

const BRIDGE: &str = "Quay OS 7 Bridge";
const MEDIA: &str = "editions = [\"Quay OS 7 Bridge\"]\n";

/// What a recipe changes.
fn changed(rest: &str) -> (Bench, Comparison) {
    let bench = Bench::with_demo(&format!("{MEDIA}{rest}\n[media]\niso = \"b.iso\"\n"));
    bench.build();
    let comparison = compare(&DEMO.1, &bench.at("b.iso"), None, &Job::silent()).unwrap();
    (bench, comparison)
}

fn edition(comparison: &Comparison) -> &EditionComparison {
    comparison.editions.iter().find(|own| own.after == BRIDGE).unwrap()
}

/// Files with a sign, without the record of what was done.
fn files(comparison: &Comparison) -> Vec<String> {
    let all = edition(comparison).files.iter().filter(|own| !own.path.contains("Neat Stack/edition.json"));
    all.map(|own| {
        let sign = match (own.before, own.after) {
            (None, _) => '+',
            (_, None) => '-',
            _ => '~',
        };
        format!("{sign}{}", own.path)
    })
    .collect()
}

fn registry(comparison: &Comparison) -> Vec<&str> {
    edition(comparison).registry.lines().filter(|line| !line.is_empty()).skip(1).collect()
}

#[test]
fn keeping_an_edition_changes_nothing_in_it() {
    let (_bench, comparison) = changed("");
    assert!(edition(&comparison).is_same(), "{comparison:?}");
    assert_eq!(comparison.gone.len(), 2);
    assert!(comparison.new.is_empty());
}

#[test]
fn a_component_goes_with_its_own_files_and_nothing_of_others() {
    let (_bench, comparison) = changed("[remove]\ncomponents = [\"app/card-games\"]\n");
    let own = edition(&comparison);
    assert_eq!(own.gone, ["app/card-games"]);
    assert!(own.new.is_empty());
    let files = files(&comparison);
    assert!(!files.is_empty());
    // Hives are written anew where something is taken out of them.
    assert!(files.iter().all(|own| own.starts_with('-') || own.contains("/config/")), "{files:?}");
    assert!(own.bytes.1 < own.bytes.0);
}

#[test]
fn what_others_need_is_refused_or_goes_with_them() {
    let refused = Bench::with_demo(&format!(
        "{MEDIA}[remove]\ncomponents = [\"app/chart-viewer\"]\n[media]\niso = \"b.iso\"\n"
    ));
    let plan = refused.plan();
    assert!(plan.is_refused());
    assert!(said(&plan, Weight::Refused)[0].contains("app/chart-viewer"), "{:?}", plan.findings);
    let optional = "[remove]\noptional = true\ncomponents = [\"app/chart-viewer\"]\n";
    let (_bench, comparison) = changed(optional);
    assert!(edition(&comparison).is_same());
    let (_bench, comparison) =
        changed("[remove]\nwith_dependents = true\ncomponents = [\"app/chart-viewer\"]\n");
    assert_eq!(edition(&comparison).gone, ["app/chart-viewer", "app/radar-overlay"]);
    let kept = "[remove]\ncomponents = [\"app/*\"]\nkeep = [\"app/radar-overlay\"]\noptional = true\n";
    let (_bench, comparison) = changed(kept);
    let gone = &edition(&comparison).gone;
    assert!(
        gone.len() > 3 && !gone.iter().any(|own| own == "app/radar-overlay" || own == "app/chart-viewer"),
        "{gone:?}"
    );
}

#[test]
fn settings_change_the_values_that_they_say() {
    let (_bench, comparison) = changed(
        "[settings]\nservices = { \"PrintSpool\" = \"manual\" }\n\
         value = [{ key = 'HKLM\\SOFTWARE\\Brackwater\\Console', name = \"Volume\", value = 7 }]\n",
    );
    let registry = registry(&comparison);
    let after = |key: &str| {
        let at = registry.iter().position(|line| line.to_lowercase().ends_with(&format!("{key}]"))).unwrap();
        registry[at + 1..].iter().take_while(|line| !line.starts_with('[')).copied().collect::<Vec<_>>()
    };
    assert_eq!(after("services\\printspool"), ["\"Start\"=dword:00000003"]);
    assert_eq!(after("brackwater\\console"), ["\"Volume\"=dword:00000007"]);
    assert_eq!(registry.iter().filter(|line| line.starts_with('[')).count(), 2, "{registry:?}");
    // The same again finds everything in place.
    let text = "[settings]\nservices = { \"NoSuchService\" = \"manual\" }\n";
    let bench = Bench::with_demo(&format!("{MEDIA}{text}[media]\niso = \"b.iso\"\n"));
    let refused = bench.plan();
    assert!(said(&refused, Weight::Refused)[0].contains("NoSuchService"), "{:?}", refused.findings);
}

#[test]
fn registration_text_reaches_machine_and_new_accounts() {
    let (_bench, comparison) = changed("[settings]\nregistry = [\"site.reg\"]\n");
    let registry = registry(&comparison).join("\n");
    for line in [
        "\"Greeting\"=\"Welcome to the bridge\"",
        "\"Volume\"=dword:00000003",
        "\"Start\"=dword:00000002",
        "\"Tips\"=-",
    ] {
        assert!(registry.contains(line), "{line}: {registry}");
    }
}

#[test]
fn files_reach_the_system_the_setup_environment_and_the_media() {
    let (bench, comparison) = changed(
        "[[place]]\nfrom = \"site-files/telephone-list.txt\"\nto = \"system:/Brackwater/\"\n\
         [[place]]\nfrom = \"site-files/telephone-list.txt\"\nto = \"setup:/tools/list.txt\"\n\
         [[place]]\nfrom = \"site-files\"\nto = \"media:/brackwater\"\n",
    );
    assert_eq!(files(&comparison), ["+Brackwater/telephone-list.txt"]);
    let on_media: Vec<&str> =
        comparison.files.iter().filter(|own| own.before.is_none()).map(|own| own.path.as_str()).collect();
    assert!(on_media.contains(&"brackwater/telephone-list.txt"), "{on_media:?}");
    let media = neat_media::read::open(&bench.at("b.iso")).unwrap();
    let setup =
        neat_stack::open_image(&media.tree, &neat_stack::setup_image_path(&media.tree).unwrap()).unwrap();
    let boots = setup.files(setup.header().boot as usize).unwrap();
    assert!(boots.find("tools/list.txt").is_some());
}

#[test]
fn drivers_go_where_they_are_wanted_and_the_best_for_each_device() {
    let (_bench, comparison) = changed("[[driver]]\nfrom = \"drivers/keelson-s4\"\n");
    let all = files(&comparison);
    assert!(all.iter().any(|own| own.to_lowercase().ends_with("keelson.sys")), "{all:?}");
    // Of a folder with an older one and ones for other machines, what the list of devices asks for.
    let (_bench, comparison) = changed(
        "[[driver]]\nfrom = \"drivers\"\ndevices = \"bridge-console.devices.txt\"\noptional = true\n",
    );
    let chosen = files(&comparison);
    let has = |name: &str| chosen.iter().any(|own| own.to_lowercase().ends_with(name));
    assert!(has("keelson.sys") && has("lantern.sys") && has("rudder.sys"), "{chosen:?}");
    assert!(!has("barnacle.sys"), "{chosen:?}");
    // Of two of the same name the newer one.
    assert_eq!(
        chosen.iter().filter(|own| own.to_lowercase().ends_with("keelson.sys")).count(),
        1,
        "{chosen:?}"
    );
    // For another kind of machine nothing of a pack fits.
    let arm = Bench::with_demo(&format!(
        "{MEDIA}[[driver]]\nfrom = \"drivers/barnacle-arm\"\n[media]\niso = \"b.iso\"\n"
    ));
    let plan = arm.plan();
    assert!(!plan.is_refused());
    let item = &plan.editions_work[0].items[0];
    assert_eq!(item.detail, "it is for arm64, not for x64");
}

#[test]
fn updates_are_sorted_and_those_without_their_ground_are_left_out() {
    let (_bench, comparison) = changed("[[update]]\nfrom = \"updates\"\noptional = true\n");
    let own = edition(&comparison);
    assert!(own.version.as_ref().is_some_and(|(before, after)| before < after), "{:?}", own.version);
    let bench = Bench::with_demo(&format!(
        "{MEDIA}[[update]]\nfrom = \"updates/quay-7-2026-10.update.tar.zst\"\n[media]\niso = \"b.iso\"\n"
    ));
    let plan = bench.plan();
    assert!(
        said(&plan, Weight::Refused)[0].contains("it needs quay-7-servicing-2026-08"),
        "{:?}",
        plan.findings
    );
}

#[test]
fn a_build_on_what_was_built_has_nothing_left_to_do() {
    let rest = "[remove]\ncomponents = [\"app/card-games\"]\n[settings]\nregistry = [\"site.reg\"]\n\
        [[driver]]\nfrom = \"drivers/keelson-s4\"\n";
    let (first, _) = changed(rest);
    let text = format!("[source]\nmedia = \"again.iso\"\n{rest}[media]\niso = \"c.iso\"\n");
    let stack = neat_stack::StackFile::parse(&text).unwrap();
    let again = Bench { dir: Bench::with_demo("[media]\niso = \"c.iso\"\n").dir, text, stack };
    std::fs::copy(first.at("b.iso"), again.at("again.iso")).unwrap();
    again.build();
    let comparison = compare(&first.at("b.iso"), &again.at("c.iso"), None, &Job::silent()).unwrap();
    assert!(comparison.is_same(), "{comparison:?}");
}
