//! What a flow tells while it works.

use serde::{Deserialize, Serialize};

use cavrith_core::digest::TreeDigest;

/// One thing that happened.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "event")]
pub enum Event {
    /// A layer is being made.
    LayerStarted {
        /// Its name.
        layer: String,
    },
    /// A line of a step's output.
    Output {
        /// The step's layer.
        layer: String,
        /// The line.
        line: String,
    },
    /// A layer is there.
    Layer(LayerOutcome),
    /// A file is on its way from the web.
    Fetching {
        /// Its name.
        name: String,
        /// Bytes that have arrived.
        done: u64,
        /// Bytes that it has, when that is known.
        of: Option<u64>,
    },
    /// Something is on its way to a registry.
    Sending {
        /// Its name.
        name: String,
        /// Bytes that have arrived.
        done: u64,
        /// Bytes that it has.
        of: u64,
    },
    /// It has arrived, or did not.
    Sent {
        /// Its name.
        name: String,
    },
    /// A file from the web is there, or did not come.
    Fetched {
        /// Its name.
        name: String,
    },
    /// Several files were fetched together.
    Brought {
        /// What they are: `61 packages`.
        name: String,
        /// Milliseconds it took.
        millis: u64,
        /// Bytes of them.
        bytes: u64,
    },
    /// Something that is good to know.
    Note {
        /// In a sentence.
        text: String,
    },
    /// A stretch of work with a name of its own.
    Stage {
        /// What is being done.
        text: String,
    },
}

/// How a layer came to be there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LayerOutcome {
    /// Its name.
    pub layer: String,
    /// Its tree.
    pub tree: TreeDigest,
    /// It was there already.
    pub reused: bool,
    /// Milliseconds it took.
    pub millis: u64,
    /// Entries in it.
    pub entries: u64,
    /// Bytes of its files.
    pub bytes: u64,
}

/// Listens to events. Called from several threads.
pub type Observer<'a> = &'a (dyn Fn(Event) + Sync);
