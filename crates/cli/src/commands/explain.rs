//! `cavrith explain` and `cavrith schema`
use cavrith_core::explain::{self, Explanation};
use cavrith_core::failure::{self, FailureCode, FailureExplanation};
use cavrith_core::mistake::{Code, nearest};
use cavrith_core::spec::keys::{self, KEYS, Key, State};
use cavrith_core::spec::schema;
use serde_json::{Value, json};

use crate::args::Explain;
use crate::commands::Outcome;
use crate::failure::Failure;
use crate::screen::{Screen, styled};
use crate::wrapping::paragraph;

pub fn exec(screen: &Screen, command: &Explain) -> Outcome {
    let Some(topic) = &command.topic else {
        return list(screen, command.report.json);
    };
    if let Some(code) = FailureCode::find(topic) {
        return show_failure(screen, code.explanation(), command.report.json);
    }
    if let Some(code) = code(topic) {
        return match explain::of(code) {
            Some(explanation) => show_code(screen, explanation, command.report.json),
            None => Err(unknown(topic)),
        };
    }
    match key(topic) {
        Some(key) => show_key(screen, key, command.report.json),
        None => Err(unknown(topic)),
    }
}

pub fn schema(screen: &Screen) -> Outcome {
    screen.json(&schema::schema());
    Ok(0)
}

/// `CV0107`, in either case, or only its number.
fn code(topic: &str) -> Option<Code> {
    let digits = topic.strip_prefix("CV").or_else(|| topic.strip_prefix("cv")).unwrap_or(topic);
    digits.parse().ok().map(Code)
}

/// The key that is meant: as the table of keys has it, or as it stands in a spec.
fn key(topic: &str) -> Option<&'static Key> {
    let plain = |path: &str| path.replace("[]", "").trim_matches(['[', ']']).to_owned();
    let wanted = plain(topic);
    KEYS.iter().find(|key| plain(key.path) == wanted).or_else(|| {
        // A name of the writer's choice stands where the table has a star.
        let named: Vec<_> = wanted.split('.').collect();
        // In a variant, every key of a spec may stand once more.
        if let ["variants", _, first, ..] = named.as_slice()
            && *first != "without"
        {
            return key(&named[2..].join("."));
        }
        KEYS.iter().find(|key| {
            let path = plain(key.path);
            let names: Vec<_> = path.split('.').collect();
            names.len() == named.len() && names.iter().zip(&named).all(|(name, given)| *name == "*" || name == given)
        })
    })
}

fn unknown(topic: &str) -> Failure {
    let codes: Vec<_> = Code::ALL.iter().map(ToString::to_string).collect();
    let failures = failure::all().iter().map(|one| one.code.as_str());
    let known = KEYS.iter().map(|key| key.path).chain(codes.iter().map(String::as_str)).chain(failures);
    let remedy = match nearest(topic, known) {
        Some(meant) => format!("did you mean {meant}?"),
        None => "cavrith explain lists all".to_owned(),
    };
    Failure::Own(2, format!("{topic} is neither a code nor a key of the spec; {remedy}"))
}

fn list(screen: &Screen, as_json: bool) -> Outcome {
    if as_json {
        let codes: Vec<_> = explain::all().iter().map(code_json).collect();
        let keys: Vec<_> = KEYS.iter().map(key_json).collect();
        let failures: Vec<_> = failure::all().iter().map(failure_json).collect();
        screen.json(&json!({ "codes": codes, "failures": failures, "keys": keys }));
        return Ok(0);
    }
    screen.result(styled(screen.out.strong, "Keys of the spec"));
    let width = KEYS.iter().map(|key| key.path.len()).max().unwrap_or(0);
    for key in KEYS.iter() {
        screen.result(format_args!("  {:width$}  {}", key.path, key.meaning));
    }
    screen.result("");
    screen.result(styled(screen.out.strong, "Kinds of mistakes"));
    for one in explain::all() {
        screen.result(format_args!("  {}  {}", one.code, one.title));
    }
    screen.result("");
    screen.result(styled(screen.out.strong, "Kinds of failures"));
    for one in failure::all() {
        screen.result(format_args!("  {}  {}", one.code, one.title));
    }
    Ok(0)
}

fn failure_json(one: &FailureExplanation) -> Value {
    json!({ "code": one.code, "title": one.title, "text": one.text })
}

fn show_failure(screen: &Screen, one: &FailureExplanation, as_json: bool) -> Outcome {
    if as_json {
        screen.json(&failure_json(one));
        return Ok(0);
    }
    let strong = screen.out.strong;
    screen.result(format_args!("{}  {}\n", styled(strong, &one.code), styled(strong, &one.title)));
    screen.result(paragraph(&one.text, screen.columns()));
    Ok(0)
}

fn code_json(one: &Explanation) -> Value {
    json!({ "code": one.code.to_string(), "title": one.title, "text": one.text, "wrong": one.wrong, "right": one.right })
}

fn key_json(key: &Key) -> Value {
    json!({
        "key": key.path,
        "type": key.shape.words(),
        "meaning": key.meaning,
        "values": key.values,
        "default": key.default,
        "needed": key.state == State::Needed,
        "example": keys::example_of(key),
    })
}

fn show_code(screen: &Screen, one: &Explanation, as_json: bool) -> Outcome {
    if as_json {
        screen.json(&code_json(one));
        return Ok(0);
    }
    let styles = &screen.out;
    screen.result(format_args!("{}  {}", styled(styles.strong, one.code), styled(styles.strong, &one.title)));
    screen.result("");
    screen.result(paragraph(&one.text, screen.columns()));
    screen.result(format_args!("\n{}", styled(styles.bad, "wrong")));
    screen.verbatim(indented(&one.wrong));
    screen.result(format_args!("\n{}", styled(styles.good, "right")));
    screen.verbatim(indented(&one.right));
    Ok(0)
}

fn show_key(screen: &Screen, key: &Key, as_json: bool) -> Outcome {
    if as_json {
        screen.json(&key_json(key));
        return Ok(0);
    }
    let styles = &screen.out;
    screen.result(format_args!("{}  {}", styled(styles.strong, key.path), key.shape.words()));
    screen.result("");
    screen.result(paragraph(key.meaning, screen.columns()));
    let mut facts = Vec::new();
    match key.state {
        State::Needed => facts.push(("needed", "it has to be there".to_owned())),
        State::Optional => {}
    }
    if !key.default.is_empty() {
        facts.push(("left out", key.default.to_owned()));
    }
    if !key.values.is_empty() {
        facts.push(("values", key.values.join(", ")));
    }
    let inner: Vec<_> = keys::children(key.path).chain(keys::children(&format!("{}[]", key.path))).collect();
    if !inner.is_empty() {
        let names: Vec<_> =
            inner.iter().map(|(name, _)| if *name == "*" { "a name of your choice" } else { name }).collect();
        facts.push(("keys in it", names.join(", ")));
    }
    if !facts.is_empty() {
        screen.result("");
    }
    for (name, fact) in facts {
        screen.result(format_args!("{:12}{fact}", styled(styles.faint, format_args!("{name:10}"))));
    }
    let example = keys::example_of(key);
    if !example.is_empty() {
        screen.result(format_args!("\n{}", styled(styles.faint, "example")));
        screen.verbatim(indented(example));
    }
    Ok(0)
}

fn indented(text: &str) -> String {
    text.trim_end().lines().map(|line| format!("  {line}")).collect::<Vec<_>>().join("\n")
}
