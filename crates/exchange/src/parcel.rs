//! Parcels: one file with a project, its images, and perhaps work in progress.
//!
//! A parcel is an image layout in a tar archive, so that other programs can read the images in it; one more document
//! ([`cavrith_core::oci::parcel`]) says what else is there. [`writing`] makes one, [`reading`] opens one, which may be
//! anybody's, and [`moving`] sends one to a registry or fetches it from there, part by part. [`encryption`] makes
//! one that only certain people can read.

pub mod encryption;
pub mod moving;
pub mod reading;
pub mod scratch;
pub mod writing;

pub use reading::OpenParcel;
pub use writing::NewParcel;

/// The time stamp of every entry: a parcel is the same file whoever packs it, and after it came from a registry.
pub(crate) const TIME: u64 = 0;
