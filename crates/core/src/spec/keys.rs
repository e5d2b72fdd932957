//! Every key of the spec: its type, its meaning, and whether this version carries it out.
//!
//! In a key's path `*` stands for a name of the writer's choice and `[]` for the entries of a list.

/// What a key's value is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// A text.
    Text,
    /// A whole number.
    Number,
    /// `true` or `false`.
    Flag,
    /// A table with keys of its own.
    Table,
    /// A list of tables.
    Tables,
    /// A list of texts.
    Texts,
    /// A text or a list of texts.
    TextOrTexts,
    /// A text or a table.
    TextOrTable,
    /// Anything.
    Any,
}

impl Shape {
    /// In words, with its article.
    pub fn words(self) -> &'static str {
        match self {
            Self::Text => "a text",
            Self::Number => "a whole number",
            Self::Flag => "true or false",
            Self::Table => "a table",
            Self::Tables => "a list of tables",
            Self::Texts => "a list of texts",
            Self::TextOrTexts => "a text or a list of texts",
            Self::TextOrTable => "a text or a table",
            Self::Any => "any value",
        }
    }
}

/// Whether a key has to be there, may be, or is not carried out yet.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// It has to be there (when the table it belongs to is).
    Needed,
    /// It may be left out.
    Optional,
    /// It is planned; a spec that has it is refused rather than half carried out.
    Later,
}

/// One key.
#[derive(Debug, Clone, Copy)]
pub struct Key {
    /// Its path.
    pub path: &'static str,
    /// What its value is.
    pub shape: Shape,
    /// Whether it has to be there.
    pub state: State,
    /// What it does, in one sentence.
    pub meaning: &'static str,
}

const fn key(path: &'static str, shape: Shape, state: State, meaning: &'static str) -> Key {
    Key { path, shape, state, meaning }
}

use Shape::{Any, Flag, Number, Table, Tables, Text, TextOrTable, TextOrTexts, Texts};
use State::{Later, Needed, Optional};

/// All keys, a table before what is in it.
pub const KEYS: &[Key] = &[
    key("spec", Number, Needed, "the version of this format; 1"),
    key("include", Texts, Later, "other files whose entries this spec takes over"),
    key("workspace", Table, Needed, "what the workspace is called and who works in it"),
    key("workspace.name", Text, Needed, "its name, and its host name inside"),
    key("workspace.about", Text, Optional, "one line for people"),
    key("workspace.account", Text, Optional, "the ordinary user inside; crew when left out"),
    key("workspace.project", Text, Optional, "where the project's folder appears inside; /code when left out"),
    key("workspace.host", Table, Later, "what a member's machine must offer"),
    key("depots", Table, Optional, "depots that packages, toolchains and extensions come from, by name"),
    key("depots.*", Table, Optional, "one depot"),
    key("depots.*.path", Text, Needed, "the depot's folder, relative to the spec"),
    key("depots.*.url", Text, Later, "the depot's address on the web"),
    key("base", Table, Needed, "the root that everything else lies on; exactly one origin"),
    key("base.depot", Text, Optional, "origin: packages of this depot"),
    key("base.packages", Texts, Optional, "the names of the packages; with depot only"),
    key("base.archive", Table, Optional, "origin: one archive of a whole root"),
    key("base.archive.path", Text, Needed, "the archive (tar; plain or gz, xz, zst), relative to the spec"),
    key("base.archive.sha256", Text, Optional, "its SHA-256; the lock fills it in when it is left out"),
    key("base.archive.strip", Number, Optional, "how many leading directories to drop from its paths; 0 when left out"),
    key("base.archive.url", Text, Later, "the archive's address on the web"),
    key("base.debian", Text, Later, "origin: a suite of the Debian archive"),
    key("base.oci", Text, Later, "origin: an OCI image"),
    key("toolchains", Table, Optional, "toolchains by name, each with a version or a table"),
    key("toolchains.*", TextOrTable, Optional, "a version, or its beginning: the newest that goes on from it is taken"),
    key("toolchains.*.version", Text, Needed, "the version, or its beginning"),
    key("toolchains.*.depot", Text, Optional, "the depot it has to come from; any when left out"),
    key("toolchains.*.parts", Texts, Later, "only these parts of the toolchain"),
    key("toolchains.*.from", Text, Later, "another origin than a depot"),
    key("env", Table, Optional, "environment variables of the workspace and of the steps"),
    key("env.*", Text, Optional, "the value of one variable"),
    key("folders", Tables, Optional, "folders of the member's disk that appear inside"),
    key("folders[].outside", Text, Needed, "the folder on the member's disk, relative to the spec"),
    key("folders[].inside", Text, Needed, "where it appears"),
    key("folders[].mode", Text, Later, "live or kept; only live folders yet"),
    key("folders[].except", Texts, Later, "paths in it that never cross the wall"),
    key("ports", Tables, Optional, "listening ports inside that are reachable outside"),
    key("ports[].name", Text, Needed, "a name for people"),
    key("ports[].inside", Number, Needed, "the TCP port that a program inside listens on"),
    key("ports[].outside", Number, Optional, "the port outside, on the loopback; the same when left out"),
    key(
        "ports[].exact",
        Flag,
        Optional,
        "true: refuse when the outside port is taken, instead of taking the next free one",
    ),
    key("ports[].protocol", Text, Later, "tcp or udp; only TCP yet"),
    key("steps", Tables, Optional, "provisioning actions, carried out in their order"),
    key("steps[].name", Text, Needed, "a name for people"),
    key("steps[].at", Text, Needed, "the moment: build (first-start and start are not carried out yet)"),
    key("steps[].run", TextOrTexts, Needed, "a text for /bin/sh, or a list: a program and its arguments"),
    key("steps[].unless", Text, Later, "a command; when it succeeds, the step is left out"),
    key("steps[].creates", Text, Later, "a path; when it is there, the step is left out"),
    key("steps[].write", Table, Later, "a file to write"),
    key("steps[].copy", Table, Later, "files of the project to copy in"),
    key("steps[].after", Texts, Later, "steps that come first"),
    key("steps[].env", Table, Later, "variables of this step only"),
    key("steps[].account", Text, Later, "the account that carries it out"),
    key("steps[].limit", Text, Later, "how long it may take"),
    key("services", Table, Later, "programs that run in the background"),
    key("names", Table, Later, "host names of the workspace"),
    key("downloads", Tables, Later, "files to fetch, with their digests"),
    key("editor", Table, Optional, "what the team's editor is given"),
    key("editor.profile", Text, Optional, "the editor profile; may be left out when the depots offer one only"),
    key("editor.extensions", Table, Optional, "extensions by id, each with a version or its beginning"),
    key("editor.extensions.*", Text, Optional, "the version of one extension"),
    key("editor.settings", Table, Optional, "the editor's settings, as its settings file holds them"),
    key("editor.settings.*", Any, Optional, "one setting"),
    key("editor.launch", Table, Later, "how to start and debug the project's programs"),
    key("variants", Table, Later, "named alternatives of this spec"),
];

/// The key of this path, if there is one.
pub fn find(path: &str) -> Option<&'static Key> {
    KEYS.iter().find(|key| key.path == path)
}

/// The keys that a table may have, with their last names. `table` is the table's path, empty for the whole file.
pub fn children(table: &str) -> impl Iterator<Item = (&'static str, &'static Key)> {
    let prefix = if table.is_empty() { String::new() } else { format!("{table}.") };
    KEYS.iter().filter_map(move |key| {
        let name = key.path.strip_prefix(prefix.as_str())?;
        (!name.contains(['.', '['])).then_some((name, key))
    })
}

/// All keys as the tables of a Markdown page, for `docs/spec.md`.
pub fn reference() -> String {
    let mut page = String::from("| key | value | |\n|---|---|---|\n");
    for key in KEYS {
        let state = match key.state {
            Needed => "needed",
            Optional => "",
            Later => "not carried out yet",
        };
        let meaning = key.meaning;
        page.push_str(&format!("| `{}` | {} | {meaning}", key.path, key.shape.words()));
        page.push_str(&if state.is_empty() { " |\n".to_owned() } else { format!("; **{state}** |\n") });
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_key_stands_once_and_after_the_table_it_is_in() {
        let mut seen = Vec::new();
        for key in KEYS {
            assert!(!seen.contains(&key.path), "{} stands twice", key.path);
            let parent = key.path.rsplit_once('.').map(|(parent, _)| parent.trim_end_matches("[]"));
            assert!(parent.is_none_or(|parent| seen.contains(&parent)), "{} stands before its table", key.path);
            seen.push(key.path);
        }
    }

    #[test]
    fn the_children_of_a_table_are_its_own_keys_only() {
        let names: Vec<_> = children("base").map(|(name, _)| name).collect();
        assert_eq!(names, ["depot", "packages", "archive", "debian", "oci"]);
        assert!(children("").any(|(name, _)| name == "workspace"));
        assert!(children("folders[]").any(|(name, _)| name == "outside"));
    }

    #[test]
    fn the_reference_page_lists_every_key_as_it_is() {
        let page = include_str!("../../../../docs/spec.md");
        assert!(page.contains(&reference()), "docs/spec.md does not hold this table:\n{}", reference());
    }
}
