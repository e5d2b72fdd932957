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

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet, HashMap, VecDeque};
use std::fmt::Display;

use resolvo::{
    Candidates, Condition, ConditionId, DenseIndex as _, Dependencies, HintDependenciesAvailable, Interner,
    KnownDependencies, NameId, Problem, Requirement, SolvableId, Solver, SolverCache, StringId, UnsolvableOrCancelled,
    VersionSetId, VersionSetUnionId,
};

use super::index::{CandidateId, Index};
use super::{Alternative, parse_relations, words};

/// Packages that every root gets, besides those that call themselves essential or required: the package manager, so
/// that the root can be worked with; and what says that `/bin` is a link, without which a converter and its interpreter
/// would come along.
const ALWAYS: [&str; 2] = ["apt", "usr-is-merged"];

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

/// One need: what is written, and what answers it.
#[derive(Debug, Clone)]
pub(super) struct Group {
    pub shown: String,
    pub answers: Vec<CandidateId>,
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

/// Some versions of one package.
struct Set {
    name: NameId,
    candidates: Vec<CandidateId>,
    shown: String,
}

/// What the solver asks.
pub(super) struct Provider<'a> {
    request: Request<'a>,
    names: HashMap<&'a str, NameId>,
    name_of: Vec<&'a str>,
    /// What is tried first.
    preferred: BTreeSet<CandidateId>,
    sets: RefCell<Vec<Set>>,
    unions: RefCell<Vec<(Vec<VersionSetId>, String)>>,
}

impl<'a> Provider<'a> {
    fn new(request: Request<'a>, preferred: Vec<CandidateId>) -> Self {
        let (mut names, mut name_of) = (HashMap::new(), Vec::new());
        for candidate in request.index.candidates() {
            names.entry(&*candidate.name).or_insert_with(|| {
                name_of.push(&*candidate.name);
                NameId::from_raw(name_of.len() as u32 - 1)
            });
        }
        let (sets, unions) = (RefCell::default(), RefCell::default());
        Self { request, names, name_of, preferred: preferred.into_iter().collect(), sets, unions }
    }

    pub(super) fn index(&self) -> &'a Index {
        self.request.index
    }

    /// A requirement as it was written.
    pub(super) fn shown(&self, requirement: Requirement) -> String {
        match requirement {
            Requirement::Single(set) => self.sets.borrow()[set.to_index()].shown.clone(),
            Requirement::Union(union) => self.unions.borrow()[union.to_index()].1.clone(),
        }
    }

    fn set(&self, name: &str, candidates: Vec<CandidateId>, shown: &str) -> VersionSetId {
        let mut sets = self.sets.borrow_mut();
        sets.push(Set { name: self.names[name], candidates, shown: shown.to_owned() });
        VersionSetId::from_index(sets.len() - 1)
    }

    /// One set for each package that can answer, what is preferred first. `None` for a need that nothing answers.
    fn requirement(&self, group: &Group) -> Option<Requirement> {
        let index = self.index();
        let mut by_name: Vec<(&str, Vec<CandidateId>)> = Vec::new();
        for id in &group.answers {
            let name = &*index.get(*id).name;
            match by_name.iter_mut().find(|(other, _)| *other == name) {
                Some((_, ids)) => ids.push(*id),
                None => by_name.push((name, vec![*id])),
            }
        }
        // The sort is stable: without a preference the order of the archive stays.
        by_name.sort_by_key(|(_, ids)| !ids.iter().any(|id| self.preferred.contains(id)));
        let sets: Vec<_> = by_name.into_iter().map(|(name, ids)| self.set(name, ids, &group.shown)).collect();
        match sets.as_slice() {
            [] => None,
            [only] => Some((*only).into()),
            _ => {
                let mut unions = self.unions.borrow_mut();
                unions.push((sets, group.shown.clone()));
                Some(VersionSetUnionId::from_index(unions.len() - 1).into())
            }
        }
    }

    /// A need that nothing answers: a set of nothing, under a name that is there.
    fn nothing(&self, of: CandidateId, shown: &str) -> Requirement {
        self.set(&self.index().get(of).name, Vec::new(), shown).into()
    }

    /// What may not be there beside a package: for each other package that it conflicts with, the versions that may.
    fn constraints(&self, id: CandidateId) -> Vec<VersionSetId> {
        let index = self.index();
        let own = &index.get(id).name;
        let mut constraints = Vec::new();
        for conflict in parse_relations(&index.get(id).conflicts).into_iter().flatten() {
            // One of another architecture is not in this root.
            let here = ["any", "native", "all", self.request.architecture];
            if conflict.qualifier.as_deref().is_some_and(|qualifier| !here.contains(&qualifier)) {
                continue;
            }
            let hit = index.answering(&conflict);
            let mut names: Vec<&str> = hit.iter().map(|id| &*index.get(*id).name).collect();
            names.sort_unstable();
            names.dedup();
            // Packages never conflict with themselves, even through what they provide.
            for name in names.into_iter().filter(|name| **name != **own) {
                let versions = index.versions(name).iter().copied();
                let allowed = versions.filter(|version| !hit.contains(version)).collect();
                constraints.push(self.set(name, allowed, &conflict.to_string()));
            }
        }
        constraints
    }
}

impl Interner for Provider<'_> {
    type NameId = NameId;
    type SolvableId = SolvableId;

    fn display_solvable(&self, solvable: SolvableId) -> impl Display + '_ {
        let candidate = self.index().get(solvable.into_raw());
        format!("{} {}", candidate.name, candidate.version)
    }

    fn display_name(&self, name: NameId) -> impl Display + '_ {
        self.name_of[name.into_raw() as usize]
    }

    fn display_version_set(&self, version_set: VersionSetId) -> impl Display + '_ {
        self.sets.borrow()[version_set.to_index()].shown.clone()
    }

    fn display_string(&self, _: StringId) -> impl Display + '_ {
        ""
    }

    fn version_set_name(&self, version_set: VersionSetId) -> NameId {
        self.sets.borrow()[version_set.to_index()].name
    }

    fn solvable_name(&self, solvable: SolvableId) -> NameId {
        self.names[&*self.index().get(solvable.into_raw()).name]
    }

    fn version_sets_in_union(&self, union: VersionSetUnionId) -> impl Iterator<Item = VersionSetId> {
        self.unions.borrow()[union.to_index()].0.clone().into_iter()
    }

    fn resolve_condition(&self, _: ConditionId) -> Condition {
        unreachable!("BUG: no need of the archive has a condition")
    }
}

impl resolvo::DependencyProvider for Provider<'_> {
    async fn filter_candidates(
        &self,
        candidates: &[SolvableId],
        version_set: VersionSetId,
        inverse: bool,
    ) -> Vec<SolvableId> {
        let sets = self.sets.borrow();
        let set = &sets[version_set.to_index()].candidates;
        candidates.iter().copied().filter(|id| set.contains(&id.into_raw()) != inverse).collect()
    }

    async fn get_candidates(&self, name: NameId) -> Option<Candidates> {
        let versions = self.index().versions(self.name_of[name.into_raw() as usize]);
        let candidates: Vec<_> = versions.iter().map(|id| SolvableId::from_raw(*id)).collect();
        let hint_dependencies_available = HintDependenciesAvailable::None;
        Some(Candidates { candidates, hint_dependencies_available, ..Candidates::default() })
    }

    async fn sort_candidates(&self, _: &SolverCache<Self>, solvables: &mut [SolvableId]) {
        let index = self.index();
        // Versions stand in the index with the best first.
        solvables.sort_by_key(|solvable| {
            let id = solvable.into_raw();
            let candidate = index.get(id);
            let kept = self.request.kept.get(&*candidate.name).is_some_and(|version| **version == *candidate.version);
            let place = index.versions(&candidate.name).iter().position(|other| *other == id);
            (!kept, !self.preferred.contains(&id), place)
        });
    }

    async fn get_dependencies(&self, solvable: SolvableId) -> Dependencies {
        let id = solvable.into_raw();
        let groups = needs(self.index(), &self.index().get(id).depends);
        let requirements = groups
            .iter()
            .map(|group| self.requirement(group).unwrap_or_else(|| self.nothing(id, &group.shown)).into())
            .collect();
        Dependencies::Known(KnownDependencies { requirements, constrains: self.constraints(id) })
    }
}
