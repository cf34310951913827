//! `answer`: answer files.

use super::{read_text, refuse_existing};
use crate::{
    args::{
        AnswerAction, AnswerArgs, CheckArgs, InsertArgs, IntoArgs, MoveArgs, NewArgs, OutputArgs, ReadArgs,
        RemoveArgs, WriteArgs,
    },
    context::Context,
    show,
};
use neat_answer::{
    AnswerFile, Change, Dialect, Finding, Gravity, Known, MediaFacts, Model, Report, Secrets, SideFile,
    SiteList, change_commands, check_file, check_model,
    model::{Command, Origin, Stage},
    read_file, write_model,
};
use neat_content::{Content, DigestKind, Error, IfThere, PendingFile, Result, digest_of};
use neat_media::read;
use neat_stack::media_facts;
use std::{
    io::{BufRead, IsTerminal, Write},
    path::{Path, PathBuf},
    process::ExitCode,
};

pub(crate) fn run(args: &AnswerArgs, context: &Context) -> Result<ExitCode> {
    match &args.action {
        AnswerAction::New(args) => new(args, context)?,
        AnswerAction::Read(args) => read_answers(args, context)?,
        AnswerAction::Write(args) => write(args, context)?,
        AnswerAction::Insert(args) => insert(args, context)?,
        AnswerAction::Move(args) => shift(args, context)?,
        AnswerAction::Remove(args) => remove(args, context)?,
        AnswerAction::Check(args) => return check(args, context),
    }
    Ok(ExitCode::SUCCESS)
}

/// Answers as they lie on the disk.
enum Opened {
    Model(Box<Model>),
    File(AnswerFile),
}

fn bytes_of(path: &Path) -> Result<Vec<u8>> {
    Content::from_path(path)?
        .to_vec(AnswerFile::MAX_LEN, "answer file")
        .map_err(|error| error.within(path.display()))
}

fn open(path: &Path) -> Result<Opened> {
    let bytes = bytes_of(path)?;
    let text = String::from_utf8_lossy(&bytes);
    if path.to_string_lossy().ends_with(".answer.toml") || Model::is_model(&text) {
        let model = Model::parse(&read_text(path, "model")?).map_err(|error| error.within(path.display()))?;
        return Ok(Opened::Model(Box::new(model)));
    }
    AnswerFile::parse(&bytes).map(Opened::File).map_err(|error| error.within(path.display()))
}

fn folder_of(path: &Path) -> PathBuf {
    path.parent().unwrap_or(Path::new("")).to_owned()
}

/// Writes a file under a temporary name first. What may hold passwords is for its owner alone.
fn write_file(path: &Path, bytes: &[u8], there: IfThere, is_private: bool) -> Result<()> {
    if let Some(folder) = path.parent().filter(|folder| !folder.as_os_str().is_empty()) {
        std::fs::create_dir_all(folder).map_err(Error::io("create the folder", folder))?;
    }
    let (pending, mut output) = PendingFile::create_output(path, there, None)?;
    if is_private {
        pending.make_private()?;
    }
    output.write_bytes(bytes)?;
    pending.commit(output.finish()?.0)
}

fn give(text: &str, args: &OutputArgs, context: &Context) -> Result<()> {
    match &args.output {
        Some(path) => {
            refuse_existing(path, args.replace)?;
            write_file(path, text.as_bytes(), IfThere::replace(args.replace), false)?;
            context.say_line(&format!("wrote {}", path.display()));
            Ok(())
        }
        None => context.print_document(text),
    }
}

/// Asks on the terminal, where there is one.
fn ask_for(what: &str, usual: &str) -> Result<String> {
    let fault = Error::io("read from", Path::new("the terminal"));
    let mut out = std::io::stderr();
    write!(out, "{what} [{usual}]: ")
        .and_then(|()| out.flush())
        .map_err(Error::io("write to", Path::new("the terminal")))?;
    let mut line = String::new();
    std::io::stdin().lock().read_line(&mut line).map_err(fault)?;
    Ok(line.trim().to_owned())
}

/// Asks for a secret; what is typed is not shown.
pub(super) fn ask_secret(field: &str) -> Result<String> {
    let fault = || Error::io("ask on", Path::new("the terminal"));
    if !std::io::stdin().is_terminal() {
        return Err(Error::request(
            format!("`{field}` is to be asked for, and there is no terminal"),
            "run it on a terminal, or take the secret from a file or the environment",
        ));
    }
    let mut terminal = std::fs::File::options().read(true).write(true).open("/dev/tty").map_err(fault())?;
    write!(terminal, "{field} (not shown): ").map_err(fault())?;
    let hidden = HiddenInput::start(&terminal)?;
    let mut line = String::new();
    std::io::BufReader::new(&terminal).read_line(&mut line).map_err(fault())?;
    drop(hidden);
    writeln!(terminal).map_err(fault())?;
    Ok(line.trim_end_matches(['\n', '\r']).to_owned())
}

/// While it lives, what is typed is not shown.
struct HiddenInput<'a> {
    terminal: &'a std::fs::File,
    before: rustix::termios::Termios,
}

impl<'a> HiddenInput<'a> {
    fn start(terminal: &'a std::fs::File) -> Result<Self> {
        let failed = |error: rustix::io::Errno| Error::io("change", Path::new("the terminal"))(error.into());
        let before = rustix::termios::tcgetattr(terminal).map_err(failed)?;
        let mut hidden = before.clone();
        hidden.local_modes -= rustix::termios::LocalModes::ECHO;
        rustix::termios::tcsetattr(terminal, rustix::termios::OptionalActions::Flush, &hidden)
            .map_err(failed)?;
        Ok(Self { terminal, before })
    }
}

impl Drop for HiddenInput<'_> {
    fn drop(&mut self) {
        // Nothing more can be done if the terminal does not take its own settings back.
        let _ =
            rustix::termios::tcsetattr(self.terminal, rustix::termios::OptionalActions::Flush, &self.before);
    }
}

fn new(args: &NewArgs, context: &Context) -> Result<()> {
    let asks =
        std::io::stdin().is_terminal() && std::io::stderr().is_terminal() && !context.quiet && !context.json;
    let get = |given: &Option<String>, what: &str, usual: &str| match given {
        Some(text) => Ok(text.clone()),
        None if asks => ask_for(what, usual),
        None => Ok(String::new()),
    };
    let known = Known {
        language: get(&args.language, "Language", "en-GB")?,
        time_zone: get(&args.time_zone, "Time zone", "Etc/UTC")?,
        edition: args.edition.clone().unwrap_or_default(),
        machine: args.machine.clone().unwrap_or_default(),
        account: get(&args.account, "Name of the first account", "user")?,
    };
    let text = neat_answer::starter(&known)?;
    let problems: Vec<Finding> = check_model(&Model::parse(&text)?, None)
        .findings
        .into_iter()
        .filter(|own| own.gravity == Gravity::Problem)
        .collect();
    if let Some(finding) = problems.first() {
        return Err(Error::request(format!("{}: {}", finding.field, finding.message), finding.hint.clone()));
    }
    if context.json && args.output.output.is_none() {
        return context.print_json(&Model::parse(&text)?);
    }
    give(&text, &args.output, context)
}

/// The path of `file` as seen from the folder of `model`, or absolute where that is not below.
fn origin_path(file: &Path, model: Option<&Path>) -> Result<String> {
    let absolute = std::path::absolute(file).map_err(Error::io("find", file))?;
    let base = match model {
        Some(model) => std::path::absolute(model).map_err(Error::io("find", model))?,
        None => std::path::absolute("x").map_err(Error::io("find", Path::new(".")))?,
    };
    let base = folder_of(&base);
    Ok(absolute.strip_prefix(&base).unwrap_or(&absolute).display().to_string())
}

fn read_answers(args: &ReadArgs, context: &Context) -> Result<()> {
    let Opened::File(file) = open(&args.file)? else {
        return Err(Error::request(
            format!("{} is in the neutral form already", args.file.display()),
            "write it in a dialect with `neatstack answer write`",
        ));
    };
    let reading = read_file(&file).map_err(|error| error.within(args.file.display()))?;
    let mut model = reading.model;
    model.origin = Some(Origin {
        dialect: file.dialect,
        file: origin_path(&args.file, args.output.output.as_deref())?,
        sha256: digest_of(&Content::from_bytes(bytes_of(&args.file)?), DigestKind::Sha256, &context.job())?,
    });
    if context.json && args.output.output.is_none() {
        return context.print_json(&show::answer::ReadView {
            dialect: file.dialect.name(),
            model,
            findings: reading.findings,
        });
    }
    let text = format!("# Read from {}, {}.\n{}", args.file.display(), file.dialect.name(), model.to_toml()?);
    give(&text, &args.output, context)?;
    if !reading.findings.is_empty() {
        context.say(&show::answer::findings("Not in the neutral form", &reading.findings));
    }
    Ok(())
}

fn secrets<'a>(path: &Path, ask: &'a dyn Fn(&str) -> Result<String>) -> Secrets<'a> {
    Secrets { base: folder_of(path), ask: Some(ask), ..Secrets::default() }
}

/// A model of whatever lies at a path, with the file as its origin.
fn model_of(path: &Path, context: &Context) -> Result<Model> {
    match open(path)? {
        Opened::Model(model) => Ok(*model),
        Opened::File(file) => {
            let mut model = read_file(&file).map_err(|error| error.within(path.display()))?.model;
            let name = path.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
            let sha256 =
                digest_of(&Content::from_bytes(bytes_of(path)?), DigestKind::Sha256, &context.job())?;
            model.origin = Some(Origin { dialect: file.dialect, file: name, sha256 });
            Ok(model)
        }
    }
}

fn write(args: &WriteArgs, context: &Context) -> Result<()> {
    let dialect = args.dialect.0;
    let model = model_of(&args.model, context)?;
    if let Some(sites) = &args.sites {
        return write_sites(args, sites, &model, dialect, context);
    }
    let written = write_model(&model, dialect, &mut secrets(&args.model, &ask_secret))?;
    match &args.output {
        None => context.print_document(&written.text)?,
        Some(path) => {
            refuse_existing(path, args.replace)?;
            let beside: Vec<PathBuf> =
                written.files.iter().map(|file| folder_of(path).join(&file.path)).collect();
            beside.iter().try_for_each(|path| refuse_existing(path, args.replace))?;
            let there = IfThere::replace(args.replace);
            write_file(path, &written.bytes, there, true)?;
            write_beside(&written.files, &folder_of(path), there)?;
            context.say_line(&format!("wrote {}", path.display()));
            for path in beside {
                context.say_line(&format!("wrote {}, which belongs on the media beside it", path.display()));
            }
        }
    }
    if !written.findings.is_empty() {
        context.say(&show::answer::findings("Mind this", &written.findings));
    }
    Ok(())
}

fn write_beside(files: &[SideFile], folder: &Path, there: IfThere) -> Result<()> {
    files.iter().try_for_each(|file| write_file(&folder.join(&file.path), &file.bytes, there, true))
}

fn write_sites(
    args: &WriteArgs,
    sites: &Path,
    model: &Model,
    dialect: Dialect,
    context: &Context,
) -> Result<()> {
    let Some(folder) = &args.output else { return Ok(()) };
    let list =
        SiteList::parse(&read_text(sites, "site list")?).map_err(|error| error.within(sites.display()))?;
    let findings = list.check(Some(model), Some(dialect));
    if let Some(finding) = findings.iter().find(|own| own.gravity == Gravity::Problem) {
        return Err(Error::request(
            format!("{}: {}", sites.display(), finding.message),
            finding.hint.clone(),
        ));
    }
    let ending = Path::new(dialect.place())
        .extension()
        .map(|own| format!(".{}", own.to_string_lossy()))
        .unwrap_or_default();
    let mut model = model.clone();
    let mut secrets = secrets(&args.model, &ask_secret);
    let fetched = neat_answer::fetch(&mut model, &mut secrets)?;
    let mut said: Vec<Finding> = Vec::new();
    for site in &list.sites {
        context.job().check()?;
        let filled = site.fill_model(&model)?;
        let written = neat_answer::write_with(&filled, dialect, &fetched)?;
        let own = folder.join(&site.name);
        let path = if written.files.is_empty() {
            folder.join(format!("{}{ending}", site.name))
        } else {
            own.join(dialect.place())
        };
        refuse_existing(&path, args.replace)?;
        let there = IfThere::replace(args.replace);
        write_file(&path, &written.bytes, there, true)?;
        write_beside(&written.files, &own, there)?;
        said.extend(
            written.findings.into_iter().filter(|finding| !said.contains(finding)).collect::<Vec<_>>(),
        );
    }
    let count = show::count(list.sites.len() as u64, "answer file", "answer files");
    if !said.is_empty() {
        context.say(&show::answer::findings("Mind this", &said));
    }
    context.print_line(&format!("{count} in {}", folder.display()))
}

/// Changes the commands of a stage in a file or a model.
fn change(
    path: &Path,
    into: &IntoArgs,
    stage: Stage,
    change: &Change,
    context: &Context,
    done: impl FnOnce(usize) -> String,
) -> Result<()> {
    let target = into.output.as_deref().unwrap_or(path);
    if into.output.is_some() {
        refuse_existing(target, false)?;
    }
    let (bytes, count, findings) = match open(path)? {
        Opened::File(file) => file.with_commands(stage, change)?,
        Opened::Model(mut model) => {
            let count = change_commands(&mut model, stage, change)?;
            if read_text(path, "model")?.lines().any(|line| line.trim_start().starts_with('#')) {
                context.note("comments of the model are not kept");
            }
            (model.to_toml()?.into_bytes(), count, Vec::new())
        }
    };
    let mut unsaid = findings.iter().filter(|own| own.gravity == Gravity::Problem && own.field == "command");
    if let Some(finding) = unsaid.next() {
        return Err(Error::request(finding.message.clone(), finding.hint.clone()));
    }
    write_file(target, &bytes, IfThere::replace(into.output.is_none()), true)?;
    let done = done(count);
    if context.json {
        return context.print_json(&show::answer::ChangedView { file: target.display().to_string(), done });
    }
    context.print_line(&format!("{done} in {}", target.display()))
}

fn insert(args: &InsertArgs, context: &Context) -> Result<()> {
    let stage: Stage = args.stage.into();
    let command = Command {
        description: args.description.clone(),
        wait: !args.no_wait,
        hidden: args.hidden,
        outside: args.outside,
        ..Command::new(stage, args.command.clone())
    };
    change(&args.file, &args.into, stage, &Change::Insert { command, at: args.at }, context, |count| {
        format!("command {} of {count} at {}", args.at.unwrap_or(count), stage.name())
    })
}

fn shift(args: &MoveArgs, context: &Context) -> Result<()> {
    let stage: Stage = args.stage.into();
    let moved = Change::Move { from: args.from, to: args.to };
    change(&args.file, &args.into, stage, &moved, context, |count| {
        format!("command {} is now number {} of {count} at {}", args.from, args.to, stage.name())
    })
}

fn remove(args: &RemoveArgs, context: &Context) -> Result<()> {
    let stage: Stage = args.stage.into();
    let gone = Change::Remove { number: args.number };
    change(&args.file, &args.into, stage, &gone, context, |count| {
        format!("took out command {} at {}, {count} left", args.number, stage.name())
    })
}

fn facts_of(path: &Path) -> Result<MediaFacts> {
    let media = read::open(path).map_err(|error| error.within(path.display()))?;
    Ok(media_facts(&media.tree))
}

fn check(args: &CheckArgs, context: &Context) -> Result<ExitCode> {
    let facts = args.media.as_deref().map(facts_of).transpose()?;
    let mut reports: Vec<(String, Report)> = Vec::new();
    let name = args.file.display().to_string();
    if is_media(&args.file)? {
        let media = read::open(&args.file).map_err(|error| error.within(args.file.display()))?;
        let facts = media_facts(&media.tree);
        for (path, dialect) in &facts.answer_files {
            let Some(content) = media.tree.file(path) else { continue };
            let bytes = content.to_vec(AnswerFile::MAX_LEN, "answer file")?;
            let file = AnswerFile::parse_as(&bytes, Some(*dialect)).map_err(|error| error.within(path))?;
            reports.push((path.clone(), check_file(&file, Some(&facts))));
        }
        if reports.is_empty() {
            return Err(Error::request(
                format!("{name} has no answer file where setup looks"),
                "name an answer file, with --media if it is for this one",
            ));
        }
    } else {
        match open(&args.file)? {
            Opened::File(file) => reports.push((name, check_file(&file, facts.as_ref()))),
            Opened::Model(model) => {
                reports.push((name.clone(), check_model(&model, facts.as_ref())));
                for dialect in args.dialect.iter().map(|name| name.0) {
                    let written = write_model(&model, dialect, &mut secrets(&args.file, &ask_secret))?;
                    let mut report = check_file(&written.file()?, facts.as_ref());
                    report.findings.extend(written.findings);
                    report.findings.iter_mut().for_each(|finding| finding.line = None);
                    report.findings.sort_by_key(|finding| finding.gravity);
                    reports.push((format!("{name} as {}", dialect.name()), report));
                }
            }
        }
    }
    let code = if reports.iter().any(|(_, report)| report.is_dangerous()) {
        4
    } else {
        u8::from(reports.iter().any(|(_, report)| report.has_problems()))
    };
    if context.json {
        let checked = reports.into_iter().map(|(file, report)| show::answer::CheckedFile {
            file,
            erases: report.erasure.line(),
            report,
        });
        context.print_json(&show::answer::CheckedView { checked: checked.collect(), exit_code: code })?;
    } else {
        let text: Vec<String> =
            reports.iter().map(|(name, report)| show::answer::report(name, report)).collect();
        context.print(&text.join("\n"))?;
    }
    Ok(ExitCode::from(code))
}

fn is_media(path: &Path) -> Result<bool> {
    if path.is_dir() {
        return Ok(true);
    }
    let source = neat_content::Source::open(path)?;
    Ok(read::is_disc(&source).unwrap_or(false) || read::is_stick(&source).unwrap_or(false))
}
