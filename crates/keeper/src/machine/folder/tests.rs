//! The kernel of a machine, played: requests as it would write them, and some that it never would.

use std::fs;
use std::os::unix::fs::symlink;
use std::sync::mpsc;
use std::thread;

use rustix::net::{AddressFamily, SocketFlags, SocketType};

use super::super::watching::{Changed, How};
use super::*;

/// The thread that tells programs what was changed.
const TELLER: u32 = 77;

struct Kernel {
    dir: tempfile::TempDir,
    socket: OwnedFd,
    notices: OwnedFd,
    told: mpsc::Receiver<Vec<Changed>>,
    /// Who asks.
    process: u32,
}

fn pair() -> (OwnedFd, OwnedFd) {
    rustix::net::socketpair(AddressFamily::UNIX, SocketType::SEQPACKET, SocketFlags::CLOEXEC, None).unwrap()
}

impl Kernel {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let ((socket, theirs), (notices, noticing), (tell, told)) = (pair(), pair(), mpsc::channel());
        let path = dir.path().to_owned();
        thread::spawn(move || {
            let tell: Tell = Box::new(move |changes| drop(tell.send(changes)));
            Folder::serve(&path, &theirs, TELLER, (noticing, tell)).unwrap();
        });
        Self { dir, socket, notices, told, process: 1 }
    }

    fn asked_by_teller(self) -> Self {
        Self { process: TELLER, ..self }
    }

    fn ask(&self, operation: u32, node: u64, rest: &[u8]) -> Result<Vec<u8>, i32> {
        let head = Answer::default().u32(40 + rest.len() as u32).u32(operation).u64(5).u64(node);
        let request = head.u64(0).u32(self.process).u32(0).bytes(rest).0;
        rustix::net::send(&self.socket, &request, SendFlags::empty()).unwrap();
        let mut buffer = vec![0; fuse::MESSAGE];
        let (_, count) = rustix::net::recv(&self.socket, &mut buffer[..], RecvFlags::empty()).unwrap();
        let error = i32::from_le_bytes(buffer[4..8].try_into().unwrap());
        if error == 0 { Ok(buffer[16..count].to_vec()) } else { Err(-error) }
    }

    /// The node that a name has, and its mode.
    fn look(&self, node: u64, name: &str) -> Result<(u64, u32), i32> {
        let entry = self.ask(fuse::LOOKUP, node, format!("{name}\0").as_bytes())?;
        Ok((u64::from_le_bytes(entry[..8].try_into().unwrap()), number(&entry, 40 + 60)))
    }

    fn open(&self, node: u64, flags: OFlags) -> Result<u64, i32> {
        let opened = self.ask(fuse::OPEN, node, &Answer::default().u32(flags.bits()).u32(0).0)?;
        Ok(u64::from_le_bytes(opened[..8].try_into().unwrap()))
    }

    fn read(&self, node: u64, handle: u64) -> Vec<u8> {
        self.ask(fuse::READ, node, &Answer::default().u64(handle).u64(0).u32(4096).bytes(&[0; 20]).0).unwrap()
    }

    fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }
}

fn number(bytes: &[u8], at: usize) -> u32 {
    u32::from_le_bytes(bytes[at..at + 4].try_into().unwrap())
}

#[test]
fn no_name_and_no_link_leads_out_of_the_folder() {
    let kernel = Kernel::new();
    symlink("/etc", kernel.path("out")).unwrap();
    fs::write(kernel.path("tide"), "high").unwrap();
    for name in ["..", ".", "", "out/passwd", "/etc/passwd"] {
        assert_eq!(kernel.look(TOP, name), Err(2), "{name}");
    }
    let (link, mode) = kernel.look(TOP, "out").unwrap();
    assert_eq!(mode & 0o170_000, 0o120_000);
    assert_eq!(kernel.ask(fuse::READLINK, link, &[]).unwrap(), b"/etc");
    assert_eq!(kernel.look(link, "passwd"), Err(20));
    assert_eq!(kernel.open(link, OFlags::RDONLY), Err(1));
    assert_eq!(kernel.ask(fuse::OPENDIR, link, &[0; 8]), Err(20));
    // The name of a file that was exchanged for a link is not where it is written to.
    let (tide, _) = kernel.look(TOP, "tide").unwrap();
    fs::rename(kernel.path("tide"), kernel.path("ebb")).unwrap();
    symlink("/etc/passwd", kernel.path("tide")).unwrap();
    let handle = kernel.open(tide, OFlags::RDONLY).unwrap();
    assert_eq!(kernel.read(tide, handle), b"high");
    assert_eq!(kernel.open(999, OFlags::RDONLY), Err(116));
    let create = Answer::default().u32(OFlags::WRONLY.bits() | OFlags::CREATE.bits()).u32(0o644).u64(0);
    assert_eq!(kernel.ask(fuse::CREATE, TOP, &create.bytes(b"tide\0").0), Err(40));
}

#[test]
fn what_is_made_inside_is_the_members_and_runs_as_nobody_else() {
    let kernel = Kernel::new();
    let create = Answer::default().u32(OFlags::RDWR.bits()).u32(0o6755).u64(0).bytes(b"tide\0").0;
    let made = kernel.ask(fuse::CREATE, TOP, &create).unwrap();
    let (node, handle) = (u64::from_le_bytes(made[..8].try_into().unwrap()), number(&made, 128));
    let owner = (number(&made, 40 + 68), number(&made, 40 + 72));
    assert_eq!(owner, (ACCOUNT_ID, ACCOUNT_ID));
    let write = |bytes: &[u8], offset: u64| {
        let head = Answer::default().u64(handle.into()).u64(offset).u32(bytes.len() as u32).bytes(&[0; 20]);
        kernel.ask(fuse::WRITE, node, &head.bytes(bytes).0).unwrap();
    };
    write(b"high water", 0);
    write(b"W", 5);
    assert_eq!(fs::read(kernel.path("tide")).unwrap(), b"high Water");
    assert_eq!(kernel.read(node, handle.into()), b"high Water");
    let mode = |name: &str| fs::metadata(kernel.path(name)).unwrap().mode() & 0o7777;
    assert_eq!(mode("tide") & 0o7000, 0);
    let set = Answer::default().u64(fuse::SET_MODE.into()).bytes(&[0; 60]).u32(0o6711).bytes(&[0; 16]).0;
    kernel.ask(fuse::SETATTR, node, &set).unwrap();
    assert_eq!(mode("tide"), 0o711);
    // A device would be this machine's.
    for kind in [0o020_000, 0o060_000] {
        let request = Answer::default().u32(kind | 0o666).u32(0x103).u64(0).bytes(b"null\0").0;
        assert_eq!(kernel.ask(fuse::MKNOD, TOP, &request), Err(1));
    }
    assert!(!kernel.path("null").exists());
    let rename = Answer::default().u64(TOP).bytes(b"tide\0ebb\0").0;
    kernel.ask(fuse::RENAME, TOP, &rename).unwrap();
    let link = Answer::default().u64(node).bytes(b"flow\0").0;
    kernel.ask(fuse::LINK, TOP, &link).unwrap();
    assert_eq!(fs::metadata(kernel.path("ebb")).unwrap().nlink(), 2);
    kernel.ask(fuse::UNLINK, TOP, b"ebb\0").unwrap();
    assert_eq!(kernel.ask(fuse::RMDIR, TOP, b"flow\0"), Err(20));
}

#[test]
fn a_directory_is_listed_in_parts_and_each_entry_once() {
    let kernel = Kernel::new();
    (0..300).for_each(|number| fs::write(kernel.path(&format!("{number:03}")), "").unwrap());
    let handle = kernel.ask(fuse::OPENDIR, TOP, &[0; 8]).unwrap();
    let handle = u64::from_le_bytes(handle[..8].try_into().unwrap());
    let (mut names, mut from) = (Vec::new(), 0_u64);
    loop {
        let request = Answer::default().u64(handle).u64(from).u32(4096).bytes(&[0; 20]).0;
        let list = kernel.ask(fuse::READDIRPLUS, TOP, &request).unwrap();
        if list.is_empty() {
            break;
        }
        let mut rest = Bytes(&list);
        while !rest.0.is_empty() {
            rest.take(128 + 8).unwrap();
            from = rest.u64().unwrap();
            let length = rest.u32().unwrap() as usize;
            rest.u32().unwrap();
            names.push(String::from_utf8(rest.take(length).unwrap().to_vec()).unwrap());
            rest.take((8 - length % 8) % 8).unwrap();
        }
    }
    names.retain(|name| !name.starts_with('.'));
    names.sort();
    assert_eq!(names, (0..300).map(|number| format!("{number:03}")).collect::<Vec<_>>());
}

#[test]
fn what_is_changed_outside_is_told_and_what_is_changed_inside_is_not() {
    let kernel = Kernel::new();
    fs::write(kernel.path("tide"), "").unwrap();
    let (tide, _) = kernel.look(TOP, "tide").unwrap();
    // From inside: the kernel knows of that by itself.
    kernel.ask(fuse::MKDIR, TOP, &Answer::default().u32(0o755).u32(0).bytes(b"own\0").0).unwrap();
    let handle = kernel.open(tide, OFlags::WRONLY).unwrap();
    let write = Answer::default().u64(handle).u64(0).u32(4).bytes(&[0; 20]).bytes(b"high").0;
    kernel.ask(fuse::WRITE, tide, &write).unwrap();
    assert!(kernel.told.recv_timeout(std::time::Duration::from_millis(300)).is_err());
    fs::write(kernel.path("new"), "x").unwrap();
    fs::write(kernel.path("tide"), "low water").unwrap();
    fs::remove_dir(kernel.path("own")).unwrap();
    let mut told = Vec::new();
    while !(told.contains(&Changed { path: "own".into(), how: How::Gone(true) })
        && told.contains(&Changed { path: "new".into(), how: How::New(0o100_000) })
        && told.contains(&Changed { path: "tide".into(), how: How::Content }))
    {
        told.extend(kernel.told.recv_timeout(std::time::Duration::from_secs(20)).unwrap());
    }
    // What the kernel has of it is not believed any more.
    let mut buffer = [0; 4096];
    let (_, count) = rustix::net::recv(&kernel.notices, &mut buffer[..], RecvFlags::empty()).unwrap();
    assert!(count >= 16 && buffer[8..16] == [0; 8]);
}

#[test]
fn the_one_who_tells_changes_nothing() {
    let kernel = Kernel::new();
    fs::write(kernel.path("tide"), "high water").unwrap();
    let (tide, _) = kernel.look(TOP, "tide").unwrap();
    let kernel = kernel.asked_by_teller();
    kernel.ask(fuse::UNLINK, TOP, b"tide\0").unwrap();
    let shorten = Answer::default().u64(fuse::SET_SIZE.into()).u64(0).u64(0).bytes(&[0; 64]).0;
    kernel.ask(fuse::SETATTR, tide, &shorten).unwrap();
    kernel.open(tide, OFlags::WRONLY | OFlags::TRUNC).unwrap();
    let make = Answer::default().u32(0o755).u32(0).bytes(b"nothing\0").0;
    assert_eq!(kernel.ask(fuse::MKDIR, TOP, &make), Err(2));
    assert_eq!(fs::read(kernel.path("tide")).unwrap(), b"high water");
    assert!(!kernel.path("nothing").exists());
}

#[test]
fn nonsense_is_refused_or_passed_over() {
    let kernel = Kernel::new();
    for operation in 0..60 {
        if [fuse::FORGET, fuse::BATCH_FORGET, fuse::INTERRUPT].contains(&operation) {
            continue;
        }
        for rest in [&[][..], &[255; 7], &[255; 200]] {
            let _ = kernel.ask(operation, TOP, rest);
            let _ = kernel.ask(operation, u64::MAX, rest);
        }
    }
    // Not even a request.
    rustix::net::send(&kernel.socket, &[1, 2, 3], SendFlags::empty()).unwrap();
    fs::write(kernel.path("tide"), "").unwrap();
    assert!(kernel.look(TOP, "tide").is_ok());
}

#[test]
fn places_are_closed_when_too_many_are_open_and_found_again_only_if_they_are_the_same() {
    let dir = tempfile::tempdir().unwrap();
    fs::create_dir_all(dir.path().join("a/b")).unwrap();
    let names: Vec<_> = (0..20).map(|number| format!("page-{number}")).collect();
    names.iter().for_each(|name| fs::write(dir.path().join("a/b").join(name), name).unwrap());
    let mut nodes = Nodes { most: 4, ..Nodes::default() };
    let opened = |path: &Path| {
        let place = rustix::fs::open(path, OFlags::PATH | OFlags::NOFOLLOW, Mode::empty()).unwrap();
        let meta = meta_of(&place).unwrap();
        (place, meta)
    };
    let enter = |nodes: &mut Nodes, path: &Path, parent: u64| {
        let (place, meta) = opened(path);
        nodes.enter(place, &meta, (parent, path.file_name().unwrap_or_default().as_bytes().to_vec()))
    };
    let top = enter(&mut nodes, dir.path(), 0);
    let a = enter(&mut nodes, &dir.path().join("a"), top);
    let b = enter(&mut nodes, &dir.path().join("a/b"), a);
    let files: Vec<_> = names.iter().map(|name| enter(&mut nodes, &dir.path().join("a/b").join(name), b)).collect();
    let open = |nodes: &Nodes| nodes.all.values().filter(|node| node.place.is_some()).count();
    assert!(open(&nodes) <= 5, "{}", open(&nodes));
    let read = |place: &OwnedFd| fs::read_to_string(format!("/proc/self/fd/{}", place.as_raw_fd())).unwrap();
    for (file, name) in files.iter().zip(&names) {
        assert_eq!(read(&nodes.place(*file).unwrap()), *name);
    }
    assert!(open(&nodes) <= 7, "{}", open(&nodes));
    // Another file with the name, and none: neither is what the machine knows.
    let path = |number: usize| dir.path().join("a/b").join(&names[number]);
    fs::remove_file(path(0)).unwrap();
    fs::write(path(0), "another").unwrap();
    fs::rename(path(1), dir.path().join("a/b/moved")).unwrap();
    assert_eq!(nodes.place(files[0]).unwrap_err(), Errno::STALE);
    assert_eq!(nodes.place(files[1]).unwrap_err(), Errno::STALE);
    // What somebody has open while its name goes stays open.
    let (directory, _) = opened(&dir.path().join("a/b"));
    nodes.pin(&directory, names[2].as_bytes());
    fs::remove_file(path(2)).unwrap();
    files[3..].iter().for_each(|file| drop(nodes.place(*file).unwrap()));
    assert_eq!(read(&nodes.place(files[2]).unwrap()), names[2]);
}
