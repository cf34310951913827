//! How each kind of installer is run, in a script of its own.
//!
//! Each application gets a small script beside its installer. It runs in a `cmd` of its own, so that whatever the
//! installer does (ends its interpreter, sets variables, changes folders) ends with it.

use crate::recipe::AppSection;
use neat_answer::command_line::{
    batch::{Part, Script},
    powershell,
};
use neat_content::{Error, Result};

/// Name of the script beside an installer.
pub(super) const RUN: &str = "neatstack-run.cmd";

/// How an installer is run, by the ending of its name.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Program,
    Batch,
    Msi,
    Patch,
    PowerShell,
    Host,
    Update,
    App,
    Registration,
}

const KINDS: [(&str, Kind); 16] = [
    ("exe", Kind::Program),
    ("com", Kind::Program),
    ("cmd", Kind::Batch),
    ("bat", Kind::Batch),
    ("msi", Kind::Msi),
    ("msp", Kind::Patch),
    ("ps1", Kind::PowerShell),
    ("vbs", Kind::Host),
    ("js", Kind::Host),
    ("wsf", Kind::Host),
    ("msu", Kind::Update),
    ("appx", Kind::App),
    ("appxbundle", Kind::App),
    ("msix", Kind::App),
    ("msixbundle", Kind::App),
    ("reg", Kind::Registration),
];

/// An installer as it is staged: under a name that every code page and every script can say.
#[derive(Clone, Debug)]
pub(super) struct Installer {
    kind: Kind,
    /// Its name beside the script.
    pub name: String,
}

impl Installer {
    /// The installer of an application.
    ///
    /// # Errors
    /// `BadRequest` for a kind of file that nothing runs.
    pub(super) fn of(app: &AppSection) -> Result<Self> {
        let named = |error: Error| error.within(format!("[[app]] {}", app.installer));
        Self::of_name(super::file_name(app), &app.arguments).map_err(named)
    }

    /// The installer with this name.
    ///
    /// # Errors
    /// As [`Installer::of`].
    pub(super) fn of_name(original: &str, arguments: &str) -> Result<Self> {
        if arguments.contains(['\r', '\n', '\0']) {
            return Err(Error::request(
                format!("{original}: its arguments have several lines, and a command has one"),
                "write them in one line, or put them into a script that runs the installer",
            ));
        }
        let ending = original.rsplit_once('.').map_or("", |(_, ending)| ending).to_ascii_lowercase();
        let found = KINDS.iter().find(|(own, _)| *own == ending);
        let Some((_, kind)) = found else {
            return Err(Error::request(
                format!("{original}: nothing runs a file of this kind by itself"),
                "name a program, a package (.msi, .msp, .msu, .appx, .msix), a script (.cmd, .bat, .ps1, .vbs, .js) or a \
                 .reg file; drivers go into [[driver]]",
            ));
        };
        let is_plain = original.chars().all(|c| c.is_ascii_alphanumeric() || "-_.".contains(c));
        let name = if is_plain { original.to_owned() } else { format!("installer.{ending}") };
        Ok(Self { kind: *kind, name })
    }

    /// The script that runs it and ends with its exit code.
    pub(super) fn script(&self, arguments: &str) -> Vec<u8> {
        let mut script = Script::new();
        let (name, arguments) = (self.name.as_str(), arguments.trim());
        script.line(&[Part::Own("cd /d \"%~dp0\"")]);
        script.line(&[Part::Own("if not exist "), Part::Path(name), Part::Own(" echo It is not there.")]);
        script.line(&[Part::Own("if not exist "), Part::Path(name), Part::Own(" exit 2")]);
        // A script without `call` is the last thing that this one does.
        let before = match self.kind {
            Kind::Program | Kind::Batch | Kind::App => "",
            Kind::Msi => "msiexec.exe /i ",
            Kind::Patch => "msiexec.exe /p ",
            Kind::PowerShell => "powershell.exe -NoProfile -ExecutionPolicy Bypass -File ",
            Kind::Host => "cscript.exe //nologo ",
            Kind::Update => "wusa.exe ",
            Kind::Registration => "reg.exe import ",
        };
        if self.kind == Kind::App {
            let add = format!(
                "Add-AppxProvisionedPackage -Online -SkipLicense -PackagePath {}",
                powershell::literal(name)
            );
            script.line(&[Part::Tail(&powershell::command(&add))]);
        } else {
            let quiet = if self.kind == Kind::Update && arguments.is_empty() {
                "/quiet /norestart"
            } else {
                arguments
            };
            let space = if quiet.is_empty() { "" } else { " " };
            script.line(&[Part::Own(before), Part::Path(name), Part::Own(space), Part::Tail(quiet)]);
        }
        script.line(&[Part::Own("exit %ERRORLEVEL%")]);
        script.into_bytes()
    }
}

/// The script that switches a feature of the installed system, and ends with an exit code. `content` is the folder beside it
/// with what the feature needs.
pub(super) fn feature_script(name: &str, on: bool, content: Option<&str>) -> Vec<u8> {
    let mut line = if on {
        format!(
            "$ErrorActionPreference='Stop'; $r = Enable-WindowsOptionalFeature -Online -All -NoRestart -FeatureName {}",
            powershell::literal(name)
        )
    } else {
        format!(
            "$ErrorActionPreference='Stop'; $r = Disable-WindowsOptionalFeature -Online -NoRestart -FeatureName {}",
            powershell::literal(name)
        )
    };
    if let Some(folder) = content.filter(|_| on) {
        line.push_str(&format!(
            " -LimitAccess -Source (Join-Path $PWD.Path {})",
            powershell::literal(folder)
        ));
    }
    line.push_str("; if ($r.RestartNeeded) { exit 3010 }; exit 0");
    let mut script = Script::new();
    script.line(&[Part::Own("cd /d \"%~dp0\"")]);
    script.line(&[Part::Tail(&powershell::command(&line))]);
    script.line(&[Part::Own("exit %ERRORLEVEL%")]);
    script.into_bytes()
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;
    use crate::recipe::WhenValue;

    fn app(installer: &str, arguments: &str) -> AppSection {
        let (installer, arguments) = (installer.into(), arguments.into());
        AppSection { installer, files: None, arguments, when: WhenValue::default() }
    }

    fn line(installer: &str, arguments: &str) -> String {
        let own = Installer::of(&app(installer, arguments)).unwrap();
        let script = String::from_utf8(own.script(arguments)).unwrap();
        script.lines().rev().nth(1).unwrap().to_owned()
    }

    #[test]
    fn each_kind_is_run_by_what_runs_it() {
        for (installer, arguments, expected) in [
            ("a/setup.exe", "/quiet", "\"setup.exe\" /quiet"),
            ("setup.cmd", "a & b 5", "\"setup.cmd\" a ^& b 5"),
            ("Tool.MSI", "/qn", "msiexec.exe /i \"Tool.MSI\" /qn"),
            ("fix.msp", "", "msiexec.exe /p \"fix.msp\""),
            (
                "x.ps1",
                "-Level 100%",
                "powershell.exe -NoProfile -ExecutionPolicy Bypass -File \"x.ps1\" -Level 100%%",
            ),
            ("x.vbs", "", "cscript.exe //nologo \"x.vbs\""),
            ("kb.msu", "", "wusa.exe \"kb.msu\" /quiet /norestart"),
            ("kb.msu", "/quiet", "wusa.exe \"kb.msu\" /quiet"),
            ("site.reg", "", "reg.exe import \"site.reg\""),
            ("Fähre & Co 100%.exe", "", "\"installer.exe\""),
        ] {
            assert_eq!(line(installer, arguments), expected);
        }
        assert!(line("x.msix", "").contains("-PackagePath 'x.msix'"));
    }

    #[test]
    fn arguments_are_one_line() {
        for arguments in ["/quiet\n/norestart", "/a\r", "/log:\0"] {
            let error = Installer::of(&app("setup.exe", arguments)).unwrap_err().to_string();
            assert!(error.contains("setup.exe") && error.contains("several lines"), "{error}");
        }
        assert!(Installer::of(&app("setup.exe", "/quiet\t/norestart")).is_ok());
    }

    #[test]
    fn what_nothing_runs_is_refused() {
        for name in ["readme.txt", "setup", "net.inf", "picture.exe.png"] {
            let error = Installer::of(&app(name, "")).unwrap_err();
            assert!(error.to_string().contains(name), "{error}");
        }
    }
}
