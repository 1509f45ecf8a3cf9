use super::{load, survey};
use crate::survey::testing::{lines, reader};
use std::path::Path;

#[test]
fn frontends_have_the_names_and_certificates_of_their_lines() {
    let main = "global\n  crt-base /etc/tls\n  setenv PORT 8443\ndefaults web\n  mode http\nfrontend plain\n  bind *:80\n  bind [::]:80\n\
                \x20 redirect scheme https code 301 if !{ ssl_fc }\nfrontend front\n  bind :443,:::443 ssl crt site.pem alpn h2 crt more/\n\
                \x20 bind quic4@:443 ssl crt site.pem\n  acl shop hdr(host) -i shop.lampholm.example tickets.lampholm.example\n\
                \x20 use_backend b if { req.hdr(host) -i lampholm.example }\n.if version_before(2.0)\n  bind :1 ssl\n.elif defined(NONE)\n  bind :2\n.else\n\
                \x20 bind \"192.0.2.7:${PORT}\" ssl crt-list /etc/haproxy/list\n.endif\n.if feature(X)\n.endif\nbackend b\n  server a 127.0.0.1:81\n\
                listen db\n  mode tcp\n  bind /run/db.sock accept-proxy\n  bind fd@3\n";
    let files = [
        ("/etc/haproxy/haproxy.cfg", main),
        ("/etc/tls/more/a.pem", "a"),
        ("/etc/tls/more/a.pem.ocsp", "x"),
        (
            "/etc/haproxy/list",
            "# all\nsite.pem [alpn h2 ocsp-update on] *.archive.lampholm.example !old.archive.lampholm.example\nother.pem oil.example\n",
        ),
    ];
    let found = survey(Path::new("/etc/haproxy/haproxy.cfg"), &mut reader(&files)).unwrap();
    let file = "/etc/haproxy/haproxy.cfg";
    assert_eq!(
        lines(&found),
        [
            format!("{file}:6  80,[::]:80 -> https"),
            format!(
                "{file}:10 shop.lampholm.example,tickets.lampholm.example,lampholm.example,*.archive.lampholm.example,oil.example \
                 443+tls,[::]:443+tls,443+tls,192.0.2.7:8443+tls /etc/tls/site.pem /etc/tls/more/a.pem /etc/tls/site.pem /etc/tls/site.pem \
                 /etc/tls/other.pem"
            ),
            format!("{file}:26  unix:/run/db.sock"),
        ]
    );
    let said: Vec<&str> = found.remarks.iter().map(|remark| &*remark.text).collect();
    assert_eq!(said, ["the condition `feature(X)` was taken for true", "the address `fd@3` is not understood"]);
}

#[test]
fn sockets_for_orders_are_found_where_they_may_change_certificates() {
    let cases: [(&str, &[&str]); 6] = [
        ("stats socket /run/haproxy/admin.sock mode 660 level admin expose-fd listeners", &["/run/haproxy/admin.sock"]),
        ("stats socket unix@/a level admin\n stats socket /b level admin", &["/a", "/b"]),
        ("stats socket /a mode 660 level operator\n stats socket /b", &[]),
        ("stats socket 127.0.0.1:9999 level admin\n stats socket rel.sock level admin", &[]),
        ("unix-bind prefix /srv mode 770\n stats socket /a level admin", &["/srv/a"]),
        ("stats timeout 30s\n.if version_before(2.0)\n stats socket /a level admin\n.endif", &[]),
    ];
    for (lines, sockets) in cases {
        let text = format!("global\n {lines}\nfrontend a\n bind :80\n");
        let files = [("/h", &*text)];
        let known = load(Path::new("/h"), &mut reader(&files)).unwrap();
        let found: Vec<&str> = known.admin_sockets.iter().filter_map(|path| path.to_str()).collect();
        assert_eq!(found, sockets, "{lines}");
    }
}

proptest::proptest! {
    #[test]
    fn any_text_is_read(text in "(\nfrontend a|\nglobal|\nbind| :443| ssl| crt| /x| \"|'|\\\\|\\$\\{|\\.if|\n.else|\n.endif| acl| hdr\\(host\\)|,){0,40}") {
        let files = [("/h", &*text)];
        proptest::prop_assert!(survey(Path::new("/h"), &mut reader(&files)).is_ok());
    }
}
