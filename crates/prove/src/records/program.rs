//! Records by a program of the administrator's.

use super::change::Change;
use crate::{ProofContext, ProofError};
use eskort_core::inventory::{DnsLook, ProgramRules};
use eskort_core::record::Record;
use eskort_host::{CommandError, HostError};
use std::time::{Duration, Instant};

/// The exit code by which a program says that it is not done yet and wants to be run again: EX_TEMPFAIL.
const NOT_YET: i32 = 75;

/// Runs a program of the administrator's for one record, again as long as it says that it is not done yet.
pub(crate) async fn tell_program(
    around: ProofContext<'_>,
    (words, host, rules): (&[String], Option<&String>, &ProgramRules),
    look: &DnsLook,
    what: Change,
    record: &Record,
) -> Result<(), ProofError> {
    let what = if what == Change::Add { "add" } else { "remove" };
    let request = serde_json::json!({
        "version": 1, "what": what, "type": record.kind, "name": record.name, "text": record.text, "ttl": look.ttl,
    });
    let input = format!("{request}\n");
    let begun = Instant::now();
    loop {
        let machine = around.machine(host.map(String::as_str));
        let ended = machine.run(words, input.as_bytes(), rules).await.map_err(ProofError::from);
        let code = match &ended {
            Err(ProofError::Program(CommandError::Failed { code, .. }))
            | Err(ProofError::Host(HostError::Command { code, .. })) => *code,
            _ => None,
        };
        if code != Some(NOT_YET) || begun.elapsed() >= look.propagation_timeout {
            around.machines.hang_up().await;
            return ended;
        }
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
}
