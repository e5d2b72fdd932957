//! Choosing packages from an index.

use std::collections::{BTreeMap, BTreeSet};

use cavrith_core::debian::index::{Index, IndexReader};
use cavrith_core::debian::solve::{Request, Unsolved, solve};
use cavrith_core::debian::{parse_alternative, parse_relations};
use proptest::prelude::*;

/// An index of packages, each a line: name, version, and fields, with semicolons between.
fn index(lines: &[&str]) -> Index {
    let mut index = Index::default();
    let suite = index.add_suite("tide", false);
    let mut reader = IndexReader::new(&mut index, suite);
    for line in lines {
        let mut parts = line.split(';').map(str::trim);
        let mut head = parts.next().unwrap().split(' ');
        let (name, version) = (head.next().unwrap(), head.next().unwrap());
        let fixed = format!(
            "Package: {name}\nVersion: {version}\nArchitecture: amd64\nFilename: pool/{name}_{version}.deb\nSize: 1\nSHA256: {}",
            "0".repeat(64)
        );
        for line in fixed.lines().chain(parts) {
            reader.line(line.as_bytes()).unwrap();
        }
        reader.line(b"").unwrap();
    }
    reader.finish().unwrap();
    index
}

fn ask(index: &Index, wishes: &[&str], recommended: bool, kept: &[(&str, &str)]) -> Result<Vec<String>, Vec<Unsolved>> {
    let wishes: Vec<_> = wishes.iter().map(|wish| parse_alternative(wish)).collect();
    let kept: BTreeMap<_, _> = kept.iter().map(|(name, version)| ((*name).to_owned(), (*version).to_owned())).collect();
    let chosen = solve(Request { index, wishes: &wishes, recommended, kept: &kept, architecture: "amd64" })?;
    Ok(chosen.into_iter().map(|id| format!("{} {}", index.get(id).name, index.get(id).version)).collect())
}

fn chosen(lines: &[&str], wishes: &[&str]) -> Vec<String> {
    ask(&index(lines), wishes, false, &[]).unwrap()
}

#[test]
fn what_every_root_has_comes_by_itself() {
    let lines =
        ["shell 1; Essential: yes; Pre-Depends: libc", "libc 2", "tools 1; Priority: required", "game 1", "apt 2"];
    assert_eq!(chosen(&lines, &[]), ["apt 2", "libc 2", "shell 1", "tools 1"]);
}

#[test]
fn of_several_answers_what_is_there_already_is_taken_and_else_the_first() {
    let lines = ["mail 1; Depends: sender | post", "sender 1", "post 1", "office 1; Depends: post"];
    assert_eq!(chosen(&lines, &["mail"]), ["mail 1", "sender 1"]);
    assert_eq!(chosen(&lines, &["mail", "office"]), ["mail 1", "office 1", "post 1"]);
    // A need with one answer only decides first, whichever need is older.
    let lines = ["a 1; Depends: x | y, b", "b 1; Depends: c", "c 1; Depends: y", "x 1", "y 1"];
    assert_eq!(chosen(&lines, &["a"]), ["a 1", "b 1", "c 1", "y 1"]);
}

#[test]
fn providers_come_after_real_packages_by_priority_and_name() {
    let lines =
        ["a 1; Depends: awk", "zawk 1; Provides: awk; Priority: required", "gawk 1; Provides: awk; Priority: optional"];
    assert_eq!(chosen(&lines, &["a"]), ["a 1", "zawk 1"]);
    let lines = ["a 1; Depends: lib (>= 2)", "old 1; Provides: lib", "new 1; Provides: lib (= 2.1)"];
    assert_eq!(chosen(&lines, &["a"]), ["a 1", "new 1"]);
    let lines = ["a 1; Depends: python3:any (>= 3)", "python3 3.11"];
    assert_eq!(chosen(&lines, &["a"]), ["a 1", "python3 3.11"]);
}

#[test]
fn conflicts_are_heeded_and_go_back_on_what_was_preferred() {
    // The first alternative would be taken, but it breaks what is wished.
    let lines = ["a 1; Depends: x | y", "x 1; Breaks: w (<< 2)", "y 1", "w 1"];
    assert_eq!(chosen(&lines, &["a", "w"]), ["a 1", "w 1", "y 1"]);
    // The newest version does not fit, the one before does.
    let lines = ["a 1; Depends: lib", "lib 2; Conflicts: w", "lib 1", "w 1"];
    assert_eq!(chosen(&lines, &["a", "w"]), ["a 1", "lib 1", "w 1"]);
    // Nobody conflicts with themselves, nor with another architecture's package.
    let lines = ["mta 1; Provides: agent; Conflicts: agent", "multi 1; Conflicts: libc:i386", "libc 1"];
    assert_eq!(chosen(&lines, &["mta", "multi", "libc"]), ["libc 1", "mta 1", "multi 1"]);
}

#[test]
fn what_is_kept_stays_when_it_can() {
    let index = index(&["a 2; Depends: lib", "a 1; Depends: lib", "lib 3", "lib 2", "new 1; Depends: lib (>= 3)"]);
    let kept = [("a", "1"), ("lib", "2")];
    assert_eq!(ask(&index, &["a"], false, &kept).unwrap(), ["a 1", "lib 2"]);
    assert_eq!(ask(&index, &["a", "new"], false, &kept).unwrap(), ["a 1", "lib 3", "new 1"]);
    assert_eq!(ask(&index, &["a"], false, &[]).unwrap(), ["a 2", "lib 3"]);
}

#[test]
fn recommended_packages_are_taken_where_they_fit() {
    let index =
        index(&["a 1; Recommends: help, foe, gone", "help 1; Recommends: more", "more 1", "foe 1; Conflicts: a"]);
    assert_eq!(ask(&index, &["a"], false, &[]).unwrap(), ["a 1"]);
    assert_eq!(ask(&index, &["a"], true, &[]).unwrap(), ["a 1", "help 1", "more 1"]);
}

#[test]
fn what_cannot_be_is_told_with_the_way_to_it() {
    let lines = [
        "a 1; Depends: b",
        "b 1; Depends: c (>= 2)",
        "c 1",
        "x 1; Depends: y",
        "y 1; Conflicts: z",
        "w 1; Depends: z",
        "z 1",
    ];
    let why = |wishes: &[&str]| match &ask(&index(&lines), wishes, false, &[]).unwrap_err()[..] {
        [Unsolved::Clash(sentences)] => sentences.join("\n"),
        other => panic!("{other:?}"),
    };
    assert_eq!(why(&["a"]), "a is asked for, a 1 needs b; b 1 needs c (>= 2), and the suites have c 1");
    let clash = why(&["x", "w"]);
    assert!(clash.contains("y 1 and z 1 exclude each other"), "{clash}");
    assert!(clash.contains("x is asked for, x 1 needs y") && clash.contains("w is asked for, w 1 needs z"), "{clash}");
    assert_eq!(ask(&index(&lines), &["nothing", "c (>= 3)"], false, &[]).unwrap_err().len(), 2, "all are told at once");
}

/// A small archive in which anything may need or conflict with anything.
fn archives() -> impl Strategy<Value = Vec<String>> {
    let wish = (0..8usize, prop::option::of(1..4u32)).prop_map(|(name, version)| match version {
        Some(version) => format!("p{name} (>= {version})"),
        None => format!("p{name}"),
    });
    let group = prop::collection::vec(wish.clone(), 1..3).prop_map(|group| group.join(" | "));
    let package = (0..8usize, 1..4u32, prop::collection::vec(group, 0..3), prop::option::of(wish));
    let package = package.prop_map(|(name, version, depends, conflict)| {
        let depends = if depends.is_empty() { String::new() } else { format!("; Depends: {}", depends.join(", ")) };
        let conflict = conflict.map_or_else(String::new, |conflict| format!("; Conflicts: {conflict}"));
        format!("p{name} {version}{depends}{conflict}")
    });
    prop::collection::vec(package, 1..14)
}

proptest! {
    #[test]
    fn an_answer_holds_and_is_the_same_every_time(lines in archives(), wish in 0..8usize) {
        let lines: Vec<_> = lines.iter().map(String::as_str).collect();
        let index = index(&lines);
        let wish = format!("p{wish}");
        let answer = ask(&index, &[&wish], false, &[]);
        prop_assert_eq!(&answer, &ask(&index, &[&wish], false, &[]));
        let Ok(answer) = answer else { return Ok(()) };
        let has: BTreeMap<_, _> = answer.iter().map(|one| one.split_once(' ').unwrap()).collect();
        prop_assert_eq!(has.len(), answer.len(), "one version of each");
        prop_assert!(has.contains_key(wish.as_str()));
        let ids: BTreeSet<_> = has.iter().map(|(name, version)| {
            *index.versions(name).iter().find(|id| *index.get(**id).version == **version).unwrap()
        }).collect();
        for id in &ids {
            let package = index.get(*id);
            for group in parse_relations(&package.depends) {
                let met = group.iter().any(|wish| has.get(wish.name.as_str()).is_some_and(|version| wish.accepts(version)));
                prop_assert!(met, "{} {} lacks {group:?}", package.name, package.version);
            }
            for conflict in parse_relations(&package.conflicts).into_iter().flatten() {
                let hit = conflict.name != *package.name && has.get(conflict.name.as_str()).is_some_and(|version| conflict.accepts(version));
                prop_assert!(!hit, "{} conflicts with {conflict}", package.name);
            }
        }
    }

    #[test]
    fn an_answer_is_found_when_there_is_one(lines in archives(), wish in 0..8usize) {
        let lines: Vec<_> = lines.iter().map(String::as_str).collect();
        let index = index(&lines);
        // Every set of packages of this small archive, by trying.
        let all = index.candidates().len();
        let sound = |set: u32| {
            let inside: Vec<_> = (0..all).filter(|number| set & (1 << number) != 0).map(|number| &index.candidates()[number]).collect();
            let names: BTreeSet<_> = inside.iter().map(|one| &one.name).collect();
            names.len() == inside.len()
                && inside.iter().any(|one| *one.name == *format!("p{wish}"))
                && inside.iter().all(|one| {
                    let meets = |wish: &cavrith_core::debian::Alternative| inside.iter().any(|other| *other.name == *wish.name && wish.accepts(&other.version));
                    parse_relations(&one.depends).iter().all(|group| group.iter().any(meets))
                        && !parse_relations(&one.conflicts).iter().flatten().any(|wish| wish.name != *one.name && meets(wish))
                })
        };
        let possible = (0..1u32 << all).any(sound);
        prop_assert_eq!(ask(&index, &[&format!("p{wish}")], false, &[]).is_ok(), possible);
    }
}
