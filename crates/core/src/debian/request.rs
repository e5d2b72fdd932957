//! What is asked of the solver, and what answers each need.

use std::collections::BTreeMap;

use super::index::{CandidateId, Index};
use super::{Alternative, parse_relations};

/// What is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Request<'a> {
    /// What there is.
    pub index: &'a Index,
    /// What the spec names.
    pub wishes: &'a [Alternative],
    /// Take what packages recommend, too.
    pub recommended: bool,
    /// Versions to stay with if they can be had, by name.
    pub kept: &'a BTreeMap<String, String>,
    /// The root's architecture.
    pub architecture: &'a str,
}

/// One need: what is written, and what answers it.
#[derive(Debug, Clone)]
pub(super) struct Group {
    pub shown: String,
    pub answers: Vec<CandidateId>,
}

/// The needs of a package.
pub(super) fn needs(index: &Index, field: &str) -> Vec<Group> {
    let groups = parse_relations(field).into_iter().map(|alternatives| {
        let mut answers = Vec::new();
        for alternative in &alternatives {
            for id in index.answering(alternative) {
                if !answers.contains(&id) {
                    answers.push(id);
                }
            }
        }
        let shown = alternatives.iter().map(ToString::to_string).collect::<Vec<_>>().join(" or ");
        Group { shown, answers }
    });
    groups.collect()
}
