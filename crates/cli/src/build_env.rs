//! What a working command needs of this machine: who we are, the store, a place in staging, and a janitor for it.

use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{SystemTime, UNIX_EPOCH};

use cavrith_engine::home::Home;
use cavrith_engine::member::Member;
use cavrith_engine::supply::Supply;
use cavrith_sandbox::{Identity, ids, janitor};
use cavrith_sources::web::Web;
use cavrith_store::Store;
use cavrith_store::owners::Ownership;
use cavrith_store::staging::{self, Staging};
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;

use crate::failure::Failure;

/// A store with a place in staging, and a janitor for it.
pub struct StoreSession {
    pub home: Home,
    pub store: Store,
    /// Dropped before the janitor, which then finds nothing to do.
    pub staging: Staging,
    pub web: Web,
    pub member: Member,
    _janitor: janitor::Janitor,
}

/// A shed, and all the owners that an image's files have.
pub struct BuildEnv {
    pub identity: Identity,
    pub store_session: StoreSession,
}

/// This machine's home of Cavrith.
pub fn home() -> Result<Home, Failure> {
    Home::find().ok_or_else(|| {
        let text = "there is no HOME in the environment, so Cavrith does not know where to keep its store; set HOME or CAVRITH_HOME";
        Failure::Own(3, text.to_owned())
    })
}

/// This machine's home of Cavrith, and the store in it.
pub fn store() -> Result<(Home, Store), Failure> {
    let home = home()?;
    let store = Store::open(&home.store())?;
    Ok((home, store))
}

/// The way to the web, which `CAVRITH_OFFLINE` closes.
pub fn web() -> Web {
    Web::new(std::env::var_os("CAVRITH_OFFLINE").is_some_and(|value| !value.is_empty() && value != "0"))
}

/// Set while signals belong to a command inside.
pub static ATTENDING: AtomicBool = AtomicBool::new(false);

impl StoreSession {
    /// Opens the store. Must be called before the process has a second thread.
    pub fn open() -> Result<Self, Failure> {
        let (home, mut store) = store()?;
        store.sweep()?;
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        let name = format!("{}-{}", std::process::id(), now.as_nanos());
        // First the janitor, then what it watches: there is no moment at which a kill leaves something that nobody
        // removes.
        let janitor = janitor::watch(&store.staging_dir(&name), staging::remove_run)?;
        let staging = store.stage(&name)?;
        store.lease(&staging);
        watch_interrupts();
        Ok(Self { home, store, staging, web: web(), member: Member::find()?, _janitor: janitor })
    }
}

impl StoreSession {
    /// Where bytes come from.
    pub fn supply<'a>(&'a self, observer: cavrith_engine::event::Observer<'a>) -> Supply<'a> {
        let Self { store, staging, web, member, .. } = self;
        Supply { store, staging, web, member, bodies: None, observer }
    }
}

impl BuildEnv {
    /// Gets everything ready. Must be called before the process has a second thread.
    pub fn open() -> Result<Self, Failure> {
        // First the owners: what the janitor has to remove may belong to any of them.
        let identity = ids::enter()?;
        let mut store_session = StoreSession::open()?;
        if identity.records_owners() {
            store_session.store.set_ownership(Ownership::Recorded);
        }
        Ok(Self { identity, store_session })
    }
}

/// On an interrupt, says so and ends with 130. Everything inside ends with this process, and the janitor removes what
/// was under way.
fn watch_interrupts() {
    let Ok(mut signals) = Signals::new([SIGHUP, SIGINT, SIGTERM]) else {
        return;
    };
    std::thread::spawn(move || {
        for _ in signals.forever() {
            if !ATTENDING.load(Ordering::SeqCst) {
                let _ = std::io::Write::write_all(
                    &mut std::io::stderr(),
                    b"\r\x1b[Kinterrupted; what was finished is kept, the rest is removed\n",
                );
                std::process::exit(130);
            }
        }
    });
}
