//! How long nginx's configuration takes to read, and a certificate to plan, as it grows. `scripts/bench` runs it.

#![expect(clippy::unwrap_used, clippy::print_stdout, clippy::disallowed_methods, reason = "a benchmark")]

use eskort_core::names::Identifier;
use eskort_siteconf::TlsTarget;
use eskort_siteconf::nginx::{self, Sites};
use std::path::{Path, PathBuf};
use std::time::Instant;

fn block(n: usize) -> String {
    format!(
        "server {{\n    listen 80;\n    listen [::]:80;\n    server_name s{n}.lampholm.example;\n    root /srv/s{n};\n    \
         location / {{ try_files $uri =404; }}\n}}\n"
    )
}

/// Reads so many files with ten blocks each, and plans one certificate in ten; returns milliseconds for either.
fn measure(files: usize) -> (f64, f64) {
    let main = PathBuf::from("/n/nginx.conf");
    let file =
        |n: usize| (PathBuf::from(format!("/n/s/{n}")), (0..10).map(|i| block(n * 10 + i)).collect::<String>().into());
    let mut texts: Vec<(PathBuf, Vec<u8>)> = (0..files).map(file).collect();
    let begun = Instant::now();
    let config = nginx::load(&main, &mut |pattern| match pattern == main {
        true => Ok(vec![(main.clone(), b"http { include s/*; }".to_vec())]),
        false => Ok(std::mem::take(&mut texts)),
    })
    .unwrap();
    let sites = Sites::find(&config);
    assert_eq!(sites.blocks.len(), files * 10);
    let read = begun.elapsed().as_secs_f64() * 1000.0;
    let begun = Instant::now();
    for n in (0..files * 10).step_by(10) {
        let names = [Identifier::parse(&format!("s{n}.lampholm.example")).unwrap()];
        let target =
            TlsTarget { names: &names, bundle: Path::new("/b"), key: Path::new("/k"), tls_port: 443, redirect: true };
        assert_eq!(nginx::plan(&config, &sites, &target).unwrap().changes.len(), 1);
    }
    (read, begun.elapsed().as_secs_f64() * 1000.0)
}

fn main() {
    let median = |files: usize| {
        let mut times: Vec<(f64, f64)> = (0..7).map(|_| measure(files)).collect();
        times.sort_by(|a, b| a.0.total_cmp(&b.0));
        times[3]
    };
    let (small, large) = (median(100), median(1_000));
    println!(
        "nginx, 10,000 blocks in 1,000 files: read in {:.0} ms (target 100 ms), {:.1} times 1,000 blocks; 1,000 plans {:.0} ms",
        large.0,
        large.0 / small.0,
        large.1
    );
}
