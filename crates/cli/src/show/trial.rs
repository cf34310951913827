//! What `trial` and `look --boot` say.

use super::{Sheet, heading_line, style};
use neat_media::bootwalk::Walk;
use neat_trial::{End, Outcome, Tools};
use schemars::JsonSchema;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// JSON form of `trial`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct TrialView {
    kind: &'static str,
    path: String,
    /// Version of the virtual machine's program.
    machine: String,
    accelerated: bool,
    came_up: bool,
    results: Vec<ResultView>,
}

/// One start.
#[derive(Debug, Serialize, JsonSchema)]
struct ResultView {
    #[serde(flatten)]
    outcome: Outcome,
    /// Where the picture of the last screen is.
    picture: Option<PathBuf>,
}

/// JSON form of `look --boot`.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct WalksView {
    pub kind: &'static str,
    pub path: String,
    pub good: bool,
    pub walks: Vec<Walk>,
}

const fn end_words(end: End) -> &'static str {
    match end {
        End::Expected => "the expected text showed",
        End::Quiet => "nothing changed any more",
        End::Limit => "the time was over",
        End::Off => "the machine switched itself off",
        End::Failed => "it failed",
    }
}

impl TrialView {
    pub(crate) fn new(
        media: &Path,
        tools: &Tools,
        outcomes: &[Outcome],
        pictures: &[Option<PathBuf>],
    ) -> Self {
        let results = outcomes.iter().zip(pictures);
        Self {
            kind: "trial",
            path: media.display().to_string(),
            machine: tools.version.clone(),
            accelerated: tools.accelerated,
            came_up: outcomes.iter().all(|outcome| outcome.came_up),
            results: results
                .map(|(outcome, picture)| ResultView { outcome: outcome.clone(), picture: picture.clone() })
                .collect(),
        }
    }
}

/// A trial for a person.
pub(crate) fn table(media: &Path, outcomes: &[Outcome], pictures: &[Option<PathBuf>]) -> String {
    let mut text = String::new();
    for (outcome, picture) in outcomes.iter().zip(pictures) {
        if !text.is_empty() {
            text.push('\n');
        }
        let verdict = if outcome.came_up {
            format!("{}came up{:#}", style::GOOD, style::GOOD)
        } else {
            format!("{}did not come up{:#}", style::BAD, style::BAD)
        };
        let what = format!("as a {} with {}: {verdict}", outcome.attached.name(), outcome.firmware.name());
        text += &heading_line(&media.display().to_string(), &what);
        let mut sheet = Sheet::default();
        sheet.row("got to", outcome.stage.words());
        sheet.row_if("seen", &outcome.evidence);
        sheet.row_if("failed", &outcome.failure);
        if let Some(stage) = outcome.installed {
            sheet.row("then its disk", stage.words());
        }
        sheet.row("ended", format!("after {:.0} s: {}", outcome.seconds, end_words(outcome.end)));
        if let Some(picture) = picture {
            sheet.row("picture", picture.display().to_string());
        }
        text += &sheet.text();
    }
    text
}

/// The ways through a media, by reading.
pub(crate) fn walks(media: &Path, walks: &[Walk]) -> String {
    let heading = style::HEADING;
    let mut text = heading_line(&media.display().to_string(), "what firmware would find");
    for walk in walks {
        let verdict = match (walk.claimed, walk.is_good()) {
            (false, _) => format!("{}not made for it{:#}", style::QUIET, style::QUIET),
            (true, true) => format!("{}nothing is missing{:#}", style::GOOD, style::GOOD),
            (true, false) => format!("{}something is missing{:#}", style::BAD, style::BAD),
        };
        text += &format!(
            "\n{heading}{} as a {}{heading:#}  {verdict}\n",
            walk.firmware.name(),
            walk.attached.name()
        );
        let mut sheet = Sheet::default();
        for step in &walk.steps {
            let bad = if walk.claimed { style::BAD } else { style::QUIET };
            if step.good {
                sheet.row("found", &step.text);
            } else {
                sheet.row("missing", format!("{bad}{}{bad:#}", step.text));
            }
        }
        for unknown in walk.unknown.iter().filter(|_| walk.claimed) {
            sheet.row("unknown", unknown);
        }
        text += &sheet.text();
    }
    text
}
