//! How the program behaves: what it says where, in which form, and how it ends.

use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::team::{Team, told};

#[test]
fn quiet_says_nothing_and_verbose_more() {
    let team = Team::locked();
    let output = team.run(&["build", "-q"]);
    assert_eq!(told(&output), "exit status: 0\n\n");
    team.step("echo a line");
    assert!(!team.fails(&["build"], 0).contains("a line"));
    assert!(team.fails(&["build", "-v", "--fresh"], 0).contains("step \"step 2\": a line"));
    assert_eq!(team.run(&["check", "-q", "-v"]).status.code(), Some(2));
}

#[test]
fn colours_are_for_terminals_unless_somebody_says_otherwise() {
    let team = Team::locked();
    let plain = team.run(&["check"]);
    assert!(!told(&plain).contains('\u{1b}'));
    let always = team.run(&["check", "--color", "always"]);
    assert!(told(&always).contains('\u{1b}'));
    let never = team.command(&["check", "--color", "always"]).env("NO_COLOR", "1").output().unwrap();
    // What is said on the command line wins.
    assert!(told(&never).contains('\u{1b}'));
}

/// Holds the answer of a command that changes something against its published form.
fn has_its_form(arguments: &[&str], answer: &serde_json::Value) {
    let name = match arguments {
        ["start" | "restart", ..] => "start",
        ["freeze" | "thaw", ..] => "freeze",
        ["copy", ..] => "copy",
        ["store", "check" | "repair", ..] => "store-repair",
        ["lock", "--outdated", ..] => return,
        ["folder" | "editor" | "depot" | "store", inner, ..] => &format!("{}-{inner}", arguments[0]),
        [command, ..] => command,
        [] => return,
    };
    let forms: serde_json::Value = serde_json::from_str(include_str!("../../../../docs/answers.schema.json")).unwrap();
    if forms["$defs"][name].is_null() {
        let reports = ["check", "build", "seal", "verify", "show", "explain", "schema", "doctor", "contents"];
        let is_report = reports.contains(&name) || ["store-list", "depot-list", "depot-check"].contains(&name);
        assert!(is_report, "{arguments:?} changes something, and docs/answers.schema.json has no form for it");
        return;
    }
    let one = serde_json::json!({ "$ref": format!("#/$defs/{name}"), "$defs": forms["$defs"] });
    let validator = jsonschema::validator_for(&one).unwrap();
    let errors: Vec<_> =
        validator.iter_errors(answer).map(|error| format!("{}: {error}", error.instance_path)).collect();
    assert_eq!(errors, [""; 0], "{arguments:?}: {answer}");
}

#[test]
fn what_reports_can_report_in_json() {
    let team = Team::new();
    team.add("[[folders]]\nmode = \"kept\"\nname = \"tides\"\ninside = \"/srv/tides\"\n");
    team.ok(&["lock", "-q"]);
    team.ok(&["seal", "-q"]);
    let at = |name: &str| team.dir.path().join(name).to_str().unwrap().to_owned();
    let (new, backup) = (at("new"), at("tides.tar.zst"));
    let (new, backup) = (new.as_str(), backup.as_str());
    let packages = fs::read_dir(team.dir.path().join("depot/packages")).unwrap();
    let packed =
        packages.map(|entry| entry.unwrap().path()).find(|path| path.extension().is_some_and(|kind| kind == "deb"));
    let packed = packed.unwrap();
    let packed = packed.to_str().unwrap();
    let depot = team.dir.path().join("depot");
    let depot = depot.to_str().unwrap();
    let shelf = team.dir.path().join("shelf");
    let shelf = shelf.to_str().unwrap();
    let keys = |arguments: &[&str]| {
        let answer = team.json(arguments);
        has_its_form(arguments, &answer);
        answer.as_object().unwrap().keys().cloned().collect::<Vec<_>>().join(" ")
    };
    for (arguments, expected) in [
        (&["check", "--json"][..], "mistakes seal sound"),
        (&["lock", "--json"], "epoch moved notes to_record written"),
        (&["lock", "--outdated", "--json"], "outdated"),
        (&["build", "--json"], "bytes entries image layers millis words work workspace"),
        (&["seal", "--json"], "image layers listing pins probes rules setup spec words workspace"),
        (&["verify", "--json"], "aspects quick same standing words"),
        (&["show", "--json"], "entries sound"),
        (&["explain", "--json"], "codes failures keys"),
        (&["explain", "CV0107", "--json"], "code right text title wrong"),
        (&["explain", "env", "--json"], "default example key meaning needed type values"),
        (&["schema"], "$schema additionalProperties anyOf description properties title type"),
        (&["doctor", "--json"], "checks ready"),
        (&["store", "list", "--json"], "bytes held store"),
        (&["store", "check", "--json"], "damage removed whole"),
        (&["store", "repair", "--json"], "damage removed whole"),
        (&["store", "collect", "--json"], "bytes gone removed"),
        (&["contents", "--json"], "built contents"),
        (&["depot", "list", depot, "--json"], "about offers"),
        (&["depot", "check", depot, "--json"], "files flaws whole"),
        (&["depot", "fill", shelf, "--json"], "brought notes there"),
        (&["depot", "new", new, "--json"], "made"),
        (&["depot", "add", new, packed, "--json"], "added"),
        (&["editor", "add", "brindle.quill-syntax", "1.2", "--json"], "before extension version"),
        (&["start", "--wait", "--json"], "good name pending status"),
        (&["copy", "in", packed, "/tmp/x", "--json"], "from to"),
        (&["copy", "out", "/tmp/x", shelf, "--json"], "from to"),
        (&["apply", "--json"], "applied name pending"),
        (&["apply", "--dry-run", "--json"], "applied name pending"),
        (&["freeze", "--json"], "frozen name note"),
        (&["thaw", "--json"], "frozen name note"),
        (&["folder", "backup", "tides", backup, "--while-running", "--json"], "bytes file folder"),
        (&["stop", "--json"], "stopped"),
        (&["apply", "--json"], "applied name pending"),
        (&["stop", "--all", "--json"], "stopped"),
        (&["folder", "restore", "tides", backup, "--yes", "--json"], "entries folder"),
        (&["folder", "remove", "tides", "--yes", "--json"], "bytes entries removed"),
        (&["drop", "--yes", "--json"], "dropped home kept set_aside"),
        (&["drop", "--yes", "--json"], "dropped home kept set_aside"),
    ] {
        assert_eq!(keys(arguments), expected, "{arguments:?}");
    }
    let alone = tempfile::tempdir().unwrap();
    let output = team.command(&["init", "--json"]).current_dir(&alone).output().unwrap();
    let answer: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(answer.as_object().unwrap().keys().collect::<Vec<_>>(), ["guessed", "open", "seen", "text"]);
}

#[test]
fn mistakes_are_told_to_an_editor_with_their_places() {
    let team = Team::new();
    team.change("inside = 8080", "inside = 80800");
    let answer = team.json(&["check", "--json"]);
    assert_eq!(
        answer,
        serde_json::json!({ "sound": false, "mistakes": [{
            "code": "CV0110", "weight": "mistake", "file": "cavrith.toml",
            "message": "`inside` is 80800, and ports go from 1 to 65535",
            "remedy": "write a number from 1 to 65535",
            "places": [{ "file": "cavrith.toml", "line": 31, "column": 10, "end_line": 31, "end_column": 15, "note": "" }],
        }], "seal": null })
    );
}

#[test]
fn completions_and_manual_pages_name_every_command() {
    let team = Team::new();
    for shell in ["bash", "zsh", "fish", "elvish"] {
        let text = team.ok(&["completions", shell]);
        assert!(text.contains("CAVRITH_COMPLETE") && text.contains("cavrith"), "{shell}");
    }
    let pages = team.dir.path().join("man");
    team.ok(&["manual", pages.to_str().unwrap()]);
    let read = |name: &str| std::fs::read_to_string(pages.join(name)).unwrap_or_else(|error| panic!("{name}: {error}"));
    assert!(read("cavrith.1").contains("cavrith\\-doctor(1)"));
    assert!(read("cavrith-store-collect.1").contains("unused"));
    // What bash makes of the completions is a function for the program.
    let script = "source /dev/stdin && complete -p cavrith";
    let mut bash = std::process::Command::new("bash")
        .args(["-c", script])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Write::write_all(&mut bash.stdin.take().unwrap(), team.ok(&["completions", "bash"]).as_bytes()).unwrap();
    assert!(bash.wait_with_output().unwrap().status.success());
}

/// What bash is told when somebody has typed these words and asks what can follow.
fn following(team: &Team, words: &[&str]) -> Vec<String> {
    let output = team
        .command(&["--", "cavrith"])
        .args(words)
        .env("CAVRITH_COMPLETE", "bash")
        .env("_CLAP_COMPLETE_INDEX", words.len().to_string())
        .env("_CLAP_IFS", "\n")
        .output()
        .unwrap();
    assert!(output.status.success() && output.stderr.is_empty(), "{}", crate::team::told(&output));
    String::from_utf8(output.stdout).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn completions_know_the_names_of_the_project() {
    let team = Team::locked();
    team.step("true");
    let more = "\n[[steps]]\nname = \"bring the tides\"\nat = \"build\"\nrun = \"true\"\nnetwork = \"recorded\"\n
[services.store]\nrun = \"sleep 100\"\naccount = \"root\"\n
[[folders]]\nmode = \"kept\"\nname = \"tables\"\ninside = \"/srv/tables\"\n";
    let path = team.project().join("cavrith.toml");
    let spec = std::fs::read_to_string(&path).unwrap();
    std::fs::write(&path, format!("{spec}{more}")).unwrap();
    team.ok(&["check"]);
    let names = |words: &[&str]| -> Vec<String> {
        following(&team, words).into_iter().filter(|name| !name.starts_with("--")).collect()
    };
    assert_eq!(names(&["logs", "s"]), ["site", "store"]);
    assert_eq!(names(&["record", "bring\\ "]), ["bring\\ the\\ tides"]);
    assert_eq!(names(&["folder", "show", ""])[0], "tables");
    assert_eq!(names(&["run", "--account", ""]), ["crew", "root"]);
    assert_eq!(names(&["explain", "CV010"]).len(), 9);
    assert!(names(&["explain", "services.re"]).contains(&"services.ready".to_owned()));
    assert!(names(&["lock", "--update", "b"]).contains(&"base".to_owned()));
    assert_eq!(names(&["editor", "add", "brindle."]), ["brindle.quill-syntax"]);
    assert_eq!(names(&["stor"]), ["store"]);
    // A spec that cannot be read is no reason to write anything between what somebody types.
    std::fs::write(&path, "no toml").unwrap();
    assert_eq!(names(&["logs", "s"]), [""; 0]);
}

#[test]
fn an_interrupt_ends_everything_within_a_second() {
    let team = Team::locked();
    team.step("sleep 4711.25");
    for command in [&["build"][..], &["build", "--fresh"], &["seal"]] {
        let child = team.command(command).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let started = Instant::now();
        let sleeps = || {
            std::fs::read_dir("/proc").unwrap().flatten().any(|entry| {
                let line = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
                line.windows(7).any(|part| part == b"4711.25") && !line.windows(4).any(|part| part == b"sh\0-")
            })
        };
        while !sleeps() {
            assert!(started.elapsed() < Duration::from_secs(30), "the step does not begin");
            std::thread::sleep(Duration::from_millis(20));
        }
        kill(Pid::from_raw(child.id() as i32), Signal::SIGINT).unwrap();
        let started = Instant::now();
        let output = child.wait_with_output().unwrap();
        assert_eq!(output.status.code(), Some(130), "{}", told(&output));
        assert!(started.elapsed() < Duration::from_secs(1), "it took {:?}", started.elapsed());
        while sleeps() {
            assert!(started.elapsed() < Duration::from_secs(1), "the step goes on");
        }
        assert!(told(&output).contains("interrupted; what was finished is kept"), "{}", told(&output));
    }
    let started = Instant::now();
    while std::fs::read_dir(team.staging()).unwrap().next().is_some() {
        assert!(started.elapsed() < Duration::from_secs(5), "something is left in staging");
    }
}

#[test]
fn a_failure_is_one_object_with_a_code_that_is_explained() {
    let team = Team::new();
    let failed = |arguments: &[&str], exit: i32| {
        let output = team.run(arguments);
        assert_eq!(output.status.code(), Some(exit), "{arguments:?}: {}", told(&output));
        let answer: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
        let failed = answer["failed"].clone();
        assert_eq!(failed["exit"], exit, "{arguments:?}");
        let code = failed["code"].as_str().unwrap().to_owned();
        assert!(team.ok(&["explain", &code]).starts_with(&code), "{arguments:?}");
        // Mistakes are shown each with a code of its own.
        let shown = String::from_utf8_lossy(&output.stderr).contains(&format!("[{code}]"));
        assert!(shown || code == "CF0201", "{arguments:?}");
        failed
    };
    for command in ["build", "start", "seal", "verify", "contents"] {
        assert_eq!(failed(&[command, "--json"], 1)["code"], "CF0202", "{command}");
    }
    assert_eq!(failed(&["status", "--json", "-n", "no-such"], 2)["code"], "CF0706");
    assert_eq!(failed(&["check", "--json", "-C", "nowhere"], 2)["place"], "nowhere");
    let broken = failed(&["depot", "check", "nowhere", "--json"], 2);
    assert!(!broken["message"].as_str().unwrap().contains("os error"), "{broken}");
    // A step's last lines, and what would be repaired, are data.
    team.step("echo the mast is down; false");
    team.ok(&["lock"]);
    let step = failed(&["build", "--json"], 5);
    assert_eq!((&step["code"], &step["details"][0]), (&"CF0402".into(), &"the mast is down".into()));
    team.change("spec = 1", "spec = 2");
    let mistakes = failed(&["lock", "--json"], 1);
    assert_eq!(mistakes["code"], "CF0201");
    assert!(mistakes["details"][0]["mistakes"][0]["code"].as_str().unwrap().starts_with("CV"));
}
