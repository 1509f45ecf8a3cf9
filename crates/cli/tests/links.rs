//! Addresses that still say http, found and changed: in pages as they are, and in dumps of real databases, read by PHP afterwards.

use crate::starttls::{mariadb, postgres};
use crate::world::*;
use serde_json::Value;
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::process::{Command, Stdio};

const SITE: [&str; 2] = ["--site", "lampholm.example"];

pub(crate) fn json(said: &Said) -> Value {
    serde_json::from_str(&said.out).unwrap_or_else(|_| panic!("{said}"))
}

#[test]
fn pages_change_and_nothing_else_does_and_all_comes_back() {
    let place = Place::new();
    let page = b"<img src=\"http://lampholm.example/a\">\r\n<p>caf\xe9 http://LAMPHOLM.example:80/b</p>\r\n";
    std::fs::create_dir_all(place.path("site/oil")).unwrap();
    std::fs::write(place.path("site/index.html"), page).unwrap();
    std::fs::set_permissions(place.path("site/index.html"), PermissionsExt::from_mode(0o640)).unwrap();
    place.write("site/oil/lamp.js", "let a = \"http:\\/\\/lampholm.example\\/\"; // http://lampholm.example.evil/\n");
    place.write("site/oil/data.json", r#"{"m":"s:24:\"http://lampholm.example/\";","x":"http://tides.example/"}"#);
    place.write("site/oil/map.svg", "<svg xmlns=\"http://lampholm.example/sea\"/>");
    place.write("site/oil/note.bin", "http://lampholm.example/");
    place.write("site/.hidden/x.html", "http://lampholm.example/");
    place.write("outside.html", "http://lampholm.example/");
    symlink(place.path("outside.html"), place.path("site/linked.html")).unwrap();
    std::fs::write(place.path("site/odd.html"), b"\x00\x01http://lampholm.example/").unwrap();
    std::fs::write(place.path("site/packed.sql"), b"\x1f\x8bhttp://lampholm.example/").unwrap();
    place.write("eskort.toml", "state = \"state\"\n");
    let run = |words: &[&str]| place.run(&[&["links"], words].concat());

    run(&["find", "site"]).check(1, &["nothing says which hosts are meant", "--site lampholm.example"]);
    run(&["find", "nowhere", SITE[0], SITE[1]]).check(1, &["cannot read nowhere"]);
    let found = run(&[&["find", "site"], &SITE[..], &["--output", "json"]].concat());
    let found = json(found.check(4, &[]));
    assert_eq!((found["addresses"].as_u64(), found["read"].as_u64()), (Some(4), Some(6)), "{found:#}");
    assert_eq!(found["others"]["tides.example"], 1);
    assert_eq!(found["left"]["vocabulary"], 1);
    let alone: Vec<&str> =
        found["left_alone"].as_array().unwrap().iter().map(|one| one["path"].as_str().unwrap()).collect();
    assert_eq!(alone, ["site/odd.html", "site/packed.sql"]);

    let before = |path: &str| std::fs::read(place.path(path)).unwrap();
    run(&[&["mend", "site", "--plan"], &SITE[..]].concat())
        .check(0, &["4 addresses", "- <img src=\"http:", "+ <img src=\"https:", "nothing was changed"]);
    run(&[&["mend", "site"], &SITE[..]].concat()).check(2, &["has to be confirmed", "--yes"]);
    assert_eq!(before("site/index.html"), page);
    let time = std::fs::metadata(place.path("site/index.html")).unwrap().mtime();
    std::thread::sleep(std::time::Duration::from_millis(1100));
    let done = run(&[&["mend", "site", "--yes", "--keep-times"], &SITE[..]].concat());
    done.check(0, &["4 addresses of lampholm.example changed to https, in 3 files", "--undo"]);
    let new = b"<img src=\"https://lampholm.example/a\">\r\n<p>caf\xe9 https://LAMPHOLM.example/b</p>\r\n";
    assert_eq!(before("site/index.html"), new);
    let meta = std::fs::metadata(place.path("site/index.html")).unwrap();
    assert_eq!((meta.mode() & 0o777, meta.mtime()), (0o640, time));
    assert!(
        place
            .read("site/oil/lamp.js")
            .contains("\"https:\\/\\/lampholm.example\\/\"; // http://lampholm.example.evil/")
    );
    assert!(place.read("site/oil/data.json").contains(r#""s:25:\"https://lampholm.example/\";","x":"http://tides"#));
    for path in ["site/oil/note.bin", "site/.hidden/x.html", "outside.html"] {
        assert_eq!(place.read(path), "http://lampholm.example/", "{path}");
    }
    run(&[&["find", "site"], &SITE[..]].concat()).check(0, &["0 addresses"]);
    let copies = place.path("state/links");
    let mode = |path: &std::path::Path| std::fs::metadata(path).unwrap().mode() & 0o777;
    let folder = std::fs::read_dir(&copies).unwrap().next().unwrap().unwrap().path();
    assert_eq!((mode(&folder), mode(&folder.join("000000"))), (0o700, 0o600));

    // What somebody has written since stays, all else goes back.
    place.write("site/oil/lamp.js", "// new\n");
    run(&["mend", "--undo"]).check(4, &["2 files as before", "lamp.js, which was changed since"]);
    assert_eq!((before("site/index.html"), place.read("site/oil/lamp.js").as_str()), (page.to_vec(), "// new\n"));
    run(&["mend", "--undo"]).check(1, &["no change of links is known"]);

    // Killed in the middle: what was written can be taken back, or the rest be done.
    let killed =
        place.run_with("ESKORT_CRASH_AT", "links-written", &[&["links", "mend", "site", "--yes"], &SITE[..]].concat());
    assert_eq!(killed.code, None, "{killed}");
    run(&["mend", "--undo"]).check(0, &["0 files as before"]);
    run(&[&["mend", "site", "--yes"], &SITE[..]].concat()).check(0, &["3 addresses", "2 files"]);
    let left = std::fs::read_dir(place.path("site")).unwrap().count();
    assert_eq!(left, 6, "nothing is left under a passing name");
    run(&["mend", "--undo", "--output", "json"]).check(0, &["\"restored\""]);
    assert_eq!(before("site/index.html"), page);
}

/// Values as PHP programs keep them, one in each row; `PREFIX` stands for the way.
const VALUES: &str = r#"
$a = $argv[1] . '://lampholm.example/';
class Lamp { public $url; protected $deep; private $list; function __construct($u) { $this->url = $u; $this->deep = [$u => [$u]]; $this->list = [1.5, true, null, -3, "caf\u{e9} $u"]; } }
$values = [$a, [$a, ['x' => $a, 7 => "it's \"$a\"\n\\ \t"]], new Lamp($a), json_encode(['u' => $a, 'v' => serialize([$a])]), serialize(serialize([$a, "\u{1f56f}"])), new ArrayObject([$a]), str_repeat("$a ", 900)];
"#;

/// Has PHP make the values, each serialized, in hexadecimal.
pub(crate) fn values(way: &str) -> Vec<String> {
    let code = format!("{VALUES} foreach ($values as $v) echo bin2hex(serialize($v)), \"\\n\";");
    let made = Command::new("php").args(["-r", &code, "--", way]).output();
    let made = made.expect("Debian's package php-cli is installed (scripts/test does it)");
    let text = String::from_utf8(made.stdout).unwrap();
    assert!(text.lines().count() == 7, "{text}");
    // Keys are names: they stay.
    text.lines().map(str::to_owned).collect()
}

/// Has PHP read values, and returns how many it could not read.
pub(crate) fn unreadable(values: &[String]) -> String {
    let code = format!(
        "{} foreach (file('php://stdin') as $l) if (@unserialize(hex2bin(trim($l))) === false) echo \"broken $l\";",
        VALUES.lines().nth(2).unwrap()
    );
    let mut php = Command::new("php").args(["-r", &code]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    std::io::Write::write_all(&mut php.stdin.take().unwrap(), values.join("\n").as_bytes()).unwrap();
    String::from_utf8(php.wait_with_output().unwrap().stdout).unwrap()
}

pub(crate) fn hex_text(hex: &str) -> String {
    let byte = |at: usize| u8::from_str_radix(&hex[at..at + 2], 16).unwrap();
    String::from_utf8((0..hex.len()).step_by(2).map(byte).collect()).unwrap()
}

/// Holds what a database has after the change against what it had.
pub(crate) fn check_values(rows: &[String]) {
    assert_eq!(unreadable(rows), "");
    for (row, old) in rows.iter().zip(values("http")) {
        let (new, old) = (hex_text(row), hex_text(&old));
        // Each address that is no key is another one; nothing else differs but lengths.
        let keys = old.matches("\"http://lampholm.example/\";a:").count();
        assert_eq!(new.matches("http://").count(), keys, "{new}");
        assert!(new.contains("https:"), "{new}");
        let digits =
            |text: &str| text.replace("https:", "http:").chars().filter(|c| !c.is_ascii_digit()).collect::<String>();
        assert_eq!(digits(&new), digits(&old));
    }
}

/// Has MariaDB do something, as root.
pub(crate) fn maria(port: u16, sql: &str) -> String {
    let mut client = Command::new("mariadb");
    client.args(["--no-defaults", "-h", "127.0.0.1", "-P", &port.to_string(), "-u", "root", "-N", "-B", "-e", sql]);
    let said = Said::from(client.output().unwrap());
    assert_eq!(said.code, Some(0), "{said}");
    said.out
}

/// Has PostgreSQL do something, as its own user.
pub(crate) fn psql(port: u16, database: &str, words: &[&str]) -> String {
    let mut client = Command::new("psql");
    client.args(["-h", "127.0.0.1", "-p", &port.to_string(), "-U", "postgres", "-d", database]);
    let said = Said::from(client.args(["-At", "-v", "ON_ERROR_STOP=1"]).args(words).output().unwrap());
    assert_eq!(said.code, Some(0), "{said}");
    said.out
}

pub(crate) fn a_leaf(place: &Place) {
    let line =
        "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj /CN=x -keyout leaf.key -out leaf.pem";
    place.openssl(&line.split(' ').collect::<Vec<_>>()).check(0, &[]);
}

#[test]
fn a_dump_of_mariadb_is_loaded_again_with_every_value_whole() {
    let place = Place::new();
    a_leaf(&place);
    let port = free_port();
    let _server = mariadb(&place, port);
    let sql = |text: &str| maria(port, text);
    sql(
        "create database harbour character set utf8mb4; create table harbour.posts (id int primary key, short varchar(24), body longtext, raw blob)",
    );
    for (n, value) in values("http").iter().enumerate() {
        sql(&format!(
            "insert into harbour.posts values ({n}, 'http://lampholm.example/', unhex('{value}'), 'http://lampholm.example/')"
        ));
    }
    let dump = Command::new("mariadb-dump")
        .args(["--no-defaults", "-h", "127.0.0.1", "-P", &port.to_string(), "-u", "root", "--databases", "harbour"])
        .output();
    std::fs::write(place.path("dump.sql"), dump.unwrap().stdout).unwrap();
    place.write("eskort.toml", "state = \"state\"\n");
    let done = place.run(&[&["links", "mend", "dump.sql", "--yes", "--output", "json"], &SITE[..]].concat());
    let done = json(done.check(0, &[]));
    assert_eq!(
        (&done["left"], &done["left_alone"]),
        (&serde_json::json!({ "too-long": 7 }), &serde_json::json!([])),
        "{done:#}"
    );
    sql("drop database harbour");
    let load = format!("source {}", place.path("dump.sql").display());
    sql(&load);
    let rows: Vec<String> = sql("select hex(body) from harbour.posts order by id").lines().map(str::to_owned).collect();
    assert_eq!(rows.len(), 7);
    check_values(&rows);
    assert_eq!(
        sql("select distinct short, raw from harbour.posts").trim(),
        "http://lampholm.example/\thttp://lampholm.example/"
    );
}

#[test]
fn a_dump_of_postgresql_is_loaded_again_with_every_value_whole() {
    let place = Place::new();
    std::fs::set_permissions(place.path(""), PermissionsExt::from_mode(0o755)).unwrap();
    a_leaf(&place);
    let port = free_port();
    let _server = postgres(&place, port);
    let psql = |database: &str, words: &[&str]| psql(port, database, words);
    psql("postgres", &["-c", "create database harbour encoding 'UTF8' template template0"]);
    psql("harbour", &["-c", "create table posts (id int primary key, short varchar(24), body text, raw bytea)"]);
    // PostgreSQL's texts have no zero bytes; PHP's objects with hidden members do.
    let kept: Vec<String> = values("http").into_iter().filter(|value| !hex_text(value).contains('\0')).collect();
    for (n, value) in kept.iter().enumerate() {
        let insert = format!(
            "insert into posts values ({n}, 'http://lampholm.example/', convert_from(decode('{value}', 'hex'), 'UTF8'), 'x')"
        );
        psql("harbour", &["-c", &insert]);
    }
    place.write("eskort.toml", "state = \"state\"\n");
    for form in ["--inserts", "--column-inserts", "--no-comments"] {
        let dump = Command::new("pg_dump")
            .args(["-h", "127.0.0.1", "-p", &port.to_string(), "-U", "postgres", form, "harbour"])
            .output();
        std::fs::write(place.path("dump.sql"), dump.unwrap().stdout).unwrap();
        let done = place.run(&[&["links", "mend", "dump.sql", "--yes", "--output", "json"], &SITE[..]].concat());
        assert_eq!(json(done.check(0, &[]))["left"], serde_json::json!({ "too-long": kept.len() }), "{form}");
        psql("postgres", &["-c", "drop database if exists again"]);
        psql("postgres", &["-c", "create database again encoding 'UTF8' template template0"]);
        psql("again", &["-q", "-f", place.path("dump.sql").to_str().unwrap()]);
        let rows = psql("again", &["-c", "select encode(convert_to(body, 'UTF8'), 'hex') from posts order by id"]);
        let rows: Vec<String> = rows.lines().map(str::to_owned).collect();
        assert_eq!((rows.len(), unreadable(&rows)), (kept.len(), String::new()), "{form}");
        let changed = rows.iter().filter(|row| hex_text(row).contains("https:")).count();
        assert_eq!(changed, kept.len(), "{form}");
    }
}

#[test]
fn pages_of_a_live_site_are_read_and_other_hosts_are_asked() {
    let test = "links::pages_of_a_live_site_are_read_and_other_hosts_are_asked";
    let hosts = "127.0.0.1 lampholm.example\n127.0.77.1 good.tides.example\n127.0.77.2 odd.tides.example\n127.0.77.3 silent.tides.example\n";
    if in_a_network_of_its_own(test, "", "nameserver 127.0.77.9\n", hosts) {
        return;
    }
    let place = Place::new();
    let runtime = runtime();
    let (bundle, key) = (place.path("tls/site.pem"), place.path("tls/site.key"));
    let at = |port: u16| std::net::SocketAddr::from(([127, 0, 0, 1], port));
    let _site =
        runtime.block_on(eskort_practice::Site::start(&place.path("www"), &bundle, &key, at(80), at(443))).unwrap();
    for (page, next) in [("index", "a"), ("a", "b"), ("b", "a")] {
        let others = ["good", "odd", "silent"].map(|name| format!("<a href=\"http://{name}.tides.example/\">x</a>"));
        let text = format!(
            "<!doctype html><a href=\"/{next}.html\">on</a><img src=\"http://lampholm.example/{page}.png\">{}",
            others.concat()
        );
        place.write(&format!("www/{page}.html"), &text);
    }
    for (name, subject, ip) in
        [("good", "good.tides.example", "127.0.77.1"), ("odd", "else.tides.example", "127.0.77.2")]
    {
        let line = format!(
            "req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj /CN={name} -keyout {name}.key -out {name}.pem -days 9 \
             -addext subjectAltName=DNS:{subject} -addext basicConstraints=critical,CA:false"
        );
        place.openssl(&line.split_whitespace().collect::<Vec<_>>()).check(0, &[]);
        let server = openssl_server(
            &place,
            format!("{ip}:443").parse().unwrap(),
            &format!("-cert {name}.pem -key {name}.key -www"),
        );
        std::mem::forget(server);
    }
    place.write("roots.pem", &(place.read("good.pem") + &place.read("odd.pem")));
    let run = |words: &[&str]| {
        let roots = place.path("roots.pem").display().to_string();
        place.run_with("SSL_CERT_FILE", &roots, &[&["links"], words, &SITE[..]].concat())
    };
    for first in ["http://lampholm.example/", "https://lampholm.example/"] {
        let found = run(&["find", first, "--output", "json"]);
        let found = json(found.check(4, &[]));
        assert_eq!((&found["addresses"], &found["read"]), (&3.into(), &3.into()), "{found:#}");
        assert!(found.get("others_over_https").is_none());
        let found = json(run(&["find", first, "--pages", "2", "--output", "json"]).check(4, &[]));
        assert_eq!((&found["addresses"], &found["read"]), (&2.into(), &2.into()), "{found:#}");
    }
    let asked = run(&["find", "https://lampholm.example/", "--ask-others"]);
    asked.check(
        4,
        &[
            "good.tides.example answers over https",
            "odd.tides.example answers over https with a certificate that visitors do not trust",
            "silent.tides.example does not answer over https",
        ],
    );
    run(&["find", "https://silent.tides.example/"]).check(4, &["0 addresses", "it does not answer"]);
    run(&["find", "https://nowhere.tides.example/"]).check(1, &["https://nowhere.tides.example/ cannot be found"]);
    run(&["mend", "https://lampholm.example/", "--yes"])
        .check(2, &["cannot be changed from outside", "name its folder"]);
}
