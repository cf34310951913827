//! Starting what was written before it has its name.

use crate::{
    plan::{Laid, Prepared},
    report::LedgerTrial,
};
use neat_content::{Error, Event, IfThere, Job, PendingFile, Result};
use neat_trial::{Attached, Firmware, Tools};
use std::{
    path::{Path, PathBuf},
    time::Duration,
};

/// A trial ends when nothing changes for so long.
const TRIAL_QUIET: Duration = Duration::from_secs(20);

impl Prepared<'_> {
    /// Starts what was written, before it has its name, with the firmwares that the stack file names.
    ///
    /// # Errors
    /// `Failed` when one of them does not come up.
    pub(super) fn try_out(&self, own: &Laid, paths: &[&Path], job: &Job<'_>) -> Result<Vec<LedgerTrial>> {
        let firmwares: Vec<Firmware> =
            self.ground.stack.media.trial.iter().map(|value| value.firmware()).collect();
        if firmwares.is_empty() {
            return Ok(Vec::new());
        }
        let tools = Tools::find()?;
        let mut trials = Vec::new();
        for (output, path) in own.outputs.iter().zip(paths) {
            let (name, attached) = (&output.path, output.attached);
            job.event(Event::StepStarted { step: "trying it", total_bytes: None });
            let options =
                neat_trial::Options { attached, quiet: TRIAL_QUIET, ..neat_trial::Options::default() };
            let outcomes = neat_trial::run(&tools, path, &firmwares, &options, job)?;
            job.event(Event::StepFinished);
            for outcome in outcomes {
                let picture = match &outcome.picture {
                    Some(bytes) => Some(save_picture(name, attached, outcome.firmware, bytes)?),
                    None => None,
                };
                let picture = picture.map(|path| path.display().to_string());
                if !outcome.came_up {
                    let seen =
                        picture.as_ref().map(|path| format!("; {path} shows its screen")).unwrap_or_default();
                    return Err(Error::failed(
                        format!(
                            "{} does not come up as a {} with {}: {} ({})",
                            name.display(),
                            attached.name(),
                            outcome.firmware.name(),
                            outcome.failure,
                            outcome.stage.words()
                        ),
                        format!(
                            "nothing was left under its name{seen}; `neatstack look MEDIA --boot` says what is missing"
                        ),
                    ));
                }
                trials.push(LedgerTrial {
                    path: name.display().to_string(),
                    attached,
                    firmware: outcome.firmware,
                    stage: outcome.stage,
                    evidence: outcome.evidence,
                    picture,
                });
            }
        }
        Ok(trials)
    }
}

/// Saves the picture of a trial beside what was tried: `NAME-disc-bios.png`.
fn save_picture(output: &Path, attached: Attached, firmware: Firmware, bytes: &[u8]) -> Result<PathBuf> {
    let stem = output.file_stem().unwrap_or_default().to_string_lossy();
    let word = firmware.name().to_ascii_lowercase();
    let path = output.with_file_name(format!("{stem}-{}-{word}.png", attached.name()));
    let (pending, mut out) = PendingFile::create_output(&path, IfThere::Replace, None)?;
    out.write_bytes(bytes)?;
    pending.commit(out.finish()?.0)?;
    Ok(path)
}
