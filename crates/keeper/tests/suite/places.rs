//! Where workspaces are kept, what is recorded of them, what they are called, what is said to them.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use cavrith_core::spec::Protocol;
use cavrith_engine::home::Home;
use cavrith_keeper::KeeperError;
use cavrith_keeper::journal::{Follower, Journal, last, read, sources};
use cavrith_keeper::names::{Named, apply, outside_lines, with_block};
use cavrith_keeper::place::Place;
use cavrith_keeper::ports::Carried;
use cavrith_keeper::protocol::{Answer, ExecRequest, Opening, PROTOCOL, Phase, Request, WorkspaceEvent};
use cavrith_keeper::record::{Stamp, Standing};
use cavrith_sandbox::Identity;
use cavrith_sandbox::job::Ending;
use proptest::prelude::*;

struct Ground {
    dir: tempfile::TempDir,
    home: Home,
}

impl Ground {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        Self { home: Home::at(&dir.path().join("home")), dir }
    }

    /// A project's folder with the beginning of a spec.
    fn project(&self, name: &str) -> PathBuf {
        let dir = self.dir.path().join(name);
        fs::create_dir_all(&dir).unwrap();
        fs::write(dir.join("cavrith.toml"), "spec = 1\n").unwrap();
        dir
    }
}

#[test]
fn each_project_and_each_name_has_a_place_of_its_own() {
    let ground = Ground::new();
    let (ida, jonas) = (ground.project("ida/timetable"), ground.project("jonas/timetable"));
    let places = [
        Place::new(&ground.home, &ida, "timetable", None),
        Place::new(&ground.home, &ida, "timetable", Some("second")),
        Place::new(&ground.home, &jonas, "timetable", None),
        Place::new(&ground.home, &jonas, "timetable", Some("second")),
    ];
    for (number, place) in places.iter().enumerate() {
        assert!(places.iter().skip(number + 1).all(|other| other.dir != place.dir && other.kept != place.kept));
        place.make(Identity::Root).unwrap();
        assert_eq!(place.dir.metadata().unwrap().permissions().mode() & 0o777, 0o700);
        // Making it once more changes nothing.
        place.make(Identity::Root).unwrap();
    }
    // The spec's own name typed is no other workspace.
    assert_eq!(Place::new(&ground.home, &ida, "timetable", Some("timetable")), places[0]);
    assert_eq!(Place::all(&ground.home).len(), 4);
    assert_eq!(Place::of_project(&ground.home, &jonas).unwrap(), places[2]);
    // What is not a workspace is passed over.
    fs::create_dir_all(ground.home.workspaces().join("odd")).unwrap();
    fs::write(ground.home.workspaces().join("file-12345678"), "").unwrap();
    assert_eq!(Place::all(&ground.home).len(), 4);
    assert!(Place::of_project(&ground.home, Path::new("/nowhere")).is_none());
}

#[test]
fn a_workspace_is_held_by_one_and_gone_only_when_nobody_holds_it() {
    let ground = Ground::new();
    let place = Place::new(&ground.home, &ground.project("timetable"), "timetable", None);
    place.make(Identity::Root).unwrap();
    assert!(!place.is_held());
    let held = place.hold().unwrap();
    assert!(place.is_held());
    let Err(KeeperError::InUse { holder, .. }) = place.hold() else { panic!("held twice") };
    assert_eq!(holder, std::process::id().to_string());
    drop(held);
    assert!(!place.is_held());
    fs::create_dir_all(place.kept.join("ledger")).unwrap();
    fs::remove_dir_all(&place.dir).unwrap();
    assert!(!place.dir.exists() && place.kept.join("ledger").is_dir());
}

#[test]
fn a_renamed_workspace_takes_its_kept_folders_along_and_overwrites_none() {
    let ground = Ground::new();
    let project = ground.project("timetable");
    let (old, new) =
        (Place::new(&ground.home, &project, "timetable", None), Place::new(&ground.home, &project, "tides", None));
    old.make(Identity::Root).unwrap();
    fs::create_dir_all(old.kept.join("ledger")).unwrap();
    old.rename(&new).unwrap();
    assert!(new.dir.is_dir() && new.kept.join("ledger").is_dir() && !old.dir.exists());
    assert_eq!(Place::of_project(&ground.home, &project).unwrap(), new);
    // Something is there already.
    old.make(Identity::Root).unwrap();
    fs::create_dir_all(old.kept.join("other")).unwrap();
    assert!(old.rename(&new).unwrap_err().to_string().contains("is there already"));
    assert!(new.kept.join("ledger").is_dir() && old.kept.join("other").is_dir());
}

#[test]
fn a_changed_file_is_noticed_by_its_stamp() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("cavrith.toml");
    let none = Stamp::of(&path);
    assert_eq!(none, Stamp::of(&path));
    fs::write(&path, "spec = 1").unwrap();
    let first = Stamp::of(&path);
    assert!(first != none && first == Stamp::of(&path));
    fs::write(&path, "spec = 10").unwrap();
    assert_ne!(first, Stamp::of(&path));
    let text = serde_json::to_string(&first).unwrap();
    assert_eq!(serde_json::from_str::<Stamp>(&text).unwrap(), first);
}

#[test]
fn a_hosts_file_keeps_its_rights_and_a_link_to_it_stays_one() {
    let dir = tempfile::tempdir().unwrap();
    let (real, link) = (dir.path().join("hosts.real"), dir.path().join("hosts"));
    fs::write(&real, "127.0.0.1 localhost\n").unwrap();
    fs::set_permissions(&real, fs::Permissions::from_mode(0o604)).unwrap();
    symlink(&real, &link).unwrap();
    let names = [Named::new("timetable.test", None)];
    assert!(apply(&link, "timetable-1", &names).unwrap());
    assert!(!apply(&link, "timetable-1", &names).unwrap());
    assert!(link.symlink_metadata().unwrap().is_symlink());
    assert_eq!(real.metadata().unwrap().permissions().mode() & 0o777, 0o604);
    assert!(fs::read_to_string(&real).unwrap().contains(&outside_lines(&names)));
    assert!(apply(&link, "timetable-1", &[]).unwrap());
    assert_eq!(fs::read_to_string(&real).unwrap(), "127.0.0.1 localhost\n");
    // One that is not there yet is made; a directory is none.
    assert!(apply(&dir.path().join("new"), "timetable-1", &names).unwrap());
    assert!(apply(dir.path(), "timetable-1", &names).is_err());
    assert_eq!(fs::read_dir(dir.path()).unwrap().count(), 3);
}

#[test]
fn what_is_told_stands_for_a_state_that_rests_or_does_not() {
    let all = [
        (Phase::Waiting, false, false),
        (Phase::GettingReady, false, false),
        (Phase::Ready, true, true),
        (Phase::Pausing, false, false),
        (Phase::Failed, false, true),
        (Phase::Over, true, true),
        (Phase::Stopped, false, true),
    ];
    for (phase, enough, rest) in all {
        assert_eq!((phase.is_enough(), phase.is_rest()), (enough, rest), "{}", phase.words());
        let text = serde_json::to_string(&phase).unwrap();
        assert_eq!(serde_json::from_str::<Phase>(&text).unwrap(), phase);
    }
    assert_eq!(serde_json::to_string(&Standing::MachineRestarted).unwrap(), "\"machine-restarted\"");
}

fn line_of_a_file() -> impl Strategy<Value = String> {
    prop_oneof![
        "[ -~]{0,30}",
        Just("127.0.0.1\tlocalhost".to_owned()),
        Just("::1\tlocalhost".to_owned()),
        Just("# cavrith other-1: begins (kept by cavrith names)".to_owned()),
        Just("# cavrith other-1: ends".to_owned()),
        Just(String::new()),
    ]
}

proptest! {
    /// Whatever a hosts file says: our block is there once, doing it again changes nothing, and taken out it leaves the
    /// file as it was.
    #[test]
    fn a_block_comes_and_goes_and_the_rest_of_the_file_stays(
        lines in proptest::collection::vec(line_of_a_file(), 0..12),
        names in proptest::collection::vec("[a-z]{1,8}\\.test", 1..4),
        others in proptest::collection::vec("[a-z]{1,8}\\.test", 1..4),
    ) {
        let [names, others] =
            [names, others].map(|names| names.iter().map(|name| Named::new(name, None)).collect::<Vec<_>>());
        let mut text = lines.join("\n");
        if !text.is_empty() {
            text.push('\n');
        }
        let with = with_block(&text, "timetable-1", &names);
        prop_assert!(with.starts_with(&text));
        prop_assert_eq!(&with_block(&with, "timetable-1", &names), &with);
        let changed = with_block(&with, "timetable-1", &others);
        prop_assert_eq!(&with_block(&changed, "timetable-1", &names), &with);
        prop_assert_eq!(with_block(&changed, "timetable-1", &[]), text);
    }

    /// Whatever is written, by a source of whatever name, is read back in its order, followed or not.
    #[test]
    fn a_log_is_read_back_as_it_was_written(
        source in "\\PC{1,20}",
        lines in proptest::collection::vec("[^\\n\\r]{0,60}", 1..20),
        cut in 0usize..20,
    ) {
        let dir = tempfile::tempdir().unwrap();
        let journal = Journal::new(dir.path(), &source);
        let cut = cut.min(lines.len());
        lines[..cut].iter().for_each(|line| journal.line(line));
        let (mut heard, mut follower) = Follower::with_earlier(dir.path(), &source);
        lines[cut..].iter().for_each(|line| journal.line(line));
        heard.extend(follower.news());
        let texts: Vec<_> = heard.iter().map(|line| line.text.as_str()).collect();
        prop_assert_eq!(texts, lines.iter().map(String::as_str).collect::<Vec<_>>());
        prop_assert_eq!(sources(dir.path()), std::slice::from_ref(&source));
        prop_assert_eq!(read(dir.path(), std::slice::from_ref(&source), 0), heard);
        let own: Vec<_> = lines.iter().filter(|line| !line.starts_with("[cavrith] ")).collect();
        let some = last(dir.path(), &source, 0, 3);
        prop_assert_eq!(some.iter().collect::<Vec<_>>(), own[own.len().saturating_sub(3)..].to_vec());
    }

    /// What is said at the door arrives as it was said.
    #[test]
    fn a_visit_arrives_as_it_was_meant(
        argv in proptest::collection::vec("\\PC{0,20}", 0..4),
        value in "\\PC{0,20}",
        here in proptest::option::of("/[a-z/ ]{0,20}"),
        account in proptest::option::of("[a-z]{1,8}"),
        terminal in any::<[bool; 3]>(),
    ) {
        let visit = ExecRequest {
            argv: argv.clone(),
            env: vec![("TERM".to_owned(), value.clone())],
            here: here.clone().map(PathBuf::from),
            account: account.clone(),
            terminal,
            task: None,
            guest: false,
        };
        let opening = Opening { protocol: PROTOCOL, request: Request::Run(Box::new(visit)) };
        let text = serde_json::to_vec(&opening).unwrap();
        let back: Opening<Request> = serde_json::from_slice(&text).unwrap();
        let Request::Run(back) = back.request else { panic!("another request arrived") };
        prop_assert_eq!(
            (back.argv, back.env, back.here, back.account, back.terminal),
            (argv, vec![("TERM".to_owned(), value)], here.map(PathBuf::from), account, terminal)
        );
    }
}

#[test]
fn every_way_a_command_ends_is_told() {
    for ending in [Ending::Code(0), Ending::Code(255), Ending::Signal(9)] {
        let text = serde_json::to_string(&Answer::Ended(ending)).unwrap();
        assert!(matches!(serde_json::from_str(&text).unwrap(), Answer::Ended(back) if back == ending));
    }
    let told = WorkspaceEvent::StepOver {
        name: "fill".to_owned(),
        millis: 12,
        left_out: Some("its guard succeeds".to_owned()),
    };
    let text = serde_json::to_string(&Answer::WorkspaceEvent(told.clone())).unwrap();
    assert!(matches!(serde_json::from_str(&text).unwrap(), Answer::WorkspaceEvent(back) if back == told));
}

#[test]
fn a_port_is_shown_as_it_is_typed() {
    let carried = |address: &str, count: u16| Carried {
        name: "site".to_owned(),
        protocol: Protocol::Tcp,
        inside: 80,
        wanted: 8000,
        outside: 8001,
        count,
        addresses: vec![address.parse().unwrap()],
    };
    for (address, count, shown, url) in [
        ("127.0.0.1", 1, "127.0.0.1:8001", "http://localhost:8001/"),
        ("::1", 1, "[::1]:8001", "http://localhost:8001/"),
        ("0.0.0.0", 3, "0.0.0.0:8001-8003", "http://localhost:8001/"),
        ("192.0.2.7", 1, "192.0.2.7:8001", "http://192.0.2.7:8001/"),
        ("2001:db8::7", 1, "[2001:db8::7]:8001", "http://[2001:db8::7]:8001/"),
    ] {
        let port = carried(address, count);
        assert_eq!((port.shown().as_str(), port.url().as_str()), (shown, url));
        assert_eq!(serde_json::from_value::<Carried>(serde_json::to_value(&port).unwrap()).unwrap(), port);
    }
    assert_eq!(Carried { addresses: Vec::new(), ..carried("::1", 1) }.shown(), "127.0.0.1:8001");
}
