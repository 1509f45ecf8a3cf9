//! Held against a real nginx: random configurations that it accepts are planned, applied, tested, asked before and after, and
//! planned again.

#![expect(clippy::unwrap_used, reason = "a test stops at the first thing that is not as it should be")]
#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "tests of a pure crate touch the world")]

#[path = "../../cli/tests/ports.rs"]
mod ports;

use eskort_core::https::HttpsWishes;
use eskort_core::names::Identifier;
use eskort_siteconf::nginx::{self, Sites};
use eskort_siteconf::{PlanError, SitePlan, TlsTarget};
use ports::free_port;
use std::collections::BTreeMap;
use std::fs;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

/// The certificate's names, and others that the sites may have.
const OURS: [&str; 2] = ["lampholm.example", "www.lampholm.example"];
const ASKED: [&str; 6] = [
    "lampholm.example",
    "www.lampholm.example",
    "shop.lampholm.example",
    "archive7.lampholm.example",
    "a.test",
    "b.test",
];
const CHALLENGE: &str = "/.well-known/acme-challenge/token";

/// A small generator of numbers (xorshift), so that a failure can be seen again.
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % sides as u64).unwrap()
    }

    fn pick<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.roll(of.len())]
    }

    fn chance(&mut self, one_in: usize) -> bool {
        self.roll(one_in) == 0
    }
}

/// A folder with a configuration and two certificates.
struct Place {
    dir: tempfile::TempDir,
    plain: u16,
    tls: u16,
}

impl Place {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        for name in ["ours", "shared", "old0", "old1", "old2", "old3"] {
            let subject = format!("/CN={name}");
            let words =
                ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "9"];
            let made = Command::new("openssl")
                .args(words)
                .args(["-subj", &subject, "-keyout", &format!("{name}.key"), "-out", &format!("{name}.pem")])
                .current_dir(dir.path())
                .output()
                .expect("openssl is installed (scripts/test does it)");
            assert!(made.status.success(), "{made:?}");
        }
        fs::create_dir(dir.path().join("sites")).unwrap();
        Place { dir, plain: free_port(), tls: free_port() }
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    /// Writes a random configuration; most are ones that nginx accepts.
    fn write_random(&self, dice: &mut Dice) {
        for entry in fs::read_dir(self.path("sites")).unwrap() {
            fs::remove_file(entry.unwrap().path()).unwrap();
        }
        let dir = self.dir.path().display();
        let user = if nix_is_root() { "user root;\n" } else { "" };
        let temp: String = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
            .map(|name| format!("    {name}_temp_path {dir}/{name};\n"))
            .concat();
        let main = format!(
            "{user}daemon off;\npid {dir}/pid;\nerror_log {dir}/error.log;\nevents {{}}\nhttp {{\n    access_log off;\n{temp}    \
             include sites/*;\n}}\n"
        );
        fs::write(self.path("nginx.conf"), main).unwrap();
        fs::write(self.path("sites/.default.swp"), "server { not a configuration").unwrap();
        fs::write(self.path("certificate"), self.certificate("shared")).unwrap();
        for n in 0..=dice.roll(3) {
            let text = self.random_block(n, dice);
            let text = if dice.chance(4) { text.replace('\n', "\r\n") } else { text };
            fs::write(self.path(&format!("sites/{n}.conf")), text).unwrap();
        }
    }

    fn certificate(&self, name: &str) -> String {
        let dir = self.dir.path().display();
        format!("ssl_certificate {dir}/{name}.pem;\n    ssl_certificate_key {dir}/{name}.key;")
    }

    fn random_block(&self, n: usize, dice: &mut Dice) -> String {
        let folder = self.path(&format!("site {n}"));
        fs::create_dir_all(folder.join(".well-known/acme-challenge")).unwrap();
        fs::write(folder.join("index.html"), format!("site {n}")).unwrap();
        fs::write(folder.join(&CHALLENGE[1..]), format!("challenge {n}")).unwrap();
        let mut parts = Vec::new();
        let mut names: Vec<&str> = Vec::new();
        let known =
            [OURS[0], OURS[1], "shop.lampholm.example", "*.lampholm.example", ".lampholm.example", "a.test", "b.*"];
        for _ in 0..=dice.roll(3) {
            names.push(dice.pick(&known));
        }
        names.dedup();
        if dice.chance(5) {
            names.push("\"~^archive\\d{1,3}\\.lampholm\\.example$\"");
        }
        if dice.chance(6) {
            names = vec!["_"];
        }
        let quote = |name: &&str| {
            if name.len().is_multiple_of(5) && !name.contains('"') { format!("'{name}'") } else { (*name).to_owned() }
        };
        parts.push(format!("server_name {};", names.iter().map(quote).collect::<Vec<_>>().join(" ")));
        let default = if dice.chance(4) { " default_server" } else { "" };
        let address = dice.pick(&["", "", "", "*:", "127.0.0.1:", "127.0.0.2:", "localhost:"]);
        parts.push(format!("listen {address}{}{default};", self.plain));
        if dice.chance(4) {
            parts.push(format!("listen 127.0.0.3:{};", self.plain));
        }
        if dice.chance(2) {
            parts.push(format!("listen {address}{} ssl;", self.tls));
            parts.push(if dice.chance(3) {
                format!("include {}/certificate;", self.dir.path().display())
            } else {
                self.certificate("old")
            });
        }
        parts.push(format!("root \"{}\";", folder.display()));
        let more = [
            "",
            "",
            "location /old { return 301 https://c.test/new; }",
            "location /lamp { # a brace } in a comment\n    }",
        ];
        parts.push(dice.pick(&more).to_owned());
        if dice.chance(6) {
            parts.push("if ($http_x_forwarded_proto = \"http\") { return 301 https://$host$request_uri; }".to_owned());
        }
        for i in (1..parts.len()).rev() {
            parts.swap(i, dice.roll(i + 1));
        }
        let end = dice.pick(&["\n", "\n", " # {; said }\n", " "]);
        let body: String = parts.iter().map(|part| format!("    {part}{end}")).collect();
        format!("# site {n}\nserver {{{}{body}}}{}", dice.pick(&["\n", " "]), dice.pick(&["\n", "", "\n\n"]))
    }

    fn is_accepted(&self) -> Result<(), String> {
        let tested = Command::new("/usr/sbin/nginx").args(["-t", "-q", "-c"]).arg(self.path("nginx.conf")).output();
        let tested = tested.expect("nginx is installed (scripts/test does it)");
        if tested.status.success() { Ok(()) } else { Err(String::from_utf8_lossy(&tested.stderr).into_owned()) }
    }

    fn plan(&self, redirect: bool) -> Result<SitePlan, PlanError> {
        let main = self.path("nginx.conf");
        let config = nginx::load(&main, &mut |pattern| {
            let text = pattern.to_str().unwrap();
            let paths = match text.strip_suffix('*') {
                Some(folder) => {
                    let mut found: Vec<PathBuf> = fs::read_dir(folder)?.map(|e| e.unwrap().path()).collect();
                    found.retain(|path| !path.file_name().unwrap().to_str().unwrap().starts_with('.'));
                    found.sort();
                    found
                }
                None => vec![pattern.to_owned()],
            };
            paths.into_iter().map(|path| fs::read(&path).map(|bytes| (path, bytes))).collect()
        });
        let config = config.unwrap_or_else(|e| panic!("nginx accepts it: {e}"));
        let names = OURS.map(|name| Identifier::parse(name).unwrap());
        let (bundle, key) = (self.path("ours.pem"), self.path("ours.key"));
        let wishes = HttpsWishes { redirect, ..HttpsWishes::default() };
        let target = TlsTarget { tls_port: self.tls, wishes, ..TlsTarget::new(&names, &bundle, &key) };
        nginx::plan(&config, &Sites::find(&config), &target)
    }

    fn all_files(&self) -> String {
        let mut found: Vec<PathBuf> = fs::read_dir(self.path("sites")).unwrap().map(|e| e.unwrap().path()).collect();
        found.sort();
        found.iter().map(|path| format!("--- {}\n{}", path.display(), fs::read_to_string(path).unwrap())).collect()
    }

    /// Starts nginx, asks for all names at all addresses, and ends it.
    fn answers(&self) -> BTreeMap<(String, String), String> {
        let child =
            Command::new("/usr/sbin/nginx").arg("-c").arg(self.path("nginx.conf")).stderr(Stdio::null()).spawn();
        let _nginx = Running(child.unwrap());
        let end = Instant::now() + Duration::from_secs(10);
        while !self.path("pid").exists()
            || TcpStream::connect((Ipv4Addr::new(127, 0, 0, 1), self.plain)).is_err()
                && TcpStream::connect((Ipv4Addr::new(127, 0, 0, 2), self.plain)).is_err()
        {
            assert!(Instant::now() < end, "nginx does not listen");
            std::thread::sleep(Duration::from_millis(10));
        }
        let mut found = BTreeMap::new();
        for last in 1..=3 {
            let ip = Ipv4Addr::new(127, 0, 0, last);
            for name in ASKED {
                for path in ["/", "/old", CHALLENGE] {
                    found.insert(
                        (format!("http {ip}{path}"), name.to_owned()),
                        ask((ip, self.plain).into(), name, path),
                    );
                }
                found.insert((format!("https {ip}"), name.to_owned()), shown((ip, self.tls).into(), name));
            }
        }
        found
    }
}

fn nix_is_root() -> bool {
    Command::new("id").arg("-u").output().unwrap().stdout == b"0\n"
}

struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

/// Returns the status, where a redirect leads, and what the page says.
fn ask(address: SocketAddr, name: &str, path: &str) -> String {
    let Ok(mut stream) = TcpStream::connect(address) else { return "nobody".into() };
    write!(stream, "GET {path} HTTP/1.0\r\nHost: {name}\r\n\r\n").unwrap();
    let mut answer = String::new();
    stream.read_to_string(&mut answer).unwrap();
    let status = answer.split(' ').nth(1).unwrap_or_default().to_owned();
    let to = answer.lines().find_map(|line| line.strip_prefix("Location: ")).unwrap_or_default().to_owned();
    let page = if status == "200" { answer.split_once("\r\n\r\n").unwrap().1 } else { "" };
    format!("{status} {to}{page}")
}

/// Returns whose certificate a visitor is shown.
fn shown(address: SocketAddr, name: &str) -> String {
    if TcpStream::connect(address).is_err() {
        return "nobody".into();
    }
    let mut command = Command::new("openssl");
    command.args(["s_client", "-connect", &address.to_string(), "-servername", name]).stdin(Stdio::null());
    let said = String::from_utf8_lossy(&command.output().unwrap().stdout).into_owned();
    said.lines()
        .find_map(|line| line.strip_prefix("subject=CN=").or(line.strip_prefix("subject=CN = ")))
        .unwrap_or("nobody")
        .to_owned()
}

/// Whether some site has a name, exactly or by a wildcard.
fn has_name(files: &str, name: &str) -> bool {
    let (first, base) = name.split_once('.').unwrap();
    let names =
        files.lines().flat_map(|line| line.split("server_name ").skip(1)).filter_map(|rest| rest.split(';').next());
    names.flat_map(str::split_whitespace).map(|word| word.trim_matches(['\'', '"'])).any(|word| {
        word == name
            || word.strip_prefix("*.").or(word.strip_prefix('.')) == Some(base)
            || word == format!("{first}.*")
            || word.starts_with('~') && first.starts_with("archive")
    })
}

/// Holds what visitors get afterwards against what they got before.
fn compare(place: &Place, plan: &SitePlan, redirect: bool, before: &BTreeMap<(String, String), String>) {
    let after = place.answers();
    let files = place.all_files();
    for ((what, name), was) in before {
        let now = &after[&(what.clone(), name.clone())];
        let ours = OURS.contains(&name.as_str());
        let fine = if what.starts_with("https") {
            // A name that somebody was shown a certificate for before goes on being shown one that is no worse.
            // One that no site has is nobody's.
            let site = was.strip_prefix("old").map(|n| place.path(&format!("sites/{n}.conf")));
            let is_a_sites = site.is_some_and(|site| has_name(&fs::read_to_string(site).unwrap(), name));
            if ours { now == was || now == "ours" } else { now == was || was == "nobody" || !is_a_sites }
        } else if ours && redirect && !what.ends_with(CHALLENGE) {
            now == was || now.starts_with(&format!("301 https://{name}:"))
        } else {
            now == was
        };
        assert!(fine, "{what} for {name}: `{was}` became `{now}`\n{files}");
    }
    for endpoint in &plan.endpoints {
        let ip = endpoint.ip.unwrap_or(Ipv4Addr::LOCALHOST.into());
        let now = shown((ip, endpoint.port.unwrap()).into(), &endpoint.name);
        assert_eq!(now, "nobody", "nginx has ended");
        let key = (format!("https {ip}"), endpoint.name.clone());
        // Sites with addresses of their own take them from those that listen at all.
        let at_all = endpoint.ip.is_none() && after.get(&key).is_some_and(|now| now != "ours");
        assert!(after.get(&key).is_none_or(|now| now == "ours") || at_all, "{key:?}\n{files}");
    }
}

#[test]
fn whatever_nginx_accepts_is_changed_without_harm() {
    let place = Place::new();
    let mut dice = Dice(0x0051_6874_686f_7573);
    // More rounds than these take longer; `ESKORT_ROUNDS` has them.
    let rounds = std::env::var("ESKORT_ROUNDS").map_or(16, |n| n.parse().unwrap());
    let (mut accepted, mut planned, mut refused) = (0, 0, BTreeMap::<String, usize>::new());
    while planned < rounds {
        place.write_random(&mut dice);
        if place.is_accepted().is_err() {
            continue;
        }
        accepted += 1;
        assert!(accepted < rounds * 10, "{refused:?}");
        let redirect = dice.chance(2);
        let plan = match place.plan(redirect) {
            Ok(plan) => plan,
            Err(PlanError::Overlap { path, source }) => panic!("{}: {source}\n{}", path.display(), place.all_files()),
            Err(error) => {
                let kind = format!("{error:?}");
                *refused.entry(kind.split([' ', '{']).next().unwrap().to_owned()).or_default() += 1;
                continue;
            }
        };
        planned += 1;
        let before = place.answers();
        for change in &plan.changes {
            fs::write(&change.path, &change.new).unwrap();
        }
        place.is_accepted().unwrap_or_else(|said| panic!("{said}\n{}", place.all_files()));
        assert_eq!(place.plan(redirect).unwrap().changes, [], "planned again\n{}", place.all_files());
        compare(&place, &plan, redirect, &before);
    }
    assert!(refused.contains_key("NoServerBlock") && refused.contains_key("WouldUncover"), "{refused:?}");
}
