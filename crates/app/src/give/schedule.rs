//! The timer that runs `keep`: set up, looked at, taken away.

use crate::StepError;
use eskort_core::boxed;
use eskort_core::context::Context;
use eskort_core::finding::{Finding, Severity, Topic};
use eskort_core::inventory::ProgramRules;
use eskort_core::schedule::{Job, NAME, named_in, next_in, ours_of, walls, without_ours};
use eskort_core::words;
use eskort_host::files::{self, Access};
use eskort_host::{MachineError, Machines, check_trust, process_names};
use eskort_store::{RunRow, Store};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::Serialize;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// What runs the timer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(tag = "kind", rename_all = "kebab-case")]
pub enum Keeper {
    /// systemd: the system's, or with `user` the manager of one.
    Systemd {
        /// The folder of its units.
        units: PathBuf,
        /// Whether it is a user's.
        user: bool,
    },
    /// cron, with a file of ours in its folder.
    CronFile {
        /// The file.
        path: PathBuf,
    },
    /// cron, with a part of the user's own table.
    CronTable,
}

/// How the timer is to be.
#[derive(Clone, Debug)]
pub struct ScheduleOptions {
    /// What runs it.
    pub keeper: Keeper,
    /// The program that it runs.
    pub program: PathBuf,
    /// After how many hours each.
    pub hours: u32,
    /// What tells this machine from others.
    pub seed: String,
}

/// A file, or a table, of the timer.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ScheduleText {
    /// Its path; the word `crontab` for a user's table.
    pub path: PathBuf,
    /// What it is to hold.
    pub text: String,
}

/// How the timer stands.
#[derive(Debug, Serialize)]
pub struct ScheduleView {
    /// What runs it; `None` when none is set up.
    pub keeper: Option<Keeper>,
    /// When it runs next, as systemd tells it, or by the table for cron.
    pub next: Option<String>,
    /// The last runs, newest first.
    pub runs: Vec<RunRow>,
    /// What is worth a look.
    pub findings: Vec<Finding>,
}

/// What a cron is called, as a process.
const CRONS: [&str; 4] = ["busybox", "cron", "crond", "fcron"];
/// The longest that nothing may have gone well before that is said.
const LONGEST: SignedDuration = SignedDuration::from_hours(50);

impl ScheduleOptions {
    fn job(&self, context: &Context) -> Job {
        let has_walls = matches!(self.keeper, Keeper::Systemd { user: false, .. });
        Job {
            program: self.program.clone(),
            inventory: context.inventory_path.clone(),
            hours: self.hours,
            minute: Job::minute_of(&self.seed, self.hours),
            walls: has_walls.then(|| walls(&context.inventory, &context.state)),
        }
    }

    /// Returns what the timer is made of.
    pub fn texts(&self, context: &Context) -> Vec<ScheduleText> {
        let job = self.job(context);
        match &self.keeper {
            Keeper::Systemd { units, .. } => vec![
                ScheduleText { path: units.join(format!("{NAME}.service")), text: job.service() },
                ScheduleText { path: units.join(format!("{NAME}.timer")), text: job.timer() },
            ],
            Keeper::CronFile { path } => vec![ScheduleText { path: path.clone(), text: job.cron(Some("root")) }],
            Keeper::CronTable => vec![ScheduleText { path: "crontab".into(), text: job.cron(None) }],
        }
    }
}

/// Sets the timer up, in the place of one that is there, and returns what it is made of.
///
/// # Errors
/// When the program may not be trusted, a file cannot be written, or systemd or cron refuses.
#[boxed]
pub async fn schedule(context: &Context, options: &ScheduleOptions) -> Result<Vec<ScheduleText>, StepError> {
    check_trust(&options.program).map_err(|error| refused("trust the program", error))?;
    let texts = options.texts(context);
    match &options.keeper {
        Keeper::Systemd { user, .. } => {
            for ScheduleText { path, text } in &texts {
                let folder = path.parent().unwrap_or(Path::new("/"));
                files::make_folders(folder, 0o755).map_err(|error| refused("make the folder of the units", error))?;
                write(path, text)?;
            }
            let turned_on = async {
                systemctl(context, *user, &["daemon-reload"]).await?;
                systemctl(context, *user, &["enable", "--now", &format!("{NAME}.timer")]).await
            };
            if let Err(error) = turned_on.await {
                // Units that are not on would only look like a timer.
                texts.iter().for_each(|text| drop(files::remove(&text.path)));
                return Err(error);
            }
        }
        Keeper::CronFile { path } => write(path, &texts[0].text)?,
        Keeper::CronTable => {
            let table = without_ours(&table(context).await?) + &texts[0].text;
            run(context, &["crontab", "-"], table.as_bytes()).await?;
        }
    }
    Ok(texts)
}

/// Takes the timer away, whatever it is, and returns what was removed.
///
/// # Errors
/// When a file cannot be removed, or systemd or cron refuses.
#[boxed]
pub async fn unschedule(context: &Context, keepers: &[Keeper]) -> Result<Vec<PathBuf>, StepError> {
    let mut removed = Vec::new();
    for keeper in keepers {
        match keeper {
            Keeper::Systemd { units, user } => {
                let paths = ["timer", "service"].map(|kind| units.join(format!("{NAME}.{kind}")));
                let there: Vec<PathBuf> = paths.into_iter().filter(|path| path.exists()).collect();
                if there.is_empty() {
                    continue;
                }
                // Units that systemd never saw cannot be turned off.
                let _ = systemctl(context, *user, &["disable", "--now", &format!("{NAME}.timer")]).await;
                for path in &there {
                    files::remove(path).map_err(|error| refused("remove a unit", error))?;
                }
                systemctl(context, *user, &["daemon-reload"]).await?;
                removed.extend(there);
            }
            Keeper::CronFile { path } if path.exists() => {
                files::remove(path).map_err(|error| refused("remove the file for cron", error))?;
                removed.push(path.clone());
            }
            Keeper::CronFile { .. } => {}
            Keeper::CronTable => {
                let before = table(context).await.unwrap_or_default();
                if ours_of(&before).is_some() {
                    run(context, &["crontab", "-"], without_ours(&before).as_bytes()).await?;
                    removed.push("crontab".into());
                }
            }
        }
    }
    Ok(removed)
}

/// Looks at the timer: whether it is there and on, runs what it should, and has gone well lately.
///
/// # Errors
/// When the ledger fails.
#[boxed]
pub async fn look_at_schedule(context: &Context, wanted: &[ScheduleOptions]) -> Result<ScheduleView, StepError> {
    let now = context.now();
    let (mut runs, mut clocks) = (Vec::new(), Vec::new());
    if let Some(store) = Store::open_existing(&context.state)? {
        runs = store.runs(10).await?;
        clocks = judge_clocks(context, &store).await?;
    }
    let mut view = ScheduleView { keeper: None, next: None, runs, findings: Vec::new() };
    for options in wanted {
        let found = texts_there(context, &options.keeper).await;
        if found.is_empty() {
            continue;
        }
        if let Some(before) = &view.keeper {
            let text = format!("a second timer does the same: {} beside {}", options.keeper.words(), before.words());
            view.findings.push(problem(text, "`eskort schedule remove` removes both; then set one up again"));
            continue;
        }
        view.keeper = Some(options.keeper.clone());
        view.findings.extend(judge_texts(context, options, &found));
        let Keeper::Systemd { user, .. } = options.keeper else {
            view.next = next_in(&found[0].text, now, &time_zone()).map(words::instant);
            view.findings.extend(judge_cron());
            continue;
        };
        let timer = format!("{NAME}.timer");
        for (words, what) in [(["is-enabled", &timer], "not enabled"), (["is-active", &timer], "not running")] {
            if systemctl(context, user, &words).await.is_err() {
                view.findings.push(problem(format!("the timer is {what}"), "`eskort schedule` turns it on again"));
            }
        }
        let shown = ["show", &timer, "--property=NextElapseUSecRealtime", "--value"];
        let next = systemctl(context, user, &shown).await.unwrap_or_default();
        view.next = Some(words::printable(next.trim(), 80)).filter(|next| !next.is_empty());
    }
    // Something else may begin runs as a timer does: `keep --every` in a container.
    let is_kept = view.runs.iter().any(|run| run.by_timer && now.duration_since(run.ended) < LONGEST);
    if view.keeper.is_none() && !is_kept {
        view.findings
            .push(problem("no timer is set up: nothing is renewed by itself", "`eskort schedule` sets one up"));
    }
    if let Some(what) = not_writable(&context.state) {
        view.findings.push(problem(what, "run it as the user to whom the state belongs"));
    }
    view.findings.extend(judge_runs(&view.runs, view.keeper.is_some() || is_kept, now));
    view.findings.extend(clocks);
    Ok(view)
}

impl Keeper {
    /// Returns what it is, in words.
    pub fn words(&self) -> String {
        match self {
            Keeper::Systemd { units, user: false } => format!("units of systemd in {}", units.display()),
            Keeper::Systemd { units, user: true } => format!("units of the user's systemd in {}", units.display()),
            Keeper::CronFile { path } => format!("{} for cron", path.display()),
            Keeper::CronTable => "the user's crontab".to_owned(),
        }
    }
}

fn problem(text: impl Into<String>, advice: &str) -> Finding {
    Finding::new(Severity::Bad, Topic::Timer, text).with_advice(advice)
}

/// Returns the texts of a timer that are there.
async fn texts_there(context: &Context, keeper: &Keeper) -> Vec<ScheduleText> {
    let read = |path: PathBuf| Some(ScheduleText { text: std::fs::read_to_string(&path).ok()?, path });
    match keeper {
        Keeper::Systemd { units, .. } => {
            ["service", "timer"].iter().filter_map(|kind| read(units.join(format!("{NAME}.{kind}")))).collect()
        }
        Keeper::CronFile { path } => read(path.clone()).into_iter().collect(),
        Keeper::CronTable => {
            let ours = ours_of(&table(context).await.unwrap_or_default());
            ours.map(|text| ScheduleText { path: "crontab".into(), text }).into_iter().collect()
        }
    }
}

/// Says what is wrong with the texts of a timer, next to what `eskort schedule` would write.
fn judge_texts(context: &Context, options: &ScheduleOptions, found: &[ScheduleText]) -> Vec<Finding> {
    let again = "`eskort schedule` writes it anew";
    let mut findings = Vec::new();
    let named = found.iter().find_map(|found| named_in(&found.text));
    match &named {
        None => findings.push(problem("the timer runs something else than `keep`", again)),
        Some((program, inventory)) => {
            let mode = std::fs::metadata(program).map(|found| found.permissions().mode());
            match mode {
                Err(_) => {
                    findings.push(problem(format!("the timer runs {}, which does not exist", program.display()), again))
                }
                Ok(mode) if mode & 0o111 == 0 => {
                    let text = format!("the timer runs {}, which is not executable", program.display());
                    findings.push(problem(text, "`chmod +x` makes it so; or set the timer up from another place"));
                }
                Ok(_) => {}
            }
            if !inventory.exists() {
                let text = format!("the timer is for the inventory {}, which does not exist", inventory.display());
                findings.push(problem(text, again));
            } else if *inventory != context.inventory_path {
                let text = format!("the timer is for another inventory: {}", inventory.display());
                findings.push(problem(text, "look at it with `--config`, or set this one up with `eskort schedule`"));
            }
        }
    }
    // It may run as often as it likes: what is nearest to it counts.
    let differing = |hours: u32| -> Vec<String> {
        let wanted = ScheduleOptions { hours, ..options.clone() }.texts(context);
        let others = found.iter().filter(|found| !wanted.contains(found));
        others.map(|found| found.path.display().to_string()).collect()
    };
    let nearest = eskort_core::schedule::HOURS.into_iter().map(differing).min_by_key(Vec::len).unwrap_or_default();
    if findings.is_empty() && !nearest.is_empty() {
        let (is, it) = if nearest.len() == 1 { ("is", "it") } else { ("are", "them") };
        let text = format!(
            "{} {is} not as `eskort schedule` writes {it} now: somebody changed {it}, or the inventory",
            words::list(&nearest)
        );
        findings.push(Finding::new(Severity::Notice, Topic::Timer, text).with_advice(again));
    }
    findings
}

/// Says whether there is a cron that reads its tables; `None` also where the system does not tell.
pub fn judge_cron() -> Option<Finding> {
    let running = process_names()?;
    let text = "cron is not running here: nothing is renewed by itself";
    let advice = "start it, on Debian by `service cron start`; `eskort keep --every 12` needs no cron";
    CRONS.iter().all(|name| !running.contains(*name)).then(|| problem(text, advice))
}

/// Returns the time zone of this machine; UTC where it has none.
fn time_zone() -> TimeZone {
    let zone = std::fs::read("/etc/localtime").ok().and_then(|bytes| TimeZone::tzif("local", &bytes).ok());
    zone.unwrap_or(TimeZone::UTC)
}

/// Says whose clocks were far from this machine's when they were last asked.
async fn judge_clocks(context: &Context, store: &Store) -> Result<Vec<Finding>, StepError> {
    let mut findings = Vec::new();
    for (name, authority) in &context.inventory.authorities {
        let Some(acme) = authority.acme() else { continue };
        let ahead = store.clock_ahead(name, &acme.directory).await?.unwrap_or_default();
        if let Some(off) = words::clock_off(SignedDuration::from_secs(ahead)) {
            let text = format!("this machine's clock was {off} that of authority `{name}` in the last run there");
            findings.push(problem(text, "set the clock right: certificates and authorities go by it"));
        }
    }
    Ok(findings)
}

/// Says what is wrong with the last runs.
fn judge_runs(runs: &[RunRow], has_timer: bool, now: Timestamp) -> Vec<Finding> {
    let mut findings = Vec::new();
    let (Some(last), true) = (runs.first(), has_timer) else { return findings };
    let good = runs.iter().find(|run| run.failed == 0);
    match good {
        None => {
            let text = format!("each of the last {} had failures", words::count(runs.len() as u64, "run"));
            findings.push(problem(text, "`eskort list` and `eskort show NAME` say why"));
        }
        Some(good) if now.duration_since(good.ended) > LONGEST => {
            let since = words::duration(now.duration_since(good.ended));
            findings.push(problem(format!("no run has gone well for {since}"), "`eskort keep` says why"));
        }
        Some(_) => {}
    }
    if last.ended > now + SignedDuration::from_mins(5) {
        let text = format!("the last run was at {}: the clock has gone back", words::instant(last.ended));
        findings.push(problem(text, "set the clock right: certificates and authorities go by it"));
    }
    findings
}

fn not_writable(state: &Path) -> Option<String> {
    let there = state.ancestors().find(|path| path.exists())?;
    (!files::is_writable(there)).then(|| format!("the state folder {} is not writable", state.display()))
}

fn write(path: &Path, text: &str) -> Result<(), StepError> {
    files::write_atomic(path, text.as_bytes(), Access::mode(0o644))
        .map_err(|error| refused("write a file of the timer", error))
}

fn refused(job: &'static str, error: impl std::fmt::Display) -> StepError {
    StepError::Schedule { job, what: words::printable(&error.to_string(), 500) }
}

/// Returns the user's table for cron; empty when there is none.
async fn table(context: &Context) -> Result<String, StepError> {
    match run(context, &["crontab", "-l"], b"").await {
        Err(StepError::Schedule { what, .. }) if what.contains("no crontab for") => Ok(String::new()),
        said => said,
    }
}

async fn systemctl(context: &Context, user: bool, words: &[&str]) -> Result<String, StepError> {
    let lead: &[&str] = if user { &["systemctl", "--user"] } else { &["systemctl"] };
    run(context, &[lead, words].concat(), b"").await
}

async fn run(context: &Context, words: &[&str], input: &[u8]) -> Result<String, StepError> {
    let rules = ProgramRules {
        timeout: Duration::from_secs(60),
        environment: vec!["XDG_RUNTIME_DIR".to_owned(), "DBUS_SESSION_BUS_ADDRESS".to_owned()],
        ..ProgramRules::default()
    };
    let words: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
    let said = Machines::default().at(context, None).output(&words, input, &rules).await;
    let said = said.map_err(|error: MachineError| refused("talk to systemd or cron", error))?;
    Ok(String::from_utf8_lossy(&said).into_owned())
}
