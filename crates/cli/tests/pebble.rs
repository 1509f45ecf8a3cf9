//! Against a real ACME server that refuses nonces and takes its time, with certificates read by OpenSSL.

use crate::world::*;
use eskort_practice::NameServer;
use std::net::SocketAddr;
use std::process::{Command, Stdio};
use std::sync::Arc;
use tokio::runtime::Runtime;

/// A running server with a place around it.
pub(crate) struct Pebble {
    pub(crate) place: Place,
    pub(crate) api_port: u16,
    manage_port: u16,
    /// The port that it takes for port 80.
    pub(crate) http_port: u16,
    /// The port that it takes for port 443.
    tls_port: u16,
    command: Command,
    /// `None` only while it is started again.
    pub(crate) process: Option<Process>,
    _names: Option<(Arc<NameServer>, Runtime)>,
}

fn run(command: &mut Command, place: &Place, ports: [u16; 2]) -> Process {
    command.stdout(std::fs::File::create(place.path("pebble/log")).unwrap());
    let child = command.spawn().expect("Debian's package pebble is installed (scripts/test does it)");
    let process = Process(child);
    ports.iter().for_each(|port| await_port(*port, "the ACME server"));
    process
}

impl Pebble {
    pub(crate) fn start(settings: &[(&str, &str)], binding: bool) -> Self {
        let runtime = runtime();
        let names = name_server(&runtime);
        let address = names.address();
        Pebble { _names: Some((names, runtime)), ..Pebble::asking(address, settings, binding) }
    }

    /// Starts it with another name server to ask.
    pub(crate) fn asking(names: SocketAddr, settings: &[(&str, &str)], binding: bool) -> Self {
        Pebble::looking_at(names, [free_port(), free_port()], settings, binding)
    }

    /// Starts one that looks at sites where they usually are.
    pub(crate) fn at_usual_ports(names: SocketAddr) -> Self {
        Pebble::looking_at(names, [80, 443], &[], false)
    }

    fn looking_at(
        names: SocketAddr,
        [http_port, tls_port]: [u16; 2],
        settings: &[(&str, &str)],
        binding: bool,
    ) -> Self {
        let place = Place::new();
        let (chain, key, root) = loopback_certificate();
        place.write("pebble/chain.pem", &chain);
        place.write("pebble/key.pem", &key);
        place.write("api-root.pem", &root);
        let (api_port, manage_port) = (free_port(), free_port());
        let config = format!(
            r#"{{"pebble": {{"listenAddress": "127.0.0.1:{api_port}", "managementListenAddress": "127.0.0.1:{manage_port}",
               "certificate": "pebble/chain.pem", "privateKey": "pebble/key.pem", "httpPort": {http_port}, "tlsPort": {tls_port},
               "ocspResponderURL": "", "externalAccountBindingRequired": {binding},
               "externalAccountMACKeys": {{"lamp-1": "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W"}}}}}}"#
        );
        place.write("pebble/config.json", &config);
        let mut command = Command::new("pebble");
        command
            .args(["-strict", "-config", "pebble/config.json", "-dnsserver", &names.to_string()])
            .env("PEBBLE_WFE_NONCEREJECT", "30")
            .env("PEBBLE_AUTHZREUSE", "0")
            // On several processors a new order that makes its challenges and one that looks for earlier proofs can wait for each other's locks.
            .env("GOMAXPROCS", "1")
            .env("PEBBLE_VA_SLEEPTIME", "1")
            .envs(settings.iter().copied())
            .current_dir(place.dir.path())
            .stderr(Stdio::null());
        let process = run(&mut command, &place, [api_port, manage_port]);
        Pebble { place, api_port, manage_port, http_port, tls_port, command, process: Some(process), _names: None }
    }

    /// Ends the server and starts it again; it keeps nothing.
    fn restart(&mut self) {
        self.process = None;
        self.process = Some(run(&mut self.command, &self.place, [self.api_port, self.manage_port]));
    }

    /// Fetches a root: new ones are made at every start.
    pub(crate) fn fetch_root(&self, number: u32, name: &str) {
        let url = format!("https://127.0.0.1:{}/roots/{number}", self.manage_port);
        let got = Command::new("curl")
            .args(["-sSf", "--cacert", "api-root.pem", "-o", name, &url])
            .current_dir(self.place.dir.path())
            .status();
        assert!(got.unwrap().success(), "{url}");
    }

    pub(crate) fn authority_section(&self) -> String {
        format!(
            "contact = \"keeper@lampholm.example\"\nstate = \"state\"\n\n[authority.public]\nkind = \"acme\"\n\
             directory = \"https://127.0.0.1:{}/dir\"\naccept-terms = true\napi-roots = \"api-root.pem\"\n\
             visitor-roots = \"visitor-root.pem\"\n\n",
            self.api_port
        )
    }

    /// An inventory that proves with a listener of our own and puts files in a folder.
    pub(crate) fn write_inventory(&self, certificate: &str) {
        let text = format!(
            "{}[proof.own]\nkind = \"http-listener\"\nlisten = \"127.0.0.1:{2}\"\ncheck-address = \"127.0.0.1:{2}\"\n\n\
             [server.app]\nkind = \"files\"\ncopy = [{{ part = \"bundle\", to = \"app/tls.pem\" }},\n  \
             {{ part = \"key\", to = \"app/tls.key\", mode = \"0640\" }}]\nrun = [\"touch\", \"app/told\"]\n\n\
             [certificate.website]\nnames = [\"lampholm.example\", \"www.lampholm.example\"]\n\
             install = [{{ server = \"app\" }}]\n{1}\n",
            self.authority_section(),
            certificate,
            self.http_port
        );
        self.place.write("eskort.toml", &text);
    }

    fn verify(&self, chain: &str) -> Said {
        self.place.openssl(&["verify", "-CAfile", "visitor-root.pem", "-untrusted", chain, chain])
    }
}

#[test]
fn every_kind_of_key_gets_a_certificate_that_openssl_verifies() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    let kinds = [
        ("p256", "prime256v1"),
        ("p384", "secp384r1"),
        ("rsa2048", "(2048 bit)"),
        ("rsa3072", "(3072 bit)"),
        ("rsa4096", "(4096 bit)"),
    ];
    for (n, (kind, said)) in kinds.into_iter().enumerate() {
        pebble.write_inventory(&format!("key = \"{kind}\"\n"));
        pebble.place.run(&["keep"]).check(0, &[&format!("generation {} stored and put in place", n + 1), "confirmed"]);
        pebble.verify("app/tls.pem").check(0, &["app/tls.pem: OK"]);
        let text = pebble.place.openssl(&["x509", "-in", "app/tls.pem", "-noout", "-text"]);
        text.check(0, &[said, "DNS:lampholm.example, DNS:www.lampholm.example"]);
        let public = |words: &[&str]| pebble.place.openssl(words).out;
        let of_key = public(&["pkey", "-in", "app/tls.key", "-pubout"]);
        assert_eq!(of_key, public(&["x509", "-in", "app/tls.pem", "-noout", "-pubkey"]), "{kind}");
    }
    assert!(pebble.place.path("app/told").exists(), "the server's command ran");
    assert_eq!(pebble.place.mode("app/tls.key"), 0o640);
    for generation in ["0001", "0005"] {
        assert_eq!(pebble.place.mode(&format!("state/certificates/website/{generation}/key.pem")), 0o600);
    }
}

#[test]
fn renews_in_time_with_a_new_key_or_the_same() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("");
    pebble.place.run(&["keep"]).check(0, &["generation 1 stored and put in place"]);
    let first = pebble.place.read("app/tls.key");
    pebble.place.run(&["keep"]).check(0, &["nothing to do; renewal on"]);
    // Its certificates are good for five years: four years on, renewal is due.
    let four_years = (4 * 365 * 86_400).to_string();
    let later = |words: &[&str]| pebble.place.run_with("ESKORT_CLOCK_OFFSET", &four_years, words);
    later(&["list"]).check(4, &["renewal due"]);
    later(&["keep", "--plan"]).check(0, &["get a new certificate (generation 2): renewal is due"]);
    later(&["keep"]).check(0, &["generation 2 stored and put in place"]);
    let second = pebble.place.read("app/tls.key");
    assert_ne!(first, second, "a new key for each generation");
    pebble.write_inventory("keep-key = true\n");
    let nine_years = (8 * 365 * 86_400).to_string();
    let said = pebble.place.run_with("ESKORT_CLOCK_OFFSET", &nine_years, &["keep"]);
    said.check(0, &["generation 3 stored and put in place"]);
    assert_eq!(second, pebble.place.read("app/tls.key"), "the inventory says to keep the key");
}

#[test]
fn prefers_the_chain_up_to_the_top_issuer_of_the_inventory() {
    let pebble = Pebble::start(
        &[("PEBBLE_VA_NOSLEEP", "1"), ("PEBBLE_ALTERNATE_ROOTS", "2"), ("PEBBLE_CHAIN_LENGTH", "2")],
        false,
    );
    pebble.fetch_root(2, "visitor-root.pem");
    let subject =
        pebble.place.openssl(&["x509", "-in", "visitor-root.pem", "-noout", "-subject", "-nameopt", "multiline"]);
    let top =
        subject.out.lines().find_map(|l| l.split_once("commonName")).unwrap().1.trim_matches([' ', '=']).to_owned();
    pebble.write_inventory("");
    let text = pebble.place.read("eskort.toml");
    let text = text.replace("accept-terms = true", &format!("accept-terms = true\ntop-issuer = \"{top}\""));
    pebble.place.write("eskort.toml", &text);
    pebble.place.run(&["keep"]).check(0, &["generation 1 stored and put in place"]);
    pebble.verify("app/tls.pem").check(0, &["OK"]);
    pebble.fetch_root(0, "other-root.pem");
    let other =
        pebble.place.openssl(&["verify", "-CAfile", "other-root.pem", "-untrusted", "app/tls.pem", "app/tls.pem"]);
    assert_ne!(other.code, Some(0), "the usual chain was not taken");
}

#[test]
fn an_authority_for_customers_wants_the_external_account() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], true);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("");
    pebble.place.run(&["keep"]).check(1, &["requires an external account", "external-key-id"]);
    let text = pebble.place.read("eskort.toml").replace(
        "accept-terms = true",
        "accept-terms = true\nexternal-key-id = \"lamp-1\"\nexternal-key-file = \"mac\"",
    );
    pebble.place.write("eskort.toml", &text);
    pebble.place.write("mac", "zWNDZM6eQGHWpSRTPal5eIUYFTu7EajVIoguysqZ9wG44nMEtx3MUAsUDkMTQ12W\n");
    pebble.place.run(&["keep"]).check(0, &["generation 1 stored and put in place"]);
}

#[test]
fn control_is_proved_in_the_tls_handshake() {
    let pebble = Pebble::start(&[], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("");
    let http = format!(
        "kind = \"http-listener\"\nlisten = \"127.0.0.1:{0}\"\ncheck-address = \"127.0.0.1:{0}\"",
        pebble.http_port
    );
    let tls = format!(
        "kind = \"tls-listener\"\nlisten = \"127.0.0.1:{0}\"\ncheck-address = \"127.0.0.1:{0}\"",
        pebble.tls_port
    );
    let text = pebble.place.read("eskort.toml").replace(&http, &tls);
    // Where nobody of ours listens, the authority is not asked to look.
    let elsewhere =
        text.replace(&format!("check-address = \"127.0.0.1:{}\"", pebble.tls_port), "check-address = \"127.0.0.1:9\"");
    pebble.place.write("eskort.toml", &elsewhere);
    pebble.place.run(&["keep"]).check(1, &["lampholm.example at 127.0.0.1:9: Connection refused", "port 443"]);
    assert!(!pebble.place.read("pebble/log").contains("Pulled a task"), "the authority was never told to look");
    pebble.place.write("eskort.toml", &text);
    pebble.place.run(&["keep"]).check(0, &["go on with generation 1 from `ordered`", "confirmed"]);
    pebble.verify("app/tls.pem").check(0, &["OK"]);
}

#[test]
fn addresses_are_certified_beside_names() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("");
    let http = pebble.place.read("eskort.toml");
    let text = http.replace("names = [\"lampholm.example\"", "names = [\"127.0.0.1\", \"::1\", \"lampholm.example\"");
    // One socket for both families.
    let text = text.replace("listen = \"127.0.0.1:", "listen = \"[::]:");
    pebble.place.write("eskort.toml", &text);
    pebble.place.run(&["keep"]).check(0, &["control of 127.0.0.1, ::1, lampholm.example", "confirmed"]);
    pebble.verify("app/tls.pem").check(0, &["app/tls.pem: OK"]);
    let text = pebble.place.openssl(&["x509", "-in", "app/tls.pem", "-noout", "-ext", "subjectAltName"]);
    text.check(0, &["IP Address:127.0.0.1", "IP Address:0:0:0:0:0:0:0:1", "DNS:lampholm.example"]);

    // In the TLS handshake as well, where an address is asked for by its reverse name.
    let listener = |port| format!("listen = \"127.0.0.1:{port}\"\ncheck-address = \"127.0.0.1:{port}\"");
    let tls =
        http.replace("http-listener", "tls-listener").replace(&listener(pebble.http_port), &listener(pebble.tls_port));
    pebble.place.write("eskort.toml", &tls.replace("names = [\"lampholm.example\"", "names = [\"127.0.0.1\""));
    pebble.place.run(&["keep", "--drop-names"]).check(0, &["generation 2 stored", "confirmed"]);
}

#[test]
fn an_account_whose_key_is_lost_or_whose_authority_forgot_it_is_made_anew() {
    let mut pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("");
    pebble.place.run(&["keep"]).check(0, &["a new account", "generation 1 stored and put in place"]);
    std::fs::remove_file(pebble.place.path("state/accounts/public.key.pem")).unwrap();
    pebble.write_inventory("key = \"p384\"");
    pebble.place.run(&["keep"]).check(0, &["a new account", "generation 2 stored and put in place"]);
    // It keeps everything in memory: begun again it knows nobody.
    pebble.restart();
    pebble.fetch_root(0, "visitor-root.pem");
    pebble.write_inventory("key = \"p256\"");
    pebble.place.run(&["keep"]).check(0, &["a new account", "generation 3 stored and put in place"]);
    pebble.place.run(&["keep"]).check(0, &["nothing to do"]);
}

#[test]
fn an_account_key_that_somebody_brings_may_be_of_another_kind() {
    let pebble = Pebble::start(&[("PEBBLE_VA_NOSLEEP", "1")], false);
    pebble.fetch_root(0, "visitor-root.pem");
    std::fs::create_dir_all(pebble.place.path("state/accounts")).unwrap();
    let kinds: [(&[&str], &str); 2] = [
        (&["-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:3072"], "p256"),
        (&["-algorithm", "EC", "-pkeyopt", "ec_paramgen_curve:P-384"], "p384"),
    ];
    for (kind, certificate) in kinds {
        let made = pebble.place.openssl(&[&["genpkey", "-out", "state/accounts/public.key.pem"], kind].concat());
        made.check(0, &[]);
        pebble.write_inventory(&format!("key = \"{certificate}\""));
        pebble.place.run(&["keep"]).check(0, &["a new account", "stored and put in place"]);
    }
}
