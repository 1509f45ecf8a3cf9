//! Under a real systemd, which is the first process of a space of its own: the timer runs, the service works within its walls beside Debian's own
//! nginx.service, and what it tells is in the journal.

use crate::house::{House, SITE, elsewhere, write};
use crate::world::*;
use std::path::Path;
use std::process::{Child, Command, Stdio};

/// What systemd begins with: nothing but its journal and its timers.
const TARGET: &str = "[Unit]\nRequires=systemd-journald.service timers.target\nAfter=systemd-journald.service\n";
/// What a machine does when it begins would be done to this one, such as emptying `/tmp`: nothing of it is there.
const ROOM: &str = "for d in /lib/systemd/system/*.wants /usr/lib/tmpfiles.d /usr/lib/sysctl.d /var/lib/systemd; do mkdir -p $d && mount -t tmpfs tmpfs $d; done && \
                    rm -rf /etc/systemd/system/*.wants /etc/tmpfiles.d /etc/sysctl.d /etc/sysctl.conf /etc/fstab /etc/nginx/sites-enabled/* && \
                    ln -s /dev/null /etc/systemd/system/systemd-remount-fs.service";
/// It is the first process of a space of its own.
const BOOT: &str = "mountpoint -q /sys/fs/cgroup || mount -t cgroup2 cgroup2 /sys/fs/cgroup; mount -t proc proc /proc && \
                    exec /lib/systemd/systemd --system --unit=trial.target --log-target=journal";

/// A house that systemd runs.
struct Managed {
    house: House,
    systemd: Child,
}

impl Managed {
    /// Starts it with a site, and with an inventory in a folder.
    fn begin(folder: &str, servers: &str) -> Self {
        let house = House::build();
        std::fs::remove_file(house.place().path("bin/systemctl")).unwrap();
        house.prepare(ROOM);
        write("/run/systemd/system/trial.target", TARGET);
        let mut command = Command::new("unshare");
        command.args(["--pid", "--fork", "--kill-child", "--mount", "--uts", "--ipc", "--cgroup", "sh", "-c", BOOT]);
        command.env("container", "trial").current_dir("/").stdin(Stdio::null());
        let log = std::fs::File::create(house.place().path("systemd.log")).unwrap();
        let child = command.stdout(log.try_clone().unwrap()).stderr(log).spawn();
        let systemd = child.expect("unshare is part of Debian's util-linux");
        let managed = Managed { house, systemd };
        until("systemd is up", || managed.sh("systemctl is-system-running").out.trim() == "running");
        site(&managed);
        write_inventory(&managed.house, folder, servers);
        managed
    }

    /// Runs a line among systemd's own processes: it answers no others.
    fn sh(&self, line: &str) -> Said {
        let unshare = self.systemd.id();
        let first = std::fs::read_to_string(format!("/proc/{unshare}/task/{unshare}/children")).unwrap_or_default();
        self.house.sh(&format!("nsenter --target {} --pid --mount sh -c '{line}'", first.trim()))
    }
}

impl Drop for Managed {
    fn drop(&mut self) {
        // All in its space end with it.
        let _ = self.systemd.kill();
        let _ = self.systemd.wait();
    }
}

/// What is so of the site before.
fn site(managed: &Managed) {
    let (file, names, folder) = SITE;
    write(
        &format!("/etc/nginx/sites-enabled/{file}"),
        &format!("server {{\n    listen 80;\n    server_name {names};\n    root {folder};\n}}\n"),
    );
    write(&format!("{folder}/index.html"), "<!doctype html><title>Lampholm</title>\n");
    managed.sh("systemctl start nginx.service").check(0, &[]);
}

/// Writes the inventory into a folder, with some more of it.
fn write_inventory(house: &House, folder: &str, more: &str) {
    for name in ["roots.pem", "visitor-root.pem"] {
        write(&format!("{folder}/{name}"), &house.place().read(name));
    }
    let text = format!(
        "contact = \"keeper@lampholm.example\"\n\n[authority.public]\nkind = \"acme\"\ndirectory = \"https://127.0.0.1:{}/dir\"\n\
         accept-terms = true\napi-roots = \"roots.pem\"\nvisitor-roots = \"visitor-root.pem\"\n\n\
         [proof.pages]\nkind = \"http-folder\"\nfolder = \"{}\"\n\n{more}",
        house.pebble.api_port, SITE.2
    );
    write(&format!("{folder}/eskort.toml"), &text);
}

const WEBSITE: &str = "[server.web]\nkind = \"nginx\"\nreload = [\"systemctl\", \"reload\", \"nginx\"]\n\n\
                       [certificate.website]\nnames = [\"lampholm.example\", \"www.lampholm.example\"]\ninstall = [{ server = \"web\" }]\n";
const APP: &str = "\n[server.app]\nkind = \"files\"\ncopy = [{ part = \"bundle\", to = \"/srv/app/tls.pem\" }]\n\n\
                   [certificate.app]\nnames = [\"www.lampholm.example\"]\ninstall = [{ server = \"app\" }]\n";

#[test]
fn a_certificate_is_renewed_within_the_walls_of_the_service() {
    if elsewhere("systemd::a_certificate_is_renewed_within_the_walls_of_the_service") {
        return;
    }
    let managed = Managed::begin("/etc/eskort", WEBSITE);
    managed.sh("eskort schedule").check(0, &["The timer is on"]);
    managed.sh("systemctl start eskort.service").check(0, &[]);
    let good = managed.sh("eskort schedule show");
    good.check(0, &["next run", "timer", "well"]);
    assert!(!good.out.contains("next run  -"), "{good}");
    let place = managed.house.place();
    handshake(place, 443, "lampholm.example", &place.path("visitor-root.pem")).check(0, &["Verify return code: 0"]);

    // Each fact is an entry with fields of its own, of the service.
    let told = managed.sh("journalctl --output=json _SYSTEMD_UNIT=eskort.service");
    let facts: Vec<serde_json::Value> = told.out.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let issued = facts.iter().find(|fact| fact["MESSAGE"].as_str().unwrap().contains("issued: by")).unwrap();
    for (field, value) in [
        ("ESKORT_FACT", "passed"),
        ("ESKORT_CERTIFICATE", "website"),
        ("PRIORITY", "5"),
        ("SYSLOG_IDENTIFIER", "eskort"),
        ("_TRANSPORT", "journal"),
    ] {
        assert_eq!(issued[field], value, "{issued}");
    }
    assert!(facts.iter().all(|fact| fact["_TRANSPORT"] == "journal"), "nothing is told twice: {told}");

    // The walls are those of the inventory when they were built.
    std::fs::create_dir("/srv/app").unwrap();
    write_inventory(&managed.house, "/etc/eskort", &format!("{WEBSITE}{APP}"));
    managed.sh("eskort schedule show").check(4, &["eskort.service is not as `eskort schedule` writes it now"]);
    managed.sh("systemctl start eskort.service");
    managed.sh("eskort show app").check(0, &["Read-only file system"]);
    managed
        .sh("journalctl --output=cat _SYSTEMD_UNIT=eskort.service")
        .check(0, &["From a timer: run `eskort schedule` again"]);
    assert!(!Path::new("/srv/app/tls.pem").exists());
    managed.sh("eskort schedule && systemctl start eskort.service").check(0, &[]);
    assert!(Path::new("/srv/app/tls.pem").exists());

    // Nobody knows where programs of the administrator's write.
    let told =
        APP.replace("[certificate.app]", "run = [\"touch\", \"/mnt/told\"]\n\n[certificate.app]\nkey = \"p384\"");
    write_inventory(&managed.house, "/etc/eskort", &format!("{WEBSITE}{told}"));
    managed.sh("eskort schedule").check(0, &["may write elsewhere, too", "ProtectSystem=yes"]);
    managed.sh("systemctl start eskort.service").check(0, &[]);
    assert!(Path::new("/mnt/told").exists());

    // A time without power is caught up with, as soon as the timer is there again.
    let runs = || managed.sh("eskort history").out.matches("the timer had").count();
    let before = runs();
    write("/etc/systemd/system/eskort.timer.d/at-once.conf", "[Timer]\nRandomizedDelaySec=0\n");
    managed.sh("systemctl daemon-reload && systemctl stop eskort.timer && touch -d -2days /var/lib/systemd/timers/stamp-eskort.timer").check(0, &[]);
    managed.sh("systemctl start eskort.timer").check(0, &[]);
    until("the run is caught up with", || runs() == before + 1);

    managed.sh("eskort schedule remove").check(0, &["removed"]);
    managed.sh("systemctl list-timers --all").check(0, &["0 timers listed"]);
    managed.sh("systemctl cat eskort.service").check(1, &["No files found for eskort.service"]);
}

#[test]
fn a_user_has_a_timer_of_their_own() {
    if elsewhere("systemd::a_user_has_a_timer_of_their_own") {
        return;
    }
    let managed = Managed::begin("/srv/keeper/tls", APP);
    managed
        .sh("useradd --no-create-home --home-dir /srv/keeper keeper && mkdir -p /run/user/keeper /srv/app")
        .check(0, &[]);
    managed
        .sh("chown -R keeper: /srv/keeper /srv/app /srv/www /run/user/keeper && chmod 700 /run/user/keeper")
        .check(0, &[]);
    let manager = "systemd-run --quiet --uid=keeper --property=Delegate=yes --setenv=XDG_RUNTIME_DIR=/run/user/keeper \
                   --setenv=HOME=/srv/keeper /lib/systemd/systemd --user";
    managed.sh(manager).check(0, &[]);
    let keeper = |line: &str| {
        managed.sh(&format!(
            "setpriv --reuid=keeper --regid=keeper --clear-groups env HOME=/srv/keeper XDG_RUNTIME_DIR=/run/user/keeper \
             ESKORT_CONFIG=/srv/keeper/tls/eskort.toml {line}"
        ))
    };
    until("the user's systemd is up", || keeper("systemctl --user is-system-running").out.trim() == "running");
    keeper("eskort schedule").check(0, &["/srv/keeper/.config/systemd/user/eskort.service", "The timer is on"]);
    keeper("systemctl --user start eskort.service").check(0, &[]);
    keeper("eskort schedule show").check(0, &["next run", "timer", "well"]);
    assert!(Path::new("/srv/app/tls.pem").exists());
    managed.sh("journalctl --output=cat ESKORT_CERTIFICATE=app").check(0, &["app: issued: by"]);
    keeper("eskort schedule remove").check(0, &["removed"]);
    keeper("systemctl --user list-timers --all").check(0, &["0 timers listed"]);
}
