//! What has to be done so that both sides are alike.

use std::collections::{BTreeMap, BTreeSet};

use super::{Entries, Entry, What, subtree};
use crate::path::RootPath;

/// A side of a synced folder.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// The member's disk.
    Outside,
    /// The workspace.
    Inside,
}

impl Side {
    /// The other one.
    pub fn other(self) -> Self {
        match self {
            Self::Outside => Self::Inside,
            Self::Inside => Self::Outside,
        }
    }

    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Outside => "outside",
            Self::Inside => "inside",
        }
    }
}

/// What is known of a folder.
#[derive(Debug, Clone, Copy)]
pub struct Known<'a> {
    /// What both sides had when they agreed last.
    pub base: &'a Entries,
    /// What lies outside.
    pub outside: &'a Entries,
    /// What lies inside.
    pub inside: &'a Entries,
}

impl<'a> Known<'a> {
    fn of(self, side: Side) -> &'a Entries {
        match side {
            Side::Outside => self.outside,
            Side::Inside => self.inside,
        }
    }
}

/// A change of one side.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// Where it is made.
    pub side: Side,
    /// The path.
    pub path: RootPath,
    /// What lies there now; when it is anything else, the change is not made.
    pub expected: Option<Entry>,
    /// What is to lie there; nothing when it is to go.
    pub wanted: Option<Entry>,
}

/// Both sides changed a path, each in its own way.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// What lies outside.
    pub outside: Option<What>,
    /// What lies inside.
    pub inside: Option<What>,
}

/// What has to be done.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Plan {
    /// Changes, in the order in which they can be made: what goes first, the deepest first, then what comes.
    pub changes: Vec<Change>,
    /// What both sides have now.
    pub agreed: Vec<(RootPath, Option<Entry>)>,
    /// Conflicts among the paths that were asked for. Nothing is done about them.
    pub conflicts: BTreeMap<RootPath, Conflict>,
}

/// Plans what follows from changes of the paths `touched`, and of everything below them.
pub fn plan(known: Known<'_>, touched: &BTreeSet<RootPath>) -> Plan {
    let mut planning = Planning { known, wanted: BTreeMap::new(), plan: Plan::default() };
    for path in paths(known, touched) {
        planning.look_at(&path);
    }
    planning.keep_ways();
    planning.refuse_meetings();
    planning.in_order()
}

/// The paths themselves, and all below them on any side, once each.
fn paths(known: Known<'_>, touched: &BTreeSet<RootPath>) -> BTreeSet<RootPath> {
    let mut all = BTreeSet::new();
    let mut last: Option<&RootPath> = None;
    for top in touched {
        if last.is_some_and(|last| top.lies_in(last)) {
            continue;
        }
        last = Some(top);
        all.extend((!top.is_root()).then(|| top.clone()));
        for entries in [known.base, known.outside, known.inside] {
            all.extend(subtree(entries, top).map(|(path, _)| path.clone()));
        }
    }
    all
}

struct Planning<'a> {
    known: Known<'a>,
    /// What each side is to have.
    wanted: BTreeMap<(RootPath, Side), Option<Entry>>,
    plan: Plan,
}

fn alike(one: Option<&Entry>, other: Option<&Entry>) -> bool {
    match (one, other) {
        (None, None) => true,
        (Some(one), Some(other)) => one.is_like(other),
        _ => false,
    }
}

impl Planning<'_> {
    fn want(&mut self, path: &RootPath, side: Side, entry: Option<&Entry>) {
        self.wanted.insert((path.clone(), side), entry.cloned());
    }

    fn look_at(&mut self, path: &RootPath) {
        let Known { base, outside, inside } = self.known;
        let (base, outside, inside) = (base.get(path), outside.get(path), inside.get(path));
        if alike(outside, inside) {
            return self.settle_times(path, base, outside, inside);
        }
        match (alike(outside, base), alike(inside, base)) {
            (true, _) => self.want(path, Side::Outside, inside),
            (_, true) => self.want(path, Side::Inside, outside),
            (false, false) => match (outside, inside) {
                // A change beats a removal: nothing is lost by that.
                (None, Some(there)) => self.want(path, Side::Outside, Some(there)),
                (Some(there), None) => self.want(path, Side::Inside, Some(there)),
                // The same content with other rights.
                (Some(there), Some(other)) if there.what == other.what => self.want(path, Side::Inside, Some(there)),
                _ => self.conflict(path),
            },
        }
    }

    fn conflict(&mut self, path: &RootPath) {
        let what = |side: Side| self.known.of(side).get(path).map(|entry| entry.what.clone());
        let conflict = Conflict { outside: what(Side::Outside), inside: what(Side::Inside) };
        self.plan.conflicts.insert(path.clone(), conflict);
    }

    /// Alike, perhaps with other times: whoever has not changed it gets the other's, else the later one counts.
    fn settle_times(&mut self, path: &RootPath, base: Option<&Entry>, outside: Option<&Entry>, inside: Option<&Entry>) {
        let (Some(out), Some(within)) = (outside, inside) else {
            return self.plan.agreed.push((path.clone(), None));
        };
        if out.modified == within.modified {
            return self.plan.agreed.push((path.clone(), Some(out.clone())));
        }
        let before = base.map(|base| base.modified);
        let outside_counts = if before == Some(within.modified) {
            true
        } else if before == Some(out.modified) {
            false
        } else {
            out.modified > within.modified
        };
        if outside_counts {
            self.want(path, Side::Inside, outside);
        } else {
            self.want(path, Side::Outside, inside);
        }
    }

    /// What a side is to have at a path.
    fn will_have(&self, path: &RootPath, side: Side) -> Option<&Entry> {
        match self.wanted.get(&(path.clone(), side)) {
            Some(wanted) => wanted.as_ref(),
            None => self.known.of(side).get(path),
        }
    }

    /// What comes needs the directories that it lies in on both sides, also where one of them was removed; where it
    /// cannot have them, it does not come.
    fn keep_ways(&mut self) {
        let coming: Vec<_> =
            self.wanted.iter().filter(|(_, entry)| entry.is_some()).map(|(key, _)| key.clone()).collect();
        for (path, side) in coming {
            let above: Vec<_> = path.ancestors().into_iter().filter(|above| !above.is_root()).collect();
            let blocked = above.iter().any(|above| {
                self.plan.conflicts.contains_key(above)
                    || self.will_have(above, side).is_some_and(|entry| !entry.what.is_directory())
            });
            if blocked {
                self.wanted.remove(&(path, side));
                continue;
            }
            for above in above {
                let other = side.other();
                // It is there on the side that it comes from, whatever was planned.
                let Some(there) = self.known.of(other).get(&above).cloned() else { continue };
                if self.will_have(&above, other).is_none() {
                    self.wanted.remove(&(above.clone(), other));
                }
                if self.will_have(&above, side).is_none() {
                    if self.known.of(side).contains_key(&above) {
                        self.wanted.remove(&(above, side));
                    } else {
                        self.wanted.insert((above, side), Some(there));
                    }
                }
            }
        }
    }

    /// A directory with something that stays does not become a file: that is a conflict, and all below it waits.
    fn refuse_meetings(&mut self) {
        let becoming: Vec<_> = self
            .wanted
            .iter()
            .filter(|((path, side), wanted)| {
                let is_directory = |entry: Option<&Entry>| entry.is_some_and(|entry| entry.what.is_directory());
                is_directory(self.known.of(*side).get(path)) && !is_directory(wanted.as_ref())
            })
            .map(|((path, side), wanted)| (path.clone(), *side, wanted.is_some()))
            .collect();
        for (path, side, is_other) in becoming {
            let mut below = subtree(self.known.of(side), &path).map(|(below, _)| below).filter(|below| **below != path);
            let is_emptied = below.all(|below| self.will_have(below, side).is_none());
            drop(below);
            if is_emptied {
                continue;
            }
            if is_other {
                self.wanted.retain(|(below, _), _| !below.lies_in(&path));
                self.conflict(&path);
            } else {
                // It stays, and so it does on the other side, when that has it no more.
                self.wanted.remove(&(path, side));
            }
        }
    }

    fn in_order(mut self) -> Plan {
        let known = self.known;
        let mut changes: Vec<_> = std::mem::take(&mut self.wanted)
            .into_iter()
            .map(|((path, side), wanted)| Change { expected: known.of(side).get(&path).cloned(), side, path, wanted })
            .filter(|change| change.expected != change.wanted)
            .collect();
        // Stable, so what lies in a directory comes after it.
        changes.sort_by_key(rank);
        let removals = changes.iter().take_while(|change| change.wanted.is_none()).count();
        changes[..removals].reverse();
        self.plan.changes = changes;
        self.plan
    }
}

/// Removals, then what comes; what git's references lead to comes before they do.
fn rank(change: &Change) -> u8 {
    let Some(wanted) = &change.wanted else { return 0 };
    let mut names = change.path.names().skip_while(|name| *name != b".git").skip(1);
    let is_reference = names.next().is_some_and(|name| name != b"objects");
    if is_reference && !wanted.what.is_directory() { 2 } else { 1 }
}

#[cfg(test)]
mod tests;
