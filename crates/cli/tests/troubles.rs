//! What goes wrong on a server while a certificate is put on it, on every kind that has a configuration: the disk, and the server itself.

use crate::serving::{APACHE, Case, DOVECOT, EXIM, HAPROXY, LIGHTTPD, NGINX, POSTFIX, Served, run};
use crate::survey::in_a_house_with_exim;
use crate::world::*;
use std::process::Command;

/// Runs `install` where the folder with the server's configuration is on a disk of its own, which is full, or is mounted read-only. The state
/// stays writable. What the files there are afterwards is compared with what they were.
fn install_on_a_disk_that(fault: &str, case: &Case, served: &Served) -> Said {
    let make = match fault {
        "is full" => {
            "mount -t tmpfs -o size=4m tmpfs \"$dir\" && tar -C /mnt --exclude=./state -cf - . 2>/dev/null | tar -C \"$dir\" -xf - && \
             mkdir \"$dir/state\" && mount --bind /mnt/state \"$dir/state\" && ! cat /dev/zero 2>/dev/null >\"$dir/filler\""
        }
        _ => {
            "mount --bind \"$dir/state\" \"$dir/state\" && mount --rbind \"$dir\" \"$dir\" && mount -o remount,ro,bind \"$dir\""
        }
    };
    let compared: String = case.files.iter().map(|(name, _)| format!(" && cmp {name} /mnt/{name}")).collect();
    let script = format!(
        "dir=$PWD; mount --bind \"$dir\" /mnt && {make} && cd \"$dir\" || exit 98; \"$0\" install website; code=$?; \
         : {compared} || exit 99; exit $code"
    );
    let eskort = served.world.place.eskort();
    let mut command = Command::new("unshare");
    command.args(["-m", "sh", "-c", &script]).arg(eskort.get_program()).env_clear();
    command.envs(eskort.get_envs().filter_map(|(name, value)| Some((name, value?))));
    Said::from(command.current_dir(served.world.place.dir.path()).output().unwrap())
}

/// The disk is full, is read-only, or the files are immutable; the server goes on as before, or ends, when it is told of the change: that is
/// named, and nothing is another than before.
fn stays_as_it_was(case: &Case) {
    let mut served = Served::begin(case);
    let (place, kind) = (&served.world.place, case.kind);
    let now = || case.files.iter().map(|(name, _)| place.read(name)).collect::<Vec<String>>();
    let before = now();
    let with_reload = |served: &Served, words: &str| {
        served.write_inventory(|text| {
            let kept: String = text.split_inclusive('\n').filter(|line| !line.starts_with("reload = [")).collect();
            kept.replacen("reload-timeout = \"20s\"", &format!("reload = {words}\nreload-timeout = \"2s\""), 1)
        });
    };
    // A first run obtains the certificate, and cannot install it.
    with_reload(&served, "[\"false\"]");
    served.world.keep().check(1, &["could not be reloaded", "everything was put back as it was"]);
    served.write_inventory(|text| text);
    let immutable = |word: &str| {
        let files = case.files.iter().map(|(name, _)| place.path(name));
        assert!(Command::new("chattr").arg(word).args(files).status().unwrap().success(), "chattr {word}");
    };
    for (fault, said) in [
        ("is full", "No space left on device"),
        ("is read-only", "is mounted read-only"),
        ("is immutable", "the file is immutable"),
    ] {
        let refused = match fault {
            "is immutable" => {
                immutable("+i");
                let refused = place.run(&["install", "website"]);
                immutable("-i");
                refused
            }
            _ => install_on_a_disk_that(fault, case, &served),
        };
        refused.check(1, &["cannot write", said, "everything was put back as it was"]);
        assert_eq!((now(), served.shows("placeholder")), (before.clone(), true), "{kind} {fault}");
        let left = std::fs::read_dir(place.dir.path()).unwrap().map(|entry| entry.unwrap().file_name());
        let left: Vec<_> = left.filter(|name| name.to_string_lossy().ends_with(".new")).collect();
        assert!(left.is_empty(), "{kind} {fault}: {left:?}");
    }
    // It goes on as before when it is told, or ends. Postfix' processes read their configuration by themselves.
    let not_served = "does not serve the new certificate after 2 seconds";
    if kind != "postfix" {
        with_reload(&served, "[\"true\"]");
        place.run(&["install", "website"]).check(1, &[not_served, "placeholder", "everything was put back as it was"]);
        assert_eq!((now(), served.shows("placeholder")), (before.clone(), true), "{kind} goes on");
    }
    let pid = match kind {
        "postfix" => place.read("queue/pid/master.pid").trim().to_owned(),
        _ => served.process.0.id().to_string(),
    };
    with_reload(&served, &format!("[\"sh\", \"-c\", \"kill {pid}; sleep 1\"]"));
    let gone = [not_served, "nothing on this machine listens", "does the server still run?"];
    place.run(&["install", "website"]).check(1, &gone);
    assert_eq!(now(), before, "{kind} ends");
    served.process = run(&served.world.place, &served.start);
    until(&format!("{kind} is there again"), || served.shows("placeholder"));
    served.write_inventory(|text| text);
    served.world.place.run(&["install", "website"]).check(0, &["generation 1 is in use"]);
    assert!(served.shows("Lampholm Practice"), "{kind}");
}

#[test]
fn web_servers_stay_as_they_were_whatever_goes_wrong() {
    if !done_by_root("troubles::web_servers_stay_as_they_were_whatever_goes_wrong") {
        [APACHE, NGINX, HAPROXY, LIGHTTPD].iter().for_each(stays_as_it_was);
    }
}

#[test]
fn mail_servers_stay_as_they_were_whatever_goes_wrong() {
    if !done_by_root("troubles::mail_servers_stay_as_they_were_whatever_goes_wrong") {
        [DOVECOT, POSTFIX].iter().for_each(stays_as_it_was);
    }
}

#[test]
fn exim_stays_as_it_was_whatever_goes_wrong() {
    if !in_a_house_with_exim("troubles::exim_stays_as_it_was_whatever_goes_wrong") {
        stays_as_it_was(&EXIM);
    }
}
