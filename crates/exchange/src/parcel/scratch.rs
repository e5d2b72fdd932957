//! What was changed inside a workspace by hand, in a parcel: a layer that nobody sealed.

use std::collections::BTreeMap;
use std::fs::File;
use std::io::{self, Read};
use std::path::PathBuf;

use cavrith_core::digest::ImageFingerprint;
use cavrith_core::oci::image::Compression;
use cavrith_core::oci::parcel::{ListedLayer, ListedScratch};
use cavrith_core::path::RootPath;
use cavrith_core::tree::{Tree, encoding};
use cavrith_engine::context::BuildContext;
use cavrith_store::writer::StagedLayer;

use super::{NewParcel, OpenParcel};
use crate::cache::{LEVEL, LONGEST_LIST, read_list, unpack};
use crate::error::writing;
use crate::packing::Packed;
use crate::{ExchangeError, packing, tar_writer};

/// A scratch, copied for a parcel.
#[derive(Debug)]
pub struct CarriedScratch {
    /// The image that it lies over.
    pub image: ImageFingerprint,
    /// What was changed.
    pub tree: Tree,
    /// Where the content of each file lies.
    pub contents: BTreeMap<RootPath, PathBuf>,
    /// Marks of the steps of the first start that ran over it.
    pub first_start: Vec<String>,
}

impl NewParcel<'_> {
    /// Adds a scratch.
    ///
    /// # Errors
    /// When a file cannot be read, or the disk refuses.
    pub fn scratch(&mut self, scratch: &CarriedScratch) -> Result<(), ExchangeError> {
        let CarriedScratch { image, tree, contents, first_start } = scratch;
        let list = zstd::bulk::compress(&encoding::encode(tree), LEVEL).map_err(writing("scratch.list"))?;
        let place = self.staging.new_name();
        let mut content = |path: &RootPath| -> io::Result<Box<dyn Read>> {
            let copy = contents.get(path).ok_or(io::ErrorKind::NotFound)?;
            Ok(Box::new(File::open(copy)?))
        };
        let mut file = File::create_new(&place).map_err(writing(&place))?;
        let packed = packing::pack(Compression::Zstd, &mut file, |out| tar_writer::write(tree, &mut content, out));
        let Packed { packed, packed_size, .. } = packed.map_err(writing(&place))?;
        self.add_file(packed, place, packed_size);
        let (list, size) = self.add(list);
        let layer = ListedLayer { tree: tree.digest(), list, content: packed };
        let listed = ListedScratch { image: *image, layer, first_start: first_start.clone() };
        self.document.add_scratch(&listed, (size, packed_size));
        Ok(())
    }
}

impl OpenParcel {
    /// Unpacks its scratch into staging. Only what a layer may have gets in.
    ///
    /// # Errors
    /// When it is damaged, or the disk refuses.
    pub fn unpack_scratch(
        &self,
        context: BuildContext<'_>,
        listed: &ListedScratch,
    ) -> Result<StagedLayer, ExchangeError> {
        let bad = |why: String| self.bad(format!("what was changed inside: {why}"));
        let packed = self.small(&listed.layer.list, LONGEST_LIST)?;
        let list = read_list(&packed, &listed.layer.tree).map_err(bad)?;
        let dir = context.staging.new_dir()?;
        unpack(list, dir, context, self.blob(&listed.layer.content)?).map_err(bad)
    }
}
