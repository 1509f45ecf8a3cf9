//! Keys, requests and chains, with OpenSSL on the other side.

#![expect(clippy::unwrap_used, reason = "a test stops at the first thing that is not as it should be")]
#![expect(clippy::disallowed_methods, clippy::disallowed_types, reason = "OpenSSL works on files, unlike the crate")]

mod ocsp;

use eskort_pki::names::Identifier;
use eskort_pki::{
    Anchors, AssembledChain, Certificate, Chain, ChainError, ChainFault, ChainNote, CsrSpecification, Intake,
    IntakeError, KeyKind, LeftAside, PrivateKey, Secret, assemble, make_csr, parse_csr, to_pkcs7,
};
use std::path::Path;
use std::process::Command;

#[test]
fn containers_that_openssl_has_packed_are_opened() {
    let dir = tempfile::tempdir().unwrap();
    openssl(dir.path(), "req -x509 -newkey rsa:2048 -nodes -keyout key.pem -out leaf.pem -subj /CN=lampholm.example");
    let take = |bytes: &[u8], word: &str| {
        let mut intake = Intake::default();
        intake.take("leaf.pfx", bytes, Some(&Secret::new(word.to_owned()))).map(|()| intake)
    };
    let forms = [
        ("", "wick\u{1f56f}"),
        ("", "wick"),
        ("", ""),
        ("-legacy", "wick\u{1f56f}"),
        ("-legacy", "wick"),
        ("-certpbe PBE-SHA1-3DES -legacy", "wick"),
        ("-certpbe PBE-SHA1-RC2-128 -keypbe PBE-SHA1-RC2-128 -legacy", "wick"),
        ("-certpbe AES-128-CBC -keypbe AES-192-CBC", "wick"),
        ("-macalg sha224", "wick"),
        ("-macalg sha384", "wick"),
        ("-macalg sha512", "wick\u{1f56f}"),
        ("-nomac", "wick"),
        ("-keypbe NONE -certpbe NONE", "wick\u{1f56f}"),
    ];
    for (form, word) in forms {
        openssl(
            dir.path(),
            &format!("pkcs12 -export -in leaf.pem -inkey key.pem -out leaf.pfx -passout pass:{word} {form}"),
        );
        let bytes = std::fs::read(dir.path().join("leaf.pfx")).unwrap();
        let intake = take(&bytes, word).unwrap_or_else(|error| panic!("{form}: {error}"));
        let [leaf] = &intake.certificates[..] else { panic!("{form}: {:?}", intake.left_aside) };
        assert!(intake.keys[0].fits(leaf.public_key()), "{form}");
        for wrong in ["oil", "tallow", "resin"] {
            let said = take(&bytes, wrong).unwrap_err().to_string();
            assert!(said.contains("the password does not open"), "{form}: {said}");
        }
        // Cut or changed anywhere, it is an error and nothing worse.
        for at in (0..bytes.len()).step_by(97) {
            let mut changed = bytes.clone();
            changed[at] ^= 0x55;
            let _ = take(&changed, word);
        }
    }
}

fn names(texts: &[&str]) -> Vec<Identifier> {
    texts.iter().map(|text| text.parse().unwrap()).collect()
}

/// Runs openssl in a folder, and returns what it says on both streams.
#[track_caller]
fn openssl(dir: &Path, line: &str) -> String {
    let words = line.split_whitespace();
    let output = Command::new("openssl").args(words).current_dir(dir).output().expect("openssl is installed");
    let said = String::from_utf8_lossy(&[output.stdout, output.stderr].concat()).into_owned();
    assert!(output.status.success(), "openssl {line}\n{said}");
    said
}

fn pem(label: &str, der: &[u8]) -> String {
    use std::fmt::Write;
    let body = base64::Engine::encode(&base64::engine::general_purpose::STANDARD, der);
    let mut text = format!("-----BEGIN {label}-----\n");
    for line in body.as_bytes().chunks(64) {
        writeln!(text, "{}", std::str::from_utf8(line).unwrap()).unwrap();
    }
    text + &format!("-----END {label}-----\n")
}

#[test]
fn openssl_takes_our_keys_and_requests_of_every_kind() {
    let dir = tempfile::tempdir().unwrap();
    for (kind, said) in [
        (KeyKind::P256, "ASN1 OID: prime256v1"),
        (KeyKind::P384, "ASN1 OID: secp384r1"),
        (KeyKind::Rsa2048, "Public-Key: (2048 bit)"),
        (KeyKind::Rsa3072, "Public-Key: (3072 bit)"),
        (KeyKind::Rsa4096, "Public-Key: (4096 bit)"),
    ] {
        let key = PrivateKey::generate(kind).unwrap();
        std::fs::write(dir.path().join("key.pem"), key.to_pem().reveal()).unwrap();
        openssl(dir.path(), "pkey -in key.pem -check -noout");
        let csr =
            make_csr(&key, &names(&["lampholm.example", "*.archive.lampholm.example"]), &CsrSpecification::default())
                .unwrap();
        std::fs::write(dir.path().join("request.pem"), pem("CERTIFICATE REQUEST", &csr)).unwrap();
        let text = openssl(dir.path(), "req -in request.pem -verify -noout -text");
        assert!(text.contains("verify OK") && text.contains(said), "{text}");
        assert!(text.contains("DNS:lampholm.example, DNS:*.archive.lampholm.example"), "{text}");
        let public = openssl(dir.path(), "req -in request.pem -noout -pubkey");
        assert_eq!(public, openssl(dir.path(), "pkey -in key.pem -pubout"));
    }
}

#[test]
fn we_take_openssls_keys_and_requests() {
    let dir = tempfile::tempdir().unwrap();
    for (line, kind) in [
        ("genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-256 -out key.pem", KeyKind::P256),
        ("genpkey -algorithm EC -pkeyopt ec_paramgen_curve:P-384 -out key.pem", KeyKind::P384),
        ("genpkey -algorithm RSA -pkeyopt rsa_keygen_bits:2048 -out key.pem", KeyKind::Rsa2048),
    ] {
        openssl(dir.path(), line);
        let text = std::fs::read_to_string(dir.path().join("key.pem")).unwrap();
        let key = PrivateKey::from_pem(&Secret::new(text)).unwrap();
        assert_eq!(key.kind(), kind);
        let digest = if kind == KeyKind::P384 { "-sha384" } else { "-sha256" };
        let extension = "-addext subjectAltName=DNS:Lampholm.example,IP:192.0.2.7,email:keeper@lampholm.example";
        openssl(
            dir.path(),
            &format!("req -new -key key.pem {digest} -subj /CN=x {extension} -outform DER -out request.der"),
        );
        let facts = parse_csr(&std::fs::read(dir.path().join("request.der")).unwrap()).unwrap();
        assert_eq!(facts.identifiers().unwrap(), names(&["lampholm.example", "192.0.2.7"]));
        assert!(key.fits(&facts.public_key));
    }
}

/// Makes a root, an intermediate and a leaf with openssl; returns them as PEM texts.
fn openssl_chain(dir: &Path) -> [String; 3] {
    std::fs::write(dir.join("ca.ext"), "basicConstraints=critical,CA:true\n").unwrap();
    std::fs::write(dir.join("leaf.ext"), "subjectAltName=DNS:lampholm.example,DNS:www.lampholm.example\n").unwrap();
    let key = "-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes";
    openssl(dir, &format!("req -x509 {key} -keyout root.key -out root.pem -subj /CN=Root -days 30"));
    for (name, above, ext) in [("middle", "root", "ca.ext"), ("leaf", "middle", "leaf.ext")] {
        openssl(dir, &format!("req -new {key} -keyout {name}.key -out {name}.csr -subj /O=Lampholm/CN={name}"));
        let sign = format!("-CA {above}.pem -CAkey {above}.key -CAcreateserial -extfile {ext} -days 30");
        openssl(dir, &format!("x509 -req -in {name}.csr {sign} -out {name}.pem"));
    }
    ["leaf.pem", "middle.pem", "root.pem"].map(|n| std::fs::read_to_string(dir.join(n)).unwrap())
}

#[test]
fn reads_a_chain_in_order_and_says_what_is_wrong_with_any_other() {
    let dir = tempfile::tempdir().unwrap();
    let [leaf, middle, root] = openssl_chain(dir.path());
    let text = format!("Bag Attributes\n  friendlyName: lamp\n{leaf}some words between\r\n{middle}");
    let chain = Chain::from_pem(&text).unwrap();
    assert_eq!((chain.leaf().subject.as_str(), chain.top_issuer()), ("leaf", "Root"));
    let wanted = names(&["lampholm.example", "www.lampholm.example"]);
    assert!(chain.leaf().names.iter().map(|name| name.usable().unwrap()).eq(&wanted));
    assert!(!chain.leaf().is_ca && chain.certificates()[1].is_ca);
    let fingerprint = openssl(dir.path(), "x509 -in leaf.pem -noout -fingerprint -sha256");
    let bare = fingerprint.split_once('=').unwrap().1.trim().replace(':', "").to_lowercase();
    assert_eq!(chain.leaf().fingerprint().to_string(), bare);
    let serial = openssl(dir.path(), "x509 -in leaf.pem -noout -serial");
    assert_eq!(format!("serial={}", chain.leaf().serial.trim_start_matches("00").to_uppercase()), serial.trim());
    std::fs::write(dir.path().join("bundle.pem"), chain.bundle_pem()).unwrap();
    std::fs::write(dir.path().join("between.pem"), chain.intermediates_pem()).unwrap();
    openssl(dir.path(), "verify -CAfile root.pem -untrusted between.pem bundle.pem");

    let read = |key: &str| std::fs::read_to_string(dir.path().join(key)).unwrap();
    let key = |name: &str| PrivateKey::from_pem(&Secret::new(read(name))).unwrap();
    chain.check_answers(&key("leaf.key"), &wanted).unwrap();
    assert!(matches!(chain.check_answers(&key("root.key"), &[]), Err(ChainError::WrongKey)));
    let lacking = chain.check_answers(&key("leaf.key"), &names(&["shop.lampholm.example"])).unwrap_err();
    assert_eq!(lacking.to_string(), "the certificate lacks shop.lampholm.example");

    let broken = Chain::from_pem(&format!("{leaf}{root}")).unwrap_err();
    assert_eq!(broken.to_string(), "`middle` should come next in the chain, `Root` stands there");
    assert!(matches!(Chain::from_pem("no certificate"), Err(ChainError::Empty)));
    for bad in [leaf.replace("MI", "xx"), leaf[..leaf.len() - 40].to_owned(), leaf.replacen('\n', "\n!!", 2)] {
        assert!(Chain::from_pem(&bad).is_err());
    }
    assert!(Certificate::from_der(&[0x30, 0x03, 1, 2]).is_err());
}

#[test]
fn a_certificate_covers_its_names_and_one_label_below_a_wildcard() {
    let dir = tempfile::tempdir().unwrap();
    let alt = "-addext subjectAltName=DNS:*.lampholm.example,DNS:lampholm.example,IP:2001:db8::7";
    let made =
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout key.pem -out self.pem -subj /O=Trust";
    openssl(dir.path(), &format!("{made} {alt}"));
    let found = Certificate::all_from_pem(&std::fs::read_to_string(dir.path().join("self.pem")).unwrap()).unwrap();
    let own = &found[0];
    assert_eq!((own.subject.as_str(), own.is_self_issued()), ("Trust", true));
    for (name, covered) in [
        ("WWW.lampholm.example", true),
        ("lampholm.example", true),
        ("2001:db8::7", true),
        ("a.b.lampholm.example", false),
        ("xlampholm.example", false),
    ] {
        assert_eq!(own.covers(name), covered, "{name}");
    }
}

/// Makes a CA two deep, its upper one cross-signed, and returns the certificates: leaf, issuer, upper, cross, root, old root.
fn office(dir: &Path) -> Vec<Certificate> {
    std::fs::write(
        dir.join("ext"),
        "[ca]\nbasicConstraints=critical,CA:true\n[leaf]\nsubjectAltName=DNS:lampholm.example\n",
    )
    .unwrap();
    let ec = "-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes";
    for root in ["root", "old"] {
        openssl(dir, &format!("req -x509 {ec} -keyout {root}.key -out {root}.pem -days 900 -subj /CN={root}"));
    }
    for name in ["upper", "issuer", "leaf"] {
        openssl(dir, &format!("req -new {ec} -keyout {name}.key -out {name}.csr -subj /CN={name}"));
    }
    for (csr, above, to, part) in [
        ("upper", "root", "upper", "ca"),
        ("upper", "old", "cross", "ca"),
        ("issuer", "upper", "issuer", "ca"),
        ("leaf", "issuer", "leaf", "leaf"),
    ] {
        let days = if to == "cross" { 100 } else { 800 };
        openssl(
            dir,
            &format!(
                "x509 -req -in {csr}.csr -CA {above}.pem -CAkey {above}.key -CAcreateserial -out {to}.pem -extfile ext -extensions {part} -days {days}"
            ),
        );
    }
    let read = |name: &str| std::fs::read_to_string(dir.join(format!("{name}.pem"))).unwrap();
    let all: String = ["leaf", "issuer", "upper", "cross", "root", "old"].map(read).concat();
    Certificate::all_from_pem(&all).unwrap()
}

fn now() -> jiff::Timestamp {
    jiff::Timestamp::now()
}

fn build(leaf: &Certificate, pool: &[Certificate]) -> AssembledChain {
    assemble(leaf.clone(), pool, &Anchors::default(), now())
}

#[test]
fn any_order_of_a_chain_comes_out_the_same() {
    let dir = tempfile::tempdir().unwrap();
    let all = office(dir.path());
    let wanted: Vec<&str> = vec!["leaf", "issuer", "upper"];
    // Every order of six.
    let mut orders = vec![vec![]];
    for n in 0..all.len() {
        orders = orders
            .into_iter()
            .flat_map(|order: Vec<usize>| (0..=n).map(move |at| [&order[..at], &[n], &order[at..]].concat()))
            .collect();
    }
    assert_eq!(orders.len(), 720);
    for order in orders {
        let pool: Vec<Certificate> = order.iter().map(|i| all[*i].clone()).collect();
        let assembled = build(&all[0], &pool);
        let subjects: Vec<&str> = assembled.chain.certificates().iter().map(|c| c.subject.as_str()).collect();
        assert_eq!((subjects, &assembled.missing), (wanted.clone(), &None), "{order:?}");
        assert_eq!(assembled.chain.top_issuer(), "root", "the way that lasts longest");
    }
    let alone = build(&all[0], &all[2..]);
    assert_eq!((alone.chain.certificates().len(), alone.missing.as_deref()), (1, Some("issuer")));
    // One that only bears the issuer's name has not signed it.
    let other = tempfile::tempdir().unwrap();
    let strangers = office(other.path());
    assert_eq!(build(&all[0], &strangers).missing.as_deref(), Some("issuer"));
}

/// What authorities and mail programs do to a chain on its way: to its certificates, then to the file that they are in.
type Mess = fn(Vec<Certificate>, &[Certificate]) -> Vec<Certificate>;
type Wrap = fn(Vec<u8>) -> Vec<u8>;

const MESSES: &[(&str, Mess)] = &[
    ("backwards", |mut all, _| {
        all.reverse();
        all
    }),
    ("twice", |all, _| [all.clone(), all].concat()),
    ("with a root", |all, others| [&others[2..3], &all].concat()),
    ("with the cross-signed one", |all, others| [&all, &others[1..2]].concat()),
    ("with strangers", |all, others| [&others[3..], &all, &others[..1]].concat()),
];

const WRAPS: &[(&str, Wrap)] = &[
    ("words around it", |text| {
        let between = "-----END CERTIFICATE-----\nKind regards: the desk\n\nsubject=/CN=noise\n";
        let text = String::from_utf8(text).unwrap().replace("-----END CERTIFICATE-----\n", between);
        format!("Dear keeper,\n  here they are:\n{text}").into_bytes()
    }),
    ("Windows line ends", |text| String::from_utf8(text).unwrap().replace('\n', "\r\n").into_bytes()),
    ("blanks at the ends of lines", |text| String::from_utf8(text).unwrap().replace('\n', " \t\n   ").into_bytes()),
    ("a byte-order mark", |text| [b"\xef\xbb\xbf", text.as_slice()].concat()),
    ("no last line end", |text| text.trim_ascii_end().to_vec()),
    ("another block", |text| {
        [b"-----BEGIN DH PARAMETERS-----\nMAYCAQI=\n-----END DH PARAMETERS-----\n", &text[..]].concat()
    }),
    ("UTF-16", |text| {
        let text = String::from_utf8(text).unwrap();
        let units = text.trim_start_matches('\u{feff}').encode_utf16();
        std::iter::once(0xfeff).chain(units).flat_map(u16::to_be_bytes).collect()
    }),
];

#[test]
fn every_ugly_shape_alone_and_in_pairs_gives_the_same_chain() {
    let (dir, elsewhere) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
    let (own, strangers) = (office(dir.path()), office(elsewhere.path()));
    let chain = own[..3].to_vec();
    // A stranger's leaf; the cross-signed one; a root; a stranger's chain.
    let others = [&strangers[..1], &own[3..5], &strangers[1..3]].concat();
    let wanted: String = chain.iter().map(Certificate::to_pem).collect();
    let key = std::fs::read_to_string(dir.path().join("leaf.key")).unwrap();
    let key = PrivateKey::from_any_pem(&Secret::new(key), None).unwrap();
    let pem = |all: &[Certificate]| all.iter().map(Certificate::to_pem).collect::<String>().into_bytes();
    let mut files: Vec<(String, Vec<u8>)> = Vec::new();
    for (first, mess) in MESSES {
        let messed = mess(chain.clone(), &others);
        files.push((format!("{first}, in PKCS#7"), to_pkcs7(&messed)));
        for (second, other) in MESSES {
            files.push((format!("{first}, {second}"), pem(&other(messed.clone(), &others))));
        }
        for (second, wrap) in WRAPS {
            files.push((format!("{first}, {second}"), wrap(pem(&messed))));
        }
        files.push(((*first).to_owned(), pem(&messed)));
    }
    for (first, wrap) in WRAPS {
        let wrapped = wrap(pem(&chain));
        // What is UTF-16 already is wrapped no more.
        for (second, other) in WRAPS.iter().filter(|_| *first != "UTF-16") {
            files.push((format!("{first}, {second}"), other(wrapped.clone())));
        }
        files.push(((*first).to_owned(), wrapped));
    }
    assert_eq!(files.len(), 119);
    for (what, bytes) in files {
        let mut intake = Intake::default();
        intake.take("answer", &bytes, None).unwrap_or_else(|error| panic!("{what}: {error}"));
        let leaf = intake.certificates.iter().find(|c| key.fits(c.public_key())).unwrap_or_else(|| panic!("{what}"));
        assert_eq!(build(leaf, &intake.certificates).chain.bundle_pem(), wanted, "{what}");
    }
}

/// Makes certificates with openssl in a folder, and reads them.
struct Makers(tempfile::TempDir);

impl Makers {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let identified = "subjectKeyIdentifier=hash\nauthorityKeyIdentifier=keyid\n";
        let text = format!(
            "[ca]\nbasicConstraints=critical,CA:true\n{identified}[no]\nbasicConstraints=CA:false\n{identified}\
             [leaf]\nsubjectAltName=DNS:lampholm.example\n{identified}[poison]\n1.3.6.1.4.1.11129.2.4.3=critical,ASN1:NULL\n\
             subjectAltName=DNS:lampholm.example\n[old]\nsubjectAltName=DNS:192.0.2.7\n"
        );
        std::fs::write(dir.path().join("ext"), text).unwrap();
        Makers(dir)
    }

    fn request(&self, name: &str, subject: &str, key: &str) {
        openssl(
            self.0.path(),
            &format!("req -new -newkey {key} -nodes -keyout {name}.key -out {name}.csr -subj /CN={subject}"),
        );
    }

    /// Signs a request with the key of `above`.
    fn sign(&self, csr: &str, above: &str, to: &str, part: &str, more: &str) -> Certificate {
        let by = format!("-CA {above}.pem -CAkey {above}.key -CAcreateserial -extfile ext -extensions {part}");
        openssl(self.0.path(), &format!("x509 -req -in {csr}.csr {by} -out {to}.pem {more}"));
        self.read(to)
    }

    fn root(&self, name: &str, subject: &str, key: &str) -> Certificate {
        self.request(name, subject, key);
        openssl(
            self.0.path(),
            &format!(
                "x509 -req -in {name}.csr -signkey {name}.key -extfile ext -extensions ca -days 900 -out {name}.pem"
            ),
        );
        self.read(name)
    }

    fn read(&self, name: &str) -> Certificate {
        Certificate::all_from_pem(&self.text(&format!("{name}.pem"))).unwrap().remove(0)
    }

    fn text(&self, name: &str) -> String {
        std::fs::read_to_string(self.0.path().join(name)).unwrap()
    }

    /// Returns whether openssl leads a leaf to a root with the certificates of a chain.
    fn verifies(&self, assembled: &AssembledChain, root: &str) -> bool {
        std::fs::write(self.0.path().join("between"), assembled.chain.bundle_pem()).unwrap();
        std::fs::write(self.0.path().join("end"), assembled.chain.leaf_pem()).unwrap();
        let line = format!("verify -CAfile {root}.pem -untrusted between end");
        Command::new("openssl").args(line.split(' ')).current_dir(self.0.path()).output().unwrap().status.success()
    }
}

const EC: &str = "ec -pkeyopt ec_paramgen_curve:P-256";

fn subjects(assembled: &AssembledChain) -> Vec<&str> {
    assembled.chain.certificates().iter().map(|c| c.subject.as_str()).collect()
}

#[test]
fn authorities_that_have_all_signed_each_other_cost_little() {
    let makers = Makers::new();
    let names: Vec<String> = (0..8).map(|n| format!("ca{n}")).collect();
    let mut pool: Vec<Certificate> = names.iter().map(|name| makers.root(name, name, EC)).collect();
    let roots = pool.clone();
    for name in &names {
        for above in names.iter().filter(|above| *above != name) {
            pool.push(makers.sign(name, above, &format!("{name}-by-{above}"), "ca", "-days 300"));
        }
    }
    makers.request("leaf", "leaf", EC);
    let leaf = makers.sign("leaf", "ca0", "leaf", "leaf", "-days 90");
    pool.push(leaf.clone());
    let begun = std::time::Instant::now();
    let crossed: Vec<Certificate> = pool.iter().filter(|c| !roots.contains(c)).cloned().collect();
    assert_eq!(crossed.len(), 57);
    let assembled = build(&leaf, &crossed);
    assert_eq!((subjects(&assembled)[1], &assembled.missing, &assembled.fault), ("ca0", &None, &None));
    assert!(begun.elapsed() < std::time::Duration::from_secs(2), "{:?}", begun.elapsed());
    // With what visitors trust, the shortest way there.
    let mut anchors = Anchors::default();
    anchors.add(roots[5].subject_der().to_vec(), roots[5].public_key().to_vec());
    let assembled = assemble(leaf.clone(), &pool, &anchors, now());
    assert_eq!(subjects(&assembled), ["leaf", "ca0"]);
    assert!(assembled.chain.top_issuer() == "ca5" && makers.verifies(&assembled, "ca5"), "{assembled:?}");
    // Two that have signed each other, and nobody else.
    let two = [makers.read("ca0-by-ca1"), makers.read("ca1-by-ca0")];
    assert_eq!(subjects(&build(&leaf, &two))[..2], ["leaf", "ca0"]);
}

#[test]
fn of_two_ways_the_one_that_holds_today_and_leads_to_trust_is_taken() {
    let makers = Makers::new();
    let root = makers.root("root", "root", EC);
    makers.root("old", "old", EC);
    makers.request("upper", "upper", EC);
    let good = makers.sign("upper", "root", "good", "ca", "-days 800");
    // The other way is longer, and has run out by then.
    let later = now() + jiff::SignedDuration::from_hours(24 * 400);
    let build = |leaf: &Certificate, pool: &[Certificate]| assemble(leaf.clone(), pool, &Anchors::default(), later);
    makers.request("top", "top", EC);
    let top = makers.sign("top", "old", "top", "ca", "-days 800");
    let over = makers.sign("upper", "top", "over", "ca", "-days 300");
    std::fs::copy(makers.0.path().join("good.pem"), makers.0.path().join("upper.pem")).unwrap();
    makers.request("leaf", "leaf", EC);
    let leaf = makers.sign("leaf", "upper", "leaf", "leaf", "-days 90");
    for pool in [vec![good.clone(), over.clone(), top.clone()], vec![top.clone(), over.clone(), good.clone(), root]] {
        let assembled = build(&leaf, &pool);
        assert_eq!(assembled.chain.certificates()[1], good);
        assert!(assembled.notes.is_empty() && makers.verifies(&assembled, "root"));
    }
    let assembled = build(&leaf, &[over, top]);
    assert_eq!(assembled.notes, [ChainNote::Expired { title: "upper".into() }]);
    // A namesake of the issuer with another key, and one that may not sign.
    let namesake = makers.root("other", "upper", EC);
    assert_eq!(build(&leaf, &[namesake.clone(), good.clone()]).chain.certificates()[1], good);
    let alone = build(&leaf, &[namesake]);
    assert_eq!((alone.missing.as_deref(), alone.fault), (Some("upper"), None), "it is another one's, not damaged");
    let no_authority = makers.sign("upper", "root", "plain", "no", "-days 800");
    let wanted = Some(ChainFault::IssuerIsNoAuthority { issuer: "upper".into() });
    assert_eq!(build(&leaf, &[no_authority]).fault, wanted);
    // What somebody has made for themselves has no issuer that could be at fault.
    openssl(
        makers.0.path(),
        &format!(
            "req -x509 -newkey {EC} -nodes -keyout own.key -out own.pem -subj /CN=own -addext basicConstraints=CA:false"
        ),
    );
    let own = makers.read("own");
    assert_eq!((build(&own, std::slice::from_ref(&own)).fault, build(&own, &[]).missing), (None, None));
}

#[test]
fn what_was_changed_or_is_no_servers_certificate_is_refused() {
    let makers = Makers::new();
    makers.root("root", "root", EC);
    makers.request("leaf", "leaf", EC);
    let root = makers.read("root");
    let key = PrivateKey::from_any_pem(&Secret::new(makers.text("leaf.key")), None).unwrap();
    let leaf = makers.sign("leaf", "root", "leaf", "leaf", "-days 90");
    assert_eq!(build(&leaf, std::slice::from_ref(&root)).fault, None);
    // One bit of the signature; one letter of the name.
    let turned = |at: usize, mask: u8| {
        let mut der = leaf.der().to_vec();
        der[at] ^= mask;
        Certificate::from_der(&der).unwrap()
    };
    let letter = leaf.der().windows(16).position(|w| w == b"lampholm.example").unwrap();
    for changed in [turned(leaf.der().len() - 1, 1), turned(letter, 1)] {
        let fault = build(&changed, std::slice::from_ref(&root)).fault;
        assert!(matches!(fault, Some(ChainFault::Damaged { .. })), "{fault:?}");
    }
    for (part, wanted, refused) in [
        ("ca", &[][..], Some("CA:TRUE")),
        ("poison", &["lampholm.example"], Some("precertificate")),
        ("old", &["192.0.2.7"], Some("lacks 192.0.2.7")),
        ("leaf", &["lampholm.example"], None),
    ] {
        let chain = build(&makers.sign("leaf", "root", "made", part, "-days 90"), std::slice::from_ref(&root)).chain;
        let said = chain.check_answers(&key, &names(wanted)).err().map(|error| error.to_string());
        assert!(
            said.as_deref().is_some_and(|said| refused.is_some_and(|part| said.contains(part)))
                || said.is_none() && refused.is_none(),
            "{part}: {said:?}"
        );
    }
}

#[test]
fn signatures_of_every_usual_kind_are_checked_and_others_are_said() {
    for (key, more) in [
        ("rsa:2048", "-sha256"),
        ("rsa:2048", "-sha512"),
        ("rsa:2048", "-sha256 -sigopt rsa_padding_mode:pss -sigopt rsa_pss_saltlen:digest"),
        ("rsa:2048", "-sha384 -sigopt rsa_padding_mode:pss -sigopt rsa_pss_saltlen:digest"),
        ("ec -pkeyopt ec_paramgen_curve:P-521", "-sha512"),
        ("ec -pkeyopt ec_paramgen_curve:P-384", "-sha512"),
        (EC, "-sha512"),
        ("ed25519", ""),
    ] {
        let makers = Makers::new();
        let root = makers.root("root", "root", key);
        makers.request("leaf", "leaf", EC);
        let leaf = makers.sign("leaf", "root", "leaf", "leaf", more);
        assert!(leaf.is_signed_by(&root), "{key} {more}");
        assert!(!leaf.is_signed_by(&makers.root("other", "root", key)), "{key} {more}");
    }
    // A curve that nobody here knows: name and key identifier fit, and that is said.
    let makers = Makers::new();
    let root = makers.root("root", "root", "ec -pkeyopt ec_paramgen_curve:brainpoolP256r1");
    makers.request("leaf", "leaf", EC);
    let leaf = makers.sign("leaf", "root", "leaf", "leaf", "");
    makers.request("middle", "middle", "ec -pkeyopt ec_paramgen_curve:brainpoolP256r1");
    makers.sign("middle", "root", "middle", "ca", "-days 300");
    let below = makers.sign("leaf", "middle", "below", "leaf", "");
    assert_eq!(build(&leaf, std::slice::from_ref(&root)).fault, None);
    let assembled = build(&below, &[root, makers.read("middle")]);
    assert_eq!(subjects(&assembled), ["leaf", "middle"]);
    assert!(
        matches!(&assembled.notes[0], ChainNote::Unchecked { issuer, .. } if issuer == "middle"),
        "{:?}",
        assembled.notes
    );
}

#[test]
fn replies_as_they_come_are_taken_in_or_refused_with_the_reason() {
    let dir = tempfile::tempdir().unwrap();
    let own = office(dir.path());
    let chain = own[..3].to_vec();
    let text: String = chain.iter().map(Certificate::to_pem).collect();
    let bag = to_pkcs7(&chain);
    let zip = |files: &[(&str, &[u8])]| {
        let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
        for (name, bytes) in files {
            zip.start_file(*name, zip::write::SimpleFileOptions::default()).unwrap();
            std::io::Write::write_all(&mut zip, bytes).unwrap();
        }
        zip.finish().unwrap().into_inner()
    };
    std::fs::write(dir.path().join("all.pem"), &text).unwrap();
    openssl(dir.path(), "pkcs12 -export -nokeys -in all.pem -passout pass:wick -out locked.pfx");
    let locked = std::fs::read(dir.path().join("locked.pfx")).unwrap();
    openssl(
        dir.path(),
        "pkcs12 -export -nokeys -in all.pem -passout pass:wick -iter 2000000 -macalg sha256 -out slow.pfx",
    );
    let slow = std::fs::read(dir.path().join("slow.pfx")).unwrap();
    let quoted: String = text.lines().map(|line| format!("> {line}\n")).collect();
    let inner = zip(&[("leaf.pem", text.as_bytes())]);
    for (what, bytes) in [
        ("forwarded", quoted.clone().into_bytes()),
        ("forwarded twice", quoted.lines().map(|line| format!("> {line}\n")).collect::<String>().into_bytes()),
        ("a dash lost", text.replace("-----BEGIN", "----BEGIN").into_bytes()),
        ("a dash gained", text.replace("-----END", "------END").into_bytes()),
        ("prose", format!("--- BEGIN of the CERTIFICATE ---\n-----BEGIN CERTIFICATE-----\n\n{text}").into_bytes()),
        ("BER", indefinite(&bag)),
        ("a zip in a zip", zip(&[("readme", b"Dear keeper"), ("inner.zip", &inner)])),
        (
            "beside what is locked",
            zip(&[("leaf.pem", text.as_bytes()), ("leaf.pfx", &locked), ("odd.der", &[0x30, 0x82, 9])]),
        ),
    ] {
        let mut intake = Intake::default();
        intake.take("answer", &bytes, None).unwrap_or_else(|error| panic!("{what}: {error}"));
        assert_eq!(intake.certificates.len(), 3, "{what}: {:?}", intake.left_aside);
    }
    let deep = (0..6).fold(inner, |inside, _| zip(&[("a.zip", &inside)]));
    for (what, bytes, said) in [
        ("PEM", text.as_bytes()[..300].to_vec(), "cut off"),
        ("DER", chain[0].der()[..300].to_vec(), "cut off"),
        ("DER in whole armour", pem("CERTIFICATE", &chain[0].der()[..300]).into_bytes(), "cut off"),
        ("locked", locked.clone(), "protected with a password"),
        ("too costly", slow, "take too long"),
        ("noise", b"Dear keeper".to_vec(), "no certificate in"),
        ("archives in archives", deep, "no certificate in"),
    ] {
        let error = Intake::default().take("answer", &bytes, None).unwrap_err();
        assert!(error.to_string().contains(said), "{what}: {error}");
    }
    let wrong = Intake::default().take("answer", &locked, Some(&Secret::new("water".to_owned())));
    assert_eq!(wrong, Err(IntakeError::WrongPassword("answer".into())));
    // Of several files, those that are none are left aside.
    let mut intake = Intake::default();
    intake.take_all([("readme", &b"Dear"[..]), ("leaf", text.as_bytes()), ("leaf.pfx", &locked)], None).unwrap();
    assert_eq!(intake.certificates.len(), 3);
    assert!(intake.left_aside.contains(&LeftAside::Other { file: "readme".into() }));
    assert_eq!(Intake::default().take_all([], None), Err(IntakeError::Empty));
    // Ten thousand in a bag are no more work than in PEM.
    let many = to_pkcs7(&vec![chain[0].clone(); 10_000]);
    let begun = std::time::Instant::now();
    assert!(Intake::default().take("many", &many, None).is_ok());
    assert!(begun.elapsed() < std::time::Duration::from_secs(20), "{:?}", begun.elapsed());
}

/// Writes DER with lengths that are only known at the end, as older tools do.
fn indefinite(der: &[u8]) -> Vec<u8> {
    let head = |bytes: &[u8]| match bytes[1] {
        short @ 0..0x80 => (2, usize::from(short)),
        long => {
            let count = usize::from(long & 0x7f);
            (2 + count, bytes[2..2 + count].iter().fold(0, |all, byte| all << 8 | usize::from(*byte)))
        }
    };
    let mut out = Vec::new();
    let mut rest = der;
    // The outer four: content info, [0], signed data, and what is in it as it is.
    for _ in 0..3 {
        let (skip, length) = head(rest);
        out.extend([rest[0], 0x80]);
        rest = &rest[skip..skip + length];
        if out.len() == 2 {
            let (skip, length) = head(rest);
            out.extend(&rest[..skip + length]);
            rest = &rest[skip + length..];
        }
    }
    out.extend(rest);
    out.extend([0; 6]);
    out
}
