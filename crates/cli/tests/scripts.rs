//! Scripts and command lines that our media bring, run by interpreters of the served systems.
//!
//! The compatibility layer judges what `cmd` and the script host do with a line; it knows no code pages (`chcp` does
//! nothing) and has no PowerShell, so what depends on those is not proved here.

#![allow(
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::items_after_statements,
    missing_docs,
    reason = "tests stop at the first surprise"
)]

mod support;

use neat_answer::{Dialect, Model, Secrets, write_model};
use std::fs;
use support::{
    demo, ok,
    windows::{Windows, copy_folder},
};

/// The command lines of a pass, in order.
fn lines_of(pass: &str, model: &str) -> Vec<String> {
    let model = Model::parse(model).unwrap();
    let text = write_model(&model, Dialect::Unattend, &mut Secrets::default()).unwrap().text;
    let head = format!("<settings pass=\"{pass}\"");
    let pass = text.split(&head).nth(1).unwrap().split("</settings>").next().unwrap();
    let paths = pass.split("<Path>").skip(1).map(|rest| rest.split("</Path>").next().unwrap());
    let plain = |text: &str| {
        text.replace("&lt;", "<").replace("&gt;", ">").replace("&quot;", "\"").replace("&amp;", "&")
    };
    paths.map(plain).collect()
}

fn guarded(conditions: &str) -> Vec<String> {
    let model = format!("format = 1\nerases = \"yes\"\n[[disk]]\nnumber = 0\nwipe = true\n{conditions}\n");
    lines_of("windowsPE", &model)
}

/// What switches the machine off notes it, and ends the interpreter as the machine would.
const SWITCH_OFF: &str = "@echo off\r\necho switched off>X:\\off.txt\r\nexit 99\r\n";

/// Whether setup goes on after the lines.
fn goes_on(windows: &Windows, lines: &[String]) -> bool {
    let _ = fs::remove_file(windows.drive('x').join("off.txt"));
    let (guard, before) = lines.split_last().unwrap();
    for line in before {
        assert_eq!(windows.run(line), 0, "{line}");
    }
    let code = windows.run(guard);
    let is_off = windows.text('x', "off.txt").contains("off");
    assert_eq!(is_off, code != 0, "{guard}: {code}");
    code == 0
}

#[test]
#[ignore = "needs wine"]
fn a_disk_is_erased_only_after_its_check_said_so() {
    let windows = Windows::new();
    windows.drive('x');
    windows.put('c', "windows/wpeutil.cmd", SWITCH_OFF.as_bytes());
    // The layer has two disks of equal size.
    let passes = guarded("at_least = \"100MiB\"\nat_most = \"90TiB\"");
    assert!(goes_on(&windows, &passes));
    assert!(!goes_on(&windows, &guarded("only_disk = true")), "there are two");
    assert!(!goes_on(&windows, &guarded("at_least = \"90TiB\"")), "it is not so large");
    assert!(!goes_on(&windows, &guarded("at_most = \"10MiB\"")), "it is larger");
    let other: Vec<String> =
        passes.iter().map(|line| line.replace("-disks.cmd 0 ", "-disks.cmd 7 ")).collect();
    assert_ne!(other, passes);
    assert!(!goes_on(&windows, &other), "there is no eighth disk");

    // A check that cannot be made is not one that was passed.
    let (guard, _) = passes.split_last().unwrap();
    let script = fs::read_to_string(windows.drive('x').join("neatstack-disks.vbs")).unwrap();
    let without_wmi = script.replace("winmgmts:root\\cimv2", "winmgmts:root\\nowhere");
    assert_ne!(without_wmi, script);
    for (what, text) in [
        ("no way to ask the system", without_wmi.as_str()),
        ("an empty script", ""),
        ("a script that is cut short", &script[..script.len() / 2]),
        ("a script that says yes in general", "wscript.quit 0"),
        ("another failure", "wscript.quit 255"),
    ] {
        windows.put('x', "neatstack-disks.vbs", text.as_bytes());
        assert!(!goes_on(&windows, std::slice::from_ref(guard)), "{what}");
    }
    fs::remove_file(windows.drive('x').join("neatstack-disks.vbs")).unwrap();
    assert!(!goes_on(&windows, std::slice::from_ref(guard)), "no script at all");
    windows.put('x', "neatstack-disks.vbs", script.as_bytes());
    let fewer = guard.replacen(" 0 0 ", " 0 ", 1);
    assert_ne!(&fewer, guard);
    assert!(!goes_on(&windows, &[fewer]), "an argument is missing");
    assert!(goes_on(&windows, std::slice::from_ref(guard)), "and as it is written it passes");
}

/// Notes its arguments in its folder, one in a line, and ends with 5.
const NOTE: &str = "set f=createobject(\"scripting.filesystemobject\").createtextfile(\"args.txt\",true,true)\r\n\
    for i=0 to wscript.arguments.count-1\r\nf.writeline \"[\" & wscript.arguments(i) & \"]\"\r\nnext\r\nf.close\r\n\
    wscript.quit 5\r\n";

/// A media with these applications, as setup leaves it on the disk: what was copied, and the script at its end.
fn installed(
    windows: &Windows,
    apps: &str,
    files: &[(&str, &str)],
    vendor: Option<&str>,
) -> tempfile::TempDir {
    let (keep, dir) = demo();
    ok(&dir, &["unpack", "quay-os-7.iso", "source"]);
    if let Some(script) = vendor {
        let folder = dir.join("source/sources/$OEM$/$$/Setup/Scripts");
        fs::create_dir_all(&folder).unwrap();
        fs::write(folder.join("SetupComplete.cmd"), script).unwrap();
    }
    fs::create_dir(dir.join("own")).unwrap();
    for (name, text) in files {
        fs::write(dir.join("own").join(name), text).unwrap();
    }
    let text = format!("[source]\nmedia = \"source\"\n[media]\niso = \"t.iso\"\n{apps}");
    fs::write(dir.join("t.stack.toml"), text).unwrap();
    ok(&dir, &["build", "t.stack.toml", "-q"]);
    ok(&dir, &["take", "t.iso", "sources/$OEM$", "--to", "oem"]);
    copy_folder(&dir.join("oem/$OEM$/$1"), &windows.drive('c'));
    copy_folder(&dir.join("oem/$OEM$/$$"), &windows.drive('c').join("windows"));
    keep
}

const AT_END: &str = "cmd.exe /c C:\\windows\\Setup\\Scripts\\SetupComplete.cmd";

/// The lines of the log without date, time and its half of the day.
fn log(windows: &Windows) -> Vec<String> {
    let text = windows.text('c', "NeatStack/apps.log");
    let line = |line: &str| line.splitn(4, ' ').nth(3).unwrap_or(line).trim().to_owned();
    text.lines().map(line).filter(|line| !line.is_empty()).collect()
}

#[test]
#[ignore = "needs wine"]
fn applications_get_their_arguments_and_the_log_their_exit_codes() {
    let windows = Windows::new();
    let apps = r#"
[[app]]
installer = "own/note.vbs"
arguments = 'a 5 "b & c" d^e 100% "(f)" g,h;i=j !k! "l|m<n>o" C:\p\ 7'
[[app]]
installer = "own/ender.cmd"
arguments = "x 3"
[[app]]
installer = "own/Fähre & Co 100%.cmd"
arguments = "9"
[[app]]
installer = "own/thief.cmd"
[[app]]
installer = "own/gone.exe"
[[app]]
installer = "own/last.vbs"
arguments = "1"
"#;
    let files = [
        ("note.vbs", NOTE),
        ("ender.cmd", "@echo off\r\nset > nul\r\ncd /d C:\\\r\necho %1-%2>C:\\ender.txt\r\nexit 9\r\n"),
        ("Fähre & Co 100%.cmd", "@>C:\\ferry.txt echo ferry %1\r\n"),
        ("thief.cmd", "@set NEATSTACK_LOG=C:\\stolen.txt\r\n@set PATH=\r\n@exit /b 0\r\n"),
        ("gone.exe", "MZ"),
        ("last.vbs", NOTE),
    ];
    let _keep = installed(&windows, apps, &files, None);
    fs::remove_file(windows.drive('c').join("NeatStack/apps/05-gone/gone.exe")).unwrap();
    windows.run(AT_END);

    let expected = ["a", "5", "b & c", "d^e", "100%", "(f)", "g,h;i=j", "!k!", "l|m<n>o", "C:\\p\\", "7"];
    let expected: Vec<String> = expected.iter().map(|own| format!("[{own}]")).collect();
    assert_eq!(windows.text('c', "NeatStack/apps/01-note/args.txt").lines().collect::<Vec<_>>(), expected);
    assert_eq!(windows.text('c', "NeatStack/apps/06-last/args.txt").trim(), "[1]");
    assert_eq!(windows.text('c', "ender.txt").trim(), "x-3");
    assert_eq!(windows.text('c', "ferry.txt").trim(), "ferry 9");
    assert!(!windows.drive('c').join("stolen.txt").exists());
    let log = log(&windows);
    let ends: Vec<&str> =
        log.iter().filter_map(|line| line.split_once(" ended with ")).map(|(_, code)| code).collect();
    assert_eq!(ends, ["5", "9", "0", "0", "2", "5"], "{log:#?}");
    assert!(
        log.contains(&"note.vbs a 5 \"b & c\" d^e 100% \"(f)\" g,h;i=j !k! \"l|m<n>o\" C:\\p\\ 7".to_owned()),
        "{log:#?}"
    );
    assert!(
        log.first().unwrap() == "setup-end begins" && log.last().unwrap() == "setup-end is done",
        "{log:#?}"
    );
}

#[test]
#[ignore = "needs wine"]
fn thirty_applications_run_in_order_and_again() {
    let windows = Windows::new();
    let apps: String =
        (1..=30).map(|n| format!("[[app]]\ninstaller = \"own/app.cmd\"\narguments = \"{n}\"\n")).collect();
    let _keep = installed(&windows, &apps, &[("app.cmd", "@>>C:\\order.txt echo %1\r\n@exit %1\r\n")], None);
    for round in 1..=2 {
        windows.run(AT_END);
        let order = windows.text('c', "order.txt");
        let all: Vec<u32> = order.split_whitespace().map(|word| word.parse().unwrap()).collect();
        let expected: Vec<u32> = (0..round).flat_map(|_| 1..=30).collect();
        assert_eq!(all, expected);
    }
    let ends =
        log(&windows).into_iter().filter_map(|line| Some(line.split_once(" ended with ")?.1.to_owned()));
    let expected: Vec<String> = (1..=30).chain(1..=30).map(|n: u32| n.to_string()).collect();
    assert_eq!(ends.collect::<Vec<_>>(), expected);
}

#[test]
#[ignore = "needs wine"]
fn a_vendors_script_at_the_end_of_setup_runs_first_and_ends_only_itself() {
    let windows = Windows::new();
    let apps = "[[app]]\ninstaller = \"own/ours.cmd\"\n";
    let vendor = "@echo off\r\necho vendor>>C:\\order.txt\r\nset NEATSTACK_LOG=C:\\stolen.txt\r\nexit\r\n";
    let _keep = installed(&windows, apps, &[("ours.cmd", "@echo ours>>C:\\order.txt\r\n")], Some(vendor));
    windows.run(AT_END);
    assert_eq!(windows.text('c', "order.txt").split_whitespace().collect::<Vec<_>>(), ["vendor", "ours"]);
    assert!(!windows.drive('c').join("stolen.txt").exists());
}

#[test]
#[ignore = "needs wine"]
fn hidden_commands_run_as_they_are_written() {
    // In the layer `start` is a program that puts quotes anew; in `cmd` itself it gives a line on as it is. So there are
    // no quotes here.
    let windows = Windows::new();
    let runs = [
        r"@>C:\one.txt echo a ^& b (c) & >C:\two.txt echo d",
        r"@>C:\three.txt echo e ^& f",
        r#"cmd.exe /c "exit 3""#,
        r"cscript.exe //nologo C:\note.vbs x 5 z,",
    ];
    let command =
        |run: &&str| format!("[[command]]\nstage = \"system-installed\"\nrun = '{run}'\nhidden = true\n");
    let model = format!("format = 1\n{}", runs.iter().map(command).collect::<String>());
    windows.put('c', "note.vbs", NOTE.replace("\"args.txt\"", "\"C:\\args.txt\"").as_bytes());
    let lines = lines_of("specialize", &model);
    assert_eq!(lines.len(), runs.len());
    let ends: Vec<i32> = lines.iter().map(|line| windows.run(line)).collect();
    assert_eq!(ends, [0, 0, 3, 5]);
    let text = |name: &str| windows.text('c', name).trim().to_owned();
    assert_eq!([text("one.txt"), text("two.txt")], ["a & b (c)", "d"]);
    assert_eq!(text("three.txt"), "e & f");
    assert_eq!(text("args.txt").lines().collect::<Vec<_>>(), ["[x]", "[5]", "[z,]"]);
}

#[test]
#[ignore = "needs wine"]
fn a_machine_finds_its_answers_by_any_serial_number() {
    let windows = Windows::new();
    let chooser = Dialect::Unattend.chooser().unwrap();
    let text = |path: &str| {
        let file = chooser.files.iter().find(|own| own.path == path).unwrap();
        String::from_utf8(file.bytes.clone()).unwrap()
    };
    // Instead of setup, which is not here, the file is noted that it would get.
    let batch = text("neatstack/choose.cmd");
    let noting = batch.replace("start /wait X:\\setup.exe /unattend:", ">C:\\chosen.txt echo ");
    assert_ne!(noting, batch);
    windows.put('c', "neatstack/choose.cmd", noting.as_bytes());
    windows.put('c', "neatstack/serial.vbs", text("neatstack/serial.vbs").as_bytes());
    windows.put('c', "windows/wpeutil.cmd", b"@exit 0\r\n");
    let chosen = || {
        let _ = fs::remove_file(windows.drive('c').join("chosen.txt"));
        windows.run("cmd.exe /c C:\\neatstack\\choose.cmd");
        let text = windows.text('c', "chosen.txt");
        text.trim().trim_matches('"').rsplit('\\').next().unwrap_or_default().to_owned()
    };
    let serials = [
        "BF-7001",
        "bf-7002",
        "  BF 7003  ",
        "B/F.70_05",
        "7",
        "a",
        "Z-9",
        "5CG1234ABC",
        "VMware-56 4d 2b 1a",
        "12 34 56 78",
        "/../../x",
        "(BF)-7012",
        "BF+7013;,=",
        "BF~7014'",
        "#15",
        "@16",
        "[17]",
        "{18}",
        "$19",
        "20:20",
    ];
    for serial in serials {
        let name = format!("{}.xml", neat_answer::serial_name(serial));
        windows.put('c', &format!("neatstack/sites/{name}"), b"<x/>");
        windows.put_beside(
            "wmic.cmd",
            format!("@echo SerialNumber\r\n@echo {serial}  \r\n@echo.\r\n").as_bytes(),
        );
        assert_eq!(chosen(), name, "{serial}");
    }
    windows.put_beside("wmic.cmd", b"@echo SerialNumber\r\n@echo UNLISTED\r\n");
    assert_eq!(chosen(), "", "nobody's answers for a machine that is not in the list");

    // A setup environment without that program asks by a script.
    windows.put_beside("wmic.cmd", b"@exit 1\r\n");
    let own = windows.output("cscript //nologo C:\\neatstack\\serial.vbs");
    let own = neat_answer::serial_name(&own);
    assert!(!own.is_empty(), "the layer has a number");
    windows.put('c', &format!("neatstack/sites/{own}.xml"), b"<x/>");
    assert_eq!(chosen(), format!("{own}.xml"));
}

#[test]
#[ignore = "needs wine"]
fn a_vendors_package_goes_in_by_the_systems_own_handler_and_codes_are_said_in_words() {
    let windows = Windows::new();
    const IDENTITY: &str = "version=\"7.0.1.4\" processorArchitecture=\"amd64\" language=\"neutral\" publicKeyToken=\"bw7ferry\"";
    let package = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><assembly xmlns=\"urn:schemas-microsoft-com:asm.v3\" manifestVersion=\"1.0\">\
         <assemblyIdentity name=\"QB900112\" {IDENTITY}/><package identifier=\"QB900112\" releaseType=\"Update\"><update \
         name=\"fix\"><component><assemblyIdentity name=\"quay-fix\" {IDENTITY}/></component></update></package></assembly>"
    );
    let part = format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><assembly xmlns=\"urn:schemas-microsoft-com:asm.v3\" manifestVersion=\"1.0\">\
         <assemblyIdentity name=\"quay-fix\" {IDENTITY}/><registryKeys><registryKey \
         keyName=\"HKEY_LOCAL_MACHINE\\Software\\QuayFix\"><registryValue name=\"state\" valueType=\"REG_SZ\" value=\"it is \
         in\"/></registryKey></registryKeys></assembly>"
    );
    let cabinet =
        |files: &[(&str, Vec<u8>)]| neat_testing::packs::cabinet(files, cab::CompressionType::MsZip);
    let inner = cabinet(&[("update.mum", package.into_bytes()), ("quay-fix.manifest", part.into_bytes())]);
    let (keep, dir) = demo();
    let stack = |update: &str, more: &str| {
        let text = format!(
            "[source]\nmedia = \"quay-os-7.iso\"\neditions = [2]\n[[update]]\nfrom = \"{update}\"\n{more}[media]\niso = \"t.iso\"\n"
        );
        fs::write(dir.join("t.stack.toml"), text).unwrap();
        ok(&dir, &["build", "t.stack.toml", "--replace", "-q"]);
    };
    // A vendor's file says in a servicing section of its own what is to be installed: ours, which the handler reads too.
    fs::write(dir.join("QB900112-x64.cab"), &inner).unwrap();
    stack("QB900112-x64.cab", "");
    ok(&dir, &["take", "t.iso", "autounattend.xml", "--to", ".", "-q"]);
    let servicing = fs::read(dir.join("autounattend.xml")).unwrap();
    let bundle = cabinet(&[("QB900112-x64.cab", inner), ("QB900112-x64.xml", servicing)]);
    fs::write(dir.join("qb900112.msu"), bundle).unwrap();
    let codes = [3010, 2_359_302, -2_145_124_329, 4];
    let mut apps = String::new();
    for code in codes {
        fs::write(dir.join(format!("code{code}.cmd")), format!("@exit {code}\r\n")).unwrap();
        apps.push_str(&format!("[[app]]\ninstaller = \"code{code}.cmd\"\n"));
    }
    stack("qb900112.msu", &apps);
    ok(&dir, &["take", "t.iso", "sources/$OEM$", "--to", "oem"]);
    copy_folder(&dir.join("oem/$OEM$/$1"), &windows.drive('c'));
    copy_folder(&dir.join("oem/$OEM$/$$"), &windows.drive('c').join("windows"));
    windows.run(AT_END);
    let log = log(&windows);
    assert_eq!(log[1..3], ["qb900112.msu".to_owned(), "qb900112.msu ended with 0".into()], "{log:#?}");
    assert_eq!(windows.run("cmd.exe /c reg.exe query HKLM\\Software\\QuayFix /v state >C:\\found.txt"), 0);
    assert!(windows.text('c', "found.txt").contains("it is in"), "{}", windows.text('c', "found.txt"));
    // What a code means is said behind it, and nothing behind others.
    let behind = |code: i32| {
        let at = log.iter().position(|line| line.ends_with(&format!("ended with {code}"))).unwrap();
        log[at + 1].clone()
    };
    assert_eq!(
        codes.map(behind),
        [
            "that is well, and the machine must start anew".to_owned(),
            "that is well, it was in already".into(),
            "it does not apply to this system".into(),
            "setup-end is done".into(),
        ]
    );
    drop(keep);
}

#[test]
#[ignore = "needs wine"]
fn files_compressed_by_themselves_are_expanded_by_the_systems_own_program() {
    use neat_content::Timestamp;
    use neat_package::{SingleForm, compress_single};
    let windows = Windows::new();
    let text = "the keeper of the lighthouse reads the charts, and the charts read the keeper. ".repeat(700);
    let mixed: Vec<u8> = (0..70_000_u32)
        .map(|n| (n.wrapping_mul(n) >> (8 + n % 3)) as u8 & 0x3F)
        .chain(text.bytes())
        .collect();
    for (form, name) in [(SingleForm::Older, "older.hlp"), (SingleForm::Cabinet, "cabinet.hlp")] {
        for (content, kind) in [(text.as_bytes(), "text"), (&mixed, "mixed"), (b"short", "short")] {
            let packed = compress_single(name, content, form, Timestamp::from_seconds(988_963_200)).unwrap();
            let from = format!("{kind}.hl_");
            windows.put('c', &from, &packed);
            let to = format!("{kind}-{name}");
            assert_eq!(windows.run(&format!("expand.exe C:\\{from} C:\\{to}")), 0, "{to}");
            assert!(fs::read(windows.drive('c').join(&to)).unwrap() == content, "{to}");
        }
    }
}

/// Adds its arguments to a list, one line for each call.
const LIST: &str = "set s=createobject(\"scripting.filesystemobject\")\r\nset f=s.opentextfile(\"C:\\calls.txt\",8,true,-1)\r\n\
    t=\"\"\r\nfor i=0 to wscript.arguments.count-1\r\nt=t & \"[\" & wscript.arguments(i) & \"]\"\r\nnext\r\nf.writeline t\r\nf.close\r\n";

#[test]
#[ignore = "needs wine"]
fn what_the_older_generations_setup_runs_at_its_end_does_what_the_answers_say() {
    let text = r#"
format = 1
[[account]]
name = "purser"
full_name = "Pursers & tills"
groups = ["administrators", "tills (old)"]
password = { file = "word.txt" }
[[account]]
name = "o'hara"
groups = ["users"]
[[registry]]
key = 'HKLM\SOFTWARE\Brackwater & Sons\Till'
name = "Line"
value = '50% of "COM1"'
[[registry]]
key = 'HKLM\SOFTWARE\Brackwater & Sons\Till'
name = "Count"
type = "dword"
value = "7"
[[command]]
stage = "system-installed"
run = 'cscript.exe //nologo %SystemDrive%\list.vbs command "a & b" & 100% of %SystemRoot% ^ end'
[[command]]
stage = "system-installed"
run = '%SystemDrive%\tools\list.cmd after'
[[command]]
stage = "system-installed"
run = '%SystemDrive%\tools\beside.exe'
wait = false
[[script]]
name = "till.cmd"
stage = "system-installed"
text = "echo from a script>C:\\script.txt\n"
"#;
    let windows = Windows::new();
    let base = tempfile::tempdir().unwrap();
    fs::write(base.path().join("word.txt"), "it's \"50%\" & <more>").unwrap();
    let mut secrets = Secrets { base: base.path().to_owned(), ..Secrets::default() };
    let written = write_model(&Model::parse(text).unwrap(), Dialect::Sif, &mut secrets).unwrap();
    assert!(written.text.contains("DetachedProgram"), "{}", written.text);
    let list = "cscript.exe //nologo C:\\list.vbs ";
    windows.put('c', "list.vbs", LIST.as_bytes());
    windows.put('c', "tools/list.cmd", format!("@{list}command %*\r\n").as_bytes());
    windows.put_beside("group.cmd", b"@echo Name=Administratoren\r\n@echo.\r\n");
    // As setup copies what lies in $1; programs that the layer does not have note what they get.
    let mut line = String::new();
    for file in &written.files {
        let text = String::from_utf8(file.bytes.clone()).unwrap();
        if let Some(path) = file.path.strip_prefix("$OEM$/$1/") {
            let noted = text.replace("net.exe ", &format!("{list}net ")).replace("wmic.exe ", "group.cmd ");
            windows.put('c', path, noted.as_bytes());
        } else {
            let own = text.lines().nth(1).unwrap();
            line = own.trim_matches('"').to_owned();
        }
    }
    assert_eq!(windows.run(&line), 0, "{line}");
    let calls = windows.text('c', "calls.txt");
    let root = windows.output("cmd.exe /c echo %SystemRoot%");
    let expected = [
        "[net][user][purser][it's \"50%\" & <more>][/add][/y][/fullname:Pursers & tills]".to_owned(),
        "[net][localgroup][Administratoren][purser][/add]".to_owned(),
        "[net][localgroup][tills (old)][/add]".to_owned(),
        "[net][localgroup][tills (old)][purser][/add]".to_owned(),
        "[net][user][o'hara][][/add][/y]".to_owned(),
        format!("[command][a & b][&][100%][of][{}][^][end]", root.trim()),
        "[command][after]".to_owned(),
    ];
    assert_eq!(calls.lines().collect::<Vec<_>>(), expected);
    assert_eq!(windows.text('c', "script.txt").trim(), "from a script");
    let said = windows.output("reg query \"HKLM\\SOFTWARE\\Brackwater & Sons\\Till\"");
    assert!(said.contains("50% of \"COM1\"") && said.contains("0x7"), "{said}");
    // Where the system does not say how it calls the group, it has its usual name.
    windows.put_beside("group.cmd", b"@exit 1\r\n");
    fs::remove_file(windows.drive('c').join("calls.txt")).unwrap();
    windows.run(&line);
    assert!(windows.text('c', "calls.txt").contains("[localgroup][Administrators][purser]"));
}
