//! What a project's own files tell of what it needs: versions, package managers, libraries, services, how it is
//! started. Nothing of it is run.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use cavrith_core::first_spec::{Finding, ServiceKind, Sight, Wish, library};
use cavrith_core::secrets::is_secret_name;
use serde_json::Value;

use crate::outside::Bounds;
use cavrith_store::reading;

/// Bytes of a file that are examined.
const LONGEST: u64 = 4 << 20;

struct Looker<'a> {
    dir: &'a Path,
    bounds: Bounds,
    seen: Vec<Sight>,
}

/// A port for a program that listens wherever the variable `PORT` says.
const CHOSEN_PORT: u16 = 5000;

/// Everything that the files of a project tell.
pub fn look(dir: &Path) -> Vec<Sight> {
    let mut looker = Looker { dir, bounds: Bounds::with(dir, Vec::new()), seen: Vec::new() };
    looker.versions();
    looker.processes();
    looker.rust();
    looker.node();
    looker.python();
    looker.go();
    looker.java();
    looker.ruby();
    looker.php();
    looker.c();
    looker.elixir();
    looker.r();
    looker.variables();
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

    fn add(&mut self, file: &str, finding: Finding) {
        if !self.seen.iter().any(|sight| sight.finding == finding) {
            self.seen.push(Sight { file: file.to_owned(), finding });
        }
    }

    fn toolchain(&mut self, file: &str, name: &str, version: Option<Wish>) {
        let of_name = |sight: &Sight| matches!(&sight.finding, Finding::Toolchain { name: other, .. } if other == name);
        let known = self.seen.iter().position(of_name);
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

    fn tool(&mut self, file: &str, what: &str, packages: &[&str]) {
        let packages = packages.iter().map(|name| (*name).to_owned()).collect();
        self.add(file, Finding::Tool { what: what.to_owned(), packages });
    }

    /// A dependency of an index: what it needs of the archive, and which service it talks to.
    fn dependency(&mut self, file: &str, index: &str, name: &str) {
        if let Some(packages) = library(index, name) {
            self.add(file, Finding::Library { dependency: name.to_owned(), packages: packages.to_vec() });
        }
        if let Some(kind) = ServiceKind::of_dependency(name) {
            self.add(file, Finding::Service(kind));
        }
    }

    fn install(&mut self, file: &str, command: &str, files: &[&str], fills: &[&str]) {
        let of = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        let files = files.iter().copied().filter(|file| self.there(file)).collect::<Vec<_>>();
        let finding = Finding::Install { command: command.to_owned(), files: of(&files), fills: of(fills) };
        self.add(file, finding);
    }

    fn left(&mut self, file: &str, what: impl Into<String>) {
        self.add(file, Finding::Left(what.into()));
    }

    fn start(&mut self, file: &str, command: impl Into<String>) {
        let is_start = |sight: &Sight| matches!(sight.finding, Finding::Start(_));
        if !self.seen.iter().any(is_start) {
            self.seen.push(Sight { file: file.to_owned(), finding: Finding::Start(command.into()) });
        }
    }

    fn port(&mut self, file: &str, port: Option<u16>) {
        if let Some(port) = port.filter(|port| *port > 0) {
            self.add(file, Finding::Port(port));
        }
    }

    /// Files in which several tools look for versions.
    fn versions(&mut self) {
        for (file, name) in [
            (".python-version", "python"),
            (".node-version", "node"),
            (".ruby-version", "ruby"),
            (".java-version", "java"),
            (".go-version", "go"),
            (".php-version", "php"),
        ] {
            if let Some(text) = self.text(file) {
                let line = text.lines().map(str::trim).find(|line| !line.is_empty() && !line.starts_with('#'));
                self.toolchain(file, name, line.and_then(Wish::read));
            }
        }
        let Some(text) = self.text(".tool-versions") else { return };
        for line in text.lines().map(|line| line.split('#').next().unwrap_or_default()) {
            let mut words = line.split_whitespace();
            let (Some(name), Some(version)) = (words.next(), words.next()) else { continue };
            let name = match name {
                "nodejs" => "node",
                "golang" => "go",
                other => other,
            };
            match cavrith_core::debian::languages::find(name) {
                Some(language) => self.toolchain(".tool-versions", language.name, Wish::read(version)),
                None if name == "erlang" => {}
                None => self.left(".tool-versions", format!("{name} {version}")),
            }
        }
    }

    fn rust(&mut self) {
        if let Some(text) = self.text("rust-toolchain.toml").or_else(|| self.text("rust-toolchain")) {
            let file = if self.there("rust-toolchain.toml") { "rust-toolchain.toml" } else { "rust-toolchain" };
            let table: Option<toml_edit::DocumentMut> = text.parse().ok();
            let table = table.as_ref().and_then(|table| table.get("toolchain"));
            let channel = table.and_then(|table| table.get("channel")?.as_str());
            self.toolchain(file, "rust", Wish::read(channel.unwrap_or(&text)));
            let components = table.and_then(|table| table.get("components")?.as_array());
            for component in components.into_iter().flatten().filter_map(|one| one.as_str()) {
                match component {
                    "rustfmt" => self.tool(file, "rustfmt", &["rustfmt"]),
                    "clippy" => self.tool(file, "clippy", &["rust-clippy"]),
                    "rust-src" => self.tool(file, "the standard library's source", &["rust-src"]),
                    other => self.left(file, format!("the component {other}")),
                }
            }
        }
        let Some(text) = self.text("Cargo.toml") else { return };
        let table: Option<toml_edit::DocumentMut> = text.parse().ok();
        let wanted = table.as_ref().and_then(|table| {
            let package = table.get("package").and_then(|package| package.get("rust-version"));
            let workspace = || table.get("workspace")?.get("package")?.get("rust-version");
            package.and_then(|item| item.as_str()).or_else(|| workspace()?.as_str()).map(str::to_owned)
        });
        self.toolchain("Cargo.toml", "rust", wanted.as_deref().and_then(Wish::at_least));
        let locked = self.text("Cargo.lock").unwrap_or_default();
        let names: BTreeSet<&str> = locked
            .lines()
            .filter_map(|line| line.strip_prefix("name = \""))
            .filter_map(|rest| rest.strip_suffix('"'))
            .collect();
        for name in names {
            self.dependency("Cargo.lock", "cargo", name);
        }
        if locked.contains("source = \"registry+") {
            // A package has to have a source, and need not have its own for that.
            match table.as_ref().is_some_and(|table| table.get("workspace").is_some()) {
                false => {
                    let command = "mkdir -p src && touch src/main.rs src/lib.rs && cargo fetch --locked";
                    self.install("Cargo.lock", command, &["Cargo.toml", "Cargo.lock"], &[]);
                }
                true => self.left(
                    "Cargo.lock",
                    "the crates of several packages; a step with network = \"recorded\" and cargo fetch --locked brings them, with each Cargo.toml among its files",
                ),
            }
        }
        self.add("Cargo.toml", Finding::Apart("target".to_owned()));
        if self.there("src/main.rs") {
            self.start("src/main.rs", "cargo run");
        }
    }

    fn node(&mut self) {
        let Some(text) = self.text("package.json") else { return };
        let Ok(value) = serde_json::from_str::<Value>(&text) else {
            self.left("package.json", "it cannot be read as JSON");
            return;
        };
        self.toolchain("package.json", "node", value["engines"]["node"].as_str().and_then(Wish::read));
        for key in ["dependencies", "devDependencies", "optionalDependencies"] {
            for name in value[key].as_object().into_iter().flat_map(|all| all.keys()) {
                self.dependency("package.json", "npm", name);
            }
        }
        let files = ["package.json", "package-lock.json", ".npmrc"];
        let has_some = ["dependencies", "devDependencies"]
            .iter()
            .any(|key| value[*key].as_object().is_some_and(|all| !all.is_empty()));
        let manager = if self.there("pnpm-lock.yaml") {
            self.left("pnpm-lock.yaml", "its package manager is not in the archive; npm is there");
            "npm"
        } else if self.there("yarn.lock") {
            self.tool("yarn.lock", "yarn", &["yarnpkg"]);
            if has_some {
                let files = ["package.json", "yarn.lock", ".yarnrc"];
                self.install("yarn.lock", "yarnpkg install --frozen-lockfile", &files, &["node_modules"]);
            }
            "yarnpkg"
        } else {
            self.tool("package.json", "npm", &["npm"]);
            if self.there("package-lock.json") && has_some {
                self.install("package-lock.json", "npm ci", &files, &["node_modules"]);
            } else if has_some {
                self.left(
                    "package.json",
                    "there is no package-lock.json, so nothing says which packages are meant; npm install writes one",
                );
                self.add("package.json", Finding::Apart("node_modules".to_owned()));
            }
            "npm"
        };
        for script in ["start", "dev", "serve"] {
            if let Some(line) = value["scripts"][script].as_str() {
                self.port("package.json", port_in(line));
                let run = if script == "start" { "start".to_owned() } else { format!("run {script}") };
                self.start("package.json", format!("{manager} {run}"));
            }
        }
        let main = value["main"].as_str().filter(|main| self.there(main)).map(str::to_owned);
        for file in
            main.iter().map(String::as_str).chain(["server.js", "index.js", "app.js", "src/index.js", "src/server.js"])
        {
            if let Some(text) = self.text(file) {
                self.port(file, listening_in(&text));
            }
        }
    }

    fn python(&mut self) {
        let mut names: Vec<(String, String)> = Vec::new();
        let name_of = |line: &str| -> String {
            let end = line.find(|letter: char| !(letter.is_ascii_alphanumeric() || "-_.".contains(letter)));
            line[..end.unwrap_or(line.len())].to_lowercase().replace('_', "-")
        };
        if let Some(text) = self.text("pyproject.toml") {
            let table: Option<toml_edit::DocumentMut> = text.parse().ok();
            let project = table.as_ref().and_then(|table| table.get("project"));
            let wanted = project.and_then(|project| project.get("requires-python")?.as_str());
            self.toolchain("pyproject.toml", "python", wanted.and_then(Wish::read));
            let listed = project.and_then(|project| project.get("dependencies")?.as_array());
            names.extend(
                listed
                    .into_iter()
                    .flatten()
                    .filter_map(|one| Some(("pyproject.toml".to_owned(), name_of(one.as_str()?)))),
            );
        }
        for file in ["requirements.txt", "requirements-dev.txt", "requirements/base.txt"] {
            let Some(text) = self.text(file) else { continue };
            self.toolchain(file, "python", None);
            let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with(['#', '-']));
            names.extend(lines.map(|line| (file.to_owned(), name_of(line))));
        }
        for file in ["setup.py", "setup.cfg", "manage.py", "Pipfile"] {
            if self.there(file) {
                self.toolchain(file, "python", None);
            }
        }
        for (file, name) in &names {
            self.dependency(file, "pypi", name);
        }
        for (file, what) in [("Pipfile", "pipenv"), ("poetry.lock", "poetry"), ("uv.lock", "uv")] {
            if self.there(file) {
                self.left(file, format!("dependencies that {what} locks; export them as requirements.txt for a step"));
            }
        }
        let is_python =
            self.seen.iter().any(|one| matches!(&one.finding, Finding::Toolchain { name, .. } if name == "python"));
        if !is_python {
            return;
        }
        let has = |name: &str| names.iter().any(|(_, known)| known == name);
        let has_requirements =
            self.there("requirements.txt") && names.iter().any(|(file, _)| file == "requirements.txt");
        let python = if has_requirements { "/opt/python/bin/python" } else { "python3" };
        if has_requirements {
            self.tool("requirements.txt", "pip and virtual environments", &["python3-venv"]);
            let command = "python3 -m venv /opt/python && /opt/python/bin/pip install --no-compile -r requirements.txt";
            self.install("requirements.txt", command, &["requirements.txt"], &[]);
        }
        if self.there("manage.py") {
            self.start("manage.py", format!("{python} manage.py runserver 0.0.0.0:8000"));
            self.port("manage.py", Some(8000));
        }
        for file in ["app.py", "main.py", "service.py", "server.py", "wsgi.py"] {
            let Some(text) = self.text(file) else { continue };
            if has("flask") && text.contains("Flask(") {
                let module = file.trim_end_matches(".py");
                self.start(file, format!("{python} -m flask --app {module} run --host 127.0.0.1 --port 5000"));
                self.port(file, Some(5000));
            } else if has("fastapi") && text.contains("FastAPI(") {
                let module = file.trim_end_matches(".py");
                self.start(file, format!("{python} -m uvicorn {module}:app --port 8000"));
                self.port(file, Some(8000));
            } else if let Some(port) = listening_in(&text) {
                self.start(file, format!("{python} {file}"));
                self.port(file, Some(port));
            }
        }
        if self.dir.join(".venv").is_dir() {
            self.add(".venv", Finding::Apart(".venv".to_owned()));
        }
    }

    fn go(&mut self) {
        let Some(text) = self.text("go.mod") else { return };
        let wanted = text.lines().find_map(|line| line.trim().strip_prefix("go "));
        self.toolchain("go.mod", "go", wanted.and_then(Wish::at_least));
        let lines = text.lines().map(|line| line.trim().trim_start_matches("require ").trim());
        let names: Vec<String> = lines.filter_map(|line| line.split(' ').next()).map(str::to_owned).collect();
        for name in &names {
            // The last part of a module's path may be its major version.
            let plain = name.rsplit_once("/v").filter(|(_, major)| major.bytes().all(|byte| byte.is_ascii_digit()));
            self.dependency("go.mod", "go", plain.map_or(name.as_str(), |(plain, _)| plain));
        }
        if self.there("go.sum") {
            self.install("go.sum", "go mod download", &["go.mod", "go.sum"], &[]);
        }
        if let Some(text) = self.text("main.go") {
            self.port("main.go", listening_in(&text));
            self.start("main.go", "go run .");
        }
    }

    fn java(&mut self) {
        if let Some(text) = self.text("pom.xml") {
            let marks = ["<maven.compiler.release>", "<java.version>", "<maven.compiler.source>", "<release>"];
            let wanted = marks.iter().find_map(|mark| text.split(mark).nth(1)?.split('<').next());
            self.toolchain("pom.xml", "java", wanted.and_then(Wish::at_least));
            self.tool("pom.xml", "Maven", &["maven"]);
            self.add("pom.xml", Finding::Apart("target".to_owned()));
            if text.contains("postgresql") {
                self.add("pom.xml", Finding::Service(ServiceKind::Postgresql));
            }
            self.left(
                "pom.xml",
                "its dependencies; a step with network = \"recorded\" and mvn -B dependency:go-offline brings them",
            );
        }
        for file in ["build.gradle", "build.gradle.kts"] {
            if let Some(text) = self.text(file) {
                let marks = ["JavaLanguageVersion.of(", "JavaVersion.VERSION_", "sourceCompatibility = "];
                let wanted = marks.iter().find_map(|mark| text.split(mark).nth(1)?.split([')', '\n']).next());
                self.toolchain(file, "java", wanted.and_then(Wish::at_least));
                self.add(file, Finding::Apart("build".to_owned()));
                self.left(file, "Gradle itself; the archive's is old, and gradlew fetches its own in a step with network = \"recorded\"");
            }
        }
    }

    fn ruby(&mut self) {
        let Some(text) = self.text("Gemfile") else { return };
        let wanted = text.lines().find_map(|line| line.trim().strip_prefix("ruby "));
        self.toolchain("Gemfile", "ruby", wanted.and_then(Wish::read));
        self.tool("Gemfile", "Bundler", &["bundler"]);
        let locked = self.text("Gemfile.lock").unwrap_or_default();
        let of_gemfile = text
            .lines()
            .filter_map(|line| line.trim().strip_prefix("gem "))
            .map(|rest| rest.trim_start_matches(['"', '\'']).split(['"', '\'']).next().unwrap_or_default().to_owned());
        let of_lock = locked.lines().filter_map(|line| line.strip_prefix("    ")).filter(|line| !line.starts_with(' '));
        let of_lock = of_lock.filter_map(|line| line.split(' ').next()).map(str::to_owned);
        let names: BTreeSet<String> = of_gemfile.chain(of_lock).collect();
        for name in &names {
            self.dependency("Gemfile", "gem", name);
        }
        if !locked.is_empty() {
            let command = "BUNDLE_PATH=/opt/gems bundle install";
            self.install("Gemfile.lock", command, &["Gemfile", "Gemfile.lock"], &[]);
            let (name, value) = ("BUNDLE_PATH".to_owned(), "/opt/gems".to_owned());
            self.add("Gemfile.lock", Finding::Variable { name, value });
        } else if !names.is_empty() {
            self.left("Gemfile", "its gems; bundle lock writes Gemfile.lock, from which a step can install them");
        }
        if self.there("bin/rails") {
            self.start("bin/rails", "bin/rails server");
            self.port("bin/rails", Some(3000));
        } else if self.there("config.ru") {
            self.start("config.ru", "bundle exec rackup --port 9292");
            self.port("config.ru", Some(9292));
        }
    }

    fn php(&mut self) {
        let Some(text) = self.text("composer.json") else { return };
        let value: Value = serde_json::from_str(&text).unwrap_or_default();
        self.toolchain("composer.json", "php", value["require"]["php"].as_str().and_then(Wish::read));
        self.tool("composer.json", "Composer", &["composer"]);
        for name in value["require"].as_object().into_iter().flat_map(|all| all.keys()) {
            self.dependency("composer.json", "composer", name);
        }
        if self.there("composer.lock") {
            let files = ["composer.json", "composer.lock"];
            self.install("composer.lock", "composer install --no-interaction --no-scripts", &files, &["vendor"]);
        }
        if self.dir.join("public/index.php").is_file() {
            self.start("public/index.php", "php -S 127.0.0.1:8000 -t public");
            self.port("public/index.php", Some(8000));
        } else if self.there("index.php") {
            self.start("index.php", "php -S 127.0.0.1:8000");
            self.port("index.php", Some(8000));
        }
    }

    fn c(&mut self) {
        let is_cpp = |name: &str| [".cc", ".cpp", ".cxx", ".hpp"].iter().any(|ending| name.ends_with(ending));
        let mut names: Vec<String> = Vec::new();
        for dir in [self.dir.to_owned(), self.dir.join("src")] {
            let entries = fs::read_dir(dir).into_iter().flatten().flatten();
            names.extend(entries.map(|entry| entry.file_name().to_string_lossy().into_owned()));
        }
        let language = if names.iter().any(|name| is_cpp(name)) { "cpp" } else { "c" };
        if let Some(text) = self.text("CMakeLists.txt") {
            let cpp = text.contains("CXX") || language == "cpp";
            self.toolchain("CMakeLists.txt", if cpp { "cpp" } else { "c" }, None);
            self.tool("CMakeLists.txt", "CMake", &["cmake"]);
            for package in text.split("find_package(").skip(1).filter_map(|rest| rest.split([' ', ')']).next()) {
                self.c_library("CMakeLists.txt", package.trim());
            }
            if text.contains("pkg_check_modules") || text.contains("PkgConfig") {
                self.tool("CMakeLists.txt", "pkg-config", &["pkg-config"]);
            }
            for call in text.split("pkg_check_modules(").skip(1).filter_map(|rest| rest.split(')').next()) {
                let words = call.split_whitespace().skip(1).filter(|word| word.to_uppercase() != *word);
                for name in
                    words.map(|word| word.split(['>', '=', '<']).next().unwrap_or(word).to_owned()).collect::<Vec<_>>()
                {
                    self.c_library("CMakeLists.txt", &name);
                }
            }
            self.add("CMakeLists.txt", Finding::Apart("build".to_owned()));
        }
        if let Some(text) = self.text("meson.build") {
            self.toolchain("meson.build", if text.contains("'cpp'") { "cpp" } else { "c" }, None);
            self.tool("meson.build", "Meson", &["meson", "ninja-build", "pkg-config"]);
            for name in text.split("dependency('").skip(1).filter_map(|rest| rest.split('\'').next()) {
                self.c_library("meson.build", name);
            }
            self.add("meson.build", Finding::Apart("build".to_owned()));
        }
        if self.there("configure.ac") {
            self.toolchain("configure.ac", language, None);
            self.tool("configure.ac", "Autotools", &["autoconf", "automake", "libtool"]);
        }
        if self.there("Makefile") && names.iter().any(|name| name.ends_with(".c") || is_cpp(name)) {
            self.toolchain("Makefile", language, None);
        }
    }

    fn c_library(&mut self, file: &str, name: &str) {
        match library("c", name) {
            Some(packages) => {
                self.add(file, Finding::Library { dependency: name.to_owned(), packages: packages.to_vec() });
            }
            None if matches!(name, "PkgConfig" | "Threads" | "threads" | "Python3" | "" | "Git") => {}
            None => self.left(file, format!("the library {name}; find its package with apt-file, or apt-cache search")),
        }
    }

    fn elixir(&mut self) {
        let Some(text) = self.text("mix.exs") else { return };
        let wanted = text.split("elixir: \"").nth(1).and_then(|rest| rest.split('"').next());
        self.toolchain("mix.exs", "elixir", wanted.and_then(Wish::read));
        self.tool("mix.exs", "Erlang", &["erlang-dev", "erlang-parsetools", "erlang-xmerl"]);
        for name in text.split("{:").skip(1).filter_map(|rest| rest.split([',', '}']).next()) {
            self.dependency("mix.exs", "hex", name);
        }
        for dir in ["_build", "deps"] {
            self.add("mix.exs", Finding::Apart(dir.to_owned()));
        }
        if self.there("mix.lock") {
            self.left("mix.lock", "its dependencies; a step with network = \"recorded\" and mix deps.get brings them");
        }
        if text.contains(":phoenix") {
            self.start("mix.exs", "mix phx.server");
            self.port("mix.exs", Some(4000));
        }
    }

    fn r(&mut self) {
        if let Some(text) = self.text("DESCRIPTION").filter(|text| text.contains("Package:")) {
            let wanted = text.split("R (").nth(1).and_then(|rest| rest.split(')').next());
            self.toolchain("DESCRIPTION", "r", wanted.and_then(Wish::read));
            self.tool("DESCRIPTION", "what R builds packages with", &["r-base-dev"]);
            let imports = text.split("\nImports:").nth(1).unwrap_or_default();
            // A field goes on in lines that begin with a blank.
            let field = imports.lines().enumerate().take_while(|(at, line)| *at == 0 || line.starts_with([' ', '\t']));
            let field: String = field.map(|(_, line)| line).collect();
            let names = field.split(',').map(|one| one.split('(').next().unwrap_or_default().trim());
            let names: Vec<_> = names.filter(|name| !name.is_empty()).collect();
            if !names.is_empty() {
                self.left(
                    "DESCRIPTION",
                    format!("the packages {}; the archive has many as r-cran-NAME, in lower case", names.join(", ")),
                );
            }
        }
        if let Some(text) = self.text("renv.lock") {
            let value: Value = serde_json::from_str(&text).unwrap_or_default();
            self.toolchain("renv.lock", "r", value["R"]["Version"].as_str().and_then(Wish::at_least));
            self.left("renv.lock", "its packages; a step with network = \"recorded\" restores them");
        }
        if self.there("app.R") {
            self.toolchain("app.R", "r", None);
        }
    }

    /// Processes that a project names, of which `web` is what it serves with.
    fn processes(&mut self) {
        let Some(text) = self.text("Procfile") else { return };
        if let Some(command) = text.lines().find_map(|line| line.strip_prefix("web:")).map(str::trim) {
            self.start("Procfile", command);
            let texts = command.split(' ').filter_map(|word| self.text(word.trim_start_matches("./")));
            let port = port_in(command).or_else(|| texts.filter_map(|text| listening_in(&text)).next());
            // Whoever starts it chooses one.
            let is_free = port.is_none() && (command.contains("$PORT") || command.contains("${PORT"));
            if is_free {
                let (name, value) = ("PORT".to_owned(), CHOSEN_PORT.to_string());
                self.add("Procfile", Finding::Variable { name, value });
            }
            self.port("Procfile", port.or(is_free.then_some(CHOSEN_PORT)));
        }
        let others = text.lines().filter_map(|line| line.split_once(':')).map(|(name, _)| name.trim());
        for name in others.filter(|name| *name != "web" && !name.starts_with('#')) {
            self.left("Procfile", format!("the process {name}; it becomes a service"));
        }
    }

    /// What the project says that it reads of its environment.
    fn variables(&mut self) {
        for file in [".env.example", ".env.sample", ".env.template", "env.example", ".env.dist"] {
            let Some(text) = self.text(file) else { continue };
            for line in text.lines() {
                let line = line.trim().trim_start_matches("export ");
                let Some((name, value)) = line.split_once('=').filter(|_| !line.starts_with('#')) else { continue };
                let (name, value) = (name.trim(), value.trim().trim_matches(['"', '\'']));
                let is_name = !name.is_empty() && name.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_');
                if !is_name || name.starts_with(|letter: char| letter.is_ascii_digit()) {
                    continue;
                }
                if let Some(kind) = ServiceKind::of_address(value) {
                    self.add(file, Finding::Service(kind));
                } else if is_secret_name(name) || value.is_empty() || value.contains("${") || value.contains('<') {
                    self.left(file, format!("the variable {name}, whose value is a secret or everybody's own"));
                    continue;
                }
                if name == "PORT" {
                    self.port(file, value.parse().ok());
                }
                self.add(file, Finding::Variable { name: name.to_owned(), value: value.to_owned() });
            }
            return;
        }
    }
}

/// A port that a command line names: `--port 3000`, `-p 3000`, `PORT=3000`, `localhost:3000`.
fn port_in(command: &str) -> Option<u16> {
    let words: Vec<_> = command.split([' ', '=', ':']).collect();
    words.windows(2).find_map(|pair| {
        let named = matches!(pair[0], "--port" | "-p" | "PORT" | "localhost" | "127.0.0.1" | "0.0.0.0");
        named.then(|| pair[1].parse().ok())?
    })
}

/// A port that a program's text listens on: what stands behind `listen(`, `PORT`, `":8080"` and their like.
fn listening_in(text: &str) -> Option<u16> {
    let marks = [
        "listen(",
        "InetSocketAddress(",
        "Port: ",
        "PORT || ",
        "PORT ?? ",
        "PORT\", ",
        "PORT', ",
        "PORT\") or ",
        "port=",
        "port = ",
        "\":",
        "0.0.0.0', ",
        "0.0.0.0\", ",
        "127.0.0.1\", ",
        "127.0.0.1', ",
    ];
    marks.iter().find_map(|mark| {
        text.split(mark).skip(1).find_map(|rest| {
            let rest = rest.trim_start_matches(['"', '\'', ' ']);
            let digits: String = rest.chars().take_while(char::is_ascii_digit).collect();
            digits.parse::<u16>().ok().filter(|port| *port >= 1024)
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ports_are_found_in_what_people_write() {
        assert_eq!(port_in("serve --port 3000 --open"), Some(3000));
        assert_eq!(port_in("PORT=8081 node ."), Some(8081));
        assert_eq!(port_in("gunicorn -b 127.0.0.1:8000 app"), Some(8000));
        assert_eq!(port_in("node ."), None);
        assert_eq!(listening_in("app.listen(process.env.PORT || 3000)"), Some(3000));
        assert_eq!(listening_in("http.ListenAndServe(\":8080\", nil)"), Some(8080));
        assert_eq!(listening_in("ThreadingHTTPServer((\"127.0.0.1\", 8080), Handler)"), Some(8080));
        assert_eq!(listening_in("port = 22"), None);
    }
}
