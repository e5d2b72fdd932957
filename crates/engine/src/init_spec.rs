//! A first spec, from what a project's own files tell.

use std::fmt::Write as _;
use std::fs;
use std::path::{Component, Path, PathBuf};

use cavrith_core::depot::{self, Index};
use cavrith_core::spec::FILE_NAME;
use cavrith_core::version::Version;

use crate::error::{EngineError, ProjectError, file_error};
use crate::findings::Findings;
use crate::outside::Bounds;
use crate::project;
use cavrith_store::reading;

/// Bytes of a file that are examined.
const LONGEST: u64 = 1 << 20;

/// Something that a project's files tell.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
pub struct Sight {
    /// The file.
    pub file: String,
    /// What it tells.
    pub finding: Finding,
}

/// What a file tells.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Finding {
    /// A toolchain, and the beginning of its version when that is named.
    Toolchain {
        /// Its name.
        name: String,
        /// Its version.
        version: Option<String>,
    },
    /// How the project is started.
    Start(String),
    /// A port that it listens on.
    Port(u16),
}

/// What came of it.
#[derive(Debug, Clone)]
pub struct FirstSpec {
    /// What was seen.
    pub seen: Vec<Sight>,
    /// What is only a guess, in sentences.
    pub guessed: Vec<String>,
    /// The spec's text.
    pub text: String,
}

/// Looks at a project, and writes its first spec. `depot` is the path of a depot; one that lies nearby is found.
///
/// # Errors
/// When there is a spec already, or it cannot be written.
pub fn write_first(dir: &Path, depot: Option<&str>) -> Result<FirstSpec, EngineError> {
    let path = dir.join(FILE_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::SpecExists { path }.into());
    }
    let seen = look(dir);
    let found = match depot {
        Some(path) => Some((path.to_owned(), crate::depots::read(&dir.join(path))?)),
        None => nearby(dir),
    };
    let (text, guessed) = write(&name_of(dir), &seen, found.as_ref());
    cavrith_store::atomic::write(&path, text.as_bytes())?;
    Ok(FirstSpec { seen, guessed, text })
}

/// Begins a project's spec as another project's, with what that one includes from its own folder; the workspace gets
/// the name of this folder. Gives the files that were written.
///
/// # Errors
/// When there is a spec already, the other one cannot be read, or the disk refuses.
pub fn write_from(dir: &Path, other: &Path) -> Result<Vec<String>, EngineError> {
    let path = dir.join(FILE_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::SpecExists { path }.into());
    }
    let (gathered, parsed) = project::read_spec(other)?;
    EngineError::unless_sound(Findings { sources: gathered.sources.clone(), mistakes: parsed.mistakes })?;
    let mut written = Vec::new();
    for file in gathered.sources.files().iter().rev() {
        let inner = Path::new(&file.path);
        // What lies beside that project is not its own.
        if inner.components().any(|part| !matches!(part, Component::Normal(_))) {
            continue;
        }
        let to = dir.join(inner);
        let is_spec = file.path == FILE_NAME;
        if !is_spec && to.symlink_metadata().is_ok() {
            return Err(ProjectError::SpecExists { path: to }.into());
        }
        let text = if is_spec { renamed(&file.text, &name_of(dir)) } else { file.text.clone() };
        if let Some(above) = to.parent() {
            fs::create_dir_all(above).map_err(file_error("make", above))?;
        }
        // The spec itself comes last, so that an interrupted start can be typed again.
        cavrith_store::atomic::write(&to, text.as_bytes())?;
        written.push(file.path.clone());
    }
    Ok(written)
}

/// The depot that is meant for a folder: the one of this path, or one that lies nearby; with its path.
///
/// # Errors
/// When the one that is named cannot be read.
pub fn depot_of(dir: &Path, named: Option<&str>) -> Result<Option<(PathBuf, Index)>, EngineError> {
    match named {
        Some(path) => Ok(Some((dir.join(path), crate::depots::read(&dir.join(path))?))),
        None => Ok(nearby(dir).map(|(path, index)| (dir.join(path), index))),
    }
}

/// Begins a project's spec with a text, under the name of this folder.
///
/// # Errors
/// When there is a spec already, or the disk refuses.
pub fn write_text(dir: &Path, text: &str) -> Result<(), EngineError> {
    let path = dir.join(FILE_NAME);
    if path.symlink_metadata().is_ok() {
        return Err(ProjectError::SpecExists { path }.into());
    }
    Ok(cavrith_store::atomic::write(&path, renamed(text, &name_of(dir)).as_bytes())?)
}

/// A spec's text with another workspace's name, and otherwise as it is.
fn renamed(text: &str, name: &str) -> String {
    let Ok(mut document) = text.parse::<toml_edit::DocumentMut>() else { return text.to_owned() };
    if let Some(there) = document.get_mut("workspace").and_then(|table| table.get_mut("name")) {
        let decor = there.as_value().map(|value| value.decor().clone());
        *there = toml_edit::value(name);
        if let (Some(value), Some(decor)) = (there.as_value_mut(), decor) {
            *value.decor_mut() = decor;
        }
    }
    document.to_string()
}

fn nearby(dir: &Path) -> Option<(String, Index)> {
    ["depot", "../depot", "../../depot"].into_iter().find_map(|path| {
        let text = reading::text(&dir.join(path).join(depot::FILE_NAME)).ok()?;
        Some((path.to_owned(), depot::parse(&text).ok()?))
    })
}

/// A name that a workspace may have, from the folder's.
fn name_of(dir: &Path) -> String {
    let folder = dir.file_name().unwrap_or_default().to_string_lossy().to_lowercase();
    let plain: String =
        folder.chars().map(|letter| if letter.is_ascii_alphanumeric() { letter } else { '-' }).take(63).collect();
    let plain = plain.trim_matches('-');
    if plain.is_empty() { "project".to_owned() } else { plain.to_owned() }
}

struct Looker<'a> {
    dir: &'a Path,
    bounds: Bounds,
    seen: Vec<Sight>,
}

/// Everything that the files of a project tell.
pub fn look(dir: &Path) -> Vec<Sight> {
    let mut looker = Looker { dir, bounds: Bounds::with(dir, Vec::new()), seen: Vec::new() };
    looker.rust();
    looker.node();
    looker.python();
    looker.go();
    looker.java();
    looker.ruby();
    looker.php();
    looker.c();
    looker.seen
}

impl Looker<'_> {
    /// The text of a file, when it is one of modest length.
    fn text(&self, file: &str) -> Option<String> {
        // A link may lead to what is none of the project's, and what is read here is shown.
        let path = self.bounds.real(file).ok()?;
        let bytes = reading::bounded(&path, LONGEST).ok()?;
        Some(String::from_utf8_lossy(&bytes).into_owned())
    }

    fn there(&self, file: &str) -> bool {
        self.dir.join(file).is_file()
    }

    fn toolchain(&mut self, file: &str, name: &str, version: Option<String>) {
        let known = self
            .seen
            .iter()
            .position(|sight| matches!(&sight.finding, Finding::Toolchain { name: other, .. } if other == name));
        let version = version.filter(|version| Version::new(version).is_ok());
        let sight = Sight {
            file: file.to_owned(),
            finding: Finding::Toolchain { name: name.to_owned(), version: version.clone() },
        };
        match known {
            // A file that names the version tells more than one that does not; the first one that does counts.
            Some(position) => {
                let silent = matches!(&self.seen[position].finding, Finding::Toolchain { version: None, .. });
                if silent && version.is_some() {
                    self.seen[position] = sight;
                }
            }
            None => self.seen.push(sight),
        }
    }

    fn start(&mut self, file: &str, command: impl Into<String>) {
        let is_start = |sight: &Sight| matches!(sight.finding, Finding::Start(_));
        if !self.seen.iter().any(is_start) {
            self.seen.push(Sight { file: file.to_owned(), finding: Finding::Start(command.into()) });
        }
    }

    fn port(&mut self, file: &str, port: Option<u16>) {
        let Some(port) = port.filter(|port| *port > 0) else { return };
        if !self.seen.iter().any(|sight| sight.finding == Finding::Port(port)) {
            self.seen.push(Sight { file: file.to_owned(), finding: Finding::Port(port) });
        }
    }

    fn rust(&mut self) {
        if let Some(text) = self.text("rust-toolchain.toml").or_else(|| self.text("rust-toolchain")) {
            let table: Option<toml_edit::DocumentMut> = text.parse().ok();
            let channel = table.and_then(|table| Some(table.get("toolchain")?.get("channel")?.as_str()?.to_owned()));
            let file = if self.there("rust-toolchain.toml") { "rust-toolchain.toml" } else { "rust-toolchain" };
            self.toolchain(file, "rust", numbers(&channel.unwrap_or(text)));
        }
        if let Some(text) = self.text("Cargo.toml") {
            let table: Option<toml_edit::DocumentMut> = text.parse().ok();
            let wanted = table.as_ref().and_then(|table| {
                let package = table.get("package").and_then(|package| package.get("rust-version"));
                let workspace = || table.get("workspace")?.get("package")?.get("rust-version");
                package.and_then(|item| item.as_str()).or_else(|| workspace()?.as_str()).map(str::to_owned)
            });
            self.toolchain("Cargo.toml", "rust", wanted.as_deref().and_then(numbers));
            if self.there("src/main.rs") {
                self.start("src/main.rs", "cargo run");
            }
        }
    }

    fn node(&mut self) {
        let Some(text) = self.text("package.json") else { return };
        let Ok(value) = serde_json::from_str::<serde_json::Value>(&text) else { return };
        if let Some(text) = self.text(".node-version") {
            self.toolchain(".node-version", "node", numbers(&text));
        }
        let wanted = value["engines"]["node"].as_str().and_then(numbers);
        self.toolchain("package.json", "node", wanted);
        if let Some(script) = value["scripts"]["start"].as_str() {
            self.port("package.json", port_in(script));
            self.start("package.json", "npm start");
        } else if let Some(script) = value["scripts"]["dev"].as_str() {
            self.port("package.json", port_in(script));
            self.start("package.json", "npm run dev");
        }
    }

    fn python(&mut self) {
        if let Some(text) = self.text(".python-version") {
            self.toolchain(".python-version", "python", numbers(&text));
        }
        if let Some(text) = self.text("pyproject.toml") {
            let table: Option<toml_edit::DocumentMut> = text.parse().ok();
            let wanted =
                table.and_then(|table| Some(table.get("project")?.get("requires-python")?.as_str()?.to_owned()));
            self.toolchain("pyproject.toml", "python", wanted.as_deref().and_then(numbers));
        }
        for file in ["requirements.txt", "setup.py", "setup.cfg", "manage.py"] {
            if self.there(file) {
                self.toolchain(file, "python", None);
            }
        }
        if self.there("manage.py") {
            self.start("manage.py", "python3 manage.py runserver");
            self.port("manage.py", Some(8000));
        }
    }

    fn go(&mut self) {
        let Some(text) = self.text("go.mod") else { return };
        let wanted = text.lines().find_map(|line| line.trim().strip_prefix("go "));
        self.toolchain("go.mod", "go", wanted.and_then(numbers));
        if self.there("main.go") {
            self.start("main.go", "go run .");
        }
    }

    fn java(&mut self) {
        if let Some(text) = self.text("pom.xml") {
            let marks = ["<maven.compiler.release>", "<java.version>", "<maven.compiler.source>", "<release>"];
            let wanted = marks.iter().find_map(|mark| text.split(mark).nth(1)?.split('<').next());
            self.toolchain("pom.xml", "java", wanted.and_then(numbers));
        }
        for file in ["build.gradle", "build.gradle.kts"] {
            if let Some(text) = self.text(file) {
                let marks = ["JavaLanguageVersion.of(", "JavaVersion.VERSION_", "sourceCompatibility = "];
                let wanted = marks.iter().find_map(|mark| text.split(mark).nth(1)?.split([')', '\n']).next());
                self.toolchain(file, "java", wanted.and_then(numbers));
            }
        }
    }

    fn ruby(&mut self) {
        if let Some(text) = self.text(".ruby-version") {
            self.toolchain(".ruby-version", "ruby", numbers(&text));
        }
        if let Some(text) = self.text("Gemfile") {
            let wanted = text.lines().find_map(|line| line.trim().strip_prefix("ruby "));
            self.toolchain("Gemfile", "ruby", wanted.and_then(numbers));
        }
        if self.there("bin/rails") {
            self.start("bin/rails", "bin/rails server");
            self.port("bin/rails", Some(3000));
        } else if self.there("config.ru") {
            self.start("config.ru", "rackup");
            self.port("config.ru", Some(9292));
        }
    }

    fn php(&mut self) {
        let Some(text) = self.text("composer.json") else { return };
        let value: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
        self.toolchain("composer.json", "php", value["require"]["php"].as_str().and_then(numbers));
    }

    fn c(&mut self) {
        for file in ["CMakeLists.txt", "meson.build", "configure.ac"] {
            if self.there(file) {
                self.toolchain(file, "c", None);
            }
        }
        let sources = fs::read_dir(self.dir)
            .into_iter()
            .flatten()
            .chain(fs::read_dir(self.dir.join("src")).into_iter().flatten());
        let mut names = sources.flatten().map(|entry| entry.file_name().to_string_lossy().into_owned());
        if self.there("Makefile")
            && names.any(|name| name.ends_with(".c") || name.ends_with(".cc") || name.ends_with(".cpp"))
        {
            self.toolchain("Makefile", "c", None);
        }
    }
}

/// The first version in a text: `>=18.2, <20` tells 18.2. At most three numbers.
fn numbers(text: &str) -> Option<String> {
    let begin = text.find(|letter: char| letter.is_ascii_digit())?;
    let rest = &text[begin..];
    let end = rest.find(|letter: char| !letter.is_ascii_digit() && letter != '.').unwrap_or(rest.len());
    let parts: Vec<_> = rest[..end].split('.').filter(|part| !part.is_empty()).take(3).collect();
    (!parts.is_empty()).then(|| parts.join("."))
}

/// A port that a command line names: `--port 3000`, `-p 3000`, `PORT=3000`, `localhost:3000`.
fn port_in(command: &str) -> Option<u16> {
    let words: Vec<_> = command.split([' ', '=', ':']).collect();
    words.windows(2).find_map(|pair| {
        let named = matches!(pair[0], "--port" | "-p" | "PORT" | "localhost" | "127.0.0.1" | "0.0.0.0");
        named.then(|| pair[1].parse().ok())?
    })
}

/// The text of the spec, and what in it is a guess.
fn write(name: &str, seen: &[Sight], depot: Option<&(String, Index)>) -> (String, Vec<String>) {
    let mut guessed = Vec::new();
    let mut text = format!(
        "# The workspace of {name}. `cavrith check` finds mistakes in it, `cavrith explain KEY` tells of each key.\nspec = 1\n\n[workspace]\nname    = \"{name}\"\n# about   = \"one line for people\"\naccount = \"crew\"                 # the ordinary user inside\nproject = \"/code\"                # where this folder appears inside\n"
    );
    base(&mut text, seen, depot, &mut guessed);
    toolchains(&mut text, seen, depot, &mut guessed);
    let ports = seen.iter().filter_map(|sight| match sight.finding {
        Finding::Port(port) => Some((port, &sight.file)),
        _ => None,
    });
    for (number, (port, file)) in ports.enumerate() {
        let name = if number == 0 { "site".to_owned() } else { format!("site-{}", number + 1) };
        let _ = write!(
            text,
            "\n[[ports]]                        # {file} tells it\nname   = \"{name}\"\ninside = {port}\n"
        );
        guessed.push(format!("the name {name:?} of the port {port}"));
    }
    let start = seen.iter().find_map(|sight| match &sight.finding {
        Finding::Start(command) => Some((command, &sight.file)),
        _ => None,
    });
    if let Some((command, file)) = start {
        let _ = write!(text, "\n# {file} tells how it is started: cavrith run {command}\n");
    }
    text.push_str("\n# What the image needs besides is made by steps:\n# [[steps]]\n# name = \"bring the settings\"\n# at   = \"build\"\n# run  = \"…\"\n");
    (text, guessed)
}

/// The suite of the Debian archive that a new spec begins with: the newest that was stable when this program was made.
const SUITE: &str = "trixie";

/// Packages of the archive that bring what a project's files tell.
const BROUGHT_BY: [(&str, &[&str]); 8] = [
    ("c", &["gcc", "libc6-dev", "make"]),
    ("go", &["golang-go"]),
    ("java", &["default-jdk-headless"]),
    ("node", &["nodejs"]),
    ("php", &["php-cli"]),
    ("python", &["python3"]),
    ("ruby", &["ruby"]),
    ("rust", &["rustc", "cargo"]),
];

fn base(text: &mut String, seen: &[Sight], depot: Option<&(String, Index)>, guessed: &mut Vec<String>) {
    let Some((path, index)) = depot else {
        let is_start = seen.iter().filter_map(|sight| match &sight.finding {
            Finding::Toolchain { name, .. } => BROUGHT_BY.iter().find(|(tool, _)| tool == name),
            _ => None,
        });
        let mut packages = vec!["git"];
        for package in is_start.flat_map(|(_, packages)| packages.iter()) {
            if !packages.contains(package) {
                packages.push(package);
            }
        }
        let listed = packages.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
        let _ = write!(
            text,
            "\n[base]                           # the root that everything else lies on\ndebian   = \"{SUITE}\"\npackages = [{listed}]\n"
        );
        guessed.push(format!("Debian's suite {SUITE} for the base, with {}", packages.join(", ")));
        return;
    };
    let _ = write!(
        text,
        "\n[depots]\nours = {{ path = \"{path}\" }}\n\n[base]                           # the root that everything else lies on\ndepot    = \"ours\"\n"
    );
    let mut names: Vec<_> = index.packages.iter().map(|package| package.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    let listed = names.iter().map(|name| format!("\"{name}\"")).collect::<Vec<_>>().join(", ");
    let _ = writeln!(text, "packages = [{listed}]");
    guessed.push("all packages of the depot for the base; leave out what the project does not need".to_owned());
}

fn toolchains(text: &mut String, seen: &[Sight], depot: Option<&(String, Index)>, guessed: &mut Vec<String>) {
    let wanted: Vec<_> = seen
        .iter()
        .filter_map(|sight| match &sight.finding {
            Finding::Toolchain { name, version } => Some((name, version, &sight.file)),
            _ => None,
        })
        .collect();
    if wanted.is_empty() {
        return;
    }
    let offered = |name: &str, version: Option<&str>| {
        let wanted = version.and_then(|version| Version::new(version).ok());
        let versions = depot.into_iter().flat_map(|(_, index)| &index.toolchains).filter(|item| item.name == name);
        versions
            .map(|item| &item.version)
            .filter(|have| wanted.as_ref().is_none_or(|wanted| have.answers(wanted)))
            .max()
    };
    let mut lines = String::new();
    let mut real = false;
    for (name, version, file) in wanted {
        match (offered(name, version.as_deref()), version) {
            (Some(_), Some(version)) => {
                let _ = writeln!(lines, "{name} = \"{version}\"   # {file} tells it");
                real = true;
            }
            (Some(newest), None) => {
                let _ = writeln!(lines, "{name} = \"{newest}\"   # {file} tells {name}; this is the depot's newest");
                guessed.push(format!("the version {newest} of {name}"));
                real = true;
            }
            (None, version) => {
                // A base from the archive has it among its packages, in the version that the suite has.
                if depot.is_none() && BROUGHT_BY.iter().any(|(tool, _)| tool == name) {
                    continue;
                }
                let version = version.as_deref().unwrap_or("…");
                let _ = writeln!(
                    lines,
                    "# {name} = \"{version}\"   # {file} tells it; no depot here has it, unless the base brings it"
                );
                guessed.push(format!("nothing that brings {name}: no depot here has it"));
            }
        }
    }
    if lines.is_empty() {
        return;
    }
    let head = if real { "\n[toolchains]\n" } else { "\n# [toolchains]\n" };
    let _ = write!(text, "{head}{lines}");
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn versions_and_ports_are_found_in_what_people_write() {
        assert_eq!(numbers(">=18.2, <20").as_deref(), Some("18.2"));
        assert_eq!(numbers("~> 3.2.1\n").as_deref(), Some("3.2.1"));
        assert_eq!(numbers("v20.11.0.4").as_deref(), Some("20.11.0"));
        assert_eq!(numbers("stable"), None);
        assert_eq!(port_in("serve --port 3000 --open"), Some(3000));
        assert_eq!(port_in("PORT=8081 node ."), Some(8081));
        assert_eq!(port_in("gunicorn -b 127.0.0.1:8000 app"), Some(8000));
        assert_eq!(port_in("node ."), None);
    }

    #[test]
    fn a_name_is_made_of_any_folder() {
        assert_eq!(name_of(Path::new("/x/Time Table!")), "time-table");
        assert_eq!(name_of(Path::new("/")), "project");
        assert_eq!(name_of(Path::new("/x/Übersicht")), "bersicht");
    }
}
