use std::fs;

use crate::registry::{Fault, Registry, digest};
use crate::team::Team;

fn reference(registry: &Registry, tag: &str) -> String {
    format!("{}/brindle/timetable:{tag}", registry.host)
}

#[test]
fn an_image_is_pushed_with_what_belongs_to_it_and_only_what_changed_goes_again() {
    let team = Team::sealed();
    let registry = Registry::new();
    let first = team.json(&["push", &reference(&registry, "1"), "--json"]);
    let layers = first["layers"].as_array().unwrap();
    assert!(layers.iter().all(|layer| layer["how"] == "sent"), "{first}");
    assert_eq!((&first["sealed"], &first["attachments"]), (&true.into(), &3.into()));
    let manifest = registry.manifest("brindle/timetable", "1");
    assert_eq!(manifest["layers"].as_array().unwrap().len(), layers.len());
    assert_eq!(manifest["annotations"]["cavrith.image"], first["image"]);
    // The same as an export has.
    let out = team.dir.path().join("image");
    team.ok(&["export", "oci", out.to_str().unwrap()]);
    let index: serde_json::Value = serde_json::from_slice(&fs::read(out.join("index.json")).unwrap()).unwrap();
    assert_eq!(index["manifests"][0]["digest"], first["manifest"]);
    // This registry lists nothing by itself, so a tag does.
    let tag = first["manifest"].as_str().unwrap().replace(':', "-");
    let referrers = registry.manifest("brindle/timetable", &tag);
    let kinds: Vec<_> =
        referrers["manifests"].as_array().unwrap().iter().map(|one| one["artifactType"].as_str().unwrap()).collect();
    assert_eq!(
        kinds,
        ["application/spdx+json", "application/vnd.cavrith.seal.v1+json", "application/vnd.in-toto+json"]
    );
    for listed in referrers["manifests"].as_array().unwrap() {
        let artifact = registry.manifest("brindle/timetable", listed["digest"].as_str().unwrap());
        assert_eq!(artifact["subject"]["digest"], first["manifest"]);
        let document = registry.blob(&artifact["layers"][0]["digest"]);
        let document: serde_json::Value = serde_json::from_slice(&document).unwrap();
        let is_provenance = document["predicateType"] == "https://slsa.dev/provenance/v1";
        assert!(
            document["spdxVersion"] == "SPDX-2.3" || document["image"] == first["image"] || is_provenance,
            "{document}"
        );
        if is_provenance {
            let sha256 = first["manifest"].as_str().unwrap().trim_start_matches("sha256:");
            assert_eq!(document["subject"][0]["digest"]["sha256"], sha256);
            let build = &document["predicate"]["buildDefinition"];
            assert_eq!(build["internalParameters"]["sealed"]["image"], first["image"]);
            assert!(build["internalParameters"]["sealed"]["built-again-under"].as_array().unwrap().len() >= 5);
            let materials = build["resolvedDependencies"].as_array().unwrap();
            let quill = materials.iter().find(|one| one["name"] == "quill").unwrap();
            assert_eq!(quill["digest"]["sha256"].as_str().unwrap().len(), 64);
        }
    }

    // Again: nothing is sent. One step more: one layer is.
    registry.requests();
    assert!(team.ok(&["push", &reference(&registry, "1")]).contains("0 layers of 0 B sent"));
    assert!(!registry.requests().iter().any(|request| request.starts_with("PATCH")));
    team.step("echo 7 > /srv/seven");
    team.ok(&["lock"]);
    let second = team.json(&["push", &reference(&registry, "2"), "--json"]);
    let sent: Vec<_> = second["layers"].as_array().unwrap().iter().filter(|layer| layer["how"] == "sent").collect();
    assert_eq!(sent.len(), 1, "{second}");
    assert_eq!(sent[0]["name"], "step \"step 2\"");
    assert_eq!(second["sealed"], false);
    team.assert_clean();
}

#[test]
fn a_registry_that_breaks_off_is_busy_or_forgets_gets_all_of_it_all_the_same() {
    let team = Team::locked();
    team.step("head -c 3000000 /dev/zero | tr '\\\\0' 'x' > /srv/large; dd if=/bin/busybox of=/srv/copy bs=1k count=700 2> /dev/null");
    team.ok(&["lock"]);
    let registry = Registry::new();
    registry.state.lock().unwrap().lists_referrers = true;
    for fault in [
        ("POST", Fault::Status(503, "")),
        ("POST", Fault::Status(429, "retry-after: 1\r\n")),
        ("PATCH", Fault::Breaks(1000)),
        ("PATCH", Fault::Status(500, "")),
        ("PATCH", Fault::Breaks(0)),
        ("PUT", Fault::Status(502, "")),
        ("HEAD", Fault::Status(500, "")),
    ] {
        registry.fault(fault.0, fault.1);
    }
    let answer = team.json(&["push", &reference(&registry, "1"), "--json"]);
    assert!(registry.faults_are_over());
    let manifest = registry.manifest("brindle/timetable", "1");
    for layer in manifest["layers"].as_array().unwrap() {
        assert_eq!(layer["digest"], digest(&registry.blob(&layer["digest"])));
    }
    assert_eq!(answer["attachments"], 2);
    // What refers to the image is listed by the registry, so there is no tag for it.
    let state = registry.state.lock().unwrap();
    assert!(state.manifests.keys().all(|(_, which)| !which.starts_with("sha256-")));
    drop(state);
    team.assert_clean();
}

#[test]
fn who_we_are_is_shown_to_the_registry_and_what_it_refuses_is_told() {
    let team = Team::locked();
    let registry = Registry::new();
    registry.guard("spring tide");
    let told = team.fails(&["push", &reference(&registry, "1")], 4);
    assert!(told.contains("no token is given to a stranger"), "{told}");
    let config = team.home().join("config.toml");
    let write = |password: &str| {
        fs::write(
            &config,
            format!(
                "[registries.\"{}\"]\nuser = \"ida\"\npassword-command = [\"echo\", \"{password}\"]\n",
                registry.host
            ),
        )
        .unwrap();
    };
    write("high water");
    let told = team.fails(&["push", &reference(&registry, "1")], 4);
    assert!(told.contains("no token is given to ida"), "{told}");
    write("low water");
    team.ok(&["push", &reference(&registry, "1")]);
    assert!(registry.state.lock().unwrap().manifests.contains_key(&("brindle/timetable".to_owned(), "1".to_owned())));
    registry.fault("POST", Fault::Status(404, ""));
    team.step("true > /srv/x");
    team.ok(&["lock"]);
    let told = team.fails(&["push", &reference(&registry, "2")], 4);
    assert!(told.contains("failed[CF0304]") && told.contains("404"), "{told}");
    let told = team.fails(&["push", "timetable"], 2);
    assert!(told.contains("failed[CF0802]") && told.contains("it names no registry"), "{told}");
    let output = team.command(&["push", &reference(&registry, "2")]).env("CAVRITH_OFFLINE", "1").output().unwrap();
    assert!(
        !output.status.success() && crate::team::told(&output).contains("CAVRITH_OFFLINE"),
        "{}",
        crate::team::told(&output)
    );
    team.assert_clean();
}

/// A registry that sends us elsewhere gets nobody's name there, and one that answers without an end is given up.
#[test]
fn a_hostile_registry_learns_nothing_and_holds_nobody_up() {
    let team = Team::locked();
    let (registry, other) = (Registry::new(), Registry::new());
    registry.guard("spring tide");
    fs::write(
        team.home().join("config.toml"),
        format!("[registries.\"{}\"]\nuser = \"ida\"\npassword = \"low water\"\n", registry.host),
    )
    .unwrap();
    team.ok(&["push", &reference(&registry, "1")]);
    assert!(!registry.state.lock().unwrap().shown.is_empty());
    team.step("echo 7 > /srv/seven");
    team.ok(&["lock"]);
    (0..8).for_each(|_| {
        registry.fault("POST", Fault::Elsewhere(format!("http://{}/v2/brindle/timetable/blobs/uploads/x", other.host)));
    });
    let told = team.fails(&["push", &reference(&registry, "2")], 4);
    assert!(told.contains("failed[CF0304]"), "{told}");
    assert!(!other.requests().is_empty() && other.state.lock().unwrap().shown.is_empty());
    // Endless answers: to the question who we are, to a push, to what is there.
    for method in ["HEAD", "POST", "PUT"] {
        let registry = Registry::new();
        (0..8).for_each(|_| registry.fault(method, Fault::Endless));
        let started = std::time::Instant::now();
        let output = team.run(&["push", &reference(&registry, "3")]);
        assert!(started.elapsed().as_secs() < 60, "{method}: {}", crate::team::told(&output));
    }
    team.assert_clean();
}

#[test]
fn layers_that_another_image_has_are_taken_from_there_and_several_architectures_share_a_tag() {
    let team = Team::locked();
    let registry = Registry::new();
    team.ok(&["push", &reference(&registry, "1")]);
    registry.requests();
    // Another image of the same registry: nothing is sent, and nothing packed.
    let other = format!("{}/brindle/release:1", registry.host);
    let answer = team.json(&["push", &other, "--json"]);
    let layers = answer["layers"].as_array().unwrap();
    assert!(layers.iter().all(|layer| layer["how"] == "mounted"), "{answer}");
    let log = registry.requests();
    assert!(log.iter().any(|line| line == "mounted from brindle/timetable"), "{log:?}");
    let small = registry.manifest("brindle/release", "1")["config"]["size"].as_u64().unwrap();
    assert!(small < 4096 && log.iter().filter(|line| line.starts_with("PATCH")).count() <= 4, "{log:?}");
    // A registry that forgot the first image gets the layers.
    registry.state.lock().unwrap().forget("brindle/timetable");
    registry.state.lock().unwrap().forget("brindle/release");
    let answer = team.json(&["push", &format!("{}/brindle/third:1", registry.host), "--json"]);
    assert!(answer["layers"].as_array().unwrap().iter().all(|layer| layer["how"] == "sent"), "{answer}");

    // One tag for several architectures. The other machine's image stood there alone, and then in an index.
    team.ok(&["push", &reference(&registry, "all")]);
    registry.state.lock().unwrap().now_for("brindle/timetable", "all", "riscv64");
    let joined = team.json(&["push", "--index", &reference(&registry, "all"), "--json"]);
    team.ok(&["push", "--index", &reference(&registry, "all")]);
    let index = registry.manifest("brindle/timetable", "all");
    assert_eq!(index["mediaType"], "application/vnd.oci.image.index.v1+json");
    let platforms: Vec<_> = index["manifests"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["platform"]["architecture"].as_str().unwrap())
        .collect();
    assert_eq!(platforms, ["amd64", "riscv64"], "{index}");
    assert_eq!(index["manifests"][0]["digest"], joined["manifest"]);
    team.assert_clean();
}
