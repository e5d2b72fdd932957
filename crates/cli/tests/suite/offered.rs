//! What of a member's outside answers inside: their credentials for git, and their GPG agent.

use std::fs;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::os::unix::net::UnixListener;

use crate::owners::Someone;
use crate::team::{Team, told};

#[test]
fn git_outside_gives_credentials_for_named_hosts_and_runs_nothing_that_a_project_says() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        crate::crossing::helper_in(&who.project());
        let asked = who.dir().join("asked");
        let config = who.dir().join("gitconfig");
        let helper = format!(
            "[credential]\n\thelper = \"!f() {{ cat >> {0}; printf '%s ' \\\"$1\\\" >> {0}; echo username=tove; echo password=swell-7; }}; f\"\n",
            asked.display()
        );
        fs::write(&config, helper).unwrap();
        // What is written inside is in the project's own configuration outside.
        fs::create_dir_all(who.project().join(".git")).unwrap();
        let trap = format!("[credential]\n\thelper = \"!touch {}/trapped; true\"\n", who.dir().display());
        fs::write(who.project().join(".git/config"), trap).unwrap();
        who.configure("[personal]\ngit-credentials = [\"git.pier.example\"]\n");
        let started = who.command(&["start", "-q", "--wait"]).env("GIT_CONFIG_GLOBAL", &config).output().unwrap();
        assert!(started.status.success(), "{kind}: {}", told(&started));
        let ask = |text: &str| who.run(&["run", "-q", "--", "./helper", "ask", "/run/git-credentials", text]);
        let answer = |text: &str| String::from_utf8(ask(text).stdout).unwrap();
        let get = "action=get\ntimeout=900\nprotocol=https\nhost=git.pier.example\npath=timetable.git\n";
        assert_eq!(answer(get), "username=tove\npassword=swell-7\n", "{kind}");
        assert_eq!(answer(&get.replace("pier", "quay")), "", "{kind}");
        assert_eq!(answer(&get.replace("https", "http")), "", "{kind}");
        let store = "protocol=https\nhost=git.pier.example\nusername=tove\npassword=mine\n";
        assert_eq!(answer(&format!("action=store\n{store}")), "", "{kind}");
        assert_eq!(answer(&format!("action=erase\n{store}")), "", "{kind}");
        assert_eq!(answer(&"x".repeat(60_000)), "", "{kind}");
        // Another account of the inside does not reach it, where there is one.
        let other =
            who.run(&["run", "-q", "--account", "daemon", "--", "./helper", "ask", "/run/git-credentials", get]);
        assert!(kind == "single" || !String::from_utf8_lossy(&other.stdout).contains("swell"), "{kind}");
        let seen = fs::read_to_string(&asked).unwrap();
        assert!(
            seen.contains("host=git.pier.example") && seen.contains("get ") && !seen.contains("store"),
            "{kind}: {seen}"
        );
        assert!(!who.dir().join("trapped").exists(), "{kind}");
        let variables =
            who.ok(&["run", "-q", "--", "sh", "-c", "echo $GIT_CONFIG_COUNT $GIT_CONFIG_KEY_0 $GIT_CONFIG_VALUE_0"]);
        assert_eq!(variables, "1 credential.helper cache --socket /run/git-credentials\n", "{kind}");
        let status = who.ok(&["status"]);
        assert!(status.contains("your git credentials for git.pier.example were given"), "{kind}: {status}");
        // Nothing of it is written down anywhere.
        who.ok(&["stop", "-q"]);
        let found = std::process::Command::new("grep").args(["-rl", "swell-7"]).arg(who.home()).output().unwrap();
        assert_eq!(String::from_utf8_lossy(&found.stdout), "", "{kind}");
        who.configure("[personal]\ngit-credentials = [\"git.pier.example/*\"]\n");
        assert!(told(&who.run(&["start"])).contains("name hosts"), "{kind}");
    }
}

#[test]
fn a_gpg_agent_answers_inside_by_the_socket_that_it_has_for_others() {
    for who in Someone::each(Team::locked) {
        let kind = who.kind;
        crate::crossing::helper_in(&who.project());
        let (socket, bin) = (who.dir().join("extra"), who.dir().join("bin"));
        fs::create_dir_all(&bin).unwrap();
        let gpgconf = bin.join("gpgconf");
        fs::write(&gpgconf, format!("#!/bin/sh\n[ \"$2\" = agent-extra-socket ] && echo {}\n", socket.display()))
            .unwrap();
        fs::set_permissions(&gpgconf, fs::Permissions::from_mode(0o755)).unwrap();
        let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
        who.configure("[personal]\ngpg-agent = true\n");
        let start = || who.command(&["start", "-q", "--wait"]).env("PATH", &path).output().unwrap();
        // One that does not run is told, and the workspace starts.
        assert!(start().status.success(), "{kind}");
        assert!(who.ok(&["status"]).contains("gpgconf --launch gpg-agent"), "{kind}");
        who.ok(&["stop", "-q"]);
        let listener = UnixListener::bind(&socket).unwrap();
        who.give(&socket);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                std::thread::spawn(move || {
                    let mut text = String::new();
                    let _ = (&stream).read_to_string(&mut text);
                    let _ = (&stream).write_all(format!("OK you said {text}\n").as_bytes());
                });
            }
        });
        let started = start();
        assert!(started.status.success(), "{kind}: {}", told(&started));
        let inside = who.ok(&[
            "run",
            "-q",
            "--",
            "sh",
            "-c",
            "cat ~/.gnupg/S.gpg-agent; stat -c %a ~/.gnupg; ./helper ask /run/gpg-agent HAVEKEY",
        ]);
        assert_eq!(inside, "%Assuan%\nsocket=/run/gpg-agent\n700\nOK you said HAVEKEY\n", "{kind}");
        let status = who.ok(&["status"]);
        assert!(status.contains("your GPG agent was asked once by commands inside"), "{kind}: {status}");
        who.ok(&["stop", "-q"]);
        // Whoever does not want it has nothing of it.
        who.configure("");
        let bare = who.ok(&["run", "-q", "--", "sh", "-c", "ls ~/.gnupg /run/gpg-agent 2>/dev/null || echo none"]);
        assert_eq!(bare, "none\n", "{kind}");
        who.ok(&["stop", "-q"]);
    }
}
