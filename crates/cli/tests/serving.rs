//! Certificates put on every kind of server whose configuration is read: the real ones, begun with a placeholder, then renewed, then with a
//! configuration that the server refuses.

use crate::hosts::Sshd;
use crate::rating::look;
use crate::survey::in_a_house_with_exim;
use crate::world::*;
use std::os::unix::fs::{PermissionsExt, chown};
use std::process::{Command, Stdio};

/// A server: its kind, its files (the main one first), how it is begun, tested and reloaded, and the words that make it refuse. `{dir}`
/// and `{port}` stand for the folder and the port.
pub(crate) struct Case {
    pub(crate) kind: &'static str,
    pub(crate) files: &'static [(&'static str, &'static str)],
    start: &'static str,
    test: Option<&'static str>,
    reload: &'static str,
    nonsense: &'static str,
    more: &'static str,
}

pub(crate) const APACHE: Case = Case {
    kind: "apache",
    files: &[
        (
            "httpd.conf",
            "# Grown by hand\r\nServerRoot {dir}\r\nPidFile {dir}/pid\r\nErrorLog {dir}/error.log\r\nUser daemon\r\nGroup daemon\r\n\
             LoadModule mpm_event_module /usr/lib/apache2/modules/mod_mpm_event.so\r\n\
             LoadModule authz_core_module /usr/lib/apache2/modules/mod_authz_core.so\r\n\
             LoadModule ssl_module /usr/lib/apache2/modules/mod_ssl.so\r\nListen 127.0.0.1:{port}\r\nServerName lampholm.example\r\n\
             Include sites/*.conf\r\n",
        ),
        (
            "sites/site.conf",
            "<VirtualHost *:{port}>\n\tServerName lampholm.example\n\tServerAlias www.lampholm.example # both\n\tSSLEngine on\n\
             \tSSLCertificateFile \"{dir}/old/old.pem\"\n\tSSLCertificateKeyFile {dir}/old/old.key\n</VirtualHost>",
        ),
    ],
    start: "apache2 -f {dir}/httpd.conf -DFOREGROUND",
    test: Some("apache2 -t -f {dir}/httpd.conf"),
    reload: "apache2 -k graceful -f {dir}/httpd.conf",
    nonsense: "NonSense on\n",
    more: "",
};

pub(crate) const HAPROXY: Case = Case {
    kind: "haproxy",
    files: &[(
        "haproxy.cfg",
        "global\n  stats socket {dir}/haproxy.sock level admin\ndefaults\n  mode http\n  timeout client 60s\n  timeout server 1s\n  timeout connect 1s\n\
         frontend web\n  bind 127.0.0.1:{port} ssl crt {dir}/old/both.pem alpn h2,http/1.1\n  use_backend none if { hdr(host) -i lampholm.example www.lampholm.example }\n\
         backend none\n  http-request return status 200 content-type text/plain string \"the lamp is lit\"\n",
    )],
    start: "haproxy -W -p {dir}/pid -f {dir}/haproxy.cfg",
    test: None,
    reload: "sh -c \"kill -USR2 $(cat {dir}/pid)\"",
    nonsense: "nonsense\n",
    more: "",
};

pub(crate) const NGINX: Case = Case {
    kind: "nginx",
    files: &[(
        "nginx.conf",
        "pid {dir}/pid;\nerror_log {dir}/error.log;\ndaemon off;\nevents {}\nhttp {\n  access_log off;\n  client_body_temp_path {dir}/body;\n  proxy_temp_path {dir}/proxy;\n\
         \x20 fastcgi_temp_path {dir}/fastcgi;\n  uwsgi_temp_path {dir}/uwsgi;\n  scgi_temp_path {dir}/scgi;\n  server {\n    listen 127.0.0.1:{port} ssl;\n\
         \x20   server_name lampholm.example www.lampholm.example;\n    ssl_certificate {dir}/old/old.pem;\n    ssl_certificate_key {dir}/old/old.key;\n\
         \x20   location / {\n      return 200 \"the lamp is lit\";\n    }\n    location /slow/ {\n      alias {dir}/old/;\n      limit_rate 40;\n    }\n  }\n}\n",
    )],
    start: "nginx -c {dir}/nginx.conf",
    test: None,
    reload: "nginx -s reload -c {dir}/nginx.conf",
    nonsense: "nonsense;\n",
    more: "",
};

pub(crate) const LIGHTTPD: Case = Case {
    kind: "lighttpd",
    files: &[(
        "lighttpd.conf",
        "server.modules = ( \"mod_openssl\" )\nserver.document-root = \"/tmp\"\nserver.bind = \"127.0.0.1\"\nserver.port = {port}\nserver.pid-file = \"{dir}/pid\"\n\
         var.tls = \"{dir}/old\"\nssl.engine = \"enable\"\nssl.pemfile = \"{dir}/old/old.pem\"\nssl.priv\u{6b}ey = var.tls + \"/old.key\"\n\
         $HTTP[\"host\"] =~ \"^(www\\.)?lampholm\\.example$\" {\n  server.tag = \"lamp\"\n}\n",
    )],
    start: "lighttpd -D -f {dir}/lighttpd.conf",
    test: None,
    reload: "sh -c \"kill -USR1 $(cat {dir}/pid)\"",
    nonsense: "server.modules += ( \"mod_nonsense\" )\n",
    more: "",
};

pub(crate) const DOVECOT: Case = Case {
    kind: "dovecot",
    files: &[
        (
            "dovecot.conf",
            "protocols = imap\nlisten = 127.0.0.1\nbase_dir = {dir}/run\nstate_dir = {dir}/run\nlog_path = {dir}/dovecot.log\nssl = yes\n\
             passdb {\n  driver = static\n  args = nopassword=y\n}\nservice imap-login {\n  inet_listener imap {\n    port = 0\n  }\n  inet_listener imaps {\n    port = {port}\n  }\n}\n\
             !include conf.d/*.conf\n",
        ),
        ("conf.d/tls.conf", "# TLS\nssl_cert = <{dir}/old/old.pem   # shown to all\nssl_key = <{dir}/old/old.key\n"),
    ],
    start: "dovecot -F -c {dir}/dovecot.conf",
    test: None,
    reload: "doveadm -c {dir}/dovecot.conf reload",
    nonsense: "nonsense = 1\n",
    more: "",
};

pub(crate) const POSTFIX: Case = Case {
    kind: "postfix",
    files: &[
        (
            "main.cf",
            "compatibility_level = 3.6\nqueue_directory = {dir}/queue\ndata_directory = {dir}/data\nmail_owner = postfix\n\
             inet_interfaces = 127.0.0.1\nmyhostname = mail.lampholm.example\nmaillog_file = {dir}/postfix.log\nmaillog_file_prefixes = /tmp\n\
             smtpd_tls_chain_files =\n  {dir}/old/old.key,\n  {dir}/old/old.pem\nsmtpd_tls_security_level = may\nalias_maps =\nlocal_recipient_maps =\n",
        ),
        (
            "master.cf",
            "127.0.0.1:{port} inet n - n - - smtpd\n  -o smtpd_tls_wrappermode=yes\npostlog unix-dgram n - n - 1 postlogd\nanvil unix - - n - 1 anvil\n\
             tlsmgr unix - - n 1000? 1 tlsmgr\nrewrite unix - - n - - trivial-rewrite\ncleanup unix n - n - 0 cleanup\n",
        ),
    ],
    start: "postfix -c {dir} start-fg",
    test: None,
    reload: "postfix -c {dir} reload",
    nonsense: "mail_owner = nobody-at-lampholm\n",
    more: "",
};

/// With a map from the names that are asked for to certificates, which is compiled.
const POSTFIX_WITH_MAP: Case = Case {
    files: &[
        (
            "main.cf",
            "compatibility_level = 3.6\nqueue_directory = {dir}/queue\ndata_directory = {dir}/data\nmail_owner = postfix\n\
             inet_interfaces = 127.0.0.1\nmyhostname = mail.lampholm.example\nmaillog_file = {dir}/postfix.log\nmaillog_file_prefixes = /tmp\n\
             smtpd_tls_chain_files = {dir}/old/old.key, {dir}/old/old.pem\nsmtpd_tls_security_level = may\nalias_maps =\nlocal_recipient_maps =\n\
             tls_server_sni_maps = hash:{dir}/names\n",
        ),
        POSTFIX.files[1],
        (
            "names",
            "# Who is asked for\nlampholm.example {dir}/old/old.key, {dir}/old/old.pem\nwww.lampholm.example\n    {dir}/old/old.key\n    {dir}/old/old.pem\n\
             other.example {dir}/old/old.key {dir}/old/old.pem\n",
        ),
    ],
    start: "sh -c \"chmod 600 names && postmap -c {dir} -F hash:{dir}/names && exec postfix -c {dir} start-fg\"",
    ..POSTFIX
};

pub(crate) const EXIM: Case = Case {
    kind: "exim",
    files: &[(
        "exim.conf",
        "spool_directory = {dir}/spool\nlog_file_path = {dir}/spool/log-%s\npid_file_path = {dir}/pid\nkeep_environment =\nprimary_hostname = mail.lampholm.example\n\
         tls_advertise_hosts = *\ntls_certificate = {dir}/old/old.pem\n# The key\nhide tls_privatekey = {dir}/old/old.key\nlocal_interfaces = 127.0.0.1\n\
         daemon_smtp_ports = {port}\ntls_on_connect_ports = {port}\nbegin acl\nbegin routers\nbegin transports\n",
    )],
    start: "exim4 -C {dir}/exim.conf -bdf",
    test: Some("exim4 -C {dir}/exim.conf -bV"),
    reload: "sh -c \"kill -HUP $(cat {dir}/pid)\"",
    nonsense: "nonsense = 1\n",
    // It reads the key as a user of its own, for each visitor.
    more: "group = \"Debian-exim\"\ncertificates-folder = \"tls\"\n",
};

/// Splits a command as a shell would, as far as the ones above go.
fn split(command: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (n, part) in command.split('"').enumerate() {
        match n % 2 {
            0 => words.extend(part.split_whitespace().map(str::to_owned)),
            _ => words.push(part.to_owned()),
        }
    }
    words
}

/// A server that runs with a placeholder, and an inventory that puts a certificate on it.
pub(crate) struct Served {
    pub(crate) world: World,
    pub(crate) port: u16,
    server: String,
    hosts: String,
    pub(crate) start: Vec<String>,
    pub(crate) process: Process,
    _sshd: Option<Sshd>,
}

/// Starts a server.
pub(crate) fn run(place: &Place, words: &[String]) -> Process {
    let log = std::fs::File::create(place.path("server.log")).unwrap();
    let mut command = Command::new(&words[0]);
    command.args(&words[1..]).current_dir(place.dir.path()).stdin(Stdio::null());
    command.stdout(log.try_clone().unwrap()).stderr(log);
    Process(command.spawn().unwrap_or_else(|e| panic!("{words:?} (scripts/test installs it): {e}")))
}

impl Served {
    pub(crate) fn begin(case: &Case) -> Self {
        let world = World::new();
        let place = &world.place;
        std::fs::set_permissions(place.dir.path(), PermissionsExt::from_mode(0o755)).unwrap();
        let (dir, port) = (place.dir.path().display().to_string(), free_port());
        let filled = |text: &str| text.replace("{dir}", &dir).replace("{port}", &port.to_string());
        // A placeholder, and what the servers' own users need.
        ["old", "queue", "data", "spool", "run"].iter().for_each(|name| std::fs::create_dir(place.path(name)).unwrap());
        let made = "req -x509 -newkey rsa:2048 -nodes -keyout old/old.key -out old/old.pem -days 9 -subj /CN=placeholder \
                    -addext subjectAltName=DNS:lampholm.example";
        place.openssl(&made.split_whitespace().collect::<Vec<_>>()).check(0, &[]);
        place.write("old/both.pem", &(place.read("old/old.key") + &place.read("old/old.pem")));
        for (user, folder) in [("postfix", "data"), ("Debian-exim", "spool"), ("Debian-exim", "old/old.key")] {
            if let Ok(Some(user)) = nix::unistd::User::from_name(user)
                && nix::unistd::geteuid().is_root()
            {
                chown(place.path(folder), Some(user.uid.as_raw()), Some(user.gid.as_raw())).unwrap();
            }
        }
        for (name, text) in case.files {
            place.write(name, &filled(text));
        }
        let start = split(&filled(case.start));
        let process = run(place, &start);
        let list = |command: &str| format!("{:?}", split(&filled(command)));
        let test = case.test.map(|test| format!("test = {}\n", list(test))).unwrap_or_default();
        let server = format!(
            "kind = \"{}\"\nconfig = \"{}\"\nreload = {}\n{test}{}check-address = \"127.0.0.1:{port}\"\n",
            case.kind,
            case.files[0].0,
            list(case.reload),
            case.more
        );
        let served = Served { world, port, server, hosts: String::new(), start, process, _sshd: None };
        until(&format!("{} shows the placeholder", case.kind), || served.shows("placeholder"));
        served.write_inventory(|text| text);
        served
    }

    /// Writes the inventory with this server, after a change to its text.
    pub(crate) fn write_inventory(&self, change: impl FnOnce(String) -> String) {
        self.world.write_inventory(|text| {
            let (from, to) = (text.find("kind = \"files\"").unwrap(), text.find("reload-timeout").unwrap());
            let text = format!("{}{}{}{}", &text[..from], self.server, &text[to..], self.hosts);
            change(text.replace("reload-timeout = \"3s\"", "reload-timeout = \"20s\""))
        });
    }

    /// Returns what the server shows: serial number and issuer of its certificate.
    pub(crate) fn leaf(&self) -> String {
        let script = format!(
            "openssl s_client -connect 127.0.0.1:{} -servername lampholm.example </dev/null 2>/dev/null | openssl x509 -noout -serial -issuer",
            self.port
        );
        let said = Command::new("sh").args(["-c", &script]).output().unwrap();
        String::from_utf8_lossy(&said.stdout).into_owned()
    }

    /// Has the inventory reach its machine over SSH from now on.
    pub(crate) fn is_there(&mut self) {
        let place = &self.world.place;
        let dir = place.dir.path();
        let sshd = Sshd::start(place, dir, "");
        let config = format!("config = \"{}/", dir.display());
        let folder = format!("certificates-folder = \"{}/tls\"\n", dir.display());
        let server = self.server.replace("config = \"", &config).replace("certificates-folder = \"tls\"\n", "");
        self.server = format!("host = \"box\"\n{folder}{server}");
        self.hosts = sshd.section("box");
        self._sshd = Some(sshd);
        self.write_inventory(|text| text);
    }

    pub(crate) fn shows(&self, issuer: &str) -> bool {
        self.leaf().contains(issuer)
    }
}

fn put_on(case: &Case) {
    put_on_server(case, &Served::begin(case));
}

/// Puts it on the server of a machine that is reached over SSH.
fn put_on_over_ssh(case: &Case, test: &str) {
    let owned_by_users = matches!(case.kind, "dovecot" | "postfix");
    if owned_by_users && done_by_root(test) || case.kind == "exim" && in_a_house_with_exim(test) {
        return;
    }
    let mut served = Served::begin(case);
    served.is_there();
    put_on_server(case, &served);
    assert!(served.world.place.path("tls/website").is_dir(), "its files lie where the inventory says");
}

fn put_on_server(case: &Case, served: &Served) {
    let (world, place) = (&served.world, &served.world.place);
    let before: Vec<String> = case.files.iter().map(|(name, _)| place.read(name)).collect();
    // The plan is shown, and changes nothing.
    let plan = place.run(&["keep", "--plan"]);
    plan.check(0, &["+", "old/", &format!("front ({})", case.kind)][..2]);
    let now = || case.files.iter().map(|(name, _)| place.read(name)).collect::<Vec<String>>();
    assert_eq!(now(), before, "{}", case.kind);
    // It refuses what has become of its configuration; then it cannot be reloaded: all is as it was.
    let led = "grep -qs website \\\"$@\\\" && echo the lamp is out >&2 && exit 3; exit 0";
    let files: String = case.files.iter().map(|(name, _)| format!(", \"{}\"", place.path(name).display())).collect();
    let test = format!("test = [\"sh\", \"-c\", \"{led}\", \"sh\"{files}]\n");
    for (key, line, said) in [
        ("test = [", test.as_str(), "refuses the changed configuration"),
        ("reload = [", "reload = [\"false\"]\n", "could not be reloaded"),
    ] {
        served.write_inventory(|text| {
            let kept: String = text.split_inclusive('\n').filter(|text| !text.starts_with(key)).collect();
            kept.replacen("reload-timeout", &format!("{line}reload-timeout"), 1)
        });
        world.keep().check(1, &[said, "everything was put back as it was"]);
        assert_eq!((now(), served.shows("placeholder")), (before.clone(), true), "{}: {said}", case.kind);
    }
    served.write_inventory(|text| text);
    world.keep().check(0, &["installed and checked live"]);
    let first = served.leaf();
    assert!(first.contains("Lampholm Practice"), "{}: {first}", case.kind);
    // Nothing but the words that name the files is another.
    let after = now();
    let differing = |(a, b): (&String, &String)| a.lines().zip(b.lines()).filter(|(a, b)| a != b).count();
    let changed: usize = before.iter().zip(&after).map(differing).sum();
    assert!((1..=2).contains(&changed) && after != before, "{}: {after:?}", case.kind);
    assert!(
        after.iter().all(|text| !text.contains("old/old") && !text.contains("old/both")),
        "{}: {after:?}",
        case.kind
    );
    let crlf = |texts: &[String]| texts.iter().map(|text| text.matches("\r\n").count()).sum::<usize>();
    assert_eq!(crlf(&after), crlf(&before), "{}", case.kind);
    // Already right: no change, no reload.
    place.run(&["keep"]).check(0, &["nothing to do"]);
    assert_eq!(now(), after, "{}", case.kind);
    // Renewed: the configuration stays as it is.
    world.on_day(75, &["keep"]).check(0, &["installed and checked live"]);
    let second = served.leaf();
    assert!(second.contains("Lampholm Practice") && second != first, "{}: {second}", case.kind);
    assert_eq!(now(), after, "{}", case.kind);
    // A configuration that the server refuses is left alone, and it goes on serving.
    place.write(case.files[0].0, &(after[0].clone() + case.nonsense));
    served.write_inventory(|text| text.replace("names = [\"lampholm", "key = \"p384\"\nnames = [\"lampholm"));
    let refused = world.on_day(76, &["keep"]);
    refused.check(1, &["refuses its configuration as it was before any change"]);
    assert_eq!(place.read(case.files[0].0), after[0].clone() + case.nonsense, "{}", case.kind);
    assert_eq!(served.leaf(), second, "{}", case.kind);
}

#[test]
fn apache_is_led_to_the_certificate() {
    put_on(&APACHE);
}

#[test]
fn nginx_is_led_to_the_certificate() {
    put_on(&NGINX);
}

#[test]
fn haproxy_is_led_to_the_certificate() {
    put_on(&HAPROXY);
}

#[test]
fn lighttpd_is_led_to_the_certificate() {
    put_on(&LIGHTTPD);
}

#[test]
fn dovecot_is_led_to_the_certificate() {
    if !done_by_root("serving::dovecot_is_led_to_the_certificate") {
        put_on(&DOVECOT);
    }
}

#[test]
fn postfix_is_led_to_the_certificate() {
    if !done_by_root("serving::postfix_is_led_to_the_certificate") {
        put_on(&POSTFIX);
    }
}

#[test]
fn the_names_of_postfix_have_their_certificates_by_a_map_that_is_compiled_each_time() {
    if done_by_root("serving::the_names_of_postfix_have_their_certificates_by_a_map_that_is_compiled_each_time") {
        return;
    }
    let served = Served::begin(&POSTFIX_WITH_MAP);
    let (world, place) = (&served.world, &served.world.place);
    let before = ["main.cf", "names"].map(|name| place.read(name));
    // A map that others may read would give the key away.
    std::fs::set_permissions(place.path("names"), PermissionsExt::from_mode(0o644)).unwrap();
    place.run(&["keep", "--plan"]).check(1, &["others may read", "chmod 0600"]);
    std::fs::set_permissions(place.path("names"), PermissionsExt::from_mode(0o600)).unwrap();
    place.run(&["keep", "--plan"]).check(0, &["runs postmap -c", "-F hash:", "runs postfix"]);
    world.keep().check(0, &["installed and checked live"]);
    let first = served.leaf();
    assert!(first.contains("Lampholm Practice"), "{first}");
    let text = place.read("names");
    assert_eq!(place.read("main.cf"), before[0], "what is shown to all others is not for our names");
    assert!(text.contains(
        "other.example {dir}/old/old.key".replace("{dir}", &place.dir.path().display().to_string()).as_str()
    ));
    assert_eq!(text.matches("old/old.").count(), 2, "{text}");
    assert_eq!((place.mode("names"), place.mode("names.db")), (0o600, 0o600));
    // A renewal changes no text, and what is made of it all the same.
    world.on_day(75, &["keep"]).check(0, &["installed and checked live"]);
    let second = served.leaf();
    assert!(second.contains("Lampholm Practice") && second != first, "{second}");
    // What fails, goes back, and what was made of it too.
    served.write_inventory(|text| {
        text.replace("reload = [", "reload = [\"sh\", \"-c\", \"\\\"$@\\\" && test ! -e stop\", \"sh\", ")
            .replace("names = [\"lampholm", "key = \"p384\"\nnames = [\"lampholm")
    });
    place.write("stop", "");
    world.on_day(76, &["keep"]).check(1, &["could not be reloaded"]);
    assert_eq!(served.leaf(), second);
    std::fs::remove_file(place.path("stop")).unwrap();
    // And back to before, and before that.
    world.on_day(76, &["install", "website", "--undo"]).check(0, &[]);
    assert_eq!(served.leaf(), first);
    world.on_day(76, &["install", "website", "--undo"]).check(0, &[]);
    assert_eq!(["main.cf", "names"].map(|name| place.read(name)), before);
    until("it shows the placeholder", || served.shows("placeholder"));
    let shown = place.run(&["show", "website"]);
    shown.check(0, &["taken off its servers"]);
    assert!(!shown.out.contains("  in use") && !shown.out.contains("SERVER"), "{shown}");
    assert!(place.path("state/certificates/website/current").symlink_metadata().is_err());
}

#[test]
fn exim_is_led_to_the_certificate() {
    if !in_a_house_with_exim("serving::exim_is_led_to_the_certificate") {
        put_on(&EXIM);
    }
}

#[test]
fn apache_on_another_machine_is_led_to_the_certificate() {
    put_on_over_ssh(&APACHE, "");
}

#[test]
fn nginx_on_another_machine_is_led_to_the_certificate() {
    put_on_over_ssh(&NGINX, "");
}

#[test]
fn lighttpd_on_another_machine_is_led_to_the_certificate() {
    put_on_over_ssh(&LIGHTTPD, "");
}

#[test]
fn dovecot_on_another_machine_is_led_to_the_certificate() {
    put_on_over_ssh(&DOVECOT, "serving::dovecot_on_another_machine_is_led_to_the_certificate");
}

#[test]
fn postfix_on_another_machine_is_led_to_the_certificate() {
    put_on_over_ssh(&POSTFIX, "serving::postfix_on_another_machine_is_led_to_the_certificate");
}

#[test]
fn exim_on_another_machine_is_led_to_the_certificate() {
    put_on_over_ssh(&EXIM, "serving::exim_on_another_machine_is_led_to_the_certificate");
}

/// Raises a server to the usual level, as a look at it advises.
fn raise(case: &Case) {
    let served = Served::begin(case);
    let (world, place) = (&served.world, &served.world.place);
    // It is strict by itself.
    if case.kind == "lighttpd" {
        let weak = "ssl.openssl.ssl-conf-cmd = (\"CipherString\" => \"ALL\", \"Curves\" => \"X25519\")\n";
        place.write("lighttpd.conf", &(place.read("lighttpd.conf") + weak));
    }
    world.keep().check(0, &["installed and checked live"]);
    let before: Vec<String> = case.files.iter().map(|(name, _)| place.read(name)).collect();
    let inspected = || look(place, &["website"]).0["inspection"].clone();
    let ciphers = |inspection: &serde_json::Value| {
        let versions = inspection["versions"].as_array().unwrap().clone();
        let name = |one: &serde_json::Value| one["version"].as_str().unwrap().to_owned();
        let of_12 = versions
            .iter()
            .filter(|one| name(one) == "TLS 1.2")
            .flat_map(|one| one["suites"].as_array().unwrap().clone());
        let of_12: Vec<String> = of_12.map(|suite| suite.as_str().unwrap_or_default().to_owned()).collect();
        (versions.iter().map(name).collect::<Vec<_>>(), of_12)
    };
    let (_, weak) = ciphers(&inspected());
    let is_old = |suite: &String| suite.contains("_CBC_") || suite.starts_with("TLS_RSA_");
    assert!(weak.iter().any(is_old), "{}: {weak:?}", case.kind);
    let advised = place.run(&["check", "website", "--advise"]);
    advised.check(advised.code.unwrap(), &["tls = \"usual\"", "older-ciphers"]);
    served.write_inventory(|text| text.replace("{ server = \"front\" }", "{ server = \"front\", tls = \"usual\" }"));
    place.run(&["install", "website", "--plan"]).check(0, &["+"]);
    place.run(&["install", "website"]).check(0, &["generation 1"]);
    until_it_stays("it is as strict as that", || {
        let (versions, suites) = ciphers(&inspected());
        versions == ["TLS 1.2", "TLS 1.3"] && !suites.is_empty() && !suites.iter().any(is_old)
    });
    place.run(&["keep"]).check(0, &["nothing to do"]);
    // Nothing else than lines about it is another.
    let after: Vec<String> = case.files.iter().map(|(name, _)| place.read(name)).collect();
    for (old, new) in before.iter().zip(&after) {
        let foreign = old.lines().filter(|line| !new.lines().any(|known| known == *line));
        assert!(foreign.count() <= 1, "{}: {new}", case.kind);
    }
}

#[test]
fn versions_and_ciphers_are_set_where_that_is_wished() {
    if !done_by_root("serving::versions_and_ciphers_are_set_where_that_is_wished") {
        [&HAPROXY, &LIGHTTPD, &DOVECOT, &POSTFIX].into_iter().for_each(raise);
    }
}
