//! `[[variant]]`: a media for each machine of a site list, or one for all of them.

use super::{Groundwork, paths};
use crate::{
    change::{Editor, Given, examine},
    recipe::StackFile,
    report::{Finding, VariantSummary, Weight},
};
use neat_answer::{Gravity, Site, SiteList};
use neat_content::{Content, Error, Job, Result, nearest};
use std::{
    collections::{BTreeMap, BTreeSet},
    path::PathBuf,
};

/// Machines that are done.
#[derive(Default)]
pub(crate) struct Variants {
    list: Option<SiteList>,
    answers_only: bool,
}

impl Variants {
    /// Reads the site list and says what is wrong with it.
    pub fn open(
        stack: &StackFile,
        given: Option<&Given>,
        only: &[String],
        editor: &mut Editor,
    ) -> Result<Self> {
        let Some(section) = stack.variant.first() else {
            return match only.first() {
                None => Ok(Self::default()),
                Some(name) => Err(Error::request(
                    format!("there is no machine {name:?}: the stack file has no [[variant]]"),
                    "take --only out",
                )),
            };
        };
        let path = editor.local(&section.sites);
        let bytes = Content::from_path(&path)?
            .to_vec(64 << 20, "site list")
            .map_err(|error| error.within(path.display()))?;
        let text = neat_content::Text::decode(&bytes).text;
        let mut list = SiteList::parse(&text).map_err(|error| error.within(path.display()))?;
        let model = given.map(Given::model).transpose()?;
        let usual = given.map(Given::usual_dialect);
        let dialects = stack.answer.as_ref().map(|own| own.dialects.as_slice()).unwrap_or_default();
        let short = dialects.iter().find(|own| own.has_short_names());
        let strictest = short.or(dialects.first()).copied().or(usual);
        for own in list.check(model.as_ref(), strictest) {
            let weight = if own.gravity == Gravity::Problem { Weight::Refused } else { Weight::Note };
            editor.findings.push(Finding {
                weight,
                message: format!("{}: {}", section.sites, own.message),
                hint: own.hint,
            });
        }
        if list.sites.is_empty() {
            return Err(Error::request(format!("{} has no machines", path.display()), "add a line for each"));
        }
        if section.answers_only && given.is_none() {
            return Err(Error::request(
                "`variant.answers_only` needs an [answer]",
                "add [answer] with a file or a model",
            ));
        }
        for name in only {
            if !list.sites.iter().any(|site| site.name.eq_ignore_ascii_case(name)) {
                let names = list.sites.iter().map(|site| site.name.as_str());
                let hint = nearest(name, names)
                    .map_or_else(|| "see the site list".to_owned(), |near| format!("did you mean {near:?}?"));
                return Err(Error::request(
                    format!("there is no machine {name:?} in {}", section.sites),
                    hint,
                ));
            }
        }
        if !only.is_empty() {
            list.sites.retain(|site| only.iter().any(|name| site.name.eq_ignore_ascii_case(name)));
        }
        Ok(Self { list: Some(list), answers_only: section.answers_only })
    }

    /// The machine of the first media; none when there is one media.
    pub fn first(&self) -> Option<&Site> {
        self.each().first()
    }

    /// Machines that have a media each.
    pub fn each(&self) -> &[Site] {
        match &self.list {
            Some(list) if !self.answers_only => &list.sites,
            _ => &[],
        }
    }

    /// The list when one media serves all machines.
    pub fn all_in_one(&self) -> Option<&SiteList> {
        self.list.as_ref().filter(|_| self.answers_only)
    }

    /// The files that a build writes, those of a machine together.
    pub fn outputs(&self, ground: &Groundwork<'_>) -> Result<Vec<Vec<PathBuf>>> {
        let sites = self.each();
        if sites.is_empty() {
            return Ok(vec![ground.outputs(self.first())?]);
        }
        sites.iter().map(|site| ground.outputs(Some(site))).collect()
    }

    /// What is wrong with the media of machines after the first: names that are the same, answers that do not fit.
    pub fn check(&self, ground: &Groundwork<'_>, said: &[Finding], job: &Job<'_>) -> Result<Vec<Finding>> {
        let mut findings = Vec::new();
        // What was said of one machine is not said again of the next.
        let what = |own: &Finding| {
            own.message.split_once(": ").map_or(own.message.clone(), |(_, what)| what.to_owned())
        };
        let mut known: BTreeSet<String> = said.iter().map(what).collect();
        let mut seen: BTreeMap<PathBuf, usize> = BTreeMap::new();
        let stack = ground.stack;
        let dialects = stack.answer.as_ref().map(|own| own.dialects.clone()).unwrap_or_default();
        for (index, site) in self.each().iter().enumerate() {
            job.check()?;
            let outputs = ground.outputs(Some(site))?;
            let twice =
                outputs.into_iter().find_map(|path| Some((seen.insert(path.clone(), site.row)?, path)));
            if let Some((other, path)) = twice {
                findings.push(Finding {
                    weight: Weight::Refused,
                    message: format!(
                        "rows {other} and {} would write the same file, {}",
                        site.row,
                        path.display()
                    ),
                    hint: format!("put {{name}} into {}", paths::keys(" and ")),
                });
                break;
            }
            let (Some(given), true) = (&ground.given, index > 0) else { continue };
            let usual = [given.usual_dialect()];
            for dialect in if dialects.is_empty() { usual.as_slice() } else { &dialects } {
                let written = given.speak(*dialect, Some(site), ground.ask)?;
                let mut own = Vec::new();
                let name = format!("row {}, {}", site.row, site.name);
                examine(&written, given, &name, None, &mut own)?;
                let weighs = |own: &Finding| matches!(own.weight, Weight::Problem | Weight::Refused);
                findings.extend(own.into_iter().filter(|own| weighs(own) && known.insert(what(own))));
            }
        }
        Ok(findings)
    }

    /// The table of the plan.
    pub fn summaries(&self, ground: &Groundwork<'_>) -> Result<Vec<VariantSummary>> {
        let Some(list) = &self.list else { return Ok(Vec::new()) };
        let own = |site: &Site| {
            let media = (!self.answers_only).then_some(site);
            let outputs = if self.answers_only { Vec::new() } else { ground.outputs(media)? };
            let outputs: Vec<String> = outputs.iter().map(|path| path.display().to_string()).collect();
            Ok(VariantSummary {
                row: site.row,
                machine: site.name.clone(),
                iso: outputs.first().cloned().unwrap_or_default(),
                outputs,
                label: if self.answers_only { String::new() } else { ground.label(media)? },
                cells: list
                    .columns
                    .iter()
                    .map(|name| (name.clone(), site.cells.get(name).cloned().unwrap_or_default().into()))
                    .collect(),
            })
        };
        list.sites.iter().map(own).collect()
    }
}
