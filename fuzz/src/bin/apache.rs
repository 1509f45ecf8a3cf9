//! Fuzzes what Apache's virtual hosts gain: whatever is planned is read again, and then nothing more is to be done.
#![no_main]

use eskort_fuzz::all_wishes;
use eskort_core::names::Identifier;
use eskort_siteconf::apache::{Known, gain_tls, grant, load};
use eskort_siteconf::{FileChange, PlanError, TlsTarget};
use std::path::{Path, PathBuf};

type Plan = fn(&Known, &TlsTarget<'_>) -> Result<Vec<FileChange>, PlanError>;

fn granted_lines(known: &Known, target: &TlsTarget<'_>) -> Result<Vec<FileChange>, PlanError> {
    Ok(grant(known, target)?.0)
}

fn changed(bytes: &[u8], plan: Plan) -> Option<Option<Vec<u8>>> {
    let names = ["lampholm.example", "www.lampholm.example"].map(|name| Identifier::parse(name).expect("a name"));
    let target = TlsTarget { wishes: all_wishes(), hsts_age: 300, ..TlsTarget::new(&names, Path::new("/s/b.pem"), Path::new("/s/k.pem")) };
    let main = Path::new("/a/httpd.conf");
    let known = load(main, &mut |pattern| Ok(if pattern == main { vec![(PathBuf::from(pattern), bytes.to_vec())] } else { Vec::new() }));
    Some(plan(&known.ok()?, &target).ok()?.into_iter().next().map(|change| change.new))
}

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let modules = ["ssl", "headers", "alias", "http2", "socache_shmcb"];
    let modules: String = modules.iter().map(|name| format!("LoadModule {name}_module a\n")).collect();
    let bytes = [modules.as_bytes(), bytes].concat();
    let Some(gained) = changed(&bytes, gain_tls) else { return };
    let gained = gained.unwrap_or(bytes);
    let Some(granted) = changed(&gained, granted_lines) else { return };
    let all = granted.unwrap_or(gained);
    for plan in [gain_tls as Plan, granted_lines] {
        let again = changed(&all, plan).expect("what was planned can be planned again");
        assert!(again.is_none(), "{}", String::from_utf8_lossy(&all));
    }
});
