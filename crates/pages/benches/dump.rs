//! How quickly a dump is looked through, against a plain search for the same bytes: `cargo bench -p eskort-pages`.

#![expect(
    clippy::disallowed_methods,
    clippy::disallowed_types,
    clippy::print_stdout,
    reason = "a benchmark reads a file and the clock"
)]
#![expect(clippy::unwrap_used, reason = "a benchmark stops at the first thing that is not as it should be")]

use eskort_pages::{DumpMender, Hosts};
use std::io::{Read, Write};
use std::os::unix::fs::FileExt;
use std::time::{Duration, Instant};

const SIZE: usize = 1 << 30;

/// Writes a dump of a gigabyte: texts of a page or so, some with addresses, and values with lengths.
fn write(path: &std::path::Path) {
    let mut line = String::from("INSERT INTO `posts` VALUES ");
    for n in 0..2000_u32 {
        let text = "the lamp wants oil and the keeper wants a wick ".repeat(usize::try_from(5 + n % 40).unwrap());
        let link = if n % 5 == 0 { "<a href=\\\"http://lampholm.example/oil\\\">oil</a>" } else { "" };
        let value = match n % 10 {
            0 => "a:1:{s:1:\\\"a\\\";s:24:\\\"http://lampholm.example/\\\";}",
            _ => "a:1:{s:1:\\\"a\\\";i:5;}",
        };
        let comma = if n > 0 { "," } else { "" };
        line += &format!("{comma}({n},'https://lampholm.example/{n}','{text}{link}','{value}')");
    }
    line += ";\n";
    let mut file = std::io::BufWriter::new(std::fs::File::create(path).unwrap());
    file.write_all(
        b"-- MySQL dump\nCREATE TABLE `posts` (`id` int, `url` varchar(255), `body` longtext, `meta` longtext);\n",
    )
    .unwrap();
    (0..SIZE / line.len()).for_each(|_| file.write_all(line.as_bytes()).unwrap());
}

fn timed(job: impl Fn() -> u64) -> (Duration, u64) {
    let run = || {
        let begun = Instant::now();
        let found = job();
        (begun.elapsed(), found)
    };
    (0..3).map(|_| run()).min().unwrap()
}

fn main() {
    let path = std::env::temp_dir().join("eskort-bench-dump.sql");
    write(&path);
    let plain = || {
        let (mut file, mut buffer, mut found) = (std::fs::File::open(&path).unwrap(), vec![0; 1 << 20], 0);
        loop {
            match file.read(&mut buffer).unwrap() {
                0 => return found,
                read => found += memchr::memmem::find_iter(&buffer[..read], b"http://lampholm.example").count() as u64,
            }
        }
    };
    let hosts = Hosts::new(["lampholm.example".to_owned()]);
    let ours = || {
        let mut mender = DumpMender::new(&hosts);
        let file = std::fs::File::open(&path).unwrap();
        mender.pass(&|buffer, at| file.read_at(buffer, at), None).unwrap();
        mender.tally.changed
    };
    let _ = plain();
    let ((plain, found), (ours, changed)) = (timed(plain), timed(ours));
    assert!(changed.abs_diff(found) < 2000, "{changed}, {found}");
    println!(
        "a dump of 1 GB, {changed} addresses: {ours:.2?}; a plain search {plain:.2?}: {:.2} of its speed",
        plain.as_secs_f64() / ours.as_secs_f64()
    );
    std::fs::remove_file(&path).unwrap();
}
