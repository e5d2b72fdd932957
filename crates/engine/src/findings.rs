//! What is found wrong or remarkable in a project: data, which decides nothing.

use std::ops::Range;
use std::path::{Path, PathBuf};

use cavrith_core::mistake::{Code, Mistake, Weight};
use cavrith_core::spec::document::Sources;

/// Mistakes, with the texts they are in.
#[derive(Debug, Default)]
pub struct Findings {
    /// Every file that was examined.
    pub sources: Sources,
    /// What is wrong, at places in those files.
    pub mistakes: Vec<Mistake>,
}

impl Findings {
    /// True when there is nothing worse than a warning.
    pub fn is_sound(&self) -> bool {
        self.mistakes.iter().all(|mistake| mistake.weight == Weight::Warning)
    }

    /// True when nothing is wrong but that depots on the web cannot be reached.
    pub fn only_unreachable(&self) -> bool {
        let mut errors = self.mistakes.iter().filter(|mistake| mistake.weight == Weight::Error).peekable();
        errors.peek().is_some() && errors.all(|mistake| mistake.code == Code::DEPOT_UNREACHABLE)
    }

    /// Adds a mistake in another file than the spec.
    pub(crate) fn add_in(&mut self, path: &Path, text: &str, mut mistake: Mistake) {
        let start = self.sources.add(path.to_string_lossy(), text);
        for place in &mut mistake.places {
            place.span = place.span.start + start..place.span.end + start;
        }
        self.mistakes.push(mistake);
    }

    /// In the order of the files.
    pub fn sort(&mut self) {
        self.mistakes.sort_by_key(|mistake| mistake.places.first().map_or(0, |place| place.span.start));
    }
}

/// Something that a project takes from outside its tree.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OutsideUse {
    /// What it is, as the spec has it: `the folder ../shared`.
    pub what: String,
    /// Where it really lies.
    pub path: PathBuf,
    /// Where the spec names it; empty when that is not known.
    pub span: Range<usize>,
    /// Why nobody gets it, when nobody does.
    pub never: Option<String>,
}
