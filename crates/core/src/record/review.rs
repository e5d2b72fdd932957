//! What is to be looked at when a record takes the place of another one.

use std::collections::{BTreeMap, BTreeSet};

use serde::Serialize;

use super::Record;
use super::packages::Package;
use crate::digest::Sha256Digest;

/// The difference between two records.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Review {
    /// Packages that are new, that are gone, and those of which other versions are fetched.
    pub packages: Vec<MovedPackage>,
    /// Hosts that were not asked before.
    pub new_hosts: Vec<String>,
    /// Hosts that are not asked any more.
    pub gone_hosts: Vec<String>,
    /// Packages of the same version whose file is another one: nobody should do that.
    pub replaced: Vec<String>,
    /// Addresses that are no packages' and are answered otherwise, such as pages of an index.
    pub changed: Vec<String>,
    /// Addresses that are no packages' and were not asked before.
    pub added: Vec<String>,
    /// Addresses that are no packages' and are not asked any more.
    pub gone: Vec<String>,
    /// How many requests there were, and are.
    pub requests: (usize, usize),
    /// How many bytes there were, and are.
    pub bytes: (u64, u64),
}

/// A package of which something else is fetched.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct MovedPackage {
    /// Its type and name.
    pub name: String,
    /// The versions before; none when it is new.
    pub from: Vec<String>,
    /// The versions now; none when it is gone.
    pub to: Vec<String>,
}

/// Versions by package, and the digest of each file by its address.
type Files<'a> = (BTreeMap<String, BTreeSet<String>>, BTreeMap<&'a str, (Sha256Digest, bool)>);

fn files(record: &Record) -> Files<'_> {
    let (mut versions, mut digests) = (BTreeMap::<_, BTreeSet<_>>::new(), BTreeMap::new());
    for (request, response) in &record.answers {
        let package = Package::of_address(&request.url).filter(|_| response.status == 200);
        digests.insert(request.url.as_str(), (response.body, package.is_some()));
        if let Some(Package { kind, name, version }) = package {
            versions.entry(format!("{kind} {name}")).or_default().insert(version);
        }
    }
    (versions, digests)
}

impl Review {
    /// Compares two records.
    pub fn new(old: &Record, new: &Record) -> Self {
        let ((old_versions, old_files), (new_versions, new_files)) = (files(old), files(new));
        let names: BTreeSet<_> = old_versions.keys().chain(new_versions.keys()).collect();
        let versions = |of: &BTreeMap<String, BTreeSet<String>>, name: &String| -> Vec<String> {
            of.get(name).into_iter().flatten().cloned().collect()
        };
        let moved = names.into_iter().map(|name| MovedPackage {
            name: name.clone(),
            from: versions(&old_versions, name),
            to: versions(&new_versions, name),
        });
        let both = old_files.iter().filter_map(|(url, old)| Some((url, old, new_files.get(url)?)));
        let others: Vec<_> = both.filter(|(_, old, new)| old.0 != new.0).collect();
        let of = |packages: bool| -> Vec<String> {
            others.iter().filter(|(_, old, _)| old.1 == packages).map(|(url, ..)| (**url).to_owned()).collect()
        };
        let only_in = |files: &BTreeMap<&str, (Sha256Digest, bool)>, other: &BTreeMap<&str, (Sha256Digest, bool)>| {
            let only = files.iter().filter(|(url, (_, is_package))| !is_package && !other.contains_key(*url));
            only.map(|(url, _)| (*url).to_owned()).collect::<Vec<_>>()
        };
        let (old_hosts, new_hosts) = (old.hosts(), new.hosts());
        let without = |hosts: &[String], other: &[String]| -> Vec<String> {
            hosts.iter().filter(|host| !other.contains(host)).cloned().collect()
        };
        Self {
            packages: moved.filter(|package| package.from != package.to).collect(),
            new_hosts: without(&new_hosts, &old_hosts),
            gone_hosts: without(&old_hosts, &new_hosts),
            replaced: of(true),
            changed: of(false),
            added: only_in(&new_files, &old_files),
            gone: only_in(&old_files, &new_files),
            requests: (old.answers.len(), new.answers.len()),
            bytes: (old.bytes(), new.bytes()),
        }
    }

    /// Whether there is something to look at.
    pub fn is_empty(&self) -> bool {
        let Self { packages, new_hosts, gone_hosts, replaced, changed, added, gone, .. } = self;
        packages.is_empty()
            && [new_hosts, gone_hosts, replaced, changed, added, gone].into_iter().all(Vec::is_empty)
            && self.requests.0 == self.requests.1
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::record::{Request, Response};

    fn record(answers: &[(&str, &str)]) -> Record {
        let mut record = Record::default();
        for (url, body) in answers {
            let response = Response::new(200, [], (Sha256Digest::of(body.as_bytes()), body.len() as u64));
            record.answers.insert(Request::new("GET", url, [], None), response);
        }
        record
    }

    #[test]
    fn what_moved_is_named_and_a_file_that_was_replaced_stands_out() {
        let old = record(&[
            ("https://npm.example/tides", "one"),
            ("https://npm.example/tides/-/tides-1.0.0.tgz", "1"),
            ("https://npm.example/gulls/-/gulls-2.0.0.tgz", "g"),
            ("https://npm.example/ropes/-/ropes-3.0.0.tgz", "r"),
            ("https://npm.example/ropes", "ropes"),
        ]);
        let new = record(&[
            ("https://npm.example/tides", "two"),
            ("https://npm.example/tides/-/tides-1.1.0.tgz", "11"),
            ("https://npm.example/gulls/-/gulls-2.0.0.tgz", "other"),
            ("https://cdn.example/bells/-/bells-1.0.0.tgz", "b"),
            ("https://cdn.example/bells", "bells"),
        ]);
        let review = Review::new(&old, &new);
        let moved: Vec<_> = review
            .packages
            .iter()
            .map(|one| format!("{}: {} -> {}", one.name, one.from.join(" "), one.to.join(" ")))
            .collect();
        assert_eq!(moved, ["npm bells:  -> 1.0.0", "npm ropes: 3.0.0 -> ", "npm tides: 1.0.0 -> 1.1.0"]);
        assert_eq!(review.new_hosts, ["cdn.example"]);
        assert_eq!(review.replaced, ["https://npm.example/gulls/-/gulls-2.0.0.tgz"]);
        assert_eq!(review.changed, ["https://npm.example/tides"]);
        assert_eq!(
            (&review.added[..], &review.gone[..]),
            (&["https://cdn.example/bells".to_owned()][..], &["https://npm.example/ropes".to_owned()][..])
        );
        assert!(!review.is_empty() && Review::new(&old, &old).is_empty());
    }
}
