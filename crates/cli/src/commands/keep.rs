//! `eskort keep`

mod report;

use super::{block_on_one_thread, block_on_stoppable, clock, known_certificate, load};
use crate::args::{KeepArgs, RenewArgs};
use crate::draw::bar::{budget_bar, lifetime_bar};
use crate::draw::table::{Cell, draw};
use crate::draw::tone::Tone;
use crate::errors;
use crate::exit::ExitStatus;
use crate::password;
use crate::texts::log::{Fact, LogFormat};
use crate::texts::manual_step;
use crate::texts::progress::change;
use crate::ui::Ui;
use eskort_app::{
    Ending, KeepEntry, KeepOptions, Placed, Plan, PlannedBudget, PlannedServer, StepError, Stop, write_report,
};
use eskort_core::budget::Budget;
use eskort_core::context::Context;
use eskort_core::decision::{Decision, Obtaining, Reason};
use eskort_core::renewal::Validity;
use eskort_core::words;
use jiff::Timestamp;
pub(super) use report::{ReportRow, ReportServer, report_row, report_server};
use report::{error_of, print_json};
use std::path::PathBuf;
use std::time::Duration;

pub(crate) fn run(ui: &Ui, context: &Context, args: KeepArgs) -> ExitStatus {
    if context.inventory.certificates.is_empty() {
        ui.talk("The inventory has no [certificate.NAME] section, so there is nothing to keep.");
    }
    let KeepArgs { plan, wait, only, beyond_budget, drop_names, by_timer, log_format, .. } = args;
    let format =
        log_format.unwrap_or(if by_timer && prints_into_journal() { LogFormat::Journal } else { LogFormat::Text });
    if format != LogFormat::Text {
        ui.log_as(format);
    }
    run_with(ui, context, plan, KeepOptions { wait, only, beyond_budget, drop_names, by_timer, renew: false })
}

/// Whether what is printed goes into systemd's journal (systemd.exec(5), `JOURNAL_STREAM`).
fn prints_into_journal() -> bool {
    let stream = std::env::var("JOURNAL_STREAM").ok();
    let printed = nix::sys::stat::fstat(std::io::stderr()).ok();
    stream.zip(printed).is_some_and(|(stream, to)| stream == format!("{}:{}", to.st_dev, to.st_ino))
}

/// `eskort renew`
pub(crate) fn renew(ui: &Ui, context: &Context, args: RenewArgs) -> ExitStatus {
    let RenewArgs { certificates: only, plan, beyond_budget, drop_names } = args;
    let options = KeepOptions { only, beyond_budget, drop_names, renew: true, ..KeepOptions::default() };
    run_with(ui, context, plan, options)
}

fn run_with(ui: &Ui, context: &Context, plan: bool, options: KeepOptions) -> ExitStatus {
    for name in &options.only {
        if let Err(status) = known_certificate(ui, context, name) {
            return status;
        }
    }
    if plan {
        return run_plan(ui, context, &options);
    }
    let keep = |options: &KeepOptions| {
        let kept = block_on_one_thread(ui, eskort_app::keep(context, options))?;
        ui.settle();
        kept.map_err(|error| errors::print_store(ui, &error))
    };
    let kept = keep(&options).and_then(|mut entries| {
        let agreed = agreed_to_lose_names(ui, &entries, options.by_timer);
        if !agreed.is_empty() {
            entries.retain(|entry| !agreed.contains(&entry.certificate));
            entries.extend(keep(&KeepOptions { only: agreed, drop_names: true, ..options })?);
        }
        Ok(entries)
    });
    match kept {
        Err(status) => status,
        Ok(entries) => {
            print(ui, context, &entries);
            status(&entries)
        }
    }
}

/// Returns the certificates for which somebody at the terminal agrees that names are lost.
fn agreed_to_lose_names(ui: &Ui, entries: &[KeepEntry], by_timer: bool) -> Vec<String> {
    let mut agreed = Vec::new();
    for entry in entries {
        let Some(Obtaining::LosesNames { names, .. }) = entry.decision.as_ref().map(|decision| &decision.obtain) else {
            continue;
        };
        let (name, lost) = (&entry.certificate, words::list(names));
        let question = format!(
            "The certificate of `{name}` would not be for {lost} any more. Type yes to replace it all the same"
        );
        if !by_timer && password::on_terminal() && password::says_yes(ui, &question) {
            agreed.push(name.clone());
        }
    }
    agreed
}

/// Does it again and again, reading the inventory anew each time, until somebody asks the program to stop.
pub(crate) fn run_every(ui: &Ui, config: Option<PathBuf>, args: &KeepArgs, hours: u32) -> ExitStatus {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build();
    let runtime = runtime.expect("the system gives threads");
    let stop = runtime.block_on(async { Stop::listen() });
    let mut is_first = true;
    loop {
        let loaded = load(ui, config.clone());
        // Mistakes of later on keep nothing from being renewed once they are mended.
        let (status, clock) = match loaded {
            Ok(context) => {
                let args = KeepArgs { every: None, by_timer: true, ..args.clone() };
                (run(ui, &context, args), context.clock)
            }
            Err(status) if is_first => return status,
            Err(status) => (status, clock()),
        };
        is_first = false;
        if stop.is_asked() {
            return ExitStatus::Well;
        }
        if let Some(path) = &args.health {
            let is_well = matches!(
                status,
                ExitStatus::Well | ExitStatus::AwaitsPerson | ExitStatus::NeedsAttention | ExitStatus::Busy
            );
            let text = format!("{} {}\n", if is_well { "well" } else { "failed" }, clock.now());
            if let Err(error) = write_report(path, &text) {
                ui.talk(&format!("cannot write {}: {error}", path.display()));
            }
        }
        let ended = runtime.block_on(async {
            tokio::select! {
                () = clock.wait(Duration::from_secs(u64::from(hours) * 3600)) => false,
                () = stop.asked(1) => true,
            }
        });
        if ended {
            return ExitStatus::Well;
        }
    }
}

fn run_plan(ui: &Ui, context: &Context, options: &KeepOptions) -> ExitStatus {
    let planned = match block_on_stoppable(ui, eskort_app::plan(context, options)) {
        Ok(planned) => planned,
        Err(status) => return status,
    };
    ui.settle();
    match planned {
        Err(error) => errors::print_store(ui, &error),
        Ok(Plan { entries, budgets }) => {
            print_errors(ui, &entries);
            if ui.is_json() {
                print_json(ui, &entries, &budgets, context.now());
            } else {
                print_plan(ui, options, &entries, &budgets);
            }
            status(&entries)
        }
    }
}

pub(crate) fn status(entries: &[KeepEntry]) -> ExitStatus {
    let of = |entry: &KeepEntry| match &entry.ending {
        Ending::Arrived { to_carry, .. } if !to_carry.is_empty() => ExitStatus::AwaitsPerson,
        Ending::Planned(_)
        | Ending::AtRest { .. }
        | Ending::AwaitsTtl { .. }
        | Ending::Arrived { unconfirmed: None, .. } => ExitStatus::Well,
        Ending::UnderWay { .. } => ExitStatus::Busy,
        Ending::NoRoom | Ending::Held { .. } | Ending::Arrived { .. } => ExitStatus::NeedsAttention,
        Ending::AwaitsPerson(_) | Ending::AwaitsAnswer(_) | Ending::AwaitsApproval { .. } | Ending::LosesNames => {
            ExitStatus::AwaitsPerson
        }
        Ending::Failed { error, .. } => match **error {
            StepError::Bug(_) | StepError::Panic { .. } => ExitStatus::Bug,
            _ => ExitStatus::Failed,
        },
    };
    let placing = |entry: &KeepEntry| entry.placed.as_ref().is_some_and(|placed| placed.error.is_some());
    let of = |entry| of(entry).max(if placing(entry) { ExitStatus::Failed } else { ExitStatus::Well });
    entries.iter().map(of).max().unwrap_or(ExitStatus::Well)
}

/// What became of a generation that was installed and is not seen live.
const NOT_AS_IT_SHOULD_BE: &str = "is in place, but visitors do not get it as they should";

fn print_errors(ui: &Ui, entries: &[KeepEntry]) {
    for entry in entries {
        if let Some(text) = error_of(entry) {
            errors::print(ui, &headline(entry), &text);
        }
        if let Some(Placed { generation, error: Some(error) }) = &entry.placed {
            let what = match **error {
                StepError::NotConfirmed { .. } => NOT_AS_IT_SHOULD_BE,
                _ => "could not be put in place",
            };
            let headline = format!("`{}`: generation {generation} {what}", entry.certificate);
            errors::print(ui, &headline, &errors::tell(error, &entry.certificate));
        }
    }
}

/// Prints what came of a run.
pub(crate) fn print(ui: &Ui, context: &Context, entries: &[KeepEntry]) {
    let now = context.now();
    if ui.logs().is_some() {
        facts(context, entries, now).iter().for_each(|fact| ui.fact(fact));
        if ui.is_json() {
            print_json(ui, entries, &[], now);
        }
        return;
    }
    print_errors(ui, entries);
    if ui.is_json() {
        return print_json(ui, entries, &[], now);
    }
    for entry in entries {
        let waits = || format!("\n{} {}.\n", Tone::Strong.paint(&entry.certificate), waits_for_you(entry, now));
        if let Ending::AwaitsAnswer(manual_step) = &entry.ending {
            ui.result(&(waits() + &manual_step::manual_step(manual_step, ui.page())));
        }
        if let Ending::AwaitsPerson(records) = &entry.ending {
            ui.result(&(waits() + &manual_step::records_to_place(records)));
            ui.result("\n  Then run `eskort keep` again; with `eskort keep --wait` it goes on by itself.");
        }
    }
    if !entries.is_empty() {
        if entries.iter().any(|e| e.decision.as_ref().is_none_or(Decision::acts)) {
            ui.talk("");
        }
        let (at_rest, others): (Vec<&KeepEntry>, Vec<&KeepEntry>) = entries.iter().partition(|e| is_at_rest(e));
        if !others.is_empty() {
            let rows: Vec<Vec<Cell>> = others.iter().map(|e| row(context, e, now)).collect();
            ui.result(&draw(&["CERTIFICATE", "LEFT", "RESULT"], &rows, ui.page()));
        }
        print_at_rest(ui, &at_rest, entries.len());
    }
}

/// Returns what came of a run as facts for a log: one for each certificate about which there was something to do, and one for the run.
fn facts(context: &Context, entries: &[KeepEntry], at: Timestamp) -> Vec<Fact> {
    let of = |entry: &KeepEntry| {
        let (code, text) = match error_of(entry) {
            Some(text) => (Some(text.code), text.in_one_line()),
            None => (None, row(context, entry, at).pop().map(|cell| cell.text().to_owned()).unwrap_or_default()),
        };
        let priority = match status(std::slice::from_ref(entry)) {
            ExitStatus::Well => 5,
            ExitStatus::Failed | ExitStatus::Bug => 3,
            _ => 4,
        };
        Fact { at, priority, fact: "result", certificate: Some(entry.certificate.clone()), text, code }
    };
    let (at_rest, others): (Vec<&KeepEntry>, Vec<&KeepEntry>) = entries.iter().partition(|e| is_at_rest(e));
    let text = format!(
        "{} looked after, {} of them at rest",
        words::count(entries.len() as u64, "certificate"),
        at_rest.len()
    );
    let run = Fact { at, priority: 6, fact: "run", certificate: None, text, code: None };
    others.into_iter().map(of).chain([run]).collect()
}

/// Whether there was nothing to do about a certificate.
fn is_at_rest(entry: &KeepEntry) -> bool {
    entry.decision.as_ref().is_some_and(|decision| !decision.acts())
        && matches!(entry.ending, Ending::AtRest { .. } | Ending::Planned(_))
        && rests_until(entry).is_some()
}

fn rests_until(entry: &KeepEntry) -> Option<Timestamp> {
    match entry.decision.as_ref()?.obtain {
        Obtaining::Rest { until, .. } => Some(until),
        _ => None,
    }
}

/// Says in one line about which certificates there was nothing to do.
fn print_at_rest(ui: &Ui, at_rest: &[&KeepEntry], of: usize) {
    let Some(next) = at_rest.iter().min_by_key(|entry| rests_until(entry)) else { return };
    let (Some(until), name) = (rests_until(next), &next.certificate) else { return };
    let day = words::day(until);
    let line = match at_rest.len() {
        1 => {
            let said = next.decision.as_ref().map(|decision| decision.obtain.words()).unwrap_or_default();
            format!("{}: {said}", Tone::Strong.paint(name))
        }
        all if all == of => format!("{all} certificates: nothing to do; the next renewal is that of `{name}` on {day}"),
        some => format!("{some} others: nothing to do; the next renewal is that of `{name}` on {day}"),
    };
    ui.result(&if at_rest.len() == of { line } else { format!("\n{line}") });
}

fn headline(entry: &KeepEntry) -> String {
    let name = &entry.certificate;
    let Some(decision) = &entry.decision else { return format!("`{name}` could not be processed") };
    if let Ending::Failed { error, .. } = &entry.ending
        && matches!(**error, StepError::NotConfirmed { .. })
    {
        return format!("`{name}` {NOT_AS_IT_SHOULD_BE}");
    }
    match (&decision.obtain, &decision.place) {
        (Obtaining::Start { why, .. }, _) if *why != Reason::First => {
            format!("cannot renew `{name}` ({})", why.words())
        }
        (Obtaining::Start { .. }, _) => format!("cannot get the first certificate for `{name}`"),
        (Obtaining::GoOn { generation, .. }, _) => {
            format!("`{name}` is not finished with generation {generation}")
        }
        (_, Some(place)) => format!("`{name}`: generation {} could not be put in place", place.generation),
        (
            Obtaining::Rest { .. }
            | Obtaining::LosesNames { .. }
            | Obtaining::OutOfReach { .. }
            | Obtaining::NoRoom { .. }
            | Obtaining::Hold { .. },
            None,
        ) => {
            format!("`{name}` could not be processed")
        }
    }
}

fn row(context: &Context, entry: &KeepEntry, now: Timestamp) -> Vec<Cell> {
    let timing = context.inventory.timing_of(&entry.certificate);
    let bar = |validity: Option<Validity>| match validity {
        Some(v) => {
            let (bar, tone) = lifetime_bar(&v, rests_until(entry).unwrap_or_else(|| timing.renew_at(&v)), now);
            Cell::toned(bar, tone)
        }
        None => Cell::plain(""),
    };
    let (left, result) = match &entry.ending {
        Ending::Arrived { validity, .. } => (bar(*validity), arrived(context, entry, now)),
        Ending::AtRest { validity } => {
            let text = entry.decision.as_ref().map(|d| d.words()).unwrap_or_default();
            (bar(*validity), Cell::plain(text))
        }
        Ending::UnderWay { holder } => (bar(None), Cell::plain(format!("another run is at work on it ({holder})"))),
        Ending::Held { reason } => {
            let text = entry.decision.as_ref().map(|d| d.obtain.words()).unwrap_or_default();
            let name = &entry.certificate;
            let text = format!("{text}: {}. `eskort keep --only {name}` tries at once", reason.trim_end_matches('.'));
            (bar(None), Cell::toned(text, Tone::Notice))
        }
        Ending::NoRoom => {
            let text = entry.decision.as_ref().map(|d| d.obtain.words()).unwrap_or_default();
            let text =
                format!("{text}. `eskort keep --beyond-budget --only {}` orders all the same", entry.certificate);
            (bar(None), Cell::toned(text, Tone::Notice))
        }
        Ending::AwaitsTtl { until } => {
            let text = format!(
                "the TLSA records of its new key are published; it is installed from {} on",
                words::instant(*until)
            );
            (bar(None), Cell::toned(text, Tone::Good))
        }
        Ending::LosesNames => {
            let text = entry.decision.as_ref().map(|d| d.obtain.words()).unwrap_or_default();
            let name = &entry.certificate;
            let text = format!("{text}. `eskort keep --drop-names --only {name}` replaces it now");
            (bar(None), Cell::toned(text, Tone::Notice))
        }
        Ending::AwaitsPerson(records) => {
            let what = words::count(records.len() as u64, "record");
            let text = format!("{} to place {what}, see above", waits_for_you(entry, now));
            (bar(None), Cell::toned(text, Tone::Notice))
        }
        Ending::AwaitsAnswer(manual_step) => {
            let text =
                format!("{} to bring the answer of `{}`, see above", waits_for_you(entry, now), manual_step.authority);
            (bar(None), Cell::toned(text, Tone::Notice))
        }
        Ending::AwaitsApproval { until } => {
            let text =
                format!("the authority is still processing the request; next check at {}", words::instant(*until));
            (bar(None), Cell::toned(text, Tone::Notice))
        }
        Ending::Failed { .. } => (bar(None), Cell::toned("failed, see above", Tone::Bad)),
        Ending::Planned(_) => (bar(None), Cell::plain("")),
    };
    let result = match &entry.placed {
        Some(Placed { generation, error }) => {
            let done = if error.is_none() { "put in place" } else { "could not be put in place, see above" };
            result.led_by(&format!("generation {generation} {done}; "))
        }
        None => result,
    };
    vec![Cell::toned(&entry.certificate, Tone::Strong), left, result]
}

/// Says how a generation has arrived.
fn arrived(context: &Context, entry: &KeepEntry, now: Timestamp) -> Cell {
    match &entry.ending {
        Ending::Arrived { generation, to_carry, .. } if !to_carry.is_empty() => {
            let servers: Vec<&str> = to_carry.iter().map(|(server, _)| server.as_str()).collect();
            let text = format!("generation {generation} waits for you at {}, see above", words::list(&servers));
            Cell::toned(text, Tone::Notice)
        }
        Ending::Arrived { generation, unconfirmed: Some(_), left_out, .. } => {
            let text = match left_out.is_empty() {
                true => format!("generation {generation} installed, but not confirmed from here, see above"),
                false => format!("generation {generation}: {} left out, see above", words::list(left_out)),
            };
            Cell::toned(text, Tone::Notice)
        }
        Ending::Arrived { generation, validity, looked_at, unconfirmed: None, .. } => {
            let done = match context.inventory.certificates.get(&entry.certificate) {
                _ if *looked_at > 0 => "installed and checked live",
                Some(wanted) if wanted.install.is_empty() => "stored",
                _ => "stored and put in place",
            };
            let left = validity.map(|v| format!(", valid for {}", words::duration(v.not_after.duration_since(now))));
            let text = format!("generation {generation} {done}{}", left.unwrap_or_default());
            Cell::toned(text, Tone::Good)
        }
        _ => Cell::plain(""),
    }
}

fn waits_for_you(entry: &KeepEntry, now: Timestamp) -> String {
    match entry.waits_since.map(|since| eskort_app::age(since, now)) {
        Some(age) if !age.is_empty() => format!("has waited {age} for you"),
        _ => "waits for you".into(),
    }
}

fn print_plan(ui: &Ui, options: &KeepOptions, entries: &[KeepEntry], budgets: &[PlannedBudget]) {
    let mut nothing = true;
    let (at_rest, others): (Vec<&KeepEntry>, Vec<&KeepEntry>) = entries.iter().partition(|e| is_at_rest(e));
    for entry in others {
        let Some(decision) = &entry.decision else { continue };
        nothing &= !decision.acts();
        ui.result_wrapped(&format!("{}: ", Tone::Strong.paint(&entry.certificate)), &decision.words());
        if let Ending::Planned(servers) = &entry.ending {
            print_servers(ui, servers);
        }
    }
    print_at_rest(ui, &at_rest, entries.len());
    print_budgets(ui, budgets);
    if !nothing {
        let command = match &options.only[..] {
            names if options.renew => format!("eskort renew {}", names.join(" ")),
            _ => "eskort keep".to_owned(),
        };
        ui.result(&format!("Only a plan: nothing was done. `{command}` does it."));
    }
}

/// Shows what would be done on servers.
pub(super) fn print_servers(ui: &Ui, servers: &[PlannedServer]) {
    for PlannedServer { server, changes, test, prepare, run, runtime, signal, upload, findings } in servers {
        for (path, how) in changes {
            ui.result(&change(&format!("{} on server `{server}`", path.display()), how));
        }
        for command in test.iter().chain(prepare).chain(run) {
            ui.result(&format!("  runs {} on server `{server}`", command.join(" ")));
        }
        if let Some(socket) = runtime {
            ui.result(&format!("  puts it into server `{server}` over {}, without a reload", socket.display()));
        }
        if let Some(pid_file) = signal {
            let number = pid_file.display();
            ui.result(&format!("  sends SIGHUP to the process whose number is in {number}, on server `{server}`"));
        }
        if let Some(address) = upload {
            ui.result(&format!("  uploads it to {address} for server `{server}`"));
        }
        for finding in findings {
            let advice = finding.advice.as_ref().map(|a| format!(" ({a})")).unwrap_or_default();
            ui.result(&Tone::Notice.paint(&format!("  note: {}{advice}", finding.text)));
        }
    }
}

/// Shows what a run would spend of its authorities' budgets.
fn print_budgets(ui: &Ui, budgets: &[PlannedBudget]) {
    let row = |PlannedBudget { authority, budget }: &PlannedBudget| -> Vec<Cell> {
        let Budget { room, planned } = budget;
        let (bar, tone) = budget_bar(room.spent, *planned, room.most);
        let left = room.left().saturating_sub(*planned);
        let number = |n: u32| Cell::plain(format!("{n:>5}"));
        let numbers = [number(room.spent), Cell::plain(format!("{planned:>8}")), number(left)];
        let ends = [Cell::toned(authority, Tone::Strong), Cell::toned(bar, tone)];
        ends.into_iter().chain(numbers).chain([Cell::plain(room.whole_words())]).collect()
    };
    let rows: Vec<Vec<Cell>> = budgets.iter().map(row).collect();
    if !rows.is_empty() {
        ui.result("");
        ui.result(&draw(&["AUTHORITY", "BUDGET", "SPENT", "THIS RUN", " LEFT", "OF"], &rows, ui.page()));
        ui.result("");
    }
}
