use super::survey;
use crate::survey::testing::{lines, reader};
use std::path::Path;

const MAIN: &str = "/etc/dovecot/dovecot.conf";

#[test]
fn settings_come_from_all_files_and_names_have_their_own() {
    let main = "!include_try /usr/share/dovecot/protocols.d/*.protocol\n!include conf.d/*.conf\n!include missing\n!include_try local.conf\n";
    let files = [
        (MAIN, main),
        ("/usr/share/dovecot/protocols.d/imapd.protocol", "protocols = $protocols imap\n"),
        ("/usr/share/dovecot/protocols.d/sieve.protocol", "protocols = $protocols sieve"),
        (
            "/etc/dovecot/conf.d/10-master.conf",
            "service imap-login {\n  inet_listener imap {\n    port = 0 # off\n  }\n  inet_listener office { port = 1993\n ssl = yes }\n}\nlisten = 192.0.2.7\n",
        ),
        (
            "/etc/dovecot/conf.d/10-ssl.conf",
            "ssl = required\nssl_cert = </etc/tls/mail.pem\nssl_key = <\"/etc/tls/mail.key\"\nlocal_name post.lampholm.example {\n  ssl_cert = <post.pem\n}\n\
             protocol imap {\n mail_plugins = $mail_plugins x\n}\nlocal_name quiet.example { mail_x = y }\n",
        ),
    ];
    let found = survey(Path::new(MAIN), &mut reader(&files)).unwrap();
    let sockets = "192.0.2.7:993+tls,192.0.2.7:4190+starttls,192.0.2.7:1993+tls";
    let file = "/etc/dovecot/conf.d/10-ssl.conf";
    assert_eq!(
        lines(&found),
        [
            format!("{file}:2  {sockets} /etc/tls/mail.pem,/etc/tls/mail.key"),
            format!("{file}:4 post.lampholm.example {sockets} /etc/dovecot/conf.d/post.pem"),
        ]
    );
    let said: Vec<String> = found.remarks.iter().map(|remark| format!("{}: {}", remark.place, remark.text)).collect();
    assert_eq!(said, [format!("{MAIN}:3: cannot read /etc/dovecot/missing: it does not exist")]);
    let off = [(MAIN, "protocols = pop3\nssl = no\nservice pop3-login { inet_listener pop3 {\n address = ::\n} }\n")];
    let found = survey(Path::new(MAIN), &mut reader(&off)).unwrap();
    assert_eq!(lines(&found), [format!("{MAIN}:1  [::]:110")]);
}

#[test]
fn circles_and_blocks_that_do_not_fit_are_refused() {
    for text in ["!include dovecot.conf", "a {", "}", "a b c\n"] {
        assert!(survey(Path::new(MAIN), &mut reader(&[(MAIN, text)])).is_err(), "{text}");
    }
}

proptest::proptest! {
    #[test]
    fn any_text_is_read_or_refused(text in "(\n|ssl_cert|=| |<|/a|\\{|\\}|#|service imap-login|inet_listener|local_name|\"|'|\\\\|!include x|\\$a|%){0,40}") {
        let _ = survey(Path::new(MAIN), &mut reader(&[(MAIN, &text)]));
    }
}
