use super::*;
use eskort_core::names::Identifier;
use std::path::{Path, PathBuf};

/// Loads a configuration from texts; `conf.d/*.conf` stands for all files in that folder.
fn config(files: &[(&str, &str)]) -> Config {
    try_config(files).unwrap()
}

fn try_config(files: &[(&str, &str)]) -> Result<Config, LoadError> {
    load(Path::new("/etc/nginx/nginx.conf"), &mut |pattern| {
        let text = pattern.to_str().unwrap();
        let hit = |path: &str| match text.split_once('*') {
            Some((head, tail)) => path.starts_with(head) && path.ends_with(tail),
            None => path == text,
        };
        Ok(files.iter().filter(|(p, _)| hit(p)).map(|(p, b)| (PathBuf::from(p), b.as_bytes().to_vec())).collect())
    })
}

fn plan_for(config: &Config, names: &[&str], redirect: bool) -> Result<SitePlan, PlanError> {
    let names: Vec<Identifier> = names.iter().map(|n| Identifier::parse(n).unwrap()).collect();
    plan(
        config,
        &Wish {
            names: &names,
            bundle: Path::new("/state/current/bundle.pem"),
            key: Path::new("/state/current/key.pem"),
            tls_port: 443,
            redirect,
            challenge_folder: Some(Path::new("/srv/www")),
        },
    )
}

/// Plans on a single file and returns what it will be; checks that planning on the result changes nothing.
fn changed(text: &str, names: &[&str], redirect: bool) -> String {
    let before = config(&[("/etc/nginx/nginx.conf", text)]);
    let found = plan_for(&before, names, redirect).unwrap();
    let new = found.changes.first().map_or(text.to_owned(), |c| String::from_utf8(c.new.clone()).unwrap());
    let after = config(&[("/etc/nginx/nginx.conf", &new)]);
    assert_eq!(plan_for(&after, names, redirect).unwrap().changes, [], "the second time nothing changes:\n{new}");
    new
}

const BOTH: &[&str] = &["lampholm.example", "www.lampholm.example"];

#[test]
fn a_block_with_tls_is_pointed_at_our_files_and_nothing_else_changes() {
    let text = "http {\n  server { # front\n\tlisten 443 ssl;  server_name lampholm.example www.lampholm.example;\n\
                \tssl_certificate     /etc/old.pem; # the old one\n\tssl_certificate_key '/etc/old key';\n  }\n}";
    let wanted =
        text.replace("/etc/old.pem", "/state/current/bundle.pem").replace("'/etc/old key'", "/state/current/key.pem");
    assert_eq!(changed(text, BOTH, false), wanted);
}

#[test]
fn a_plain_block_gets_tls_listeners_beside_its_own() {
    let text = "http {\n    server {\n        listen 80;\n        listen [::]:80;\n        server_name lampholm.example;\n    }\n}\n";
    let wanted = "http {\n    server {\n        listen 80;\n        listen [::]:80;\n        server_name lampholm.example;\n        \
                  listen 443 ssl;\n        listen [::]:443 ssl;\n        ssl_certificate /state/current/bundle.pem;\n        \
                  ssl_certificate_key /state/current/key.pem;\n    }\n}\n";
    assert_eq!(changed(text, BOTH, false), wanted);
}

#[test]
fn keeps_crlf_and_a_missing_last_line_end_when_adding_lines() {
    let text = "http {\r\n  server {\r\n    listen 80;\r\n    server_name lampholm.example;\r\n  }\r\n}";
    let new = changed(text, BOTH, false);
    assert_eq!(new.matches('\n').count(), new.matches("\r\n").count());
    assert!(new.ends_with('}') && new.contains("\r\n    listen 443 ssl;\r\n"), "{new}");
}

#[test]
fn a_redirect_moves_the_plain_listeners_to_a_block_that_keeps_the_challenge_path() {
    let text = "http {\n    server {\n        listen 80;\n        server_name lampholm.example;\n        root /srv/site;\n    }\n}\n";
    let wanted = "http {\n    server {\n        listen 80;\n        server_name lampholm.example;\n\n        \
                  location /.well-known/acme-challenge/ {\n            root /srv/www;\n        }\n        \
                  location / {\n            return 301 https://$host$request_uri;\n        }\n    }\n\n    \
                  server {\n        server_name lampholm.example;\n        listen 443 ssl;\n        \
                  ssl_certificate /state/current/bundle.pem;\n        ssl_certificate_key /state/current/key.pem;\n        \
                  root /srv/site;\n    }\n}\n";
    assert_eq!(changed(text, BOTH, true), wanted);
}

#[test]
fn new_lines_are_indented_as_their_neighbours() {
    let text = "http {\nserver {\n\tlisten 80;\n\tserver_name lampholm.example;\n\troot /srv/site;\n}\n}\n";
    let new = changed(text, BOTH, true);
    assert!(new.contains("\tlocation / {\n\t\treturn 301 https://$host$request_uri;\n\t}\n}\n\nserver {\n"), "{new}");
    assert!(new.lines().all(|line| !line.starts_with(' ')), "{new}");
}

#[test]
fn a_plain_block_beside_a_tls_block_redirects_inside() {
    let text = "http {\n server {\n  listen 80;\n  server_name lampholm.example;\n  location / { root /a; }\n }\n \
                server {\n  listen 8443 ssl;\n  server_name lampholm.example;\n  ssl_certificate a; ssl_certificate_key b;\n }\n}\n";
    let new = changed(text, BOTH, true);
    let wanted = "  server_name lampholm.example;\n  if ($uri !~ ^/\\.well-known/acme-challenge/) {\n   \
                  return 301 https://$host:8443$request_uri;\n  }\n  location / { root /a; }";
    assert!(new.contains(wanted), "{new}");
}

#[test]
fn includes_and_globs_are_followed_and_the_right_file_is_edited() {
    let files = [
        ("/etc/nginx/nginx.conf", "events {}\nhttp { include conf.d/*.conf; include /etc/nginx/conf.d/a.conf; }"),
        ("/etc/nginx/conf.d/a.conf", "server { listen 80; server_name other.example; }"),
        ("/etc/nginx/conf.d/b.conf", "server { listen 443 ssl; server_name .lampholm.example; include tls/one; }"),
        ("/etc/nginx/tls/one", "ssl_certificate x; ssl_certificate_key y;"),
    ];
    let found = plan_for(&config(&files), BOTH, false).unwrap();
    let paths: Vec<_> = found.changes.iter().map(|c| c.path.to_str().unwrap()).collect();
    assert_eq!(paths, ["/etc/nginx/tls/one"]);
    let served: Vec<_> = found.endpoints.iter().map(|e| (&*e.name, e.port)).collect();
    assert_eq!(served, [("lampholm.example", 443), ("www.lampholm.example", 443)]);
}

#[test]
fn certificate_lines_that_other_sites_share_are_left_alone() {
    let files = [
        (
            "/etc/nginx/nginx.conf",
            "http { server { listen 443 ssl; server_name lampholm.example; include tls; }\n\
             server { listen 443 ssl; server_name harbour.example; include tls; } }",
        ),
        ("/etc/nginx/tls", "\nssl_certificate x; ssl_certificate_key y;"),
    ];
    let error = plan_for(&config(&files), BOTH, false).unwrap_err();
    assert_eq!(error.to_string(), "/etc/nginx/tls:2: these certificate lines belong to other sites as well");
}

#[test]
fn says_what_it_cannot_serve_and_what_else_a_block_serves() {
    let text = "http { server { listen 80; server_name lampholm.example shop.lampholm.example ~^x; } }";
    let found = plan_for(&config(&[("/etc/nginx/nginx.conf", text)]), BOTH, false).unwrap();
    let said: Vec<_> = found.findings.iter().map(|f| f.text.as_str()).collect();
    assert_eq!(said.len(), 2, "{said:?}");
    assert!(said[0].contains("www.lampholm.example") && said[1].contains("serves shop.lampholm.example too"));
    let text = text.replace("listen 80;", "listen 443 ssl; ssl_certificate a; ssl_certificate_key b;");
    let error = plan_for(&config(&[("/etc/nginx/nginx.conf", &text)]), BOTH, false).unwrap_err();
    let wanted =
        "/etc/nginx/nginx.conf:1: with this certificate the server block would lose TLS for shop.lampholm.example";
    assert_eq!(error.to_string(), wanted);
    let none = plan_for(&config(&[("/etc/nginx/nginx.conf", "http { }")]), BOTH, false).unwrap_err();
    assert!(matches!(none, PlanError::NoServerBlock { .. }));
    let twice = text.replace("ssl_certificate a;", "ssl_certificate a; ssl_certificate c;");
    let error = plan_for(&config(&[("/etc/nginx/nginx.conf", &twice)]), BOTH, false).unwrap_err();
    assert!(matches!(error, PlanError::SeveralCertificates { count: 2, .. }));
}

#[test]
fn a_broken_file_is_refused_with_its_line() {
    for (text, said) in [
        ("http {\n server {", "/etc/nginx/nginx.conf:2: the file ends and a `}` is missing"),
        ("http { }\n}", "/etc/nginx/nginx.conf:2: this `}` closes nothing"),
        ("events", "/etc/nginx/nginx.conf:1: this directive has no `;`"),
        ("http { listen 80 }", "/etc/nginx/nginx.conf:1: this directive has no `;`"),
        (";", "/etc/nginx/nginx.conf:1: a directive should begin here"),
    ] {
        assert_eq!(try_config(&[("/etc/nginx/nginx.conf", text)]).unwrap_err().to_string(), said);
    }
    let deep = "a {".repeat(5_000);
    assert!(try_config(&[("/etc/nginx/nginx.conf", &deep)]).unwrap_err().to_string().contains("too deep"));
}

#[test]
fn blocks_of_another_language_are_passed_over() {
    let text = "http { init_by_lua_block { local t = { a = 'x' } } server { listen 443 ssl; \
                server_name lampholm.example; ssl_certificate a; ssl_certificate_key b; } }";
    assert!(changed(text, BOTH, false).contains("local t = { a = 'x' }"));
}

#[test]
fn the_old_way_to_switch_tls_on_counts_and_inherited_lines_are_overridden_in_the_block() {
    let text = "http {\n  ssl_certificate /all.pem; ssl_certificate_key /all.key;\n  server {\n    listen 192.0.2.7:8443;\n    \
                ssl on;\n    server_name lampholm.example;\n  }\n}\n";
    let new = changed(text, BOTH, false);
    assert!(
        new.contains("server_name lampholm.example;\n    ssl_certificate /state/current/bundle.pem;\n    ssl_cert"),
        "{new}"
    );
    assert!(new.contains("ssl_certificate /all.pem"), "what others inherit stays");
    let found = plan_for(&config(&[("/etc/nginx/nginx.conf", text)]), BOTH, false).unwrap();
    let wanted = Endpoint { name: "lampholm.example".into(), ip: Some("192.0.2.7".parse().unwrap()), port: 8443 };
    assert_eq!(found.endpoints, [wanted]);
}

#[test]
fn a_block_without_listen_keeps_port_80_and_odd_listeners_are_mirrored_once() {
    let text = "http { server { server_name lampholm.example; } }";
    let new = changed(text, BOTH, false);
    assert!(new.contains("listen 80;") && new.contains("listen 443 ssl;"), "{new}");
    let text = "http { server { listen 80 default_server; listen *:80; listen unix:/run/lamp; listen 127.0.0.1:8080; \
                listen [2001:db8::7]:80; server_name lampholm.example; } }";
    let new = changed(text, BOTH, false);
    assert_eq!(new.matches("ssl;").count(), 3, "{new}");
    for line in ["listen 443 ssl;", "listen 127.0.0.1:443 ssl;", "listen [2001:db8::7]:443 ssl;"] {
        assert!(new.contains(line), "{line} is not in {new}");
    }
}

#[test]
fn a_wildcard_is_served_under_the_names_that_blocks_spell_out() {
    let text = "http {\n server { listen 443 ssl; server_name a.lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n \
                server { listen 443 ssl; server_name *.lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n \
                server { listen 443 ssl; server_name a.b.lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n}\n";
    let new = changed(text, &["*.lampholm.example"], false);
    assert_eq!(new.matches("bundle.pem").count(), 2, "{new}");
    let found = plan_for(&config(&[("/etc/nginx/nginx.conf", text)]), &["*.lampholm.example"], false).unwrap();
    assert_eq!(found.endpoints.iter().map(|e| e.name.as_str()).collect::<Vec<_>>(), ["a.lampholm.example"]);
}

#[test]
fn a_name_goes_to_the_block_that_names_it_before_a_wildcard_block() {
    let text = "http {\n server { listen 443 ssl; server_name *.lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n \
                server { listen 443 ssl; server_name www.lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n}\n";
    let new = changed(text, &["www.lampholm.example"], false);
    assert!(new.lines().nth(1).unwrap().contains("ssl_certificate x;"), "{new}");
    assert!(changed(text, &["shop.lampholm.example"], false).lines().nth(1).unwrap().contains("bundle.pem"));
}

#[test]
fn a_block_that_redirects_already_is_left_alone() {
    let text = "http {\n server { listen 80; server_name lampholm.example; location / { return 308 https://$host$request_uri; } }\n \
                server { listen 443 ssl; server_name lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n}\n";
    assert_eq!(changed(text, BOTH, true).lines().nth(1), text.lines().nth(1));
}

#[test]
fn includes_that_go_in_circles_end() {
    let files = [
        (
            "/etc/nginx/nginx.conf",
            "http { include a; server { listen 443 ssl; server_name lampholm.example; include a; } }",
        ),
        ("/etc/nginx/a", "include a; ssl_certificate x; ssl_certificate_key y;"),
    ];
    // Each round brings the lines again: too many certificates, and an end.
    assert!(plan_for(&config(&files), BOTH, false).is_err());
}

proptest::proptest! {
    #[test]
    fn any_bytes_are_read_or_refused(bytes in proptest::collection::vec(proptest::sample::select(b"server{};listen 80 \"'\\#$\n".to_vec()), 0..300)) {
        let loaded = load(Path::new("/n"), &mut |_| Ok(vec![(PathBuf::from("/n"), bytes.clone())]));
        if let Ok(config) = loaded {
            let _ = plan_for(&config, BOTH, true);
        }
    }
}

#[test]
fn an_address_is_served_by_the_block_that_names_it_in_any_spelling() {
    let before = "http {\n    server {\n        listen 80;\n        server_name [2001:DB8:0::7] 192.0.2.7;\n    }\n}\n";
    let after = changed(before, &["2001:db8::7", "192.0.2.7"], false);
    assert!(after.contains("ssl_certificate /state/current/bundle.pem;"), "{after}");
    let config = config(&[("/etc/nginx/nginx.conf", before)]);
    assert!(matches!(plan_for(&config, &["192.0.2.8"], false), Err(PlanError::NoServerBlock { .. })));
}
