//! Every kind of mistake is explained, and the examples of the explanations are what they say; the schema agrees with
//! the reader.

use cavrith_core::explain::{self, Seen};
use cavrith_core::mistake::{Code, line_and_column};
use cavrith_core::spec::schema::schema;
use cavrith_core::spec::{keys, parse};

/// The fragment, with what every spec needs around it.
fn whole(fragment: &str) -> String {
    let mut text = String::new();
    if !fragment.contains("spec = ") {
        text.push_str("spec = 1\n");
    }
    text.push_str(fragment.trim_end());
    text.push('\n');
    for (table, rest) in [
        ("[workspace]", "name = \"timetable\"\n"),
        ("[depots]", "harbour = { path = \"depot\" }\n"),
        ("[base]", "depot = \"harbour\"\npackages = [\"busybox-static\"]\n"),
    ] {
        if !fragment.lines().any(|line| line == table) {
            text.push_str(&format!("{table}\n{rest}"));
        }
    }
    text
}

/// Every mistake of a spec, in the words and places that people see.
fn told(text: &str) -> String {
    let mut told = String::new();
    for mistake in parse(text).mistakes {
        told.push_str(&format!("{} {}\n", mistake.code, mistake.message));
        for place in &mistake.places {
            let (line, column) = line_and_column(text, place.span.start);
            let shown = text[place.span.clone()].lines().next().unwrap_or_default();
            told.push_str(&format!("  {line}:{column} `{shown}` {}\n", place.note));
        }
        told.push_str(&format!("  → {}\n", mistake.remedy));
    }
    told
}

#[test]
fn every_code_is_explained_once() {
    let explained: Vec<_> = explain::all().iter().map(|one| one.code).collect();
    assert_eq!(explained, Code::ALL);
    assert!(Code::ALL.len() >= 40);
}

#[test]
fn every_wrong_example_has_its_mistake_and_every_right_one_has_none() {
    let mut all = String::new();
    for one in explain::all() {
        let right = parse(&whole(&one.right)).mistakes;
        if one.code != Code::INCLUDE_CYCLE && !one.right.contains("include") {
            assert_eq!(right, [], "the right example of {}", one.code);
        }
        if one.seen == Seen::Around {
            continue;
        }
        let wrong = whole(&one.wrong);
        let codes: Vec<_> = parse(&wrong).mistakes.iter().map(|mistake| mistake.code).collect();
        assert_eq!(codes, [one.code], "the wrong example of {}:\n{wrong}", one.code);
        all.push_str(&format!("{}\n", told(&wrong)));
    }
    insta::assert_snapshot!("every_kind_that_the_spec_alone_shows", all);
}

#[test]
fn the_schema_takes_every_example_that_the_reader_takes() {
    let schema = schema();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let as_json = |text: &str| serde_json::to_value(text.parse::<toml::Table>().unwrap()).unwrap();
    for key in keys::KEYS.iter() {
        let example = keys::example_of(key);
        assert!(!example.is_empty(), "{} has no example", key.path);
        let text = whole(example);
        let errors: Vec<_> = validator.iter_errors(&as_json(&text)).map(|error| error.to_string()).collect();
        assert_eq!(errors, [] as [&str; 0], "the example of {}:\n{text}", key.path);
        let mistakes = parse(&text).mistakes;
        let other = mistakes.iter().find(|mistake| !matches!(mistake.code, Code::INCLUDE_UNREADABLE));
        assert_eq!(other, None, "the example of {}:\n{text}", key.path);
    }
    assert!(validator.is_valid(&as_json(include_str!("../../../../demo/project/cavrith.toml"))));
}

#[test]
fn the_schema_and_the_reader_agree_on_bounds() {
    let schema = schema();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let digest = "0".repeat(64);
    let port = "[[ports]]\nname = \"site\"\ninside = @";
    let service = "[services.site]\nrun = [\"serve\"]\n";
    let download = "[[downloads]]\nname = \"tides\"\nurl = \"https://files.brindle.example/t\"\ninside = \"/srv/t\"\n";
    let step = "[[steps]]\nname = \"a\"\nat = \"build\"\n";
    let run = "run = [\"true\"]\n";
    // The place of a value, what both take, and what both refuse.
    let cases: Vec<(String, Vec<&str>, Vec<&str>)> = vec![
        ("spec = @".to_owned(), vec!["1"], vec!["2", "0"]),
        (
            "[workspace]\nname = @".to_owned(),
            vec!["\"a\"", "\"tide-2\""],
            vec!["\"\"", "\"Tide\"", "\"-a\"", "\"a-\"", "\"a b\""],
        ),
        (
            "[workspace]\nname = \"a\"\naccount = @".to_owned(),
            vec!["\"crew\"", "\"c_1\""],
            vec!["\"root\"", "\"1c\"", "\"\"", "\"Crew\""],
        ),
        ("[workspace]\nname = \"a\"\nproject = @".to_owned(), vec!["\"/code\"", "\"\""], vec!["\"code\"", "\"/\""]),
        (
            "[limits]\nmemory = @".to_owned(),
            vec!["\"2 GiB\"", "\"512MiB\""],
            vec!["\"2 GB\"", "\"2\"", "\"much\"", "\"-1 GiB\""],
        ),
        ("[limits]\nprocesses = @".to_owned(), vec!["100"], vec!["0", "-1"]),
        (port.to_owned(), vec!["1", "65535"], vec!["0", "65536", "-80"]),
        (format!("{port}0\ncount = @").replacen("@0", "8000", 1), vec!["1", "1000"], vec!["0", "1001"]),
        (format!("{download}sha256 = @"), vec![], vec!["\"abc\"", "\"\""]),
        (format!("{download}mode = @"), vec!["\"0644\"", "\"755\""], vec!["\"4755\"", "\"0844\"", "\"rw\"", "\"64\""]),
        (
            download.replace("\"https://files.brindle.example/t\"", "@"),
            vec!["\"http://a.example\"", "\"https://a.example/b?c#d\""],
            vec!["\"ftp://a.example/b\"", "\"https://\"", "\"https://a b\"", "\"https://u:p@a.example/\""],
        ),
        (download.replace("\"/srv/t\"", "@"), vec!["\"/srv/x\""], vec!["\"srv/x\"", "\"\"", "\"~/x\""]),
        (
            format!("{step}{run}limit = @"),
            vec!["\"10 min\"", "\"90s\"", "\"1 h\""],
            vec!["\"10\"", "\"10 m\"", "\"soon\"", "\"5 d\""],
        ),
        (format!("{step}{run}creates = @"), vec!["\"/srv/x\""], vec!["\"srv/x\""]),
        (
            format!("{service}ready = {{ port = 80, every = @ }}"),
            vec!["\"200 ms\"", "\"1s\""],
            vec!["\"200\"", "\"1 min\""],
        ),
        (format!("{service}ready = {{ port = @ }}"), vec!["80"], vec!["0", "80800"]),
    ];
    for (place, taken, refused) in cases {
        for (value, is_right) in
            taken.iter().map(|value| (value, true)).chain(refused.iter().map(|value| (value, false)))
        {
            let text = whole(&place.replace('@', value));
            let read =
                parse(&text).mistakes.iter().all(|mistake| mistake.weight == cavrith_core::mistake::Weight::Warning);
            let json = serde_json::to_value(text.parse::<toml::Table>().unwrap()).unwrap();
            let errors: Vec<_> = validator.iter_errors(&json).map(|error| error.to_string()).collect();
            assert_eq!((read, errors.is_empty()), (is_right, is_right), "{text}\n{errors:?}");
        }
    }
    let text = whole(&format!("{download}sha256 = \"{digest}\""));
    assert!(parse(&text).sound().is_some());
}

#[test]
fn the_schema_refuses_what_the_reader_refuses_for_its_form() {
    let schema = schema();
    let validator = jsonschema::validator_for(&schema).unwrap();
    for code in [Code::UNKNOWN_KEY, Code::MISSING_KEY, Code::WRONG_TYPE, Code::NOT_ALLOWED] {
        let wrong = whole(&explain::of(code).unwrap().wrong);
        let value = serde_json::to_value(wrong.parse::<toml::Table>().unwrap()).unwrap();
        assert!(!validator.is_valid(&value), "{code}:\n{wrong}");
    }
}
