//! Why packages do not go together, in sentences.

use std::collections::{BTreeSet, HashMap, VecDeque};

use resolvo::conflict::{ConflictCause, ConflictEdge, ConflictGraph, ConflictNode};

use super::index::CandidateId;
use super::provider::Provider;

/// Sentences that are shown at most; the first ones tell the cause.
const MOST: usize = 6;

/// Every clash of a conflict in a sentence: what cannot be had, or what does not go together, and who wants it.
pub(super) fn sentences(provider: &Provider<'_>, conflict: &ConflictGraph) -> Vec<String> {
    let index = provider.index();
    let graph = &conflict.graph;
    // The shortest way from the wishes to each node, by the requirement that leads there.
    let mut from: HashMap<_, (_, String)> = HashMap::new();
    let mut queue = VecDeque::from([conflict.root_node]);
    let mut seen = BTreeSet::from([conflict.root_node]);
    let sorted_edges = |node| {
        let mut edges: Vec<_> = graph
            .edge_indices()
            .filter(|edge| graph.edge_endpoints(*edge).is_some_and(|ends| ends.0 == node))
            .collect();
        edges.sort();
        edges
    };
    while let Some(node) = queue.pop_front() {
        for edge in sorted_edges(node) {
            let (Some((_, to)), Some(ConflictEdge::Requires(requirement))) =
                (graph.edge_endpoints(edge), graph.edge_weight(edge))
            else {
                continue;
            };
            if seen.insert(to) {
                from.insert(to, (node, provider.shown(*requirement)));
                queue.push_back(to);
            }
        }
    }
    let named = |id: CandidateId| format!("{} {}", index.get(id).name, index.get(id).version);
    // `git 2.39, which is wished`; `libfoo 2, which git 2.39 needs, which is wished`.
    let why = |mut node| {
        let mut chain = Vec::new();
        while let Some((above, wish)) = from.get(&node) {
            match graph.node_weight(*above) {
                Some(ConflictNode::Solvable(id)) => chain.push(format!("{} needs {wish}", named(id.into_raw()))),
                _ => chain.push(format!("{wish} is asked for")),
            }
            node = *above;
        }
        chain.reverse();
        chain.join(", ")
    };
    let mut found: Vec<String> = Vec::new();
    for edge in graph.edge_indices() {
        let (Some((a, b)), Some(weight)) = (graph.edge_endpoints(edge), graph.edge_weight(edge)) else { continue };
        let (first, second) = (graph.node_weight(a), graph.node_weight(b));
        let sentence = match (weight, first, second) {
            (ConflictEdge::Requires(requirement), Some(first), Some(ConflictNode::UnresolvedDependency)) => {
                let wish = provider.shown(*requirement);
                let offered = offered(provider, &wish);
                match first {
                    ConflictNode::Solvable(id) => {
                        format!("{}; {} needs {wish}, and {offered}", why(a), named(id.into_raw()))
                    }
                    _ => format!("{wish} is asked for, and {offered}"),
                }
            }
            (
                ConflictEdge::Conflict(ConflictCause::Constrains(_)),
                Some(ConflictNode::Solvable(one)),
                Some(ConflictNode::Solvable(other)),
            ) => {
                let (one, other) = (named(one.into_raw()), named(other.into_raw()));
                format!("{one} and {other} exclude each other ({}; {})", why(a), why(b))
            }
            (
                ConflictEdge::Conflict(ConflictCause::ForbidMultipleInstances),
                Some(ConflictNode::Solvable(one)),
                Some(ConflictNode::Solvable(other)),
            ) => {
                let (one, other) = (named(one.into_raw()), named(other.into_raw()));
                format!("{one} and {other} are two versions of one package ({}; {})", why(a), why(b))
            }
            _ => continue,
        };
        if !found.contains(&sentence) {
            found.push(sentence);
        }
    }
    if found.is_empty() {
        found.push("the wishes do not go together".to_owned());
    }
    found.truncate(MOST);
    found
}

/// What there is of a package that is needed in another version.
fn offered(provider: &Provider<'_>, wish: &str) -> String {
    let index = provider.index();
    let name = wish.split(' ').next().unwrap_or(wish);
    let versions: Vec<_> = index.versions(name).iter().map(|id| index.get(*id).version.to_string()).collect();
    if versions.is_empty() {
        "no suite has it".to_owned()
    } else {
        format!("the suites have {name} {}", versions.join(", "))
    }
}
