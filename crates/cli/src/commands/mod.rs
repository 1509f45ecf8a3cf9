//! One file for each command.

mod account;
mod add;
mod adopt;
mod check;
mod csr;
mod demo;
mod help;
mod history;
mod install;
mod keep;
mod links;
mod list;
mod man;
mod note;
mod notify;
mod pack;
mod place;
mod receive;
mod rehearse;
mod report;
mod revoke;
mod schedule;
mod show;
mod survey;

use crate::args::{Args, Command};
use crate::error_text::ErrorText;
use crate::errors;
use crate::exit::ExitStatus;
use crate::texts::guide;
use crate::texts::progress;
use crate::ui::{Output, Ui};
use eskort_app::Stop;
use eskort_core::context::{Clock, Context};
use jiff::{SignedDuration, Timestamp};
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;
use tokio::runtime::Runtime;

/// Runs what the command line asks for.
pub(crate) fn run(args: Args) -> ExitStatus {
    let one_stream = matches!(args.command, Some(Command::Demo(_)));
    let ui = Ui::new(args.output, args.verbose, one_stream);
    let status = run_command(&ui, args);
    ui.end(status)
}

/// Says what is wrong with the command line, as JSON too where that is wanted; or prints the help that was asked for.
pub(crate) fn refuse(error: &clap::Error) -> ExitStatus {
    let _ = error.print();
    if !error.use_stderr() {
        return ExitStatus::Well;
    }
    let words: Vec<String> = std::env::args().collect();
    let wants_json = words.iter().any(|word| word == "--output=json")
        || words.windows(2).any(|pair| pair[0] == "--output" && pair[1] == "json");
    if wants_json {
        let ui = Ui::new(Output::Json, false, false);
        let text = error.to_string();
        let cause = text.lines().next().unwrap_or_default().trim_start_matches("error: ");
        ui.keep_error(
            "the command line is not understood",
            &ErrorText::coded("usage", cause).hint("`eskort --help` says what there is"),
        );
        ui.end(ExitStatus::Usage);
    }
    ExitStatus::Usage
}

fn run_command(ui: &Ui, args: Args) -> ExitStatus {
    let Some(command) = args.command else {
        ui.result(guide::FIRST_STEPS);
        return ExitStatus::Well;
    };
    if let Command::Demo(demo) = command {
        return demo::run(ui, &demo);
    }
    if let Command::Help(help) = command {
        return help::run(ui, &help);
    }
    if let Command::Man(man) = command {
        return man::run(ui, &man);
    }
    if let Command::Completions(completions) = command {
        return man::complete(ui, completions.shell);
    }
    if let Command::Csr(csr) = command {
        return csr::run(ui, args.config, &csr);
    }
    if let Command::Show(show) = command {
        return show::run(ui, args.config, &show);
    }
    if let Command::Keep(keep) = &command
        && let Some(hours) = keep.every
    {
        return keep::run_every(ui, args.config, keep, hours);
    }
    if let Command::Schedule(schedule) = command {
        return schedule::run(ui, args.config, &schedule);
    }
    if let Command::Add(add) = command {
        return add::run(ui, args.config, *add);
    }
    if let Command::Survey(survey) = &command
        && survey.host.is_none()
    {
        return survey::run(ui, &without_inventory(ui), survey);
    }
    // Who names what is looked at needs no inventory, and neither does who goes back.
    let may_do_without = match &command {
        Command::Check(check) => !check.targets.is_empty() || check.from.is_some(),
        other => matches!(other, Command::Links(_)),
    };
    let loaded = if may_do_without { load_or_do_without(ui, args.config) } else { load(ui, args.config) };
    let context = match loaded {
        Ok(context) => context,
        Err(status) => return status,
    };
    match command {
        Command::Links(links) => links::run(ui, &context, &links),
        Command::Keep(keep) => keep::run(ui, &context, keep),
        Command::Renew(renew) => keep::renew(ui, &context, renew),
        Command::Rehearse(rehearse) => rehearse::run(ui, &context, &rehearse),
        Command::List(list) => list::run(ui, &context, list),
        Command::Check(check) => check::run(ui, &context, &check),
        Command::Survey(survey) => survey::run(ui, &context, &survey),
        Command::Adopt(adopt) => adopt::run(ui, &context, &adopt),
        Command::Pack(pack) => pack::run(ui, &context, &pack),
        Command::Receive(receive) => receive::run(ui, &context, &receive),
        Command::Note(note) => note::run(ui, &context, note),
        Command::Place(place) => place::run(ui, &context, &place),
        Command::Install(install) => install::run(ui, &context, &install),
        Command::History(history) => history::run(ui, &context, &history),
        Command::Revoke(args) => revoke::run(ui, &context, &args),
        Command::Account(account) => account::run(ui, &context, &account),
        Command::Notify(notify) => notify::run(ui, &context, &notify),
        Command::Report(report) => report::run(ui, &context, &report),
        Command::Add(_)
        | Command::Demo(_)
        | Command::Csr(_)
        | Command::Show(_)
        | Command::Schedule(_)
        | Command::Help(_)
        | Command::Man(_)
        | Command::Completions(_) => {
            unreachable!("these were run without an inventory")
        }
    }
}

pub(crate) fn load(ui: &Ui, config: Option<PathBuf>) -> Result<Context, ExitStatus> {
    let home = std::env::home_dir();
    let root = nix::unistd::geteuid().is_root();
    let path = usual_inventory(config);
    let usual_state = eskort_app::usual_state(home.as_deref(), root);
    let watch = ui.clone();
    let context =
        eskort_app::load(&path, &usual_state, clock(), Arc::new(move |about, p| progress::show(&watch, about, p)));
    context.map_err(|error| errors::print_setup(ui, &error))
}

/// Returns the path of the inventory: one that was named, or the usual one.
fn usual_inventory(config: Option<PathBuf>) -> PathBuf {
    let root = nix::unistd::geteuid().is_root();
    config.unwrap_or_else(|| eskort_app::usual_inventory(std::env::home_dir().as_deref(), root))
}

/// Returns what there is to work with where no inventory is needed, and none is there.
fn without_inventory(ui: &Ui) -> Context {
    let root = nix::unistd::geteuid().is_root();
    let state = eskort_app::usual_state(std::env::home_dir().as_deref(), root);
    let watch = ui.clone();
    Context::without_inventory(&state, clock(), Arc::new(move |about, p| progress::show(&watch, about, p)))
}

fn load_or_do_without(ui: &Ui, config: Option<PathBuf>) -> Result<Context, ExitStatus> {
    Ok(load_if_there(ui, config)?.unwrap_or_else(|| without_inventory(ui)))
}

/// Reads the inventory if there is one: for commands that need none.
pub(crate) fn load_if_there(ui: &Ui, config: Option<PathBuf>) -> Result<Option<Context>, ExitStatus> {
    if config.is_none() && !usual_inventory(None).exists() {
        return Ok(None);
    }
    load(ui, config).map(Some)
}

/// The system's clock. For tests it may be moved by the seconds in `ESKORT_CLOCK_OFFSET`, and waits be shortened to the part of them
/// that `ESKORT_CLOCK_PACE` says: it goes forward by what is left out.
fn clock() -> Clock {
    let told = |name| std::env::var(name).ok().filter(|_| cfg!(debug_assertions))?.parse::<i64>().ok();
    let offset = told("ESKORT_CLOCK_OFFSET").unwrap_or(0);
    let pace = told("ESKORT_CLOCK_PACE").and_then(|pace| u32::try_from(pace).ok()).unwrap_or(1).max(1);
    let ahead = Arc::new(Mutex::new(SignedDuration::from_secs(offset)));
    let moved = Arc::clone(&ahead);
    let wait = move |time: Duration| {
        let (short, moved) = (time / pace, Arc::clone(&moved));
        async move {
            tokio::time::sleep(short).await;
            let left_out = SignedDuration::try_from(time - short).unwrap_or_default();
            *moved.lock().unwrap_or_else(PoisonError::into_inner) += left_out;
        }
    };
    Clock::new(move || Timestamp::now() + *ahead.lock().unwrap_or_else(PoisonError::into_inner), wait)
}

/// Runs a use case that waits for the world.
pub(crate) fn block_on<T>(future: impl Future<Output = T>) -> T {
    let mut value = None;
    drive(&on_two_threads(), Box::pin(async { value = Some(future.await) }));
    value.expect("the future has ended")
}

/// The runtime's machinery is compiled for this one kind of future, not for each use case.
fn drive(runtime: &Runtime, future: Pin<Box<dyn Future<Output = ()> + '_>>) {
    runtime.block_on(future);
}

fn on_two_threads() -> Runtime {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    runtime.expect("the system gives threads")
}

/// Runs a use case that comes to a good end when somebody asks the program to stop. Asked again, it ends at once.
pub(crate) fn block_on_stoppable<T>(ui: &Ui, future: impl Future<Output = T>) -> Result<T, ExitStatus> {
    until_stopped(ui, on_two_threads(), future)
}

/// As [`block_on_stoppable`], on one thread: for many that wait for others most of the time. On two they would wait for each other at the ledger.
pub(crate) fn block_on_one_thread<T>(ui: &Ui, future: impl Future<Output = T>) -> Result<T, ExitStatus> {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    until_stopped(ui, runtime.expect("the system gives a clock and sockets"), future)
}

fn until_stopped<T>(ui: &Ui, runtime: Runtime, future: impl Future<Output = T>) -> Result<T, ExitStatus> {
    let mut value = None;
    let unless_stopped = async {
        let stop = Stop::listen();
        tokio::select! {
            ended = future => value = Some(ended),
            () = stop.asked(2) => {}
        }
    };
    drive(&runtime, Box::pin(unless_stopped));
    if value.is_none() {
        let text = ErrorText::coded("interrupted", "").hint(
            "what is published and what is half-done is written down: the next `eskort keep` takes it away or goes on, and \
             `eskort show NAME` lists it",
        );
        errors::print(ui, "stopped at once by a second signal", &text);
        runtime.shutdown_background();
    }
    value.ok_or(ExitStatus::Failed)
}

/// Returns the name when it is one of the inventory's certificates; says so otherwise.
pub(crate) fn known_certificate(ui: &Ui, context: &Context, name: &str) -> Result<(), ExitStatus> {
    if context.inventory.certificates.contains_key(name) {
        return Ok(());
    }
    let known: Vec<&String> = context.inventory.certificates.keys().collect();
    let hint = match known[..] {
        [] => "the inventory has no certificate yet; add a section [certificate.NAME]".to_owned(),
        _ => format!("the inventory has {}", eskort_core::words::list(&known)),
    };
    let text = ErrorText::coded("no-such-certificate", "").hint(hint);
    errors::print(ui, &format!("{} has no certificate `{name}`", context.inventory_path.display()), &text);
    Err(ExitStatus::Usage)
}
