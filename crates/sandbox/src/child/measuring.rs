//! What everything inside uses, as the inside's own `/proc` tells it.

use std::collections::BTreeMap;
use std::fs;

use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;

use crate::host::own_processes;
use crate::protocol::job::{LeftRunning, Listening, Usage};

/// The state of a socket that listens for connections (proc_net(5): `0A` is TCP_LISTEN).
pub(crate) const LISTENS: &str = "0A";
/// The state of a socket that takes datagrams from anybody (`07` is TCP_CLOSE, which such sockets have).
pub(crate) const BOUND: &str = "07";

fn processes() -> impl Iterator<Item = i32> {
    let entries = fs::read_dir("/proc").into_iter().flatten().flatten();
    entries
        .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
        .filter(|pid| *pid != 1 && !own_processes::is_ours(*pid) && !own_processes::is_ours(*pid))
}

/// What the kernel says of a process, from the third field on (proc_pid_stat(5)).
pub(crate) fn stat(process: i32) -> Option<Vec<String>> {
    let text = fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The name before it may have anything in it, blanks and brackets too.
    Some(text.rsplit_once(')')?.1.split_whitespace().map(str::to_owned).collect())
}

/// Measures all processes but this one, whose own commands are those of which `was_ordered` says so.
pub(crate) fn measure(was_ordered: &dyn Fn(i32) -> bool) -> Usage {
    let mut used = Usage::default();
    let ticks = rustix::param::clock_ticks_per_second().max(1);
    // First the sockets, then who has them open: a socket that is there has somebody.
    let mut found = Vec::new();
    for (list, state, udp) in
        [("tcp", LISTENS, false), ("tcp6", LISTENS, false), ("udp", BOUND, true), ("udp6", BOUND, true)]
    {
        let text = fs::read_to_string(format!("/proc/self/net/{list}")).unwrap_or_default();
        found.extend(local_ports(&text, state).map(|(port, inode)| (port, udp, inode)));
    }
    let mut owners = BTreeMap::new();
    for pid in processes() {
        let Some(stat) = stat(pid) else { continue };
        let field = |number: usize| stat.get(number - 3).and_then(|text| text.parse::<u64>().ok()).unwrap_or(0);
        used.processes += 1;
        used.cpu_millis += (field(14) + field(15)) * 1000 / ticks;
        used.memory += shared_out(pid).unwrap_or_else(|| field(24) * rustix::param::page_size() as u64);
        // What lost its parent is PID 1's; a dead one is soon gone.
        if field(4) == 1 && stat.first().is_none_or(|state| state != "Z") && !was_ordered(pid) {
            let About { program, command, user, service } = About::of(pid);
            if service.is_none() && !program.is_empty() {
                used.left.push(LeftRunning { program, command, user });
            }
        }
        for inode in sockets(pid) {
            owners.entry(inode).or_insert(pid);
        }
    }
    let listening = |(port, udp, inode): (u16, bool, u64)| match owners.get(&inode) {
        Some(pid) => listening(port, udp, *pid),
        None => Listening { port, udp, program: String::new(), command: Vec::new(), user: 0, service: None },
    };
    used.listening = found.into_iter().map(listening).collect();
    used.left.sort();
    used.listening.sort();
    used.listening.dedup_by(|one, other| one.port == other.port && one.udp == other.udp);
    used
}

/// A port, and the process that has it open.
fn listening(port: u16, udp: bool, pid: i32) -> Listening {
    let About { program, command, user, service } = About::of(pid);
    Listening { port, udp, program, command, user, service }
}

/// What a process is.
struct About {
    program: String,
    command: Vec<String>,
    user: u32,
    service: Option<String>,
}

impl About {
    fn of(pid: i32) -> Self {
        let texts = |name: &str| {
            let bytes = fs::read(format!("/proc/{pid}/{name}")).unwrap_or_default();
            let texts = bytes.split(|byte| *byte == 0).map(|text| String::from_utf8_lossy(text).into_owned());
            texts.filter(|text| !text.is_empty()).collect::<Vec<_>>()
        };
        let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
        let line = status.lines().find_map(|line| line.strip_prefix("Uid:"));
        Self {
            program: fs::read_to_string(format!("/proc/{pid}/comm")).unwrap_or_default().trim_end().to_owned(),
            command: texts("cmdline"),
            user: line.and_then(|line| line.split_whitespace().next()?.parse().ok()).unwrap_or(0),
            service: texts("environ").iter().find_map(|text| text.strip_prefix("CAVRITH_SERVICE=").map(str::to_owned)),
        }
    }
}

/// Memory of a process, with what it shares with others shared out among them.
fn shared_out(pid: i32) -> Option<u64> {
    let text = fs::read_to_string(format!("/proc/{pid}/smaps_rollup")).ok()?;
    let line = text.lines().find_map(|line| line.strip_prefix("Pss:"))?;
    Some(line.split_whitespace().next()?.parse::<u64>().ok()? * 1024)
}

/// The numbers of the sockets that take connections on a port.
pub(crate) fn listeners(port: u16) -> impl Iterator<Item = u64> {
    ["tcp", "tcp6"].into_iter().flat_map(move |list| {
        let text = fs::read_to_string(format!("/proc/self/net/{list}")).unwrap_or_default();
        local_ports(&text, LISTENS).filter(|(known, _)| *known == port).map(|(_, inode)| inode).collect::<Vec<_>>()
    })
}

/// The numbers of the sockets that a process has open.
pub(crate) fn sockets(pid: i32) -> Vec<u64> {
    let entries = fs::read_dir(format!("/proc/{pid}/fd")).into_iter().flatten().flatten();
    let socket = |entry: fs::DirEntry| {
        let target = fs::read_link(entry.path()).ok()?;
        target.to_str()?.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok()
    };
    entries.filter_map(socket).collect()
}

/// The local ports of sockets in a state, with the sockets' numbers, from a list of `/proc/net` (proc_net(5)).
pub(crate) fn local_ports<'a>(text: &'a str, state: &'a str) -> impl Iterator<Item = (u16, u64)> + 'a {
    text.lines().skip(1).filter_map(move |line| {
        let fields: Vec<&str> = line.split_whitespace().collect();
        let port = u16::from_str_radix(fields.get(1)?.rsplit_once(':')?.1, 16).ok()?;
        // A socket with a peer takes that one's datagrams only.
        let peer = fields.get(2)?.rsplit_once(':')?.1;
        (*fields.get(3)? == state && peer == "0000").then_some((port, fields.get(9)?.parse().ok()?))
    })
}

/// Kills every process that was started with `mark` in its environment.
pub(crate) fn kill_marked(mark: &str) {
    for pid in processes() {
        let environment = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
        if environment.split(|byte| *byte == 0).any(|pair| pair == mark.as_bytes()) {
            // It may have ended meanwhile.
            let _ = kill(Pid::from_raw(pid), Signal::SIGKILL);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_of_sockets_is_read() {
        let text = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n   \
                    0: 0100007F:1F90 00000000:0000 0A 00000000:00000000 00:00000000 00000000  1000        0 4711 1 0 100\n   \
                    1: 0100007F:1F91 0100007F:D431 01 00000000:00000000 00:00000000 00000000  1000        0 4712 1 0 100\nodd\n";
        assert_eq!(local_ports(text, LISTENS).collect::<Vec<_>>(), [(8080, 4711)]);
        assert_eq!(local_ports("", LISTENS).count(), 0);
    }
}
