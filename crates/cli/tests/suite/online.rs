//! What needs package archives and other servers: not run by itself. `cargo test --workspace -- --ignored online_` runs
//! it.

use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use crate::team::{PROGRAM, copy, told};

fn examples() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples")
}

/// Somebody who works on a copy of an example.
struct Member {
    dir: PathBuf,
    home: PathBuf,
    /// The number of an ordinary user without subordinate ids, instead of anyone who runs the tests.
    user: Option<u32>,
}

impl Member {
    fn run(&self, arguments: &[&str]) -> String {
        let mut command = match self.user {
            Some(user) => {
                let mut command = Command::new("setpriv");
                command
                    .arg(format!("--reuid={user}"))
                    .arg(format!("--regid={user}"))
                    .arg("--clear-groups")
                    .arg(PROGRAM);
                command
            }
            None => Command::new(PROGRAM),
        };
        let output = command
            .args(arguments)
            .current_dir(&self.dir)
            .env("CAVRITH_HOME", &self.home)
            .env("HOME", self.dir.parent().unwrap())
            .stdin(Stdio::null())
            .output()
            .unwrap();
        assert!(output.status.success(), "cavrith {arguments:?}: {}", told(&output));
        String::from_utf8(output.stdout).unwrap()
    }

    fn image(&self) -> String {
        let report: serde_json::Value = serde_json::from_str(&self.run(&["build", "--json"])).unwrap();
        report["image"].as_str().unwrap().to_owned()
    }
}

/// Locks an example anew, plays it, seals it, and builds it as somebody else with an empty store.
fn play(example: &str, plays: &[(&[&str], &str)]) {
    let dir = tempfile::tempdir().unwrap();
    let project = dir.path().join("lead").join(example);
    copy(&examples().join(example), &project);
    let lead = Member { dir: project.clone(), home: dir.path().join("lead/home"), user: None };
    // What steps fetch was recorded, and stays.
    lead.run(&["lock", "--update"]);
    let image = lead.image();
    if !plays.is_empty() {
        // A command that starts the workspace itself does not wait for services.
        lead.run(&["start", "--wait"]);
    }
    for (arguments, says) in plays {
        let mut command = vec!["run", "--"];
        command.extend(*arguments);
        let said = lead.run(&command);
        assert!(said.contains(says), "{arguments:?}: {said}");
    }
    if !plays.is_empty() {
        lead.run(&["stop"]);
    }
    lead.run(&["seal"]);
    lead.run(&["verify"]);
    let (other, user) = (dir.path().join("member"), 4242);
    copy(&project, &other.join(example));
    fs::create_dir_all(other.join("home")).unwrap();
    let owned = Command::new("chown").arg("-R").arg(format!("{user}:{user}")).arg(&other).status().unwrap();
    assert!(owned.success());
    for open in [dir.path(), &other] {
        fs::set_permissions(open, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    }
    let member = Member { dir: other.join(example), home: other.join("home"), user: Some(user) };
    assert_eq!(member.image(), image);
    member.run(&["verify"]);
    let bill: serde_json::Value = serde_json::from_str(&lead.run(&["contents", "--format", "spdx-json"])).unwrap();
    let packages = bill["packages"].as_array().unwrap();
    assert!(packages.len() > 100 && packages.iter().filter(|one| one["licenseDeclared"] != "NOASSERTION").count() > 50);
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_a_c_project_is_built_from_its_source_inside() {
    play(
        "harbour-lights",
        &[
            (&["make", "check"], "out/lights"),
            (&["gdb", "--batch", "-ex", "break light_at", "-ex", "run", "out/lights"], "light_at (number=0)"),
            (&["git", "--version"], "git version"),
        ],
    );
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_a_site_asks_its_database_and_the_tables_survive() {
    let sailings = "select count(*) from sailings";
    play("sailings", &[(&["psql", "-tAc", sailings], "4"), (&["python3", "--version"], "Python 3.11")]);
    let dir = tempfile::tempdir().unwrap();
    let project = dir.path().join("sailings");
    copy(&examples().join("sailings"), &project);
    let member = Member { dir: project.clone(), home: dir.path().join("home"), user: None };
    member.run(&["start", "--wait"]);
    let status = || -> serde_json::Value { serde_json::from_str(&member.run(&["status", "--json"])).unwrap() };
    let port = |name: &str| {
        let ports = status()["status"]["ports"].as_array().unwrap().clone();
        ports.into_iter().find(|port| port["name"] == name).unwrap()["outside"].as_u64().unwrap()
    };
    assert!(crate::inside::fetch(port("site"), "next?from=Brindle&after=09:00").contains("09:40"));
    // Through the port, as a program outside would, whether or not a client is installed here: PostgreSQL's own
    // greeting is enough.
    let mut database = TcpStream::connect(("127.0.0.1", port("database") as u16)).unwrap();
    database.write_all(&[0, 0, 0, 8, 4, 210, 22, 47]).unwrap();
    let mut answer = [0];
    database.read_exact(&mut answer).unwrap();
    assert_eq!(&answer, b"N", "no PostgreSQL answers a request for encryption");
    let insert = "insert into sailings values ('Tarn Island', 'Brindle', '13:00')";
    member.run(&["run", "--", "psql", "-qc", insert]);
    member.run(&["restart", "--wait"]);
    assert_eq!(member.run(&["run", "--", "psql", "-tAc", sailings]), "5\n");
    // The base is another one; the tables are the same.
    let spec = fs::read_to_string(project.join("cavrith.toml")).unwrap();
    fs::write(project.join("cavrith.toml"), spec.replace("\"git\", ", "\"git\", \"tree\", ")).unwrap();
    member.run(&["lock"]);
    member.run(&["apply", "--fresh"]);
    assert_eq!(
        member.run(&[
            "run",
            "--",
            "sh",
            "-c",
            "tree --version > /dev/null && psql -tAc 'select count(*) from sailings'"
        ]),
        "5\n"
    );
    member.run(&["drop", "--yes"]);
    member.run(&["start", "--wait"]);
    assert_eq!(member.run(&["run", "--", "psql", "-tAc", sailings]), "5\n");
    member.run(&["stop"]);
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_the_readme_s_first_spec_runs_as_it_stands() {
    let dir = tempfile::tempdir().unwrap();
    let project = dir.path().join("sailings");
    fs::create_dir(&project).unwrap();
    let readme = fs::read_to_string(examples().join("../README.md")).unwrap();
    let spec = readme.split("```toml\n").nth(1).unwrap().split("```").next().unwrap();
    fs::write(project.join("cavrith.toml"), spec).unwrap();
    let service = "from http.server import HTTPServer, SimpleHTTPRequestHandler as Pages\nHTTPServer((\"127.0.0.1\", 8080), Pages).serve_forever()\n";
    fs::write(project.join("service.py"), service).unwrap();
    let member = Member { dir: project, home: dir.path().join("home"), user: None };
    member.run(&["lock"]);
    member.run(&["start", "--wait"]);
    let query = ["run", "-q", "--", "psql", "-U", "postgres", "-tAc", "select 6 * 10"];
    assert_eq!(member.run(&query), "60\n");
    member.run(&["stop"]);
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_a_rust_project_is_formatted_linted_tested_and_run() {
    let all = "cargo fmt --check && cargo clippy -q -- -D warnings && cargo test -q && cargo run -q";
    play("tide-tables", &[(&["sh", "-c", all], "day 2 04:30")]);
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_a_node_project_passes_its_tests() {
    let all = "node board.js & sleep 1; node -e 'fetch(\"http://127.0.0.1:8090/\").then((a) => a.text()).then((t) => { console.log(t); })'; kill %1";
    play("notice-board", &[(&["node", "--test"], "pass 1"), (&["bash", "-c", all], "one red mitten")]);
}

/// Builds each group of `tests/data/survey.txt` twice, the second time under other conditions and with a store in
/// memory, and says which come out the same. It takes most of an hour; `CAVRITH_TEST_SURVEY` names one group.
#[test]
#[ignore = "needs a mirror of the Debian archive, ten gigabytes of disk, and memory for an image"]
fn online_a_survey_of_packages_comes_out_the_same_twice() {
    let text = fs::read_to_string(concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/survey.txt")).unwrap();
    let only = std::env::var("CAVRITH_TEST_SURVEY").ok();
    let groups = text.lines().filter(|line| !line.starts_with('#')).filter_map(|line| line.split_once(": "));
    let dir = tempfile::tempdir().unwrap();
    let (mut packages, mut refused) = (0, Vec::new());
    for (group, names) in groups.filter(|(group, _)| only.as_ref().is_none_or(|only| only == group)) {
        let project = dir.path().join(group);
        fs::create_dir(&project).unwrap();
        let listed: Vec<_> = names.split(' ').map(|name| format!("{name:?}")).collect();
        let spec = "spec = 1\n[workspace]\nname = \"survey\"\n[base]\ndebian = \"bookworm\"\npackages = [";
        fs::write(project.join("cavrith.toml"), format!("{spec}{}]\n", listed.join(", "))).unwrap();
        let member = Member { dir: project, home: dir.path().join("home"), user: None };
        member.run(&["lock", "-q"]);
        member.run(&["build", "-q"]);
        let sealing = Command::new(PROGRAM)
            .args(["seal", "-q"])
            .current_dir(&member.dir)
            .env("CAVRITH_HOME", &member.home)
            .output()
            .unwrap();
        packages += listed.len();
        if !sealing.status.success() {
            refused.push(format!("{group}: {}", told(&sealing)));
        }
        // One image at a time is enough for the disk.
        fs::remove_dir_all(member.home.join("store/layers")).unwrap();
        fs::create_dir(member.home.join("store/layers")).unwrap();
    }
    println!("{packages} packages");
    assert!(packages > 0 && refused.is_empty(), "{}", refused.join("\n"));
}

#[test]
#[ignore = "needs a mirror of the Debian archive, and apt with its lists on this machine"]
fn online_choices_are_those_of_the_archives_own_tool() {
    let dir = tempfile::tempdir().unwrap();
    let project = dir.path().join("pier");
    fs::create_dir_all(&project).unwrap();
    fs::write(dir.path().join("nothing"), "").unwrap();
    assert!(Command::new("apt-get").args(["-q", "update"]).stdout(Stdio::null()).status().unwrap().success());
    let suite = fs::read_to_string("/etc/os-release").unwrap();
    let suite = suite.lines().find_map(|line| line.strip_prefix("VERSION_CODENAME=")).unwrap().to_owned();
    let member = Member { dir: project.clone(), home: dir.path().join("home"), user: None };
    let locked = |packages: &[&str]| {
        let listed = packages.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
        let text =
            format!("spec = 1\n[workspace]\nname = \"pier\"\n[base]\ndebian = \"{suite}\"\npackages = [{listed}]\n");
        fs::write(project.join("cavrith.toml"), text).unwrap();
        let _ = fs::remove_file(project.join("cavrith.lock"));
        member.run(&["lock"]);
        let lock: toml::Table = fs::read_to_string(project.join("cavrith.lock")).unwrap().parse().unwrap();
        let stages = lock["debian"]["stages"].as_array().unwrap().clone();
        let packages = stages.iter().flat_map(|stage| stage["packages"].as_table().unwrap().clone());
        let mut all: Vec<_> = packages
            .map(|(name, pin)| format!("{name} {}", pin.as_str().unwrap().split(' ').next().unwrap()))
            .collect();
        all.sort();
        all
    };
    // What every root has is what is wished of the tool besides, since its own root is empty.
    let core: Vec<String> = locked(&[]).into_iter().map(|one| one.split(' ').next().unwrap().to_owned()).collect();
    let wishes: [&[&str]; 12] = [
        &["git"],
        &["postgresql"],
        &["python3", "nodejs"],
        &["gcc", "make", "gdb"],
        &["rustc", "cargo", "rustfmt", "rust-clippy"],
        &["devscripts"],
        &["libgtk-3-dev"],
        &["default-jdk"],
        &["firefox-esr"],
        &["ruby-rails"],
        &["texlive"],
        &["apache2", "php"],
    ];
    for wish in wishes {
        let output = Command::new("apt-get")
            .args(["-s", "-o", "APT::Install-Recommends=0", "-o"])
            .arg(format!("Dir::State::status={}", dir.path().join("nothing").display()))
            .arg("install")
            .args(&core)
            .args(wish)
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", told(&output));
        let proposed = String::from_utf8(output.stdout).unwrap();
        let mut proposed: Vec<_> = proposed
            .lines()
            .filter_map(|line| line.strip_prefix("Inst "))
            .map(|line| {
                let mut words = line.split(' ');
                format!("{} {}", words.next().unwrap(), words.next().unwrap().trim_start_matches('('))
            })
            .collect();
        proposed.sort();
        assert_eq!(locked(wish), proposed, "{wish:?}");
    }
}

/// One request to a registry, as its test wants them.
fn ask(host: &str, method: &str, path: &str, kind: &str, body: &[u8]) -> (u16, String) {
    let mut stream = TcpStream::connect(host).unwrap();
    let head = format!(
        "{method} {path} HTTP/1.1\r\nHost: {host}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        body.len()
    );
    stream.write_all(head.as_bytes()).unwrap();
    stream.write_all(body).unwrap();
    let mut reader = BufReader::new(stream);
    let mut status = String::new();
    reader.read_line(&mut status).unwrap();
    let mut rest = String::new();
    reader.read_to_string(&mut rest).unwrap();
    let location =
        rest.lines().find_map(|line| line.split_once(": ").filter(|(name, _)| name.eq_ignore_ascii_case("location")));
    let location = location.map_or_else(String::new, |(_, value)| value.trim().to_owned());
    (status.split(' ').nth(1).unwrap().parse().unwrap(), location)
}

#[test]
#[ignore = "needs a registry: CAVRITH_TEST_REGISTRY names its host and port, without encryption and open to all"]
fn online_an_image_is_pulled_from_a_real_registry() {
    let host = std::env::var("CAVRITH_TEST_REGISTRY").expect("CAVRITH_TEST_REGISTRY is not set");
    let (team, image) = crate::oci::started();
    for (digest, bytes) in &image.blobs {
        let (status, location) = ask(&host, "POST", "/v2/team/pier/blobs/uploads/", "application/octet-stream", b"");
        assert_eq!(status, 202);
        let path = location.split_once(&host).map_or(location.as_str(), |(_, path)| path);
        let between = if path.contains('?') { "&" } else { "?" };
        let path = format!("{path}{between}digest=sha256:{digest}");
        assert_eq!(ask(&host, "PUT", &path, "application/octet-stream", bytes).0, 201);
    }
    let manifest = image.blobs.iter().find(|(digest, _)| *digest == image.manifest).unwrap();
    let kind = "application/vnd.oci.image.manifest.v1+json";
    assert_eq!(ask(&host, "PUT", "/v2/team/pier/manifests/2.1", kind, &manifest.1).0, 201);
    crate::oci::spec(&team, &format!("\"{host}/team/pier:2.1\""));
    team.ok(&["lock"]);
    team.build();
    assert!(crate::oci::look(&team).starts_with("the tide turns\n"));
    crate::oci::spec(&team, &format!("\"{host}/team/pier@sha256:{}\"", image.manifest));
    team.ok(&["lock"]);
    team.build();
}

/// What must not be told apart from nobody: each of two workspaces, and the machine itself, for a workspace that
/// reaches out by a pair of devices.
/// Images and layers go through a registry server, and a member with an empty store takes them from there.
#[test]
#[ignore = "needs a registry: CAVRITH_TEST_REGISTRY names its host and port, without encryption and open to all"]
fn online_images_and_layers_go_through_a_registry_server() {
    let host = std::env::var("CAVRITH_TEST_REGISTRY").expect("CAVRITH_TEST_REGISTRY is not set");
    let team = crate::team::Team::locked();
    // Larger than one chunk.
    team.step("for i in $(seq 80); do cat /bin/busybox; echo $i; done > /srv/large");
    // Nothing of an earlier run is there under this name.
    let name = format!("{host}/brindle/run-{}", std::process::id());
    team.add(&format!("[cache]\nregistry = \"{name}/layers\"\n"));
    team.ok(&["lock"]);
    team.ok(&["seal", "--publish"]);
    let reference = format!("{name}/timetable:1");
    for how in ["gzip", "zstd", "none"] {
        let pushed = team.json(&["push", &reference, "--compress", how, "--json"]);
        assert_eq!(pushed["attachments"], 2);
        assert!(team.ok(&["push", &reference, "--compress", how]).contains("0 layers of 0 B sent"));
    }
    let member = team.dir.path().join("tove");
    copy(&team.project(), &member.join("timetable"));
    let run = |arguments: &[&str]| {
        let mut command = team.command(arguments);
        command.current_dir(member.join("timetable")).env("CAVRITH_HOME", member.join("home")).output().unwrap()
    };
    let output = run(&["build"]);
    assert!(output.status.success() && told(&output).contains("fetched 10 layers from"), "{}", told(&output));
    assert!(told(&run(&["verify"])).contains("the same as sealed"));
    // And as the base of another project, pulled as any image is.
    let other = team.dir.path().join("other");
    fs::create_dir(&other).unwrap();
    fs::write(
        other.join("cavrith.toml"),
        format!("spec = 1\n[workspace]\nname = \"other\"\n[base]\noci = \"{reference}\"\n"),
    )
    .unwrap();
    let mut command = team.command(&["lock"]);
    assert!(command.current_dir(&other).output().unwrap().status.success());
    let mut command = team.command(&["run", "--", "ls", "-l", "/srv/large"]);
    let output = command.current_dir(&other).env("CAVRITH_HOME", member.join("home")).output().unwrap();
    assert!(output.status.success(), "{}", told(&output));
    let mut command = team.command(&["stop", "--all"]);
    command.current_dir(&other).env("CAVRITH_HOME", member.join("home")).output().unwrap();
}

#[test]
#[ignore = "needs root, ip of iproute2 and nft of nftables, and no pasta"]
fn online_neighbours_do_not_reach_each_other_nor_the_machine_them() {
    use crate::running::started;
    let (one, two) = (started(""), started(""));
    for team in [&one, &two] {
        team.ok(&["start", "-q", "--wait"]);
        let status = team.json(&["status", "--json"]);
        assert_eq!(status["status"]["network"], "out, by a pair of virtual devices", "{status}");
        let serve = "httpd -p 8141 -h /srv; true";
        team.ok(&["run", "-q", "--", "sh", "-c", serve]);
    }
    let own = |team: &crate::team::Team| {
        let shown = team.ok(&["run", "-q", "--", "sh", "-c", "ip -4 -o addr show | grep -v 127.0.0.1"]);
        let address = shown.split_whitespace().find_map(|word| word.split_once('/')).unwrap().0.to_owned();
        address.parse::<std::net::Ipv4Addr>().unwrap()
    };
    let (first, second) = (own(&one), own(&two));
    assert_ne!(first, second);
    let limit = std::time::Duration::from_secs(2);
    for address in [first, second] {
        assert!(TcpStream::connect_timeout(&(address, 8141).into(), limit).is_err(), "the machine reaches {address}");
    }
    // Neither the other workspace nor a port of the machine's, at any of its addresses.
    let listener = std::net::TcpListener::bind("0.0.0.0:0").unwrap();
    let here = listener.local_addr().unwrap().port();
    let gateway = one.ok(&["run", "-q", "--", "sh", "-c", "ip route | sed -n 's/^default via \\([0-9.]*\\).*/\\1/p'"]);
    for (address, port) in [(second.to_string(), 8141), (gateway.trim().to_owned(), here)] {
        let ask = format!("wget -T 2 -q -O - http://{address}:{port}/");
        let asked = one.run(&["run", "-q", "--", "sh", "-c", &ask]);
        assert!(!asked.status.success(), "{address}:{port} answers: {}", told(&asked));
    }
    listener.set_nonblocking(true).unwrap();
    assert!(listener.accept().is_err(), "the machine was reached");
    // What listens inside is there: its own workspace reaches it.
    one.ok(&["run", "-q", "--", "wget", "-q", "-O", "/dev/null", "http://127.0.0.1:8141/site/frame.html"]);
    for team in [&one, &two] {
        team.ok(&["stop", "-q"]);
    }
    let tables = Command::new("nft").args(["list", "tables"]).output().unwrap();
    assert!(!String::from_utf8_lossy(&tables.stdout).contains("cavrith"), "a table is left");
}
