//! Trials in a stand-in for the virtual-machine program: this very test program, which plays a script on its serial
//! port, its screen and its control socket. What real machines do is seen in the boot tests.

#![allow(clippy::unwrap_used, clippy::panic, missing_docs, reason = "a test that cannot go on has failed")]

use neat_content::{Class, Job, Result, Silent};
use neat_trial::{Attached, End, Firmware, Options, Outcome, Stage, Tools};
use serde_json::{Value, json};
use std::{
    fs,
    io::{BufRead, BufReader, Write},
    os::unix::{fs::PermissionsExt, net::UnixListener},
    path::{Path, PathBuf},
    sync::{Arc, Mutex, atomic::AtomicBool},
    thread,
    time::Duration,
};

/// What the machine shows at the moment.
#[derive(Default)]
struct Shown {
    screen: Vec<u8>,
    picture: u8,
    was_reset: bool,
}

/// Plays the script for what it is started with. Each line is `serial TEXT`, `screen TEXT` (`|` begins a line),
/// `picture NUMBER`, `wait MILLISECONDS`, `reset` or `off`; behind `repeat` it begins again, else it stays on. A script
/// that is `complain TEXT` ends at once.
#[test]
#[ignore = "the stand-in itself, which tests start"]
fn stand_in() {
    let Ok(args) = std::env::var("STAND_IN_ARGS") else { return };
    let folder = PathBuf::from(std::env::var("STAND_IN_FOLDER").unwrap());
    let name = match (args.contains("id=media"), args.contains("if=pflash")) {
        (true, false) => "bios",
        (true, true) => "uefi",
        (false, _) => "disk",
    };
    fs::write(folder.join(format!("{name}.args")), &args).unwrap();
    let play = fs::read_to_string(folder.join(format!("{name}.play"))).unwrap();
    if let Some(text) = play.strip_prefix("complain ") {
        eprintln!("a warning before it\n{text}");
        std::process::exit(1);
    }
    let shown = Arc::new(Mutex::new(Shown::default()));
    let socket = args.split("unix:").nth(1).unwrap().split(',').next().unwrap();
    let listener = UnixListener::bind(socket).unwrap();
    let for_monitor = Arc::clone(&shown);
    thread::spawn(move || answer(&listener, &for_monitor));
    loop {
        play.lines().for_each(|line| perform(line, &shown));
        while !play.ends_with("repeat") {
            thread::sleep(Duration::from_secs(60));
        }
    }
}

fn perform(line: &str, shown: &Mutex<Shown>) {
    let (verb, rest) = line.split_once(' ').unwrap_or((line, ""));
    match verb {
        "serial" => {
            print!("{}", rest.replace('|', "\r\n"));
            std::io::stdout().flush().unwrap();
        }
        "screen" => {
            let mut cells = Vec::new();
            for line in rest.split('|') {
                let whole = (cells.len() + line.len() * 2).next_multiple_of(160).max(cells.len() + 160);
                cells.extend(line.bytes().flat_map(|byte| [byte, 7]));
                cells.resize(whole, 0);
            }
            shown.lock().unwrap().screen = cells;
        }
        "picture" => shown.lock().unwrap().picture = rest.parse().unwrap(),
        "wait" => thread::sleep(Duration::from_millis(rest.parse().unwrap())),
        "reset" => {
            shown.lock().unwrap().was_reset = true;
            thread::sleep(Duration::from_millis(1500));
            std::process::exit(0);
        }
        "off" => std::process::exit(0),
        "repeat" => {}
        other => panic!("no verb {other}"),
    }
}

/// The control socket: a greeting, then an answer to each command.
fn answer(listener: &UnixListener, shown: &Mutex<Shown>) {
    let (mut stream, _) = listener.accept().unwrap();
    writeln!(stream, "{}", json!({ "QMP": { "version": {} } })).unwrap();
    for line in BufReader::new(stream.try_clone().unwrap()).lines() {
        let command: Value = serde_json::from_str(&line.unwrap()).unwrap();
        let arguments = &command["arguments"];
        let file = arguments["filename"].as_str().unwrap_or_default();
        let mut shown = shown.lock().unwrap();
        if std::mem::take(&mut shown.was_reset) {
            writeln!(stream, "{}", json!({ "event": "RESET", "data": {} })).unwrap();
        }
        let mut result = json!({ "return": {} });
        match command["execute"].as_str().unwrap() {
            "qmp_capabilities" | "query-status" => {}
            "pmemsave" => {
                assert_eq!(
                    (arguments["val"].as_u64(), arguments["size"].as_u64()),
                    (Some(0xB8000), Some(4000))
                );
                let mut cells = shown.screen.clone();
                cells.resize(4000, 0);
                fs::write(file, cells).unwrap();
            }
            "screendump" if shown.picture == 255 => {
                result = json!({ "error": { "class": "GenericError", "desc": "no screen" } });
            }
            "screendump" => fs::write(file, [b"P6\n1 1\n255\n", &[shown.picture; 3][..]].concat()).unwrap(),
            other => panic!("no command {other}"),
        }
        writeln!(stream, "{result}").unwrap();
    }
}

/// A folder with scripts, and tools that play them.
struct Theatre {
    folder: tempfile::TempDir,
    tools: Tools,
}

impl Theatre {
    fn new(plays: &[(&str, &str)]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        for (name, play) in plays {
            fs::write(folder.path().join(format!("{name}.play")), play).unwrap();
        }
        let program = folder.path().join("machine");
        let script = format!(
            "#!/bin/sh\nSTAND_IN_ARGS=\"$*\" STAND_IN_FOLDER='{}' exec '{}' --exact stand_in --ignored --nocapture\n",
            folder.path().display(),
            std::env::current_exe().unwrap().display()
        );
        fs::write(&program, script).unwrap();
        fs::set_permissions(&program, fs::Permissions::from_mode(0o755)).unwrap();
        for name in ["code.fd", "variables.fd", "media.iso"] {
            fs::write(folder.path().join(name), name).unwrap();
        }
        let uefi = Some((folder.path().join("code.fd"), folder.path().join("variables.fd")));
        let tools = Tools { program, version: "stand-in".into(), uefi, accelerated: false };
        Self { folder, tools }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    fn run(&self, firmwares: &[Firmware], options: &Options<'_>) -> Result<Vec<Outcome>> {
        neat_trial::run(&self.tools, &self.path("media.iso"), firmwares, options, &Job::silent())
    }

    fn bios(&self, options: &Options<'_>) -> Outcome {
        self.run(&[Firmware::Bios], options).unwrap().remove(0)
    }

    fn args(&self, name: &str) -> String {
        fs::read_to_string(self.path(&format!("{name}.args"))).unwrap()
    }
}

/// Long enough for a busy machine, short enough for a test.
fn options(quiet_ms: u64) -> Options<'static> {
    Options {
        limit: Duration::from_secs(120),
        quiet: Duration::from_millis(quiet_ms),
        memory: 96,
        disk: 5 << 20,
        ..Options::default()
    }
}

fn play(script: &str) -> Theatre {
    Theatre::new(&[("bios", script)])
}

#[test]
fn it_tells_how_far_a_machine_got_that_stands_still() {
    let stage =
        play("serial Booting from DVD/CD...|\nwait 300\nserial ISOLINUX 6.04|Linux version 6.12|\npicture 7");
    let outcome = stage.bios(&options(2500));
    assert_eq!((outcome.end, outcome.stage, outcome.came_up), (End::Quiet, Stage::System, true));
    assert_eq!((outcome.evidence.as_str(), outcome.failure.as_str()), ("Linux version 6.12", ""));
    assert!(outcome.serial.contains("ISOLINUX 6.04") && outcome.installed.is_none());
    let decoder = png::Decoder::new(std::io::Cursor::new(outcome.picture.unwrap()));
    let mut reader = decoder.read_info().unwrap();
    let mut points = vec![0; reader.output_buffer_size().unwrap()];
    reader.next_frame(&mut points).unwrap();
    assert_eq!(points, [7, 7, 7]);
}

#[test]
fn a_machine_is_set_up_as_was_asked() {
    let plays = [("bios", "serial Linux version 6|"), ("uefi", "serial Linux version 6|")];
    for (attached, wanted, missing) in [
        (Attached::Disc, "media=cdrom,readonly=on", "snapshot=on"),
        (Attached::Disk, "snapshot=on", "usb"),
        (Attached::Stick, "usb-storage", "cdrom"),
    ] {
        let stage = Theatre::new(&plays);
        let options = Options { attached, expect: Some("Linux version"), ..options(60_000) };
        let outcomes = stage.run(&[Firmware::Uefi, Firmware::Bios], &options).unwrap();
        let seen: Vec<_> = outcomes.iter().map(|one| (one.firmware, one.attached, one.end)).collect();
        assert_eq!(
            seen,
            [(Firmware::Uefi, attached, End::Expected), (Firmware::Bios, attached, End::Expected)]
        );
        for name in ["bios", "uefi"] {
            let args = stage.args(name);
            assert!(args.contains(wanted) && !args.contains(missing), "{attached:?}: {args}");
            for always in ["-nic none", "-display none", "-m 96", "-no-reboot", "media.iso", "-accel tcg"] {
                assert!(args.contains(always), "{always}: {args}");
            }
        }
        let uefi = stage.args("uefi");
        // The firmware's own variables are copied, as the machine writes to them.
        assert!(uefi.contains("readonly=on,file=") && uefi.contains("code.fd"), "{uefi}");
        assert!(!uefi.contains("variables.fd"), "{uefi}");
        assert_eq!(fs::read(stage.path("media.iso")).unwrap(), b"media.iso");
    }
}

#[test]
fn an_expected_text_ends_it_wherever_it_shows() {
    let far = " ".repeat(70);
    for script in [
        "serial one| Welcome|aboard, all|\nwait 500\nserial Welcome aboard the ferry|".to_owned(),
        format!("screen {far}Welcome aboard"),
        "screen Menu||  Welcome aboard  ".to_owned(),
    ] {
        let stage = play(&script);
        let outcome = stage.bios(&Options { expect: Some("Welcome aboard"), ..options(60_000) });
        assert_eq!((outcome.end, outcome.failure.as_str()), (End::Expected, ""), "{script}");
    }
    // The whole line is told, also when it came in pieces.
    let stage = play("serial Linux version 6|A: Welcome aboard\nwait 100\nserial  at noon|");
    let outcome = stage.bios(&Options { expect: Some("Welcome aboard"), ..options(60_000) });
    assert_eq!((outcome.evidence.as_str(), outcome.came_up), ("A: Welcome aboard at noon", true));
    // It came up, and did not show what was expected.
    let outcome = play("serial Linux version 6|").bios(&Options { expect: Some("Welcome"), ..options(2500) });
    assert_eq!((outcome.end, outcome.stage, outcome.came_up), (End::Quiet, Stage::System, false));
    assert_eq!(outcome.failure, "\"Welcome\" did not show");
}

#[test]
fn failures_are_told_unless_something_else_follows() {
    let stage = play("serial SeaBIOS|Boot failed: Could not read from CDROM (code 0003)|");
    let outcome = stage.bios(&options(60_000));
    assert_eq!((outcome.end, outcome.came_up), (End::Failed, false));
    assert!(outcome.failure.contains("could not load the boot image"), "{}", outcome.failure);
    assert_eq!(outcome.evidence, "Boot failed: Could not read from CDROM (code 0003)");
    // The next boot entry starts.
    let outcome = play("screen No bootable device.\nwait 1500\nscreen Linux version 6").bios(&options(3000));
    assert_eq!((outcome.end, outcome.stage, outcome.came_up), (End::Quiet, Stage::System, true));
    // Nothing at all.
    let outcome = play("serial SeaBIOS (version 1)|").bios(&options(2500));
    assert_eq!((outcome.end, outcome.stage, outcome.came_up), (End::Quiet, Stage::Nothing, false));
    assert_eq!(outcome.failure, "the boot image did not run");
    // What stands behind the firmware's last word comes from the boot image.
    let outcome = play("screen SeaBIOS|Booting from DVD/CD...|Quay says hello").bios(&options(2500));
    assert_eq!((outcome.stage, outcome.evidence.as_str()), (Stage::Image, "Quay says hello"));
}

#[test]
fn machines_that_end_are_told_from_those_that_never_began() {
    // The very last bytes count.
    let outcome = play("serial Linux version 6|\nwait 800\nserial reboot: Power down, Captain\noff")
        .bios(&Options { expect: Some("Power down, Captain"), ..options(60_000) });
    assert_eq!((outcome.end, outcome.came_up), (End::Expected, true), "{}", outcome.serial);
    let outcome = play("serial Linux version 6|\nwait 800\noff").bios(&options(60_000));
    assert_eq!((outcome.end, outcome.stage, outcome.came_up), (End::Off, Stage::Off, true));
    let outcome = play("wait 800\nreset").bios(&options(60_000));
    assert_eq!((outcome.end, outcome.evidence.as_str()), (End::Off, "the machine was started again"));
    let error = play("complain machine: cannot set up guest memory").run(&[Firmware::Bios], &options(9000));
    let error = error.unwrap_err();
    assert!(error.to_string().contains("cannot set up guest memory"), "{error}");
    assert!(!error.to_string().contains("a warning before it"), "{error}");
}

#[test]
fn a_blinking_cursor_is_no_change_and_much_talk_ends_at_the_limit() {
    let outcome = play("serial GNU GRUB|\npicture 1\nwait 500\npicture 2\nwait 500\nrepeat")
        .bios(&Options { limit: Duration::from_secs(6), ..options(4000) });
    // Its serial port repeats the line: without that, only the cursor changes.
    assert_eq!(outcome.end, End::Limit);
    let stage = play("picture 1\nwait 500\npicture 2\nwait 500\nrepeat");
    assert_eq!(stage.bios(&options(4000)).end, End::Quiet);
    // A machine without a picture has a serial port all the same.
    let outcome = play("picture 255\nserial Linux version 6|").bios(&options(2500));
    assert_eq!((outcome.stage, outcome.picture), (Stage::System, None));
}

#[test]
fn what_was_installed_is_started_by_itself() {
    let stage = Theatre::new(&[
        ("bios", "serial Linux version 6|Installing the base system|\nwait 500\noff"),
        ("disk", "serial Linux version 6|harbour login: |\npicture 3"),
    ]);
    let outcome = stage.bios(&Options { unattended: true, ..options(2500) });
    assert_eq!((outcome.end, outcome.stage, outcome.installed), (End::Off, Stage::Off, Some(Stage::Asks)));
    assert!(outcome.serial.contains("harbour login") && outcome.serial.contains("base system"));
    let (first, second) = (stage.args("bios"), stage.args("disk"));
    let disk = |args: &str| args.split("file=").find(|part| part.contains("scratch.disk")).map(str::to_owned);
    let (one, other) = (disk(&first).unwrap(), disk(&second).unwrap());
    assert_eq!(one.split("scratch.disk").next(), other.split("scratch.disk").next(), "the same disk");
    assert!(!second.contains("media.iso"), "{second}");
    // Without being asked to, it ends when the machine does.
    let outcome = stage.bios(&options(2500));
    assert_eq!(outcome.installed, None);
}

#[test]
fn it_stops_when_it_shall_and_leaves_nothing_running() {
    let stage = play("serial Linux version 6|\nwait 100\nserial more|\nwait 100\nrepeat");
    let stop = AtomicBool::new(false);
    let media = stage.path("media.iso");
    thread::scope(|scope| {
        scope.spawn(|| {
            while !stage.path("bios.args").exists() {
                thread::sleep(Duration::from_millis(20));
            }
            thread::sleep(Duration::from_millis(500));
            stop.store(true, std::sync::atomic::Ordering::Relaxed);
        });
        let job = Job::new(&Silent, &stop);
        let error =
            neat_trial::run(&stage.tools, &media, &[Firmware::Bios], &options(60_000), &job).unwrap_err();
        assert_eq!(error.class(), Class::Cancelled);
    });
    assert!(!is_running(stage.folder.path()), "the machine is still on");
    // What is not here is said before anything starts.
    let mut tools = stage.tools.clone();
    tools.uefi = None;
    let error =
        neat_trial::run(&tools, &media, &[Firmware::Uefi], &options(100), &Job::silent()).unwrap_err();
    assert!(
        error.to_string().contains("no UEFI firmware") && error.hint().to_string().contains("firmware"),
        "{error}"
    );
}

/// Whether a process of this stand-in is there.
fn is_running(folder: &Path) -> bool {
    let wanted = format!("STAND_IN_FOLDER={}", folder.display());
    fs::read_dir("/proc").unwrap().flatten().any(|entry| {
        let environment = fs::read(entry.path().join("environ")).unwrap_or_default();
        environment.split(|byte| *byte == 0).any(|variable| variable == wanted.as_bytes())
    })
}
