//! What of the Debian archive brings a language, and in which version each suite has it.

/// A language of the archive.
#[derive(Debug, Clone, Copy)]
pub struct Language {
    /// As toolchains are called.
    pub name: &'static str,
    /// Packages that bring it: the first has the program that tells the version. `{version}` stands for the one that
    /// the suite has.
    pub packages: &'static [&'static str],
    /// The command that tells the version.
    pub probe: &'static str,
    /// The beginning of the version that each suite has.
    pub versions: &'static [(&'static str, &'static str)],
}

/// Suites that a new spec may begin with, the one to be preferred first.
pub const SUITES: [&str; 3] = ["trixie", "bookworm", "bullseye"];

/// The languages. Versions are those that the suites were released with; they get no newer ones.
pub const LANGUAGES: [Language; 13] = [
    Language {
        name: "c",
        packages: &["gcc", "libc6-dev", "make"],
        probe: "gcc --version",
        versions: &[("trixie", "14.2"), ("bookworm", "12.2"), ("bullseye", "10.2")],
    },
    Language {
        name: "cpp",
        packages: &["g++", "libc6-dev", "make"],
        probe: "g++ --version",
        versions: &[("trixie", "14.2"), ("bookworm", "12.2"), ("bullseye", "10.2")],
    },
    Language {
        name: "elixir",
        packages: &["elixir"],
        probe: "elixir --version",
        versions: &[("trixie", "1.18"), ("bookworm", "1.14"), ("bullseye", "1.10")],
    },
    Language {
        name: "go",
        packages: &["golang-go"],
        probe: "go version",
        versions: &[("trixie", "1.24"), ("bookworm", "1.19"), ("bullseye", "1.15")],
    },
    Language {
        name: "haskell",
        packages: &["ghc", "cabal-install"],
        probe: "ghc --version",
        versions: &[("trixie", "9.6"), ("bookworm", "9.0"), ("bullseye", "8.8")],
    },
    Language {
        name: "java",
        packages: &["openjdk-{version}-jdk-headless"],
        probe: "java --version",
        versions: &[("trixie", "21"), ("bookworm", "17"), ("bullseye", "11")],
    },
    Language {
        name: "lua",
        packages: &["lua5.4"],
        probe: "lua5.4 -v",
        versions: &[("trixie", "5.4"), ("bookworm", "5.4"), ("bullseye", "5.4")],
    },
    Language {
        name: "node",
        packages: &["nodejs"],
        probe: "node --version",
        versions: &[("trixie", "20.19"), ("bookworm", "18.20"), ("bullseye", "12.22")],
    },
    Language {
        name: "php",
        packages: &["php-cli"],
        probe: "php --version",
        versions: &[("trixie", "8.4"), ("bookworm", "8.2"), ("bullseye", "7.4")],
    },
    Language {
        name: "python",
        packages: &["python3"],
        probe: "python3 --version",
        versions: &[("trixie", "3.13"), ("bookworm", "3.11"), ("bullseye", "3.9")],
    },
    Language {
        name: "r",
        packages: &["r-base-core"],
        probe: "R --version",
        versions: &[("trixie", "4.5"), ("bookworm", "4.2"), ("bullseye", "4.0")],
    },
    Language {
        name: "ruby",
        packages: &["ruby"],
        probe: "ruby --version",
        versions: &[("trixie", "3.3"), ("bookworm", "3.1"), ("bullseye", "2.7")],
    },
    Language {
        name: "rust",
        packages: &["rustc", "cargo"],
        probe: "rustc --version",
        versions: &[("trixie", "1.85"), ("bookworm", "1.63"), ("bullseye", "1.48")],
    },
];

/// The language of a name, which may be a usual other one.
pub fn find(name: &str) -> Option<&'static Language> {
    let name = match name {
        "nodejs" | "javascript" => "node",
        "golang" => "go",
        "python3" => "python",
        "jdk" | "openjdk" => "java",
        "c++" | "gcc" | "g++" => "c",
        other => other,
    };
    LANGUAGES.iter().find(|language| language.name == name)
}

/// How a package tells the version of the language that it brings; nothing of one that brings none.
pub fn probe_of(package: &str) -> Option<Vec<String>> {
    let brings = |language: &&Language| {
        let first = language.packages[0];
        match first.split_once("{version}") {
            Some((begin, end)) => package.starts_with(begin) && package.ends_with(end),
            None => first == package,
        }
    };
    let language = LANGUAGES.iter().find(brings)?;
    Some(language.probe.split(' ').map(str::to_owned).collect())
}

impl Language {
    /// The beginning of the version that a suite has.
    pub fn version_in(&self, suite: &str) -> Option<&'static str> {
        self.versions.iter().find(|(known, _)| *known == suite).map(|(_, version)| *version)
    }

    /// Its packages in a suite.
    pub fn packages_in(&self, suite: &str) -> Vec<String> {
        let version = self.version_in(suite).unwrap_or_default();
        self.packages.iter().map(|package| package.replace("{version}", version)).collect()
    }
}
