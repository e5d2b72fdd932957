//! A voucher: a publisher's word for the layers of an image that nobody has sealed yet.
//!
//! A seal says what must come out, and takes two builds and a lead. Between two seals, whoever builds for the team (its
//! CI, mostly) can vouch for what came out, so that others take the layers instead of building them. It is believed for
//! exactly the image key that it names, which follows from spec and lock.

use serde::{Deserialize, Serialize};

use super::{IMAGE, Refusal, Role, Signer, Team, signer};
use crate::digest::ImageKey;
use crate::seal::SealedLayer;
use crate::signature::Signature;

/// Bytes that a voucher may have.
pub const LONGEST: u64 = 4 << 20;

/// What somebody vouches for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Voucher {
    /// The image that was to be built: spec, lock and the rules of layers.
    pub image_key: ImageKey,
    /// What came out, the lowest layer first.
    pub layers: Vec<SealedLayer>,
    /// The publisher's signature over [`Voucher::text`].
    pub signature: Signature,
}

#[derive(Serialize)]
#[serde(rename_all = "kebab-case")]
struct VoucherText<'a> {
    cavrith: &'static str,
    image_key: &'a ImageKey,
    layers: &'a [SealedLayer],
}

impl Voucher {
    /// What is signed.
    pub fn text(image_key: &ImageKey, layers: &[SealedLayer]) -> String {
        let text = serde_json::to_string_pretty(&VoucherText { cavrith: "layers 1", image_key, layers });
        format!("{}\n", text.unwrap_or_else(|error| panic!("BUG: a voucher cannot be written: {error}")))
    }

    /// Who vouches, when the team lets them.
    ///
    /// # Errors
    /// When the signature does not fit, or its key may not sign this.
    pub fn signer(&self, team: &Team) -> Result<Signer, Refusal> {
        let text = Self::text(&self.image_key, &self.layers);
        signer(team, Role::Publisher, IMAGE, text.as_bytes(), &self.signature.armoured())
    }
}
