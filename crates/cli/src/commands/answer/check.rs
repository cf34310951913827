//! `answer check`: what is wrong with answers, and what they erase.

use super::{Opened, ask::ask_secret, open, secrets};
use crate::{args::CheckArgs, context::Context, show};
use neat_answer::{AnswerFile, MediaFacts, Report, check_file, check_model, write_model};
use neat_content::{Error, Result};
use neat_media::read;
use neat_stack::media_facts;
use std::{path::Path, process::ExitCode};

pub(super) fn facts_of(path: &Path) -> Result<MediaFacts> {
    let media = read::open(path).map_err(|error| error.within(path.display()))?;
    Ok(media_facts(&media.tree))
}

pub(super) fn check(args: &CheckArgs, context: &Context) -> Result<ExitCode> {
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
                let list = args.sites.as_deref().map(super::site_list).transpose()?;
                let of_list =
                    list.as_ref().map(|list| list.check(Some(&model), args.dialect.first().map(|own| own.0)));
                let model = super::for_first(*model, list.as_ref())?;
                let mut report = check_model(&model, facts.as_ref());
                report.findings.extend(of_list.into_iter().flatten());
                report.findings.sort_by_key(|own| own.gravity);
                reports.push((name.clone(), report));
                for dialect in args.dialect.iter().map(|name| name.0) {
                    let written = write_model(&model, dialect, &mut secrets(&args.file, &ask_secret))?;
                    let mut report = check_file(&written.file()?, facts.as_ref()).accepting(&model.accept);
                    report.findings.extend(written.findings);
                    let beside = facts.as_ref().map(|facts| facts.side_files(&written.files));
                    report.findings.extend(beside.into_iter().flatten());
                    report.findings.iter_mut().for_each(|finding| finding.line = None);
                    report.findings.sort_by_key(|finding| finding.gravity);
                    reports.push((format!("{name} as {}", dialect.name()), report));
                }
            }
        }
    }
    let accepted = args.accept.topics();
    let reports: Vec<_> =
        reports.into_iter().map(|(name, report)| (name, report.accepting(&accepted))).collect();
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

pub(super) fn is_media(path: &Path) -> Result<bool> {
    if path.is_dir() {
        return Ok(true);
    }
    let source = neat_content::Source::open(path)?;
    Ok(read::is_disc(&source).unwrap_or(false) || read::is_stick(&source).unwrap_or(false))
}
