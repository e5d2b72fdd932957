//! What a member adds to an image: layers under and over it, apart from what was sealed.

use std::fs;
use std::path::Path;
use std::process::Command;

use crate::owners::Someone;
use crate::team::{Team, told};

/// A depot of the member's own, with a toolchain and an extension.
fn own_depot(who: &Someone) -> String {
    let depot = who.dir().join("own");
    let made = who.dir().join("made");
    fs::create_dir_all(made.join("tidewatch/bin")).unwrap();
    let program = made.join("tidewatch/bin/tidewatch");
    fs::write(&program, "#!/bin/sh\necho tidewatch 1.3\n").unwrap();
    fs::set_permissions(&program, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    fs::create_dir_all(made.join("dusk/extension")).unwrap();
    let manifest = "{\"publisher\": \"tove\", \"name\": \"dusk\", \"version\": \"2.0.1\"}";
    fs::write(made.join("dusk/extension/package.json"), manifest).unwrap();
    fs::write(made.join("dusk/extension/theme.json"), "{}").unwrap();
    let pack = |archive: &str, dir: &str, what: &str| {
        let archive = made.join(archive);
        let status = Command::new("tar").arg("-czf").arg(&archive).arg("-C").arg(made.join(dir)).arg(what).status();
        assert!(status.unwrap().success());
        archive.display().to_string()
    };
    let (tool, theme) = (pack("tidewatch.tar.gz", "tidewatch", "bin"), pack("dusk.tar.gz", "dusk", "extension"));
    let at = depot.display().to_string();
    who.ok(&["depot", "new", &at]);
    who.ok(&["depot", "add", &at, &tool, "--name", "tidewatch", "--release", "1.3"]);
    who.ok(&["depot", "add", &at, &theme]);
    at
}

#[test]
fn toolchains_extensions_and_settings_lie_apart_from_the_image_and_the_team_s_count_first() {
    let make = || {
        let team = Team::locked();
        team.add("[personal]\nenv = [\"EDITOR\"]\nsettings = [\"colours\"]\nfiles = [\"/home/crew/.shared\"]");
        team.change("[env]", "[env]\nEDITOR = \"ed\"");
        team.change("\"ruler\" = 120", "\"ruler\" = 120, \"colours\" = \"day\"");
        team.step("echo team > /home/crew/.shared; echo team > /home/crew/.other; chown 1000:1000 /home/crew/.shared /home/crew/.other");
        team.ok(&["lock"]);
        team.ok(&["seal", "-q"]);
        let build = team.dir.path().join("tide");
        fs::create_dir_all(build.join("DEBIAN")).unwrap();
        fs::create_dir_all(build.join("usr/share/tide")).unwrap();
        fs::write(build.join("usr/share/tide/table"), "6\n").unwrap();
        let control = "Package: tide\nVersion: 1.0\nArchitecture: all\nMaintainer: Brindle Ferry <crew@brindle.example>\nDescription: tides\n";
        fs::write(build.join("DEBIAN/control"), control).unwrap();
        crate::kinds::added(&team, &build);
        team
    };
    for who in Someone::each(make) {
        let kind = who.kind;
        let depot = own_depot(&who);
        let sealed = fs::read(who.project().join("cavrith.lock")).unwrap();
        let dots = who.dir().join("dots");
        fs::create_dir_all(&dots).unwrap();
        [".shared", ".other"].iter().for_each(|name| fs::write(dots.join(name), "mine\n").unwrap());
        let config = format!(
            "[personal]\ndepots = [\"{depot}\"]\npackages = [\"tide\", \"busybox-static\"]\ntoolchains = {{ tidewatch = \"1\", quill = \"2.3\" }}\n\
             extensions = {{ \"tove.dusk\" = \"2\" }}\nsettings = {{ colours = \"dusk\", ruler = 80, own = true }}\n\
             env = {{ EDITOR = \"vi\", SITE_PORT = \"1\" }}\n[personal.dotfiles]\nfrom = \"{}\"\n",
            dots.display()
        );
        who.configure(&config);
        who.ok(&["start", "-q", "--wait"]);
        let inside = |script: &str| who.ok(&["run", "-q", "--", "sh", "-c", script]);
        assert_eq!(
            inside(
                "cat /usr/share/tide/table; tidewatch; quill --version; echo $EDITOR $SITE_PORT; cat ~/.shared ~/.other"
            ),
            "6\ntidewatch 1.3\nquill 2.4.1\nvi 8080\nmine\nteam\n",
            "{kind}"
        );
        let settings = inside("cat /etc/lantern/settings.json; ls /opt/lantern-extensions");
        for there in ["\"colours\": \"dusk\"", "\"ruler\": 120", "\"own\": true", "tove.dusk"] {
            assert!(settings.contains(there), "{kind}: {settings}");
        }
        let status = who.ok(&["status"]);
        for there in ["toolchain tidewatch 1.3", "extension tove.dusk 2.0.1", "your toolchain quill does not count"] {
            assert!(status.contains(there), "{kind}: {status}");
        }
        for there in ["your setting ruler does not count", "your variable SITE_PORT does not count", "~/.other"] {
            assert!(status.contains(there), "{kind}: {status}");
        }
        assert!(!status.contains("EDITOR") && !status.contains(".shared"), "{kind}: {status}");
        let verdict = who.ok(&["verify"]);
        assert!(
            verdict.contains("personal, does not count: package tide 1.0, toolchain tidewatch 1.3"),
            "{kind}: {verdict}"
        );
        assert!(who.ok(&["drift"]).contains("nothing was changed by hand"), "{kind}");
        // A changed spec that takes a restart does not take it away.
        let spec = fs::read_to_string(who.project().join("cavrith.toml")).unwrap();
        fs::write(
            who.project().join("cavrith.toml"),
            spec.replace("[env]", "[env]\nTIDE = \"low\"")
                .replace("run   = \"./serve.sh\"", "run   = \"sleep 1; ./serve.sh\""),
        )
        .unwrap();
        who.ok(&["lock", "-q"]);
        who.ok(&["apply", "-q"]);
        assert_eq!(inside("echo $TIDE; tidewatch"), "low\ntidewatch 1.3\n", "{kind}");
        fs::write(
            who.project().join("cavrith.toml"),
            spec.replace("name = \"frame the site\"", "name = \"frame it\"")
                .replace("run  = \"quill frame /srv/site\"", "run  = \"quill frame /srv/site; echo x > /srv/x\""),
        )
        .unwrap();
        who.ok(&["lock", "-q"]);
        who.ok(&["apply", "-q"]);
        assert_eq!(inside("cat /srv/x; tidewatch"), "x\ntidewatch 1.3\n", "{kind}");
        fs::write(who.project().join("cavrith.toml"), &spec).unwrap();
        fs::write(who.project().join("cavrith.lock"), &sealed).unwrap();
        // What was chosen stays, also where nothing can be asked any more.
        who.ok(&["stop", "-q"]);
        fs::rename(&depot, format!("{depot}-away")).unwrap();
        who.ok(&["start", "-q", "--wait"]);
        assert_eq!(inside("tidewatch"), "tidewatch 1.3\n", "{kind}");
        who.ok(&["stop", "-q"]);
        // What cannot be had is told, and the workspace starts; without any of it, it is as it was.
        who.configure("[personal]\ntoolchains = { tidewatch = \"7\" }\npackages = [\"swell\"]\n");
        who.ok(&["start", "-q", "--wait"]);
        let status = who.ok(&["status"]);
        assert!(status.contains("tidewatch") && status.contains("has no package `swell`"), "{kind}: {status}");
        who.ok(&["stop", "-q"]);
        who.configure("");
        who.ok(&["start", "-q", "--wait"]);
        let bare = inside("cat ~/.shared /etc/lantern/settings.json; ls /opt/lantern-extensions /opt; echo $EDITOR");
        assert!(bare.starts_with("team\n") && bare.contains("\"colours\": \"day\""), "{kind}: {bare}");
        assert!(!bare.contains("dusk") && !bare.contains("tidewatch") && bare.ends_with("ed\n"), "{kind}: {bare}");
        who.ok(&["verify"]);
        who.ok(&["stop", "-q"]);
    }
}

#[test]
fn a_file_that_a_member_may_replace_stays_when_somebody_changed_it_by_hand() {
    let team = Team::locked();
    team.add("[personal]\nfiles = [\"/home/crew/.shared\"]");
    team.step("echo team > /home/crew/.shared; chown 1000:1000 /home/crew/.shared");
    team.ok(&["lock"]);
    team.ok(&["run", "-q", "--", "sh", "-c", "echo by hand > ~/.shared"]);
    team.ok(&["stop", "-q"]);
    let dots = team.dir.path().join("dots");
    fs::create_dir(&dots).unwrap();
    fs::write(dots.join(".shared"), "mine\n").unwrap();
    fs::write(team.home().join("config.toml"), format!("[personal.dotfiles]\nfrom = \"{}\"\n", dots.display()))
        .unwrap();
    team.ok(&["start", "-q", "--wait"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "cat ~/.shared"]), "by hand\n");
    assert!(team.ok(&["status"]).contains("your dotfiles lack ~/.shared"));
    team.ok(&["stop", "-q"]);
}

#[test]
fn caches_are_shared_between_workspaces_that_name_them_and_with_nobody_else() {
    let make = || {
        let team = Team::locked();
        team.step("mkdir /home/crew/.lamp; echo team > /home/crew/.lamp/a; chown -R 1000:1000 /home/crew/.lamp");
        team.ok(&["lock"]);
        team
    };
    for who in Someone::each(make) {
        let kind = who.kind;
        let other = who.project().with_file_name("other");
        crate::team::copy(&who.project(), &other);
        who.give(&other);
        who.configure("[personal]\ncaches = [\"~/.cache/pip\", \"~/.npm/_cacache\", \"~/.lamp\"]\n");
        let inside = |dir: &Path, script: &str| {
            who.ok(&["-C", &dir.display().to_string(), "run", "-q", "--", "sh", "-c", script])
        };
        assert_eq!(
            inside(&who.project(), "echo wheel > ~/.cache/pip/w; stat -c %U ~/.cache ~/.cache/pip; cat ~/.lamp/a"),
            "crew\ncrew\nteam\n",
            "{kind}"
        );
        assert_eq!(
            inside(&other, "cat ~/.cache/pip/w; echo more >> ~/.cache/pip/w; ls ~/.lamp"),
            "wheel\na\n",
            "{kind}"
        );
        assert_eq!(inside(&who.project(), "cat ~/.cache/pip/w"), "wheel\nmore\n", "{kind}");
        let status = who.ok(&["status"]);
        assert!(status.contains("~/.lamp is not shared with your other workspaces: the image has"), "{kind}: {status}");
        // In use, so it stays; listed with what it is.
        let listed = who.ok(&["store", "list"]);
        assert!(listed.contains("a cache of homes, ~/.cache/pip"), "{kind}: {listed}");
        assert!(who.ok(&["drift"]).contains("nothing was changed by hand"), "{kind}");
        for dir in [&who.project(), &other] {
            who.ok(&["-C", &dir.display().to_string(), "stop", "-q"]);
        }
        // Whoever does not name it has a home of their own, and nothing of it is lost.
        who.configure("");
        assert_eq!(inside(&other, "ls ~/.cache/pip | wc -l"), "0\n", "{kind}");
        who.ok(&["-C", &other.display().to_string(), "stop", "-q"]);
        who.configure("[personal]\ncaches = [\"~/.cache/pip\"]\n");
        assert_eq!(inside(&other, "cat ~/.cache/pip/w"), "wheel\nmore\n", "{kind}");
        who.ok(&["-C", &other.display().to_string(), "stop", "-q"]);
        for (caches, why) in [
            ("[\"/var/cache\"]", "a folder of the home"),
            ("[\"~/..\"]", "a folder of the home"),
            ("[\"~/a\", \"~/a/b\"]", "lies in ~/a"),
        ] {
            who.configure(&format!("[personal]\ncaches = {caches}\n"));
            let failed = who.run(&["start"]);
            assert!(!failed.status.success() && told(&failed).contains(why), "{kind}: {}", told(&failed));
        }
    }
}

/// Makes the shell at a terminal, with what is typed into it, and gives what it shows.
fn typed(who: &Someone, keys: &str) -> String {
    let program = who.command(&["enter", "-q"]);
    let mut whole = vec![program.get_program().to_owned()];
    whole.extend(program.get_args().map(std::ffi::OsStr::to_owned));
    let quoted = whole.iter().map(|word| format!("'{}'", word.to_string_lossy().replace('\'', "'\\''")));
    let mut command = Command::new("script");
    command.args(["-qec", &quoted.collect::<Vec<_>>().join(" "), "/dev/null"]);
    command.current_dir(who.project()).stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    for (name, value) in program.get_envs() {
        command.env(name, value.unwrap_or_default());
    }
    command.env("TERM", "dumb");
    let mut child = command.spawn().unwrap();
    let mut input = child.stdin.take().unwrap();
    for line in keys.lines() {
        // As fast as somebody types: a shell that has just begun throws away what came too early.
        std::thread::sleep(std::time::Duration::from_millis(1500));
        std::io::Write::write_all(&mut input, format!("{line}\n").as_bytes()).unwrap();
    }
    let output = child.wait_with_output().unwrap();
    String::from_utf8_lossy(&output.stdout).into_owned()
}

#[test]
#[ignore = "needs a mirror of the Debian archive"]
fn online_packages_of_a_member_lie_over_a_sealed_image_and_their_shells_know_the_aliases() {
    let make = || {
        let team = Team::new();
        let spec = "spec = 1\n\n[workspace]\nname = \"notices\"\n\n[base]\ndebian   = \"trixie\"\npackages = [\"passwd\", \"vim-tiny\", \"ruby\"]\n\n[personal]\nfiles = [\"/etc/alternatives/editor\"]\n";
        fs::write(team.project().join("cavrith.toml"), spec).unwrap();
        team.ok(&["lock", "-q"]);
        team.ok(&["seal", "-q"]);
        team
    };
    for who in Someone::each(make) {
        let kind = who.kind;
        let config = |shell: &str, packages: &str| {
            format!(
                "[personal]\npackages = [{packages}]\nshell = \"{shell}\"\naliases = {{ tide = \"echo low '$HOME' water\" }}\n"
            )
        };
        let all = "\"ripgrep\", \"nano\", \"zsh\", \"fish\", \"openssh-server\"";
        who.configure(&config("zsh", all));
        who.ok(&["start", "-q", "--wait"]);
        let inside = |script: &str| who.ok(&["run", "-q", "--", "sh", "-c", script]);
        let seen = inside(
            "rg --version | head -1; dpkg-query -W -f '${Status}\\n' ripgrep passwd; readlink /etc/alternatives/editor /etc/alternatives/vi; grep -c sshd /etc/passwd",
        );
        assert!(
            seen.starts_with("ripgrep ") && seen.contains("install ok installed\ninstall ok installed\n"),
            "{kind}: {seen}"
        );
        assert!(seen.ends_with("/bin/nano\n/usr/bin/vim.tiny\n1\n"), "{kind}: {seen}");
        let status = who.ok(&["status"]);
        assert!(status.contains("package ripgrep ") && status.contains("with "), "{kind}: {status}");
        let verdict = who.ok(&["verify"]);
        assert!(verdict.contains("personal, does not count: package"), "{kind}: {verdict}");
        assert!(who.ok(&["drift"]).contains("nothing was changed by hand"), "{kind}");
        for (shell, proof) in [("zsh", "print -r $ZSH_VERSION"), ("fish", "echo $version")] {
            who.configure(&config(shell, all));
            who.ok(&["restart", "-q", "--wait"]);
            let shown = typed(&who, &format!("tide\n{proof} =\nexit"));
            assert!(shown.contains("low $HOME water") && !shown.contains("rror"), "{kind} {shell}: {shown}");
        }
        // A gem of their own is found, behind the team's programs.
        inside(
            "mkdir -p /tmp/g/bin; cd /tmp/g; printf '#!/usr/bin/env ruby\\nputs \"high\"\\n' > bin/tideline; chmod +x bin/tideline; printf 'Gem::Specification.new { |s| s.name=\"tideline\"; s.version=\"1.0\"; s.summary=\"x\"; s.authors=[\"x\"]; s.files=[\"bin/tideline\"]; s.executables=[\"tideline\"] }' > t.gemspec; gem build -q t.gemspec; gem install -q --local --user-install tideline-1.0.gem",
        );
        assert_eq!(inside("tideline"), "high\n", "{kind}");
        // Something installed by hand beside them is drift, and they are none.
        who.ok(&[
            "run",
            "-q",
            "--account",
            "root",
            "--",
            "sh",
            "-c",
            "apt-get update -q >/dev/null; apt-get install -y -q jq >/dev/null",
        ]);
        let drift = who.run(&["drift", "--json"]);
        let drift = String::from_utf8(drift.stdout).unwrap();
        assert!(drift.contains("\"jq\"") && !drift.contains("ripgrep"), "{kind}: {drift}");
        who.ok(&["stop", "-q"]);
        // What the team has otherwise is no choice of a member's.
        who.configure(&config("zsh", "\"ripgrep (>= 99)\""));
        let told = told(&who.run(&["lock", "--personal"]));
        assert!(told.contains("your packages are not there") && told.contains("ripgrep"), "{kind}: {told}");
        who.configure(&config("zsh", "\"ripgrep\""));
        assert!(who.ok(&["lock", "--personal", "--update"]).contains("package ripgrep"), "{kind}");
    }
}
