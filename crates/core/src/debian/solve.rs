//! Which packages a root has: what was wished, and all that it needs.
//!
//! The answer is found by a general solver (the `resolvo` crate, conflict-driven clause learning), so it finds one when
//! there is one, and can say why there is none. Of many answers, people expect the one that the archive's own tools
//! give; so a simple [walk](Walk) is made first, and what it comes to is what the solver tries first:
//!
//! 1. Whatever has one answer only is taken, with what that needs, until nothing of the kind is left.
//! 2. Then one need that has several answers is met, the oldest first: by what is taken already, else by the first
//!    answer, real packages before those that provide it. Then again from 1.
//!
//! Nothing depends on the order of a hash map: the same index and the same wishes give the same answer.

use std::collections::{BTreeSet, HashMap, VecDeque};

use resolvo::{Problem, SolvableId, Solver, UnsolvableOrCancelled};

use super::index::{CandidateId, Index};
use super::provider::Provider;
use super::request::{Group, needs};
use super::{Alternative, words};

pub use super::request::Request;

/// Packages that every root gets, besides those that call themselves essential or required: the package manager, so
/// that the root can be worked with; and what says that `/bin` is a link, without which a converter and its interpreter
/// would come along.
const ALWAYS: [&str; 2] = ["apt", "usr-is-merged"];

/// Why there is no answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unsolved {
    /// The wish with this number names nothing that there is.
    Unknown(usize),
    /// The wish with this number names something that only other packages provide, and these are several.
    Ambiguous(usize, Vec<String>),
    /// The wish with this number asks for a version that there is not; these are.
    NoVersion(usize, Vec<String>),
    /// Wishes and needs do not go together; in sentences.
    Clash(Vec<String>),
}

/// The packages of a root, by name.
///
/// # Errors
/// Every wish that cannot be met by itself; or why all of them cannot be met together.
pub fn solve(request: Request<'_>) -> Result<Vec<CandidateId>, Vec<Unsolved>> {
    let mut unsolved = Vec::new();
    let mut roots: Vec<Group> = base_groups(request.index);
    for (number, wish) in request.wishes.iter().enumerate() {
        match wished(request.index, wish, number) {
            Ok(group) => roots.push(group),
            Err(why) => unsolved.push(why),
        }
    }
    if !unsolved.is_empty() {
        return Err(unsolved);
    }
    let provider = Provider::new(request, Walk::new(request.index).run(&roots));
    solve_all(request, provider, &roots).map_err(|sentences| vec![Unsolved::Clash(sentences)])
}

fn base_groups(index: &Index) -> Vec<Group> {
    let mut names: BTreeSet<&str> = BTreeSet::new();
    names.extend(index.candidates().iter().filter(|one| one.essential || one.priority == 0).map(|one| &*one.name));
    names.extend(ALWAYS.iter().filter(|name| !index.versions(name).is_empty()));
    let group = |name: &str| Group { shown: name.to_owned(), answers: index.versions(name).to_vec() };
    names.into_iter().map(group).collect()
}

fn wished(index: &Index, wish: &Alternative, number: usize) -> Result<Group, Unsolved> {
    let real = index.versions(&wish.name);
    let group = |answers| Ok(Group { shown: wish.to_string(), answers });
    if !real.is_empty() {
        let answers: Vec<_> = real.iter().copied().filter(|id| wish.accepts(&index.get(*id).version)).collect();
        if answers.is_empty() {
            let versions = real.iter().map(|id| index.get(*id).version.to_string()).collect();
            return Err(Unsolved::NoVersion(number, versions));
        }
        return group(answers);
    }
    let answers = index.answering(wish);
    let mut names: Vec<_> = answers.iter().map(|id| index.get(*id).name.to_string()).collect();
    names.sort();
    names.dedup();
    match names.len() {
        0 => Err(Unsolved::Unknown(number)),
        1 => group(answers),
        _ => Err(Unsolved::Ambiguous(number, names)),
    }
}

/// The simple walk that gives the answer people expect, as long as nothing clashes.
struct Walk<'a> {
    index: &'a Index,
    taken: HashMap<&'a str, CandidateId>,
    order: Vec<CandidateId>,
    open: VecDeque<Group>,
}

impl<'a> Walk<'a> {
    fn new(index: &'a Index) -> Self {
        Self { index, taken: HashMap::new(), order: Vec::new(), open: VecDeque::new() }
    }

    fn run(mut self, roots: &[Group]) -> Vec<CandidateId> {
        self.open.extend(roots.iter().cloned());
        loop {
            self.take_single();
            let Some(group) = self.open.pop_front() else { return self.order };
            if let Some(first) = group.answers.first().filter(|_| !self.is_met(&group)) {
                self.take(*first);
            }
        }
    }

    /// Meets every need that one package only can meet, until none is left.
    fn take_single(&mut self) {
        loop {
            let before = self.order.len();
            for _ in 0..self.open.len() {
                let Some(group) = self.open.pop_front() else { break };
                let mut names = group.answers.iter().map(|id| &self.index.get(*id).name);
                let first = names.next();
                if self.is_met(&group) || first.is_none() {
                    continue;
                }
                if names.all(|name| Some(name) == first) {
                    self.take(group.answers[0]);
                } else {
                    self.open.push_back(group);
                }
            }
            if self.order.len() == before {
                return;
            }
        }
    }

    fn is_met(&self, group: &Group) -> bool {
        group.answers.iter().any(|id| self.taken.get(&*self.index.get(*id).name) == Some(id))
    }

    fn take(&mut self, id: CandidateId) {
        let candidate = self.index.get(id);
        // Of a second version the solver decides.
        if self.taken.contains_key(&*candidate.name) {
            return;
        }
        self.taken.insert(&candidate.name, id);
        self.order.push(id);
        self.open.extend(needs(self.index, &candidate.depends));
    }
}

fn solve_all(request: Request<'_>, provider: Provider<'_>, roots: &[Group]) -> Result<Vec<CandidateId>, Vec<String>> {
    let index = request.index;
    let mut solver = Solver::new(provider);
    // What is recommended is tried, and left out where it does not fit.
    let mut soft: Vec<CandidateId> = Vec::new();
    loop {
        let requirements: Vec<_> = roots.iter().filter_map(|group| solver.provider().requirement(group)).collect();
        let problem = Problem::default().requirements(requirements.into_iter().map(Into::into).collect());
        let problem = problem.soft_requirements(soft.iter().map(|id| SolvableId::from_raw(*id)).collect::<Vec<_>>());
        let solved = match solver.solve(problem) {
            Ok(solved) => solved,
            Err(UnsolvableOrCancelled::Unsolvable(conflict)) => {
                let graph = conflict.graph(&solver);
                return Err(words::sentences(solver.provider(), &graph));
            }
            Err(UnsolvableOrCancelled::Cancelled(_)) => unreachable!("BUG: nothing cancels the solver"),
        };
        let mut chosen: Vec<CandidateId> = solved.into_iter().map(SolvableId::into_raw).collect();
        chosen.sort_by(|a, b| index.get(*a).name.cmp(&index.get(*b).name));
        let before = soft.len();
        if request.recommended {
            let has: BTreeSet<_> = chosen.iter().copied().collect();
            for group in chosen.iter().flat_map(|id| needs(index, &index.get(*id).recommends)) {
                let tried = |id: &CandidateId| has.contains(id) || soft.contains(id);
                if let Some(first) = group.answers.first().filter(|_| !group.answers.iter().any(tried)) {
                    soft.push(*first);
                }
            }
        }
        if soft.len() == before {
            return Ok(chosen);
        }
    }
}
