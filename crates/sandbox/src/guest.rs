//! A workspace in a virtual machine: what the hypervisor is told, and how the inside is reached.
//!
//! The inside has a kernel of its own, and one way out: a serial port. [`tunnel`] carries many streams over it.
//! [`outer`] is the keeper's end, which looks like a sandbox of this machine: a [`crate::Session`] gives it orders with
//! descriptors as it would any PID 1. [`inner`] is the other end, in the machine, which has a PID 1 of the usual kind
//! beside it. So everything above the seam, and PID 1 itself, is the same for both.

pub mod hypervisor;
pub mod inner;
pub mod monitor;
pub mod outer;
mod tunnel;

use std::net::{Ipv4Addr, SocketAddr};

use serde::{Deserialize, Serialize};

use crate::protocol::job::{Order, Report};

/// The number that stands for no stream.
const NO_STREAM: u32 = 0;

/// To the machine.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum ToGuest {
    /// An order for PID 1, with the streams of a command: its standard input, output and error.
    Order { order: Order, streams: Vec<u32> },
    /// A terminal has another size; it is known by the stream that leads to it.
    Size { stream: u32, rows: u16, columns: u16 },
    /// Something to be done in the machine's network, with a stream to it and one from it.
    Net { number: u64, ask: NetAsk, streams: [u32; 2] },
    /// What the crate above says.
    Other { number: u64, what: serde_json::Value },
}

/// From the machine.
#[derive(Debug, Serialize, Deserialize)]
pub(crate) enum FromGuest {
    /// A report of PID 1; a terminal comes as a stream to it and one from it.
    Report { report: Report, terminal: Option<[u32; 2]> },
    /// PID 1 has ended, and nobody takes orders any more.
    Over,
    /// What came of something in the network: the port that is listened on, or 1 for yes and 0 for no.
    Net { number: u64, outcome: NetOutcome },
    /// A connection to a listener of ours: a stream to it and one from it, and who it is.
    Came { listener: u64, streams: [u32; 2], from: Option<SocketAddr> },
    /// What the crate above answers, or says first, with the number 0; with a connection, or one that keeps messages
    /// apart.
    Other { number: u64, what: serde_json::Value, streams: Option<[u32; 2]>, messages: bool },
}

/// A port, yes or no; or an error's number, or 0, and what it says.
pub(crate) type NetOutcome = Result<u16, (i32, String)>;

/// What the keeper wants of the machine's network.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) enum NetAsk {
    /// A connection to an address.
    Connect(SocketAddr),
    /// Take connections on a port of an address; each comes with this number.
    Listen(Ipv4Addr, u16),
    /// Take no more connections of the listener with this number.
    Unlisten(u64),
    /// A socket whose datagrams go to a port.
    Datagrams(u16),
    /// Does anybody take connections on a port?
    IsListened(u16),
}
