//! Host names: inside, in a file that lies over `/etc/hosts`; outside, in one marked block of the hosts file
//! (hosts(5)).

use std::fmt::Write as _;
use std::fs;
use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::path::Path;

use cavrith_core::arrangement::Arrangement;
use cavrith_store::StoreError;
use serde::Serialize;

/// The file inside.
pub const INSIDE: &str = "/etc/hosts";

/// The text of the file inside: all names, also those of links, stand for the workspace's own loopback.
pub fn inside_text<'a>(arrangement: &Arrangement, links: impl Iterator<Item = &'a String>) -> String {
    let mut names = arrangement.inside_names();
    names.extend(links.cloned());
    let names = names.join(" ");
    format!("127.0.0.1\tlocalhost {names}\n::1\tlocalhost ip6-localhost ip6-loopback {names}\n")
}

fn begins(label: &str) -> String {
    format!("# cavrith {label}: begins (kept by cavrith names)")
}

fn ends(label: &str) -> String {
    format!("# cavrith {label}: ends")
}

/// A host name outside, and where what it stands for is reached.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Named {
    /// The name.
    pub name: String,
    /// Its addresses.
    pub addresses: Vec<IpAddr>,
}

impl Named {
    /// A name for what is reached at an address, or when there is none, at the loopback by both versions of IP.
    pub fn new(name: &str, bind: Option<IpAddr>) -> Self {
        let loopback = vec![IpAddr::V4(Ipv4Addr::LOCALHOST), IpAddr::V6(Ipv6Addr::LOCALHOST)];
        // Whatever is reached at every address is reached at the loopback.
        let addresses = bind.filter(|bind| !bind.is_unspecified()).map_or(loopback, |bind| vec![bind]);
        Self { name: name.to_owned(), addresses }
    }
}

/// The lines for the hosts file outside, without the marks.
pub fn outside_lines(names: &[Named]) -> String {
    let mut lines = String::new();
    for named in names {
        for address in &named.addresses {
            let _ = writeln!(lines, "{address}\t{}", named.name);
        }
    }
    lines
}

/// Whether a line of a hosts file is as ours are: an address, a tab, one name.
fn is_ours(line: &str) -> bool {
    let parts = line.split_once('\t');
    parts.is_some_and(|(address, name)| address.parse::<IpAddr>().is_ok() && !name.contains([' ', '\t', '#']))
}

/// A hosts file with the block of `label` exchanged, or taken out when there are no names. All other lines stay as they
/// are.
pub fn with_block(text: &str, label: &str, names: &[Named]) -> String {
    let (begin, end) = (begins(label), ends(label));
    let mut out = String::new();
    let mut own = false;
    let mut place = None;
    // A block whose end somebody removed ends with the lines that look like ours.
    for line in text.split_inclusive('\n') {
        let bare = line.trim_end();
        if bare == begin {
            own = true;
            place.get_or_insert(out.len());
            continue;
        }
        if own && bare == end {
            own = false;
            continue;
        }
        if own && is_ours(bare) {
            continue;
        }
        own = false;
        out.push_str(line);
    }
    if names.is_empty() {
        return out;
    }
    let at = place.unwrap_or(out.len());
    let newline = if out[..at].is_empty() || out[..at].ends_with('\n') { "" } else { "\n" };
    let block = format!("{newline}{begin}\n{}{end}\n", outside_lines(names));
    out.insert_str(at, &block);
    out
}

/// Whether a hosts file has a block of `label` that is not as it should be now.
pub fn is_behind(path: &Path, label: &str, names: &[Named]) -> bool {
    let text = cavrith_store::reading::text(path).unwrap_or_default();
    text.contains(&begins(label)) && with_block(&text, label, names) != text
}

/// Brings the block of `label` in a hosts file up to date, and says whether anything had to be changed. The file is
/// exchanged as a whole where its directory lets us; where it is a mount of its own, which no other file can take the
/// name of, it is written in place.
///
/// # Errors
/// When the file cannot be read or written.
pub fn apply(path: &Path, label: &str, names: &[Named]) -> io::Result<bool> {
    let text = match cavrith_store::reading::text(path) {
        Ok(text) => text,
        Err(error) if error.kind() == io::ErrorKind::NotFound => String::new(),
        Err(error) => return Err(error),
    };
    let wanted = with_block(&text, label, names);
    if wanted == text {
        return Ok(false);
    }
    match cavrith_store::atomic::write(path, wanted.as_bytes()) {
        Err(StoreError::Io { source, .. }) if source.kind() == io::ErrorKind::ResourceBusy => fs::write(path, &wanted)?,
        other => other.map_err(io::Error::other)?,
    }
    Ok(true)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn names(names: &[&str]) -> Vec<Named> {
        names.iter().map(|name| Named::new(name, None)).collect()
    }

    #[test]
    fn a_name_stands_for_the_address_that_its_port_is_bound_to() {
        let bound = Named::new("a.test", Some("127.0.0.7".parse().unwrap()));
        assert_eq!(outside_lines(std::slice::from_ref(&bound)), "127.0.0.7\ta.test\n");
        assert_eq!(Named::new("a.test", Some("0.0.0.0".parse().unwrap())), names(&["a.test"])[0]);
        let with = with_block("", "x", &[bound]);
        let broken = with.replace(&format!("{}\n", ends("x")), "");
        assert_eq!(with_block(&broken, "x", &[]), "");
    }

    #[test]
    fn one_block_is_kept_and_everything_else_stays() {
        let own = "127.0.0.1 localhost\n# mine\n10.0.0.2 printer";
        let with = with_block(own, "timetable", &names(&["timetable.test"]));
        assert_eq!(
            with,
            format!(
                "{own}\n{}\n127.0.0.1\ttimetable.test\n::1\ttimetable.test\n{}\n",
                begins("timetable"),
                ends("timetable")
            )
        );
        assert_eq!(with_block(&with, "timetable", &names(&["timetable.test"])), with);
        let later = format!("{with}10.0.0.3 scanner\n");
        let changed = with_block(&later, "timetable", &names(&["a.test", "b.test"]));
        assert!(
            changed.ends_with("\n10.0.0.3 scanner\n")
                && changed.contains("::1\tb.test\n")
                && !changed.contains("timetable.test")
        );
        let other = with_block(&changed, "sailings", &names(&["s.test"]));
        assert_eq!(with_block(&other, "sailings", &[]), changed);
        assert_eq!(with_block(&changed, "timetable", &[]), format!("{own}\n10.0.0.3 scanner\n"));
        // The end was removed by hand: nothing of anybody else's is lost.
        let broken = later.replace(&format!("{}\n", ends("timetable")), "");
        assert_eq!(with_block(&broken, "timetable", &[]), format!("{own}\n10.0.0.3 scanner\n"));
    }
}
