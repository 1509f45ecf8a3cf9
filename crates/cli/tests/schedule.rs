//! The timer: units that systemd takes, a real cron that runs them, and what has broken is found. What is told of runs and certificates, to people
//! and to programs.

use crate::world::*;
use std::process::{Command, Stdio};

/// Folders of the system that are this test's own, a machine that looks as if systemd runs it, and a stand-in for its manager, which is not
/// to be had without it.
const SYSTEM: &str = "for folder in /etc/systemd/system /etc/cron.d /run /var/spool/cron; do mkdir -p $folder; mount -t tmpfs tmpfs $folder; done && \
                      mkdir -p /run/systemd/system /var/spool/cron/crontabs &&";

/// What stands in for `systemctl`: it writes down what it is asked, and says no where a file `off` says so.
const MANAGER: &str = "#!/bin/sh\necho \"$*\" >> DIR/asked\ncase \"$*\" in\n*is-*) test ! -e DIR/off ;;\n*show*) echo 'Fri 2026-11-27 03:17:00 UTC' ;;\nesac\n";

struct Scheduled {
    world: World,
}

impl Scheduled {
    fn begin() -> Self {
        let world = World::new();
        let dir = world.place.dir.path().display().to_string();
        let manager = world.place.write("bin/systemctl", &MANAGER.replace("DIR", &dir));
        std::fs::set_permissions(manager, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
        Scheduled { world }
    }

    fn run(&self, words: &[&str]) -> Said {
        self.on_day(0, words)
    }

    fn on_day(&self, day: i64, words: &[&str]) -> Said {
        let path = format!("{}:/usr/sbin:/usr/bin:/sbin:/bin", self.world.place.path("bin").display());
        let offset = (day * 86_400).to_string();
        let mut command = self.world.place.eskort();
        Said::from(command.args(words).env("PATH", path).env("ESKORT_CLOCK_OFFSET", offset).output().unwrap())
    }
}

#[test]
fn a_timer_is_set_up_looked_at_and_taken_away() {
    let test = "schedule::a_timer_is_set_up_looked_at_and_taken_away";
    if done_by_root(test) || in_a_network_of_its_own(test, SYSTEM, "nameserver 127.0.77.1\n", "") {
        return;
    }
    let scheduled = Scheduled::begin();
    let place = &scheduled.world.place;
    let [service, timer] =
        ["/etc/systemd/system/eskort.service", "/etc/systemd/system/eskort.timer"].map(std::path::Path::new);
    scheduled.run(&["schedule", "show"]).check(4, &["timer none", "nothing is renewed by itself"]);
    scheduled.run(&["schedule", "--plan"]).check(0, &["ExecStart=", "OnCalendar=*-*-* ", "nothing was done"]);
    assert!(!service.exists() && !place.path("asked").exists(), "a plan changes nothing");
    scheduled.run(&["schedule", "--every", "5"]).check(2, &["one of 1, 2, 3, 4, 6, 8, 12, 24"]);
    let manager = place.read("bin/systemctl");
    place.write("bin/systemctl", "#!/bin/sh\necho the lamp is out >&2; exit 3\n");
    scheduled.run(&["schedule"]).check(1, &["the timer was not set up", "the lamp is out", "`--cron`"]);
    assert!(!service.exists(), "nothing is left that looks like a timer");
    place.write("bin/systemctl", &manager);
    scheduled.run(&["schedule", "--every", "6"]).check(0, &["The timer is on"]);
    assert_eq!(place.read("asked"), "daemon-reload\nenable --now eskort.timer\n");
    // systemd itself finds nothing wrong with the units.
    let verified =
        Command::new("systemd-analyze").args(["verify", "--man=no"]).args([service, timer]).output().unwrap();
    let said = String::from_utf8_lossy(&verified.stderr).into_owned();
    assert!(verified.status.success() && !said.contains("eskort"), "{said}");
    scheduled.run(&["keep", "--by-timer"]).check(0, &["generation 1 installed"]);
    let good = scheduled.run(&["schedule", "show"]);
    good.check(
        0,
        &["units of systemd in /etc/systemd/system", "next run Fri 2026-11-27 03:17:00 UTC", "timer", "well"],
    );

    // What can break, each for itself.
    let unit = std::fs::read_to_string(service).unwrap();
    let program = unit.split("ExecStart=").nth(1).unwrap().split(' ').next().unwrap();
    let inventory = place.path("eskort.toml").display().to_string();
    place.write("dull", "not executable");
    let dull = place.path("dull").display().to_string();
    for (from, to, said) in [
        (program, "/opt/eskort/eskort", "runs /opt/eskort/eskort, which does not exist"),
        (program, dull.as_str(), "dull, which is not executable"),
        (inventory.as_str(), "/etc/moved.toml", "the inventory /etc/moved.toml, which does not exist"),
        (inventory.as_str(), dull.as_str(), "is for another inventory"),
        ("NoNewPrivileges=yes\n", "", "eskort.service is not as `eskort schedule` writes it now"),
        (" keep --by-timer", " list", "runs something else than `keep`"),
    ] {
        std::fs::write(service, unit.replace(from, to)).unwrap();
        scheduled.run(&["schedule", "show"]).check(4, &[said]);
    }
    std::fs::write(service, &unit).unwrap();
    place.write("off", "");
    scheduled.run(&["schedule", "show"]).check(4, &["the timer is not enabled", "the timer is not running"]);
    std::fs::remove_file(place.path("off")).unwrap();
    scheduled.on_day(4, &["schedule", "show"]).check(4, &["no run has gone well for 4 days"]);
    scheduled.on_day(-2, &["schedule", "show"]).check(4, &["the clock has gone back"]);
    // Whether this machine has a cron that runs decides about the exit code.
    let by_cron = scheduled.run(&["schedule", "--cron"]);
    assert!(by_cron.out.starts_with("/etc/cron.d/eskort\n"), "{by_cron}");
    scheduled.run(&["schedule", "show"]).check(4, &["a second timer does the same"]);

    scheduled.run(&["schedule", "remove"]).check(0, &["removed", "eskort.timer", "/etc/cron.d/eskort"]);
    for folder in ["/etc/systemd/system", "/etc/cron.d"] {
        assert_eq!(std::fs::read_dir(folder).unwrap().count(), 0, "{folder}");
    }
    assert!(place.read("asked").ends_with("disable --now eskort.timer\ndaemon-reload\n"), "{}", place.read("asked"));
    scheduled.run(&["schedule", "remove"]).check(0, &["No timer was set up"]);
}

#[test]
fn a_real_cron_runs_what_was_written_for_it() {
    let test = "schedule::a_real_cron_runs_what_was_written_for_it";
    if done_by_root(test) || in_a_network_of_its_own(test, SYSTEM, "nameserver 127.0.77.1\n", "") {
        return;
    }
    let scheduled = Scheduled::begin();
    let file = std::path::Path::new("/etc/cron.d/eskort");
    std::fs::remove_dir("/run/systemd/system").unwrap();
    // Among processes of its own there is no cron.
    let alone = |words: &[&str]| {
        let mut command = Command::new("unshare");
        command.args(["--pid", "--fork", "--mount-proc", env!("CARGO_BIN_EXE_eskort")]).args(words);
        Said::from(command.env("ESKORT_CONFIG", scheduled.world.place.path("eskort.toml")).output().unwrap())
    };
    alone(&["schedule"]).check(4, &["/etc/cron.d/eskort", "keep --by-timer", "cron is not running here"]);
    alone(&["schedule", "show"]).check(4, &["cron is not running here", "`service cron start`"]);
    alone(&["schedule", "--output", "json"]).check(4, &["\"findings\"", "cron is not running here"]);
    // A machine that has just begun waits for two minutes; this test does not.
    let text = std::fs::read_to_string(file).unwrap();
    std::fs::write(file, text.replace("sleep 120", "sleep 0")).unwrap();
    let cron = Command::new("cron").arg("-f").stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
    let _cron = Process(cron.expect("Debian's package cron is installed (scripts/test does it)"));
    until("cron has run it", || scheduled.run(&["schedule", "show"]).out.contains("UTC  timer "));
    scheduled.run(&["list"]).check(0, &["good"]);
    scheduled
        .run(&["schedule", "show"])
        .check(4, &["/etc/cron.d/eskort for cron", "is not as `eskort schedule` writes it now"]);
    std::fs::write(file, text).unwrap();
    scheduled.run(&["schedule", "show"]).check(0, &["well", "next run 20"]);

    // A user's own table keeps what else is in it.
    let crontab = |words: &[&str], input: &str| {
        let mut child =
            Command::new("crontab").args(words).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        String::from_utf8_lossy(&child.wait_with_output().unwrap().stdout).into_owned()
    };
    scheduled.run(&["schedule", "remove"]).check(0, &["removed"]);
    crontab(&["-"], "5 4 * * * /usr/bin/true\n");
    scheduled.run(&["schedule", "--user", "--cron"]).check(0, &["crontab"]);
    let table = crontab(&["-l"], "");
    assert!(table.contains("/usr/bin/true") && table.contains(" keep --by-timer"), "{table}");
    scheduled.run(&["schedule", "--user", "--cron", "--every", "24"]).check(0, &[]);
    assert_eq!(crontab(&["-l"], "").matches("keep --by-timer").count(), 2, "it takes the place of the one before");
    scheduled.run(&["schedule", "show"]).check(0, &["the user's crontab"]);
    scheduled.run(&["schedule", "remove"]).check(0, &["removed crontab"]);
    assert_eq!(crontab(&["-l"], "").trim_end(), "5 4 * * * /usr/bin/true");
}

#[test]
fn what_happened_is_told_to_people_and_programs() {
    let world = World::new();
    let place = &world.place;
    place.run(&["history"]).check(0, &["Nothing has happened yet."]);
    world.on_day(0, &["keep", "--by-timer"]).check(0, &["generation 1 installed"]);
    world.write_inventory(|text| {
        text.replace("names = [\"lampholm", "key = \"p384\"\nnames = [\"shop.lampholm.example\", \"lampholm")
    });
    world.names.set("shop.lampholm.example", std::net::Ipv4Addr::LOCALHOST);
    world.on_day(3, &["keep"]).check(0, &["generation 2 installed"]);
    let told = world.on_day(3, &["history"]);
    told.check(
        0,
        &[
            "the timer had 1 certificate looked after",
            "somebody had 1 certificate looked after",
            "confirmed (generation 2)",
        ],
    );
    let differs = "requests): with shop.lampholm.example; key p384 instead of p256";
    world.on_day(3, &["history", "website"]).check(0, &[differs]);
    assert_eq!(world.on_day(3, &["history", "--last", "2"]).out.lines().count(), 3, "a head and two lines");
    place.run(&["history", "webiste"]).check(2, &["webiste"]);

    let metrics = world.on_day(3, &["report", "--metrics", "eskort.prom", "--calendar", "-"]);
    metrics.check(0, &["BEGIN:VCALENDAR", "UID:website.end@eskort.invalid", "TRIGGER:-P7D"]);
    let text = place.read("eskort.prom");
    assert!(
        text.contains("eskort_certificate_end_seconds{certificate=\"website\"} ") && text.ends_with("# EOF\n"),
        "{text}"
    );
    assert!(text.contains("eskort_good_run_end_seconds ") && place.mode("eskort.prom") == 0o644, "{text}");
    world.on_day(3, &["report", "--without-looks"]).check(0, &["1 certificate, and all is well.", "website"]);
    place.run(&["report", "--metrics", "none/eskort.prom"]).check(1, &["cannot write none/eskort.prom"]);

    let plugin = |day: i64, more: &[&str]| world.on_day(day, &[&["list", "--as-plugin"][..], more].concat());
    plugin(3, &[]).check(0, &["CERTIFICATES OK - 1 certificate: 1 good; the next ends in 90 days (website)"]);
    plugin(70, &[]).check(1, &["CERTIFICATES WARNING - 1 certificate: 1 due"]);
    plugin(70, &["--fail-within", "30d"]).check(2, &["CERTIFICATES CRITICAL"]);
    plugin(100, &[]).check(2, &["CERTIFICATES CRITICAL - 1 certificate: 1 expired"]);
    world.on_day(3, &["list", "--fail-within", "14d"]).check(0, &["good"]);
    world.on_day(80, &["list", "--fail-within", "14d"]).check(1, &["ends within the time of --fail-within: `website`"]);
    place.run(&["list", "--fail-within", "soon"]).check(2, &["like 14d"]);
}

#[test]
fn where_nothing_else_runs_it_keep_stays_and_does_it_again() {
    let world = World::new();
    let place = &world.place;
    let talk = std::fs::File::create(place.path("talk")).unwrap();
    let mut command = place.eskort();
    command.args(["keep", "--every", "1", "--health", "health"]).env("ESKORT_CLOCK_PACE", "18000");
    let mut child = Process(command.stdout(talk.try_clone().unwrap()).stderr(talk).spawn().unwrap());
    let health = |word: &str| std::fs::read_to_string(place.path("health")).is_ok_and(|text| text.starts_with(word));
    let runs = || place.run(&["history"]).out.matches("the timer had 1 certificate looked after").count();
    until("it has run three times", || health("well") && runs() >= 3);
    let shown = place.run(&["schedule", "show"]);
    assert!(shown.out.contains("timer  none") && !shown.out.contains("nothing is renewed"), "{shown}");
    // Mistakes in the inventory end nothing.
    let inventory = place.read("eskort.toml");
    place.write("eskort.toml", &inventory.replace("kind = \"acme\"", "kind = \"amce\""));
    until("the mistake is told", || health("failed"));
    place.write("eskort.toml", &inventory);
    until("it goes on", || health("well"));
    let begun = std::time::Instant::now();
    assert!(Command::new("kill").arg(child.0.id().to_string()).status().unwrap().success());
    let ended = child.0.wait().unwrap();
    assert!(ended.code() == Some(0) && begun.elapsed().as_secs() < 5, "{ended:?}\n{}", place.read("talk"));
    place.run(&["keep", "--every", "5"]).check(2, &["one of 1, 2, 3"]);
    place.run(&["keep", "--health", "x"]).check(2, &["--every"]);
}
