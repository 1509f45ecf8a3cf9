//! Errors of servers in words.

use super::proof::{tell_api, tell_host};
use super::store::tell_store;
use crate::error_text::ErrorText;
use eskort_core::words;
use eskort_host::{CommandError, MachineError};
use eskort_install::InstallError;
use eskort_siteconf::PlanError;
use std::io::{self, ErrorKind};
use std::path::Path;

pub(crate) fn tell_install(error: &InstallError, certificate: &str) -> ErrorText {
    let text = ErrorText::new(error);
    let undone = "everything was put back as it was; the certificate is stored, and the next run installs it";
    let again = format!("repair it and run `eskort keep --only {certificate}`");
    match error {
        InstallError::Load { .. } => {
            text.hint("correct `config` of the server, or the file; run the server's own test")
        }
        InstallError::Plan { source, .. } => tell_plan(text, source, &again),
        InstallError::Write { path, source, .. } => text.hint(undone).hint(why_not_written(path, source)),
        InstallError::Theirs { .. } => text
            .hint("nothing was put back; what you want back has to be put there by hand")
            .hint("or leave the configuration as it is, and take the server out of the certificate's `install`"),
        InstallError::Keystore { .. } => text.hint("correct the server's section: `password-file` names the file with its password"),
        InstallError::OpenMap { path, .. } => text
            .hint(format!("close it with `chmod 0600 {0}`, and what is made of it with `chmod 0600 {0}.*`", path.display()))
            .hint("a key that others could read until now should be replaced")
            .hint(again),
        InstallError::Runtime { .. } => text
            .hint(undone)
            .hint("`runtime-socket = false` of the server has it reloaded instead, which may say more"),
        InstallError::Upload { source, .. } => tell_api(text.hint(undone), source),
        InstallError::Restore { .. } => text.hint("check that the files are writable, and run it again"),
        InstallError::NoSuchOwner { .. } => text.hint("correct `owner` or `group` in the inventory"),
        InstallError::Test { .. } => text.hint(undone).hint(again),
        InstallError::BrokenBefore { .. } => text
            .hint("everything is as it was before; the certificate is stored, and the next run installs it")
            .hint(again),
        InstallError::Reload { source, .. } => match source {
            MachineError::Program(CommandError::Start { .. }) => {
                text.hint(undone).hint("is the program installed, and in the PATH of this run?")
            }
            MachineError::Program(CommandError::Untrusted { .. }) => text.hint(undone).hint(again),
            MachineError::Program(CommandError::NoSuchUser { .. }) => text.hint(undone).hint("correct `user` of the server in the inventory"),
            MachineError::Program(CommandError::Failed { .. }) => text.hint(undone).hint("is the server running? Start it").hint(again),
            MachineError::Program(CommandError::Endless { .. }) => text
                .hint(undone)
                .hint("does it stay in the foreground? It must end; `timeout` of the server gives it longer")
                .hint(again),
            other => tell_machine(text.hint(undone), other).hint(again),
        },
        InstallError::NotServed { is_there: false, .. } => text.hint(undone).hint(
            "does the server still run? One that ended when it was told to reload says why in its log: start it again with what it had before",
        ),
        InstallError::NotServed { .. } => text.hint(undone).hint(
            "another server block or another program may answer there; `check-address` and `reload-timeout` of the server help",
        ),
        InstallError::Undo { .. } => text
            .hint("look at the server's files by hand: those as they were lie in the state folder under backups/SERVER")
            .hint(again),
        InstallError::Machine { source, .. } => tell_machine(text, source).hint(again),
        InstallError::Store(error) => tell_store(error),
    }
}

/// Says why a machine cannot be worked on.
pub(crate) fn tell_machine_error(error: &MachineError) -> ErrorText {
    tell_machine(ErrorText::coded(error.into(), error.to_string()), error)
}

/// Says what probably keeps a file from being written.
fn why_not_written(path: &Path, source: &io::Error) -> String {
    let folder = path.parent().unwrap_or(path).display();
    match source.kind() {
        ErrorKind::StorageFull | ErrorKind::QuotaExceeded => format!("make room: `df {folder}` says how much there is"),
        ErrorKind::ReadOnlyFilesystem => format!(
            "{folder} is mounted read-only, as the configuration of a container often is: change it where it comes from, or let Eskort run there. From a timer: run `eskort schedule` again, its service may write only where the inventory wanted it then"
        ),
        ErrorKind::PermissionDenied => format!(
            "run it as a user who may write to {folder}, and give files there to the owner and group that they have; where root may not, the file is immutable (`lsattr {}`), or SELinux or AppArmor forbids it (`journalctl -k | grep -i denied`)",
            path.display()
        ),
        _ => "check that the folder is writable and the disk is not full".to_owned(),
    }
}

/// Adds what helps where a server's machine refuses.
fn tell_machine(text: ErrorText, error: &MachineError) -> ErrorText {
    match error {
        MachineError::Host(error) => tell_host(text, error),
        MachineError::Io { .. } => {
            text.hint("the file or folder must be readable and writable for the user that runs Eskort")
        }
        MachineError::Program(_) => text,
        MachineError::Secret(_) => text.hint("correct the place in the inventory, or put the secret there"),
        MachineError::Unknown { .. } => text.hint("put the host back into the inventory"),
    }
}

/// Says what to do about a configuration that cannot be changed.
fn tell_plan(text: ErrorText, error: &PlanError, again: &str) -> ErrorText {
    match error {
            PlanError::NoServerBlock { .. } => {
                text.hint("add a server block with these names under server_name").hint(again)
            }
            PlanError::NoTlsSite { .. } => text
                .hint("give the server a TLS listener for one of these names, with any certificate; it is replaced then")
                .hint("`eskort survey` shows what it has")
                .hint(again),
            PlanError::NoCertificateLines { .. } => {
                text.hint("name any certificate and key there; they are replaced then").hint(again)
            }
            PlanError::NotEdited { .. } => text
                .hint("write it there yourself, and take `tls` out of the install entry")
                .hint("nothing was changed"),
            PlanError::NotEditable { .. } => text
                .hint("write the file's name where it is used, or keep the name and let a server of kind `files` write the file")
                .hint(again),
            PlanError::SeveralCertificates { .. } => {
                text.hint("leave one certificate for these names and one key there").hint(again)
            }
            PlanError::WouldUncover { ours, .. } => text
                .hint("add these names to the certificate in the inventory, or take them out of the site")
                .hint(format!("or give {} a site of its own, with a TLS listener (in nginx a server block)", words::list(ours)))
                .hint(again),
            PlanError::ModuleOff { main, module, .. } => {
                let on = match main.starts_with("/etc/apache2") {
                    true => format!("load it: a2enmod {module}, and start the server anew"),
                    false => format!("load it: a `LoadModule {module}_module` line in {}, and start the server anew", main.display()),
                };
                text.hint(on).hint(again)
            }
            PlanError::WouldLoop { from, to, .. } => text
                .hint(format!("take the line out that sends visitors of {to} to {from}, or prefer {from} in the inventory"))
                .hint(again),
            PlanError::SendsInCircles { .. } => text
                .hint("write a second server block for these names that has the site in it and speaks TLS, with any certificate: it is led to this one")
                .hint("or take that line out, and ask for `redirect = true` in the certificate's `install`")
                .hint(again),
            PlanError::WouldTakeAddress { socket, .. } => text
                .hint(format!(
                    "visitors who come to {socket} for these sites would get this one; if that is meant, write `listen {socket} ssl;` and a certificate into the server block by hand"
                ))
                .hint("else let the block listen at all addresses, as the others do")
                .hint(again),
            PlanError::PlainSocket { socket, .. } => text
                .hint(format!("if that is a slip, write `listen {socket} ssl;` and a certificate there; else move one of the two to another port"))
                .hint(again),
            PlanError::NoAddress { .. } => text
                .hint("add a `listen` for TLS with an address or a port to the server block, with any certificate; it is replaced then")
                .hint(again),
            PlanError::Variable { .. } => {
                text.hint("choose a state folder with letters, digits, `.`, `-` and `_` in its path only")
            }
            PlanError::Overlap { .. } | PlanError::NotAsPlanned { .. } => text.hint("nothing was changed; this is a bug in Eskort"),
            PlanError::SharedLines { place } => {
                let text = match place.included_from.first() {
                    Some((path, line)) => text.hint(format!("one of its includes is at {}:{line}", path.display())),
                    None => text,
                };
                text.hint("move the lines with certificate and key from the shared file into each site").hint(again)
            }
        }
}
