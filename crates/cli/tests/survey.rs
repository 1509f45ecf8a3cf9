//! What `survey` says, held against what the servers themselves say, and against what they show.

use crate::hosts::Sshd;
use crate::rehearse::{PRIMARY, named};
use crate::world::*;
use serde_json::Value;
use std::process::{Command, Stdio};

/// A folder with certificates of an office's own authority.
struct Tls {
    place: Place,
}

impl Tls {
    fn new() -> Self {
        let place = Place::new();
        std::fs::create_dir(place.path("tls")).unwrap();
        let tls = Tls { place };
        tls.openssl("req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout tls/root.key -out tls/root.pem -days 3000 -subj /CN=Lampholm-Root");
        tls
    }

    fn openssl(&self, words: &str) {
        self.place.openssl(&words.split(' ').collect::<Vec<_>>()).check(0, &[]);
    }

    /// Makes `tls/NAME.pem`, with its chain, and `tls/NAME.key`.
    fn issue(&self, name: &str, names: &[&str], days: u32) {
        self.openssl(&format!("req -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout tls/{name}.key -out tls/{name}.csr -subj /CN=x"));
        let names: Vec<String> = names.iter().map(|name| format!("DNS:{name}")).collect();
        self.place.write("tls/names", &format!("subjectAltName={}\n", names.join(",")));
        self.openssl(&format!(
            "x509 -req -in tls/{name}.csr -CA tls/root.pem -CAkey tls/root.key -days {days} -extfile tls/names -out tls/{name}.leaf"
        ));
        self.place.write(
            &format!("tls/{name}.pem"),
            &(self.place.read(&format!("tls/{name}.leaf")) + &self.place.read("tls/root.pem")),
        );
    }

    fn survey(&self, code: i32, words: &[&str]) -> Value {
        let all = [&["survey", "--output", "json"], words].concat();
        let said = self.place.run(&all);
        assert_eq!(said.code, Some(code), "{said}");
        serde_json::from_str(&said.out).unwrap_or_else(|e| panic!("{e}: {said}"))
    }
}

fn texts(list: &Value) -> Vec<&str> {
    list.as_array().unwrap().iter().map(|text| text.as_str().unwrap()).collect()
}

/// Runs a program of a server's own package, and returns all that it says.
fn say(program: &str, words: &[&str]) -> String {
    let output = Command::new(program).args(words).output();
    let said = Said::from(output.unwrap_or_else(|e| panic!("{program} (scripts/test installs it): {e}")));
    assert_eq!(said.code, Some(0), "{program} {words:?}: {said}");
    said.out + &said.err
}

#[test]
fn nginx_shows_what_the_survey_says_until_its_files_change() {
    let tls = Tls::new();
    let place = &tls.place;
    tls.issue("site", &["lampholm.example", "www.lampholm.example"], 80);
    tls.issue("archive", &["*.archive.lampholm.example"], 80);
    let (plain, secure, dir) = (free_port(), free_port(), place.path("").display().to_string());
    let user = if nix::unistd::geteuid().is_root() { "user root;\n" } else { "" };
    place.write(
        "nginx.conf",
        &format!(
            "{user}daemon off;\npid {dir}/pid;\nerror_log {dir}/error.log;\nevents {{}}\nhttp {{\n  access_log off;\n  client_body_temp_path {dir}/a;\n\
             \x20 proxy_temp_path {dir}/b;\n  fastcgi_temp_path {dir}/c;\n  uwsgi_temp_path {dir}/d;\n  scgi_temp_path {dir}/e;\n  include sites/*.conf;\n}}\n"
        ),
    );
    let listen = format!("listen 127.0.0.1:{secure} ssl");
    place.write(
        "sites/a.conf",
        &format!(
            "server {{ listen 127.0.0.1:{plain}; server_name lampholm.example; return 301 https://$host$request_uri; }}\r\n\
             server {{ {listen}; server_name lampholm.example www.lampholm.example; ssl_certificate tls/site.pem; ssl_certificate_key tls/site.key; root /srv/www; }}\r\n\
             server {{ {listen}; server_name *.archive.lampholm.example; ssl_certificate tls/archive.pem; ssl_certificate_key tls/archive.key; }}"
        ),
    );
    let main = place.path("nginx.conf").display().to_string();
    let child = Command::new("/usr/sbin/nginx").args(["-c", &main]).stderr(Stdio::null()).spawn();
    let _nginx = Process(child.expect("Debian's package nginx is installed (scripts/test does it)"));
    await_port(secure, "nginx");

    let report = tls.survey(0, &[&main, "--deep"]);
    let server = &report["servers"][0];
    assert_eq!((&server["server"], &server["runs"], &server["files"]), (&"nginx".into(), &true.into(), &2.into()));
    let sites = server["sites"].as_array().unwrap();
    // nginx's own dump has the same names, in the same order.
    let dump = say("/usr/sbin/nginx", &["-T", "-q", "-c", &main]);
    let dumped: Vec<&str> = dump.split("server_name ").skip(1).map(|rest| rest.split(';').next().unwrap()).collect();
    let names: Vec<String> = sites.iter().map(|site| texts(&site["names"]).join(" ")).collect();
    assert_eq!(names, dumped);
    assert_eq!(sites[0]["redirect"], "https://$host$request_uri");
    let site = &sites[1];
    assert_eq!(
        (&site["listeners"][0]["address"], &site["listeners"][0]["security"]),
        (&format!("127.0.0.1:{secure}").into(), &"tls".into())
    );
    assert_eq!(
        (&site["certificates"][0]["key_fits"], &site["certificates"][0]["chain_whole"]),
        (&true.into(), &true.into())
    );
    assert_eq!((&site["place"]["line"], &site["place"]["included_from"][0]["line"]), (&2.into(), &13.into()));

    // Another certificate in the file, and no reload: what is shown is not what is configured.
    tls.issue("site", &["lampholm.example", "www.lampholm.example"], 5);
    place.run(&["survey", &main]).check(0, &["ends in 5 days", "1 worth a look"]);
    let deep = place.run(&["survey", &main, "--deep", "--only", "findings", "--name", "www*"]);
    deep.check(4, &["shows another certificate than the configured one", "1 site of 3: 1 with faults"]);
    place.run(&["survey", &main, "--name", "*.example", "--only", "findings"]).check(0, &["1 site of 3"]);
}

#[test]
fn every_fault_is_said_with_its_place_and_the_rest_goes_on() {
    let tls = Tls::new();
    let place = &tls.place;
    tls.issue("site", &["lampholm.example"], 80);
    tls.issue("other", &["tickets.lampholm.example"], 80);
    std::fs::write(place.path("tls/bare.pem"), place.read("tls/site.leaf")).unwrap();
    std::fs::set_permissions(place.path("tls/other.key"), std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    std::fs::set_permissions(place.path("tls/site.key"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let server = |names: &str, certificate: &str, key: &str| {
        format!(
            "server {{ listen 443 ssl; server_name {names}; ssl_certificate tls/{certificate}; ssl_certificate_key tls/{key}; }}\n"
        )
    };
    let sites = [
        server("lampholm.example shop.lampholm.example", "site.pem", "site.key"),
        server("tickets.lampholm.example", "other.pem", "site.key"),
        server("a.example", "bare.pem", "other.key"),
        server("lampholm.example", "gone.pem", "gone.key"),
        server("b.example", "$ssl_server_name.pem", "x"),
        "server { listen 443 ssl; server_name c.example; }\n".to_owned(),
    ];
    place.write("nginx.conf", &format!("events {{}}\nhttp {{\ninclude missing.conf;\n{}}}\n", sites.concat()));
    let report = tls.survey(4, &["nginx.conf"]);
    let server = &report["servers"][0];
    let of = |n: usize| -> Vec<&str> {
        server["sites"][n]["findings"].as_array().unwrap().iter().map(|f| f["text"].as_str().unwrap()).collect()
    };
    for (n, wanted) in [
        (0, "its certificate is not for shop.lampholm.example"),
        (1, "does not fit the certificate"),
        (2, "bare.pem does not have the certificate of `Lampholm-Root`"),
        (2, "everybody on this machine may read the key in"),
        (3, "gone.pem does not exist"),
        (3, "lampholm.example is claimed by"),
        (4, "shows only when a visitor comes"),
        (5, "it listens with TLS and has no certificate"),
    ] {
        assert!(of(n).iter().any(|text| text.contains(wanted)), "{n}: {wanted}: {:?}", of(n));
    }
    let left = &server["left_out"][0];
    assert_eq!(
        (&left["line"], left["text"].as_str().unwrap().contains("missing.conf: it does not exist")),
        (&3.into(), true)
    );
    // What cannot be read at all, or is of no known kind.
    place.write("broken/nginx.conf", "http {\n server {\n");
    place.run(&["survey", "broken/nginx.conf"]).check(1, &["broken/nginx.conf:3", "a `}` is missing"]);
    place.run(&["survey", "odd.txt"]).check(2, &["which server is odd.txt for?", "--server KIND"]);
    place.run(&["survey", "--host", "node"]).check(2, &[]);
    place.write("eskort.toml", "");
    place.run(&["survey", "--host", "node"]).check(2, &["has no host `node`"]);
}

#[test]
fn apache_lists_the_same_hosts() {
    let tls = Tls::new();
    let place = &tls.place;
    tls.issue("site", &["lampholm.example", "www.lampholm.example"], 80);
    let dir = place.path("").display().to_string();
    let modules = "/usr/lib/apache2/modules";
    let version = say("/usr/sbin/apache2", &["-v"]);
    let version = version.split("Apache/").nth(1).unwrap().split_whitespace().next().unwrap();
    place.write(
        "apache2.conf",
        &format!(
            "ServerRoot {dir}\nDefine TLS 443\nPidFile {dir}/pid\nErrorLog {dir}/log\nServerName main.test\nLoadModule mpm_event_module {modules}/mod_mpm_event.so\n\
             LoadModule authz_core_module {modules}/mod_authz_core.so\nLoadModule ssl_module {modules}/mod_ssl.so\nLoadModule alias_module {modules}/mod_alias.so\n\
             LoadModule macro_module {modules}/mod_macro.so\nListen 80\n<IfModule ssl_module>\nListen ${{TLS}}\n</IfModule>\n<IfDefine NEVER>\nListen 81\n</IfDefine>\n\
             IncludeOptional sites/*.conf\nIncludeOptional none/*.conf\n<Macro plain $name>\n<VirtualHost *:80>\nServerName $name\n</VirtualHost>\n</Macro>\n\
             Use plain tickets.lampholm.example\n<IfVersion = {version}>\n<VirtualHost *:80>\nServerName last.test\n</VirtualHost>\n</IfVersion>\n\
             <IfVersion > {version}>\nUse plain never.test\n</IfVersion>\n"
        ),
    );
    place.write(
        "sites/a.conf",
        "<VirtualHost *:80>\n\tServerName lampholm.example\n\tServerAlias www.lampholm.example \\\n\t\tpost.lampholm.example\n\tRedirect permanent / https://lampholm.example/\n\
         </VirtualHost>\n\n<VirtualHost _default_:443>\r\n\tServerName lampholm.example\r\n\tDocumentRoot \"/tmp\"\r\n\tSSLEngine on\r\n\tSSLCertificateFile tls/site.pem\r\n\
         \tSSLCertificateKeyFile tls/site.key\r\n</VirtualHost>",
    );
    let main = place.path("apache2.conf").display().to_string();
    let dump = say("/usr/sbin/apache2", &["-t", "-D", "DUMP_VHOSTS", "-f", &main]);
    let report = tls.survey(0, &[&main]);
    let sites = report["servers"][0]["sites"].as_array().unwrap();
    assert_eq!(sites.len(), 4, "{report:#}");
    for site in &sites[..2] {
        // `port 80 namevhost lampholm.example (…/sites/a.conf:1)`, or the same behind an address.
        let place = format!("{}:{}", site["place"]["path"].as_str().unwrap(), site["place"]["line"]);
        let port = site["listeners"][0]["address"].as_str().unwrap().rsplit(':').next().unwrap();
        let name = texts(&site["names"])[0];
        let said = |line: &str| line.contains(&place) && line.contains(name) && line.contains(port);
        assert!(dump.lines().any(said), "{place} {name} {port}: {dump}");
        texts(&site["names"])[1..].iter().for_each(|alias| assert!(dump.contains(&format!("alias {alias}")), "{dump}"));
    }
    for name in ["tickets.lampholm.example", "last.test"] {
        assert!(dump.contains(name) && sites.iter().any(|site| texts(&site["names"]) == [name]), "{name}: {dump}");
    }
    assert_eq!(sites[1]["certificates"][0]["key_fits"], true);
    assert_eq!(sites[0]["redirect"], "https://lampholm.example/");
    let files = say("/usr/sbin/apache2", &["-t", "-D", "DUMP_INCLUDES", "-f", &main]);
    let included = files.lines().filter(|line| line.contains(".conf")).count();
    assert_eq!(report["servers"][0]["files"], included, "{files}");
}

#[test]
fn balancers_and_mail_servers_say_the_same() {
    let tls = Tls::new();
    let place = &tls.place;
    tls.issue("mail", &["mail.lampholm.example"], 80);
    let both = place.read("tls/mail.pem") + &place.read("tls/mail.key");
    std::fs::create_dir(place.path("front")).unwrap();
    let front = place.write("front/site.pem", &both);
    std::fs::set_permissions(front, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let dir = place.path("").display().to_string();
    let front = format!(
        "defaults\n  mode http\n  timeout client 1s\n  timeout server 1s\n  timeout connect 1s\nfrontend web\n  bind 127.0.0.1:{}\n  bind 127.0.0.1:{} ssl crt {dir}/front\n\
         \x20 http-request redirect scheme https unless {{ ssl_fc }}\n  use_backend none if {{ hdr(host) -i mail.lampholm.example }}\n.if defined(NEVER)\n  nonsense\n.endif\n\
         backend none\n",
        free_port(),
        free_port()
    );
    let haproxy = place.write("haproxy.cfg", &front).display().to_string();
    say("/usr/sbin/haproxy", &["-c", "-q", "-f", &haproxy]);
    let report = tls.survey(0, &[&haproxy]);
    let site = &report["servers"][0]["sites"][0];
    assert_eq!((texts(&site["names"]), &site["redirect"]), (vec!["mail.lampholm.example"], &"https".into()));
    assert_eq!((&site["certificates"][0]["key_fits"], site["listeners"].as_array().unwrap().len()), (&true.into(), 2));

    let lighttpd = format!(
        "server.modules = ( \"mod_openssl\", \"mod_redirect\" )\nserver.document-root = \"/tmp\"\nserver.port = {}\nvar.tls = \"{dir}/tls\"\n\
         $SERVER[\"socket\"] == \"127.0.0.1:{}\" {{\n  ssl.engine = \"enable\"\n  ssl.pemfile = var.tls + \"/mail.pem\"\n  {} = var.tls + \"/mail.key\"\n}}\n",
        free_port(),
        free_port(),
        "ssl.priv".to_owned() + "key"
    );
    let lighttpd = place.write("lighttpd.conf", &lighttpd).display().to_string();
    say("/usr/sbin/lighttpd", &["-tt", "-f", &lighttpd]);
    let report = tls.survey(0, &[&lighttpd]);
    let site = &report["servers"][0]["sites"][0];
    assert_eq!((&site["certificates"][0]["key_fits"], &site["document_root"]), (&true.into(), &"/tmp".into()));
    assert_eq!(
        (&site["listeners"][0]["security"], &site["listeners"][1]["security"]),
        (&"plain".into(), &"tls".into())
    );

    place.write(
        "postfix/main.cf",
        &format!(
            "compatibility_level = 3.6\nmydomain = lampholm.example\nmyhostname = mail.$mydomain\ntls = {dir}/tls\nsmtpd_tls_cert_file = ${{tls}}/mail.pem\n\
             smtpd_tls_key_file = $tls/mail.key\nsmtpd_tls_security_level =\n  # as it may be\n  may\n"
        ),
    );
    place.write(
        "postfix/master.cf",
        "smtp inet n - y - - smtpd\nsmtps inet n - y - - smtpd\n  -o smtpd_tls_wrappermode=yes\n",
    );
    let folder = place.path("postfix").display().to_string();
    let report = tls.survey(0, &[&format!("{folder}/main.cf")]);
    let sites = report["servers"][0]["sites"].as_array().unwrap();
    let found = &sites[0]["certificates"][0];
    for (parameter, ours) in [
        ("myhostname", texts(&sites[0]["names"])[0]),
        ("smtpd_tls_cert_file", found["certificate"].as_str().unwrap()),
        ("smtpd_tls_key_file", found["key"].as_str().unwrap()),
    ] {
        assert_eq!(say("/usr/sbin/postconf", &["-c", &folder, "-x", "-h", parameter]).trim(), ours);
    }
    let at = |n: usize| {
        (sites[n]["listeners"][0]["address"].as_str().unwrap(), sites[n]["listeners"][0]["security"].as_str().unwrap())
    };
    assert_eq!((at(0), at(1)), (("25", "starttls"), ("465", "tls")));

    let dovecot = format!(
        "protocols = imap\nssl = required\nssl_cert = <{dir}/tls/mail.pem\nssl_key = <{dir}/tls/mail.key\nlisten = 127.0.0.1\n\
         service imap-login {{\n  inet_listener imap {{\n    port = 0\n  }}\n}}\n!include_try none/*.conf\n"
    );
    let dovecot = place.write("dovecot.conf", &dovecot).display().to_string();
    let said = say("/usr/bin/doveconf", &["-c", &dovecot, "-h", "ssl_cert"]);
    let report = tls.survey(0, &[&dovecot]);
    let site = &report["servers"][0]["sites"][0];
    assert!(said.contains(site["certificates"][0]["certificate"].as_str().unwrap()), "{said}");
    assert_eq!(
        (&site["certificates"][0]["key_fits"], &site["listeners"]),
        (&true.into(), &serde_json::json!([{"address": "127.0.0.1:993", "protocol": "imap", "security": "tls"}]))
    );
}

#[test]
fn what_packages_install_is_read_without_a_byte_left_out() {
    let tls = Tls::new();
    for (server, main) in [
        ("apache", "/etc/apache2/apache2.conf"),
        ("haproxy", "/etc/haproxy/haproxy.cfg"),
        ("lighttpd", "/etc/lighttpd/lighttpd.conf"),
        ("dovecot", "/etc/dovecot/dovecot.conf"),
    ] {
        let report = tls.survey(0, &[main]);
        let found = &report["servers"][0];
        assert_eq!(
            (found["server"].as_str(), &found["error"], &found["left_out"]),
            (Some(server), &Value::Null, &serde_json::json!([]))
        );
        assert!(found["files"].as_u64().unwrap() > 0);
    }
}

#[test]
fn another_machine_is_surveyed_over_ssh_and_its_keys_stay_there() {
    let tls = Tls::new();
    let place = &tls.place;
    tls.issue("site", &["lampholm.example"], 80);
    let node = Sshd::start(place, place.dir.path(), "");
    place.write("eskort.toml", &format!("state = \"state\"\n{}", node.section("node")));
    let many: String =
        (0..40).map(|n| format!("server {{ listen 8{n:02}; server_name room{n}.lampholm.example; }}\n")).collect();
    place.write("sites/rooms.conf", &many);
    place.write(
        "nginx.conf",
        "events {}\nhttp {\n  include sites/*.conf;\n  server { listen 443 ssl; server_name lampholm.example; ssl_certificate tls/site.pem; ssl_certificate_key tls/site.key; }\n}\n",
    );
    let main = place.path("nginx.conf").display().to_string();
    let report = tls.survey(0, &["--host", "node", &main, "--name", "lampholm.example"]);
    let server = &report["servers"][0];
    assert_eq!((&report["host"], &server["all_sites"]), (&"node".into(), &41.into()));
    let found = &server["sites"][0]["certificates"][0];
    assert_eq!((&found["key_fits"], &found["chain_whole"]), (&Value::Null, &true.into()), "the key was not looked at");
    // Found by its usual place, which a machine far away has to look for.
    let usual = tls.survey(0, &["--host", "node", "--server", "haproxy"]);
    assert_eq!(usual["servers"][0]["config"], "/etc/haproxy/haproxy.cfg");
    // Whether something runs is asked of the machine: a process of this name is all that it looks for.
    std::fs::copy("/bin/sleep", place.path("exim4")).unwrap();
    let _running = Process(Command::new(place.path("exim4")).arg("60").spawn().unwrap());
    place.write("exim.conf", "daemon_smtp_ports = 2525\n");
    let exim = tls.survey(0, &["--host", "node", "--server", "exim", &place.path("exim.conf").display().to_string()]);
    assert_eq!(exim["servers"][0]["runs"], true);
}

#[test]
fn names_that_lead_to_another_machine_or_nowhere_are_told() {
    let test = "survey::names_that_lead_to_another_machine_or_nowhere_are_told";
    let network = "ip addr add 127.0.77.4/8 dev lo && ip addr add 192.0.2.7/32 dev lo &&";
    if in_a_network_of_its_own(test, network, "nameserver 127.0.77.4\n", "") {
        return;
    }
    let zone =
        "$TTL 60\n@ SOA ns1 keeper 1 60 60 60 60\n@ NS ns1\nns1 A 127.0.77.4\nwww A 192.0.2.7\nold A 192.0.2.9\n";
    let _bind = named("127.0.77.4", zone, PRIMARY);
    let tls = Tls::new();
    let server = |names: &str| format!("  server {{ listen 80; server_name {names}; }}\n");
    let names =
        server("www.lampholm.example") + &server("old.lampholm.example attic.lampholm.example *.lampholm.example");
    tls.place.write("nginx.conf", &format!("events {{}}\nhttp {{\n{names}}}\n"));
    let report = tls.survey(0, &[&tls.place.path("nginx.conf").display().to_string()]);
    let sites = report["servers"][0]["sites"].as_array().unwrap();
    let said = |site: &Value| -> Vec<String> {
        let reach = |finding: &&Value| finding["topic"] == "reach";
        site["findings"]
            .as_array()
            .unwrap()
            .iter()
            .filter(reach)
            .map(|f| f["text"].as_str().unwrap().to_owned())
            .collect()
    };
    assert_eq!(said(&sites[0]), Vec::<String>::new());
    let wanted = [
        "attic.lampholm.example resolves to no address",
        "old.lampholm.example leads to 192.0.2.9, which is not this machine",
    ];
    assert_eq!(said(&sites[1]), wanted);
}

/// Runs the calling test again as root, in a house where Exim is in its usual place, and the user is there that its package would have made:
/// installed, it would put Postfix out. `scripts/test` unpacks it. Returns false in that second run.
pub(crate) fn in_a_house_with_exim(test: &str) -> bool {
    if done_by_root(test) {
        return true;
    }
    let unpacked = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/exim/usr/sbin");
    assert!(unpacked.join("exim4").is_file(), "scripts/test unpacks Debian's package exim4-daemon-light");
    let unpacked = unpacked.canonicalize().unwrap();
    let more = format!(
        "mount -t overlay overlay -o lowerdir={}:/usr/sbin /usr/sbin && \
         (echo 'Debian-exim:x:4001:4001::/:/bin/false' && cat /etc/passwd) > passwd && mount --bind passwd /etc/passwd && \
         (echo 'Debian-exim:x:4001:' && cat /etc/group) > group && mount --bind group /etc/group &&",
        unpacked.display()
    );
    in_a_network_of_its_own(test, &more, "", "")
}

#[test]
fn exim_says_what_the_survey_says_and_shows_it() {
    if in_a_house_with_exim("survey::exim_says_what_the_survey_says_and_shows_it") {
        return;
    }
    let tls = Tls::new();
    let place = &tls.place;
    tls.issue("mail", &["mail.lampholm.example"], 80);
    let dir = place.path("").display().to_string();
    let conf = format!(
        "# Grown by hand\r\nTLS = {dir}tls\nMAIL = mail\nspool_directory = {dir}spool\nlog_file_path = {dir}log-%s\nkeep_environment =\n\
         primary_hostname = MAIL.lampholm.example\n.ifdef TLS\ntls_advertise_hosts = *\n.ifndef OTHER\ntls_certificate = TLS/MAIL.pem\n\
         .else\ntls_certificate = /nowhere\n.endif\n.include_if_exists {dir}none\n.include {dir}key\n.endif\nlocal_interfaces = <; 127.0.0.1 ; \\\n   # both\n   ::1\n\
         daemon_smtp_ports = 2525 : 4465\ntls_on_connect_ports = 4465\nbegin acl\nbegin routers\nbegin transports\n"
    )
    .replace("\r\n", "\n");
    let main = place.write("exim.conf", &conf).display().to_string();
    place.write("key", "tls_privatekey = TLS/MAIL.key\n");
    for folder in [".", "tls", "spool"] {
        std::fs::create_dir_all(place.path(folder)).unwrap();
        say("chown", &["-R", "4001:4001", &place.path(folder).display().to_string()]);
        say("chmod", &["755", &place.path(folder).display().to_string()]);
    }
    say("chown", &["0:0", &main, &place.path("key").display().to_string()]);

    let program = "/usr/sbin/exim4";
    let printed = say(program, &["-C", &main, "-bP", "tls_certificate", "tls_privatekey", "primary_hostname"]);
    let itself = |name: &str| {
        let line = printed.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(" = ")).map(str::to_owned);
        line.unwrap_or_else(|| panic!("{name}: {printed}"))
    };
    let mut daemon = Command::new(program);
    daemon.args(["-C", &main, "-bdf"]).stdout(Stdio::null()).stderr(Stdio::null());
    let _exim = Process(daemon.spawn().unwrap());
    await_port(4465, "Exim");
    let report = tls.survey(0, &["--server", "exim", &main, "--deep"]);
    let site = &report["servers"][0]["sites"][0];
    assert_eq!(texts(&site["names"]), [itself("primary_hostname")]);
    let certificate = &site["certificates"][0];
    assert_eq!(certificate["certificate"], itself("tls_certificate"), "{site}");
    assert_eq!(certificate["key"], itself("tls_privatekey"), "{site}");
    // Each listener answers, with this certificate: another one would be a finding.
    let listeners = site["listeners"].as_array().unwrap();
    let seen: Vec<String> =
        listeners.iter().map(|l| format!("{} {}", l["address"], l["security"]).replace('"', "")).collect();
    assert_eq!(seen, ["127.0.0.1:2525 starttls", "127.0.0.1:4465 tls", "[::1]:2525 starttls", "[::1]:4465 tls"]);
    let worst: Vec<&str> = site["findings"].as_array().unwrap().iter().map(|f| f["topic"].as_str().unwrap()).collect();
    assert!(!worst.contains(&"installed") && !worst.contains(&"reach"), "{site}");
}
