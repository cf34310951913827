//! Vendors' packages, and the cabinets that they and driver packs come in.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

use neat_content::{Content, Job, Meta, Timestamp, Tree};
use neat_package::{
    Architecture, Identity, Outcome, Pack, PackageManifest, VendorForm, VendorPackage, VendorTarget,
    order_vendors,
};
use neat_testing::packs::{cabinet, program, raw_cabinet};
use std::io::{Cursor, Read};

const NOW: Timestamp = Timestamp::from_seconds(1_700_000_000);
const MSZIP: cab::CompressionType = cab::CompressionType::MsZip;

/// A manifest: name and version, attributes of the package, what is in it.
fn manifest(name: &str, version: &str, package: &str, inside: &str) -> Vec<u8> {
    format!(
        "\u{feff}<?xml version=\"1.0\" encoding=\"utf-8\"?>\r\n<assembly xmlns=\"urn:schemas:asm.v3\">\r\n  <assemblyIdentity \
         name=\"{name}\" version=\"{version}\" language=\"neutral\"\r\n    processorArchitecture=\"amd64\" \
         publicKeyToken=\"0123456789abcdef\" />\r\n  <package {package}>{inside}</package>\r\n</assembly>"
    )
    .into_bytes()
}

fn parent(attributes: &str, identities: &[(&str, &str)]) -> String {
    let identities = identities.iter().map(|(name, version)| {
        format!("<assemblyIdentity name=\"{name}\" version=\"{version}\" processorArchitecture=\"amd64\"/>")
    });
    format!("<parent {attributes}>{}</parent>", identities.collect::<String>())
}

fn open(bytes: Vec<u8>) -> VendorPackage {
    VendorPackage::of_content(&Content::from_bytes(bytes)).unwrap().expect("a package")
}

fn bytes_of(content: &Content) -> Vec<u8> {
    content.to_vec(1 << 30, "").unwrap()
}

/// An image file with these files.
fn image(files: &[(&str, Vec<u8>)]) -> Vec<u8> {
    let mut tree = Tree::new(Meta::at(NOW));
    for (path, bytes) in files {
        tree.put_file(path, Content::from_bytes(bytes.clone()), Meta::at(NOW)).unwrap();
    }
    let mut draft = neat_image::ImageDraft::new(None);
    let captured = neat_image::capture::from_tree(&tree, &Job::silent()).unwrap();
    for (digest, content) in captured.blobs {
        draft.add_blob(digest, content);
    }
    draft.add_edition(captured.files, neat_image::capture::image_element("package", "", 0)).unwrap();
    bytes_of(&draft.to_content(&std::env::temp_dir(), 1, &Job::silent()).unwrap())
}

#[test]
fn packages_are_recognised_in_every_kind_of_file() {
    let own = manifest("Package_for_QB900112", "7.0.1.4", "identifier=\"QB900112\" restart=\"possible\"", "");
    let inner = cabinet(&[("update.mum", own.clone()), ("a.dll", vec![1; 9])], MSZIP);
    let package = open(inner.clone());
    let identity = &package.main.manifest.identity;
    assert_eq!((identity.name.as_str(), identity.version.as_str()), ("Package_for_QB900112", "7.0.1.4"));
    assert_eq!((identity.architecture(), identity.language()), (Some(Architecture::X64), None));
    assert_eq!(package.main.manifest.identifier, "QB900112");
    assert_eq!((package.form, package.main.inside.len()), (VendorForm::Cabinet, 0));
    // In a cabinet, beside one that only helps to find out what is wanted and one that installs others.
    let stack = manifest("Package_for_ServicingStack_7", "7.0.9.1", "releaseType=\"Update\"", "");
    let stack = cabinet(&[("update.mum", stack)], MSZIP);
    let scan = cabinet(&[("update.mum", manifest("SCAN", "1", "", ""))], MSZIP);
    let outer = cabinet(
        &[
            ("scan.cab", scan.clone()),
            ("QB900112-x64.cab", inner.clone()),
            ("notes.txt", vec![2]),
            ("z-stack.cab", stack.clone()),
        ],
        cab::CompressionType::None,
    );
    let bundle = open(outer.clone());
    assert_eq!(
        (bundle.form, &bundle.main.inside),
        (VendorForm::Bundle, &vec!["QB900112-x64.cab".to_owned()])
    );
    assert!(bytes_of(bundle.main.cabinet.as_ref().unwrap()) == inner);
    let order: Vec<&str> = bundle.packages().map(|own| own.manifest.identity.name.as_str()).collect();
    assert_eq!(order, ["Package_for_ServicingStack_7", "Package_for_QB900112"]);
    // In a program.
    let carried = open(program(&outer));
    assert_eq!((carried.form, carried.main.manifest == bundle.main.manifest), (VendorForm::Program, true));
    for other in [
        cabinet(&[("x", vec![1])], cab::CompressionType::None),
        program(&cabinet(&[("setup.inf", vec![1])], MSZIP)),
        program(b"nothing"),
        b"text".to_vec(),
        vec![],
    ] {
        assert!(VendorPackage::of_content(&Content::from_bytes(other)).unwrap().is_none());
    }
    // The newer kind is an image file, with the manifest in it, or in what it holds.
    let with_manifest = image(&[("update.mum", own.clone()), ("a/b.dll", vec![3; 99])]);
    for (files, inside, has_patches, is_cabinet) in [
        (vec![("Update.MUM", own)], vec![], false, false),
        (vec![("wsusscan.cab", scan), ("QB900112.cab", inner)], vec!["QB900112.cab"], false, true),
        (
            vec![("SSU-7.cab", stack), ("QB900112.wim", with_manifest), ("QB900112.psf", vec![5; 40])],
            vec!["QB900112.wim"],
            true,
            false,
        ),
    ] {
        let found = open(image(&files));
        assert_eq!((found.form, found.has_patches), (VendorForm::ImageFile, has_patches));
        assert_eq!(
            (&found.main.manifest.identity, &found.main.inside),
            (identity, &inside.iter().map(|own| (*own).to_owned()).collect())
        );
        assert_eq!(found.main.cabinet.is_some(), is_cabinet);
    }
    let plain = Content::from_bytes(image(&[("notes.txt", vec![1])]));
    assert!(VendorPackage::of_content(&plain).unwrap().is_none());
}

#[test]
fn manifests_say_what_a_package_needs_replaces_and_brings_also_nested_ones() {
    let inside = format!(
        "{}<supersedes><assemblyIdentity name=\"Old\" version=\"6\"/></supersedes><update name=\"Telex &amp; fax\" \
         displayName=\"$(string.telex)\"><package><assemblyIdentity name=\"Nested\" version=\"7.0.1.4\"/></package></update>\
         <update name=\"plain\"><component><assemblyIdentity name=\"Quay-Telex-Core\" version=\"7.0.1.4\" \
         processorArchitecture=\"amd64\" publicKeyToken=\"0123456789abcdef\" language=\"neutral\"/></component></update>",
        parent("buildCompare=\"EQ\"", &[("Quay-Core", "7.0.7042.0"), ("Quay-Bridge", "7.0.7042.0")])
    );
    let outer = manifest("Outer", "7.0.1.4", "", &inside);
    let nested = manifest("Nested", "7.0.1.4", "", &parent("", &[("Quay-Console", "")]));
    let package =
        open(cabinet(&[("update.mum", outer), ("nested_1.mum", nested), ("x.cat", vec![9])], MSZIP));
    let own = &package.main.manifest;
    let features: Vec<(&str, bool)> =
        own.features.iter().map(|own| (own.name.as_str(), own.is_shown)).collect();
    assert_eq!(features, [("Telex & fax", true), ("plain", false)]);
    assert_eq!(
        (own.replaces[0].to_string(), own.components[0].name.as_str()),
        ("Old 6".into(), "Quay-Telex-Core")
    );
    assert_eq!(package.main.nested.len(), 1);
    let wanted: Vec<String> =
        package.parents().flat_map(|own| own.any_of.iter().map(ToString::to_string)).collect();
    assert_eq!(wanted, ["Quay-Core 7.0.7042.0", "Quay-Bridge 7.0.7042.0", "Quay-Console"]);
    let parent = &own.parents[0];
    let there =
        |version: &str| Identity { name: "quay-core".into(), version: version.into(), ..Identity::default() };
    for (version, is_met) in [
        ("7.0.7042.0", true),
        ("7.0.7042.9", true),
        ("7.0.7043.0", false),
        ("7.0.7041.9", false),
        ("7.1.7042.0", false),
    ] {
        assert_eq!(parent.is_met_by(&there(version)), is_met, "{version}");
    }
    let later = neat_package::Parent { exact_build: false, ..parent.clone() };
    assert!(later.is_met_by(&there("7.0.7050.0")) && !later.is_met_by(&there("7.0.7041.0")));
    let exact = neat_package::Parent { exact_revision: true, ..parent.clone() };
    assert!(exact.is_met_by(&there("7.0.7042.0")) && !exact.is_met_by(&there("7.0.7042.1")));
    // Other languages and architectures are others.
    let own = Identity { language: "nb-NO".into(), ..there("7.0.7042.0") };
    assert!(parent.is_met_by(&own), "wanted in no language is met by any");
    assert!(!parent.is_met_by(&Identity { architecture: "arm64".into(), ..there("7.0.7042.0") }));
    let broken = b"<assembly><assemblyIdentity name=\"one&#10;two&#13;\"/></assembly>";
    assert_eq!(PackageManifest::read(broken).unwrap().unwrap().identity.name, "onetwo");
    assert!(PackageManifest::read(b"<assembly/>").unwrap().is_none());
    assert!(PackageManifest::read(b"<assembly").is_err());
}

/// A package alone in its cabinet.
fn package(name: &str, version: &str, attributes: &str, inside: &str) -> VendorPackage {
    open(cabinet(&[("update.mum", manifest(name, version, attributes, inside))], MSZIP))
}

fn target(records: &[&str]) -> VendorTarget {
    VendorTarget {
        architecture: Some(Architecture::X64),
        languages: vec!["en-GB".into()],
        records: records.iter().map(|own| Identity::of_record(own).unwrap()).collect(),
    }
}

fn order(packages: &[VendorPackage], target: &VendorTarget) -> (Vec<String>, Vec<String>) {
    let all: Vec<&VendorPackage> = packages.iter().collect();
    let ordered = order_vendors(&all, target);
    let name = |n: usize| packages[n].main.manifest.identity.to_string();
    let why = ordered.outcomes.iter().enumerate().filter_map(|(n, outcome)| match outcome {
        Outcome::Applied(_) => None,
        Outcome::Skipped(why) => Some(format!("{} skipped: {why}", name(n))),
        Outcome::Refused(why) | Outcome::Elsewhere(why) => Some(format!("{}: {why}", name(n))),
    });
    (ordered.order.iter().map(|n| name(*n)).collect(), why.collect())
}

#[test]
fn packages_go_in_by_what_they_go_into_and_checkpoints_first() {
    let core = parent("buildCompare=\"EQ\"", &[("Quay-Core", "7.0.7042.0")]);
    let checkpoint = parent("", &[("Rollup", "7.0.7042.100")]);
    let mut packages = vec![
        package("Rollup", "7.0.7042.300", "", &format!("{core}{checkpoint}")),
        package("Rollup", "7.0.7042.200", "", &core),
        package("Rollup", "7.0.7042.100", "", &core),
        package("Rollup", "7.0.7042.300", "", &format!("{core}{checkpoint}")),
        package("Fix", "1", "", &parent("", &[("Rollup", "7.0.7042.300")])),
        package("Stack_ServicingStack", "7.0.1.1", "", ""),
        package("Elsewhere", "1", "", &parent("", &[("Harbour-Core", "7.0.7042.0"), ("Harbour-Lite", "")])),
        package("In", "2", "", ""),
        package("Older", "1", "", ""),
        package("Replaced", "5", "", ""),
        package(
            "Replacer",
            "1",
            "",
            "<supersedes><assemblyIdentity name=\"Replaced\" version=\"6\"/></supersedes>",
        ),
    ];
    let edition = target(&[
        "Quay-Core~0123456789abcdef~amd64~~7.0.7042.3",
        "In~0123456789abcdef~amd64~~2",
        "Older~0123456789abcdef~amd64~~3.0.0.0",
    ]);
    let (went, why) = order(&packages, &edition);
    assert_eq!(
        went,
        ["Stack_ServicingStack 7.0.1.1", "Replacer 1", "Rollup 7.0.7042.200", "Rollup 7.0.7042.300", "Fix 1",],
        "the highest that another must have before it"
    );
    assert_eq!(
        why,
        [
            "Rollup 7.0.7042.300 skipped: Rollup 7.0.7042.300 is the same",
            "Rollup 7.0.7042.100 skipped: Rollup 7.0.7042.200 is newer",
            "Elsewhere 1: it goes into Harbour-Core 7.0.7042.0 or Harbour-Lite, which is neither in the edition nor among the \
             packages that go in",
            "In 2 skipped: it is in the edition already",
            "Older 1 skipped: the edition has Older 3.0.0.0 already",
            "Replaced 5 skipped: Replacer 1 replaces it",
        ]
    );
    // In whatever order they are given.
    packages.reverse();
    assert_eq!(order(&packages, &edition).0, went);
    // A checkpoint that is in already need not be there; one that is nowhere holds up what needs it.
    let late = [package("Rollup", "7.0.7042.300", "", &format!("{core}{checkpoint}"))];
    let with = target(&["Quay-Core~~amd64~~7.0.7042.3", "Rollup~~amd64~~7.0.7042.150"]);
    assert_eq!(order(&late, &with).0, ["Rollup 7.0.7042.300"]);
    let (went, why) = order(&late, &edition);
    assert!(went.is_empty() && why[0].contains("it goes into Rollup 7.0.7042.100"), "{why:?}");
    // An edition without records cannot say what it has: setup decides.
    assert_eq!(order(&late, &target(&[])).0, ["Rollup 7.0.7042.300"]);
}

#[test]
fn architectures_and_languages_of_packages_must_fit() {
    let text = |name: &str, from: &str, to: &str, attributes: &str| {
        let text = String::from_utf8(manifest(name, "1", attributes, "")).unwrap().replace(from, to);
        open(cabinet(&[("update.mum", text.into_bytes())], MSZIP))
    };
    let packages = [
        text("Arm", "amd64", "arm64", ""),
        text("Norsk", "neutral", "nb-NO", ""),
        text("Engelsk", "neutral", "en-gb", ""),
        text("Pack", "neutral", "nb-NO", "releaseType=\"Language Pack\""),
    ];
    let (went, why) = order(&packages, &target(&[]));
    assert_eq!(went, ["Engelsk 1", "Pack 1"]);
    assert_eq!(
        why,
        [
            "Arm 1: it is for arm64, and the edition is x64",
            "Norsk 1: it is for nb-NO, and the edition has en-GB"
        ]
    );
}

/// Every file of a cabinet as the library reads it by name.
fn by_the_library(bytes: &[u8], name: &str) -> Vec<u8> {
    let mut cabinet = cab::Cabinet::new(Cursor::new(bytes)).unwrap();
    let mut found = Vec::new();
    cabinet.read_file(name).unwrap().read_to_end(&mut found).unwrap();
    found
}

#[test]
fn files_of_a_cabinet_come_from_wherever_they_lie() {
    let first: Vec<u8> = (0..3_500_u32).map(|n| (n * 7) as u8).collect();
    let second: Vec<u8> = (0..2_100_u32).map(|n| (n * 13) as u8).collect();
    // In two folders, not in the order of their bytes, with gaps between them, two names for the same bytes, and empty ones.
    let files = [
        ("late.sys", 1, 900, 1_200),
        ("b\\mid.dll", 0, 1_999, 1_001),
        ("a.inf", 0, 10, 500),
        ("empty.txt", 0, 700, 0),
        ("twin.dll", 0, 1_999, 1_001),
        ("first.bin", 1, 0, 400),
        ("none.txt", 1, 2_100, 0),
    ];
    let bytes = raw_cabinet(&[&first, &second], &files);
    let pack = Pack::of_content(&Content::from_bytes(bytes.clone()), NOW).unwrap();
    for (name, folder, offset, len) in files {
        let id = pack.tree.find(&name.replace('\\', "/")).unwrap_or_else(|| panic!("no {name}"));
        let node = pack.tree.node(id);
        let expected = &[&first, &second][folder as usize][offset as usize..][..len as usize];
        assert!(bytes_of(node.content().unwrap()) == expected, "{name}");
        assert!(by_the_library(&bytes, name) == expected, "{name}");
        // 2026-02-03 04:05:06.
        assert_eq!(node.meta.modified.seconds, 1_770_091_506, "{name}");
    }
    // What lies half in another is no cabinet that anybody makes.
    let halves = raw_cabinet(&[&first], &[("a", 0, 0, 600), ("b", 0, 599, 10)]);
    let error = Pack::of_content(&Content::from_bytes(halves), NOW).unwrap_err();
    assert!(error.to_string().contains("b lies half in another file"), "{error}");
    // Half of it is enough to read what is wanted; the rest is not believed.
    let long = raw_cabinet(&[&first], &[("a", 0, 3_000, 501)]);
    assert!(
        Pack::of_content(&Content::from_bytes(long), NOW).unwrap_err().to_string().contains("3500 bytes")
    );
}
