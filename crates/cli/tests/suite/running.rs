//! A workspace in use: its keeper, services, steps of the start, folders, ports, names, and following a changed spec.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::path::Path;
use std::time::{Duration, Instant};

use crate::inside::{fetch, terminal};
use crate::team::{Team, told};

/// A team whose image is built, with this added to its spec.
pub fn started(more: &str) -> Team {
    let team = Team::new();
    // Other tests listen on that port, too; the next free one is as good.
    team.add(more);
    team.ok(&["lock"]);
    team.ok(&["build", "-q"]);
    team
}

pub fn status(team: &Team) -> serde_json::Value {
    team.json(&["status", "--json"])
}

pub fn port(team: &Team, name: &str) -> u64 {
    let status = status(team);
    let ports = status["status"]["ports"].as_array().unwrap();
    ports.iter().find(|port| port["name"] == name).unwrap_or_else(|| panic!("{name}: {status}"))["outside"]
        .as_u64()
        .unwrap()
}

fn phase(team: &Team, service: &str) -> String {
    let status = status(team);
    let services = status["status"]["services"].as_array().unwrap().clone();
    let found = services.into_iter().find(|one| one["name"] == service);
    found.map_or_else(|| "none".to_owned(), |one| one["phase"].as_str().unwrap().to_owned())
}

/// Waits until something holds.
pub fn soon(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_service_runs_in_the_background_until_the_workspace_is_stopped() {
    let team = started("");
    let started = team.run(&["start", "--wait"]);
    assert!(started.status.success(), "{}", told(&started));
    assert!(told(&started).contains("ready service site") && told(&started).contains("timetable runs, started in"));
    assert!(fetch(port(&team, "site"), "").contains("<td>Curlew</td><td>06:10</td>"));
    // From any directory, by name.
    let shown = team.command(&["status", "--name", "timetable"]).current_dir("/").output().unwrap();
    assert!(told(&shown).contains("ready since"), "{}", told(&shown));
    assert!(team.ok(&["list"]).contains("timetable  "));
    let again = team.run(&["start"]);
    assert!(again.status.success() && told(&again).contains("timetable runs since"));
    team.ok(&["stop"]);
    assert_eq!(status(&team)["standing"], "stopped");
    assert!(told(&team.run(&["stop"])).contains("does not run"));
    team.assert_clean();
}

#[test]
fn a_frozen_workspace_keeps_its_connections_and_takes_no_commands() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let mut open = TcpStream::connect(("127.0.0.1", port(&team, "site") as u16)).unwrap();
    team.ok(&["freeze"]);
    assert_eq!(status(&team)["standing"], "frozen");
    assert!(team.fails(&["run", "--", "true"], 2).contains("cavrith thaw lets it go on"));
    assert!(team.fails(&["freeze"], 0).contains("frozen already"));
    open.write_all(b"GET /news.html HTTP/1.0\r\n\r\n").unwrap();
    open.set_read_timeout(Some(Duration::from_millis(300))).unwrap();
    assert!(open.read(&mut [0; 16]).is_err(), "what is frozen answered");
    team.ok(&["thaw"]);
    open.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let mut page = String::new();
    open.read_to_string(&mut page).unwrap();
    assert!(page.contains("Welcome aboard"), "{page}");
    // And one that is frozen can be stopped.
    team.ok(&["freeze"]);
    team.ok(&["stop"]);
    team.assert_clean();
}

#[test]
fn steps_come_in_order_with_the_services_they_wait_for_and_once_only_where_that_is_meant() {
    let team = started(
        r#"
[[steps]]
name = "once"
at = "first-start"
after = ["store"]
run = "test -e /tmp/store-is-there; echo once >> /code/order; id -un >> /code/order"

[[steps]]
name = "guarded"
at = "first-start"
unless = "true"
run = "echo never >> /code/order"

[[steps]]
name = "each time"
at = "start"
env = { WORD = "tide" }
run = "echo each $WORD >> /code/order; echo said"

[services.store]
run = "sleep 0.2; touch /tmp/store-is-there; sleep 1000"
ready = { file = "/tmp/store-is-there" }

[services.last]
run = ["sh", "-c", "echo last >> /code/order; exec sleep 1000"]
after = ["store", "each time"]
"#,
    );
    let first = team.run(&["start", "--wait"]);
    assert!(first.status.success(), "{}", told(&first));
    assert!(told(&first).contains("step guarded left out: its guard succeeds"));
    let order = || fs::read_to_string(team.project().join("order")).unwrap();
    assert_eq!(order(), "once\ncrew\neach tide\nlast\n");
    team.ok(&["restart", "--wait"]);
    assert_eq!(order(), "once\ncrew\neach tide\nlast\neach tide\nlast\n");
    let logs = team.ok(&["logs", "each time"]);
    assert_eq!(logs.lines().filter(|line| line.ends_with(" said")).count(), 2, "{logs}");
    assert!(team.fails(&["logs", "ecah time"], 2).contains("is each time meant?"));
    assert!(!team.ok(&["logs", "--since", "1 h"]).is_empty());
}

#[test]
fn a_step_that_fails_is_told_remembered_and_carried_out_again_when_it_is_mended() {
    let team = started("[[steps]]\nname = \"fill\"\nat = \"first-start\"\nrun = \"echo so far; exit 3\"\n");
    let started = team.run(&["start", "--wait"]);
    assert_eq!(started.status.code(), Some(5));
    let text = told(&started);
    assert!(text.contains("failed the step \"fill\": exit code 3\n    so far"), "{text}");
    assert!(text.contains("waiting service site: the step \"fill\" failed"), "{text}");
    // It stays up, for looking into it.
    team.ok(&["run", "-q", "--", "true"]);
    assert!(team.fails(&["status"], 1).contains("the step \"fill\": exit code 3"));
    team.ok(&["stop"]);
    assert!(team.ok(&["status"]).contains("the step \"fill\": exit code 3"));
    assert_eq!(team.run(&["start"]).status.code(), Some(5));
    let path = team.project().join("cavrith.toml");
    fs::write(&path, fs::read_to_string(&path).unwrap().replace("exit 3", "exit 0")).unwrap();
    team.ok(&["apply"]);
    assert_eq!(phase(&team, "site"), "ready");
    assert_eq!(status(&team)["status"]["failed_step"], serde_json::Value::Null);
}

#[test]
fn a_service_that_dies_or_never_gets_ready_is_told_with_its_last_lines() {
    let team = started(
        r#"
[services.hasty]
run = "echo cannot find the harbour; exit 7"
restart = "never"

[services.slow]
run = "echo still looking; sleep 1000"
ready = { port = 9, limit = "1 s", every = "50 ms" }

[services.after-slow]
run = "sleep 1000"
after = ["slow"]

[services.stumbles]
run = "echo fell; exit 1"
"#,
    );
    let started = team.run(&["start", "--wait"]);
    assert_eq!(started.status.code(), Some(5));
    let text = told(&started);
    assert!(text.contains("failed service hasty: exit code 7\n    cannot find the harbour"), "{text}");
    assert!(text.contains("failed service slow: not ready after 1 s; it still runs"), "{text}");
    assert!(text.contains("still looking") && text.contains("waiting service after-slow: slow is failed"), "{text}");
    assert!(text.contains("failed service stumbles: exit code 1; started again in"), "{text}");
    assert_eq!(phase(&team, "site"), "ready");
    team.ok(&["run", "-q", "--", "true"]);
    team.ok(&["stop"]);
    team.assert_clean();
}

#[test]
fn a_service_that_is_killed_is_begun_again_and_one_that_will_not_end_is_killed() {
    let team = started(
        r#"
[services.stubborn]
run = "trap '' TERM; echo up; while :; do sleep 0.05; done"
restart = "always"
stop = { grace = "1 s" }
"#,
    );
    team.ok(&["start", "--wait"]);
    team.ok(&["run", "-q", "--", "sh", "-c", "kill -KILL $(pidof httpd)"]);
    soon("it is not started again", || {
        let status = status(&team);
        let site =
            status["status"]["services"].as_array().unwrap().iter().find(|one| one["name"] == "site").cloned().unwrap();
        site["restarts"] == 1 && site["phase"] == "ready"
    });
    let begun = Instant::now();
    team.ok(&["stop"]);
    assert!(begun.elapsed() > Duration::from_millis(900));
    assert!(team.ok(&["logs", "stubborn"]).contains("[cavrith] killed after 1 s"));
    team.assert_clean();
}

#[test]
fn apply_does_the_least_that_is_enough() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    team.ok(&["run", "-q", "--", "touch", "/tmp/still-here"]);
    let keeper = || status(&team)["status"]["keeper"].as_u64().unwrap();
    let (first, site) = (keeper(), port(&team, "site"));
    let path = team.project().join("cavrith.toml");
    let write = |text: &str| fs::write(&path, text).unwrap();
    let spec = fs::read_to_string(&path).unwrap();
    let more = "\n[[ports]]\nname = \"raw\"\ninside = 8081\n\n[services.raw]\nrun = [\"httpd\", \"-f\", \"-p\", \"8081\", \"-h\", \"/code\"]\nready = { port = 8081 }\n\n[names]\n\"timetable.test\" = \"site\"\n";
    write(&format!("{spec}{more}"));
    let shown = team.ok(&["status"]);
    assert!(
        shown.contains("service raw          applied live") && shown.contains("run cavrith apply to apply them"),
        "{shown}"
    );
    assert!(told(&team.run(&["run", "--", "true"])).contains("the spec has changed since timetable was started"));
    let applied = team.run(&["apply"]);
    assert!(applied.status.success(), "{}", told(&applied));
    assert!(told(&applied).contains("is up to date: changes applied in "), "{}", told(&applied));
    assert!(fetch(port(&team, "raw"), "sailings.csv").contains("Outer Skerry"));
    assert_eq!((keeper(), port(&team, "site")), (first, site));
    assert!(team.ok(&["run", "-q", "--", "cat", "/etc/hosts"]).contains("timetable.test"));
    // A variable: at once for new commands, and services are started again, since they see it too.
    write(&format!("{spec}{more}").replace("[env]", "[env]\nTIDE = \"high\""));
    let applied = team.run(&["apply"]);
    assert!(told(&applied).contains("variable TIDE"), "{}", told(&applied));
    assert!(told(&applied).contains("services restarted in "), "{}", told(&applied));
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "echo $TIDE; ls /tmp/still-here"]), "high\n/tmp/still-here\n");
    assert_eq!(keeper(), first);
    assert!(told(&team.run(&["apply"])).contains("nothing to do"));
    // A block in the hosts file that was written before stays as it is, which is reported.
    let hosts = team.dir.path().join("hosts");
    fs::write(&hosts, "127.0.0.1 localhost\n").unwrap();
    team.ok(&["names", "--apply", "--file", hosts.to_str().unwrap()]);
    write(&format!("{spec}{more}").replace("[env]", "[env]\nTIDE = \"high\"").replace("timetable.test", "tides.test"));
    let applied = team.command(&["apply"]).env("CAVRITH_HOSTS", &hosts).output().unwrap();
    assert!(told(&applied).contains("cavrith names --apply brings them up to date"), "{}", told(&applied));
    // A port that cannot be had is reported, and the rest is done.
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let number = taken.local_addr().unwrap().port();
    let exact = format!("\n[[ports]]\nname = \"log\"\ninside = 8082\noutside = {number}\nexact = true\n");
    write(&format!("{spec}{exact}"));
    let refused = team.fails(&["apply"], 5);
    assert!(refused.contains(&format!("the port {number} for `log` is taken")), "{refused}");
    assert_eq!((keeper(), phase(&team, "raw")), (first, "none".to_owned()));
    assert!(team.ok(&["status"]).contains("log: not carried"));
    // One that need not be that one moves aside, which is reported.
    write(&format!("{spec}{exact}").replace("\nexact = true", ""));
    let moved = told(&team.run(&["apply"]));
    assert!(moved.contains(&format!("the port {number} of log is taken by another program; it is at ")), "{moved}");
    assert_ne!(port(&team, "log"), u64::from(number));
    write(&format!("{spec}{exact}"));
    drop(taken);
    team.ok(&["apply"]);
    assert_eq!(port(&team, "log"), u64::from(number));
    // Another image: built, and what would be lost is reported before anything is done.
    team.ok(&["run", "-q", "--", "touch", "/home/crew/notes"]);
    team.ok(&["run", "-q", "--account", "root", "--", "touch", "/srv/notes"]);
    write(&format!("{spec}\n[[steps]]\nname = \"more\"\nat = \"build\"\nrun = \"touch /srv/more\"\n"));
    assert!(team.ok(&["status"]).contains("image build"));
    let refused = team.fails(&["apply"], 1);
    assert!(refused.contains("/srv/notes") && refused.contains("write --fresh"), "{refused}");
    // The home goes along in any case.
    assert!(!refused.contains("/home/crew") && !refused.contains("in the home"), "{refused}");
    assert_eq!(keeper(), first);
    team.ok(&["apply", "--fresh"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "ls /srv/*o*; ls /home/crew"]), "/srv/more\nnotes\n");
    assert_ne!(keeper(), first);
}

#[test]
fn a_spec_with_a_mistake_is_told_and_changes_nothing_that_runs() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    fs::write(&path, spec.replace("inside = 8080", "inside = \"8080\"")).unwrap();
    assert!(team.ok(&["status"]).contains("cavrith check tells more"));
    team.fails(&["apply"], 1);
    assert_eq!(phase(&team, "site"), "ready");
}

#[test]
fn several_workspaces_of_one_project_have_names_and_ports_of_their_own() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    team.ok(&["start", "--wait", "--name", "second"]);
    team.ok(&["run", "-q", "--name", "second", "--", "touch", "/home/crew/only-second"]);
    assert_eq!(team.ok(&["run", "-q", "--", "ls", "/home/crew"]), "");
    let listed = team.json(&["list", "--json"]);
    let all = listed["workspaces"].as_array().unwrap();
    assert_eq!(all.iter().map(|one| one["name"].as_str().unwrap()).collect::<Vec<_>>(), ["second", "timetable"]);
    assert_ne!(all[0]["ports"], all[1]["ports"]);
    // Both listen on the same port inside.
    for workspace in all {
        let port = workspace["ports"][0].as_str().unwrap().strip_prefix("site:").unwrap().parse().unwrap();
        assert!(fetch(port, "").contains("Curlew"));
    }
    let elsewhere = team.command(&["status", "-n", "thrid"]).current_dir("/").output().unwrap();
    assert_eq!(elsewhere.status.code(), Some(2));
    assert!(told(&elsewhere).contains("there is no workspace thrid; the workspaces here are second, timetable"));
    assert!(team.fails(&["start", "--name", "../second"], 2).contains("lower-case letters, digits and -"));
    team.ok(&["drop", "--yes", "--name", "second"]);
    assert_eq!(team.json(&["list", "--json"])["workspaces"].as_array().unwrap().len(), 1);
}

#[test]
fn limits_hold_or_it_is_said_how_far() {
    let team = started("[limits]\nmemory = \"64 MiB\"\ncpus = 1\nprocesses = 40\n");
    let shown = || team.ok(&["status"]);
    team.ok(&["start"]);
    assert!(shown().contains("64 MiB of memory, ") && shown().contains("40 processes, "), "{}", shown());
    let greedy =
        "tail -c 200m /dev/zero | sleep 1; true & x=$(head -c 200000000 /dev/zero | tr '\\0' a); echo got ${#x}";
    let output = team.run(&["run", "-q", "--", "sh", "-c", greedy]);
    assert!(!told(&output).contains("got 200000000"), "{}", told(&output));
    let many = "i=0; while [ $i -lt 60 ]; do sleep 5 & i=$((i+1)); done 2>&1; wait";
    let output = team.run(&["run", "-q", "--", "sh", "-c", many]);
    assert!(told(&output).contains("can't fork"), "{}", told(&output));
    team.ok(&["run", "-q", "--", "true"]);
}

#[test]
fn a_keeper_of_another_version_is_told_apart() {
    let team = started("");
    team.ok(&["start"]);
    let dir = fs::read_dir(team.home().join("workspaces")).unwrap().next().unwrap().unwrap().path();
    let mut stream = std::os::unix::net::UnixStream::connect(dir.join("door")).unwrap();
    let request = br#"{"protocol":7,"request":"Status"}"#;
    stream.write_all(&(request.len() as u32).to_le_bytes()).unwrap();
    stream.write_all(request).unwrap();
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer).unwrap();
    assert!(String::from_utf8_lossy(&answer).contains("OtherProtocol"), "{answer:?}");
    // Nonsense ends only its own connection.
    for nonsense in [&b"\xff\xff\xff\xff"[..], b"\x04\0\0\0oops", b"\x02\0\0\0{}"] {
        let mut stream = std::os::unix::net::UnixStream::connect(dir.join("door")).unwrap();
        stream.write_all(nonsense).unwrap();
    }
    team.ok(&["run", "-q", "--", "true"]);
}

#[test]
fn a_keeper_whose_directory_was_removed_ends_by_itself() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let keeper = status(&team)["status"]["keeper"].as_u64().unwrap();
    fs::remove_dir_all(team.home().join("workspaces")).unwrap();
    soon("it goes on", || !Path::new(&format!("/proc/{keeper}")).exists());
    assert!(fs::read_dir(team.staging()).unwrap().next().is_none());
}

#[test]
fn a_restarted_machine_is_recognised() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let keeper = status(&team)["status"]["keeper"].as_i64().unwrap();
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(keeper as i32), nix::sys::signal::Signal::SIGKILL).unwrap();
    let dir = fs::read_dir(team.home().join("workspaces")).unwrap().next().unwrap().unwrap().path();
    let record = dir.join("record");
    let boot = fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap();
    soon("the keeper lives", || !Path::new(&format!("/proc/{keeper}")).exists());
    assert!(team.ok(&["status"]).contains("its keeper was killed"));
    let text = fs::read_to_string(&record).unwrap();
    fs::write(&record, text.replace(boot.trim(), "another")).unwrap();
    assert!(team.ok(&["status"]).contains("the machine was restarted"));
    team.ok(&["start", "--wait"]);
    assert_eq!(phase(&team, "site"), "ready");
}

#[test]
fn a_stop_in_the_middle_of_a_start_is_no_failure_and_what_is_over_is_enough_for_others() {
    let team = started(
        r#"
[[steps]]
name = "slow"
at = "start"
unless = "test -e /code/quick"
run = "echo begun > /code/begun; sleep 1000"

[services.prepare]
run = "echo prepared"
restart = "never"

[services.prepared]
run = "exec sleep 1000"
after = ["prepare"]
"#,
    );
    let mut start = team.command(&["start", "-q"]).spawn().unwrap();
    soon("the step never began", || team.project().join("begun").exists());
    assert_eq!(status(&team)["standing"], "starting");
    team.ok(&["stop"]);
    assert!(!start.wait().unwrap().success());
    assert_eq!(status(&team)["failed_step"], serde_json::Value::Null);
    fs::write(team.project().join("quick"), "").unwrap();
    team.ok(&["start", "--wait"]);
    assert_eq!((phase(&team, "prepare"), phase(&team, "prepared")), ("over".to_owned(), "ready".to_owned()));
    team.ok(&["stop"]);
    team.assert_clean();
}

#[test]
fn a_list_on_a_narrow_terminal_gives_what_is_long_lines_of_its_own() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    // Piped, it is a table whatever the terminal is.
    let table = team.ok(&["list"]);
    assert!(table.lines().count() == 2 && table.contains("  ports") && table.contains(" site:"));
    let (outer, inner) = terminal(20, 50);
    let mut command = team.command(&["list"]);
    command.env("NO_COLOR", "1").stdout(inner.try_clone().unwrap()).stderr(inner);
    assert!(command.status().unwrap().success());
    drop(command);
    let mut shown = Vec::new();
    // A terminal whose other end is closed ends with an error.
    let _ = fs::File::from(outer).read_to_end(&mut shown);
    let shown = String::from_utf8(shown).unwrap();
    let lines: Vec<_> = shown.lines().map(str::trim_end).collect();
    assert_eq!(lines.len(), 4, "{shown}");
    assert!(lines[2].starts_with("  ports    site:") && lines[3].starts_with("  project  /"), "{shown}");
    assert!(lines[..3].iter().all(|line| line.chars().count() <= 50), "{shown}");
}
