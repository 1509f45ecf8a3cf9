//! The timer that keeps certificates: units for systemd, and lines for cron. Texts only; who writes them is elsewhere.

use crate::inventory::{AuthorityKind, Inventory, NotifyKind, Proof, RecordWriter, ServerKind};
use crate::software::Software;
use jiff::tz::TimeZone;
use jiff::{Timestamp, ToSpan};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

/// How often a timer may run, in hours: so that its times are the same each day.
pub const HOURS: [u32; 8] = [1, 2, 3, 4, 6, 8, 12, 24];

/// The name of the units, and of the file for cron.
pub const NAME: &str = "eskort";

/// What is closed to every run of the system's service (systemd.exec(5)).
const WALLS: [&str; 10] = [
    "LockPersonality=yes",
    "PrivateDevices=yes",
    "ProtectClock=yes",
    "ProtectControlGroups=yes",
    "ProtectHostname=yes",
    "ProtectKernelLogs=yes",
    "ProtectKernelModules=yes",
    "ProtectKernelTunables=yes",
    "RestrictRealtime=yes",
    "RestrictSUIDSGID=yes",
];

/// What is closed where only Eskort runs, and the tests and reloads of servers: programs of the administrator's may need it.
const MORE_WALLS: [&str; 4] = [
    "ProtectSystem=strict",
    "RestrictAddressFamilies=AF_INET AF_INET6 AF_NETLINK AF_UNIX",
    "RestrictNamespaces=yes",
    "SystemCallArchitectures=native",
];

/// By these lines our own part of a user's cron table is known again.
const BEGIN: &str = "# eskort begins; `eskort schedule` writes what is between these lines";
const END: &str = "# eskort ends";

/// What a timer runs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Job {
    /// The program.
    pub program: PathBuf,
    /// The inventory.
    pub inventory: PathBuf,
    /// After so many hours each: one of [`HOURS`].
    pub hours: u32,
    /// The minute of the day at which it begins, below `hours * 60`: another one on each machine, so that not all come to an authority at once.
    pub minute: u32,
    /// Where it may write; `None` for no walls around it.
    pub walls: Option<Walls>,
}

/// Where a run has to write on this machine.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Walls {
    /// Its state, and what its proofs and servers need.
    pub folders: BTreeSet<PathBuf>,
    /// Whether the inventory has it run programs of the administrator's, of which nobody knows where they write.
    pub runs_programs: bool,
}

impl Job {
    /// Returns the minute of the day at which a machine begins, the same for the same `seed`.
    pub fn minute_of(seed: &str, hours: u32) -> u32 {
        let sum = seed.bytes().fold(2_166_136_261_u32, |sum, byte| (sum ^ u32::from(byte)).wrapping_mul(16_777_619));
        (sum ^ (sum >> 15)) % (hours.max(1) * 60)
    }

    /// Returns the words of the command.
    pub fn words(&self) -> [String; 4] {
        let text = |path: &Path| path.display().to_string();
        [text(&self.program), "--config".to_owned(), text(&self.inventory), "keep".to_owned()]
    }

    /// Returns the service unit (systemd.service(5), systemd.exec(5)).
    pub fn service(&self) -> String {
        let [program, flag, inventory, command] = self.words();
        let mut lines = vec![
            "# Written by `eskort schedule`.".to_owned(),
            "[Unit]".to_owned(),
            "Description=TLS certificates: obtain, install, renew".to_owned(),
            "Wants=network-online.target".to_owned(),
            "After=network-online.target".to_owned(),
            String::new(),
            "[Service]".to_owned(),
            "Type=oneshot".to_owned(),
            format!("ExecStart={} {flag} {} {command} --by-timer", unit_word(&program), unit_word(&inventory)),
            // Somebody is waited for; something wants attention; another run is at work.
            "SuccessExitStatus=3 4 5".to_owned(),
            "TimeoutStartSec=2h".to_owned(),
            "UMask=0077".to_owned(),
            "NoNewPrivileges=yes".to_owned(),
        ];
        // Walls want a namespace of their own, which units of users do not always get.
        if let Some(walls) = &self.walls {
            lines.extend(WALLS.map(str::to_owned));
            if !self.needs_tmp(walls) {
                lines.push("PrivateTmp=yes".to_owned());
            }
            if walls.runs_programs {
                lines.push("# The inventory has programs run, which may write elsewhere, too.".to_owned());
                lines.push("ProtectSystem=yes".to_owned());
            } else {
                lines.extend(MORE_WALLS.map(str::to_owned));
                let written = walls.folders.iter().map(|folder| unit_word(&format!("-{}", folder.display())));
                lines.extend(written.map(|folder| format!("ReadWritePaths={folder}")));
            }
        }
        lines.join("\n") + "\n"
    }

    /// Returns whether something that it needs lies where a private folder for temporary files would hide it.
    fn needs_tmp(&self, walls: &Walls) -> bool {
        let mut paths = walls.folders.iter().chain([&self.program, &self.inventory]);
        paths.any(|path| path.starts_with("/tmp") || path.starts_with("/var/tmp"))
    }

    /// Returns the timer unit (systemd.timer(5), systemd.time(7)).
    pub fn timer(&self) -> String {
        let (hour, minute) = (self.minute / 60, self.minute % 60);
        let times = if self.hours == 24 { format!("{hour:02}") } else { format!("{hour:02}/{}", self.hours) };
        format!(
            "# Written by `eskort schedule`.\n[Unit]\nDescription=TLS certificates, every {}\n\n[Timer]\nOnCalendar=*-*-* {times}:{minute:02}:00\n\
             RandomizedDelaySec=10min\nPersistent=true\n\n[Install]\nWantedBy=timers.target\n",
            self.every()
        )
    }

    /// Returns the lines for cron, with a user's name where the table has one (crontab(5)).
    pub fn cron(&self, user: Option<&str>) -> String {
        let command = self.words().map(|word| shell_word(&word)).join(" ") + " --by-timer";
        let user = user.map(|user| format!(" {user}")).unwrap_or_default();
        let hours: Vec<String> =
            (0..24 / self.hours).map(|n| (self.minute / 60 + n * self.hours).to_string()).collect();
        // After a time without power the first run comes at once.
        format!(
            "{BEGIN}\nPATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin\n{} {} * * *{user} {command}\n@reboot{user} sleep 120; {command}\n{END}\n",
            self.minute % 60,
            hours.join(",")
        )
    }

    /// Returns how often it runs, in words.
    pub fn every(&self) -> String {
        match self.hours {
            1 => "hour".to_owned(),
            24 => "day".to_owned(),
            hours => format!("{hours} hours"),
        }
    }
}

/// Returns a table of cron without our lines.
pub fn without_ours(table: &str) -> String {
    let mut ours = false;
    let kept = table.split_inclusive('\n').filter(|line| {
        let line = line.trim_end();
        ours |= line == BEGIN;
        let keep = !ours;
        ours &= line != END;
        keep
    });
    kept.collect()
}

/// Returns our lines of a table of cron; `None` when it has none.
pub fn ours_of(table: &str) -> Option<String> {
    let begin = table.find(BEGIN)?;
    let end = table[begin..].find(END)? + begin + END.len();
    Some(format!("{}\n", &table[begin..end]))
}

/// Returns when cron runs our lines next, with the machine's own time zone, which cron goes by (crontab(5)); `None` for lines that are not ours any more.
pub fn next_in(lines: &str, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
    let times = lines.lines().find_map(|line| line.split_once(" * * * "))?.0;
    let (minute, hours) = times.split_once(' ')?;
    let (minute, today) = (minute.parse::<i8>().ok()?, now.to_zoned(zone.clone()).date());
    let hours: Vec<i8> = hours.split(',').map(|hour| hour.parse().ok()).collect::<Option<_>>()?;
    let days = [today, today.checked_add(1.day()).ok()?];
    let at = |(day, hour): (jiff::civil::Date, i8)| {
        let time = jiff::civil::Time::new(hour, minute, 0, 0).ok()?;
        Some(day.to_datetime(time).to_zoned(zone.clone()).ok()?.timestamp())
    };
    let times = days.into_iter().flat_map(|day| hours.iter().map(move |hour| (day, *hour)));
    times.filter_map(at).filter(|at| *at > now).min()
}

/// Returns the program that a text of ours runs, and the inventory that it names.
pub fn named_in(text: &str) -> Option<(PathBuf, PathBuf)> {
    let line = text.lines().find(|line| line.contains(" --config "))?;
    let (before, after) = line.split_once(" --config ")?;
    let program = before.rsplit(['=', ' ']).next()?;
    let (inventory, _) = after.split_once(" keep")?;
    let bare = |word: &str| PathBuf::from(word.trim_matches(['"', '\'']));
    Some((bare(program), bare(inventory)))
}

/// Returns where a run has to write on this machine.
pub fn walls(inventory: &Inventory, state: &Path) -> Walls {
    let mut folders = BTreeSet::from([state.to_owned(), PathBuf::from("/run")]);
    let mut runs_programs = inventory.notify.values().any(|to| matches!(to.kind, NotifyKind::Program { .. }));
    let above = |path: &Path| path.parent().map(Path::to_owned);
    for proof in inventory.proofs.values() {
        match proof {
            Proof::HttpFolder { folder, hosts, .. } if hosts.is_empty() => drop(folders.insert(folder.clone())),
            Proof::Dns(dns) => runs_programs |= matches!(dns.writer, RecordWriter::Program { host: None, .. }),
            _ => {}
        }
    }
    for authority in inventory.authorities.values() {
        if let AuthorityKind::Csr(csr) = &authority.kind {
            folders.extend(csr.requests_folder.iter().chain(&csr.answers_folder).cloned());
        }
    }
    for server in inventory.servers.values().filter(|server| server.host.is_none()) {
        match &server.kind {
            ServerKind::Configured(configured) => {
                folders.extend(above(&configured.config));
                folders.extend(configured.certificates.clone());
                folders.extend(runtime_folders(configured.software).iter().map(PathBuf::from));
                runs_programs |= [&configured.test, &configured.reload].into_iter().flatten().any(|c| !only_manages(c));
            }
            ServerKind::Files { copies, run } => {
                folders.extend(copies.iter().filter_map(|copy| above(&copy.to)));
                runs_programs |= !only_manages(run);
            }
            ServerKind::Keystore(keystore) => {
                folders.extend(above(&keystore.to));
                runs_programs |= !only_manages(&keystore.run);
            }
            ServerKind::Parcel(parcel) => drop(folders.insert(parcel.folder.clone())),
            ServerKind::Program { .. } => runs_programs = true,
            ServerKind::WebApi(_) => {}
        }
    }
    Walls { folders, runs_programs }
}

/// Programs that manage services, of which it is known that they write nothing elsewhere.
const MANAGERS: [&str; 11] = [
    "systemctl",
    "service",
    "nginx",
    "apache2ctl",
    "apachectl",
    "httpd",
    "haproxy",
    "lighttpd",
    "postfix",
    "doveadm",
    "exim4",
];

/// Whether a command is empty or that of such a program.
fn only_manages(command: &[String]) -> bool {
    command.first().is_none_or(|program| MANAGERS.iter().any(|manager| Path::new(program).ends_with(manager)))
}

/// Returns where a server's own test and reload write: they open its logs, too.
fn runtime_folders(software: Software) -> &'static [&'static str] {
    match software {
        Software::Nginx => &["/var/log/nginx", "/var/lib/nginx"],
        Software::Apache => &["/var/log/apache2", "/var/log/httpd", "/var/lock/apache2"],
        Software::Haproxy => &["/var/lib/haproxy"],
        Software::Lighttpd => &["/var/log/lighttpd"],
        Software::Postfix => &["/var/spool/postfix", "/var/lib/postfix", "/var/log"],
        Software::Dovecot => &["/var/log"],
        Software::Exim => &["/var/spool/exim4", "/var/log/exim4", "/var/lib/exim4"],
    }
}

/// Returns a word as a unit has it (systemd.syntax(7)).
fn unit_word(word: &str) -> String {
    let word = word.replace('%', "%%").replace('$', "$$").replace('\\', "\\\\").replace('"', "\\\"");
    if word.contains([' ', '\t', ';', '\'']) { format!("\"{word}\"") } else { word }
}

/// Returns a word as a shell takes it, with the percent signs that cron would take for line ends marked.
fn shell_word(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "/._-+@:=,".contains(c);
    match word.chars().all(plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', "'\\''").replace('%', "\\%")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn job(hours: u32, minute: u32) -> Job {
        let (program, inventory) = ("/usr/local/bin/eskort".into(), "/etc/eskort/eskort.toml".into());
        Job { program, inventory, hours, minute, walls: None }
    }

    #[test]
    fn times_are_the_same_each_day_for_systemd_and_for_cron() {
        for (hours, minute, calendar, cron) in [
            (12, 197, "OnCalendar=*-*-* 03/12:17:00", "17 3,15 * * *"),
            (24, 5, "OnCalendar=*-*-* 00:05:00", "5 0 * * *"),
            (6, 0, "OnCalendar=*-*-* 00/6:00:00", "0 0,6,12,18 * * *"),
        ] {
            let job = job(hours, minute);
            assert!(job.timer().contains(calendar), "{}", job.timer());
            let line = format!("{cron} root /usr/local/bin/eskort --config /etc/eskort/eskort.toml keep --by-timer\n");
            assert!(job.cron(Some("root")).contains(&line), "{}", job.cron(Some("root")));
        }
        assert!(job(1, 59).cron(None).contains("59 0,1,2,3"));
        for hours in HOURS {
            let minutes: BTreeSet<u32> = (0..500).map(|n| Job::minute_of(&format!("machine {n}"), hours)).collect();
            assert!(
                minutes.iter().all(|minute| *minute < hours * 60) && minutes.len() > 50,
                "{hours}: {}",
                minutes.len()
            );
        }
        assert_eq!(Job::minute_of("lamp", 12), Job::minute_of("lamp", 12));
    }

    #[test]
    fn cron_runs_next_by_the_machines_own_time() {
        let cron = job(12, 197).cron(Some("root"));
        let [utc, east] = [0, 2].map(|hours| TimeZone::fixed(jiff::tz::offset(hours)));
        for (lines, zone, now, next) in [
            (&*cron, &utc, "2026-11-28T03:16:59Z", Some("2026-11-28T03:17:00Z")),
            (&*cron, &utc, "2026-11-28T03:17:00Z", Some("2026-11-28T15:17:00Z")),
            (&*cron, &utc, "2026-12-31T15:18:00Z", Some("2027-01-01T03:17:00Z")),
            (&*cron, &east, "2026-11-28T01:00:00Z", Some("2026-11-28T01:17:00Z")),
            (&*cron, &east, "2026-11-28T22:30:00Z", Some("2026-11-29T01:17:00Z")),
            ("17 3 * * * root other\n", &utc, "2026-11-28T03:18:00Z", Some("2026-11-29T03:17:00Z")),
            ("17 */6 * * * root eskort\n", &utc, "2026-11-28T03:18:00Z", None),
            ("77 99 * * * root eskort\n", &utc, "2026-11-28T03:18:00Z", None),
            ("@reboot root eskort\n", &utc, "2026-11-28T03:18:00Z", None),
        ] {
            let at = |text: &str| text.parse::<Timestamp>().unwrap();
            assert_eq!(next_in(lines, at(now), zone), next.map(at), "{lines} {now}");
        }
    }

    #[test]
    fn odd_paths_are_written_so_that_each_reads_them_right() {
        let odd = Job { inventory: "/srv/100% \"lamp\"/it's.toml".into(), ..job(12, 0) };
        assert!(odd.service().contains(r#"--config "/srv/100%% \"lamp\"/it's.toml" keep"#), "{}", odd.service());
        assert!(odd.cron(None).contains(r#"--config '/srv/100\% "lamp"/it'\''s.toml' keep"#), "{}", odd.cron(None));
    }

    #[test]
    fn walls_leave_open_what_a_run_needs() {
        let within = |folder: &str, runs_programs: bool| {
            Job { walls: Some(Walls { folders: [folder.into()].into(), runs_programs }), ..job(12, 0) }.service()
        };
        assert!(
            within("/var/lib/eskort", false)
                .ends_with("SystemCallArchitectures=native\nReadWritePaths=-/var/lib/eskort\n")
        );
        let open = within("/var/lib/eskort", true);
        assert!(
            open.contains("\nProtectSystem=yes\n") && !open.contains("ReadWritePaths") && !open.contains("Namespaces"),
            "{open}"
        );
        assert!(
            !within("/var/tmp/trial", false).contains("PrivateTmp")
                && within("/tmpfiles", false).contains("PrivateTmp")
        );
        assert!(!job(12, 0).service().contains("Protect"));
        for (command, only) in [
            ("systemctl reload lamp", true),
            ("/usr/sbin/nginx -s reload", true),
            ("", true),
            ("touch told", false),
            ("sh -c systemctl", false),
        ] {
            let words: Vec<String> = command.split_whitespace().map(str::to_owned).collect();
            assert_eq!(only_manages(&words), only, "{command}");
        }
    }

    #[test]
    fn our_lines_of_a_table_are_found_and_taken_out() {
        let theirs = "MAILTO=keeper@lampholm.example\n5 4 * * * /usr/bin/true\n";
        let ours = job(12, 61).cron(None);
        let both = format!("{theirs}{ours}# after\n");
        assert_eq!(ours_of(&both).as_deref(), Some(&*ours));
        assert_eq!(without_ours(&both), format!("{theirs}# after\n"));
        assert_eq!((ours_of(theirs), without_ours(theirs)), (None, theirs.to_owned()));
        let named = Some(("/usr/local/bin/eskort".into(), "/etc/eskort/eskort.toml".into()));
        assert_eq!(named_in(&ours), named);
        assert_eq!(named_in(&job(6, 1).service()), named);
        assert_eq!(named_in("nothing"), None);
    }
}
