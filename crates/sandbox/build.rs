//! Makes the first process of machines (`machine/first.rs`) by the compiler that makes everything else. It uses no
//! library but the language's own core, so neither another target nor another C library is needed; what comes out
//! depends on the compiler's version only.

use std::env;
use std::path::Path;
use std::process::Command;

fn main() {
    println!("cargo::rerun-if-changed=machine/first.rs");
    let out = env::var("OUT_DIR").unwrap_or_default();
    let program = Path::new(&out).join("first");
    // Its system calls are those of this architecture.
    if env::var("CARGO_CFG_TARGET_ARCH").is_ok_and(|architecture| architecture == "x86_64") {
        let own = [
            "-C",
            "linker-flavor=ld.lld",
            "-C",
            "linker=rust-lld",
            "-C",
            "link-self-contained=no",
            "-C",
            "link-arg=-static",
        ];
        let by_compiler = ["-C", "link-arg=-nostartfiles", "-C", "link-arg=-nostdlib", "-C", "link-arg=-static"];
        // A compiler that does not bring its linker has that of the C compiler.
        assert!(
            make(&program, &own) || make(&program, &by_compiler),
            "machine/first.rs cannot be made; cargo build -vv shows why"
        );
    } else if let Err(error) = std::fs::write(&program, []) {
        panic!("{}: {error}", program.display());
    }
}

fn make(program: &Path, linker: &[&str]) -> bool {
    let root = env::var("CARGO_MANIFEST_DIR").unwrap_or_default();
    let mut rustc = Command::new(env::var_os("RUSTC").unwrap_or_else(|| "rustc".into()));
    rustc.args(["--edition", "2024", "--crate-type", "bin", "--crate-name", "first", "-D", "warnings"]);
    rustc.args(["-C", "panic=abort", "-C", "opt-level=2", "-C", "relocation-model=static"]);
    rustc.args(["-C", "strip=symbols", "-C", "default-linker-libraries=no"]);
    rustc.args(linker);
    rustc.arg("--target").arg(env::var("TARGET").unwrap_or_default());
    // Where this was made is nobody's to know.
    rustc.arg("--remap-path-prefix").arg(format!("{root}=."));
    rustc.arg("-o").arg(program).arg(Path::new(&root).join("machine/first.rs"));
    rustc.status().is_ok_and(|status| status.success())
}
