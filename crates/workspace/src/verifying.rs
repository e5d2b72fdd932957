//! Measuring this machine's image, and a fresh workspace of it, against the seal.

use std::collections::BTreeMap;
use std::io::{Read as _, Write as _};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::time::Duration;

use cavrith_core::arrangement::{Arrangement, PortPart};
use cavrith_core::digest::PinsDigest;
use cavrith_core::lock::{Lock, fit};
use cavrith_core::path::RootPath;
use cavrith_core::plan::Plan;
use cavrith_core::seal::Seal;
use cavrith_core::setup::Setup;
use cavrith_core::spec::Protocol;
use cavrith_core::tree::Tree;
use cavrith_core::tree::diff::changes;
use cavrith_core::verdict::{self, Aspect, Difference, Measured, NOTHING, Verdict, count, size, workspace_aspects};
use cavrith_engine::build::Workshop;
use cavrith_engine::event::Event;
use cavrith_engine::project::Project;
use cavrith_engine::steps::{account_command, ask, fresh_session};
use cavrith_sandbox::Session;
use cavrith_sandbox::net::Connector;
use cavrith_sources::deb;
use cavrith_store::StoreError;
use cavrith_store::records::ImageRecord;

use crate::WorkspaceError;
use crate::mounts::{self, Grounds};
use crate::ports::Forward;

/// How long a measuring command inside may take.
const LIMIT: Duration = Duration::from_secs(60);

/// Measures everything, and reads every byte of the image.
///
/// # Errors
/// When there is no seal, or something cannot be measured at all.
pub fn verify(workshop: Workshop<'_>, project: &Project, lock: &Lock) -> Result<Verdict, WorkspaceError> {
    let seal = lock.seal.as_ref().ok_or(WorkspaceError::NoSeal)?;
    let mut aspects = vec![spec_and_lock(project, lock, seal)];
    let plan = Plan::new(&project.spec, lock);
    let Some(record) = workshop.store.image_for(&plan.image_key)? else {
        let difference = Difference::new("image", seal.words.clone(), "not built here; run cavrith build");
        aspects.push(Aspect { name: "image".to_owned(), measured: NOTHING.to_owned(), differences: vec![difference] });
        return Ok(Verdict { aspects });
    };
    (workshop.observer)(Event::Stage {
        text: format!("reading every byte of {}", count(record.layers.len(), "layer")),
    });
    let image = Image::measure(workshop, &record, plan.epoch)?;
    aspects.push(image.aspect(seal, plan.epoch));
    aspects.push(image.packages(lock)?);
    (workshop.observer)(Event::Stage { text: "measuring a fresh workspace".to_owned() });
    let measured = measure_workspace(workshop, project, lock, &record, &image)?;
    aspects.extend(workspace_aspects(seal, &measured));
    Ok(Verdict { aspects })
}

fn spec_and_lock(project: &Project, lock: &Lock, seal: &Seal) -> Aspect {
    let mut differences = Vec::new();
    let pins: PinsDigest = lock.pins_digest();
    for (what, expected, here) in [
        ("the spec's meaning", seal.spec.spoken(), project.spec.digest.spoken()),
        ("the lock's pins", seal.pins.spoken(), pins.spoken()),
    ] {
        if expected != here {
            differences.push(Difference::new(what, expected, here));
        }
    }
    differences.extend(
        fit::misfits(&project.spec, lock)
            .into_iter()
            .map(|misfit| Difference::new(misfit.what, misfit.spec, misfit.lock)),
    );
    Aspect { name: "spec and lock".to_owned(), measured: "the spec's meaning, the lock's pins".to_owned(), differences }
}

/// The image as it is on disk now.
struct Image<'a> {
    workshop: Workshop<'a>,
    record: &'a ImageRecord,
    /// The merged tree, measured.
    merged: Tree,
    differences: Vec<Difference>,
}

impl<'a> Image<'a> {
    /// Reads every byte of every layer.
    fn measure(workshop: Workshop<'a>, record: &'a ImageRecord, epoch: u64) -> Result<Self, StoreError> {
        let mut merged = Tree::with_root();
        let mut differences = Vec::new();
        for layer in &record.layers {
            let listed = workshop.store.layer_tree(&layer.tree);
            let nothing = Tree::with_root();
            let measure = workshop.store.measure(&layer.tree, epoch, listed.as_ref().unwrap_or(&nothing))?;
            let from = || Some(layer.name.clone());
            match listed {
                Ok(expected) => {
                    let found = changes(&expected, &measure.tree);
                    let told: Vec<_> = found.iter().map(|change| change.path.clone()).collect();
                    differences.extend(found.iter().map(|change| Difference::of_change(change, from())));
                    // A changed directory entry changes its directory's time too, which is no news.
                    let news = measure.other_times.iter().filter(|path| {
                        let directory = measure.tree.get(path).is_some_and(|entry| entry.kind.is_directory());
                        !directory && !told.contains(path)
                    });
                    for path in news {
                        let mut difference = Difference::new(path.to_string(), "the lock's time stamp", "another one");
                        difference.from = from();
                        differences.push(difference);
                    }
                    if found.is_empty() && measure.tree.digest() != layer.tree {
                        let mut difference = Difference::new("hard links", "as they were made", "others");
                        difference.from = from();
                        differences.push(difference);
                    }
                }
                Err(error) => {
                    let mut difference = Difference::new("the layer's list", layer.tree.spoken(), error.to_string());
                    difference.from = from();
                    differences.push(difference);
                }
            }
            merged.overlay(&measure.tree);
        }
        Ok(Self { workshop, record, merged, differences })
    }

    fn aspect(&self, seal: &Seal, epoch: u64) -> Aspect {
        let mut differences = self.differences.clone();
        let sealed: BTreeMap<_, _> = seal.layers.iter().map(|layer| (&layer.name, layer.tree)).collect();
        let here: BTreeMap<_, _> = self.record.layers.iter().map(|layer| (&layer.name, layer.tree)).collect();
        let mut names: Vec<_> = sealed.keys().chain(here.keys()).collect();
        names.sort();
        names.dedup();
        let found = self.merged.image_fingerprint(epoch);
        // The same image may be cut into other layers: a directory that was made anew is one mark in an overlay, and
        // many deletions in a copy. Only where the whole differs do the layers tell where.
        let differing = names.into_iter().filter(|name| found != seal.image && sealed.get(*name) != here.get(*name));
        for name in differing {
            let spoken = |layers: &BTreeMap<_, cavrith_core::digest::TreeDigest>| {
                layers.get(name).map_or_else(|| NOTHING.to_owned(), cavrith_core::digest::TreeDigest::spoken)
            };
            differences.push(Difference::new(format!("layer {name}"), spoken(&sealed), spoken(&here)));
        }
        if found != seal.image && differences.is_empty() {
            differences.push(Difference::new("image", seal.image.spoken(), found.spoken()));
        }
        let measured = format!("{} entries, {} read", self.merged.entries.len(), size(self.merged.content_bytes()));
        Aspect { name: "image".to_owned(), measured, differences }
    }

    /// The content of a file of the image, from the uppermost layer that has it.
    fn read(&self, path: &str) -> Option<Vec<u8>> {
        let path = RootPath::from_archive(path.as_bytes()).ok()?;
        let layers = self.record.layers.iter().map(|layer| &layer.tree);
        self.workshop.store.file_of_image(layers, &self.merged, &path).ok()?
    }

    /// What dpkg's records inside say, against the lock.
    fn packages(&self, lock: &Lock) -> Result<Aspect, WorkspaceError> {
        let status = self.read("var/lib/dpkg/status").unwrap_or_default();
        let listed = deb::parse_status(&String::from_utf8_lossy(&status));
        let version = |package: &deb::Listed| {
            if package.installed { package.version.clone() } else { format!("{}, not installed", package.version) }
        };
        let here: BTreeMap<_, _> = listed.iter().map(|package| (package.name.clone(), version(package))).collect();
        let mut differences = Vec::new();
        let pinned: BTreeMap<&str, &str> = lock
            .packages
            .iter()
            .map(|pin| (pin.name.as_str(), pin.version.as_str()))
            .chain(
                lock.debian
                    .iter()
                    .flat_map(|debian| debian.packages())
                    .map(|(name, pin)| (name.as_str(), pin.version.as_str())),
            )
            .collect();
        for (name, version) in &pinned {
            let found = here.get(*name).map_or(NOTHING, String::as_str);
            if found != *version {
                differences.push(Difference::new(*name, *version, found));
            }
        }
        // A base from an archive, or a step, may bring packages of its own; the image's fingerprint holds those.
        let extra = here
            .iter()
            .filter(|(name, _)| lock.archive.is_none() && lock.oci.is_none() && !pinned.contains_key(name.as_str()));
        differences.extend(extra.map(|(name, version)| Difference::new(name.clone(), NOTHING, version.clone())));
        Ok(Aspect { name: "packages".to_owned(), measured: count(here.len(), "package"), differences })
    }
}

/// Starts a workspace with an empty scratch, and measures what it shows.
fn measure_workspace(
    workshop: Workshop<'_>,
    project: &Project,
    lock: &Lock,
    record: &ImageRecord,
    image: &Image<'_>,
) -> Result<Measured, WorkspaceError> {
    let spec = &project.spec;
    let described = Setup::new(spec, lock, &record.shell);
    let arrangement = Arrangement::new(spec, lock, record.image, &record.shell);
    let grounds =
        Grounds { project: &project.dir, except: &workshop.staging.new_dir()?, kept: &workshop.staging.new_dir()? };
    let folders = mounts::folders(&arrangement.folders, grounds)?;
    let session = fresh_session(workshop, record, &described, folders)?;
    let probes = ask(&session, &described, lock)?;
    let ports = measure_ports(&arrangement, &session.connector()?)?;
    let setup = Setup {
        account: described.account.clone(),
        project: described.project.clone(),
        host_name: measured_file(&session, &described, "/proc/sys/kernel/hostname")
            .map_or(described.host_name.clone(), |name| name.trim_end().to_owned()),
        env: measured_env(&session, &described).unwrap_or_else(|| described.env.clone()),
        folders: measured_folders(&session, &described),
        ports,
        extensions: lock
            .extensions
            .iter()
            .filter_map(|pin| Some((pin.id.clone(), extension_version(image, pin)?)))
            .collect(),
        settings: measured_settings(image, lock, &described),
        // A fresh workspace is measured before anything in it is begun; what would be is what its arrangement says.
        living: described.living.clone(),
    };
    let identity = passwd_identity(image, &described.account);
    Ok(Measured { setup, identity, probes })
}

/// The content of a file as the account sees it inside; `None` when the image has no program to show it with.
fn measured_file(session: &Session, setup: &Setup, path: &str) -> Option<String> {
    let mut content = Vec::new();
    let command = account_command(setup, vec!["cat".to_owned(), path.to_owned()]);
    let ending = session.run(&command, LIMIT, &mut |bytes| content.extend(bytes));
    ending.ok()??.is_good().then(|| String::from_utf8_lossy(&content).into_owned())
}

/// The environment as the kernel has it of a process of the account.
fn measured_env(session: &Session, setup: &Setup) -> Option<BTreeMap<String, String>> {
    let text = measured_file(session, setup, "/proc/self/environ")?;
    let pairs = text.split('\0').filter_map(|pair| pair.split_once('='));
    Some(pairs.map(|(name, value)| (name.to_owned(), value.to_owned())).collect())
}

/// Which of the setup's folders really are mounts inside (proc_pid_mountinfo(5), field 5). Without a program to look
/// with, that the sandbox stands is the proof: it does not when a folder cannot be mounted.
fn measured_folders(session: &Session, setup: &Setup) -> Vec<String> {
    let Some(mounts) = measured_file(session, setup, "/proc/self/mountinfo") else {
        return setup.folders.clone();
    };
    let unescape = |text: &str| text.replace("\\040", " ").replace("\\011", "\t").replace("\\134", "\\");
    let points: Vec<_> = mounts.lines().filter_map(|line| line.split(' ').nth(4).map(unescape)).collect();
    let is_mounted = |folder: &&String| {
        let (inside, except) = folder.split_once(" except ").unwrap_or((folder, ""));
        let inside = inside.split_once(" kept as ").map_or(inside, |(inside, _)| inside);
        let mut except = except.split(", ").filter(|name| !name.is_empty()).map(|name| format!("{inside}/{name}"));
        points.iter().any(|point| point == inside) && except.all(|place| points.contains(&place))
    };
    setup.folders.iter().filter(is_mounted).cloned().collect()
}

/// The version that an extension's own description gives; where it has none, that its files are there.
fn extension_version(image: &Image<'_>, pin: &cavrith_core::lock::ExtensionPin) -> Option<String> {
    let place = RootPath::from_absolute(&pin.place).ok()?;
    if image.merged.under(&place).count() < 2 {
        return None;
    }
    let description = image.read(&format!("{}/package.json", pin.place.trim_start_matches('/')));
    let version = description.and_then(|text| {
        let value: serde_json::Value = serde_json::from_slice(&text).ok()?;
        Some(value.get("version")?.as_str()?.to_owned())
    });
    Some(version.unwrap_or_else(|| pin.version.to_string()))
}

fn measured_settings(image: &Image<'_>, lock: &Lock, setup: &Setup) -> String {
    let Some(profile) = &lock.editor else {
        return String::new();
    };
    let place = profile.settings_place(&cavrith_core::account::home(&setup.account));
    let text = image.read(place.trim_start_matches('/')).unwrap_or_default();
    String::from_utf8_lossy(&text).into_owned()
}

/// What `/etc/passwd` inside says of the account.
fn passwd_identity(image: &Image<'_>, account: &str) -> String {
    let passwd = image.read("etc/passwd").unwrap_or_default();
    let passwd = String::from_utf8_lossy(&passwd).into_owned();
    let line = passwd.lines().find(|line| line.split(':').next() == Some(account));
    let found = line.and_then(|line| {
        let fields: Vec<_> = line.split(':').collect();
        Some(format!("{}:{} {}", fields.get(2)?, fields.get(3)?, fields.get(5)?))
    });
    found.unwrap_or_else(|| verdict::NOTHING.to_owned())
}

/// Which ports really carry: something listens inside, and what is sent to the port outside arrives there.
fn measure_ports(arrangement: &Arrangement, connector: &Connector) -> Result<BTreeMap<String, String>, WorkspaceError> {
    let anywhere: Vec<_> = arrangement.ports.iter().map(|port| PortPart { exact: false, ..port.clone() }).collect();
    let forward = Forward::begin(&anywhere, connector)?;
    let mut measured = BTreeMap::new();
    for port in forward.carried() {
        let address = port.addresses.first().copied().unwrap_or(IpAddr::V4(Ipv4Addr::LOCALHOST));
        let address = if address.is_unspecified() { IpAddr::V4(Ipv4Addr::LOCALHOST) } else { address };
        let carried = (0..port.count.max(1)).all(|offset| {
            let (inside, outside) = (port.inside + offset, SocketAddr::new(address, port.outside + offset));
            match port.protocol {
                Protocol::Tcp => carries(connector, inside, outside).is_ok(),
                Protocol::Udp => carries_datagrams(connector, inside, outside).is_ok(),
            }
        });
        if carried && let Some(text) = arrangement.setup.ports.get(&port.name) {
            measured.insert(port.name, text.clone());
        }
    }
    Ok(measured)
}

/// What is sent to find out whether it arrives.
fn token(inside: u16) -> String {
    format!("cavrith {inside} {}\n", std::process::id())
}

fn carries(connector: &Connector, inside: u16, outside: SocketAddr) -> std::io::Result<()> {
    let token = token(inside);
    let listener = connector.listen(inside)?;
    let mut ours = TcpStream::connect(outside)?;
    ours.write_all(token.as_bytes())?;
    ours.shutdown(std::net::Shutdown::Write)?;
    let mut theirs = accept_soon(&listener)?;
    theirs.set_read_timeout(Some(Duration::from_secs(5)))?;
    let mut arrived = String::new();
    theirs.read_to_string(&mut arrived)?;
    if arrived == token { Ok(()) } else { Err(std::io::ErrorKind::InvalidData.into()) }
}

fn carries_datagrams(connector: &Connector, inside: u16, outside: SocketAddr) -> std::io::Result<()> {
    let token = token(inside);
    let theirs = connector.listen_datagrams(inside)?;
    theirs.set_read_timeout(Some(Duration::from_secs(5)))?;
    let ours = UdpSocket::bind((if outside.is_ipv6() { "::1" } else { "127.0.0.1" }, 0))?;
    ours.send_to(token.as_bytes(), outside)?;
    let mut buffer = [0; 256];
    let (length, sender) = theirs.recv_from(&mut buffer)?;
    // And the answer comes back to whoever asked.
    theirs.send_to(&buffer[..length], sender)?;
    ours.set_read_timeout(Some(Duration::from_secs(5)))?;
    let length = ours.recv(&mut buffer)?;
    if buffer[..length] == *token.as_bytes() { Ok(()) } else { Err(std::io::ErrorKind::InvalidData.into()) }
}

/// A connection that arrives within some seconds.
fn accept_soon(listener: &TcpListener) -> std::io::Result<TcpStream> {
    listener.set_nonblocking(true)?;
    for _ in 0..250 {
        match listener.accept() {
            Ok((stream, _)) => {
                stream.set_nonblocking(false)?;
                return Ok(stream);
            }
            Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => {
                std::thread::sleep(Duration::from_millis(20))
            }
            Err(error) => return Err(error),
        }
    }
    Err(std::io::ErrorKind::TimedOut.into())
}
