//! Faults put into files of others by hand: each is found, under its topic, at its line, and the sound file has none.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs, reason = "tests say what they expect by failing")]

use neat_answer::{AnswerFile, Dialect, Gravity, Report, Topic, check_file};

struct Fault {
    from: &'static str,
    to: &'static str,
    topic: Topic,
    wanted: &'static str,
}

const fn fault(from: &'static str, to: &'static str, topic: Topic, wanted: &'static str) -> Fault {
    Fault { from, to, topic, wanted }
}

fn report(dialect: Dialect, text: &str) -> Report {
    check_file(&AnswerFile::parse_as(text.as_bytes(), Some(dialect)).unwrap(), None)
}

fn each(dialect: Dialect, sound: &str, faults: &[Fault]) {
    let report_of_sound = report(dialect, sound);
    assert!(!report_of_sound.has_problems(), "{dialect:?}: {:?}", report_of_sound.findings);
    for Fault { from, to, topic, wanted } in faults {
        assert!(sound.contains(from), "{from}");
        let text = sound.replacen(from, to, 1);
        let findings = report(dialect, &text).findings;
        let found = findings
            .iter()
            .find(|own| own.topic == *topic && (own.message.contains(wanted) || own.hint.contains(wanted)));
        let found = found.unwrap_or_else(|| panic!("{dialect:?}: {to}: {findings:?}"));
        assert_eq!(found.gravity, Gravity::Problem, "{to}");
        // What is accepted stops nothing.
        assert!(
            report(dialect, &text)
                .findings
                .iter()
                .filter(|own| own.topic == *topic)
                .all(|own| !own.stops(&[*topic]))
        );
        let lines = text.lines().count();
        assert!(found.line.is_none_or(|line| (1..=lines).contains(&line)), "{to}: {:?}", found.line);
    }
}

#[test]
fn preseed() {
    let sound = "d-i debian-installer/locale string en_GB.UTF-8
d-i keyboard-configuration/xkb-keymap select gb
d-i netcfg/hostname string quay-1
d-i time/zone string Europe/London
d-i passwd/root-login boolean false
d-i passwd/make-user boolean true
d-i passwd/username string helm
d-i passwd/user-password-crypted password $6$a$b
d-i passwd/user-default-groups string sudo
d-i partman-auto/expert_recipe string one :: 500 100 -1 ext4 method{ format } format{ } .
d-i preseed/early_command string true
d-i preseed/late_command string in-target sh -c 'a' && in-target sh -c 'b'
";
    let late = "in-target sh -c 'a' && in-target sh -c 'b'";
    each(
        Dialect::Preseed,
        sound,
        &[
            fault("select gb", "select fr", Topic::Language, "takes the first it has"),
            fault("boolean true", "string true", Topic::Dialect, "its type is boolean"),
            fault("boolean true", "boolean yes", Topic::Dialect, "must be true or false"),
            fault("passwd/username", "passwd/usrname", Topic::Dialect, "passwd/username"),
            fault("d-i time/zone", "d-i time/zone string UTC\nd-i time/zone", Topic::Dialect, "twice"),
            fault("d-i time/zone string Europe/London", "what is this", Topic::Dialect, "is no answer"),
            fault("Europe/London", "Europe/Londn", Topic::Language, "Europe/London"),
            fault(
                "user-password-crypted password $6$a$b",
                "user-password password anchor",
                Topic::PlainPassword,
                "plain text",
            ),
            fault(
                "d-i passwd/user-password-crypted password $6$a$b\n",
                "",
                Topic::Asks,
                "helm has no password",
            ),
            fault("root-login boolean false", "root-login boolean true", Topic::Asks, "administrator"),
            fault("string helm", "string root", Topic::Account, "keeps for the system"),
            fault("string helm", "string Helm", Topic::Account, "no name for an account"),
            fault("groups string sudo", "groups string sudo quayhands", Topic::Account, "quayhands"),
            fault("string quay-1", "string quay_1", Topic::MachineName, "which no machine's name may have"),
            fault("500 100 -1", "500 100 300", Topic::Disk, "at least 500 and at most 300"),
            fault("500 100 -1", "much", Topic::Disk, "three numbers"),
            fault(late, "in-target sh -c 'a' &; in-target sh -c 'b'", Topic::Command, "refuses"),
            fault(late, "in-target sh -c 'a # b; in-target c", Topic::Command, "quote"),
            fault(late, "in-target a # then b; in-target c", Topic::Command, "remark"),
            fault(late, "printf 'a\\n' >/target/a", Topic::Dialect, "what follows in the value is lost"),
            fault("string quay-1", "string quay\\n1", Topic::Dialect, "what follows in the value is lost"),
            fault(late, "(in-target a", Topic::Command, "brackets"),
            fault("early_command string true", "early_command string true & ;", Topic::Command, "refuses"),
        ],
    );
}

#[test]
fn kickstart() {
    let sound = "lang en_GB.UTF-8
keyboard --xlayouts='gb'
timezone Europe/London --utc
network --hostname=quay-1
rootpw --lock
user --name=helm --iscrypted --password=$6$a$b
clearpart --all --initlabel --drives=sda
part / --fstype=ext4 --size=1024 --grow --ondisk=sda
%packages
vim
%end
%post
true
%end
";
    each(
        Dialect::Kickstart,
        sound,
        &[
            fault("timezone", "timezne", Topic::Dialect, "did you mean timezone?"),
            fault("%post\n", "%pots\n", Topic::Dialect, "there is no section"),
            fault("true\n%end\n", "true\n", Topic::Dialect, "has no %end"),
            fault(
                "%packages\nvim\n%end\n",
                "%packages\nvim\n%end\nlang de_DE\n",
                Topic::Dialect,
                "after a section",
            ),
            fault("keyboard", "lang de_DE\nkeyboard", Topic::Dialect, "said twice"),
            fault("clearpart", "autopart\nclearpart", Topic::Disk, "exclude each other"),
            fault("--size=1024 ", "", Topic::Disk, "no --size"),
            fault("part /", "part / --size=5\npart /", Topic::Dialect, "said twice"),
            fault("user --name", "user --name=helm\nuser --name", Topic::Dialect, "said twice"),
            fault("--iscrypted --password=$6$a$b", "--password=anchor", Topic::PlainPassword, "plain text"),
            fault("rootpw --lock\n", "", Topic::Asks, "administrator"),
            fault("rootpw --lock", "rootpw anchor", Topic::PlainPassword, "plain text"),
            fault("Europe/London", "Europe/Londn", Topic::Language, "Europe/London"),
            fault("--name=helm", "--name=Helm!", Topic::Account, "no name for an account"),
            fault("quay-1", "-quay", Topic::MachineName, "begins or ends"),
        ],
    );
}

#[test]
fn autoinstall() {
    let sound = "#cloud-config
autoinstall:
  version: 1
  locale: en_GB.UTF-8
  timezone: Europe/London
  keyboard:
    layout: gb
  identity:
    hostname: quay-1
    username: helm
    password: $6$a$b
  storage:
    layout:
      name: direct
  late-commands:
    - curtin in-target -- true
";
    each(
        Dialect::Autoinstall,
        sound,
        &[
            fault("#cloud-config\n", "# cloud\n", Topic::Dialect, "ignores the file"),
            fault("timezone:", "timezon:", Topic::Dialect, "did you mean timezone?"),
            fault("version: 1", "version: one", Topic::Dialect, "version"),
            fault("  locale: en_GB.UTF-8\n", "  locale: [en]\n", Topic::Dialect, "must be a text"),
            fault("curtin in-target -- true", "\"curtin in-target -- true &; x\"", Topic::Command, "refuses"),
            fault("Europe/London", "Europe/Londn", Topic::Language, "Europe/London"),
            fault("    password: $6$a$b\n", "", Topic::Asks, "identity has no password"),
            fault("password: $6$a$b", "password: anchor", Topic::PlainPassword, "nobody can sign in with it"),
            fault(
                "late-commands:\n    - curtin in-target -- true",
                "shutdown: sleep",
                Topic::Dialect,
                "neither reboot",
            ),
            fault(
                "layout:\n      name: direct",
                "config:\n      - {type: disk, id: a}\n      - {type: disk, id: a}",
                Topic::Disk,
                "two actions have the id a",
            ),
            fault(
                "layout:\n      name: direct",
                "config:\n      - {type: partition, id: p, device: d, size: 5}\n      - {type: disk, id: d}",
                Topic::Disk,
                "p needs d",
            ),
            fault(
                "layout:\n      name: direct",
                "config:\n      - {type: disk, id: d}\n      - {type: partition, id: p, device: d, size: -1}\n      - {type: partition, id: q, device: d, size: 9}",
                Topic::Disk,
                "nothing is left for it",
            ),
            fault("username: helm", "username: Helm", Topic::Account, "no name for an account"),
            fault(
                "hostname: quay-1",
                "hostname: quay_1",
                Topic::MachineName,
                "which no machine's name may have",
            ),
        ],
    );
}

#[test]
fn unattend() {
    let component = |pass: &str, name: &str, body: &str| {
        format!(
            "  <settings pass=\"{pass}\">\n    <component name=\"{name}\" processorArchitecture=\"amd64\" \
             publicKeyToken=\"31bf3856ad364e35\" language=\"neutral\" versionScope=\"nonSxS\">\n{body}    </component>\n  </settings>\n"
        )
    };
    let sound = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<unattend xmlns=\"urn:schemas-microsoft-com:unattend\" \
         xmlns:wcm=\"http://schemas.microsoft.com/WMIConfig/2002/State\">\n{}{}</unattend>\n",
        component(
            "specialize",
            "Microsoft-Windows-Shell-Setup",
            "      <ComputerName>QUAY-1</ComputerName>\n      <TimeZone>GMT Standard Time</TimeZone>\n"
        ),
        component(
            "oobeSystem",
            "Microsoft-Windows-Shell-Setup",
            "      <FirstLogonCommands>\n        <SynchronousCommand wcm:action=\"add\">\n          <Order>1</Order>\n          \
             <CommandLine>cmd.exe /c echo a</CommandLine>\n        </SynchronousCommand>\n      </FirstLogonCommands>\n"
        ),
    );
    let long = format!("<CommandLine>cmd.exe /c echo {}</CommandLine>", "x".repeat(1100));
    let long: &'static str = Box::leak(long.into_boxed_str());
    each(
        Dialect::Unattend,
        &sound,
        &[
            fault("<unattend ", "<answers ", Topic::Dialect, ""),
            fault(
                "urn:schemas-microsoft-com:unattend",
                "urn:other",
                Topic::Dialect,
                "setup ignores the file",
            ),
            fault("pass=\"specialize\"", "pass=\"specialise\"", Topic::Dialect, "did you mean specialize?"),
            fault("pass=\"oobeSystem\"", "pass=\"specialize\"", Topic::Dialect, "there twice"),
            fault(
                "processorArchitecture=\"amd64\"",
                "processorArchitecture=\"x64\"",
                Topic::Dialect,
                "write amd64",
            ),
            fault(
                "Microsoft-Windows-Shell-Setup",
                "Microsoft-Windows-Shel-Setup",
                Topic::Dialect,
                "did you mean",
            ),
            fault(
                "<TimeZone>GMT Standard Time</TimeZone>",
                "<TimeZon>GMT</TimeZon>",
                Topic::Dialect,
                "did you mean <TimeZone>?",
            ),
            fault("GMT Standard Time", "GMT Standart Time", Topic::Language, "GMT Standard Time"),
            fault("QUAY-1", "QUAY-1-IS-TOO-LONG", Topic::MachineName, "15 is the most"),
            fault("<Order>1</Order>", "<Order>0</Order>", Topic::Command, "numbers start with 1"),
            fault("          <Order>1</Order>\n", "", Topic::Command, "no number"),
            fault(
                "<CommandLine>cmd.exe /c echo a</CommandLine>",
                "<CommandLine></CommandLine>",
                Topic::Command,
                "say what it runs",
            ),
            fault("<CommandLine>cmd.exe /c echo a</CommandLine>", long, Topic::Command, "1024 is the most"),
        ],
    );
}

#[test]
fn answers_for_more_machines_than_the_media_are_no_fault() {
    let media = |text: &str| {
        let model = neat_answer::Model::parse(&format!("format = 1\narchitectures = {text}\n")).unwrap();
        let facts = neat_answer::MediaFacts {
            architectures: vec![neat_answer::model::Architecture::X64],
            ..neat_answer::MediaFacts::default()
        };
        neat_answer::check_model(&model, Some(&facts))
    };
    let both = media("[\"x64\", \"x86\"]");
    assert!(!both.has_problems() && both.findings[0].gravity == Gravity::Note, "{:?}", both.findings);
    let neither = media("[\"x86\"]");
    assert!(
        neither.has_problems() && neither.findings[0].topic == Topic::Architecture,
        "{:?}",
        neither.findings
    );
}
