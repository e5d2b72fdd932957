//! SPDX 2.3 as JSON.

use std::collections::BTreeSet;

use serde_json::{Value, json};

use super::{Item, Subject, expression, stamp};

/// The bill as an SPDX document. It depends on the lock and the image only, so the same image has the same document.
pub fn spdx(subject: Subject<'_>, items: &[Item]) -> Value {
    let mut others = BTreeSet::new();
    let mut packages = vec![json!({
        "SPDXID": "SPDXRef-image",
        "name": subject.name,
        "versionInfo": subject.image.map_or_else(|| "not built".to_owned(), ToString::to_string),
        "primaryPackagePurpose": "OPERATING-SYSTEM",
        "downloadLocation": "NOASSERTION",
        "filesAnalyzed": false,
        "licenseConcluded": "NOASSERTION",
        "licenseDeclared": "NOASSERTION",
        "copyrightText": "NOASSERTION",
    })];
    let mut relations = vec![relation("SPDXRef-DOCUMENT", "DESCRIBES", "SPDXRef-image")];
    for (number, item) in items.iter().enumerate() {
        let id = format!("SPDXRef-{}", number + 1);
        let declared: Vec<_> = item
            .licences
            .iter()
            .map(|licence| {
                let (text, refs) = expression(licence);
                others.extend(refs);
                if item.licences.len() > 1 && text.contains(' ') { format!("({text})") } else { text }
            })
            .collect();
        let declared = if declared.is_empty() { "NOASSERTION".to_owned() } else { declared.join(" AND ") };
        let location = Some(&item.origin).filter(|origin| origin.contains("://")).map_or("NOASSERTION", String::as_str);
        let mut package = json!({
            "SPDXID": id,
            "name": item.name,
            "downloadLocation": location,
            "sourceInfo": item.origin,
            "filesAnalyzed": false,
            "checksums": [{ "algorithm": "SHA256", "checksumValue": item.sha256.to_string() }],
            "licenseConcluded": "NOASSERTION",
            "licenseDeclared": declared,
            "copyrightText": "NOASSERTION",
        });
        if !item.version.is_empty() {
            package["versionInfo"] = item.version.clone().into();
        }
        if let Some(purl) = &item.purl {
            package["externalRefs"] = json!([{
                "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": purl,
            }]);
        }
        packages.push(package);
        relations.push(relation("SPDXRef-image", "CONTAINS", &id));
    }
    let explained: Vec<_> = others
        .iter()
        .map(|name| {
            let licence = name.trim_start_matches("LicenseRef-debian-");
            json!({
                "licenseId": name,
                "name": licence,
                "extractedText": format!("Declared as {licence}; the text is in usr/share/doc/PACKAGE/copyright of the image."),
            })
        })
        .collect();
    let mut document = json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": subject.name,
        "documentNamespace": format!("urn:cavrith:{}:{}", subject.name, subject.pins),
        "creationInfo": { "created": stamp(subject.epoch), "creators": [format!("Tool: cavrith-{}", subject.version)] },
        "packages": packages,
        "relationships": relations,
    });
    if !explained.is_empty() {
        document["hasExtractedLicensingInfos"] = explained.into();
    }
    document
}

fn relation(from: &str, kind: &str, to: &str) -> Value {
    json!({ "spdxElementId": from, "relationshipType": kind, "relatedSpdxElement": to })
}
