//! What Debian's installer makes of the answers that are written for it: its own programs run on them.
//! They need root, namespaces and the packages that `.ci/prepare` installs. Partitions, the boot loader and the time zone
//! are set by programs that cannot be had here.
#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "a test that cannot go on has failed"
)]

mod support;

use std::{
    env, fs,
    path::{Path, PathBuf},
    sync::Mutex,
    thread,
};
use support::{installer::Installer, ok};

fn boot_files() -> PathBuf {
    let usual = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/boot-files");
    env::var_os("NEATSTACK_BOOT_FILES").map_or(usual, PathBuf::from)
}

/// A model as a preseed file.
fn preseed(model: &str) -> String {
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("m.answer.toml"), format!("format = 1\n{model}")).unwrap();
    ok(dir.path(), &["answer", "write", "m.answer.toml", "--dialect", "preseed"])
}

/// Does the same for all, two at a time.
fn each<T: Send + Sync>(all: &[T], work: impl Fn(&T) + Sync) {
    let next = Mutex::new(all.iter());
    thread::scope(|scope| {
        for _ in 0..2 {
            scope.spawn(|| {
                loop {
                    let one = next.lock().unwrap().next();
                    let Some(one) = one else { break };
                    work(one);
                }
            });
        }
    });
}

#[test]
#[ignore = "needs Debian's installer and root"]
fn written_answers_leave_nothing_to_ask() {
    let installer = Installer::new(&boot_files());
    let golden = Path::new(env!("CARGO_MANIFEST_DIR")).join("../answer/tests/golden");
    let names = ["lab", "kiosk", "office", "laptop", "harbour", "crane"];
    each(&names, |name| {
        let text = fs::read_to_string(golden.join(format!("{name}.preseed.cfg"))).unwrap();
        let said = installer.ask(&text, "language keyboard accounts apply late", "");
        for program in ["language", "keyboard", "accounts", "apply", "late"] {
            assert!(said.contains(&format!("{program}: code 0\n")), "{name}: {said}");
        }
    });
    // Where something is missing it is asked, and `answer check` has said so.
    let account = "[[account]]\nname = \"NAME\"\npassword = { hash = \"$6$a$b\" }\n";
    let quiet = "[administrator]\nenabled = false\n";
    let cases = [
        (account.replace("NAME", "helm"), true),
        (format!("{quiet}[[account]]\nname = \"helm\"\n"), true),
        (quiet.to_owned() + &account.replace("NAME", "backup"), true),
        (quiet.to_owned() + &account.replace("NAME", "helm"), false),
    ];
    each(&cases, |(model, is_asked)| {
        let dir = tempfile::tempdir().unwrap();
        fs::write(dir.path().join("m.answer.toml"), format!("format = 1\n{model}")).unwrap();
        let args = ["answer", "write", "m.answer.toml", "--dialect", "preseed"];
        let refused = support::neatstack(dir.path(), &args).status.code() == Some(4);
        let accept = ["--accept", "asks", "--accept", "account"];
        let text = ok(dir.path(), &[args.as_slice(), &accept].concat());
        let said = installer.ask(&text, "accounts", "");
        assert_eq!(said.contains("accounts: asked"), *is_asked, "{model}: {said}");
        assert_eq!(refused, *is_asked, "{model}");
    });
}

#[test]
#[ignore = "needs Debian's installer and root"]
fn languages_and_keyboards_are_as_the_model_says() {
    let installer = Installer::new(&boot_files());
    // Language, keyboard, locale, layout and variant of the installer.
    let all = [
        ("en", "en-US", "en_US.UTF-8", "us", ""),
        ("en-GB", "en-GB", "en_GB.UTF-8", "gb", ""),
        ("en-AU", "en-US", "en_AU.UTF-8", "us", ""),
        ("en-IE", "en-IE", "en_IE.UTF-8", "ie", ""),
        ("en-ZA", "en-US", "en_ZA.UTF-8", "us", ""),
        ("da-DK", "da-DK", "da_DK.UTF-8", "dk", ""),
        ("nb-NO", "nb-NO", "nb_NO.UTF-8", "no", ""),
        ("nn-NO", "nb-NO", "nn_NO.UTF-8", "no", ""),
        ("sv-SE", "sv-SE", "sv_SE.UTF-8", "se", ""),
        ("fi-FI", "fi-FI", "fi_FI.UTF-8", "fi", ""),
        ("is-IS", "is-IS", "is_IS.UTF-8", "is", ""),
        ("de", "de-DE", "de_DE.UTF-8", "de", ""),
        ("de-AT", "de-DE", "de_AT.UTF-8", "de", ""),
        ("de-CH", "xkb:ch", "de_CH.UTF-8", "ch", ""),
        ("fr-FR", "fr-FR", "fr_FR.UTF-8", "fr", "latin9"),
        ("fr-CH", "xkb:ch(fr)", "fr_CH.UTF-8", "ch", "fr"),
        ("fr-CA", "xkb:ca", "fr_CA.UTF-8", "ca", ""),
        // The variant comes into the system at the end; the installer has no such choice.
        ("nl-NL", "xkb:us(intl)", "nl_NL.UTF-8", "us", ""),
        ("nl-BE", "xkb:be", "nl_BE.UTF-8", "be", ""),
        ("it-IT", "it-IT", "it_IT.UTF-8", "it", ""),
        ("es-ES", "es-ES", "es_ES.UTF-8", "es", ""),
        ("ca-ES", "xkb:es(cat)", "ca_ES.UTF-8", "es", "cat"),
        ("pt-PT", "pt-PT", "pt_PT.UTF-8", "pt", ""),
        ("pt-BR", "pt-BR", "pt_BR.UTF-8", "br", ""),
        ("pl-PL", "pl-PL", "pl_PL.UTF-8", "pl", ""),
        ("cs-CZ", "cs-CZ", "cs_CZ.UTF-8", "cz", ""),
        ("sk-SK", "sk-SK", "sk_SK.UTF-8", "sk", ""),
        ("sl-SI", "sl-SI", "sl_SI.UTF-8", "si", ""),
        ("hr-HR", "hr-HR", "hr_HR.UTF-8", "hr", ""),
        ("hu-HU", "hu-HU", "hu_HU.UTF-8", "hu", ""),
        ("ro-RO", "ro-RO", "ro_RO.UTF-8", "ro", ""),
        ("et-EE", "et-EE", "et_EE.UTF-8", "ee", ""),
        // The installer adds a second layout by itself.
        ("lt-LT", "lt-LT", "lt_LT.UTF-8", "lt,us", ",altgr-intl"),
        ("tr-TR", "tr-TR", "tr_TR.UTF-8", "tr", ""),
        ("sr-Latn-RS", "en-US", "sr_RS@latin", "us", ""),
        ("zh-Hans-CN", "en-US", "zh_CN.UTF-8", "us", ""),
        ("zh-Hant-TW", "en-US", "zh_TW.UTF-8", "us", ""),
        ("ja-JP", "xkb:jp", "ja_JP.UTF-8", "jp", ""),
        ("ko-KR", "en-US", "ko_KR.UTF-8", "us", ""),
        // A locale that is UTF-8 by itself.
        ("vi-VN", "en-US", "vi_VN", "us", ""),
    ];
    let failed = Mutex::new(Vec::new());
    each(&all, |(language, keyboard, locale, layout, variant)| {
        let text = preseed(&format!("[language]\nsetup = \"{language}\"\nkeyboards = [\"{keyboard}\"]\n"));
        let said = installer.ask(&text, "language keyboard", "");
        let wanted = [
            "language: code 0\n".to_owned(),
            "keyboard: code 0\n".to_owned(),
            format!("debian-installer/locale={locale}\n"),
            format!("XKBLAYOUT=\"{layout}\"\n"),
            format!("XKBVARIANT=\"{variant}\"\n"),
        ];
        for own in wanted.iter().filter(|own| !said.contains(own.as_str())) {
            failed.lock().unwrap().push(format!("{language}, {keyboard}: no {own:?} in {said}"));
        }
    });
    let failed = failed.into_inner().unwrap();
    assert!(failed.is_empty(), "{failed:#?}");
}

#[test]
#[ignore = "needs Debian's installer and root"]
fn a_machine_is_called_as_the_model_says_whatever_its_network_says() {
    let installer = Installer::new(&boot_files());
    let cases = [
        ("", "from-dhcp"),
        ("[machine]\nname = \"quay-7\"\n", "quay-7"),
        ("[machine]\nname = \"quay-7\"\ndomain = \"ferries.example\"\n", "quay-7"),
        // Here no machine tells a number.
        ("[machine]\nname = \"LAB-{serial}\"\n", "LAB"),
        ("[machine]\nname = \"{serial}\"\n", "machine"),
    ];
    each(&cases, |(model, name)| {
        let text = preseed(model) + "d-i netcfg/choose_interface select v0\n";
        let said = installer.ask(&text, "name", "from-dhcp");
        assert!(said.contains("name: code 0\n"), "{model}: {said}");
        assert!(said.contains(&format!("hostname={name}\n")), "{model}: {said}");
    });
}

const HASH: &str =
    "$6$saltsaltsalt$X7zP1Yy4m3xZb5jQmWv8nEw0gqjD0i3R3D5gZyN4lJ1s2k3O4p5Q6r7S8t9U0v1W2x3Y4z5A6b7C8d9E0f1G/.";

/// A line of what was said that begins so, without the beginning.
fn rest<'a>(said: &'a str, front: &str) -> Vec<&'a str> {
    said.lines().filter_map(|line| line.strip_prefix(front)).collect()
}

#[test]
#[ignore = "needs Debian's installer and root"]
fn accounts_are_there_with_their_groups_and_passwords() {
    let installer = Installer::new(&boot_files());
    let text = preseed(&format!(
        "[administrator]\nenabled = false\n\
         [[account]]\nname = \"ann-7\"\nfull_name = \"Ann O'Hara\"\ngroups = [\"administrators\", \"tide-tables\"]\n\
         password = {{ hash = \"{HASH}\" }}\n\
         [[account]]\nname = \"deckhand-7\"\nfull_name = \"The deck & 100%\"\ngroups = [\"video\", \"deck-crew\"]\n\
         password = {{ hash = \"{HASH}\" }}\n"
    ));
    // Late commands make the second one. Others may have accounts on this machine, too.
    let said = installer.ask(&text, "accounts apply late who", "");
    for program in ["accounts", "apply", "late"] {
        assert!(said.contains(&format!("{program}: code 0\n")), "{said}");
    }
    let of = |name: &str| -> Vec<String> {
        let last =
            rest(&said, &format!("account {name}: ")).pop().unwrap_or_else(|| panic!("{name}: {said}"));
        last.split(": ").map(str::to_owned).collect()
    };
    // The system itself puts the first one into `users`.
    assert_eq!(of("ann-7"), ["Ann O'Hara", "ann-7 sudo users tide-tables", HASH]);
    assert_eq!(of("deckhand-7"), ["The deck & 100%", "deckhand-7 video deck-crew", HASH]);
    let root = rest(&said, "root: ").pop().unwrap();
    assert!(root.starts_with(['*', '!']), "nobody signs in as root: {root}");
}

#[test]
#[ignore = "needs Debian's installer and root"]
fn late_commands_of_every_kind_run_in_order_in_the_installed_system() {
    let installer = Installer::new(&boot_files());
    let media = tempfile::tempdir().unwrap();
    fs::create_dir(media.path().join("neatstack")).unwrap();
    let script = "#!/bin/sh\necho \"media $(basename \"$0\") $(. /etc/os-release; echo $ID)\" >>/noted\n";
    fs::write(media.path().join("neatstack/of media.sh"), script).unwrap();
    let model = r#"
[[command]]
stage = "system-installed"
run = "echo one >>/noted # and a remark"

[[command]]
stage = "system-installed"
run = "echo outside $(ls -d /target/etc) >>/target/noted"
outside = true

[[command]]
stage = "system-installed"
run = "sleep 2; echo much later >>/noted"
wait = false

[[command]]
stage = "system-installed"
run = "false || echo 'it''s \"three\" &' $((1+2)) 100% >>/noted"

[[command]]
stage = "system-installed"
run = 'printf "two\\nlines of %s\\n" "a\\nb" >>/noted'

[[command]]
stage = "first-start"
run = "echo at the first start"

[[script]]
name = "carried.sh"
stage = "system-installed"
text = """
#!/bin/sh
echo "carried $(id -un) $(. /etc/os-release; echo $ID)" >>/noted
"""

[[script]]
name = "of media.sh"
stage = "system-installed"
carried = "media"
"#;
    let dir = tempfile::tempdir().unwrap();
    fs::write(dir.path().join("m.answer.toml"), format!("format = 1\n{model}")).unwrap();
    let args = ["answer", "write", "m.answer.toml", "--dialect", "preseed", "--accept", "script"];
    let text = ok(dir.path(), &args);
    let said = installer.ask_with(&text, "late", "", media.path());
    assert!(said.contains("late: code 0\n"), "{said}");
    let noted: Vec<&str> = rest(&said, "noted: ").into_iter().filter(|own| *own != "much later").collect();
    let expected = [
        "one",
        "outside /target/etc",
        "its \"three\" & 3 100%",
        "two",
        "lines of a\\nb",
        "carried root debian",
        "media of media.sh debian",
    ];
    assert_eq!(noted, expected, "{said}");
    assert_eq!(rest(&said, "left: "), [""; 0], "scripts do not stay");
    assert!(said.contains("unit: enabled\n"), "{said}");
}

#[test]
#[ignore = "needs Debian's installer and root"]
fn a_late_command_that_fails_is_seen_and_ends_the_rest() {
    let installer = Installer::new(&boot_files());
    let failing = [
        "run = \"exit 3\"",
        "run = \"no-such-program\"",
        "run = \"cp /gone /target/root\"\noutside = true",
        "run = \"true; false\"",
    ];
    each(&failing, |line| {
        let command = |line: &str| format!("[[command]]\nstage = \"system-installed\"\n{line}\n");
        let model = [
            command("run = \"echo before >>/noted\""),
            command(line),
            command("run = \"echo after >>/noted\""),
        ];
        let said = installer.ask(&preseed(&model.concat()), "late", "");
        assert!(
            said.contains("late: asked") && said.contains("Failed to run preseeded command"),
            "{line}: {said}"
        );
        assert_eq!(rest(&said, "noted: "), ["before"], "{line}: {said}");
    });
}
