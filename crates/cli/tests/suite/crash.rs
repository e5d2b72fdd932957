//! Interrupted or killed at any moment: nothing is left behind, and the next run carries on.

use std::fs;
use std::io::{BufRead as _, BufReader};
use std::os::unix::process::CommandExt as _;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill, killpg};
use nix::unistd::Pid;

use crate::team::Team;

/// Processes of this machine whose command line has this text.
fn processes(text: &str) -> Vec<String> {
    let mut found = Vec::new();
    for entry in fs::read_dir("/proc").unwrap().flatten() {
        let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let line = String::from_utf8_lossy(&line).replace('\0', " ");
        if line.contains(text) && entry.file_name() != std::process::id().to_string().as_str() {
            found.push(line);
        }
    }
    found
}

/// A number of seconds to sleep that nobody else on this machine sleeps.
fn mark(seconds: u32) -> String {
    format!("{seconds}.{}", std::process::id())
}

/// Waits until something holds.
fn soon(what: &str, mut holds: impl FnMut() -> bool) {
    let started = Instant::now();
    while !holds() {
        assert!(started.elapsed() < Duration::from_secs(10), "{what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

fn staging_is_empty(team: &Team) -> bool {
    fs::read_dir(team.staging()).map_or(true, |mut entries| entries.next().is_none())
}

/// A build that hangs in a step which nobody else runs.
fn hanging(team: &Team, command: &str, mark: &str) -> Child {
    let child = team.command(&[command]).stdout(Stdio::null()).stderr(Stdio::null()).process_group(0).spawn().unwrap();
    soon("the step never began", || !processes(mark).is_empty());
    child
}

#[test]
fn a_killed_build_leaves_no_process_no_mount_and_no_file() {
    for (number, end) in [Signal::SIGKILL, Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP].into_iter().enumerate() {
        let team = Team::locked();
        let mark = mark(3100 + number as u32);
        team.step(&format!("echo half > /half; sleep {mark}"));
        let mut child = hanging(&team, "build", &mark);
        // As a terminal does it: to the whole group.
        killpg(Pid::from_raw(child.id() as i32), end).unwrap();
        let status = child.wait().unwrap();
        if end != Signal::SIGKILL {
            assert_eq!(status.code(), Some(130));
        }
        soon("the step still runs", || processes(&mark).is_empty());
        soon("something is left in staging", || staging_is_empty(&team));
        team.assert_clean();
        team.change(&format!("; sleep {mark}"), "");
        let whole = Team::locked();
        whole.step("echo half > /half");
        assert_eq!(team.build(), whole.build());
    }
}

#[test]
fn a_killed_seal_leaves_nothing_either() {
    let team = Team::locked();
    let mark = mark(3199);
    // Only the second build sees another time of day than the one that the kernel puts on files.
    team.step(&format!("touch /tmp/now; test $(date +%s) -lt $(( $(stat -c %Y /tmp/now) + 100000 )) || sleep {mark}"));
    let mut child = hanging(&team, "seal", &mark);
    child.kill().unwrap();
    child.wait().unwrap();
    soon("the second build still runs", || {
        processes(&mark).is_empty() && processes(team.home().to_str().unwrap()).is_empty()
    });
    soon("something is left in staging", || staging_is_empty(&team));
    team.assert_clean();
}

#[test]
fn a_killed_keeper_ends_everything_inside_and_is_noticed() {
    let team = Team::locked();
    team.ok(&["build"]);
    let mark = mark(3177);
    let mut child = team
        .command(&["run", "-q", "--", "sh", "-c", &format!("sleep {mark} & echo ready; wait")])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
    let keeper = team.json(&["status", "--json"])["status"]["keeper"].as_i64().unwrap();
    kill(Pid::from_raw(keeper as i32), Signal::SIGKILL).unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&output.stderr).contains("ended under the command"));
    soon("something inside still runs", || processes(&mark).is_empty());
    soon("something is left in staging", || staging_is_empty(&team));
    assert!(team.ok(&["status"]).contains("its keeper was killed"));
    let output = team.run(&["start"]);
    assert!(crate::team::told(&output).contains("its keeper was killed"));
    team.ok(&["run", "-q", "--", "true"]);
    team.assert_clean();
    // Nor of what is not a process: groups, and the list of them.
    let entry = fs::read_dir(team.home().join("workspaces")).unwrap().next().unwrap().unwrap();
    let left = |dir: &std::path::Path| {
        fs::read_dir(dir)
            .into_iter()
            .flatten()
            .flatten()
            .any(|one| one.file_name().to_string_lossy().starts_with("leavings-"))
    };
    soon("a list of what is to be removed is left", || !left(&entry.path()));
    let name = entry.file_name().to_string_lossy().into_owned();
    for place in ["memory", "cpu", "pids", "freezer", "unified", ""] {
        let groups = fs::read_dir(std::path::Path::new("/sys/fs/cgroup").join(place).join("cavrith"));
        let mut names =
            groups.into_iter().flatten().flatten().map(|one| one.file_name().to_string_lossy().into_owned());
        assert!(!names.any(|group| group.contains(&name)), "a control group is left in {place}");
    }
}

#[test]
fn what_a_command_leaves_behind_goes_on_until_the_workspace_ends() {
    let team = Team::locked();
    let mark = mark(3166);
    team.ok(&["run", "-q", "--", "sh", "-c", &format!("sleep {mark} > /dev/null 2>&1 & exit 0")]);
    assert_eq!(processes(&mark).len(), 1);
    team.ok(&["stop"]);
    assert_eq!(processes(&mark), Vec::<String>::new());
    team.assert_clean();
}

#[test]
fn kills_at_random_moments_never_spoil_the_store() {
    let expected = Team::locked().build();
    let team = Team::locked();
    for round in 0..25u64 {
        let mut child = team.command(&["build"]).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        // Moments spread over the whole time that a build takes, without chance.
        std::thread::sleep(Duration::from_micros(round * round * 300 % 130_000));
        let _ = kill(Pid::from_raw(child.id() as i32), Signal::SIGKILL);
        child.wait().unwrap();
    }
    soon("something is left in staging", || staging_is_empty(&team));
    assert_eq!(team.build(), expected);
    team.ok(&["seal"]);
    team.ok(&["verify"]);
    team.assert_clean();
}
