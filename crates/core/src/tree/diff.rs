//! Telling two merged trees apart, entry by entry.

use serde::{Deserialize, Serialize};

use super::{Entry, Kind, Tree};
use crate::path::RootPath;

/// One place where two trees differ.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Change {
    /// Where.
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

/// Everything in which `here` differs from `expected`, in the order of paths.
pub fn changes(expected: &Tree, here: &Tree) -> Vec<Change> {
    let mut found = Vec::new();
    let mut ours = here.entries.iter().peekable();
    for (path, want) in &expected.entries {
        while let Some((extra, _)) = ours.next_if(|(other, _)| *other < path) {
            found.push(Change { path: extra.clone(), what: What::Extra });
        }
        match ours.next_if(|(other, _)| *other == path) {
            None => found.push(Change { path: path.clone(), what: What::Missing }),
            Some((_, have)) => {
                let fields = differing_fields(want, have);
                if !fields.is_empty() {
                    found.push(Change { path: path.clone(), what: What::Changed { fields } });
                }
            }
        }
    }
    found.extend(ours.map(|(path, _)| Change { path: path.clone(), what: What::Extra }));
    found
}

/// The properties in which two entries differ. Hard-link groups are left out: their numbers mean nothing across trees.
pub fn differing_fields(want: &Entry, have: &Entry) -> Vec<Field> {
    let mut fields = Vec::new();
    let mut compare = |name: &str, expected: String, here: String| {
        if expected != here {
            fields.push(Field { name: name.to_owned(), expected, here });
        }
    };
    compare("kind", want.kind.word().to_owned(), have.kind.word().to_owned());
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
        _ => {}
    }
    compare("mode", format!("{:04o}", want.meta.mode), format!("{:04o}", have.meta.mode));
    compare("owner", want.meta.uid.to_string(), have.meta.uid.to_string());
    compare("group", want.meta.gid.to_string(), have.meta.gid.to_string());
    compare("attributes", attributes(want), attributes(have));
    fields
}

fn attributes(entry: &Entry) -> String {
    let shown = entry
        .meta
        .xattrs
        .iter()
        .map(|(name, value)| format!("{}={}", crate::path::shown(name), crate::path::shown(value)));
    shown.collect::<Vec<_>>().join(" ")
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
