//! `check` at endpoints with known faults: OpenSSL's server, vsftpd, and things that are no TLS.

use crate::hosts::Vsftpd;
use crate::world::*;
use std::io::{Read, Write};
use std::net::{Shutdown, SocketAddr, TcpListener, TcpStream};

/// An authority of OpenSSL's, with a leaf for `lampholm.example` below an intermediate.
pub(crate) fn certificates(place: &Place) {
    let openssl = |line: &str| {
        let said = place.openssl(&line.split_whitespace().collect::<Vec<_>>());
        assert_eq!(said.code, Some(0), "{line}\n{said}");
    };
    place.write(
        "ext",
        "[ca]\nbasicConstraints=critical,CA:true\nsubjectKeyIdentifier=hash\n[leaf]\nsubjectAltName=DNS:lampholm.example\n\
         [staple]\nsubjectAltName=DNS:lampholm.example\ntlsfeature=status_request\n",
    );
    let ec = "-newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes";
    openssl(&format!(
        "req -x509 {ec} -keyout root.key -out root.pem -days 900 -subj /CN=Harbour-Root -addext basicConstraints=critical,CA:true"
    ));
    for (name, key) in [("middle", ec), ("leaf", ec), ("short", "-newkey rsa:1024 -nodes"), ("stranger", ec)] {
        openssl(&format!("req -new {key} -keyout {name}.key -out {name}.csr -subj /CN={name}"));
    }
    let sign = |csr: &str, above: &str, to: &str, part: &str, more: &str| {
        openssl(&format!(
            "x509 -req -in {csr}.csr -CA {above}.pem -CAkey {above}.key -CAcreateserial -extfile ext -extensions {part} -out {to}.pem {more}"
        ));
    };
    sign("middle", "root", "middle", "ca", "-days 800");
    sign("leaf", "middle", "leaf", "leaf", "-days 90");
    sign("leaf", "middle", "wants-staple", "staple", "-days 90");
    sign("short", "middle", "short", "leaf", "-days 90");
    sign("stranger", "root", "stranger", "ca", "-days 800");
    sign("middle", "root", "over", "ca", "-days 1");
    // Revoked, as the authority's responder says.
    let serial = place.openssl(&["x509", "-in", "leaf.pem", "-noout", "-serial"]).out;
    let serial = serial.trim().trim_start_matches("serial=");
    place.write("index", &format!("R\t300101000000Z\t260301000000Z,keyCompromise\t{serial}\tunknown\t/CN=leaf\n"));
    openssl("ocsp -issuer middle.pem -cert leaf.pem -no_nonce -reqout asked");
    openssl(
        "ocsp -index index -rsigner middle.pem -rkey middle.key -CA middle.pem -reqin asked -respout revoked -ndays 3",
    );
    let all = |names: &[&str]| names.iter().map(|name| place.read(&format!("{name}.pem"))).collect::<String>();
    place.write("whole.pem", &all(&["leaf", "middle"]));
    place.write("messy.pem", &all(&["stranger", "middle", "leaf", "root"]));
}

/// OpenSSL's server with a leaf and what it sends beside it.
fn serve(place: &Place, leaf: &str, beside: &str, more: &str) -> (u16, Process) {
    let key = if leaf == "short" { "short" } else { "leaf" };
    let chain = if beside.is_empty() { String::new() } else { format!("-cert_chain {beside}.pem") };
    let port = free_port();
    let line = format!("-cert {leaf}.pem {chain} -key {key}.key {more}");
    (port, openssl_server(place, SocketAddr::from(([127, 0, 0, 1], port)), &line))
}

fn check(place: &Place, port: u16) -> Said {
    let address = format!("127.0.0.1:{port}");
    place.run(&["check", "lampholm.example", "--short", "--address", &address, "--roots", "root.pem"])
}

#[test]
fn every_fault_of_an_endpoint_is_told_once_and_without_an_inventory() {
    let place = Place::new();
    certificates(&place);
    let good = ["leads to a trusted root", "leaf and 1 intermediate"];
    for (leaf, beside, more, code, said) in [
        ("leaf", "middle", "", 0, &good[..]),
        (
            "leaf",
            "whole",
            "-status_file revoked",
            1,
            &["the stapled OCSP response says that it was revoked on 2026-03-01", "was compromised"],
        ),
        ("wants-staple", "middle", "", 1, &["says that its servers have to staple, and this one does not"]),
        ("leaf", "", "", 1, &["no intermediate is sent, and `middle` is not a root"]),
        ("short", "middle", "-cipher ALL:@SECLEVEL=0", 1, &["`short` has RSA with 1024 bits: visitors refuse that"]),
        (
            "leaf",
            "messy",
            "",
            4,
            &[
                "`stranger` is sent, and has nothing to do with this certificate",
                "sent more than once",
                "the root `Harbour-Root` is sent along; visitors have it already",
                "leads to a trusted root",
            ],
        ),
        ("leaf", "middle", "-no_tls1_3 -no_tls1_2 -cipher ALL:@SECLEVEL=0", 1, &["only protocols older than TLS 1.2"]),
        ("leaf", "middle", "-tls1_2 -cipher AES128-SHA:@SECLEVEL=0", 1, &["no cipher in common with today's visitors"]),
    ] {
        let (port, _server) = serve(&place, leaf, beside, more);
        let found = check(&place, port);
        found.check(code, said);
        assert!(!found.out.contains("InvalidMessage") && !found.out.contains("Alert"), "{found}");
        // What is the matter is told once.
        let lines: Vec<&str> = found.out.lines().filter(|line| line.contains("BAD")).collect();
        assert!(lines.len() <= 1, "{found}");
    }
    // Two days later the intermediate has run out.
    let (port, _server) = serve(&place, "leaf", "over", "");
    let words = [
        "check",
        "lampholm.example",
        "--address",
        &format!("127.0.0.1:{port}"),
        "--roots",
        "root.pem",
        "--output",
        "json",
    ];
    let found = place.run_with("ESKORT_CLOCK_OFFSET", "172800", &words);
    let report: serde_json::Value = serde_json::from_str(&found.check(1, &[]).out).unwrap();
    let endpoint = &report["endpoints"][0];
    let bad: Vec<&serde_json::Value> = endpoint["findings"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|f| f["severity"] == "bad")
        .map(|f| &f["code"])
        .collect();
    assert_eq!(bad, ["intermediate-expired"], "{report}");
    assert_eq!(
        (&endpoint["names"][0], endpoint["chain"][0]["fingerprint"].as_str().unwrap().len()),
        (&"lampholm.example".into(), 64)
    );
}

/// Answers each connection with a greeting, and nothing more.
fn greets(greeting: &'static [u8]) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().filter_map(Result::ok) {
            let _ = stream.write_all(greeting);
            std::thread::spawn(move || {
                let _ = stream.set_read_timeout(Some(std::time::Duration::from_secs(5)));
                let _ = stream.read(&mut [0; 4096]);
            });
        }
    });
    port
}

/// A mail server that begins TLS when it is told to, and hands it to another port.
fn mail_server(tls: u16) -> u16 {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().filter_map(Result::ok) {
            std::thread::spawn(move || {
                let heard = |stream: &mut TcpStream| stream.read(&mut [0; 512]).unwrap_or(0);
                stream.write_all(b"220 mail.lampholm.example ESMTP\r\n").ok()?;
                heard(&mut stream);
                stream.write_all(b"250-mail.lampholm.example\r\n250 STARTTLS\r\n").ok()?;
                heard(&mut stream);
                stream.write_all(b"220 go ahead\r\n").ok()?;
                let mut behind = TcpStream::connect(("127.0.0.1", tls)).ok()?;
                let (mut back_from, mut back_to) = (behind.try_clone().ok()?, stream.try_clone().ok()?);
                std::thread::spawn(move || std::io::copy(&mut back_from, &mut back_to));
                std::io::copy(&mut stream, &mut behind).ok();
                behind.shutdown(Shutdown::Both).ok()
            });
        }
    });
    port
}

#[test]
fn what_answers_without_tls_is_named_and_what_begins_it_later_is_followed() {
    let place = Place::new();
    certificates(&place);
    let world = World::new();
    for (port, said) in [
        (world.site.plain_address().port(), "it speaks plain http"),
        (greets(b"SSH-2.0-x\r\n"), "it is an SSH server"),
        (greets(b""), "it says nothing"),
        (greets(b"220 harbour FTP\r\n"), "it is an FTP server, and TLS cannot be begun"),
        (free_port(), "Connection refused"),
    ] {
        check(&place, port).check(1, &[said]);
    }
    let (tls, _server) = serve(&place, "leaf", "middle", "");
    check(&place, mail_server(tls)).check(0, &["leads to a trusted root", "begun by a mail server (SMTP)"]);
    // A real FTP server.
    std::fs::create_dir(place.path("account")).unwrap();
    let ftp = Vsftpd::start(&place, "");
    let endpoint = format!("127.0.0.1:{}", ftp.port);
    place
        .run(&["check", &endpoint, "--roots", "ftp-root.pem"])
        .check(0, &["leads to a trusted root", "begun by an FTP server"]);
}
