//! Mistakes in what people write: what is wrong, where, and what to do about it.
//!
//! A mistake is data. It is worded where it is found, and drawn in one place, the command-line interface.

use std::ops::Range;

/// A stable number that stands for one kind of mistake, written `CV0107`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, serde::Deserialize)]
pub struct Code(pub u16);

impl std::fmt::Display for Code {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "CV{:04}", self.0)
    }
}

macro_rules! codes {
    ($($(#[$doc:meta])* $name:ident = $number:literal;)*) => {
        impl Code {
            $($(#[$doc])* pub const $name: Self = Self($number);)*

            /// Every code there is.
            pub const ALL: &[Self] = &[$(Self::$name),*];
        }
    };
}

codes! {
    /// The file is no TOML.
    NOT_TOML = 101;
    /// A key that nobody knows.
    UNKNOWN_KEY = 102;
    /// A key or value that this version does not run yet.
    NOT_YET = 103;
    /// A key that has to be there.
    MISSING_KEY = 104;
    /// A value of the wrong type.
    WRONG_TYPE = 105;
    /// A value that is none of those allowed.
    NOT_ALLOWED = 106;
    /// A name with letters that names do not have.
    BAD_NAME = 107;
    /// A text that is not a version.
    BAD_VERSION = 108;
    /// An inside path that is not absolute or not plain.
    BAD_INSIDE_PATH = 109;
    /// A number that is not a port.
    BAD_PORT = 110;
    /// Two ports with the same number.
    PORT_TWICE = 111;
    /// Two things with the same name.
    NAME_TWICE = 112;
    /// Two folders that meet inside.
    FOLDERS_MEET = 113;
    /// No base, or more than one origin for it.
    BASE_ORIGIN = 114;
    /// A depot that is not declared.
    UNKNOWN_DEPOT = 115;
    /// A name that no environment variable can have, or that Cavrith sets itself.
    BAD_VARIABLE = 116;
    /// A folder outside that is not there.
    FOLDER_MISSING = 117;
    /// A text that is no SHA-256 digest.
    BAD_DIGEST = 118;
    /// A command with nothing in it.
    EMPTY_COMMAND = 119;
    /// A list or table with nothing in it where something is needed.
    EMPTY = 120;
    /// A value that looks like a secret.
    SECRET = 121;
    /// A step that does nothing, or more than one thing.
    STEP_ACTION = 122;
    /// A step that comes after one that is not there.
    UNKNOWN_STEP = 123;
    /// Steps that wait for each other.
    STEP_CYCLE = 124;
    /// A variable that refers to one that is not there.
    UNKNOWN_VARIABLE = 125;
    /// Variables that refer to each other.
    VARIABLE_CYCLE = 126;
    /// A text that is not a length of time.
    BAD_LIMIT = 127;
    /// A text that is not a file mode.
    BAD_MODE = 128;
    /// A text that is not an address on the web.
    BAD_URL = 129;
    /// A pattern that cannot be read.
    BAD_PATTERN = 130;
    /// A file to include that cannot be read.
    INCLUDE_UNREADABLE = 131;
    /// Files that include each other.
    INCLUDE_CYCLE = 132;
    /// Two keys of which exactly one has to be there.
    ONE_OF = 133;
    /// A path of the project that leads out of it.
    LEADS_OUT = 134;
    /// Something laid where a folder will cover it.
    COVERED = 135;
    /// A version of a toolchain asked for twice.
    VERSION_TWICE = 136;
    /// An outside path that only one machine has.
    ONE_MACHINE = 137;
    /// A port outside that an ordinary user may not listen on.
    PRIVILEGED_PORT = 138;
    /// An address with a password in it.
    URL_SECRET = 139;
    /// A template that cannot be read as one.
    BAD_TEMPLATE = 140;
    /// A text that does not name a package.
    BAD_PACKAGE = 141;
    /// A text that is not a reference to an OCI image.
    BAD_REFERENCE = 142;
    /// A number or text that is not an amount.
    BAD_AMOUNT = 143;
    /// A text that is no IP address.
    BAD_ADDRESS = 144;
    /// A port that other machines reach.
    OPEN_TO_OTHERS = 145;
    /// A service or step of the start that is not there.
    UNKNOWN_SERVICE = 146;
    /// Services that wait for each other.
    SERVICE_CYCLE = 147;
    /// A port that is not there.
    UNKNOWN_PORT = 148;
    /// A variant that is not declared.
    UNKNOWN_VARIANT = 149;
    /// Variants that take from each other.
    VARIANT_CYCLE = 150;
    /// A script that is fetched and run unseen.
    PIPED_SCRIPT = 151;
    /// A text that is not a public key that may sign.
    BAD_KEY = 152;
    /// A team that cannot be one.
    BAD_TEAM = 153;
    /// A build step that seems to fetch, and may not.
    STEP_FETCHES = 154;
    /// A depot that cannot be read.
    DEPOT_UNREADABLE = 201;
    /// Something that no depot offers.
    NOT_OFFERED = 202;
    /// A version that no depot offers.
    VERSION_NOT_OFFERED = 203;
    /// An archive that is not there.
    ARCHIVE_MISSING = 204;
    /// No editor profile, or several to choose from.
    EDITOR_PROFILE = 205;
    /// Two things that would lie at the same place inside.
    PLACES_MEET = 206;
    /// A package that needs another one.
    PACKAGE_NEEDS = 207;
    /// A part that a toolchain does not have.
    PART_NOT_OFFERED = 208;
    /// A file of the project that a step takes and that is not there.
    FILE_MISSING = 209;
    /// A depot that nothing comes from.
    DEPOT_UNUSED = 210;
    /// A lock that does not answer the spec.
    LOCK_BEHIND = 211;
    /// A lock that cannot be read.
    LOCK_UNREADABLE = 212;
    /// A file of the project that version control does not have.
    NOT_TRACKED = 213;
    /// A template that names something that is not there.
    TEMPLATE_NAME = 214;
    /// A depot's file that is not there, or has another length.
    DEPOT_FILE = 215;
    /// A depot on the web that cannot be reached.
    DEPOT_UNREACHABLE = 216;
    /// Packages that do not go together.
    PACKAGES_CLASH = 217;
    /// A name that several packages provide.
    PACKAGE_AMBIGUOUS = 218;
    /// A suite whose support has ended, or is about to.
    SUITE_AGE = 219;
    /// Accounts that a member with a single id cannot keep apart.
    SINGLE_ID = 220;
    /// A change of the team that no lead has signed.
    TEAM_UNSIGNED = 221;
    /// A history of the team that is not to be believed.
    TEAM_HISTORY = 222;
    /// A file of allowed signers that cannot be used.
    BAD_SIGNERS = 223;
    /// A seal whose signature is not to be believed.
    SEAL_REFUSED = 224;
    /// A seal that no lead of the team has signed.
    SEAL_UNSIGNED = 225;
    /// A command that no shell can read.
    BAD_SCRIPT = 226;
}

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Weight {
    /// It has to be repaired before anything works.
    Error,
    /// It works, but is probably not meant.
    Warning,
}

/// One place in a file, with a few words about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Place {
    /// Bytes of the file.
    pub span: Range<usize>,
    /// What to say there; may be empty.
    pub note: String,
}

/// One mistake in one file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Mistake {
    /// Its kind.
    pub code: Code,
    /// How bad it is.
    pub weight: Weight,
    /// One sentence: what is wrong.
    pub message: String,
    /// Where; the first place is the main one. Empty when the whole file is meant.
    pub places: Vec<Place>,
    /// One sentence: what to do.
    pub remedy: String,
}

impl Mistake {
    /// A mistake at one place.
    pub fn new(code: Code, span: Range<usize>, message: impl Into<String>, remedy: impl Into<String>) -> Self {
        let places = vec![Place { span, note: String::new() }];
        Self { code, weight: Weight::Error, message: message.into(), places, remedy: remedy.into() }
    }

    /// The same, with words under the main place.
    #[must_use]
    pub fn noting(mut self, note: impl Into<String>) -> Self {
        if let Some(place) = self.places.first_mut() {
            place.note = note.into();
        }
        self
    }

    /// The same, with a second place that it conflicts with.
    #[must_use]
    pub fn against(mut self, span: Range<usize>, note: impl Into<String>) -> Self {
        self.places.push(Place { span, note: note.into() });
        self
    }

    /// The same, as a warning.
    #[must_use]
    pub fn as_warning(mut self) -> Self {
        self.weight = Weight::Warning;
        self
    }
}

/// Line and column, both from 1, columns in characters, of a byte in a text.
pub fn line_and_column(text: &str, offset: usize) -> (usize, usize) {
    let mut offset = offset.min(text.len());
    while !text.is_char_boundary(offset) {
        offset -= 1;
    }
    let before = &text[..offset];
    let line_start = before.rfind('\n').map_or(0, |newline| newline + 1);
    (before.matches('\n').count() + 1, before[line_start..].chars().count() + 1)
}

/// The name among `known` that is most like `name`, when one is like enough to be meant.
pub fn nearest<'a>(name: &str, known: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let lower = name.to_lowercase();
    let length = lower.chars().count();
    let is_like = |distance: usize, other: usize| distance * 5 <= length.max(other) * 2;
    let scored = known.into_iter().filter_map(|other| {
        // Two names differ by the difference of their lengths at least, which is quickly told.
        let others = other.chars().count();
        let other_lower = is_like(length.abs_diff(others), others).then(|| other.to_lowercase())?;
        let distance = strsim::damerau_levenshtein(&lower, &other_lower);
        is_like(distance, others).then_some((distance, other))
    });
    scored.min().map(|(_, other)| other)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn codes_are_written_with_four_digits_and_are_all_different() {
        assert_eq!(Code::BAD_NAME.to_string(), "CV0107");
        let mut all = Code::ALL.to_vec();
        all.dedup();
        assert_eq!(all.len(), Code::ALL.len());
        assert!(all.is_sorted());
    }

    #[test]
    fn places_are_counted_in_lines_and_characters() {
        let text = "eins\nzwölf = 1\n";
        assert_eq!(line_and_column(text, 0), (1, 1));
        assert_eq!(line_and_column(text, text.find('=').unwrap()), (2, 7));
        assert_eq!(line_and_column(text, 1000), (3, 1));
    }

    #[test]
    fn only_a_name_that_is_like_enough_is_suggested() {
        let known = ["toolchains", "folders", "ports"];
        assert_eq!(nearest("toolchain", known), Some("toolchains"));
        assert_eq!(nearest("prots", known), Some("ports"));
        assert_eq!(nearest("banana", known), None);
        assert_eq!(nearest("x", []), None);
    }
}
