//! Drives the real program, on files in temporary folders, without a network.
//!
//! One binary for all of it. [`team`] makes a project; each other module is about one command or one promise.
#![allow(
    clippy::unwrap_used,
    reason = "a test fails by panicking, and helpers outside of test functions are tests too"
)]

mod archive;
mod attacks;
mod build;
mod cache;
mod check;
mod crash;
mod crossing;
mod damage;
mod debian;
mod demo;
mod dependencies;
mod docs;
mod drift;
mod editors;
mod export;
mod faults;
mod first_hour;
mod handover;
mod history;
mod home;
mod house;
mod inside;
mod join;
mod keeper;
mod kinds;
mod living;
mod lock;
mod machine_disks;
mod machines;
mod manners;
mod mutations;
mod oci;
mod offered;
mod on_top;
mod online;
mod online_clients;
mod online_editors;
#[path = "../../../sources/tests/support/openpgp.rs"]
mod openpgp;
mod owners;
mod pages;
mod parcel;
mod personal;
mod promises;
mod push;
mod recording;
mod registry;
mod reported;
mod roster;
mod running;
mod seal;
mod secrets;
mod security_keys;
mod server;
mod services;
mod signatures;
mod spec;
mod ssh;
mod steps;
mod store;
mod sweeps;
mod synced;
mod team;
mod terminals;
mod truly;
mod variants;
mod verify;
mod virtual_machines;
mod web;

#[test]
fn every_file_of_a_suite_is_a_part_of_it() {
    let crates = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("..");
    let suites = std::fs::read_dir(crates).unwrap().map(|entry| entry.unwrap().path().join("tests/suite"));
    let suites: Vec<_> = suites.filter(|suite| suite.exists()).collect();
    assert!(suites.len() >= 5);
    for suite in suites {
        let main = std::fs::read_to_string(suite.join("main.rs")).unwrap();
        for entry in std::fs::read_dir(&suite).unwrap() {
            let name = entry.unwrap().file_name().into_string().unwrap();
            let Some(module) = name.strip_suffix(".rs") else { continue };
            let wired = module == "main" || main.contains(&format!("mod {module};"));
            assert!(wired, "{name} is not wired into {}", suite.display());
        }
    }
}
