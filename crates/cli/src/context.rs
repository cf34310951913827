//! What every command needs: how to show things, progress, and the stop flag.

use crate::{
    args::{ColorWhen, Global},
    documents::Document,
    exit,
    show::{outside, style},
};
use indicatif::{HumanBytes, HumanDuration, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use neat_content::{Error, Event, Job, Observer, Result, Timestamp};
use neat_stack::Clock;
use std::{
    collections::BTreeMap,
    io::{IsTerminal, Write},
    path::Path,
    sync::{Arc, Mutex, PoisonError, atomic::AtomicBool},
    time::{Duration, Instant},
};

/// Exit code of a run that was stopped.
const STOPPED: i32 = 130;
/// Sent when a file grows past the limit of its process (POSIX.1-2017, signal.h), for which there is no constant in
/// the library.
const SIGXFSZ: i32 = 25;

/// Options and state of one run.
pub(crate) struct Context {
    pub json: bool,
    pub quiet: bool,
    /// Threads that compress, 0 for as many as there are cores.
    pub threads: usize,
    stop: Arc<AtomicBool>,
    progress: Progress,
}

impl Context {
    /// Sets up colours, progress and the reaction to Ctrl-C.
    pub(crate) fn new(global: &Global) -> Result<Self> {
        match global.color {
            ColorWhen::Auto => {}
            ColorWhen::Always => anstream::ColorChoice::Always.write_global(),
            ColorWhen::Never => anstream::ColorChoice::Never.write_global(),
        }
        let stop = Arc::new(AtomicBool::new(false));
        for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
            let failed = |error| Error::io("watch for signals as", Path::new("this program"))(error);
            // The first asks the work to stop; a second ends the program, whatever it waits for.
            signal_hook::flag::register_conditional_shutdown(signal, STOPPED, Arc::clone(&stop))
                .map_err(failed)?;
            signal_hook::flag::register(signal, Arc::clone(&stop)).map_err(failed)?;
        }
        // A file that may not grow further is then an error of the write, and not the end of the program.
        let failed = Error::io("watch for signals as", Path::new("this program"));
        signal_hook::flag::register(SIGXFSZ, Arc::default()).map_err(failed)?;
        let shows = std::io::stderr().is_terminal() && !global.quiet && !global.json;
        let progress = Progress { shows, verbose: global.verbose, bar: Mutex::new(None) };
        Ok(Self { json: global.json, quiet: global.quiet, threads: global.threads, stop, progress })
    }

    /// Whether colours are wanted where it draws.
    pub(crate) fn has_colours(&self) -> bool {
        anstream::AutoStream::choice(&std::io::stdout()) != anstream::ColorChoice::Never
    }

    /// A job that shows its progress and ends on Ctrl-C.
    pub(crate) fn job(&self) -> Job<'_> {
        Job::new(&self.progress, &self.stop)
    }

    /// Set when Ctrl-C was pressed.
    pub(crate) fn stop_flag(&self) -> &AtomicBool {
        &self.stop
    }

    /// Takes the progress bar off the screen.
    pub(crate) fn clear_progress(&self) {
        self.progress.event(Event::StepFinished);
    }

    /// Says something beside the results, on standard error: laid-out text.
    pub(crate) fn say(&self, text: &str) {
        if !self.quiet {
            exit::complain(text);
        }
    }

    /// Says something in a line of its own, on standard error.
    pub(crate) fn say_line(&self, text: &str) {
        self.say(&outside::line(text));
    }

    /// Says one thing that a person should know, on standard error, in a line of its own.
    pub(crate) fn note(&self, text: &str) {
        self.say(&format!("{}note:{:#} {}", style::CARE, style::CARE, outside::line(text)));
    }

    /// Prints one result in a line of its own, on standard output.
    pub(crate) fn print_line(&self, text: &str) -> Result<()> {
        self.print(&format!("{}\n", outside::line(text)))
    }

    /// Prints a document, such as an answer file, on standard output: to a terminal without what would move its
    /// cursor, to a file or a pipe as it is.
    pub(crate) fn print_document(&self, text: &str) -> Result<()> {
        if std::io::stdout().is_terminal() {
            return self.print(&text.replace('\r', "").replace('\t', "    "));
        }
        let mut out = std::io::stdout().lock();
        out.write_all(text.as_bytes())
            .and_then(|()| out.flush())
            .map_err(Error::io("write to", Path::new("standard output")))
    }

    /// Prints a result on standard output.
    pub(crate) fn print(&self, text: &str) -> Result<()> {
        let mut out = anstream::stdout().lock();
        out.write_all(outside::shown(text).as_bytes())
            .and_then(|()| out.flush())
            .map_err(Error::io("write to", Path::new("standard output")))
    }

    /// Prints a JSON document.
    pub(crate) fn print_json<T: Document>(&self, value: &T) -> Result<()> {
        self.print_any_json(value)
    }

    /// Prints JSON that is no result, but a form: a schema.
    pub(crate) fn print_any_json<T: serde::Serialize>(&self, value: &T) -> Result<()> {
        let text = serde_json::to_string_pretty(value)
            .map_err(|error| Error::internal(format!("the result cannot be written as JSON: {error}")))?;
        self.print(&format!("{}\n", outside::json(&text)))
    }
}

/// The clock, and `SOURCE_DATE_EPOCH` where it is set.
pub(crate) fn clock() -> Result<Clock> {
    let fixed = match std::env::var("SOURCE_DATE_EPOCH") {
        Err(_) => None,
        Ok(text) => {
            let seconds = text.trim().parse().map_err(|_| {
                Error::request(
                    format!("SOURCE_DATE_EPOCH is {text:?}"),
                    "set it to whole seconds since 1970, or not at all",
                )
            })?;
            Some(Timestamp::from_seconds(seconds))
        }
    };
    let now = Timestamp::from_seconds(jiff::Timestamp::now().as_second());
    Ok(Clock { today: fixed.unwrap_or(now), fixed })
}

/// The step that moves no bytes, but says how far machines have come.
pub(crate) const TRIAL: &str = "trying it";

/// A progress bar for each step that takes long enough to wonder.
struct Progress {
    shows: bool,
    verbose: bool,
    bar: Mutex<Option<Running>>,
}

struct Running {
    step: String,
    started: Instant,
    bar: ProgressBar,
    /// What each of several things at once has come to.
    reached: BTreeMap<String, String>,
}

/// The rate and the time left, once something has been done that they can be told from.
fn rate_and_rest(state: &ProgressState, text: &mut dyn std::fmt::Write) {
    if state.pos() == 0 || state.per_sec() <= 0.0 {
        return;
    }
    let _ = write!(text, "{}/s", HumanBytes(state.per_sec() as u64));
    if state.len().is_some() {
        let _ = write!(text, "  {:#} left", HumanDuration(state.eta()));
    }
}

impl Observer for Progress {
    fn event(&self, event: Event<'_>) {
        let mut running = self.bar.lock().unwrap_or_else(PoisonError::into_inner);
        match event {
            Event::StepStarted { step, total_bytes } => {
                let target = if self.shows {
                    ProgressDrawTarget::stderr_with_hz(10)
                } else {
                    ProgressDrawTarget::hidden()
                };
                let bar = ProgressBar::with_draw_target(total_bytes, target);
                let template = if total_bytes.is_some() {
                    "{msg}  {wide_bar}  {bytes} of {total_bytes}  {rate}"
                } else if step == TRIAL {
                    "{wide_msg}"
                } else {
                    "{msg}  {bytes}  {rate}"
                };
                if let Ok(style) = ProgressStyle::with_template(template) {
                    bar.set_style(style.with_key("rate", rate_and_rest).progress_chars("=> "));
                }
                bar.set_message(outside::line(step).into_owned());
                bar.enable_steady_tick(Duration::from_millis(200));
                let reached = BTreeMap::new();
                *running = Some(Running { step: step.to_owned(), started: Instant::now(), bar, reached });
            }
            Event::Reached { of, text } => {
                if let Some(running) = running.as_mut() {
                    running.reached.insert(of.to_owned(), text.to_owned());
                    let all: Vec<String> =
                        running.reached.iter().map(|(of, text)| format!("{of}: {text}")).collect();
                    let text = format!("{}  {}", running.step, all.join("  ·  "));
                    running.bar.set_message(outside::line(&text).into_owned());
                }
            }
            Event::BytesDone(bytes) => {
                if let Some(running) = running.as_ref() {
                    running.bar.inc(bytes);
                }
            }
            _ => {
                if let Some(Running { step, started, bar, .. }) = running.take() {
                    let bytes = bar.position();
                    bar.finish_and_clear();
                    if self.verbose {
                        exit::complain(&format!(
                            "{}: {} in {:.2} s",
                            outside::line(&step),
                            crate::show::size(bytes),
                            started.elapsed().as_secs_f64()
                        ));
                    }
                }
            }
        }
    }
}
