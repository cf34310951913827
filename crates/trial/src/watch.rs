//! Following one machine until there is nothing more to see.

use crate::{
    Attached, Firmware, Options, Stage, Tools,
    machine::{Machine, Start},
    screen::Picture,
    signs::{Signs, line_at},
    terminal::Terminal,
};
use neat_content::{Error, Event, Job, Result};
use serde::Serialize;
use std::{
    collections::VecDeque,
    path::Path,
    time::{Duration, Instant},
};

/// Time between two looks.
const STEP: Duration = Duration::from_millis(400);
/// Most text of the serial port that is kept, in bytes.
const MAX_TEXT: usize = 4 << 20;
/// Pictures that count as seen already.
const RECENT_PICTURES: usize = 8;
/// After a failure shows, whether something else follows (the next boot entry, the next disk).
const AFTER_FAILURE: Duration = Duration::from_secs(8);

/// Why a trial ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
#[serde(rename_all = "kebab-case")]
pub enum End {
    /// The expected text came.
    Expected,
    /// Nothing changed any more.
    Quiet,
    /// The time was over.
    Limit,
    /// The machine switched itself off or started again.
    Off,
    /// It failed, by what it said.
    Failed,
}

/// What one firmware made of the media.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(feature = "schema", derive(schemars::JsonSchema))]
pub struct Outcome {
    /// Which.
    pub firmware: Firmware,
    /// How the media was attached.
    pub attached: Attached,
    /// How far it got.
    pub stage: Stage,
    /// Whether it came up: the boot image ran, nothing failed, and what was expected showed.
    pub came_up: bool,
    /// The line that shows how far it got, or what failed.
    pub evidence: String,
    /// What failed; empty where nothing did.
    pub failure: String,
    /// Why it ended.
    pub end: End,
    /// Seconds until then.
    pub seconds: f64,
    /// How far the scratch disk got by itself, after something was installed to it.
    pub installed: Option<Stage>,
    /// Everything that came over the serial port.
    #[serde(skip)]
    pub serial: String,
    /// The last picture of the screen, a PNG file.
    #[serde(skip)]
    pub picture: Option<Vec<u8>>,
}

/// What is known of a machine while it is watched.
struct Watch<'a> {
    signs: Signs,
    options: &'a Options<'a>,
    started: Instant,
    /// What came over the serial port, and what the screen showed.
    serial: String,
    screen: String,
    terminal: Terminal,
    stage: Stage,
    evidence: String,
    failure: Option<(Instant, String, String)>,
    changed: Instant,
    /// The pictures of late, by their marks.
    marks: VecDeque<u64>,
    picture: Option<Picture>,
}

/// Starts `media` with one firmware and follows it to its end.
pub(crate) fn watch(
    tools: &Tools,
    media: &Path,
    firmware: Firmware,
    options: &Options<'_>,
    job: &Job<'_>,
) -> Result<Outcome> {
    let folder = tempfile::tempdir().map_err(Error::io("create a folder in", &std::env::temp_dir()))?;
    let mut machine = Machine::start(tools, media, firmware, Start::Media, options, folder.path())?;
    let mut watch = Watch::new(options)?;
    let end = watch.follow(&mut machine, firmware, job)?;
    let reset = end == End::Off && machine.was_reset();
    drop(machine);
    let mut installed = None;
    if options.unattended && end == End::Off {
        let mut machine = Machine::start(tools, media, firmware, Start::Disk, options, folder.path())?;
        let mut second = Watch::new(options)?;
        second.follow(&mut machine, firmware, job)?;
        installed = Some(second.stage);
        watch.serial.push_str(&second.serial);
        watch.picture = second.picture.or(watch.picture);
    }
    let expected = options.expect.is_none() || end == End::Expected || watch.shows_expected();
    let failure = match (&watch.failure, expected) {
        (Some((_, failure, _)), _) if end == End::Failed => failure.clone(),
        (_, false) => format!("{:?} did not show", options.expect.unwrap_or_default()),
        _ if watch.stage < Stage::Image => "the boot image did not run".into(),
        _ => String::new(),
    };
    if let (Some((.., line)), End::Failed) = (&watch.failure, end) {
        watch.evidence.clone_from(line);
    }
    if reset && watch.evidence.is_empty() {
        watch.evidence = "the machine was started again".into();
    }
    Ok(Outcome {
        firmware,
        attached: options.attached,
        stage: watch.stage,
        came_up: failure.is_empty(),
        evidence: watch.evidence,
        failure,
        end,
        seconds: watch.started.elapsed().as_secs_f64(),
        installed,
        serial: watch.serial,
        picture: watch.picture.map(|picture| picture.to_png()).transpose()?,
    })
}

impl<'a> Watch<'a> {
    fn new(options: &'a Options<'a>) -> Result<Self> {
        let now = Instant::now();
        Ok(Self {
            signs: Signs::known()?,
            options,
            started: now,
            serial: String::new(),
            screen: String::new(),
            terminal: Terminal::default(),
            stage: Stage::Nothing,
            evidence: String::new(),
            failure: None,
            changed: now,
            marks: VecDeque::new(),
            picture: None,
        })
    }

    fn shows_expected(&self) -> bool {
        self.options.expect.is_some_and(|text| {
            // What a screen breaks at its edge is one text all the same.
            self.serial.contains(text)
                || self.screen.contains(text)
                || self.screen.replace('\n', "").contains(text)
        })
    }

    fn follow(&mut self, machine: &mut Machine, firmware: Firmware, job: &Job<'_>) -> Result<End> {
        loop {
            job.check()?;
            let ended = machine.has_ended();
            self.look(machine, firmware, ended);
            let far = if self.stage == Stage::Nothing { "started" } else { self.stage.words() };
            let text = format!("{} s, {far}", self.started.elapsed().as_secs());
            job.event(Event::Reached { of: firmware.name(), text: &text });
            if self.shows_expected() {
                if !ended {
                    // The rest of the line, and what the screen makes of it.
                    std::thread::sleep(STEP);
                    self.look(machine, firmware, ended);
                    self.picture = machine.picture().or_else(|| self.picture.take());
                }
                let text = self.options.expect.unwrap_or_default();
                if let Some(at) = self.serial.find(text) {
                    self.evidence = line_at(&self.serial, at);
                } else if let Some(at) = self.screen.find(text) {
                    self.evidence = line_at(&self.screen, at);
                }
                // Whoever wrote it ran.
                self.stage = self.stage.max(Stage::Image);
                return Ok(End::Expected);
            }
            if ended {
                if self.stage == Stage::Nothing
                    && let Some(complaint) = machine.complaint()
                {
                    return Err(Error::request(
                        format!("the virtual machine ended at once: {complaint}"),
                        "check the media's path and the memory of this machine",
                    ));
                }
                self.stage = Stage::Off;
                return Ok(End::Off);
            }
            let now = Instant::now();
            if self.failure.as_ref().is_some_and(|(since, ..)| now - *since > AFTER_FAILURE) {
                return Ok(End::Failed);
            }
            if now - self.started > self.options.limit {
                return Ok(End::Limit);
            }
            if now - self.changed > self.options.quiet {
                return Ok(End::Quiet);
            }
            std::thread::sleep(STEP);
        }
    }

    /// One look at the serial port and the screen.
    fn look(&mut self, machine: &mut Machine, firmware: Firmware, ended: bool) {
        let fresh = machine.serial(ended);
        let mut changed = !fresh.is_empty();
        if self.serial.len() < MAX_TEXT {
            self.serial.push_str(&self.terminal.plain(&fresh));
        }
        if firmware == Firmware::Bios {
            let lines = machine.text_screen();
            let text = lines.join("\n");
            if !text.is_empty() && text != self.screen {
                changed = true;
                self.screen = text;
            }
        }
        if let Some(picture) = machine.picture() {
            // A cursor that blinks is no change: it shows two pictures in turn.
            let mark = picture.mark();
            changed |= !self.marks.contains(&mark);
            self.marks.push_back(mark);
            if self.marks.len() > RECENT_PICTURES {
                self.marks.pop_front();
            }
            self.picture = Some(picture);
        }
        if changed {
            self.changed = Instant::now();
            self.judge(firmware);
        }
    }

    /// Takes note of a stage and the line that shows it. A look may fall into the middle of a line: what is its
    /// beginning is replaced by all of it.
    fn reach(&mut self, stage: Stage, line: String) {
        if stage > self.stage || (stage == self.stage && line.starts_with(&self.evidence)) {
            (self.stage, self.evidence) = (stage, line);
        }
    }

    /// What the texts of now say.
    fn judge(&mut self, firmware: Firmware) {
        let text = format!("{}\n{}", self.serial, self.screen);
        if let Some((stage, line)) = self.signs.stage(&text) {
            self.reach(stage, line);
        }
        // What stands on the screen behind the firmware's last word comes from the boot image.
        if firmware == Firmware::Bios
            && self.stage == Stage::Entry
            && let Some(line) = after_firmware(&self.screen)
            && self.signs.failure(&text).is_none()
        {
            self.reach(Stage::Image, line);
        }
        self.failure = match (self.signs.failure(&text), self.failure.take()) {
            (Some((failure, line)), Some((since, old, _))) if old == failure => Some((since, failure, line)),
            (Some((failure, line)), _) => Some((Instant::now(), failure, line)),
            (None, _) => None,
        };
    }
}

/// The first line that a boot image wrote on a BIOS screen, if it wrote any.
fn after_firmware(screen: &str) -> Option<String> {
    let mut lines = screen.lines().map(str::trim);
    if lines.clone().any(|line| line.starts_with("Booting from ")) {
        let mut after = lines.skip_while(|line| !line.starts_with("Booting from ")).skip(1);
        return after.find(|line| !line.is_empty() && !line.starts_with("Booting from ")).map(str::to_owned);
    }
    // The image cleared the screen and wrote its own.
    if screen.contains("SeaBIOS") {
        return None;
    }
    lines.find(|line| !line.is_empty()).map(str::to_owned)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test that cannot go on has failed")]
    use super::*;

    #[test]
    fn a_line_that_was_seen_by_halves_is_told_whole() {
        let options = Options::default();
        let mut watch = Watch::new(&options).unwrap();
        for (text, evidence) in [
            ("Quay OS 7 setup: started by UEFI", "Quay OS 7 setup: started by UEFI"),
            (", answer file a.xml\n", "Quay OS 7 setup: started by UEFI, answer file a.xml"),
            // Another line of the same stage does not take its place, nor does one of an earlier stage.
            ("Linux version 6\nGNU GRUB\n", "Quay OS 7 setup: started by UEFI, answer file a.xml"),
        ] {
            watch.serial.push_str(text);
            watch.judge(Firmware::Uefi);
            assert_eq!((watch.stage, watch.evidence.as_str()), (Stage::System, evidence));
        }
    }

    #[test]
    fn what_stands_behind_the_firmware_is_the_boot_images() {
        assert_eq!(after_firmware("SeaBIOS (version 1)\n\nBooting from DVD/CD...\n\n"), None);
        assert_eq!(after_firmware("SeaBIOS\nBooting from DVD/CD...\nHello\n"), Some("Hello".into()));
        assert_eq!(after_firmware("SeaBIOS (version 1)\n"), None);
        assert_eq!(after_firmware("\n  Hello\n"), Some("Hello".into()));
        assert_eq!(after_firmware(""), None);
    }
}
