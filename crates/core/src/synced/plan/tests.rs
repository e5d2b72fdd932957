use proptest::prelude::*;

use super::*;
use crate::digest::ContentDigest;
use crate::synced::set;

fn path(text: &str) -> RootPath {
    RootPath::from_plain(text.as_bytes()).unwrap()
}

fn file(text: &str) -> Entry {
    let what = What::File { size: text.len() as u64, content: ContentDigest::of(text.as_bytes()) };
    Entry { what, mode: 0o644, modified: 1 }
}

fn directory() -> Entry {
    Entry { what: What::Directory, mode: 0o755, modified: 0 }
}

/// `a/b=x` is a file, `a/` a directory.
fn entries(texts: &[&str]) -> Entries {
    let one = |text: &&str| match text.split_once('=') {
        Some((name, content)) => (path(name), file(content)),
        None => (path(text.trim_end_matches('/')), directory()),
    };
    texts.iter().map(one).collect()
}

fn whole() -> BTreeSet<RootPath> {
    BTreeSet::from([RootPath::root()])
}

/// Carries a plan out. Every change meets what it expects, has a directory to lie in, and removes no directory that is
/// not empty.
fn carry_out(plan: &Plan, base: &mut Entries, outside: &mut Entries, inside: &mut Entries) {
    for (path, entry) in &plan.agreed {
        set(base, path.clone(), entry.clone());
    }
    for Change { side, path, expected, wanted } in &plan.changes {
        let entries = if *side == Side::Outside { &mut *outside } else { &mut *inside };
        assert_eq!(entries.get(path), expected.as_ref(), "{path}");
        if let Some(parent) = path.parent().filter(|parent| !parent.is_root()) {
            let is_directory = entries.get(&parent).is_some_and(|entry| entry.what.is_directory());
            assert!(is_directory || wanted.is_none(), "{path} comes into no directory");
        }
        let stays = wanted.as_ref().is_some_and(|entry| entry.what.is_directory());
        assert!(stays || subtree(entries, path).count() <= 1, "{path} is not empty");
        set(entries, path.clone(), wanted.clone());
    }
}

fn done(base: &[&str], outside: &[&str], inside: &[&str]) -> (Entries, Entries, Plan) {
    let (mut base, mut outside, mut inside) = (entries(base), entries(outside), entries(inside));
    let first = plan(Known { base: &base, outside: &outside, inside: &inside }, &whole());
    carry_out(&first, &mut base, &mut outside, &mut inside);
    (outside, inside, first)
}

#[test]
fn what_one_side_changed_is_carried_to_the_other() {
    let (outside, inside, plan) =
        done(&["a=1", "b=1", "d/", "d/x=1"], &["a=2", "b=1", "d/", "d/x=1", "e/", "e/y=1"], &["a=1", "c=1"]);
    assert_eq!(outside, entries(&["a=2", "c=1", "e/", "e/y=1"]));
    assert_eq!(inside, outside);
    assert!(plan.conflicts.is_empty());
}

#[test]
fn what_both_changed_stays_and_is_told() {
    let (outside, inside, plan) = done(&["a=1"], &["a=2"], &["a=3"]);
    assert_eq!((outside, inside), (entries(&["a=2"]), entries(&["a=3"])));
    assert_eq!(plan.conflicts.keys().collect::<Vec<_>>(), [&path("a")]);
    // The same change on both sides is none, and neither is a copy that was there already.
    let (_, _, plan) = done(&["a=1"], &["a=2"], &["a=2"]);
    assert!(plan.conflicts.is_empty() && plan.changes.is_empty());
    let (_, _, plan) = done(&[], &["a=2"], &["a=2"]);
    assert!(plan.conflicts.is_empty() && plan.changes.is_empty());
}

#[test]
fn a_change_beats_a_removal_and_keeps_its_way() {
    let (outside, inside, plan) = done(&["d/", "d/e/", "d/e/x=1", "d/y=1"], &[], &["d/", "d/e/", "d/e/x=2", "d/y=1"]);
    assert_eq!(outside, entries(&["d/", "d/e/", "d/e/x=2"]));
    assert_eq!(inside, outside);
    assert!(plan.conflicts.is_empty());
}

#[test]
fn a_directory_with_something_new_does_not_become_a_file() {
    let (outside, inside, plan) = done(&["d/", "d/x=1"], &["d=file"], &["d/", "d/x=1", "d/new=1"]);
    assert_eq!(outside, entries(&["d=file"]));
    assert_eq!(inside, entries(&["d/", "d/x=1", "d/new=1"]));
    assert_eq!(plan.conflicts.keys().collect::<Vec<_>>(), [&path("d")]);
    // With nothing new it does.
    let (_, inside, plan) = done(&["d/", "d/x=1"], &["d=file"], &["d/", "d/x=1"]);
    assert_eq!(inside, entries(&["d=file"]));
    assert!(plan.conflicts.is_empty());
}

#[test]
fn times_follow_whoever_touched_it() {
    let (base, mut outside, inside) = (entries(&["a=1"]), entries(&["a=1"]), entries(&["a=1"]));
    outside.get_mut(&path("a")).unwrap().modified = 7;
    let plan = plan(Known { base: &base, outside: &outside, inside: &inside }, &whole());
    assert_eq!(plan.changes.len(), 1);
    assert_eq!((plan.changes[0].side, plan.changes[0].wanted.as_ref().unwrap().modified), (Side::Inside, 7));
}

#[test]
fn objects_come_before_what_leads_to_them() {
    let git = [".git/", ".git/HEAD=1", ".git/objects/", ".git/objects/aa=1", ".git/refs/", ".git/refs/main=1", "z=1"];
    let plan = plan(Known { base: &Entries::new(), outside: &entries(&git), inside: &Entries::new() }, &whole());
    let order: Vec<_> = plan.changes.iter().map(|change| change.path.to_string()).collect();
    let at = |name: &str| order.iter().position(|path| path == name).unwrap();
    assert!(at("/.git/objects/aa") < at("/.git/HEAD") && at("/z") < at("/.git/refs/main"), "{}", order.join(" "));
}

/// Entries with a directory for everything that lies in one.
fn some_entries() -> impl Strategy<Value = Entries> {
    let name = prop::sample::select(vec!["a", "b", "c"]);
    let one = (prop::collection::vec(name, 1..4), prop::sample::select(vec!["", "1", "2"]));
    prop::collection::vec(one, 0..8).prop_map(|all| {
        let mut entries = Entries::new();
        for (names, content) in all {
            let path = path(&names.join("/"));
            let above = path.ancestors().into_iter().filter(|above| !above.is_root()).collect::<Vec<_>>();
            if above.iter().any(|above| entries.get(above).is_some_and(|entry| !entry.what.is_directory())) {
                continue;
            }
            above.into_iter().for_each(|above| drop(entries.insert(above, directory())));
            let entry = if content.is_empty() { directory() } else { file(content) };
            if !entry.what.is_directory() && subtree(&entries, &path).any(|(below, _)| *below != path) {
                continue;
            }
            entries.insert(path, entry);
        }
        entries
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    /// Whatever was changed: plans can be carried out, come to rest, and then both sides are alike but for conflicts;
    /// no content that one side alone had changed or made is gone from both.
    #[test]
    fn everything_comes_to_rest_and_nothing_is_lost(
        base in some_entries(), outside in some_entries(), inside in some_entries()
    ) {
        let (first_base, first_outside, first_inside) = (base.clone(), outside.clone(), inside.clone());
        let (mut base, mut outside, mut inside) = (base, outside, inside);
        let mut last = Plan::default();
        for round in 0.. {
            last = plan(Known { base: &base, outside: &outside, inside: &inside }, &whole());
            carry_out(&last, &mut base, &mut outside, &mut inside);
            if last.changes.is_empty() {
                break;
            }
            prop_assert!(round < 6, "it does not come to rest: {} changes", last.changes.len());
        }
        let contested = |path: &RootPath| last.conflicts.keys().any(|conflict| path.lies_in(conflict));
        for path in outside.keys().chain(inside.keys()).filter(|path| !contested(path)) {
            prop_assert_eq!(outside.get(path), inside.get(path), "{}", path);
        }
        for (from, others) in [(&first_outside, &first_inside), (&first_inside, &first_outside)] {
            for (path, entry) in from {
                let changed = first_base.get(path) != Some(entry) && !entry.what.is_directory();
                let told_otherwise = others.get(path).is_some_and(|other| first_base.get(path) != Some(other));
                if changed && !told_otherwise {
                    let here = [outside.get(path), inside.get(path)];
                    prop_assert!(here.contains(&Some(entry)), "{} is lost: {:?}", path, here);
                }
            }
        }
        // A conflict takes nothing from either side.
        for path in last.conflicts.keys() {
            prop_assert_eq!(outside.get(path).map(|e| &e.what), first_outside.get(path).map(|e| &e.what));
            prop_assert_eq!(inside.get(path).map(|e| &e.what), first_inside.get(path).map(|e| &e.what));
        }
    }
}
