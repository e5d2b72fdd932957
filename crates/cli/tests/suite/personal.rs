//! What a member adds to their workspaces: seen inside, and nothing of it in what was sealed.

use std::fs;
use std::process::{Command, Output};

use crate::owners::{Member, USER};
use crate::team::{Team, told};

/// A certificate as a company hands it out; nobody here proves anything with it.
const CERTIFICATE: &str = "-----BEGIN CERTIFICATE-----\nSEFSQk9VUg==\n-----END CERTIFICATE-----\n";

#[test]
fn names_certificates_and_proxies_reach_what_runs_and_leave_the_seal_alone() {
    for kind in ["root", "range", "single"] {
        if kind != "root" && !nix::unistd::Uid::effective().is_root() {
            continue;
        }
        let team = Team::new();
        team.step("mkdir -p /etc/ssl/certs; echo of the image > /etc/ssl/certs/ca-certificates.crt");
        team.change(
            "run   = \"./serve.sh\"",
            "run   = \"echo $https_proxy $GIT_AUTHOR_NAME. > /tmp/seen; exec ./serve.sh\"",
        );
        team.ok(&["lock"]);
        team.ok(&["seal", "-q"]);
        let member = (kind != "root").then(|| Member::of(&team, kind == "range"));
        let home = member.as_ref().map_or_else(|| team.home(), |member| member.dir.join("home"));
        let command = |arguments: &[&str]| -> Command {
            member.as_ref().map_or_else(|| team.command(arguments), |member| member.command(arguments))
        };
        let run = |arguments: &[&str]| -> Output { command(arguments).output().unwrap() };
        let ok = |arguments: &[&str]| {
            let output = run(arguments);
            assert!(output.status.success(), "{kind}: {arguments:?}: {}", told(&output));
            String::from_utf8(output.stdout).unwrap()
        };
        let file = team.dir.path().join("harbour.pem");
        fs::write(&file, CERTIFICATE).unwrap();
        fs::create_dir_all(&home).unwrap();
        if member.is_some() {
            std::os::unix::fs::chown(&home, Some(USER), Some(USER)).unwrap();
        }
        let config = format!(
            "[personal]\nenv = {{ EDITOR = \"vi\", SITE_PORT = \"1\" }}\ngit = {{ name = \"Tove\", email = \"tove@brindle.example\" }}\n\n\
             [network]\ncertificates = [\"{}\"]\nproxy = \"http://proxy.harbour.example:3128\"\n",
            file.display()
        );
        fs::write(home.join("config.toml"), config).unwrap();
        ok(&["start", "-q", "--wait"]);
        let inside = |script: &str| ok(&["run", "-q", "--", "sh", "-c", script]);
        assert_eq!(
            inside("echo $EDITOR/$SITE_PORT/$GIT_COMMITTER_EMAIL/$HTTPS_PROXY/$no_proxy; cat /tmp/seen"),
            "vi/8080/tove@brindle.example/http://proxy.harbour.example:3128/localhost,127.0.0.1,::1\nhttp://proxy.harbour.example:3128 .\n",
            "{kind}"
        );
        let both = format!("of the image\n{CERTIFICATE}");
        assert_eq!(inside("cat $SSL_CERT_FILE"), both, "{kind}");
        assert_eq!(inside("cat /etc/ssl/certs/ca-certificates.crt"), both, "{kind}");
        // A tool of the member's own is found, behind the team's.
        let own = "mkdir -p ~/.local/bin; for tool in quill mine; do printf '#!/bin/sh\\necho own\\n' > ~/.local/bin/$tool; chmod +x ~/.local/bin/$tool; done";
        inside(own);
        assert_eq!(inside("mine; quill --version"), "own\nquill 2.4.1\n", "{kind}");
        assert_eq!(ok(&["run", "-q", "--account", "root", "--", "sh", "-c", "echo $EDITOR."]), ".\n");
        ok(&["verify"]);
        assert!(ok(&["drift"]).contains("nothing was changed by hand"), "{kind}");
        ok(&["stop"]);
        // A mistake is told before anything is started.
        fs::write(home.join("config.toml"), "[network]\ncertificates = [\"/nowhere/ca.pem\"]\n").unwrap();
        let failed = run(&["start"]);
        assert!(!failed.status.success() && told(&failed).contains("/nowhere/ca.pem"), "{kind}: {}", told(&failed));
    }
}

/// OpenSSH's agent, as a member runs it, with one key.
struct Agent {
    process: std::process::Child,
    socket: std::path::PathBuf,
}

impl Agent {
    /// Of a member who is in the list of accounts under `etc` only, or of whoever runs the tests.
    fn of(dir: &std::path::Path, etc: Option<&std::path::Path>) -> Self {
        let (socket, key) = (dir.join("agent"), dir.join("agent-key"));
        let as_user = |program: &str| match etc {
            None => Command::new(program),
            Some(etc) => {
                let script = "mount --bind \"$0/passwd\" /etc/passwd; exec setpriv --reuid $1 --regid $1 --clear-groups \"${@:2}\"";
                let mut command = Command::new("unshare");
                command.args(["--mount", "bash", "-ec", script]).arg(etc).args([&USER.to_string(), program]);
                command
            }
        };
        let keygen = as_user("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(&key).status().unwrap();
        assert!(keygen.success());
        let process =
            as_user("ssh-agent").args(["-D", "-a"]).arg(&socket).stdout(std::process::Stdio::null()).spawn().unwrap();
        crate::running::soon("the agent listens", || socket.exists());
        let added = as_user("ssh-add").arg("-q").arg(&key).env("SSH_AUTH_SOCK", &socket).output().unwrap();
        assert!(added.status.success(), "{}", told(&added));
        Self { process, socket }
    }
}

impl Drop for Agent {
    fn drop(&mut self) {
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

#[test]
fn an_ssh_agent_signs_for_commands_inside_can_be_changed_by_none_and_its_use_is_shown() {
    let is_root = nix::unistd::Uid::effective().is_root();
    for kind in ["root", "range", "single"] {
        if kind != "root" && !is_root {
            continue;
        }
        let team = Team::locked();
        crate::crossing::helper(&team);
        let member = (kind != "root").then(|| Member::of(&team, kind == "range"));
        let (dir, home) = match &member {
            None => (team.dir.path().to_owned(), team.home()),
            Some(member) => (member.dir.clone(), member.dir.join("home")),
        };
        let agent = Agent::of(&dir, member.is_some().then(|| team.dir.path().join("etc")).as_deref());
        let socket = agent.socket.clone();
        let run = |arguments: &[&str]| -> Output {
            let mut command =
                member.as_ref().map_or_else(|| team.command(arguments), |member| member.command(arguments));
            command.env("SSH_AUTH_SOCK", &socket).output().unwrap()
        };
        // Nobody gets it who did not say so.
        run(&["start", "-q", "--wait"]);
        let without = run(&["run", "-q", "--", "./helper", "agent"]);
        assert_eq!(without.status.code(), Some(3), "{kind}: {}", told(&without));
        run(&["stop", "-q"]);
        fs::write(home.join("config.toml"), "[personal]\nssh-agent = true\n").unwrap();
        run(&["start", "-q", "--wait"]);
        let used = run(&["run", "-q", "--", "./helper", "agent"]);
        assert_eq!(
            String::from_utf8_lossy(&used.stdout),
            "12 keys: 1\n14 signed\n5 forgotten\n",
            "{kind}: {}",
            told(&used)
        );
        run(&["run", "-q", "--", "./helper", "agent"]);
        let status = told(&run(&["status"]));
        assert!(status.contains("your SSH agent signed 2 times for commands inside"), "{kind}: {status}");
        // An agent that ended is a refusal, not a wait.
        drop(agent);
        let gone = run(&["run", "-q", "--", "./helper", "agent"]);
        assert!(String::from_utf8_lossy(&gone.stdout).starts_with("5 keys"), "{kind}: {}", told(&gone));
        run(&["stop", "-q"]);
    }
}
