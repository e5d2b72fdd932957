//! Where an image comes from: a statement for those who deal with images of all kinds (SLSA provenance, v1, in an
//! in-toto statement).

use serde_json::{Value, json};

use crate::contents::Item;
use crate::derive::plan::RULES;
use crate::digest::Sha256Digest;
use crate::lock::Lock;
use crate::report;
use crate::spec::Spec;

/// The type of a statement's predicate (SLSA, Provenance v1).
pub const PREDICATE: &str = "https://slsa.dev/provenance/v1";
/// The media type of a statement that nobody signed (in-toto, Statement v1).
pub const STATEMENT_TYPE: &str = "application/vnd.in-toto+json";
/// The media type of a signed one (DSSE, v1).
pub const ENVELOPE_TYPE: &str = "application/vnd.dsse.envelope.v1+json";

/// The statement for an image: `manifest` is the SHA-256 of its OCI manifest, `items` all that it was made of, and
/// `conditions` those of the second build, in words.
pub fn statement(
    (spec, lock): (&Spec, &Lock),
    (name, manifest): (&str, &Sha256Digest),
    items: &[Item],
    conditions: &[&str],
    version: &str,
) -> Value {
    let dependency = |item: &Item| {
        json!({
            "name": item.name,
            "uri": item.purl.clone().unwrap_or_else(|| item.origin.clone()),
            "digest": { "sha256": item.sha256 },
            "annotations": { "kind": item.kind, "version": item.version, "origin": item.origin },
        })
    };
    // What an image has of languages' packages came with what is listed.
    let dependencies: Vec<_> = items.iter().filter(|item| item.kind != "installed").map(dependency).collect();
    let sealed = lock.seal.as_ref().map(|seal| {
        json!({
            "words": seal.words,
            "image": seal.image,
            "workspace": seal.workspace,
            "signed-by": seal.signature.as_ref().map(|signature| &signature.by),
            "built-again-under": conditions,
        })
    });
    let byproducts: Vec<_> = lock
        .seal
        .iter()
        .map(|seal| json!({ "name": "seal", "digest": { "blake3": report::seal_digest(seal) } }))
        .collect();
    json!({
        "_type": "https://in-toto.io/Statement/v1",
        "subject": [{ "name": name, "digest": { "sha256": manifest } }],
        "predicateType": PREDICATE,
        "predicate": {
            "buildDefinition": {
                "buildType": "urn:cavrith:build:1",
                "externalParameters": {
                    "workspace": spec.workspace.name.value,
                    "variant": spec.variant,
                    "spec": spec.digest,
                },
                "internalParameters": {
                    "rules": RULES,
                    "lock": lock.pins_digest(),
                    "epoch": lock.epoch,
                    "sealed": sealed,
                },
                "resolvedDependencies": dependencies,
            },
            "runDetails": {
                "builder": { "id": "urn:cavrith:builder", "version": { "cavrith": version } },
                "byproducts": byproducts,
            },
        },
    })
}
