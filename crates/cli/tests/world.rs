//! A folder, an inventory and the built program for one test; real servers and the practice world around it.

pub(crate) use crate::ports::free_port;
use eskort_practice::{Authority, AuthorityOptions, Clock, Issuer, NameServer, Site};
use jiff::SignedDuration;
use std::net::{Ipv4Addr, SocketAddr, TcpStream};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Output, Stdio};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tempfile::TempDir;
use tokio::runtime::Runtime;

/// What the program said and how it ended.
#[derive(Debug)]
pub(crate) struct Said {
    pub(crate) code: Option<i32>,
    pub(crate) out: String,
    pub(crate) err: String,
}

impl Said {
    pub(crate) fn from(output: Output) -> Self {
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        Said { code: output.status.code(), out: text(&output.stdout), err: text(&output.stderr) }
    }

    /// Checks the exit code, and that every part stands in what was said.
    #[track_caller]
    pub(crate) fn check(&self, code: i32, parts: &[&str]) -> &Self {
        assert_eq!(self.code, Some(code), "{self}");
        // What is said is wrapped; the parts are compared without line ends.
        let flat = |text: &str| text.split_whitespace().collect::<Vec<_>>().join(" ").replace(" cause: ", " ");
        let all = flat(&format!("{}\n{}", self.out, self.err));
        for part in parts {
            assert!(all.contains(&flat(part)), "lacks {part:?}\n{self}");
        }
        assert!(!self.err.contains("panicked") && !self.err.contains("PRIVATE KEY-----"), "{self}");
        self
    }
}

impl std::fmt::Display for Said {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "exit {:?}\n--- out\n{}\n--- err\n{}", self.code, self.out, self.err)
    }
}

/// A folder of its own, and the program.
pub(crate) struct Place {
    pub(crate) dir: TempDir,
}

impl Place {
    pub(crate) fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("www")).unwrap();
        Place { dir }
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub(crate) fn write(&self, name: &str, text: &str) -> PathBuf {
        let path = self.path(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(&path, text).unwrap();
        path
    }

    pub(crate) fn read(&self, name: &str) -> String {
        std::fs::read_to_string(self.path(name)).unwrap_or_else(|e| panic!("{name}: {e}"))
    }

    pub(crate) fn mode(&self, name: &str) -> u32 {
        std::fs::metadata(self.path(name)).unwrap().permissions().mode() & 0o7777
    }

    /// Returns the program, with an empty environment and this folder as working and home folder.
    pub(crate) fn eskort(&self) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_eskort"));
        command.env_clear().env("PATH", "/usr/sbin:/usr/bin:/sbin:/bin").env("HOME", self.dir.path());
        command.current_dir(self.dir.path());
        // Root obeys no inventory for being in the working folder.
        if self.path("eskort.toml").exists() {
            command.env("ESKORT_CONFIG", self.path("eskort.toml"));
        }
        command
    }

    pub(crate) fn run(&self, words: &[&str]) -> Said {
        Said::from(self.eskort().args(words).output().unwrap())
    }

    pub(crate) fn run_with(&self, variable: &str, value: &str, words: &[&str]) -> Said {
        Said::from(self.eskort().env(variable, value).args(words).output().unwrap())
    }

    /// Checks that nothing of a challenge is left in the site's folder.
    #[track_caller]
    pub(crate) fn check_nothing_published(&self) {
        assert!(!self.path("www/.well-known").exists(), "the challenge folder is still there");
    }

    pub(crate) fn openssl(&self, words: &[&str]) -> Said {
        Said::from(Command::new("openssl").args(words).current_dir(self.dir.path()).output().unwrap())
    }

    /// Makes `leaf.key`, and `leaf.pem` for a name, signed by that key itself.
    #[track_caller]
    pub(crate) fn sign_itself(&self, name: &str, is_authority: bool) {
        let names = format!("subjectAltName=DNS:{name}");
        let authority = format!("basicConstraints=critical,CA:{}", if is_authority { "TRUE" } else { "FALSE" });
        let fixed = "req -x509 -newkey rsa:2048 -nodes -keyout leaf.key -out leaf.pem -days 90 -subj";
        let mut words: Vec<&str> = fixed.split(' ').collect();
        let subject = format!("/CN={name}");
        words.extend([&*subject, "-addext", &names, "-addext", &authority]);
        self.openssl(&words).check(0, &[]);
    }
}

/// A child process that ends with its test.
pub(crate) struct Process(pub(crate) Child);

impl Drop for Process {
    fn drop(&mut self) {
        // SIGTERM first: nginx's master takes its workers along.
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let end = Instant::now() + Duration::from_secs(5);
        while Instant::now() < end && matches!(self.0.try_wait(), Ok(None)) {
            std::thread::sleep(Duration::from_millis(10));
        }
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// Waits for a server of ours to take connections.
#[track_caller]
pub(crate) fn await_port(port: u16, what: &str) {
    await_server(SocketAddr::from((Ipv4Addr::LOCALHOST, port)), what);
}

/// Waits for a server of ours to take connections at an address.
#[track_caller]
pub(crate) fn await_server(address: SocketAddr, what: &str) {
    until(&format!("{what} listens on {address}"), || TcpStream::connect(address).is_ok());
}

/// Waits for something to happen.
#[track_caller]
pub(crate) fn until(what: &str, mut is_so: impl FnMut() -> bool) {
    let end = Instant::now() + Duration::from_secs(60);
    while !is_so() {
        assert!(Instant::now() < end, "not yet after a minute: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// Waits until something is so five times in a row: just after a reload a process of before may still answer now and then.
#[track_caller]
pub(crate) fn until_it_stays(what: &str, mut is_so: impl FnMut() -> bool) {
    let mut in_a_row = 0;
    until(what, || {
        in_a_row = if is_so() { in_a_row + 1 } else { 0 };
        in_a_row == 5
    });
}

pub(crate) const NAMES: [&str; 2] = ["lampholm.example", "www.lampholm.example"];

pub(crate) fn runtime() -> Runtime {
    tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build().unwrap()
}

/// Starts a name server that leads the trust's names to loopback.
pub(crate) fn name_server(runtime: &Runtime) -> Arc<NameServer> {
    let names = Arc::new(runtime.block_on(NameServer::start()).unwrap());
    NAMES.iter().for_each(|n| names.set(n, Ipv4Addr::LOCALHOST));
    names
}

/// Makes a certificate for a server's own API on loopback; returns chain, key and root as PEM.
pub(crate) fn loopback_certificate() -> (String, String, String) {
    let now = jiff::Timestamp::now();
    let issuer = Issuer::new(now);
    let key = eskort_core::pki::PrivateKey::generate(eskort_core::pki::KeyKind::P256).unwrap();
    let names = ["127.0.0.1", "localhost"].map(|name| name.parse().unwrap());
    let day = SignedDuration::from_hours(24);
    let leaf = issuer.issue(&names, &key.public_key_der(), now - day, day * 300);
    (issuer.chain_pem(&leaf, false), key.to_pem().reveal().clone(), issuer.root_pem())
}

/// The practice world around a place: authority, name server, a site, and an inventory that fits.
pub(crate) struct World {
    pub(crate) place: Place,
    pub(crate) authority: Authority,
    pub(crate) site: Site,
    pub(crate) names: Arc<NameServer>,
    pub(crate) clock: Clock,
    _runtime: Runtime,
}

impl World {
    pub(crate) fn new() -> Self {
        World::with(|_| {})
    }

    pub(crate) fn with(adjust: impl FnOnce(&mut AuthorityOptions)) -> Self {
        let (place, runtime) = (Place::new(), runtime());
        let names = name_server(&runtime);
        let clock = Clock::default();
        let any = SocketAddr::from((Ipv4Addr::LOCALHOST, 0));
        let (bundle, key) = (place.path("tls/site.pem"), place.path("tls/site.key"));
        let site = runtime.block_on(Site::start(&place.path("www"), &bundle, &key, any, any)).unwrap();
        let mut options = AuthorityOptions { site_port: site.plain_address().port(), ..AuthorityOptions::default() };
        adjust(&mut options);
        let started = Authority::start(options, clock.clone(), Arc::clone(&names));
        let authority = runtime.block_on(started).unwrap();
        place.write("api-root.pem", authority.api_root_pem());
        place.write("visitor-root.pem", &authority.visitor_root_pem());
        let world = World { place, authority, site, names, clock, _runtime: runtime };
        world.write_inventory(|text| text);
        world
    }

    /// Writes the inventory, after a change to its text.
    pub(crate) fn write_inventory(&self, change: impl FnOnce(String) -> String) {
        let text = format!(
            r#"contact = "keeper@lampholm.example"
state = "state"

[authority.public]
kind = "acme"
directory = "{}"
accept-terms = true
api-roots = "api-root.pem"
visitor-roots = "visitor-root.pem"
timeout = "6s"

[proof.pages]
kind = "http-folder"
folder = "www"
check-address = "{}"

[server.front]
kind = "files"
copy = [{{ part = "bundle", to = "tls/site.pem" }}, {{ part = "key", to = "tls/site.key" }}]
check-address = "{}"
reload-timeout = "3s"

[certificate.website]
names = ["lampholm.example", "www.lampholm.example"]
install = [{{ server = "front" }}]
"#,
            self.authority.directory(),
            self.site.plain_address(),
            self.site.tls_address(),
        );
        self.place.write("eskort.toml", &change(text));
    }

    /// Lets the program work on the certificate; what it waits takes a tenth of the time.
    pub(crate) fn keep(&self) -> Said {
        self.place.run_with("ESKORT_CLOCK_PACE", "10", &["keep", "--only", "website"])
    }

    /// Runs the program so many days later, by its clock and the authority's.
    pub(crate) fn on_day(&self, day: i64, words: &[&str]) -> Said {
        self.clock.set_offset(SignedDuration::from_hours(day * 24));
        self.place.run_with("ESKORT_CLOCK_OFFSET", &(day * 86_400).to_string(), words)
    }
}

/// OpenSSL's server at an address, with some words of its own.
pub(crate) fn openssl_server(place: &Place, at: SocketAddr, words: &str) -> Process {
    let child = Command::new("openssl")
        .args(["s_server", "-quiet", "-4", "-accept", &at.to_string()])
        .args(words.split_whitespace())
        .current_dir(place.dir.path())
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let process = Process(child.unwrap());
    await_server(at, "openssl");
    process
}

/// Asks over TLS as a visitor would: returns what openssl says of the handshake.
pub(crate) fn handshake(place: &Place, port: u16, name: &str, root: &Path) -> Said {
    let address = format!("127.0.0.1:{port}");
    let root = root.to_str().unwrap();
    let child = Command::new("openssl")
        .args(["s_client", "-connect", &address, "-servername", name, "-verify_hostname", name])
        .args(["-verify_return_error", "-CAfile", root])
        .current_dir(place.dir.path())
        .stdin(std::process::Stdio::null())
        .output();
    Said::from(child.unwrap())
}

/// Runs the calling test again, in a network with nothing but loopback, and with other files for the resolver. Returns false in
/// that second run.
pub(crate) fn in_a_network_of_its_own(test: &str, more: &str, resolv_conf: &str, hosts: &str) -> bool {
    let said = again_in_a_network_of_its_own(&["--exact", test], more, resolv_conf, hosts);
    if let Some(said) = &said {
        assert!(said.code == Some(0) && said.out.contains("1 passed"), "{said}");
    }
    said.is_some()
}

/// Runs this program again with these arguments, in such a network, and returns what came of it; nothing in that second run.
pub(crate) fn again_in_a_network_of_its_own(args: &[&str], more: &str, resolv_conf: &str, hosts: &str) -> Option<Said> {
    if std::env::var_os("IN_A_NETWORK_OF_ITS_OWN").is_some() {
        return None;
    }
    let place = Place::new();
    place.write("resolv.conf", resolv_conf);
    place.write("hosts", &format!("127.0.0.1 localhost\n{hosts}"));
    let script = format!(
        "ip link set lo up && mount --bind resolv.conf /etc/resolv.conf && mount --bind hosts /etc/hosts && {more} \
         IN_A_NETWORK_OF_ITS_OWN=1 exec \"$0\" \"$@\""
    );
    let mut command = Command::new("unshare");
    command.args([if nix::unistd::geteuid().is_root() { "-mn" } else { "-Urmn" }, "sh", "-c", &script]);
    command.arg(std::env::current_exe().unwrap()).args(args).current_dir(place.dir.path());
    Some(Said::from(command.output().expect("unshare is part of Debian's util-linux")))
}

/// Whether a test was run by root on our behalf: it needs several users, and only root can be each of them.
pub(crate) fn done_by_root(test: &str) -> bool {
    if nix::unistd::geteuid().is_root() {
        return false;
    }
    let mut command = Command::new("sudo");
    command.arg("-n").arg(std::env::current_exe().unwrap()).args(["--exact", test]);
    let output = command.output().expect("who is not root has sudo for these tests");
    assert!(output.status.success(), "as root: {}", String::from_utf8_lossy(&output.stdout));
    true
}
