//! What `trial` and `look --boot` say.

use super::{Sheet, heading_line, outside, style};
use neat_content::Timestamp;
use neat_media::bootwalk::Walk;
use neat_signature::LoaderSignatures;
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
    /// The UEFI applications that would be started, and who signed them.
    pub loaders: Vec<LoaderView>,
}

/// A UEFI application and its signatures.
#[derive(Debug, Serialize, JsonSchema)]
pub(crate) struct LoaderView {
    pub path: String,
    #[serde(flatten)]
    pub signed: LoaderSignatures,
}

/// Who signed the loaders, for a person; `now` tells what has ended.
pub(crate) fn signatures(loaders: &[LoaderView], now: Timestamp) -> String {
    let mut text = String::new();
    for loader in loaders {
        let mut sheet = Sheet::default();
        let signed = &loader.signed;
        let bad = |words: &str| format!("{}{words}{:#}", style::BAD, style::BAD);
        if signed.signatures.is_empty() {
            sheet.row("signed", "no: firmware that checks signatures does not start it");
        }
        for signature in &signed.signatures {
            let names: Vec<String> =
                signature.authorities.iter().map(|own| outside::line(&own.name).into_owned()).collect();
            sheet.row(
                "signed by",
                if names.is_empty() { "nobody that can be read".into() } else { names.join(", by ") },
            );
            let known = names.iter().skip(1).cloned();
            let known: Vec<String> =
                known.chain(signature.root().map(|root| outside::line(root).into_owned())).collect();
            if !known.is_empty() {
                let mut known = known;
                known.dedup();
                sheet.row("started by", format!("firmware that knows {}", known.join(" or ")));
            }
            let fits = match (&signature.problem, signature.digest_fits, signature.is_sound()) {
                (Some(problem), ..) => bad(&outside::line(problem)),
                (None, false, _) => {
                    bad("no: it was changed since; firmware that checks signatures does not start it")
                }
                (None, true, false) => bad("no: the key or the chain does not"),
                (None, true, true) => "yes: digest, key and chain, as far as it is in the file".to_owned(),
            };
            sheet.row("fits", fits);
            for (n, own) in signature.authorities.iter().enumerate().filter(|(_, own)| own.is_expired(now)) {
                let until = super::time(Timestamp::from_seconds(own.until));
                let name = outside::line(&own.name);
                let what = if n == 0 { ", which firmware does not look at" } else { "" };
                sheet.row("ended", format!("{name}, on {until}{what}"));
            }
        }
        if signed.is_sound() && signed.has_only_ended_authorities(now) {
            sheet.row(
                "mind",
                bad("all its authorities have ended: newer machines may not know them any more"),
            );
        }
        match signed.revoked {
            Some(true) => sheet.row("taken back", bad("yes: firmware with this list does not start it")),
            Some(false) => sheet.row("taken back", "no"),
            None => {}
        }
        let versions: Vec<String> = signed
            .versions
            .iter()
            .map(|own| format!("{} {}", outside::line(&own.part), own.version))
            .collect();
        sheet.row_if("security version", &versions.join(", "));
        if let Some(damage) = &signed.damage {
            sheet.row("damaged", bad(damage));
        }
        text += &super::heading(&format!("the signature of {}", loader.path));
        text += &sheet.text();
    }
    text
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
