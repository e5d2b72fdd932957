//! Ways from one workspace of a member to a port of another one of theirs. The number is listened on inside, on the
//! loopback; each connection is made by the keeper of the other workspace, which hands the socket over through its
//! door. No port is open on this machine for it, and both workspaces keep their own networks.

use std::net::TcpStream;
use std::os::fd::OwnedFd;
use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::Duration;

use cavrith_engine::personal::Link;
use cavrith_sandbox::net::Listener;

use crate::KeeperError;
use crate::client::Client;
use crate::place::Place;
use crate::splicing::{Pair, carry};
use crate::work::Keeper;

/// Connections of a link at once.
const AT_ONCE: usize = 256;
/// How long is waited before more are taken.
const PAUSE: Duration = Duration::from_millis(50);

impl Keeper {
    /// Begins to take connections for all links. What cannot be listened on is shown in the status.
    pub fn begin_links(self: &Arc<Self>) {
        for (name, link) in &self.personal.links {
            match self.connector.take(link.port) {
                Ok(listener) => {
                    let (keeper, name, link) = (Arc::clone(self), name.clone(), link.clone());
                    thread::spawn(move || keeper.attend_link(&listener, &name, &link));
                }
                Err(error) => {
                    let why = format!("port {} is taken inside: {error}", link.port);
                    self.note_anew(&format!("the link {name} leads nowhere: "), &why);
                }
            }
        }
    }

    fn attend_link(self: &Arc<Self>, listener: &Listener, name: &str, link: &Link) {
        let open = Arc::new(AtomicUsize::new(0));
        loop {
            let Ok((inner, _)) = listener.accept() else {
                // Out of descriptors, or the inside has ended, and this process with it.
                thread::sleep(PAUSE);
                continue;
            };
            if open.fetch_add(1, Ordering::SeqCst) >= AT_ONCE {
                open.fetch_sub(1, Ordering::SeqCst);
                thread::sleep(PAUSE);
                continue;
            }
            let (keeper, open, name, link) = (Arc::clone(self), Arc::clone(&open), name.to_owned(), link.clone());
            thread::spawn(move || {
                let label = format!("the link {name} leads nowhere: ");
                match dial(&keeper.place, &link) {
                    Ok(outer) => {
                        keeper.forget_note(&label);
                        carry(&Arc::new(Pair { outer, inner }));
                    }
                    Err(why) => keeper.note_anew(&label, &why),
                }
                open.fetch_sub(1, Ordering::SeqCst);
            });
        }
    }
}

/// A connection to the port that a link leads to. An error tells, in words, what is in the way.
fn dial(own: &Place, link: &Link) -> Result<TcpStream, String> {
    let Link { workspace, port } = link;
    let place = find(own, workspace)?;
    let client = Client::new(&place).ok_or_else(|| format!("{workspace} does not run; cavrith start starts it"))?;
    let socket: Result<OwnedFd, KeeperError> = client.dial(*port);
    socket.map(TcpStream::from).map_err(|error| match error {
        KeeperError::Refused { why, .. } => format!("nothing in {workspace} listens on port {port}: {why}"),
        error => error.to_string(),
    })
}

/// The one other workspace of a name, beside ours.
fn find(own: &Place, workspace: &str) -> Result<Place, String> {
    let above = own.dir.parent().unwrap_or(Path::new("/"));
    let mut places = Place::all_in(above);
    places.retain(|place| place.name == workspace && place.dir != own.dir);
    match (places.pop(), places.is_empty()) {
        (Some(place), true) => Ok(place),
        (None, _) => Err(format!("there is no workspace {workspace}")),
        (Some(_), false) => Err(format!("there are several workspaces {workspace}")),
    }
}
