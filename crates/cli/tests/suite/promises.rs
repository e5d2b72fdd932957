//! Promises about what is outside, each tried as somebody would break it.

use std::fs;
use std::os::unix::fs::{PermissionsExt as _, symlink};
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use crate::team::{Team, copy, told};

fn mode(path: &Path) -> u32 {
    fs::symlink_metadata(path).unwrap().permissions().mode() & 0o7777
}

/// A clone with a folder that looks like a bare repository, whose configuration names a program.
#[test]
fn no_command_runs_what_a_clone_s_repository_names() {
    let team = Team::locked();
    let ran = team.dir.path().join("ran");
    let script = r#"
        g() { git -c user.name=a -c user.email=a@b.example -c init.defaultBranch=main "$@" >/dev/null 2>&1; }
        mkdir "$0"; cd "$0"
        g init R; cd R; mkdir sub keep; echo a >sub/f; echo b >keep/g; cp "$1"/cavrith.toml "$1"/cavrith.lock .
        g add -A; g commit -qm x; g sparse-checkout init --cone --sparse-index; g sparse-checkout set keep
        t=$(git rev-parse HEAD:sub); rm -f .git/objects/${t:0:2}/${t:2} .git/config.worktree
        printf '%s\n' '[core]' repositoryformatversion=1 bare=false worktree=. sparseCheckout=true \
            sparseCheckoutCone=true fsmonitor="touch $2" hooksPath=hooks '[index]' sparse=true '[extensions]' \
            partialClone=evil '[remote "evil"]' url=. promisor=true uploadpack="touch $2; false" \
            '[filter "evil"]' smudge="touch $2" clean="touch $2" > .git/config
        mkdir -p ../plain/proj ../link/proj
        for to in plain link; do cp cavrith.toml cavrith.lock ../$to/proj; done
        cp -r .git/HEAD .git/objects .git/refs .git/index .git/config .git/info ../plain/proj
        cp -r .git ../real; echo "gitdir: ../../real" > ../link/proj/.git
    "#;
    let ground = team.dir.path().join("ground");
    let made = Command::new("bash").args(["-c", script]).args([&ground, &team.project(), &ran]).output().unwrap();
    assert!(ground.join("link/proj/.git").exists(), "{}", told(&made));
    copy(&team.dir.path().join("depot"), &ground.join("depot"));
    for project in ["R", "plain/proj", "link/proj"] {
        let project = ground.join(project);
        for command in [
            &["check"][..],
            &["lock"],
            &["lock", "--outdated"],
            &["show"],
            &["status"],
            &["editor", "add", "brindle.quill-syntax"],
        ] {
            let mut command = team.command(command);
            let output =
                command.current_dir(&project).env("GIT_DIR", ".").env("PATH", "/usr/bin:/bin:.").output().unwrap();
            assert!(!ran.exists(), "{}: {}", project.display(), told(&output));
        }
    }
    // What is tracked is still told: by the index, which a stranger may write, and nothing else.
    let output = team.command(&["check"]).current_dir(ground.join("R")).output().unwrap();
    assert!(!told(&output).contains("is not tracked"), "{}", told(&output));
}

#[test]
fn a_leftover_of_another_process_never_becomes_the_file() {
    let team = Team::locked();
    let project = team.project();
    let lock = fs::read_to_string(project.join("cavrith.lock")).unwrap();
    fs::remove_file(project.join("cavrith.lock")).unwrap();
    // The names that an earlier version gave, for every process that may come.
    for process in std::process::id()..std::process::id() + 600 {
        for number in 0..2 {
            fs::write(project.join(format!(".cavrith.lock.{process}-{number}.new")), "STALE").unwrap();
        }
    }
    team.ok(&["lock"]);
    assert_eq!(fs::read_to_string(project.join("cavrith.lock")).unwrap(), lock);
    // A lock that is a link, which a clone may have brought, is read and never written through.
    let real = team.dir.path().join("real.lock");
    fs::rename(project.join("cavrith.lock"), &real).unwrap();
    fs::set_permissions(&real, fs::Permissions::from_mode(0o640)).unwrap();
    symlink(&real, project.join("cavrith.lock")).unwrap();
    let output = team.run(&["seal"]);
    assert_eq!(output.status.code(), Some(3));
    assert!(told(&output).contains("it is a link"), "{}", told(&output));
    assert!(project.join("cavrith.lock").symlink_metadata().unwrap().is_symlink());
    assert_eq!(mode(&real), 0o640);
    assert_eq!(fs::read_to_string(&real).unwrap(), lock);
}

#[test]
fn sweeping_goes_into_no_mount_whatever_it_is_called() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    let team = Team::locked();
    let home = team.dir.path().join("ho me, and\ta tab");
    let dead = home.join("store/staging/dead");
    fs::create_dir_all(dead.join("mnt")).unwrap();
    fs::write(dead.join("held"), "").unwrap();
    fs::create_dir(team.dir.path().join("data")).unwrap();
    fs::write(team.dir.path().join("data/precious"), "precious").unwrap();
    let script = "mount --bind \"$1/data\" \"$2/mnt\"; touch -d '1 hour ago' \"$2\"; CAVRITH_HOME=\"$3\" \"$0\" build -q; CAVRITH_HOME=\"$3\" \"$0\" build --fresh -q; umount \"$2/mnt\"";
    let output = Command::new("unshare")
        .args(["--mount", "bash", "-ec", script, crate::team::PROGRAM])
        .args([team.dir.path(), &dead, &home])
        .current_dir(team.project())
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", told(&output));
    assert_eq!(fs::read_to_string(team.dir.path().join("data/precious")).unwrap(), "precious");
}

#[test]
fn what_was_made_by_hand_is_set_aside_and_told() {
    let team = Team::locked();
    team.ok(&["start", "-q"]);
    let by_hand = |text: &str| {
        team.ok(&["run", "-q", "--account", "root", "--", "sh", "-c", &format!("echo {text} > /srv/notes")]);
    };
    by_hand("first");
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    fs::write(&path, format!("{spec}\n[[steps]]\nname = \"n\"\nat = \"build\"\nrun = \"echo 1 > /srv/n\"\n")).unwrap();
    team.ok(&["lock"]);
    let said = told(&team.run(&["apply", "--fresh"]));
    assert!(said.contains("is kept for 30 days in"), "{said}");
    let place = |said: &str| {
        let line = said.lines().find(|line| line.contains("is kept for 30 days in")).unwrap();
        Path::new(line.rsplit(" in ").next().unwrap().trim()).join("srv/notes")
    };
    assert_eq!(fs::read_to_string(place(&said)).unwrap(), "first\n");
    // It comes back as is said.
    team.ok(&["copy", "in", place(&said).to_str().unwrap(), "/srv/back", "--account", "root"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/back"]), "first\n");
    by_hand("second");
    let said = told(&team.run(&["drop", "--yes", "--quiet"]));
    assert_eq!(fs::read_to_string(place(&said)).unwrap(), "second\n", "{said}");
}

#[test]
fn a_build_step_reaches_no_node_of_the_machine_and_leaves_no_program_that_others_can_run() {
    let team = Team::locked();
    let seen = |path: &str| {
        let meta = fs::metadata(path).unwrap();
        (
            std::os::unix::fs::MetadataExt::ctime(&meta),
            std::os::unix::fs::MetadataExt::ctime_nsec(&meta),
            meta.permissions().mode(),
        )
    };
    let before = ["/dev/null", "/dev/full", "/dev/zero"].map(seen);
    std::thread::sleep(Duration::from_millis(20));
    team.step(
        "for n in null full zero; do chmod 0600 /dev/$n || true; chown 7 /dev/$n || true; done; echo x > /dev/null",
    );
    team.step("cp /bin/busybox /srv/e; chown 1000:1000 /srv/e; chmod 4755 /srv/e");
    fs::create_dir_all(team.home()).unwrap();
    fs::set_permissions(team.home(), fs::Permissions::from_mode(0o777)).unwrap();
    team.ok(&["lock"]);
    team.ok(&["build", "-q"]);
    assert_eq!(["/dev/null", "/dev/full", "/dev/zero"].map(seen), before);
    assert_eq!(mode(&team.in_store("srv/e")) & 0o4000, 0o4000);
    assert_eq!(mode(&team.home().join("store")), 0o700);
    // Somebody opened it; the next command closes it.
    fs::set_permissions(team.home().join("store"), fs::Permissions::from_mode(0o755)).unwrap();
    team.ok(&["build", "-q"]);
    assert_eq!(mode(&team.home().join("store")), 0o700);
}

#[test]
fn no_umask_opens_what_is_the_members_or_closes_what_is_the_inside_s() {
    let team = Team::locked();
    team.add("[[folders]]\nmode = \"kept\"\nname = \"data\"\ninside = \"/srv/data\"\n");
    team.ok(&["lock"]);
    for umask in ["000", "077"] {
        let script = format!("umask {umask}; exec \"$0\" start -q");
        let output = Command::new("sh")
            .args(["-c", &script, crate::team::PROGRAM])
            .current_dir(team.project())
            .env("CAVRITH_HOME", team.home())
            .output()
            .unwrap();
        assert!(output.status.success(), "{}", told(&output));
        for name in ["store", "workspaces", "kept"] {
            let entries = fs::read_dir(team.home().join(name)).unwrap().map(|entry| entry.unwrap().path());
            let open = if name == "store" { vec![team.home().join(name)] } else { entries.collect() };
            assert!(open.iter().all(|path| mode(path) == 0o700), "umask {umask}: {open:?}");
        }
        assert_eq!(team.ok(&["run", "-q", "--", "stat", "-c", "%a", "/etc/hosts"]), "644\n");
        team.ok(&["stop", "-q"]);
    }
}

#[test]
fn nothing_that_a_terminal_obeys_comes_out_of_a_step_or_a_name() {
    let team = Team::locked();
    team.add("[[steps]]\nname = \"e\"\nat = \"build\"\nrun = '''printf '\\033]0;owned\\007 \\302\\2332J \\342\\200\\256x\\n' '''\n");
    team.ok(&["lock"]);
    let output = team.run(&["-v", "--color", "always", "build"]);
    let said = told(&output);
    assert!(
        said.contains("\\u001b]0;owned\\u0007") && said.contains("\\u009b2J") && said.contains("\\u202ex"),
        "{said}"
    );
    assert!(!said.contains("\u{1b}]") && !said.contains('\u{9b}') && !said.contains('\u{202e}'), "{said}");
    // A disk that is full is not a success either.
    for command in [&["schema"][..], &["check", "--json"], &["explain"]] {
        let full = fs::File::options().write(true).open("/dev/full").unwrap();
        let status = team.command(command).stdout(full).stderr(std::process::Stdio::null()).status().unwrap();
        assert_eq!(status.code(), Some(3), "{command:?}");
    }
}

#[test]
fn a_folder_that_is_not_there_is_wrong_use_and_touches_nothing() {
    let team = Team::locked();
    team.ok(&["start", "-q"]);
    for command in [&["stop", "-q"][..], &["drop", "--yes"], &["status"], &["run", "--", "true"], &["lock"], &["apply"]]
    {
        let mut arguments = command.to_vec();
        arguments.splice(0..0, ["-C", "nosuchtypo"]);
        assert!(team.fails(&arguments, 2).contains("nosuchtypo cannot be used as the project's folder"));
    }
    assert_eq!(team.json(&["status", "--json"])["standing"], "running");
    symlink("timetable", team.dir.path().join("ida/link")).unwrap();
    for path in ["../timetable", "../timetable/", "./", "../link", "../../ida/./timetable/pages/.."] {
        if !team.project().join(path).exists() {
            continue;
        }
        assert_eq!(team.json(&["-C", path, "status", "--json"])["standing"], "running", "{path}");
    }
}

#[test]
fn files_are_read_and_written_only_as_they_were_opened() {
    let team = Team::locked();
    let file = team.dir.path().join("in");
    fs::write(&file, "precious\n").unwrap();
    let root = |script: &str, stdin: fs::File| {
        let mut command = team.command(&["run", "-q", "--account", "root", "--", "sh", "-c", script]);
        command.stdin(stdin).output().unwrap()
    };
    let output = root("cat; echo pwned > /proc/self/fd/0", fs::File::open(&file).unwrap());
    assert_eq!(String::from_utf8_lossy(&output.stdout), "precious\n");
    assert_eq!(fs::read_to_string(&file).unwrap(), "precious\n");
    let output = root("touch /proc/self/fd/0/evil; true", fs::File::open(team.dir.path()).unwrap());
    assert!(told(&output).contains("is a directory"), "{}", told(&output));
    // A loop that reads the same file goes on where the command stopped reading.
    let list: String = (0..3000).map(|number| format!("line {number}\n")).collect();
    fs::write(&file, &list).unwrap();
    let script =
        "read a; \"$0\" run -q -- head -n 1 >/dev/null; \"$0\" run -q -- true; read b; echo $a, $b; cat | wc -l";
    let output = Command::new("bash")
        .args(["-c", script, crate::team::PROGRAM])
        .stdin(fs::File::open(&file).unwrap())
        .current_dir(team.project())
        .env("CAVRITH_HOME", team.home())
        .output()
        .unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    let (first, rest) = said.split_once('\n').unwrap();
    assert!(first.starts_with("line 0, "), "{said}");
    // `head` reads ahead as it likes; of what it left, nothing is lost.
    assert!(rest.trim().parse::<u32>().unwrap() > 1000, "{said}");
    // What goes into one file stays in order, all of it, also when something stays behind in the background.
    let log = fs::File::create(team.dir.path().join("log")).unwrap();
    let script = "i=0; while [ $i -lt 2000 ]; do echo out $i; echo err $i >&2; i=$((i+1)); done; sleep 300 & exit 7";
    let mut command = team.command(&["run", "-q", "--", "sh", "-c", script]);
    let status = command.stdout(log.try_clone().unwrap()).stderr(log).status().unwrap();
    assert_eq!(status.code(), Some(7));
    let wanted: String = (0..2000).map(|number| format!("out {number}\nerr {number}\n")).collect();
    assert_eq!(fs::read_to_string(team.dir.path().join("log")).unwrap(), wanted);
}

#[test]
fn a_first_spec_shows_nothing_that_a_link_leads_to_outside() {
    let team = Team::new();
    fs::remove_file(team.project().join("cavrith.toml")).unwrap();
    fs::write(team.dir.path().join("precious"), "7.31\n").unwrap();
    for name in [".python-version", ".node-version", ".ruby-version"] {
        symlink(team.dir.path().join("precious"), team.project().join(name)).unwrap();
    }
    let said = told(&team.run(&["init"]));
    assert!(!said.contains("7.31"), "{said}");
    assert!(!fs::read_to_string(team.project().join("cavrith.toml")).unwrap().contains("7.31"));
    assert!(team.fails(&["init", "-C", "nosuch"], 2).contains("cannot be used as the project's folder"));
}

#[test]
fn what_is_asked_for_stands_on_one_line_whatever_it_is_called() {
    let team = Team::locked();
    fs::create_dir(team.dir.path().join("ida/out\nand is harmless")).unwrap();
    team.add("[[folders]]\noutside = \"../out\\nand is harmless\"\ninside = \"/seen\"\n");
    let said = team.fails(&["build"], 2);
    assert!(said.contains("--allow-outside") && said.contains("out\\nand is harmless"), "{said}");
    assert!(!said.contains("\nand is harmless"), "{said}");
}
