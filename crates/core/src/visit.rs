//! Links that a member gives to a colleague whom they let into their workspace: where to come, as what, and by which
//! key to know that it is the right machine. `cavrith:visit?at=HOST:PORT&name=WORKSPACE&key=ssh-ed25519%20…`, in the
//! form of [`crate::link`].

use std::fmt;

use crate::encode::percent_encoded;
use crate::link::fields;
use crate::signature::PublicKey;

/// How every such link begins.
pub const BEGIN: &str = "cavrith:visit?";

/// A link.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct VisitLink {
    /// The name or address of the machine.
    pub host: String,
    /// The port there.
    pub port: u16,
    /// What the workspace is called.
    pub name: String,
    /// The machine's key.
    pub key: PublicKey,
}

impl fmt::Display for VisitLink {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let encoded = |text: &str| percent_encoded(text, ":@");
        let at = match self.host.contains(':') {
            true => format!("[{}]:{}", self.host, self.port),
            false => format!("{}:{}", self.host, self.port),
        };
        write!(f, "{BEGIN}at={}&name={}&key={}", encoded(&at), encoded(&self.name), encoded(&self.key.to_string()))
    }
}

/// A machine's name or address, and a port. An error says, in words, why it is none.
///
/// # Errors
/// When it is none, or could be taken for something else by a program that is given it.
pub fn host_and_port(text: &str) -> Result<(String, u16), String> {
    let (host, port) = text.rsplit_once(':').ok_or("write it as HOST:PORT")?;
    let port = port.parse::<u16>().ok().filter(|port| *port > 0).ok_or("its port is a number from 1 to 65535")?;
    let bare = host.strip_prefix('[').and_then(|host| host.strip_suffix(']'));
    let host = match bare {
        Some(six) => six.parse::<core::net::Ipv6Addr>().map_err(|_| "in [ ] stands an address of IPv6")?.to_string(),
        None => host.to_owned(),
    };
    let is_letter = |letter: char| letter.is_ascii_alphanumeric() || "-._:".contains(letter);
    let begins = host.starts_with(|letter: char| letter.is_ascii_alphanumeric() || letter == ':');
    if !begins || host.len() > 253 || !host.chars().all(is_letter) || (bare.is_none() && host.contains(':')) {
        return Err("a host has letters, digits, - and dots, and begins with a letter or digit".to_owned());
    }
    Ok((host, port))
}

impl VisitLink {
    /// Reads a link. An error says, in words, why it cannot be used.
    ///
    /// # Errors
    /// When it is none, is damaged, or names something unknown.
    pub fn parse(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let rest = text.strip_prefix(BEGIN).ok_or_else(|| format!("it does not begin with {BEGIN}"))?;
        let (mut at, mut name, mut key) = (None, None, None);
        for (field, value) in fields(rest)? {
            match field.as_str() {
                "at" => at = Some(host_and_port(&value)?),
                "name" => name = Some(value),
                "key" => key = Some(PublicKey::parse(&value).map_err(|bad| format!("its key: {bad}"))?),
                other => return Err(format!("it has {other}, which this version does not know")),
            }
        }
        let ((host, port), name, key) =
            (at.ok_or("it has no at=")?, name.ok_or("it has no name=")?, key.ok_or("it has no key=")?);
        Ok(Self { host, port, name, key })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: &str = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAILM+rvN+ot98qgEN796jTiQfZfG1KaT0PtFDJ/XFSqti";

    #[test]
    fn a_link_is_read_as_it_was_written() {
        for host in ["pier.harbour.example", "192.0.2.7", "2001:db8::7"] {
            let link = VisitLink {
                host: host.to_owned(),
                port: 4022,
                name: "timetable".to_owned(),
                key: PublicKey::parse(KEY).unwrap(),
            };
            let text = link.to_string();
            assert!(!text.contains(' '), "{text}");
            assert_eq!(VisitLink::parse(&text), Ok(link));
        }
    }

    #[test]
    fn what_a_program_would_take_for_an_option_is_no_host() {
        for (text, why) in [
            ("-oProxyCommand=x:22", "begins with a letter"),
            ("pier", "HOST:PORT"),
            ("pier:0", "65535"),
            ("a b:22", "letters"),
            ("::1:22", "letters"),
            ("[-x]:22", "IPv6"),
        ] {
            assert!(host_and_port(text).unwrap_err().contains(why), "{text}");
        }
        assert!(VisitLink::parse("cavrith:join?source=x").unwrap_err().contains("begin"));
        assert!(VisitLink::parse("cavrith:visit?at=pier:22&name=x").unwrap_err().contains("no key"));
    }
}
