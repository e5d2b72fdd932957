//! Errors of sealing.

use cavrith_core::failure::FailureCode;

use crate::diagnosing::Unlike;

/// What can go wrong while sealing.
#[derive(Debug, thiserror::Error)]
pub enum SealError {
    /// Building twice did not give the same.
    #[error("built twice, it does not come out the same, so it cannot be sealed")]
    NotReproducible(Vec<Unlike>),
    /// The second build failed.
    #[error("the second build, under other conditions, failed: {0}")]
    SecondBuild(String),
}

impl SealError {
    /// The kind of failure.
    pub fn code(&self) -> FailureCode {
        match self {
            Self::NotReproducible(_) => FailureCode::NOT_REPRODUCIBLE,
            Self::SecondBuild(_) => FailureCode::SECOND_BUILD,
        }
    }

    /// The exit code that stands for it.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::NotReproducible(_) => 1,
            Self::SecondBuild(_) => 5,
        }
    }
}
