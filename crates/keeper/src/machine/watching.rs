//! Watching a live folder of a machine: what is changed here is forgotten there, and told to programs there that watch
//! for changes, since the kernel of a machine sees none that it did not make itself.
//!
//! Directories that the machine has looked into are watched (inotify(7)). What the machine changes comes back as an
//! event, too; that is known by the name that was changed, or by the time of the change, and is not told.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::io;
use std::mem::MaybeUninit;
use std::os::fd::{AsRawFd as _, OwnedFd};
use std::os::unix::fs::MetadataExt as _;
use std::path::PathBuf;
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::fs::inotify::{self, CreateFlags, ReadFlags, WatchFlags};
use rustix::io::Errno;
use rustix::net::SendFlags;
use serde::{Deserialize, Serialize};

use cavrith_sandbox::locked;

use super::folder::{Folder, Told};
use super::fuse;

/// How long changes are gathered before they are told.
const GATHERED: Duration = Duration::from_millis(10);
/// Changes that are told one by one; of more, as when a branch is checked out, the rest is only forgotten.
const MOST: usize = 2000;

/// Tells the process within what was changed, and returns when it has.
pub(crate) type Tell = Box<dyn Fn(Vec<Changed>) + Send>;

/// A change in a folder, as programs in the machine are told of it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Changed {
    /// From the folder on.
    #[serde(with = "cavrith_sandbox::wire::path")]
    pub path: PathBuf,
    pub how: How,
}

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub(crate) enum How {
    /// It is gone; whether it was a directory.
    Gone(bool),
    /// It is new; what kind (the upper bits of its mode).
    New(u32),
    /// It has another content.
    Content,
    /// It has other rights or times.
    Attributes,
}

/// Which directories are watched.
#[derive(Debug)]
pub(crate) struct Watching {
    inotify: OwnedFd,
    watched: Mutex<Watched>,
}

#[derive(Debug, Default)]
struct Watched {
    nodes: HashSet<u64>,
    by_number: HashMap<i32, u64>,
}

impl Watching {
    pub fn new() -> io::Result<Self> {
        let inotify = inotify::init(CreateFlags::CLOEXEC | CreateFlags::NONBLOCK)?;
        Ok(Self { inotify, watched: Mutex::default() })
    }

    pub fn watches(&self, node: u64) -> bool {
        locked(&self.watched).nodes.contains(&node)
    }

    /// Watches a directory from now on. Where the kernel has no watch left, nothing of it is believed for long.
    pub fn watch(&self, node: u64, place: &OwnedFd) {
        let mut watched = locked(&self.watched);
        if watched.nodes.contains(&node) {
            return;
        }
        let path = format!("/proc/self/fd/{}", place.as_raw_fd());
        let events = WatchFlags::CREATE | WatchFlags::DELETE | WatchFlags::MOVED_FROM | WatchFlags::MOVED_TO;
        let events = events | WatchFlags::MODIFY | WatchFlags::ATTRIB | WatchFlags::ONLYDIR;
        if let Ok(number) = inotify::add_watch(&self.inotify, path.as_str(), events) {
            watched.nodes.insert(node);
            watched.by_number.insert(number, node);
        }
    }

    fn node(&self, number: i32) -> Option<u64> {
        locked(&self.watched).by_number.get(&number).copied()
    }

    fn forget(&self, number: i32) {
        let mut watched = locked(&self.watched);
        if let Some(node) = watched.by_number.remove(&number) {
            watched.nodes.remove(&node);
        }
    }

    /// Follows what is changed in a folder, for as long as its machine is there.
    ///
    /// # Errors
    /// When there is no thread for it.
    pub fn begin(folder: &Arc<Folder>, watching: &Self, socket: OwnedFd, tell: Tell) -> io::Result<()> {
        let inotify = watching.inotify.try_clone()?;
        let folder = Arc::clone(folder);
        thread::Builder::new().name("watching".to_owned()).spawn(move || {
            let mut buffer = [MaybeUninit::uninit(); 64 << 10];
            while is_open(&inotify, &socket) {
                thread::sleep(GATHERED);
                let mut changes = BTreeMap::new();
                let mut reader = inotify::Reader::new(&inotify, &mut buffer);
                loop {
                    match reader.next() {
                        Ok(event) => {
                            let name = event.file_name().map(|name| name.to_bytes().to_vec()).unwrap_or_default();
                            folder.changed(event.wd(), event.events(), name, &mut changes);
                        }
                        Err(Errno::INTR) => {}
                        Err(_) => break,
                    }
                }
                folder.say(&socket, changes, &tell);
            }
        })?;
        Ok(())
    }
}

/// Waits for an event; false when the machine is gone.
fn is_open(inotify: &OwnedFd, socket: &OwnedFd) -> bool {
    loop {
        // That nobody is at the other end any more is told whatever is asked for (poll(2)).
        let mut watched = [PollFd::new(inotify, PollFlags::IN), PollFd::new(socket, PollFlags::empty())];
        match poll(&mut watched, Some(&Timespec { tv_sec: 3600, tv_nsec: 0 })) {
            Ok(_) | Err(Errno::INTR) => {}
            Err(_) => return false,
        }
        if watched[1].revents().intersects(PollFlags::HUP | PollFlags::ERR) {
            return false;
        }
        if !watched[0].revents().is_empty() {
            return true;
        }
    }
}

/// Changes by directory and name: what happened there, one after the other.
type Changes = BTreeMap<(u64, Vec<u8>), Vec<How>>;

impl Folder {
    /// Takes one event.
    fn changed(&self, number: i32, events: ReadFlags, name: Vec<u8>, changes: &mut Changes) {
        if events.contains(ReadFlags::IGNORED) {
            self.watching.forget(number);
            return;
        }
        let Some(node) = self.watching.node(number) else { return };
        if name.is_empty() {
            return;
        }
        let mut nodes = self.nodes();
        let comes = events.intersects(ReadFlags::CREATE | ReadFlags::MOVED_TO);
        let goes = events.intersects(ReadFlags::DELETE | ReadFlags::MOVED_FROM);
        if (comes || goes) && nodes.take_own(node, &name) {
            return;
        }
        let Ok(place) = nodes.place(node) else { return };
        let how = if goes {
            How::Gone(events.contains(ReadFlags::ISDIR))
        } else if comes {
            let kind = rustix::fs::statat(&place, name.as_slice(), rustix::fs::AtFlags::SYMLINK_NOFOLLOW);
            let Ok(found) = kind else { return };
            let kind = found.st_mode & 0o170_000;
            if events.contains(ReadFlags::MOVED_TO) && kind == 0o100_000 {
                // Whoever writes a file aside and puts it in place wants it to be read.
                changes.entry((node, name.clone())).or_default().extend([How::New(kind), How::Content]);
                return;
            }
            How::New(kind)
        } else {
            let known = nodes.named(&place, &name);
            let is_own = known.as_ref().is_some_and(|(node, meta)| {
                nodes.all.get(node).is_some_and(|node| node.own_change == (meta.ctime(), meta.ctime_nsec()))
            });
            if is_own {
                return;
            }
            if events.contains(ReadFlags::MODIFY) { How::Content } else { How::Attributes }
        };
        drop(nodes);
        let so_far = changes.entry((node, name)).or_default();
        if so_far.last() != Some(&how) {
            so_far.push(how);
        }
    }

    /// Has the machine forget what is otherwise, and tells its programs.
    fn say(&self, socket: &OwnedFd, changes: Changes, tell: &Tell) {
        let send = |message: &[u8]| {
            // When the machine is gone, there is nobody to be told.
            let _ = rustix::net::send(socket, message, SendFlags::NOSIGNAL);
        };
        let mut all = Vec::new();
        for ((directory, name), hows) in changes {
            let mut nodes = self.nodes();
            let Ok(place) = nodes.place(directory) else { continue };
            let path = nodes.path(directory, &name).filter(|_| all.len() < MOST);
            let inode = nodes.named(&place, &name).map(|(node, _)| node);
            let key = (directory, name.clone());
            // Something at the same name may have come and gone: what it is now is what counts.
            let gone = hows.iter().rev().find_map(|how| match how {
                How::Gone(is_directory) => Some(*is_directory),
                _ => None,
            });
            let new = hows.iter().rev().find_map(|how| if let How::New(kind) = how { Some(*kind) } else { None });
            match (&path, gone, new) {
                (Some(path), Some(is_directory), None) => {
                    nodes.told.insert(key, Told::Gone(is_directory));
                    all.push(Changed { path: path.clone(), how: How::Gone(is_directory) });
                    continue;
                }
                (Some(path), _, Some(kind)) => {
                    nodes.told.insert(key, Told::New);
                    all.push(Changed { path: path.clone(), how: How::New(kind) });
                }
                _ => {}
            }
            drop(nodes);
            if gone.is_some() || new.is_some() {
                send(&fuse::entry_changed(directory, &name));
                send(&fuse::inode_changed(directory));
            }
            inode.into_iter().for_each(|inode| send(&fuse::inode_changed(inode)));
            let rest = hows.into_iter().filter(|how| matches!(how, How::Content | How::Attributes));
            all.extend(path.iter().flat_map(|path| rest.clone().map(|how| Changed { path: path.clone(), how })));
        }
        if !all.is_empty() {
            tell(all);
            self.nodes().told.clear();
        }
    }
}
