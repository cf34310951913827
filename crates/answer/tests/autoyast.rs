//! AutoYaST's control file: its grammar, files of others, and what is wrong with them.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests say what they expect by failing"
)]

mod support;

use neat_answer::{
    AnswerFile, Dialect, Gravity, Model, Secrets, Topic, check_file,
    model::{Command, Stage},
    read_file, write_model,
};
use proptest::prelude::*;
use std::{fs, path::Path, process};
use support::{models, secrets};

fn write(model: &Model) -> AnswerFile {
    let written = write_model(model, Dialect::Autoyast, &mut secrets()).unwrap();
    AnswerFile::parse_as(&written.bytes, Some(Dialect::Autoyast)).unwrap()
}

/// Whether another reader of XML takes a text for a file of this grammar; what it says otherwise.
fn validated(text: &str) -> Result<(), String> {
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("autoinst.xml");
    fs::write(&file, text).unwrap();
    let grammar = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/data/autoyast.rng");
    let mut command = process::Command::new("xmllint");
    let output = command.args(["--noout", "--nonet", "--relaxng"]).arg(grammar).arg(&file).output().unwrap();
    if output.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&output.stderr).into_owned()) }
}

fn has_xmllint() -> bool {
    neat_testing::has_program("xmllint", "--version")
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 32, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_written_is_of_the_grammar(model in models(Dialect::Autoyast)) {
        if has_xmllint() {
            let file = write(&model);
            prop_assert_eq!(validated(&file.text), Ok(()), "{}", file.text);
        }
    }

    /// Any answers can become any others, and what somebody else wrote between them stays where it is.
    #[test]
    fn a_file_of_somebody_else_is_changed_where_it_differs(
        from in models(Dialect::Autoyast),
        to in models(Dialect::Autoyast),
    ) {
        let (before, after) = (write(&from), write(&to));
        let expected = read_file(&after).unwrap().model;
        let mut text = before.text.replace("</profile>", "  <!-- kept --><kdump>\n    <crash_kernel>256M</crash_kernel>\n  </kdump>\n</profile>");
        text = text.replace("</username>", "</username>\n      <uid>4711</uid>");
        let foreign = AnswerFile::parse_as(text.as_bytes(), Some(Dialect::Autoyast)).unwrap();
        let (bytes, _) = foreign
            .changed(|model| {
                let own = model.origin.take();
                *model = Model { origin: own, ..neutral(&expected) };
                Ok(())
            })
            .unwrap();
        let changed = AnswerFile::parse_as(&bytes, Some(Dialect::Autoyast)).unwrap();
        prop_assert!(changed.text.contains("<!-- kept --><kdump>\n    <crash_kernel>256M</crash_kernel>\n  </kdump>"), "{}", changed.text);
        let found = neutral(&read_file(&changed).unwrap().model);
        prop_assert_eq!(found, neutral(&expected), "{}", changed.text);
        // Whoever stays keeps what somebody else said of them.
        let stays = |name: &str| from.account.iter().any(|own| own.name == name);
        for account in to.account.iter().filter(|own| stays(&own.name)) {
            let own = changed.text.split("<user>").find(|own| own.contains(&format!("<username>{}<", account.name)));
            prop_assert!(own.unwrap().contains("<uid>4711</uid>"), "{}", changed.text);
        }
    }
}

/// Without passwords, which are in the files that they come from.
fn neutral(model: &Model) -> Model {
    let mut model = model.clone();
    model.administrator.password = None;
    model.account.iter_mut().for_each(|own| own.password = None);
    if let Some(wireless) = &mut model.network.wireless {
        wireless.password = None;
    }
    model
}

/// A file as its reference shows one.
const FOREIGN: &str = r#"<?xml version="1.0"?>
<!DOCTYPE profile>
<profile xmlns="http://www.suse.com/1.0/yast2ns" xmlns:config="http://www.suse.com/1.0/configns">
  <general>
    <mode>
      <confirm config:type="boolean">false</confirm>
      <second_stage config:type="boolean">false</second_stage>
    </mode>
  </general>
  <language>
    <language>de_DE</language>
    <languages>en_US</languages>
  </language>
  <keyboard><keymap>german</keymap></keyboard>
  <timezone><hwclock>UTC</hwclock><timezone>Europe/Berlin</timezone></timezone>
  <partitioning config:type="list">
    <drive>
      <device>/dev/vda</device>
      <disklabel>gpt</disklabel>
      <use>all</use>
      <partitions config:type="list">
        <partition>
          <mount>/</mount>
          <filesystem config:type="symbol">btrfs</filesystem>
          <size>max</size>
          <quotas config:type="boolean">true</quotas>
        </partition>
      </partitions>
    </drive>
  </partitioning>
  <software>
    <products config:type="list"><product>Leap</product></products>
    <patterns config:type="list"><pattern>base</pattern><pattern>yast2_basis</pattern></patterns>
  </software>
  <users config:type="list">
    <user>
      <username>root</username>
      <user_password>$6$a$b</user_password>
      <encrypted config:type="boolean">true</encrypted>
    </user>
    <user><username>quay</username><user_password>$6$c$d</user_password><encrypted config:type="boolean">true</encrypted></user>
  </users>
  <scripts>
    <chroot-scripts config:type="list">
      <script>
        <filename>mark.sh</filename>
        <chrooted config:type="boolean">true</chrooted>
        <source><![CDATA[
#!/bin/sh
[ a < b ] && echo "]]]]><![CDATA[>"
]]></source>
      </script>
    </chroot-scripts>
  </scripts>
</profile>
"#;

#[test]
fn a_file_of_the_reference_is_read() {
    let file = AnswerFile::parse(FOREIGN.as_bytes()).unwrap();
    assert_eq!(file.dialect, Dialect::Autoyast);
    let reading = read_file(&file).unwrap();
    let model = &reading.model;
    assert_eq!(model.language.setup, "de-DE");
    assert_eq!(model.language.time_zone, "Europe/Berlin");
    assert_eq!((model.disk[0].device.as_str(), model.disk[0].wipe), ("vda", true));
    assert_eq!(model.disk[0].partition.len(), 1);
    assert_eq!(model.software.add, ["@base", "@yast2_basis"]);
    assert_eq!(model.account[0].name, "quay");
    assert!(model.administrator.password.is_some() && reading.vault.len() == 2);
    assert_eq!(model.script[0].text.trim(), "#!/bin/sh\n[ a < b ] && echo \"]]>\"");
    let kept: Vec<&str> = reading.findings.iter().map(|own| own.field.as_str()).collect();
    assert_eq!(
        kept,
        ["general/mode/second_stage", "language/languages", "partitioning/drive/partitions/partition/quotas"]
    );
    let report = check_file(&file, None);
    assert!(!report.has_problems(), "{:?}", report.findings);
    assert!(
        report.is_dangerous() && report.erasure.line().contains("everything on vda"),
        "{:?}",
        report.erasure
    );

    // One thing is changed, and nothing else.
    let (bytes, _) = file
        .changed(|model| {
            model.account[0].full_name = "Quay <1>".into();
            model.command.push(Command::new(Stage::FirstStart, "touch /etc/\"seen\""));
            Ok(())
        })
        .unwrap();
    let text = String::from_utf8(bytes).unwrap();
    let kept = FOREIGN.lines().filter(|line| text.lines().any(|own| own == *line)).count();
    assert!(kept >= FOREIGN.lines().count() - 1, "{text}");
    assert!(text.contains("<fullname>Quay &lt;1&gt;</fullname>"), "{text}");
    assert!(text.contains("<init-scripts config:type=\"list\">"), "{text}");
    let again = read_file(&AnswerFile::parse(text.as_bytes()).unwrap()).unwrap().model;
    assert_eq!(again.command[0].run, "touch /etc/\"seen\"");
    assert_eq!(again.account[0].full_name, "Quay <1>");
}

#[test]
fn each_fault_is_found_where_somebody_put_it() {
    let checked = |text: &str| {
        check_file(&AnswerFile::parse_as(text.as_bytes(), Some(Dialect::Autoyast)).unwrap(), None)
    };
    for (from, to, topic, wanted) in [
        (
            "<confirm config:type=\"boolean\">false",
            "<confirm>false",
            Topic::Dialect,
            "does not say that it is a boolean",
        ),
        ("boolean\">false</confirm>", "boolean\">no</confirm>", Topic::Dialect, "must be true or false"),
        ("boolean\">false</confirm>", "boolean\">true</confirm>", Topic::Asks, "waits for a person"),
        ("<users config:type=\"list\">", "<users>", Topic::Dialect, "does not say that it is a list"),
        ("<keyboard>", "<keybord>", Topic::Dialect, "did you mean <keyboard>?"),
        ("<keymap>german</keymap>", "<keymapp>german</keymapp>", Topic::Dialect, "did you mean <keymap>?"),
        ("yast2ns", "yast3ns", Topic::Dialect, "namespace"),
        ("<size>max</size>", "<size>much</size>", Topic::Disk, "\"much\""),
        (
            "<filename>mark.sh</filename>",
            "<filename>mark.sh</filename><location>x</location>",
            Topic::Kept,
            "",
        ),
        ("<username>quay</username>", "<username>root</username>", Topic::Account, "twice"),
        (
            "$6$c$d</user_password><encrypted config:type=\"boolean\">true",
            "$6$c$d</user_password><encrypted config:type=\"boolean\">false",
            Topic::PlainPassword,
            "plain text",
        ),
        ("Europe/Berlin", "Europe/Berlyn", Topic::Language, "Europe/Berlin"),
        (
            "</timezone>\n",
            "</timezone>\n<timezone><timezone>UTC</timezone></timezone>\n",
            Topic::Dialect,
            "there twice",
        ),
    ] {
        assert!(FOREIGN.contains(from), "{from}");
        let text = FOREIGN.replacen(from, to, 1);
        let text = text.replace("</keyboard>", if to == "<keybord>" { "</keybord>" } else { "</keyboard>" });
        let report = checked(&text);
        let found = report
            .findings
            .iter()
            .find(|own| own.topic == topic && (own.message.contains(wanted) || own.hint.contains(wanted)));
        if topic == Topic::Kept {
            assert!(!report.has_problems(), "{to}: {:?}", report.findings);
        } else {
            assert!(found.is_some_and(|own| own.gravity == Gravity::Problem), "{to}: {:?}", report.findings);
        }
    }
    let group = FOREIGN.replace(
        "  <scripts>",
        "  <groups config:type=\"list\"><group><groupname>wheel</groupname><userlist>quay,nobody-here</userlist></group></groups>\n  <scripts>",
    );
    assert!(checked(&group).findings.iter().any(|own| own.message.contains("nobody-here")));
    let two = FOREIGN
        .replace("</partition>\n", "</partition>\n<partition><mount>/</mount><size>max</size></partition>\n");
    let said: Vec<String> = checked(&two).findings.into_iter().map(|own| own.message).collect();
    assert!(
        said.iter().any(|own| own.contains("mounted at /"))
            && said.iter().any(|own| own.contains("take the rest")),
        "{said:?}"
    );
    // A part of the document type's own could define what it likes.
    let hostile = FOREIGN
        .replace("<!DOCTYPE profile>", "<!DOCTYPE profile [<!ENTITY a SYSTEM \"file:///etc/passwd\">]>");
    assert!(read_file(&AnswerFile::parse_as(hostile.as_bytes(), Some(Dialect::Autoyast)).unwrap()).is_err());
}

#[test]
fn what_it_erases_depends_on_whether_a_person_says_yes() {
    let erases = |text: &str| {
        check_file(&AnswerFile::parse_as(text.as_bytes(), Some(Dialect::Autoyast)).unwrap(), None)
            .erasure
            .line()
    };
    for (from, to, wanted) in [
        ("", "", "everything on vda"),
        ("<use>all</use>", "<use>linux</use>", "the Linux partitions of vda"),
        ("<use>all</use>", "<use>free</use>", "erases nothing"),
        (
            "<use>all</use>",
            "<use>free</use><initialize config:type=\"boolean\">true</initialize>",
            "everything on vda",
        ),
        ("<device>/dev/vda</device>", "", "everything on the first disk"),
        ("boolean\">false</confirm>", "boolean\">true</confirm>", "erases nothing"),
        ("<confirm config:type=\"boolean\">false</confirm>", "", "erases nothing"),
        ("#!/bin/sh", "wipefs -a /dev/vdb", "wipefs"),
    ] {
        assert!(
            erases(&FOREIGN.replacen(from, to, 1)).contains(wanted),
            "{to}: {}",
            erases(&FOREIGN.replacen(from, to, 1))
        );
    }
    let start = FOREIGN.find("  <partitioning").unwrap();
    let end = FOREIGN.find("</partitioning>").unwrap() + "</partitioning>".len();
    let without = format!("{}{}", &FOREIGN[..start], &FOREIGN[end..]);
    assert!(erases(&without).contains("its own proposal"), "{}", erases(&without));
}

#[test]
fn what_it_has_no_word_for_is_said() {
    let unsaid = |toml: &str| -> Vec<String> {
        let model = Model::parse(&format!("format = 1\n{toml}")).unwrap();
        let written = write_model(&model, Dialect::Autoyast, &mut Secrets::default()).unwrap();
        written
            .findings
            .into_iter()
            .filter(|own| own.gravity == Gravity::Problem)
            .map(|own| own.field)
            .collect()
    };
    for (toml, field) in [
        ("[language]\nkeyboards = [\"de-DE\", \"da-DK\"]", "language.keyboards"),
        ("[language]\nkeyboards = [\"xkb:fo\"]", "language.keyboards"),
        ("[system]\nedition = 3", "system.edition"),
        ("[network]\nwireless = { name = \"a\", hidden = true }", "network.wireless.hidden"),
        (
            "[[script]]\nname = \"a.sh\"\nstage = \"system-installed\"\ntext = \"x\"\ncarried = \"media\"",
            "script",
        ),
        ("[[script]]\nname = \"neatstack-machine.sh\"\nstage = \"system-installed\"\ntext = \"x\"", "script"),
        ("[[command]]\nstage = \"system-installed\"\nrun = \"# nothing\"", "command"),
        ("[[command]]\nstage = \"first-sign-in\"\nrun = \"true\"", "command"),
        ("[machine]\ndomain = \"ferries.example\"", "machine.domain"),
    ] {
        assert!(unsaid(toml).iter().any(|own| own == field), "{toml}: {:?}", unsaid(toml));
    }
    assert_eq!(unsaid("[system]\nedition = \"Leap\"\n[language]\nkeyboards = [\"de-DE\"]"), [""; 0]);
}

/// Runs a script with made-up disks: mounting one copies its folder.
fn run_with_disks(script: &str, dir: &Path) -> process::Output {
    use std::os::unix::fs::PermissionsExt;
    let bin = dir.join("bin");
    fs::create_dir_all(&bin).unwrap();
    for (name, text) in [
        ("mount", "#!/bin/sh\nshift 2\n[ -d \"$1\" ] && cp -r \"$1/.\" \"$2\"\n"),
        ("umount", "#!/bin/sh\nrm -r \"$1\" && mkdir \"$1\"\n"),
    ] {
        fs::write(bin.join(name), text).unwrap();
        fs::set_permissions(bin.join(name), fs::Permissions::from_mode(0o755)).unwrap();
    }
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    process::Command::new("sh").args(["-c", script]).current_dir(dir).env("PATH", path).output().unwrap()
}

#[test]
fn a_machine_finds_its_file_on_whatever_disk_the_media_is() {
    let chooser = Dialect::Autoyast.chooser().unwrap();
    let text = String::from_utf8(chooser.files[0].bytes.clone()).unwrap();
    if has_xmllint() {
        assert_eq!(validated(&text), Ok(()));
    }
    let file = AnswerFile::parse(text.as_bytes()).unwrap();
    assert!(!check_file(&file, None).has_problems());
    let script = read_file(&file).unwrap().model.script[0].text.clone();
    for (serial, disk, found) in [
        (" bf 70/01 \n", "sr0", Some("BF7001")),
        ("BF-2", "a disk", Some("BF-2")),
        ("BF-3", "sr0", None),
        ("", "sr0", None),
    ] {
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("serial"), serial).unwrap();
        fs::create_dir_all(dir.path().join("devices/empty")).unwrap();
        let sites = dir.path().join("devices").join(disk).join(chooser.folder);
        fs::create_dir_all(&sites).unwrap();
        for own in ["BF7001", "BF-2", ""] {
            fs::write(sites.join(format!("{own}.xml")), own).unwrap();
        }
        fs::create_dir(dir.path().join("profile")).unwrap();
        let script = script
            .replace("/dev/sr[0-9]* /dev/disk/by-label/*", "devices/*")
            .replace("/sys/class/dmi/id/product_serial", "serial")
            .replace("/tmp/", "");
        let output = run_with_disks(&script, dir.path());
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
        let taken = fs::read_to_string(dir.path().join("profile/modified.xml")).ok();
        assert_eq!(taken.as_deref(), found, "{serial:?}");
    }
}

#[test]
fn a_name_that_the_machine_makes_is_in_the_file_that_is_used() {
    let model = Model::parse("format = 1\n[machine]\nname = \"LAB-{serial}\"\n").unwrap();
    let file = write(&model);
    let start = file.text.find("<![CDATA[").unwrap() + "<![CDATA[".len();
    let script = &file.text[start..file.text.find("]]>").unwrap()];
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir(dir.path().join("profile")).unwrap();
    fs::write(dir.path().join("profile/autoinst.xml"), &file.text).unwrap();
    fs::write(dir.path().join("serial"), "5CG/12 34\n").unwrap();
    let script = script.replace("/sys/class/dmi/id/product_serial", "serial").replace("/tmp/", "");
    let output = run_with_disks(&script, dir.path());
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let made = fs::read_to_string(dir.path().join("profile/modified.xml")).unwrap();
    assert!(made.contains("<hostname>LAB-5CG1234</hostname>"), "{made}");
}

#[test]
fn a_grammar_that_takes_everything_would_be_no_proof() {
    if has_xmllint() {
        let sound = write(&Model::parse("format = 1\n[machine]\nname = \"a\"").unwrap()).text;
        assert_eq!(validated(&sound), Ok(()));
        for (from, to) in
            [("hostname", "hostnames"), (" config:type=\"boolean\"", ""), ("<dns>", "<dns><x/>")]
        {
            assert!(validated(&sound.replace(from, to)).is_err(), "{to}");
        }
    }
}
