//! The documents of images and parcels, held against the schemas of the OCI Image Specification 1.1 ("Content
//! Descriptors", "Image Manifest", "Image Index", "Image Configuration", "Image Layout"), written down here from its
//! properties.

use std::collections::BTreeMap;

use cavrith_core::digest::{ImageFingerprint, Sha256Digest, TreeDigest};
use cavrith_core::lock::choose::{Update, choose};
use cavrith_core::oci::image::{self, Attachment, Compression, Index, LAYOUT_FILE, PackedLayer, SharedBlobs, Subject};
use cavrith_core::oci::parcel::{ListedLayer, Parcel};
use cavrith_core::setup::Setup;
use cavrith_core::spec::parse;
use serde_json::{Value, json};

/// "Descriptors": the properties of any reference to a blob.
fn descriptor() -> Value {
    json!({
        "type": "object",
        "properties": {
            "mediaType": { "type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9!#$&^_.+-]{0,126}/[A-Za-z0-9][A-Za-z0-9!#$&^_.+-]{0,126}$" },
            "digest": { "type": "string", "pattern": "^sha256:[a-f0-9]{64}$" },
            "size": { "type": "integer", "minimum": 0 },
            "urls": { "type": "array", "items": { "type": "string", "format": "uri" } },
            "annotations": annotations(),
            "data": { "type": "string" },
            "artifactType": { "type": "string" },
            "platform": {
                "type": "object",
                "properties": { "architecture": { "type": "string" }, "os": { "type": "string" } },
                "required": ["architecture", "os"]
            }
        },
        "required": ["mediaType", "size", "digest"],
        "additionalProperties": false
    })
}

fn annotations() -> Value {
    json!({ "type": "object", "patternProperties": { "^.+$": { "type": "string" } }, "additionalProperties": false })
}

fn manifest() -> Value {
    json!({
        "type": "object",
        "properties": {
            "schemaVersion": { "const": 2 },
            "mediaType": { "const": "application/vnd.oci.image.manifest.v1+json" },
            "artifactType": { "type": "string" },
            "config": descriptor(),
            "subject": descriptor(),
            "layers": { "type": "array", "minItems": 1, "items": descriptor() },
            "annotations": annotations()
        },
        "required": ["schemaVersion", "config", "layers"],
        "additionalProperties": false
    })
}

fn index() -> Value {
    json!({
        "type": "object",
        "properties": {
            "schemaVersion": { "const": 2 },
            "mediaType": { "const": "application/vnd.oci.image.index.v1+json" },
            "artifactType": { "type": "string" },
            "manifests": { "type": "array", "items": descriptor() },
            "subject": descriptor(),
            "annotations": annotations()
        },
        "required": ["schemaVersion", "manifests"],
        "additionalProperties": false
    })
}

fn config() -> Value {
    let texts = json!({ "type": "array", "items": { "type": "string" } });
    json!({
        "type": "object",
        "properties": {
            "created": { "type": "string", "pattern": "^[0-9]{4}-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}Z$" },
            "author": { "type": "string" },
            "architecture": { "type": "string" },
            "os": { "type": "string" },
            "variant": { "type": "string" },
            "config": {
                "type": "object",
                "properties": {
                    "User": { "type": "string" },
                    "ExposedPorts": { "type": "object", "patternProperties": { "^[0-9]+(-[0-9]+)?(/(tcp|udp))?$": { "type": "object" } }, "additionalProperties": false },
                    "Env": { "type": "array", "items": { "type": "string", "pattern": "^[^=]+=.*$" } },
                    "Entrypoint": texts, "Cmd": texts,
                    "Volumes": { "type": "object" },
                    "WorkingDir": { "type": "string" },
                    "Labels": annotations(),
                    "StopSignal": { "type": "string", "pattern": "^SIG[A-Z0-9]+$" }
                },
                "additionalProperties": false
            },
            "rootfs": {
                "type": "object",
                "properties": {
                    "type": { "const": "layers" },
                    "diff_ids": { "type": "array", "items": { "type": "string", "pattern": "^sha256:[a-f0-9]{64}$" } }
                },
                "required": ["type", "diff_ids"]
            },
            "history": {
                "type": "array",
                "items": {
                    "type": "object",
                    "properties": {
                        "created": { "type": "string" }, "author": { "type": "string" }, "created_by": { "type": "string" },
                        "comment": { "type": "string" }, "empty_layer": { "type": "boolean" }
                    },
                    "additionalProperties": false
                }
            }
        },
        "required": ["architecture", "os", "rootfs"],
        "additionalProperties": false
    })
}

/// Holds bytes against a schema, and gives them as JSON.
fn held(what: &str, schema: &Value, bytes: &[u8]) -> Value {
    let value: Value = serde_json::from_slice(bytes).unwrap();
    let validator = jsonschema::validator_for(schema).unwrap();
    let errors: Vec<_> =
        validator.iter_errors(&value).map(|error| format!("{}: {error}", error.instance_path)).collect();
    assert_eq!(errors, [] as [&str; 0], "{what}: {value:#}");
    value
}

fn layers(count: u8) -> Vec<PackedLayer> {
    let digest = |number: u8| Sha256Digest::from_bytes([number; 32]);
    let layer = |number: u8| PackedLayer {
        name: format!("step \"{number}\""),
        diff: digest(number),
        blob: digest(number + 100),
        size: u64::from(number) + 1,
    };
    (0..count).map(layer).collect()
}

const SPECS: [&str; 2] = [
    "spec = 1\n[workspace]\nname = \"timetable\"\n[base]\ndebian = \"bookworm\"\n[[ports]]\nname = \"site\"\ninside = 8080\n[[ports]]\nname = \"many\"\ninside = 9000\ncount = 5\nprotocol = \"udp\"\n[env]\nEMPTY = \"\"\n",
    "spec = 1\n[workspace]\nname = \"timetable\"\n[base]\ndebian = \"bookworm\"\n[image]\ncommand = \"serve\"\narguments = [\"-p\", \"80\"]\nports = [\"80\", \"53/udp\"]\nlabels = { \"example.brindle.team\" = \"timetable\" }\nsignal = \"QUIT\"\naccount = \"root\"\ndirectory = \"/srv\"\n",
];

#[test]
fn every_document_is_as_the_specification_has_it() {
    for text in SPECS {
        let parsed = parse(text);
        assert_eq!(parsed.mistakes, []);
        let spec = parsed.sound().unwrap();
        let (lock, _) = choose(&spec, &BTreeMap::new(), None, &Update::Nothing);
        let setup = Setup::new(&spec, &lock, "/bin/sh");
        let image = ImageFingerprint::from_bytes([7; 32]).to_string();
        for compression in [Compression::None, Compression::Gzip, Compression::Zstd] {
            let subject = Subject {
                spec: &spec,
                lock: &lock,
                setup: &setup,
                shell: "/bin/sh",
                image: &image,
                here: "amd64",
                compression,
            };
            let packed = layers(3);
            let documents = image::documents(subject, &packed);
            let configuration = held("the configuration", &config(), &documents.config);
            let read = held("the manifest", &manifest(), &documents.manifest);
            // What the sections say besides.
            assert_eq!(read["config"]["mediaType"], "application/vnd.oci.image.config.v1+json");
            assert_eq!(read["config"]["digest"], format!("sha256:{}", Sha256Digest::of(&documents.config)));
            assert_eq!(read["config"]["size"], documents.config.len());
            let filled = configuration["history"].as_array().unwrap().iter().filter(|one| one["empty_layer"] != true);
            assert_eq!(filled.count(), configuration["rootfs"]["diff_ids"].as_array().unwrap().len());
            assert_eq!(read["layers"].as_array().unwrap().len(), packed.len());
            assert!(
                read["layers"][0]["mediaType"].as_str().unwrap().starts_with("application/vnd.oci.image.layer.v1.tar")
            );
            for (name, _) in read["annotations"].as_object().unwrap() {
                assert!(name.starts_with("org.opencontainers.image.") || name.starts_with("cavrith."), "{name}");
            }
            let attachment = Attachment { media_type: "application/spdx+json", bytes: b"{}".to_vec() };
            let (bytes, listed) = attachment.manifest(&documents.descriptor);
            let artifact = held("an attachment", &manifest(), &bytes);
            assert_eq!(artifact["subject"]["digest"], read_digest(&documents.manifest));
            let mut all = Index::empty();
            [documents.descriptor, listed].into_iter().for_each(|one| all.put(one));
            held("an index", &index(), &serde_json::to_vec(&all).unwrap());
        }
    }
    assert_eq!(
        held("the layout", &json!({ "required": ["imageLayoutVersion"] }), LAYOUT_FILE.1.as_bytes())["imageLayoutVersion"],
        "1.0.0"
    );
}

fn read_digest(bytes: &[u8]) -> String {
    format!("sha256:{}", Sha256Digest::of(bytes))
}

#[test]
fn our_own_artifacts_are_ones_too() {
    let digest = |number: u8| Sha256Digest::from_bytes([number; 32]);
    held("a cached layer", &manifest(), &SharedBlobs::layer(b"list", digest(1), 7).bytes());
    held("bodies of a record", &manifest(), &SharedBlobs::bodies(&[(digest(1), 7), (digest(2), 0)]).bytes());
    let mut parcel = Parcel::empty();
    let layer = ListedLayer { tree: TreeDigest::from_bytes([3; 32]), list: digest(4), content: digest(5) };
    parcel.add_list(&layer, 9);
    parcel.add_kept("database", digest(6), 10);
    parcel.annotations.insert("cavrith.variant".to_owned(), "main".to_owned());
    let (bytes, listed) = parcel.document();
    held("a parcel", &manifest(), &bytes);
    let read = Parcel::read(&bytes).unwrap();
    assert_eq!((read.lists(), read.kept().len(), read), (vec![layer], 1, parcel));
    let mut all = Index::empty();
    all.put(listed);
    held("its index", &index(), &serde_json::to_vec(&all).unwrap());
    // What is none says so.
    for other in ["{}", "[]", "{\"schemaVersion\":2}"] {
        assert!(Parcel::read(other.as_bytes()).is_err(), "{other}");
    }
    assert!(Parcel::read(&SharedBlobs::layer(b"list", digest(1), 7).bytes()).is_err());
}
