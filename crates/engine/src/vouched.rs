//! Taking the layers of an image that is not sealed, on a publisher's word.

use cavrith_core::derive::plan::Plan;
use cavrith_core::digest::ImageKey;
use cavrith_core::lock::Lock;
use cavrith_core::team::Signer;
use cavrith_core::team::voucher::Voucher;

use crate::context::BuildContext;
use crate::error::{EngineError, TeamError};
use crate::event::Event;
use crate::project::Project;
use crate::sealed::{self, Adopted, LayerSource};
use crate::team;

/// Somebody who may have vouchers.
pub trait VoucherSource: LayerSource {
    /// The voucher for an image; nothing when there is none. An error says, in words, why it cannot be had.
    ///
    /// # Errors
    /// When the place cannot be reached, or keeps something else.
    fn voucher(&self, context: BuildContext<'_>, key: &ImageKey) -> Result<Option<Voucher>, String>;
}

/// Brings the layers that a publisher of the project's team vouches for, as far as `source` has them. Where the team is
/// not signed, nothing is asked for. Gives whose word it was.
///
/// # Errors
/// When the store cannot be read or written, or the team is not to be believed.
pub fn adopt(
    context: BuildContext<'_>,
    project: &Project,
    lock: &Lock,
    source: &dyn VoucherSource,
) -> Result<Option<(Signer, Adopted)>, EngineError> {
    let plan = Plan::new(&project.spec, lock);
    if context.fresh || context.store.image_for(&plan.image_key)?.is_some() {
        return Ok(None);
    }
    let Some(file) = team::read(&project.dir)? else { return Ok(None) };
    let proved = file.prove().map_err(TeamError::from)?;
    team::remember(&project.dir, &proved)?;
    let note = |why: String| {
        let text = format!("nothing is taken on a publisher's word: {why}");
        (context.observer)(Event::Note { text });
    };
    let voucher = match source.voucher(context, &plan.image_key) {
        Ok(Some(voucher)) => voucher,
        Ok(None) => return Ok(None),
        Err(why) => {
            note(why);
            return Ok(None);
        }
    };
    let signer = match voucher.signer(proved.now) {
        Ok(signer) => signer,
        Err(why) => {
            note(why.to_string());
            return Ok(None);
        }
    };
    let names = voucher.layers.iter().map(|layer| layer.name.as_str());
    if voucher.image_key != plan.image_key || !names.eq(plan.layers.iter().map(|layer| layer.name.as_str())) {
        note("the voucher is for another image".to_owned());
        return Ok(None);
    }
    Ok(Some((signer, sealed::take(context, &plan, &voucher.layers, source)?)))
}
