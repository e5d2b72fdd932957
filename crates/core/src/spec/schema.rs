//! The JSON Schema of a spec (draft 2020-12), made from the list of keys, for editors that complete and check as one
//! types.

use serde_json::{Map, Value, json};

use super::keys::{self, Key, Shape, State};
use super::variants::COMMON;

/// The schema of `cavrith.toml`.
pub fn schema() -> Value {
    let mut schema = table("");
    if let Value::Object(entries) = &mut schema {
        entries.insert("$schema".to_owned(), "https://json-schema.org/draft/2020-12/schema".into());
        entries.insert("title".to_owned(), "cavrith.toml".into());
        entries.insert("description".to_owned(), "the description of a development workspace".into());
    }
    schema
}

/// The schema of one variant: any part of a spec once more, of which nothing has to be there.
fn variant() -> Value {
    let mut schema = table("variants.*");
    let usable = |(name, _): &(&str, &Key)| !COMMON.contains(name);
    for (name, key) in keys::children("").filter(usable) {
        let mut part = value(key);
        optional(&mut part);
        schema["properties"][name] = part;
    }
    schema
}

/// Lets everything be left out.
fn optional(schema: &mut Value) {
    match schema {
        Value::Object(entries) => {
            entries.retain(|name, value| name != "required" || !value.is_array());
            entries.values_mut().for_each(optional);
        }
        Value::Array(items) => items.iter_mut().for_each(optional),
        _ => {}
    }
}

/// The schema of a table with the keys beneath `path`.
fn table(path: &str) -> Value {
    let (mut properties, mut required, mut others) = (Map::new(), Vec::new(), Value::Bool(false));
    // A file that includes others may leave to them what has to be there.
    for (name, key) in keys::children(path) {
        if name == "*" {
            others = if key.path == "variants.*" { variant() } else { value(key) };
            continue;
        }
        properties.insert(name.to_owned(), value(key));
        if key.state == State::Needed {
            required.push(name);
        }
    }
    let mut schema = json!({ "type": "object", "properties": properties, "additionalProperties": others });
    if path.is_empty() {
        schema["anyOf"] = json!([{ "required": required }, { "required": ["include"] }]);
    } else if !required.is_empty() {
        schema["required"] = json!(required);
    }
    schema
}

fn value(key: &Key) -> Value {
    let text = || match key.values {
        [] => json!({ "type": "string" }),
        values => json!({ "type": "string", "enum": values }),
    };
    let texts = || json!({ "type": "array", "items": { "type": "string" } });
    let mut schema = match key.shape {
        Shape::Text => text(),
        Shape::Number => json!({ "type": "integer" }),
        Shape::Flag => json!({ "type": "boolean" }),
        Shape::Table => table(key.path),
        Shape::Tables => json!({ "type": "array", "items": table(&format!("{}[]", key.path)) }),
        Shape::Texts => texts(),
        Shape::TextOrTexts => json!({ "anyOf": [text(), texts()] }),
        Shape::TextOrTable => json!({ "anyOf": [text(), table(key.path)] }),
        Shape::TextsOrLists => json!({ "anyOf": [texts(), { "type": "object", "additionalProperties": texts() }] }),
        Shape::Any => json!({}),
    };
    schema["description"] = key.meaning.into();
    if !key.default.is_empty() {
        schema["description"] = format!("{}; when left out: {}", key.meaning, key.default).into();
    }
    if let (Some(schema), Value::Object(bounds)) = (schema.as_object_mut(), bounds(key.path)) {
        schema.extend(bounds);
    }
    schema
}

/// What a key's value keeps to beside its type, as the reader's rules have it: an editor says so while one types. What
/// depends on other values, only the reader knows.
fn bounds(path: &str) -> Value {
    const PATH: &str = "^/.+$";
    const URL: &str = r"^https?://[^/?#@\s]+([/?#]\S*)?$";
    const SHORT: &str = r"^\s*[0-9]+\s*(ms|s)\s*$";
    const LONG: &str = r"^\s*[0-9]+\s*(s|min|h)\s*$";
    const MEMORY: &str = r"^\s*[0-9]+\s*(MiB|GiB)\s*$";
    let pattern = |pattern: &str| json!({ "pattern": pattern });
    match path {
        "spec" => json!({ "const": 1 }),
        "workspace.name" => pattern("^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?$"),
        "workspace.account" => json!({ "pattern": "^[a-z][a-z0-9_-]{0,30}$", "not": { "const": "root" } }),
        "workspace.project" => pattern("^(/.+)?$"),
        "workspace.host.memory" | "limits.memory" => pattern(MEMORY),
        "workspace.host.processors" | "limits.cpus" | "limits.processes" => json!({ "minimum": 1 }),
        "depots.*.url" | "base.archive.url" | "toolchains.*.url" | "downloads[].url" => pattern(URL),
        "base.archive.sha256" | "toolchains.*.sha256" | "downloads[].sha256" => pattern("^[0-9a-f]{64}$"),
        "base.archive.strip" | "toolchains.*.strip" | "downloads[].strip" => json!({ "minimum": 0, "maximum": 32 }),
        "ports[].inside" | "ports[].outside" | "services.*.ready.port" => json!({ "minimum": 1, "maximum": 65_535 }),
        "ports[].count" => json!({ "minimum": 1, "maximum": 1000 }),
        "downloads[].mode" | "steps[].write.mode" => pattern("^0?[0-7]{3}$"),
        "folders[].inside"
        | "downloads[].inside"
        | "steps[].write.inside"
        | "steps[].copy.inside"
        | "steps[].creates" => pattern(PATH),
        "steps[].limit" | "services.*.ready.limit" | "services.*.stop.grace" => pattern(LONG),
        "services.*.ready.every" => pattern(SHORT),
        _ => json!({}),
    }
}
