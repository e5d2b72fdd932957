//! The long form of every kind of mistake: what is meant, an example of wrong and of right. The texts are in
//! `explain.toml`.

use std::sync::LazyLock;

use serde::Deserialize;

use crate::mistake::Code;

/// What shows a mistake.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Seen {
    /// The text of the spec alone.
    Spec,
    /// The spec together with what lies around it: files, depots, the lock.
    Around,
}

/// One kind of mistake.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Explanation {
    /// Its code.
    pub code: Code,
    /// What it is, in a few words.
    pub title: String,
    /// What is behind it.
    pub text: String,
    /// Lines that have it.
    pub wrong: String,
    /// The same lines, repaired.
    pub right: String,
    /// What shows it.
    pub seen: Seen,
}

#[derive(Deserialize)]
struct Explanations {
    kind: Vec<Explanation>,
}

/// All of them, by code.
pub fn all() -> &'static [Explanation] {
    static ALL: LazyLock<Explanations> = LazyLock::new(|| {
        toml::from_str(include_str!("explain.toml")).unwrap_or_else(|error| panic!("BUG: the explanations: {error}"))
    });
    &ALL.kind
}

/// The explanation of a code.
pub fn of(code: Code) -> Option<&'static Explanation> {
    all().iter().find(|one| one.code == code)
}
