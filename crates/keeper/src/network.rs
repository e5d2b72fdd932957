//! The way of a running workspace to other machines.
//!
//! An ordinary user cannot make a network that reaches out; the program `pasta` of Debian's package passt does it for
//! them, by carrying what the inside sends over sockets of its own. Where it is not installed, root makes a pair of
//! virtual devices and has the kernel translate addresses (`ip` of iproute2, `nft` of nftables). The inside's loopback
//! is its own in any case, and neither way leads to this machine or to another workspace.

use std::fs;
use std::io;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use cavrith_core::spec::Network;
use cavrith_sandbox::programs::find_program;
use cavrith_sandbox::{Identity, background};

/// The address at which names are asked for inside when pasta carries the questions (link-local, RFC 3927).
const ASK_AT: &str = "169.254.53.53";
/// How long pasta has to begin.
const PATIENCE: Duration = Duration::from_secs(5);

/// A way out, as long as this value lives.
#[derive(Debug)]
pub struct WayOut {
    /// How it is done, in a few words.
    pub how: String,
    /// Where it is not there though it is wanted: why, and what to do.
    pub lacks: Option<String>,
    helper: Option<Child>,
    /// The table of address translation that has to be removed again.
    table: Option<String>,
}

impl Drop for WayOut {
    fn drop(&mut self) {
        if let Some(helper) = &mut self.helper {
            let _ = helper.kill();
            let _ = helper.wait();
        }
        if let Some(table) = &self.table {
            remove_table(table);
        }
    }
}

impl WayOut {
    /// The text of the file that tells programs inside whom to ask for names; `None` where the image's own file says as
    /// much.
    pub fn resolver(&self) -> Option<String> {
        if self.helper.is_some() {
            return Some(format!("nameserver {ASK_AT}\n"));
        }
        self.table.as_ref()?;
        // Anyone who is asked on the loopback outside is not reached from inside.
        let own = fs::read_to_string("/etc/resolv.conf").unwrap_or_default();
        let reachable = |line: &&str| !line.contains(" 127.") && !line.contains(" ::1");
        Some(own.lines().filter(reachable).map(|line| format!("{line}\n")).collect())
    }
}

/// Opens a way out for the network of a process; `cleanup` hears of what has to be removed even when this process is
/// killed.
pub fn open(network: Network, process: u32, identity: Identity, cleanup: &dyn Fn(&str)) -> WayOut {
    let mut way = WayOut { how: "none".to_owned(), lacks: None, helper: None, table: None };
    if network == Network::None {
        return way;
    }
    if let Err((found, remedy)) = offered(identity) {
        way.lacks = Some(format!("{found}; {remedy}"));
        return way;
    }
    let pasta = find_program("pasta").map(|program| by_pasta(&program, process, identity));
    match pasta {
        Some(Ok(helper)) => {
            way.how = "out, by pasta".to_owned();
            way.helper = Some(helper);
            return way;
        }
        Some(Err(error)) => way.lacks = Some(format!("pasta does not carry it: {error}")),
        None => {}
    }
    if identity == Identity::Root {
        if let Some(missing) = missing_for_pair() {
            let earlier = way.lacks.take().unwrap_or_default();
            way.lacks = Some(format!("{earlier}; {missing}"));
            return way;
        }
        match Pair::make(process, cleanup) {
            Ok(pair) => {
                way.how = "out, by a pair of virtual devices".to_owned();
                way.table = Some(pair.table);
                way.lacks = None;
            }
            Err(error) => {
                let pair = format!("a pair of virtual devices cannot be made: {error}");
                way.lacks = Some(way.lacks.take().map_or(pair.clone(), |earlier| format!("{earlier}; {pair}")));
            }
        }
    }
    way
}

/// Why root cannot make a pair of virtual devices; nothing when its programs are there.
fn missing_for_pair() -> Option<String> {
    let missing = PAIR_PROGRAMS.iter().find(|name| find_program(name).is_none())?;
    Some(format!("a pair of virtual devices needs {missing}, which is not installed"))
}

/// How a workspace of this user would reach other machines, or why it would not and what to do: `start`, `status` and
/// `doctor` say the same.
///
/// # Errors
/// What is missing, and the remedy.
pub fn offered(identity: Identity) -> Result<&'static str, (String, String)> {
    let is_root = identity == Identity::Root;
    let access = rustix::fs::Access::READ_OK | rustix::fs::Access::WRITE_OK;
    if !is_root && rustix::fs::access("/dev/net/tun", access).is_err() {
        let found = "/dev/net/tun is closed to ordinary users".to_owned();
        return Err((found, "let an administrator run: chmod 0666 /dev/net/tun".to_owned()));
    }
    if find_program("pasta").is_some() {
        return Ok("carried by pasta");
    }
    let remedy = "install the package passt; workspaces have their loopback only until then".to_owned();
    match missing_for_pair() {
        None if is_root => Ok("carried by a pair of virtual devices"),
        Some(missing) if is_root => Err((format!("pasta is not installed; {missing}"), remedy)),
        _ => Err(("pasta is not installed".to_owned(), remedy)),
    }
}

fn by_pasta(program: &Path, process: u32, identity: Identity) -> io::Result<Child> {
    let mut command = Command::new(program);
    // Ports are carried by us; nothing of the outside's loopback is shown inside.
    command.args(["--config-net", "--foreground", "--quiet", "--no-map-gw", "--dns-forward", ASK_AT]);
    command.args(["-t", "none", "-u", "none", "-T", "none", "-U", "none"]);
    if identity == Identity::Root {
        // It would become nobody, who may not enter namespaces of root's. Everybody else enters their own as who they
        // are.
        command.args(["--runas", "0"]);
    }
    command.arg(process.to_string());
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = background::helper(&mut command)?;
    let started = Instant::now();
    // It is ready when the inside has a device that is not the loopback.
    let has_device = || {
        let text = fs::read_to_string(format!("/proc/{process}/net/route")).unwrap_or_default();
        text.lines().count() > 1
    };
    while !has_device() {
        if let Some(status) = child.try_wait()? {
            let mut said = String::new();
            if let Some(mut stderr) = child.stderr.take() {
                let _ = io::Read::read_to_string(&mut stderr, &mut said);
            }
            let last = said.lines().rev().find(|line| !line.trim().is_empty()).unwrap_or_default();
            return Err(io::Error::other(format!("{status} {last}")));
        }
        if started.elapsed() > PATIENCE {
            let _ = child.kill();
            let _ = child.wait();
            return Err(io::ErrorKind::TimedOut.into());
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    // What it may write later is nobody's to read, and must not stop it.
    drop(child.stderr.take());
    Ok(child)
}

/// Networks that there may be at once: from 10.87.0.0/16, private addresses (RFC 1918), four for each workspace.
const PAIRS: u16 = 16_384;
/// The table that says that somebody had the kernel pass packets on, which it did not do before.
const FORWARDING: &str = "cavrith-forwarding";
/// Programs that make a pair.
const PAIR_PROGRAMS: [&str; 3] = ["ip", "nft", "nsenter"];
/// Where the kernel is told to.
const FORWARD: &str = "/proc/sys/net/ipv4/ip_forward";

/// A pair of devices, whose two ends have a small network of their own, of which the kernel translates the addresses.
struct Pair {
    table: String,
}

impl Pair {
    fn make(process: u32, cleanup: &dyn Fn(&str)) -> io::Result<Self> {
        let own = process.to_string();
        // The kernel keeps the register of who has which number: a device of a name can be made only once. One goes
        // with the network of its inside.
        let first = (process % u32::from(PAIRS)) as u16;
        let mut last = io::Error::other("every number is taken");
        for number in (first..PAIRS).chain(0..first) {
            let device = format!("cavrith{number}");
            match run("ip", &["link", "add", &device, "type", "veth", "peer", "name", "eth0", "netns", &own]) {
                Ok(()) => {
                    let table = format!("cavrith-{number}");
                    cleanup(&table);
                    return fit(number, &device, &own, &table).map(|()| Self { table: table.clone() }).inspect_err(
                        |_| {
                            remove_table(&table);
                            let _ = run("ip", &["link", "delete", &device]);
                        },
                    );
                }
                // Somebody else has the number.
                Err(error) if Path::new("/sys/class/net").join(&device).exists() => last = error,
                Err(error) => return Err(error),
            }
        }
        Err(last)
    }
}

/// Gives the ends of a pair their addresses, and says what may pass: what the inside begins, to other machines, and the
/// answers. Neither this machine itself nor another workspace begins anything with it, or it with them: ports are
/// carried by the keeper.
fn fit(number: u16, device: &str, process: &str, table: &str) -> io::Result<()> {
    let (high, low) = (number / 64, number % 64 * 4);
    let (net, outer, inner) =
        (format!("10.87.{high}.{low}/30"), format!("10.87.{high}.{}", low + 1), format!("10.87.{high}.{}", low + 2));
    // It would give itself an address of version 6, which none of the rules below is about.
    match fs::write(format!("/proc/sys/net/ipv6/conf/{device}/disable_ipv6"), "1") {
        Err(error) if error.kind() != io::ErrorKind::NotFound => return Err(error),
        _ => {}
    }
    feed("ip", &["-batch", "-"], &format!("address add {outer}/30 dev {device}\nlink set {device} up\n"))?;
    let namespace = format!("--net=/proc/{process}/ns/net");
    let inside = format!("address add {inner}/30 dev eth0\nlink set eth0 up\nroute add default via {outer}\n");
    feed("nsenter", &[&namespace, "ip", "-batch", "-"], &inside)?;
    feed("nft", &["-f", "-"], &rules(table, device, &net))?;
    if fs::read_to_string(FORWARD)?.trim() == "0" {
        run("nft", &["add", "table", "ip", FORWARDING])?;
        fs::write(FORWARD, "1")?;
    }
    Ok(())
}

/// The rules for one pair, which the kernel takes all at once. A table of this name is one that a keeper left which was
/// killed together with its janitor: its devices are gone.
fn rules(table: &str, device: &str, net: &str) -> String {
    let known = "ct state established,related accept";
    format!(
        "add table ip {table}
delete table ip {table}
table ip {table} {{
    chain out {{
        type nat hook postrouting priority 100;
        ip saddr {net} masquerade
    }}
    chain through {{
        type filter hook forward priority 0;
        oifname {device} {known}
        oifname {device} drop
        iifname {device} oifname \"cavrith*\" drop
        iifname {device} ip daddr 10.87.0.0/16 drop
    }}
    chain here {{
        type filter hook input priority 0;
        iifname {device} {known}
        iifname {device} drop
    }}
    chain hence {{
        type filter hook output priority 0;
        oifname {device} {known}
        oifname {device} drop
    }}
}}
"
    )
}

/// Removes a table of address translation; the devices go with the inside's network. The last one has the kernel pass
/// packets on no more, if it did not before the first.
pub fn remove_table(table: &str) {
    let _ = run("nft", &["delete", "table", "ip", table]);
    let Some(program) = find_program("nft") else { return };
    let Ok(output) = Command::new(program).args(["list", "tables", "ip"]).stdin(Stdio::null()).output() else { return };
    let tables = String::from_utf8_lossy(&output.stdout).into_owned();
    let left: Vec<_> = tables.split_whitespace().filter(|word| word.starts_with("cavrith-")).collect();
    if left == [FORWARDING] && fs::write(FORWARD, "0").is_ok() {
        let _ = run("nft", &["delete", "table", "ip", FORWARDING]);
    }
}

fn run(program: &str, arguments: &[&str]) -> io::Result<()> {
    feed(program, arguments, "")
}

/// Runs a program of this machine with a text as its standard input.
fn feed(program: &str, arguments: &[&str], input: &str) -> io::Result<()> {
    let place = find_program(program).ok_or_else(|| io::Error::other(format!("{program} is not installed")))?;
    let mut command = Command::new(place);
    command.args(arguments).stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::piped());
    let mut child = command.spawn()?;
    if let Some(mut stdin) = child.stdin.take() {
        // One that ended before it read everything says why.
        let _ = io::Write::write_all(&mut stdin, input.as_bytes());
    }
    let output = child.wait_with_output()?;
    if output.status.success() {
        return Ok(());
    }
    let said = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(io::Error::other(format!("{program} {}: {said}", arguments.join(" "))))
}
