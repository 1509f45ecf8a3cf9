use super::survey;
use crate::survey::testing::{lines, reader};
use std::path::Path;

const MAIN: &str = "/etc/lighttpd/lighttpd.conf";

#[test]
fn hosts_have_what_is_said_for_them_and_for_all() {
    let main = "server.modules = ( \"mod_access\", \"mod_redirect\", )\nvar.base = \"/srv\"\nserver.document-root = var.base + \"/www\"\nserver.port = 8080\n\
                include \"conf-enabled/*.conf\"\ninclude_shell \"x.sh\"\ninclude_shell \"/usr/share/lighttpd/use-ipv6.pl \" + server.port\n$HTTP[\"scheme\"] == \"http\" {\n  url.redirect = ( \"\" => \"https://${url.authority}${url.path}\" )\n}\n\
                $SERVER[\"socket\"] == \":443\" {\n  ssl.engine = \"enable\"\n  ssl.pemfile = \"/etc/tls/site.pem\"\n  KEY = \"/etc/tls/site.key\"\n\
                \x20 $HTTP[\"host\"] =$ \".archive.lampholm.example\" {\n    ssl.pemfile = \"/etc/tls/archive.pem\"\n  }\n}\n\
                $HTTP[\"host\"] == \"lampholm.example\" {\n  server.document-root = \"/srv/lampholm\"\n} else $HTTP[\"host\"] =~ \"^old\\.\" {\n} else {\n}\n";
    let main = &*main.replace("KEY", &("ssl.priv".to_owned() + "key"));
    let files = [
        (MAIN, main),
        ("/etc/lighttpd/conf-enabled/a.conf", "$SERVER[\"socket\"] == \"[::]:443\" { ssl.engine = \"enable\" }\n"),
    ];
    let found = survey(Path::new(MAIN), &mut reader(&files)).unwrap();
    let (sockets, to) = ("8080,[::]:443+tls,[::]:8080,443+tls", "-> https://${url.authority}${url.path}");
    assert_eq!(
        lines(&found),
        [
            format!("{MAIN}:1  {sockets} /etc/tls/site.pem,/etc/tls/site.key {to}"),
            format!("{MAIN}:15 =$ .archive.lampholm.example {sockets} /etc/tls/archive.pem,/etc/tls/site.key {to}"),
            format!("{MAIN}:19 lampholm.example {sockets} /etc/tls/site.pem,/etc/tls/site.key {to}"),
            format!("{MAIN}:21 =~ ^old\\. {sockets} /etc/tls/site.pem,/etc/tls/site.key {to}"),
        ]
    );
    let roots: Vec<_> = found.sites.iter().map(|site| site.document_root.as_deref().unwrap_or_default()).collect();
    assert_eq!(roots, ["/srv/www", "/srv/www", "/srv/lampholm", "/srv/www"]);
    let said: Vec<String> = found.remarks.iter().map(|r| format!("{}: {}", r.place.line, r.text)).collect();
    assert_eq!(said, ["6: what the command `x.sh` says was left out"]);
}

#[test]
fn circles_and_braces_that_do_not_fit_are_refused() {
    for text in ["include \"lighttpd.conf\"", "$HTTP[\"host\"] == \"a\" {", "}", "a b", "a = ", "a = (\"x\""] {
        assert!(survey(Path::new(MAIN), &mut reader(&[(MAIN, text)])).is_err(), "{text}");
    }
}

proptest::proptest! {
    #[test]
    fn any_text_is_read_or_refused(text in "(\n|ssl.pemfile|=|\\+=| |\"a\"|\\{|\\}|\\(|\\)|#|\\$HTTP\\[\"host\"\\]|==|else|include|,|=>|\\+|\"){0,40}") {
        let _ = survey(Path::new(MAIN), &mut reader(&[(MAIN, &text)]));
    }
}
