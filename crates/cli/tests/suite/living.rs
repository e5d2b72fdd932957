//! A workspace in use: its keeper, services, steps of the start, folders, ports, names, and following a changed spec.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{TcpStream, UdpSocket};
use std::path::Path;
use std::process::Stdio;
use std::time::{Duration, Instant};

use crate::inside::fetch;
use crate::team::{Team, told};

/// A team whose image is built, with this added to its spec.
fn living(more: &str) -> Team {
    let team = Team::new();
    // Other tests listen on that port, too; the next free one is as good.
    team.add(more);
    team.ok(&["lock"]);
    team.ok(&["build", "-q"]);
    team
}

fn status(team: &Team) -> serde_json::Value {
    team.json(&["status", "--json"])
}

fn port(team: &Team, name: &str) -> u64 {
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

/// Compiles what busybox lacks into the project, which is live inside.
fn helper(team: &Team) {
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/helper.c");
    let output = std::process::Command::new("cc")
        .args(["-static", "-o", "helper", source])
        .current_dir(team.project())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", told(&output));
}

fn soon(what: &str, mut holds: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !holds() {
        assert!(begun.elapsed() < Duration::from_secs(20), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

#[test]
fn a_service_runs_in_the_background_until_the_workspace_is_stopped() {
    let team = living("");
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
    let team = living("");
    team.ok(&["start", "--wait"]);
    let mut open = TcpStream::connect(("127.0.0.1", port(&team, "site") as u16)).unwrap();
    team.ok(&["freeze"]);
    assert_eq!(status(&team)["standing"], "frozen");
    assert!(team.fails(&["run", "--", "true"], 3).contains("cavrith thaw lets it go on"));
    assert!(team.fails(&["freeze"], 3).contains("frozen already"));
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
    let team = living(
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
    let team = living("[[steps]]\nname = \"fill\"\nat = \"first-start\"\nrun = \"echo so far; exit 3\"\n");
    let started = team.run(&["start", "--wait"]);
    assert_eq!(started.status.code(), Some(5));
    let text = told(&started);
    assert!(text.contains("failed the step \"fill\": exit code 3\n    so far"), "{text}");
    assert!(text.contains("waiting service site: the step \"fill\" failed"), "{text}");
    // It stays up, for looking into it.
    team.ok(&["run", "-q", "--", "true"]);
    assert!(team.ok(&["status"]).contains("the step \"fill\": exit code 3"));
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
    let team = living(
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
    assert!(text.contains("failed service stumbles: exit code 1; begun again in"), "{text}");
    assert_eq!(phase(&team, "site"), "ready");
    team.ok(&["run", "-q", "--", "true"]);
    team.ok(&["stop"]);
    team.assert_clean();
}

#[test]
fn a_service_that_is_killed_is_begun_again_and_one_that_will_not_end_is_killed() {
    let team = living(
        r#"
[services.stubborn]
run = "trap '' TERM; echo up; while :; do sleep 0.05; done"
restart = "always"
stop = { grace = "1 s" }
"#,
    );
    team.ok(&["start", "--wait"]);
    team.ok(&["run", "-q", "--", "sh", "-c", "kill -KILL $(pidof httpd)"]);
    soon("it is not begun again", || {
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
    let team = living("");
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
        shown.contains("service raw          applied live") && shown.contains("cavrith apply brings it about"),
        "{shown}"
    );
    assert!(told(&team.run(&["run", "--", "true"])).contains("the spec has changed since timetable was started"));
    let applied = team.run(&["apply"]);
    assert!(applied.status.success(), "{}", told(&applied));
    assert!(told(&applied).contains("follows the spec, by applied live"), "{}", told(&applied));
    assert!(fetch(port(&team, "raw"), "sailings.csv").contains("Outer Skerry"));
    assert_eq!((keeper(), port(&team, "site")), (first, site));
    assert!(team.ok(&["run", "-q", "--", "cat", "/etc/hosts"]).contains("timetable.test"));
    // A variable: at once for new commands, and services are begun again, since they see it too.
    write(&format!("{spec}{more}").replace("[env]", "[env]\nTIDE = \"high\""));
    let applied = team.run(&["apply"]);
    assert!(told(&applied).contains("variable TIDE"), "{}", told(&applied));
    assert!(told(&applied).contains("by service restart"), "{}", told(&applied));
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "echo $TIDE; ls /tmp/still-here"]), "high\n/tmp/still-here\n");
    assert_eq!(keeper(), first);
    assert!(told(&team.run(&["apply"])).contains("nothing to do"));
    // Another image: built, and what would be lost is told before anything is done.
    team.ok(&["run", "-q", "--", "touch", "/home/crew/notes"]);
    write(&format!("{spec}\n[[steps]]\nname = \"more\"\nat = \"build\"\nrun = \"touch /srv/more\"\n"));
    assert!(team.ok(&["status"]).contains("image build"));
    let refused = team.fails(&["apply"], 1);
    assert!(refused.contains("/home/crew/notes") && refused.contains("write --fresh"), "{refused}");
    assert_eq!(keeper(), first);
    team.ok(&["apply", "--fresh"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "ls /srv/more; ls /home/crew"]), "/srv/more\n");
    assert_ne!(keeper(), first);
    assert_eq!(phase(&team, "raw"), "none");
}

#[test]
fn a_spec_with_a_mistake_is_told_and_changes_nothing_that_runs() {
    let team = living("");
    team.ok(&["start", "--wait"]);
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    fs::write(&path, spec.replace("inside = 8080", "inside = \"8080\"")).unwrap();
    assert!(team.ok(&["status"]).contains("cavrith check tells more"));
    team.fails(&["apply"], 1);
    assert_eq!(phase(&team, "site"), "ready");
}

#[test]
fn kept_folders_survive_and_go_into_a_file_and_back() {
    let team = living(
        "[[folders]]\nmode = \"kept\"\nname = \"tables\"\ninside = \"/srv/tables\"\n\n[[folders]]\nmode = \"kept\"\nname = \"modules\"\ninside = \"/code/modules\"\n",
    );
    team.ok(&["run", "-q", "--", "sh", "-c", "echo high > /srv/tables/tide; ln -s tide /srv/tables/now; echo m > /code/modules/m; stat -c %U /srv/tables /code/modules"]);
    // The one in the project's folder does not cross the wall.
    assert_eq!(fs::read_dir(team.project().join("modules")).unwrap().count(), 0);
    assert!(team.ok(&["folder", "list"]).contains("tables  of timetable  2 entries"));
    assert!(team.ok(&["folder", "show", "tables"]).contains("tide"));
    assert!(team.fails(&["folder", "show", "tables", "../.."], 2).contains("leads out of the folder"));
    let file = team.dir.path().join("tables.tar.zst");
    let file = file.to_str().unwrap();
    assert!(team.fails(&["folder", "backup", "tables", file], 3).contains("stop it first"));
    assert!(team.fails(&["folder", "restore", "tables", file], 3).contains("stop it first"));
    team.ok(&["stop"]);
    team.ok(&["folder", "backup", "tables", file]);
    team.ok(&["start"]);
    team.ok(&["run", "-q", "--", "rm", "/srv/tables/tide"]);
    let dropped = team.run(&["drop", "--yes"]);
    assert!(told(&dropped).contains("kept      the folder tables"), "{}", told(&dropped));
    assert!(team.fails(&["folder", "restore", "tables", file], 2).contains("write --yes"));
    team.ok(&["folder", "restore", "tables", file, "--yes"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "cat /srv/tables/now; cat /code/modules/m"]), "high\nm\n");
    team.ok(&["stop"]);
    // A file that is no backup changes nothing.
    fs::write(file, "letters").unwrap();
    team.fails(&["folder", "restore", "tables", file, "--yes"], 2);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/tables/now"]), "high\n");
    assert!(team.fails(&["folder", "backup", "tabels", file], 2).contains("no kept folder tabels"));
}

/// An archive with one entry, compressed as a backup is.
fn archive(file: &Path, name: &str, kind: tar::EntryType, link: &str) {
    let mut builder = tar::Builder::new(zstd::Encoder::new(fs::File::create(file).unwrap(), 1).unwrap());
    let mut top = tar::Header::new_gnu();
    top.set_entry_type(tar::EntryType::Directory);
    top.set_mode(0o755);
    top.set_size(0);
    builder.append_data(&mut top, "folder/", std::io::empty()).unwrap();
    for (name, kind, link) in [("folder/out", tar::EntryType::Symlink, "/tmp"), (name, kind, link)] {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(0o644);
        header.set_size(0);
        header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
        if !link.is_empty() {
            header.set_link_name(link).unwrap();
        }
        header.set_cksum();
        builder.append(&header, std::io::empty()).unwrap();
    }
    builder.into_inner().unwrap().finish().unwrap();
}

#[test]
fn a_hostile_backup_does_not_leave_its_folder() {
    let team = living("[[folders]]\nmode = \"kept\"\nname = \"tables\"\ninside = \"/srv/tables\"\n");
    let file = team.dir.path().join("hostile.tar.zst");
    let target = format!("cavrith-hostile-{}", std::process::id());
    for (name, kind, link) in [
        (format!("folder/../../{target}"), tar::EntryType::Regular, ""),
        (format!("/tmp/{target}"), tar::EntryType::Regular, ""),
        (format!("folder/out/{target}"), tar::EntryType::Regular, ""),
        (format!("folder/out/{target}"), tar::EntryType::Directory, ""),
        ("folder/device".to_owned(), tar::EntryType::Char, ""),
        ("folder/link".to_owned(), tar::EntryType::Link, "/etc/passwd"),
    ] {
        archive(&file, &name, kind, link);
        let output = team.run(&["folder", "restore", "tables", file.to_str().unwrap(), "--yes"]);
        assert!(!output.status.success(), "{name}: {}", told(&output));
        assert!(!Path::new("/tmp").join(&target).exists(), "{name} came out");
    }
}

#[test]
fn files_are_copied_in_and_out_of_a_workspace_that_runs_or_not() {
    let team = living("");
    let outside = team.dir.path().join("chart");
    fs::create_dir_all(outside.join("deep")).unwrap();
    fs::write(outside.join("deep/sound"), "seven fathoms").unwrap();
    std::os::unix::fs::symlink("deep/sound", outside.join("link")).unwrap();
    let source = outside.to_str().unwrap();
    team.ok(&["copy", "in", source, "/home/crew"]);
    assert!(status(&team)["status"].is_null(), "it runs on");
    let look = "cat /home/crew/chart/link; stat -c %U /home/crew/chart/deep/sound";
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", look]), "seven fathomscrew\n");
    team.ok(&["copy", "in", &format!("{source}/deep/sound"), "/home/crew/renamed"]);
    let back = team.dir.path().join("back");
    team.ok(&["copy", "out", "/home/crew/chart", back.to_str().unwrap()]);
    assert_eq!(fs::read_to_string(back.join("link")).unwrap(), "seven fathoms");
    team.ok(&["copy", "out", "/home/crew/renamed", team.dir.path().to_str().unwrap()]);
    assert_eq!(fs::read_to_string(team.dir.path().join("renamed")).unwrap(), "seven fathoms");
    assert!(team.fails(&["copy", "in", source, "/etc"], 3).contains("Permission denied"));
    assert!(team.fails(&["copy", "out", "/nothing", "."], 3).contains("cannot read /nothing"));
    team.ok(&["copy", "in", source, "/srv", "--account", "root"]);
}

#[test]
fn several_workspaces_of_one_project_have_names_and_ports_of_their_own() {
    let team = living("");
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
    assert!(told(&elsewhere).contains("there is no workspace thrid; there are second, timetable"));
    team.ok(&["drop", "--yes", "--name", "second"]);
    assert_eq!(team.json(&["list", "--json"])["workspaces"].as_array().unwrap().len(), 1);
}

#[test]
fn datagrams_rows_of_ports_and_undeclared_ones() {
    let team = living(
        r#"
[[ports]]
name = "buoy"
inside = 7007
protocol = "udp"

[[ports]]
name = "row"
inside = 7100
count = 3

[services.row]
run = ["httpd", "-f", "-p", "7102", "-h", "/code"]
ready = { port = 7102 }

[services.stray]
run = ["httpd", "-f", "-p", "7999", "-h", "/code"]
ready = { port = 7999 }

[services.buoy]
run = ["/code/helper", "echo", "7007"]
"#,
    );
    helper(&team);
    team.ok(&["start", "--wait"]);
    assert!(fetch(port(&team, "row") + 2, "news.html").contains("Welcome aboard"));
    let shown = team.ok(&["status"]);
    assert!(shown.contains("undeclared 7999: httpd listens inside"), "{shown}");
    assert!(shown.contains("name = \"httpd\", inside = 7999"), "{shown}");
    assert!(!shown.contains("undeclared 7102"), "{shown}");
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
    let to = ("127.0.0.1", port(&team, "buoy") as u16);
    soon("no datagram comes back", || {
        socket.send_to(b"ahoy\n", to).unwrap();
        let mut buffer = [0; 64];
        matches!(socket.recv(&mut buffer), Ok(length) if &buffer[..length] == b"ahoy\n")
    });
}

#[test]
fn names_are_kept_in_one_block_and_taken_out_when_the_workspace_is_dropped() {
    let team = living("[names]\n\"timetable.test\" = \"site\"\n\"tides.test\" = \"site\"\n");
    let hosts = team.dir.path().join("hosts");
    fs::write(&hosts, "127.0.0.1 localhost\n").unwrap();
    let run = |arguments: &[&str]| team.command(arguments).env("CAVRITH_HOSTS", &hosts).output().unwrap();
    assert!(told(&run(&["names"])).contains("127.0.0.1\ttides.test\n::1\ttides.test\n127.0.0.1\ttimetable.test"));
    assert_eq!(fs::read_to_string(&hosts).unwrap(), "127.0.0.1 localhost\n");
    assert!(told(&run(&["names", "--apply"])).contains("brought up to date"));
    assert!(told(&run(&["names", "--apply"])).contains("up to date already"));
    assert_eq!(fs::read_to_string(&hosts).unwrap().matches("timetable.test").count(), 2);
    // Inside they resolve at once, like those of the services.
    team.ok(&["start", "--wait"]);
    assert!(
        team.ok(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://tides.test:8080/news.html"]).contains("aboard")
    );
    assert!(team.ok(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://site:8080/news.html"]).contains("aboard"));
    assert!(run(&["drop", "--yes"]).status.success());
    assert_eq!(fs::read_to_string(&hosts).unwrap(), "127.0.0.1 localhost\n");
    assert!(told(&run(&["names", "--apply", "--file", "/no/such/hosts"])).contains("cannot be changed"));
}

#[test]
fn a_workspace_without_a_network_has_its_loopback_only() {
    let team = living("");
    team.change("project = \"/code\"", "project = \"/code\"\nnetwork = \"none\"");
    let devices = team.ok(&["run", "-q", "--", "ls", "/sys/class/net"]);
    assert_eq!(devices.trim(), "lo");
    assert_eq!(status(&team)["status"]["network"], "none");
}

#[test]
fn limits_hold_or_it_is_said_how_far() {
    let team = living("[limits]\nmemory = \"64 MiB\"\ncpus = 1\nprocesses = 40\n");
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
fn a_change_outside_is_noticed_inside_by_who_watches_for_it() {
    let team = living("");
    team.ok(&["start"]);
    helper(&team);
    let mut child = team
        .command(&["run", "-q", "--", "/code/helper", "watch", "/code"])
        .stdout(Stdio::piped())
        .stdin(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    assert_eq!(lines.next().unwrap().unwrap(), "watching");
    fs::write(team.project().join("news.html"), "<p>Fog.</p>\n").unwrap();
    assert_eq!(lines.next().unwrap().unwrap(), "news.html");
    assert!(child.wait().unwrap().success());
}

#[test]
fn a_keeper_of_another_version_is_told_apart() {
    let team = living("");
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
    let team = living("");
    team.ok(&["start", "--wait"]);
    let keeper = status(&team)["status"]["keeper"].as_u64().unwrap();
    fs::remove_dir_all(team.home().join("workspaces")).unwrap();
    soon("it goes on", || !Path::new(&format!("/proc/{keeper}")).exists());
    assert!(fs::read_dir(team.staging()).unwrap().next().is_none());
}

#[test]
fn a_restarted_machine_is_recognised() {
    let team = living("");
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
fn a_site_is_reached_by_both_protocols_and_opened_where_there_is_a_desktop() {
    use std::os::unix::fs::PermissionsExt as _;
    let team = living("");
    team.change("inside = 8080", "inside = 8080\nopen = true");
    let programs = team.dir.path().join("programs");
    fs::create_dir(&programs).unwrap();
    let opened = team.dir.path().join("opened");
    let script = format!("#!/bin/sh\necho \"$@\" > {}.new; mv {0}.new {0}\n", opened.display());
    fs::write(programs.join("xdg-open"), script).unwrap();
    fs::set_permissions(programs.join("xdg-open"), fs::Permissions::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap());
    let start = || {
        let mut command = team.command(&["start", "--wait"]);
        command.env("PATH", &path).env_remove("WAYLAND_DISPLAY").env_remove("DISPLAY");
        command
    };
    // Without a desktop it is only said.
    let said = start().output().unwrap();
    let url = format!("http://localhost:{}/", port(&team, "site"));
    assert!(told(&said).contains(&format!("site is at {url}")), "{}", told(&said));
    team.ok(&["stop"]);
    assert!(!opened.exists());
    assert!(start().env("DISPLAY", ":0").status().unwrap().success());
    soon("nothing was opened", || opened.exists());
    assert!(fs::read_to_string(&opened).unwrap().starts_with("http://localhost:"));
    let mut stream = TcpStream::connect(("::1", port(&team, "site") as u16)).unwrap();
    stream.write_all(b"GET /news.html HTTP/1.0\r\n\r\n").unwrap();
    let mut page = String::new();
    stream.read_to_string(&mut page).unwrap();
    assert!(page.contains("Welcome aboard"));
}

#[test]
fn a_port_is_bound_to_the_address_that_the_spec_names_and_no_other() {
    let team = living("");
    team.change("inside = 8080", "inside = 8080\nbind = \"127.0.0.2\"");
    team.ok(&["start", "--wait"]);
    let number = port(&team, "site") as u16;
    assert!(TcpStream::connect(("127.0.0.2", number)).is_ok());
    assert!(TcpStream::connect(("::1", number)).is_err());
    team.ok(&["stop"]);
    team.change("127.0.0.2", "192.0.2.77");
    assert!(told(&team.run(&["check"])).contains("CV0145"));
    let refused = team.fails(&["start"], 3);
    assert!(refused.contains("at 192.0.2.77 for `site` cannot be listened on"), "{refused}");
    team.assert_clean();
}

#[test]
fn a_thousand_connections_are_carried_at_once() {
    let team = living("");
    team.ok(&["start", "--wait"]);
    let number = port(&team, "site") as u16;
    let open: Vec<_> = (0..1000).map(|_| TcpStream::connect(("127.0.0.1", number)).unwrap()).collect();
    // Each is answered, while all are open.
    for (number, mut stream) in open.iter().enumerate().rev() {
        stream.set_read_timeout(Some(Duration::from_secs(30))).unwrap();
        stream.write_all(b"GET /news.html HTTP/1.0\r\n\r\n").unwrap();
        let mut page = String::new();
        stream.read_to_string(&mut page).unwrap();
        assert!(page.contains("Welcome aboard"), "connection {number}: {page}");
    }
}
