//! `cavrith doctor`

use std::path::Path;

use cavrith_core::verdict::size;
use cavrith_sandbox::guest::hypervisor;
use cavrith_sandbox::machine::{self, HostCheck, Standing};
use serde_json::json;

use crate::args::Report;
use crate::build_env::{self, StoreSession};
use crate::commands::Outcome;
use crate::screen::{Screen, styled};

/// Room that a small image needs.
const LITTLE_ROOM: u64 = 2 << 30;

pub fn exec(screen: &Screen, command: &Report) -> Outcome {
    let mut checks = machine::look();
    let (owners, identity) = machine::identity();
    checks.push(owners);
    match StoreSession::open() {
        Ok(store_session) => {
            checks.push(HostCheck::there("store", store_session.home.store().display().to_string()));
            checks.extend(room(&store_session.home.store()));
            checks.push(filesystem(&store_session));
            if let Some(identity) = identity {
                checks.extend(sandbox(&store_session, identity));
            }
        }
        Err(failure) => checks.push(HostCheck::short(
            "store",
            Standing::Lacking,
            crate::render::failure::sentence(&failure),
            "set CAVRITH_HOME to a folder that you may write to",
        )),
    }
    checks.push(if build_env::web().is_offline() {
        HostCheck::short("web", Standing::Limited, "CAVRITH_OFFLINE is set", "unset it to fetch files")
    } else {
        HostCheck::there("web", "fetched from when a lock needs it")
    });
    if let Some(identity) = identity {
        checks.push(match cavrith_keeper::network::offered(identity) {
            Ok(how) => HostCheck::there("network", format!("of running workspaces: {how}")),
            Err((found, remedy)) => HostCheck::short("network", Standing::Limited, found, remedy),
        });
    }
    checks.push(machines());
    let lacking = checks.iter().any(|one| one.standing == Standing::Lacking);
    if command.json {
        screen.json(&json!({ "ready": !lacking, "checks": checks }));
        return Ok(if lacking { 3 } else { 0 });
    }
    for one in &checks {
        let (style, word) = match one.standing {
            Standing::There => (screen.out.good, "there  "),
            Standing::Limited => (screen.out.warning, "limited"),
            Standing::Lacking => (screen.out.bad, "lacking"),
        };
        screen.result(format_args!("{}  {:16} {}", styled(style, word), one.name, one.found));
        if !one.remedy.is_empty() {
            screen.result(format_args!("{:26}{}", "", styled(screen.out.faint, &one.remedy)));
        }
    }
    let last = if lacking {
        styled(screen.out.bad, "this machine lacks something that Cavrith needs")
    } else {
        styled(screen.out.good, "this machine is ready")
    };
    screen.result(last);
    Ok(if lacking { 3 } else { 0 })
}

/// How a workspace would run in a virtual machine.
fn machines() -> HostCheck {
    if hypervisor::program().is_none() {
        let found = "qemu-system-x86_64 is not installed, so workspaces run in namespaces only";
        return HostCheck::short("machines", Standing::Limited, found, "install the package qemu-system-x86");
    }
    if hypervisor::may_be_fast() {
        return HostCheck::there(
            "machines",
            "run by QEMU, by /dev/kvm where that works; live folders by our own server",
        );
    }
    let remedy = "/dev/kvm is not there or closed to you: where the processor offers it, join the group kvm";
    HostCheck::short("machines", Standing::Limited, "run by QEMU, which emulates the processor: slow", remedy)
}

fn sandbox(store_session: &StoreSession, identity: cavrith_sandbox::Identity) -> Vec<HostCheck> {
    let made = store_session.staging.new_dir().and_then(|layer| Ok((layer, store_session.staging.new_dir()?)));
    let made = made.map_err(cavrith_engine::EngineError::from).and_then(|(layer, build_env)| {
        cavrith_engine::overlay_scratch::prepare(&build_env, None, store_session.store.ownership())?;
        for name in ["dev", "proc", "run", "sys", "tmp"] {
            std::fs::create_dir(layer.join(name))
                .map_err(cavrith_engine::error::file_error("make", layer.join(name)))?;
        }
        Ok((layer, build_env))
    });
    match made {
        Ok((layer, build_env)) => machine::try_sandbox(identity, &layer, &build_env),
        Err(error) => {
            vec![HostCheck::short("a whole sandbox", Standing::Lacking, error.to_string(), "see the message")]
        }
    }
}

/// Whether the store's filesystem keeps what an image's files have: names in both cases, links, rights, attributes.
fn filesystem(store_session: &StoreSession) -> HostCheck {
    let name = "filesystem";
    let remedy = "set CAVRITH_HOME to a folder on ext4, xfs, btrfs or tmpfs";
    let tried = store_session.staging.new_dir().map_err(|error| error.to_string()).and_then(|dir| try_files(&dir));
    match tried {
        Ok(()) => HostCheck::there(name, "keeps names, links, rights and attributes"),
        Err(why) => HostCheck::short(name, Standing::Lacking, why, remedy),
    }
}

fn try_files(dir: &Path) -> Result<(), String> {
    use std::os::unix::fs::{MetadataExt as _, PermissionsExt as _};
    let cannot = |what: &str| {
        let what = what.to_owned();
        move |error: std::io::Error| format!("it does not keep {what} ({error})")
    };
    let file = dir.join("sail");
    std::fs::write(&file, "").map_err(cannot("files"))?;
    if dir.join("SAIL").exists() {
        return Err("it does not tell names in upper and lower case apart".to_owned());
    }
    std::os::unix::fs::symlink("sail", dir.join("link")).map_err(cannot("links"))?;
    std::fs::hard_link(&file, dir.join("other")).map_err(cannot("hard links"))?;
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o4751)).map_err(cannot("rights"))?;
    if std::fs::metadata(&file).map_err(cannot("rights"))?.mode() & 0o7777 != 0o4751 {
        return Err("it does not keep the rights of files".to_owned());
    }
    let attribute = rustix::fs::setxattr(&file, "user.cavrith.try", b"y", rustix::fs::XattrFlags::empty());
    attribute.map_err(|error| cannot("attributes")(error.into()))
}

fn room(store: &Path) -> Option<HostCheck> {
    let stat = rustix::fs::statvfs(store).ok()?;
    let free = stat.f_bavail.saturating_mul(stat.f_frsize);
    let found = format!("{} free", size(free));
    Some(if free < LITTLE_ROOM {
        HostCheck::short(
            "room",
            Standing::Limited,
            found,
            "run cavrith store collect, or set CAVRITH_HOME to a larger disk",
        )
    } else {
        HostCheck::there("room", found)
    })
}
