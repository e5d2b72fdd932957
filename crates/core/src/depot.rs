//! The index of a depot, `depot.toml`: what the depot offers, and what each file in it has to be.

use serde::{Deserialize, Serialize};

use crate::digest::Sha256Digest;
use crate::mistake::{Code, Mistake};
use crate::path::RootPath;
use crate::version::Version;

/// The index's file name in a depot.
pub const FILE_NAME: &str = "depot.toml";

/// One depot's index.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Index {
    /// Version of this format; 1.
    pub depot: u32,
    /// One line for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub about: Option<String>,
    /// Debian packages.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub packages: Vec<Package>,
    /// Toolchains.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub toolchains: Vec<Toolchain>,
    /// Editor extensions.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub extensions: Vec<Extension>,
    /// Editor profiles: where an editor looks for extensions and settings inside.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub editors: Vec<EditorProfile>,
    /// Files that a spec names by an address on the web, kept here for those who cannot reach it. They are found by
    /// their digest.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub downloads: Vec<Kept>,
    /// Specs to begin with.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub templates: Vec<Template>,
}

/// A spec to begin with.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Template {
    /// Its name.
    pub name: String,
    /// One line about it.
    pub about: String,
    /// The file.
    #[serde(flatten)]
    pub file: File,
}

impl Index {
    /// An index without anything.
    pub fn empty(about: Option<String>) -> Self {
        Self {
            depot: 1,
            about,
            packages: Vec::new(),
            toolchains: Vec::new(),
            extensions: Vec::new(),
            editors: Vec::new(),
            downloads: Vec::new(),
            templates: Vec::new(),
        }
    }

    /// Every file of the depot.
    pub fn files(&self) -> impl Iterator<Item = &File> {
        let packages = self.packages.iter().map(|package| &package.file);
        let toolchains = self.toolchains.iter();
        let toolchains =
            toolchains.flat_map(|one| std::iter::once(&one.file).chain(one.parts.iter().map(|part| &part.file)));
        let extensions = self.extensions.iter().map(|extension| &extension.file);
        let downloads = self.downloads.iter().map(|kept| &kept.file);
        let templates = self.templates.iter().map(|template| &template.file);
        packages.chain(toolchains).chain(extensions).chain(downloads).chain(templates)
    }

    /// The text of the file.
    pub fn to_text(&self) -> String {
        toml::to_string(self).unwrap_or_else(|error| panic!("BUG: a depot's index cannot be written: {error}"))
    }
}

/// A file that a spec names by an address on the web.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Kept {
    /// A name for people.
    pub name: String,
    /// Where it came from.
    pub url: String,
    /// The file.
    #[serde(flatten)]
    pub file: File,
}

/// A file of a depot.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct File {
    /// Its path in the depot.
    pub file: String,
    /// Its length in bytes.
    pub size: u64,
    /// Its SHA-256.
    pub sha256: Sha256Digest,
}

/// A Debian package, as an unmodified `.deb` file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Package {
    /// Name, as in its control file.
    pub name: String,
    /// Version, as in its control file.
    pub version: String,
    /// Architecture, as in its control file.
    pub architecture: String,
    /// The file.
    #[serde(flatten)]
    pub file: File,
}

/// A command whose answer proves a version.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Probe {
    /// Program and arguments.
    pub run: Vec<String>,
    /// What it has to answer, without the last newline.
    pub answer: String,
    /// It is enough when the answer has that in it, as a word of its own.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub within: bool,
}

impl Probe {
    /// Whether an answer proves what it should.
    pub fn is_answered_by(&self, answer: &str) -> bool {
        if !self.within {
            return answer == self.answer;
        }
        // `1.2` is in `v1.2` and in `1.2+b1`, and neither in `1.20` nor in `11.2` nor in `0.1.2`.
        let digit = |letter: Option<char>| letter.is_some_and(|letter| letter.is_ascii_digit());
        answer.match_indices(&self.answer).any(|(at, found)| {
            let (before, after) = (&answer[..at], &answer[at + found.len()..]);
            let joined_before =
                digit(before.chars().next_back()) || (before.ends_with('.') && digit(before.chars().rev().nth(1)));
            !joined_before && !digit(after.chars().next())
        })
    }
}

/// A toolchain, as a tar archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Toolchain {
    /// Name.
    pub name: String,
    /// Version.
    pub version: Version,
    /// The archive.
    #[serde(flatten)]
    pub file: File,
    /// How many leading directories to drop from the archive's paths.
    #[serde(default)]
    pub strip: usize,
    /// Where it lies inside; a directory of its own.
    pub place: String,
    /// Directories in its place whose programs are found by name.
    #[serde(default)]
    pub path: Vec<String>,
    /// What proves its version.
    pub probe: Probe,
    /// Parts that a spec may choose from; they are laid over the toolchain's own archive, at its place.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Part>,
}

/// An optional part of a toolchain, as a tar archive of its own.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Part {
    /// Name: `formatter`.
    pub name: String,
    /// The archive.
    #[serde(flatten)]
    pub file: File,
    /// How many leading directories to drop from the archive's paths.
    #[serde(default)]
    pub strip: usize,
}

/// An editor extension, as a zip or tar archive.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub struct Extension {
    /// Its id: publisher, dot, name.
    pub id: String,
    /// Version.
    pub version: Version,
    /// The archive.
    #[serde(flatten)]
    pub file: File,
    /// How many leading directories to drop from the archive's paths; what lies higher is left out.
    #[serde(default)]
    pub strip: usize,
}

/// Where an editor looks for extensions and settings inside. `{id}`, `{version}` and `{home}` are filled in.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct EditorProfile {
    /// The editor's name.
    pub name: String,
    /// The directory of one extension.
    pub extensions: String,
    /// The settings file.
    pub settings: String,
    /// The file that says how to start the project's programs, when the editor has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub launch: Option<String>,
    /// What the two files are written in.
    #[serde(default, skip_serializing_if = "Language::is_json")]
    pub language: Language,
    /// In which terms the launch file is written.
    #[serde(default, skip_serializing_if = "LaunchForm::is_own")]
    pub launch_form: LaunchForm,
    /// The program and arguments by which the editor opens a place from outside, over SSH; see
    /// [`crate::editors::opening`].
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub open: Vec<String>,
}

/// In which terms an editor is told how to start programs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum LaunchForm {
    /// In those of the spec: under each name program, arguments, directory, env, build.
    #[default]
    Own,
    /// In those of the Debug Adapter Protocol: a list, each with name, type, request, program, args, cwd, env and
    /// preLaunch.
    DebugAdapter,
}

impl LaunchForm {
    fn is_own(&self) -> bool {
        *self == Self::Own
    }
}

/// What an editor's settings are written in.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Language {
    /// A JSON object.
    #[default]
    Json,
    /// Vim script: options are set, names with a scope (`g:…`) are assigned.
    VimScript,
    /// Emacs Lisp: variables are given defaults.
    EmacsLisp,
}

impl Language {
    fn is_json(&self) -> bool {
        *self == Self::Json
    }
}

impl EditorProfile {
    /// The directory of one extension.
    pub fn extension_place(&self, id: &str, version: &Version, home: &str) -> String {
        self.extensions.replace("{id}", id).replace("{version}", version.as_str()).replace("{home}", home)
    }

    /// The settings file.
    pub fn settings_place(&self, home: &str) -> String {
        self.settings.replace("{home}", home)
    }

    /// The file that says how to start programs.
    pub fn launch_place(&self, home: &str) -> Option<String> {
        self.launch.as_ref().map(|launch| launch.replace("{home}", home))
    }
}

/// Reads an index.
///
/// # Errors
/// One mistake, at its place in the index, when it cannot be read as one.
pub fn parse(text: &str) -> Result<Index, Box<Mistake>> {
    let remedy = "mend the depot's index; docs/spec.md shows its form";
    let index: Index = toml::from_str(text).map_err(|error| {
        let message = format!("the depot's index cannot be read: {}", error.message().trim());
        Mistake::new(Code::DEPOT_UNREADABLE, error.span().unwrap_or(0..0), message, remedy)
    })?;
    if let Some(message) = unsound(&index) {
        let place = message.quoted.as_deref().and_then(|quoted| text.find(&format!("\"{quoted}\"")));
        let span = place.map_or(0..0, |start| start..start + message.quoted.map_or(0, |quoted| quoted.len() + 2));
        let text = format!("the depot's index cannot be used: {}", message.text);
        return Err(Box::new(Mistake::new(Code::DEPOT_UNREADABLE, span, text, remedy)));
    }
    Ok(index)
}

struct Unsound {
    text: String,
    quoted: Option<String>,
}

fn unsound(index: &Index) -> Option<Unsound> {
    let because = |text: String, quoted: &str| Some(Unsound { text, quoted: Some(quoted.to_owned()) });
    if index.depot != 1 {
        let text = format!("it is of version {}, and this Cavrith reads version 1", index.depot);
        return Some(Unsound { text, quoted: None });
    }
    for file in index.files() {
        if let Err(bad) = RootPath::from_archive(file.file.as_bytes()) {
            return because(format!("a file's path leads out of the depot: {bad}"), &file.file);
        }
    }
    for toolchain in &index.toolchains {
        if let Err(bad) = RootPath::from_absolute(&toolchain.place) {
            return because(format!("the place of {} {}: {bad}", toolchain.name, toolchain.version), &toolchain.place);
        }
        for directory in &toolchain.path {
            if let Err(bad) = RootPath::from_archive(directory.as_bytes()) {
                return because(format!("a path entry of {}: {bad}", toolchain.name), directory);
            }
        }
        if toolchain.probe.run.is_empty() {
            return because(format!("the probe of {} runs nothing", toolchain.name), &toolchain.name);
        }
    }
    for editor in &index.editors {
        let any = Version::new("1").ok()?;
        let mut places = vec![editor.extension_place("a.b", &any, "/home/a"), editor.settings_place("/home/a")];
        places.extend(editor.launch_place("/home/a"));
        if let Some(place) = places.iter().find(|place| RootPath::from_absolute(place).is_err()) {
            return because(
                format!("a place of the editor {} is not a path inside: {place}", editor.name),
                &editor.name,
            );
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    const INDEX: &str = r#"
depot = 1

[[toolchains]]
name = "quill"
version = "2.4.1"
file = "toolchains/quill-2.4.1.tar.gz"
size = 12
sha256 = "0000000000000000000000000000000000000000000000000000000000000000"
strip = 1
place = "/opt/quill/2.4.1"
path = ["bin"]
probe = { run = ["quill", "--version"], answer = "quill 2.4.1" }

[[editors]]
name = "lantern"
extensions = "/opt/lantern/extensions/{id}-{version}"
settings = "{home}/.lantern/settings.json"
"#;

    #[test]
    fn an_index_is_read_and_its_places_are_filled_in() {
        let index = parse(INDEX).unwrap();
        assert_eq!(index.toolchains[0].file.size, 12);
        let place =
            index.editors[0].extension_place("brindle.quill-syntax", &Version::new("1.2.0").unwrap(), "/home/crew");
        assert_eq!(place, "/opt/lantern/extensions/brindle.quill-syntax-1.2.0");
        assert_eq!(index.editors[0].settings_place("/home/crew"), "/home/crew/.lantern/settings.json");
    }

    #[test]
    fn an_index_that_leads_out_or_lacks_something_is_refused_at_its_place() {
        for (old, new) in [
            ("toolchains/quill-2.4.1.tar.gz", "../outside.tar.gz"),
            ("/opt/quill/2.4.1", "opt/quill"),
            ("path = [\"bin\"]", "path = [\"../bin\"]"),
            ("depot = 1", "depot = 2"),
            ("size = 12", "size = -1"),
            ("strip = 1", "stirp = 1\nplace2 = 1"),
            ("sha256 = \"0000", "sha256 = \"00"),
            ("\"quill\", \"--version\"", ""),
            ("{home}/.lantern", "lantern"),
        ] {
            let text = INDEX.replacen(old, new, 1);
            assert_ne!(text, INDEX, "{old} is not there");
            let mistake = parse(&text).err();
            // Unknown keys beside a flattened file cannot be told apart by serde; everything else is refused.
            if new.starts_with("stirp") {
                continue;
            }
            assert_eq!(mistake.unwrap_or_else(|| panic!("{new} was taken")).code, Code::DEPOT_UNREADABLE);
        }
    }
}
