//! The questions of `draft`, in the order in which people work.

use super::paths::Paths;
use crate::{
    args::{DraftArgs, DraftForm},
    config::Config,
    show::outside,
};
use inquire::{
    Confirm, InquireError, MultiSelect, Select, Text,
    ui::{Attributes, Color, RenderConfig, StyleSheet, Styled},
    validator::Validation,
};
use neat_answer::{Known, starter};
use neat_content::{Error, Result};
use neat_stack::EditionSummary;
use std::path::{Path, PathBuf};

/// What is known of a stack file that is begun.
#[derive(Clone, Debug, Default)]
pub(super) struct Answered {
    /// Names, or numbers until they are looked up.
    pub editions: Vec<String>,
    pub updates: Vec<PathBuf>,
    pub drivers: Vec<PathBuf>,
    pub drivers_for_setup: bool,
    pub devices: Option<PathBuf>,
    pub catalogues: Vec<PathBuf>,
    pub answer: Option<PathBuf>,
    /// Answers that are written beside the stack file.
    pub new_answers: Option<String>,
    pub sites: Option<PathBuf>,
    pub form: Option<DraftForm>,
    /// Whether components are chosen on the screen afterwards.
    pub picks: bool,
    pub output: Option<PathBuf>,
    /// What is filled in by itself.
    pub config: Config,
}

impl Answered {
    /// What the options say.
    pub(super) fn of(args: &DraftArgs) -> Self {
        Self {
            editions: args.edition.clone(),
            updates: args.updates.clone(),
            drivers: args.drivers.clone(),
            // Without them setup may not see the disk.
            drivers_for_setup: !args.drivers.is_empty(),
            devices: args.devices.clone(),
            catalogues: args.catalogue.clone(),
            answer: args.answer.clone(),
            sites: args.sites.clone(),
            form: args.form,
            output: args.output.clone(),
            ..Self::default()
        }
    }

    /// All files and folders that are named.
    pub(super) fn paths(&self) -> impl Iterator<Item = &PathBuf> {
        let single = [&self.devices, &self.answer, &self.sites].into_iter().flatten();
        self.updates.iter().chain(&self.drivers).chain(&self.catalogues).chain(single)
    }
}

/// Asks for what no option says.
pub(super) fn ask(known: &mut Answered, args: &DraftArgs, editions: &[EditionSummary]) -> Result<()> {
    inquire::set_global_render_config(looks());
    if known.editions.is_empty() && editions.len() > 1 {
        known.editions = which_editions(editions)?;
    }
    if !editions.is_empty() {
        if known.updates.is_empty() {
            known.updates = path(
                "Updates:",
                "A package or a folder of them; they go in before anything else. Enter: none",
                &[],
            )?
            .into_iter()
            .collect();
        }
        if known.drivers.is_empty() {
            drivers(known)?;
        }
        if known.catalogues.is_empty() {
            known.catalogues = path(
                "Catalogue of components:",
                "Says what components are for, and has profiles to start from. Enter: none",
                &[".toml"],
            )?
            .into_iter()
            .collect();
        }
        known.picks = yes(
            "Take components out?",
            false,
            "Opens the screen to choose on when the file is written; `neatstack pick` does so at any time",
        )?;
    }
    if known.sites.is_none() {
        sites(known)?;
    }
    if known.answer.is_none() {
        answers(known)?;
    }
    if known.form.is_none() {
        known.form = form()?;
    }
    if known.output.is_none() {
        known.output = file_name(&args.media)?;
    }
    Ok(())
}

fn which_editions(editions: &[EditionSummary]) -> Result<Vec<String>> {
    let rows: Vec<String> = editions
        .iter()
        .map(|own| {
            let facts = [own.architecture.as_str(), own.version.as_str()].join(" ");
            format!("{}  {}", outside::line(&own.name), outside::line(facts.trim()))
        })
        .collect();
    let all: Vec<usize> = (0..rows.len()).collect();
    let chosen = MultiSelect::new("Editions to keep:", rows)
        .with_default(&all)
        .with_help_message("The others leave the media and make it smaller. Space: keep or drop, typing: search, Enter: go on")
        .with_validator(|chosen: &[inquire::list_option::ListOption<&String>]| {
            Ok(if chosen.is_empty() { Validation::Invalid("One must stay.".into()) } else { Validation::Valid })
        })
        .raw_prompt_skippable();
    let chosen = told(chosen)?.unwrap_or_default();
    if chosen.len() == editions.len() {
        return Ok(Vec::new());
    }
    Ok(chosen
        .into_iter()
        .filter_map(|option| editions.get(option.index))
        .map(|own| own.name.clone())
        .collect())
}

fn drivers(known: &mut Answered) -> Result<()> {
    let help = "A folder, cabinet, zip file or self-extracting program. Enter: no more";
    while let Some(found) = path("Drivers:", help, &[])? {
        known.drivers.push(found);
    }
    if known.drivers.is_empty() {
        return Ok(());
    }
    known.drivers_for_setup = yes(
        "Also into the setup environment?",
        true,
        "Without its disk and network drivers setup may not see the disk",
    )?;
    if known.devices.is_none() {
        known.devices = path(
            "Only for the devices in this list:",
            "What `lspci -nn` and `lsusb` print on the machine: nothing goes in that no device needs. Enter: all",
            &[".txt", ".csv"],
        )?;
    }
    Ok(())
}

fn sites(known: &mut Answered) -> Result<()> {
    known.sites = path(
        "List of machines:",
        "A CSV with a line for each: every machine gets a media of its own. Enter: one media",
        &[".csv"],
    )?;
    Ok(())
}

fn answers(known: &mut Answered) -> Result<()> {
    const NONE: &str = "none: setup asks at the machine";
    const FILE: &str = "a file that is there: of an installer, or in the neutral form";
    const NEW: &str = "new ones from a few questions";
    let chosen = Select::new("Answers for setup:", vec![NONE, FILE, NEW])
        .with_help_message("With answers nobody has to sit there. ↑ ↓ and Enter")
        .prompt_skippable();
    match told(chosen)? {
        Some(FILE) => {
            known.answer =
                path("Answer file:", "Such as autounattend.xml or bridge.answer.toml. Enter: none", &[])?;
        }
        Some(NEW) => {
            let usual = known.config.language.as_deref();
            known.new_answers = Some(starter(&few_questions(known.sites.is_some(), usual)?)?);
        }
        _ => {}
    }
    Ok(())
}

fn few_questions(has_list: bool, usual_language: Option<&str>) -> Result<Known> {
    let one_of = |all: Vec<&'static str>| {
        let offered = all.clone();
        let offer = move |typed: &str| -> std::result::Result<Vec<String>, inquire::CustomUserError> {
            let typed = typed.to_lowercase().replace(' ', "_");
            let fits = |own: &&&str| !typed.is_empty() && own.to_lowercase().contains(&typed);
            Ok(offered.iter().filter(fits).take(8).map(|own| (*own).to_owned()).collect())
        };
        let check = move |typed: &str| -> std::result::Result<Validation, inquire::CustomUserError> {
            let is_known = all.contains(&typed);
            Ok(if is_known {
                Validation::Valid
            } else {
                Validation::Invalid("Choose one that is offered.".into())
            })
        };
        (offer, check)
    };
    let (offer, check) = one_of(neat_answer::language_tags().collect());
    let usual_language = usual_language.unwrap_or("en-GB");
    let language = Text::new("Language:")
        .with_default(usual_language)
        .with_help_message("Of setup and system, with its usual keyboard")
        .with_autocomplete(offer)
        .with_validator(check)
        .prompt_skippable();
    let language = told(language)?.unwrap_or_else(|| usual_language.into());
    let (offer, check) = one_of(neat_answer::time_zones().collect());
    let time_zone = Text::new("Time zone:")
        .with_default("Europe/London")
        .with_help_message("Type a city")
        .with_autocomplete(offer)
        .with_validator(check)
        .prompt_skippable();
    let time_zone = told(time_zone)?.unwrap_or_else(|| "Europe/London".into());
    let usual = if has_list { "{name}" } else { "PC-{serial}" };
    let machine = Text::new("Name of the machine:")
        .with_default(usual)
        .with_help_message(
            "{serial} and {random:4} are filled in by the machine, columns of a list by the build",
        )
        .prompt_skippable();
    let machine = told(machine)?.unwrap_or_else(|| usual.into());
    let account = Text::new("First account:")
        .with_default("user")
        .with_help_message("Its password is asked for when the media is built")
        .prompt_skippable();
    let account = told(account)?.unwrap_or_else(|| "user".into());
    Ok(Known { language, time_zone, machine, account, edition: String::new(), prompts: true })
}

fn form() -> Result<Option<DraftForm>> {
    let forms = [
        ("a disc: an ISO file", DraftForm::Disc),
        ("a stick: an image to write to one", DraftForm::Stick),
        ("both", DraftForm::Both),
    ];
    let chosen = Select::new("What comes out?", forms.map(|(name, _)| name).to_vec())
        .with_help_message("A stick can also be written from the disc later, with `neatstack stick`")
        .prompt_skippable();
    let chosen = told(chosen)?;
    Ok(forms.into_iter().find(|(name, _)| Some(*name) == chosen).map(|(_, form)| form))
}

fn file_name(media: &Path) -> Result<Option<PathBuf>> {
    let stem = media.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let usual = format!("{}.stack.toml", if stem.is_empty() { "new" } else { &stem });
    let is_new = |typed: &str| {
        Ok(if Path::new(typed).exists() {
            Validation::Invalid("It is there already.".into())
        } else {
            Validation::Valid
        })
    };
    let name = Text::new("Stack file:")
        .with_default(&usual)
        .with_help_message("What was answered is written into it. Esc: print it instead")
        .with_validator(is_new)
        .prompt_skippable();
    Ok(told(name)?.map(PathBuf::from))
}

/// Asks for a path that is there; nothing where the question is skipped.
fn path(question: &str, help: &str, endings: &'static [&'static str]) -> Result<Option<PathBuf>> {
    let is_there = |typed: &str| {
        Ok(if typed.trim().is_empty() || Path::new(typed.trim()).exists() {
            Validation::Valid
        } else {
            Validation::Invalid("There is nothing of this name.".into())
        })
    };
    let typed = Text::new(question)
        .with_help_message(help)
        .with_autocomplete(Paths { endings })
        .with_validator(is_there)
        .prompt_skippable();
    let typed = told(typed)?.unwrap_or_default();
    Ok(Some(typed.trim()).filter(|typed| !typed.is_empty()).map(PathBuf::from))
}

fn yes(question: &str, usual: bool, help: &str) -> Result<bool> {
    let said = Confirm::new(question).with_default(usual).with_help_message(help).prompt_skippable();
    Ok(told(said)?.unwrap_or(usual))
}

/// Ctrl-C ends the program as everywhere.
fn told<T>(answer: std::result::Result<T, InquireError>) -> Result<T> {
    answer.map_err(|error| match error {
        InquireError::OperationInterrupted | InquireError::OperationCanceled => Error::Cancelled,
        InquireError::IO(error) => Error::io("ask on", Path::new("the terminal"))(error),
        other => Error::request(format!("the terminal cannot be asked on: {other}"), "use --plain"),
    })
}

/// The colours of everything else that this program says.
fn looks() -> RenderConfig<'static> {
    let plain = anstream::AutoStream::choice(&std::io::stdout()) == anstream::ColorChoice::Never;
    let mut looks = RenderConfig::empty()
        .with_prompt_prefix(Styled::new("·"))
        .with_answered_prompt_prefix(Styled::new("·"))
        .with_highlighted_option_prefix(Styled::new("→"))
        .with_selected_checkbox(Styled::new("keep"))
        .with_unselected_checkbox(Styled::new("drop"))
        .with_canceled_prompt_indicator(Styled::new("skipped"));
    if !plain {
        looks = looks
            .with_answer(StyleSheet::new().with_fg(Color::DarkGreen))
            .with_help_message(StyleSheet::new().with_fg(Color::DarkGrey))
            .with_default_value(StyleSheet::new().with_fg(Color::DarkGrey))
            .with_selected_option(Some(StyleSheet::new().with_attr(Attributes::BOLD)))
            .with_unselected_checkbox(Styled::new("drop").with_fg(Color::DarkRed));
    }
    looks
}
