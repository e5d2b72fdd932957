use std::fs;

use crate::server::{Fault, Server};
use crate::team::Team;

/// A team whose depot lies on the web.
fn distant() -> (Team, Server) {
    let team = Team::new();
    let server = Server::new();
    server.put_folder("/depot", &team.dir.path().join("depot"));
    let kept = team.dir.path().join("kept");
    fs::create_dir(&kept).unwrap();
    fs::copy(team.dir.path().join("depot/toolchains/quill-2.4.1.tar.gz"), kept.join("quill")).unwrap();
    fs::remove_dir_all(team.dir.path().join("depot")).unwrap();
    team.change("path = \"../../depot\"", &format!("url = \"{}/depot/\"", server.url));
    (team, server)
}

#[test]
fn a_depot_on_the_web_gives_the_same_image_and_is_asked_once() {
    let near = Team::locked();
    let (team, server) = distant();
    team.ok(&["lock"]);
    assert_eq!(team.build(), near.build());
    server.requests();
    team.ok(&["build", "--fresh"]);
    team.ok(&["run", "--", "true"]);
    assert_eq!(server.requests(), Vec::<String>::new());
    // The address is the lead's choice and stands in the spec, never in the lock.
    assert!(!fs::read_to_string(team.project().join("cavrith.lock")).unwrap().contains("http"));
    team.ok(&["seal"]);
    team.assert_clean();
}

#[test]
fn what_breaks_off_is_carried_on_and_a_busy_server_is_asked_again() {
    let (team, server) = distant();
    let deb = "/depot/packages/busybox-static_1.35.0-4+deb12u1+b1_amd64.deb";
    server.fault(deb, Fault::BreaksOff(2));
    server.fault("/depot/depot.toml", Fault::Busy(1));
    team.ok(&["lock"]);
    let requests = server.requests();
    let of_deb: Vec<_> = requests.iter().filter(|request| request.contains("busybox")).collect();
    assert_eq!(of_deb.len(), 3, "{requests:?}");
    assert!(of_deb[1].contains(" from ") && of_deb[2].contains(" from "), "{of_deb:?}");
    // What an interrupted command had fetched is carried on by the next one.
    let tool = "/depot/toolchains/quill-2.4.1.tar.gz";
    server.fault(tool, Fault::BreaksOff(4));
    assert!(team.fails(&["build"], 4).contains("it broke off"));
    server.requests();
    team.ok(&["build"]);
    assert!(server.requests().iter().any(|request| request.contains("quill-2.4.1") && request.contains(" from ")));
}

#[test]
fn a_server_that_knows_no_parts_begins_again() {
    let (team, server) = distant();
    team.ok(&["lock"]);
    let tool = "/depot/toolchains/quill-2.4.1.tar.gz";
    server.fault(tool, Fault::BreaksOff(4));
    team.fails(&["build"], 4);
    server.fault(tool, Fault::NoParts);
    team.ok(&["build"]);
}

#[test]
fn wrong_bytes_and_missing_files_are_told_and_nothing_stays() {
    let (team, server) = distant();
    team.ok(&["lock"]);
    let tool = "/depot/toolchains/quill-2.4.1.tar.gz";
    server.put(tool, vec![7; 2000]);
    let told = team.fails(&["build"], 4);
    assert!(told.contains("it is longer than "), "{told}");
    let length = fs::metadata(team.dir.path().join("kept").join("quill")).unwrap().len() as usize;
    server.put(tool, vec![7; length]);
    let told = team.fails(&["build"], 4);
    assert!(told.contains("quill-2.4.1.tar.gz is not what the lock pins: expected "), "{told}");
    server.remove(tool);
    let told = team.fails(&["build"], 4);
    assert!(told.contains("the server answers 404 (Not Found)"), "{told}");
    let blobs = team.home().join("store/blobs");
    let stray = fs::read_dir(blobs.join("partial")).unwrap().count();
    assert_eq!(stray, 0);
    team.assert_clean();
}

#[test]
fn an_unreachable_depot_is_told_or_what_was_seen_of_it_is_used() {
    let (team, server) = distant();
    let far = "url = \"http://127.0.0.1:9/\"";
    let near = format!("url = \"{}/depot/\"", server.url);
    team.change(&near, far);
    let told = team.fails(&["check"], 1);
    assert!(told.contains("CV0216") && told.contains("the request to http://127.0.0.1:9/depot.toml"), "{told}");
    team.fails(&["lock"], 4);
    team.change(far, &near).ok(&["check"]);
    server.remove("/depot/depot.toml");
    let told = team.fails(&["check"], 0);
    assert!(told.contains("CV0216") && told.contains("what was seen of it last is used"), "{told}");
}

#[test]
fn downloads_are_trusted_at_first_sight_and_then_held_to_it() {
    let team = Team::new();
    let server = Server::new();
    let plain = server.put("/tides.csv", "high,low\n");
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("top/inner")).unwrap();
    fs::write(dir.path().join("top/inner/chart"), "chart\n").unwrap();
    std::process::Command::new("tar").args(["czf", "c.tar.gz", "top"]).current_dir(&dir).status().unwrap();
    let packed = server.put("/charts.tar.gz", fs::read(dir.path().join("c.tar.gz")).unwrap());
    team.add(
        &format!(
            "[[downloads]]\nname = \"tides\"\nurl = \"{plain}\"\ninside = \"/srv/tides.csv\"\nmode = \"0640\"\n[[downloads]]\nname = \"charts\"\nurl = \"{packed}\"\ninside = \"/srv/charts\"\nunpack = true\nstrip = 1\n"
        ),
    );
    let told = team.fails(&["lock"], 0);
    assert!(told.contains(&format!("{plain} was trusted at first sight; its digest is ")), "{told}");
    let read =
        || team.ok(&["run", "-q", "--", "sh", "-c", "cat /srv/charts/inner/chart; ls -l /srv/tides.csv | cut -c1-10"]);
    assert_eq!(read(), "chart\n-rw-r-----\n");
    // The same address with other bytes: what is locked is still had from the store, and a fresh machine is reported.
    server.put("/tides.csv", "other\n");
    team.ok(&["build", "--fresh"]);
    team.ok(&["lock"]);
    fs::remove_dir_all(team.home()).unwrap();
    let told = team.fails(&["build"], 4);
    assert!(told.contains(&format!("{plain} is not what the lock pins")), "{told}");
    let told = team.ok(&["lock", "--update", "tides"]);
    assert!(told.contains("download tides  "), "{told}");
    team.build();
    // A digest in the spec is held to as well.
    team.change("mode = \"0640\"", &format!("sha256 = \"{}\"", "0".repeat(64)));
    let told = team.fails(&["lock"], 4);
    assert!(told.contains(&format!("sha256 = \"{}\", and it has ", "0".repeat(64))), "{told}");
}

#[test]
fn what_has_no_digest_yet_is_bounded_and_the_bound_can_be_raised() {
    let team = Team::new();
    let server = Server::new();
    let url = server.put("/charts.bin", vec![7; (1 << 20) + 1]);
    team.add(&format!("[[downloads]]\nname = \"charts\"\nurl = \"{url}\"\ninside = \"/srv/charts\"\n"));
    fs::create_dir_all(team.home()).unwrap();
    let config = |mib: u32| {
        fs::write(team.home().join("config.toml"), format!("[web]\nlongest-mib = {mib}\n")).unwrap();
    };
    config(1);
    let told = team.fails(&["lock"], 4);
    assert!(told.contains("longer than 1048576 bytes") && told.contains("[web] longest-mib"), "{told}");
    // Nothing of it is kept to be carried on.
    let partial = team.home().join("store/blobs/partial");
    let kept: u64 = fs::read_dir(&partial).unwrap().map(|entry| entry.unwrap().metadata().unwrap().len()).sum();
    assert_eq!(kept, 0);
    config(2);
    team.ok(&["lock"]);
}

#[test]
fn a_server_that_always_begins_anew_is_given_up_on() {
    let (team, server) = distant();
    team.ok(&["lock"]);
    let tool = "/depot/toolchains/quill-2.4.1.tar.gz";
    // More than a mebibyte each time, and never any further.
    let length = fs::metadata(team.dir.path().join("kept").join("quill")).unwrap().len();
    assert!(length > 100);
    server.fault(tool, Fault::NeverWhole);
    server.requests();
    let told = team.fails(&["build"], 4);
    assert!(told.contains("tried 4 times"), "{told}");
    assert_eq!(server.requests().iter().filter(|request| request.contains("quill-2.4.1")).count(), 4);
}

#[test]
fn what_nobody_carries_on_for_a_week_is_forgotten() {
    let (team, server) = distant();
    team.ok(&["lock"]);
    let tool = "/depot/toolchains/quill-2.4.1.tar.gz";
    server.fault(tool, Fault::BreaksOff(4));
    team.fails(&["build"], 4);
    let partial = team.home().join("store/blobs/partial");
    let days = |days: u64| std::time::SystemTime::now() - std::time::Duration::from_secs(days * 86_400);
    let (old, young) = (partial.join("a".repeat(64)), partial.join("b".repeat(64)));
    for (path, age) in [(&old, 8), (&young, 6)] {
        fs::write(path, "half").unwrap();
        fs::File::options().write(true).open(path).unwrap().set_modified(days(age)).unwrap();
    }
    team.ok(&["build"]);
    assert!(!old.exists() && young.exists());
}

#[test]
fn a_base_may_be_an_archive_on_the_web() {
    let team = Team::new();
    let server = Server::new();
    let root = tempfile::tempdir().unwrap();
    fs::create_dir_all(root.path().join("r/etc")).unwrap();
    fs::write(root.path().join("r/etc/origin"), "web\n").unwrap();
    std::process::Command::new("tar")
        .args(["czf", "r.tgz", "--mtime=@1700000000", "-C", "r", "."])
        .current_dir(&root)
        .status()
        .unwrap();
    let url = server.put("/root.tgz", fs::read(root.path().join("r.tgz")).unwrap());
    fs::write(
        team.project().join("cavrith.toml"),
        format!("spec = 1\n[workspace]\nname = \"small\"\n[base]\narchive = {{ url = \"{url}\" }}\n"),
    )
    .unwrap();
    team.ok(&["lock"]);
    team.build();
    assert_eq!(fs::read_to_string(team.in_store("etc/origin")).unwrap(), "web\n");
    assert!(fs::read_to_string(team.project().join("cavrith.lock")).unwrap().contains("epoch = 1700000000"));
}

#[test]
fn a_filled_depot_is_all_that_a_closed_network_needs() {
    let (team, server) = distant();
    let url = server.put("/tides.csv", "high,low\n");
    team.add(&format!("[[downloads]]\nname = \"tides\"\nurl = \"{url}\"\ninside = \"/srv/tides.csv\"\n"));
    team.ok(&["lock"]);
    let image = team.build();
    let shelf = team.dir.path().join("shelf");
    let shelf_path = shelf.to_str().unwrap();
    assert_eq!(team.ok(&["depot", "fill", shelf_path]), format!("filled {shelf_path} with 6 files\n"));
    assert_eq!(team.ok(&["depot", "fill", shelf_path]), format!("filled {shelf_path} with 0 files, 6 there already\n"));
    assert_eq!(team.ok(&["depot", "check", shelf_path]), "6 files as the index says\n");
    fs::remove_dir_all(team.home()).unwrap();
    server.requests();
    let offline = |arguments: &[&str], shelf: &str| {
        team.command(arguments).env("CAVRITH_OFFLINE", "1").env("CAVRITH_DEPOTS", shelf).output().unwrap()
    };
    let output = offline(&["build"], "");
    assert_eq!(output.status.code(), Some(4));
    assert!(crate::team::told(&output).contains("CAVRITH_OFFLINE is set, so nothing is fetched"));
    let output = offline(&["build", "--json"], shelf_path);
    assert!(output.status.success(), "{}", crate::team::told(&output));
    assert!(String::from_utf8_lossy(&output.stdout).contains(&image));
    assert!(offline(&["seal"], shelf_path).status.success());
    assert_eq!(server.requests(), Vec::<String>::new());
    // A byte that changed in the depot is found by its check, and by the build.
    let file = shelf.join("toolchains/quill-2.4.1.tar.gz");
    let mut bytes = fs::read(&file).unwrap();
    bytes[20] ^= 1;
    fs::write(&file, bytes).unwrap();
    assert!(team.fails(&["depot", "check", shelf_path], 1).contains("quill-2.4.1.tar.gz is another file"));
    fs::remove_dir_all(team.home()).unwrap();
    assert_eq!(offline(&["build"], shelf_path).status.code(), Some(4));
}

#[test]
fn offline_no_socket_of_the_network_is_opened() {
    let (team, _server) = distant();
    team.ok(&["lock"]);
    team.build();
    // In a namespace without any network, behind a filter that ends anyone who asks for an internet socket.
    let guarded = |arguments: &[&str], offline: &str| {
        let mut command = std::process::Command::new("unshare");
        if !nix::unistd::Uid::effective().is_root() {
            command.args(["--user", "--map-root-user"]);
        }
        command.args(["--net", crate::team::PROGRAM]).args(arguments);
        command.current_dir(team.project()).env("CAVRITH_HOME", team.home()).env("CAVRITH_OFFLINE", offline);
        std::thread::scope(|scope| scope.spawn(|| behind_filter(&mut command)).join().unwrap())
    };
    for arguments in
        [&["check"][..], &["lock"], &["build", "--fresh"], &["lock", "--outdated"], &["seal"], &["store", "check"]]
    {
        let output = guarded(arguments, "1");
        assert!(output.status.success(), "{arguments:?}: {}", crate::team::told(&output));
    }
    // The filter does what it should: without the variable the same command is ended.
    assert!(!guarded(&["check"], "").status.success());
}

/// Runs a command behind a filter that ends any process that asks for an internet socket. A filter is a thread's, and
/// what it starts has it too.
fn behind_filter(command: &mut std::process::Command) -> std::process::Output {
    use seccompiler::{SeccompAction, SeccompCmpArgLen, SeccompCmpOp, SeccompCondition, SeccompFilter, SeccompRule};
    let family = |family: libc::c_int| {
        let equals = SeccompCondition::new(0, SeccompCmpArgLen::Dword, SeccompCmpOp::Eq, family as u64).unwrap();
        SeccompRule::new(vec![equals]).unwrap()
    };
    let rules = [(libc::SYS_socket, vec![family(libc::AF_INET), family(libc::AF_INET6)])];
    let machine = std::env::consts::ARCH.try_into().unwrap();
    let filter =
        SeccompFilter::new(rules.into_iter().collect(), SeccompAction::Allow, SeccompAction::KillProcess, machine);
    let program: seccompiler::BpfProgram = filter.unwrap().try_into().unwrap();
    seccompiler::apply_filter(&program).unwrap();
    command.output().unwrap()
}
