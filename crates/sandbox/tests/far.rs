//! What stands in a machine, without the machine: both ends of the way to it, and a PID 1 behind the inner one.
//!
//! A sandbox is our own executable started again, so this test has a `main` of its own, as `walls` has.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a test fails by panicking, and tells what it did")]

mod busybox;

use std::collections::BTreeMap;
use std::fs::{self, File};
use std::io::{self, Read as _, Write as _};
use std::os::fd::{AsFd as _, OwnedFd};
use std::os::unix::net::UnixStream;
use std::process::Command;
use std::sync::{Arc, mpsc};
use std::thread;
use std::time::{Duration, Instant};

use cavrith_sandbox::guest::inner::{Guest, Stood};
use cavrith_sandbox::guest::outer::{Outer, Said};
use cavrith_sandbox::job::{CommandJob, Ending, Job, Purpose};
use cavrith_sandbox::runtime::Runtime as _;
use cavrith_sandbox::{Identity, SandboxError, Session, child, ids};

const MINUTE: Duration = Duration::from_secs(60);

struct Far {
    _dir: tempfile::TempDir,
    session: Session,
    outer: Arc<Outer>,
    guest: Arc<Guest>,
    says: mpsc::Receiver<Said>,
    /// The machine's end of its port.
    port: UnixStream,
    /// What its inside hangs on.
    pid: u32,
}

impl Far {
    fn new(identity: Identity) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let scratch = dir.path().join("scratch");
        ["root", "work", "merged"].iter().for_each(|name| fs::create_dir_all(scratch.join(name)).unwrap());
        std::os::unix::fs::chown(scratch.join("root"), Some(0), Some(0)).unwrap();
        let job = Job::new(Purpose::Workspace, vec![busybox::layer(dir.path())], scratch, "far");
        let (near, far) = UnixStream::pair().unwrap();
        let (outer, socket, says) = Outer::attend(near).unwrap();
        let session = Session::in_machine(Arc::clone(&outer), &socket).unwrap();
        let port = far.try_clone().unwrap();
        let guest = Arc::new(Guest::new(File::from(OwnedFd::from(far))).unwrap());
        let (serving, (ready, stands)) = (Arc::clone(&guest), mpsc::channel());
        thread::spawn(move || {
            let stood = Stood::begin(job, identity).unwrap();
            serving.stand(&stood).unwrap();
            ready.send(stood.process()).unwrap();
            serving.serve(|number, what| serving.say(number, serde_json::json!({ "heard": what })).unwrap());
            stood.end();
        });
        let pid = stands.recv().unwrap();
        Self { _dir: dir, session, outer, guest, says, port, pid }
    }

    fn run(&self, script: &str) -> (Option<Ending>, Vec<u8>) {
        let mut output = Vec::new();
        let ending = self.session.run(&shell(script), MINUTE, &mut |bytes| output.extend(bytes)).unwrap();
        (ending, output)
    }

    fn good(&self, script: &str) -> String {
        let (ending, output) = self.run(script);
        let output = String::from_utf8_lossy(&output).into_owned();
        assert_eq!(ending, Some(Ending::Code(0)), "{script}: {output}");
        output
    }
}

fn shell(script: &str) -> CommandJob {
    CommandJob {
        argv: ["/bin/busybox", "sh", "-c", script].map(str::to_owned).to_vec(),
        env: BTreeMap::from([("PATH".to_owned(), "/bin".to_owned())]),
        directory: "/".to_owned(),
        ..CommandJob::default()
    }
}

fn what_is_written_comes_back_in_its_order_with_how_it_ended(far: &Far) {
    assert_eq!(far.good("busybox printf 'a\\n\\nb'; echo c >&2; echo d"), "a\n\nbc\nd\n");
    assert_eq!(far.run("exit 77").0, Some(Ending::Code(77)));
    assert_eq!(far.run("kill -9 $$").0, Some(Ending::Signal(9)));
    // More than may be on its way at once, of which the last byte is there when the end is told.
    let (ending, output) = far.run("busybox dd if=/dev/zero bs=65536 count=200 2>/dev/null; echo end");
    assert_eq!((ending, output.len()), (Some(Ending::Code(0)), 65536 * 200 + 4));
    assert!(output.ends_with(b"end\n"));
    let missing = far.session.run(&CommandJob { argv: vec!["nothere".to_owned()], ..shell("") }, MINUTE, &mut |_| ());
    assert!(matches!(missing, Err(SandboxError::NotStarted { missing: true, .. })));
}

fn input_arrives_and_ends_and_one_whom_nobody_reads_holds_up_no_other(far: &Far) {
    let null = File::options().read(true).write(true).open("/dev/null").unwrap();
    let (kept, blocked) = io::pipe().unwrap();
    let stuck = far.session.start(&shell("busybox yes"), [null.as_fd(), blocked.as_fd(), null.as_fd()]);
    let stuck = stuck.unwrap();
    let (input, mut writer) = io::pipe().unwrap();
    let (mut output, theirs) = io::pipe().unwrap();
    let counting = far.session.start(&shell("busybox wc -c"), [input.as_fd(), theirs.as_fd(), null.as_fd()]).unwrap();
    drop((input, theirs));
    writer.write_all(&vec![b'x'; 3_000_000]).unwrap();
    drop(writer);
    let mut said = String::new();
    output.read_to_string(&mut said).unwrap();
    assert_eq!((said.trim(), counting.wait().unwrap()), ("3000000", Ending::Code(0)));
    // Whoever writes learns that nobody reads any more.
    drop((kept, blocked));
    assert!(matches!(stuck.wait().unwrap(), Ending::Signal(13) | Ending::Code(1)));
}

fn many_commands_run_at_once_and_are_told_apart(far: &Far) {
    let null = File::options().read(true).write(true).open("/dev/null").unwrap();
    let streams = || [null.as_fd(), null.as_fd(), null.as_fd()];
    let start = |script: String| far.session.start(&shell(&script), streams()).unwrap();
    let running: Vec<_> = (0..20).map(|number| start(format!("busybox usleep 50000; exit {number}"))).collect();
    let held = start("busybox sleep 1000".to_owned());
    for (number, running) in running.iter().enumerate() {
        assert_eq!(running.wait().unwrap(), Ending::Code(number as i32));
    }
    held.signals()(15);
    assert_eq!(held.wait().unwrap(), Ending::Signal(15));
    assert!(far.session.measure().processes.is_some());
}

fn a_terminal_there_has_the_size_of_the_one_here(far: &Far) {
    let null = File::options().read(true).write(true).open("/dev/null").unwrap();
    let script = "busybox stty size; read line; busybox stty size; echo \"got $line\"";
    let command = CommandJob { terminal: [true; 3], ..shell(script) };
    let running = far.session.start(&command, [null.as_fd(), null.as_fd(), null.as_fd()]).unwrap();
    let outer = running.terminal().unwrap().try_clone().unwrap();
    let size = |rows, columns| {
        let size = rustix::termios::Winsize { ws_row: rows, ws_col: columns, ws_xpixel: 0, ws_ypixel: 0 };
        rustix::termios::tcsetwinsize(&outer, size).unwrap();
    };
    size(31, 101);
    // It is looked at now and then.
    thread::sleep(Duration::from_millis(300));
    (&File::from(outer.try_clone().unwrap())).write_all(b"tide\n").unwrap();
    assert_eq!(running.wait().unwrap(), Ending::Code(0));
    let (mut file, mut said) = (File::from(outer), Vec::new());
    // The inner end is closed by now, which reads as an error behind what was written.
    let _ = file.read_to_end(&mut said);
    let said = String::from_utf8_lossy(&said).into_owned();
    assert!(said.contains("31 101") && said.contains("got tide"), "{said:?}");
}

fn ports_there_are_reached_and_taken(far: &Far) {
    let connector = far.session.connector().unwrap();
    assert!(connector.connect(8080).is_err() && !connector.is_listened(8080));
    let null = File::options().read(true).write(true).open("/dev/null").unwrap();
    let serving =
        far.session.start(&shell("busybox nc -l -p 8080 -e busybox cat"), [null.as_fd(), null.as_fd(), null.as_fd()]);
    let serving = serving.unwrap();
    let until = Instant::now() + MINUTE;
    while !connector.is_listened(8080) && Instant::now() < until {
        thread::sleep(Duration::from_millis(10));
    }
    let mut stream = connector.connect(8080).unwrap();
    stream.write_all(b"tide\n").unwrap();
    stream.shutdown(std::net::Shutdown::Write).unwrap();
    let mut said = String::new();
    stream.read_to_string(&mut said).unwrap();
    assert_eq!((said.as_str(), serving.wait().unwrap()), ("tide\n", Ending::Code(0)));
    // And the other way: what connects there arrives here.
    let listener = connector.take(0).unwrap();
    let port = listener.port;
    assert!(connector.take(port).is_err());
    let asked = thread::spawn(move || {
        let (mut stream, from) = listener.accept().unwrap();
        assert!(from.unwrap().ip().is_loopback());
        stream.write_all(b"ferry\n").unwrap();
    });
    assert_eq!(far.good(&format!("busybox nc 127.0.0.1 {port} </dev/null")), "ferry\n");
    asked.join().unwrap();
    let until = Instant::now() + MINUTE;
    while connector.is_listened(port) && Instant::now() < until {
        thread::sleep(Duration::from_millis(10));
    }
    assert!(!connector.is_listened(port));
}

fn what_is_said_is_answered_and_a_connection_is_handed_over(far: &Far) {
    let said = far.outer.ask(serde_json::json!("tide"), MINUTE).unwrap();
    assert_eq!(said.what, serde_json::json!({ "heard": "tide" }));
    let (mut near, theirs) = UnixStream::pair().unwrap();
    far.guest.hand_over(serde_json::json!("a caller"), theirs).unwrap();
    let said = far.says.recv_timeout(MINUTE).unwrap();
    assert_eq!(said.what, serde_json::json!("a caller"));
    let mut stream = UnixStream::from(said.stream.unwrap());
    stream.write_all(b"who is there").unwrap();
    stream.shutdown(std::net::Shutdown::Write).unwrap();
    let mut asked = String::new();
    near.read_to_string(&mut asked).unwrap();
    assert_eq!(asked, "who is there");
}

fn an_inside_that_ends_by_itself_is_told(far: &Far) {
    let null = File::options().read(true).write(true).open("/dev/null").unwrap();
    let held = far.session.start(&shell("busybox sleep 1000"), [null.as_fd(), null.as_fd(), null.as_fd()]).unwrap();
    let (gone, told) = mpsc::channel();
    far.session.when_gone(Box::new(move || gone.send(()).unwrap()));
    assert!(Command::new("kill").args(["-9", &far.pid.to_string()]).status().unwrap().success());
    told.recv_timeout(MINUTE).unwrap();
    assert!(matches!(held.wait(), Err(SandboxError::Gone)));
}

/// Root in a machine can write to its port whatever it likes.
fn nonsense_from_the_machine_ends_it_and_nothing_else(far: &Far) {
    let null = File::options().read(true).write(true).open("/dev/null").unwrap();
    let held = far.session.start(&shell("busybox sleep 1000"), [null.as_fd(), null.as_fd(), null.as_fd()]).unwrap();
    let (gone, told) = mpsc::channel();
    far.session.when_gone(Box::new(move || gone.send(()).unwrap()));
    // A frame that is longer than any may be.
    (&far.port).write_all(&[1, 9, 0, 0, 0, 255, 255, 255, 255]).unwrap();
    told.recv_timeout(MINUTE).unwrap();
    assert!(matches!(held.wait(), Err(SandboxError::Gone)));
    assert!(far.outer.is_gone());
    assert!(matches!(
        far.session.start(&shell("true"), [null.as_fd(), null.as_fd(), null.as_fd()]),
        Err(SandboxError::Gone)
    ));
    assert!(far.outer.ask(serde_json::json!("tide"), MINUTE).is_err());
}

type Check = (&'static str, fn(&Far));

fn main() {
    child::divert();
    if std::env::args().any(|argument| argument == "--list") {
        return;
    }
    let identity = ids::enter().unwrap();
    let checks: [Check; 8] = [
        ("an inside that ends", an_inside_that_ends_by_itself_is_told),
        ("what is written comes back", what_is_written_comes_back_in_its_order_with_how_it_ended),
        ("input", input_arrives_and_ends_and_one_whom_nobody_reads_holds_up_no_other),
        ("many commands", many_commands_run_at_once_and_are_told_apart),
        ("a terminal", a_terminal_there_has_the_size_of_the_one_here),
        ("ports", ports_there_are_reached_and_taken),
        ("what is said", what_is_said_is_answered_and_a_connection_is_handed_over),
        ("nonsense", nonsense_from_the_machine_ends_it_and_nothing_else),
    ];
    for (name, check) in checks {
        check(&Far::new(identity));
        println!("{name}: ok");
    }
}
