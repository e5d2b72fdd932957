//! Vouchers in the cache that a team shares: a publisher's signed word for the layers of an image that is not sealed.
//!
//! | where | what |
//! |---|---|
//! | a folder | `KEY.voucher` |
//! | a registry | the only layer of the artifact that the tag `voucher-KEY` names |

use std::fs;
use std::io::Read as _;

use cavrith_core::digest::ImageKey;
use cavrith_core::oci::image::{Descriptor, EMPTY, MANIFEST, SharedBlobs};
use cavrith_core::team::voucher::{LONGEST, Voucher};
use cavrith_engine::context::BuildContext;
use cavrith_engine::vouched::VoucherSource;
use cavrith_store::{atomic, reading};
use serde::Deserialize;

use crate::cache::{Cache, Place, private_or_there, reference};
use crate::{ExchangeError, transfer};

fn tag(key: &ImageKey) -> String {
    format!("voucher-{key}")
}

impl Cache {
    /// Puts a voucher into the cache, over an earlier one for the same image.
    ///
    /// # Errors
    /// When the place does not take it.
    pub fn publish_voucher(&self, context: BuildContext<'_>, voucher: &Voucher) -> Result<(), ExchangeError> {
        let text = serde_json::to_vec(voucher).unwrap_or_default();
        match &self.place {
            Place::Folder(folder) => {
                private_or_there(folder)?;
                Ok(atomic::write(&folder.join(format!("{}.voucher", voucher.image_key)), &text)?)
            }
            Place::Registry(registry) => {
                let tag = tag(&voucher.image_key);
                let reference = reference(registry, &tag)?;
                let registry = self.connect(context.supply(), &reference)?;
                for bytes in [EMPTY.1, text.as_slice()] {
                    transfer::push_bytes(context.supply(), &registry, bytes)?;
                }
                registry.push_manifest(&tag, MANIFEST, &SharedBlobs::voucher(&text).bytes())?;
                Ok(())
            }
        }
    }
}

#[derive(Deserialize)]
struct Parts {
    layers: [Descriptor; 1],
}

impl VoucherSource for Cache {
    fn voucher(&self, context: BuildContext<'_>, key: &ImageKey) -> Result<Option<Voucher>, String> {
        let text = match &self.place {
            Place::Folder(folder) => match reading::bounded(&folder.join(format!("{key}.voucher")), LONGEST) {
                Ok(text) => text,
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
                Err(error) => return Err(format!("{key}.voucher cannot be read: {error}")),
            },
            Place::Registry(registry) => {
                let tag = tag(key);
                let words = |error: ExchangeError| error.to_string();
                let reference = reference(registry, &tag).map_err(words)?;
                let registry = self.connect(context.supply(), &reference).map_err(words)?;
                let manifest = registry.find_manifest(&tag).map_err(|error| error.to_string())?;
                let Some(manifest) = manifest else { return Ok(None) };
                let Parts { layers: [one] } =
                    serde_json::from_slice(&manifest).map_err(|error| format!("it keeps something else: {error}"))?;
                let place = context.staging.new_name();
                let limits = (&one.digest.0, LONGEST);
                let fetched = transfer::fetch_unproved(context.supply(), &registry, limits, "voucher", &place);
                let _ = fs::remove_file(&place);
                let mut text = Vec::new();
                let read = fetched.map_err(|error| error.to_string())?.read_to_end(&mut text);
                read.map_err(|error| error.to_string())?;
                text
            }
        };
        serde_json::from_slice(&text).map(Some).map_err(|error| format!("its voucher cannot be read: {error}"))
    }
}
