//! Kinds of failure: the code of each, by which `--json` names it and `cavrith explain` describes it. The texts are in
//! `failure.toml`.

use std::fmt;
use std::sync::LazyLock;

use serde::Deserialize;

/// The code of a kind of failure: `CF0202`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct FailureCode(&'static str);

macro_rules! codes {
    ($($name:ident $code:literal,)*) => {
        /// One name for each kind; what it is stands in its explanation.
        #[allow(missing_docs, reason = "each is described in failure.toml, which a test holds them to")]
        impl FailureCode {
            $(pub const $name: Self = Self($code);)*
            /// All of them.
            pub const ALL: &'static [Self] = &[$(Self::$name),*];
        }
    };
}

codes! {
    FOUND "CF0001", USAGE "CF0002", MACHINE "CF0003", SOURCE "CF0004", INSIDE "CF0005",
    NO_PROJECT "CF0101", NO_FOLDER "CF0102", OUTSIDE "CF0103", FILE "CF0104", UNKNOWN_NAME "CF0105", CONFIG "CF0106",
    DEPOT "CF0107", SPEC "CF0108", NO_VARIANT "CF0109",
    MISTAKES "CF0201", NO_LOCK "CF0202", BAD_LOCK "CF0203", MISFITS "CF0204", CHANGED "CF0205", NOT_AS_WRITTEN "CF0206",
    FILES_CHANGED "CF0207", ARCHITECTURE "CF0208", NO_SEAL "CF0209",
    SUITE "CF0301", PACKAGE_GONE "CF0302", IMAGE "CF0303", UNREACHABLE "CF0304", OTHER_FILE "CF0305", ARCHIVE "CF0306",
    CONFIGURE "CF0401", STEP "CF0402", TOO_LONG "CF0403", PROBE "CF0404", STEP_AS_WRITTEN "CF0405",
    NOT_REPRODUCIBLE "CF0406", SECOND_BUILD "CF0407", RECORD "CF0408",
    STORE "CF0501", FOREIGN_STORE "CF0502", STORE_IN_USE "CF0503", DAMAGED_LIST "CF0504",
    SANDBOX_LACKS "CF0601", SANDBOX "CF0602", NOT_STARTED "CF0603", SANDBOX_GONE "CF0604", TOO_SMALL "CF0605",
    WORKSPACE_HELD "CF0701", REFUSED "CF0702", OTHER_PROTOCOL "CF0703", WORKSPACE_ENDED "CF0704", NOT_RUNNING "CF0705",
    NO_WORKSPACE "CF0706", KEPT_FOLDER "CF0707", COPY "CF0708", PORT "CF0709", SECRET "CF0710", SSH "CF0711", INVITATION "CF0712", EDITOR "CF0713",
    EXPORT "CF0801", REGISTRY "CF0802", JOIN "CF0803", PARCEL "CF0804",
    TEAM "CF0901", SIGNING "CF0902",
    REVISION "CF1001",
}

impl FailureCode {
    /// The code of a failure of which only its exit status is known.
    pub fn of_exit(code: u8) -> Self {
        match code {
            1 => Self::FOUND,
            2 => Self::USAGE,
            4 => Self::SOURCE,
            5 => Self::INSIDE,
            _ => Self::MACHINE,
        }
    }

    /// The code that a text is: `CF0202`, in either case.
    pub fn find(text: &str) -> Option<Self> {
        Self::ALL.iter().copied().find(|code| code.0.eq_ignore_ascii_case(text))
    }

    /// What it means.
    pub fn explanation(self) -> &'static FailureExplanation {
        let found = all().iter().find(|one| one.code == self.0);
        found.unwrap_or_else(|| panic!("BUG: {self} has no explanation"))
    }
}

impl fmt::Display for FailureCode {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.0)
    }
}

/// What a kind of failure means.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct FailureExplanation {
    /// Its code.
    pub code: String,
    /// What it is, in a few words.
    pub title: String,
    /// What is behind it, and what to do.
    pub text: String,
}

#[derive(Deserialize)]
struct Explanations {
    kind: Vec<FailureExplanation>,
}

/// All of them, by code.
pub fn all() -> &'static [FailureExplanation] {
    static ALL: LazyLock<Explanations> = LazyLock::new(|| {
        toml::from_str(include_str!("failure.toml")).unwrap_or_else(|error| panic!("BUG: failure.toml: {error}"))
    });
    &ALL.kind
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_has_one_explanation_and_every_explanation_a_code() {
        let codes: Vec<_> = FailureCode::ALL.iter().map(ToString::to_string).collect();
        let explained: Vec<_> = all().iter().map(|one| one.code.clone()).collect();
        assert_eq!(codes, explained);
        assert!(FailureCode::ALL.iter().all(|code| !code.explanation().text.is_empty()));
        assert_eq!(FailureCode::find("cf0202"), Some(FailureCode::NO_LOCK));
        assert_eq!(FailureCode::find("CF9999"), None);
    }
}
