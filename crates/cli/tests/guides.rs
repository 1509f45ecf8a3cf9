//! Every page of docs/guides is lived through: its files are written, its commands typed, and what it says comes back. Each has a machine of
//! its own.

use crate::bind::KEY;
use crate::databases::sqlite;
use crate::hosts::Sshd;
use crate::house::{DIRECTORY, House, SITE, write};
use crate::office::Office;
use crate::world::*;
use eskort_practice::{Clock, EST_PASSWORD, EstServer, FtpServer, UploadKind, Uploads};
use std::net::Ipv4Addr;
use std::path::Path;
use std::process::{Command, Stdio};

impl House {
    /// Lives through a page; `others` do what other people do where it says `after=`.
    fn live_through(&self, page: &str, others: &mut dyn FnMut(&House, &str)) {
        let path = Path::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guides")).join(format!("{page}.md"));
        let text = std::fs::read_to_string(&path).unwrap_or_else(|e| panic!("{}: {e}", path.display()));
        let mut last = None;
        let (mut commands, mut answers) = (0, 0);
        for (info, block) in blocks(&text) {
            let block = self.here(&block);
            let word = |name: &str| info.split_whitespace().find_map(|word| word.strip_prefix(name));
            if let Some(what) = word("after=") {
                others(self, what);
            }
            if let Some(path) = word("file=") {
                write(path, &block);
            } else if let Some(path) = word("add=") {
                write(path, &(std::fs::read_to_string(path).unwrap_or_default() + "\n" + &block));
            } else if info.starts_with("sh") {
                let lines = block.replace("\\\n", "");
                let lines: Vec<&str> =
                    lines.lines().filter(|line| !line.is_empty() && !line.starts_with('#')).collect();
                for (n, line) in lines.iter().enumerate() {
                    let is_last = n + 1 == lines.len();
                    let wanted = word("exit=").filter(|_| is_last).map_or(0, |code| code.parse().unwrap());
                    let said = self.sh(line);
                    assert_eq!(said.code, Some(wanted), "{page}: {line}\n{said}");
                    assert!(!said.err.contains("panicked"), "{page}: {line}\n{said}");
                    commands += 1;
                    last = Some((line.to_string(), said));
                }
            } else if info == "text" {
                let (line, said) = last.as_ref().expect("a command stands before what comes back");
                let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ");
                let all = flat(&format!("{}\n{}", said.out, said.err));
                for part in block.lines().flat_map(|line| line.split('\u{2026}')).map(flat) {
                    assert!(all.contains(&part), "{page}: {line}\nlacks {part:?}\n{said}");
                }
                answers += 1;
            } else {
                panic!("{page}: nobody knows what to do with a block of `{info}`");
            }
        }
        assert!(commands > 3 && answers > 1, "{page} has {commands} commands and {answers} answers");
    }
}

/// Returns the blocks of a page: what stands behind the fence, and the text.
fn blocks(page: &str) -> Vec<(String, String)> {
    let mut found: Vec<(String, String)> = Vec::new();
    let mut open = false;
    for line in page.lines() {
        match line.strip_prefix("```") {
            Some(info) if !open => {
                found.push((info.to_owned(), String::new()));
                open = true;
            }
            Some(_) => open = false,
            None if open => {
                let text = &mut found.last_mut().unwrap().1;
                text.push_str(line);
                text.push('\n');
            }
            None => {}
        }
    }
    found
}

fn elsewhere(test: &str) -> bool {
    crate::house::elsewhere(&format!("guides::{test}"))
}

#[test]
fn one_web_server() {
    if elsewhere("one_web_server") {
        return;
    }
    let mut house = House::build();
    house.nginx(&[SITE]);
    house.live_through("one-web-server", &mut |_, _| {});
}

#[test]
fn several_sites() {
    if elsewhere("several_sites") {
        return;
    }
    let mut house = House::build();
    house.prepare("a2dissite -q 000-default");
    for (name, more) in [("shop", ""), ("archive", "ServerAlias old-archive.lampholm.test"), ("tickets", "")] {
        let site = format!(
            "<VirtualHost *:80>\n    ServerName {name}.lampholm.example\n    {more}\n    DocumentRoot /srv/www/{name}\n    \
             <Directory /srv/www>\n        Require all granted\n    </Directory>\n</VirtualHost>\n"
        );
        write(&format!("/etc/apache2/sites-available/{name}.conf"), &site);
        write(&format!("/srv/www/{name}/index.html"), "<p>The lighthouse is open.\n");
        house.prepare(&format!("a2ensite -q {name}"));
    }
    house.serve("apache2ctl -DFOREGROUND", 80);
    house.live_through("several-sites", &mut |_, _| {});
}

#[test]
fn moving_to_https() {
    if elsewhere("moving_to_https") {
        return;
    }
    let mut house = House::build();
    house.nginx(&[SITE]);
    let page = "<!doctype html><title>Lampholm</title><script src=\"http://lampholm.example/lamp.js\"></script>\n\
                <img src=\"http://www.lampholm.example/lamp.png\"><a href=\"http://shop.other.example/\">a friend</a>\n";
    write("/srv/www/lampholm/index.html", page);
    write("/srv/www/lampholm/lamp.js", "// lit\n");
    write("/srv/www/lampholm/settings.php", "<?php\nreturn ['driver' => 'sqlite', 'database' => '/srv/site.db'];\n");
    let texts = "select group_concat(text) from pages";
    let made = "create table pages (id integer primary key, text text);;insert into pages (text) values ('see http://lampholm.example/tower')";
    sqlite(Path::new("/srv/site.db"), made);
    house.live_through("moving-to-https", &mut |_, _| {});
    assert_eq!(sqlite(Path::new("/srv/site.db"), texts).trim(), "see https://lampholm.example/tower");
}

#[test]
fn mail() {
    if elsewhere("mail") {
        return;
    }
    let mut house = House::build();
    house.prepare(
        "postconf -e myhostname=mail.lampholm.example inet_interfaces=loopback-only maillog_file=/var/log/mail.log \
         smtpd_tls_security_level=may mydestination=lampholm.example",
    );
    house.prepare("mkdir -p /run/dovecot");
    house.prepare("postfix check");
    house.serve("/usr/lib/postfix/sbin/master -d", 25);
    house.serve("dovecot -F", 993);
    house.live_through("mail", &mut |_, _| {});
}

#[test]
fn load_balancer() {
    if elsewhere("load_balancer") {
        return;
    }
    let house = House::build();
    house.prepare("mkdir -p /run/haproxy");
    house.prepare(
        "openssl req -x509 -newkey rsa:2048 -nodes -keyout key -out cert -days 9 -subj /CN=placeholder && umask 077 && cat key cert > /etc/haproxy/placeholder.pem",
    );
    let mut balancer = Vec::new();
    house.live_through("load-balancer", &mut |house, _| {
        balancer.push(house.started("haproxy -W -p /run/haproxy.pid -f /etc/haproxy/haproxy.cfg", 443));
    });
}

#[test]
fn hosting_account() {
    if elsewhere("hosting_account") {
        return;
    }
    let mut house = House::build();
    house.nginx(&[("shop", "shop.lampholm.example", "/srv/account/htdocs")]);
    let runtime = runtime();
    let account = runtime.block_on(FtpServer::start(Path::new("/srv/account"))).unwrap();
    let panel = runtime.block_on(Uploads::start(UploadKind::Hosting)).unwrap();
    house.trust(&[account.root_pem(), panel.root_pem()]);
    let at = account.address();
    house
        .names
        .push(("address = \"ftp.lampholm.example\"", format!("address = \"{}\"\nport = {}", at.ip(), at.port())));
    house.names.push(("https://panel.lampholm.example/api", panel.address()));
    house.live_through("hosting-account", &mut |_, _| {
        std::fs::write("/etc/eskort/ftp.password", account.password()).unwrap();
        std::fs::write("/etc/eskort/panel.token", panel.token()).unwrap();
    });
    assert!(panel.asked().iter().any(|request| request.starts_with("PUT") || request.starts_with("POST")));
}

#[test]
fn application_platform() {
    if elsewhere("application_platform") {
        return;
    }
    let mut house = House::build();
    house.nginx(&[("tickets", "tickets.lampholm.example", "/srv/www/tickets")]);
    house.prepare("mkdir /srv/app");
    house.live_through("application-platform", &mut |_, _| write("/etc/eskort/app.password", "oil and wick\n"));
    let opened = "openssl pkcs12 -in /srv/app/copy.p12 -passin file:/etc/eskort/app.password -nokeys";
    house.sh(opened).check(0, &["CN", "BEGIN CERTIFICATE"]);
}

/// Has the office sign the CSR of a generation, and returns the answer with its chain in PEM.
fn signed(office: &Office, certificate: &str) -> String {
    let folder = format!("/var/lib/eskort/certificates/{certificate}/0001");
    office.openssl(&format!(
        "ca -batch -config desk.cnf -extensions leaf -in {folder}/request.pem -out leaf.pem -days 200 -notext"
    ));
    ["leaf.pem", "issuer.pem", "upper.pem"].map(|name| office.place.read(name)).concat()
}

#[test]
fn paid_authority() {
    if elsewhere("paid_authority") {
        return;
    }
    let mut house = House::build();
    house.nginx(&[SITE]);
    let office = Office::new();
    house.trust(&[&office.place.read("root.pem")]);
    house.live_through("paid-authority", &mut |house, what| match what {
        "the-authority-asks" => drop(house.place().write("lamp.txt", "the lamp is lit\n")),
        _ => {
            house.place().write("answer.pem", &signed(&office, "website"));
            house.prepare("openssl crl2pkcs7 -nocrl -certfile answer.pem -out answer.p7b");
        }
    });
}

#[test]
fn office_authority() {
    if elsewhere("office_authority") {
        return;
    }
    let mut house = House::build();
    let office = Office::new();
    let runtime = runtime();
    let enrol = runtime.block_on(EstServer::start(Clock::default())).unwrap();
    house.trust(&[&office.place.read("root.pem"), enrol.api_root_pem(), &enrol.root_pem()]);
    house.names.push(("https://est.lampholm.internal", enrol.address()));
    house.prepare("mkdir -p /mnt/ca/requests /mnt/ca/answers /srv/app");
    write("/etc/eskort/office-root.pem", &office.place.read("root.pem"));
    house.live_through("office-authority", &mut |_, what| match what {
        "the-office-answers" => write("/mnt/ca/answers/stock.pem", &signed(&office, "stock")),
        "the-password-is-written" => write("/etc/eskort/est.password", EST_PASSWORD),
        _ => edit(
            "names = [\"stock.lampholm.internal\"]\n",
            "names = [\"stock.lampholm.internal\"]\nauthority = \"office\"\n",
        ),
    });
}

/// Changes the inventory as a page says in words.
fn edit(from: &str, to: &str) {
    let path = "/etc/eskort/eskort.toml";
    let text = std::fs::read_to_string(path).unwrap();
    assert!(text.contains(from), "{text}");
    write(path, &text.replace(from, to));
}

#[test]
fn delegated_names() {
    if elsewhere("delegated_names") {
        return;
    }
    let house = House::build();
    house.prepare("mkdir /srv/tls");
    house.live_through("delegated-names", &mut |_, _| write("/etc/eskort/proofs.key", KEY));
}

#[test]
fn unreachable_machine() {
    if elsewhere("unreachable_machine") {
        return;
    }
    let house = House::build();
    house.change_zone("update add desk.lampholm.example 60 A 127.0.0.1\n");
    let mut desk = Vec::new();
    house.live_through("unreachable-machine", &mut |house, what| match what {
        "the-password-is-written" => write("/etc/eskort/carry.password", "oil and wick\n"),
        "the-record-is-placed" => {
            let said = house.sh("eskort show desk");
            let text = said.out.split('"').find(|word| word.len() == 43).unwrap_or_else(|| panic!("{said}"));
            house.change_zone(&format!("update add _acme-challenge.desk.lampholm.example 60 TXT {text}\n"));
        }
        _ => {
            let folder = "/mnt/carry/desk";
            house.prepare(&format!("cat {folder}/certificate.pem {folder}/intermediates.pem > shown.pem"));
            let words = format!("-cert shown.pem -cert_chain shown.pem -key {folder}/key.pem -www");
            desk.push(openssl_server(house.place(), "127.0.0.1:443".parse().unwrap(), &words));
        }
    });
}

#[test]
fn many_machines() {
    if elsewhere("many_machines") {
        return;
    }
    let house = House::build();
    house.prepare("rm -f /etc/nginx/sites-enabled/*");
    let mut machines = Vec::new();
    for (n, ip) in [(1_u8, Ipv4Addr::new(127, 0, 0, 11)), (2, Ipv4Addr::new(127, 0, 0, 12))] {
        // Each has files of its own, and its nginx listens at its own address.
        let site =
            format!("server {{\n    listen {ip}:80;\n    server_name {};\n    root /srv/www/lampholm;\n}}\n", SITE.1);
        let own = house.place().path(&format!("machine{n}"));
        house.prepare(&format!(
            "mkdir {0} && cp -a /etc {0}/etc && mkdir -p {0}/srv/www/lampholm {0}/run/sshd",
            own.display()
        ));
        std::fs::write(own.join("etc/nginx/sites-enabled/lampholm"), site).unwrap();
        let mounted = "for d in etc srv run; do mount --bind \"$0/$d\" \"/$d\"; done && exec \"$@\"";
        let by = ["unshare", "-m", "sh", "-c", mounted, own.to_str().unwrap()];
        let sshd = Sshd::start_as(house.place(), Path::new("/"), "", ip, &by);
        let client = format!(
            "Host web{n}.lampholm.example\n    HostName {ip}\n    Port {}\n    IdentityFile {1}/key\n    UserKnownHostsFile {1}/known\n",
            sshd.port,
            house.place().dir.path().display()
        );
        house.prepare(&format!("cat >> /etc/ssh/ssh_config <<'END'\n{client}END"));
        let nginx =
            Command::new(by[0]).args(&by[1..]).args(["nginx", "-g", "daemon off;"]).stderr(Stdio::null()).spawn();
        machines.push((sshd, Process(nginx.unwrap())));
        await_server((ip, 80).into(), "nginx");
    }
    house.change_zone(
        "update delete lampholm.example A\nupdate add lampholm.example 60 A 127.0.0.11\n\
         update add lampholm.example 60 A 127.0.0.12\nupdate add www.lampholm.example 60 A 127.0.0.11\n",
    );
    house.live_through("many-machines", &mut |_, _| {});
}

#[test]
fn failed_renewal() {
    if elsewhere("failed_renewal") {
        return;
    }
    let mut house = House::build();
    house.nginx(&[SITE]);
    // Three weeks are left of a certificate.
    let office = Office::new();
    house.trust(&[&office.place.read("root.pem")]);
    let now = jiff::Timestamp::now();
    let day = |days: i64| (now + jiff::SignedDuration::from_hours(24 * days)).strftime("%y%m%d%H%M%SZ").to_string();
    let csr = "req -new -newkey rsa:2048 -nodes -keyout old.key -out old.csr -subj /CN=Lampholm \
               -addext subjectAltName=DNS:lampholm.example,DNS:www.lampholm.example";
    office.openssl(csr);
    office.openssl(&format!(
        "ca -batch -config desk.cnf -extensions leaf -in old.csr -out leaf.pem -notext -startdate {} -enddate {}",
        day(-69),
        day(21)
    ));
    house.place().write(
        "old.pem",
        &["leaf.pem", "issuer.pem", "upper.pem", "old.key"].map(|name| office.place.read(name)).concat(),
    );
    house.prepare(&house.here(&format!(
        "eskort add --site lampholm.example --certificate website --directory {DIRECTORY} --accept-terms --contact keeper@lampholm.example"
    )));
    house.prepare("eskort adopt website old.pem && eskort install website");
    // The site is moved to another folder.
    house.prepare("mv /srv/www/lampholm /srv/www/lampholm-new && mkdir /srv/www/lampholm");
    house.prepare("sed -i 's:www/lampholm;:www/lampholm-new;:' /etc/nginx/sites-enabled/lampholm && nginx -s reload");
    until_it_stays("nginx serves the new folder", || house.sh("curl -sf http://lampholm.example/").code == Some(0));
    house.sh("eskort keep").check(1, &["404"]);
    house.live_through("failed-renewal", &mut |_, _| edit("proof = \"pages\"", "proof = \"new-pages\""));
}

#[test]
fn every_page_is_lived_through() {
    let tests = std::fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/guides.rs")).unwrap();
    let said = Place::new().run(&["help"]);
    let pages: Vec<String> = std::fs::read_dir(concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/guides"))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap().replace(".md", ""))
        .collect();
    assert!(pages.len() >= 13, "{pages:?}");
    for page in pages {
        assert!(tests.contains(&format!("live_through(\"{page}\"")), "no test lives through {page}");
        said.check(0, &[&page]);
        let place = Place::new();
        place.run(&["help", &page]).check(0, &["What goes wrong most"]);
    }
    Place::new().run(&["help", "csr", "make"]).check(0, &["eskort csr make", "--must-staple"]);
    Place::new().run(&["help", "lamp"]).check(2, &["`lamp` is neither a situation nor a command"]);
}
