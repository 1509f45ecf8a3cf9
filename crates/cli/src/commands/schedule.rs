//! `eskort schedule`

use super::{block_on, load};
use crate::args::{ScheduleAction, ScheduleArgs};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::ui::Ui;
use eskort_app::{
    Keeper, ScheduleOptions, ScheduleText, ScheduleView, StepError, judge_cron, look_at_schedule, schedule, unschedule,
};
use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity};
use eskort_core::schedule::NAME;
use eskort_core::words;
use serde::Serialize;
use std::path::{Path, PathBuf};

/// The folder that is there when systemd runs the machine (sd_booted(3)).
const BOOTED: &str = "/run/systemd/system";
const SYSTEM_UNITS: &str = "/etc/systemd/system";
const CRON_FOLDER: &str = "/etc/cron.d";

pub(crate) fn run(ui: &Ui, config: Option<PathBuf>, args: &ScheduleArgs) -> ExitStatus {
    let context = match load(ui, config) {
        Ok(context) => context,
        Err(status) => return status,
    };
    match args.action {
        Some(ScheduleAction::Show) => show(ui, &context, args),
        Some(ScheduleAction::Remove) => remove(ui, &context),
        None => set_up(ui, &context, args),
    }
}

/// Everything that may run a timer here, for this user.
fn keepers() -> Vec<Keeper> {
    let root = nix::unistd::geteuid().is_root();
    let mut all = Vec::new();
    if root {
        all.push(Keeper::Systemd { units: SYSTEM_UNITS.into(), user: false });
        all.push(Keeper::CronFile { path: Path::new(CRON_FOLDER).join(NAME) });
    }
    all.extend(user_units().map(|units| Keeper::Systemd { units, user: true }));
    all.push(Keeper::CronTable);
    all
}

/// Returns the folder of the units of this user's systemd.
fn user_units() -> Option<PathBuf> {
    let set = std::env::var_os("XDG_CONFIG_HOME").map(PathBuf::from).filter(|path| path.is_absolute());
    let folder = set.or_else(|| Some(std::env::home_dir()?.join(".config")))?;
    Some(folder.join("systemd/user"))
}

/// Returns what is to run the timer.
fn keeper(args: &ScheduleArgs) -> Result<Keeper, ErrorText> {
    let root = nix::unistd::geteuid().is_root();
    let has_systemd = Path::new(BOOTED).exists();
    if args.cron || !has_systemd {
        return match (root && !args.user, Path::new(CRON_FOLDER).is_dir()) {
            (true, true) => Ok(Keeper::CronFile { path: Path::new(CRON_FOLDER).join(NAME) }),
            (true, false) => Err(ErrorText::coded("no-timer", "neither systemd nor cron is here")
                .hint("install cron, or run `eskort keep` by whatever runs programs here every few hours")),
            (false, _) => Ok(Keeper::CronTable),
        };
    }
    match user_units().filter(|_| args.user || !root) {
        Some(units) => Ok(Keeper::Systemd { units, user: true }),
        None => Ok(Keeper::Systemd { units: SYSTEM_UNITS.into(), user: false }),
    }
}

/// Returns how the timer is to be with what runs it.
fn options(keeper: Keeper, hours: u32) -> ScheduleOptions {
    let program = std::env::current_exe().unwrap_or_else(|_| PathBuf::from("/usr/local/bin/eskort"));
    let machine = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
    ScheduleOptions { keeper, program, hours, seed: machine.trim().to_owned() }
}

#[derive(Serialize)]
struct ReportTexts<'a> {
    keeper: &'a Keeper,
    files: &'a [ScheduleText],
    findings: &'a [Finding],
}

fn set_up(ui: &Ui, context: &Context, args: &ScheduleArgs) -> ExitStatus {
    let keeper = match keeper(args) {
        Ok(keeper) => keeper,
        Err(text) => {
            errors::print(ui, "no timer was set up", &text);
            return ExitStatus::Failed;
        }
    };
    let options = options(keeper, args.every);
    let texts = match args.plan {
        true => options.texts(context),
        false => match block_on(schedule(context, &options)) {
            Ok(texts) => texts,
            Err(error) => return failed(ui, "the timer was not set up", &error),
        },
    };
    let is_crons = matches!(options.keeper, Keeper::CronFile { .. } | Keeper::CronTable);
    let findings: Vec<Finding> = if is_crons && !args.plan { judge_cron().into_iter().collect() } else { Vec::new() };
    let status = if findings.is_empty() { ExitStatus::Well } else { ExitStatus::NeedsAttention };
    if ui.is_json() {
        ui.json("schedule", &ReportTexts { keeper: &options.keeper, files: &texts, findings: &findings });
        return status;
    }
    for ScheduleText { path, text } in &texts {
        ui.result(&Tone::Strong.paint(&path.display().to_string()));
        text.lines().for_each(|line| ui.result(&format!("  {line}")));
    }
    findings.iter().for_each(|finding| print_finding(ui, finding));
    if args.plan {
        ui.result("Only a plan: nothing was done. `eskort schedule` does it.");
    } else if findings.is_empty() {
        ui.result("The timer is on. `eskort schedule show` says when it runs, and how the last runs went.");
    }
    status
}

fn show(ui: &Ui, context: &Context, args: &ScheduleArgs) -> ExitStatus {
    let wanted: Vec<ScheduleOptions> = keepers().into_iter().map(|keeper| options(keeper, args.every)).collect();
    let view = match block_on(look_at_schedule(context, &wanted)) {
        Ok(view) => view,
        Err(error) => return failed(ui, "the timer could not be looked at", &error),
    };
    let worst = view.findings.iter().map(|finding| finding.severity).max();
    if ui.is_json() {
        ui.json("schedule-show", &view);
    } else {
        print_view(ui, &view);
    }
    match worst {
        Some(Severity::Bad | Severity::Notice) => ExitStatus::NeedsAttention,
        Some(Severity::Good | Severity::Better) | None => ExitStatus::Well,
    }
}

fn print_view(ui: &Ui, view: &ScheduleView) {
    let fact = |what: &str, text: String| vec![Cell::toned(what, Tone::Faint), Cell::plain(text)];
    let mut rows = Vec::new();
    rows.push(fact("timer", view.keeper.as_ref().map_or_else(|| "none".to_owned(), Keeper::words)));
    rows.extend(view.next.clone().map(|next| fact("next run", next)));
    ui.result(&draw(&["", ""], &rows, ui.page()));
    if !view.runs.is_empty() {
        ui.result("");
        let row = |run: &eskort_app::RunRow| {
            let (result, tone) = match (run.failed, run.waiting) {
                (0, 0) => ("well".to_owned(), Tone::Good),
                (0, waiting) => {
                    (format!("{} for a person", words::count(waiting as u64, "certificate waits")), Tone::Notice)
                }
                (failed, _) => (format!("{failed} failed"), Tone::Bad),
            };
            let took = run.ended.duration_since(run.began);
            let took = if took.as_secs() < 1 { "a moment".to_owned() } else { words::duration(took) };
            let by = if run.by_timer { "timer" } else { "somebody" };
            vec![
                Cell::plain(words::instant(run.began)),
                Cell::plain(by),
                Cell::plain(took),
                Cell::plain(run.certificates.to_string()),
                Cell::toned(result, tone),
            ]
        };
        let rows: Vec<Vec<Cell>> = view.runs.iter().map(row).collect();
        ui.result(&draw(&["RUN", "BEGUN BY", "TOOK", "CERTIFICATES", "RESULT"], &rows, ui.page()));
    }
    if !view.findings.is_empty() {
        ui.result("");
    }
    view.findings.iter().for_each(|finding| print_finding(ui, finding));
}

fn print_finding(ui: &Ui, Finding { severity, text, advice, .. }: &Finding) {
    let (mark, tone) = match severity {
        Severity::Good | Severity::Better => ("good", Tone::Good),
        Severity::Notice => ("notice", Tone::Notice),
        Severity::Bad => ("BAD", Tone::Bad),
    };
    let advice = advice.as_ref().map(|advice| format!(" ({advice})")).unwrap_or_default();
    ui.result_wrapped(&format!("{}  ", tone.paint(&format!("{mark:6}"))), &format!("{text}{advice}"));
}

#[derive(Serialize)]
struct ReportRemoved<'a> {
    removed: &'a [PathBuf],
}

fn remove(ui: &Ui, context: &Context) -> ExitStatus {
    let removed = match block_on(unschedule(context, &keepers())) {
        Ok(removed) => removed,
        Err(error) => return failed(ui, "the timer was not removed", &error),
    };
    if ui.is_json() {
        ui.json("schedule", &ReportRemoved { removed: &removed });
        return ExitStatus::Well;
    }
    for path in &removed {
        ui.result(&format!("removed  {}", path.display()));
    }
    ui.result(match removed.is_empty() {
        true => "No timer was set up.",
        false => "Nothing is renewed by itself any more.",
    });
    ExitStatus::Well
}

fn failed(ui: &Ui, headline: &str, error: &StepError) -> ExitStatus {
    if let StepError::Store(error) = error {
        return errors::print_store(ui, error);
    }
    errors::print(ui, headline, &errors::tell(error, ""));
    ExitStatus::Failed
}
