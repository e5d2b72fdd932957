//! Where workspaces are kept, what is recorded of them, what they are called, what is said to them.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::{Path, PathBuf};

use cavrith_core::digest::ImageFingerprint;
use cavrith_engine::home::Home;
use cavrith_keeper::journal::Journal;
use cavrith_keeper::place::{Place, scratch_changes};
use cavrith_sandbox::Identity;
use cavrith_workspace::WorkspaceError;
use cavrith_workspace::backups;
use cavrith_workspace::lifecycle::{Meant, drop_workspace, dropping};

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

    fn meant<'a>(&'a self, project: &'a Path, typed: bool, name: Option<&'a str>) -> Meant<'a> {
        Meant { home: &self.home, project, project_typed: typed, name, variant: None }
    }
}

#[test]
fn a_name_is_looked_for_in_the_project_first_and_then_everywhere() {
    let ground = Ground::new();
    let (ida, jonas, other) =
        (ground.project("ida/timetable"), ground.project("jonas/timetable"), ground.project("other"));
    for (project, name) in [(&ida, None), (&ida, Some("second")), (&jonas, None), (&jonas, Some("third"))] {
        Place::new(&ground.home, project, "timetable", name).make(Identity::Root).unwrap();
    }
    let found = |project: &Path, typed: bool, name: Option<&str>| ground.meant(project, typed, name).found();
    assert_eq!(found(&jonas, false, None).unwrap().project, jonas);
    assert_eq!(found(&jonas, false, Some("timetable")).unwrap().project, jonas);
    // From somewhere else, and from inside a folder of the project.
    assert_eq!(found(&other, false, Some("second")).unwrap().project, ida);
    fs::create_dir(ida.join("pages")).unwrap();
    assert_eq!(found(&ida.join("pages"), false, None).unwrap().project, ida);
    let Err(WorkspaceError::SeveralWorkspaces { projects, .. }) = found(&other, false, Some("timetable")) else {
        panic!("one of several was taken")
    };
    assert!(projects.contains("ida") && projects.contains("jonas"));
    // Anyone who names a project means that one.
    let error = found(&ida, true, Some("third")).unwrap_err().to_string();
    assert!(
        error.contains("there is no workspace third; the workspaces here are") && error.contains("second"),
        "{error}"
    );
    assert!(found(&ground.dir.path().join("nowhere"), false, None).is_err());
}

#[test]
fn a_project_is_one_by_whatever_path_it_is_named_and_wherever_it_was_moved() {
    let ground = Ground::new();
    let project = ground.project("timetable");
    let place = Place::new(&ground.home, &project, "timetable", None);
    place.make(Identity::Root).unwrap();
    place.make_kept().unwrap();
    fs::create_dir(place.kept.join("ledger")).unwrap();
    let link = ground.dir.path().join("link");
    symlink(&project, &link).unwrap();
    let dotted = project.join("../timetable/.");
    for path in [&project, &link, &dotted] {
        assert_eq!(ground.meant(path, true, None).found().unwrap().dir, place.dir, "{}", path.display());
    }
    // Moved: what runs stays where it is; what does not comes along.
    let moved = ground.dir.path().join("harbour");
    fs::rename(&project, &moved).unwrap();
    let held = place.hold().unwrap();
    assert_eq!(ground.meant(&moved, true, None).found().unwrap().dir, place.dir);
    drop(held);
    let found = ground.meant(&moved, true, None).found().unwrap();
    assert_ne!(found.dir, place.dir);
    assert_eq!(found.project, moved);
    assert!(found.kept.join("ledger").is_dir() && !place.dir.exists() && !place.kept.exists());
    // Another project in the old place is another one.
    let other = ground.project("timetable");
    assert!(ground.meant(&other, true, None).found().is_err());
    // Dropped and moved again: what was kept still belongs to it.
    drop_workspace(&ground.home, &found, false).unwrap();
    assert_eq!(Place::dropped(&ground.home).len(), 1);
    let again = ground.dir.path().join("pier");
    fs::rename(&moved, &again).unwrap();
    assert_eq!(ground.meant(&again, true, None).existing().unwrap(), None);
    assert!(Place::new(&ground.home, &again, "timetable", None).kept.join("ledger").is_dir());
    // A folder that was typed and is not there is a slip, even within a project.
    let error = ground.meant(&again.join("nosuch"), true, None).found().unwrap_err();
    assert_eq!(error.exit_code(), 2);
}

#[test]
fn what_was_changed_inside_is_set_aside_and_forgotten_when_it_is_old() {
    let ground = Ground::new();
    let place = Place::new(&ground.home, &ground.project("timetable"), "timetable", None);
    place.make(Identity::Root).unwrap();
    let change = |text: &str| {
        let scratch = place.dir.join("0123456789abcdef");
        fs::create_dir_all(scratch.join("root/srv")).unwrap();
        fs::write(scratch.join("root/srv/notes"), text).unwrap();
        scratch
    };
    let first = backups::set_aside(&ground.home, &place, &change("first")).unwrap().unwrap();
    assert_eq!(fs::read_to_string(first.join("root/srv/notes")).unwrap(), "first");
    assert_eq!(fs::metadata(ground.home.backups()).unwrap().permissions().mode() & 0o077, 0);
    // One that is older than is promised goes with the next.
    let old = first.with_file_name("1000");
    fs::rename(&first, &old).unwrap();
    let second = backups::set_aside(&ground.home, &place, &change("second")).unwrap().unwrap();
    assert!(!old.exists() && second.exists());
    // However fast they come, each has a place of its own.
    let mut all: Vec<_> = (0..20)
        .map(|number| backups::set_aside(&ground.home, &place, &change(&number.to_string())).unwrap().unwrap())
        .collect();
    for (number, aside) in all.iter().enumerate() {
        assert_eq!(fs::read_to_string(aside.join("root/srv/notes")).unwrap(), number.to_string());
    }
    all.sort();
    all.dedup();
    assert_eq!(all.len(), 20);
    // Nothing that was changed is nothing to keep.
    let empty = place.dir.join("0123456789abcdef");
    fs::create_dir_all(empty.join("root")).unwrap();
    assert_eq!(backups::set_aside(&ground.home, &place, &empty).unwrap(), None);
    change("third");
    let aside = drop_workspace(&ground.home, &place, false).unwrap();
    assert_eq!(fs::read_to_string(aside[0].join("root/srv/notes")).unwrap(), "third");
}

#[test]
fn a_workspace_that_somebody_holds_is_not_dropped() {
    let ground = Ground::new();
    let place = Place::new(&ground.home, &ground.project("timetable"), "timetable", None);
    place.make(Identity::Root).unwrap();
    let held = place.hold().unwrap();
    assert!(drop_workspace(&ground.home, &place, false).is_err() && place.dir.is_dir());
    drop(held);
    drop_workspace(&ground.home, &place, false).unwrap();
    assert!(!place.dir.exists());
}

#[test]
fn what_dropping_takes_along_is_listed_without_what_we_laid_there() {
    let ground = Ground::new();
    let place = Place::new(&ground.home, &ground.project("timetable"), "timetable", None);
    place.make(Identity::Root).unwrap();
    let scratch = place.scratch(&ImageFingerprint::from_bytes([7; 32])).unwrap();
    assert_eq!(place.scratch(&ImageFingerprint::from_bytes([7; 32])).unwrap(), scratch);
    assert!(place.scratches().is_empty());
    let root = scratch.join("root");
    fs::create_dir_all(root.join("etc")).unwrap();
    for own in ["etc/hosts", "etc/resolv.conf"] {
        fs::write(root.join(own), "").unwrap();
    }
    assert_eq!(scratch_changes(&scratch, None, 5), (0, Vec::new()));
    fs::write(root.join("etc/motd"), "").unwrap();
    fs::create_dir_all(root.join("home/crew")).unwrap();
    symlink("/", root.join("home/crew/everything")).unwrap();
    fs::write(root.join("home/crew/\x1b]0;x\x07"), "").unwrap();
    let (count, some) = scratch_changes(&scratch, None, 5);
    assert_eq!((count, some.len()), (3, 3));
    // A link is one file, whatever it leads to; a name that a terminal would obey is shown otherwise.
    assert!(some.contains(&"/home/crew/everything".to_owned()));
    assert!(some.iter().all(|path| !path.contains('\x1b') && !path.contains('\x07')), "{some:?}");
    assert_eq!(scratch_changes(&scratch, None, 1).1.len(), 1);
    fs::create_dir_all(place.kept.join("ledger")).unwrap();
    fs::create_dir_all(place.kept.join(".new-ledger")).unwrap();
    Journal::new(&place.dir.join("logs"), "site").line("begun");
    let told = dropping(&place, false);
    assert_eq!((told.changed_files, told.kept, told.logs), (3, vec!["ledger".to_owned()], vec!["site".to_owned()]));
}
