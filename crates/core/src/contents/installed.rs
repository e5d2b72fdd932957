//! Packages of languages as they are installed: each package manager leaves a description beside what it installs, and
//! where that is says which one it was.

use crate::path::RootPath;
use crate::record::packages::{Package, parted, python_name};

/// A package that an image has, with the licences that it says it has.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Installed {
    /// The package.
    pub package: Package,
    /// Its licences, as it declares them.
    pub licences: Vec<String>,
}

/// What a file tells of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Description {
    /// `package.json` of a package in `node_modules`.
    Npm,
    /// `METADATA` of a `dist-info` directory, `PKG-INFO` of an `egg-info` one (core metadata specifications).
    Python,
    /// `Cargo.toml` of a crate that cargo unpacked.
    Crate,
    /// `.crates.toml`: the programs that `cargo install` put into a directory.
    CargoPrograms,
    /// A gem's `NAME-VERSION.gemspec`.
    Gem,
    /// `vendor/composer/installed.json`: all of a project's.
    Composer,
    /// The `.mod` of a module in Go's cache, of this name and version.
    Go(String, String),
    /// A library in Maven's repository, of this name and version.
    Maven(String, String),
}

impl Description {
    /// What a file tells of, by its place.
    pub fn at(path: &RootPath) -> Option<Self> {
        let text = path.to_string();
        let names: Vec<&str> = text.trim_start_matches('/').split('/').collect();
        match names.as_slice() {
            [.., "node_modules", name, "package.json"] if !name.starts_with(['@', '.']) => Some(Self::Npm),
            [.., "node_modules", scope, _, "package.json"] if scope.starts_with('@') => Some(Self::Npm),
            [.., info, "METADATA"] if info.ends_with(".dist-info") => Some(Self::Python),
            [.., info, "PKG-INFO"] if info.ends_with(".egg-info") => Some(Self::Python),
            [.., "registry", "src", _, _, "Cargo.toml"] => Some(Self::Crate),
            [.., ".crates.toml"] => Some(Self::CargoPrograms),
            [.., "specifications", file] if file.ends_with(".gemspec") => Some(Self::Gem),
            [.., "composer", "installed.json"] => Some(Self::Composer),
            [.., "@v", file] => {
                let version = file.strip_suffix(".mod")?;
                let begin = text.find("/pkg/mod/cache/download/")? + "/pkg/mod/cache/download/".len();
                let module = text[begin..].strip_suffix(&format!("/@v/{file}"))?;
                Some(Self::Go(unescaped(module), unescaped(version)))
            }
            [.., artifact, version, file] if *file == format!("{artifact}-{version}.jar") => {
                let begin = names.iter().position(|name| *name == "repository")? + 1;
                let group = names.get(begin..names.len() - 3).filter(|group| !group.is_empty())?;
                Some(Self::Maven(format!("{}/{artifact}", group.join(".")), (*version).to_owned()))
            }
            _ => None,
        }
    }

    /// Whether the file itself has to be read; else its place says it all.
    pub fn is_text(&self) -> bool {
        !matches!(self, Self::Go(..) | Self::Maven(..))
    }

    /// The packages that it tells of; none when it cannot be understood. `path` is where it is, `text` what stands in
    /// it.
    pub fn read(&self, path: &RootPath, text: &str) -> Vec<Installed> {
        let one = |kind, name: &str, version: &str, licences: Vec<String>| {
            let package = Package { kind, name: name.to_owned(), version: version.to_owned() };
            Installed { package, licences }
        };
        let is_good = |found: &Installed| !found.package.name.is_empty() && !found.package.version.is_empty();
        let found = match self {
            Self::Npm => npm(text).map(|(name, version, licences)| one("npm", &name, &version, licences)),
            Self::Python => python(text).map(|(name, version, licences)| one("pypi", &name, &version, licences)),
            Self::Crate => cargo(text).map(|(name, version, licences)| one("cargo", &name, &version, licences)),
            Self::CargoPrograms => {
                let all = cargo_programs(text);
                return all.into_iter().map(|(name, version, _)| one("cargo", &name, &version, Vec::new())).collect();
            }
            Self::Gem => path.name().and_then(|name| {
                let stem = std::str::from_utf8(name).ok()?.strip_suffix(".gemspec")?;
                let (name, version) = parted(stem)?;
                Some(one("gem", name, version, gem_licences(text)))
            }),
            Self::Composer => {
                return composer(text)
                    .map(|(name, version, licences)| one("composer", &name, &version, licences))
                    .filter(is_good)
                    .collect();
            }
            Self::Go(name, version) => Some(one("golang", name, version, Vec::new())),
            Self::Maven(name, version) => Some(one("maven", name, version, Vec::new())),
        };
        found.filter(is_good).into_iter().collect()
    }
}

/// A path of Go's cache, in which capital letters are written as `!` and the small one (Go modules reference, "Module
/// cache").
fn unescaped(text: &str) -> String {
    let mut plain = String::new();
    let mut letters = text.chars();
    while let Some(letter) = letters.next() {
        match letter {
            '!' => plain.extend(letters.next().map(|letter| letter.to_ascii_uppercase())),
            letter => plain.push(letter),
        }
    }
    plain
}

type Told = (String, String, Vec<String>);

fn npm(text: &str) -> Option<Told> {
    let value: serde_json::Value = serde_json::from_str(text).ok()?;
    let licence = value["license"].as_str().or(value["license"]["type"].as_str());
    let licences = licence.map(str::to_owned).into_iter().collect();
    Some((value["name"].as_str()?.to_owned(), value["version"].as_str()?.to_owned(), licences))
}

fn python(text: &str) -> Option<Told> {
    let head = text.split("\n\n").next().unwrap_or_default();
    let line = |key: &str| head.lines().find_map(|line| line.strip_prefix(key)).map(str::trim);
    // The expression (core metadata 2.4) goes before the free text.
    let licence = ["License-Expression:", "License:"].iter().find_map(|key| line(key));
    let licence = licence.filter(|licence| !licence.is_empty() && licence.len() < 100);
    Some((python_name(line("Name:")?), line("Version:")?.to_owned(), licence.map(str::to_owned).into_iter().collect()))
}

fn cargo(text: &str) -> Option<Told> {
    let table: toml::Table = text.parse().ok()?;
    let package = table.get("package")?.as_table()?;
    let text = |key: &str| package.get(key)?.as_str().map(str::to_owned);
    Some((text("name")?, text("version")?, text("license").into_iter().collect()))
}

/// What `cargo install` says that it put into a directory: each package's name and version, and its programs. The keys
/// of the table `v1` are package ids: `NAME VERSION (SOURCE)`.
pub fn cargo_programs(text: &str) -> Vec<(String, String, Vec<String>)> {
    let table: toml::Table = text.parse().unwrap_or_default();
    let all = table.get("v1").and_then(|v1| v1.as_table()).into_iter().flatten();
    let read = all.filter_map(|(id, programs)| {
        let mut words = id.split(' ');
        let (name, version) = (words.next()?, words.next()?);
        let programs = programs.as_array().into_iter().flatten().filter_map(|one| one.as_str());
        (!name.is_empty() && !version.is_empty())
            .then(|| (name.to_owned(), version.to_owned(), programs.map(str::to_owned).collect()))
    });
    read.collect()
}

/// Licences as `gem` writes them: `s.licenses = ["MIT".freeze]`.
fn gem_licences(text: &str) -> Vec<String> {
    let line = text.lines().find_map(|line| line.trim().strip_prefix("s.licenses = ["));
    let parts = line.into_iter().flat_map(|line| line.split('"').skip(1).step_by(2));
    parts.map(str::to_owned).collect()
}

fn composer(text: &str) -> impl Iterator<Item = Told> {
    let value: serde_json::Value = serde_json::from_str(text).unwrap_or_default();
    let packages = value["packages"].as_array().or(value.as_array()).cloned().unwrap_or_default();
    packages.into_iter().filter_map(|package| {
        let licences = package["license"].as_array().into_iter().flatten().filter_map(|one| one.as_str());
        let licences = licences.map(str::to_owned).collect();
        Some((package["name"].as_str()?.to_owned(), package["version"].as_str()?.to_owned(), licences))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(path: &str, text: &str) -> Vec<(String, Vec<String>)> {
        let path = RootPath::from_plain(path.as_bytes()).unwrap();
        let Some(description) = Description::at(&path) else { return Vec::new() };
        let all = description.read(&path, text).into_iter();
        all.map(|one| (one.package.purl(), one.licences)).collect()
    }

    #[test]
    fn each_package_manager_s_description_is_read() {
        let cases = [
            (
                "code/node_modules/tides/package.json",
                r#"{"name":"tides","version":"1.2.0","license":"MIT"}"#,
                "npm/tides",
                "MIT",
            ),
            (
                "code/node_modules/@brindle/tides/package.json",
                r#"{"name":"@brindle/tides","version":"1.2.0","license":{"type":"ISC"}}"#,
                "npm/%40brindle/tides",
                "ISC",
            ),
            (
                "opt/lib/site-packages/harbour_map-1.2.0.dist-info/METADATA",
                "Name: Harbour_Map\nVersion: 1.2.0\nLicense: free\nLicense-Expression: MIT\n\nLicense: none\n",
                "pypi/harbour-map",
                "MIT",
            ),
            (
                "opt/cargo/registry/src/index-1/tides-1.2.0/Cargo.toml",
                "[package]\nname = \"tides\"\nversion = \"1.2.0\"\nlicense = \"MIT\"\n",
                "cargo/tides",
                "MIT",
            ),
            (
                "var/lib/gems/3.1.0/specifications/tide-tables-1.2.0.gemspec",
                "Gem::Specification.new do |s|\n  s.licenses = [\"MIT\".freeze]\nend\n",
                "gem/tide-tables",
                "MIT",
            ),
            (
                "srv/vendor/composer/installed.json",
                r#"{"packages":[{"name":"brindle/tides","version":"1.2.0","license":["MIT"]}]}"#,
                "composer/brindle/tides",
                "MIT",
            ),
        ];
        for (path, text, purl, licence) in cases {
            assert_eq!(told(path, text), [(format!("pkg:{purl}@1.2.0"), vec![licence.to_owned()])], "{path}");
        }
        let go = told("root/go/pkg/mod/cache/download/brindle.example/!tides/@v/v1.2.0.mod", "");
        assert_eq!(go[0].0, "pkg:golang/brindle.example/Tides@v1.2.0");
        let maven = told("root/.m2/repository/example/brindle/tides/1.2.0/tides-1.2.0.jar", "");
        assert_eq!(maven[0].0, "pkg:maven/example.brindle/tides@1.2.0");
    }

    #[test]
    fn what_only_looks_like_a_description_tells_of_nothing() {
        for path in [
            "code/package.json",
            "code/node_modules/tides/test/package.json",
            "srv/METADATA",
            "srv/tides.gemspec",
            "srv/lib/tides-1.2.0.jar",
        ] {
            assert_eq!(told(path, "{}"), [], "{path}");
        }
        assert_eq!(told("code/node_modules/tides/package.json", "{"), []);
        assert_eq!(told("srv/vendor/composer/installed.json", "7"), []);
    }
}
