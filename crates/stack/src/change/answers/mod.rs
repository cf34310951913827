//! `[answer]`: answers on the media, checked, with a plain text that says what they will do.

mod given;
mod older;
mod place;

use super::Editor;
use crate::{
    editions::{edition_summaries_quickly, install_image_path, open_image},
    recipe::StackFile,
    report::{AnswersSummary, Finding, Weight},
};
pub(crate) use given::{Given, given, open};
use neat_answer::{
    AnswerFile, Dialect, EditionFact, Gravity, MediaFacts, Report, Site, SiteList, WrittenFile, answer_files,
    check_written, is_no_serial, join_architectures,
    model::{Architecture, Ask},
    serial_name,
};
use neat_content::{Content, Result, Tree, counted};
pub(crate) use older::{name_drivers, put_for_setups};
use place::{make_room, put, tell_option};
pub(crate) use place::{put_companions, put_side_files};

/// The plain text on the media that says what it will do to a machine.
const NOTICE: &str = "neatstack/what-this-does.txt";

/// What a media is, as far as answers have to fit it.
pub fn media_facts(tree: &Tree) -> MediaFacts {
    let mut facts = MediaFacts::of_tree(tree);
    let image = install_image_path(tree).and_then(|path| open_image(tree, &path).ok());
    for (index, edition) in
        image.and_then(|image| edition_summaries_quickly(&image).ok()).into_iter().flatten().enumerate()
    {
        facts.editions.push(EditionFact {
            number: index as u32 + 1,
            name: edition.name.clone(),
            version: edition.version.clone(),
        });
        let architecture = architecture_of(&edition.architecture);
        if let Some(own) = architecture.filter(|own| !facts.architectures.contains(own)) {
            facts.architectures.push(own);
        }
    }
    facts
}

/// What a check found, as findings of the plan.
pub(crate) fn tell(report: &Report, name: &str, findings: &mut Vec<Finding>) {
    for own in &report.findings {
        let place = own.line.map_or_else(|| name.to_owned(), |line| format!("{name}, line {line}"));
        let or_accept = |hint: &str| own.topic.or_accept(hint, ("accept = [\"", "\"]"));
        let (weight, hint) = match own.gravity {
            Gravity::Problem if own.stops(&report.accepted) => (Weight::Refused, or_accept(&own.hint)),
            Gravity::Problem => (Weight::Problem, own.hint.clone()),
            Gravity::Danger => (Weight::Danger, own.hint.clone()),
            Gravity::Note => (Weight::Note, own.hint.clone()),
        };
        findings.push(Finding { weight, message: format!("{place}: {}: {}", own.field, own.message), hint });
    }
    if report.erasure.is_some() {
        findings.push(Finding {
            weight: Weight::Danger,
            message: format!("{name} {}", report.erasure.line()),
            hint: "do not leave the finished media in a machine that shall keep its data".into(),
        });
    }
}

/// Erasing that nobody said is meant.
pub(crate) fn unmeant(name: &str, report: &Report) -> Finding {
    Finding {
        weight: Weight::Refused,
        message: format!("{name} {}", report.erasure.line()),
        hint: "write erases = \"yes\" in it if that is meant".into(),
    }
}

/// Checks answers that were written and says what there is to say; the report is for the text on the media.
pub(crate) fn examine(
    written: &WrittenFile,
    given: &Given,
    name: &str,
    facts: Option<&MediaFacts>,
    findings: &mut Vec<Finding>,
) -> Result<Report> {
    let mut report = check_written(written, facts)?.accepting(&given.accepted());
    // Lines are those of a file that nobody has seen when it was written here.
    for own in &mut report.findings {
        own.line = None;
    }
    report
        .findings
        .extend(written.findings.iter().cloned().map(|own| neat_answer::Finding { line: None, ..own }));
    report.findings.sort_by_key(|own| own.gravity);
    tell(&report, name, findings);
    Ok(report)
}

/// `[answer]` on the media.
pub(crate) fn apply(
    stack: &StackFile,
    given: &Given,
    site: Option<&Site>,
    ask: Option<Ask<'_>>,
    editor: &mut Editor,
) -> Result<()> {
    let Some(section) = &stack.answer else { return Ok(()) };
    let dialects = section.dialects_of(given.usual_dialect());
    let mut reports = Vec::new();
    for dialect in &dialects {
        make_room(section, *dialect, &dialects, editor)?;
        let written = older::with_drivers(given.speak(*dialect, site, ask)?, editor)?;
        editor.note_secret(&written.bytes);
        put(section, &written, given.name(), editor)?;
        let facts = media_facts(&editor.tree);
        let mut findings = Vec::new();
        // A file that was given keeps its lines.
        let report = if matches!(given, Given::File { .. }) && written.findings.is_empty() {
            let report = check_written(&written, Some(&facts))?.accepting(&given.accepted());
            tell(&report, given.name(), &mut findings);
            report
        } else {
            examine(&written, given, given.name(), Some(&facts), &mut findings)?
        };
        if given.is_unmeant(&report) {
            findings.push(unmeant(given.name(), &report));
        }
        editor.findings.extend(findings);
        reports.push(report);
    }
    let machine = site.map(|site| site.name.as_str());
    put_notice(given.name(), &reports, machine, editor)
}

/// The answers of a setup of another architecture, in one file with those that are there: setup takes its own part.
pub(crate) fn put_for_architecture(
    mut given: Given,
    architecture: &str,
    (site, ask): (Option<&Site>, Option<Ask<'_>>),
    editor: &mut Editor,
) -> Result<()> {
    given.serve_only(architecture_of(architecture));
    let dialect = Dialect::OF_MODELS;
    let mut written = given.speak(dialect, site, ask)?;
    let place = answer_files(&editor.tree).into_iter().find(|(_, own)| *own == dialect);
    let place = place.map_or_else(|| dialect.place().to_owned(), |(path, _)| path);
    if let Some(there) = editor.tree.file(&place) {
        let there = AnswerFile::parse(&there.to_vec(AnswerFile::MAX_LEN, "answer file")?)?;
        written.text =
            join_architectures(&there.text, &written.text).map_err(|error| error.within(given.name()))?;
        written.bytes = there.to_bytes(&written.text);
    }
    editor.note_secret(&written.bytes);
    let reason = format!("from {}, for setups of {architecture}, which take their own part", given.name());
    editor.put_made(&place, Content::from_bytes(written.bytes.clone()), true, &reason)?;
    put_side_files(&written.files, editor)?;
    tell_of(&written, &given, site, editor)
}

/// Says of answers that were put there what there is to say.
fn tell_of(written: &WrittenFile, given: &Given, site: Option<&Site>, editor: &mut Editor) -> Result<()> {
    let mut findings = Vec::new();
    let report = examine(written, given, given.name(), Some(&media_facts(&editor.tree)), &mut findings)?;
    if given.is_unmeant(&report) {
        findings.push(unmeant(given.name(), &report));
    }
    editor.findings.extend(findings);
    put_notice(given.name(), &[report], site.map(|site| site.name.as_str()), editor)
}

fn architecture_of(word: &str) -> Option<Architecture> {
    match word {
        "x64" => Some(Architecture::X64),
        "x86" => Some(Architecture::X86),
        "arm64" => Some(Architecture::Arm64),
        _ => None,
    }
}

/// The text that says what the media will do, with these answers and those that were put on it before.
pub(crate) fn put_notice(
    name: &str,
    reports: &[Report],
    machine: Option<&str>,
    editor: &mut Editor,
) -> Result<()> {
    for report in reports {
        let own = AnswersSummary {
            name: name.to_owned(),
            dialect: report.dialect.map_or("", Dialect::name).to_owned(),
            erases: report.erasure.is_some(),
            does: report.does.clone(),
        };
        if !editor.answers.contains(&own) {
            editor.answers.push(own);
        }
    }
    let mut text = "WHAT THIS MEDIA DOES TO A MACHINE\r\n".to_owned();
    if let Some(machine) = machine {
        text.push_str(&format!("for {machine}\r\n"));
    }
    for own in &editor.answers {
        text.push_str(&format!("\r\nWith its {} answers:\r\n", own.dialect));
        for line in &own.does {
            text.push_str(&format!("- {line}\r\n"));
        }
    }
    let handed = editor.handed.lines();
    if !handed.is_empty() {
        text.push_str("\r\nFrom this media, setup also:\r\n");
        handed.iter().for_each(|line| text.push_str(&format!("- {line}\r\n")));
    }
    if editor.answers.iter().any(|own| own.erases) {
        text.push_str("\r\nDo not leave it in a machine that shall keep its data.\r\n");
    }
    let content = Content::from_bytes(text.into_bytes());
    editor.put_made(NOTICE, content, true, "so that whoever finds the media knows what it does")
}

/// One media for all machines of a site list: their answers, and what chooses among them.
pub(crate) fn apply_all(
    stack: &StackFile,
    given: &Given,
    list: &SiteList,
    ask: Option<Ask<'_>>,
    editor: &mut Editor,
) -> Result<()> {
    let Some(section) = &stack.answer else { return Ok(()) };
    let dialects = section.dialects_of(given.usual_dialect());
    let without: Vec<&Site> = list
        .sites
        .iter()
        .filter(|site| site.cells.get("serial").is_none_or(|own| is_no_serial(own)))
        .collect();
    if let Some(site) = without.first() {
        editor.find(
            Weight::Refused,
            format!(
                "row {}: {} has no serial number, and the media finds its answers by it",
                site.row, site.name
            ),
            "add the column `serial`, or make a media for each machine",
        );
    }
    let mut reports = Vec::new();
    for dialect in &dialects {
        make_room(section, *dialect, &dialects, editor)?;
        let Some(chooser) = dialect.chooser() else {
            editor.find(
                Weight::Refused,
                format!("{} cannot choose among answers", dialect.name()),
                "make a media for each machine: take out answers_only",
            );
            continue;
        };
        let mut findings = Vec::new();
        for site in &list.sites {
            let written = given.speak(*dialect, Some(site), ask)?;
            editor.note_secret(&written.bytes);
            let serial = site.cells.get("serial").map(|own| serial_name(own)).unwrap_or_default();
            if !is_no_serial(&serial) {
                let path = format!("{}/{serial}{}", chooser.folder, chooser.ending);
                let content = Content::from_bytes(written.bytes.clone());
                editor.put_made(&path, content, true, &format!("the answers of {}", site.name))?;
            }
            put_side_files(&written.files, editor)?;
            let name = format!("row {}, {}", site.row, site.name);
            let report = examine(&written, given, &name, None, &mut findings)?;
            if reports.is_empty() {
                if given.is_unmeant(&report) {
                    findings.push(unmeant(given.name(), &report));
                }
                reports.push(report);
            }
        }
        // What is true of all machines is said once.
        let mut seen: Vec<String> = Vec::new();
        findings.retain(|own| {
            let rest = own.message.split_once(": ").map_or(own.message.clone(), |(_, rest)| rest.to_owned());
            let is_new = !seen.contains(&rest) || matches!(own.weight, Weight::Problem | Weight::Refused);
            seen.push(rest);
            is_new
        });
        editor.findings.extend(findings);
        let why = "chooses the answers of the machine that it runs on by its serial number";
        for file in &chooser.files {
            editor.put_made(&file.path, Content::from_bytes(file.bytes.clone()), section.replace, why)?;
        }
        tell_option(*dialect, dialect.place(), editor);
    }
    put_notice(given.name(), &reports, Some(&counted(list.sites.len() as u64, "machine", "machines")), editor)
}
