use std::fs;
use std::path::{Path, PathBuf};
use std::process::Output;

use crate::owners::Member;
use crate::registry::{Fault, Registry};
use crate::server::Server;
use crate::team::{Team, told};

/// A second member with the same project and an empty store.
fn colleague(team: &Team, name: &str) -> PathBuf {
    let dir = team.dir.path().join(name);
    crate::team::copy(&team.project(), &dir.join("timetable"));
    dir
}

fn by(team: &Team, dir: &Path, arguments: &[&str]) -> Output {
    let mut command = team.command(arguments);
    command.current_dir(dir.join("timetable")).env("CAVRITH_HOME", dir.join("home")).output().unwrap()
}

fn configure(home: &Path, text: &str) {
    fs::create_dir_all(home).unwrap();
    fs::write(home.join("config.toml"), text).unwrap();
}

/// Steps whose layers have all that a layer can have.
fn varied(team: &Team) {
    team.step("mkdir -p /srv/old; echo 1 > /srv/old/a; ln /srv/old/a /srv/same; ln -s same /srv/link; mkfifo /srv/pipe; chown 7:8 /srv/same; chmod 4750 /srv/same");
    team.step("rm -r /srv/old; mkdir /srv/old; echo 2 > /srv/old/new; rm /srv/link; touch /srv/later");
}

#[test]
fn what_one_has_sealed_the_others_take_and_build_nothing() {
    let team = Team::locked();
    varied(&team);
    let registry = Registry::new();
    team.add(&format!("[cache]\nregistry = \"{}/brindle/timetable\"\n", registry.host));
    team.ok(&["lock"]);
    let output = team.run(&["seal", "--publish"]);
    let said = told(&output);
    let layers = team.json(&["seal", "--json"])["layers"].as_array().unwrap().len();
    assert!(
        said.contains(&format!("published {layers} layers to {}/brindle/timetable, 0 there already", registry.host)),
        "{said}"
    );
    // A member who has no depot, and gets every layer from there.
    let member = colleague(&team, "tove");
    fs::rename(team.dir.path().join("depot"), team.dir.path().join("away")).unwrap();
    registry.requests();
    let output = by(&team, &member, &["build"]);
    let said = told(&output);
    assert!(
        said.contains(&format!("fetched {layers} layers from")) && said.contains("nothing to do")
            || said.contains("reused"),
        "{said}"
    );
    assert!(output.status.success() && !said.contains("made  "), "{said}");
    assert!(registry.requests().iter().all(|request| request.starts_with("GET")));
    fs::rename(team.dir.path().join("away"), team.dir.path().join("depot")).unwrap();
    let output = by(&team, &member, &["verify"]);
    assert!(told(&output).contains("the same as sealed"), "{}", told(&output));
    // Published again, nothing is sent; the cache is no part of what is sealed.
    let said = told(&by(&team, &member, &["build", "--publish"]));
    assert!(
        said.contains(&format!("published 0 layers to {}/brindle/timetable, {layers} there already", registry.host)),
        "{said}"
    );
    team.change("/brindle/timetable", "/brindle/elsewhere");
    assert!(team.ok(&["verify"]).contains("the same as sealed"));
    team.assert_clean();
}

#[test]
fn a_folder_serves_every_kind_of_member() {
    let team = Team::locked();
    varied(&team);
    team.ok(&["lock"]);
    let folder = team.dir.path().join("layers");
    fs::create_dir(&folder).unwrap();
    configure(&team.home(), &format!("[cache]\nfolder = \"{}\"\n", folder.display()));
    team.ok(&["seal", "--publish"]);
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    for range in [true, false] {
        let member = Member::of(&team, range);
        configure(&member.dir.join("home"), &format!("[cache]\nfolder = \"{}\"\n", folder.display()));
        let own = member.dir.metadata().map(|meta| std::os::unix::fs::MetadataExt::uid(&meta)).unwrap();
        let owner = format!("{own}:{own}");
        assert!(
            std::process::Command::new("chown")
                .args(["-R", &owner])
                .arg(member.dir.join("home"))
                .status()
                .unwrap()
                .success()
        );
        let output = member.command(&["build"]).output().unwrap();
        let said = told(&output);
        assert!(output.status.success() && said.contains("fetched ") && !said.contains("made  "), "{said}");
        let output = member.command(&["verify"]).output().unwrap();
        assert!(told(&output).contains("the same as sealed"), "{}", told(&output));
        fs::remove_dir_all(team.dir.path().join("tove")).unwrap();
        fs::remove_dir_all(team.dir.path().join("etc")).unwrap();
    }
}

#[test]
fn what_a_cache_gives_is_proved_and_what_it_cannot_give_is_built() {
    let team = Team::locked();
    varied(&team);
    team.ok(&["lock"]);
    let folder = team.dir.path().join("layers");
    configure(&team.home(), &format!("[cache]\nfolder = \"{}\"\n", folder.display()));
    team.ok(&["seal", "--publish"]);
    let files = |ending: &str| -> Vec<PathBuf> {
        let mut all: Vec<_> = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
        all.retain(|path| path.extension().unwrap() == ending);
        all.sort();
        all
    };
    let (lists, contents) = (files("list"), files("layer"));
    let build = |name: &str, note: &str| {
        let member = colleague(&team, name);
        configure(&member.join("home"), &format!("[cache]\nfolder = \"{}\"\n", folder.display()));
        let output = by(&team, &member, &["build"]);
        let said = told(&output);
        assert!(
            output.status.success() && said.contains("what is missing is built here") && said.contains(note),
            "{name}: {said}"
        );
        let output = by(&team, &member, &["verify"]);
        assert!(told(&output).contains("the same as sealed"), "{name}: {}", told(&output));
        fs::remove_dir_all(&member).unwrap();
    };
    // A list of another layer, a content of another layer, damage anywhere, an end too early, a pipe.
    let change = |path: &Path, bytes: &[u8], name: &str, note: &str| {
        let good = fs::read(path).unwrap();
        fs::write(path, bytes).unwrap();
        build(name, note);
        fs::write(path, good).unwrap();
    };
    let of = |path: &Path| fs::read(path).unwrap();
    let step = contents.iter().max_by_key(|path| path.metadata().unwrap().len()).unwrap();
    let list = step.with_extension("list");
    let other = lists.iter().find(|path| **path != list).unwrap();
    change(&list, &of(other), "a", "not the sealed one");
    change(&list, b"tide", "b", "cannot be unpacked");
    change(step, &of(&other.with_extension("layer")), "c", "gives another layer");
    let good = of(step);
    change(step, &good[..good.len() / 2], "d", "gives another layer");
    let mut bent = good.clone();
    let middle = bent.len() / 2;
    bent[middle] ^= 0x55;
    change(step, &bent, "e", "gives another layer");
    let mut plain = zstd::decode_all(good.as_slice()).unwrap();
    let at = plain.windows(7).position(|bytes| bytes == b"BusyBox").unwrap();
    plain[at] = b'b';
    change(step, &zstd::encode_all(plain.as_slice(), 1).unwrap(), "f", "is not the file that is expected");
    // The rights in a header, which would be another layer.
    let mut plain = zstd::decode_all(good.as_slice()).unwrap();
    plain[100] = b'7';
    change(step, &zstd::encode_all(plain.as_slice(), 1).unwrap(), "g", "does not follow from its list");
    fs::rename(step, folder.join("kept")).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(step).status().unwrap().success());
    build("h", "cannot be read");
    team.assert_clean();
}

#[test]
fn a_registry_that_is_away_or_lies_costs_a_note() {
    let team = Team::sealed();
    let registry = Registry::new();
    configure(&team.home(), &format!("[cache]\nregistry = \"{}/brindle/timetable\"\n", registry.host));
    team.ok(&["build", "--publish"]);
    let faults = [Fault::Bends, Fault::Status(200, ""), Fault::Status(403, ""), Fault::Endless];
    for (number, fault) in faults.into_iter().enumerate() {
        let member = colleague(&team, &format!("member-{number}"));
        configure(&member.join("home"), &format!("[cache]\nregistry = \"{}/brindle/timetable\"\n", registry.host));
        // One for each layer that is asked for at once.
        (0..4).for_each(|_| registry.fault("GET", fault.clone()));
        let output = by(&team, &member, &["build"]);
        let said = told(&output);
        assert!(output.status.success() && said.contains("what is missing is built here"), "{number}: {said}");
        assert!(told(&by(&team, &member, &["verify"])).contains("the same as sealed"));
    }
    // Without a network nobody is asked, and nothing is said.
    let member = colleague(&team, "offline");
    configure(&member.join("home"), "[cache]\nregistry = \"127.0.0.1:9/brindle/timetable\"\n");
    let mut command = team.command(&["build"]);
    command.current_dir(member.join("timetable")).env("CAVRITH_HOME", member.join("home")).env("CAVRITH_OFFLINE", "1");
    let said = told(&command.output().unwrap());
    assert!(!said.contains("built here"), "{said}");
    let output = by(&team, &member, &["build", "--publish"]);
    assert_eq!(output.status.code(), Some(4), "{}", told(&output));
    configure(&member.join("home"), "[cache]\noff = true\n");
    let output = by(&team, &member, &["build", "--publish"]);
    assert!(
        output.status.code() == Some(2) && told(&output).contains("there is no cache to publish to"),
        "{}",
        told(&output)
    );
    team.assert_clean();
}

/// A step that fetches, of a project whose layers are shared; the server that has what it fetches.
fn fetching(team: &Team, cache: &str) -> Server {
    let server = Server::new();
    server.put("/low.csv", "low,7\n");
    server.put("/high.csv", "high,19\n");
    team.add(
        "[[steps]]\nname = \"bring the tides\"\nat = \"build\"\nnetwork = \"recorded\"\n\
         run = \"wget -q -P /srv http://files.brindle.example/low.csv http://files.brindle.example/high.csv\"\n",
    );
    team.add(cache);
    configure(&team.home(), &mirror(&server));
    for command in ["lock", "record"] {
        team.ok(&[command]);
    }
    server
}

fn mirror(server: &Server) -> String {
    format!("[recording.mirrors]\n\"http://files.brindle.example/\" = \"{}/\"\n", server.url)
}

#[test]
fn what_steps_fetched_is_shared_beside_the_layers_and_outlives_where_it_came_from() {
    let team = Team::locked();
    let registry = Registry::new();
    let server = fetching(&team, &format!("[cache]\nregistry = \"{}/brindle/timetable\"\n", registry.host));
    let said = told(&team.run(&["seal", "--publish"]));
    assert!(said.contains(" and 2 files that steps fetched to "), "{said}");
    let image = team.build();
    // Gone from where it came from; whoever has nothing builds it all the same, layer by layer.
    for path in ["/low.csv", "/high.csv"] {
        server.remove(path);
    }
    let member = colleague(&team, "tove");
    configure(&member.join("home"), &mirror(&server));
    server.requests();
    let output = by(&team, &member, &["build", "--fresh", "--json"]);
    assert!(output.status.success(), "{}", told(&output));
    let built: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(built["image"], image.as_str());
    assert_eq!(server.requests(), Vec::<String>::new());
    // And seals it, though the layers came from there and what they are made of never did.
    let other = colleague(&team, "jonas");
    let said = told(&by(&team, &other, &["build"]));
    assert!(said.contains("layers from") && !said.contains("made  "), "{said}");
    let output = by(&team, &other, &["seal"]);
    assert!(output.status.success() && told(&output).contains("still sealed"), "{}", told(&output));
    // Published again, nothing is sent.
    let said = told(&by(&team, &member, &["build", "--publish"]));
    assert!(said.contains("published 0 layers") && !said.contains("steps fetched"), "{said}");
    team.assert_clean();
}

#[test]
fn a_shared_body_that_is_another_is_not_believed() {
    let team = Team::locked();
    let folder = team.dir.path().join("shared");
    let server = fetching(&team, "");
    configure(&team.home(), &format!("{}[cache]\nfolder = {:?}\n", mirror(&server), folder.to_str().unwrap()));
    let said = told(&team.run(&["build", "--publish"]));
    assert!(said.contains(" and 2 files that steps fetched to "), "{said}");
    let bodies: Vec<_> = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path()).collect();
    let bodies: Vec<_> = bodies.iter().filter(|path| path.extension().is_some_and(|end| end == "body")).collect();
    assert_eq!(bodies.len(), 2);
    for body in &bodies {
        fs::write(body, "low,9\n").unwrap();
    }
    let member = colleague(&team, "tove");
    configure(&member.join("home"), &format!("[cache]\nfolder = {:?}\n", folder.to_str().unwrap()));
    // Nor is the host there that had it.
    let output = by(&team, &member, &["build", "--fresh"]);
    let said = told(&output);
    assert!(!output.status.success() && said.contains("something else now"), "{said}");
    // The one who still has it mends what is there, once the bad ones are gone.
    bodies.iter().for_each(|body| fs::remove_file(body).unwrap());
    assert!(told(&team.run(&["build", "--publish"])).contains("2 files that steps fetched"));
    let output = by(&team, &member, &["build", "--fresh"]);
    assert!(output.status.success(), "{}", told(&output));
}
