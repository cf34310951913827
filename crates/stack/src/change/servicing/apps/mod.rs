//! Applications, and packages that the installed system takes: staged on the media, run once, with a log.

mod installer;

use super::{Inputs, handed::AtEnd};
use crate::{
    change::{Editor, Given},
    recipe::{AppSection, StackFile, WhenValue},
    report::Weight,
};
use installer::{Installer, RUN};
use neat_answer::{
    Dialect,
    command_line::batch::{Part, Script},
    model::{Command, KeyChoice, Stage},
};
use neat_content::{Content, Error, NodeKind, Result};
use neat_registry::{Change, HiveRole, RegLine, ValueKind, text_data};
use neat_service::{Edition, Item, layout::RunOnceLayout};

/// Folder on the installed disk.
const FOLDER: &str = "NeatStack";
/// Largest script that a media may have already, in bytes.
const LARGEST_SCRIPT: u64 = 1 << 20;

/// Exit codes that installers and the handlers of packages have in common, as `cmd` shows them, and what they say.
const CODES: [(&str, &str); 7] = [
    ("3010", "that is well, and the machine must start anew"),
    ("1641", "that is well, and the machine starts anew"),
    ("2359302", "that is well, it was in already"),
    ("2359301", "that is well, and the machine must start anew"),
    ("-2145124329", "it does not apply to this system"),
    ("-2146498530", "it does not apply to this system"),
    ("1638", "another version is in already"),
];

/// Begins a line of the log.
const LOG: Part<'static> = Part::Own(">>\"%NEATSTACK_LOG%\" echo %DATE% %TIME% ");

impl WhenValue {
    /// Name of the script that runs then, without its ending.
    const fn script(self) -> &'static str {
        match self {
            Self::SetupEnd => "setup-end",
            Self::FirstSignIn => "first-sign-in",
        }
    }
}

/// The name that an installer has, without folders.
fn file_name(app: &AppSection) -> &str {
    app.installer.rsplit('/').next().unwrap_or(&app.installer)
}

/// Folder of what has this number, from 0, and this name.
fn folder_of(number: usize, name: &str) -> String {
    let stem = name.rsplit_once('.').map_or(name, |(stem, _)| stem);
    let clean: String =
        stem.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '-' }).collect();
    format!("{:02}-{clean}", number + 1)
}

/// The command that runs the script of the first sign-in. `cmd` knows where the system is.
fn first_sign_in() -> String {
    format!("cmd.exe /c \"%SystemDrive%\\{FOLDER}\\{}.cmd\"", WhenValue::FirstSignIn.script())
}

fn runs_at(stack: &StackFile, when: WhenValue) -> bool {
    stack.app.iter().any(|app| app.when == when)
}

/// Has the answers run what runs once at the first sign-in, where who signs in first may not: the system's own list of such
/// things is for administrators alone. Says what else decides whether applications are installed.
pub(crate) fn ask_answers(stack: &StackFile, given: Option<&mut Given>, editor: &mut Editor) -> Result<()> {
    let (Some(section), Some(given)) = (&stack.answer, given) else { return Ok(()) };
    if !section.dialects_of(given.usual_dialect()).contains(&Dialect::Unattend) {
        return Ok(());
    }
    let model = given.model()?;
    editor.answers_use_a_set = Some(model.software.configuration_set);
    let has_key = model.system.key.as_ref().is_some_and(|key| !matches!(key, KeyChoice::None(_)));
    if has_key && runs_at(stack, WhenValue::SetupEnd) {
        editor.find(
            Weight::Note,
            "setup leaves out its last script with the product keys of some makers, and with it the applications".into(),
            "use when = \"first-sign-in\" if the key is one of those",
        );
    }
    let first = model.signs_in_first().filter(|own| !own.administers());
    if let Some(account) = first.filter(|_| runs_at(stack, WhenValue::FirstSignIn)) {
        given.add_command(Command {
            description: "Install applications".into(),
            ..Command::new(Stage::FirstSignIn, first_sign_in())
        })?;
        editor.answers_run_apps = true;
        editor.find(
            Weight::Note,
            format!(
                "{} signs in first and is no administrator: the answers run the applications of the first sign-in, \
                 with what {} may do",
                account.name, account.name
            ),
            "use when = \"setup-end\" for installers that change the machine",
        );
    }
    Ok(())
}

/// Says in an edition that the applications run, and at which moment.
pub(super) fn register(stack: &StackFile, by_answers: bool, edition: &mut Edition) -> Result<Vec<Item>> {
    let mut items = Vec::new();
    for app in &stack.app {
        let when = match app.when {
            WhenValue::SetupEnd => "at the end of setup",
            WhenValue::FirstSignIn => "once, at the first sign-in",
        };
        let command = format!("{} {}", file_name(app), app.arguments);
        items.push(Item::applied("app", command.trim(), format!("runs {when}"), 0));
        if !edition.record.apps.iter().any(|own| own == file_name(app)) {
            edition.record.apps.push(file_name(app).to_owned());
        }
    }
    if runs_at(stack, WhenValue::FirstSignIn) && !by_answers {
        const WHAT: &str = "an application at the first sign-in";
        let layout = edition.layout_for(WHAT)?;
        let layout = layout.section(layout.run_once.as_ref(), "run_once", WHAT)?;
        let command = first_sign_in();
        let line = RegLine {
            key: format!("{}\\{}", HiveRole::Software.root(), layout.first_sign_in),
            change: Change::Set {
                name: "!NeatStackApps".into(),
                kind: ValueKind::TEXT,
                data: text_data(&command),
            },
            line: 0,
        };
        items.extend(edition.apply_lines("setting", "applications at the first sign-in", &[line])?);
    }
    Ok(items)
}

/// Where the installer of an application lies on the media: its folder, below that the folder of the installer.
struct Place {
    folder: String,
    inside: String,
}

impl Place {
    /// # Errors
    /// `BadRequest` for a folder whose name a script cannot say in every code page.
    fn of(number: usize, app: &AppSection) -> Result<Self> {
        let inside = match (&app.files, app.installer.rsplit_once('/')) {
            (Some(_), Some((folder, _))) => format!("/{folder}"),
            _ => String::new(),
        };
        if !inside.chars().all(|c| c.is_ascii_alphanumeric() || "-_./ ".contains(c)) {
            return Err(Error::request(
                format!(
                    "[[app]] {}: no script can name the installer's folder in every language",
                    app.installer
                ),
                "give the folders above the installer names of ASCII letters, digits, `-`, `_`, `.` and blanks",
            ));
        }
        Ok(Self { folder: folder_of(number, file_name(app)), inside })
    }
}

/// Puts the applications and the scripts that run them on the media.
pub(super) fn stage(stack: &StackFile, inputs: &Inputs, at_end: &[AtEnd], editor: &mut Editor) -> Result<()> {
    let is_asked = !stack.app.is_empty() || !at_end.is_empty();
    let Some(layout) = inputs.layouts.first().filter(|_| is_asked) else { return Ok(()) };
    let layout = layout.section(layout.run_once.as_ref(), "run_once", "applications")?;
    let base = format!("{}/{FOLDER}", layout.media);
    let first = at_end.iter().enumerate();
    let first: Vec<Run> = first.map(|(n, own)| stage_first(n, own, &base, editor)).collect::<Result<_>>()?;
    for (n, app) in stack.app.iter().enumerate() {
        let (installer, place) = (Installer::of(app)?, Place::of(n, app)?);
        let folder = format!("{base}/apps/{}", place.folder);
        let reason = "setup copies it to the installed disk, where it runs once";
        if let Some(from) = &app.files {
            let (tree, _) = neat_media::folder::read_tree(&editor.local(from))?;
            let Some(own) = tree.find_ignoring_case(&app.installer) else {
                return Err(Error::request(
                    format!("[[app]] {}: there is no such file in {from}", app.installer),
                    "give the installer's path below `files`",
                ));
            };
            for step in tree.walk() {
                if let NodeKind::File(content) = &tree.node(step.id).kind {
                    let path = if step.id == own {
                        format!("{}/{}", place.inside, installer.name)
                    } else {
                        format!("/{}", step.path)
                    };
                    editor.put_made(&format!("{folder}{path}"), content.clone(), true, reason)?;
                }
            }
        } else {
            let from = editor.local(&app.installer);
            editor.put_local(&format!("{folder}/{}", installer.name), &from, true, reason)?;
        }
        let script = Content::from_bytes(installer.script(&app.arguments));
        let path = format!("{folder}{}/{RUN}", place.inside);
        editor.put_made(&path, script, true, "runs the installer with its arguments")?;
    }
    for when in [WhenValue::SetupEnd, WhenValue::FirstSignIn] {
        let mut runs = if when == WhenValue::SetupEnd { first.clone() } else { Vec::new() };
        for (n, app) in stack.app.iter().enumerate().filter(|(_, app)| app.when == when) {
            runs.push(Run::of_app(n, app)?);
        }
        let Some(bytes) = script(&runs, when) else { continue };
        let path = format!("{base}/{}.cmd", when.script());
        editor.put_made(&path, Content::from_bytes(bytes), true, "runs them in order and keeps a log")?;
    }
    if runs_at(stack, WhenValue::SetupEnd) || !at_end.is_empty() {
        run_at_setup_end(layout, editor)?;
    }
    Ok(())
}

/// One thing that a script runs.
#[derive(Clone)]
struct Run {
    /// What the log calls it.
    name: String,
    arguments: String,
    /// The folder with its own script, below ours.
    folder: String,
}

impl Run {
    fn of_app(number: usize, app: &AppSection) -> Result<Self> {
        let Place { folder, inside } = Place::of(number, app)?;
        let (name, arguments) = (file_name(app).to_owned(), app.arguments.clone());
        Ok(Self { name, arguments, folder: format!("apps/{folder}{inside}") })
    }
}

/// Puts what runs before the applications on the media, with its script.
fn stage_first(number: usize, own: &AtEnd, base: &str, editor: &mut Editor) -> Result<Run> {
    const WHY: &str = "setup copies it to the installed disk, where it is installed once";
    let (name, arguments, script) = match own {
        AtEnd::Package { name, content, arguments } => {
            let installer = Installer::of_name(name, arguments)?;
            let folder = folder_of(number, name);
            let path = format!("{base}/updates/{folder}/{}", installer.name);
            editor.put_made(&path, content.clone(), true, WHY)?;
            (name.clone(), arguments.clone(), installer.script(arguments))
        }
        AtEnd::Feature { name, on, content } => {
            let word = if *on { "on" } else { "off" };
            let inside = (!content.is_empty()).then_some("content");
            let folder = format!("{base}/updates/{}/content", folder_of(number, name));
            for (path, content) in content {
                editor.put_made(&format!("{folder}/{path}"), content.clone(), true, WHY)?;
            }
            (name.clone(), word.to_owned(), installer::feature_script(name, *on, inside))
        }
    };
    let folder = format!("updates/{}", folder_of(number, &name));
    let path = format!("{base}/{folder}/{RUN}");
    editor.put_made(&path, Content::from_bytes(script), true, "runs it and ends with its exit code")?;
    Ok(Run { name, arguments, folder })
}

/// The script that runs what belongs to one moment; nothing if that is nothing. Each redirection stands first, as a digit
/// before one would become its handle.
fn script(runs: &[Run], when: WhenValue) -> Option<Vec<u8>> {
    if runs.is_empty() {
        return None;
    }
    let mut script = Script::new();
    script.line(&[Part::Own("rem Installs what the media brings, once, and notes what became of it.")]);
    script.line(&[Part::Own("set \"NEATSTACK_LOG=%~dp0apps.log\"")]);
    script.line(&[LOG, Part::Own(when.script()), Part::Own(" begins")]);
    for Run { name, arguments, folder } in runs {
        script.line(&[LOG, Part::Text(name), Part::Own(" "), Part::Text(arguments)]);
        script.line(&[
            Part::Own(">>\"%NEATSTACK_LOG%\" cmd.exe /d /c \"\"%~dp0"),
            Part::Text(&folder.replace('/', "\\")),
            Part::Own("\\"),
            Part::Own(RUN),
            Part::Own("\"\" 2>&1"),
        ]);
        script.line(&[Part::Own("set \"NEATSTACK_CODE=%ERRORLEVEL%\"")]);
        script.line(&[LOG, Part::Text(name), Part::Own(" ended with %NEATSTACK_CODE%")]);
        script.line(&[Part::Own("call :meaning")]);
    }
    script.line(&[LOG, Part::Own(when.script()), Part::Own(" is done")]);
    script.line(&[Part::Own("exit /b 0")]);
    script.line(&[Part::Own(":meaning")]);
    for (code, meaning) in CODES {
        let test = Part::Own("if \"%NEATSTACK_CODE%\"==\"");
        script.line(&[test, Part::Own(code), Part::Own("\" "), LOG, Part::Own(meaning)]);
    }
    script.line(&[Part::Own("exit /b 0")]);
    Some(script.into_bytes())
}

/// Has the script that setup runs at its end run ours. What a media has there is kept beside it and runs first, in a
/// `cmd` of its own: it may end its interpreter, and it may be in any encoding.
fn run_at_setup_end(layout: &RunOnceLayout, editor: &mut Editor) -> Result<()> {
    let path = &layout.setup_end;
    let stem = path.rsplit_once('.').map_or(path.as_str(), |(stem, _)| stem);
    let before_path = format!("{stem}-before.cmd");
    let before_name = before_path.rsplit('/').next().unwrap_or(&before_path);
    let mut ours = Script::new();
    ours.line(&[
        Part::Own("if exist \"%~dp0"),
        Part::Text(before_name),
        Part::Own("\" cmd.exe /d /c \"\"%~dp0"),
        Part::Text(before_name),
        Part::Own("\"\""),
    ]);
    ours.line(&[
        Part::Own("cmd.exe /d /c \"\"%SystemDrive%\\"),
        Part::Own(FOLDER),
        Part::Own("\\"),
        Part::Own(WhenValue::SetupEnd.script()),
        Part::Own(".cmd\"\""),
    ]);
    let ours = ours.into_bytes();
    let there = editor.tree.find_ignoring_case(path).and_then(|id| editor.tree.node(id).content().cloned());
    if let Some(content) = there {
        let bytes = content.to_vec(LARGEST_SCRIPT, "script at the end of setup")?;
        if bytes == ours {
            return Ok(());
        }
        let kept = without_former_call(&bytes, layout);
        editor.put_made(
            &before_path,
            Content::from_bytes(kept),
            true,
            "the script that the media had at the end of setup",
        )?;
    }
    editor.put_made(path, Content::from_bytes(ours), true, "setup runs this script when it has ended")
}

/// The bytes without the line that version 0.1 put behind a vendor's script.
fn without_former_call(bytes: &[u8], layout: &RunOnceLayout) -> Vec<u8> {
    let call = format!("call {}\\{FOLDER}\\{}.cmd\r\n", layout.disk, WhenValue::SetupEnd.script());
    bytes.strip_suffix(call.as_bytes()).unwrap_or(bytes).to_vec()
}
