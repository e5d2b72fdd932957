//! Drives the real program, on files in temporary folders, without a network.
//!
//! One binary for all of it. [`team`] makes a project; each other module is about one command or one promise.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod archive;
mod build;
mod check;
mod crash;
mod crossing;
mod damage;
mod debian;
mod demo;
mod inside;
mod keeper;
mod kinds;
mod living;
mod lock;
mod machines;
mod manners;
mod oci;
mod online;
mod owners;
mod seal;
mod server;
mod spec;
mod steps;
mod store;
mod team;
mod verify;
mod web;

#[test]
fn every_file_here_is_a_part_of_the_suite() {
    let here = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/suite");
    let main = include_str!("main.rs");
    for entry in std::fs::read_dir(here).unwrap() {
        let name = entry.unwrap().file_name().into_string().unwrap();
        let Some(module) = name.strip_suffix(".rs") else { continue };
        assert!(module == "main" || main.contains(&format!("mod {module};")), "{name} is not wired in");
    }
}
