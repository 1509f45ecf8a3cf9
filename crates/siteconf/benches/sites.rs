//! How long nginx's configuration takes to read, and a certificate to plan, as it grows. `scripts/bench` runs it.

#![expect(clippy::unwrap_used, clippy::print_stdout, clippy::disallowed_methods, reason = "a benchmark")]

use eskort_core::https::{Hsts, HttpsWishes, TlsLevel};
use eskort_core::names::Identifier;
use eskort_core::software::Software;
use eskort_siteconf::nginx::{self, Sites};
use eskort_siteconf::{TlsTarget, apache, pattern_has};
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
        let wishes = HttpsWishes { redirect: true, ..HttpsWishes::default() };
        let target = TlsTarget { wishes, ..TlsTarget::new(&names, Path::new("/b"), Path::new("/k")) };
        assert_eq!(nginx::plan(&config, &sites, &target).unwrap().changes.len(), 1);
    }
    (read, begun.elapsed().as_secs_f64() * 1000.0)
}

/// Surveys so many files with ten hosts each; returns milliseconds.
fn survey(kind: Software, files: usize) -> f64 {
    let host = |n: usize| match kind {
        Software::Nginx => block(n).replacen(
            "listen 80;",
            "listen 443 ssl; ssl_certificate /tls/a.pem; ssl_certificate_key /tls/a.key;",
            1,
        ),
        _ => format!(
            "<VirtualHost *:443>\n    ServerName s{n}.lampholm.example\n    ServerAlias www.s{n}.lampholm.example\n    DocumentRoot /srv/s{n}\n    \
             SSLEngine on\n    SSLCertificateFile /tls/a.pem\n    SSLCertificateKeyFile /tls/a.key\n    <Directory /srv/s{n}>\n        \
             Require all granted\n    </Directory>\n</VirtualHost>\n"
        ),
    };
    let text = |n: usize| (0..10).map(|i| host(n * 10 + i)).collect::<String>().into_bytes();
    let mut texts: Vec<(PathBuf, Vec<u8>)> =
        (0..files).map(|n| (PathBuf::from(format!("/n/s/{n}")), text(n))).collect();
    let main = match kind {
        Software::Nginx => "http { include s/*; }",
        _ => "Listen 443\nInclude s/*\n",
    };
    let begun = Instant::now();
    let found = eskort_siteconf::survey(kind, Path::new("/n/main"), &mut |pattern| match pattern.to_str().unwrap() {
        "/n/main" => Ok(vec![(pattern.to_owned(), main.into())]),
        "/n/s/*" => Ok(std::mem::take(&mut texts)),
        _ => Err(std::io::ErrorKind::NotFound.into()),
    });
    let sites = found.unwrap().sites;
    assert!(sites.len() == files * 10 && sites.iter().all(|site| site.has_tls() && site.certificates.len() == 1));
    begun.elapsed().as_secs_f64() * 1000.0
}

/// Plans all that one plain site of 10,000 can want; returns milliseconds.
fn all_wishes(kind: Software) -> f64 {
    let host = |n: usize| match kind {
        Software::Nginx => block(n),
        _ => format!(
            "<VirtualHost *:80>\n    ServerName s{n}.lampholm.example\n    DocumentRoot /srv/s{n}\n    <Directory /srv/s{n}>\n        Require all \
             granted\n    </Directory>\n</VirtualHost>\n"
        ),
    };
    let text = |n: usize| (0..10).map(|i| host(n * 10 + i)).collect::<String>().into_bytes();
    let texts: Vec<(PathBuf, Vec<u8>)> = (0..1_000).map(|n| (PathBuf::from(format!("/n/s/{n}")), text(n))).collect();
    let main = match kind {
        Software::Nginx => "http { include s/*; }",
        _ => {
            "LoadModule ssl_module a\nLoadModule alias_module a\nLoadModule headers_module a\nListen 80\nInclude s/*\n"
        }
    };
    let mut read = |pattern: &Path| match pattern.to_str().unwrap() {
        "/n/main" => Ok(vec![(pattern.to_owned(), main.as_bytes().to_vec())]),
        "/n/s/*" => Ok(texts.clone()),
        _ => Err(std::io::ErrorKind::NotFound.into()),
    };
    let wishes =
        HttpsWishes { redirect: true, hsts: Some(Hsts::Ramp), tls: Some(TlsLevel::Usual), ..HttpsWishes::default() };
    let names = [Identifier::parse("s5000.lampholm.example").unwrap()];
    let target = TlsTarget { wishes, hsts_age: 300, ..TlsTarget::new(&names, Path::new("/b"), Path::new("/k")) };
    let path = Path::new("/n/main");
    if kind == Software::Nginx {
        let config = nginx::load(path, &mut read).unwrap();
        let sites = Sites::find(&config);
        let begun = Instant::now();
        assert_eq!(nginx::plan(&config, &sites, &target).unwrap().changes.len(), 1);
        return begun.elapsed().as_secs_f64() * 1000.0;
    }
    let known = apache::load(path, &mut read).unwrap();
    let begun = Instant::now();
    let gained = apache::gain_tls(&known, &target).unwrap();
    assert_eq!(gained.len(), 1);
    // What was changed is read once more, to be planned further.
    let mut after = |pattern: &Path| {
        let mut found = read(pattern)?;
        if pattern_has(pattern, &gained[0].path) {
            found.push((gained[0].path.clone(), gained[0].new.clone()));
        }
        Ok(found)
    };
    let known = apache::load(path, &mut after).unwrap();
    assert_eq!(apache::grant(&known, &target).unwrap().0.len(), 2);
    begun.elapsed().as_secs_f64() * 1000.0
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
    for kind in [Software::Nginx, Software::Apache] {
        let mut times: Vec<f64> = (0..7).map(|_| survey(kind, 1_000)).collect();
        times.sort_by(f64::total_cmp);
        println!("{}, 10,000 hosts in 1,000 files: surveyed in {:.0} ms (target 100 ms)", kind.word(), times[3]);
    }
    for kind in [Software::Nginx, Software::Apache] {
        let mut times: Vec<f64> = (0..7).map(|_| all_wishes(kind)).collect();
        times.sort_by(f64::total_cmp);
        println!(
            "{}, 10,000 hosts: one site with all it can want planned in {:.1} ms (target 150 ms)",
            kind.word(),
            times[3]
        );
    }
    let status = std::fs::read_to_string("/proc/self/status").unwrap();
    let most = status.lines().find(|line| line.starts_with("VmHWM")).unwrap();
    println!("most memory of all of it: {}", most.trim_start_matches("VmHWM:").trim());
}
