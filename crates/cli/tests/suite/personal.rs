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
        team.step("mkdir -p /etc/ssl/certs/java; cd /etc/ssl/certs; echo of the image > ca-certificates.crt; echo x > java/cacerts");
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
        // In the form that Java reads, with the certificate in it.
        let store =
            inside("head -c 4 /etc/ssl/certs/java/cacerts | od -An -tx1; grep -c HARBOUR /etc/ssl/certs/java/cacerts");
        assert_eq!(store.split_whitespace().collect::<Vec<_>>().join(" "), "fe ed fe ed 1", "{kind}");
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

#[test]
fn dotfiles_aliases_and_a_path_are_there_change_and_go_and_what_was_sealed_stays() {
    for who in crate::owners::Someone::each(Team::sealed) {
        let kind = who.kind;
        let dots = who.dir().join("dots");
        let put = |name: &str, text: &str| {
            let path = dots.join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        put(".lamprc", "bright\n");
        put(".config/lamp/a", "1\n");
        put(".lantern/settings.json", "mine\n");
        put(".setup.sh", "echo ran >> ~/ran\n");
        let config = format!(
            "[personal]\npath = [\"~/tools\"]\naliases = {{ tide = \"echo 'low water'\" }}\nenv = {{ LAMP = \"all\" }}\n\
             [personal.dotfiles]\nfrom = \"{0}\"\nrun = [\"sh\", \".setup.sh\"]\n\
             [personal.projects.\"{1}\"]\nenv = {{ LAMP = \"here\" }}\n[personal.projects.\"/nowhere\"]\nenv = {{ LAMP = \"there\" }}\n",
            dots.display(),
            who.project().canonicalize().unwrap().display(),
        );
        who.configure(&config);
        let inside = |script: &str| who.ok(&["run", "-q", "--", "sh", "-c", script]);
        let checked = who.ok(&["check", "--personal"]);
        assert!(checked.contains("~/.config/lamp/a") && checked.contains("LAMP=here"), "{kind}: {checked}");
        who.ok(&["start", "-q", "--wait"]);
        assert_eq!(
            inside("cat ~/.lamprc ~/.config/lamp/a ~/ran; stat -c %U ~/.lamprc"),
            "bright\n1\nran\ncrew\n",
            "{kind}"
        );
        assert_eq!(inside("echo $LAMP; case $PATH in */bin:/home/crew/tools:*) echo after;; esac"), "here\nafter\n");
        // A script sees no alias; a shell at a terminal does.
        assert_eq!(inside("tide 2>/dev/null || echo none"), "none\n", "{kind}");
        assert!(inside("cat /run/personal/rc").contains("alias tide='echo"), "{kind}");
        who.ok(&["verify"]);
        assert!(who.ok(&["drift"]).contains("nothing was changed by hand"), "{kind}");
        // Changed by hand: kept, and told. Changed outside: brought. Gone: gone. The command ran once for each state.
        inside("echo dim > ~/.lamprc");
        put(".config/lamp/a", "2\n");
        put(".setup.sh", "echo ran >> ~/ran # again\n");
        who.ok(&["restart", "-q", "--wait"]);
        assert_eq!(inside("cat ~/.lamprc ~/.config/lamp/a ~/ran"), "dim\n2\nran\nran\n", "{kind}");
        assert!(who.ok(&["status"]).contains("your dotfiles lack ~/.lamprc"), "{kind}");
        fs::remove_dir_all(dots.join(".config")).unwrap();
        who.ok(&["restart", "-q", "--wait"]);
        assert_eq!(inside("ls -d ~/.config 2>/dev/null || cat ~/.lantern/settings.json"), "mine\n", "{kind}");
        // Without what is the member's own.
        who.ok(&["stop", "-q"]);
        who.ok(&["start", "-q", "--plain"]);
        assert_eq!(
            inside("echo ${LAMP-none}; ls -d ~/.lantern 2>/dev/null; ls /run/personal 2>/dev/null || true"),
            "none\n"
        );
        who.ok(&["stop", "-q"]);
        // What cannot be used is told before anything starts.
        who.configure(&config.replace("/dots", "/none"));
        let failed = who.run(&["start"]);
        assert!(!failed.status.success() && told(&failed).contains("the dotfiles"), "{kind}: {}", told(&failed));
        who.configure("[personal.dotfiles]\nfrom = \"https://git.example/x\"\n");
        assert!(told(&who.run(&["check", "--personal"])).contains("need revision"), "{kind}");
    }
}

#[test]
fn dotfiles_of_a_repository_are_those_of_the_pinned_commit() {
    let team = Team::locked();
    let dots = team.dir.path().join("dots");
    fs::create_dir(&dots).unwrap();
    let git = |arguments: &[&str]| {
        let mut command = Command::new("git");
        command.args(["-c", "user.name=Tove", "-c", "user.email=tove@brindle.example"]).args(arguments);
        let output = command.current_dir(&dots).output().unwrap();
        assert!(output.status.success(), "{}", told(&output));
        String::from_utf8(output.stdout).unwrap().trim().to_owned()
    };
    git(&["init", "-q"]);
    fs::write(dots.join(".lamprc"), "first\n").unwrap();
    git(&["add", "."]);
    git(&["commit", "-q", "-m", "first"]);
    let first = git(&["rev-parse", "HEAD"]);
    fs::write(dots.join(".lamprc"), "second\n").unwrap();
    git(&["commit", "-q", "-a", "-m", "second"]);
    fs::create_dir_all(team.home()).unwrap();
    let config = |revision: &str| {
        let text = format!("[personal.dotfiles]\nfrom = \"{}\"\nrevision = \"{revision}\"\n", dots.display());
        fs::write(team.home().join("config.toml"), text).unwrap();
    };
    config(&first);
    team.ok(&["start", "-q", "--wait"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/home/crew/.lamprc"]), "first\n");
    team.ok(&["stop", "-q"]);
    config(&"0".repeat(40));
    assert!(told(&team.run(&["start"])).contains("git"));
    assert_eq!(fs::read_dir(team.home().join("dotfiles")).unwrap().count(), 1, "nothing half is left");
    config(&git(&["rev-parse", "HEAD"]));
    team.ok(&["start", "-q", "--wait"]);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/home/crew/.lamprc"]), "second\n");
    team.ok(&["stop", "-q"]);
}

#[test]
fn a_port_has_the_member_s_number_and_takes_its_connections_along_when_it_goes() {
    use std::io::{Read as _, Write as _};
    use std::net::{TcpListener, TcpStream};
    let team = Team::locked();
    fs::create_dir_all(team.home()).unwrap();
    let free = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    fs::write(team.home().join("config.toml"), format!("[personal]\nports = {{ site = {free} }}\n")).unwrap();
    team.ok(&["start", "-q", "--wait"]);
    let port = team.json(&["status", "--json"])["status"]["ports"][0]["outside"].as_u64().unwrap() as u16;
    // Somebody may have taken it meanwhile; then it is one after it, and not one near the spec's.
    assert!((free..free.saturating_add(20)).contains(&port), "{port} and not {free}");
    assert!(!team.ok(&["status"]).contains("pending"));
    let mut open = TcpStream::connect(("127.0.0.1", port)).unwrap();
    open.set_read_timeout(Some(std::time::Duration::from_secs(20))).unwrap();
    // A request that is not over: the server waits for more, and nobody says anything.
    open.write_all(b"GET / HTTP/1.1\r\n").unwrap();
    let spec = fs::read_to_string(team.project().join("cavrith.toml")).unwrap();
    let at = spec.find("[[ports]]").unwrap();
    let end = spec[at + 2..].find("\n[").map_or(spec.len(), |found| at + 2 + found + 1);
    fs::write(team.project().join("cavrith.toml"), format!("{}{}", &spec[..at], &spec[end..])).unwrap();
    team.ok(&["lock", "-q"]);
    team.ok(&["apply"]);
    let ended = open.read(&mut [0; 64]);
    assert!(
        matches!(ended, Ok(0))
            || ended.as_ref().is_err_and(|error| error.kind() == std::io::ErrorKind::ConnectionReset),
        "{ended:?}"
    );
    assert!(TcpStream::connect(("127.0.0.1", port)).is_err());
    team.ok(&["stop", "-q"]);
}

#[test]
fn a_link_leads_to_one_port_of_another_workspace_and_to_nothing_else() {
    for who in crate::owners::Someone::each(Team::locked) {
        let kind = who.kind;
        let board = who.project().parent().unwrap().join("board");
        crate::team::copy(&who.project(), &board);
        let spec = fs::read_to_string(board.join("cavrith.toml")).unwrap();
        let spec = spec.replace("\"timetable\"", "\"board\"").replace("8080", "9090");
        fs::write(board.join("cavrith.toml"), spec).unwrap();
        if kind != "root" {
            assert!(
                Command::new("chown").args(["-R", &format!("{USER}:{USER}")]).arg(&board).status().unwrap().success()
            );
        }
        who.configure(&format!(
            "[personal.projects.\"{}\"]\nlinks = {{ times = \"timetable:8080\" }}\n",
            board.canonicalize().unwrap().display()
        ));
        let dir = board.to_str().unwrap();
        let there = |arguments: &[&str]| who.run(&[&["-C", dir][..], arguments].concat());
        let fetch = || told(&there(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://times:8080/"]));
        assert!(there(&["lock", "-q"]).status.success(), "{kind}");
        let started = there(&["start", "-q", "--wait"]);
        assert!(started.status.success(), "{kind}: {}", told(&started));
        assert!(!fetch().contains("<html"), "{kind}");
        crate::running::soon("what is in the way is told", || {
            told(&there(&["status"])).contains("the link times leads nowhere: timetable does not run")
                || told(&there(&["status"])).contains("the link times leads nowhere: there is no workspace timetable")
        });
        who.ok(&["start", "-q", "--wait"]);
        assert!(fetch().contains("<html"), "{kind}: {}", fetch());
        let status = told(&there(&["status"]));
        assert!(!status.contains("leads nowhere") && !status.contains("undeclared"), "{kind}: {status}");
        // One port, and one way.
        let other = told(&there(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://times:8081/"]));
        assert!(other.contains("refused"), "{kind}: {other}");
        let back = told(&who.run(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://localhost:9090/"]));
        assert!(back.contains("refused"), "{kind}: {back}");
        who.ok(&["stop", "-q"]);
        assert!(!fetch().contains("<html"), "{kind}");
        assert!(there(&["stop", "-q"]).status.success());
    }
}
