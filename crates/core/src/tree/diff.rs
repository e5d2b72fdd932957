//! Telling two merged trees apart, entry by entry.

use std::collections::{BTreeSet, HashMap};

use serde::{Deserialize, Serialize};

use super::{Entry, Kind, LinkGroup, Tree};
use crate::digest::ContentDigest;
use crate::path::RootPath;

/// One place where two trees differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// The path of the entry or file.
    pub path: RootPath,
    /// In what.
    pub what: What,
}

/// How an entry differs between what was expected and what is here.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum What {
    /// Expected, and not here.
    Missing,
    /// Here, and not expected.
    Extra,
    /// Here with other properties.
    Changed {
        /// Each property that differs, with both values in words.
        fields: Vec<Field>,
    },
}

impl What {
    /// In words.
    pub fn words(&self) -> String {
        match self {
            Self::Missing => "it is not there any more".to_owned(),
            Self::Extra => "nobody put it there".to_owned(),
            Self::Changed { fields } => {
                let names: Vec<_> = fields.iter().map(|field| field.name.as_str()).collect();
                format!("its {} changed", names.join(" and "))
            }
        }
    }
}

/// One property of an entry that differs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Field {
    /// Which property.
    pub name: String,
    /// What was expected.
    pub expected: String,
    /// What is here.
    pub here: String,
}

/// Everything in which `here` differs from `expected`, in the order of paths. A directory whose time stamp tells only
/// that something in it came or went is not among it.
pub fn changes(expected: &Tree, here: &Tree) -> Vec<Change> {
    let mut found = entry_changes(expected, here);
    let touched: BTreeSet<_> = found.iter().filter_map(|change| change.path.parent()).collect();
    let only_time =
        |what: &What| matches!(what, What::Changed { fields } if fields.iter().all(|field| field.name == TIME));
    found.retain(|change| {
        let directory = here.get(&change.path).is_some_and(|entry| entry.kind.is_directory());
        !(directory && touched.contains(&change.path) && only_time(&change.what))
    });
    found
}

fn entry_changes(expected: &Tree, here: &Tree) -> Vec<Change> {
    let mut found = Vec::new();
    let (wanted, given) = (other_names(expected), other_names(here));
    let mut ours = here.entries.iter().peekable();
    for (path, want) in &expected.entries {
        while let Some((extra, _)) = ours.next_if(|(other, _)| *other < path) {
            found.push(Change { path: extra.clone(), what: What::Extra });
        }
        match ours.next_if(|(other, _)| *other == path) {
            None => found.push(Change { path: path.clone(), what: What::Missing }),
            Some((_, have)) => {
                let mut fields = differing_fields(want, have);
                let linked = [&wanted, &given].map(|names| names.get(path));
                if linked[0] != linked[1] && fields.iter().all(|field| field.name != KIND) {
                    let [expected, here] = linked.map(|other| {
                        other
                            .map_or_else(|| "a file of its own".to_owned(), |other| format!("the same file as {other}"))
                    });
                    fields.push(Field { name: "hard link".to_owned(), expected, here });
                }
                // Whatever was written has another time; that is worth a word only where nothing else tells it.
                if fields.iter().any(|field| WRITTEN.contains(&field.name.as_str())) {
                    fields.retain(|field| field.name != TIME);
                }
                if !fields.is_empty() {
                    found.push(Change { path: path.clone(), what: What::Changed { fields } });
                }
            }
        }
    }
    found.extend(ours.map(|(path, _)| Change { path: path.clone(), what: What::Extra }));
    found
}

/// For each name of a file that has several, another one of them: the first, and for the first the second.
fn other_names(tree: &Tree) -> HashMap<&RootPath, &RootPath> {
    let mut groups: HashMap<LinkGroup, Vec<&RootPath>> = HashMap::new();
    for (path, entry) in &tree.entries {
        if let Kind::File { links: Some(group), .. } = entry.kind {
            groups.entry(group).or_default().push(path);
        }
    }
    let mut others = HashMap::new();
    for names in groups.values().filter(|names| names.len() > 1) {
        others.insert(names[0], names[1]);
        others.extend(names[1..].iter().map(|name| (*name, names[0])));
    }
    others
}

/// Properties that change when something is written.
const WRITTEN: [&str; 5] = [KIND, "size", "content", "target", "device"];
const KIND: &str = "kind";
const TIME: &str = "time";
/// Access control lists, as the kernel names them (acl(5), linux/posix_acl_xattr.h), and in words.
const ACCESS_LISTS: [(&[u8], &str); 2] =
    [(b"system.posix_acl_access", "access list"), (b"system.posix_acl_default", "default access list")];

/// The properties in which two entries differ. Hard-link groups are left out: their numbers mean nothing across trees.
pub fn differing_fields(want: &Entry, have: &Entry) -> Vec<Field> {
    let mut fields = Vec::new();
    let mut compare = |name: &str, expected: String, here: String| {
        if expected != here {
            fields.push(Field { name: name.to_owned(), expected, here });
        }
    };
    compare(KIND, want.kind.word().to_owned(), have.kind.word().to_owned());
    match (&want.kind, &have.kind) {
        (Kind::File { size, content, .. }, Kind::File { size: size_here, content: content_here, .. }) => {
            compare("size", size.to_string(), size_here.to_string());
            compare("content", content.to_string(), content_here.to_string());
        }
        (Kind::Symlink { target }, Kind::Symlink { target: target_here }) => {
            compare("target", crate::path::shown(target), crate::path::shown(target_here));
        }
        (
            Kind::CharDevice { major, minor } | Kind::BlockDevice { major, minor },
            Kind::CharDevice { major: a, minor: b } | Kind::BlockDevice { major: a, minor: b },
        ) => compare("device", format!("{major}:{minor}"), format!("{a}:{b}")),
        (Kind::Directory { opaque }, Kind::Directory { opaque: opaque_here }) => {
            let shown = |opaque: bool| if opaque { "hidden" } else { "shown" }.to_owned();
            compare("what lies beneath", shown(*opaque), shown(*opaque_here));
        }
        _ => {}
    }
    compare("mode", format!("{:04o}", want.meta.mode), format!("{:04o}", have.meta.mode));
    compare("owner", want.meta.uid.to_string(), have.meta.uid.to_string());
    compare("group", want.meta.gid.to_string(), have.meta.gid.to_string());
    for (name, words) in ACCESS_LISTS {
        let shown = |entry: &Entry| {
            let list = entry.meta.xattrs.get(name);
            list.map_or_else(
                || "none".to_owned(),
                |list| format!("of {} bytes, {}", list.len(), ContentDigest::of(list)),
            )
        };
        compare(words, shown(want), shown(have));
    }
    compare("attributes", attributes(want), attributes(have));
    compare(TIME, time(want), time(have));
    fields
}

fn attributes(entry: &Entry) -> String {
    let listed = |name: &[u8]| ACCESS_LISTS.iter().any(|(list, _)| *list == name);
    let shown = entry
        .meta
        .xattrs
        .iter()
        .filter(|(name, _)| !listed(name))
        .map(|(name, value)| format!("{}={}", crate::path::shown(name), crate::path::shown(value)));
    shown.collect::<Vec<_>>().join(" ")
}

fn time(entry: &Entry) -> String {
    let time = i64::try_from(entry.meta.time).ok().and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
    time.map_or_else(|| entry.meta.time.to_string(), |time| time.to_string())
}

#[cfg(test)]
mod tests {
    use super::super::testing::{any_tree, file, tree};
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn every_kind_of_difference_is_named() {
        let mut own = file("same");
        own.meta.uid = 1000;
        let expected = tree([("gone", file("x")), ("kept", file("one")), ("owned", file("same"))]);
        let here = tree([("kept", file("two")), ("new", file("x")), ("owned", own)]);
        let told: Vec<_> = changes(&expected, &here)
            .into_iter()
            .map(|change| match change.what {
                What::Missing => format!("{} missing", change.path),
                What::Extra => format!("{} extra", change.path),
                What::Changed { fields } => {
                    let names: Vec<_> = fields.iter().map(|field| field.name.as_str()).collect();
                    format!("{} {}", change.path, names.join(" "))
                }
            })
            .collect();
        assert_eq!(told, ["/gone missing", "/kept content", "/new extra", "/owned owner"]);
    }

    #[test]
    fn what_is_no_content_is_named_for_what_it_is() {
        let one = |change: &dyn Fn(&mut Tree)| {
            let before = tree([("d/a", file("x")), ("d/b", file("x"))]);
            let mut here = before.clone();
            change(&mut here);
            let told = changes(&before, &here).into_iter().map(|change| match change.what {
                What::Changed { fields } => format!("{} {}", change.path, fields[0].name),
                other => format!("{} {}", change.path, other.words()),
            });
            told.collect::<Vec<_>>()
        };
        let at = |here: &mut Tree, path: &str, change: &dyn Fn(&mut Entry)| {
            change(here.entries.get_mut(&super::super::testing::path(path)).unwrap());
        };
        assert_eq!(
            one(&|here| at(here, "d", &|entry| entry.kind = Kind::Directory { opaque: true })),
            ["/d what lies beneath"]
        );
        assert_eq!(one(&|here| at(here, "d", &|entry| entry.meta.time = 7)), ["/d time"]);
        let listed =
            |name: &'static [u8]| move |entry: &mut Entry| drop(entry.meta.xattrs.insert(name.to_vec(), vec![2]));
        assert_eq!(one(&|here| at(here, "d/a", &listed(ACCESS_LISTS[0].0))), ["/d/a access list"]);
        assert_eq!(one(&|here| at(here, "d", &listed(ACCESS_LISTS[1].0))), ["/d default access list"]);
        let linked = |entry: &mut Entry| {
            if let Kind::File { links, .. } = &mut entry.kind {
                *links = Some(LinkGroup(3));
            }
        };
        assert_eq!(
            one(&|here| ["d/a", "d/b"].into_iter().for_each(|path| at(here, path, &linked))),
            ["/d/a hard link", "/d/b hard link"]
        );
        // What comes or goes in a directory changes its time, which is not a news.
        let gone = one(&|here| {
            here.entries.remove(&super::super::testing::path("d/a"));
            at(here, "d", &|entry| entry.meta.time = 7);
        });
        assert_eq!(gone, ["/d/a it is not there any more"]);
    }

    proptest! {
        #[test]
        fn trees_have_changes_exactly_when_their_entries_differ(a in any_tree(false), b in any_tree(false)) {
            prop_assert!(changes(&a, &a).is_empty());
            if changes(&a, &b).is_empty() {
                prop_assert!(a.entries.keys().eq(b.entries.keys()));
            } else {
                prop_assert_ne!(a.digest(), b.digest());
            }
        }
    }
}
