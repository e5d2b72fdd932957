//! The process within a machine: it furnishes the inside, starts its PID 1, and does what the keeper wants of both.

use std::fs::{self, File};
use std::io;
use std::net::Ipv4Addr;
use std::os::fd::AsRawFd as _;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::thread;
use std::time::Duration;

use base64::Engine as _;
use base64::prelude::BASE64_STANDARD;
use rustix::mount::MountFlags;
use rustix::time::Timespec;

use cavrith_core::account::ACCOUNT_ID;
use cavrith_core::arrangement::FolderPart;
use cavrith_core::tree::encoding;
use cavrith_engine::error::file_error;
use cavrith_sandbox::Identity;
use cavrith_sandbox::groups::Groups;
use cavrith_sandbox::guest::inner::{Guest, Stood};
use cavrith_sandbox::job::{FolderMount, Purpose};
use cavrith_sandbox::net;
use cavrith_sandbox::runtime::ReadChanges;
use cavrith_store::owners::Owners;
use cavrith_store::walk::{self, Over};

use super::fuse;
use super::telling::Teller;
use super::{Answer, Begin, InsideFolder, InsidePlace, VERSION, Wish};
use crate::KeeperError;
use crate::furniture::{self, Furnished, Furniture};
use crate::home;
use crate::namespaces::{group_limits, keep_limits};
use crate::place::Place;
use crate::synced;

/// The name under which our executable is started in a machine. Nobody can type it by accident.
pub(crate) const NAME: &str = "cavrith: guest";
/// Where what is written lies.
const DATA: &str = "/data/workspace";
/// Where kept folders lie.
const KEPT: &str = "/data/kept";
/// Where copies of synced folders lie.
const SYNCED: &str = "/data/synced";
/// Where what was changed before a drop lies.
const ASIDE: &str = "/data/set-aside";
/// The root of the image.
const LOWER: &str = "/lower";
/// The machine's network, as the hypervisor makes it (QEMU, `-netdev user`).
const ADDRESS: Ipv4Addr = Ipv4Addr::new(10, 0, 2, 15);
const MASK: Ipv4Addr = Ipv4Addr::new(255, 255, 255, 0);
const GATEWAY: Ipv4Addr = Ipv4Addr::new(10, 0, 2, 2);

/// Runs until the keeper ends it or is gone; the machine ends with this process.
pub(crate) fn run() -> io::Result<()> {
    let guest = Arc::new(Guest::new(port()?)?);
    let inside: Arc<OnceLock<Inside>> = Arc::default();
    let teller = Teller::begin(&guest)?;
    say(&guest, 0, &Answer::Here { version: VERSION.to_owned() });
    guest.serve(|number, what| {
        let wish = match serde_json::from_value(what) {
            Ok(wish) => wish,
            Err(error) => return say(&guest, number, &Answer::Failed(error.to_string())),
        };
        let done = |outcome: io::Result<()>| {
            say(&guest, number, &outcome.map_or_else(|error| Answer::Failed(error.to_string()), |()| Answer::Done));
        };
        match (wish, inside.get()) {
            (Wish::Begin(begin), None) => {
                let (guest, inside, teller) = (Arc::clone(&guest), Arc::clone(&inside), teller.clone());
                // Beside this loop, by which the keeper answers for the folders.
                thread::spawn(move || match Inside::begin(&begin, &guest, &teller) {
                    Ok((stood, begun)) => {
                        let _ = inside.set(stood);
                        say(&guest, number, &begun);
                        // What it started ends with this thread (prctl(2), `PR_SET_PDEATHSIG`).
                        loop {
                            thread::park();
                        }
                    }
                    Err(error) => say(&guest, number, &Answer::Failed(error.to_string())),
                });
            }
            (Wish::WriteFile { inside, text }, Some(stood)) => {
                let file = stood.files.iter().find(|(path, _)| path == Path::new(&inside));
                done(file.map_or(Err(io::ErrorKind::NotFound.into()), |(_, outside)| fs::write(outside, text)));
            }
            (Wish::Limit(limits), Some(stood)) => done(stood.groups.limit(limits)),
            (Wish::ReadChanges { lower, is_whole }, Some(stood)) => {
                let (guest, scratch) = (Arc::clone(&guest), stood.scratch.clone());
                thread::spawn(move || {
                    let read = read_changes(&scratch, &lower, is_whole);
                    say(&guest, number, &read.map_or_else(Answer::Failed, Answer::Changes));
                });
            }
            (Wish::Changed { folder, changes }, _) => teller.tell(number, folder, changes),
            (Wish::Hold, _) => {
                let _ = serde_json::to_value(Answer::Done).map(|done| guest.say_last(number, done));
            }
            (Wish::GoOn { now }, _) => {
                // A machine that was halted did not notice that time went by.
                let time = Timespec { tv_sec: (now / 1000) as i64, tv_nsec: (now % 1000 * 1_000_000) as i64 };
                let _ = rustix::time::clock_settime(rustix::time::ClockId::Realtime, time);
                guest.go_on();
                done(Ok(()));
            }
            (Wish::End, stood) => {
                stood.into_iter().for_each(|inside| inside.stood.end());
                rustix::fs::sync();
                done(Ok(()));
                std::process::exit(0);
            }
            (Wish::Begin(_), Some(_)) | (_, None) => done(Err(io::ErrorKind::InvalidInput.into())),
        }
    });
    inside.get().into_iter().for_each(|inside| inside.stood.end());
    rustix::fs::sync();
    Ok(())
}

/// Says something to the keeper; when it is gone, so is this machine.
pub(super) fn say(guest: &Guest, number: u64, answer: &Answer) {
    let _ = serde_json::to_value(answer).map(|answer| guest.say(number, answer));
}

/// The way to the keeper: the serial port of our name, once the kernel has found it.
fn port() -> io::Result<File> {
    let ports = Path::new("/sys/class/virtio-ports");
    for _ in 0..1000 {
        for entry in fs::read_dir(ports).into_iter().flatten().flatten() {
            let name = fs::read_to_string(entry.path().join("name")).unwrap_or_default();
            if name.trim() == "cavrith" {
                return File::options().read(true).write(true).open(Path::new("/dev").join(entry.file_name()));
            }
        }
        thread::sleep(Duration::from_millis(10));
    }
    Err(io::ErrorKind::NotFound.into())
}

/// An inside that stands.
struct Inside {
    stood: Stood,
    files: Vec<(PathBuf, PathBuf)>,
    groups: Groups,
    scratch: PathBuf,
}

impl Inside {
    fn begin(begin: &Begin, guest: &Arc<Guest>, teller: &Teller) -> Result<(Self, Answer), KeeperError> {
        let Begin { arrangement, apt_sources, secrets, personal, home, network, folders, fresh } = begin;
        let mut notes = Vec::new();
        if *network && let Err(error) = net::bring_up("eth0", (ADDRESS, MASK), GATEWAY) {
            notes.push(format!("the machine's network cannot be used: {error}"));
        }
        let place = Place {
            name: "machine".to_owned(),
            project: PathBuf::from(DATA).join("project"),
            named: false,
            called: false,
            dir: PathBuf::from(DATA),
            kept: PathBuf::from(KEPT),
        };
        place.make(Identity::Root)?;
        if *fresh {
            home::keep(&place, &arrangement.setup.account)?;
            set_aside(&place).map_err(file_error("set aside what is in", &place.dir))?;
        }
        let scratch = place.scratch(&arrangement.image)?;
        if let Some(home) = home {
            let account = (arrangement.setup.account.as_str(), Identity::Root);
            let gave_way = home::bring(&place, &scratch, account, || Ok(home.clone()))?;
            notes.extend(gave_way.map(|(files, _)| {
                format!("this image has its own {}, so what was changed there is out of its way", files.join(", "))
            }));
        }
        let groups = Groups::make_here("workspace", &|_| {});
        if let Err(error) = groups.limit(group_limits(arrangement.limits)) {
            notes.push(format!("limits cannot be set: {error}"));
        }
        let (limits, each) = keep_limits(arrangement.limits, groups.kept);
        let furniture = Furniture {
            place: &place,
            arrangement,
            identity: Identity::Root,
            apt_sources: apt_sources.as_deref(),
            secrets,
            personal,
        };
        let layers = vec![PathBuf::from(LOWER)];
        let gems = furniture::versions_of_gems(&layers);
        let mut job = furniture.job(Purpose::Machine, layers, scratch.clone())?;
        (job.groups, job.each) = (groups.dirs(), each);
        let (mut live, mut copies) = (0, 0);
        for InsideFolder { inside, place } in folders {
            let mut mount = FolderMount::new(PathBuf::new(), inside.clone());
            // Its files have the owners that they have in the machine.
            mount.kept = true;
            match place {
                InsidePlace::Live => {
                    mount.outside = mount_live(guest, teller, live)?;
                    live += 1;
                }
                InsidePlace::Synced(name) => {
                    mount.outside = watch_copy(guest, (name, copies), (&arrangement.folders, inside))?;
                    copies += 1;
                }
                InsidePlace::Except(name) => {
                    let at = on_disk(&PathBuf::from(DATA).join("except").join(name))?.0;
                    let owned = (Some(ACCOUNT_ID), Some(ACCOUNT_ID));
                    std::os::unix::fs::chown(&at, owned.0, owned.1).map_err(file_error("give away", &at))?;
                    (mount.outside, mount.image_first) = (at, true);
                }
                InsidePlace::Kept(name, owner) => {
                    (mount.outside, mount.new) = on_disk(&PathBuf::from(KEPT).join(name))?;
                    mount.owner.clone_from(owner);
                }
            }
            job.folders.push(mount);
        }
        let files = job.files.iter().map(|file| (file.inside.clone(), file.outside.clone())).collect();
        let stood = Stood::begin(job, Identity::Root)?;
        notes.extend(stood.notes.iter().cloned());
        let Furnished { notes: more, offered, .. } = furniture.lay(stood.process())?;
        notes.extend(more);
        guest.stand(&stood)?;
        for (index, one) in offered.into_iter().enumerate() {
            let guest = Arc::clone(guest);
            thread::spawn(move || {
                while let Ok(stream) = one.next() {
                    let _ = serde_json::to_value(Answer::Caller(index)).map(|what| guest.hand_over(what, stream));
                }
            });
        }
        let begun = Answer::Begun { notes, limits, kept: groups.kept, gems };
        Ok((Self { stood, files, groups, scratch }, begun))
    }
}

/// What was changed over the root, which nobody has to have stopped changing.
fn read_changes(scratch: &Path, lower: &str, is_whole: bool) -> Result<ReadChanges, String> {
    let words = |error: &dyn std::fmt::Display| error.to_string();
    let bytes = BASE64_STANDARD.decode(lower).map_err(|error| words(&error))?;
    let lower = encoding::decode(&bytes).map_err(|error| words(&error))?;
    let root = is_whole.then(|| {
        let measure = walk::measure(Path::new(LOWER), Owners::Real).map_err(|error| words(&error))?;
        match measure.strange.first() {
            Some((path, what)) => Err(format!("{path} is a {what}, which no image has")),
            None => Ok(measure.tree.image_fingerprint().to_string()),
        }
    });
    let found = walk::scratch(scratch, Over::Overlay, Owners::Real, &lower).map_err(|error| words(&error))?;
    let changed = found.changed.iter().map(|(path, millis)| (path.as_bytes().to_vec(), *millis)).collect();
    let tree = BASE64_STANDARD.encode(encoding::encode(&found.tree));
    Ok(ReadChanges { root: root.transpose()?, tree, changed })
}

/// Moves what was changed over images away, into a directory of its own.
fn set_aside(place: &Place) -> io::Result<()> {
    let aside = Path::new(ASIDE).join(crate::record::now().to_string());
    fs::create_dir_all(&aside)?;
    for scratch in place.scratches() {
        fs::rename(&scratch, aside.join(scratch.file_name().unwrap_or_default()))?;
    }
    Ok(())
}

/// A directory on the machine's disk; true when it is new, or nothing is in it yet.
fn on_disk(path: &Path) -> Result<(PathBuf, bool), KeeperError> {
    fs::create_dir_all(path).map_err(file_error("make", path))?;
    let is_new = fs::read_dir(path).is_ok_and(|mut entries| entries.next().is_none());
    Ok((path.to_owned(), is_new))
}

/// Watches over the copy of a synced folder, and gives where it lies.
fn watch_copy(
    guest: &Guest,
    (name, number): (&str, usize),
    (all, inside): (&[FolderPart], &Path),
) -> Result<PathBuf, KeeperError> {
    let dir = PathBuf::from(SYNCED).join(name);
    let watched = (|| -> io::Result<PathBuf> {
        let (files, told) = synced::copy_in(&dir, Some((ACCOUNT_ID, ACCOUNT_ID)))?;
        let part = all.iter().find(|part| Path::new(&part.inside) == inside);
        let rules = part.map(|part| synced::rules(part, all)).transpose()?.unwrap_or_default();
        let stream = synced::watch(files.clone(), (told, dir.join("seen")), rules)?;
        guest.hand_over(serde_json::to_value(Answer::Copy(number))?, stream)?;
        Ok(files)
    })();
    Ok(watched.map_err(file_error("watch over the copy of a synced folder", &dir))?)
}

/// Mounts a live folder, whose files the keeper has.
fn mount_live(guest: &Guest, teller: &Teller, number: usize) -> Result<PathBuf, KeeperError> {
    let at = PathBuf::from(format!("/run/folders/{number}"));
    let mounted = (|| -> io::Result<()> {
        fs::create_dir_all(&at)?;
        let device = File::options().read(true).write(true).open("/dev/fuse")?;
        let options = format!(
            "fd={},rootmode=40000,user_id=0,group_id=0,allow_other,default_permissions,max_read={}",
            device.as_raw_fd(),
            fuse::MOST
        );
        let options = std::ffi::CString::new(options)?;
        let flags = MountFlags::NOSUID | MountFlags::NODEV;
        rustix::mount::mount("cavrith", &at, "fuse", flags, Some(options.as_c_str()))?;
        let notices = serde_json::to_value(Answer::Notices(number))?;
        guest.hand_over_sink(notices, device.try_clone()?.into())?;
        let what = serde_json::to_value(Answer::Folder { number, teller: teller.thread })?;
        guest.hand_over_messages(what, device.into())?;
        teller.follows(number, &at)
    })();
    mounted.map_err(file_error("mount the live folder", &at))?;
    Ok(at)
}
