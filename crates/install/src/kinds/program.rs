//! Programs that are told what a server should serve, and do the rest.

use eskort_core::context::Context;
use eskort_core::inventory::{Part, ServerKind};
use eskort_store::Store;
use serde_json::json;

/// Returns the line of JSON that the command of a server reads: all certificates that it is to serve, as they lie now. Told again it says the same;
/// after something was put back, what was before. Nothing for other kinds of servers.
pub(crate) fn input(context: &Context, store: &Store, server: &str) -> Vec<u8> {
    let is_program = |kind: &ServerKind| matches!(kind, ServerKind::Program { .. });
    if !context.inventory.servers.get(server).is_some_and(|entry| is_program(&entry.kind)) {
        return Vec::new();
    }
    let all = context.inventory.certificates.iter();
    let ours = all.filter(|(_, entry)| entry.install.iter().any(|install| install.server == server));
    let told = ours.filter_map(|(name, entry)| {
        let (generation, folder) = (store.current_generation(name)?, store.current_folder(name));
        let names: Vec<String> = entry.names.iter().map(ToString::to_string).collect();
        let path = |part: Part| folder.part(part);
        Some(json!({
            "name": name, "names": names, "generation": generation, "bundle": path(Part::Bundle),
            "certificate": path(Part::Certificate), "intermediates": path(Part::Intermediates), "key": path(Part::Key),
        }))
    });
    let told: Vec<_> = told.collect();
    format!("{}\n", json!({ "version": 1, "server": server, "certificates": told })).into_bytes()
}
