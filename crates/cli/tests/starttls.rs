//! `check` at real servers that begin TLS after some words: PostgreSQL, MariaDB, Dovecot, OpenLDAP and Postfix.

use crate::world::*;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::Path;
use std::process::{Command, Stdio};

/// Starts a server in the foreground, with what it says in a file.
fn start(place: &Place, program: &str, words: &str, port: u16) -> Process {
    let said = std::fs::File::create(place.path(&format!("{port}.log"))).unwrap();
    let mut command = Command::new(program);
    command.args(words.split_whitespace()).current_dir(place.dir.path());
    command.stdin(Stdio::null()).stdout(said.try_clone().unwrap()).stderr(said);
    let process = Process(command.spawn().unwrap_or_else(|e| panic!("{program} (scripts/test installs it): {e}")));
    await_port(port, program);
    process
}

pub(crate) fn postgres(place: &Place, port: u16) -> Process {
    let user = nix::unistd::User::from_name("postgres").unwrap().expect("Debian's package postgresql has its user");
    std::fs::create_dir(place.path("pg")).unwrap();
    for file in ["leaf.pem", "leaf.key"] {
        place.write(&format!("pg/{file}"), &place.read(file));
    }
    std::fs::set_permissions(place.path("pg/leaf.key"), PermissionsExt::from_mode(0o600)).unwrap();
    let (uid, gid) = (user.uid.as_raw(), user.gid.as_raw());
    ["pg", "pg/leaf.pem", "pg/leaf.key"].iter().for_each(|f| chown(place.path(f), Some(uid), Some(gid)).unwrap());
    // One folder for each version.
    let versions = std::fs::read_dir("/usr/lib/postgresql").expect("Debian's package postgresql is installed");
    let programs = versions.last().unwrap().unwrap().path().join("bin");
    // It does not run as root.
    let as_user = format!("--reuid={uid} --regid={gid} --clear-groups {}", programs.display());
    let data = place.path("pg/data").display().to_string();
    let made = Command::new("setpriv").args(format!("{as_user}/initdb -A trust -N -D {data}").split(' ')).output();
    assert!(made.unwrap().status.success());
    let tls = "-c ssl=on -c ssl_cert_file=../leaf.pem -c ssl_key_file=../leaf.key";
    let words = format!("{as_user}/postgres -D {data} -p {port} -h 127.0.0.1 -c unix_socket_directories= {tls}");
    start(place, "setpriv", &words, port)
}

pub(crate) fn mariadb(place: &Place, port: u16) -> Process {
    let data = place.path("my").display().to_string();
    let words = format!("--no-defaults --user=root --datadir={data} --auth-root-authentication-method=normal");
    let made = Command::new("mariadb-install-db").args(words.split(' ')).output().unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    let dir = format!("={}/", place.dir.path().display());
    let files = "--ssl-cert=leaf.pem --ssl-key=leaf.key --socket=my.sock --pid-file=my.pid".replace('=', &dir);
    let words = format!("--no-defaults --user=root --datadir={data} --port={port} --bind-address=127.0.0.1 {files}");
    start(place, "mariadbd", &words, port)
}

fn dovecot(place: &Place, imap: u16, pop3: u16, sieve: u16) -> Process {
    let dir = place.dir.path().display();
    let service = |name: &str, port: u16| {
        format!(
            "service {name}-login {{\n  inet_listener {name} {{\n    port = {port}\n  }}\n  inet_listener {name}s {{\n    \
             port = 0\n  }}\n}}\n"
        )
    };
    let text = format!(
        "protocols = imap pop3 sieve\nlisten = 127.0.0.1\nbase_dir = {dir}/dovecot\nstate_dir = {dir}/dovecot\n\
         log_path = {dir}/dovecot.log\nssl = yes\nssl_cert = <{dir}/leaf.pem\nssl_key = <{dir}/leaf.key\n\
         passdb {{\n  driver = static\n  args = nopassword=y\n}}\n{}{}\
         service managesieve-login {{\n  inet_listener sieve {{\n    port = {sieve}\n  }}\n}}\n",
        service("imap", imap),
        service("pop3", pop3)
    );
    place.write("dovecot.conf", &text);
    let process = start(place, "dovecot", "-F -c dovecot.conf", imap);
    [pop3, sieve].iter().for_each(|port| await_port(*port, "dovecot"));
    process
}

/// For clients and for other servers.
fn prosody(place: &Place, client: u16, server: u16) -> Process {
    let dir = place.dir.path().display();
    std::fs::create_dir(place.path("messages")).unwrap();
    let text = format!(
        "run_as_root = true\npidfile = \"{dir}/prosody.pid\"\ndata_path = \"{dir}/messages\"\ninterfaces = {{ \"127.0.0.1\" }}\n\
         c2s_ports = {{ {client} }}\ns2s_ports = {{ {server} }}\nmodules_enabled = {{ \"tls\", \"saslauth\" }}\nlog = {{ error = \"{dir}/prosody.log\" }}\n\
         VirtualHost \"lampholm.example\"\n  ssl = {{ key = \"{dir}/leaf.key\", certificate = \"{dir}/leaf.pem\" }}\n"
    );
    place.write("prosody.lua", &text);
    let process = start(place, "prosody", "-F --config prosody.lua", client);
    await_port(server, "prosody");
    process
}

fn slapd(place: &Place, port: u16) -> Process {
    let dir = place.dir.path().display();
    let text = format!("TLSCertificateFile {dir}/leaf.pem\nTLSCertificateKeyFile {dir}/leaf.key\n");
    place.write("slapd.conf", &text);
    start(place, "slapd", &format!("-f slapd.conf -h ldap://127.0.0.1:{port} -d 0"), port)
}

/// Postfix goes to the background by itself; it is told to stop when this is dropped.
struct Postfix<'a>(&'a Path);

impl Drop for Postfix<'_> {
    fn drop(&mut self) {
        let _ = Command::new("postfix").args(["-c", "postfix", "stop"]).current_dir(self.0).output();
    }
}

fn postfix(place: &Place, port: u16) -> Postfix<'_> {
    let dir = place.dir.path().display();
    let user = nix::unistd::User::from_name("postfix").unwrap().expect("Debian's package postfix has its user");
    ["postfix", "queue", "data"].iter().for_each(|name| std::fs::create_dir(place.path(name)).unwrap());
    chown(place.path("data"), Some(user.uid.as_raw()), None).unwrap();
    let main = format!(
        "compatibility_level = 3.6\nqueue_directory = {dir}/queue\ndata_directory = {dir}/data\nmail_owner = postfix\n\
         inet_interfaces = 127.0.0.1\nmyhostname = lampholm.example\nmaillog_file = {dir}/postfix.log\n\
         maillog_file_prefixes = /tmp\nsmtpd_tls_chain_files = {dir}/leaf.key, {dir}/leaf.pem\n\
         smtpd_tls_security_level = may\nalias_maps =\nlocal_recipient_maps =\n"
    );
    place.write("postfix/main.cf", &main);
    let services = format!(
        "127.0.0.1:{port} inet n - n - - smtpd\npostlog unix-dgram n - n - 1 postlogd\nanvil unix - - n - 1 anvil\n\
         tlsmgr unix - - n 1000? 1 tlsmgr\nrewrite unix - - n - - trivial-rewrite\ncleanup unix n - n - 0 cleanup\n"
    );
    place.write("postfix/master.cf", &services);
    let folder = place.path("postfix").display().to_string();
    let started = Command::new("postfix").args(["-c", &folder, "start"]).output();
    let started = started.expect("Debian's package postfix is installed (scripts/test does it)");
    assert!(started.status.success(), "{started:?}");
    let running = Postfix(place.dir.path());
    await_port(port, "postfix");
    running
}

#[test]
fn real_servers_are_asked_to_begin_tls() {
    if done_by_root("starttls::real_servers_are_asked_to_begin_tls") {
        return;
    }
    let place = Place::new();
    // Their own users walk through.
    std::fs::set_permissions(place.dir.path(), PermissionsExt::from_mode(0o755)).unwrap();
    place.sign_itself("lampholm.example", true);
    let ports = [(); 9].map(|()| free_port());
    let [sql, my, imap, pop3, ldap, smtp, sieve, xmpp, xmpp_server] = ports;
    let _databases = [postgres(&place, sql), mariadb(&place, my)];
    let _others = [dovecot(&place, imap, pop3, sieve), slapd(&place, ldap), prosody(&place, xmpp, xmpp_server)];
    let _mail = postfix(&place, smtp);
    for (usual, port, words) in [
        (5432, sql, "a database (PostgreSQL)"),
        (3306, my, "a database (MySQL or MariaDB)"),
        (143, imap, "a mailbox server (IMAP)"),
        (110, pop3, "a mailbox server (POP3)"),
        (389, ldap, "a directory server (LDAP)"),
        (25, smtp, "a mail server (SMTP)"),
        (4190, sieve, "a server for mail rules (ManageSieve)"),
        (5222, xmpp, "a message server (XMPP)"),
        (5269, xmpp_server, "a message server (XMPP)"),
    ] {
        // By its usual port; on another by how it answers, except those that wait to be spoken to.
        for endpoint in [usual, port].into_iter().filter(|n| ![ldap, xmpp, xmpp_server].contains(n)) {
            let (name, address) = (format!("lampholm.example:{endpoint}"), format!("127.0.0.1:{port}"));
            let said = &[&format!("begun by {words}"), "itself one of the roots that are trusted here"];
            let words = ["check", &name, "--address", &address, "--roots", "leaf.pem"];
            place.run(&[&words[..], &["--short"]].concat()).check(0, said);
            // All that it agrees to, over the same words each time.
            if endpoint == usual {
                let whole = place.run(&words);
                assert!(matches!(whole.code, Some(0 | 4)), "{whole}");
                let rated =
                    ["sound", "strong", "weak"].iter().any(|word| whole.out.contains(&format!(" of 100, {word}")));
                assert!(rated && whole.out.contains("ciphers") && !whole.out.contains("had no answer"), "{whole}");
            }
        }
    }
}
