//! Wrong specs as people of other habits write them: each has one mistake, at the right place, in the writer's own
//! terms, with what to do. `|` parts what stands under the marked place, words of the message, and words of the remedy.

use cavrith_core::spec::parse;

const HEAD: &str = "spec = 1\n[workspace]\nname = \"tides\"\n[base]\ndebian = \"trixie\"\npackages = [\"git\"]\n";

/// What is added to a good spec, and what has to be told of it.
const ADDED: [(&str, &str); 64] = [
    ("[limits]\nmemory = 2048\n", "2048|`memory` is a whole number|write memory = \"2 GiB\""),
    ("[limits]\nmemory = 536870912\n", "536870912|a whole number|write memory = \"512 MiB\""),
    ("[limits]\nmemory = \"2 GB\"\n", "\"2 GB\"|not an amount of memory|write \"2 GiB\""),
    ("[limits]\ncpus = 1.5\n", "1.5|`cpus` is a number|write cpus = 2"),
    (
        "[[ports]]\nname = \"web\"\ninside = \"8000-8010\"\n",
        "\"8000-8010\"|`inside` is a text|write inside = 8000 and count = 11",
    ),
    (
        "[[ports]]\nname = \"web\"\ninside = \"http://localhost:8080\"\n",
        "\"http://localhost:8080\"|`inside` is a text|write inside = 8080",
    ),
    (
        "[services.web]\nrun = \"x\"\nready = { port = 80, limit = \"1 minute\" }\n",
        "\"1 minute\"|length of time|write \"1 min\"",
    ),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"true\"\nnetwork = true\n",
        "true|`network` is true or false|write network = \"recorded\"",
    ),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = [\"make clean\", \"make all\"]\n",
        "[\"make clean\", \"make all\"]|are commands|write run = \"make clean && make all\"",
    ),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"apt-get update && apt-get install -y jq\"\n",
        "\"apt-get update && apt-get install -y jq\"|has no network|`packages` of [base]",
    ),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"cd site && npm ci\"\n",
        "\"cd site && npm ci\"|npm ci fetches|network = \"recorded\"",
    ),
    ("[limits]\ncpu = 2\n", "cpu|[limits] has no key `cpu`|write cpus = 2"),
    ("[limits]\ncpus = \"2\"\n", "\"2\"|`cpus` is a text|write cpus = 2"),
    ("[limits]\nram = 1024\n", "ram|no key `ram`|write memory = \"1 GiB\""),
    ("[ports]\nweb = 8080\n", "ports|`ports` is a table|name    = \"web\""),
    ("ports = [80]\n", "ports|`ports` stands in [base]|move it above the first [table]"),
    ("[[ports]]\nname = \"web\"\nhost = 8080\ncontainer = 80\n", "host|no key `host`|write outside = 8080"),
    ("[[ports]]\nname = \"web\"\ninside = \"8080\"\n", "\"8080\"|`inside` is a text|write inside = 8080"),
    ("[[ports]]\nname = \"web\"\ninside = 80800\n", "80800|ports go from 1 to 65535|from 1 to 65535"),
    (
        "[services.web]\ncommand = \"httpd -f\"\n",
        "command|[services.web] has no key `command`|write run = \"httpd -f\"",
    ),
    ("[services.web]\nrun = \"x\"\nrestart = true\n", "true|`restart` is true or false|write restart = \"always\""),
    (
        "[services.web]\nrun = \"x\"\nrestart = \"sometimes\"\n",
        "\"sometimes\"|`restart` cannot be|always, on-failure, never",
    ),
    ("[services.web]\nrun = \"x\"\nready = 8080\n", "8080|`ready` is a whole number|write ready = { port = 8080 }"),
    ("[services.web]\nrun = \"x\"\nready = \"8080\"\n", "\"8080\"|`ready` is a text|write ready = { port = 8080 }"),
    (
        "[services.web]\nrun = \"x\"\nready = \"/run/x\"\n",
        "\"/run/x\"|`ready` is a text|write ready = { file = \"/run/x\" }",
    ),
    (
        "[services.web]\nrun = \"x\"\nready = { port = 8080, timeout = \"5 s\" }\n",
        "timeout|no key `timeout`|write limit = \"5 s\"",
    ),
    (
        "[services.web]\nrun = \"x\"\nhealth = \"curl localhost\"\n",
        "health|no key `health`|write ready = { command = \"curl localhost\" }",
    ),
    ("[services.web]\nrun = \"x\"\nrequires = [\"web2\"]\n", "requires|no key `requires`|write after = [\"web2\"]"),
    ("[services.web]\nrun = \"x\"\nenvironment = { A = \"b\" }\n", "environment|no key `environment`|write `env`"),
    ("[services.web]\nrun = \"x\"\nuser = \"www\"\n", "user|no key `user`|write account = \"www\""),
    ("[services.web]\nrun = \"x\"\nworkdir = \"/srv\"\n", "workdir|no key `workdir`|write directory = \"/srv\""),
    ("[services.web]\nrun = \"x\"\nimage = \"db:16\"\n", "image|no key `image`|a program of the workspace's own image"),
    ("[services.web]\nrun = \"x\"\nport = 8080\n", "port|no key `port`|[[ports]]"),
    ("[services.web]\nrun = [\"httpd -f\"]\n", "[\"httpd -f\"]|one entry with blanks|[\"httpd\", \"-f\"]"),
    ("[[services]]\nname = \"web\"\nrun = \"x\"\n", "[[services]]|`services` is a list|write [services.web]"),
    ("[steps.install]\nrun = \"make\"\n", "steps|`steps` is a table|write [[steps]]"),
    ("[[steps]]\nname = \"a\"\nrun = \"make\"\n", "[[steps]]|lacks the key `at`|add at = \"build\""),
    ("[[steps]]\nname = \"a\"\nwhen = \"build\"\nrun = \"make\"\n", "when|no key `when`|write at = \"build\""),
    ("[[steps]]\nname = \"a\"\nat = \"build\"\nscript = \"make\"\n", "script|no key `script`|write run = \"make\""),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"make\"\ntimeout = 60\n",
        "timeout|no key `timeout`|write limit = \"60 s\"",
    ),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"make\"\nlimit = 60\n",
        "60|`limit` is a whole number|write limit = \"60 s\"",
    ),
    ("[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"make\"\ncwd = \"/srv\"\n", "cwd|no key `cwd`|cd /srv/site"),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"make\"\nargs = [\"x\"]\n",
        "args|no key `args`|run = [\"program\", \"argument\"]",
    ),
    ("[[steps]]\nname = \" \"\nat = \"build\"\nrun = \"make\"\n", "\" \"|empty name|name = \""),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\ncopy = \"pages\"\n",
        "\"pages\"|`copy` is a text|copy = { from = \"pages\"",
    ),
    (
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"make\"\nafter = \"b\"\n",
        "\"b\"|`after` is a text|write after = [\"b\"]",
    ),
    ("[[folders]]\nhost = \".\"\ninside = \"/x\"\n", "host|no key `host`|write outside = \".\""),
    ("[[folders]]\noutside = \".\"\ninside = \"/x\"\nreadonly = true\n", "readonly|no key `readonly`|leave it out"),
    ("[[folders]]\noutside = \"~/x\"\ninside = \"/x\"\n", "\"~/x\"|no shell fills that in|relative to the spec"),
    ("[[folders]]\noutside = \".\"\ninside = \"x\"\n", "\"x\"|not a path inside|like \"/code\""),
    ("folders = [\".:/code\"]\n", "folders|`folders` stands in [base]|move it above the first [table]"),
    ("[toolchains]\npython = \"v3.11\"\n", "\"v3.11\"|begins with a letter|write \"3.11\""),
    ("[toolchains]\npython = \"3.*\"\n", "\"3.*\"|has a wildcard|write \"3\""),
    ("[toolchains]\npython = \">=3.10\"\n", "\">=3.10\"|has an operator|write \"3.10\""),
    ("[toolchains]\npython = 3.11\n", "3.11|is a number|write python = \"3.11\""),
    (
        "[toolchains.python]\nfrom = \"apt\"\nversion = \"3.11\"\npackages = [\"python3\"]\n",
        "\"apt\"|does not come from \"apt\"|write from = \"base\"",
    ),
    (
        "[toolchains.python]\nfrom = \"base\"\nrelease = \"3.13\"\npackages = [\"python3\"]\n",
        "release|no key `release`|write version = \"3.13\"",
    ),
    ("[env]\nPORT = 8080\n", "8080|`PORT` is a whole number|write PORT = \"8080\""),
    ("[env]\nURL = \"${HOME}/x\"\n", "\"${HOME}/x\"|only programs inside have|/home/crew"),
    ("[env]\nPATH = \"/opt/x\"\n", "PATH|set by Cavrith itself|leave it out"),
    (
        "[editor]\nprofile = \"vim\"\nplugins = [\"a.b\"]\n",
        "plugins|no key `plugins`|write extensions = { \"a.b\" = \"1\" }",
    ),
    ("[environment]\nA = \"b\"\n", "environment|a spec has no key `environment`|write [env]"),
    ("[volumes]\na = \"b\"\n", "volumes|a spec has no key `volumes`|write [[folders]]"),
    ("[base.env]\nA = \"b\"\n", "env|`env` stands in [base], and belongs at the top|write [env] for it"),
];

/// Whole texts.
const WHOLE: [(&str, &str); 18] = [
    ("", "|nothing in this spec|spec = 1"),
    ("spec: 1\nworkspace:\n  name: tides\n", "spec: 1|this is YAML|spec = 1"),
    ("---\nname: tides\npackages:\n  - git\n", "name: tides|this is YAML|name = \"tides\""),
    ("{ \"spec\": 1 }", "{|this is JSON|cavrith init"),
    ("// tides\nspec = 1\n", "//|a comment begins with #|write # tides"),
    ("spec = 1\n[workspace]\nname = “tides”\n", "“|a quote of typesetting|write name = \"tides\""),
    ("spec = 1\n[workspace]\nname = 'tides\n", "'tides|no quote at its end|write name = 'tides'"),
    (
        "spec = 1\n[workspace]\nname = \"tides # the name\n",
        "\"tides # the name|no quote at its end|write name = \"tides\" # the name",
    ),
    ("spec = 1\n[workspace]\nname = tides\n", "tides|texts stand in quotes|write name = \"tides\""),
    ("spec = 1\n[workspace]\nname: \"tides\"\n", ":|stands =, and not :|write name = \"tides\""),
    ("spec = 1\n[workspace]\nname \"tides\"\n", "name \"tides\"|stands no =|write name = \"tides\""),
    ("spec = 1\n[workspace\n", "[workspace|no ] at its end|write [workspace]"),
    ("spec = 1\n[workspace]\nname = \"a\"\nname = \"b\"\n", "name|`name` stands twice|keep the one"),
    (
        "spec = 1\n[workspace]\nname = \"a\"\n[base]\ndebian = \"trixie\"\n[workspace]\nabout = \"b\"\n",
        "workspace|[workspace] stands twice|the first [workspace]",
    ),
    ("spec = 1\n[workspace]\nabout = \"C:\\Users\"\n", "\\|a backslash in \"double quotes\"|'C:\\Users'"),
    ("spec = 1\n[base]\npackages = [\"a\", \"b\"\n", "[|this list has no ] at its end|write ]"),
    ("spec = 1\n<<<<<<< ours\n=======\n>>>>>>> theirs\n", "<<<<<<< ours|a merge left its conflict|keep the lines"),
    ("spec = 1\n[workspace]\nname = \"a\" \"b\"\n", "\"b\"|behind the value of `name`|one value only"),
];

fn held(text: &str, expected: &str) {
    let parsed = parse(text);
    let mistakes: Vec<_> =
        parsed.mistakes.iter().map(|one| (text.get(one.places[0].span.clone()), &one.message, &one.remedy)).collect();
    let [at, message, remedy] = expected.splitn(3, '|').collect::<Vec<_>>()[..] else { panic!("{expected}") };
    let first = mistakes.first().unwrap_or_else(|| panic!("nothing is told of {text:?}"));
    assert_eq!(first.0, Some(at), "{text}: {mistakes:#?}");
    assert!(first.1.contains(message) && first.2.contains(remedy), "{text}: {mistakes:#?}");
    let others = mistakes.iter().skip(1).filter(|one| !one.1.contains("`container`"));
    assert_eq!(others.count(), 0, "more than the cause is told of {text}: {mistakes:#?}");
}

#[test]
fn what_people_of_other_habits_write_has_its_one_mistake() {
    for (added, expected) in ADDED {
        held(&format!("{HEAD}{added}"), expected);
    }
}

#[test]
fn a_text_that_is_no_spec_at_all_has_its_one_mistake() {
    for (text, expected) in WHOLE {
        held(text, expected);
    }
}

#[test]
fn very_many_mistakes_are_found_in_a_moment() {
    let begun = std::time::Instant::now();
    let unknown: String = (0..60_000).map(|number| format!("key-{number} = 1\n")).collect();
    assert_eq!(parse(&format!("{unknown}{HEAD}")).mistakes.len(), 60_000);
    let packages: String = (0..100_000).map(|number| format!("\"package-{number}\",\n")).collect();
    assert!(parse(&HEAD.replace("\"git\"", &packages)).mistakes.is_empty());
    // Far from any limit that would be a matter of the machine.
    assert!(begun.elapsed().as_secs() < 60);
}
