//! All printing: results to standard output, the talk beside them to standard error.

use crate::draw::board::Board;
use crate::draw::table::{Page, wrap};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::exit::ExitStatus;
use crate::texts::log::{Fact, LogFormat};
use clap::ValueEnum;
use eskort_core::progress::NameState;
use eskort_inventory::{Mistake, Mistakes};

use eskort_core::words;
use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::{IsTerminal, Write};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock};
use std::time::{Duration, Instant};

/// The version of the JSON reports' shape.
const REPORT_VERSION: u32 = 1;
/// Lines of tables and texts are no wider, however wide the terminal is.
const WIDEST: usize = 140;
/// What is written to a file or a pipe is this wide.
const WIDTH_UNSEEN: usize = 100;

/// More names than these are summed up by how they stand.
pub(crate) const MOST_NAMES: usize = 8;

/// Says that the program has a bug.
pub(crate) fn say_bug(what: &str) {
    let text = format!(
        "{} internal error: this is a bug in Eskort\n  cause: {}\n{} what was done so far is in the ledger, and running the same \
         again goes on from there; please report the cause",
        Tone::Bad.paint("error:"),
        words::printable(what, 400),
        Tone::Strong.paint("hint:")
    );
    say(std::io::stderr(), &text);
}

/// Writes a line in one go: others may write to the same terminal or file. Whoever closed the pipe has read enough.
fn say<S: anstream::stream::RawStream + IsTerminal>(mut stream: S, text: &str) {
    let mut line = match anstream::AutoStream::choice(&stream) {
        anstream::ColorChoice::Never => anstream::adapter::strip_str(text).to_string(),
        _ => text.to_owned(),
    };
    line.push('\n');
    let _ = stream.write_all(line.as_bytes());
}

/// In which form results are printed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub(crate) enum Output {
    /// For people
    Text,
    /// For programs: one JSON document on standard output
    Json,
}

/// Where and how to print.
#[derive(Clone)]
pub(crate) struct Ui {
    output: Output,
    verbose: bool,
    /// The demo tells one story: its talk goes where its results go.
    one_stream: bool,
    /// Whether somebody sees things move.
    is_live: bool,
    spinner: Arc<Mutex<Option<ProgressBar>>>,
    waits: Arc<Mutex<Waits>>,
    side: Arc<Mutex<Side>>,
    reports: Arc<Mutex<Reports>>,
    /// Whether what is told are facts for a log, and in which form.
    log: Arc<OnceLock<LogFormat>>,
}

/// Whose talk is printed: that of one certificate after the other under its headline, or of several side by side.
#[derive(Default)]
struct Side {
    /// Several are worked on at once.
    board: Option<Board>,
    /// The certificate whose headline stands above what was said last.
    headline: Option<String>,
}

/// The JSON reports of a command.
#[derive(Default)]
struct Reports {
    /// Those that are collected for one that has them all.
    collected: Option<Vec<serde_json::Value>>,
    /// Whether one was printed.
    printed: bool,
    /// The last error, which is the report when no other comes.
    error: Option<ErrorReport>,
}

/// An error, where it is all there is to report.
#[derive(Clone, Serialize)]
struct ErrorReport {
    /// What was not done.
    what: String,
    #[serde(flatten)]
    text: ErrorText,
    /// The places in the inventory that are wrong.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    mistakes: Vec<Mistake>,
}

/// The names that are waited for: how each stands, and since when it is waited for.
#[derive(Default)]
struct Waits(BTreeMap<String, (String, Instant)>);

impl Waits {
    /// Takes in how names stand, and returns those that stand otherwise than before.
    fn update(&mut self, names: &[NameState]) -> Vec<(String, String)> {
        self.0.retain(|name, _| names.iter().any(|n| n.name == *name));
        let mut changed = Vec::new();
        for NameState { name, state, since } in names {
            let known =
                self.0.entry(name.clone()).or_insert_with(|| (String::new(), since.unwrap_or_else(Instant::now)));
            if known.0 != *state {
                known.0.clone_from(state);
                changed.push((name.clone(), state.clone()));
            }
        }
        changed
    }

    /// Returns a line for each name; where there are many, one for each state.
    fn lines(&self) -> Vec<String> {
        let age = |since: &Instant| words::duration(since.elapsed().try_into().unwrap_or_default());
        if self.0.len() <= MOST_NAMES {
            let width = self.0.keys().map(|name| name.chars().count()).max().unwrap_or(0);
            return self
                .0
                .iter()
                .map(|(name, (state, since))| format!("{name:<width$}  {state}, {}", age(since)))
                .collect();
        }
        let mut states: BTreeMap<&String, (u64, &Instant)> = BTreeMap::new();
        for (state, since) in self.0.values() {
            let group = states.entry(state).or_insert((0, since));
            *group = (group.0 + 1, group.1.min(since));
        }
        let line = |(state, (n, since)): (&String, (u64, &Instant))| {
            format!("{}  {state}, {}", words::count(n, "name"), age(since))
        };
        states.into_iter().map(line).collect()
    }
}

impl Ui {
    pub(crate) fn new(output: Output, verbose: bool, one_stream: bool) -> Self {
        let one_stream = one_stream && output != Output::Json;
        Ui {
            output,
            verbose,
            one_stream,
            is_live: std::io::stderr().is_terminal() && (!one_stream || std::io::stdout().is_terminal()),
            spinner: Arc::default(),
            waits: Arc::default(),
            side: Arc::default(),
            reports: Arc::default(),
            log: Arc::default(),
        }
    }

    /// Tells facts for a log from now on.
    pub(crate) fn log_as(&self, format: LogFormat) {
        let _ = self.log.set(format);
    }

    /// Returns in which form facts are told for a log; `None` where people are told.
    pub(crate) fn logs(&self) -> Option<LogFormat> {
        self.log.get().copied()
    }

    /// Tells a fact for a log.
    pub(crate) fn fact(&self, fact: &Fact) {
        match self.logs() {
            Some(LogFormat::Json) => {
                say(std::io::stderr(), &serde_json::to_string(fact).expect("our own facts encode as JSON"));
            }
            Some(LogFormat::Journal) if fact.to_journal() => {}
            // Where there is no journal, it stands where the others stand.
            _ => say(std::io::stderr(), &fact.line()),
        }
    }

    pub(crate) fn is_json(&self) -> bool {
        self.output == Output::Json
    }

    /// Returns how wide lines may be.
    pub(crate) fn width(&self) -> usize {
        let size = std::io::stdout().is_terminal().then(terminal_size::terminal_size).flatten();
        size.map_or(WIDTH_UNSEEN, |(width, _)| usize::from(width.0).clamp(40, WIDEST))
    }

    /// Returns what results are drawn on.
    pub(crate) fn page(&self) -> Page {
        let colour = anstream::AutoStream::choice(&std::io::stdout()) != anstream::ColorChoice::Never;
        Page { width: self.width(), colour }
    }

    /// Prints a result. Where JSON is wanted, the report is the result, and this is talk.
    pub(crate) fn result(&self, text: &str) {
        if self.is_json() {
            return self.talk(text);
        }
        let text = text.trim_end_matches('\n');
        self.hush(|| match text.contains('\x1b') {
            true => say(std::io::stdout(), text),
            // A long list without colours need not be copied.
            false => drop(writeln!(std::io::stdout().lock(), "{text}")),
        });
    }

    /// Keeps an error, in case nothing else is reported.
    pub(crate) fn keep_error(&self, headline: &str, text: &ErrorText) {
        let what = anstream::adapter::strip_str(headline).to_string();
        self.reports().error = Some(ErrorReport { what, text: text.clone(), mistakes: Vec::new() });
    }

    /// Keeps the mistakes of an inventory, in case nothing else is reported.
    pub(crate) fn keep_mistakes(&self, path: &str, mistakes: &Mistakes) {
        let text = ErrorText::coded("mistakes", mistakes.to_string());
        let mistakes = mistakes.0.clone();
        self.reports().error = Some(ErrorReport { what: format!("{path} was not used"), text, mistakes });
    }

    fn reports(&self) -> MutexGuard<'_, Reports> {
        self.reports.lock().expect("no holder panics")
    }

    /// Collects the reports from now on instead of printing them, where JSON is wanted.
    pub(crate) fn collect_reports(&self) {
        self.reports().collected = self.is_json().then(Vec::new);
    }

    /// Prints the reports that were collected as one.
    pub(crate) fn report_collected(&self, report: &str) {
        #[derive(Serialize)]
        struct Collected {
            reports: Vec<serde_json::Value>,
        }
        if let Some(reports) = { self.reports().collected.take() } {
            self.json(report, &Collected { reports });
        }
    }

    /// Ends a command: where JSON is wanted and nothing was reported, the error is.
    pub(crate) fn end(&self, status: ExitStatus) -> ExitStatus {
        #[derive(Serialize)]
        struct Ended {
            #[serde(flatten)]
            error: ErrorReport,
            exit: u8,
        }
        let error = {
            let mut reports = self.reports();
            if reports.printed { None } else { reports.error.take() }
        };
        if self.is_json()
            && let Some(error) = error
        {
            self.json("error", &Ended { error, exit: status.number() });
        }
        status
    }

    /// Prints a report as JSON.
    pub(crate) fn json<T: Serialize>(&self, report: &str, content: &T) {
        #[derive(Serialize)]
        struct Envelope<'a, T> {
            version: u32,
            report: &'a str,
            #[serde(flatten)]
            content: &'a T,
        }
        let envelope = Envelope { version: REPORT_VERSION, report, content };
        let mut reports = self.reports();
        if let Some(collected) = &mut reports.collected {
            collected.push(serde_json::to_value(&envelope).expect("our own reports encode as JSON"));
            return;
        }
        reports.printed = true;
        let text = serde_json::to_string_pretty(&envelope).expect("our own reports encode as JSON");
        let _ = writeln!(std::io::stdout().lock(), "{text}");
    }

    /// Says something beside the results.
    pub(crate) fn talk(&self, text: &str) {
        self.hush(|| if self.one_stream { say(std::io::stdout(), text) } else { say(std::io::stderr(), text) });
    }

    /// Says something beside the results: a lead, and a text wrapped behind it.
    pub(crate) fn talk_wrapped(&self, lead: &str, text: &str, tone: Tone) {
        self.wrapped(lead, text, tone).iter().for_each(|line| self.talk(line));
    }

    /// Prints a result: a lead, and a text wrapped behind it.
    pub(crate) fn result_wrapped(&self, lead: &str, text: &str) {
        self.result(&self.wrapped(lead, text, Tone::Plain).join("\n"));
    }

    /// Returns the lines of a lead with a text wrapped behind it; a long lead stands out to the left.
    fn wrapped(&self, lead: &str, text: &str, tone: Tone) -> Vec<String> {
        let length = anstream::adapter::strip_str(lead).to_string().chars().count();
        let width = self.width();
        let indent = if length > width / 3 { 4 } else { length };
        // What stands out takes its room in the first line.
        let room = "-".repeat(length.saturating_sub(indent));
        let line = |(n, line): (usize, &String)| match line.strip_prefix(&room).filter(|_| n == 0) {
            Some(first) => format!("{lead}{}", tone.paint(first)),
            None => format!("{}{}", " ".repeat(indent), tone.paint(line)),
        };
        wrap(&format!("{room}{text}"), width.saturating_sub(indent)).iter().enumerate().map(line).collect()
    }

    fn hush(&self, print: impl FnOnce()) {
        match &*self.spinner.lock().expect("no holder panics") {
            Some(spinner) => spinner.suspend(print),
            None => print(),
        }
    }

    /// Ends the spinner.
    pub(crate) fn settle(&self) {
        self.forget_names();
        if let Some(spinner) = self.spinner.lock().expect("no holder panics").take() {
            spinner.finish_and_clear();
        }
    }

    /// Whether every request is printed.
    pub(crate) fn is_verbose(&self) -> bool {
        self.verbose
    }

    /// Takes in how names stand that are waited for, and prints that where nobody sees things move.
    pub(crate) fn names(&self, names: &[NameState]) {
        let mut waits = self.waits.lock().expect("no holder panics");
        let changed = waits.update(names);
        let lines = waits.lines();
        drop(waits);
        if !self.is_live && !changed.is_empty() {
            lines.iter().for_each(|line| self.talk(&format!("  {line}")));
        }
    }

    /// Forgets the names that were waited for.
    pub(crate) fn forget_names(&self) {
        self.waits.lock().expect("no holder panics").0.clear();
    }

    fn side(&self) -> MutexGuard<'_, Side> {
        self.side.lock().expect("no holder panics")
    }

    /// From now on certificates are worked on side by side; none ends that.
    pub(crate) fn side_by_side(&self, certificates: &[String]) {
        self.settle();
        *self.side() = Side { board: (!certificates.is_empty()).then(|| Board::new(certificates)), headline: None };
        if certificates.is_empty() || !self.is_live {
            return;
        }
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
        let side = Arc::clone(&self.side);
        let draw = move |_: &ProgressState, out: &mut dyn std::fmt::Write| {
            let size = terminal_size::terminal_size().map_or((80, 24), |(w, h)| (usize::from(w.0), usize::from(h.0)));
            if let Some(board) = &side.lock().expect("no holder panics").board {
                let _ = write!(out, "{}", board.lines(size, Instant::now()).join("\n"));
            }
        };
        let style = ProgressStyle::with_template("{board}").expect("the template is good").with_key("board", draw);
        bar.set_style(style);
        bar.enable_steady_tick(Duration::from_millis(200));
        *self.spinner.lock().expect("no holder panics") = Some(bar);
    }

    /// Changes the board of certificates that are worked on side by side; where there is one.
    pub(crate) fn on_board<T>(&self, change: impl FnOnce(&mut Board) -> T) -> Option<T> {
        self.side().board.as_mut().map(change)
    }

    /// Whether somebody sees certificates move side by side.
    pub(crate) fn shows_board(&self) -> bool {
        self.is_live && self.side().board.is_some()
    }

    /// Puts a certificate's headline above what is said next, unless it stands there already.
    pub(crate) fn headline(&self, certificate: &str, text: Option<&str>) {
        if self.side().headline.as_deref() == Some(certificate) && text.is_none() {
            return;
        }
        self.side().headline = Some(certificate.to_owned());
        let lead = format!("{}:", Tone::Strong.paint(certificate));
        match text {
            Some(text) => self.talk_wrapped(&format!("{lead} "), text, Tone::Plain),
            None => self.talk(&lead),
        }
    }

    /// What is said next is about the run as a whole.
    pub(crate) fn no_headline(&self) {
        self.side().headline = None;
    }

    /// Shows a spinner, on a terminal.
    pub(crate) fn spin(&self, message: String) {
        if !self.is_live {
            return;
        }
        let mut spinner = self.spinner.lock().expect("no holder panics");
        let bar = spinner.get_or_insert_with(|| {
            let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr());
            let style =
                ProgressStyle::with_template("  {spinner} {msg} {elapsed}{names}").expect("the template is good");
            let waits = Arc::clone(&self.waits);
            let style = style.with_key("names", move |_: &ProgressState, out: &mut dyn std::fmt::Write| {
                for line in waits.lock().expect("no holder panics").lines() {
                    let _ = write!(out, "\n        {line}");
                }
            });
            bar.set_style(style.tick_strings(&["·  ", "•· ", "·•·", " ·•", "  ·", "   "]));
            bar.enable_steady_tick(Duration::from_millis(120));
            bar
        });
        bar.set_message(message);
    }
}
