//! Laying one layer over another, by the rules of overlayfs.

use std::collections::HashMap;

use super::{Entry, Kind, LinkGroup, Tree};
use crate::path::RootPath;

impl Tree {
    /// Lays `upper` over this tree, as overlayfs shows the two: an upper directory joins a lower one and gives it its
    /// own rights, an opaque one or anything else replaces what is there, a whiteout removes it.
    pub fn overlay(&mut self, upper: &Self) {
        let mut groups = GroupNumbers::after(self);
        upper.entries.iter().for_each(|(path, entry)| self.put(path.clone(), entry.clone(), &mut groups));
    }

    /// The same with a layer that is needed no more.
    pub fn overlay_whole(&mut self, upper: Self) {
        let mut groups = GroupNumbers::after(self);
        upper.entries.into_iter().for_each(|(path, entry)| self.put(path, entry, &mut groups));
    }

    fn put(&mut self, path: RootPath, mut entry: Entry, groups: &mut GroupNumbers) {
        if let Kind::Directory { opaque } = entry.kind {
            let joins = !opaque && self.get(&path).is_some_and(|lower| lower.kind.is_directory());
            if !joins {
                self.remove(&path);
            }
            entry.kind = Kind::DIRECTORY;
        } else {
            self.remove(&path);
            if entry.kind == Kind::Whiteout {
                return;
            }
            groups.renumber(&mut entry);
        }
        self.entries.insert(path, entry);
    }

    /// Removes a path and everything under it.
    pub fn remove(&mut self, top: &RootPath) {
        let is_directory = match self.get(top) {
            None => return,
            Some(entry) => entry.kind.is_directory(),
        };
        if is_directory {
            let gone: Vec<_> = self.under(top).map(|(path, _)| path.clone()).collect();
            gone.iter().for_each(|path| drop(self.entries.remove(path)));
        } else {
            self.entries.remove(top);
        }
    }

    /// The merged tree of layers, the lowest first.
    pub fn merged<'a>(layers: impl IntoIterator<Item = &'a Self>) -> Self {
        let mut merged = Self::with_root();
        layers.into_iter().for_each(|layer| merged.overlay(layer));
        merged
    }
}

/// Gives the link groups of an upper layer numbers that the lower tree does not use: the same number in two layers does
/// not mean the same file.
struct GroupNumbers {
    next: u64,
    renumbered: HashMap<LinkGroup, LinkGroup>,
}

impl GroupNumbers {
    fn after(lower: &Tree) -> Self {
        let used = lower.entries.values().filter_map(|entry| match entry.kind {
            Kind::File { links: Some(group), .. } => Some(group.0),
            _ => None,
        });
        Self { next: used.max().map_or(0, |last| last + 1), renumbered: HashMap::new() }
    }

    fn renumber(&mut self, entry: &mut Entry) {
        if let Kind::File { links: Some(group), .. } = &mut entry.kind {
            *group = *self.renumbered.entry(*group).or_insert_with(|| {
                self.next += 1;
                LinkGroup(self.next - 1)
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::testing::{any_tree, directory, file, path, tree};
    use super::super::{Meta, encoding};
    use super::*;
    use proptest::prelude::*;

    fn whiteout() -> Entry {
        Entry { kind: Kind::Whiteout, meta: Meta::default() }
    }

    #[test]
    fn a_whiteout_removes_a_whole_directory() {
        let mut lower = tree([("srv/a/b", file("x")), ("srv/a-b", file("y"))]);
        lower.overlay(&tree([("srv/a", whiteout())]));
        assert_eq!(lower, tree([("srv/a-b", file("y"))]));
    }

    #[test]
    fn an_opaque_directory_hides_what_was_there_and_a_plain_one_joins_it() {
        let opaque = Entry { kind: Kind::Directory { opaque: true }, meta: Meta::root(0o755) };
        let mut lower = tree([("a/old", file("x"))]);
        lower.overlay(&tree([("a/new", file("y"))]));
        assert_eq!(lower, tree([("a/old", file("x")), ("a/new", file("y"))]));
        lower.overlay(&tree([("a", opaque), ("a/only", file("z"))]));
        assert_eq!(lower, tree([("a/only", file("z"))]));
    }

    #[test]
    fn a_file_replaces_a_directory_and_a_directory_a_file() {
        let mut lower = tree([("a/b", file("x"))]);
        lower.overlay(&tree([("a", file("now a file"))]));
        assert_eq!(lower, tree([("a", file("now a file"))]));
        lower.overlay(&tree([("a", directory())]));
        assert_eq!(lower, tree([("a", directory())]));
    }

    #[test]
    fn the_directory_on_top_decides_the_rights() {
        let narrow = Entry { kind: Kind::DIRECTORY, meta: Meta::owned(0o700, 5, 5) };
        let mut lower = tree([("a/b", file("x"))]);
        lower.overlay(&tree([("a", narrow.clone())]));
        assert_eq!(lower.get(&path("a")), Some(&narrow));
    }

    #[test]
    fn equal_group_numbers_of_two_layers_stay_two_files() {
        let link = |text: &str| {
            let Kind::File { size, content, .. } = file(text).kind else { unreachable!() };
            Entry { kind: Kind::File { size, content, links: Some(LinkGroup(3)) }, meta: Meta::root(0o644) }
        };
        let mut merged = tree([("a", link("x")), ("b", link("x"))]);
        merged.overlay(&tree([("c", link("x")), ("d", link("x"))]));
        let group = |at: &str| match merged.get(&path(at)).unwrap().kind {
            Kind::File { links, .. } => links.unwrap(),
            _ => unreachable!(),
        };
        assert_eq!((group("a"), group("c")), (group("b"), group("d")));
        assert_ne!(group("a"), group("c"));
    }

    proptest! {
        #[test]
        fn a_merged_tree_is_sound_and_has_no_marks(lower in any_tree(false), upper in any_tree(true)) {
            let merged = Tree::merged([&lower, &upper]);
            prop_assert!(encoding::decode(&encoding::encode(&merged)).is_ok());
            let marks = |entry: &Entry| matches!(entry.kind, Kind::Whiteout | Kind::Directory { opaque: true });
            prop_assert!(!merged.entries.values().any(marks));
        }

        #[test]
        fn merging_is_associative(a in any_tree(false), b in any_tree(false), c in any_tree(true)) {
            let at_once = Tree::merged([&a, &b, &c]).digest();
            let mut ab = a.clone();
            ab.overlay(&b);
            prop_assert_eq!(Tree::merged([&ab, &c]).digest(), at_once);
        }
    }
}
