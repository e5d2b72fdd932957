//! Who may sign: the team's history, signed seals, forged ones, keys of every kind, and what OpenSSH says of it all.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use serde_json::Value;

use crate::team::{Team, told};

/// A project whose people have keys. Each works on the same folder, with a home of their own.
pub struct Signers {
    pub team: Team,
    agent: Option<(Child, PathBuf)>,
}

impl Drop for Signers {
    fn drop(&mut self) {
        for who in ["ida", "tove", "eve"] {
            if self.home(who).join("cavrith/workspaces").is_dir() {
                let _ = self.command(who, &["stop", "-q"]).output();
            }
        }
        if let Some((agent, _)) = &mut self.agent {
            let _ = agent.kill();
            let _ = agent.wait();
        }
    }
}

impl Signers {
    /// Ida leads, Tove is a member; nothing is signed yet.
    pub fn new() -> Self {
        let signers = Self { team: Team::locked(), agent: None };
        for name in ["ida", "tove", "eve", "ci"] {
            signers.key(name, "id_ed25519", &["-t", "ed25519"]);
        }
        signers.write_team(&[("ida", "\"lead\", \"member\""), ("tove", "\"member\"")]);
        signers
    }

    /// The same, signed and sealed by Ida.
    fn sealed() -> Self {
        let signers = Self::new();
        signers.ok("ida", &["team", "sign"]);
        signers.ok("ida", &["seal", "--sign"]);
        signers
    }

    fn home(&self, who: &str) -> PathBuf {
        self.team.dir.path().join("people").join(who)
    }

    fn key_file(&self, who: &str, name: &str) -> PathBuf {
        self.home(who).join(".ssh").join(name)
    }

    fn key(&self, who: &str, name: &str, options: &[&str]) -> PathBuf {
        let path = self.key_file(who, name);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        let mut command = Command::new("ssh-keygen");
        command.args(["-q", "-C", who, "-f"]).arg(&path).args(options);
        if !options.contains(&"-N") {
            command.args(["-N", ""]);
        }
        let output = command.output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        path
    }

    fn public(&self, who: &str, name: &str) -> String {
        fs::read_to_string(self.key_file(who, name).with_extension("pub")).unwrap().trim().to_owned()
    }

    /// Replaces the spec's team.
    fn write_team(&self, people: &[(&str, &str)]) {
        let people: Vec<_> =
            people.iter().map(|(name, roles)| (*name, *roles, self.public(name, "id_ed25519"))).collect();
        self.write_keys(&people);
    }

    pub fn write_keys(&self, people: &[(&str, &str, String)]) {
        let path = self.spec();
        let text = fs::read_to_string(&path).unwrap();
        let mut text = text.split("\n[team.").next().unwrap().to_owned();
        for (name, roles, key) in people {
            text.push_str(&format!("\n[team.people.{name}]\nroles = [{roles}]\nkeys = [\"{key}\"]\n"));
        }
        fs::write(path, text).unwrap();
    }

    pub fn spec(&self) -> PathBuf {
        self.team.project().join("cavrith.toml")
    }

    pub fn command(&self, who: &str, arguments: &[&str]) -> Command {
        let mut command = self.team.command(arguments);
        // What a member remembers is their own.
        command.env("HOME", self.home(who)).env("CAVRITH_HOME", self.home(who).join("cavrith"));
        command.env_remove("SSH_AUTH_SOCK");
        if let Some((_, socket)) = &self.agent {
            command.env("SSH_AUTH_SOCK", socket);
        }
        command
    }

    fn ok(&self, who: &str, arguments: &[&str]) -> String {
        let output = self.command(who, arguments).output().unwrap();
        assert!(output.status.success(), "{who}: cavrith {arguments:?}: {}", told(&output));
        format!("{}{}", String::from_utf8_lossy(&output.stdout), String::from_utf8_lossy(&output.stderr))
    }

    fn fails(&self, who: &str, arguments: &[&str], code: i32) -> String {
        let output = self.command(who, arguments).output().unwrap();
        assert_eq!(output.status.code(), Some(code), "{who}: cavrith {arguments:?}: {}", told(&output));
        told(&output)
    }

    fn json(&self, who: &str, arguments: &[&str]) -> Value {
        let output = self.command(who, arguments).output().unwrap();
        serde_json::from_slice(&output.stdout).unwrap_or_else(|error| panic!("{error}: {}", told(&output)))
    }

    fn read(&self, name: &str) -> String {
        fs::read_to_string(self.team.project().join(name)).unwrap()
    }

    /// Replaces a text in a file of the project. The lock's own sum is made right, as somebody who means harm would.
    fn forge(&self, name: &str, old: &str, new: &str) {
        let text = self.read(name);
        assert!(text.contains(old), "{old} is not in {name}");
        let mut text = text.replacen(old, new, 1);
        if name == "cavrith.lock" {
            let body: String =
                text.lines().filter(|line| !line.starts_with('#')).map(|line| format!("{line}\n")).collect();
            let sum = format!("# sum {}", &blake3::hash(body.as_bytes()).to_hex()[..32]);
            let lines: Vec<_> = text.lines().map(|line| if line.starts_with("# sum ") { &sum } else { line }).collect();
            text = format!("{}\n", lines.join("\n"));
        }
        fs::write(self.team.project().join(name), text).unwrap();
    }

    /// The signature aspect of a verdict.
    fn signature(&self, who: &str) -> Value {
        let verdict = self.json(who, &["verify", "--json"]);
        let aspects = verdict["aspects"].as_array().unwrap_or_else(|| panic!("{verdict}"));
        aspects.iter().find(|aspect| aspect["name"] == "signature").cloned().unwrap_or_default()
    }
}

#[test]
fn a_lead_signs_team_and_seal_and_everybody_is_told_who() {
    let signers = Signers::new();
    let check = signers.ok("ida", &["check"]);
    assert!(check.contains("CV0221") && check.contains("a lead runs cavrith team sign"), "{check}");
    // Nothing can be sealed for a team that nobody signed.
    let told = signers.fails("ida", &["seal", "--sign"], 2);
    assert!(told.contains("cavrith team sign first"), "{told}");
    let signed = signers.ok("ida", &["team", "sign"]);
    assert!(signed.contains("ida joined as lead and member") && signed.contains("tove joined as member"), "{signed}");
    assert!(signers.fails("ida", &["team", "sign"], 2).contains("signed as it is"));
    let sealed = signers.ok("ida", &["seal", "--sign"]);
    assert!(sealed.contains("signed by ida SHA256:"), "{sealed}");
    // Sealing the same again needs no key, and keeps the signature.
    let lock = signers.read("cavrith.lock");
    assert!(signers.ok("tove", &["seal"]).contains("still sealed"));
    assert_eq!(signers.read("cavrith.lock"), lock);
    assert!(signers.ok("tove", &["check"]).contains("signed by ida"));
    assert_eq!(signers.json("tove", &["check", "--json"])["seal"]["signed"]["by"], "ida");
    assert_eq!(signers.signature("tove")["standing"], "same");
    let team = signers.json("tove", &["team", "--json"]);
    assert_eq!(team["people"]["tove"]["roles"][0], "member");
    assert_eq!(team["seal"]["by"], "ida");
    // Who is in the team is no part of what is built.
    assert!(signers.ok("ida", &["build"]).contains("nothing to do"));
    signers.team.assert_clean();
}

#[test]
fn a_member_can_neither_seal_nor_change_the_team() {
    let signers = Signers::sealed();
    let told = signers.fails("tove", &["seal", "--sign"], 3);
    assert!(told.contains("none of your keys may sign this") && told.contains("those who may are ida"), "{told}");
    let key = signers.key_file("tove", "id_ed25519");
    let told = signers.fails("tove", &["seal", "--sign", "--key", key.to_str().unwrap()], 3);
    assert!(told.contains("SHA256:") && told.contains("those who may are ida"), "{told}");
    signers.write_team(&[("ida", "\"lead\", \"member\""), ("tove", "\"lead\", \"member\"")]);
    let told = signers.fails("tove", &["team", "sign"], 3);
    assert!(told.contains("those who may are ida"), "{told}");
    let check = signers.fails("tove", &["check"], 1);
    assert!(check.contains("CV0221") && check.contains("tove is lead and member now"), "{check}");
    assert!(signers.fails("tove", &["team"], 1).contains("tove is lead and member now"));
    // It counts for nothing, and takes nothing from what counts.
    assert_eq!(signers.signature("tove")["standing"], "same");
    // Once Ida has signed it, Tove seals, and Ida may go.
    signers.ok("ida", &["team", "sign"]);
    signers.write_team(&[("tove", "\"lead\", \"member\"")]);
    assert!(signers.ok("tove", &["team", "sign"]).contains("ida left"));
    let told = signers.fails("tove", &["build"], 4);
    assert!(told.contains("nobody in the team has"), "{told}");
    assert!(signers.ok("tove", &["seal", "--sign"]).contains("signed by tove"));
    signers.ok("tove", &["build"]);
    let changes = signers.json("tove", &["team", "--json"])["changes"].clone();
    let by: Vec<_> = changes.as_array().unwrap().iter().map(|change| change["by"].as_str().unwrap()).collect();
    assert_eq!(by, ["ida", "ida", "tove"]);
}

#[test]
fn what_was_forged_is_refused_by_every_command_that_uses_the_seal() {
    let signers = Signers::sealed();
    // Another answer of a probe. The sum of the lock is made right, and the parts of the seal fit each other.
    let lock = signers.read("cavrith.lock");
    let probe = lock.split("[[seal.probes]]").nth(1).unwrap().split("[[").next().unwrap();
    signers.forge("cavrith.lock", probe, &probe.replace("0.9.3", "9.9.9"));
    let commands: [&[&str]; 6] = [
        &["build"],
        &["start", "--wait"],
        &["run", "true"],
        &["contents"],
        &["export", "root", "x.tar"],
        &["pack", "p.parcel"],
    ];
    for command in commands {
        let told = signers.fails("tove", command, 4);
        assert!(told.contains("CF0901") && told.contains("what it was made for was changed"), "{command:?}: {told}");
    }
    let check = signers.fails("tove", &["check"], 1);
    assert!(check.contains("CV0224"), "{check}");
    assert_eq!(signers.signature("tove")["differences"][0]["expected"], "signed by a lead of the team");
    // A lead puts it right with one command.
    signers.ok("ida", &["seal", "--sign"]);
    signers.ok("tove", &["build"]);
    signers.team.assert_clean();
}

#[test]
fn a_signature_taken_out_is_no_seal_of_the_team() {
    let signers = Signers::sealed();
    let lock = signers.read("cavrith.lock");
    let begin = lock.find("[seal.signature]").unwrap();
    signers.forge("cavrith.lock", &format!("\n{}", lock[begin..].split("\n[").next().unwrap()), "");
    assert!(signers.ok("tove", &["check"]).contains("CV0225"));
    signers.fails("tove", &["verify"], 1);
    // Builds of one's own go on, with nothing taken from others.
    signers.ok("tove", &["build"]);
    // The whole team taken out with it: this machine has seen one.
    fs::remove_file(signers.team.project().join("cavrith.team")).unwrap();
    signers.write_keys(&[]);
    let signature = signers.signature("tove");
    assert_eq!(signature["standing"], "not-measured", "{signature}");
    // Who never saw it cannot know.
    assert_eq!(signers.signature("eve"), Value::Null);
}

#[test]
fn a_past_that_was_exchanged_is_noticed_and_an_older_one_is_not_forged() {
    let signers = Signers::sealed();
    signers.ok("tove", &["team"]);
    signers.ok("tove", &["build"]);
    let first = (signers.read("cavrith.team"), signers.read("cavrith.lock"), signers.read("cavrith.toml"));
    // Eve begins a team of her own, in Ida's name.
    fs::remove_file(signers.team.project().join("cavrith.team")).unwrap();
    signers.write_keys(&[("ida", "\"lead\"", signers.public("eve", "id_ed25519"))]);
    signers.ok("eve", &["team", "sign"]);
    signers.ok("eve", &["seal", "--sign"]);
    let told = signers.fails("tove", &["build"], 4);
    assert!(told.contains("the team's past was exchanged"), "{told}");
    assert!(signers.fails("tove", &["check"], 1).contains("CV0222"));
    // Unless that is meant.
    assert!(signers.ok("tove", &["team", "forget"]).contains("forgotten"));
    signers.ok("tove", &["build"]);
    signers.ok("tove", &["team", "forget"]);
    // Back to Ida's, then one change more, then last year's revision again.
    let put = |(team, lock, spec): &(String, String, String)| {
        for (name, text) in [("cavrith.team", team), ("cavrith.lock", lock), ("cavrith.toml", spec)] {
            fs::write(signers.team.project().join(name), text).unwrap();
        }
    };
    put(&first);
    signers.write_team(&[("ida", "\"lead\""), ("tove", "\"lead\"")]);
    signers.ok("ida", &["team", "sign"]);
    assert!(signers.ok("tove", &["check"]).contains("signed by ida"));
    put(&first);
    let signature = signers.signature("tove");
    assert_eq!(signature["measured"], "ida, by change 1 of the team of 2 known here");
}

#[test]
fn openssh_accepts_the_signatures_of_keys_of_all_kinds() {
    let kinds: [(&str, &[&str]); 6] = [
        ("ed", &["-t", "ed25519"]),
        ("ec256", &["-t", "ecdsa", "-b", "256"]),
        ("ec384", &["-t", "ecdsa", "-b", "384"]),
        ("ec521", &["-t", "ecdsa", "-b", "521"]),
        ("rsa", &["-t", "rsa", "-b", "3072"]),
        ("old", &["-t", "rsa", "-b", "2048", "-m", "PEM"]),
    ];
    let mut signers = Signers::new();
    let proof = signers.team.dir.path().join("proof");
    let accepted = |signers: &Signers, name: &str| {
        signers.ok("ida", &["team", "proof", proof.to_str().unwrap()]);
        let mut command = Command::new("ssh-keygen");
        command.args(["-Y", "verify", "-f"]).arg(proof.join("signers")).args(["-I", "ida", "-n", "cavrith-seal", "-s"]);
        command.arg(proof.join("seal.json.sig")).stdin(fs::File::open(proof.join("seal.json")).unwrap());
        let output = command.output().unwrap();
        assert!(output.status.success(), "{name}: {}", told(&output));
    };
    let began = |signers: &Signers, key: &Path| {
        let _ = fs::remove_file(signers.team.project().join("cavrith.team"));
        signers.ok("ida", &["team", "forget"]);
        let public = fs::read_to_string(key.with_extension("pub")).unwrap();
        signers.write_keys(&[("ida", "\"lead\"", public.trim().to_owned())]);
    };
    // From files, of which OpenSSH itself has to read some.
    for (name, options) in &kinds {
        let key = signers.key("ida", name, options);
        began(&signers, &key);
        signers.ok("ida", &["team", "sign", "--key", key.to_str().unwrap()]);
        signers.ok("ida", &["seal", "--sign", "--key", key.to_str().unwrap()]);
        accepted(&signers, name);
    }
    // From an agent, without a word about which.
    let socket = signers.team.dir.path().join("agent");
    let mut agent = Command::new("ssh-agent");
    agent.args(["-D", "-a"]).arg(&socket).stdout(Stdio::null()).stderr(Stdio::null());
    signers.agent = Some((agent.spawn().unwrap(), socket.clone()));
    while !socket.exists() {
        std::thread::sleep(std::time::Duration::from_millis(10));
    }
    for (name, _) in kinds {
        let key = signers.key_file("ida", name);
        let added = Command::new("ssh-add").arg("-q").arg(&key).env("SSH_AUTH_SOCK", &socket).output().unwrap();
        assert!(added.status.success(), "{}", crate::team::told(&added));
        // The agent alone has it.
        fs::rename(&key, key.with_extension("away")).unwrap();
        began(&signers, &key);
        signers.ok("ida", &["team", "sign"]);
        signers.ok("ida", &["seal", "--sign"]);
        accepted(&signers, name);
    }
}

#[test]
fn keys_that_cannot_sign_are_told_with_what_to_do() {
    let signers = Signers::new();
    let encrypted = signers.key("ida", "locked", &["-t", "ed25519", "-N", "harbour"]);
    signers.write_keys(&[("ida", "\"lead\"", signers.public("ida", "locked"))]);
    let at = encrypted.to_str().unwrap();
    let told = signers.fails("ida", &["team", "sign", "--key", at], 2);
    assert!(told.contains("encrypted") && told.contains("SSH agent"), "{told}");
    let told = signers.fails("ida", &["team", "sign"], 3);
    assert!(told.contains("there is no SSH agent, ~/.ssh has 1 key"), "{told}");
    let told = signers.fails("ida", &["team", "sign", "--key", "nowhere"], 2);
    assert!(told.contains("nowhere"), "{told}");
    let told = signers.fails("ida", &["team", "sign", "--key", "cavrith.toml"], 2);
    assert!(told.contains("not an OpenSSH public key"), "{told}");
    // A project without a team.
    signers.write_keys(&[]);
    for command in [&["team"][..], &["team", "sign"], &["seal", "--sign"]] {
        let told = signers.fails("ida", command, 2);
        assert!(told.contains("cavrith explain team"), "{told}");
    }
}

#[test]
fn a_team_may_stand_in_a_file_of_allowed_signers() {
    let signers = Signers::new();
    signers.write_keys(&[]);
    let project = signers.team.project();
    fs::create_dir(project.join("team")).unwrap();
    let line =
        |name: &str, options: &str| format!("{name}@brindle.example {options}{}\n", signers.public(name, "id_ed25519"));
    let lead = "namespaces=\"cavrith-seal,cavrith-team\" ";
    fs::write(project.join("team/signers"), line("ida", lead) + &line("tove", "namespaces=\"cavrith-report\" "))
        .unwrap();
    let spec = fs::read_to_string(signers.spec()).unwrap();
    fs::write(signers.spec(), format!("{spec}\n[team]\nsigners = \"team/signers\"\n")).unwrap();
    signers.ok("ida", &["team", "sign"]);
    assert!(signers.ok("ida", &["seal", "--sign"]).contains("signed by ida@brindle.example"));
    // A change of the file is one of the team.
    fs::write(project.join("team/signers"), line("ida", lead) + &line("eve", "")).unwrap();
    let check = signers.fails("tove", &["check"], 1);
    assert!(check.contains("eve@brindle.example joined") && check.contains("tove@brindle.example left"), "{check}");
    fs::write(
        project.join("team/signers"),
        format!("# people\n*@brindle.example {}\n", signers.public("eve", "id_ed25519")),
    )
    .unwrap();
    let check = signers.fails("tove", &["check"], 1);
    assert!(check.contains("CV0223") && check.contains("line 2") && check.contains("pattern"), "{check}");
}

#[test]
fn a_team_goes_with_a_parcel_and_holds_what_it_brings() {
    let signers = Signers::sealed();
    let parcel = signers.team.dir.path().join("timetable.parcel");
    let path = parcel.to_str().unwrap();
    signers.ok("ida", &["pack", path]);
    let there = signers.team.dir.path().join("there");
    fs::create_dir(&there).unwrap();
    let join = |name: &str| {
        let mut command = signers.command("tove", &["join", path, name, "--yes", "--json"]);
        command.current_dir(&there).env("CAVRITH_HOME", there.join("home")).output().unwrap()
    };
    let output = join("timetable");
    assert!(output.status.success(), "{}", told(&output));
    assert!(there.join("timetable/cavrith.team").is_file());
    let mut stop = signers.command("tove", &["stop", "-q"]);
    stop.current_dir(there.join("timetable")).env("CAVRITH_HOME", there.join("home"));
    let stopped = stop.output().unwrap();
    assert!(stopped.status.success(), "{}", told(&stopped));
}

#[test]
fn a_publisher_vouches_for_layers_that_nobody_has_sealed_yet() {
    let signers = Signers::new();
    let team = [("ida", "\"lead\""), ("tove", "\"member\""), ("ci", "\"publisher\"")];
    signers.write_team(&team);
    signers.ok("ida", &["team", "sign"]);
    for registry in [false, true] {
        let served = registry.then(crate::registry::Registry::new);
        let folder = signers.team.dir.path().join("layers");
        let place = match &served {
            Some(served) => format!("registry = \"{}/brindle/timetable\"", served.host),
            None => format!("folder = \"{}\"", folder.display()),
        };
        let anew = |who: &str| {
            let home = signers.home(who).join("cavrith");
            let _ = fs::remove_dir_all(&home);
            fs::create_dir_all(&home).unwrap();
            fs::write(home.join("config.toml"), format!("[cache]\n{place}\n")).unwrap();
        };
        for who in ["ci", "tove", "ida"] {
            anew(who);
        }
        // Neither a member nor a lead may.
        for who in ["tove", "ida"] {
            let told = signers.fails(who, &["build", "--publish", "--vouch"], 3);
            assert!(told.contains("those who may are ci"), "{told}");
            anew(who);
        }
        assert!(signers.ok("ci", &["build", "--publish", "--vouch"]).contains("vouched for it as ci"));
        // Tove has no depot, and builds nothing.
        let (depot, away) = (signers.team.dir.path().join("depot"), signers.team.dir.path().join("away"));
        fs::rename(&depot, &away).unwrap();
        let told = signers.ok("tove", &["build"]);
        assert!(told.contains("on ci's word") && !told.contains("made  "), "{told}");
        fs::rename(&away, &depot).unwrap();
        // A team that no longer lets it.
        if registry {
            anew("tove");
            signers.write_team(&[("ida", "\"lead\""), ("tove", "\"member\""), ("ci", "\"member\"")]);
            signers.ok("ida", &["team", "sign"]);
            let told = signers.ok("tove", &["build"]);
            assert!(told.contains("signed by ci, who is no publisher") && told.contains("made  "), "{told}");
            continue;
        }
        let voucher = fs::read_dir(&folder).unwrap().map(|entry| entry.unwrap().path());
        let voucher =
            voucher.into_iter().find(|path| path.extension().is_some_and(|ending| ending == "voucher")).unwrap();
        let good = fs::read_to_string(&voucher).unwrap();
        let value: Value = serde_json::from_str(&good).unwrap();
        let tree = |number: usize| value["layers"][number]["tree"].as_str().unwrap();
        // Layers exchanged, a layer left out, another image, none at all: all is built here.
        let forged = [
            good.replacen(tree(0), "X", 1).replacen(tree(1), tree(0), 1).replace("\"X\"", &format!("\"{}\"", tree(1))),
            good.replace(value["image-key"].as_str().unwrap(), &"0".repeat(64)),
            good.replace("\"signature\":\"", "\"signature\":\"AAAA"),
            "{}".to_owned(),
            String::new(),
        ];
        for text in forged {
            assert_ne!(text, good);
            fs::write(&voucher, text).unwrap();
            anew("tove");
            let told = signers.ok("tove", &["build"]);
            assert!(told.contains("nothing is taken on a publisher's word") && told.contains("made  "), "{told}");
        }
    }
}

#[test]
fn a_publisher_signs_where_a_pushed_image_comes_from() {
    let signers = Signers::sealed();
    let registry = crate::registry::Registry::new();
    let reference = format!("{}/brindle/timetable:1", registry.host);
    signers.write_team(&[("ida", "\"lead\""), ("tove", "\"member\""), ("ci", "\"publisher\"")]);
    signers.ok("ida", &["team", "sign"]);
    let told = signers.fails("ida", &["push", &reference, "--sign"], 3);
    assert!(told.contains("those who may are ci"), "{told}");
    // With a publisher in the team, nobody else pushes in its name without saying so.
    let told = signers.fails("ida", &["push", &reference], 2);
    assert!(told.contains("those who may are ci") && told.contains("--unsigned"), "{told}");
    assert!(registry.state.lock().unwrap().manifests.is_empty());
    let unsigned = signers.json("ida", &["push", &format!("{reference}-trial"), "--unsigned", "--json"]);
    assert_eq!(unsigned["signed"], Value::Null);
    let pushed = signers.json("ci", &["push", &reference, "--json"]);
    assert_eq!(pushed["signed"], "ci");
    let tag = pushed["manifest"].as_str().unwrap().replace(':', "-");
    let referrers = registry.manifest("brindle/timetable", &tag);
    let listed = referrers["manifests"].as_array().unwrap().iter();
    let envelope = listed.clone().find(|one| one["artifactType"] == "application/vnd.dsse.envelope.v1+json").unwrap();
    let artifact = registry.manifest("brindle/timetable", envelope["digest"].as_str().unwrap());
    let envelope: Value = serde_json::from_slice(&registry.blob(&artifact["layers"][0]["digest"])).unwrap();
    // OpenSSH says the same of it.
    let payload =
        base64::Engine::decode(&base64::engine::general_purpose::STANDARD, envelope["payload"].as_str().unwrap())
            .unwrap();
    let statement: Value = serde_json::from_slice(&payload).unwrap();
    assert_eq!(statement["predicate"]["buildDefinition"]["internalParameters"]["sealed"]["signed-by"], "ida");
    let dir = signers.team.dir.path().join("checked");
    fs::create_dir(&dir).unwrap();
    let kind = "application/vnd.in-toto+json";
    let signed = [format!("DSSEv1 {} {kind} {} ", kind.len(), payload.len()).into_bytes(), payload].concat();
    fs::write(dir.join("signed"), signed).unwrap();
    let letters: Vec<char> = envelope["signatures"][0]["sig"].as_str().unwrap().chars().collect();
    let lines: Vec<String> = letters.chunks(70).map(|line| line.iter().collect()).collect();
    let armoured = format!("-----BEGIN SSH SIGNATURE-----\n{}\n-----END SSH SIGNATURE-----\n", lines.join("\n"));
    fs::write(dir.join("signature"), armoured).unwrap();
    fs::write(dir.join("signers"), format!("ci namespaces=\"cavrith-image\" {}\n", signers.public("ci", "id_ed25519")))
        .unwrap();
    let mut command = Command::new("ssh-keygen");
    command.args(["-Y", "verify", "-I", "ci", "-n", "cavrith-image", "-f"]).arg(dir.join("signers")).arg("-s");
    command.arg(dir.join("signature")).stdin(fs::File::open(dir.join("signed")).unwrap());
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", crate::team::told(&output));
}
