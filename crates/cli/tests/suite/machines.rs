//! Machines that are not as most are: the same comes out, or it is said what is missing.

use std::fs;
use std::process::{Command, Output};

use crate::team::{PROGRAM, Team, told};

/// Runs commands of a shell in a mount namespace of their own, in the project, as root or with a root of its own. `$C`
/// is the program.
fn apart(team: &Team, script: &str) -> Output {
    let mut command = Command::new("unshare");
    if !nix::unistd::Uid::effective().is_root() {
        command.args(["--user", "--map-root-user"]);
    }
    command.args(["--mount", "bash", "-euc", script]).current_dir(team.project());
    command.env("C", PROGRAM).env("DIR", team.dir.path()).env("CAVRITH_HOME", team.dir.path().join("m/home"));
    command.output().unwrap()
}

fn step_changes(team: &Team) {
    team.step("mkdir -p /srv/a/b /srv/c; echo 1 > /srv/a/b/f; echo 2 > /srv/c/g; echo 3 > /srv/h; ln /srv/h /srv/i; ln -s h /srv/j; mkfifo /srv/k; chown 7:8 /srv/c /srv/c/g");
    team.step("rm -r /srv/a; mkdir /srv/a; echo new > /srv/a/only; rm /srv/c/g; mv /srv/j /srv/l; chmod 4750 /srv/i; rm -r /opt/gauge/0.9.3/bin || true; echo x > /srv/c/g2");
    team.step("rm -r /srv/c; echo file > /srv/c; touch -d @1 /srv/h; mv /srv/a /srv/z");
}

#[test]
fn without_an_overlay_the_layers_are_copied_and_it_is_said() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    let team = Team::new();
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    // A toolchain whose programs are gone could not be asked for its version.
    fs::write(&path, spec.replace("gauge   = { version = \"0.9.3\" }\n", "")).unwrap();
    step_changes(&team);
    team.ok(&["lock"]);
    team.ok(&["seal"]);
    // An overlay cannot be the upper directory of another one.
    let script = "cd $DIR; mkdir l u w m; mount -t overlay overlay -o lowerdir=l,upperdir=u,workdir=w m; cd - > /dev/null; $C build; $C verify; $C run -q -- sh -c 'echo kept > ~/kept'; $C run -q -- cat /home/crew/kept; $C store check";
    let output = apart(&team, script);
    let said = told(&output);
    assert!(output.status.success(), "{said}");
    assert!(said.contains("note the layers are copied, which takes time and room"), "{said}");
    assert!(
        said.contains("the same as sealed") && said.contains("kept\n") && said.contains("as it was made"),
        "{said}"
    );
}

#[test]
fn without_an_overlay_the_home_goes_along_from_image_to_image_and_back() {
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    let team = Team::locked();
    let of_image = |text: &str| {
        format!(
            "mkdir /home/crew/.lamp; echo {text} > /home/crew/.lamp/a; echo team > /home/crew/.lamp/b; ln -s a /home/crew/.lamp/l; chown -R 1000:1000 /home/crew/.lamp"
        )
    };
    team.step(&of_image("one"));
    team.ok(&["lock"]);
    let script = "cd $DIR; mkdir l u w m; mount -t overlay overlay -o lowerdir=l,upperdir=u,workdir=w m; cd - > /dev/null
        look() { $C run -q -- sh -c 'cd; cat .history .lamp/a .lamp/b .lamp/own 2>/dev/null; ls -A . .lamp; stat -c %U . .history'; }
        $C run -q -- sh -c 'echo tides > ~/.history; echo own > ~/.lamp/own; echo mine > ~/.lamp/b'; $C stop -q
        cp cavrith.toml one.toml; sed -i 's/echo one >/echo two >/' cavrith.toml; $C lock -q; look; $C stop -q; echo ---
        $C run -q -- sh -c 'echo more >> ~/.history; rm ~/.lamp/own'; $C stop -q; cp one.toml cavrith.toml; $C lock -q; look; $C stop -q; echo ---
        $C drop --yes -q; look; $C stop -q";
    let output = apart(&team, script);
    assert!(output.status.success(), "{}", told(&output));
    let said = String::from_utf8(output.stdout.clone()).unwrap();
    let parts: Vec<_> = said.split("---\n").collect();
    let listed = |own: &str| format!(".:\n.history\n.lamp\n\n.lamp:\na\nb\nl\n{own}crew\ncrew\n");
    assert_eq!(parts[0], format!("tides\ntwo\nmine\nown\n{}", listed("own\n")), "{}", told(&output));
    assert_eq!(parts[1], format!("tides\nmore\none\nmine\n{}", listed("")));
    // What the image puts there is its own after a drop.
    assert_eq!(parts[2], format!("tides\nmore\none\nteam\n{}", listed("")));
}

#[test]
fn a_store_in_memory_on_a_mount_that_runs_nothing_and_is_closed_to_others() {
    let team = Team::locked();
    step_changes(&team);
    team.change("quill   = \"2.4\"", "quill = \"2.4\"");
    let path = team.project().join("cavrith.toml");
    let spec = fs::read_to_string(&path).unwrap();
    fs::write(&path, spec.replace("rm -r /opt/gauge/0.9.3/bin || true; ", "")).unwrap();
    let expected = team.build();
    if !nix::unistd::Uid::effective().is_root() {
        return;
    }
    let script = "mkdir $DIR/m; mount -t tmpfs -o noexec,nosuid,nodev,mode=700 tmpfs $DIR/m; umask 077; $C build --json; $C run -q -- quill --version";
    let output = apart(&team, script);
    let said = told(&output);
    assert!(output.status.success() && said.contains(&expected) && said.contains("quill 2.4.1"), "{said}");
}

#[test]
fn no_home_a_foreign_locale_and_a_closed_environment() {
    let team = Team::locked();
    let expected = team.build();
    let output = Command::new(PROGRAM).arg("build").current_dir(team.project()).env_clear().output().unwrap();
    assert_eq!(output.status.code(), Some(3));
    assert!(told(&output).contains("set HOME or CAVRITH_HOME"), "{}", told(&output));
    for locale in ["C", "de_DE.ISO-8859-1", "nonsense"] {
        let mut command = Command::new(PROGRAM);
        command.args(["build", "--fresh", "--json"]).current_dir(team.project()).env_clear();
        command.env("LC_ALL", locale).env("HOME", team.dir.path()).env("TZ", "Antarctica/Troll");
        let output = command.output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        assert!(told(&output).contains(&expected));
    }
    // A home whose name is not a text.
    let perturbed = std::os::unix::ffi::OsStringExt::from_vec(b"h\xf6me".to_vec());
    let perturbed: std::ffi::OsString = perturbed;
    let output =
        team.command(&["build", "--json"]).env("CAVRITH_HOME", team.dir.path().join(perturbed)).output().unwrap();
    assert!(output.status.success() && told(&output).contains(&expected), "{}", told(&output));
}
