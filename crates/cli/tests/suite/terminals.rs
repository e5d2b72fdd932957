//! What is shown on a terminal, and asked there: choices, long lines, and what is waited for.

use std::fs;
use std::io::{Read as _, Write as _};

use crate::inside::terminal;
use crate::team::Team;

/// What a command shows on a terminal of so many columns until it ends, and how it ends; each pair of `typed` is typed
/// when its first text has come.
fn shown(team: &Team, arguments: &[&str], columns: u16, typed: &[(&str, &str)]) -> (String, Option<i32>) {
    shown_in(team, arguments, (30, columns), "cat", typed)
}

/// The same on a terminal of so many rows and columns, with a pager.
pub fn shown_in(
    team: &Team,
    arguments: &[&str],
    (rows, columns): (u16, u16),
    pager: &str,
    typed: &[(&str, &str)],
) -> (String, Option<i32>) {
    let (outer, inner) = terminal(rows, columns);
    let mut child = team
        .command(arguments)
        .env("TERM", "xterm")
        .env("PAGER", pager)
        .stdin(inner.try_clone().unwrap())
        .stdout(inner.try_clone().unwrap())
        .stderr(inner)
        .spawn()
        .unwrap();
    let mut keys = fs::File::from(outer.try_clone().unwrap());
    let mut screen = fs::File::from(outer);
    let (mut all, mut seen, mut waits) = (String::new(), 0, typed.iter().peekable());
    let mut buffer = [0; 4096];
    // The last inner end closes with the child.
    while let Ok(count @ 1..) = screen.read(&mut buffer) {
        all.push_str(&plain(&String::from_utf8_lossy(&buffer[..count])));
        while let Some((wanted, answer)) = waits.next_if(|(wanted, _)| all[seen..].contains(wanted)) {
            let _ = wanted;
            seen = all.len();
            keys.write_all(answer.as_bytes()).unwrap();
        }
    }
    assert!(waits.peek().is_none(), "{:?} never came:\n{all}", waits.peek());
    (all.replace('\r', ""), child.wait().unwrap().code())
}

/// A text without what moves the cursor and changes colours (ECMA-48, 5.4).
fn plain(text: &str) -> String {
    let mut out = String::new();
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        if letter == '\u{1b}' {
            letters.by_ref().skip(1).find(|letter| letter.is_ascii_alphabetic());
        } else {
            out.push(letter);
        }
    }
    out
}

#[test]
fn a_suite_is_chosen_at_a_terminal_where_none_has_every_version() {
    let team = Team::new();
    let dir = tempfile::tempdir().unwrap();
    let project = dir.path().join("a/b/site");
    fs::create_dir_all(&project).unwrap();
    fs::write(project.join(".python-version"), "3.12\n").unwrap();
    fs::write(project.join(".node-version"), "18\n").unwrap();
    let at = project.to_str().unwrap();
    let spec = project.join("cavrith.toml");
    let offered = "bullseye  python 3.9 in place of 3.12";
    // The best one is first, and Enter takes it; what is typed finds another one.
    for (typed, suite) in [("\r", "bookworm"), ("trix\r", "trixie")] {
        let (told, code) = shown(&team, &["-C", at, "init"], 100, &[(offered, typed)]);
        let text = fs::read_to_string(&spec).unwrap_or_else(|error| panic!("{error}: {told}"));
        assert!(text.contains(&format!("debian   = \"{suite}\"")) && text.contains("# CHOOSE:"), "{text}");
        assert_eq!(code, Some(0), "{told}");
        fs::remove_file(&spec).unwrap();
    }
    // Whoever leaves has changed nothing.
    let (told, code) = shown(&team, &["-C", at, "init"], 100, &[(offered, "\u{1b}")]);
    assert!(told.contains("nothing was changed") && !spec.exists() && code == Some(0), "{told}");
    // Nobody is asked who does not want to be, or where all is there.
    let (told, _) = shown(&team, &["-C", at, "init", "--yes"], 100, &[]);
    assert!(spec.exists() && !told.contains("in place of"), "{told}");
    fs::remove_file(&spec).unwrap();
    fs::write(project.join(".python-version"), "3.11\n").unwrap();
    let (told, _) = shown(&team, &["-C", at, "init"], 100, &[]);
    assert!(spec.exists() && !told.contains("in place of"), "{told}");
}

#[test]
fn an_extension_is_chosen_from_a_list() {
    let team = Team::new();
    team.change("extensions = { \"brindle.quill-syntax\" = \"1.2\" }", "extensions = { }");
    let told = team.fails(&["editor", "add"], 2);
    assert!(told.contains("which extension?") && told.contains("brindle.quill-syntax"), "{told}");
    let (told, code) = shown(&team, &["editor", "add"], 80, &[("brindle.quill-syntax 1.2", "syntax\r")]);
    assert!(told.contains("added brindle.quill-syntax 1.2 to the spec") && code == Some(0), "{told}");
    let (told, code) = shown(&team, &["editor", "add"], 80, &[("in the spec", "\u{1b}")]);
    assert!(told.contains("nothing was changed") && code == Some(0), "{told}");
}

#[test]
fn lines_fit_a_narrow_terminal_and_are_whole_in_a_pipe() {
    let team = Team::locked();
    team.ok(&["start", "-q", "--wait"]);
    team.change("\"busybox-static\"", "\"busybox-statik\"");
    for columns in [40, 80] {
        for command in [&["status"][..], &["check"], &["doctor"], &["explain", "CV0113"], &["list"], &["verify"]] {
            let (told, _) = shown(&team, command, columns, &[]);
            // A word that is longer by itself stays one, so that it can be copied.
            let long = told.lines().find(|line| {
                let longest = line.split(' ').map(|word| word.chars().count()).max().unwrap_or(0);
                line.chars().count() > usize::from(columns)
                    && longest < usize::from(columns) / 2
                    && !line.contains(" | ")
            });
            assert_eq!(long, None, "{command:?} at {columns}:\n{told}");
        }
    }
    let piped = team.fails(&["check"], 1);
    assert!(piped.lines().any(|line| line.chars().count() > 60), "{piped}");
    team.change("\"busybox-statik\"", "\"busybox-static\"");
    team.assert_clean();
}

#[test]
fn a_mistake_in_a_line_as_long_as_a_file_is_told_with_its_place_alone() {
    let team = Team::new();
    let many: Vec<_> = (0..3000).map(|number| format!("\"tide{number}\"")).collect();
    team.change("\"busybox-static\"", &format!("\"not a name\", {}, \"busybox-static\"", many.join(", ")));
    let told = team.fails(&["check"], 1);
    let at = told.find("has no package `not a name`").unwrap_or_else(|| panic!("{}", &told[..2000]));
    let mistake = &told[at..];
    assert!(mistake.lines().nth(1).is_some_and(|line| line.contains("--> cavrith.toml:15:")), "{}", &mistake[..300]);
    assert!(told.lines().all(|line| line.chars().count() < 1000));
}

#[test]
fn whoever_waits_for_a_service_is_told_what_is_in_its_way() {
    let team = Team::locked();
    let spec = team.project().join("cavrith.toml");
    let text = fs::read_to_string(&spec).unwrap();
    let service = "\n[services.late]\nrun = \"echo warming up; sleep 1.5; exec busybox httpd -f -p 9091\"\nready = { port = 8081, limit = \"4 s\" }\n";
    fs::write(&spec, format!("{text}{service}")).unwrap();
    let (told, code) = shown(&team, &["start", "--wait"], 120, &[]);
    assert!(told.contains("service late: nothing listens on port 8081; it wrote: warming up"), "{told}");
    let failed = "late: not ready after 4 s; it still runs, and nothing listens on port 8081, but it does on 9091";
    assert!(told.contains(failed), "{told}");
    assert_ne!(code, Some(0));
    // The same is in the state of things, for programs.
    let status = team.json(&["status", "--json"]);
    let late =
        status["status"]["services"].as_array().unwrap().iter().find(|service| service["name"] == "late").unwrap();
    assert!(late["detail"].as_str().unwrap().contains("but it does on 9091"), "{late}");
    team.assert_clean();
}

#[test]
fn a_running_workspace_holds_nothing_of_whoever_started_it() {
    let team = Team::locked();
    team.ok(&["build"]);
    // A script that works under a lock, on a terminal that it opened, and with a pipe to somebody.
    let (outer, inner) = terminal(24, 80);
    let lock = team.dir.path().join("lock");
    let script = format!(
        "exec 9> {lock}; flock 9; exec {program} start -q --wait",
        lock = lock.display(),
        program = crate::team::PROGRAM
    );
    let command = team.command(&[]);
    let status = std::process::Command::new("sh")
        .args(["-c", &script])
        .current_dir(team.project())
        .envs(command.get_envs().filter_map(|(name, value)| Some((name, value?))))
        .stdin(inner.try_clone().unwrap())
        .stdout(inner.try_clone().unwrap())
        .stderr(inner)
        .status()
        .unwrap();
    assert!(status.success());
    // The lock is free, and the terminal's other end is closed: reading it ends.
    let again = std::process::Command::new("flock").args(["-n", lock.to_str().unwrap(), "true"]).status().unwrap();
    assert!(again.success(), "the workspace holds the lock of the script that started it");
    let mut rest = Vec::new();
    let _ = fs::File::from(outer).read_to_end(&mut rest);
    team.assert_clean();
}

#[test]
fn a_profile_of_an_editor_comes_into_a_depot_by_a_command() {
    let team = Team::new();
    let depot = team.dir.path().join("own");
    let at = depot.to_str().unwrap();
    team.ok(&["depot", "new", at]);
    let add = [
        "depot",
        "add",
        at,
        "--editor",
        "torch",
        "--extensions",
        "{home}/.torch/{id}-{version}",
        "--settings",
        "{home}/.torch/settings.json",
    ];
    assert_eq!(team.ok(&add), "added editor torch\n");
    assert!(team.fails(&add, 2).contains("editor torch"));
    assert!(team.ok(&["depot", "list", at]).contains("editor     torch"));
    let index = fs::read_to_string(depot.join("depot.toml")).unwrap();
    assert!(index.contains("extensions = \"{home}/.torch/{id}-{version}\""), "{index}");
    // A place that is no path inside, and half a profile, are refused, and the index stays as it is.
    let told = team.fails(&["depot", "add", at, "--editor", "lamp", "--extensions", "x", "--settings", "/y"], 2);
    assert!(told.contains("lamp"), "{told}");
    team.fails(&["depot", "add", at, "--editor", "lamp"], 2);
    team.fails(&["depot", "add", at], 2);
    assert_eq!(fs::read_to_string(depot.join("depot.toml")).unwrap(), index);
}
