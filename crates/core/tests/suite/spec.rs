//! Every kind of mistake that the text of a spec shows, with its place and its words.

use cavrith_core::mistake::{Code, line_and_column};
use cavrith_core::spec::{Action, Run, Spec, parse};

const GOOD: &str = r#"spec = 1
[workspace]
name = "timetable"
[depots]
harbour = { path = "depot" }
[base]
depot = "harbour"
packages = ["busybox-static"]
"#;

/// `CV0102 9:1 message / remedy` for every mistake, with its other places.
fn told(text: &str) -> String {
    let mistakes = parse(text).mistakes.into_iter().map(|mistake| {
        let places: Vec<_> = mistake
            .places
            .iter()
            .map(|place| {
                let (line, column) = line_and_column(text, place.span.start);
                format!("{line}:{column} `{}`", text[place.span.clone()].lines().next().unwrap_or_default())
            })
            .collect();
        format!("{} {}\n  {}\n  {}", mistake.code, places.join(" and "), mistake.message, mistake.remedy)
    });
    mistakes.collect::<Vec<_>>().join("\n")
}

fn after(addition: &str) -> String {
    told(&format!("{GOOD}{addition}"))
}

fn with(old: &str, new: &str) -> String {
    assert!(GOOD.contains(old));
    told(&GOOD.replacen(old, new, 1))
}

fn good(addition: &str) -> Spec {
    let parsed = parse(&format!("{GOOD}{addition}"));
    assert_eq!(parsed.mistakes, []);
    parsed.sound().unwrap()
}

fn run(spec: &Spec, step: usize) -> &Run {
    match &spec.steps[step].action {
        Action::Run(run) => &run.value,
        other => panic!("{other:?} runs nothing"),
    }
}

#[test]
fn a_small_spec_gets_its_defaults() {
    let spec = good("");
    assert_eq!(spec.workspace.account.value, "crew");
    assert_eq!(spec.workspace.project.value.to_string(), "/code");
    let folders: Vec<_> =
        spec.folders.iter().map(|folder| (outside(folder), folder.inside.value.to_string())).collect();
    assert_eq!(folders, [(".", "/code".to_owned())]);
}

#[test]
fn comments_and_layout_do_not_change_the_digest_and_values_do() {
    let plain = good("").digest;
    assert_eq!(good("# a word more\n").digest, plain);
    assert_eq!(parse(&GOOD.replace(" = ", "   =   ")).sound().unwrap().digest, plain);
    assert_ne!(parse(&GOOD.replace("timetable", "tides")).sound().unwrap().digest, plain);
}

#[test]
fn a_command_is_a_text_for_the_shell_or_a_program() {
    let spec = good(
        "[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"true\"\n[[steps]]\nname = \"b\"\nat = \"build\"\nrun = [\"/bin/b\", \"x\"]\n",
    );
    assert_eq!(run(&spec, 0).argv(), ["/bin/sh", "-ec", "true"]);
    assert_eq!(*run(&spec, 1), Run::Program(vec!["/bin/b".to_owned(), "x".to_owned()]));
}

#[test]
fn every_mistake_is_told_in_one_run() {
    let text = "spec = 1\nnmae = 2\n[workspace]\nname = \"Big\"\n[base]\ndepot = \"nowhere\"\npackages = []\n[env]\nPATH = \"/x\"\n";
    let codes: Vec<_> = parse(text).mistakes.iter().map(|mistake| mistake.code).collect();
    assert_eq!(codes, [Code::UNKNOWN_KEY, Code::BAD_NAME, Code::UNKNOWN_DEPOT, Code::EMPTY, Code::BAD_VARIABLE]);
}

#[test]
fn broken_toml_does_not_hide_the_other_mistakes() {
    let codes: Vec<_> = parse("spec = 1\n[workspace\nname = \"x\"\n[envy]\nA = 1\n")
        .mistakes
        .iter()
        .map(|mistake| mistake.code)
        .collect();
    assert!(codes.contains(&Code::NOT_TOML) && codes.contains(&Code::UNKNOWN_KEY), "{codes:?}");
}

#[test]
fn hostile_texts_are_answered() {
    for text in [
        "\0",
        "spec = 99999999999999999999999999",
        &"[a.".repeat(10_000),
        &format!("a = {}", "[".repeat(100_000)),
        "\"\\uD800\" = 1",
        &format!("{GOOD}[env]\n\"A\\u0000\" = \"x\"\n"),
        "spec = 1\nspec = 1\n",
        "= = =",
        "\u{feff}spec = 1",
        &format!("{GOOD}# {}\n", "x".repeat(5 << 20)),
        &format!("{GOOD}[env]\n{}", (0..64).map(|n| format!("V{n} = \"${{V{}}}\"\n", n + 1)).collect::<String>()),
    ] {
        assert!(!parse(text).mistakes.is_empty(), "{:?} was taken", &text[..text.len().min(40)]);
    }
}

mod mistakes {
    use super::*;

    #[test]
    fn toml() {
        insta::assert_snapshot!(with("spec = 1", "spec 1"), @r#"
        CV0101 1:1 `spec 1`
          between `spec` and its value stands no =
          write spec = 1
        "#);
    }

    #[test]
    fn unknown_key() {
        insta::assert_snapshot!(after("[toolchian]\nquill = \"2\"\n"), @"
        CV0102 9:2 `toolchian`
          a spec has no key `toolchian`
          write `toolchains`, or leave the line out
        ");
        insta::assert_snapshot!(with("name =", "nmae ="), @r#"
        CV0104 2:2 `workspace`
          [workspace] lacks the key `name`
          add name = "…": its name, and its host name inside
        CV0102 3:1 `nmae`
          [workspace] has no key `nmae`
          write `name`, or leave the line out
        "#);
    }

    #[test]
    fn a_machine_that_cannot_be() {
        insta::assert_snapshot!(
            after("[workspace.host]\nmemory = \"8 GB\"\nprocessors = 0\nkernel = \"5\"\narchitectures = [\"x86-64\"]\n"),
            @r#"
        CV0143 10:10 `"8 GB"`
          "8 GB" is not an amount of memory of at least 16 MiB
          write "8 GiB"
        CV0143 11:14 `0`
          `processors` is 0, and has to be from 1 to 4096
          write a whole number in these bounds
        CV0143 12:10 `"5"`
          "5" is not a version of a kernel
          write two numbers, like "5.15"
        CV0106 13:18 `"x86-64"`
          `architectures` cannot be "x86-64"
          write "x86_64"
        "#
        );
    }

    #[test]
    fn services_and_steps_of_the_start() {
        insta::assert_snapshot!(after("[services.a]\nrun = \"x\"\nafter = [\"b\"]\n[services.b]\nrun = \"x\"\nafter = [\"one\"]\n[[steps]]\nname = \"one\"\nat = \"start\"\nrun = \"true\"\nafter = [\"a\"]\n"), @r#"
        CV0147 11:10 `"b"` and 14:10 `"one"` and 19:10 `"a"`
          services wait for each other: a → b → one → a
          take one of these `after` out
        "#);
        insta::assert_snapshot!(after("[services.a]\nrun = \"x\"\nready = { port = 1, file = \"/x\" }\nrestart = \"sometimes\"\nstop = { signal = \"KILL\", grace = \"long\" }\n"), @r#"
        CV0133 11:21 `file` and 11:11 `port`
          `port` and `file` exclude each other
          keep one of them
        CV0106 12:11 `"sometimes"`
          `restart` cannot be "sometimes"
          write one of always, on-failure, never
        CV0106 13:19 `"KILL"`
          `signal` cannot be "KILL"
          write one of TERM, INT, QUIT, HUP, USR1, USR2, WINCH
        CV0127 13:35 `"long"`
          "long" is not a length of time between a second and a day
          write a whole number and s, min or h, like "10 min"
        "#);
        insta::assert_snapshot!(after("[services.a]\nrun = \"x\"\nready = { every = \"1 h\" }\n[services.Up]\nrun = []\n"), @r#"
        CV0133 11:1 `ready`
          `ready` does not say how to tell
          add port, file or command
        CV0127 11:19 `"1 h"`
          "1 h" is not a time between 10 ms and 60 s
          write a whole number and ms or s, like "500 ms"
        CV0107 12:11 `Up`
          "Up" cannot be the name of a service
          it is a host name too: use at most 63 lower-case letters, digits and -
        CV0119 13:7 `[]`
          `run` has no command in it that could be run
          write the command, or leave it out
        "#);
        insta::assert_snapshot!(after("[[steps]]\nname = \"early\"\nat = \"build\"\nrun = \"true\"\nafter = [\"late\"]\n[[steps]]\nname = \"late\"\nat = \"start\"\nwrite = { inside = \"/a\", content = \"\" }\n[services.late]\nrun = \"x\"\n"), @r#"
        CV0123 13:10 `"late"`
          the step "late" is carried out when a workspace starts, after all of the image's
          write the name of another step, or leave it out
        CV0122 15:8 `"late"`
          the step "late" writes a file, and a step of the start runs a command
          write at = "build", or run a command
        CV0112 15:8 `"late"`
          a step and a service have the name late
          call one of them otherwise
        "#);
    }

    #[test]
    fn ports_in_a_row_and_kept_folders() {
        insta::assert_snapshot!(after("[[ports]]\nname = \"a\"\ninside = 8000\ncount = 10\n[[ports]]\nname = \"b\"\ninside = 8005\n[[ports]]\nname = \"c\"\ninside = 8005\nprotocol = \"udp\"\n[[ports]]\nname = \"d\"\ninside = 65000\ncount = 1000\nprotocol = \"tpc\"\n"), @r#"
        CV0111 15:10 `8005` and 11:10 `8000`
          two ports have the inside number 8005
          give one of them another number
        CV0110 23:9 `1000`
          `count` is 1000, and from port 65000 on it can be 1 to 536
          write how many ports in a row are meant
        CV0106 24:12 `"tpc"`
          `protocol` cannot be "tpc"
          write "tcp"
        "#);
        insta::assert_snapshot!(after("[[folders]]\nmode = \"kept\"\ninside = \"/a\"\noutside = \".\"\n[[folders]]\ninside = \"/b\"\nowner = \"crew\"\n"), @r#"
        CV0104 9:1 `[[folders]]`
          the folder lacks the key `name`
          add it: the name that cavrith folder takes
        CV0106 12:1 `outside`
          `outside` means nothing for a kept folder
          leave it out, or write mode = "live"
        CV0104 13:1 `[[folders]]`
          the folder lacks the key `outside`
          add it: the folder on the member's disk, or write mode = "kept" and a name
        CV0106 15:1 `owner`
          `owner` means nothing for a live folder
          leave it out, or write mode = "kept"
        "#);
        insta::assert_snapshot!(after("[limits]\nmemory = \"1 MiB\"\ncpus = 0\n[names]\n\"Harbour\" = \"site\"\n"), @r#"
        CV0143 10:10 `"1 MiB"`
          "1 MiB" is not an amount of memory of at least 16 MiB
          write a whole number and MiB or GiB, like "2 GiB"
        CV0143 11:8 `0`
          `cpus` is 0, and has to be from 1 to 4096
          write a whole number in these bounds
        CV0107 13:1 `"Harbour"`
          "Harbour" cannot be the name of the workspace outside
          use labels of lower-case letters, digits and -, with dots between, like "timetable.test"
        CV0148 13:13 `"site"`
          the name Harbour is for the port "site", which is not there
          declare it: [[ports]] name = "site"
        "#);
    }

    #[test]
    fn wrong_type() {
        insta::assert_snapshot!(with("\"timetable\"", "7"), @r#"
        CV0105 3:8 `7`
          `name` is a whole number, and has to be a text
          write name = "7"
        "#);
        insta::assert_snapshot!(after("[ports]\nname = \"site\"\n"), @"
        CV0105 9:2 `ports`
          `ports` is a table, and has to be a list of tables
          write [[ports]] with two brackets
        ");
        insta::assert_snapshot!(with("[\"busybox-static\"]", "\"busybox-static\""), @r#"
        CV0105 8:12 `"busybox-static"`
          `packages` is a text, and has to be a list of texts
          write packages = ["busybox-static"]
        "#);
        insta::assert_snapshot!(after("[editor]\nsettings = { since = 2026-01-01 }\n"), @"
        CV0105 10:22 `2026-01-01`
          a setting cannot be a date: editors' settings files have none
          put it in quotes
        ");
    }

    #[test]
    fn not_allowed() {
        insta::assert_snapshot!(with("spec = 1", "spec = 2"), @"
        CV0106 1:8 `2`
          this spec is of version 2, and this Cavrith reads version 1
          write spec = 1, or use a newer Cavrith
        ");
        insta::assert_snapshot!(after("[[steps]]\nname = \"a\"\nat = \"bulid\"\nrun = \"true\"\n"), @r#"
        CV0106 11:6 `"bulid"`
          `at` cannot be "bulid"
          write "build"
        "#);
    }

    #[test]
    fn names() {
        insta::assert_snapshot!(with("timetable", "Time table"), @r#"
        CV0107 3:8 `"Time table"`
          "Time table" cannot be the name of a workspace
          it is a host name too: use at most 63 lower-case letters, digits and -
        "#);
        insta::assert_snapshot!(with("[depots]", "account = \"root\"\n[depots]"), @r#"
        CV0107 4:11 `"root"`
          the account cannot be root: a workspace is worked in as an ordinary user
          choose another name; what needs root belongs into a build step
        "#);
        insta::assert_snapshot!(with("[depots]", "account = \"9crew\"\n[depots]"), @r#"
        CV0107 4:11 `"9crew"`
          "9crew" cannot be the name of an account
          use at most 31 lower-case letters, digits, - and _, beginning with a letter
        "#);
        insta::assert_snapshot!(after("[toolchains]\n\"../quill\" = \"2\"\n"), @r#"
        CV0107 10:1 `"../quill"`
          "../quill" cannot be the name of a toolchain
          use lower-case letters, digits, - _ + . and begin with a letter or digit
        "#);
        insta::assert_snapshot!(after("[editor]\nextensions = { syntax = \"1\" }\n"), @r#"
        CV0107 10:16 `syntax`
          "syntax" cannot be the name of an extension
          write "publisher.name" in quotes, in letters, digits, - and _
        "#);
    }

    #[test]
    fn versions() {
        insta::assert_snapshot!(after("[toolchains]\nquill = \"^2\"\n"), @r#"
        CV0108 10:9 `"^2"`
          "^2" has an operator, and a version here has none
          write "2"; the beginning of a version stands for all that begin so
        "#);
    }

    #[test]
    fn inside_paths() {
        insta::assert_snapshot!(after("[[folders]]\noutside = \"a\"\ninside = \"a/b\"\n[[folders]]\noutside = \"a\"\ninside = \"/a/../b\"\n[[folders]]\noutside = \"a\"\ninside = \"/etc\"\n"), @r#"
        CV0109 11:10 `"a/b"`
          `inside` is not a path inside: a/b is not absolute; it has to begin with /
          write a path of its own, like "/code"
        CV0109 14:10 `"/a/../b"`
          `inside` is not a path inside: a/../b has a .. in it
          write a path of its own, like "/code"
        CV0109 17:10 `"/etc"`
          `inside` is not a path inside: /etc belongs to the system inside
          write a path of its own, like "/code"
        "#);
    }

    #[test]
    fn ports() {
        insta::assert_snapshot!(after("[[ports]]\nname = \"a\"\ninside = 0\n[[ports]]\nname = \"b\"\ninside = 70000\n"), @"
        CV0110 11:10 `0`
          `inside` is 0, and ports go from 1 to 65535
          write a number from 1 to 65535
        CV0110 14:10 `70000`
          `inside` is 70000, and ports go from 1 to 65535
          write a number from 1 to 65535
        ");
        insta::assert_snapshot!(after("[[ports]]\nname = \"a\"\ninside = 8000\n[[ports]]\nname = \"b\"\ninside = 8000\noutside = 8001\n"), @"
        CV0111 14:10 `8000` and 11:10 `8000`
          two ports have the inside number 8000
          give one of them another number
        ");
        insta::assert_snapshot!(after("[[ports]]\nname = \"a\"\ninside = 8000\n[[ports]]\nname = \"b\"\ninside = 8001\noutside = 8000\n"), @"
        CV0111 15:11 `8000` and 11:10 `8000`
          two ports have the outside number 8000
          give one of them another number
        ");
    }

    #[test]
    fn twice() {
        insta::assert_snapshot!(after("[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"x\"\n[[steps]]\nname = \"a\"\nat = \"build\"\nrun = \"y\"\n"), @r#"
        CV0112 14:8 `"a"` and 10:8 `"a"`
          two steps have the name a
          change or remove one of them
        "#);
    }

    #[test]
    fn folders_that_meet() {
        insta::assert_snapshot!(after("[[folders]]\noutside = \"a\"\ninside = \"/srv\"\n[[folders]]\noutside = \"b\"\ninside = \"/srv\"\n[[folders]]\noutside = \"c\"\ninside = \"/srv/inner\"\n"), @r#"
        CV0113 14:10 `"/srv"` and 11:10 `"/srv"`
          two folders have the place /srv inside
          give them paths of their own
        "#);
    }

    #[test]
    fn base_origin() {
        insta::assert_snapshot!(with("depot = \"harbour\"\n", ""), @r#"
        CV0114 7:1 `packages`
          `base` names packages, but not where they come from
          add debian = "bookworm", or depot = "…"
        "#);
        insta::assert_snapshot!(after("archive = { path = \"root.tar\" }\n"), @"
        CV0114 9:1 `archive` and 7:1 `depot`
          `base` has two origins
          keep one of them
        ");
    }

    #[test]
    fn unknown_depot() {
        insta::assert_snapshot!(with("depot = \"harbour\"", "depot = \"harbor\""), @r#"
        CV0115 7:9 `"harbor"`
          there is no depot `harbor`
          write "harbour", or declare it under [depots]
        "#);
    }

    #[test]
    fn variables() {
        insta::assert_snapshot!(after("[env]\n\"1A\" = \"x\"\nPATH = \"/x\"\nSITE_TOKEN = \"abc\"\n"), @r#"
        CV0116 10:1 `"1A"`
          "1A" cannot be the name of a variable
          use letters, digits and _, and do not begin with a digit
        CV0116 11:1 `PATH`
          PATH is set by Cavrith itself
          leave it out; a toolchain's programs are found because its depot says where they are
        CV0121 12:14 `"abc"`
          SITE_TOKEN looks like a secret, and a spec is there for everyone to read
          take it out, and name it in [secrets]: each member has their own
        "#);
    }

    #[test]
    fn digests() {
        insta::assert_snapshot!(with("depot = \"harbour\"\npackages = [\"busybox-static\"]", "archive = { path = \"a.tar\", sha256 = \"12\", strip = 99 }"), @r#"
        CV0118 7:38 `"12"`
          `sha256` is no SHA-256 digest: that is 64 digits of 0-9 and a-f
          leave the key out, and cavrith lock fills it in
        CV0106 7:52 `99`
          `strip` is 99, and has to be from 0 to 32
          write how many directories to drop
        "#);
    }

    #[test]
    fn empty() {
        insta::assert_snapshot!(after("[[steps]]\nname = \"a\"\nat = \"build\"\nrun = []\n"), @"
        CV0119 12:7 `[]`
          `run` has no command in it that could be run
          write the command, or leave it out
        ");
        insta::assert_snapshot!(with("[\"busybox-static\"]", "[]"), @"
        CV0120 8:12 `[]`
          `packages` is empty
          name at least one package of the depot
        ");
    }
}

fn outside(folder: &cavrith_core::spec::Folder) -> &str {
    match &folder.side {
        cavrith_core::spec::Side::Live(outside) | cavrith_core::spec::Side::Synced { outside, .. } => &outside.value,
        cavrith_core::spec::Side::Kept { name, .. } => &name.value,
    }
}
