//! An authority that speaks EST (RFC 7030).

use crate::world::*;
use eskort_practice::{Clock, EST_PASSWORD, EST_USER, EstServer};
use tokio::runtime::Runtime;

struct Devices {
    place: Place,
    server: EstServer,
    _runtime: Runtime,
}

const LOGIN: &str = "user = \"stock-room\"\npassword-file = \"password\"\n";

impl Devices {
    fn new() -> Self {
        let (place, runtime) = (Place::new(), runtime());
        let server = runtime.block_on(EstServer::start(Clock::default())).unwrap();
        place.write("api-root.pem", server.api_root_pem());
        place.write("root.pem", &server.root_pem());
        place.write("password", &format!("{EST_PASSWORD}\n"));
        assert_eq!(LOGIN.split('"').nth(1), Some(EST_USER));
        let devices = Devices { place, server, _runtime: runtime };
        devices.inventory(LOGIN, "");
        devices
    }

    fn inventory(&self, login: &str, more: &str) {
        let address = self.server.address();
        self.place.write(
            "eskort.toml",
            &format!(
                "state = \"state\"\n[authority.devices]\nkind = \"est\"\naddress = \"{address}\"\napi-roots = \"api-root.pem\"\n\
                 visitor-roots = \"root.pem\"\ntimeout = \"5s\"\n{login}\n[certificate.stock]\nnames = [\"stock.lampholm.internal\"]\n{more}"
            ),
        );
    }

    fn keep(&self) -> Said {
        self.place.run(&["keep", "--only", "stock"])
    }

    fn verify(&self, generation: u32) {
        let bundle = format!("state/certificates/stock/{generation:04}/bundle.pem");
        let said = self.place.openssl(&["verify", "-CAfile", "root.pem", "-untrusted", &bundle, &bundle]);
        said.check(0, &["OK"]);
    }

    fn at(&self, days: i64, words: &[&str]) -> Said {
        self.place.run_with("ESKORT_CLOCK_OFFSET", &(days * 86_400).to_string(), words)
    }
}

#[test]
fn a_certificate_comes_over_est_and_is_renewed_with_the_one_in_use() {
    let devices = Devices::new();
    devices.keep().check(0, &["generation 1 stored", "by `Lampholm Devices Issuer 1`"]);
    devices.verify(1);
    assert_eq!(devices.server.asked(), ["simpleenroll with a password", "cacerts"]);
    devices.keep().check(0, &["nothing to do"]);
    // A renewal shows the certificate in use: no login is needed any more.
    devices.inventory("", "");
    devices.at(61, &["keep"]).check(0, &["generation 2 stored"]);
    devices.verify(2);
    assert_eq!(devices.server.asked()[2..], ["simplereenroll with a certificate", "cacerts"]);
    // With other names it is a first request again, with a client certificate from files, and a label.
    let more = "\"shelf.lampholm.internal\"]";
    devices.inventory(
        "client-certificate = \"state/certificates/stock/0002/bundle.pem\"\nclient-key = \"state/certificates/stock/0002/key.pem\"\n",
        "",
    );
    let text = devices.place.read("eskort.toml").replace("internal\"]", &format!("internal\", {more}"));
    devices.place.write("eskort.toml", &text.replace("\"\napi-roots", "/.well-known/est/lamps/\"\napi-roots"));
    devices.keep().check(0, &["generation 3 stored"]);
    assert_eq!(devices.server.asked()[4], "simpleenroll with a certificate");
}

#[test]
fn an_authority_that_takes_its_time_is_asked_again_with_the_same_csr() {
    let devices = Devices::new();
    // Two short waits within one run.
    devices.server.hesitate(2, 1);
    devices.keep().check(0, &["the authority has the request, and takes its time", "generation 1 stored"]);
    // A long one ends the run; the next one asks no sooner than it was told to.
    devices.inventory(LOGIN, "key = \"p384\"\n");
    devices.server.hesitate(1, 3 * 86_400);
    let asked = |n: usize| assert_eq!(devices.server.asked().iter().filter(|a| a.contains("enroll")).count(), n);
    devices.keep().check(3, &["the authority is still processing the request; next check at"]);
    asked(4);
    devices.at(2, &["keep"]).check(3, &["next check at"]);
    devices.at(2, &["list"]).check(0, &["under way: ordered"]);
    asked(4);
    devices.at(4, &["keep"]).check(0, &["generation 2 stored"]);
    asked(5);
    // Killed at any point, the same CSR is sent again: the practice authority refuses another one.
    let points = ["acted-place-order", "saved-place-order", "acted-ask-again", "saved-ask-again"];
    for (point, key) in points.into_iter().zip(["p256", "p384", "p256", "p384"]) {
        devices.inventory(LOGIN, &format!("key = \"{key}\"\n"));
        devices.server.hesitate(1, 1);
        let killed = devices.place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
        devices.keep().check(0, &["stored"]);
    }
}

#[test]
fn what_an_est_authority_refuses_is_said_and_it_is_left_alone_for_a_while() {
    let devices = Devices::new();
    let place = &devices.place;
    let text = place.read("eskort.toml");
    let address = devices.server.address();
    place.write("wrong", "water\n");
    place.write("noise", "lamp\n");
    for (from, to, said) in [
        ("\"password\"", "\"wrong\"", &["refused the login (401): who are you?", "check `user` and its password"][..]),
        ("\"password\"", "\"gone\"", &["cannot read the file", "gone: No such file"]),
        (LOGIN, "", &["refused the login (401)"]),
        ("stock.lampholm.internal", "stock.lampholm.example", &["was answered with 403: the stock room only"]),
        (
            &format!("{address}\""),
            &format!("{address}/.well-known/est/oil\""),
            &["404: no such operation", "needs a label"],
        ),
        ("api-roots = \"api-root.pem\"\n", "", &["cannot reach https://127.0.0.1", "api-roots"]),
        ("api-root.pem", "noise", &["there is no certificate in it"]),
        (
            LOGIN,
            "client-certificate = \"noise\"\nclient-key = \"noise\"\n",
            &["noise: it is no certificate with its key"],
        ),
        (&address, "https://127.0.0.1:9", &["cannot reach https://127.0.0.1:9"]),
    ] {
        place.write("eskort.toml", &text.replace(from, to));
        let failed = devices.keep();
        failed.check(1, said);
        assert!(!failed.err.contains("water") && !failed.err.contains(EST_PASSWORD), "{failed}");
    }
    assert_eq!(devices.server.asked(), Vec::<String>::new(), "nothing was asked with a login that is known");
    place.write("eskort.toml", &text.replace(LOGIN, ""));
    devices.keep().check(1, &["(401)"]);
    place.run(&["keep"]).check(4, &["not asked again"]);
    place.write("eskort.toml", &text);
    devices.keep().check(0, &["generation 1 stored"]);
}
