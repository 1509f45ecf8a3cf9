//! Sites on other machines: OpenSSH's server and vsftpd, with the practice world's authority looking at the site.

use crate::world::*;
use std::io::{Read, Write};
use std::net::{Ipv4Addr, Shutdown, TcpListener, TcpStream};
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// A running OpenSSH server. Who comes in over SFTP begins in its folder.
pub(crate) struct Sshd {
    ip: Ipv4Addr,
    pub(crate) port: u16,
    _process: Process,
}

fn user() -> String {
    String::from_utf8(Command::new("id").arg("-un").output().unwrap().stdout).unwrap().trim().to_owned()
}

fn make_key(place: &Place, name: &str) {
    let path = place.path(name);
    let made = Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&path).status();
    assert!(made.expect("Debian's package openssh-client is installed (scripts/test does it)").success());
}

impl Sshd {
    /// Starts a server for a folder, and makes it known to the place; `sftp` are options of its SFTP server.
    pub(crate) fn start(place: &Place, folder: &Path, sftp: &str) -> Self {
        Sshd::start_as(place, folder, sftp, Ipv4Addr::LOCALHOST, &[])
    }

    /// Starts one at an address, by a command that goes on with the words behind it.
    pub(crate) fn start_as(place: &Place, folder: &Path, sftp: &str, ip: Ipv4Addr, by: &[&str]) -> Self {
        let port = free_port();
        let dir = place.dir.path().display().to_string();
        if !place.path("key").exists() {
            make_key(place, "key");
            make_key(place, "stranger");
        }
        let host_key = format!("host-key-{port}");
        make_key(place, &host_key);
        let known = format!("[{ip}]:{port} {}", place.read(&format!("{host_key}.pub")));
        let before = if place.path("known").exists() { place.read("known") } else { String::new() };
        place.write("known", &(before + &known));
        place.write("authorized", &place.read("key.pub"));
        let config = format!(
            "ListenAddress {ip}\nPort {port}\nHostKey {dir}/{host_key}\nAuthorizedKeysFile {dir}/authorized\nUsePAM no\n\
             StrictModes no\nPidFile none\nPasswordAuthentication no\nPermitRootLogin yes\nMaxStartups 100\n\
             Subsystem sftp internal-sftp -d {} {sftp}\n",
            folder.display()
        );
        let config = place.write(&format!("sshd-{port}"), &config);
        // A server that is started by root wants this folder; others can do without.
        let _ = std::fs::create_dir_all("/run/sshd");
        let config = config.display().to_string();
        let words = [by, &["/usr/sbin/sshd", "-D", "-e", "-f", &config]].concat();
        let child = Command::new(words[0]).args(&words[1..]).stderr(Stdio::null()).spawn();
        let process = Process(child.expect("Debian's package openssh-server is installed (scripts/test does it)"));
        await_server((ip, port).into(), "the SSH server");
        Sshd { ip, port, _process: process }
    }

    pub(crate) fn section(&self, name: &str) -> String {
        format!(
            "[host.{name}]\nkind = \"ssh\"\naddress = \"{}\"\nport = {}\nuser = \"{}\"\nkey-file = \"key\"\n\
             known-hosts = \"known\"\ntimeout = \"20s\"\n\n",
            self.ip,
            self.port,
            user()
        )
    }
}

/// Puts hosts into the inventory, and the site's folder on them.
pub(crate) fn on_hosts(world: &World, hosts: &str, names: &str, folder: &str) {
    world.write_inventory(|text| {
        let text = text.replace("[proof.pages]", &format!("{hosts}[proof.pages]"));
        text.replace("folder = \"www\"", &format!("folder = \"{folder}\"\nhost = {names}"))
    });
}

#[test]
fn a_placed_file_replaces_none_of_somebody_elses_on_any_machine() {
    let world = World::new();
    let place = &world.place;
    std::fs::create_dir_all(place.path("second/www")).unwrap();
    let first = Sshd::start(place, place.dir.path(), "");
    let second = Sshd::start(place, &place.path("second"), "");
    on_hosts(&world, &(first.section("node1") + &second.section("node2")), "[\"node1\", \"node2\"]", "www");
    place.write("lamp.txt", "the lamp\n");
    place.write("second/www/lamp.txt", "somebody else's\n");
    let put = || place.run(&["place", "pages", "/lamp.txt", "--from", "lamp.txt", "--at", NAMES[0]]);
    put().check(1, &["exists already and contains something else"]);
    assert_eq!(place.read("second/www/lamp.txt"), "somebody else's\n");
    assert!(!place.path("www/lamp.txt").exists(), "nor is it put on the first");
    std::fs::remove_file(place.path("second/www/lamp.txt")).unwrap();
    put().check(0, &[]);
    assert_eq!(
        (place.read("www/lamp.txt"), place.read("second/www/lamp.txt")),
        ("the lamp\n".into(), "the lamp\n".into())
    );
    place.run(&["place", "pages", "--remove"]).check(0, &[]);
    assert!(!place.path("www/lamp.txt").exists() && !place.path("second/www/lamp.txt").exists());
}

#[test]
fn a_site_on_machines_over_ssh_has_the_file_on_each_of_them() {
    let world = World::new();
    let place = &world.place;
    std::fs::create_dir_all(place.path("second/www")).unwrap();
    let first = Sshd::start(place, place.dir.path(), "");
    let second = Sshd::start(place, &place.path("second"), "");
    let both = first.section("node1") + &second.section("node2");
    on_hosts(&world, &both, "[\"node1\", \"node2\"]", "www");
    world.keep().check(0, &["generation 1 installed and checked live"]);
    world.place.check_nothing_published();
    assert!(!place.path("second/www/.well-known").exists(), "nor on the second");

    // One that may not be written to keeps the authority from being asked.
    let read_only = Sshd::start(place, &place.path("second"), "-R");
    on_hosts(&world, &(first.section("node1") + &read_only.section("node2")), "[\"node1\", \"node2\"]", "www");
    let inventory = place.read("eskort.toml") + "key = \"p384\"\n";
    place.write("eskort.toml", &inventory);
    let looks = || world.authority.asked().iter().filter(|r| **r == eskort_practice::Resource::Challenge).count();
    let before = looks();
    world
        .keep()
        .check(1, &["cannot make www/.well-known on host `node2`: permission denied", "must be allowed to write"]);
    world.place.check_nothing_published();

    let cases: [(&str, &str, &[&str]); 6] = [
        (
            "known-hosts = \"known\"",
            "known-hosts = \"nobody\"",
            &["cannot prove that it is the right machine", "compare the host key"],
        ),
        ("user = \"", "user = \"nobody-", &["refused the login", "Permission denied (publickey"]),
        ("key-file = \"key\"", "key-file = \"stranger\"", &["refused the login", "Permission denied (publickey"]),
        (
            "address = \"127.0.0.1\"",
            "address = \"gone.lampholm.example\"",
            &["cannot reach host `node1` at gone.lampholm.example"],
        ),
        (&format!("port = {}", first.port), "port = 9", &["cannot reach host `node1`", "Connection refused"]),
        (
            "folder = \"www\"",
            "folder = \"web\"",
            &["the folder web does not exist on host `node1`", "correct `folder`"],
        ),
    ];
    for (from, to, said) in cases {
        place.write("eskort.toml", &inventory.replace(from, to));
        world.keep().check(1, said);
    }
    assert_eq!(looks(), before, "the authority was never told to look");
    on_hosts(&world, &both, "[\"node1\", \"node2\"]", "www");
    place.write("eskort.toml", &(place.read("eskort.toml") + "key = \"p384\"\n"));
    world.keep().check(0, &["go on with generation 2 from `ordered`", "generation 2 installed and checked live"]);
}

#[test]
fn files_are_put_on_a_machine_over_ssh_and_looked_at_even_when_it_is_gone() {
    let world = World::new();
    let place = &world.place;
    let sshd = Sshd::start(place, place.dir.path(), "");
    let node = sshd.section("node");
    let dir = place.dir.path().display();
    let run = format!("run = [\"sh\", \"-c\", \"echo $SSH_CONNECTION > {dir}/told\"]");
    world.write_inventory(|text| {
        let text = text.replace("[server.front]", &format!("{node}[server.front]\nhost = \"node\"\n{run}"));
        text.replace("to = \"tls/", &format!("to = \"{dir}/tls/"))
    });
    let key = format!("writes {dir}/tls/site.key on host `node` (key)");
    world.keep().check(0, &[&key, "generation 1 installed and checked live"]);
    assert_eq!((place.mode("tls/site.key"), place.mode("tls/site.pem")), (0o600, 0o644));
    assert!(place.read("told").starts_with("127.0.0.1 "), "the command ran over there");
    world.keep().check(0, &["nothing to do"]);

    // A machine that is gone is tried once in a run, however often it is needed.
    let gone = TcpListener::bind("127.0.0.1:0").unwrap();
    let port = gone.local_addr().unwrap().port();
    let tries = Arc::new(AtomicUsize::new(0));
    let counted = Arc::clone(&tries);
    std::thread::spawn(move || {
        for _ in gone.incoming() {
            counted.fetch_add(1, Ordering::SeqCst);
        }
    });
    let text = place.read("eskort.toml").replace(&node, &node.replace("port = ", &format!("port = {port} # ")));
    place.write("eskort.toml", &text);
    world.keep().check(1, &["server `front`: cannot reach host `node`"]);
    assert_eq!(tries.load(Ordering::SeqCst), 1);
    world.place.run(&["check"]).check(0, &["generation 1, as installed"]);
    assert_eq!(tries.load(Ordering::SeqCst), 1, "a check of what the inventory names needs no machine");
}

#[test]
fn the_systems_ssh_counts_with_its_configuration_agent_and_jump_hosts() {
    let world = World::new();
    let place = &world.place;
    let gate = Sshd::start(place, place.dir.path(), "");
    let node = Sshd::start(place, place.dir.path(), "");
    let dir = place.dir.path().display();
    let common = format!("Host *\n  User {}\n  UserKnownHostsFile {dir}/known\n  IdentityFile {dir}/key\n", user());
    let hosts = format!("Host node\n  HostName 127.0.0.1\n  Port {}\n", node.port);
    place.write("ssh.conf", &format!("{hosts}{common}"));
    let jump = format!("jump = \"{}@127.0.0.1:{}\"", user(), gate.port);
    let section =
        |more: &str| format!("[host.node]\nkind = \"ssh\"\naddress = \"node\"\nssh-config = \"ssh.conf\"\n{more}\n\n");
    on_hosts(&world, &section(&jump), "\"node\"", "www");
    world.keep().check(0, &["generation 1 installed and checked live"]);

    // With the key in an agent only.
    let agent = Command::new("ssh-agent").args(["-D", "-a"]).arg(place.path("agent")).stdout(Stdio::null()).spawn();
    let _agent = Process(agent.unwrap());
    until("the agent is there", || place.path("agent").exists());
    let added =
        Command::new("ssh-add").arg(place.path("key")).env("SSH_AUTH_SOCK", place.path("agent")).output().unwrap();
    assert!(added.status.success(), "{added:?}");
    place.write("ssh.conf", &format!("{hosts}{common}").replace(&format!("{dir}/key"), "none"));
    on_hosts(&world, &section(""), "\"node\"", "www");
    place.write("eskort.toml", &(place.read("eskort.toml") + "key = \"p384\"\n"));
    world.keep().check(1, &["refused the login"]);
    let socket = place.path("agent");
    let said = place.run_with("SSH_AUTH_SOCK", socket.to_str().unwrap(), &["keep"]);
    said.check(0, &["generation 2 installed and checked live"]);
}

#[test]
fn a_program_on_another_machine_places_the_records() {
    let world = World::new();
    let place = &world.place;
    let sshd = Sshd::start(place, place.dir.path(), "");
    place.write("zone.key", &world.names.update_key());
    let dir = place.dir.path().display();
    let script = format!(
        "#!/bin/sh\nread line; [ -e {dir}/asked ] || {{ touch {dir}/asked; exit 75; }}\n\
         value() {{ echo \"$line\" | sed \"s/.*\\\"$1\\\":\\\"\\([^\\\"]*\\)\\\".*/\\1/\"; }}\n\
         case $(value what) in add) do=\"add $(value name). 60 TXT $(value text)\";; \
         remove) do=\"delete $(value name). TXT $(value text)\";; *) exit 9;; esac\n\
         printf 'server 127.0.0.1 {}\\nzone lampholm.example\\n%s\\nsend\\n' \"$do\" | nsupdate -v -k {dir}/zone.key\n",
        world.names.address().port()
    );
    place.write("records", &script);
    let program = format!(
        "kind = \"program\"\ncommand = [\"sh\", \"{dir}/records\"]\nhost = \"node\"\nserver = \"{0}\"\nname-servers = [\"{0}\"]\npropagation-timeout = \"5s\"",
        world.names.address()
    );
    world.write_inventory(|text| {
        let text = text.replace("[proof.pages]", &format!("{}[proof.pages]", sshd.section("node")));
        let text = text.replace("kind = \"http-folder\"\nfolder = \"www\"", &program);
        text.lines()
            .filter(|l| *l != format!("check-address = \"{}\"", world.site.plain_address()))
            .map(|l| format!("{l}\n"))
            .collect()
    });
    world.keep().check(0, &["generation 1 installed and checked live"]);
    assert_eq!(world.names.texts("_acme-challenge.lampholm.example"), Vec::<String>::new());
    place.write("records", "echo the oil is out >&2; exit 4\n");
    place.write("eskort.toml", &(place.read("eskort.toml") + "key = \"p384\"\n"));
    world.keep().check(1, &["records` on host `node` ended with exit status: 4: the oil is out"]);
}

/// Passes connections on, and cuts each after so many bytes from its client.
fn cutting_proxy(to: u16, after: usize) -> u16 {
    let listener = TcpListener::bind((Ipv4Addr::LOCALHOST, 0)).unwrap();
    let port = listener.local_addr().unwrap().port();
    std::thread::spawn(move || {
        for client in listener.incoming() {
            let Ok(mut client) = client else { return };
            let mut server = TcpStream::connect((Ipv4Addr::LOCALHOST, to)).unwrap();
            let (mut back_from, mut back_to) = (server.try_clone().unwrap(), client.try_clone().unwrap());
            std::thread::spawn(move || drop(std::io::copy(&mut back_from, &mut back_to)));
            std::thread::spawn(move || {
                let mut left = after;
                let mut buffer = [0; 512];
                while let Ok(n @ 1..) = client.read(&mut buffer) {
                    if n >= left || server.write_all(&buffer[..n]).is_err() {
                        break;
                    }
                    left -= n;
                }
                let _ = (client.shutdown(Shutdown::Both), server.shutdown(Shutdown::Both));
            });
        }
    });
    port
}

#[test]
fn a_connection_that_is_cut_or_a_run_that_is_killed_leaves_nothing_in_the_end() {
    let world = World::new();
    let place = &world.place;
    let sshd = Sshd::start(place, place.dir.path(), "");
    let section = sshd.section("node");
    on_hosts(&world, &section, "\"node\"", "www");
    let whole = place.read("eskort.toml");
    let mut failed = 0;
    for after in [100, 2500, 3200, 3600, 4000, 4500, 5000] {
        let port = cutting_proxy(sshd.port, after);
        place.write(
            "known",
            &format!(
                "{}[127.0.0.1]:{port} {}",
                place.read("known"),
                place.read(&format!("host-key-{}.pub", sshd.port))
            ),
        );
        place.write("eskort.toml", &whole.replace(&format!("port = {}", sshd.port), &format!("port = {port}")));
        let cut = world.keep();
        failed += usize::from(cut.code == Some(1));
        assert!(matches!(cut.code, Some(0 | 1)), "{after}: {cut}");
    }
    assert!(failed >= 5, "most were cut in the middle");
    place.write("eskort.toml", &whole);
    world.keep().check(0, &[]);
    place.check_nothing_published();
    for (n, point) in
        ["owed", "file-written", "saved-publish", "saved-self-check", "taken-away"].into_iter().enumerate()
    {
        place.write("eskort.toml", &format!("{whole}key = \"{}\"\n", ["p384", "p256"][n % 2]));
        let killed = place.run_with("ESKORT_CRASH_AT", point, &["keep"]);
        assert_eq!(killed.code, None, "{point}: {killed}");
        if point == "saved-publish" {
            check_modes(place);
        }
        world.keep().check(0, &["go on with", "installed and checked live"]);
        place.check_nothing_published();
    }
    let (orders, issued) = world.authority.counts();
    assert_eq!(orders, issued, "no order twice");
}

/// Checks that visitors can read what is published, and that nothing else lies there.
fn check_modes(place: &Place) {
    let folder = "www/.well-known/acme-challenge";
    assert_eq!((place.mode("www/.well-known"), place.mode(folder)), (0o755, 0o755));
    let files: Vec<String> =
        std::fs::read_dir(place.path(folder)).unwrap().map(|f| f.unwrap().file_name().into_string().unwrap()).collect();
    assert!(files.iter().all(|f| !f.starts_with('.') && place.mode(&format!("{folder}/{f}")) == 0o644), "{files:?}");
}

/// A running vsftpd with one account whose password is `oil and wick`.
pub(crate) struct Vsftpd {
    pub(crate) port: u16,
    _process: Process,
}

impl Vsftpd {
    pub(crate) fn start(place: &Place, more: &str) -> Self {
        let (chain, key, root) = loopback_certificate();
        place.write("ftp/tls.pem", &(chain + &key));
        place.write("ftp-root.pem", &root);
        place.write("ftp/passwords", "oil and wick\n");
        place.write("password", "oil and wick\n");
        let dir = place.dir.path().display();
        let port = free_port();
        let config = format!(
            "listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nrun_as_launching_user=YES\n\
             anonymous_enable=YES\nno_anon_password=NO\nsecure_email_list_enable=YES\nemail_password_file={dir}/ftp/passwords\n\
             anon_root={dir}/account\nwrite_enable=YES\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\n\
             anon_other_write_enable=YES\nanon_world_readable_only=NO\nanon_umask=022\nallow_writeable_chroot=YES\n\
             ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_logins_ssl=YES\nforce_anon_data_ssl=YES\nssl_tlsv1=YES\n\
             rsa_cert_file={dir}/ftp/tls.pem\nssl_ciphers=HIGH\npasv_address=127.0.0.1\nvsftpd_log_file={dir}/ftp/log\n\
             xferlog_enable=YES\nseccomp_sandbox=NO\n{more}\n"
        );
        let config = place.write("ftp/vsftpd.conf", &config);
        let child = Command::new("/usr/sbin/vsftpd").arg(config).stdout(Stdio::null()).stderr(Stdio::null()).spawn();
        let process = Process(child.expect("Debian's package vsftpd is installed (scripts/test does it)"));
        await_port(port, "the FTP server");
        Vsftpd { port, _process: process }
    }

    fn section(&self, tls: &str) -> String {
        format!(
            "[host.account]\nkind = \"ftp\"\naddress = \"127.0.0.1\"\nport = {}\nuser = \"ftp\"\npassword-file = \"password\"\n\
             tls = \"{tls}\"\nroots = \"ftp-root.pem\"\ntimeout = \"20s\"\n\n",
            self.port
        )
    }
}

#[test]
fn a_site_on_an_account_that_has_only_ftp() {
    let world = World::new();
    let place = &world.place;
    // The account's folder is the one that the site is served from.
    std::fs::create_dir(place.path("account")).unwrap();
    std::fs::rename(place.path("www"), place.path("account/site")).unwrap();
    std::os::unix::fs::symlink(place.path("account/site"), place.path("www")).unwrap();
    let explicit = Vsftpd::start(place, "");
    on_hosts(&world, &explicit.section("explicit"), "\"account\"", "site");
    world.keep().check(0, &["generation 1 installed and checked live"]);
    place.check_nothing_published();
    assert!(!place.read("ftp/log").is_empty(), "the server took files");

    let inventory = place.read("eskort.toml") + "key = \"p384\"\n";
    let cases: [(&str, &str, &[&str]); 5] = [
        ("password-file = \"password\"", "password-file = \"known\"", &["refused the login", "check `user`"]),
        ("roots = \"ftp-root.pem\"\n", "", &["cannot prove that it is the right machine", "`roots` of the host"]),
        ("tls = \"explicit\"", "tls = \"none\"", &["refused the login"]),
        ("folder = \"site\"", "folder = \"web\"", &["the folder web does not exist on host `account`"]),
        (&format!("port = {}", explicit.port), "port = 9", &["cannot reach host `account` at 127.0.0.1", "refused"]),
    ];
    place.write("known", "water\n");
    for (from, to, said) in cases {
        place.write("eskort.toml", &inventory.replace(from, to));
        let failed = world.keep();
        failed.check(1, said);
        assert!(!failed.err.contains("oil and wick") && !failed.err.contains("water"), "{failed}");
    }
    // Killed with the file on the account.
    place.write("eskort.toml", &inventory);
    let killed = place.run_with("ESKORT_CRASH_AT", "file-written", &["keep"]);
    assert_eq!(killed.code, None, "{killed}");
    check_modes(place);
    // The account cannot be reached: what is left is shown with how to remove it by hand.
    place.write("eskort.toml", &inventory.replace(&format!("port = {}", explicit.port), "port = 9"));
    world.keep().check(1, &["cannot reach host `account`"]);
    place
        .run(&["show", "website"])
        .check(0, &["left over", "on host `account` is still published", "delete site/.well-known"]);
    place.write("eskort.toml", &inventory);
    world.keep().check(0, &["generation 2 installed and checked live"]);
    place.check_nothing_published();
    drop(explicit);

    let implicit = Vsftpd::start(place, "implicit_ssl=YES");
    on_hosts(&world, &implicit.section("implicit"), "\"account\"", "site");
    world.keep().check(0, &["generation 3 installed and checked live"]);
    drop(implicit);
    let plain = Vsftpd::start(place, "force_anon_logins_ssl=NO\nforce_anon_data_ssl=NO");
    on_hosts(&world, &plain.section("none"), "\"account\"", "site");
    place.write("eskort.toml", &(place.read("eskort.toml") + "key = \"p384\"\n"));
    world.keep().check(0, &["generation 4 installed and checked live"]);
    drop(plain);
    let read_only = Vsftpd::start(place, "write_enable=NO");
    on_hosts(&world, &read_only.section("explicit"), "\"account\"", "site");
    world.keep().check(1, &["cannot make site/.well-known on host `account`: ", "Permission denied"]);
    place.check_nothing_published();
}

#[test]
fn files_go_to_an_account_that_has_only_ftp_and_a_key_only_where_others_cannot_read_it() {
    let world = World::new();
    let place = &world.place;
    // The folder of the account is the one that the server reads.
    std::fs::create_dir_all(place.path("account/tls")).unwrap();
    std::os::unix::fs::symlink(place.path("account/tls"), place.path("tls")).unwrap();
    let folder = place.path("account/tls").display().to_string();
    let on_account = |ftp: &Vsftpd| {
        world.write_inventory(|text| {
            let text = text.replace("kind = \"files\"\n", "kind = \"files\"\nhost = \"account\"\n");
            text.replace("to = \"tls/", &format!("to = \"{folder}/")) + &ftp.section("explicit")
        });
    };
    let files = || std::fs::read_dir(place.path("account/tls")).unwrap().count();
    // A server that makes all files readable for others, and lets nobody close them.
    let open = Vsftpd::start(place, "");
    on_account(&open);
    world.keep().check(1, &["site.key on host `account`", "lets others read it"]);
    assert_eq!(files(), 0, "what was written before went with it");
    let log = place.read("ftp/log");
    let sent: Vec<&str> = log.lines().filter(|line| line.contains("OK UPLOAD")).collect();
    assert!(sent.iter().any(|line| line.contains(", 0.00Kbyte/sec") || line.contains(", 0 bytes")), "{sent:?}");
    drop(open);
    let closed = Vsftpd::start(place, "anon_umask=077");
    on_account(&closed);
    world.keep().check(0, &["put generation 1 in place", "confirmed"]);
    assert_eq!((files(), place.mode("account/tls/site.key")), (2, 0o600));
    let first = place.read("account/tls/site.pem");
    place.run(&["keep"]).check(0, &["nothing to do"]);
    world.on_day(75, &["keep"]).check(0, &["generation 2 installed and checked live"]);
    assert_ne!(place.read("account/tls/site.pem"), first);
    world.on_day(75, &["install", "website", "--undo"]).check(0, &[]);
    assert_eq!((place.read("account/tls/site.pem"), files()), (first, 2));
}

#[test]
fn over_links_of_others_on_another_machine_nothing_is_written() {
    let world = World::new();
    let place = &world.place;
    let sshd = Sshd::start(place, place.dir.path(), "");
    on_hosts(&world, &sshd.section("node"), "[\"node\"]", "www");
    place.write("victim/here", "");
    std::os::unix::fs::symlink("../victim", place.path("www/.well-known")).unwrap();
    world.keep().check(1, &["www/.well-known on host `node` is a symbolic link, and is not followed"]);
    assert_eq!(std::fs::read_dir(place.path("victim")).unwrap().count(), 1);
    std::fs::remove_file(place.path("www/.well-known")).unwrap();
    world.keep().check(0, &["installed and checked live"]);
}
