//! What crosses the wall of a running workspace: folders, files, ports, names.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{TcpStream, UdpSocket};
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;

use crate::inside::fetch;
use crate::running::{port, soon, started, status};
use crate::team::{Team, told};

/// Compiles what busybox lacks into the project, which is live inside.
pub fn helper(team: &Team) {
    helper_in(&team.project());
}

/// As [`helper`], in the folder of a project.
pub fn helper_in(project: &std::path::Path) {
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/helper.c");
    let output = std::process::Command::new("cc")
        .args(["-static", "-o", "helper", source])
        .current_dir(project)
        .output()
        .unwrap();
    assert!(output.status.success(), "{}", told(&output));
}

#[test]
fn kept_folders_survive_and_go_into_a_file_and_back() {
    let team = started(
        "[[folders]]\nmode = \"kept\"\nname = \"tables\"\ninside = \"/srv/tables\"\n\n[[folders]]\nmode = \"kept\"\nname = \"modules\"\ninside = \"/code/modules\"\n",
    );
    team.ok(&["run", "-q", "--", "sh", "-c", "echo high > /srv/tables/tide; ln -s tide /srv/tables/now; echo m > /code/modules/m; stat -c %U /srv/tables /code/modules"]);
    // The one in the project's folder does not cross the wall.
    assert_eq!(fs::read_dir(team.project().join("modules")).unwrap().count(), 0);
    assert!(team.ok(&["folder", "list"]).contains("tables  of timetable  2 entries"));
    assert!(team.ok(&["folder", "show", "tables"]).contains("tide"));
    assert!(team.fails(&["folder", "show", "tables", "../.."], 2).contains("leads out of the folder"));
    let file = team.dir.path().join("tables.tar.zst");
    let file = file.to_str().unwrap();
    assert!(team.fails(&["folder", "backup", "tables", file], 2).contains("stop it first"));
    assert!(team.fails(&["folder", "restore", "tables", file], 2).contains("stop it first"));
    team.ok(&["stop"]);
    team.ok(&["folder", "backup", "tables", file]);
    team.ok(&["start"]);
    team.ok(&["run", "-q", "--", "rm", "/srv/tables/tide"]);
    let dropped = team.run(&["drop", "--yes"]);
    assert!(told(&dropped).contains("keeps     the folder tables"), "{}", told(&dropped));
    assert!(team.fails(&["folder", "restore", "tables", file], 2).contains("write --yes"));
    team.ok(&["folder", "restore", "tables", file, "--yes"]);
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", "cat /srv/tables/now; cat /code/modules/m"]), "high\nm\n");
    team.ok(&["stop"]);
    // A file that is not a backup changes nothing.
    fs::write(file, "letters").unwrap();
    team.fails(&["folder", "restore", "tables", file, "--yes"], 2);
    assert_eq!(team.ok(&["run", "-q", "--", "cat", "/srv/tables/now"]), "high\n");
    assert!(team.fails(&["folder", "backup", "tabels", file], 2).contains("no kept folder tabels"));
}

/// An archive with one entry, compressed as a backup is.
fn archive(file: &Path, name: &str, kind: tar::EntryType, link: &str) {
    let mut builder = tar::Builder::new(zstd::Encoder::new(fs::File::create(file).unwrap(), 1).unwrap());
    let mut top = tar::Header::new_gnu();
    top.set_entry_type(tar::EntryType::Directory);
    top.set_mode(0o755);
    top.set_size(0);
    builder.append_data(&mut top, "folder/", std::io::empty()).unwrap();
    for (name, kind, link) in [("folder/out", tar::EntryType::Symlink, "/tmp"), (name, kind, link)] {
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(kind);
        header.set_mode(0o644);
        header.set_size(0);
        header.as_gnu_mut().unwrap().name[..name.len()].copy_from_slice(name.as_bytes());
        if !link.is_empty() {
            header.set_link_name(link).unwrap();
        }
        header.set_cksum();
        builder.append(&header, std::io::empty()).unwrap();
    }
    builder.into_inner().unwrap().finish().unwrap();
}

#[test]
fn a_hostile_backup_does_not_leave_its_folder() {
    let team = started("[[folders]]\nmode = \"kept\"\nname = \"tables\"\ninside = \"/srv/tables\"\n");
    let file = team.dir.path().join("hostile.tar.zst");
    let target = format!("cavrith-hostile-{}", std::process::id());
    for (name, kind, link) in [
        (format!("folder/../../{target}"), tar::EntryType::Regular, ""),
        (format!("/tmp/{target}"), tar::EntryType::Regular, ""),
        (format!("folder/out/{target}"), tar::EntryType::Regular, ""),
        (format!("folder/out/{target}"), tar::EntryType::Directory, ""),
        ("folder/device".to_owned(), tar::EntryType::Char, ""),
        ("folder/link".to_owned(), tar::EntryType::Link, "/etc/passwd"),
    ] {
        archive(&file, &name, kind, link);
        let output = team.run(&["folder", "restore", "tables", file.to_str().unwrap(), "--yes"]);
        assert!(!output.status.success(), "{name}: {}", told(&output));
        assert!(!Path::new("/tmp").join(&target).exists(), "{name} came out");
    }
}

#[test]
fn files_are_copied_in_and_out_of_a_workspace_that_runs_or_not() {
    let team = started("");
    let outside = team.dir.path().join("chart");
    fs::create_dir_all(outside.join("deep")).unwrap();
    fs::write(outside.join("deep/sound"), "seven fathoms").unwrap();
    std::os::unix::fs::symlink("deep/sound", outside.join("link")).unwrap();
    let source = outside.to_str().unwrap();
    team.ok(&["copy", "in", source, "/home/crew"]);
    assert!(status(&team)["status"].is_null(), "it runs on");
    let look = "cat /home/crew/chart/link; stat -c %U /home/crew/chart/deep/sound";
    assert_eq!(team.ok(&["run", "-q", "--", "sh", "-c", look]), "seven fathomscrew\n");
    team.ok(&["copy", "in", &format!("{source}/deep/sound"), "/home/crew/renamed"]);
    let back = team.dir.path().join("back");
    team.ok(&["copy", "out", "/home/crew/chart", back.to_str().unwrap()]);
    assert_eq!(fs::read_to_string(back.join("link")).unwrap(), "seven fathoms");
    team.ok(&["copy", "out", "/home/crew/renamed", team.dir.path().to_str().unwrap()]);
    assert_eq!(fs::read_to_string(team.dir.path().join("renamed")).unwrap(), "seven fathoms");
    assert!(team.fails(&["copy", "in", source, "/etc"], 3).contains("Permission denied"));
    assert!(team.fails(&["copy", "in", source, "/no/such"], 3).contains("cannot write /no/such: No such file"));
    assert!(team.fails(&["copy", "out", "/nothing", "."], 3).contains("cannot read /nothing"));
    team.ok(&["copy", "in", source, "/srv", "--account", "root"]);
}

#[test]
fn datagrams_rows_of_ports_and_undeclared_ones() {
    let team = started(
        r#"
[[ports]]
name = "buoy"
inside = 7007
protocol = "udp"

[[ports]]
name = "row"
inside = 7100
count = 3

[services.row]
run = ["httpd", "-f", "-p", "7102", "-h", "/code"]
ready = { port = 7102 }

[services.stray]
run = ["httpd", "-f", "-p", "7999", "-h", "/code"]
ready = { port = 7999 }

[services.buoy]
run = ["/code/helper", "echo", "7007"]
"#,
    );
    helper(&team);
    team.ok(&["start", "--wait"]);
    assert!(fetch(port(&team, "row") + 2, "news.html").contains("Welcome aboard"));
    let shown = team.ok(&["status"]);
    assert!(shown.contains("undeclared 7999: httpd listens inside"), "{shown}");
    assert!(shown.contains("name     = \"httpd\"") && shown.contains("inside   = 7999"), "{shown}");
    assert!(!shown.contains("undeclared 7102"), "{shown}");
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    socket.set_read_timeout(Some(Duration::from_millis(500))).unwrap();
    let to = ("127.0.0.1", port(&team, "buoy") as u16);
    soon("no datagram comes back", || {
        socket.send_to(b"ahoy\n", to).unwrap();
        let mut buffer = [0; 64];
        matches!(socket.recv(&mut buffer), Ok(length) if &buffer[..length] == b"ahoy\n")
    });
}

#[test]
fn names_are_kept_in_one_block_and_taken_out_when_the_workspace_is_dropped() {
    let team = started("[names]\n\"timetable.test\" = \"site\"\n\"tides.test\" = \"site\"\n");
    let hosts = team.dir.path().join("hosts");
    fs::write(&hosts, "127.0.0.1 localhost\n").unwrap();
    let run = |arguments: &[&str]| team.command(arguments).env("CAVRITH_HOSTS", &hosts).output().unwrap();
    assert!(told(&run(&["names"])).contains("127.0.0.1\ttides.test\n::1\ttides.test\n127.0.0.1\ttimetable.test"));
    assert_eq!(fs::read_to_string(&hosts).unwrap(), "127.0.0.1 localhost\n");
    assert!(told(&run(&["names", "--apply"])).contains("brought up to date"));
    assert!(told(&run(&["names", "--apply"])).contains("up to date already"));
    assert_eq!(fs::read_to_string(&hosts).unwrap().matches("timetable.test").count(), 2);
    // Inside they resolve at once, like those of the services.
    team.ok(&["start", "--wait"]);
    assert!(
        team.ok(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://tides.test:8080/news.html"]).contains("aboard")
    );
    assert!(team.ok(&["run", "-q", "--", "wget", "-q", "-O", "-", "http://site:8080/news.html"]).contains("aboard"));
    assert!(run(&["drop", "--yes"]).status.success());
    assert_eq!(fs::read_to_string(&hosts).unwrap(), "127.0.0.1 localhost\n");
    assert!(told(&run(&["names", "--apply", "--file", "/no/such/hosts"])).contains("cannot be changed"));
}

#[test]
fn a_workspace_without_a_network_has_its_loopback_only() {
    let team = started("");
    team.change("project = \"/code\"", "project = \"/code\"\nnetwork = \"none\"");
    let devices = team.ok(&["run", "-q", "--", "ls", "/sys/class/net"]);
    assert_eq!(devices.trim(), "lo");
    assert_eq!(status(&team)["status"]["network"], "none");
}

#[test]
fn a_change_outside_is_noticed_inside_by_who_watches_for_it() {
    let team = started("");
    team.ok(&["start"]);
    helper(&team);
    let mut child = team
        .command(&["run", "-q", "--", "/code/helper", "watch", "/code"])
        .stdout(Stdio::piped())
        .stdin(Stdio::null())
        .spawn()
        .unwrap();
    let mut lines = std::io::BufRead::lines(std::io::BufReader::new(child.stdout.take().unwrap()));
    assert_eq!(lines.next().unwrap().unwrap(), "watching");
    fs::write(team.project().join("news.html"), "<p>Fog.</p>\n").unwrap();
    assert_eq!(lines.next().unwrap().unwrap(), "news.html");
    assert!(child.wait().unwrap().success());
}

#[test]
fn a_site_is_reached_by_both_protocols_and_opened_where_there_is_a_desktop() {
    use std::os::unix::fs::PermissionsExt as _;
    let team = started("");
    team.change("inside = 8080", "inside = 8080\nopen = true");
    let programs = team.dir.path().join("programs");
    fs::create_dir(&programs).unwrap();
    let opened = team.dir.path().join("opened");
    let script = format!("#!/bin/sh\necho \"$@\" > {}.new; mv {0}.new {0}\n", opened.display());
    fs::write(programs.join("xdg-open"), script).unwrap();
    fs::set_permissions(programs.join("xdg-open"), fs::Permissions::from_mode(0o755)).unwrap();
    let path = format!("{}:{}", programs.display(), std::env::var("PATH").unwrap());
    let start = || {
        let mut command = team.command(&["start", "--wait"]);
        command.env("PATH", &path).env_remove("WAYLAND_DISPLAY").env_remove("DISPLAY");
        command
    };
    // Without a desktop it is only said.
    let said = start().output().unwrap();
    let url = format!("http://localhost:{}/", port(&team, "site"));
    assert!(told(&said).contains(&format!("site is at {url}")), "{}", told(&said));
    team.ok(&["stop"]);
    assert!(!opened.exists());
    assert!(start().env("DISPLAY", ":0").status().unwrap().success());
    soon("nothing was opened", || opened.exists());
    assert!(fs::read_to_string(&opened).unwrap().starts_with("http://localhost:"));
    let mut stream = TcpStream::connect(("::1", port(&team, "site") as u16)).unwrap();
    stream.write_all(b"GET /news.html HTTP/1.0\r\n\r\n").unwrap();
    let mut page = String::new();
    stream.read_to_string(&mut page).unwrap();
    assert!(page.contains("Welcome aboard"));
}

#[test]
fn a_port_is_bound_to_the_address_that_the_spec_names_and_no_other() {
    let team = started("");
    // A port of its own, since all other tests have theirs at the other loopback address.
    let free = std::net::TcpListener::bind("127.0.0.2:0").unwrap().local_addr().unwrap().port();
    team.change("inside = 8080", &format!("inside = 8080\noutside = {free}\nbind = \"127.0.0.2\""));
    team.ok(&["start", "--wait"]);
    let number = port(&team, "site") as u16;
    assert!(TcpStream::connect(("127.0.0.2", number)).is_ok());
    assert!(TcpStream::connect(("::1", number)).is_err());
    team.ok(&["stop"]);
    team.change("127.0.0.2", "192.0.2.77");
    assert!(told(&team.run(&["check"])).contains("CV0145"));
    let refused = team.fails(&["start"], 3);
    assert!(refused.contains("at 192.0.2.77 for `site` cannot be listened on"), "{refused}");
    team.assert_clean();
}

#[test]
fn a_thousand_connections_are_carried_at_once() {
    let team = started("");
    team.ok(&["start", "--wait"]);
    let number = port(&team, "site") as u16;
    let open: Vec<_> = (0..1000).map(|_| TcpStream::connect(("127.0.0.1", number)).unwrap()).collect();
    // Each is answered, while all are open.
    for (number, mut stream) in open.iter().enumerate().rev() {
        stream.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        stream.write_all(b"GET /news.html HTTP/1.0\r\n\r\n").unwrap();
        let mut page = String::new();
        stream.read_to_string(&mut page).unwrap();
        assert!(page.contains("Welcome aboard"), "connection {number}: {page}");
    }
}
