use std::fs;

use crate::team::Team;

#[test]
fn a_seal_goes_into_the_lock_and_sealing_again_changes_nothing() {
    let team = Team::locked();
    let seal = team.json(&["seal", "--json"]);
    let text = fs::read_to_string(team.project().join("cavrith.lock")).unwrap();
    assert!(text.contains(&format!("image = {}", seal["image"])), "{text}");
    assert_eq!(seal["layers"].as_array().unwrap().len(), 9);
    assert_eq!(seal["probes"][2]["answer"], "quill 2.4.1");
    assert!(team.ok(&["seal"]).contains("still sealed"));
    assert_eq!(fs::read_to_string(team.project().join("cavrith.lock")).unwrap(), text);
    team.assert_clean();
}

#[test]
fn what_differs_is_refused_with_file_step_and_likely_cause() {
    let team = Team::locked();
    team.step(
        "date > /srv/when; date +%F > /srv/day; nproc > /srv/cores; echo $$ > /srv/own.pid; echo fine > /srv/fine",
    );
    team.step("head -c 8 /dev/urandom | hexdump -ve '1/1 \"%02x\"' > /srv/random; find /bin > /srv/order; stat -c %Y /srv/order > /srv/time");
    let told = team.fails(&["seal"], 1);
    for (path, step) in [("/srv/when", 2), ("/srv/day", 2), ("/srv/own.pid", 2), ("/srv/random", 3), ("/srv/time", 3)] {
        assert!(told.contains(&format!("{path}  from step \"step {step}\", cavrith.toml:")), "{path}: {told}");
    }
    assert!(told.contains("cause     the time of day: date(1)"), "{told}");
    // The reasons, each with the line of the spec, the bytes and a remedy.
    let why = team.fails(&["seal", "--why"], 1);
    for (path, cause) in [
        ("/srv/when", "the time of day: date(1)"),
        ("/srv/day", "the time of day: a date of ISO 8601"),
        ("/srv/cores", "the number of processors"),
        ("/srv/own.pid", "a process id"),
        ("/srv/random", "something random"),
        ("/srv/time", "the time of day: seconds since 1970"),
    ] {
        let of_file = why.split(&format!("    {path}  from")).nth(1).unwrap_or_else(|| panic!("{path}: {why}"));
        let of_file = of_file.split("\n    /").next().unwrap();
        assert!(of_file.contains(&format!("cause     {cause}")), "{path}: {of_file}");
        assert!(of_file.contains(", cavrith.toml:") && of_file.contains("remedy    "), "{path}: {of_file}");
    }
    assert!(why.contains("by the time of day"), "{why}");
    let json = team.json(&["seal", "--json"]);
    let details = json["failed"]["details"].as_array().unwrap();
    assert!(details.iter().any(|one| one["what"] == "/srv/cores" && one["findings"][0]["kind"] == "processors"));
    // No order comes from the disk.
    assert!(!told.contains("/srv/fine") && !told.contains("/srv/order"), "{told}");
    assert!(!fs::read_to_string(team.project().join("cavrith.lock")).unwrap().contains("[seal]"));
    team.assert_clean();
}

#[test]
fn a_step_that_fails_under_other_conditions_is_told() {
    let team = Team::locked();
    team.step("test $(date +%s) -lt $(stat -c %Y /proc/self) || test $(date +%s) -lt $(( $(stat -c %Y /proc/self) + 100000 ))");
    let told = team.fails(&["seal"], 5);
    assert!(told.contains("the second build, under other conditions, failed: the step \"step 2\" failed"), "{told}");
}

#[test]
fn locking_something_else_takes_the_seal_out_and_says_so() {
    let team = Team::sealed();
    assert_eq!(team.ok(&["lock"]), "cavrith.lock is up to date\n");
    team.change("gauge   = { version = \"0.9.3\" }", "");
    let told = team.fails(&["lock"], 0);
    assert!(told.contains("the seal was taken out"), "{told}");
    assert!(team.fails(&["verify"], 1).contains("the lock has no seal to verify against"));
}

#[test]
fn a_build_that_is_not_what_was_sealed_is_told() {
    let team = Team::sealed();
    team.step("true > /new");
    assert!(team.fails(&["build"], 0).contains("this is not what was sealed"));
}
