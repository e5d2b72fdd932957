//! Where members' reports go and are read: a registry, beside the image; a repository; by themselves, where that is
//! said.

use std::fs;
use std::process::{Command, Stdio};

use serde_json::{Value, json};

use crate::registry::Registry;
use crate::roster::Crew;
use crate::team::told;

/// How everybody stands, by a roster of these sources.
fn standings(crew: &Crew, sources: &[&str]) -> (Vec<(String, String)>, Value) {
    let output = crew.run("ida", &[&["roster", "--json"], sources].concat());
    let roster: Value = serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", told(&output)));
    let text = |member: &Value, key: &str| member[key].as_str().unwrap().to_owned();
    let members = roster["members"].as_array().unwrap().iter();
    let mut all: Vec<_> = members.map(|member| (text(member, "name"), text(member, "standing"))).collect();
    all.sort();
    (all, roster["refused"].clone())
}

fn people(of: [(&str, &str); 3]) -> Vec<(String, String)> {
    of.map(|(name, standing)| (name.to_owned(), standing.to_owned())).to_vec()
}

#[test]
fn reports_are_attached_to_the_image_in_a_registry_and_read_there() {
    for lists_referrers in [false, true] {
        let crew = Crew::new();
        let registry = Registry::new();
        registry.state.lock().unwrap().lists_referrers = lists_referrers;
        let image = format!("{}/brindle/timetable:1", registry.host);
        crew.ok("tove", &["build", "-q"]);
        let early = crew.run("tove", &["verify", "--report", "--to", &image]);
        assert!(early.status.code() == Some(3), "{}", told(&early));
        assert!(told(&early).contains("cavrith push puts an image there"), "{}", told(&early));
        crew.ok("ida", &["build", "-q"]);
        crew.ok("ida", &["push", &image]);
        let (all, refused) = standings(&crew, &[&image]);
        assert_eq!(all, people(["ida", "jonas", "tove"].map(|name| (name, "never-reported"))));
        assert_eq!(refused, json!([]), "what else is attached to an image is no report");
        // All at once: a registry that keeps no lists has one that each of them writes.
        crew.ok("jonas", &["build", "-q"]);
        let arguments = ["verify", "--report", "--to", &image];
        let all = ["ida", "tove", "jonas"]
            .map(|who| crew.command(who, &arguments).stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap());
        for child in all {
            assert!(child.wait_with_output().unwrap().status.success(), "{arguments:?}");
        }
        let said = crew.ok("tove", &["verify", "--report", "--to", &image]);
        assert!(said.contains(&format!("reported as tove: {image}")), "{said}");
        let (all, refused) = standings(&crew, &[&image]);
        assert_eq!(all, people(["ida", "jonas", "tove"].map(|name| (name, "same"))));
        assert_eq!(refused, json!([]));
        // A stranger who may write there gains nothing.
        crew.ok("eve", &["build", "-q"]);
        crew.ok("eve", &["verify", "--report", "--anonymous", "--to", &image]);
        let reference: Vec<_> = registry.state.lock().unwrap().manifests.keys().cloned().collect();
        assert!(reference.len() > 8);
        assert_eq!(standings(&crew, &[&image]).0, people(["ida", "jonas", "tove"].map(|name| (name, "same"))));
        // With a folder beside it, both count; what is neither says what could be written.
        assert_eq!(standings(&crew, &[&image, crew.team.dir.path().to_str().unwrap()]).0.len(), 3);
        let wrong = crew.run("ida", &["roster", "no-such-place"]);
        assert!(wrong.status.code() == Some(2), "{}", told(&wrong));
        assert!(
            told(&wrong).contains("neither a folder that is there, nor an image in a registry"),
            "{}",
            told(&wrong)
        );
    }
}

#[test]
fn the_spec_or_the_member_has_every_verify_report() {
    let crew = Crew::new();
    let registry = Registry::new();
    let image = format!("{}/brindle/timetable:1", registry.host);
    let spec = fs::read_to_string(crew.spec()).unwrap();
    let declared = format!("[team]\nregistry = \"{image}\"\nautomatic-reports = true\nreports");
    fs::write(crew.spec(), spec.replace("[team]\nreports", &declared)).unwrap();
    crew.ok("ida", &["build", "-q"]);
    // A registry without the image: nobody asked for the report just now, so it is a note and not a failure.
    let output = crew.run("ida", &["verify"]);
    assert!(output.status.success() && told(&output).contains("nothing was reported: "), "{}", told(&output));
    crew.ok("ida", &["push", &image]);
    for who in ["ida", "tove", "jonas"] {
        crew.ok(who, &["build", "-q"]);
        let said = crew.ok(who, &["verify"]);
        assert_eq!(said.matches(&format!("reported as {who}")).count(), 2, "folder and registry: {said}");
    }
    assert_eq!(standings(&crew, &[]).0, people(["ida", "jonas", "tove"].map(|name| (name, "same"))));
    let reports = || fs::read_dir(crew.reports()).unwrap().count();
    let before = reports();
    // Neither a quick look, nor where somebody does not want it, nor one who is not in the team.
    crew.ok("tove", &["verify", "--quick"]);
    crew.ok("tove", &["verify", "--no-report"]);
    fs::write(crew.home("jonas").join("cavrith/config.toml"), "automatic-reports = false\n").unwrap();
    assert!(!crew.ok("jonas", &["verify"]).contains("reported"));
    crew.ok("eve", &["build", "-q"]);
    let eve = crew.ok("eve", &["verify"]);
    assert!(eve.contains("nothing was reported") && eve.contains("those who may are ida, jonas, tove"), "{eve}");
    assert_eq!(reports(), before);
    // The member's word counts for specs that say nothing.
    fs::write(crew.spec(), spec).unwrap();
    assert!(!crew.ok("tove", &["verify"]).contains("reported"));
    fs::write(crew.home("tove").join("cavrith/config.toml"), "automatic-reports = true\n").unwrap();
    assert!(crew.ok("tove", &["verify"]).contains("reported as tove"));
    assert_eq!(reports(), before + 1);
}

#[test]
fn reports_are_read_from_a_repository() {
    let crew = Crew::new();
    let put = crew.team.dir.path().join("put");
    fs::create_dir_all(put.join("spring")).unwrap();
    crew.ok("tove", &["build", "-q"]);
    crew.ok("tove", &["verify", "--report", "--to", put.join("spring").to_str().unwrap()]);
    fs::write(put.join("package.json"), "{}").unwrap();
    std::os::unix::fs::symlink("/etc", put.join("elsewhere")).unwrap();
    let git = |arguments: &[&str]| {
        let mut command = Command::new("git");
        command.args(["-c", "user.name=Tove", "-c", "user.email=tove@brindle.example"]).current_dir(&put);
        let output = command.args(arguments).output().unwrap();
        assert!(output.status.success(), "{arguments:?}: {}", told(&output));
    };
    git(&["init", "-q", "-b", "main"]);
    git(&["add", "."]);
    git(&["commit", "-q", "-m", "reports"]);
    let address = format!("file://{}", put.display());
    let (all, refused) = standings(&crew, &[&address]);
    assert_eq!(all, people([("ida", "never-reported"), ("jonas", "never-reported"), ("tove", "same")]));
    assert_eq!(refused, json!([]), "other files of a repository are no reports");
    let shown = crew.ok("ida", &["roster", &address, "--json"]);
    assert!(shown.contains("spring/tove-"), "{shown}");
    git(&["rm", "-q", "-r", "spring"]);
    git(&["commit", "-q", "-m", "none"]);
    assert_eq!(standings(&crew, &[&address]).0[2].1, "never-reported");
    assert_eq!(standings(&crew, &[&format!("{address}#main~1")]).0[2].1, "same");
    let gone = crew.run("ida", &["roster", &format!("{address}#no-such")]);
    assert!(gone.status.code() == Some(2) && told(&gone).contains("has no revision no-such"), "{}", told(&gone));
    // Nothing of the clones is left.
    let staging = crew.home("ida").join("cavrith/store/staging");
    assert_eq!(fs::read_dir(staging).map_or(0, Iterator::count), 0);
}
