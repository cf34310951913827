//! Where each dialect's installer looks for its answers, what a kernel is told, and what is asked of names there.

#![allow(clippy::unwrap_used, clippy::panic, reason = "a test that cannot go on has failed")]

use neat_answer::{
    AnswersAt, Dialect, Gravity, MediaFacts, Model, Secrets, SiteList, answer_files, check_file,
    tree_holds_secret, write_model,
};
use neat_content::{Content, Meta, Timestamp, Tree};

const LINUX: [Dialect; 3] = [Dialect::Preseed, Dialect::Kickstart, Dialect::Autoinstall];

fn options(dialect: Dialect, at: AnswersAt<'_>) -> Vec<String> {
    dialect.kernel().unwrap().options(&at)
}

#[test]
fn a_kernel_is_told_where_its_answers_are() {
    let root = AnswersAt::Media { folder: "", label: "DECK 7" };
    let inside = AnswersAt::Media { folder: "systems/deck/", label: "DECK 7" };
    let folder = AnswersAt::Address("http://10.0.0.1/deck/user-data");
    let file = AnswersAt::Address("http://10.0.0.1/deck.cfg");
    for (dialect, at, wanted) in [
        (Dialect::Preseed, AnswersAt::Initrd, "priority=critical"),
        (Dialect::Preseed, root, "auto=true priority=critical file=/cdrom/preseed.cfg"),
        (Dialect::Preseed, inside, "auto=true priority=critical file=/cdrom/systems/deck/preseed.cfg"),
        (Dialect::Preseed, file, "auto=true priority=critical url=http://10.0.0.1/deck.cfg"),
        (Dialect::Kickstart, AnswersAt::Initrd, "inst.ks=file:/ks.cfg"),
        (Dialect::Kickstart, root, "inst.ks=hd:LABEL=DECK\\x207:/ks.cfg"),
        (Dialect::Kickstart, inside, "inst.ks=hd:LABEL=DECK\\x207:/systems/deck/ks.cfg"),
        (Dialect::Kickstart, file, "inst.ks=http://10.0.0.1/deck.cfg"),
        (Dialect::Autoinstall, root, "autoinstall ds=nocloud;s=/cdrom/"),
        (Dialect::Autoinstall, inside, "autoinstall ds=nocloud;s=/cdrom/systems/deck/"),
        // The source is the folder, however the file was named.
        (Dialect::Autoinstall, folder, "autoinstall ds=nocloud;s=http://10.0.0.1/deck/"),
    ] {
        assert_eq!(options(dialect, at).join(" "), wanted, "{dialect:?} {at:?}");
    }
    // Setup of install images is started by no kernel of ours, and finds its file by itself.
    assert!(Dialect::Unattend.kernel().is_none() && Dialect::Unattend.option_for_root().is_none());
    for dialect in LINUX {
        let kernel = dialect.kernel().unwrap();
        // The file on the media is one that is looked for there, and one word of the option names its place.
        assert!(dialect.places().contains(&kernel.file), "{dialect:?}");
        assert!(dialect.option_for_root().unwrap().contains("cdrom"), "{dialect:?}");
        assert!(kernel.initrd_name.is_none_or(|name| name == kernel.file), "{dialect:?}");
    }
    assert!(Dialect::Autoinstall.kernel().unwrap().initrd_name.is_none());
    assert_eq!(Dialect::Autoinstall.companions(), ["meta-data"]);
}

fn tree(files: &[(&str, &str)]) -> Tree {
    let meta = Meta::at(Timestamp::from_seconds(1_700_000_000));
    let mut tree = Tree::new(meta);
    for (path, text) in files {
        tree.put_file(path, Content::from_bytes(text.as_bytes()), meta).unwrap();
    }
    tree
}

#[test]
fn answers_on_a_media_are_found_where_setup_finds_them() {
    let tree = tree(&[
        ("sources/Unattend.xml", "<unattend/>"),
        ("AUTOUNATTEND.XML", "<unattend/>"),
        ("ks.cfg", ""),
        ("support/preseed.cfg", ""),
        ("user-data", ""),
    ]);
    let found: Vec<(String, Dialect)> = answer_files(&tree);
    let names: Vec<(&str, Dialect)> = found.iter().map(|(path, own)| (path.as_str(), *own)).collect();
    assert_eq!(
        names,
        [
            ("AUTOUNATTEND.XML", Dialect::Unattend),
            ("sources/Unattend.xml", Dialect::Unattend),
            ("ks.cfg", Dialect::Kickstart),
            ("user-data", Dialect::Autoinstall),
        ]
    );
    // Of two of a kind the second is never read, and that is said.
    let model = Model::parse("[machine]\nname = \"DECK\"\n").unwrap();
    let written = write_model(&model, Dialect::Unattend, &mut Secrets::default()).unwrap();
    let report = check_file(&written.file().unwrap(), Some(&MediaFacts::of_tree(&tree)));
    let said = report.findings.iter().find(|own| own.field == "media").unwrap();
    assert!(
        said.message.contains("AUTOUNATTEND.XML wins, sources/Unattend.xml is never read"),
        "{}",
        said.message
    );
}

#[test]
fn what_chooses_among_answers_reads_their_folder() {
    // Nothing runs before the older generation reads its answers.
    assert!(Dialect::Sif.chooser().is_none());
    for dialect in Dialect::ALL.iter().filter(|own| **own != Dialect::Sif) {
        let chooser = dialect.chooser().unwrap();
        let first = &chooser.files[0];
        assert_eq!(first.path, dialect.place(), "{dialect:?}");
        let all: String =
            chooser.files.iter().map(|own| String::from_utf8(own.bytes.clone()).unwrap()).collect();
        // Named by its folder, or, on the media's own drive, by the part below the script.
        let (folder, ending) = (chooser.folder, chooser.ending);
        let below = folder.rsplit('/').next().unwrap();
        assert!(
            all.contains(&format!("{folder}/")) || all.contains(&format!("{below}\\")),
            "{dialect:?}: {all}"
        );
        assert!(all.contains(ending), "{dialect:?}: {all}");
        // What chooses is taken for no other dialect, and holds no secret.
        let taken_for = Dialect::of_text(std::str::from_utf8(&first.bytes).unwrap());
        assert!(taken_for.is_none_or(|own| own == *dialect), "{taken_for:?}: {all}");
        let path = format!("{folder}/A1{ending}");
        let mut media = tree(&[]);
        for own in &chooser.files {
            let meta = Meta::at(Timestamp::from_seconds(0));
            media.put_file(&own.path, Content::from_bytes(own.bytes.as_slice()), meta).unwrap();
        }
        assert!(!tree_holds_secret(&media).unwrap(), "{dialect:?}");
        // One of those that are chosen may.
        let secret = "d-i passwd/root-password password anchor\n";
        media
            .put_file(&path, Content::from_bytes(secret.as_bytes()), Meta::at(Timestamp::from_seconds(0)))
            .unwrap();
        assert!(tree_holds_secret(&media).unwrap(), "{dialect:?}");
    }
}

#[test]
fn names_are_as_long_as_the_systems_of_a_dialect_take_them() {
    let name = "DECK-CONSOLE-OF-THE-FERRY";
    let model =
        Model::parse(&format!("[machine]\nname = \"{name}\"\n[language]\ntime_zone = \"Europe/Oslo\"\n"))
            .unwrap();
    let list = SiteList::parse(&format!("name\n{name}\n")).unwrap();
    for dialect in Dialect::ALL {
        let written = write_model(&model, *dialect, &mut Secrets::default()).unwrap();
        let report = check_file(&written.file().unwrap(), None);
        let is_long = |message: &str| message.contains("has 25 characters, and 15 is the most");
        let said = report.findings.iter().any(|own| own.gravity == Gravity::Problem && is_long(&own.message));
        assert_eq!(said, dialect.has_short_names(), "{dialect:?}: {:?}", report.findings);
        let rows = list.check(None, Some(*dialect));
        assert_eq!(rows.iter().any(|own| is_long(&own.message)), dialect.has_short_names(), "{rows:?}");
    }
    // Nobody knows the dialect: the strictest counts.
    assert!(list.check(None, None).iter().any(|own| own.message.contains("15 is the most")));
    let short: Vec<_> = Dialect::ALL.iter().filter(|own| own.has_short_names()).collect();
    assert_eq!(short, [&Dialect::Unattend, &Dialect::Sif]);
}

#[test]
fn a_zone_that_no_system_knows_is_said_with_what_was_meant() {
    let model = Model::parse("[language]\ntime_zone = \"Europe/Olso\"\n").unwrap();
    for dialect in LINUX {
        let written = write_model(&model, dialect, &mut Secrets::default()).unwrap();
        let report = check_file(&written.file().unwrap(), None);
        let said = report.findings.iter().find(|own| own.message.contains("Europe/Olso"));
        let said = said.unwrap_or_else(|| panic!("{dialect:?}: {:?}", report.findings));
        assert!(said.hint.contains("Europe/Oslo"), "{dialect:?}: {}", said.hint);
    }
}

#[test]
fn sizes_of_partitions_are_written_as_everywhere() {
    let parse = |size: &str| {
        Model::parse(&format!(
            "[[disk]]\nwipe = true\n[[disk.partition]]\nkind = \"system\"\nsize = \"{size}\"\n"
        ))
    };
    for (size, mib) in [("300MiB", 300), ("300M", 300), ("1.5g", 1536), ("64 GiB", 65_536), ("1GB", 953)] {
        assert_eq!(parse(size).unwrap().disk[0].partition[0].size.mib(), Some(mib), "{size}");
    }
    assert_eq!(parse("rest").unwrap().disk[0].partition[0].size.mib(), None);
    for wrong in ["", "all", "300 miles", "-1G", "1,5GB"] {
        let error = parse(wrong).unwrap_err().to_string();
        assert!(error.contains("line 5") && error.contains("is not a size"), "{wrong}: {error}");
    }
}
