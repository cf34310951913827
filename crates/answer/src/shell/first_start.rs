//! What runs once when the installed system starts first: a script, and a unit of systemd that runs it.

use super::{Line, Ways};
use crate::command_line::sh::{self, quoted};
use base64::{Engine, engine::general_purpose::STANDARD};

/// Lines run in the installed system itself.
const WAYS: Ways = Ways { inside: "", media: "", target: "", stop: "exit 1", name: ("", "") };

/// The folder of the script, which removes itself.
const FOLDER: &str = "/usr/local/lib/neatstack";
const SCRIPT: &str = "/usr/local/lib/neatstack/first-start";
const UNIT: &str = "/etc/systemd/system/neatstack-first-start.service";

/// What stands before the lines. The unit goes first: a machine that is switched off meanwhile does not run it twice.
const HEAD: &str = "#!/bin/sh\n\
    # Runs once, when the system starts first.\n\
    exec >>/var/log/neatstack-first-start.log 2>&1\n\
    systemctl disable neatstack-first-start.service\n\
    rm -f \"$0\"\n";

/// What follows a line: a failure is logged, and the next one runs.
const FAILED: &str = " || echo \"This ended with $?.\"";
/// What follows a line that is not waited for.
const GOES_ON: &str = " &";

/// The unit: before anybody signs in, once the network is there.
const UNIT_TEXT: &str = "[Unit]\n\
    Description=What the answers run when the system starts first\n\
    ConditionPathExists=/usr/local/lib/neatstack/first-start\n\
    Wants=network-online.target\n\
    After=network-online.target\n\
    Before=getty.target display-manager.service\n\
    \n\
    [Service]\n\
    Type=oneshot\n\
    ExecStart=/usr/local/lib/neatstack/first-start\n\
    KillMode=process\n\
    \n\
    [Install]\n\
    WantedBy=multi-user.target\n";

/// The script for lines. Each runs in a shell of its own, which it may end.
fn script(lines: &[Line]) -> String {
    let mut text = HEAD.to_owned();
    for line in lines {
        let (run, end) = match line {
            Line::Own { run, wait: false, .. } => (run.clone(), GOES_ON),
            line => (line.say(&WAYS), FAILED),
        };
        text.push_str(&format!("sh -c {}{end}\n", quoted(&run)));
    }
    text
}

/// The shell that writes script and unit and has it started.
pub(super) fn say(lines: &[Line]) -> String {
    let packed = STANDARD.encode(script(lines));
    let unit = STANDARD.encode(UNIT_TEXT);
    format!(
        "mkdir -p {FOLDER} && echo {packed} | base64 -d >{SCRIPT} && chmod 700 {SCRIPT} && \
         echo {unit} | base64 -d >{UNIT} && systemctl enable neatstack-first-start.service"
    )
}

/// The lines of what [`say`] wrote.
pub(super) fn understand(shell: &str) -> Option<Vec<Line>> {
    let rest = shell.strip_prefix(&format!("mkdir -p {FOLDER} && echo "))?;
    let (packed, _) = rest.split_once(&format!(" | base64 -d >{SCRIPT} && "))?;
    let text = String::from_utf8(STANDARD.decode(packed).ok()?).ok()?;
    let mut rest = text.strip_prefix(HEAD)?;
    let mut lines = Vec::new();
    while let Some(after) = rest.strip_prefix("sh -c ") {
        let (run, after) = sh::unquoted(after)?;
        lines.push(if let Some(next) = after.strip_prefix(FAILED) {
            rest = next.strip_prefix('\n')?;
            Line::understand(&run, &WAYS)
        } else {
            rest = after.strip_prefix(GOES_ON)?.strip_prefix('\n')?;
            Line::Own { run, wait: false, outside: false }
        });
    }
    (rest.is_empty() && say(&lines) == shell).then_some(lines)
}
