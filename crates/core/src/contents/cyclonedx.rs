//! CycloneDX 1.5 as JSON (ECMA-424's forerunner).

use serde_json::{Value, json};

use super::{Item, Subject, stamp};

/// The bill as a CycloneDX document. It depends on the lock and the image only.
pub fn cyclonedx(subject: Subject<'_>, items: &[Item]) -> Value {
    let components: Vec<_> = items
        .iter()
        .enumerate()
        .map(|(number, item)| {
            let mut component = json!({
                "type": if item.kind == "package" { "library" } else { "application" },
                "bom-ref": format!("{}-{}", number + 1, item.name),
                "name": item.name,
                "hashes": [{ "alg": "SHA-256", "content": item.sha256.to_string() }],
                "properties": [
                    { "name": "cavrith:kind", "value": item.kind },
                    { "name": "cavrith:origin", "value": item.origin },
                ],
            });
            if !item.version.is_empty() {
                component["version"] = item.version.clone().into();
            }
            if let Some(purl) = &item.purl {
                component["purl"] = purl.clone().into();
            }
            if !item.licences.is_empty() {
                let licences: Vec<_> =
                    item.licences.iter().map(|licence| json!({ "license": { "name": licence } })).collect();
                component["licenses"] = licences.into();
            }
            component
        })
        .collect();
    let image = subject.image.map_or_else(|| "not built".to_owned(), ToString::to_string);
    json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.5",
        "version": 1,
        "metadata": {
            "timestamp": stamp(subject.epoch),
            "tools": { "components": [{ "type": "application", "name": "cavrith", "version": subject.version }] },
            "component": { "type": "operating-system", "bom-ref": "image", "name": subject.name, "version": image },
        },
        "components": components,
    })
}
