//! One server on two machines: all or nothing, or without the one on which it fails.

use crate::hosts::Sshd;
use crate::world::*;
use std::net::Ipv4Addr;
use std::process::{Command, Stdio};

const WEBS: [(&str, Ipv4Addr); 2] = [("web1", Ipv4Addr::new(127, 0, 0, 11)), ("web2", Ipv4Addr::new(127, 0, 0, 12))];

/// Two machines: each has files of its own at the same path, an SSH server, and an nginx, and is reached at an address of its own.
struct Machines {
    world: World,
    sshd: [Sshd; 2],
    port: u16,
    _nginx: [Process; 2],
}

impl Machines {
    fn start() -> Self {
        let world = World::new();
        let place = &world.place;
        let port = free_port();
        std::fs::create_dir_all(place.path("etc")).unwrap();
        let names = format!("subjectAltName=DNS:{}", NAMES[0]);
        let words =
            ["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-subj", "/CN=old"];
        place
            .openssl(&[&words[..], &["-keyout", "old.key", "-out", "old.pem", "-addext", &names]].concat())
            .check(0, &[]);
        let dir = place.dir.path().display().to_string();
        let started = WEBS.map(|(name, ip)| {
            let temp = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"];
            let temp: String = temp.map(|kind| format!("{kind}_temp_path {dir}/{name}/{kind}; ")).concat();
            let main = format!(
                "user root;\ndaemon off;\npid {dir}/etc/pid;\nerror_log {dir}/etc/log;\nevents {{}}\nhttp {{\n    access_log off; {temp}\n    \
                 server {{\n        listen {ip}:{port} ssl;\n        server_name {} {};\n        ssl_certificate {dir}/old.pem;\n        \
                 ssl_certificate_key {dir}/old.key;\n        return 200 {name};\n    }}\n}}\n",
                NAMES[0], NAMES[1]
            );
            place.write(&format!("{name}/nginx.conf"), &main);
            let mounted = format!("mount --bind {dir}/{name} {dir}/etc && exec \"$@\"");
            let by = ["unshare", "-m", "sh", "-c", &mounted, "sh"];
            let sshd = Sshd::start_as(place, place.dir.path(), "", ip, &by);
            let nginx = Command::new(by[0])
                .args(&by[1..])
                .args(["/usr/sbin/nginx", "-c", &format!("{dir}/etc/nginx.conf")])
                .stderr(Stdio::null())
                .spawn();
            let nginx = Process(nginx.unwrap());
            await_server((ip, port).into(), "nginx");
            (sshd, nginx)
        });
        let [(one, first), (two, second)] = started;
        Machines { world, sshd: [one, two], port, _nginx: [first, second] }
    }

    fn write_inventory(&self, more: &str, change: impl Fn(String) -> String) {
        let dir = self.world.place.dir.path().display().to_string();
        let hosts: String = WEBS.iter().zip(&self.sshd).map(|((name, _), sshd)| sshd.section(name)).collect();
        let server = format!(
            "kind = \"nginx\"\nhost = [\"web1\", \"web2\"]\nconfig = \"{dir}/etc/nginx.conf\"\ncertificates-folder = \"{dir}/etc/tls\"\n\
             reload-timeout = \"5s\"\n{more}\n"
        );
        self.world.write_inventory(|text| {
            let (from, to) = (text.find("kind = \"files\"").unwrap(), text.find("[certificate.website]").unwrap());
            change(format!("{}{server}\n{hosts}{}", &text[..from], &text[to..]))
        });
    }

    /// Returns whether each machine shows a certificate of the authority.
    fn shows(&self) -> [bool; 2] {
        WEBS.map(|(_, ip)| {
            let script = format!(
                "openssl s_client -connect {ip}:{} </dev/null 2>/dev/null | openssl x509 -noout -issuer",
                self.port
            );
            let said = Said::from(Command::new("sh").args(["-c", &script]).output().unwrap());
            said.check(0, &["issuer"]);
            said.out.contains("Practice Issuer")
        })
    }

    fn configurations(&self) -> [String; 2] {
        WEBS.map(|(name, _)| self.world.place.read(&format!("{name}/nginx.conf")))
    }
}

#[test]
fn what_fails_on_one_of_two_machines_goes_back_on_both_or_leaves_that_one_out() {
    if done_by_root("machines::what_fails_on_one_of_two_machines_goes_back_on_both_or_leaves_that_one_out") {
        return;
    }
    let machines = Machines::start();
    let place = &machines.world.place;
    let before = machines.configurations();
    let dir = place.dir.path().display().to_string();
    let fails = |step: &str, with: &str| {
        let own = format!("nginx -{} -c {dir}/etc/nginx.conf", if step == "test" { "t -q" } else { "s reload" });
        format!("{step} = [\"sh\", \"-c\", \"if [ -e {dir}/etc/broken ]; then {with}; else {own}; fi\"]\n")
    };
    let gone = |text: String| text.replace("address = \"127.0.0.12\"", "address = \"127.0.0.99\"");
    place.write("web2/broken", "");
    // The second fails at each step in turn: both are as they were.
    for (more, broken, said) in [
        (fails("test", "echo the lamp is out >&2; exit 3"), false, "refuses"),
        (fails("reload", "echo the lamp is out >&2; exit 3"), false, "could not be reloaded"),
        (fails("reload", "true"), false, "does not serve the new certificate"),
        (String::new(), true, "cannot reach host `web2`"),
    ] {
        machines.write_inventory(&more, |text| if broken { gone(text) } else { text });
        machines.world.keep().check(1, &["front@web2", said]);
        assert_eq!((machines.configurations(), machines.shows()), (before.clone(), [false, false]), "{more}");
        assert!(!place.path("web1/tls").join("website/key.pem").exists());
    }
    // With `partial` the first goes on alone, and the second follows when it is well again.
    let more = format!("{}partial = true\n", fails("reload", "echo the lamp is out >&2; exit 3"));
    machines.write_inventory(&more, |text| text);
    machines
        .world
        .keep()
        .check(4, &["server `front@web2` is left out for now", "the lamp is out", "left out, see above"]);
    assert_eq!((machines.configurations()[1].clone(), machines.shows()), (before[1].clone(), [true, false]));
    place.run(&["list"]).check(0, &["on 1 of 2 servers"]);
    let again = machines.world.keep();
    again.check(4, &["server `front@web2` is left out for now", "front@web2 left out, see above"]);
    assert!(!format!("{again}").contains("names no server"), "{again}");
    std::fs::remove_file(place.path("web2/broken")).unwrap();
    machines.world.keep().check(0, &["put generation 1 on 1 of 2 servers"]);
    assert_eq!(machines.shows(), [true, true]);
    place.run(&["keep"]).check(0, &["nothing to do"]);
    place.run(&["check"]).check(0, &["127.0.0.11", "127.0.0.12"]);
    place.run(&["install", "website", "--undo"]).check(0, &[]);
    assert_eq!((machines.configurations(), machines.shows()), (before, [false, false]));
}
