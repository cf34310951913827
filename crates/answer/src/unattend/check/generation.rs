//! What systems of a generation lack, and who may do what at the first sign-in.
//!
//! Versions are those of the editions on the media. What is told of a generation is public documentation of its system;
//! nothing of it could be run here.

use crate::{
    Finding, MediaFacts, Topic,
    check::EditionFact,
    model::{EditionChoice, Model, Stage},
    unattend::tasks,
};

/// A version: major, minor, build.
type Version = (u32, u32, u32);

/// The first with Windows PowerShell in every edition.
const POWERSHELL: Version = (6, 1, 0);
/// The first with apps.
const APPS: Version = (6, 2, 0);
/// The first whose setup may come without the script host's language and without `wmic`.
const FEWER_TOOLS: Version = (10, 0, 26_100);

pub(super) fn check(model: &Model, media: Option<&MediaFacts>, findings: &mut Vec<Finding>) {
    first_sign_in(model, findings);
    let editions = media.map(|own| own.editions.as_slice()).unwrap_or_default();
    for edition in editions.iter().filter(|own| is_meant(model, own)) {
        let Some(version) = version_of(&edition.version) else { continue };
        let is = format!("{} (version {})", edition.name, edition.version);
        if version < POWERSHELL {
            for (field, what) in needing_powershell(model) {
                findings.push(Finding::new(
                    Topic::Command,
                    field,
                    format!("{is} may have no PowerShell, and {what} needs it"),
                    "leave it out, or do it by a command of your own",
                ));
            }
        }
        if version < APPS && !model.software.remove.is_empty() {
            let why = format!("{is} has no apps");
            findings.push(Finding::needless("software.remove", crate::Dialect::Unattend, &why));
        }
        if version >= FEWER_TOOLS && model.disk.iter().any(crate::model::Disk::is_guarded) {
            findings.push(Finding::told(
                Topic::Unusual,
                "disk",
                format!(
                    "setup of {is} may come without VBScript: PowerShell measures the disks then, and without both it stops"
                ),
            ));
        }
    }
    findings.dedup();
}

/// Whether an edition is one that may be installed.
fn is_meant(model: &Model, edition: &EditionFact) -> bool {
    match &model.system.edition {
        Some(EditionChoice::Name(name)) if name != "ask" => *name == edition.name,
        Some(EditionChoice::Number(number)) => *number == edition.number,
        _ => true,
    }
}

fn version_of(text: &str) -> Option<Version> {
    let mut numbers = text.split('.').map(|own| own.parse::<u32>().ok());
    Some((numbers.next()??, numbers.next()??, numbers.next().flatten().unwrap_or(0)))
}

/// What is said by PowerShell, with its field.
fn needing_powershell(model: &Model) -> Vec<(&'static str, String)> {
    let mut out = Vec::new();
    if tasks::name_is_pattern(&model.machine.name) {
        out.push(("machine.name", "a name that the machine makes itself".to_owned()));
    }
    if model.administrator.enabled.is_some() {
        out.push(("administrator.enabled", "switching the administrator's account".into()));
    }
    if let Some(account) = model.account.iter().find(|own| own.password_never_expires) {
        out.push(("account.password_never_expires", format!("the password of {}", account.name)));
    }
    let is_powershell = |own: &&crate::model::Script| own.name.to_ascii_lowercase().ends_with(".ps1");
    out.extend(model.script.iter().find(is_powershell).map(|own| ("script", own.name.clone())));
    out
}

/// What runs at the first sign-in runs as whoever signs in.
fn first_sign_in(model: &Model, findings: &mut Vec<Finding>) {
    let runs = model.commands(Stage::FirstSignIn).next().is_some()
        || model.script.iter().any(|own| own.stage == Stage::FirstSignIn);
    let Some(first) = model.signs_in_first().filter(|own| !own.administers()) else { return };
    if runs {
        findings.push(Finding::told(
            Topic::Unusual,
            "command",
            format!(
                "what runs at the first sign-in runs as {}, who may not change the machine: what must goes to \
                 system-installed",
                first.name
            ),
        ));
    }
    if let Some(lasting) = model.account.iter().find(|own| own.password_never_expires) {
        findings.push(Finding::told(
            Topic::Unusual,
            "account.password_never_expires",
            format!(
                "{} signs in first and may not say it for {} alone: passwords of all local accounts stay good",
                first.name, lasting.name
            ),
        ));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::model::{Account, Command, Disk, Script};

    fn model() -> Model {
        let mut model = Model::default();
        model.machine.name = "LAB-{serial}".into();
        model.administrator.enabled = Some(false);
        model.software.remove = vec!["Quay.Cards".into()];
        model.disk.push(Disk { only_disk: true, ..Disk::default() });
        model.script.push(Script {
            name: "A.PS1".into(),
            stage: Stage::SystemInstalled,
            text: "x".into(),
            from: String::new(),
            carried: crate::model::Carried::Inside,
        });
        model
    }

    fn fields(model: &Model, versions: &[&str]) -> Vec<String> {
        let edition = |(index, version): (usize, &&str)| EditionFact {
            number: index as u32 + 1,
            name: format!("Edition {}", index + 1),
            version: (*version).to_owned(),
        };
        let media = MediaFacts {
            editions: versions.iter().enumerate().map(edition).collect(),
            ..MediaFacts::default()
        };
        let mut findings = Vec::new();
        check(model, Some(&media), &mut findings);
        findings.into_iter().map(|own| own.field).collect()
    }

    #[test]
    fn what_a_generation_lacks_is_said_of_the_editions_that_are_meant() {
        let old = ["machine.name", "administrator.enabled", "script", "software.remove"];
        assert_eq!(fields(&model(), &["6.0.6002"]), old);
        assert_eq!(fields(&model(), &["6.1.7601"]), ["software.remove"]);
        for version in ["6.2.9200", "6.3.9600", "7.0.1", "10.0.19045", "10.0.22631", "10.0", ""] {
            assert_eq!(fields(&model(), &[version]), [""; 0], "{version}");
        }
        assert_eq!(fields(&model(), &["10.0.26100"]), ["disk"]);
        let one = Model {
            system: crate::model::System { edition: Some(EditionChoice::Number(2)), ..Default::default() },
            ..model()
        };
        assert_eq!(fields(&one, &["6.0.6002", "10.0.19045"]), [""; 0]);
        assert_eq!(fields(&one, &["10.0.19045", "6.1.7601"]), ["software.remove"]);
    }

    #[test]
    fn who_signs_in_first_is_named_when_that_is_no_administrator() {
        let mut model = Model::default();
        model.account.push(Account { password_never_expires: true, ..Account::named("pupil") });
        model.command.push(Command::new(Stage::FirstSignIn, "notes.exe"));
        assert_eq!(fields(&model, &[]), ["command", "account.password_never_expires"]);
        // Another account is signed in before.
        let admin = Account {
            groups: vec!["administrators".into()],
            automatic_sign_ins: 1,
            ..Account::named("desk")
        };
        model.account.push(admin);
        assert_eq!(fields(&model, &[]), [""; 0]);
    }
}
