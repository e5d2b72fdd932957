//! What the general solver (the `resolvo` crate) asks of the index.

use std::cell::RefCell;
use std::collections::{BTreeSet, HashMap};
use std::fmt::Display;

use resolvo::{
    Candidates, Condition, ConditionId, DenseIndex as _, Dependencies, HintDependenciesAvailable, Interner,
    KnownDependencies, NameId, Requirement, SolvableId, SolverCache, StringId, VersionSetId, VersionSetUnionId,
};

use super::index::{CandidateId, Index};
use super::parse_relations;
use super::request::{Group, Request, needs};

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
    pub fn new(request: Request<'a>, preferred: Vec<CandidateId>) -> Self {
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
    pub fn requirement(&self, group: &Group) -> Option<Requirement> {
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
