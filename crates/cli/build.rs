//! How the program is linked.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    // Addresses that are fixed up at every start take a fiftieth of the room (ELF gABI, DT_RELR), which a command that
    // takes milliseconds feels. Debian 12's C library (2.36) is the first that knows them; a linker that does not
    // leaves them as they are.
    println!("cargo:rustc-link-arg-bins=-Wl,-z,pack-relative-relocs");
}
