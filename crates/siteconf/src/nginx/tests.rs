use super::*;
use crate::{Endpoint, LoadError, Place, PlanError, SitePlan, TlsTarget};
use eskort_core::https::HttpsWishes;
use eskort_core::names::Identifier;
use proptest::prelude::Strategy;
use proptest::sample::select;
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
        &Sites::find(config),
        &TlsTarget {
            wishes: HttpsWishes { redirect, ..HttpsWishes::default() },
            ..TlsTarget::new(&names, Path::new("/state/current/bundle.pem"), Path::new("/state/current/key.pem"))
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
fn the_file_with_the_number_of_the_main_process_is_known_where_it_is_named_whole() {
    for (text, wanted) in [
        ("pid /run/nginx.pid;\nhttp {}", Some("/run/nginx.pid")),
        ("include more.conf;", Some("/srv/pid")),
        ("pid logs/nginx.pid;", None),
        ("http { server { set $pid /run/x; } }", None),
        ("pid;", None),
    ] {
        let config = config(&[("/etc/nginx/nginx.conf", text), ("/etc/nginx/more.conf", "pid '/srv/pid';")]);
        assert_eq!(pid_file(&config).as_deref(), wanted.map(Path::new), "{text}");
    }
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

/// What is put into a block that redirects two hosts.
fn redirect(hosts: &str, port: &str, indent: &str, step: &str) -> String {
    let lines = [
        "# From http to https; certificate authorities ask for their challenges over http.".to_owned(),
        "set $eskort_asked \"$scheme://$host$request_uri\";".to_owned(),
        format!("if ($eskort_asked ~ \"^http://({hosts})/(?!\\.well-known/acme-challenge/)\") {{"),
        format!("{step}return 301 https://$host{port}$request_uri;"),
        "}".to_owned(),
    ];
    lines.map(|line| format!("{indent}{line}\n")).concat()
}

#[test]
fn a_redirect_leaves_the_block_with_all_that_it_has() {
    let text = "http {\n    server {\n        server_name lampholm.example;\n        listen 80;\n        root /srv/site;\n    }\n}\n";
    let wanted = format!(
        "http {{\n    server {{\n        server_name lampholm.example;\n        listen 80;\n        listen 443 ssl;\n        \
         ssl_certificate /state/current/bundle.pem;\n        ssl_certificate_key /state/current/key.pem;\n{}        \
         root /srv/site;\n    }}\n}}\n",
        redirect("lampholm\\.example", "", "        ", "    ")
    );
    assert_eq!(changed(text, BOTH, true), wanted);
    // A name more, another time.
    let grown = wanted.replace("server_name lampholm.example;", "server_name lampholm.example www.lampholm.example;");
    let new = changed(&grown, BOTH, true);
    assert_eq!(new, grown.replace("(lampholm\\.example)", "(lampholm\\.example|www\\.lampholm\\.example)"));
}

#[test]
fn only_names_that_the_certificate_has_are_redirected() {
    let text = "http {\n server {\n  listen 80 default_server;\n  server_name lampholm.example shop.lampholm.example;\n }\n}\n";
    let new = changed(text, BOTH, true);
    assert!(new.contains("^http://(lampholm\\.example)/(?!"), "{new}");
    assert!(new.contains("listen 443 ssl default_server;") && new.contains("listen 80 default_server;"), "{new}");
    let text = "http {\n server {\n  listen 80;\n  server_name *.lampholm.example a.lampholm.example;\n }\n}\n";
    let new = changed(text, &["*.lampholm.example"], true);
    assert!(new.contains("^http://([^.]+\\.lampholm\\.example|a\\.lampholm\\.example)/(?!"), "{new}");
}

#[test]
fn new_lines_are_indented_as_their_neighbours() {
    let text = "http {\nserver {\n\tlisten 80;\n\tserver_name lampholm.example;\n\troot /srv/site;\n}\n}\n";
    let new = changed(text, BOTH, true);
    assert!(new.contains("\n\t\treturn 301 https://$host$request_uri;\n\t}\n\troot"), "{new}");
    assert!(new.lines().all(|line| !line.starts_with(' ')), "{new}");
}

#[test]
fn a_plain_block_beside_a_tls_block_redirects_inside() {
    let text = "http {\n server {\n  listen 80;\n  server_name lampholm.example;\n  location / { root /a; }\n }\n \
                server {\n  listen 8443 ssl;\n  server_name lampholm.example;\n  ssl_certificate a; ssl_certificate_key b;\n }\n}\n";
    let new = changed(text, BOTH, true);
    let wanted = format!(
        "  server_name lampholm.example;\n{}  location / {{ root /a; }}",
        redirect("lampholm\\.example", ":8443", "  ", " ")
    );
    assert!(new.contains(&wanted), "{new}");
}

#[test]
fn includes_and_globs_are_followed_and_the_right_file_is_edited() {
    let files = [
        ("/etc/nginx/nginx.conf", "events {}\nhttp { include conf.d/*.conf; include /etc/nginx/conf.d/a.conf; }"),
        ("/etc/nginx/conf.d/a.conf", "server { listen 80; server_name other.example; }"),
        (
            "/etc/nginx/conf.d/b.conf",
            "server { listen 443 ssl; server_name lampholm.example www.lampholm.example; include tls/one; }",
        ),
        ("/etc/nginx/tls/one", "ssl_certificate x; ssl_certificate_key y;"),
    ];
    let found = plan_for(&config(&files), BOTH, false).unwrap();
    let paths: Vec<_> = found.changes.iter().map(|c| c.path.to_str().unwrap()).collect();
    assert_eq!(paths, ["/etc/nginx/tls/one"]);
    let served: Vec<_> = found.endpoints.iter().map(|e| (&*e.name, e.port)).collect();
    assert_eq!(served, [("lampholm.example", Some(443)), ("www.lampholm.example", Some(443))]);
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
    assert_eq!(error.to_string(), "/etc/nginx/tls:2: these lines belong to other sites as well");
}

#[test]
fn says_what_it_cannot_serve_and_what_else_a_block_serves() {
    let text = "http { server { listen 80; server_name lampholm.example shop.lampholm.example; } }";
    let found = plan_for(&config(&[("/etc/nginx/nginx.conf", text)]), BOTH, false).unwrap();
    let said: Vec<_> = found.findings.iter().map(|f| f.text.as_str()).collect();
    assert_eq!(said.len(), 2, "{said:?}");
    assert!(said[0].contains("www.lampholm.example") && said[1].contains("serves shop.lampholm.example too"));
    let text = text.replace("listen 80;", "listen 443 ssl; ssl_certificate a; ssl_certificate_key b;");
    let error = plan_for(&config(&[("/etc/nginx/nginx.conf", &text)]), BOTH, false).unwrap_err();
    let wanted = "/etc/nginx/nginx.conf:1: with this certificate the site would lose TLS for shop.lampholm.example";
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
        ("http { }\n}", "/etc/nginx/nginx.conf:2: this `}` is not expected here"),
        ("events", "/etc/nginx/nginx.conf:1: this directive has no `;`"),
        ("http { listen 80 }", "/etc/nginx/nginx.conf:1: this directive has no `;`"),
        ("root \"/a\"\"/b\";", "/etc/nginx/nginx.conf:1: a blank is missing behind this quote"),
        (";", "/etc/nginx/nginx.conf:1: a directive is expected here"),
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
    let wanted = Endpoint { name: "lampholm.example".into(), ip: Some("192.0.2.7".parse().unwrap()), port: Some(8443) };
    assert_eq!(found.endpoints, [wanted]);
}

#[test]
fn what_was_planned_for_one_certificate_is_there_for_the_next() {
    let files = [
        ("/etc/nginx/nginx.conf", "http { include sites/*; }"),
        (
            "/etc/nginx/sites/a",
            "server { listen 80; server_name lampholm.example; }\nserver { listen 80; server_name harborg.example; include more; }\n",
        ),
        ("/etc/nginx/more", "server_name www.harborg.example;"),
    ];
    let before = config(&files);
    let first = plan_for(&before, &["lampholm.example"], false).unwrap();
    let between = with_changes(&before, &first.changes).unwrap();
    let second = plan_for(&between, &["harborg.example", "www.harborg.example"], false).unwrap();
    let text = String::from_utf8(second.changes[0].new.clone()).unwrap();
    assert_eq!((second.changes.len(), text.matches("listen 443 ssl;").count()), (1, 2), "{text}");
    let after = with_changes(&between, &second.changes).unwrap();
    for names in [&["lampholm.example"][..], &["harborg.example", "www.harborg.example"]] {
        assert_eq!(plan_for(&after, names, false).unwrap().changes, []);
    }
}

#[test]
fn a_listener_for_quic_is_no_place_to_look_at_over_tcp() {
    let text = "http { server { listen 8443 quic; listen 9443 ssl; server_name lampholm.example; } }";
    let loaded = config(&[("/etc/nginx/nginx.conf", text)]);
    let found = plan_for(&loaded, BOTH, false).unwrap();
    assert_eq!(found.endpoints.iter().map(|e| e.port).collect::<Vec<_>>(), [Some(9443)]);
    let place = &Sites::find(&loaded).blocks[0].site.place;
    assert_eq!((place.to_string().as_str(), place.column), ("/etc/nginx/nginx.conf:1", 8));
}

#[test]
fn a_block_without_listen_keeps_port_80_and_odd_listeners_are_mirrored_once() {
    let text = "http { server { server_name lampholm.example; } }";
    let new = changed(text, BOTH, false);
    assert!(new.contains("listen 80;") && new.contains("listen 443 ssl;"), "{new}");
    let text = "http { server { listen 80 default_server; listen unix:/run/lamp; listen 127.0.0.1:8080; \
                listen [2001:db8::7]:80; server_name lampholm.example; } }";
    let new = changed(text, BOTH, false);
    assert_eq!(new.matches(" ssl").count(), 5, "{new}");
    for line in ["listen 443 ssl default_server;", "listen 127.0.0.1:443 ssl;", "listen [2001:db8::7]:443 ssl;"] {
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
}

#[test]
fn lines_of_a_certificate_in_a_block_without_tls_are_used() {
    let text = "http {\n server { listen 80; server_name lampholm.example shop.lampholm.example;\n  ssl_certificate a; ssl_certificate_key b; }\n}\n";
    let new = changed(text, BOTH, false);
    assert!(new.contains("listen 443 ssl;") && new.matches("ssl_certificate ").count() == 1, "{new}");
    assert!(
        new.contains("ssl_certificate /state/current/bundle.pem; ssl_certificate_key /state/current/key.pem;"),
        "{new}"
    );
}

#[test]
fn a_certificate_in_use_is_not_replaced_by_one_that_has_less() {
    for names in [
        "*.lampholm.example",
        ".lampholm.example",
        "~^(?<one>.+)\\.lampholm\\.example$",
        "shop.* shop.lampholm.example",
    ] {
        for inherits in [false, true] {
            let lines = "ssl_certificate /old/$one.pem; ssl_certificate_key /old/$one.key;";
            let (around, own) = if inherits { (lines, "") } else { ("", lines) };
            let text = format!("http {{ {around}\n server {{ listen 443 ssl; server_name {names}; {own} }}\n}}\n");
            let files = [("/etc/nginx/nginx.conf", text.as_str())];
            let refused = plan_for(&config(&files), &["shop.lampholm.example"], false).unwrap_err();
            let PlanError::WouldUncover { names: lost, ours, place: Place { line: 2, .. } } = &refused else {
                panic!("{names}: {refused}")
            };
            assert!(!lost.is_empty() && ours == &["shop.lampholm.example"], "{names}: {refused}");
        }
    }
    let text = "http {\n server { listen 443 ssl; server_name .lampholm.example; ssl_certificate x; ssl_certificate_key y; }\n}\n";
    assert!(changed(text, &["lampholm.example", "*.lampholm.example"], false).contains("bundle.pem"));
}

#[test]
fn names_are_matched_as_nginx_matches_them() {
    let blocks = [
        "lampholm.example",
        "*.lampholm.example",
        "*.deep.lampholm.example",
        "www.lampholm.*",
        "~^shop\\d\\.lampholm\\.test$",
        "~^shop.\\.lampholm\\.test$",
        "_",
    ];
    let block = |(n, name): (usize, &&str)| format!(" server {{ listen 80; server_name {name}; root /b{n}; }}\n");
    let text = format!("http {{\n{}}}\n", blocks.iter().enumerate().map(block).collect::<String>());
    let loaded = config(&[("/etc/nginx/nginx.conf", &text)]);
    let sites = Sites::find(&loaded);
    for (name, wanted) in [
        ("lampholm.example", 0),
        ("a.lampholm.example", 1),
        ("a.deep.lampholm.example", 2),
        ("www.lampholm.example", 1),
        ("www.lampholm.test", 3),
        ("shop7.lampholm.test", 4),
        ("shopx.lampholm.test", 5),
    ] {
        let served = sites.serving(&Identifier::parse(name).unwrap());
        assert_eq!(served.iter().map(|s| s.block).collect::<Vec<_>>(), [wanted], "{name}");
    }
    // Nobody has this name, and nobody says that it is for all others.
    assert!(sites.serving(&Identifier::parse("harbour.example").unwrap()).is_empty());
    let debian = "http { server { listen 80 default_server; listen [::]:80 default_server; server_name _; root /var/www/html; } }";
    let new = changed(debian, BOTH, true);
    for wanted in ["listen 443 ssl default_server;", "listen [::]:443 ssl default_server;", "(lampholm\\.example|www"] {
        assert!(new.contains(wanted), "{wanted}\n{new}");
    }
}

#[test]
fn a_block_that_redirects_already_is_left_alone_and_one_that_only_seems_so_is_not() {
    let tls = "server { listen 443 ssl; server_name lampholm.example; ssl_certificate x; ssl_certificate_key y; }";
    for (inside, leaves) in [
        ("location / { return 308 https://$host$request_uri; }", true),
        ("return 301 https://lampholm.example$request_uri;", true),
        ("return https://lampholm.example;", true),
        ("rewrite ^(.*)$ https://$host$1 permanent;", true),
        ("if ($http_x_forwarded_proto != \"https\") { return 301 https://$host$request_uri; }", true),
        ("location / { if ($scheme = http) { return 301 https://$host$request_uri; } root /a; }", true),
        ("location /old { return 301 https://lampholm.example/new; }", false),
        ("rewrite ^/old https://lampholm.example/new;", false),
        ("if ($bad) { return 302 https://harbour.example/; }", false),
        ("location = / { return 301 https://lampholm.example/start; }", false),
    ] {
        let text = format!("http {{\n server {{ listen 80; server_name lampholm.example; {inside} }}\n {tls}\n}}\n");
        let new = changed(&text, BOTH, true);
        assert_eq!(new.contains("$eskort_asked"), !leaves, "{inside}\n{new}");
    }
}

#[test]
fn a_listener_takes_nothing_from_other_sites() {
    let site = |listen: &str| format!("server {{ {listen} server_name lampholm.example; }}");
    let other = "server { listen 443 ssl; listen [::]:443 ssl; server_name harbour.example; ssl_certificate a; ssl_certificate_key b; }";
    for (listen, socket) in [
        ("listen 127.0.0.1; listen localhost:8088;", "127.0.0.1:443"),
        ("listen localhost:8088;", "localhost:443"),
        ("listen [2001:db8::7]:80;", "[2001:db8::7]:443"),
    ] {
        let text = format!("http {{ {}\n{other} }}", site(listen));
        let refused = plan_for(&config(&[("/etc/nginx/nginx.conf", &text)]), BOTH, false).unwrap_err();
        let wanted = format!("a TLS listener at {socket} would take this address from harbour.example");
        assert!(refused.to_string().contains(&wanted), "{refused}");
        // Alone, or where somebody listens there already, it takes nothing.
        let new = changed(&format!("http {{ {} }}", site(listen)), BOTH, false);
        assert!(new.contains(&format!("listen {socket} ssl;")) && !new.contains("listen 443"), "{new}");
    }
    for (listen, said) in
        [("listen unix:/run/lamp;", "unix:/run/lamp only"), ("listen tower.internal:80;", "tower.internal:80 only")]
    {
        let text = format!("http {{ {} }}", site(listen));
        let refused = plan_for(&config(&[("/etc/nginx/nginx.conf", &text)]), BOTH, false).unwrap_err();
        assert!(refused.to_string().contains(said), "{refused}");
    }
    // A Unix socket with TLS, or a balancer before it, is not looked at directly.
    for listen in ["listen unix:/run/lamp ssl;", "listen 443 ssl proxy_protocol;"] {
        let text = format!("http {{ server {{ {listen} server_name lampholm.example; }} }}");
        let found = plan_for(&config(&[("/etc/nginx/nginx.conf", &text)]), BOTH, false).unwrap();
        assert_eq!(found.endpoints, [Endpoint { name: "lampholm.example".into(), ip: None, port: None }]);
    }
    let new =
        changed(&format!("http {{ {} }}", site("listen 80 proxy_protocol; listen [::]:80 ipv6only=off;")), BOTH, false);
    assert!(
        new.contains("listen 443 ssl proxy_protocol;") && new.contains("listen [::]:443 ssl ipv6only=off;"),
        "{new}"
    );
}

#[test]
fn blocks_of_files_of_equal_length_are_told_apart() {
    let site = |name: &str| format!("server {{ listen 443 ssl; server_name {name}; include tls; }}");
    let (first, second) = (site("lampholm.example"), site("harborg.example2"));
    assert_eq!(first.len(), second.len());
    let files = [
        ("/etc/nginx/nginx.conf", "http { include sites/*; }"),
        ("/etc/nginx/sites/a", &first),
        ("/etc/nginx/sites/b", &second),
        ("/etc/nginx/tls", "ssl_certificate x; ssl_certificate_key y;"),
    ];
    let Err(PlanError::SharedLines { place }) = plan_for(&config(&files), BOTH, false) else { panic!("it is shared") };
    let included_from = vec![("/etc/nginx/sites/a".into(), 1), ("/etc/nginx/nginx.conf".into(), 1)];
    assert_eq!(place, Place { path: "/etc/nginx/tls".into(), line: 1, column: 1, included_from });
    // Listeners in a file that is included: nothing is added twice.
    let files = [
        ("/etc/nginx/nginx.conf", "http { server { include listen; server_name lampholm.example; } }"),
        ("/etc/nginx/listen", "listen 80;"),
    ];
    let found = plan_for(&config(&files), BOTH, true).unwrap();
    let new = String::from_utf8(found.changes[0].new.clone()).unwrap();
    let again = plan_for(
        &config(&[files[0], files[1]].map(|(p, t)| (p, if p.ends_with("conf") { &*new } else { t }))),
        BOTH,
        true,
    );
    assert_eq!(again.unwrap().changes, []);
}

#[test]
fn comments_stay_with_their_lines_and_odd_paths_are_quoted() {
    let text = "http {\n    server {\n        listen 80; # the old port\n        server_name lampholm.example; # ours\n    }\n}\n";
    let new = changed(text, BOTH, false);
    assert!(
        new.contains("listen 80; # the old port\n")
            && new.contains("lampholm.example; # ours\n        listen 443 ssl;")
    );
    let loaded = config(&[("/etc/nginx/nginx.conf", text)]);
    let names = [Identifier::parse("lampholm.example").unwrap()];
    let target = |bundle: &'static str| TlsTarget::new(&names, Path::new(bundle), Path::new("/k"));
    let found = plan(&loaded, &Sites::find(&loaded), &target("/my state/a\"b.pem")).unwrap();
    assert!(String::from_utf8_lossy(&found.changes[0].new).contains("ssl_certificate \"/my state/a\\\"b.pem\";"));
    assert!(matches!(plan(&loaded, &Sites::find(&loaded), &target("/a$b")), Err(PlanError::Variable { .. })));
}

#[test]
fn includes_that_go_in_circles_or_grow_without_end_are_refused() {
    let circle = [("/etc/nginx/nginx.conf", "http { include a; }"), ("/etc/nginx/a", "include a; include a;")];
    assert!(matches!(try_config(&circle), Err(LoadError::TooManyFiles { .. })));
    // Each file brings the next one in twice.
    let names: Vec<String> = (0..40).map(|n| format!("/etc/nginx/{n}")).collect();
    let texts: Vec<String> = (1..=40).map(|n| format!("include {n}; include {n};")).collect();
    let mut files: Vec<(&str, &str)> = names.iter().map(String::as_str).zip(texts.iter().map(String::as_str)).collect();
    files.insert(0, ("/etc/nginx/nginx.conf", "include 0;"));
    files.push(("/etc/nginx/40", "a;"));
    assert!(matches!(try_config(&files), Err(LoadError::TooManyFiles { .. })));
}

/// Draws configurations that are nearly right: statements that people write, in any order and number.
fn nearly_right() -> impl Strategy<Value = String> {
    const STATEMENTS: &[&str] = &[
        "listen 80;",
        "listen 80 default_server;",
        "listen [::]:80;",
        "listen 443 ssl;",
        "listen 443;",
        "listen 192.0.2.7:80;",
        "listen unix:/run/lamp.sock;",
        "ssl on;",
        "server_name lampholm.example;",
        "server_name www.lampholm.example *.archive.test;",
        "server_name _ \"~^(?<n>.+)\\.test$\";",
        "ssl_certificate /c.pem;",
        "ssl_certificate_key '/k.pem';",
        "return 301 https://$host$request_uri;",
        "location / { root /srv/www; }",
        "if ($http_x) { return 404; }",
        "# a note { with ; signs\n",
        "x",
        "}",
        "{",
    ];
    let statement = (select(STATEMENTS), select(&["", " ", "\n    ", "\r\n\t"][..]));
    let server = proptest::collection::vec(statement, 0..7).prop_map(|statements| {
        let text: String = statements.into_iter().map(|(statement, gap)| format!("{statement}{gap}")).collect();
        format!("server {{ {text} }}\n")
    });
    proptest::collection::vec(server, 1..4)
        .prop_map(|servers| format!("events {{}}\nhttp {{\n{}}}\n", servers.concat()))
}

#[test]
fn the_block_that_nginx_gives_other_names_to_stays_the_same() {
    let text = "http {\n  server { server_name lampholm.example; }\n  server { listen 443 ssl http2; server_name other.example; ssl_certificate a; ssl_certificate_key b; }\n}\n";
    let new = changed(text, &["lampholm.example"], false);
    assert!(
        new.contains("listen 443 ssl;\n") && new.contains("listen 443 ssl http2 default_server; server_name other"),
        "{new}"
    );
    let plain = config(&[("/etc/nginx/nginx.conf", &text.replace("443 ssl http2", "443"))]);
    assert!(matches!(plan_for(&plain, &["lampholm.example"], false), Err(PlanError::PlainSocket { .. })));
    // One that comes behind it, or beside one that says so, takes nothing.
    let behind = "http {\n  server { listen 443 ssl; ssl_certificate a; ssl_certificate_key b; }\n  server { server_name lampholm.example; }\n}\n";
    assert!(!changed(behind, &["lampholm.example"], false).contains("default_server"));
}

proptest::proptest! {
    #[test]
    fn what_is_planned_on_a_nearly_right_configuration_is_read_and_needs_no_second_change(text in nearly_right(), redirect: bool) {
        // nginx refuses two.
        if text.matches("default_server").count() > 1 {
            return Ok(());
        }
        let path = "/etc/nginx/nginx.conf";
        let Ok(before) = try_config(&[(path, &text)]) else { return Ok(()) };
        let Ok(found) = plan_for(&before, BOTH, redirect) else { return Ok(()) };
        let new = found.changes.first().map_or(text.clone(), |c| String::from_utf8(c.new.clone()).unwrap());
        let after = try_config(&[(path, &new)]);
        let again = plan_for(&after.unwrap(), BOTH, redirect).map(|found| found.changes.len());
        proptest::prop_assert_eq!(again, Ok(0), "{}", new);
    }

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
