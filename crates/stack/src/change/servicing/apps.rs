//! Applications: staged on the media, run once on the installed system, with a log.

use super::Inputs;
use crate::{
    change::Editor,
    recipe::{AppSection, StackFile, WhenValue},
};
use neat_content::{Content, Encoding, Error, NodeKind, Result};
use neat_registry::{Change, HiveRole, RegLine, ValueKind, text_data};
use neat_service::{Edition, Item, layout::RunOnceLayout};

/// Folder on the installed disk.
const FOLDER: &str = "NeatStack";
/// Largest script that a media may have already, in bytes.
const LARGEST_SCRIPT: u64 = 1 << 20;

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

/// Folder of the application with this number, from 0.
fn folder_of(number: usize, app: &AppSection) -> String {
    let stem = file_name(app).rsplit_once('.').map_or(file_name(app), |(stem, _)| stem);
    let clean: String =
        stem.chars().map(|c| if c.is_ascii_alphanumeric() || "-_.".contains(c) { c } else { '-' }).collect();
    format!("{:02}-{clean}", number + 1)
}

/// Says in an edition that the applications run, and at which moment.
pub(super) fn register(stack: &StackFile, edition: &mut Edition) -> Result<Vec<Item>> {
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
    if stack.app.iter().any(|app| app.when == WhenValue::FirstSignIn) {
        const WHAT: &str = "an application at the first sign-in";
        let layout = edition.layout_for(WHAT)?;
        let layout = layout.section(layout.run_once.as_ref(), "run_once", WHAT)?;
        let command =
            format!("cmd.exe /c \"{}\\{FOLDER}\\{}.cmd\"", layout.disk, WhenValue::FirstSignIn.script());
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

/// Puts the applications and the scripts that run them on the media.
pub(super) fn stage(stack: &StackFile, inputs: &Inputs, editor: &mut Editor) -> Result<()> {
    let Some(layout) = inputs.layouts.first().filter(|_| !stack.app.is_empty()) else { return Ok(()) };
    let layout = layout.section(layout.run_once.as_ref(), "run_once", "applications")?;
    let base = format!("{}/{FOLDER}", layout.media);
    for (n, app) in stack.app.iter().enumerate() {
        let folder = format!("{base}/apps/{}", folder_of(n, app));
        let reason = "setup copies it to the installed disk, where it runs once";
        if let Some(from) = &app.files {
            let (tree, _) = neat_media::folder::read_tree(&editor.local(from))?;
            if tree.find_ignoring_case(&app.installer).is_none() {
                return Err(Error::request(
                    format!("[[app]] {}: there is no such file in {from}", app.installer),
                    "give the installer's path below `files`",
                ));
            }
            for step in tree.walk() {
                if let NodeKind::File(content) = &tree.node(step.id).kind {
                    editor.put_made(&format!("{folder}/{}", step.path), content.clone(), true, reason)?;
                }
            }
        } else {
            editor.put_local(
                &format!("{folder}/{}", file_name(app)),
                &editor.local(&app.installer),
                true,
                reason,
            )?;
        }
    }
    for when in [WhenValue::SetupEnd, WhenValue::FirstSignIn] {
        let text = script(stack, layout, when);
        let Some(text) = text else { continue };
        let path = format!("{base}/{}.cmd", when.script());
        editor.put_made(
            &path,
            Content::from_bytes(Encoding::Ansi.encode(&text)),
            true,
            "runs them in order and keeps a log",
        )?;
    }
    if stack.app.iter().any(|app| app.when == WhenValue::SetupEnd) {
        call_at_setup_end(layout, editor)?;
    }
    Ok(())
}

/// The script that runs the applications of one moment; nothing if there are none.
fn script(stack: &StackFile, layout: &RunOnceLayout, when: WhenValue) -> Option<String> {
    let disk = &layout.disk;
    let mut lines = vec![
        "@echo off".to_owned(),
        "rem Installs applications once and notes what became of them.".to_owned(),
        format!("set LOG={disk}\\{FOLDER}\\apps.log"),
        format!("echo %DATE% %TIME% {} begins>>\"%LOG%\"", when.script()),
    ];
    let mut any = false;
    for (n, app) in stack.app.iter().enumerate().filter(|(_, app)| app.when == when) {
        any = true;
        let inside =
            if app.files.is_some() { app.installer.replace('/', "\\") } else { file_name(app).to_owned() };
        let path = format!("{disk}\\{FOLDER}\\apps\\{}\\{inside}", folder_of(n, app));
        let lower = path.to_lowercase();
        let arguments = app.arguments.replace('%', "%%");
        let command = if lower.ends_with(".msi") {
            format!("start \"\" /wait msiexec.exe /i \"{path}\" {arguments}")
        } else if lower.ends_with(".cmd") || lower.ends_with(".bat") {
            format!("call \"{path}\" {arguments}>>\"%LOG%\" 2>&1")
        } else {
            format!("start \"\" /wait \"{path}\" {arguments}")
        };
        lines.push(format!("echo %DATE% %TIME% {} {arguments}>>\"%LOG%\"", file_name(app)));
        lines.push(command);
        lines.push(format!("echo %DATE% %TIME% {} ended with %ERRORLEVEL%>>\"%LOG%\"", file_name(app)));
    }
    lines.push(format!("echo %DATE% %TIME% {} is done>>\"%LOG%\"", when.script()));
    any.then(|| lines.join("\r\n") + "\r\n")
}

/// Has the script at the end of setup call ours; what a media has there stays before it.
fn call_at_setup_end(layout: &RunOnceLayout, editor: &mut Editor) -> Result<()> {
    let path = &layout.setup_end;
    let call = format!("call {}\\{FOLDER}\\{}.cmd\r\n", layout.disk, WhenValue::SetupEnd.script());
    let before = editor.tree.find_ignoring_case(path).and_then(|id| editor.tree.node(id).content().cloned());
    let mut bytes = match before {
        Some(content) => content.to_vec(LARGEST_SCRIPT, "script at the end of setup")?,
        None => b"@echo off\r\n".to_vec(),
    };
    if bytes.windows(call.len()).any(|window| window.eq_ignore_ascii_case(call.as_bytes())) {
        return Ok(());
    }
    if !bytes.ends_with(b"\n") {
        bytes.extend_from_slice(b"\r\n");
    }
    bytes.extend_from_slice(call.as_bytes());
    editor.put_made(path, Content::from_bytes(bytes), true, "setup runs this script when it has ended")
}
