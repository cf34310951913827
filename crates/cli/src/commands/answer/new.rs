//! `answer new`: a starting point.

use super::{ask::ask_for, give};
use crate::{args::NewArgs, config::Config, context::Context};
use neat_answer::{Finding, Gravity, Known, Model, check_model};
use neat_content::{Error, Result};
use std::io::IsTerminal;

pub(super) fn new(args: &NewArgs, context: &Context) -> Result<()> {
    let asks =
        std::io::stdin().is_terminal() && std::io::stderr().is_terminal() && !context.quiet && !context.json;
    let get = |given: &Option<String>, what: &str, usual: &str| match given {
        Some(text) => Ok(text.clone()),
        None if asks => ask_for(what, usual),
        None => Ok(String::new()),
    };
    let config = Config::read()?;
    let language = config.language.as_deref().unwrap_or("en-GB");
    let known = Known {
        language: get(&args.language, "Language", language)?,
        time_zone: get(&args.time_zone, "Time zone", "Etc/UTC")?,
        edition: args.edition.clone().unwrap_or_default(),
        machine: args.machine.clone().unwrap_or_default(),
        prompts: false,
        account: get(&args.account, "Name of the first account", "user")?,
    };
    let text = neat_answer::starter(&known)?;
    let list = args.sites.as_deref().map(super::site_list).transpose()?;
    let problems: Vec<Finding> = check_model(&super::for_first(Model::parse(&text)?, list.as_ref())?, None)
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
