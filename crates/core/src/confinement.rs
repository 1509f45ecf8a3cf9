//! What keeps a server from files beside their permissions: SELinux and AppArmor.

use crate::software::Software;
use std::path::Path;

/// Where the system says whether SELinux enforces its policy: `1`.
pub const SELINUX_ENFORCES: &str = "/sys/fs/selinux/enforce";
/// Where the system lists the profiles of AppArmor, each with its mode.
pub const APPARMOR_PROFILES: &str = "/sys/kernel/security/apparmor/profiles";

/// The type of files that hold certificates, which the servers of distributions may read.
const CERTIFICATE_TYPE: &str = "cert_t";

/// What confines a server.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Confinement {
    /// SELinux, and the folder of its certificates is of another type than theirs.
    SeLinux {
        /// The label of the folder; empty where it is not known.
        label: String,
    },
    /// A profile of AppArmor that is enforced.
    AppArmor {
        /// Its name, mostly the path of the program.
        profile: String,
    },
}

impl Confinement {
    /// Returns what may keep a server from its certificates: `enforces` is what [`SELINUX_ENFORCES`] says, `label` that of the folder, and
    /// `profiles` what [`APPARMOR_PROFILES`] lists.
    pub fn of(software: Software, enforces: &str, label: &str, profiles: &str) -> Option<Self> {
        if enforces.trim() == "1" && label.split(':').nth(2) != Some(CERTIFICATE_TYPE) {
            return Some(Confinement::SeLinux { label: label.trim().to_owned() });
        }
        let profile = profiles.lines().filter_map(|line| line.strip_suffix(" (enforce)")).find(|profile| {
            let is_one = |part: &str| {
                let named = |process: &&str| {
                    part.strip_prefix(*process).is_some_and(|rest| !rest.starts_with(|c: char| c.is_ascii_alphabetic()))
                };
                software.processes().iter().any(named) || part == software.word()
            };
            // A part of a program has a profile of its own behind `//`.
            profile.split("//").next().unwrap_or_default().split('/').any(is_one)
        });
        profile.map(|profile| Confinement::AppArmor { profile: profile.to_owned() })
    }

    /// Returns what it is, in words.
    pub fn words(&self, software: Software) -> String {
        let program = software.word();
        match self {
            Confinement::SeLinux { label } if label.is_empty() => {
                format!("SELinux enforces its policy there: it says what {program} may read")
            }
            Confinement::SeLinux { label } => {
                format!("SELinux enforces its policy there, and the certificates' folder has the label {label}")
            }
            Confinement::AppArmor { profile } => {
                format!("AppArmor enforces the profile `{profile}` there: it says what {program} may read")
            }
        }
    }

    /// Returns what to do about it, for the folder in which the certificates lie.
    pub fn advice(&self, folder: &Path) -> String {
        let folder = folder.display();
        match self {
            Confinement::SeLinux { .. } => format!(
                "`semanage fcontext -a -t {CERTIFICATE_TYPE} '{folder}(/.*)?'` and `restorecon -R {folder}` let servers read certificates there; `ausearch -m avc` shows what was denied"
            ),
            Confinement::AppArmor { profile } => format!(
                "add `{folder}/** r,` to /etc/apparmor.d/local/{} and load the profile again with `apparmor_parser -r`; `journalctl -k | grep -i denied` shows what was denied",
                profile.trim_start_matches('/').replace('/', ".")
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_confines_a_server_is_found() {
        let apparmor = |profile: &str| Some(Confinement::AppArmor { profile: profile.to_owned() });
        let selinux = |label: &str| Some(Confinement::SeLinux { label: label.to_owned() });
        let (certificate, other) = ("system_u:object_r:cert_t:s0", "unconfined_u:object_r:var_lib_t:s0\n");
        let cases = [
            (Software::Nginx, "", "", "", None),
            (Software::Nginx, "0", other, "", None),
            (Software::Nginx, "1\n", other, "", selinux(other.trim())),
            (Software::Nginx, "1", certificate, "", None),
            (Software::Nginx, "1", "", "", selinux("")),
            (Software::Nginx, "", "", "/usr/sbin/nginx (enforce)\n", apparmor("/usr/sbin/nginx")),
            (Software::Nginx, "", "", "/usr/sbin/nginx (complain)\nnginx-debug (enforce)\n", apparmor("nginx-debug")),
            (Software::Haproxy, "", "", "docker-default (enforce)\nhaproxy (enforce)\n", apparmor("haproxy")),
            (Software::Haproxy, "", "", "/usr/bin/man (enforce)\n/usr/bin/x//haproxy (enforce)\n", None),
            (
                Software::Postfix,
                "",
                "",
                "/usr/lib/postfix/sbin/smtpd (enforce)\n",
                apparmor("/usr/lib/postfix/sbin/smtpd"),
            ),
            (Software::Nginx, "", "", "/usr/sbin/nginxish (enforce)\n", None),
        ];
        for (software, enforces, label, profiles, expected) in cases {
            assert_eq!(Confinement::of(software, enforces, label, profiles), expected, "{enforces} {label} {profiles}");
        }
        let advice = apparmor("/usr/sbin/nginx").unwrap().advice(Path::new("/srv/tls"));
        assert!(advice.contains("`/srv/tls/** r,` to /etc/apparmor.d/local/usr.sbin.nginx"), "{advice}");
    }
}
