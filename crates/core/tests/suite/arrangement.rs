//! What runs, compared with what the spec says now: every difference with the least that is enough.

use std::collections::BTreeMap;

use cavrith_core::arrangement::Arrangement;
use cavrith_core::derive::changes::{Change, Effort, changes};
use cavrith_core::digest::ImageFingerprint;
use cavrith_core::lock::choose::{Update, choose};
use cavrith_core::spec::{Spec, parse};
use proptest::prelude::*;

const SPEC: &str = r#"
spec = 1
[workspace]
name = "timetable"
[depots]
harbour = { path = "depot" }
[base]
depot = "harbour"
packages = ["busybox-static"]
[env]
SITE_PORT = "8080"
[[ports]]
name = "site"
inside = 8080
[[steps]]
name = "fill"
at = "first-start"
run = "fill"
after = ["store"]
[services.site]
run = "serve"
after = ["store", "fill"]
[services.store]
run = "store"
ready = { port = 5432 }
[names]
"timetable.test" = "site"
"#;

fn spec(text: &str) -> Spec {
    let parsed = parse(text);
    assert!(parsed.mistakes.is_empty(), "{:?}", parsed.mistakes);
    parsed.sound().unwrap()
}

fn image(number: u8) -> ImageFingerprint {
    ImageFingerprint::from_bytes([number; 32])
}

fn arrangement(text: &str) -> Arrangement {
    let spec = spec(text);
    // What comes from depots is not asked for here.
    let lock = choose(&spec, &BTreeMap::new(), None, &Update::Nothing).0;
    Arrangement::new(&spec, &lock, image(1), "/bin/sh")
}

/// The changes of a changed spec, as `what: effort`.
fn after(old: &str, new: &str) -> Vec<(String, Effort)> {
    assert!(SPEC.contains(old), "{old}");
    let all = changes(&arrangement(SPEC), &arrangement(&SPEC.replacen(old, new, 1)));
    all.into_iter().map(|Change { what, effort, .. }| (what, effort)).collect()
}

fn one(what: &str, effort: Effort) -> Vec<(String, Effort)> {
    vec![(what.to_owned(), effort)]
}

#[test]
fn each_kind_of_change_takes_the_least_that_is_enough() {
    assert_eq!(after("spec = 1", "spec = 1 # a word"), []);
    assert_eq!(after("[depots]", "about = \"Sailings\"\n[depots]"), one("about", Effort::Nothing));
    assert_eq!(after("inside = 8080", "inside = 8080\noutside = 9090"), one("port site", Effort::Live));
    assert_eq!(after("timetable.test", "tides.test").len(), 2);
    assert_eq!(after("run = \"serve\"", "run = \"serve -v\""), one("service site", Effort::ServiceRestart));
    assert_eq!(after("run = \"fill\"", "run = \"fill more\""), one("step fill", Effort::Live));
    assert_eq!(after("[names]", "[limits]\ncpus = 1\n[names]"), one("limits", Effort::Live));
    assert_eq!(
        after("name = \"timetable\"", "name = \"timetable\"\nnetwork = \"none\""),
        one("network", Effort::WorkspaceRestart)
    );
    assert_eq!(
        after("[names]", "[[folders]]\nmode = \"kept\"\nname = \"data\"\ninside = \"/data\"\n[names]"),
        one("folder /data", Effort::WorkspaceRestart)
    );
}

#[test]
fn services_see_a_changed_variable_only_when_they_are_begun_again() {
    let changed = after("SITE_PORT = \"8080\"", "SITE_PORT = \"8081\"");
    assert_eq!(
        changed,
        [
            ("variable SITE_PORT".to_owned(), Effort::Live),
            ("service site".to_owned(), Effort::ServiceRestart),
            ("service store".to_owned(), Effort::ServiceRestart)
        ]
    );
}

#[test]
fn another_image_takes_a_restart() {
    let (mut wanted, runs) = (arrangement(SPEC), arrangement(SPEC));
    wanted.image = image(2);
    assert_eq!(changes(&runs, &wanted)[0].effort, Effort::WorkspaceRestart);
}

#[test]
fn a_service_comes_after_all_that_it_waits_for() {
    let arrangement = arrangement(SPEC);
    assert_eq!(arrangement.services_in_order(), ["store", "site"]);
    assert_eq!(arrangement.needed_first(&["store".to_owned(), "fill".to_owned()]), ["store"]);
    assert_eq!(arrangement.inside_names(), ["timetable", "timetable.test", "site", "store"]);
}

#[test]
fn an_arrangement_is_read_back_as_it_was_written() {
    let arrangement = arrangement(SPEC);
    let text = serde_json::to_string(&arrangement).unwrap();
    assert_eq!(serde_json::from_str::<Arrangement>(&text).unwrap(), arrangement);
}

proptest! {
    /// However services wait for each other, as long as there is no circle: each comes after those that it waits for.
    #[test]
    fn the_order_of_services_keeps_what_waits(edges in proptest::collection::vec((0usize..12, 0usize..12), 0..40)) {
        let mut text = SPEC.split("[[steps]]").next().unwrap().to_owned();
        let after = |number: usize| -> Vec<String> {
            // Only earlier numbers, so that there is no circle.
            let own = edges.iter().filter(|(late, early)| *late == number && early < late);
            own.map(|(_, early)| format!("\"s{early}\"")).collect()
        };
        for number in 0..12 {
            text.push_str(&format!("[services.s{number}]\nrun = \"x\"\nafter = [{}]\n", after(number).join(", ")));
        }
        let arrangement = arrangement(&text);
        let order = arrangement.services_in_order();
        prop_assert_eq!(order.len(), 12);
        let place = |name: &str| order.iter().position(|known| known == name).unwrap();
        for (name, service) in &arrangement.services {
            for earlier in &service.after {
                prop_assert!(place(earlier) < place(name));
            }
        }
    }

    /// What runs and what is wanted being the same, there is nothing to do; otherwise something is reported.
    #[test]
    fn a_difference_is_told_exactly_when_there_is_one(inside in 1u16..9000, other in 1u16..9000, count in 1u16..5) {
        let with = |port: u16| {
            let port = format!("inside = {port}\noutside = 20000\ncount = {count}");
            arrangement(&SPEC.replacen("inside = 8080", &port, 1))
        };
        prop_assert_eq!(changes(&with(inside), &with(other)).is_empty(), inside == other);
    }
}
