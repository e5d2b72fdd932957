//! Ports carried over the wall, over sandboxes without a program in them: this test listens inside itself.
//!
//! A sandbox is our own executable started again, so this test has a `main` of its own. It needs root, or an ordinary
//! user with a range of subordinate ids.
#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a test fails by panicking, and tells what it did")]

use std::fs;
use std::io::{ErrorKind, Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, Shutdown, TcpListener, TcpStream, UdpSocket};
use std::time::{Duration, Instant};

use cavrith_core::arrangement::PortPart;
use cavrith_core::spec::Protocol;
use cavrith_keeper::KeeperError;
use cavrith_keeper::ports::Forward;
use cavrith_sandbox::job::{Job, Purpose};
use cavrith_sandbox::net::Connector;
use cavrith_sandbox::{Identity, Runtime as _, Session, child, ids};

const PATIENCE: Duration = Duration::from_secs(10);

/// An inside with nothing in it but its network.
struct Yard {
    _dir: tempfile::TempDir,
    _session: Session,
    connector: Connector,
}

impl Yard {
    fn new(identity: Identity) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let (layer, overlay_scratch) = (dir.path().join("layer"), dir.path().join("bench"));
        for name in ["dev", "proc", "run", "sys", "tmp"] {
            fs::create_dir_all(layer.join(name)).unwrap();
        }
        for name in ["root", "work", "merged"] {
            fs::create_dir_all(overlay_scratch.join(name)).unwrap();
        }
        let session =
            Session::begin(Job::new(Purpose::Workspace, vec![layer], overlay_scratch, "harbour"), identity).unwrap();
        let connector = session.connector().unwrap();
        Self { _dir: dir, _session: session, connector }
    }
}

/// A port that was free a moment ago, with some more after it.
fn free_port() -> u16 {
    loop {
        let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
        if port < 60_000 {
            return port;
        }
    }
}

fn part(name: &str, protocol: Protocol, inside: u16, outside: u16) -> PortPart {
    PortPart { name: name.to_owned(), protocol, inside, outside, count: 1, exact: false, bind: None, open: false }
}

fn ask(address: IpAddr, port: u16, question: &[u8]) -> std::io::Result<Vec<u8>> {
    let mut stream = TcpStream::connect((address, port))?;
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.write_all(question)?;
    stream.shutdown(Shutdown::Write)?;
    let mut answer = Vec::new();
    stream.read_to_end(&mut answer)?;
    Ok(answer)
}

/// Answers everything with itself backwards, until nobody asks any more.
fn answer_backwards(listener: TcpListener) {
    std::thread::spawn(move || {
        while let Ok((mut stream, _)) = listener.accept() {
            std::thread::spawn(move || {
                let mut all = Vec::new();
                let _ = stream.read_to_end(&mut all);
                all.reverse();
                let _ = stream.write_all(&all);
            });
        }
    });
}

fn connections_are_carried_whole_on_both_loopbacks(yard: &Yard) {
    answer_backwards(yard.connector.listen(8080).unwrap());
    let forward = Forward::begin(&[part("site", Protocol::Tcp, 8080, free_port())], &yard.connector).unwrap();
    let carried = &forward.carried()[0];
    assert_eq!(carried.addresses.len(), 2);
    for address in [IpAddr::V4(Ipv4Addr::LOCALHOST), IpAddr::V6(Ipv6Addr::LOCALHOST)] {
        assert_eq!(ask(address, carried.outside, b"tide").unwrap(), b"edit");
    }
    // More than any buffer on the way holds, both ways.
    let many: Vec<u8> = (0..8_000_000u32).map(|number| (number % 251) as u8).collect();
    let mut back = ask(Ipv4Addr::LOCALHOST.into(), carried.outside, &many).unwrap();
    back.reverse();
    assert_eq!(back, many);
    // Nobody listens behind another one: it is closed.
    let nobody = Forward::begin(&[part("nobody", Protocol::Tcp, 9, free_port())], &yard.connector).unwrap();
    let answer = ask(Ipv4Addr::LOCALHOST.into(), nobody.carried()[0].outside, b"anybody?");
    assert!(answer.is_err() || answer.is_ok_and(|answer| answer.is_empty()));
}

fn a_taken_port_moves_on_unless_it_has_to_be_that_one(yard: &Yard) {
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let outside = taken.local_addr().unwrap().port();
    let wanted = part("site", Protocol::Tcp, 8080, outside);
    let forward = Forward::begin(std::slice::from_ref(&wanted), &yard.connector).unwrap();
    let carried = &forward.carried()[0];
    assert!(carried.outside > outside && carried.wanted == outside);
    let exact = PortPart { exact: true, ..wanted };
    let error = Forward::begin(&[exact], &yard.connector).unwrap_err();
    assert!(matches!(error, KeeperError::PortTaken { outside: port, .. } if port == outside));
    // An address that this machine does not have is reported as such.
    let elsewhere = PortPart { bind: Some("192.0.2.1".parse().unwrap()), ..part("far", Protocol::Tcp, 1, free_port()) };
    let error = Forward::begin(&[elsewhere], &yard.connector).unwrap_err();
    assert!(matches!(error, KeeperError::PortRefused { .. }));
    // The last ports there are have no next ones.
    let last = TcpListener::bind("127.0.0.1:65535").unwrap();
    let error = Forward::begin(&[part("last", Protocol::Tcp, 1, u16::MAX)], &yard.connector).unwrap_err();
    assert!(matches!(error, KeeperError::NoFreePort { .. }), "{error}");
    drop(last);
}

fn a_row_of_ports_is_carried_in_its_order(yard: &Yard) {
    for inside in 7001..7004u16 {
        let listener = yard.connector.listen(inside).unwrap();
        std::thread::spawn(move || {
            while let Ok((mut stream, _)) = listener.accept() {
                let _ = stream.write_all(inside.to_string().as_bytes());
            }
        });
    }
    // One in the middle is taken, so the whole row moves.
    let middle = loop {
        let port = free_port();
        if let Ok(listener) = TcpListener::bind(("127.0.0.1", port + 1)) {
            break listener;
        }
    };
    let first = middle.local_addr().unwrap().port() - 1;
    let row = PortPart { count: 3, ..part("row", Protocol::Tcp, 7001, first) };
    let forward = Forward::begin(&[row], &yard.connector).unwrap();
    let carried = &forward.carried()[0];
    assert!(carried.outside >= first + 2, "{carried:?}");
    for offset in 0..3 {
        let said = ask(Ipv4Addr::LOCALHOST.into(), carried.outside + offset, b"").unwrap();
        assert_eq!(String::from_utf8(said).unwrap(), (7001 + offset).to_string());
    }
}

fn a_change_keeps_what_stays_and_closes_what_goes(yard: &Yard) {
    answer_backwards(yard.connector.listen(8090).unwrap());
    let (stays, goes) =
        (part("stays", Protocol::Tcp, 8090, free_port()), part("goes", Protocol::Tcp, 8090, free_port()));
    let mut forward = Forward::begin(&[stays.clone(), goes.clone()], &yard.connector).unwrap();
    let ports = |forward: &Forward| -> Vec<(String, u16)> {
        forward.carried().into_iter().map(|one| (one.name, one.outside)).collect()
    };
    let before = ports(&forward);
    // A connection that is open ends with its port, and one of another port goes on.
    let connect = |port: u16| {
        let mut open = TcpStream::connect(("127.0.0.1", port)).unwrap();
        open.set_read_timeout(Some(PATIENCE)).unwrap();
        open.write_all(b"ebb").unwrap();
        open
    };
    let (mut gone, mut open) = (connect(before[0].1), connect(before[1].1));
    std::thread::sleep(Duration::from_millis(100));
    forward.change(std::slice::from_ref(&stays)).unwrap();
    assert_eq!(ports(&forward), before[1..]);
    assert!(matches!(gone.read(&mut [0; 8]), Ok(0)) || gone.write(b"x").is_err());
    open.shutdown(Shutdown::Write).unwrap();
    let mut answer = String::new();
    open.read_to_string(&mut answer).unwrap();
    assert_eq!(answer, "bbe");
    let started = Instant::now();
    while TcpStream::connect(("127.0.0.1", before[0].1)).is_ok() {
        assert!(started.elapsed() < PATIENCE, "the port that went still takes connections");
        std::thread::sleep(Duration::from_millis(20));
    }
    assert_eq!(ask(Ipv4Addr::LOCALHOST.into(), before[1].1, b"tide").unwrap(), b"edit");
    // What cannot be carried is reported; what can be is.
    let taken = TcpListener::bind("127.0.0.1:0").unwrap();
    let refused = PortPart { exact: true, ..part("refused", Protocol::Tcp, 1, taken.local_addr().unwrap().port()) };
    assert!(forward.change(&[refused, stays, goes]).is_err());
    assert_eq!(forward.carried().len(), 2);
}

fn datagrams_find_their_way_back_to_whoever_sent_them(yard: &Yard) {
    let inner = yard.connector.listen_datagrams(5300).unwrap();
    std::thread::spawn(move || {
        let mut buffer = [0; 65_536];
        while let Ok((length, sender)) = inner.recv_from(&mut buffer) {
            buffer[..length].reverse();
            let _ = inner.send_to(&buffer[..length], sender);
        }
    });
    let forward = Forward::begin(&[part("names", Protocol::Udp, 5300, free_port())], &yard.connector).unwrap();
    let outside = forward.carried()[0].outside;
    let guests: Vec<_> = (0..40)
        .map(|number: u32| {
            let guest = UdpSocket::bind("127.0.0.1:0").unwrap();
            guest.set_read_timeout(Some(PATIENCE)).unwrap();
            guest.send_to(&number.to_le_bytes(), ("127.0.0.1", outside)).unwrap();
            guest
        })
        .collect();
    for (number, guest) in guests.iter().enumerate() {
        let mut answer = [0; 16];
        let length = guest.recv(&mut answer).unwrap();
        assert_eq!(answer[..length], (number as u32).to_be_bytes());
    }
    // An empty one is one, too, and ends nothing; the longest is carried whole.
    guests[0].send_to(&[], ("127.0.0.1", outside)).unwrap();
    assert_eq!(guests[0].recv(&mut [0; 16]).unwrap(), 0);
    let long: Vec<u8> = (0..60_000u32).map(|number| number as u8).collect();
    guests[1].send_to(&long, ("127.0.0.1", outside)).unwrap();
    let mut answer = vec![0; 65_536];
    let length = guests[1].recv(&mut answer).unwrap();
    answer[..length].reverse();
    assert_eq!(answer[..length], long);
    // More senders than are remembered: the newest are answered.
    for number in 0..700u32 {
        let guest = UdpSocket::bind("127.0.0.1:0").unwrap();
        guest.set_read_timeout(Some(PATIENCE)).unwrap();
        guest.send_to(&number.to_le_bytes(), ("127.0.0.1", outside)).unwrap();
        assert_eq!(guest.recv(&mut answer).unwrap(), 4, "sender {number}");
    }
    drop(forward);
    let started = Instant::now();
    while UdpSocket::bind(("127.0.0.1", outside)).is_err_and(|error| error.kind() == ErrorKind::AddrInUse) {
        assert!(started.elapsed() < PATIENCE, "the port is still taken");
        std::thread::sleep(Duration::from_millis(20));
    }
}

type Check = (&'static str, fn(&Yard));

fn main() {
    child::divert();
    // What cargo's runner passes (a filter, flags) is not for this binary; listing is asked for by tools.
    if std::env::args().any(|argument| argument == "--list") {
        return;
    }
    let identity = match ids::enter() {
        Ok(identity) => identity,
        Err(error) => {
            println!("carrying cannot be tested here: {error}");
            std::process::exit(1);
        }
    };
    let yard = Yard::new(identity);
    let checks: &[Check] = &[
        ("connections are carried whole on both loopbacks", connections_are_carried_whole_on_both_loopbacks),
        ("a taken port moves on unless it has to be that one", a_taken_port_moves_on_unless_it_has_to_be_that_one),
        ("a row of ports is carried in its order", a_row_of_ports_is_carried_in_its_order),
        ("a change keeps what stays and closes what goes", a_change_keeps_what_stays_and_closes_what_goes),
        ("datagrams find their way back to whoever sent them", datagrams_find_their_way_back_to_whoever_sent_them),
    ];
    for (name, check) in checks {
        check(&yard);
        println!("test {name} ... ok");
    }
    println!("\ntest result: ok. {} passed", checks.len());
}
