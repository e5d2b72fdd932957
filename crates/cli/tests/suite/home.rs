//! The account's home: the member's own, from one image to the next, but for what the image puts there.

use std::fs;
use std::process::{Command, Output};

use crate::owners::Member;
use crate::team::{Team, told};

/// A member of any kind, and their workspace.
struct One<'a> {
    team: &'a Team,
    member: Option<Member>,
}

impl One<'_> {
    fn command(&self, arguments: &[&str]) -> Command {
        self.member.as_ref().map_or_else(|| self.team.command(arguments), |member| member.command(arguments))
    }

    fn run(&self, arguments: &[&str]) -> Output {
        self.command(arguments).output().unwrap()
    }

    fn ok(&self, arguments: &[&str]) -> String {
        let output = self.run(arguments);
        assert!(output.status.success(), "{arguments:?}: {}", told(&output));
        String::from_utf8(output.stdout).unwrap()
    }

    fn inside(&self, script: &str) -> String {
        self.ok(&["run", "-q", "--", "sh", "-ec", script])
    }

    fn change(&self, from: &str, to: &str) {
        let path = self.member.as_ref().map_or_else(|| self.team.project(), |member| member.dir.join("timetable"));
        let text = fs::read_to_string(path.join("cavrith.toml")).unwrap();
        assert!(text.contains(from), "{text}");
        fs::write(path.join("cavrith.toml"), text.replace(from, to)).unwrap();
        self.ok(&["lock", "-q"]);
    }
}

/// What the image puts into the home.
const OF_IMAGE: &str = "mkdir -p /home/crew/.lantern/old; echo one > /home/crew/.lantern/settings; echo same > /home/crew/.lantern/same; echo 1 > /home/crew/.lantern/old/1; chown -R crew:crew /home/crew/.lantern";

#[test]
fn the_home_goes_along_to_the_next_image_and_survives_a_drop_for_every_kind_of_member() {
    for kind in ["root", "range", "single"] {
        if kind != "root" && !nix::unistd::Uid::effective().is_root() {
            continue;
        }
        let team = Team::new();
        team.step(OF_IMAGE);
        team.ok(&["lock"]);
        let member = (kind != "root").then(|| Member::of(&team, kind == "range"));
        let one = One { team: &team, member };
        one.ok(&["start", "-q", "--wait"]);
        one.inside("echo tides > ~/.history; mkdir -p ~/.local/bin; echo tool > ~/.local/bin/tool; ln -s tool ~/.local/bin/link");
        one.inside("echo mine > ~/.lantern/settings; echo mine > ~/.lantern/same; rm -r ~/.lantern/old; echo own > ~/.lantern/own");
        assert!(one.ok(&["folder", "list"]).contains("home  of timetable"), "{kind}");
        // The next image has other settings, and no old ones; the rest is as it was.
        one.change("echo one > /home", "echo two > /home");
        let applied = one.run(&["apply", "--json"]);
        assert!(applied.status.success(), "{kind}: {}", told(&applied));
        let look = "cd; cat .history .local/bin/link .lantern/settings .lantern/same .lantern/own; ls -A . .lantern; stat -c %U . .history .lantern/settings";
        let wanted = "tides\ntool\ntwo\nmine\nown\n.:\n.history\n.lantern\n.local\n\n.lantern:\nown\nsame\nsettings\ncrew\ncrew\ncrew\n";
        assert_eq!(one.inside(look), wanted, "{kind}");
        let status = one.ok(&["status", "--json"]);
        assert!(status.contains("this image has its own /home/crew/.lantern/settings"), "{kind}: {status}");
        // What the image puts there is its own, also after a drop.
        one.inside("echo again > ~/.lantern/settings");
        let dropped = told(&one.run(&["drop", "--yes"]));
        assert!(dropped.contains("keeps     the account's home"), "{kind}: {dropped}");
        assert!(one.ok(&["folder", "list"]).contains("home  of timetable (dropped"), "{kind}");
        one.ok(&["start", "-q", "--wait"]);
        let clean = "cd; cat .history .local/bin/link .lantern/settings .lantern/same .lantern/own .lantern/old/1; stat -c %U . .history";
        assert_eq!(one.inside(clean), "tides\ntool\ntwo\nsame\nown\n1\ncrew\ncrew\n", "{kind}");
        assert!(one.ok(&["drift"]).contains("nothing was changed by hand"), "{kind}");
        // A backup of it is restored; what is removed is as the image has it.
        one.ok(&["stop", "-q"]);
        let file = team.dir.path().join(if kind == "root" { "home.tar.zst" } else { "tove/home.tar.zst" });
        let file = file.to_str().unwrap();
        one.ok(&["folder", "backup", "home", file]);
        one.ok(&["folder", "remove", "home", "--yes"]);
        one.ok(&["start", "-q", "--wait"]);
        assert_eq!(one.inside("cd; ls -A; cat .lantern/settings"), ".lantern\ntwo\n", "{kind}");
        one.ok(&["stop", "-q"]);
        one.ok(&["folder", "restore", "home", file, "--yes"]);
        one.ok(&["start", "-q", "--wait"]);
        assert_eq!(one.inside(clean), "tides\ntool\ntwo\nsame\nown\n1\ncrew\ncrew\n", "{kind}");
        // Gone with the workspace, when that is wanted; and every image begins with its own, where the spec says so.
        one.ok(&["drop", "--yes", "--home"]);
        one.change("account = \"crew\"", "account = \"crew\"\nhome = \"fresh\"");
        one.ok(&["start", "-q", "--wait"]);
        assert_eq!(one.inside("cd; ls -A"), ".lantern\n", "{kind}");
        one.inside("echo tides > ~/.history");
        one.change("echo two > /home", "echo three > /home");
        let lost = told(&one.run(&["apply"]));
        assert!(lost.contains("lacks what was changed inside by hand") && lost.contains(".history"), "{kind}: {lost}");
        one.ok(&["apply", "-q", "--fresh"]);
        assert_eq!(one.inside("cd; ls -A; cat .lantern/settings"), ".lantern\nthree\n", "{kind}");
        one.ok(&["drop", "--yes", "-q"]);
        assert!(!one.ok(&["folder", "list"]).contains("home"), "{kind}");
    }
}

#[test]
fn links_in_a_home_lead_nobody_elsewhere_when_it_goes_along() {
    let team = Team::new();
    team.step(OF_IMAGE);
    team.ok(&["lock"]);
    let one = One { team: &team, member: None };
    let outside = team.dir.path().join("outside");
    fs::create_dir_all(outside.join("old")).unwrap();
    fs::write(outside.join("settings"), "precious").unwrap();
    one.ok(&["start", "-q", "--wait"]);
    // The directory of the image's files is a link that means something on the machine.
    one.inside(&format!("mv ~/.lantern ~/.was; ln -s {} ~/.lantern", outside.display()));
    one.change("echo one > /home", "echo two > /home");
    one.ok(&["apply", "-q"]);
    assert_eq!(fs::read_to_string(outside.join("settings")).unwrap(), "precious");
    assert_eq!(fs::read_dir(&outside).unwrap().count(), 2);
    assert_eq!(one.inside("cat ~/.lantern/settings ~/.was/settings"), "two\none\n");
    one.ok(&["drop", "--yes", "-q"]);
    assert_eq!(fs::read_to_string(outside.join("settings")).unwrap(), "precious");
}

#[test]
fn an_account_that_is_called_otherwise_keeps_its_home() {
    let team = Team::new();
    team.step(OF_IMAGE);
    team.ok(&["lock"]);
    let one = One { team: &team, member: None };
    one.ok(&["start", "-q", "--wait"]);
    one.inside("echo tides > ~/.history; echo mine | tee ~/.lantern/settings > ~/.lantern/same");
    one.change("account = \"crew\"", "account = \"pilot\"");
    one.change(OF_IMAGE, &OF_IMAGE.replace("crew", "pilot").replace("echo one", "echo two"));
    one.ok(&["apply", "-q"]);
    assert_eq!(
        one.inside("cd; pwd; cat .history .lantern/settings .lantern/same; stat -c %U .history; ls /home"),
        "/home/pilot\ntides\ntwo\nmine\npilot\npilot\n"
    );
    // What gave way is beside the scratch, and the status says where.
    let status = one.ok(&["status"]);
    let (_, place) = status.split_once("what was changed there lies in ").unwrap_or_else(|| panic!("{status}"));
    let place = place.split_whitespace().next().unwrap();
    let left = std::path::Path::new(place).join(".lantern/settings");
    assert_eq!(fs::read_to_string(left).unwrap(), "mine\n");
    team.assert_clean();
}
