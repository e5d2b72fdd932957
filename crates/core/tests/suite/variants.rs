//! Variants: several specs from one text, and their pins in one lock.

use std::collections::BTreeMap;

use cavrith_core::derive::fit::misfits;
use cavrith_core::derive::plan::{Content, Plan, Work};
use cavrith_core::digest::TreeDigest;
use cavrith_core::lock::choose::{Update, choose};
use cavrith_core::lock::{ArchivePin, DownloadPin, FilesPin, Lock};
use cavrith_core::mistake::Code;
use cavrith_core::spec::{Base, Parsed, Spec, parse};
use proptest::prelude::*;

const SPEC: &str = r#"spec = 1
[workspace]
name = "timetable"
[base]
debian = "bookworm"
packages = ["nodejs", "build-essential"]
[env]
SITE_PORT = "8080"
MODE = "develop"
[[ports]]
name = "site"
inside = 8080
[[ports]]
name = "debug"
inside = 9229
variants = ["main"]
[services.site]
run = "node /srv/site"
[services.watcher]
run = "watch"
variants = ["main"]
[[steps]]
name = "frame"
at = "build"
run = "make /build/site"
variants = ["main"]
[[steps]]
name = "bring"
at = "build"
copy = { variant = "main", from = "/build/site", inside = "/srv/site" }
variants = ["release"]
[editor]
profile = "vim"
[variants.release]
without = ["editor", "env.MODE", "ports.site"]
[variants.release.workspace]
project = ""
[variants.release.base]
keep = ["nodejs"]
[variants.release.env]
SITE_PORT = "80"
[[variants.release.ports]]
name = "web"
inside = 80
outside = 8080
"#;

fn parsed(text: &str) -> Parsed {
    let parsed = parse(text);
    assert_eq!(parsed.mistakes, []);
    parsed
}

fn codes(text: &str) -> Vec<Code> {
    parse(text).mistakes.iter().map(|mistake| mistake.code).collect()
}

fn names<T>(items: &[T], name: impl Fn(&T) -> &str) -> Vec<&str> {
    items.iter().map(name).collect()
}

#[test]
fn a_variant_is_the_main_part_with_its_own_entries_over_it() {
    let parsed = parsed(SPEC);
    let (main, release) = (&parsed.drafts["main"], &parsed.drafts["release"]);
    assert_eq!(parsed.default, "main");
    assert_eq!((main.name(), release.name()), ("timetable".to_owned(), "timetable-release".to_owned()));
    let ports = |spec: &Spec| spec.ports.iter().map(|port| port.name.value.clone()).collect::<Vec<_>>();
    assert_eq!((ports(main), ports(release)), (vec!["site".to_owned(), "debug".to_owned()], vec!["web".to_owned()]));
    let services = |spec: &Spec| spec.services.keys().cloned().collect::<Vec<_>>();
    assert_eq!(
        (services(main), services(release)),
        (vec!["site".to_owned(), "watcher".to_owned()], vec!["site".to_owned()])
    );
    assert_eq!(names(&main.steps, |step| &step.name.value), ["frame"]);
    assert_eq!(names(&release.steps, |step| &step.name.value), ["bring"]);
    let env = |spec: &Spec| spec.env.iter().map(|(name, value)| format!("{name}={}", value.value)).collect::<Vec<_>>();
    assert_eq!(env(main), ["MODE=develop", "SITE_PORT=8080"]);
    assert_eq!(env(release), ["SITE_PORT=80"]);
    assert!(main.editor.is_some() && release.editor.is_none());
    // The base keeps its suite and packages, and is trimmed.
    let Base::Debian(suite) = &release.base else { panic!("{:?}", release.base) };
    assert_eq!((suite.packages.len(), suite.keep.as_ref().map(|keep| keep.value.len())), (2, Some(1)));
    // No project folder: commands are run in the account's home.
    assert_eq!((main.folders.len(), release.folders.len()), (1, 0));
    assert_eq!(release.workspace.project.value.to_string(), "/home/crew");
    assert!(release.sources.contains_key("main") && main.sources.is_empty());
}

#[test]
fn the_project_s_folder_goes_by_its_place_whether_it_is_written_or_not() {
    for (written, place) in [
        ("", "/code"),
        ("project = \"/work\"\n", "/work"),
        ("project = \"/code\"\n[[folders]]\noutside = \".\"\ninside = \"/code\"\nexcept = [\"out\"]\n", "/code"),
    ] {
        let text = format!(
            "spec = 1\n[workspace]\nname = \"a\"\n{written}[base]\ndebian = \"bookworm\"\n[variants.bare]\nwithout = [\"folders.{place}\"]\n"
        );
        let parsed = parsed(&text);
        assert_eq!((parsed.drafts["main"].folders.len(), parsed.drafts["bare"].folders.len()), (1, 0), "{text}");
    }
}

#[test]
fn the_meaning_of_a_variant_is_its_own() {
    let digest = |text: &str, variant: &str| parsed(text).drafts[variant].digest;
    let alone = SPEC.split("[variants.release]").next().unwrap();
    let alone = alone.replacen("[[steps]]\nname = \"bring\"\nat = \"build\"\ncopy = { variant = \"main\", from = \"/build/site\", inside = \"/srv/site\" }\nvariants = [\"release\"]\n", "", 1);
    let alone = alone.replace("variants = [\"main\"]\n", "");
    assert_eq!(digest(&alone, "main"), digest(SPEC, "main"), "variants say nothing of the main part");
    let other_release = SPEC.replace("SITE_PORT = \"80\"", "SITE_PORT = \"81\"");
    assert_eq!(digest(&other_release, "main"), digest(SPEC, "main"));
    assert_ne!(digest(&other_release, "release"), digest(SPEC, "release"));
    // What release takes from the main part is part of what it means.
    let other_main = SPEC.replace("MODE = \"develop\"", "MODE = \"debug\"");
    assert_ne!(digest(&other_main, "release"), digest(SPEC, "release"));
}

#[test]
fn a_default_variant_takes_the_main_part_s_place() {
    let text = SPEC
        .replace("name = \"timetable\"", "name = \"timetable\"\nvariant = \"develop\"")
        .replace("variant = \"main\"", "variant = \"develop\"")
        .replace("variants = [\"main\"]", "variants = [\"develop\"]")
        + "[variants.develop]\n";
    let parsed = parsed(&text);
    assert_eq!(parsed.drafts.keys().collect::<Vec<_>>(), ["develop", "release"]);
    assert_eq!(parsed.drafts["develop"].name(), "timetable");
    assert_eq!(parsed.drafts["release"].name(), "timetable-release");
}

#[test]
fn what_does_not_belong_into_a_variant_is_named() {
    let with = |more: &str| codes(&format!("{SPEC}{more}"));
    assert_eq!(with("[variants.main]\n"), [Code::NOT_ALLOWED]);
    assert_eq!(with("[variants.slim]\ninclude = [\"x\"]\n"), [Code::NOT_ALLOWED]);
    assert_eq!(with("[variants.slim.depots]\n"), [Code::NOT_ALLOWED]);
    assert_eq!(with("[variants.slim.workspace]\nvariant = \"slim\"\n"), [Code::NOT_ALLOWED]);
    assert_eq!(with("[variants.slim]\nwithout = [\"editr\"]\n"), [Code::UNKNOWN_KEY]);
    assert_eq!(with("[variants.slim]\nwithout = \"editor\"\n"), [Code::WRONG_TYPE]);
    assert_eq!(with("[variants.slim]\nwithout = [1]\n"), [Code::WRONG_TYPE]);
    assert_eq!(with("[variants.slim]\nenvs = {}\n"), [Code::UNKNOWN_KEY]);
    assert_eq!(with("[variants.\"Slim!\"]\n"), [Code::BAD_NAME]);
    assert_eq!(codes(&SPEC.replace("variants = [\"release\"]", "variants = [\"releaze\"]")), [Code::UNKNOWN_VARIANT]);
    assert_eq!(codes(&SPEC.replace("variant = \"main\"", "variant = \"mian\"")), [Code::UNKNOWN_VARIANT]);
    assert_eq!(
        codes(&SPEC.replace("name = \"timetable\"", "name = \"timetable\"\nvariant = \"x\"")),
        [Code::UNKNOWN_VARIANT]
    );
    assert_eq!(
        codes("spec = 1\nvariants = 1\n[workspace]\nname = \"a\"\n[base]\ndebian = \"bookworm\"\n"),
        [Code::WRONG_TYPE]
    );
    // From itself, and in a circle.
    let own = SPEC.replace("variants = [\"release\"]", "variants = [\"main\", \"release\"]");
    assert_eq!(codes(&own), [Code::VARIANT_CYCLE]);
    let circle = format!(
        "{SPEC}[[steps]]\nname = \"back\"\nat = \"build\"\ncopy = {{ variant = \"release\", from = \"/srv\", inside = \"/b\" }}\nvariants = [\"main\"]\n"
    );
    let circle = circle.replacen("[[steps]]\nname = \"back\"", "\n[[steps]]\nname = \"back\"", 1);
    assert_eq!(codes(&circle), [Code::VARIANT_CYCLE]);
}

#[test]
fn a_mistake_of_one_variant_is_told_once_and_with_its_name() {
    let text = SPEC.replace("keep = [\"nodejs\"]", "keep = [\"nodejs\"]\nrecommnded = true");
    let mistakes = parse(&text).mistakes;
    assert_eq!(mistakes.len(), 1, "{mistakes:?}");
    assert!(mistakes[0].message.starts_with("in the variant `release`: "), "{}", mistakes[0].message);
    // One of the main part is in both, and told once.
    let text = SPEC.replace("run = \"node /srv/site\"", "run = \"\"");
    assert_eq!(codes(&text), [Code::EMPTY_COMMAND]);
}

fn locked(parsed: &Parsed) -> Lock {
    let one = |spec: &Spec| {
        let (mut lock, _) = choose(spec, &BTreeMap::new(), None, &Update::Nothing);
        lock.files = vec![FilesPin {
            step: spec.variant.clone(),
            from: "x".to_owned(),
            files: 1,
            bytes: 1,
            tree: TreeDigest::from_bytes([spec.variant.len() as u8; 32]),
        }];
        lock
    };
    let others: Vec<_> = parsed.drafts.values().filter(|spec| !spec.is_default).map(one).collect();
    Lock::joined(one(parsed.draft().unwrap()), &others)
}

#[test]
fn what_is_taken_from_a_variant_changes_with_that_variant() {
    let key = |text: &str| {
        let parsed = parsed(text);
        let lock = locked(&parsed);
        let (spec, pins) = (&parsed.drafts["release"], lock.of_spec(&parsed.drafts["release"]).unwrap());
        let plan = Plan::new(spec, &pins);
        let layer = plan
            .layers
            .iter()
            .find(|layer| matches!(&layer.content, Content::Step(step) if matches!(step.work, Work::Take { .. })));
        plan.key(layer.unwrap(), Some(&TreeDigest::from_bytes([0; 32])))
    };
    assert_eq!(key(SPEC), key(SPEC));
    assert_ne!(key(SPEC), key(&SPEC.replace("make /build/site", "make -j /build/site")));
    // What only the workspace has, and not the image, changes nothing.
    assert_eq!(key(SPEC), key(&SPEC.replace("inside = 9229", "inside = 9230")));
}

#[test]
fn a_lock_answers_for_each_variant() {
    let parsed = parsed(SPEC);
    let lock = locked(&parsed);
    let text = lock.to_text();
    assert_eq!(Lock::parse(&text).unwrap(), lock);
    assert_eq!(lock.variant_names(), ["main", "release"]);
    let release = lock.of_spec(&parsed.drafts["release"]).unwrap();
    assert_eq!(release.files[0].step, "release");
    assert_eq!(release.sources["main"].files[0].step, "main");
    assert!(lock.of_variant("slim").is_none());
    // A lock without what a variant takes from does not answer it.
    let mut alone = release.clone();
    alone.sources.clear();
    let told = misfits(&parsed.drafts["release"], &alone);
    assert!(told.iter().any(|misfit| misfit.what == "variant main"), "{told:?}");
    // The pins of what it takes from are part of its own.
    assert_ne!(alone.pins_digest(), release.pins_digest());
}

/// A lock with any mixture of sections.
fn any_lock(name: &'static str) -> impl Strategy<Value = Lock> {
    let download = (0..3u8).prop_map(|number| DownloadPin {
        name: format!("d{number}"),
        url: format!("https://files.brindle.example/{number}"),
        size: number.into(),
        sha256: cavrith_core::digest::Sha256Digest::from_bytes([number; 32]),
    });
    let archive = (0..2u8).prop_map(|number| ArchivePin {
        path: Some(format!("root{number}.tar")),
        url: None,
        size: 1,
        sha256: cavrith_core::digest::Sha256Digest::from_bytes([number; 32]),
        strip: 0,
    });
    (proptest::collection::vec(download, 0..3), proptest::option::of(archive), 0..2u64).prop_map(
        move |(downloads, archive, epoch)| {
            let spec = parse("spec = 1\n[workspace]\nname = \"a\"\n[base]\ndebian = \"bookworm\"\n").sound().unwrap();
            let (mut lock, _) = choose(&spec, &BTreeMap::new(), None, &Update::Nothing);
            lock.variant = name.to_owned();
            (lock.downloads, lock.archive, lock.epoch) = (downloads, archive, epoch);
            lock
        },
    )
}

proptest! {
    #[test]
    fn what_is_joined_comes_apart_again(main in any_lock("main"), one in any_lock("one"), two in any_lock("two")) {
        let joined = Lock::joined(main.clone(), &[two.clone(), one.clone()]);
        let read = Lock::parse(&joined.to_text()).unwrap();
        prop_assert_eq!(&read, &joined);
        for own in [&main, &one, &two] {
            prop_assert_eq!(read.of_variant(&own.variant), Some(own.clone()));
        }
        prop_assert_eq!(main.to_text().len() > joined.to_text().len(), false);
    }
}
