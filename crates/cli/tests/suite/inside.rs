//! `enter` and `run`.

use std::fs;
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::os::fd::OwnedFd;
use std::os::unix::fs::MetadataExt as _;
use std::os::unix::process::ExitStatusExt as _;
use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::team::{Team, told};

fn signal(child: &Child, signal: Signal) {
    kill(Pid::from_raw(child.id() as i32), signal).unwrap();
}

#[test]
fn a_command_runs_as_the_account_in_the_project_with_the_team_s_environment() {
    let team = Team::locked();
    let told = team.ok(&["run", "-q", "--", "sh", "-c", "id -un; id -u; pwd; hostname; echo $HOME $SITE_PORT $TZ; quill --version; cat /etc/lantern/settings.json; lantern --extensions"]);
    let lines: Vec<_> = told.lines().collect();
    assert_eq!(lines[..6], ["crew", "1000", "/code", "timetable", "/home/crew 8080 UTC", "quill 2.4.1"]);
    assert!(told.contains("\"format.on-save\": true") && told.ends_with("brindle.quill-syntax-1.2.0\n"), "{told}");
}

#[test]
fn a_command_begins_where_the_member_is() {
    let team = Team::locked();
    let below = team.project().join("pages/old");
    fs::create_dir_all(&below).unwrap();
    let output = team.command(&["run", "-q", "--", "pwd"]).current_dir(below).output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout), "/code/pages/old\n");
    let output =
        team.command(&["run", "-q", "-C"]).arg(team.project()).args(["--", "pwd"]).current_dir("/").output().unwrap();
    assert_eq!(String::from_utf8_lossy(&output.stdout), "/code\n");
}

#[test]
fn exit_codes_and_signals_are_passed_on() {
    let team = Team::locked();
    for code in [0, 1, 42, 255] {
        let exit = format!("exit {code}");
        assert_eq!(team.run(&["run", "--", "sh", "-c", &exit]).status.code(), Some(code));
    }
    assert_eq!(team.run(&["run", "--", "sh", "-c", "kill -TERM $$"]).status.signal(), Some(15));
    let missing = team.run(&["run", "--", "nothere", "--help"]);
    assert_eq!(missing.status.code(), Some(127));
    assert!(told(&missing).contains("nothere: there is no such program inside"), "{}", told(&missing));
    fs::write(team.project().join("plain.txt"), "x").unwrap();
    assert_eq!(team.run(&["run", "--", "./plain.txt"]).status.code(), Some(126));
}

#[test]
fn a_signal_reaches_the_command_and_its_answer_comes_back() {
    let team = Team::locked();
    team.ok(&["build"]);
    let script = "trap 'echo heard; exit 7' INT; echo ready; while :; do sleep 0.05; done";
    for (sent, code, ended) in [(Signal::SIGINT, Some(7), None), (Signal::SIGTERM, None, Some(15))] {
        let mut child = team.command(&["run", "-q", "--", "sh", "-c", script]).stdout(Stdio::piped()).spawn().unwrap();
        let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
        assert_eq!(lines.next().unwrap().unwrap(), "ready");
        signal(&child, sent);
        let status = child.wait().unwrap();
        assert_eq!((status.code(), status.signal()), (code, ended));
    }
    team.assert_clean();
}

#[test]
fn standard_streams_stay_apart_and_whole() {
    let team = Team::locked();
    let mut child = team
        .command(&["run", "-q", "--", "sh", "-c", "cat; echo aside >&2"])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut stdin = child.stdin.take().unwrap();
    let bytes: Vec<u8> = (0..300_000u32).map(|number| (number % 251) as u8).collect();
    let sent = bytes.clone();
    std::thread::spawn(move || stdin.write_all(&sent).unwrap());
    let output = child.wait_with_output().unwrap();
    assert!(output.stdout == bytes);
    assert_eq!(output.stderr, b"aside\n");
}

#[test]
fn what_is_changed_inside_stays_and_the_store_does_not_change() {
    let team = Team::sealed();
    team.ok(&["run", "-q", "--", "sh", "-c", "echo mine > /home/crew/notes; echo theirs > /tmp/gone"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/home/crew/notes"]), "mine\n");
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/tmp/gone"]), "theirs\n");
    team.ok(&["restart", "-q"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/home/crew/notes"]), "mine\n");
    assert_eq!(team.run(&["run", "-q", "--", "cat", "/tmp/gone"]).status.code(), Some(1));
    team.ok(&["verify"]);
}

#[test]
fn another_image_gets_a_scratch_of_its_own_and_the_earlier_one_is_named() {
    let team = Team::locked();
    team.ok(&["run", "-q", "--", "touch", "/home/crew/notes"]);
    team.ok(&["run", "-q", "--account", "root", "--", "touch", "/srv/notes"]);
    team.step("true > /new");
    let output = team.run(&["run", "--", "find", "/home/crew", "/srv", "-name", "notes"]);
    // The home is the member's own, and goes along.
    assert_eq!(output.stdout, b"/home/crew/notes\n");
    assert!(told(&output).contains("what was changed inside earlier (1 file) lies in "), "{}", told(&output));
}

#[test]
fn the_project_is_live_on_both_sides_with_the_right_owner() {
    let team = Team::locked();
    fs::write(team.project().join("outside.txt"), "from outside").unwrap();
    let script = "cat outside.txt; stat -c %U:%G outside.txt .; echo inside > made.txt; mkdir d; mv outside.txt d/";
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", script]), "from outsidecrew:crew\ncrew:crew\n");
    let owner = fs::metadata(team.project()).unwrap();
    for name in ["made.txt", "d", "d/outside.txt"] {
        let meta = fs::metadata(team.project().join(name)).unwrap();
        assert_eq!((meta.uid(), meta.gid()), (owner.uid(), owner.gid()), "{name}");
    }
    assert_eq!(fs::read_to_string(team.project().join("made.txt")).unwrap(), "inside\n");
}

#[test]
fn a_second_folder_appears_where_the_spec_says() {
    let team = Team::new();
    fs::create_dir(team.dir.path().join("ida/tables")).unwrap();
    fs::write(team.dir.path().join("ida/tables/t"), "1").unwrap();
    team.allow("../tables");
    team.change("[[ports]]", "[[folders]]\noutside = \"../tables\"\ninside = \"/srv/tables\"\n\n[[ports]]");
    team.ok(&["lock"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "cat /srv/tables/t; echo 2 > /srv/tables/u"]), "1");
    assert_eq!(fs::read_to_string(team.dir.path().join("ida/tables/u")).unwrap(), "2\n");
    fs::remove_dir_all(team.dir.path().join("ida/tables")).unwrap();
    team.ok(&["stop"]);
    assert!(team.fails(&["run", "--", "true"], 2).contains("cannot use the folder"));
}

#[test]
fn a_link_in_the_image_does_not_lead_a_folder_elsewhere() {
    let team = Team::locked();
    team.step("ln -s /etc /code");
    assert!(team.fails(&["run", "--", "true"], 3).contains("its place in the image is not a plain directory"));
}

/// A page of the port of this number outside.
pub fn fetch(port: u64, page: &str) -> String {
    let mut stream = TcpStream::connect(("127.0.0.1", port as u16)).unwrap();
    stream.write_all(format!("GET /{page} HTTP/1.0\r\n\r\n").as_bytes()).unwrap();
    let mut text = String::new();
    stream.read_to_string(&mut text).unwrap();
    text
}

#[test]
fn a_port_is_reachable_and_a_taken_one_moves_on_and_says_so() {
    let team = Team::locked();
    team.ok(&["build"]);
    // A port that nobody else uses, and that is then taken by us.
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let number = taken.local_addr().unwrap().port();
    team.change("inside = 8080", &format!("inside = 8080\noutside = {number}"));
    let told = team.ok(&["start", "--wait"]);
    assert!(told.contains(&format!("({number} is taken) → 8080 inside")), "{told}");
    let port = team.json(&["status", "--json"])["status"]["ports"][0]["outside"].as_u64().unwrap();
    assert!(port > u64::from(number));
    assert!(fetch(port, "").contains("<td>Curlew</td><td>06:10</td>"));
    team.ok(&["stop"]);
    assert!(TcpStream::connect(("127.0.0.1", port as u16)).is_err(), "the port is still open");
    team.change("inside = 8080", "exact = true\ninside = 8080");
    let told = team.fails(&["run", "--", "true"], 3);
    assert!(told.contains(&format!("the port {number} for `site` is taken")), "{told}");
}

/// A command that holds the workspace until it is ended; it has said `ready`.
fn holding(team: &Team, script: &str) -> Child {
    let script = format!("echo ready; {script}");
    let mut child = team
        .command(&["run", "-q", "--", "sh", "-c", &script])
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let mut line = [0; 6];
    child.stdout.as_mut().unwrap().read_exact(&mut line).unwrap();
    assert_eq!(&line, b"ready\n");
    child
}

#[test]
fn commands_run_in_one_workspace_thirty_at_once() {
    let team = Team::locked();
    team.ok(&["build"]);
    let mut holder = holding(&team, "echo here > /tmp/only-here; sleep 60");
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/tmp/only-here"]), "here\n");
    assert_eq!(team.run(&["run", "--", "sh", "-c", "exit 42"]).status.code(), Some(42));
    assert_eq!(team.run(&["run", "--", "sh", "-c", "kill -KILL $$"]).status.signal(), Some(9));
    assert_eq!(team.run(&["run", "--", "nothere"]).status.code(), Some(127));
    let many: Vec<_> = (0..30)
        .map(|number| {
            let script = format!("sleep 0.2; echo {number}");
            team.command(&["run", "-q", "--", "sh", "-c", &script])
                .stdout(Stdio::piped())
                .stderr(Stdio::piped())
                .spawn()
                .unwrap()
        })
        .collect();
    for (number, child) in many.into_iter().enumerate() {
        let output = child.wait_with_output().unwrap();
        assert_eq!(told(&output), format!("exit status: 0\n\n{number}\n"));
    }
    // A signal reaches a guest's command, and a guest that is killed takes its command along.
    let mut guest = holding(&team, "trap 'exit 7' TERM; while :; do sleep 0.05; done");
    signal(&guest, Signal::SIGTERM);
    assert_eq!(guest.wait().unwrap().code(), Some(7));
    let mut guest = holding(&team, "sleep 3155.5");
    guest.kill().unwrap();
    guest.wait().unwrap();
    let running = || team.ok(&["run", "-q", "--", "ps"]).contains("3155.5");
    let started = Instant::now();
    while running() {
        assert!(started.elapsed() < Duration::from_secs(10), "the command of a killed guest still runs");
    }
    signal(&holder, Signal::SIGTERM);
    holder.wait().unwrap();
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/tmp/only-here"]), "here\n");
    team.assert_clean();
}

/// A terminal: its outer end, and its inner one for a child.
pub fn terminal(rows: u16, columns: u16) -> (OwnedFd, OwnedFd) {
    let own = rustix::pty::OpenptFlags::NOCTTY | rustix::pty::OpenptFlags::CLOEXEC;
    let flags = rustix::pty::OpenptFlags::RDWR | own;
    let outer = rustix::pty::openpt(flags).unwrap();
    rustix::pty::unlockpt(&outer).unwrap();
    let inner = rustix::pty::ioctl_tiocgptpeer(&outer, flags).unwrap();
    let size = rustix::termios::Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
    rustix::termios::tcsetwinsize(&outer, size).unwrap();
    (outer, inner)
}

/// Reads a terminal until a text comes.
fn until(terminal: &mut fs::File, wanted: &str) -> String {
    let mut all = String::new();
    let mut buffer = [0; 4096];
    while !all.contains(wanted) {
        let count = terminal.read(&mut buffer).unwrap_or_else(|error| panic!("{error} after {all:?}"));
        all.push_str(&String::from_utf8_lossy(&buffer[..count]));
    }
    all
}

#[test]
fn enter_gives_a_real_terminal_with_size_signals_and_exit_code() {
    let team = Team::locked();
    team.ok(&["build"]);
    let (outer, inner) = terminal(33, 111);
    let usual = rustix::termios::tcgetattr(&outer).unwrap();
    let mut child = team
        .command(&["enter", "-q"])
        .env("TERM", "xterm")
        .stdin(inner.try_clone().unwrap())
        .stdout(inner.try_clone().unwrap())
        .stderr(inner)
        .spawn()
        .unwrap();
    let mut typed = fs::File::from(outer.try_clone().unwrap());
    let mut shown = fs::File::from(outer.try_clone().unwrap());
    until(&mut shown, "/code $");
    writeln!(typed, "tty; stty size; echo $TERM; echo do''ne").unwrap();
    let first = until(&mut shown, "done");
    assert!(first.contains("/dev/pts/0") && first.contains("33 111") && first.contains("xterm"), "{first}");
    let size = rustix::termios::Winsize { ws_row: 40, ws_col: 90, ws_xpixel: 0, ws_ypixel: 0 };
    rustix::termios::tcsetwinsize(&outer, size).unwrap();
    signal(&child, Signal::SIGWINCH);
    std::thread::sleep(Duration::from_millis(100));
    writeln!(typed, "stty size; echo ag''ain").unwrap();
    assert!(until(&mut shown, "again").contains("40 90"));
    // Ctrl-C ends what runs, and not the shell.
    writeln!(typed, "sleep 1000; echo never; echo $?").unwrap();
    std::thread::sleep(Duration::from_millis(200));
    typed.write_all(b"\x03").unwrap();
    writeln!(typed, "echo af''ter").unwrap();
    let after = until(&mut shown, "after");
    assert!(!after.contains("never\r\n"), "{after}");
    writeln!(typed, "exit 9").unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(9));
    let back = rustix::termios::tcgetattr(&outer).unwrap();
    assert_eq!((back.local_modes, back.input_modes), (usual.local_modes, usual.input_modes), "the terminal stays raw");
}

#[test]
fn a_command_that_closes_its_terminal_is_waited_for_without_spinning() {
    let team = Team::locked();
    team.ok(&["build"]);
    let (outer, inner) = terminal(24, 80);
    let script = "exec < /dev/null > /dev/null 2>&1; sleep 2; exit 6";
    let mut child = team
        .command(&["run", "-q", "--", "sh", "-c", script])
        .stdin(inner.try_clone().unwrap())
        .stdout(inner.try_clone().unwrap())
        .stderr(inner)
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    let stat = fs::read_to_string(format!("/proc/{}/stat", child.id())).unwrap();
    // Fields 14 and 15: time in user and kernel mode, in hundredths of a second.
    let spent: u64 = stat.split(' ').skip(13).take(2).map(|field| field.parse::<u64>().unwrap()).sum();
    assert!(spent < 50, "{spent} hundredths of a second of processor time");
    assert_eq!(child.wait().unwrap().code(), Some(6));
    drop(outer);
}

#[test]
fn a_shell_reads_commands_from_a_pipe() {
    let team = Team::locked();
    let mut child = team.command(&["enter", "-q"]).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
    child.stdin.take().unwrap().write_all(b"echo $((6 * 7))\nexit 4\n").unwrap();
    let output = child.wait_with_output().unwrap();
    assert_eq!((output.status.code(), output.stdout.as_slice()), (Some(4), &b"42\n"[..]));
}

#[test]
fn a_result_that_does_not_fit_goes_to_the_pager_and_one_that_fits_does_not() {
    let team = Team::new();
    let shown = |arguments: &[&str], rows: u16, pager: &str| {
        let (all, code) = crate::terminals::shown_in(&team, arguments, (rows, 80), pager, &[]);
        (code, all)
    };
    let pager = "sed 's/^/paged: /'";
    let (code, long) = shown(&["explain", "base.debian"], 4, pager);
    assert!(code == Some(0) && long.lines().all(|line| line.starts_with("paged: ")), "{long}");
    let (_, short) = shown(&["explain", "base.debian"], 40, pager);
    assert!(short.contains("base.debian") && !short.contains("paged: "), "{short}");
    // Without a pager that works, all of it is shown as it is.
    for none in ["cat", "", "/no/such/pager"] {
        let (code, plain) = shown(&["explain", "base.debian"], 4, none);
        assert!(code == Some(0) && plain.contains("packages = ["), "{none}: {plain}");
    }
    // A pager that is left early is no failure, and a failure is told after what was held.
    assert_eq!(shown(&["explain"], 4, "head -1").0, Some(0));
    let (code, told) = shown(&["explain", "no-such-key"], 4, pager);
    assert!(code == Some(2) && !told.contains("paged: "), "{told}");
}
