//! What a keeper has to stand: many at once, much output, floods at its door, kills at bad moments.

use std::collections::BTreeMap;
use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::TcpStream;
use std::os::unix::net::UnixStream;
use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::running::{port, soon, started, status};
use crate::team::{Team, told};

const LEDGER: &str = r#"
[[folders]]
mode   = "kept"
name   = "ledger"
inside = "/srv/ledger"
"#;

/// The directory of the only workspace.
fn place(team: &Team) -> PathBuf {
    fs::read_dir(team.home().join("workspaces")).unwrap().next().unwrap().unwrap().path()
}

/// How many keepers hold something in the team's home.
fn keepers(team: &Team) -> usize {
    let home = team.home();
    let holds = |pid: &str| {
        let entries = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
        entries.filter_map(|entry| fs::read_link(entry.path()).ok()).any(|path| path.starts_with(&home))
    };
    let processes = fs::read_dir("/proc").unwrap().flatten().filter_map(|entry| entry.file_name().into_string().ok());
    let ours = processes
        .filter(|pid| fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|line| line.starts_with(b"cavrith: keeper")));
    ours.filter(|pid| holds(pid)).count()
}

#[test]
fn eight_starts_at_once_make_one_keeper() {
    let team = started("");
    let starts: Vec<_> = (0..8)
        .map(|_| {
            let mut command = team.command(&["start", "--wait"]);
            command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
        })
        .collect();
    for start in starts {
        let output = start.wait_with_output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
    }
    assert_eq!(keepers(&team), 1);
    team.ok(&["stop"]);
    soon("a keeper is left", || keepers(&team) == 0);
    team.assert_clean();
}

#[test]
fn a_flood_at_the_door_keeps_nobody_out() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let door = place(&team).join("door");
    // Some say nothing, some stop in the middle of a word, some promise more than they bring, one asks without its
    // streams.
    let mut guests: Vec<_> = (0..300).map(|_| UnixStream::connect(&door).unwrap()).collect();
    for (number, guest) in guests.iter_mut().enumerate() {
        let begun: &[u8] = match number % 4 {
            0 => b"",
            1 => b"\x20\0\0\0{\"prot",
            2 => b"\0\0\0\x02{}",
            _ => b"\x2a",
        };
        guest.write_all(begun).unwrap();
    }
    let request = br#"{"protocol":1,"request":{"Run":{"argv":["true"],"env":[],"here":null,"account":null,"terminal":[false,false,false],"task":null}}}"#;
    let mut bare = UnixStream::connect(&door).unwrap();
    bare.write_all(&(request.len() as u32).to_le_bytes()).unwrap();
    bare.write_all(request).unwrap();
    bare.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
    let mut answer = Vec::new();
    bare.read_to_end(&mut answer).unwrap();
    assert!(!String::from_utf8_lossy(&answer).contains("Started"));
    assert_eq!(team.ok(&["run", "-q", "--", "echo", "in"]), "in\n");
    assert_eq!(status(&team)["standing"], "running");
    // Anyone who says nothing whole is sent away after a while.
    for guest in &mut guests {
        guest.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        let mut rest = Vec::new();
        assert!(guest.read_to_end(&mut rest).is_ok_and(|count| count == 0) || !rest.is_empty());
    }
    team.ok(&["stop"]);
    team.assert_clean();
}

#[test]
fn a_guest_that_goes_away_takes_its_command_along() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let mut guest = team
        .command(&["run", "-q", "--", "sh", "-c", "echo $$; exec sleep 3155"])
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = String::new();
    BufReader::new(guest.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
    let inside = line.trim().to_owned();
    assert_eq!(status(&team)["status"]["guests"], 1);
    kill(Pid::from_raw(guest.id() as i32), Signal::SIGKILL).unwrap();
    guest.wait().unwrap();
    soon("the command goes on", || {
        !team.run(&["run", "-q", "--", "sh", "-c", &format!("kill -0 {inside} 2> /dev/null")]).status.success()
    });
    soon("it is still counted", || status(&team)["status"]["guests"] == 0);
}

#[test]
fn a_step_that_writes_much_is_logged_whole_and_shown_by_its_end() {
    let team = started(
        r#"
[[steps]]
name = "chatter"
at = "start"
run = "i=0; while [ $i -lt 30000 ]; do echo line $i; i=$((i + 1)); done"
"#,
    );
    let started = team.run(&["start", "--wait", "--verbose"]);
    assert!(started.status.success(), "{}", told(&started).chars().take(2000).collect::<String>());
    assert!(told(&started).contains("line 29999"));
    let lines = team.ok(&["logs", "chatter"]);
    assert_eq!(lines.lines().filter(|line| line.contains(" line ")).count(), 30_000);
    // Who comes late hears how it ended, not all of it once more.
    let again = team.run(&["start", "--wait"]);
    assert!(again.status.success() && told(&again).contains("timetable runs since"));
}

#[test]
fn logs_are_followed_and_no_line_comes_twice() {
    let team = started(
        r#"
[services.counter]
run = "i=0; while true; do echo count $i; i=$((i + 1)); sleep 0.01; done"
"#,
    );
    team.ok(&["start", "--wait"]);
    let mut follow = team.command(&["logs", "counter", "--follow"]).stdout(Stdio::piped()).spawn().unwrap();
    let mut seen: BTreeMap<u32, u32> = BTreeMap::new();
    for line in BufReader::new(follow.stdout.take().unwrap()).lines().map_while(Result::ok) {
        if let Some(number) = line.rsplit_once("count ").and_then(|(_, number)| number.parse().ok()) {
            *seen.entry(number).or_default() += 1;
            if number >= 150 {
                break;
            }
        }
    }
    kill(Pid::from_raw(follow.id() as i32), Signal::SIGKILL).unwrap();
    follow.wait().unwrap();
    let wanted: BTreeMap<u32, u32> = (0..=150).map(|number| (number, 1)).collect();
    assert_eq!(seen, wanted);
    // A dropped workspace ends who follows it.
    let mut follow = team.command(&["logs", "--follow"]).stdout(Stdio::null()).spawn().unwrap();
    team.ok(&["stop"]);
    team.ok(&["drop", "--yes"]);
    soon("it follows what is gone", || follow.try_wait().unwrap().is_some());
}

#[test]
fn a_service_that_floods_its_log_is_bounded_and_stays_ready() {
    let team = started(
        r#"
[services.flood]
run = "yes a flood of lines as a program writes them when it is in trouble and says so again and again | head -c 40000000; echo over; exec sleep 3144"
"#,
    );
    team.ok(&["start", "--wait"]);
    soon("it never ends", || team.ok(&["logs", "flood", "--since", "1 h"]).ends_with("over\n"));
    let logs = place(&team).join("logs");
    let bytes: u64 = fs::read_dir(&logs).unwrap().map(|entry| entry.unwrap().metadata().unwrap().len()).sum();
    assert!(bytes < 10 << 20, "{bytes} bytes of logs");
    team.ok(&["run", "-q", "--", "true"]);
}

/// Kills the keeper, the service's program or the command at moments spread over a start, and looks that nothing is
/// lost and nothing left.
#[test]
fn kills_at_many_moments_leave_nothing_and_lose_nothing() {
    let team = started(LEDGER);
    team.ok(&["start", "--wait"]);
    team.ok(&["stop"]);
    let mut written = 0;
    for round in 0..18u64 {
        let pause = Duration::from_millis(round * 37 % 211);
        let mut start = team.command(&["start", "-q"]).stderr(Stdio::null()).stdout(Stdio::null()).spawn().unwrap();
        std::thread::sleep(pause);
        match round % 3 {
            0 => {
                let held = fs::read_to_string(place(&team).join("held")).unwrap_or_default();
                if let Ok(pid) = held.trim().parse::<i32>()
                    // The number may be that of an earlier keeper, and now of something else.
                    && fs::read(format!("/proc/{pid}/cmdline")).is_ok_and(|line| line.starts_with(b"cavrith: keeper"))
                {
                    let _ = kill(Pid::from_raw(pid), Signal::SIGKILL);
                }
            }
            1 => drop(kill(Pid::from_raw(start.id() as i32), Signal::SIGKILL)),
            _ => {
                start.wait().unwrap();
                team.run(&["run", "-q", "--", "sh", "-c", "kill -KILL $(pidof httpd)"]);
            }
        }
        start.wait().unwrap();
        let line = format!("echo {round} >> /srv/ledger/rounds; sync /srv/ledger/rounds");
        team.ok(&["run", "-q", "--", "sh", "-c", &line]);
        written += 1;
        if round % 2 == 0 {
            team.ok(&["stop", "-q"]);
        }
    }
    team.stop_all();
    soon("a keeper is left", || keepers(&team) == 0);
    let kept = fs::read_dir(team.home().join("kept")).unwrap().next().unwrap().unwrap().path().join("ledger/rounds");
    assert_eq!(fs::read_to_string(kept).unwrap().lines().count(), written);
    soon("something is left in staging", || fs::read_dir(team.staging()).unwrap().next().is_none());
    soon("a door or a list is left", || {
        let names = fs::read_dir(place(&team)).unwrap().map(|entry| entry.unwrap().file_name());
        !names.filter_map(|name| name.into_string().ok()).any(|name| name == "door" || name.starts_with("leavings-"))
    });
    team.assert_clean();
}

#[test]
fn a_port_outlives_what_listens_behind_it() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let outside = port(&team, "site") as u16;
    let ask = || -> std::io::Result<String> {
        let mut stream = TcpStream::connect(("127.0.0.1", outside))?;
        stream.set_read_timeout(Some(Duration::from_secs(10)))?;
        stream.write_all(b"GET / HTTP/1.0\r\n\r\n")?;
        let mut page = String::new();
        stream.read_to_string(&mut page)?;
        Ok(page)
    };
    assert!(ask().unwrap().contains("Curlew"));
    team.ok(&["run", "-q", "--", "sh", "-c", "kill -KILL $(pidof httpd)"]);
    // Until it is there again a connection is closed, as it would be if nobody listened; the port stays.
    soon("it does not come back", || ask().is_ok_and(|page| page.contains("Curlew")));
    assert_eq!(port(&team, "site"), u64::from(outside));
}
