//! Links the program at a fixed address.
//!
//! It is started twice for each stage that is observed, and a program of this size that can be anywhere has some 140,000
//! addresses put right at each start: 4 ms and 600 pages, beside 1.4 ms and 150.

// What a build is told, and tells, goes by variables and standard output.
#![allow(clippy::disallowed_methods, clippy::print_stdout)]

fn main() {
    let is = |name: &str, value: &str| std::env::var(name).is_ok_and(|v| v == value);
    if is("CARGO_CFG_TARGET_OS", "linux") && is("CARGO_CFG_TARGET_ENV", "gnu") {
        println!("cargo:rustc-link-arg-bins=-no-pie");
    }
    println!("cargo:rerun-if-changed=build.rs");
}
