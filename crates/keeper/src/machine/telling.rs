//! Telling programs in a machine what was changed in a live folder outside: each change is made once more here, by a
//! thread that the folder's server knows, and for which it changes nothing. The kernel of the machine does not know
//! that, and tells whoever watches.

use std::collections::HashMap;
use std::fs::File;
use std::io;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::{Arc, Mutex, mpsc};
use std::thread;
use std::time::Duration;

use rustix::fs::{AtFlags, FileType, Mode, OFlags, ResolveFlags, StatxFlags};
use rustix::io::Errno;

use cavrith_sandbox::guest::inner::Guest;
use cavrith_sandbox::locked;

use super::Answer;
use super::inside::say;
use super::watching::{Changed, How};

/// How often a new name is tried while the kernel has yet to forget what was there before.
const TRIES: usize = 10;

/// What is to be told: for which request, in which folder.
type Order = (u64, usize, Vec<Changed>);

/// The thread that tells.
#[derive(Debug, Clone)]
pub(super) struct Teller {
    /// Its number.
    pub thread: u32,
    orders: mpsc::Sender<Order>,
    folders: Arc<Mutex<HashMap<usize, OwnedFd>>>,
}

impl Teller {
    /// Starts the thread.
    ///
    /// # Errors
    /// When there can be none.
    pub fn begin(guest: &Arc<Guest>) -> io::Result<Self> {
        let (orders, coming) = mpsc::channel::<Order>();
        let (number, told) = mpsc::channel();
        let folders: Arc<Mutex<HashMap<usize, OwnedFd>>> = Arc::default();
        let (guest, known) = (Arc::clone(guest), Arc::clone(&folders));
        thread::Builder::new().name("telling".to_owned()).spawn(move || {
            let _ = number.send(rustix::thread::gettid().as_raw_nonzero().get());
            while let Ok((request, folder, changes)) = coming.recv() {
                if let Some(top) = locked(&known).get(&folder) {
                    // What is not there any more was told already, or will be.
                    changes.iter().for_each(|changed| drop(tell(top, changed)));
                }
                say(&guest, request, &Answer::Done);
            }
        })?;
        let thread = told.recv().map_err(io::Error::other)?.unsigned_abs();
        Ok(Self { thread, orders, folders })
    }

    /// Tells of a folder from now on.
    ///
    /// # Errors
    /// When it cannot be opened.
    pub fn follows(&self, folder: usize, at: &Path) -> io::Result<()> {
        let top = rustix::fs::open(at, OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC, Mode::empty())?;
        locked(&self.folders).insert(folder, top);
        Ok(())
    }

    /// Tells of some changes, and answers the request when it has.
    pub fn tell(&self, request: u64, folder: usize, changes: Vec<Changed>) {
        let _ = self.orders.send((request, folder, changes));
    }
}

/// No link leads out of the folder, and nothing else that is mounted in it is touched.
const WITHIN: ResolveFlags = ResolveFlags::BENEATH
    .union(ResolveFlags::NO_SYMLINKS)
    .union(ResolveFlags::NO_MAGICLINKS)
    .union(ResolveFlags::NO_XDEV);

fn tell(top: &OwnedFd, changed: &Changed) -> io::Result<()> {
    let path = &changed.path;
    let (Some(above), Some(name)) = (path.parent(), path.file_name()) else { return Ok(()) };
    let above = if above.as_os_str().is_empty() { Path::new(".") } else { above };
    let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
    let above = rustix::fs::openat2(top, above, flags, Mode::empty(), WITHIN)?;
    match changed.how {
        How::Gone(is_directory) => {
            let flags = if is_directory { AtFlags::REMOVEDIR } else { AtFlags::empty() };
            rustix::fs::unlinkat(&above, name, flags)?;
        }
        How::New(mode) => {
            let (kind, plain) = (FileType::from_raw_mode(mode), Mode::from_raw_mode(0o600));
            for _ in 0..TRIES {
                let made = match kind {
                    FileType::Directory => rustix::fs::mkdirat(&above, name, plain),
                    FileType::Symlink => rustix::fs::symlinkat("elsewhere", &above, name),
                    kind => rustix::fs::mknodat(&above, name, kind, plain, 0),
                };
                if made != Err(Errno::EXIST) {
                    break;
                }
                thread::sleep(Duration::from_millis(2));
            }
        }
        How::Content => {
            // What was read of it is forgotten before anybody is told.
            let fresh = AtFlags::STATX_FORCE_SYNC | AtFlags::SYMLINK_NOFOLLOW;
            let found = rustix::fs::statx(&above, name, fresh, StatxFlags::BASIC_STATS)?;
            let flags = OFlags::WRONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
            let file = File::from(rustix::fs::openat(&above, name, flags, Mode::empty())?);
            if file.metadata()?.is_file() {
                file.set_len(found.stx_size)?;
            }
        }
        How::Attributes => {
            let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK | OFlags::CLOEXEC;
            let file = File::from(rustix::fs::openat(&above, name, flags, Mode::empty())?);
            let rights = file.metadata()?.permissions();
            file.set_permissions(rights)?;
        }
    }
    Ok(())
}
