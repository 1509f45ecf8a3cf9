//! What keeps a server from files beside their permissions, as its machine tells it.

use eskort_core::boxed;
use eskort_core::confinement::{APPARMOR_PROFILES, Confinement, SELINUX_ENFORCES};
use eskort_core::inventory::ProgramRules;
use eskort_core::software::Software;
use eskort_host::Machine;
use std::path::{Path, PathBuf};
use std::time::Duration;

/// So much is read of what the system tells.
const MOST: u64 = 1 << 20;

/// Returns what may keep a server from the certificates in a folder; `None` also where the machine does not tell.
#[boxed]
pub async fn confinement(machine: &Machine<'_>, software: Software, folder: &Path) -> Option<Confinement> {
    let paths = [SELINUX_ENFORCES, APPARMOR_PROFILES].map(PathBuf::from);
    let mut said = Vec::new();
    for path in paths {
        let read = machine.read(&path, MOST).await.ok().flatten();
        said.push(read.map(|file| String::from_utf8_lossy(&file.bytes).into_owned()).unwrap_or_default());
    }
    let mut label = String::new();
    if said[0].trim() == "1" {
        let rules = ProgramRules { timeout: Duration::from_secs(10), ..ProgramRules::default() };
        // The folder may not be there yet: it will have the label of the one above.
        for folder in folder.ancestors() {
            let words = ["stat", "-c", "%C", &folder.display().to_string()].map(str::to_owned);
            if let Ok(output) = machine.output(&words, b"", &rules).await {
                label = String::from_utf8_lossy(&output).into_owned();
                break;
            }
        }
    }
    Confinement::of(software, &said[0], &label, &said[1])
}
