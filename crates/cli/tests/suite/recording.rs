//! Steps that fetch: recorded by the lead, replayed by everybody else without a network.

use std::fs;
use std::path::PathBuf;

use serde_json::json;

use crate::owners::Member;
use crate::server::Server;
use crate::team::{Team, told};

/// A step that fetches over the proxy that it is told of, and by looking for the host itself.
const STEP: &str = r#"
[[steps]]
name    = "bring the tides"
at      = "build"
network = "recorded"
run     = """
mkdir -p /srv/tides
wget -q -O /srv/tides/low http://files.brindle.example/low.csv
http_proxy= wget -q -O /srv/tides/high http://files.brindle.example/high.csv
"""
"#;

/// A team with that step; its files come from a server on this machine.
fn tides() -> (Team, Server) {
    let team = Team::new();
    let server = Server::new();
    server.put("/low.csv", "low,7\n");
    server.put("/high.csv", "high,19\n");
    team.add(STEP);
    mirror(&team, &server, "");
    team.ok(&["lock"]);
    (team, server)
}

fn mirror(team: &Team, server: &Server, more: &str) {
    let config = format!("[recording.mirrors]\n\"http://files.brindle.example/\" = \"{}/\"\n{more}", server.url);
    fs::create_dir_all(team.home()).unwrap();
    fs::write(team.home().join("config.toml"), config).unwrap();
}

fn record_file(team: &Team) -> PathBuf {
    team.project().join("cavrith.records/bring-the-tides.record")
}

#[test]
fn what_a_step_fetches_is_pinned_and_replayed_without_a_network() {
    let (team, server) = tides();
    let said = team.ok(&["lock"]);
    assert!(said.contains("up to date"), "{said}");
    let said = team.fails(&["build"], 1);
    assert!(said.contains("CF0408") && said.contains("\"bring the tides\" has no record"), "{said}");
    let said = told(&team.run(&["check"]));
    assert!(said.contains("fetches is not recorded yet") && said.contains("run cavrith record"), "{said}");

    let said = team.ok(&["record"]);
    assert!(said.contains("recorded step \"bring the tides\"  2 requests, 14 B from files.brindle.example"), "{said}");
    let text = fs::read_to_string(record_file(&team)).unwrap();
    let lines: Vec<_> = text.lines().collect();
    assert!(lines[1].starts_with("GET http://files.brindle.example/high.csv 200 8 "), "{text}");
    assert!(!text.contains("127.0.0.1"), "{text}");
    let lock = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    assert!(lock.contains("hosts = [\"files.brindle.example\"]\nrequests = 2\nbytes = 14\n"), "{lock}");
    // Again it is the same, and nothing has to be built.
    let again = team.json(&["record", "--json"]);
    assert_eq!((&again["records"][0]["is_same"], &again["records"][0]["requests"]), (&json!(true), &json!(2)));

    // The archive moves on; nobody is asked any more.
    server.put("/low.csv", "low,8\n");
    server.requests();
    team.ok(&["seal"]);
    let said = team.ok(&["run", "-q", "--", "cat", "/srv/tides/low", "/srv/tides/high"]);
    assert_eq!(said, "low,7\nhigh,19\n");
    assert_eq!(server.requests(), Vec::<String>::new());
    // Nothing of what was put in for it is in the image: no resolver, no certificate, and its directories untouched.
    let contents =
        team.ok(&["run", "-q", "--", "sh", "-c", "ls /run/cavrith-recorder.pem; env | grep -ci proxy; true"]);
    assert!(!contents.contains("pem") && contents.trim() == "0", "{contents}");
    let layers: Vec<_> =
        fs::read_dir(team.home().join("store/layers")).unwrap().map(|one| one.unwrap().path()).collect();
    let tides: Vec<_> = layers.iter().filter(|layer| layer.join("root/srv/tides/low").exists()).collect();
    assert!(!tides.is_empty() && tides.iter().all(|layer| !layer.join("root/etc").exists()));
    team.ok(&["verify"]);

    // Recorded anew, it is another one, and the seal goes.
    let said = team.ok(&["record", "bring the tides"]);
    assert!(said.contains("recorded step"), "{said}");
    team.stop_all();
    let said = team.ok(&["run", "-q", "--", "cat", "/srv/tides/low"]);
    assert_eq!(said, "low,8\n");
    team.fails(&["verify"], 1);
    team.stop_all();
    team.assert_clean();
}

#[test]
fn every_kind_of_member_builds_the_same_from_a_depot_alone() {
    let (team, server) = tides();
    // An answer without a body is in no depot, and need not be.
    server.put("/none.csv", "");
    team.change(
        "mkdir -p /srv/tides\n",
        "mkdir -p /srv/tides\nwget -q -O /srv/tides/none http://files.brindle.example/none.csv\n",
    );
    team.ok(&["lock"]);
    team.ok(&["record"]);
    team.ok(&["seal"]);
    let image = team.build();
    let depot = team.dir.path().join("own");
    team.ok(&["depot", "fill", depot.to_str().unwrap()]);
    // Or just what was fetched, which is small enough for the project's own folder.
    let fetched = team.dir.path().join("fetched");
    let filled = team.json(&["depot", "fill", "--fetched", "--json", fetched.to_str().unwrap()]);
    assert_eq!(filled["brought"].as_array().unwrap().len(), 2, "{filled}");
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    for range in [true, false] {
        let member = Member::of(&team, range);
        let offline = |arguments: &[&str]| {
            let mut command = member.command(arguments);
            command.env("CAVRITH_OFFLINE", "1").env("CAVRITH_DEPOTS", &depot).output().unwrap()
        };
        let output = offline(&["build", "--json"]);
        assert!(output.status.success(), "range {range}: {}", told(&output));
        let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        assert_eq!(report["image"].as_str().unwrap(), image, "range {range}");
        let output = offline(&["verify"]);
        assert!(output.status.success(), "range {range}: {}", told(&output));
        // Nothing can be recorded so.
        let output = offline(&["record"]);
        assert!(output.status.code() == Some(2) && told(&output).contains("CAVRITH_OFFLINE"), "{}", told(&output));
        fs::remove_dir_all(team.dir.path().join("tove")).unwrap();
        fs::remove_dir_all(team.dir.path().join("etc")).unwrap();
    }
}

#[test]
fn what_was_never_recorded_is_refused_with_the_nearest_that_was() {
    let (team, server) = tides();
    team.ok(&["record"]);
    team.change("/low.csv", "/lower.csv");
    server.put("/lower.csv", "lower,3\n");
    let said = told(&team.run(&["lock"]));
    assert!(said.contains("is another than when it was recorded"), "{said}");
    server.requests();
    let said = team.fails(&["build"], 5);
    let expected = "http://files.brindle.example/lower.csv was never recorded; the nearest that was is \
                    http://files.brindle.example/low.csv";
    assert!(said.contains(expected), "{said}");
    assert_eq!(server.requests(), Vec::<String>::new());
    team.ok(&["record"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/tides/low"]), "lower,3\n");
    // Something else than http has nobody to talk to, and is told.
    team.stop_all();
    team.change(
        "mkdir -p",
        "nc git.brindle.example 9418 < /dev/null; nc db.brindle.example 5000 < /dev/null; mkdir -p",
    );
    team.ok(&["lock"]);
    let said = told(&team.run(&["build"]));
    assert!(said.contains("a connection by git; only http and https can be recorded"), "{said}");
    assert!(said.contains("it looked for db.brindle.example, git.brindle.example, and asked nothing there"), "{said}");
    team.assert_clean();
}

#[test]
fn tokens_are_added_outside_and_are_nowhere_inside() {
    let (team, server) = tides();
    server.guard("/", "Basic realm=\"x\"", "Bearer gull7");
    let said = team.fails(&["record"], 5);
    assert!(!said.contains("gull7"), "{said}");
    let credentials = format!("[recording.credentials.\"{}/\"]\ntoken-command = [\"echo\", \"gull7\"]\n", server.url);
    mirror(&team, &server, &credentials);
    team.step("env > /srv/env; cat /proc/*/environ > /srv/environ 2> /srv/errors || true");
    team.ok(&["lock"]);
    team.ok(&["record"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/tides/low"]), "low,7\n");
    // Nowhere: not in the record, the lock, a layer, or anything else that is kept, but for the configuration itself.
    team.stop_all();
    let mut open = vec![team.dir.path().to_owned()];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).unwrap() {
            let entry = entry.unwrap();
            if entry.file_type().unwrap().is_dir() {
                open.push(entry.path());
            } else if entry.file_type().unwrap().is_file() && entry.file_name() != "config.toml" {
                let bytes = fs::read(entry.path()).unwrap_or_default();
                assert!(!bytes.windows(5).any(|part| part == b"gull7"), "{}", entry.path().display());
            }
        }
    }
    let lacking = format!("[recording.credentials.\"{}/\"]\ntoken-command = [\"no-such-program\"]\n", server.url);
    mirror(&team, &server, &lacking);
    let said = team.fails(&["record"], 3);
    assert!(said.contains("token-command") && said.contains("not installed"), "{said}");
}

#[test]
fn a_record_that_is_not_the_pinned_one_is_not_believed() {
    let (team, _server) = tides();
    team.ok(&["record"]);
    let text = fs::read_to_string(record_file(&team)).unwrap();
    let build = |code: i32, expected: &str| {
        let said = team.fails(&["build", "--fresh"], code);
        assert!(said.contains("CF0408") && said.contains(expected), "{said}");
    };
    fs::write(record_file(&team), text.replace("low.csv", "bow.csv")).unwrap();
    build(1, "is not the record of the step \"bring the tides\" that the lock pins");
    fs::remove_file(record_file(&team)).unwrap();
    build(1, "is not there");
    std::os::unix::fs::symlink("/dev/zero", record_file(&team)).unwrap();
    let said = team.fails(&["build", "--fresh"], 2);
    assert!(said.contains("regular file"), "{said}");
    fs::remove_file(record_file(&team)).unwrap();
    fs::write(record_file(&team), text).unwrap();
    team.ok(&["build", "--fresh"]);
    // What the store lost is fetched again, as long as it is the same.
    let low = crate::archive::sha256(b"low,7\n");
    fs::remove_file(team.home().join("store/blobs").join(&low)).unwrap();
    team.ok(&["build", "--fresh"]);
    fs::remove_file(team.home().join("store/blobs").join(&low)).unwrap();
    _server.put("/low.csv", "other\n");
    build(4, "it is answered with something else now");
}

#[test]
fn only_a_step_of_the_image_that_runs_something_can_be_recorded() {
    let team = Team::new();
    team.add("\n[[steps]]\nname = \"greet\"\nat = \"build\"\nnetwork = \"recorded\"\nwrite = { inside = \"/etc/motd\", content = \"\" }\n");
    let said = team.fails(&["check"], 1);
    assert!(said.contains("`network` means nothing for a step that runs no command"), "{said}");
    team.change("write = { inside = \"/etc/motd\", content = \"\" }", "run = \"true\"");
    team.change("at = \"build\"\nnetwork", "at = \"start\"\nnetwork");
    let said = team.fails(&["check"], 1);
    assert!(said.contains("a step of the start has the workspace's own network"), "{said}");
    team.change("at = \"start\"\nnetwork = \"recorded\"", "at = \"build\"\nnetwork = \"open\"");
    let said = team.fails(&["check"], 1);
    assert!(said.contains("none") && said.contains("recorded"), "{said}");
    team.change("\nnetwork = \"open\"", "");
    team.ok(&["lock"]);
    assert!(team.ok(&["record"]).contains("no step fetches"));
    let said = team.fails(&["record", "greet"], 2);
    assert!(said.contains("there is no step \"greet\" with network = \"recorded\""), "{said}");
}

#[test]
fn a_step_is_given_only_its_files_and_what_it_made_is_in_the_live_project_and_not_outside() {
    let (team, server) = tides();
    server.put("/gulls", "gulls\n");
    fs::write(team.project().join("birds.list"), "gulls\n").unwrap();
    team.add(
        r#"
[[steps]]
name    = "bring the birds"
at      = "build"
account = "crew"
files   = ["birds.list"]
network = "recorded"
run     = """
mkdir birds
for one in $(cat birds.list); do wget -q -O birds/$one http://files.brindle.example/$one; done
ls > birds/seen
"""
"#,
    );
    team.change("inside  = \"/code\"", "inside  = \"/code\"\nexcept  = [\"birds\"]");
    team.ok(&["lock"]);
    team.ok(&["record"]);
    // Another file of the project is nothing to it.
    fs::write(team.project().join("notes"), "high water at noon\n").unwrap();
    let report = team.json(&["build", "--json"]);
    assert_eq!(report["work"], json!([]));
    let inside = |script: &str| team.ok(&["run", "-q", "--", "sh", "-c", script]);
    assert_eq!(
        inside("cd /code; cat birds/gulls birds/seen notes; echo terns > birds/terns; rm birds/seen; ls birds"),
        "gulls\nbirds\nbirds.list\nhigh water at noon\ngulls\nterns\n"
    );
    assert_eq!(fs::read_dir(team.project().join("birds")).unwrap().count(), 0, "nothing crosses");
    // What was changed there lasts as long as the image does.
    team.ok(&["restart"]);
    assert_eq!(inside("ls /code/birds"), "gulls\nterns\n");
    // The list changes: the status says what to do, and only that step is made again.
    server.put("/terns", "terns of the archive\n");
    fs::write(team.project().join("birds.list"), "gulls\nterns\n").unwrap();
    let said = team.ok(&["status"]);
    assert!(said.contains("birds.list: changed since they were locked; run cavrith lock"), "{said}");
    team.fails(&["build"], 1);
    team.ok(&["lock"]);
    let said = team.fails(&["build"], 5);
    assert!(said.contains("terns was never recorded"), "{said}");
    let said = told(&team.run(&["record", "bring the birds"]));
    assert!(said.contains("reused  step \"bring the tides\"") && said.contains("2 requests"), "{said}");
    // What was changed by hand is not given up without a word.
    assert!(team.fails(&["apply"], 1).contains("/code/birds/terns"));
    team.ok(&["apply", "--fresh"]);
    assert_eq!(inside("cat /code/birds/terns; ls /code/birds"), "terns of the archive\ngulls\nseen\nterns\n");
    // A folder is no file.
    fs::create_dir(team.project().join("pages")).unwrap();
    team.change("files   = [\"birds.list\"]", "files   = [\"pages\"]");
    let said = told(&team.run(&["lock"]));
    assert!(said.contains("it is no file; copy takes folders"), "{said}");
    team.stop_all();
}

#[test]
fn packages_that_were_fetched_are_listed_and_what_moved_is_reviewed() {
    let (team, server) = tides();
    server.put("/npm/tides/-/tides-1.0.0.tgz", "one\n");
    team.change(
        "mkdir -p /srv/tides",
        "mkdir -p /srv/tides\nwget -q -O /srv/tides/t http://files.brindle.example/npm/tides/-/tides-1.0.0.tgz",
    );
    let said = told(&team.run(&["lock", "--record"]));
    assert!(
        said.contains("recorded step \"bring the tides\"  3 requests") && !said.contains("run cavrith record"),
        "{said}"
    );
    let contents = team.json(&["contents", "--json"]);
    let fetched: Vec<_> =
        contents["contents"].as_array().unwrap().iter().filter(|one| one["kind"] == "fetched").collect();
    assert_eq!((fetched.len(), &fetched[0]["purl"]), (1, &json!("pkg:npm/tides@1.0.0")));
    assert_eq!(fetched[0]["origin"], "http://files.brindle.example/npm/tides/-/tides-1.0.0.tgz");
    let bill: serde_json::Value = team.json(&["contents", "--format", "cyclonedx-json"]);
    assert!(bill.to_string().contains("pkg:npm/tides@1.0.0"), "{bill}");

    let old = team.dir.path().join("old.record");
    fs::copy(record_file(&team), &old).unwrap();
    server.put("/npm/tides/-/tides-1.1.0.tgz", "two\n");
    server.put("/low.csv", "low,9\n");
    team.change("tides-1.0.0", "tides-1.1.0");
    // Named for an update, it is recorded anew.
    let said = told(&team.run(&["lock", "--update", "bring the tides"]));
    assert!(said.contains("recorded step"), "{said}");
    let review = |code: i32, arguments: &[&str]| {
        let files = [old.to_str().unwrap().to_owned(), record_file(&team).to_str().unwrap().to_owned()];
        let output = team.run(&[&["record", "--review", &files[0], &files[1]], arguments].concat());
        assert_eq!(output.status.code(), Some(code), "{}", told(&output));
        String::from_utf8(output.stdout).unwrap()
    };
    let said = review(0, &[]);
    assert!(
        said.contains("npm tides  1.0.0 → 1.1.0") && said.contains("changed  http://files.brindle.example/low.csv"),
        "{said}"
    );
    // The same version with another file is what nobody should do.
    let text = fs::read_to_string(record_file(&team)).unwrap();
    let other = crate::archive::sha256(b"else\n");
    fs::write(&old, text.replace(&crate::archive::sha256(b"two\n"), &other)).unwrap();
    let said = review(1, &[]);
    assert!(said.contains("replaced") && said.contains("another file under the same version"), "{said}");
    let answer: serde_json::Value = serde_json::from_str(&review(1, &["--json"])).unwrap();
    assert_eq!(answer["replaced"].as_array().unwrap().len(), 1);
    fs::copy(record_file(&team), &old).unwrap();
    assert!(review(0, &[]).contains("they fetch the same"));
    fs::write(&old, "tides\n").unwrap();
    let said = team.fails(&["record", "--review", old.to_str().unwrap(), old.to_str().unwrap()], 2);
    assert!(said.contains("cannot be read as a record: line 1"), "{said}");
}

#[test]
fn a_step_is_not_let_to_what_listens_on_the_member_s_own_machine() {
    let team = Team::new();
    let server = Server::new();
    server.put("/secret", "gull7\n");
    let (_, port) = server.url.rsplit_once(':').unwrap();
    for host in ["127.0.0.1", "localhost", "0.0.0.0", "[::ffff:127.0.0.1]"] {
        let address = format!("http://{host}:{port}/secret");
        team.add(&format!(
            "\n[[steps]]\nname = \"look around\"\nat = \"build\"\nnetwork = \"recorded\"\nrun = \"no_proxy= NO_PROXY= wget -q -O /srv/x {address}\"\n"
        ));
        team.ok(&["lock"]);
        let said = team.fails(&["record"], 5);
        assert!(said.contains("it is this machine itself, which no step is let to"), "{host}: {said}");
        let path = team.project().join("cavrith.toml");
        let text = fs::read_to_string(&path).unwrap();
        fs::write(&path, text.split("\n[[steps]]\nname = \"look around\"").next().unwrap()).unwrap();
    }
    assert_eq!(server.requests(), Vec::<String>::new());
}

#[test]
fn a_record_is_written_in_the_project_wherever_a_link_leads() {
    let (team, _server) = tides();
    let outside = team.dir.path().join("outside");
    fs::create_dir(&outside).unwrap();
    std::os::unix::fs::symlink(&outside, team.project().join("cavrith.records")).unwrap();
    let said = told(&team.run(&["record"]));
    assert!(said.contains("lies outside the project"), "{said}");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 0);
}

#[test]
fn a_cache_lasts_from_build_to_build_and_is_in_no_layer_nor_in_what_is_recorded() {
    let (team, _server) = tides();
    // It tells what it found, and only when it fetched nothing before does it fetch.
    let count = |number: u32| {
        format!(
            "\n[[steps]]\nname = \"count\"\nat = \"build\"\nnetwork = \"recorded\"\ncaches = [\"tides\", \"npm\"]\nrun = \"\"\"\n\
             echo found $(cat /tmp/caches/tides/low; echo $npm_config_cache; ls /tmp/caches) round {number}\n\
             cd /tmp/caches/tides && [ -e low ] || wget -q -O low http://files.brindle.example/low.csv\n\
             cp low /srv/counted\n\"\"\"\n"
        )
    };
    team.add(&count(1));
    team.ok(&["lock"]);
    team.ok(&["record"]);
    let said = team.ok(&["build", "--fresh"]);
    assert!(said.contains("image"), "{said}");
    let built = |said: &str| said.lines().find(|line| line.contains("found ")).unwrap_or_default().to_owned();
    team.change("round 1", "round 2");
    team.ok(&["lock"]);
    // Recording sees nothing of it: what it records is whole, and is replayed into an empty one.
    let said = told(&team.run(&["record", "--verbose"]));
    assert!(said.contains("1 request,"), "{said}");
    assert!(said.contains("found /tmp/caches/npm npm tides round 2"), "{said}");
    team.change("round 2", "round 3");
    team.ok(&["lock"]);
    let said = told(&team.run(&["build", "--verbose"]));
    assert!(built(&said).contains("found low,7 /tmp/caches/npm npm tides round 3"), "{said}");
    // Sealing builds once more, without.
    team.ok(&["seal"]);
    assert!(!team.ok(&["run", "-q", "--", "ls", "/tmp"]).contains("caches"));
    team.stop_all();
    // Another project has its own, however alike it is.
    let other = team.dir.path().join("other");
    crate::team::copy(&team.project(), &other.join("timetable"));
    let held = |team: &Team| {
        let held = team.json(&["store", "list", "--json"]);
        let all = held["held"].as_array().or(held.as_array()).cloned().unwrap_or_default();
        all.into_iter().filter(|one| one["kind"] == "cache").count()
    };
    assert_eq!(held(&team), 2);
    let mut command = team.command(&["build", "--verbose", "--fresh"]);
    let said = told(&command.current_dir(other.join("timetable")).output().unwrap());
    assert!(built(&said).contains("found /tmp/caches/npm"), "{said}");
    team.ok(&["store", "collect", "--down-to", "0 B"]);
    assert_eq!(held(&team), 0);
    team.assert_clean();
}
