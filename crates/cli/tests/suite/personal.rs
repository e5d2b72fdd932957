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
