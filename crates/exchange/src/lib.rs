//! What leaves this machine and comes to it: images in open formats, to files and registries.
//!
//! The way through, for an export: [`layers`] writes each layer of an image in the store as a tar archive
//! ([`tar_writer`]), compressed on all processors ([`packing`]); [`cavrith_core::oci::image`] makes the documents from
//! spec, lock and image; [`layout`] puts both into a folder or an archive, [`pushing`] into a registry.
//! What goes through a registry, whichever way, goes through `transfer`.
//!
//! What always holds: what goes out depends on the image, the spec and the lock alone, so that everybody writes the
//! same bytes; nothing is visible under its name before it is whole.
#![forbid(unsafe_code)]

mod attaching;
pub mod bodies;
pub mod cache;
pub mod disk_file;
pub mod error;
mod git;
pub mod joining;
pub mod layers;
pub mod layout;
pub mod machine_disk;
pub mod machine_files;
pub mod packing;
pub mod parcel;
pub mod pushing;
pub mod reports;
pub mod revisions;
pub mod tar_writer;
mod transfer;
mod vouching;
pub mod work;

pub use error::ExchangeError;
