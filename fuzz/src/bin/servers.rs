//! Fuzzes what the configuration of a server may hold. The first byte says which server.
#![no_main]

use eskort_core::https::TlsLevel;
use eskort_core::inventory::Part;
use eskort_core::software::Software;
use eskort_siteconf::RepointTarget;
use std::path::Path;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let Some((first, text)) = bytes.split_first() else { return };
    let kind = Software::ALL[usize::from(*first) % Software::ALL.len()];
    let main = Path::new("/etc/main");
    let mut reads = 0;
    let found = eskort_siteconf::survey(kind, main, &mut |path| {
        reads += 1;
        // The second file that is asked for is the same again, under another name.
        match reads {
            1..=3 => Ok(vec![(path.to_owned(), text.to_vec())]),
            _ => Err(std::io::ErrorKind::NotFound.into()),
        }
    });
    let Ok(found) = found else { return };
    let names = ["a.test".parse().expect("a name")];
    let parts = |part: Part| Path::new("/srv/tls").join(part.file_name());
    let target = RepointTarget { names: &names, parts: &parts, present: &|_| None, level: Some(TlsLevel::Usual) };
    if let Ok(planned) = eskort_siteconf::repoint(kind, &found, &target) {
        assert!(planned.changes.iter().all(|change| change.old.as_ref() != Some(&change.new)));
    }
    for site in &found.sites {
        assert!(site.place.line >= 1 && site.place.column >= 1);
        for pair in &site.certificates {
            let values = [Some(&pair.certificate), pair.key.as_ref(), pair.chain.as_ref()];
            assert!(values.into_iter().flatten().all(|value| value.range.start <= value.range.end));
        }
    }
});
