//! What stands in the way of a proof, set up for real: each is told by its name, and the others are tried all the same.

use crate::world::*;
use serde_json::Value;
use std::process::Command;

/// A name of a site, what nginx is to do at the challenge's path, and what a rehearsal says.
const SITES: &[(&str, &str, &str)] = &[
    ("good", "root www;", ""),
    ("password", "root www; auth_basic \"x\"; auth_basic_user_file passwords;", "the site asks for a password"),
    ("hidden", "root www; deny all;", "the site forbids the path"),
    ("elsewhere", "root other;", "the site does not have the file"),
    ("catch-all", "default_type text/html; return 200 \"<html>Welcome\";", "a page comes back instead of the file"),
    ("wrong", "default_type text/plain; return 200 \"lamp\";", "another text comes back"),
    ("failing", "return 503;", "the site fails"),
    ("circle", "return 302 http://$host$request_uri;", "more than ten redirects"),
    ("port", "return 302 http://$host:8080$request_uri;", "authorities follow to ports 80 and 443 only"),
    ("moved", "return 301 http://good.lampholm.example$request_uri;", ""),
    // Below, these have other addresses.
    ("off", "root www;", "nothing listens there"),
    ("dropped", "root www;", "nothing answers there, not even a refusal"),
    ("six", "root www;", "(at [fd00:77::8]:80)"),
];

#[test]
fn each_obstacle_is_told_by_its_name() {
    let hosts: String = SITES
        .iter()
        .map(|(name, ..)| match *name {
            "off" => "127.0.77.8 off.lampholm.example\n".into(),
            "dropped" => "127.0.77.9 dropped.lampholm.example\n".into(),
            // The right site over IPv4, another over IPv6.
            "six" => "127.0.77.7 six.lampholm.example\nfd00:77::8 six.lampholm.example\n".into(),
            name => format!("127.0.77.7 {name}.lampholm.example\n"),
        })
        .collect();
    let test = "obstacles::each_obstacle_is_told_by_its_name";
    let network = "ip addr add fd00:77::8/128 dev lo nodad && nft 'add table inet f; \
         add chain inet f in { type filter hook input priority 0; policy accept; }; \
         add rule inet f in ip daddr 127.0.77.9 drop; add rule inet f in iifname != lo tcp dport 80 drop' &&";
    if in_a_network_of_its_own(test, network, "nameserver 127.0.77.1\n", &hosts) {
        return;
    }
    let world = World::new();
    let names: Vec<String> = SITES.iter().map(|(name, ..)| format!("{name}.lampholm.example")).collect();
    let check = format!("check-address = \"{}\"\n\n[server", world.site.plain_address());
    world.write_inventory(|text| {
        text.replace("[\"lampholm.example\", \"www.lampholm.example\"]", &format!("{names:?}"))
            .replace(&check, "\n[server")
    });
    let block = |(name, at_path, _): &(&str, &str, &str)| {
        format!(
            "server {{ listen 127.0.77.7:80; server_name {name}.lampholm.example; \
             location /.well-known/acme-challenge/ {{ {at_path} }} }}\n"
        )
    };
    let blocks: String = SITES.iter().map(block).collect();
    let other = "server { listen [fd00:77::8]:80; location / { default_type text/html; return 200 \"<html>Old\"; } }\n";
    let user = if nix::unistd::geteuid().is_root() { "user root; " } else { "" };
    let conf = format!(
        "{user}daemon off; pid nginx.pid; error_log stderr;\nevents {{}}\nhttp {{ access_log off;\n{blocks}{other}}}\n"
    );
    let path = world.place.write("nginx.conf", &conf);
    world.place.write("passwords", "keeper:{PLAIN}lamp\n");
    std::fs::create_dir(world.place.path("other")).unwrap();
    let mut command = Command::new("/usr/sbin/nginx");
    command.arg("-p").arg(world.place.dir.path()).arg("-c").arg(path).stderr(std::process::Stdio::null());
    let _nginx = Process(command.spawn().expect("Debian's package nginx is installed (scripts/test does it)"));
    await_server("127.0.77.7:80".parse().unwrap(), "nginx");

    let said = world.place.run(&["rehearse", "--output", "json"]);
    assert_eq!(said.code, Some(1), "{said}");
    let report: Value = serde_json::from_str(&said.out).unwrap();
    let trials = report["certificates"][0]["trials"].as_array().unwrap();
    for (name, _, wanted) in SITES {
        let is_its = |trial: &&Value| trial["what"] == "proof" && trial["of"] == format!("{name}.lampholm.example");
        let trial = trials.iter().find(is_its).unwrap_or_else(|| panic!("{name}: {said}"));
        let weight = if wanted.is_empty() { "good" } else { "fatal" };
        assert!(trial["weight"] == weight && trial["text"].as_str().unwrap().contains(wanted), "{name}: {trial}");
    }
    // The rules of the machine's packet filter keep visitors from outside away, though this machine reaches itself.
    let filter = trials.iter().find(|trial| trial["what"] == "firewall").unwrap_or_else(|| panic!("{said}"));
    let text = "it keeps visitors out of port 80 over IPv4, by `drop` in chain in of table inet f";
    assert_eq!((&filter["weight"], &filter["of"]), (&"risky".into(), &"this machine".into()));
    assert!(filter["text"].as_str().unwrap().contains(text), "{filter}");
    world.place.check_nothing_published();
}

#[test]
fn what_confines_a_server_is_named() {
    let system = "mount -t tmpfs tmpfs /sys && mkdir -p /sys/kernel/security/apparmor && \
                  echo '/usr/sbin/nginx (enforce)' > /sys/kernel/security/apparmor/profiles &&";
    let test = "obstacles::what_confines_a_server_is_named";
    if in_a_network_of_its_own(test, system, "nameserver 127.0.77.1\n", "") {
        return;
    }
    let world = World::new();
    let place = &world.place;
    let block = "server { listen 127.0.0.1:9; server_name lampholm.example www.lampholm.example; }";
    place.write("web.conf", &format!("events {{}}\nhttp {{ {block} }}\n"));
    world.write_inventory(|text| {
        text.replace("{ server = \"front\" }", "{ server = \"web\" }")
            + "\n[server.web]\nkind = \"nginx\"\nconfig = \"web.conf\"\ntest = [\"true\"]\nreload = [\"false\"]\n"
    });
    let profile = "AppArmor enforces the profile `/usr/sbin/nginx` there";
    place.run(&["rehearse"]).check(0, &[profile, "/etc/apparmor.d/local/usr.sbin.nginx"]);
    world.keep().check(1, &["could not be reloaded", profile, "everything was put back"]);
    // SELinux comes first; the folder here has no label.
    std::fs::create_dir_all("/sys/fs/selinux").unwrap();
    std::fs::write("/sys/fs/selinux/enforce", "1").unwrap();
    place.run(&["rehearse"]).check(0, &["SELinux enforces its policy there", "semanage fcontext -a -t cert_t"]);
}
