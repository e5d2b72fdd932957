//! Choosing, pinning, fitting, planning: with plain values, without a disk.

use std::collections::{BTreeMap, BTreeSet};

use cavrith_core::depot::{self, Index};
use cavrith_core::derive::fit::misfits;
use cavrith_core::derive::plan::{Needs, Plan};
use cavrith_core::digest::{ImageFingerprint, Sha256Digest};
use cavrith_core::lock::Lock;
use cavrith_core::lock::choose::{Offer, Update, choose};
use cavrith_core::lock::packages::{PackageFacts, check_packages};
use cavrith_core::mistake::Code;
use cavrith_core::setup::Setup;
use cavrith_core::spec::{Spec, parse};
use proptest::prelude::*;

const SPEC: &str = r#"spec = 1
[workspace]
name = "timetable"
[depots]
a = { path = "a" }
b = { path = "b" }
[base]
depot = "a"
packages = ["tools", "base-root"]
[toolchains]
quill = "2.4"
[env]
SITE_PORT = "8080"
[[ports]]
name = "site"
inside = 8080
[[steps]]
name = "draw"
at = "build"
run = "quill draw"
[editor]
extensions = { "brindle.syntax" = "1" }
settings = { ruler = 120, "a.b" = [true, { c = 1.5 }] }
"#;

fn spec(text: &str) -> Spec {
    let parsed = parse(text);
    assert_eq!(parsed.mistakes, []);
    parsed.sound().unwrap()
}

fn index(toolchains: &[&str], editors: &[&str]) -> Index {
    let digest = |name: &str| Sha256Digest::of(name.as_bytes());
    let mut text = String::from("depot = 1\n");
    for (name, version) in [("tools", "1.9-1"), ("tools", "1.10-1"), ("base-root", "3")] {
        let sha256 = digest(&format!("{name}{version}"));
        text += &format!(
            "[[packages]]\nname = \"{name}\"\nversion = \"{version}\"\narchitecture = \"all\"\nfile = \"{name}_{version}.deb\"\nsize = 1\nsha256 = \"{sha256}\"\n"
        );
    }
    for version in toolchains {
        let sha256 = digest(version);
        text += &format!(
            "[[toolchains]]\nname = \"quill\"\nversion = \"{version}\"\nfile = \"quill-{version}.tar\"\nsize = 1\nsha256 = \"{sha256}\"\nplace = \"/opt/quill\"\npath = [\"bin\", \".\"]\nprobe = {{ run = [\"quill\"], answer = \"{version}\" }}\n"
        );
    }
    let sha256 = digest("syntax");
    text += &format!(
        "[[extensions]]\nid = \"brindle.syntax\"\nversion = \"1.0\"\nfile = \"s.zip\"\nsize = 1\nsha256 = \"{sha256}\"\n"
    );
    for editor in editors {
        text += &format!(
            "[[editors]]\nname = \"{editor}\"\nextensions = \"/opt/{editor}/{{id}}\"\nsettings = \"{{home}}/.{editor}.json\"\n"
        );
    }
    depot::parse(&text).unwrap()
}

fn offers(a: &[&str], b: &[&str]) -> BTreeMap<String, Offer> {
    let offer = |versions: &[&str], editors: &[&str]| {
        let index = index(versions, editors);
        Offer { digest: Sha256Digest::of(format!("{index:?}").as_bytes()), index }
    };
    BTreeMap::from([("a".to_owned(), offer(a, &["lantern"])), ("b".to_owned(), offer(b, &[]))])
}

fn locked(text: &str) -> (Spec, Lock) {
    let spec = spec(text);
    let (mut lock, mistakes) = choose(&spec, &offers(&["2.4.1", "2.5.0"], &["2.4.9"]), None, &Update::Nothing);
    assert_eq!(mistakes, []);
    lock.epoch = 1_700_000_000;
    (spec, lock)
}

#[test]
fn the_newest_that_answers_is_chosen_from_any_depot() {
    let (_, lock) = locked(SPEC);
    assert_eq!(lock.toolchains[0].version.as_str(), "2.4.9");
    assert_eq!(lock.toolchains[0].source.as_ref().unwrap().depot, "b");
    let packages: Vec<_> = lock.packages.iter().map(|pin| (pin.name.as_str(), pin.version.as_str())).collect();
    assert_eq!(packages, [("base-root", "3"), ("tools", "1.10-1")]);
    assert_eq!(lock.extensions[0].place, "/opt/lantern/brindle.syntax");
}

#[test]
fn what_still_answers_is_kept_and_the_text_is_the_same_to_the_byte() {
    let (spec, lock) = locked(SPEC);
    let grown = offers(&["2.4.1", "2.5.0"], &["2.4.9", "2.4.10"]);
    let (mut again, _) = choose(&spec, &grown, Some(&lock), &Update::Nothing);
    again.epoch = lock.epoch;
    assert_eq!(again.to_text(), lock.to_text());
    let (fresh, _) = choose(&spec, &grown, None, &Update::Nothing);
    assert_eq!(fresh.toolchains[0].version.as_str(), "2.4.10");
}

#[test]
fn a_lock_survives_its_file() {
    let (_, lock) = locked(SPEC);
    assert_eq!(Lock::parse(&lock.to_text()).unwrap(), lock);
}

#[test]
fn a_lock_with_something_foreign_or_of_another_version_is_refused() {
    let text = locked(SPEC).1.to_text();
    for (old, new) in [
        ("lock = 1", "lock = 2"),
        ("strip = 0", "strip = 0\nfetch = \"elsewhere\""),
        ("[[toolchains]]", "[[toolchain]]"),
        ("epoch = 1700000000", "epoch = -1"),
        ("sha256 = \"", "sha256 = \"z"),
        ("[[packages]]", "[[packages"),
    ] {
        assert!(text.contains(old), "{old} is not there");
        assert!(Lock::parse(&text.replacen(old, new, 1)).is_err(), "{new} was taken");
    }
}

#[test]
fn what_no_depot_has_is_told_with_what_there_is() {
    let told = |old: &str, new: &str| {
        let (_, mistakes) =
            choose(&spec(&SPEC.replacen(old, new, 1)), &offers(&["2.4.1"], &["2.5.0"]), None, &Update::Nothing);
        mistakes
            .into_iter()
            .map(|mistake| format!("{} {} | {}", mistake.code, mistake.message, mistake.remedy))
            .collect::<Vec<_>>()
            .join("\n")
    };
    insta::assert_snapshot!(told("\"tools\"", "\"tool\""), @"CV0202 the depot `a` has no package `tool` | write `tools`");
    insta::assert_snapshot!(told("quill = \"2.4\"", "quill = \"3\""), @"CV0203 no depot here has the toolchain `quill` in version 3 | choose one of 2.4.1, 2.5.0, or the beginning of one");
    insta::assert_snapshot!(told("quill = \"2.4\"", "quil = \"2\""), @"CV0202 no depot here has a toolchain `quil` | write `quill`");
    insta::assert_snapshot!(told("\"brindle.syntax\" = \"1\"", "\"brindle.other\" = \"1\""), @"CV0202 no depot here has an extension `brindle.other` | choose one of brindle.syntax, or add it to a depot");
    insta::assert_snapshot!(told("[editor]", "[editor]\nprofile = \"torch\""), @r#"CV0205 no depot here has an editor profile `torch` | write profile = "…" with one of lantern, emacs, neovim, vim, or add one to a depot, under [[editors]]"#);
    insta::assert_snapshot!(told("quill = \"2.4\"", "quill = { version = \"2.5\", depot = \"a\" }"), @"CV0203 the depot `a` does not have the toolchain `quill` in version 2.5 | choose one of 2.4.1, or the beginning of one");
    insta::assert_snapshot!(told("[env]", "[[folders]]\noutside = \".\"\ninside = \"/opt/quill/data\"\n[env]"), @"CV0206 the folder /opt/quill/data and the toolchain quill would lie at the same place inside, /opt/quill/data | give the folder another inside path, or the depot's entry another place");
}

#[test]
fn several_editor_profiles_need_a_choice() {
    let mut offers = offers(&["2.4.1"], &[]);
    offers.get_mut("b").unwrap().index = index(&[], &["torch"]);
    let (lock, mistakes) = choose(&spec(SPEC), &offers, None, &Update::Nothing);
    assert_eq!(mistakes.iter().map(|mistake| mistake.code).collect::<Vec<_>>(), [Code::EDITOR_PROFILE]);
    assert!(mistakes[0].remedy.contains("lantern, torch"));
    assert!(lock.extensions.is_empty());
}

#[test]
fn packages_must_bring_each_other_what_they_need() {
    let facts = |name: &str, version: &str, depends: &str, provides: &str| PackageFacts {
        name: name.to_owned(),
        version: version.to_owned(),
        depends: depends.to_owned(),
        provides: provides.to_owned(),
        scripts: Vec::new(),
    };
    let spec = spec(SPEC);
    let codes = |facts: &[PackageFacts]| {
        check_packages(&spec, facts).iter().map(|mistake| mistake.message.clone()).collect::<Vec<_>>()
    };
    let root = facts("base-root", "3", "", "shell, lib (= 2)");
    assert!(codes(&[facts("tools", "1", "base-root (>= 3), shell | bash, lib (>= 1)", ""), root.clone()]).is_empty());
    assert_eq!(
        codes(&[facts("tools", "1", "base-root (>> 3), shell (>= 1)", ""), root.clone()]),
        [
            "the package `tools` needs base-root (>> 3), which is not among the packages",
            "the package `tools` needs shell (>= 1), which is not among the packages",
        ]
    );
    let scripted = PackageFacts { scripts: vec!["postinst".to_owned()], ..root };
    assert_eq!(check_packages(&spec, &[scripted])[0].code, Code::NOT_YET);
}

#[test]
fn every_way_in_which_lock_and_spec_can_part_is_told() {
    let (_, lock) = locked(SPEC);
    let told = |old: &str, new: &str| {
        let changed = SPEC.replacen(old, new, 1);
        assert_ne!(changed, SPEC, "{old} is not there");
        let found = misfits(&spec(&changed), &lock);
        found
            .into_iter()
            .map(|misfit| format!("{}: {} / {}", misfit.what, misfit.spec, misfit.lock))
            .collect::<Vec<_>>()
            .join("; ")
    };
    assert_eq!(misfits(&spec(SPEC), &lock), []);
    assert_eq!(told("quill = \"2.4\"", "quill = \"2.5\""), "toolchain quill: 2.5 / 2.4.9");
    assert_eq!(told("quill = \"2.4\"", ""), "toolchain quill: nothing / 2.4.9");
    assert_eq!(told("quill = \"2.4\"", "quill = \"2.4\"\ngauge = \"1\""), "toolchain gauge: 1 / nothing");
    assert_eq!(
        told("quill = \"2.4\"", "quill = { version = \"2.4\", depot = \"a\" }"),
        "toolchain quill: depot a / depot b"
    );
    assert_eq!(told("\"tools\", ", ""), "package tools: nothing / 1.10-1");
    assert_eq!(told("\"tools\"", "\"tolls\""), "package tolls: wanted / nothing; package tools: nothing / 1.10-1");
    assert_eq!(told("\"brindle.syntax\" = \"1\"", ""), "extension brindle.syntax: nothing / 1.0");
    assert_eq!(
        told("depot = \"a\"\npackages = [\"tools\", \"base-root\"]", "archive = { path = \"r.tar\" }"),
        "base: archive r.tar / nothing; package base-root: nothing / 3; package tools: nothing / 1.10-1"
    );
    // What does not touch the pins needs no other lock.
    assert_eq!(told("8080\"", "9090\""), "");
}

fn keys(plan: &Plan) -> BTreeMap<String, String> {
    let tree = cavrith_core::tree::Tree::with_root().digest();
    let key = |layer: &cavrith_core::derive::plan::PlannedLayer| {
        plan.key(layer, (layer.content.needs() != Needs::Nothing).then_some(&tree)).to_string()
    };
    plan.layers.iter().map(|layer| (layer.name.clone(), key(layer))).collect()
}

/// The layers whose keys change with a change of the spec.
fn rebuilt(old: &str, new: &str) -> BTreeSet<String> {
    let (spec, lock) = locked(SPEC);
    let before = keys(&Plan::new(&spec, &lock));
    let (spec, lock) = locked(&SPEC.replacen(old, new, 1));
    let after = keys(&Plan::new(&spec, &lock));
    after.into_iter().filter(|(name, key)| before.get(name) != Some(key)).map(|(name, _)| name).collect()
}

#[test]
fn a_change_rebuilds_what_it_touches_and_nothing_else() {
    let only = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<BTreeSet<_>>();
    assert_eq!(rebuilt("about", "about"), only(&[]));
    assert_eq!(rebuilt("quill = \"2.4\"", "quill = \"2.4.1\""), only(&["toolchain quill 2.4.1"]));
    assert_eq!(rebuilt("ruler = 120", "ruler = 100"), only(&["settings of lantern"]));
    assert_eq!(rebuilt("run = \"quill draw\"", "run = \"quill draw -x\""), only(&["step \"draw\""]));
    // A step sees the variables; a port changes nothing in the image.
    assert_eq!(rebuilt("SITE_PORT = \"8080\"", "SITE_PORT = \"8081\""), only(&["step \"draw\""]));
    assert_eq!(rebuilt("inside = 8080", "inside = 8081"), only(&[]));
}

#[test]
fn the_name_of_a_step_is_not_part_of_its_key() {
    let (spec_a, lock) = locked(SPEC);
    let (spec_b, _) = locked(&SPEC.replace("name = \"draw\"", "name = \"paint\""));
    let last = |spec: &Spec| {
        let plan = Plan::new(spec, &lock);
        plan.key(plan.layers.last().unwrap(), None)
    };
    assert_eq!(last(&spec_a), last(&spec_b));
}

#[test]
fn the_account_s_environment_has_the_toolchains_first_and_no_build_epoch() {
    let (spec, lock) = locked(SPEC);
    let setup = Setup::new(&spec, &lock, "/bin/sh");
    assert!(setup.env["PATH"].starts_with("/opt/quill/bin:/opt/quill:/usr/local/sbin:"));
    assert_eq!(setup.env["HOME"], "/home/crew");
    assert!(!setup.env.contains_key("SOURCE_DATE_EPOCH"));
    assert_eq!(setup.ports["site"], "8080/tcp");
    assert_eq!(
        setup.settings,
        "{\n  \"a.b\": [\n    true,\n    {\n      \"c\": 1.5\n    }\n  ],\n  \"ruler\": 120\n}\n"
    );
}

#[test]
fn a_workspace_s_fingerprint_changes_with_the_team_s_choices_and_not_with_the_member_s() {
    let image = ImageFingerprint::from_bytes([7; 32]);
    let fingerprint = |old: &str, new: &str| {
        let (spec, lock) = locked(&SPEC.replacen(old, new, 1));
        Setup::new(&spec, &lock, "/bin/sh").fingerprint(&image)
    };
    let plain = fingerprint("", "");
    assert_eq!(fingerprint("inside = 8080", "inside = 8080\noutside = 9999"), plain);
    for (old, new) in [
        ("inside = 8080", "inside = 8081"),
        ("8080\"", "9090\""),
        ("ruler = 120", "ruler = 100"),
        ("name = \"timetable\"", "name = \"timetable\"\nproject = \"/work\""),
        ("name = \"timetable\"", "name = \"timetable\"\naccount = \"hand\""),
        ("name = \"timetable\"", "name = \"tides\""),
    ] {
        assert_ne!(fingerprint(old, new), plain, "{new}");
    }
}

/// The vector of `docs/fingerprint.md`.
#[test]
fn the_documented_workspace_vector_holds() {
    let map = |name: &str, value: &str| BTreeMap::from([(name.to_owned(), value.to_owned())]);
    let setup = Setup {
        account: "crew".to_owned(),
        project: "/code".to_owned(),
        host_name: "timetable".to_owned(),
        env: map("HOME", "/home/crew"),
        folders: vec!["/code".to_owned()],
        ports: map("site", "8080/tcp"),
        extensions: map("brindle.quill-syntax", "1.2.0"),
        settings: "{}\n".to_owned(),
        runtime: BTreeMap::new(),
    };
    let image = cavrith_core::tree::Tree::with_root().image_fingerprint();
    assert_eq!(
        setup.fingerprint(&image).to_string(),
        "2f1464f62fc3055475a1ccd97f14a6b82cc814c1e4e61799c6532d6ff5fd3640"
    );
}

proptest! {
    #[test]
    fn any_text_is_answered_as_a_lock(text in "[a-z0-9 =\\[\\]\"\n.]{0,200}") {
        let _ = Lock::parse(&text);
    }

    #[test]
    fn a_flipped_bit_in_a_lock_is_refused_or_changes_its_pins(at in any::<prop::sample::Index>(), bit in 0u8..7) {
        let (_, lock) = locked(SPEC);
        let text = lock.to_text();
        let begins = text.find("lock = 1").unwrap();
        let mut bytes = text.clone().into_bytes();
        let at = begins + at.index(bytes.len() - begins);
        bytes[at] ^= 1 << bit;
        if let Ok(text) = String::from_utf8(bytes)
            && let Ok(other) = Lock::parse(&text)
        {
            // White space may take another form, and a letter's case in a table's name cannot.
            prop_assert!(other == lock || other.pins_digest() != lock.pins_digest());
        }
    }
}
