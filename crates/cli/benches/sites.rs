//! One certificate on fifty sites of one nginx, next to nginx's own test and reload: the first time, when all of its configuration is led to
//! the certificate, and a renewal. Wants the packages that `scripts/test` installs; `scripts/bench` runs it.

#![expect(clippy::unwrap_used, clippy::print_stdout, reason = "a benchmark prints, and stops at the first trouble")]

use eskort_core::names::Identifier;
use eskort_core::pki::{KeyKind, PrivateKey};
use eskort_practice::Issuer;
use jiff::{SignedDuration, Timestamp};
use std::fmt::Write;
use std::net::{TcpListener, TcpStream};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const SITES: usize = 50;
const ROUNDS: usize = 9;

struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

fn main() {
    let place = tempfile::tempdir().unwrap();
    let at = |name: &str| place.path().join(name);
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let now = Timestamp::now();
    let issuer = Issuer::new(now);
    let names: Vec<Identifier> = (0..SITES).map(|n| format!("s{n}.lampholm.example").parse().unwrap()).collect();
    let make = |stem: &str| {
        let key = PrivateKey::generate(KeyKind::P256).unwrap();
        let lifetime = SignedDuration::from_hours(24 * 90);
        let leaf = issuer.issue(&names, &key.public_key_der(), now, lifetime);
        std::fs::write(at(&format!("{stem}.pem")), issuer.chain_pem(&leaf, false)).unwrap();
        std::fs::write(at(&format!("{stem}.key")), key.to_pem().reveal()).unwrap();
    };
    for stem in ["old", "first"] {
        make(stem);
    }
    let dir = place.path().display();
    let mut main = format!(
        "user root;\ndaemon off;\npid {dir}/pid;\nerror_log {dir}/log;\nevents {{}}\nhttp {{\n    access_log off;\n"
    );
    for kind in ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"] {
        writeln!(main, "    {kind}_temp_path {dir}/{kind};").unwrap();
    }
    for name in &names {
        write!(
            main,
            "    server {{\n        listen 127.0.0.1:{port} ssl;\n        server_name {name};\n        ssl_certificate {dir}/old.pem;\n        \
             ssl_certificate_key {dir}/old.key;\n    }}\n"
        )
        .unwrap();
    }
    std::fs::write(at("nginx.conf"), format!("{main}}}\n")).unwrap();
    std::fs::write(at("root.pem"), issuer.root_pem()).unwrap();
    let list = names.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
    let inventory = format!(
        "state = \"state\"\n[authority.office]\nkind = \"csr\"\nvisitor-roots = \"root.pem\"\n[server.front]\nkind = \"nginx\"\nconfig = \"nginx.conf\"\ncheck-address = \"127.0.0.1\"\n\
         [certificate.all]\nnames = [{list}]\ninstall = [{{ server = \"front\" }}]\n"
    );
    std::fs::write(at("eskort.toml"), inventory).unwrap();
    let nginx = |words: &[&str]| {
        Command::new("/usr/sbin/nginx")
            .args(words)
            .arg("-c")
            .arg(at("nginx.conf"))
            .stderr(Stdio::null())
            .spawn()
            .unwrap()
    };
    let running = Running(nginx(&[]));
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        std::thread::sleep(Duration::from_millis(10));
    }
    adopt(place.path(), "first");
    let first = timed(|| install(place.path()));
    let (mut ours, mut bare, mut over) = (Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let (begun, before) = (Instant::now(), workers(&running));
        assert!(nginx(&["-t", "-q"]).wait().unwrap().success() && nginx(&["-s", "reload"]).wait().unwrap().success());
        bare.push(begun.elapsed());
        while workers(&running).iter().all(|worker| before.contains(worker)) {
            std::thread::sleep(Duration::from_millis(1));
        }
        over.push(begun.elapsed());
        std::thread::sleep(Duration::from_millis(300));
        make(&format!("r{round}"));
        adopt(place.path(), &format!("r{round}"));
        ours.push(timed(|| install(place.path())));
        std::thread::sleep(Duration::from_millis(300));
    }
    let [ours, bare, over] = [ours, bare, over].map(|mut times| {
        times.sort();
        times[ROUNDS / 2].as_secs_f64() * 1000.0
    });
    println!("one certificate on {SITES} sites of one nginx, median of {ROUNDS} renewals by turns");
    println!("nginx -t and -s reload: {bare:.0} ms; until nginx has reloaded: {over:.0} ms");
    println!(
        "eskort install, until every site shows it: {ours:.0} ms    ratio {:.2} (target 2); to the reload that is over {:.2}",
        ours / bare,
        ours / over
    );
    println!("the first time, with all sites led to it: {:.0} ms", first.as_secs_f64() * 1000.0);
}

/// Returns the processes that take visitors.
fn workers(nginx: &Running) -> Vec<String> {
    let path = format!("/proc/{0}/task/{0}/children", nginx.0.id());
    std::fs::read_to_string(path).unwrap().split_whitespace().map(str::to_owned).collect()
}

fn timed(work: impl FnOnce()) -> Duration {
    let begun = Instant::now();
    work();
    begun.elapsed()
}

fn eskort(place: &Path, words: &[&str]) {
    let done = Command::new(env!("CARGO_BIN_EXE_eskort"))
        .args(["--config", "eskort.toml"])
        .args(words)
        .current_dir(place)
        .output();
    let done = done.unwrap();
    assert!(done.status.success(), "{words:?}: {}", String::from_utf8_lossy(&done.stderr));
}

fn install(place: &Path) {
    eskort(place, &["install", "all"]);
}

fn adopt(place: &Path, stem: &str) {
    eskort(place, &["adopt", "all", &format!("{stem}.pem"), &format!("{stem}.key")]);
}
