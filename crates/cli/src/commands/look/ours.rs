//! `look` at files of our own, and at answers.

use super::super::{kind::Kind, read_text};
use super::heading;
use crate::{
    context::Context,
    show::{
        self, Sheet,
        known::{AnswerView, DepotView, KindView, OutputView, StackView},
    },
};
use neat_answer::{AnswerFile, Dialect, SiteList, check_file};
use neat_content::{Content, Error, Result};
use neat_depot::{Index, Search};
use neat_package::parse_devices;
use neat_service::{Catalogue, Layout};
use neat_stack::{StackFile, output_names};
use std::path::Path;

/// What only a kind can be said of, and how much is in it; returns whether it was one.
pub(super) fn known_kind(path: &Path, context: &Context) -> Result<bool> {
    let Some(kind) = Kind::of(path)? else { return Ok(false) };
    let text = || read_text(path, "file");
    let (name, parts): (&str, Vec<(&str, String)>) = match kind {
        Kind::Catalogue => {
            let own = Catalogue::parse(&text()?)?;
            let counts = format!(
                "{}, {}, {}",
                show::count(own.components.len() as u64, "component", "components"),
                show::count(own.settings.len() as u64, "setting", "settings"),
                show::count(own.profiles.len() as u64, "profile", "profiles")
            );
            ("catalogue", vec![("name", own.name), ("describes", counts)])
        }
        Kind::Layout => ("layout", vec![("name", Layout::parse(&text()?)?.name)]),
        Kind::Sites => {
            let own = SiteList::parse(&text()?)?;
            ("site list", vec![("names", show::count(own.sites.len() as u64, "machine", "machines"))])
        }
        Kind::Devices => {
            let own = parse_devices(&text()?)?;
            ("list of devices", vec![("names", show::count(own.len() as u64, "device", "devices"))])
        }
        Kind::UpdateFolder => {
            let files = std::fs::read_dir(path).map_err(Error::io("list", path))?.count();
            ("folder of updates", vec![("holds", show::count(files as u64, "package", "packages"))])
        }
        _ => return Ok(false),
    };
    if context.json {
        let mut view = KindView {
            kind: name.replace(' ', "-"),
            path: path.display().to_string(),
            ..KindView::default()
        };
        for (key, text) in parts {
            let slot = match key {
                "name" => &mut view.name,
                "describes" => &mut view.describes,
                "names" => &mut view.names,
                _ => &mut view.holds,
            };
            *slot = Some(text);
        }
        return context.print_json(&view).map(|()| true);
    }
    let mut sheet = Sheet::default();
    parts.into_iter().for_each(|(key, text)| sheet.row_if(key, &text));
    context.print(&format!("{}{}", heading(path, name), sheet.text())).map(|()| true)
}

pub(super) fn depot(path: &Path, text: &str, context: &Context) -> Result<()> {
    let index = Index::parse(text).map_err(|error| error.within(path.display()))?;
    if context.json {
        let (path, Index { title, items, .. }) = (path.display().to_string(), index);
        return context.print_json(&DepotView { kind: "depot", path, title, items });
    }
    let all = index.search(&Search::default());
    context.print(&show::depot::search(&path.display().to_string(), &index, &all))
}

pub(super) fn stack(path: &Path, text: &str, context: &Context) -> Result<()> {
    let stack = StackFile::parse(text).map_err(|error| error.within(path.display()))?;
    let source = stack.source.as_ref().map(|source| source.media.clone());
    let outputs = output_names(&stack.media);
    if context.json {
        return context.print_json(&StackView {
            kind: "stack-file",
            path: path.display().to_string(),
            title: stack.title.clone(),
            source,
            iso: stack.media.iso.clone(),
            stick: stack.media.stick.as_ref().map(|stick| stick.image.clone()),
            outputs: outputs
                .into_iter()
                .map(|(form, path)| OutputView { form, path: path.to_owned() })
                .collect(),
        });
    }
    let mut sheet = Sheet::default();
    sheet.row_if("title", &stack.title);
    sheet.row_if("from", &source.unwrap_or_default());
    for (form, path) in outputs {
        sheet.row(if form == "disc" { "to" } else { form }, path);
    }
    sheet.row("next", format!("neatstack plan {}", show::in_command(path)));
    context.print(&format!("{}{}", heading(path, "stack file"), sheet.text()))
}

pub(super) fn answer(path: &Path, dialect: Dialect, context: &Context) -> Result<()> {
    let bytes = Content::from_path(path)?.to_vec(AnswerFile::MAX_LEN, "answer file")?;
    let file = AnswerFile::parse(&bytes).map_err(|error| error.within(path.display()))?;
    debug_assert_eq!(file.dialect, dialect);
    answers(path, &check_file(&file, None), context)
}

pub(super) fn answers(path: &Path, report: &neat_answer::Report, context: &Context) -> Result<()> {
    if context.json {
        return context.print_json(&AnswerView {
            kind: "answer-file",
            path: path.display().to_string(),
            dialect: report.dialect.map_or("model", Dialect::name),
            report: report.clone(),
        });
    }
    context.print(&show::answer::report(&path.display().to_string(), report))
}
