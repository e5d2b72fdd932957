//! The wall itself: sandboxes over Debian's busybox, without a spec or a store.
//!
//! A sandbox is our own executable started again, so this test has a `main` of its own, which first lets such processes
//! go their way, and then runs every check. It needs root, or an ordinary user with a range of subordinate ids.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a test fails by panicking, and tells what it did")]

mod busybox;

use std::collections::BTreeMap;
use std::fs;
use std::io::{Read as _, Write as _};
use std::os::fd::AsFd as _;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use cavrith_sandbox::job::{CommandJob, Ending, FolderMount, Job, Perturbations, Purpose};
use cavrith_sandbox::runtime::Runtime as _;
use cavrith_sandbox::{Identity, SandboxError, Session, child, ids, janitor};

const MINUTE: Duration = Duration::from_secs(60);

struct Yard {
    dir: tempfile::TempDir,
    layer: PathBuf,
    identity: Identity,
    benches: std::cell::Cell<u32>,
}

impl Yard {
    fn new(identity: Identity) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let layer = busybox::layer(dir.path());
        fs::create_dir(layer.join("code")).unwrap();
        Self { dir, layer, identity, benches: std::cell::Cell::new(0) }
    }

    fn job(&self, purpose: Purpose) -> Job {
        let overlay_scratch =
            self.dir.path().join(format!("bench {}, with: odd=letters", self.benches.replace(self.benches.get() + 1)));
        for name in ["root", "work", "merged"] {
            fs::create_dir_all(overlay_scratch.join(name)).unwrap();
        }
        std::os::unix::fs::chown(overlay_scratch.join("root"), Some(0), Some(0)).unwrap();
        Job::new(purpose, vec![self.layer.clone()], overlay_scratch, "wall")
    }

    fn session(&self, purpose: Purpose) -> Session {
        Session::begin(self.job(purpose), self.identity).unwrap()
    }
}

fn shell(id: u32, script: &str) -> CommandJob {
    CommandJob {
        argv: ["/bin/busybox", "sh", "-c", script].map(str::to_owned).to_vec(),
        env: BTreeMap::from([("PATH".to_owned(), "/bin".to_owned())]),
        directory: "/".to_owned(),
        user: id,
        group: id,
        ..CommandJob::default()
    }
}

/// How a command ended, and what it wrote.
fn run(session: &Session, command: &CommandJob, limit: Duration) -> (Option<Ending>, String) {
    let mut output = Vec::new();
    let ending = session.run(command, limit, &mut |bytes| output.extend(bytes)).unwrap();
    (ending, String::from_utf8_lossy(&output).into_owned())
}

fn good(session: &Session, script: &str) -> String {
    let (ending, output) = run(session, &shell(0, script), MINUTE);
    assert_eq!(ending, Some(Ending::Code(0)), "{script}: {output}");
    output
}

fn what_is_written_comes_back_byte_for_byte_with_how_it_ended(yard: &Yard) {
    let session = yard.session(Purpose::Build);
    assert_eq!(good(&session, "busybox printf 'a\\n\\nb'; echo c >&2"), "a\n\nbc\n");
    assert_eq!(run(&session, &shell(0, "exit 77"), MINUTE).0, Some(Ending::Code(77)));
    assert_eq!(run(&session, &shell(0, "kill -9 $$"), MINUTE).0, Some(Ending::Signal(9)));
    assert_eq!(good(&session, "busybox hostname; busybox id -u; pwd; umask"), "wall\n0\n/\n0022\n");
    assert_eq!(run(&session, &shell(1000, "busybox id -u; busybox id -g"), MINUTE).1, "1000\n1000\n");
    let missing = session.run(&CommandJob { argv: vec!["nothere".to_owned()], ..shell(0, "") }, MINUTE, &mut |_| ());
    assert!(matches!(missing, Err(SandboxError::NotStarted { missing: true, .. })));
    // Output that goes on after the end is not waited for.
    let started = Instant::now();
    good(&session, "(while :; do echo x; done) & exit 0");
    assert!(started.elapsed() < Duration::from_secs(20));
}

fn what_takes_too_long_is_ended(yard: &Yard) {
    let session = yard.session(Purpose::Build);
    let started = Instant::now();
    assert_eq!(run(&session, &shell(0, "busybox sleep 1000"), Duration::from_millis(300)).0, None);
    assert!(started.elapsed() < Duration::from_secs(20));
}

fn many_commands_run_at_once_and_are_told_apart(yard: &Yard) {
    let session = yard.session(Purpose::Workspace);
    let null = fs::File::options().read(true).write(true).open("/dev/null").unwrap();
    let streams = || [null.as_fd(), null.as_fd(), null.as_fd()];
    let running: Vec<_> = (0..30)
        .map(|number| session.start(&shell(1000, &format!("busybox usleep 100000; exit {number}")), streams()).unwrap())
        .collect();
    let held = session.start(&shell(1000, "busybox sleep 1000"), streams()).unwrap();
    for (number, running) in running.iter().enumerate() {
        assert_eq!(running.wait().unwrap(), Ending::Code(number as i32));
    }
    held.signals()(15);
    assert_eq!(held.wait().unwrap(), Ending::Signal(15));
}

fn a_build_step_cannot_get_out(yard: &Yard) {
    let secret = yard.dir.path().join("secret");
    fs::write(&secret, "outside").unwrap();
    let session = yard.session(Purpose::Build);
    for refused in [
        "busybox mount -t tmpfs x /tmp".to_owned(),
        "busybox mount -o remount,rw /proc/sys".to_owned(),
        "busybox umount /proc/sys".to_owned(),
        "busybox unshare -r true".to_owned(),
        "busybox chroot /proc/1/root /bin/busybox true".to_owned(),
        "busybox readlink /proc/1/fd/0".to_owned(),
        "busybox cat /proc/1/fd/0".to_owned(),
        "echo x > /proc/1/fd/2".to_owned(),
        "busybox ls /proc/1/root/".to_owned(),
        "busybox cat /proc/1/maps".to_owned(),
        "busybox cat /proc/1/environ".to_owned(),
        "echo 1 > /proc/sys/kernel/hostname".to_owned(),
        "echo b > /proc/sysrq-trigger".to_owned(),
        "busybox mknod /disk b 8 0".to_owned(),
        "busybox dmesg".to_owned(),
        "busybox hostname other".to_owned(),
        "busybox date -s 2020-01-01; busybox test $(busybox date +%Y) = 2020".to_owned(),
        "busybox wget -T 1 -q -O - http://192.0.2.1/".to_owned(),
        "busybox nc -w 1 127.0.0.1 22 < /dev/null".to_owned(),
        "busybox chrt -f 1 busybox true".to_owned(),
        format!("busybox cat '{}'", secret.display()),
        format!("busybox cat /proc/1/cwd{}", secret.display()),
        "busybox ls /run/.outside".to_owned(),
    ] {
        let (ending, output) = run(&session, &shell(0, &refused), MINUTE);
        assert_ne!(ending, Some(Ending::Code(0)), "{refused} worked: {output}");
    }
    // Nothing that was open outside is open inside, and PID 1 cannot be harmed.
    assert_eq!(good(&session, "busybox ls /proc/self/fd | busybox wc -l").trim(), "4");
    assert_eq!(good(&session, "kill -9 1; kill -STOP 1; busybox true; echo still here").trim(), "still here");
    let shown = good(&session, "busybox ps");
    assert!(shown.lines().count() < 8, "{shown}");
    assert_eq!(fs::read_to_string(&secret).unwrap(), "outside");
}

fn a_fork_bomb_is_bounded_and_ends_with_its_sandbox(yard: &Yard) {
    let machine = fs::read_to_string("/proc/sys/kernel/pid_max").unwrap();
    let session = yard.session(Purpose::Build);
    // The shells that cannot start any more say so, which nobody has to read.
    let bomb = "b() { b | b & }; b 2> /dev/null; busybox sleep 1000";
    let (ending, _) = run(&session, &shell(0, bomb), Duration::from_secs(1));
    assert_eq!(ending, None);
    // Processes come and go while they are counted, so a single count may be of more than ever were there at once.
    let count = || fs::read_dir("/proc").unwrap().flatten().filter(|entry| entry.path().join("stat").exists()).count();
    let processes = (0..8).map(|_| count()).min().unwrap();
    assert!(processes < 6000, "{processes} processes");
    drop(session);
    assert_eq!(fs::read_to_string("/proc/sys/kernel/pid_max").unwrap(), machine);
    assert_eq!(good(&yard.session(Purpose::Build), "echo quiet"), "quiet\n");
}

fn a_terminal_inside_is_its_own_and_the_filter_is_on(yard: &Yard) {
    let session = yard.session(Purpose::Workspace);
    let job = CommandJob { terminal: [true; 3], ..shell(1000, "busybox tty; busybox stty size") };
    let null = fs::File::options().read(true).write(true).open("/dev/null").unwrap();
    let running = session.start(&job, [null.as_fd(), null.as_fd(), null.as_fd()]).unwrap();
    assert_eq!(running.wait().unwrap(), Ending::Code(0));
    let mut shown = Vec::new();
    let mut outer = fs::File::from(running.terminal().unwrap().try_clone().unwrap());
    // The outer end of a terminal that nobody has open any more reads as an error, after what was written.
    let _ = outer.read_to_end(&mut shown);
    let shown = String::from_utf8_lossy(&shown).into_owned();
    assert!(shown.contains("/dev/pts/0"), "{shown}");
    let status = good(&session, "busybox grep -E '^(Seccomp|NoNewPrivs|CapBnd):' /proc/self/status");
    assert!(status.contains("Seccomp:\t2") && status.contains("NoNewPrivs:\t1"), "{status}");
}

fn changes_end_up_in_the_upper_directory_and_mounts_nowhere(yard: &Yard) {
    let job = yard.job(Purpose::Build);
    let upper = job.overlay_scratch.join("root");
    let session = Session::begin(job, yard.identity).unwrap();
    good(&session, "echo x > /made; echo y > /tmp/not; echo z > /run/not; busybox rm -r /usr/share/doc");
    drop(session);
    let names: Vec<_> = fs::read_dir(&upper).unwrap().map(|entry| entry.unwrap().file_name()).collect();
    assert_eq!(names.len(), 2, "{names:?}");
    assert_eq!(fs::read_to_string(upper.join("made")).unwrap(), "x\n");
    let mounts = fs::read_to_string("/proc/self/mounts").unwrap();
    assert!(!mounts.contains(yard.dir.path().to_str().unwrap()));
}

fn a_folder_appears_and_its_place_must_be_a_plain_directory(yard: &Yard) {
    let outside = yard.dir.path().join("folder");
    fs::create_dir(&outside).unwrap();
    fs::write(outside.join("table"), "low tide").unwrap();
    let with = |inside: &str| {
        let mut job = yard.job(Purpose::Workspace);
        job.folders.push(FolderMount::new(outside.clone(), inside.into()));
        Session::begin(job, yard.identity)
    };
    let session = with("/code").unwrap();
    assert_eq!(run(&session, &shell(1000, "busybox cat /code/table; echo made > /code/new"), MINUTE).1, "low tide");
    assert_eq!(fs::read_to_string(outside.join("new")).unwrap(), "made\n");
    // A place that is not there is made, in the home as the account's.
    let mut job = yard.job(Purpose::Workspace);
    job.only = (1000, 1000);
    job.folders.push(FolderMount::new(outside.clone(), "/home/crew/deep/place".into()));
    let session = Session::begin(job, yard.identity).unwrap();
    let look = "busybox stat -c %u /home/crew/deep; busybox cat /home/crew/deep/place/table";
    assert_eq!(run(&session, &shell(1000, look), MINUTE).1, "1000\nlow tide");
    for inside in ["/proc/self/cwd", "/bin/busybox", "/bin/busybox/deeper"] {
        assert!(matches!(with(inside), Err(SandboxError::Inside(_))), "{inside} was taken");
    }
}

fn a_new_kept_folder_gets_rights_and_owner_of_its_place(yard: &Yard) {
    let kept = yard.dir.path().join("kept");
    fs::create_dir(&kept).unwrap();
    let mut job = yard.job(Purpose::Workspace);
    let mut mount = FolderMount::new(kept.clone(), "/tmp".into());
    (mount.kept, mount.new) = (true, true);
    job.folders.push(mount);
    let session = Session::begin(job, yard.identity).unwrap();
    assert_eq!(run(&session, &shell(1000, "busybox stat -c %a.%u /tmp; echo tide > /tmp/mine"), MINUTE).1, "1777.0\n");
    assert_eq!(fs::read_to_string(kept.join("mine")).unwrap(), "tide\n");
}

fn what_is_used_and_listened_on_is_told_and_marked_processes_are_killed(yard: &Yard) {
    let session = yard.session(Purpose::Workspace);
    let null = fs::File::options().read(true).write(true).open("/dev/null").unwrap();
    let streams = || [null.as_fd(), null.as_fd(), null.as_fd()];
    let mut marked = shell(1000, "busybox httpd -f -p 7070 & exec busybox sleep 1000");
    marked.env.insert("CAVRITH_SERVICE".to_owned(), "site".to_owned());
    let running = session.start(&marked, streams()).unwrap();
    let started = Instant::now();
    let used = loop {
        let used = session.measure();
        // Until both have become what they are to be.
        let there = used.listening.first().is_some_and(|one| one.program == "busybox") && used.processes == Some(2);
        if there || started.elapsed() > MINUTE {
            break used;
        }
    };
    assert_eq!(
        (used.listening[0].port, used.listening[0].program.as_str(), used.processes),
        (7070, "busybox", Some(2))
    );
    assert!(used.memory > Some(0) && session.connector().unwrap().is_listened(7070));
    assert!(session.changed("/bin/busybox").unwrap().is_some() && session.changed("/no/such").unwrap().is_none());
    session.kill_marked("CAVRITH_SERVICE=other").unwrap();
    session.kill_marked("CAVRITH_SERVICE=site").unwrap();
    assert_eq!(running.wait().unwrap(), Ending::Signal(9));
    while session.measure().processes != Some(0) {
        assert!(started.elapsed() < MINUTE, "a marked process lives");
    }
    session.end();
    assert!(matches!(session.start(&shell(0, "true"), streams()), Err(SandboxError::Gone)));
}

fn the_time_of_day_and_process_ids_can_be_shifted(yard: &Yard) {
    let mut job = yard.job(Purpose::Build);
    job.perturbations = Perturbations { clock_offset: 400 * 86_400, skipped_pids: 500 };
    let session = Session::begin(job, yard.identity).unwrap();
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs();
    // In the shell, in a program that it starts, and in one that this starts.
    let said = good(&session, "busybox date +%s; busybox env busybox sh -c 'busybox date +%s'; echo $$");
    let numbers: Vec<u64> = said.lines().map(|line| line.parse().unwrap()).collect();
    if cfg!(target_arch = "x86_64") {
        for number in &numbers[..2] {
            assert!(number.abs_diff(now + 400 * 86_400) < 60, "{said}");
        }
    }
    assert!(numbers[2] > 500, "{said}");
    assert_eq!(run(&session, &shell(0, "exit 5"), MINUTE).0, Some(Ending::Code(5)));
    assert_eq!(run(&session, &shell(0, "kill -9 $$"), MINUTE).0, Some(Ending::Signal(9)));
}

fn ports_inside_are_their_own_and_can_be_reached(yard: &Yard) {
    let session = yard.session(Purpose::Workspace);
    let connector = session.connector().unwrap();
    assert!(connector.connect(8080).is_err());
    let listener = connector.listen(8080).unwrap();
    // The same port outside is another one.
    let outside = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let port = outside.local_addr().unwrap().port();
    assert!(connector.connect(port).is_err());
    let mut ours = connector.connect(8080).unwrap();
    let (mut theirs, _) = listener.accept().unwrap();
    ours.write_all(b"tide").unwrap();
    drop(ours);
    let mut arrived = String::new();
    theirs.read_to_string(&mut arrived).unwrap();
    assert_eq!(arrived, "tide");
}

/// PID 1 and a command share their memory until the command is a program: nothing of that may stay in PID 1.
fn many_commands_one_after_the_other_leave_no_memory_behind(yard: &Yard) {
    let session = yard.session(Purpose::Workspace);
    let children = format!("/proc/{0}/task/{0}/children", session.process());
    let first = fs::read_to_string(children).unwrap().split_whitespace().next().unwrap().to_owned();
    let held = || -> u64 {
        let status = fs::read_to_string(format!("/proc/{first}/status")).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmData:")).unwrap();
        line.split_whitespace().next().unwrap().parse().unwrap()
    };
    let null = fs::File::options().read(true).write(true).open("/dev/null").unwrap();
    let mut command = CommandJob { argv: vec!["busybox".to_owned(), "true".to_owned()], ..shell(1000, "") };
    command.env.insert("LONG".to_owned(), "x".repeat(4000));
    let missing = CommandJob { argv: vec!["nothere".to_owned()], ..shell(1000, "") };
    let rounds = |count: u32| {
        for _ in 0..count {
            let running = session.start(&command, [null.as_fd(), null.as_fd(), null.as_fd()]).unwrap();
            assert_eq!(running.wait().unwrap(), Ending::Code(0));
        }
    };
    rounds(50);
    let before = held();
    rounds(400);
    let after = held();
    assert!(after <= before + 256, "PID 1 grew from {before} kB to {after} kB");
    assert!(matches!(
        session.start(&missing, [null.as_fd(), null.as_fd(), null.as_fd()]),
        Err(SandboxError::NotStarted { missing: true, .. })
    ));
}

fn sandboxes_end_with_their_session(yard: &Yard) {
    let session = yard.session(Purpose::Workspace);
    // A number of seconds that nobody else on this machine sleeps.
    let mark = format!("3144.{}", std::process::id());
    good(&session, &format!("busybox sleep {mark} > /dev/null 2>&1 & busybox usleep 300000"));
    let running = || {
        let mut processes = fs::read_dir("/proc").unwrap().flatten();
        processes.any(|entry| {
            let line = fs::read(entry.path().join("cmdline")).unwrap_or_default();
            String::from_utf8_lossy(&line).contains(&mark)
        })
    };
    assert!(running());
    drop(session);
    assert!(!running());
}

/// While there is one thread: a janitor that outlives its master removes what it watches.
fn a_janitor_removes_what_is_left() {
    let dir = tempfile::tempdir().unwrap();
    let watched = dir.path().join("watched");
    let gone = |dir: &std::path::Path| fs::remove_dir_all(dir).is_ok() || !dir.exists();
    let janitor = janitor::watch(&watched, gone).unwrap();
    fs::create_dir(&watched).unwrap();
    fs::write(watched.join("half"), "x").unwrap();
    drop(janitor);
    assert!(!watched.exists());
}

type Check = (&'static str, fn(&Yard));

fn main() {
    child::divert();
    // What cargo's runner passes (a filter, flags) is not for this binary; listing is asked for by tools.
    if std::env::args().any(|argument| argument == "--list") {
        return;
    }
    a_janitor_removes_what_is_left();
    let identity = match ids::enter() {
        Ok(identity) => identity,
        Err(error) => {
            println!("the wall cannot be tested here: {error}");
            std::process::exit(1);
        }
    };
    let yard = Yard::new(identity);
    let checks: &[Check] = &[
        (
            "what is written comes back byte for byte with how it ended",
            what_is_written_comes_back_byte_for_byte_with_how_it_ended,
        ),
        ("what takes too long is ended", what_takes_too_long_is_ended),
        ("many commands run at once and are told apart", many_commands_run_at_once_and_are_told_apart),
        ("a build step cannot get out", a_build_step_cannot_get_out),
        ("a fork bomb is bounded and ends with its sandbox", a_fork_bomb_is_bounded_and_ends_with_its_sandbox),
        ("a terminal inside is its own and the filter is on", a_terminal_inside_is_its_own_and_the_filter_is_on),
        (
            "changes end up in the upper directory and mounts nowhere",
            changes_end_up_in_the_upper_directory_and_mounts_nowhere,
        ),
        (
            "a folder appears and its place must be a plain directory",
            a_folder_appears_and_its_place_must_be_a_plain_directory,
        ),
        ("a new kept folder gets rights and owner of its place", a_new_kept_folder_gets_rights_and_owner_of_its_place),
        (
            "what is used and listened on is told and marked processes are killed",
            what_is_used_and_listened_on_is_told_and_marked_processes_are_killed,
        ),
        ("the time of day and process ids can be shifted", the_time_of_day_and_process_ids_can_be_shifted),
        ("ports inside are their own and can be reached", ports_inside_are_their_own_and_can_be_reached),
        (
            "many commands one after the other leave no memory behind",
            many_commands_one_after_the_other_leave_no_memory_behind,
        ),
        ("sandboxes end with their session", sandboxes_end_with_their_session),
    ];
    for (name, check) in checks {
        check(&yard);
        println!("test {name} ... ok");
    }
    println!("\ntest result: ok. {} passed", checks.len() + 1);
}
