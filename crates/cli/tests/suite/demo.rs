use std::process::Command;

use crate::owners::Member;
use crate::team::{PROGRAM, Team, told};

/// Where the people of the story keep what is theirs.
const HOMES: [&str; 3] = ["ida/home", "jonas/home", "tove/home"];

#[test]
fn the_whole_story_plays_twice_and_refuses_to_overwrite() {
    let dir = tempfile::tempdir().unwrap();
    let demo = |arguments: &[&str]| {
        Command::new(PROGRAM).arg("demo").args(arguments).current_dir(dir.path()).output().unwrap()
    };
    let first = demo(&["story"]);
    assert_eq!(first.status.code(), Some(0), "{}", told(&first));
    let text = String::from_utf8_lossy(&first.stdout).into_owned();
    for part in [
        "mistake[CV0108]",
        "wrote cavrith.lock",
        "came out the same twice",
        "packed ../timetable.parcel  1 image in ",
        "brindle/timetable:sealed  ",
        "joined timetable  the same as sealed: ",
        "fetched 9 layers from ",
        "runs inside 2 steps and 1 service, none of them outside",
        "release: 4 layers and 0 probes came out the same twice",
        "/frame.html answers:",
        "<td>Petrel</td><td>07:00</td>",
        "the same as sealed",
        "/opt/quill/2.4.1/bin/quill  from toolchain quill 2.4.1",
        "not the same as what was sealed",
    ] {
        assert!(text.contains(part), "{part} is missing in {text}");
    }
    let again = demo(&["story"]);
    assert_eq!(again.status.code(), Some(2));
    assert!(told(&again).contains("write --again"), "{}", told(&again));
    assert_eq!(demo(&["story", "--again"]).status.code(), Some(0));
    // A folder that is not a demo is never removed.
    std::fs::create_dir(dir.path().join("letters")).unwrap();
    std::fs::write(dir.path().join("letters/a"), "dear harbour").unwrap();
    assert_eq!(demo(&["letters", "--again"]).status.code(), Some(2));
    assert!(dir.path().join("letters/a").exists());
}

#[test]
fn the_story_plays_for_each_kind_of_member_and_leaves_their_stores_whole() {
    for range in [true, false] {
        let team = Team::new();
        let member = Member::of(&team, range);
        let story = member.dir.join("story");
        let output = member.command(&["demo", story.to_str().unwrap()]).env_remove("CAVRITH_HOME").output().unwrap();
        let said = told(&output);
        assert_eq!(output.status.code(), Some(0), "range {range}: {said}");
        // A command that runs another of ours is the same member there as well.
        assert!(said.contains("the image holds now what the workspace held"), "range {range}: {said}");
        for home in HOMES {
            let output = member.command(&["store", "check"]).env("CAVRITH_HOME", story.join(home)).output().unwrap();
            assert_eq!(output.status.code(), Some(0), "range {range}: {home}: {}", told(&output));
        }
    }
}
