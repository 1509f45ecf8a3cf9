use super::survey;
use crate::survey::testing::{lines, reader};
use std::path::Path;

const MASTER: &str = "# service type\nsmtp      inet  n - y - - smtpd\nsubmission inet n - y - - smtpd\n  -o syslog_name=postfix/submission\n\
    \x20 -o smtpd_tls_security_level=encrypt\n# between\n  -o { smtpd_tls_chain_files = /etc/tls/sub.key, /etc/tls/sub.pem }\n\
    192.0.2.7:smtps inet n - y - - smtpd -o smtpd_tls_wrappermode=yes\npickup unix n - y 60 1 pickup\nodd inet n - y - - smtpd\n";

#[test]
fn services_have_their_own_parameters_and_the_rest_of_main() {
    let main = "# mail\nmydomain = lampholm.example\nmyhostname = mail.$mydomain\nTLS=/etc/tls\nsmtpd_tls_cert_file = ${TLS}/old.pem\n\
                smtpd_tls_cert_file=$(TLS)/mail.pem\n\nsmtpd_tls_key_file = $TLS/mail.key\nsmtpd_tls_security_level =\n   may\n\
                tls_server_sni_maps = hash:/etc/postfix/sni, pgsql:/etc/x\n";
    let files = [
        ("/etc/postfix/main.cf", main),
        ("/etc/postfix/master.cf", MASTER),
        ("/etc/postfix/sni", "# names\npost.lampholm.example /etc/tls/post.key, /etc/tls/post.pem\n"),
    ];
    let found = survey(Path::new("/etc/postfix/main.cf"), &mut reader(&files)).unwrap();
    let (file, sni) = ("/etc/postfix/master.cf", "/etc/tls/post.pem,/etc/tls/post.key");
    let names = "mail.lampholm.example,post.lampholm.example";
    assert_eq!(
        lines(&found),
        [
            format!("{file}:2 {names} 25+starttls /etc/tls/mail.pem,/etc/tls/mail.key {sni}"),
            format!("{file}:3 {names} 587+starttls /etc/tls/sub.pem,/etc/tls/sub.key {sni}"),
            format!("{file}:8 {names} 192.0.2.7:465+tls /etc/tls/mail.pem,/etc/tls/mail.key {sni}"),
        ]
    );
    let said: Vec<String> =
        found.remarks.iter().map(|remark| format!("{}: {}", remark.place.line, remark.text)).collect();
    assert!(said.contains(&"10: the service `odd` has no port that is known".to_owned()), "{said:?}");
    assert_eq!(said.len(), 4, "the map of another kind, for each of three services: {said:?}");
}

#[test]
fn parameters_that_lead_in_circles_end() {
    let main = "a = $b ${b} $b $b ${x?{y}} ${x:z}\nb = $a$a$a$a\nmyhostname = $a\nsmtpd_tls_security_level = may\ninet_interfaces = loopback-only\n";
    let files = [("/m/main.cf", main), ("/m/master.cf", "25 inet n - n - - smtpd")];
    let found = survey(Path::new("/m/main.cf"), &mut reader(&files)).unwrap();
    assert!(lines(&found)[0].ends_with("127.0.0.1:25+starttls"), "{:?}", lines(&found));
}

proptest::proptest! {
    #[test]
    fn any_text_is_read(text in "(\n|a|=| |\\$|\\{|\\}|\\(|\\)|#|smtpd_tls_cert_file|inet|smtpd|-o|,|\\?|:){0,40}") {
        let files = [("/m/main.cf", &*text), ("/m/master.cf", &*text)];
        proptest::prop_assert!(survey(Path::new("/m/main.cf"), &mut reader(&files)).is_ok());
    }
}
