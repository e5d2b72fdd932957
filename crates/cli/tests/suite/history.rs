//! A project's earlier revisions: told, started beside the present one, and searched.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::team::{Team, told};

fn git(dir: &Path, arguments: &[&str]) -> String {
    let mut command = Command::new("git");
    command.env("GIT_CONFIG_GLOBAL", "/dev/null").env("GIT_CONFIG_NOSYSTEM", "1");
    command.args([
        "-c",
        "user.name=Ida Brandt",
        "-c",
        "user.email=ida@brindle.example",
        "-c",
        "init.defaultBranch=main",
    ]);
    let output = command.args(arguments).current_dir(dir).output().unwrap();
    assert!(output.status.success(), "git {arguments:?}: {}", told(&output));
    String::from_utf8(output.stdout).unwrap().trim().to_owned()
}

/// Four revisions: sealed; a step writes something else; a variable; and news that have nothing to do with it.
struct Past {
    team: Team,
    commits: Vec<String>,
}

impl Past {
    fn new() -> Self {
        let mut past = Self { team: Team::new(), commits: Vec::new() };
        let team = &past.team;
        team.step("echo seven > /srv/depth");
        fs::write(team.project().join(".gitignore"), "*.tmp\n").unwrap();
        team.ok(&["lock"]);
        team.ok(&["seal"]);
        git(&team.project(), &["init", "-q"]);
        past.commit("The timetable, sealed");
        past.team.change("echo seven", "echo eight");
        past.commit("Deeper water");
        past.team.change("SITE_PORT = \"8080\"", "SITE_PORT = \"8080\"\nSEASON = \"winter\"");
        past.commit("Winter");
        fs::write(past.team.project().join("news.html"), "<p>Fog</p>\n").unwrap();
        past.commit("News\u{1b}[31m of fog");
        past
    }

    fn commit(&mut self, subject: &str) {
        let project = self.team.project();
        self.team.ok(&["lock"]);
        git(&project, &["add", "-A"]);
        git(&project, &["commit", "-q", "-m", subject]);
        self.commits.push(git(&project, &["rev-parse", "HEAD"]));
    }

    fn short(&self, number: usize) -> &str {
        &self.commits[number][..8]
    }

    fn folder(&self, number: usize) -> PathBuf {
        self.team.project().with_file_name(format!("timetable-{}", self.short(number)))
    }

    fn left_beside(&self) -> Vec<String> {
        let entries = fs::read_dir(self.team.project().parent().unwrap()).unwrap();
        entries
            .map(|entry| entry.unwrap().file_name().into_string().unwrap())
            .filter(|name| name.contains("timetable") && name != "timetable")
            .collect()
    }

    fn workspaces(&self) -> Vec<String> {
        let listed = self.team.json(&["list", "--json"]);
        let all = listed["workspaces"].as_array().unwrap();
        all.iter().map(|one| one["name"].as_str().unwrap().to_owned()).collect()
    }
}

#[test]
fn each_revision_tells_what_moved_and_what_was_sealed() {
    let past = Past::new();
    let told = past.team.ok(&["history"]);
    let lines: Vec<_> = told.lines().collect();
    assert!(lines[0].starts_with(past.short(2)) && lines[0].ends_with("Ida Brandt  Winter"), "{told}");
    assert_eq!(lines[1], "    env.SEASON  winter");
    assert!(lines[2].starts_with(past.short(1)), "{told}");
    let step = &lines[3];
    assert!(step.contains("run  echo seven > /srv/depth → echo eight > /srv/depth"), "{told}");
    assert!(told.contains("    toolchain quill                 2.4.1\n"), "{told}");
    assert!(told.contains("    sealed") && told.contains(", not signed"), "{told}");
    assert!(!told.contains("fog"), "news are no change of the workspace: {told}");
    assert_eq!(past.team.ok(&["history", "--last", "1"]).lines().count(), 2);
    assert!(!past.team.ok(&["history", "--since", past.short(1)]).contains("Deeper water"));
    let json = past.team.json(&["history", "--json", "--since", past.short(0)]);
    let revisions = json["revisions"].as_array().unwrap();
    assert_eq!(revisions.len(), 2);
    assert_eq!(revisions[0]["moved"][0]["what"], "env.SEASON");
    assert_eq!(revisions[1]["moved"][0]["from"], "echo seven > /srv/depth");
    assert_eq!(json["shallow"], false);
}

#[test]
fn a_path_tells_the_revisions_that_changed_it_in_the_project_or_in_the_image() {
    let mut past = Past::new();
    past.team.ok(&["seal"]);
    past.commit("Sealed again");
    let told = past.team.ok(&["history", "/srv/depth"]);
    let changes: Vec<_> = told.lines().filter(|line| line.contains("/srv/depth  ")).collect();
    assert_eq!(changes.len(), 2, "{told}");
    assert!(changes[0].contains("6 B") && changes[0].contains(" → ") && changes[0].contains("from step"), "{told}");
    let told = past.team.ok(&["history", "news.html"]);
    assert!(told.lines().next().unwrap().ends_with("News\\u{1b}[31m of fog"), "{told}");
    assert_eq!(past.team.ok(&["history", "no-such-file", "/no/such/path"]), "no revision changed any of that\n");
    assert!(past.team.fails(&["history", "../elsewhere"], 2).contains("relative to it, or an absolute path"));
    assert!(past.team.fails(&["history", "--since", "nowhere"], 2).contains("no revision nowhere"));
}

#[test]
fn what_cannot_be_read_is_told_at_its_revision_and_the_rest_goes_on() {
    let mut past = Past::new();
    let project = past.team.project();
    let lock = fs::read_to_string(project.join("cavrith.lock")).unwrap();
    for (file, text) in [("cavrith.lock", "lock = \"no\"\n"), ("cavrith.toml", "spec = 1\n[broken\n")] {
        let before = fs::read_to_string(project.join(file)).unwrap();
        fs::write(project.join(file), text).unwrap();
        git(&project, &["commit", "-q", "-a", "-m", "Broken"]);
        fs::write(project.join(file), before).unwrap();
        git(&project, &["commit", "-q", "-a", "-m", "Mended"]);
    }
    fs::write(project.join("cavrith.lock"), lock).unwrap();
    let told = past.team.ok(&["history"]);
    assert_eq!(told.matches("unreadable:").count(), 2, "{told}");
    assert!(told.contains("Deeper water"), "{told}");
    // What a spec included once is followed, though it does not any more.
    past.team.stop_all();
    let spec = fs::read_to_string(project.join("cavrith.toml")).unwrap();
    fs::write(project.join("cavrith.toml"), format!("include = [\"more.toml\"]\n{spec}")).unwrap();
    fs::write(project.join("more.toml"), "[env]\nTIDE = \"low\"\n").unwrap();
    past.commit("In two files");
    fs::write(project.join("more.toml"), "[env]\nTIDE = \"high\"\n").unwrap();
    past.commit("High tide");
    fs::write(project.join("cavrith.toml"), spec).unwrap();
    past.commit("In one file again");
    let told = past.team.ok(&["history"]);
    assert!(told.contains("env.TIDE  low → high"), "{told}");
    // What lies outside has no revision, and stops nothing.
    let spec = fs::read_to_string(project.join("cavrith.toml")).unwrap();
    fs::write(project.join("cavrith.toml"), format!("include = [\"../../crew.toml\"]\n{spec}")).unwrap();
    git(&project, &["commit", "-q", "-a", "-m", "The crew's common part"]);
    assert!(past.team.ok(&["history"]).contains("The crew's common part"));
}

#[test]
fn names_that_look_like_what_git_says_change_nothing() {
    let mut past = Past::new();
    let project = past.team.project();
    let forged = format!("notes\n\u{1}{}", "d".repeat(40));
    fs::create_dir(project.join("docs")).unwrap();
    fs::write(project.join("docs").join(&forged), "x").unwrap();
    fs::write(project.join("docs").join(":100644 100644"), "x").unwrap();
    past.commit("Odd names");
    let json = past.team.json(&["history", "docs", "--json"]);
    let revisions = json["revisions"].as_array().unwrap();
    assert_eq!(revisions.len(), 1, "{json}");
    let files: Vec<_> = revisions[0]["files"].as_array().unwrap().iter().map(|one| one["what"].clone()).collect();
    assert_eq!(files, ["docs/:100644 100644".to_owned(), format!("docs/{forged}")]);
    let spec = fs::read_to_string(project.join("cavrith.toml")).unwrap();
    fs::write(project.join("cavrith.toml"), format!("include = [\"more\\nHEAD.toml\"]\n{spec}")).unwrap();
    git(&project, &["commit", "-q", "-a", "-m", "An odd include"]);
    assert!(past.team.ok(&["history"]).contains("unreadable: cavrith.toml cannot be read whole"));
}

#[test]
fn a_project_without_a_past_is_told_so() {
    let team = Team::locked();
    assert!(team.fails(&["history"], 2).contains("is not under version control"));
    assert!(team.fails(&["at", "HEAD"], 2).contains("is not under version control"));
    git(&team.project(), &["init", "-q"]);
    assert!(team.fails(&["history"], 2).contains("there is no revision HEAD"));
}

#[test]
fn a_revision_runs_beside_the_present_one_and_goes_without_a_trace() {
    let past = Past::new();
    past.team.ok(&["start", "--wait"]);
    let tag = git(&past.team.project(), &["tag", "v1", past.short(0)]);
    assert_eq!(tag, "");
    let told = past.team.ok(&["at", "v1"]);
    assert!(told.contains("timetable-v1 runs"), "{told}");
    assert_eq!(past.workspaces(), ["timetable", "timetable-v1"]);
    assert_eq!(past.team.ok(&["run", "--", "cat", "/srv/depth"]), "eight\n");
    assert_eq!(past.team.ok(&["at", "v1", "--", "cat", "/srv/depth"]), "seven\n");
    // It ran before, so it goes on; the command's exit code is ours.
    assert_eq!(past.team.run(&["at", past.short(0), "--", "sh", "-c", "exit 7"]).status.code(), Some(7));
    let listed = past.team.json(&["list", "--json"]);
    let port = |number: usize| listed["workspaces"][number]["ports"][0].as_str().unwrap().to_owned();
    assert_ne!(port(0), port(1));
    // One that did not run is stopped afterwards.
    past.team.ok(&["at", "HEAD~2", "--", "test", "-e", "/srv/depth"]);
    let listed = past.team.json(&["list", "--json"]);
    let other = format!("timetable-{}", past.short(1));
    let state = listed["workspaces"].as_array().unwrap().iter().find(|one| one["name"] == *other).unwrap();
    assert_eq!(state["standing"], "stopped");
    // What somebody made there is not thrown away.
    fs::write(past.folder(0).join("note.tmp"), "mine").unwrap();
    assert!(past.team.fails(&["at", "--remove", "v1"], 2).contains("something that is not in"));
    fs::remove_file(past.folder(0).join("note.tmp")).unwrap();
    for revision in ["v1", "HEAD~2"] {
        past.team.ok(&["at", "--remove", revision]);
    }
    past.team.ok(&["at", "--remove", "v1"]);
    assert_eq!(past.workspaces(), ["timetable"]);
    assert_eq!(past.left_beside(), Vec::<String>::new());
    assert_eq!(git(&past.team.project(), &["status", "--porcelain"]), "");
    // Somebody else's folder is left alone.
    fs::create_dir(past.folder(0)).unwrap();
    fs::write(past.folder(0).join("cavrith.toml"), "").unwrap();
    past.team.fails(&["at", "v1"], 2);
    past.team.fails(&["at", "--remove", "v1"], 2);
    assert!(past.folder(0).join("cavrith.toml").exists());
}

#[test]
fn a_revision_whose_files_are_gone_names_them_all() {
    let past = Past::new();
    let depot = past.team.project().join("../../depot/toolchains");
    for name in ["quill-2.4.1.tar.gz", "gauge-0.9.3.tar.gz"] {
        fs::remove_file(depot.join(name)).unwrap();
    }
    fs::remove_dir_all(past.team.home().join("store")).unwrap();
    let told = past.team.fails(&["at", "HEAD~3"], 4);
    for gone in
        ["toolchain gauge 0.9.3  sha256 ", "toolchain quill 2.4.1  sha256 ", "cavrith depot fill", "2 pinned files"]
    {
        assert!(told.contains(gone), "{told}");
    }
    assert!(past.team.fails(&["at", "HEAD~9"], 2).contains("no revision HEAD~9"));
}

#[test]
fn the_change_that_broke_a_command_is_found_and_nothing_stays() {
    let past = Past::new();
    let good = past.short(0);
    let found = past.team.json(&["pinpoint", good, "--json", "--", "grep", "-q", "seven", "/srv/depth"]);
    assert_eq!(found["found"]["commit"], *past.commits[1], "{found}");
    assert_eq!(found["found"]["moved"][0]["to"], "echo eight > /srv/depth");
    let told = past.team.ok(&["pinpoint", good, "HEAD", "--", "sh", "-c", "test -z \"$SEASON\""]);
    assert!(told.starts_with("it fails since\n") && told.contains(past.short(2)), "{told}");
    assert!(told.contains("env.SEASON  winter"), "{told}");
    // Anything that is not the workspace's doing is told as such.
    assert!(past.team.fails(&["pinpoint", good, "--", "false"], 1).contains("not the workspace that broke it"));
    assert!(past.team.fails(&["pinpoint", good, "--", "true"], 1).contains("nothing to find"));
    assert!(past.team.fails(&["pinpoint", "HEAD", good, "--", "true"], 2).contains("does not come before"));
    // The news of the bad revision are there in all, unless each is taken whole.
    assert!(past.team.fails(&["pinpoint", good, "--", "test", "!", "-e", "news.html"], 1).contains("--whole"));
    // A revision that cannot tell is passed over, and told.
    let script = "grep -q seven /srv/depth && exit 0; test -n \"$SEASON\" && exit 1; exit 125";
    let told = past.team.ok(&["pinpoint", good, "--", "sh", "-c", script]);
    assert!(told.contains("or since one of these") && told.contains("Deeper water"), "{told}");
    assert_eq!(past.workspaces(), Vec::<String>::new());
    assert_eq!(past.left_beside(), Vec::<String>::new());
    let remembered = fs::read_to_string(past.team.home().join("allowed.toml")).unwrap_or_default();
    assert!(!remembered.contains("search"), "{remembered}");
    past.team.assert_clean();
}

#[test]
fn a_search_that_is_killed_leaves_nothing() {
    let past = Past::new();
    let mut command = past.team.command(&["pinpoint", past.short(0), "--", "sleep", "60"]);
    let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
    let patience = Instant::now() + Duration::from_secs(60);
    let runs = || {
        let listed: Value = past.team.json(&["list", "--json"]);
        listed["workspaces"].as_array().unwrap().iter().any(|one| one["standing"] == "running")
    };
    while !runs() {
        assert!(Instant::now() < patience && child.try_wait().unwrap().is_none(), "it never began");
        std::thread::sleep(Duration::from_millis(50));
    }
    child.kill().unwrap();
    child.wait().unwrap();
    while !past.left_beside().is_empty() || !past.workspaces().is_empty() {
        assert!(Instant::now() < patience, "{:?} {:?}", past.left_beside(), past.workspaces());
        std::thread::sleep(Duration::from_millis(100));
    }
}
