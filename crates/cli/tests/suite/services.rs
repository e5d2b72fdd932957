//! What counts as a service that runs: it alone, and everything of it.

use std::fs;

use crate::running::{soon, started, status};
use crate::team::{Team, told};

/// How a service stands, and what is said of it.
fn service(team: &Team, name: &str) -> (String, String) {
    let status = status(team);
    let services = status["status"]["services"].as_array().unwrap();
    let found = services.iter().find(|one| one["name"] == name).unwrap_or_else(|| panic!("{name}: {status}"));
    (found["phase"].as_str().unwrap().to_owned(), found["detail"].as_str().unwrap().to_owned())
}

/// How many programs of this name run inside.
fn running(team: &Team, name: &str) -> usize {
    let output = team.run(&["run", "-q", "--", "sh", "-c", &format!("pidof {name}")]);
    String::from_utf8_lossy(&output.stdout).split_whitespace().count()
}

#[test]
fn everything_that_a_service_started_ends_with_it() {
    // Children that left its session, its environment and their parents.
    let team = started(
        "[services.lamp]\nrun = \"(env -i setsid /bin/sleep 3177 &); (trap '' TERM HUP; sh -c 'while :; do /bin/sleep 3178; done' &); exec httpd -f -p 8123 -h /srv\"\nready = { port = 8123 }\n",
    );
    team.ok(&["start", "--wait"]);
    soon("its children do not start", || running(&team, "sleep") == 2);
    team.ok(&[
        "run",
        "-q",
        "--",
        "sh",
        "-c",
        "kill -KILL $(pidof httpd | tr ' ' '\\n' | while read p; do grep -q 8123 /proc/$p/cmdline && echo $p; done)",
    ]);
    soon("it is not started again", || {
        let lamp = status(&team)["status"]["services"][0].clone();
        lamp["restarts"] == 1 && lamp["phase"] == "ready"
    });
    assert_eq!(running(&team, "sleep"), 2, "what it left lives on");
    team.ok(&["stop"]);
    team.assert_clean();
}

#[test]
fn a_service_that_goes_into_the_background_has_failed_and_nothing_of_it_is_left() {
    let team = started(
        "[services.lamp]\nrun = \"httpd -p 8124 -h /srv\"\nready = { port = 8124 }\nrestart = \"never\"\n[services.bell]\nrun = \"httpd -p 8125 -h /srv\"\nrestart = \"never\"\n",
    );
    let output = team.run(&["start", "--wait"]);
    assert_eq!(output.status.code(), Some(5), "{}", told(&output));
    for name in ["lamp", "bell"] {
        let (phase, detail) = service(&team, name);
        assert_eq!(phase, "failed", "{detail}");
        assert!(detail.contains("it went into the background; a service stays in the foreground"), "{detail}");
    }
    // The status tells it too.
    assert_eq!(team.run(&["status"]).status.code(), Some(1));
    assert_eq!(team.run(&["status", "--json"]).status.code(), Some(1));
    let page = team.run(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://127.0.0.1:8125/"]);
    assert!(!page.status.success(), "it still answers");
}

#[test]
fn a_port_that_somebody_else_has_makes_no_service_ready() {
    let team = started(
        "[services.first]\nrun = \"exec httpd -f -p 8126 -h /srv\"\nready = { port = 8126 }\n[services.second]\nafter = [\"first\"]\nrun = \"exec sleep 3179\"\nready = { port = 8126, limit = \"1 s\" }\n",
    );
    team.run(&["start", "--wait"]);
    assert_eq!(service(&team, "first").0, "ready");
    let (phase, detail) = service(&team, "second");
    assert_eq!(phase, "failed");
    assert!(detail.contains("httpd has the port 8126, which is not of this service"), "{detail}");
}

#[test]
fn a_file_of_an_earlier_run_makes_no_service_ready() {
    let team = started(
        "[[folders]]\nmode = \"kept\"\nname = \"mark\"\ninside = \"/srv/mark\"\n[services.lamp]\nrun = \"if [ ! -e /srv/mark/dark ]; then echo lit > /srv/mark/lit; fi; exec sleep 3180\"\nready = { file = \"/srv/mark/lit\", limit = \"1 s\" }\n",
    );
    team.ok(&["start", "--wait"]);
    assert_eq!(service(&team, "lamp").0, "ready");
    team.ok(&["run", "-q", "--", "touch", "/srv/mark/dark"]);
    team.ok(&["stop"]);
    team.run(&["start", "--wait"]);
    let (phase, detail) = service(&team, "lamp");
    assert_eq!(phase, "failed");
    assert!(detail.contains("/srv/mark/lit is from before it was begun"), "{detail}");
}

#[test]
fn a_service_that_does_not_end_is_killed_with_its_children() {
    let team = started(
        "[services.lamp]\nrun = \"trap '' TERM; while :; do /bin/sleep 3181; done\"\nstop = { grace = \"1 s\" }\n",
    );
    team.ok(&["start", "--wait"]);
    let begun = std::time::Instant::now();
    team.ok(&["stop"]);
    assert!(begun.elapsed() < std::time::Duration::from_secs(8));
    let left = fs::read_dir("/proc")
        .unwrap()
        .flatten()
        .filter(|entry| fs::read(entry.path().join("cmdline")).is_ok_and(|line| line == b"/bin/sleep\x003181\0"));
    assert_eq!(left.count(), 0);
}

#[test]
fn a_thousand_ports_are_carried_by_one_thread() {
    let team = started("");
    team.change("inside = 8080", "inside = 20000\ncount = 1000\noutside = 21000");
    team.run(&["lock"]);
    team.run(&["start"]);
    let keeper = status(&team)["status"]["keeper"].as_u64().unwrap();
    let threads = fs::read_dir(format!("/proc/{keeper}/task")).unwrap().count();
    assert!(threads < 40, "{threads} threads");
    team.ok(&["stop", "-q"]);
}

#[test]
fn a_freeze_while_it_stops_keeps_nothing_from_ending() {
    let team = started("");
    for round in 0..6u64 {
        team.ok(&["start", "--wait", "-q"]);
        let mut stop = team.command(&["stop", "-q"]).spawn().unwrap();
        std::thread::sleep(std::time::Duration::from_millis(round * 7));
        let frozen = team.run(&["freeze", "-q"]);
        assert!(!told(&frozen).contains("panicked"), "{}", told(&frozen));
        let begun = std::time::Instant::now();
        stop.wait().unwrap();
        assert!(begun.elapsed() < std::time::Duration::from_secs(12), "round {round}: {:?}", begun.elapsed());
        team.run(&["stop", "-q"]);
    }
    team.assert_clean();
}

#[test]
fn watchers_that_left_keep_no_thread() {
    let team =
        started("[services.never]\nrun = [\"sleep\", \"3600\"]\nready = { file = \"/never\", limit = \"600 s\" }\n");
    team.ok(&["start", "-q"]);
    let keeper = status(&team)["status"]["keeper"].as_u64().unwrap();
    let threads = || fs::read_dir(format!("/proc/{keeper}/task")).unwrap().count();
    let before = threads();
    let watch = || team.command(&["start", "--wait"]).stderr(std::process::Stdio::null()).spawn().unwrap();
    let mut watchers: Vec<_> = (0..12).map(|_| watch()).collect();
    soon("all watch", || threads() >= before + 8);
    for watcher in &mut watchers {
        watcher.kill().unwrap();
        watcher.wait().unwrap();
    }
    soon("all are gone", || threads() <= before + 2);
    team.ok(&["stop", "-q"]);
}
