use std::fs;

use crate::team::Team;

#[test]
fn a_sound_spec_is_told_in_one_line() {
    let team = Team::new();
    assert_eq!(team.ok(&["check"]), "no mistakes in the spec of timetable\n");
    assert_eq!(team.ok(&["check", "--quiet"]), "");
    assert_eq!(team.json(&["check", "--json"]), serde_json::json!({ "sound": true, "mistakes": [], "seal": null }));
}

#[test]
fn mistakes_are_drawn_with_their_place_and_what_to_do() {
    let team = Team::new();
    team.change("depot    = \"harbour\"", "depot    = \"harbor\"").change("[env]", "[evn]");
    insta::assert_snapshot!(team.fails(&["check"], 1), @r#"
    mistake[CV0115]: there is no depot `harbor`
      --> cavrith.toml:14:12
       |
    14 | depot    = "harbor"
       |            ^^^^^^^^
       |
       = remedy: write "harbour", or declare it under [depots]

    mistake[CV0102]: a spec has no key `evn`
      --> cavrith.toml:22:2
       |
    22 | [evn]
       |  ^^^
       |
       = remedy: write `env`, or leave the line out

    2 mistakes
    "#);
}

#[test]
fn mistakes_between_spec_depots_and_disk_are_found_in_the_same_run() {
    let team = Team::new();
    team.change("quill   = \"2.4\"", "quill   = \"3\"").change("outside = \".\"", "outside = \"tables\"");
    team.change("name    = \"timetable\"", "name    = \"Timetable\"");
    let answer = team.json(&["check", "--json"]);
    let mistakes = answer["mistakes"].as_array().unwrap();
    let codes: Vec<_> = mistakes.iter().map(|mistake| mistake["code"].as_str().unwrap()).collect();
    assert_eq!(codes, ["CV0107", "CV0203", "CV0117", "CV0113"]);
    assert_eq!(mistakes[1]["places"][0]["line"], 18);
    assert_eq!(answer["sound"], false);
}

#[test]
fn a_broken_depot_is_shown_in_its_own_file() {
    let team = Team::new();
    let index = team.dir.path().join("depot/depot.toml");
    let text = fs::read_to_string(&index).unwrap();
    fs::write(&index, text.replacen("depot = 1", "depot = one", 1)).unwrap();
    let told = team.fails(&["check"], 1);
    assert!(told.contains("CV0201") && told.contains("../../depot/depot.toml:1:"), "{told}");
    fs::remove_file(&index).unwrap();
    let told = team.fails(&["check"], 1);
    assert!(told.contains("cannot be read") && told.contains("relative to the spec"), "{told}");
}

#[test]
fn a_project_is_found_from_any_folder_in_it() {
    let team = Team::new();
    let below = team.project().join("a/b");
    fs::create_dir_all(&below).unwrap();
    assert!(team.command(&["check"]).current_dir(&below).status().unwrap().success());
    let elsewhere = team.command(&["check", "-C"]).arg(team.project()).current_dir("/").status().unwrap();
    assert!(elsewhere.success());
    let output = team.command(&["check"]).current_dir("/").output().unwrap();
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("no cavrith.toml in / or in a folder above it"));
}

#[test]
fn colours_come_only_when_they_are_wanted() {
    let team = Team::new();
    assert!(!team.ok(&["check"]).contains('\x1b'));
    assert!(team.ok(&["--color", "always", "check"]).contains('\x1b'));
}

#[test]
fn wrong_use_is_told_with_code_2() {
    let team = Team::new();
    for arguments in [&["chekc"][..], &["build", "--nonsense"], &["run"], &[]] {
        assert_eq!(team.run(arguments).status.code(), Some(2), "{arguments:?}");
    }
}
