//! The network of a build step that may fetch. Inside there is a resolver that answers for every name, and somebody who
//! listens wherever http and https go ([`server`]); TLS is ended with certificates that are made for the step
//! ([`authority`]). What is asked for is either fetched and recorded ([`recording`]), or answered from the record and
//! from nothing else ([`replaying`]). The record itself is [`cavrith_core::record`].
//!
//! What always holds: when a step is replayed, no packet leaves; while it is recorded, its programs reach the web
//! through this crate only, and whatever opens their way (tokens, proxies, mirrors) is added outside, where they cannot
//! see it. What a program is answered while it is recorded is what it will be answered when it is replayed.
//!
//! It makes no sockets: whoever runs the step makes them in the step's network.
#![forbid(unsafe_code)]

pub mod authority;
pub mod git_index;
mod http;
mod http2;
pub mod java_store;
pub mod names;
mod notes;
pub mod own_certificate;
pub mod recording;
pub mod replaying;
pub mod server;

#[doc(hidden)]
pub use http::requests_in;
pub use notes::Notes;
pub use server::{Answers, Asked, Given, PROXY_PORT, Sockets, serve};

/// What can go wrong.
#[derive(Debug, thiserror::Error)]
pub enum RecorderError {
    /// No certificate could be made.
    #[error("cannot make a certificate for the step: {0}")]
    Certificate(String),
}
