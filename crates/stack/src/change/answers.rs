//! `[answer]`: answers on the media, checked, with a plain text that says what they will do.

use super::Editor;
use crate::{
    editions::{edition_summaries_quickly, install_image_path, open_image},
    recipe::{AnswerSection, StackFile},
    report::{AnswersSummary, Finding, Weight},
};
use neat_answer::{
    AnswerFile, Dialect, EditionFact, Gravity, MediaFacts, Model, Reading, Report, SideFile, Site, SiteList,
    Topic, WrittenFile, answer_files, check_file, is_no_serial,
    model::{Architecture, Ask, Command, Secrets},
    read_file, serial_name, write_model,
};
use neat_content::{Content, Error, Result, Tree, counted};
use std::path::{Path, PathBuf};

/// The plain text on the media that says what it will do to a machine.
const NOTICE: &str = "neatstack/what-this-does.txt";

/// Answers as they were given.
pub(crate) enum Given {
    /// The neutral form, and the folder that it names files from.
    Model { model: Box<Model>, base: PathBuf, name: String, accept: Vec<Topic> },
    /// A file in a dialect.
    File { file: AnswerFile, bytes: Vec<u8>, name: String, accept: Vec<Topic> },
}

/// Reads what a path of the stack file names, and what may be found in it.
pub(crate) fn open(path: &Path, name: &str, accept: &[Topic]) -> Result<Given> {
    let accept = accept.to_vec();
    let bytes = Content::from_path(path)?
        .to_vec(AnswerFile::MAX_LEN, "answer file")
        .map_err(|error| error.within(path.display()))?;
    let text = String::from_utf8_lossy(&bytes);
    if name.ends_with(".answer.toml") || Model::is_model(&text) {
        let model = Model::parse(&text).map_err(|error| error.within(path.display()))?;
        let base = path.parent().unwrap_or(Path::new("")).to_owned();
        return Ok(Given::Model { model: Box::new(model), base, name: name.to_owned(), accept });
    }
    let file = AnswerFile::parse(&bytes).map_err(|error| error.within(path.display()))?;
    Ok(Given::File { file, bytes, name: name.to_owned(), accept })
}

/// Reads `[answer]`.
pub(crate) fn given(section: &AnswerSection, editor: &Editor) -> Result<Given> {
    match (&section.file, &section.model) {
        (Some(file), _) => open(&editor.local(file), file, &section.accept),
        (None, Some(model)) => Ok(Given::Model {
            model: Box::new(model.clone()),
            base: editor.local(""),
            name: "[answer.model]".into(),
            accept: section.accept.clone(),
        }),
        (None, None) => Err(Error::request("[answer] has no answers", "write file = \"…\"")),
    }
}

impl Given {
    /// What people call it.
    pub fn name(&self) -> &str {
        match self {
            Self::Model { name, .. } | Self::File { name, .. } => name,
        }
    }

    /// The dialect that is written when none is asked for.
    pub fn usual_dialect(&self) -> Dialect {
        match self {
            Self::Model { .. } => Dialect::OF_MODELS,
            Self::File { file, .. } => file.dialect,
        }
    }

    /// The neutral form.
    pub fn model(&self) -> Result<Model> {
        match self {
            Self::Model { model, .. } => Ok((**model).clone()),
            Self::File { file, .. } => Ok(read_file(file)?.model),
        }
    }

    /// Adds a command.
    pub fn add_command(&mut self, command: Command) -> Result<()> {
        match self {
            Self::Model { model, .. } => model.command.push(command),
            Self::File { file, bytes, .. } => {
                let (changed, _) = file.changed(|model| {
                    model.command.push(command);
                    Ok(())
                })?;
                *file = AnswerFile::parse_as(&changed, Some(file.dialect))?;
                *bytes = changed;
            }
        }
        Ok(())
    }

    /// What may be found in it, as it says itself and the stack file says of it.
    pub fn accepted(&self) -> Vec<Topic> {
        match self {
            Self::Model { model, accept, .. } => [model.accept.as_slice(), accept].concat(),
            Self::File { accept, .. } => accept.clone(),
        }
    }

    /// Whether it erases and nobody said so where it can be said: in a model.
    pub fn is_unmeant(&self, report: &Report) -> bool {
        matches!(self, Self::Model { .. }) && report.is_dangerous()
    }

    /// The answers in a dialect, for a machine of a site list if one is given.
    pub fn speak(&self, dialect: Dialect, site: Option<&Site>, ask: Option<Ask<'_>>) -> Result<WrittenFile> {
        match self {
            Self::Model { model, base, .. } => {
                let model = site.map_or_else(|| Ok((**model).clone()), |site| site.fill_model(model))?;
                let mut secrets = Secrets { base: base.clone(), ask, ..Secrets::default() };
                write_model(&model, dialect, &mut secrets)
            }
            Self::File { file, bytes, .. } if file.dialect == dialect => {
                let (bytes, findings) = match site {
                    None => (bytes.clone(), Vec::new()),
                    Some(site) => file.changed(|model| {
                        *model = site.fill_model(model)?;
                        Ok(())
                    })?,
                };
                let text = AnswerFile::parse_as(&bytes, Some(dialect))?.text;
                Ok(WrittenFile { dialect, bytes, text, files: Vec::new(), findings })
            }
            Self::File { file, .. } => {
                let Reading { model, vault, findings } = read_file(file)?;
                let model = site.map_or_else(|| Ok(model.clone()), |site| site.fill_model(&model))?;
                let mut secrets = Secrets { vault, ask, ..Secrets::default() };
                let mut written = write_model(&model, dialect, &mut secrets)?;
                let lost = findings.into_iter().map(|own| {
                    let message = own.message.replace("is kept as it is", "is not taken over");
                    neat_answer::Finding { message, ..own }
                });
                written.findings.extend(lost);
                Ok(written)
            }
        }
    }
}

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
        let architecture = match edition.architecture.as_str() {
            "x64" => Some(Architecture::X64),
            "x86" => Some(Architecture::X86),
            "arm64" => Some(Architecture::Arm64),
            _ => None,
        };
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
    let file = written.file()?;
    let mut report = check_file(&file, facts).accepting(&given.accepted());
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
        make_room(section, *dialect, &dialects, editor);
        let written = given.speak(*dialect, site, ask)?;
        editor.note_secret(&written.bytes);
        put(section, &written, given.name(), editor)?;
        let facts = media_facts(&editor.tree);
        let mut findings = Vec::new();
        // A file that was given keeps its lines.
        let report = if matches!(given, Given::File { .. }) && written.findings.is_empty() {
            let report = check_file(&written.file()?, Some(&facts)).accepting(&given.accepted());
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

/// Answer files of the same dialect in other places compete with ours.
fn make_room(section: &AnswerSection, dialect: Dialect, ours: &[Dialect], editor: &mut Editor) {
    let usual = dialect.place();
    for (path, other) in answer_files(&editor.tree) {
        if path.eq_ignore_ascii_case(usual) || (other != dialect && ours.contains(&other)) {
            continue;
        }
        if section.replace {
            let gone =
                editor.tree.find(&path).and_then(|id| editor.tree.node(id).content().map(Content::len));
            if let Some(id) = editor.tree.find(&path) {
                editor.tree.remove(id);
            }
            let why = "a second answer file would compete with the new one";
            editor.step("remove", format!("media:/{path}"), why, -(gone.unwrap_or(0) as i64));
        } else {
            editor.find(
                Weight::Refused,
                format!(
                    "the media has another answer file, {path} ({}), and setup would find both",
                    other.name()
                ),
                "write `replace = true` in [answer] to take the other one out",
            );
        }
    }
}

/// Puts answers where setup looks, with the files they need.
fn put(section: &AnswerSection, written: &WrittenFile, name: &str, editor: &mut Editor) -> Result<()> {
    let dialect = written.dialect;
    let usual = dialect.place();
    let target =
        editor.tree.find_ignoring_case(usual).map_or_else(|| usual.to_owned(), |id| editor.tree.path(id));
    put_companions(dialect, "", true, editor)?;
    let reason = format!("from {name}, where setup looks for an answer file of the kind {}", dialect.name());
    editor.put_made(&target, Content::from_bytes(written.bytes.clone()), section.replace, &reason)?;
    put_side_files(&written.files, editor)?;
    tell_option(dialect, &target, editor);
    Ok(())
}

/// Answers in the root are read by installers that a kernel's command line tells of them.
fn tell_option(dialect: Dialect, target: &str, editor: &mut Editor) {
    if let Some(option) = dialect.option_for_root() {
        editor.find(
            Weight::Note,
            format!("the installer reads media:/{target} only when its kernel's command line says so"),
            format!(
                "have the media's own menu add `{option}`, or write a [menu] whose entry says answer = {{ at = \"root\" }}"
            ),
        );
    }
}

/// Puts the empty files that setup takes together with answers in `folder`, which ends in a slash, or neither.
pub(crate) fn put_companions(
    dialect: Dialect,
    folder: &str,
    replace: bool,
    editor: &mut Editor,
) -> Result<()> {
    for name in dialect.companions() {
        let why = format!("{} wants it beside the answers", dialect.name());
        editor.put_made(&format!("{folder}{name}"), Content::from_bytes(Vec::new()), replace, &why)?;
    }
    Ok(())
}

/// Puts files that answers need beside them.
pub(crate) fn put_side_files(files: &[SideFile], editor: &mut Editor) -> Result<()> {
    for file in files {
        editor.put_made(&file.path, Content::from_bytes(file.bytes.clone()), true, "the answers need it")?;
    }
    Ok(())
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
        make_room(section, *dialect, &dialects, editor);
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
