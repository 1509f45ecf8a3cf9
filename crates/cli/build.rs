//! Tells the linker to write the program's relocations in short form, which saves a megabyte of some seventeen.

use std::process::Command;

fn main() {
    println!("cargo::rerun-if-changed=build.rs");
    let is = |name: &str, value: &str| std::env::var(name).is_ok_and(|v| v == value);
    let is_for_this_machine = is("CARGO_CFG_TARGET_ENV", "gnu") && std::env::var("HOST") == std::env::var("TARGET");
    if is("PROFILE", "release") && is_for_this_machine && glibc().is_some_and(|version| version >= (2, 36)) {
        println!("cargo::rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
    }
}

/// Returns the version of this machine's C library: before 2.36 it cannot load such a program.
fn glibc() -> Option<(u32, u32)> {
    let output = Command::new("getconf").arg("GNU_LIBC_VERSION").output().ok()?;
    let version = std::str::from_utf8(&output.stdout).ok()?.trim().strip_prefix("glibc ")?;
    let (major, minor) = version.split_once('.')?;
    Some((major.parse().ok()?, minor.parse().ok()?))
}
