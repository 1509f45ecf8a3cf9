//! Certificates uploaded to the practice world's hosting panel, platform and orchestrator.

use crate::world::*;
use eskort_practice::{UploadKind, Uploads};
use std::process::Command;
use std::time::Duration;
use tokio::runtime::Runtime;

/// A world whose one server is an API.
struct Uploaded {
    world: World,
    uploads: Uploads,
    _runtime: Runtime,
}

impl Uploaded {
    fn start(kind: UploadKind, section: &str) -> Self {
        let (world, runtime) = (World::new(), runtime());
        let uploads = runtime.block_on(Uploads::start(kind)).unwrap();
        world.place.write("token", &format!("{}\n", uploads.token()));
        world.place.write("panel-root.pem", uploads.root_pem());
        let uploaded = Uploaded { world, uploads, _runtime: runtime };
        uploaded.write_inventory(section);
        uploaded
    }

    fn write_inventory(&self, section: &str) {
        let address = self.uploads.address();
        let server = format!(
            "{section}\naddress = \"{address}\"\nroots = \"panel-root.pem\"\nsecret-file = \"token\"\nreload-timeout = \"4s\"\n\
             check-address = \"{}\"\n",
            self.uploads.site()
        );
        self.world.write_inventory(|text| {
            let from = text.find("kind = \"files\"").unwrap();
            let to = from + text[from..].find("\n[").map_or(text.len() - from, |at| at + 1);
            format!("{}{server}\n{}", &text[..from], &text[to..])
        });
    }

    /// Returns the serial number of the certificate that the site shows.
    fn serial(&self) -> String {
        let script = format!(
            "openssl s_client -connect {} </dev/null 2>/dev/null | openssl x509 -noout -serial",
            self.uploads.site()
        );
        let said = Said::from(Command::new("sh").args(["-c", &script]).output().unwrap());
        said.check(0, &["serial="]);
        said.out
    }
}

#[test]
fn a_hosting_panel_gets_three_fields_for_each_site_and_is_waited_for() {
    let it = Uploaded::start(UploadKind::Hosting, "kind = \"web-api\"\nrecipe = \"lampholm-hosting\"");
    let place = &it.world.place;
    it.uploads.set_delay(Duration::from_millis(700));
    place.run(&["keep", "--plan"]).check(0, &["uploads it to https://127.0.0.1"]);
    assert_eq!(it.uploads.asked(), [""; 0], "a plan changes nothing");
    it.world.keep().check(0, &["generation 1 installed and checked live"]);
    let puts = || it.uploads.asked().iter().filter(|asked| asked.starts_with("PUT")).count();
    assert_eq!(puts(), 2, "one for each name: {:?}", it.uploads.asked());
    let first = it.serial();
    place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(puts(), 2);

    // A renewal that the panel refuses, or loses on the way: what was in use stays.
    for fault in [503, 0] {
        it.uploads.fail(&[fault, 503, 503]);
        it.world.on_day(75, &["keep", "--only", "website"]).check(1, &["server `front`"]);
        assert_eq!(it.serial(), first);
    }
    it.uploads.fail(&[]);
    it.world.on_day(76, &["keep", "--only", "website"]).check(0, &["generation 2"]);
    let second = it.serial();
    assert_ne!(second, first);
    // One that is too slow: it is put back, and that is waited for, too.
    it.uploads.set_delay(Duration::from_secs(6));
    let slow = it.world.on_day(150, &["keep", "--only", "website"]);
    slow.check(1, &["does not serve the new certificate after 4 seconds", "goes on naming another certificate"]);
    it.uploads.set_delay(Duration::ZERO);
    it.world.on_day(151, &["keep", "--only", "website"]).check(0, &["generation 3"]);
    it.world.on_day(151, &["install", "website", "--undo"]).check(0, &["generation 2 is in use again"]);
    assert_eq!(it.serial(), second);
    // Somebody uploads another one by hand: the next run sees it by reading back.
    it.uploads.forget();
    it.world.on_day(151, &["keep"]).check(0, &["server `front` has another one in use"]);
    assert_eq!(it.serial(), second);
    let ledger = std::fs::read(place.path("state/ledger.sqlite")).unwrap_or_default();
    let token = it.uploads.token().as_bytes();
    assert!(!ledger.windows(token.len()).any(|bytes| bytes == token));
}

#[test]
fn a_platform_gets_containers_bound_to_hosts_and_what_is_not_bound_any_more_goes() {
    let section = "kind = \"web-api\"\nrecipe = \"lampholm-platform\"";
    let it = Uploaded::start(UploadKind::Platform, section);
    let place = &it.world.place;
    place.run(&["rehearse", "website"]).check(0, &["its API takes the secret, and says what is in use"]);
    it.world.keep().check(0, &["generation 1 installed and checked live"]);
    assert_eq!(it.uploads.containers(), ["website-1"]);
    place.write("token", "another\n");
    let refused = place.run(&["rehearse", "website"]);
    assert!(refused.code != Some(0) && refused.out.contains("answered with 401"), "{refused}");
    place.write("token", &format!("{}\n", it.uploads.token()));
    let first = it.serial();
    // It fails when the second host is bound: the first goes back to what it had.
    it.uploads.fail(&[1, 1, 500]);
    it.world.on_day(75, &["keep"]).check(1, &["was answered with 500: {\"message\":\"not now\"}"]);
    assert_eq!((it.serial(), it.uploads.containers()), (first.clone(), vec!["website-1".to_owned()]));
    it.world.on_day(76, &["keep"]).check(0, &["generation 2"]);
    assert_eq!(it.uploads.containers(), ["website-2"]);
    it.world.on_day(76, &["install", "website", "--undo"]).check(0, &["generation 1 is in use again"]);
    assert_eq!((it.serial(), it.uploads.containers()), (first, vec!["website-1".to_owned()]));
    // Killed between upload and binding: what is there is found by its label.
    let killed = place.run_with("ESKORT_CRASH_AT", "uploaded", &["install", "website"]);
    assert!(killed.code.is_none(), "{killed}");
    it.world.on_day(76, &["install", "website"]).check(0, &["generation 2 is in use"]);
    assert_eq!(it.uploads.containers(), ["website-2"]);

    for (section, said) in [
        ("kind = \"web-api\"\nrecipe = \"lampholm-hosting\"", "cannot be asked for"),
        ("kind = \"web-api\"\nrecipe = \"lampholm-plattform\"", "lampholm-platform"),
        ("kind = \"web-api\"\nrecipe = \"own.toml\"", "the recipe"),
    ] {
        place.write("own.toml", "[active]\nmethod = \"GET\"\nurl = \"${address}/${shed}\"\ncertificate = \"/c\"\n[upload]\nmethod = \"PUT\"\nurl = \"${address}\"\n");
        it.write_inventory(section);
        let found = it.world.on_day(76, &["install", "website"]);
        assert!(found.code != Some(0) && found.err.contains(said), "{section}: {found}");
    }
}

#[test]
fn an_orchestrators_secret_is_made_and_kept_over_its_api_or_as_a_manifest() {
    let it = Uploaded::start(UploadKind::Cluster, "kind = \"cluster-secret\"\nnamespace = \"lamps\"");
    it.world.keep().check(0, &["generation 1 installed and checked live"]);
    let path = "/api/v1/namespaces/lamps/secrets/website-tls";
    assert!(it.uploads.asked().contains(&format!("PATCH {path}")), "{:?}", it.uploads.asked());
    it.world.place.run(&["keep"]).check(0, &["nothing to do"]);
    it.world.on_day(75, &["keep"]).check(0, &["generation 2"]);
    it.world.on_day(75, &["install", "website", "--undo"]).check(0, &["generation 1 is in use again"]);

    let world = World::new();
    world.write_inventory(|text| text.replace("part = \"bundle\"", "part = \"manifest\""));
    world.place.run(&["keep", "--plan"]).check(0, &["manifest"]);
}

#[test]
fn a_parcel_waits_for_a_person_until_the_site_shows_what_is_in_it() {
    let world = World::new();
    let place = &world.place;
    place.write("parcel.password", "oil & wick\n");
    let tls = world.site.tls_address();
    world.write_inventory(|text| {
        let from = text.find("kind = \"files\"").unwrap();
        let to = from + text[from..].find("\n[").unwrap();
        let parcel = format!(
            "kind = \"parcel\"\nfolder = \"carry\"\npassword-file = \"parcel.password\"\nfriendly-name = \"Ticket <desk>\"\ncheck-address = \"{tls}\"\n"
        );
        format!("{}{parcel}{}", &text[..from], &text[to..])
    });
    place.run(&["keep", "--plan"]).check(0, &["website.p12", "steps.html"]);
    assert!(!place.path("carry").exists(), "a plan changes nothing");
    let said = world.keep();
    said.check(3, &["server `front` waits for you", "carry/website/steps.html", "generation 1 waits for you at front"]);
    let page = place.read("carry/website/steps.html");
    for part in ["www.lampholm.example", "Ticket &lt;desk&gt;", "website.p12", "intermediate-1.cer", "parcel.password"]
    {
        assert!(page.contains(part), "{part}: {page}");
    }
    assert!(!page.contains("oil"), "the password is not in it");
    assert_eq!((place.mode("carry/website/key.pem"), place.mode("carry/website/website.p12")), (0o600, 0o600));
    let words = ["pkcs12", "-in", "carry/website/website.p12", "-passin", "pass:oil & wick", "-nokeys"];
    place.openssl(&words).check(0, &["friendlyName: Ticket <desk>", "Practice Issuer"]);
    place.openssl(&["x509", "-inform", "DER", "-in", "carry/website/intermediate-1.cer", "-noout"]).check(0, &[]);
    world.on_day(0, &["keep"]).check(3, &["waits for you"]);
    place.run(&["list"]).check(0, &["website", "not confirmed from here"]);
    place.run(&["show", "website"]).check(0, &["waits for somebody to put it in place"]);
    // The person has done it.
    for (from, to) in [("certificate.pem", "tls/site.pem"), ("key.pem", "tls/site.key")] {
        let more = if from == "key.pem" { String::new() } else { place.read("carry/website/intermediates.pem") };
        place.write(to, &(place.read(&format!("carry/website/{from}")) + &more));
    }
    let root = place.path("visitor-root.pem");
    until("the site shows it", || handshake(place, tls.port(), NAMES[0], &root).code == Some(0));
    world.on_day(0, &["keep"]).check(0, &["checked live"]);
    std::fs::remove_dir_all(place.path("carry")).unwrap();
    world.on_day(0, &["keep"]).check(0, &["nothing to do"]);
    assert!(!place.path("carry").exists(), "what is in use is not packed again");
    world.on_day(75, &["keep", "--only", "website"]).check(3, &["generation 2 waits for you at front"]);
    assert!(place.path("carry/website/website.p12").exists());
}
