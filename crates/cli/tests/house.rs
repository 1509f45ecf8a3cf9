//! A machine of a test's own: its own network with a real name server and a real ACME server, its own `/etc`, real servers at their usual ports.

use crate::bind::{Bind, KEY};
use crate::pebble::Pebble;
use crate::world::*;
use std::os::unix::fs::PermissionsExt;
use std::path::Path;
use std::process::{Command, Stdio};

/// Folders of the machine that are the test's own; what it does in `/etc` stays there.
const ROOM: &str = "for d in /srv /run /mnt /var/log /var/lib/eskort; do mkdir -p $d && mount -t tmpfs tmpfs $d; done && \
                    mkdir -p /run/systemd/system /run/sshd /run/lock etc /var/log/nginx /var/log/apache2 && cp -a /etc/. etc && mount --bind etc /etc &&";
/// What stands in for systemd's manager, which does not run here.
const MANAGER: &str = "#!/bin/sh\ncase \"$*\" in\n*show*) echo 'Fri 2026-11-27 03:17:00 UTC' ;;\n\
                       'reload haproxy') kill -USR2 $(cat /run/haproxy.pid) ;;\n'reload postfix') postfix reload ;;\nesac\n";
/// The authority of the pages.
pub(crate) const DIRECTORY: &str = "https://ca.example/directory";

/// A machine for one test.
pub(crate) struct House {
    pub(crate) pebble: Pebble,
    _bind: Bind,
    pub(crate) servers: Vec<Process>,
    /// What pages call something, and what it is called here.
    pub(crate) names: Vec<(&'static str, String)>,
}

impl House {
    pub(crate) fn build() -> Self {
        let bind = Bind::start_at("127.0.0.1:53".parse().unwrap());
        let pebble = Pebble::at_usual_ports(bind.address);
        pebble.fetch_root(0, "visitor-root.pem");
        let place = &pebble.place;
        place.write("roots.pem", &(place.read("api-root.pem") + &place.read("visitor-root.pem")));
        std::fs::create_dir(place.path("bin")).unwrap();
        std::os::unix::fs::symlink(env!("CARGO_BIN_EXE_eskort"), place.path("bin/eskort")).unwrap();
        let manager = place.write("bin/systemctl", MANAGER);
        std::fs::set_permissions(manager, PermissionsExt::from_mode(0o755)).unwrap();
        std::fs::create_dir("/etc/eskort").unwrap();
        let names = vec![(DIRECTORY, format!("https://127.0.0.1:{}/dir", pebble.api_port))];
        House { pebble, _bind: bind, servers: Vec::new(), names }
    }

    pub(crate) fn place(&self) -> &Place {
        &self.pebble.place
    }

    pub(crate) fn here(&self, text: &str) -> String {
        self.names.iter().fold(text.to_owned(), |text, (page, here)| text.replace(page, here))
    }

    pub(crate) fn sh(&self, line: &str) -> Said {
        let path = format!("{}:/usr/sbin:/usr/bin:/sbin:/bin", self.place().path("bin").display());
        let mut command = Command::new("sh");
        command.args(["-c", line]).current_dir(self.place().dir.path()).stdin(Stdio::null());
        command.env_clear().env("PATH", path).env("HOME", self.place().dir.path());
        command.env("SSL_CERT_FILE", self.place().path("roots.pem"));
        Said::from(command.output().unwrap())
    }

    /// Does something that a page takes for granted.
    #[track_caller]
    pub(crate) fn prepare(&self, line: &str) {
        self.sh(line).check(0, &[]);
    }

    /// Starts a server of this machine, and waits for it to listen.
    pub(crate) fn serve(&mut self, line: &str, port: u16) {
        let server = self.started(line, port);
        self.servers.push(server);
    }

    pub(crate) fn started(&self, line: &str, port: u16) -> Process {
        let log = std::fs::File::create(self.place().path(&format!("server-{port}.log"))).unwrap();
        let mut command = Command::new("sh");
        command.args(["-c", &format!("exec {line}")]).current_dir(self.place().dir.path()).stdin(Stdio::null());
        command.stdout(log.try_clone().unwrap()).stderr(log);
        let mut server = Process(command.spawn().unwrap_or_else(|e| panic!("{line} (scripts/test installs it): {e}")));
        until(line, || {
            let ended = server.0.try_wait().unwrap();
            assert!(ended.is_none(), "{line}: {}", self.place().read(&format!("server-{port}.log")));
            std::net::TcpStream::connect(("127.0.0.1", port)).is_ok()
        });
        server
    }

    /// Has this machine trust more roots.
    pub(crate) fn trust(&self, roots: &[&str]) {
        let known = self.place().read("roots.pem");
        self.place().write("roots.pem", &(known + &roots.concat()));
    }

    /// Changes the zone, as a person would: these are lines of nsupdate.
    pub(crate) fn change_zone(&self, lines: &str) {
        self.place().write("zone.key", KEY);
        self.place().write("change", &format!("server 127.0.0.1\nzone lampholm.example\n{lines}send\n"));
        self.prepare("nsupdate -k zone.key change");
    }

    /// Serves sites with nginx as Debian sets it up, over http only; each is a name of the file, the names, and the folder.
    pub(crate) fn nginx(&mut self, sites: &[(&str, &str, &str)]) {
        self.prepare("rm -f /etc/nginx/sites-enabled/*");
        for (file, names, folder) in sites {
            let site = format!("server {{\n    listen 80;\n    server_name {names};\n    root {folder};\n}}\n");
            write(&format!("/etc/nginx/sites-enabled/{file}"), &site);
            write(
                &format!("{folder}/index.html"),
                "<!doctype html><title>Lampholm</title><p>The lighthouse is open.\n",
            );
        }
        self.serve("nginx -g 'daemon off;'", 80);
    }
}

pub(crate) fn write(path: &str, text: &str) {
    std::fs::create_dir_all(Path::new(path).parent().unwrap()).unwrap();
    std::fs::write(path, text).unwrap();
}

/// Runs a test as root, in a network and a room of its own; true where that was done, and nothing is left to do.
pub(crate) fn elsewhere(test: &str) -> bool {
    done_by_root(test)
        || in_a_network_of_its_own(test, ROOM, "nameserver 127.0.0.1\n", "127.0.0.1 stock.lampholm.internal\n")
}

pub(crate) const SITE: (&str, &str, &str) = ("lampholm", "lampholm.example www.lampholm.example", "/srv/www/lampholm");
