//! What is around an endpoint: the logs that vouch for its certificate, what its domain says, what it was like before; and endpoints of every kind.

use crate::bind::{Bind, KEY};
use crate::looks::certificates;
use crate::rating::look;
use crate::world::*;
use eskort_core::pki::{base64, sha256};
use std::collections::BTreeSet;
use std::net::SocketAddr;
use std::process::Command;

/// A log of one's own: its key, and the promises that it makes.
struct Log<'a> {
    place: &'a Place,
    name: &'static str,
    spki: Vec<u8>,
}

impl<'a> Log<'a> {
    fn new(place: &'a Place, name: &'static str) -> Self {
        let key = format!("{name}.key");
        run(place, &format!("genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out {key}"));
        run(place, &format!("pkey -in {key} -pubout -outform DER -out {name}.der"));
        Log { place, name, spki: std::fs::read(place.path(&format!("{name}.der"))).unwrap() }
    }

    /// Promises a certificate (RFC 6962 section 3.2): `kind` 0 for one that is whole, 1 for what is to have the promise in it.
    fn promise(&self, kind: u16, entry: &[u8]) -> Vec<u8> {
        let at = u64::try_from(jiff::Timestamp::now().as_millisecond()).unwrap() - 60_000;
        let length = &u32::try_from(entry.len() - usize::from(kind) * 32).unwrap().to_be_bytes()[1..];
        let (issuer, body) = entry.split_at(usize::from(kind) * 32);
        let signed = [&[0, 0][..], &at.to_be_bytes(), &kind.to_be_bytes(), issuer, length, body, &[0, 0]].concat();
        std::fs::write(self.place.path("signed"), signed).unwrap();
        run(self.place, &format!("dgst -sha256 -sign {}.key -out signature signed", self.name));
        let signature = std::fs::read(self.place.path("signature")).unwrap();
        let length = u16::try_from(signature.len()).unwrap().to_be_bytes();
        [&[0][..], &sha256(&self.spki), &at.to_be_bytes(), &[0, 0, 4, 3], &length, &signature].concat()
    }
}

fn vector(bytes: &[u8]) -> Vec<u8> {
    [&u16::try_from(bytes.len()).unwrap().to_be_bytes()[..], bytes].concat()
}

fn list(promises: &[Vec<u8>]) -> Vec<u8> {
    vector(&promises.iter().flat_map(|promise| vector(promise)).collect::<Vec<_>>())
}

#[track_caller]
fn run(place: &Place, line: &str) {
    place.openssl(&line.split_whitespace().collect::<Vec<_>>()).check(0, &[]);
}

/// Issues a certificate for the trust's names, always with the same number and dates; `extension` is one more line for it.
fn issue(place: &Place, extension: &str, name: &str) {
    place.write("serial", "4711\n");
    place.write("index", "");
    place.write(
        "ca.cnf",
        &format!(
            "[ca]\ndefault_ca=a\n[a]\ndir=.\ndatabase=index\nserial=serial\nnew_certs_dir=.\ncertificate=root.pem\nprivate_key=root.key\n\
             default_md=sha256\npolicy=any\ncopy_extensions=copy\nunique_subject=no\n[any]\ncommonName=optional\n[leaf]\nbasicConstraints=CA:false\n{extension}\n"
        ),
    );
    let day = |days: i64| {
        (jiff::Timestamp::now() + jiff::SignedDuration::from_hours(24 * days)).strftime("%y%m%d000000Z").to_string()
    };
    run(
        place,
        &format!(
            "ca -batch -config ca.cnf -extensions leaf -in own.csr -out {name} -notext -startdate {} -enddate {}",
            day(-3),
            day(80)
        ),
    );
}

fn der(place: &Place, pem: &str) -> Vec<u8> {
    run(place, &format!("x509 -in {pem} -outform DER -out der"));
    std::fs::read(place.path("der")).unwrap()
}

#[test]
fn the_promises_of_logs_are_those_that_openssl_takes_too() {
    let place = Place::new();
    certificates(&place);
    run(
        &place,
        "req -new -newkey rsa:2048 -nodes -keyout own.key -out own.csr -subj /CN=x -addext subjectAltName=DNS:lampholm.example",
    );
    let (tower, harbour, stranger) =
        (Log::new(&place, "tower"), Log::new(&place, "harbour"), Log::new(&place, "stranger"));
    // What is to have the promises in it is promised without them.
    issue(&place, "", "plain.pem");
    der(&place, "plain.pem");
    run(&place, "asn1parse -inform DER -in der -strparse 4 -noout -out tbs");
    let tbs = std::fs::read(place.path("tbs")).unwrap();
    run(&place, "x509 -in root.pem -noout -pubkey -out root.pub");
    run(&place, "pkey -pubin -in root.pub -outform DER -out root.spki");
    let entry = [&sha256(&std::fs::read(place.path("root.spki")).unwrap())[..], &tbs].concat();
    let issue_with = |promises: &[Vec<u8>], name: &str| {
        let list = list(promises);
        let [high, low] = u16::try_from(list.len()).unwrap().to_be_bytes();
        let head = match (high, low) {
            (0, 0..128) => vec![4, low],
            (0, _) => vec![4, 0x81, low],
            _ => vec![4, 0x82, high, low],
        };
        let value = [&head[..], &list].concat();
        let hex: String = value.iter().map(|byte| format!("{byte:02x}")).collect();
        issue(&place, &format!("1.3.6.1.4.1.11129.2.4.2=DER:{hex}"), name);
    };
    let mut wrong = harbour.promise(1, &entry);
    *wrong.last_mut().unwrap() ^= 1;
    issue_with(&[tower.promise(1, &entry), harbour.promise(1, &entry)], "two.pem");
    issue_with(&[tower.promise(1, &entry), stranger.promise(1, &entry)], "strange.pem");
    issue_with(&[tower.promise(1, &entry), wrong], "wrong.pem");
    // Another certificate than the one that was promised.
    issue_with(&[tower.promise(1, &[&entry[..], &[0]].concat())], "other.pem");
    let pem: String = [&tower, &harbour]
        .iter()
        .map(|log| {
            format!("# {}\n{}", log.name, place.openssl(&["pkey", "-in", &format!("{}.key", log.name), "-pubout"]).out)
        })
        .collect();
    place.write("logs.pem", &pem);
    let json = [&tower, &harbour].map(|log| serde_json::json!({ "description": log.name, "key": base64(&log.spki) }));
    place.write("logs.json", &serde_json::json!({ "operators": [{ "logs": json }] }).to_string());
    let sections =
        [&tower, &harbour].map(|log| format!("[{}]\ndescription = {0}\nkey = {}\n", log.name, base64(&log.spki)));
    place.write("logs.cnf", &format!("enabled_logs=tower,harbour\n{}", sections.concat()));
    // In the handshake, about the certificate as it is.
    let delivered = list(&[tower.promise(0, &der(&place, "plain.pem")), harbour.promise(0, &der(&place, "plain.pem"))]);
    for (name, context) in [("info.pem", [0, 0, 1, 0xd0]), ("info13.pem", [0, 0, 0x10, 0x80])] {
        let info = [&context[..], &[0, 18], &vector(&delivered)].concat();
        let mark = |word: &str| format!("-----{word} SERVERINFOV2 FOR SCT-----\n");
        place.write(name, &format!("{}{}\n{}", mark("BEGIN"), base64(&info), mark("END")));
    }
    for (words, said, theirs) in [
        ("-cert plain.pem", "", &[][..]),
        (
            "-cert two.pem",
            "2 logs vouch that the certificate is public (SCT): `harbour` and `tower`",
            &["valid", "valid"],
        ),
        ("-cert strange.pem", "1 promise by logs that are not in the list", &["unknown log", "valid"]),
        ("-cert wrong.pem", "what should be the promise of log `harbour` is not by it", &["invalid", "valid"]),
        ("-cert other.pem", "what should be the promise of log `tower` is not by it", &["invalid"]),
        (
            "-cert plain.pem -serverinfo info.pem -tls1_2",
            "2 logs vouch that the certificate is public (SCT)",
            &["valid", "valid"],
        ),
        (
            "-cert plain.pem -serverinfo info13.pem -tls1_3 -ciphersuites TLS_AES_128_GCM_SHA256",
            "2 logs vouch that the certificate is public (SCT): `harbour` and `tower`",
            &["valid", "valid"],
        ),
        (
            "-cert plain.pem -serverinfo info13.pem -tls1_3 -curves P-256 -ciphersuites TLS_AES_256_GCM_SHA384",
            "2 logs vouch that the certificate is public (SCT): `harbour` and `tower`",
            &["valid", "valid"],
        ),
        (
            "-cert plain.pem -serverinfo info13.pem -tls1_3 -curves P-384 -ciphersuites TLS_CHACHA20_POLY1305_SHA256",
            "2 logs vouch that the certificate is public (SCT): `harbour` and `tower`",
            &["valid", "valid"],
        ),
    ] {
        let port = free_port();
        let at = SocketAddr::from(([127, 0, 0, 1], port));
        let _server = openssl_server(&place, at, &format!("-www -key own.key -cert_chain root.pem {words}"));
        let client = Command::new("openssl")
            .args([
                "s_client",
                "-connect",
                &at.to_string(),
                "-servername",
                "lampholm.example",
                "-CAfile",
                "root.pem",
                "-ct",
            ])
            .args(["-ctlogfile", "logs.cnf"])
            .current_dir(place.dir.path())
            .stdin(std::process::Stdio::null())
            .output()
            .unwrap();
        let text = String::from_utf8_lossy(&client.stdout).into_owned();
        let mut statuses: Vec<&str> = text.lines().filter_map(|line| line.split("alidation status: ").nth(1)).collect();
        statuses.sort_unstable();
        assert_eq!(statuses, theirs, "{words}: {text}");
        let at = at.to_string();
        for logs in ["logs.pem", "logs.json"] {
            let checked =
                place.run(&["check", "lampholm.example", "--address", &at, "--roots", "root.pem", "--logs", logs]);
            checked.check(4, &[said]);
            assert_eq!(checked.out.contains("transparency"), !said.is_empty(), "{words}: {checked}");
        }
    }
    // Where the system's roots vouch for it, browsers want two; without keys signatures are not checked.
    for (name, said) in [
        ("plain.pem", "no log vouches that it has the certificate"),
        ("other.pem", "only 1 log vouches that it has the certificate"),
        ("two.pem", "2 logs vouch that the certificate is public (SCT); their signatures were not checked"),
    ] {
        let at = SocketAddr::from(([127, 0, 0, 1], free_port()));
        let _server = openssl_server(&place, at, &format!("-www -key own.key -cert_chain root.pem -cert {name}"));
        let root = place.path("root.pem").display().to_string();
        let words = ["check", "lampholm.example", "--address", &at.to_string()];
        place.run_with("SSL_CERT_FILE", &root, &words).check(4, &[said]);
    }
    place.write("none.pem", "nothing\n");
    place.run(&["check", "lampholm.example", "--logs", "none.pem"]).check(2, &["there is no public key in it"]);
}

/// A resolver that checks signatures, with a key of the zone to trust.
fn checking_resolver(place: &Place, ip: &str, key: &str) -> Process {
    let dir = place.path(&format!("resolver-{ip}"));
    std::fs::create_dir(&dir).unwrap();
    std::fs::write(dir.join("above"), "$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\nns1 A 127.0.0.1\n").unwrap();
    let config = format!(
        "controls {{ }};\noptions {{ directory \"{0}\"; pid-file none; session-keyfile none; recursion yes; dnssec-validation yes; \
         listen-on-v6 {{ none; }}; listen-on {{ {ip}; }}; }};\ntrust-anchors {{ \"lampholm.example\" static-key {key}; }};\n\
         zone \"example\" {{ type primary; file \"above\"; }};\n\
         zone \"lampholm.example\" {{ type static-stub; server-addresses {{ 127.0.77.1; }}; }};\n",
        dir.display()
    );
    std::fs::write(dir.join("named.conf"), config).unwrap();
    let log = std::fs::File::create(dir.join("log")).unwrap();
    let child = Command::new("/usr/sbin/named").args(["-g", "-c"]).arg(dir.join("named.conf")).stderr(log).spawn();
    await_server(SocketAddr::new(ip.parse().unwrap(), 53), "the resolver");
    Process(child.unwrap())
}

#[test]
fn what_the_domain_says_is_told_and_weighed() {
    let test = "endpoints::what_the_domain_says_is_told_and_weighed";
    let addresses = "for n in 1 2 3; do ip addr add 127.0.77.$n/8 dev lo; done &&";
    if in_a_network_of_its_own(test, addresses, "nameserver 127.0.77.1\n", "") {
        return;
    }
    let place = Place::new();
    certificates(&place);
    let bind = Bind::signing_at("127.0.77.1:53".parse().unwrap());
    let _server = openssl_server(
        &place,
        "127.0.0.1:443".parse().unwrap(),
        "-www -key leaf.key -cert leaf.pem -cert_chain middle.pem",
    );
    let dig = |words: &[&str]| {
        let said = Command::new("dig").args(["+short", "@127.0.77.1"]).args(words).output().unwrap();
        String::from_utf8_lossy(&said.stdout).into_owned()
    };
    until("the zone is signed", || dig(&["lampholm.example", "DNSKEY"]).contains("257 3 13"));
    let key = dig(&["lampholm.example", "DNSKEY"]).lines().find(|line| line.starts_with("257")).unwrap().to_owned();
    let mut parts = key.split_whitespace();
    let numbers: Vec<&str> = parts.by_ref().take(3).collect();
    let text: String = parts.collect();
    let trusted = format!("{} \"{text}\"", numbers.join(" "));
    // Another key on the same curve.
    run(&place, "genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out else.key");
    run(&place, "pkey -in else.key -pubout -outform DER -out else.der");
    let point = std::fs::read(place.path("else.der")).unwrap();
    let other = format!("257 3 13 \"{}\"", base64(&point[point.len() - 64..]));
    let _good = checking_resolver(&place, "127.0.77.2", &trusted);
    let _broken = checking_resolver(&place, "127.0.77.3", &other);
    let change = |lines: &str| {
        place.write("zone.key", KEY);
        place.write("change", &format!("server 127.0.77.1\nzone lampholm.example\n{lines}send\n"));
        let done = Command::new("nsupdate").args(["-k", "zone.key", "change"]).current_dir(place.dir.path()).status();
        assert!(done.unwrap().success());
    };
    let asked = |resolver: &str| {
        std::fs::write("/etc/resolv.conf", format!("nameserver {resolver}\n")).unwrap();
        let said = place.run(&["check", "lampholm.example", "--roots", "root.pem"]);
        assert!(matches!(said.code, Some(0 | 1 | 4)), "{said}");
        said
    };
    // Records live a minute in a resolver's memory: names that nobody has asked for yet.
    let first = asked("127.0.77.1");
    first.check(0, &["no CAA record of lampholm.example says who may issue", "no-caa -1"]);
    assert!(!first.out.contains("DNSSEC") && !first.out.contains("tlsa"), "{first}");
    change("update add lampholm.example 60 CAA 0 issue \"ca.example\"\n");
    run(&place, "x509 -in leaf.pem -noout -pubkey -out leaf.pub");
    run(&place, "pkey -pubin -in leaf.pub -outform DER -out leaf.spki");
    let digest: String =
        sha256(&std::fs::read(place.path("leaf.spki")).unwrap()).iter().map(|byte| format!("{byte:02x}")).collect();
    change(&format!("update add _443._tcp.lampholm.example 1 TLSA 3 1 1 {digest}\n"));
    let good = asked("127.0.77.2");
    good.check(
        0,
        &["the CAA records of lampholm.example let ca.example issue", "the resolver has checked it (DNSSEC)"],
    );
    good.check(0, &["a TLSA record at _443._tcp.lampholm.example fits what is shown"]);
    asked("127.0.77.1").check(4, &["the zone is not signed: they count for nobody"]);
    change(&format!(
        "update delete _443._tcp.lampholm.example TLSA\nupdate add _443._tcp.lampholm.example 1 TLSA 3 1 1 {}\n",
        "00".repeat(32)
    ));
    std::thread::sleep(std::time::Duration::from_millis(2100));
    asked("127.0.77.2").check(1, &["no TLSA record at _443._tcp.lampholm.example fits what is shown"]);
    // The name itself is in nobody's reach where the signatures do not fit; its address is known otherwise.
    std::fs::write("/etc/hosts", "127.0.0.1 lampholm.example\n").unwrap();
    asked("127.0.77.3").check(1, &["the signatures of its zone do not fit (DNSSEC)", "zone-broken"]);
    drop(bind);
}

#[test]
fn a_close_look_says_what_has_changed_since_the_last_one() {
    let world = World::new();
    let place = &world.place;
    place.run(&["keep"]).check(0, &["generation 1 installed"]);
    let first = place.run(&["check", "website"]);
    assert!(!first.out.contains("before"), "{first}");
    place.run(&["check", "website"]).check(0, &["before", "the same on"]);
    world.site.treat(eskort_practice::Manners {
        hsts: Some("max-age=31536000".into()),
        cookie: Some("lamp=lit".into()),
        ..Default::default()
    });
    place.run(&["check", "website"]).check(4, &["gone since: no-hsts; new: insecure-cookie"]);
    let (endpoint, _) = look(place, &["website"]);
    assert_eq!(endpoint["before"]["points"], endpoint["rating"]["points"]);
    // A short look is none to compare with.
    place.run(&["check", "website", "--short"]).check(0, &[]);
    // Three days on, the site shows what it had before.
    place.run(&["renew", "website"]).check(0, &["generation 2 installed"]);
    for kind in ["pem", "key"] {
        let part = if kind == "pem" { "bundle.pem" } else { "key.pem" };
        place.write(&format!("tls/site.{kind}"), &place.read(&format!("state/certificates/website/0001/{part}")));
    }
    until_it_stays("the old one is shown", || {
        place.run(&["check", "website", "--short"]).out.contains("still generation 1")
    });
    world.on_day(3, &["check", "website", "--short"]).check(1, &["still generation 1, not 2, which came 3 days ago"]);
}

/// A server that is looked at whole: its lines, how it is started, and what was said before TLS.
struct Kind {
    name: &'static str,
    files: &'static [(&'static str, &'static str)],
    start: &'static str,
    says: &'static str,
}

const KINDS: [Kind; 3] = [
    Kind {
        name: "Apache",
        files: &[(
            "httpd.conf",
            "ServerRoot {dir}\nPidFile {dir}/pid\nErrorLog {dir}/error.log\nUser daemon\nGroup daemon\n\
             LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\nLoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\n\
             LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so\nListen 127.0.0.1:{port}\nServerName lampholm.example\nSSLEngine on\n\
             SSLCertificateFile {dir}/whole.pem\nSSLCertificateKeyFile {dir}/leaf.key\nSSLProtocol -all +TLSv1.2 +TLSv1.3\nSSLCipherSuite ECDHE+AESGCM\n",
        )],
        start: "apache2 -f {dir}/httpd.conf -DFOREGROUND",
        says: "TLS 1.3",
    },
    Kind {
        name: "HAProxy",
        files: &[(
            "haproxy.cfg",
            "defaults\n  mode http\n  timeout client 60s\n  timeout server 1s\n  timeout connect 1s\nfrontend web\n  bind 127.0.0.1:{port} ssl crt {dir}/both.pem \
             ssl-min-ver TLSv1.2 ciphers ECDHE+AESGCM alpn h2,http/1.1\n  http-request return status 200 content-type text/plain string lit\n",
        )],
        start: "haproxy -db -f {dir}/haproxy.cfg",
        says: "TLS 1.3",
    },
    Kind {
        name: "vsftpd",
        files: &[(
            "vsftpd.conf",
            "listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nrun_as_launching_user=YES\nanonymous_enable=YES\nanon_root={dir}\n\
             allow_writeable_chroot=YES\nssl_enable=YES\nallow_anon_ssl=YES\nrsa_cert_file={dir}/both.pem\nseccomp_sandbox=NO\nssl_ciphers=ECDHE+AESGCM\n",
        )],
        start: "vsftpd {dir}/vsftpd.conf",
        says: "TLS 1.3, begun by",
    },
];

#[test]
fn servers_of_every_kind_are_looked_at_whole() {
    let place = Place::new();
    certificates(&place);
    std::fs::set_permissions(place.dir.path(), std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    let whole = place.read("leaf.pem") + &place.read("middle.pem");
    place.write("whole.pem", &whole);
    place.write("both.pem", &(whole + &place.read("leaf.key")));
    for Kind { name, files, start, says } in KINDS {
        let port = free_port();
        let filled = |text: &str| {
            text.replace("{dir}", &place.dir.path().display().to_string()).replace("{port}", &port.to_string())
        };
        files.iter().for_each(|(file, text)| drop(place.write(file, &filled(text))));
        let words = filled(start);
        let words: Vec<&str> = words.split(' ').collect();
        let child = Command::new(words[0]).args(&words[1..]).stdin(std::process::Stdio::null()).spawn();
        let _server = Process(child.unwrap_or_else(|e| panic!("{name} (scripts/test installs it): {e}")));
        await_port(port, name);
        let at = format!("127.0.0.1:{port}");
        let (endpoint, codes) = look(&place, &["lampholm.example", "--address", &at, "--roots", "root.pem"]);
        let inspection = &endpoint["inspection"];
        assert_eq!(inspection["unanswered"], 0, "{name}: {endpoint:#}");
        let versions: Vec<&str> =
            inspection["versions"].as_array().unwrap().iter().map(|one| one["version"].as_str().unwrap()).collect();
        assert_eq!(versions, ["TLS 1.2", "TLS 1.3"], "{name}: {endpoint:#}");
        let of_the_web: BTreeSet<String> = ["no-post-quantum", "no-hsts"].map(str::to_owned).into();
        assert!(codes.is_subset(&of_the_web), "{name}: {codes:?}");
        place.run(&["check", "lampholm.example", "--address", &at, "--roots", "root.pem"]).check(0, &[says, "modern"]);
    }
}

#[test]
fn a_server_of_tls_13_alone_shows_both_of_its_keys() {
    let place = Place::new();
    certificates(&place);
    run(&place, "req -x509 -newkey rsa:2048 -nodes -subj /CN=lampholm.example -keyout rsa.key -out rsa.pem -days 9");
    let at = SocketAddr::from(([127, 0, 0, 1], free_port()));
    let _server = openssl_server(
        &place,
        at,
        "-www -tls1_3 -cert leaf.pem -key leaf.key -cert_chain middle.pem -dcert rsa.pem -dkey rsa.key",
    );
    let (endpoint, _) = look(&place, &["lampholm.example", "--address", &at.to_string(), "--roots", "root.pem"]);
    let mut keys: Vec<&str> =
        endpoint["inspection"]["keys"].as_array().unwrap().iter().filter_map(|key| key.as_str()).collect();
    keys.sort_unstable();
    assert_eq!(keys, ["P-256", "RSA with 2048 bits"], "{endpoint:#}");
}
