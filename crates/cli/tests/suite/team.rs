//! A project of Brindle Ferry in a temporary folder, and people who work on it.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::OnceLock;

/// The program under test.
pub const PROGRAM: &str = env!("CARGO_BIN_EXE_cavrith");

/// What the demo lays out: made once, copied for each test.
fn demo() -> &'static Path {
    static DEMO: OnceLock<tempfile::TempDir> = OnceLock::new();
    DEMO.get_or_init(|| {
        let dir = tempfile::tempdir().unwrap();
        let output = Command::new(PROGRAM).args(["demo", "d"]).current_dir(dir.path()).output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        dir
    })
    .path()
}

/// Both streams of a command, for messages.
pub fn told(output: &Output) -> String {
    format!(
        "{}\n{}\n{}",
        output.status,
        String::from_utf8_lossy(&output.stderr),
        String::from_utf8_lossy(&output.stdout)
    )
}

pub struct Team {
    pub dir: tempfile::TempDir,
}

impl Drop for Team {
    fn drop(&mut self) {
        self.stop_all();
    }
}

impl Team {
    /// A depot and a project with a spec that is sound, and no lock.
    pub fn new() -> Self {
        Self::new_in(tempfile::tempdir().unwrap())
    }

    /// The same, locked, in memory where there is some: for tests that write, and wait for the disk, very often.
    pub fn locked_in_memory() -> Self {
        let team = Self::new_in(tempfile::tempdir_in("/dev/shm").unwrap_or_else(|_| tempfile::tempdir().unwrap()));
        team.ok(&["lock"]);
        team
    }

    fn new_in(dir: tempfile::TempDir) -> Self {
        copy(&demo().join("d/depot"), &dir.path().join("depot"));
        copy(&demo().join("d/ida/timetable"), &dir.path().join("ida/timetable"));
        for name in ["cavrith.lock", "cavrith.team"] {
            fs::remove_file(dir.path().join("ida/timetable").join(name)).unwrap();
        }
        // As it was before the story's last act.
        let spec = include_str!("../../../../demo/project/cavrith.toml");
        fs::write(dir.path().join("ida/timetable/cavrith.toml"), spec).unwrap();
        Self { dir }
    }

    /// The same, locked.
    pub fn locked() -> Self {
        let team = Self::new();
        team.ok(&["lock"]);
        team
    }

    /// The same, built and sealed.
    pub fn sealed() -> Self {
        let team = Self::locked();
        team.ok(&["seal"]);
        team
    }

    /// Ends what runs; nothing of a test goes on after it.
    pub fn stop_all(&self) {
        if !self.home().join("workspaces").is_dir() {
            return;
        }
        let listed = self.run(&["list", "--json"]);
        let listed: serde_json::Value = serde_json::from_slice(&listed.stdout).unwrap_or_default();
        for workspace in listed["workspaces"].as_array().into_iter().flatten() {
            if let (Some(name), Some(project)) = (workspace["name"].as_str(), workspace["project"].as_str()) {
                self.run(&["stop", "--quiet", "--name", name, "--project", project]);
            }
        }
    }

    pub fn project(&self) -> PathBuf {
        self.dir.path().join("ida/timetable")
    }

    pub fn home(&self) -> PathBuf {
        self.dir.path().join("home")
    }

    pub fn staging(&self) -> PathBuf {
        self.home().join("store/staging")
    }

    /// The spec, changed.
    ///
    /// What runs is ended, as by a member who starts it anew; following a change is tested apart.
    pub fn change(&self, old: &str, new: &str) -> &Self {
        self.stop_all();
        let path = self.project().join("cavrith.toml");
        let text = fs::read_to_string(&path).unwrap();
        assert!(text.contains(old), "{old} is not in the spec");
        fs::write(path, text.replacen(old, new, 1)).unwrap();
        self
    }

    /// A further part of the spec.
    pub fn add(&self, text: &str) {
        self.stop_all();
        let path = self.project().join("cavrith.toml");
        let spec = fs::read_to_string(&path).unwrap();
        fs::write(path, format!("{spec}\n{text}")).unwrap();
    }

    /// A further build step.
    pub fn step(&self, run: &str) -> &Self {
        self.stop_all();
        let path = self.project().join("cavrith.toml");
        let text = fs::read_to_string(&path).unwrap();
        let number = text.matches("[[steps]]").count();
        let run = run.replace('\\', "\\\\").replace('"', "\\\"");
        fs::write(path, format!("{text}\n[[steps]]\nname = \"step {number}\"\nat = \"build\"\nrun = \"{run}\"\n"))
            .unwrap();
        self
    }

    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(PROGRAM);
        command.args(arguments).current_dir(self.project()).stdin(Stdio::null());
        command.env("CAVRITH_HOME", self.home()).env_remove("NO_COLOR");
        command
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    /// Runs a command that has to succeed; its standard output.
    pub fn ok(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "cavrith {arguments:?}: {}", told(&output));
        String::from_utf8(output.stdout).unwrap()
    }

    /// Runs a command that has to end with this code; its standard error and output.
    pub fn fails(&self, arguments: &[&str], code: i32) -> String {
        let output = self.run(arguments);
        assert_eq!(output.status.code(), Some(code), "cavrith {arguments:?}: {}", told(&output));
        format!("{}{}", String::from_utf8_lossy(&output.stderr), String::from_utf8_lossy(&output.stdout))
    }

    pub fn json(&self, arguments: &[&str]) -> serde_json::Value {
        let output = self.run(arguments);
        serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {}", told(&output)))
    }

    /// The member's word for something outside the project.
    pub fn allow(&self, path: &str) {
        self.ok(&["list", "--allow-outside", path]);
    }

    /// The image's fingerprint after a build.
    pub fn build(&self) -> String {
        self.json(&["build", "--json"])["image"].as_str().unwrap().to_owned()
    }

    /// A file of the store, by its path inside.
    pub fn in_store(&self, path: &str) -> PathBuf {
        let layers = fs::read_dir(self.home().join("store/layers")).unwrap();
        let mut found = layers
            .map(|layer| layer.unwrap().path().join("root").join(path))
            .filter(|path| path.symlink_metadata().is_ok());
        found.next().unwrap_or_else(|| panic!("{path} is not in the store"))
    }

    /// What runs is ended, and nothing is left in staging.
    pub fn assert_clean(&self) {
        self.stop_all();
        let left: Vec<_> = fs::read_dir(self.staging()).unwrap().map(|entry| entry.unwrap().path()).collect();
        assert!(left.is_empty(), "left in staging: {left:?}");
        let mounts = fs::read_to_string("/proc/mounts").unwrap();
        assert!(!mounts.contains(self.dir.path().to_str().unwrap()), "a mount is left");
    }
}

/// Copies a folder with everything in it.
pub fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).unwrap();
    for entry in fs::read_dir(from).unwrap() {
        let entry = entry.unwrap();
        let target = to.join(entry.file_name());
        if entry.file_type().unwrap().is_dir() {
            copy(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).unwrap();
        }
    }
}
