//! Daemons of this machine that write the number of their process into a file.

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use std::collections::BTreeSet;
use std::fs;
use std::io;
use std::path::Path;

/// A daemon that runs on this machine.
pub struct Daemon(Pid);

impl Daemon {
    /// Returns the daemon whose number a file holds, if the title of that process begins so: the file may be an old one. `None` also
    /// where the system does not tell.
    pub fn find(pid_file: &Path, title: &str) -> Option<Self> {
        let number = fs::read_to_string(pid_file).ok()?.trim().parse::<i32>().ok().filter(|number| *number > 1)?;
        title_of(number)?.starts_with(title).then(|| Daemon(Pid::from_raw(number)))
    }

    /// Has it read its configuration again, by SIGHUP.
    ///
    /// # Errors
    /// When it has ended, or this user may not.
    pub fn read_again(&self) -> io::Result<()> {
        Ok(kill(self.0, Signal::SIGHUP)?)
    }

    /// Returns those of its processes that bear exactly this title; nothing where the system does not tell.
    pub fn processes(&self, title: &str) -> BTreeSet<i32> {
        let children = fs::read_to_string(format!("/proc/{0}/task/{0}/children", self.0)).unwrap_or_default();
        let numbers = children.split_whitespace().filter_map(|word| word.parse().ok());
        numbers.filter(|number| title_of(*number).is_some_and(|own| own == title)).collect()
    }
}

/// Returns the names of the processes of this machine; `None` where the system tells nothing of those of others.
pub fn process_names() -> Option<BTreeSet<String>> {
    fs::metadata("/proc/1/comm").ok()?;
    let name = |entry: io::Result<fs::DirEntry>| fs::read_to_string(entry.ok()?.path().join("comm")).ok();
    Some(fs::read_dir("/proc").ok()?.filter_map(name).map(|name| name.trim_end().to_owned()).collect())
}

/// Returns the title of a process: its command line, or what it has written over that.
fn title_of(number: i32) -> Option<String> {
    let bytes = fs::read(format!("/proc/{number}/cmdline")).ok()?;
    Some(String::from_utf8_lossy(&bytes).replace('\0', " ").trim_end().to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use nix::sys::signal::killpg;
    use std::os::unix::process::CommandExt;
    use std::process::{Child, Command, Stdio};
    use std::time::{Duration, Instant};

    fn until(holds: impl Fn() -> bool) {
        let begun = Instant::now();
        while !holds() {
            assert!(begun.elapsed() < Duration::from_secs(20));
            std::thread::sleep(Duration::from_millis(5));
        }
    }

    struct Ended(Child);

    impl Drop for Ended {
        fn drop(&mut self) {
            let group = Pid::from_raw(i32::try_from(self.0.id()).unwrap());
            let _ = killpg(group, Signal::SIGKILL);
            let _ = self.0.wait();
        }
    }

    #[test]
    fn a_daemon_is_found_by_its_file_and_title_and_told() {
        let place = tempfile::tempdir().unwrap();
        let (file, told) = (place.path().join("pid"), place.path().join("told"));
        let script = "trap 'touch told' HUP; sleep 77 & sleep 78 & wait; wait; wait";
        let mut command = Command::new("bash");
        command.args(["-c", script]).current_dir(place.path()).stdin(Stdio::null()).process_group(0);
        let lead = Ended(command.spawn().unwrap());
        fs::write(&file, format!("{}\n", lead.0.id())).unwrap();
        until(|| Daemon::find(&file, "bash -c trap").is_some_and(|daemon| daemon.processes("sleep 77").len() == 1));
        let daemon = Daemon::find(&file, "bash -c trap").unwrap();
        until(|| daemon.processes("sleep 78").len() == 1);
        assert!(daemon.processes("sleep 7").is_empty());
        assert!(Daemon::find(&file, "nginx: master process").is_none());
        daemon.read_again().unwrap();
        until(|| told.exists());
        drop(lead);
        assert!(daemon.processes("sleep 77").is_empty() && daemon.read_again().is_err());
        for text in ["", "1", "-4", "0", "four\n"] {
            fs::write(&file, text).unwrap();
            assert!(Daemon::find(&file, "").is_none(), "{text:?}");
        }
    }
}
