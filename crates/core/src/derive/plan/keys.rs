//! What goes into the key of a layer and of an image: the encoding behind the table of [`super`].

use super::{Content, Laid, PlannedLayer, RECORDED_RULES, RULES, Stage, StepContent, Work, Written};
use crate::digest::ImageKey;
use crate::encode::Encoder;
use crate::path::RootPath;
use crate::spec::Run;

pub(super) fn image_key(layers: &[PlannedLayer]) -> ImageKey {
    let mut encoder = Encoder::new("cavrith plan 1");
    encoder.u32(RULES).count(layers.len());
    for layer in layers {
        // The names are in it, though they change nothing: the record of an image tells them.
        encoder.bytes(&layer.name).u64(layer.time);
        encode_content(&mut encoder, &layer.content);
    }
    ImageKey::from_bytes(encoder.digest())
}

pub(super) fn encode_content(encoder: &mut Encoder, content: &Content) {
    match content {
        Content::Toolchain(placed) => {
            encoder.u8(1).fixed(placed.source.sha256.as_bytes()).u64(placed.strip as u64).bytes(&placed.place);
        }
        Content::Extension(pin) => {
            encoder.u8(2).fixed(pin.source.sha256.as_bytes()).u64(pin.strip as u64).bytes(&pin.place);
        }
        Content::Packages(pins) => {
            encoder.u8(3).count(pins.len());
            for pin in pins {
                encoder.fixed(pin.source.sha256.as_bytes());
            }
        }
        Content::Archive(pin) => {
            encoder.u8(4).fixed(pin.sha256.as_bytes()).u64(pin.strip as u64);
        }
        Content::Stage(stage) => encode_stage(encoder, stage),
        Content::Trimmed(trimmed) => {
            encoder.u8(11).list(trimmed.keep.iter()).count(trimmed.stages.len());
            trimmed.stages.iter().for_each(|(_, stage)| encode_stage(encoder, stage));
        }
        Content::OciLayer(image) => {
            encoder.u8(10).count(image.beneath.len());
            for digest in &image.beneath {
                encoder.fixed(digest.as_bytes());
            }
            encoder.fixed(image.layer.sha256.as_bytes());
        }
        Content::Account { account } => {
            encoder.u8(5).bytes(account);
        }
        Content::Settings { account, place, text } => {
            encoder.u8(6).bytes(account).bytes(place.as_bytes()).bytes(text);
        }
        Content::Step(step) => encode_step(encoder, step),
        Content::Download { pin, place, laying } => {
            encoder.u8(8).fixed(pin.sha256.as_bytes()).bytes(place.as_bytes());
            match laying {
                Laid::File(mode) => encoder.u8(1).u64((*mode).into()),
                Laid::Unpacked(strip) => encoder.u8(2).u64(*strip as u64),
            };
        }
    }
}

fn encode_stage(encoder: &mut Encoder, stage: &Stage) {
    encoder.u8(9).count(stage.number).count(stage.beneath.len());
    for digest in &stage.beneath {
        encoder.fixed(digest.as_bytes());
    }
    encoder.count(stage.packages.len());
    for package in stage.packages.values() {
        encoder.fixed(package.sha256.as_bytes());
    }
    encoder.list(stage.left_out.iter().map(RootPath::as_bytes));
}

fn encode_step(encoder: &mut Encoder, step: &StepContent) {
    encoder.u8(7).count(step.env.len());
    for (name, value) in &step.env {
        encoder.bytes(name).bytes(value);
    }
    encoder.bytes(&step.account);
    encoder.list(step.unless.as_ref().map(Run::argv).unwrap_or_default().iter());
    encoder.bytes(step.creates.as_ref().map_or(b"".as_slice(), RootPath::as_bytes));
    match &step.work {
        Work::Run(run) => {
            encoder.u8(1).list(run.argv().iter());
            if let Some(files) = &step.files {
                encoder.u8(2).bytes(files.place.as_bytes()).fixed(files.tree.as_bytes());
            }
            if let Some(record) = &step.record {
                encoder.u32(RECORDED_RULES).fixed(record.sha256.as_bytes());
            }
        }
        Work::Write { place, text, mode, owner } => {
            encoder.u8(2).bytes(place.as_bytes()).u64((*mode).into()).bytes(owner);
            match text {
                Written::Content(text) => encoder.u8(1).bytes(text),
                Written::Template { tree, names, .. } => {
                    let names = serde_json::to_vec(names).unwrap_or_else(|error| panic!("BUG: {error}"));
                    encoder.u8(2).fixed(tree.as_bytes()).bytes(&names)
                }
            };
        }
        Work::Take { image, from, except, place, owner, .. } => {
            encoder.u8(4).fixed(image.as_bytes()).bytes(from.as_bytes()).list(except.iter());
            encoder.bytes(place.as_bytes()).bytes(owner);
        }
        Work::Copy { place, owner, tree, .. } => {
            encoder.u8(3).bytes(place.as_bytes()).bytes(owner).fixed(tree.as_bytes());
        }
    }
}
