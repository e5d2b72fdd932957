//! The wider spec: what steps, downloads, several versions and includes mean for lock, plan and setup. Plain values
//! only.

use std::collections::BTreeMap;

use cavrith_core::depot::{self, Index};
use cavrith_core::derive::fit::misfits;
use cavrith_core::derive::plan::{Content, Plan, Work, Written};
use cavrith_core::derive::setup::step_env;
use cavrith_core::digest::{Sha256Digest, TreeDigest};
use cavrith_core::lock::choose::{Offer, Update, choose};
use cavrith_core::lock::{DownloadPin, FilesPin, Lock};
use cavrith_core::mistake::Code;
use cavrith_core::setup::Setup;
use cavrith_core::spec::{Spec, document, gather, parse, parse_gathered};
use cavrith_core::version::Version;
use proptest::prelude::*;

const SPEC: &str = r#"spec = 1
[workspace]
name = "timetable"
[depots]
a = { path = "a" }
[base]
depot = "a"
packages = ["root"]
[toolchains]
quill = { version = "3", also = ["2.4", "2.3"], parts = ["formatter"] }
[env]
HOST = "localhost"
URL = "http://${HOST}:8080/$${x}"
[[folders]]
outside = "."
inside = "/code"
except = ["out", "deep/er"]
[[downloads]]
name = "tides"
url = "https://files.brindle.example/tides.csv"
inside = "/srv/tides.csv"
[[steps]]
name = "draw"
at = "build"
run = "quill draw"
unless = "test -e /srv/page"
env = { URL = "${URL}draw", DEPTH = "3" }
account = "crew"
limit = "2 min"
[[steps]]
name = "greet"
at = "build"
write = { inside = "/etc/motd", template = "motd.in" }
[[steps]]
name = "bring"
at = "build"
copy = { from = "pages", inside = "/srv/pages", except = ["*.draft"] }
"#;

fn spec(text: &str) -> Spec {
    let parsed = parse(text);
    assert_eq!(parsed.mistakes, []);
    parsed.sound().unwrap()
}

fn offers() -> BTreeMap<String, Offer> {
    let digest = |name: &str| Sha256Digest::of(name.as_bytes());
    let mut text = format!(
        "depot = 1\n[[packages]]\nname = \"root\"\nversion = \"1\"\narchitecture = \"all\"\nfile = \"r.deb\"\nsize = 1\nsha256 = \"{}\"\n",
        digest("r")
    );
    for version in ["2.3.9", "2.4.1", "2.4.2", "3.0.0"] {
        text += &format!(
            "[[toolchains]]\nname = \"quill\"\nversion = \"{version}\"\nfile = \"q-{version}\"\nsize = 1\nsha256 = \"{}\"\nplace = \"/opt/quill/{version}\"\npath = [\"bin\"]\nprobe = {{ run = [\"quill\"], answer = \"{version}\" }}\n",
            digest(version)
        );
        for part in ["formatter", "lens"] {
            let file = format!("{part}-{version}");
            text += &format!(
                "[[toolchains.parts]]\nname = \"{part}\"\nfile = \"{file}\"\nsize = 1\nsha256 = \"{}\"\n",
                digest(&file)
            );
        }
    }
    let index: Index = depot::parse(&text).unwrap();
    assert_eq!(depot::parse(&index.to_text()).unwrap(), index);
    assert_eq!(index.files().count(), 1 + 4 * 3);
    BTreeMap::from([("a".to_owned(), Offer { digest: digest("index"), index })])
}

/// The lock as locking would leave it, its files filled in.
fn locked(text: &str) -> (Spec, Lock) {
    let spec = spec(text);
    let (mut lock, mistakes) = choose(&spec, &offers(), None, &Update::Nothing);
    assert_eq!(mistakes, []);
    lock.epoch = 1_700_000_000;
    for download in &spec.downloads {
        let (name, url) = (download.name.value.clone(), download.url.value.clone());
        lock.downloads.push(DownloadPin { name, url, size: 9, sha256: Sha256Digest::of(b"tides") });
    }
    for (step, from) in cavrith_core::derive::fit::taken_files(&spec) {
        let (step, from) = (step.to_owned(), from.to_owned());
        lock.files.push(FilesPin { step, from, files: 1, bytes: 2, tree: TreeDigest::from_bytes([7; 32]) });
    }
    (spec, lock)
}

#[test]
fn a_lock_of_all_of_it_answers_its_spec_and_survives_its_file() {
    let (spec, lock) = locked(SPEC);
    assert_eq!(misfits(&spec, &lock), []);
    assert_eq!(Lock::parse(&lock.to_text()).unwrap(), lock);
    let versions: Vec<_> =
        lock.toolchains.iter().map(|pin| (pin.version.as_str(), pin.also, pin.parts.len())).collect();
    assert_eq!(versions, [("3.0.0", false, 1), ("2.4.2", true, 1), ("2.3.9", true, 1)]);
}

#[test]
fn every_way_in_which_it_does_not_answer_is_named() {
    let (_, lock) = locked(SPEC);
    for (old, new, expected) in [
        ("also = [\"2.4\", \"2.3\"]", "also = [\"2.4\"]", "toolchain quill: nothing / 2.3.9"),
        ("also = [\"2.4\", \"2.3\"]", "also = [\"2.4\", \"2.3\", \"1\"]", "toolchain quill: 1 / nothing"),
        ("version = \"3\"", "version = \"3.1\"", "toolchain quill: 3.1 / 3.0.0"),
        ("parts = [\"formatter\"]", "parts = [\"formatter\", \"lens\"]", "parts of quill: formatter, lens / formatter"),
        (
            "tides.csv\"\ninside",
            "tides-2.csv\"\ninside",
            "download tides: https://files.brindle.example/tides-2.csv / https://files.brindle.example/tides.csv",
        ),
        ("name = \"tides\"", "name = \"ebbs\"", "download ebbs: https://files.brindle.example/tides.csv / nothing"),
        ("template = \"motd.in\"", "template = \"other.in\"", "files of the step \"greet\": other.in / motd.in"),
        ("from = \"pages\"", "from = \"sheets\"", "files of the step \"bring\": sheets / pages"),
        ("template = \"motd.in\"", "content = \"x\"", "files of the step \"greet\": nothing / motd.in"),
    ] {
        let told: Vec<_> = misfits(&spec(&SPEC.replacen(old, new, 1)), &lock)
            .into_iter()
            .map(|misfit| format!("{}: {} / {}", misfit.what, misfit.spec, misfit.lock))
            .collect();
        assert!(told.contains(&expected.to_owned()), "{new}: {told:?}");
    }
}

#[test]
fn an_update_moves_only_what_it_names() {
    let spec = spec(&SPEC.replace(", \"2.3\"", ""));
    let (mut old, _) = choose(&spec, &offers(), None, &Update::Nothing);
    old.toolchains[1].version = Version::new("2.4.1").unwrap();
    let versions = |update: &Update| {
        let (lock, _) = choose(&spec, &offers(), Some(&old), update);
        lock.toolchains.iter().map(|pin| pin.version.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(versions(&Update::Nothing), ["3.0.0", "2.4.1"]);
    assert_eq!(versions(&Update::Named(vec!["root".to_owned()])), ["3.0.0", "2.4.1"]);
    assert_eq!(versions(&Update::Named(vec!["quill".to_owned()])), ["3.0.0", "2.4.2"]);
    assert_eq!(versions(&Update::All), ["3.0.0", "2.4.2"]);
}

#[test]
fn two_wishes_that_come_to_one_version_and_parts_that_are_not_there_are_told() {
    let codes = |old: &str, new: &str| {
        let (_, mistakes) = choose(&spec(&SPEC.replacen(old, new, 1)), &offers(), None, &Update::Nothing);
        mistakes.into_iter().map(|mistake| mistake.code).collect::<Vec<_>>()
    };
    assert_eq!(codes("also = [\"2.4\", \"2.3\"]", "also = [\"2.4\", \"2\"]"), [Code::VERSION_TWICE]);
    assert_eq!(codes("[\"formatter\"]", "[\"lens\", \"formater\"]"), [Code::PART_NOT_OFFERED; 3]);
    assert_eq!(codes("/srv/tides.csv", "/opt/quill/3.0.0/x"), [Code::PLACES_MEET]);
}

#[test]
fn the_plan_has_a_layer_for_each_and_steps_that_know_their_surroundings() {
    let (spec, lock) = locked(SPEC);
    let plan = Plan::new(&spec, &lock);
    let names: Vec<_> = plan.layers.iter().map(|layer| layer.name.as_str()).collect();
    assert_eq!(
        names,
        [
            "toolchain quill 3.0.0",
            "toolchain quill 3.0.0, formatter",
            "toolchain quill 2.4.2",
            "toolchain quill 2.4.2, formatter",
            "toolchain quill 2.3.9",
            "toolchain quill 2.3.9, formatter",
            "download tides",
            "base root",
            "account crew",
            "step \"draw\"",
            "step \"greet\"",
            "step \"bring\"",
        ]
    );
    let step = |name: &str| match &plan.layers.iter().find(|layer| layer.name == name).unwrap().content {
        Content::Step(step) => step.clone(),
        other => panic!("{other:?} is not a step"),
    };
    let draw = step("step \"draw\"");
    assert_eq!((draw.account.as_str(), draw.limit), ("crew", 120));
    assert_eq!(draw.env["URL"], "http://localhost:8080/${x}draw");
    assert_eq!(draw.env["PATH"].split(':').next(), Some("/opt/quill/3.0.0/bin"));
    assert!(!draw.env["PATH"].contains("2.4.2"));
    let Work::Write { text: Written::Template { names, tree, .. }, .. } = step("step \"greet\"").work else {
        panic!("it writes a template");
    };
    assert_eq!(tree, TreeDigest::from_bytes([7; 32]));
    assert_eq!(names.toolchains["quill"]["version"], "3.0.0");
    assert!(!step_env(&spec, &lock).contains_key("DEPTH"));
}

#[test]
fn what_changes_a_step_changes_its_key_and_its_limit_does_not() {
    let keys = |text: &str, change: &dyn Fn(&mut Lock)| {
        let (spec, mut lock) = locked(text);
        change(&mut lock);
        let plan = Plan::new(&spec, &lock);
        let beneath = TreeDigest::from_bytes([1; 32]);
        plan.layers.iter().map(|layer| (layer.name.clone(), plan.key(layer, Some(&beneath)))).collect::<Vec<_>>()
    };
    let nothing = |_: &mut Lock| ();
    let plain = keys(SPEC, &nothing);
    let changed = |other: Vec<(String, _)>| {
        let pairs = plain.iter().zip(other);
        pairs.filter(|(a, b)| a.1 != b.1).map(|(a, _)| a.0.clone()).collect::<Vec<_>>()
    };
    let by_text = |old: &str, new: &str| changed(keys(&SPEC.replacen(old, new, 1), &nothing));
    assert_eq!(by_text("2 min", "3 min"), Vec::<String>::new());
    for (old, new) in [
        ("quill draw", "quill draw all"),
        ("test -e", "test -f"),
        ("DEPTH = \"3\"", "DEPTH = \"4\""),
        ("account = \"crew\"\n", ""),
    ] {
        assert_eq!(by_text(old, new), ["step \"draw\""], "{new}");
    }
    assert_eq!(by_text("/srv/pages", "/srv/leaves"), ["step \"bring\""]);
    assert_eq!(by_text("template = \"motd.in\"", "template = \"motd.in\", mode = \"600\""), ["step \"greet\""]);
    let by_lock = |change: &dyn Fn(&mut Lock)| changed(keys(SPEC, change));
    assert_eq!(by_lock(&|lock| lock.files[1].tree = TreeDigest::from_bytes([9; 32])), ["step \"bring\""]);
    assert_eq!(by_lock(&|lock| lock.downloads[0].sha256 = Sha256Digest::of(b"ebbs")), ["download tides"]);
    // A template may name versions, so that another one is another text.
    let moved = by_lock(&|lock| lock.toolchains[0].version = Version::new("3.0.1").unwrap());
    assert_eq!(moved, ["step \"greet\""]);
}

#[test]
fn what_stays_inside_is_a_part_of_the_setup() {
    let (spec, lock) = locked(SPEC);
    let setup = Setup::new(&spec, &lock, "/bin/sh");
    assert_eq!(setup.folders, ["/code except deep/er, out"]);
    assert_eq!(setup.env["URL"], "http://localhost:8080/${x}");
}

proptest! {
    #[test]
    fn a_file_that_includes_nothing_new_changes_nothing(keep in prop::collection::vec(any::<bool>(), 20)) {
        // Some of the spec's own entries stand in an included file too; the spec's own win, so nothing changes.
        let lines: Vec<_> = SPEC.lines().skip(1).zip(keep.iter().cycle()).collect();
        let env: String = lines.iter().filter(|(line, keep)| **keep && line.starts_with("URL")).map(|(line, _)| format!("{line}\n")).collect();
        let included = format!("[env]\n{}[workspace]\nname = \"other\"\n", env.replace("8080", "9999"));
        let whole = SPEC.replacen("spec = 1", "spec = 1\ninclude = [\"more.toml\"]", 1);
        let joined = gather("cavrith.toml", &whole, &mut |_| Ok(included.clone()));
        let joined = parse_gathered(&joined);
        prop_assert_eq!(&joined.mistakes, &[]);
        prop_assert_eq!(joined.sound().unwrap().digest, spec(SPEC).digest);
    }

    #[test]
    fn any_text_is_gathered_without_harm(text in "\\PC{0,200}", other in "\\PC{0,200}") {
        let gathered = gather("cavrith.toml", &format!("include = [\"x\"]\n{text}"), &mut |_| Ok(other.clone()));
        for line in document::lines(&gathered.table) {
            prop_assert!(!gathered.sources.place(line.span.start).is_empty());
        }
        let _ = parse_gathered(&gathered);
    }

    #[test]
    fn variables_never_hang(values in prop::collection::vec("[$A-D{}x]{0,24}", 4)) {
        let mut text = SPEC.replacen("[env]\n", "[env]\nZ = \"${HOST}\"\n", 1);
        for (name, value) in ["A", "B", "C", "D"].iter().zip(&values) {
            text = text.replacen("[env]\n", &format!("[env]\n{name} = '{value}'\n"), 1);
        }
        let parsed = parse(&text);
        let only = [Code::UNKNOWN_VARIABLE, Code::VARIABLE_CYCLE, Code::BAD_VARIABLE];
        prop_assert!(parsed.mistakes.iter().all(|mistake| only.contains(&mistake.code)), "{:?}", parsed.mistakes);
    }
}
