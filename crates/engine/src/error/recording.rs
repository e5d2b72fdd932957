//! Errors of records: what steps fetch.

use std::path::PathBuf;

use cavrith_core::failure::FailureCode;
use cavrith_recorder::RecorderError;

/// What can go wrong with the record of a step.
#[derive(Debug, thiserror::Error)]
pub enum RecordError {
    /// There is none.
    #[error("the {step} has no record of what it fetches; run cavrith record")]
    None {
        /// The step.
        step: String,
    },
    /// Its file is not there.
    #[error("the record of the {step} is not there: {}; it belongs beside the lock in version control, or run cavrith record", path.display())]
    Gone {
        /// The step.
        step: String,
        /// Where it should be.
        path: PathBuf,
    },
    /// Its file is another one.
    #[error("{} is not the record of the {step} that the lock pins; bring back the one that belongs to the lock, or run cavrith record", path.display())]
    Other {
        /// The step.
        step: String,
        /// The file.
        path: PathBuf,
    },
    /// Its file is no record.
    #[error("{} is no record: {why}", path.display())]
    Bad {
        /// The file.
        path: PathBuf,
        /// The reason, in words.
        why: String,
    },
    /// Something that was fetched is to be had nowhere any more.
    #[error(
        "what {request} was answered is to be had nowhere any more, and the {step} needs it: {why}; a depot or parcel of somebody who has it brings it back, or cavrith record fetches anew"
    )]
    Lost {
        /// The step.
        step: String,
        /// What was asked.
        request: String,
        /// The reason, in words.
        why: String,
    },
    /// A name that is no recorded step.
    #[error("there is no step {name:?} with network = \"recorded\"; {}", if known.is_empty() { "the spec has none".to_owned() } else { format!("there are {}", known.join(", ")) })]
    NoStep {
        /// The name.
        name: String,
        /// Those that there are.
        known: Vec<String>,
    },
    /// Nothing can be recorded without a network.
    #[error("nothing can be recorded while CAVRITH_OFFLINE is set")]
    Offline,
    /// The sandbox has no network that could be answered.
    #[error("the {step} cannot be given a network: {why}")]
    Network {
        /// The step.
        step: String,
        /// The reason, in words.
        why: String,
    },
    /// The recorder.
    #[error(transparent)]
    Recorder(#[from] RecorderError),
}

impl RecordError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        FailureCode::RECORD
    }

    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::None { .. } | Self::Gone { .. } | Self::Other { .. } | Self::Bad { .. } => 1,
            Self::NoStep { .. } | Self::Offline => 2,
            Self::Network { .. } | Self::Recorder(_) => 3,
            Self::Lost { .. } => 4,
        }
    }
}
