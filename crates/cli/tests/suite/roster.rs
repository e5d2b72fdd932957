//! Members' reports, and the roster of them: who is the same, who is not, and what is no report of theirs.

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};

use crate::team::{Team, told};

/// Ida leads; she, Tove and Jonas report. All work on one project, each with a home of their own.
pub struct Crew {
    pub team: Team,
}

impl Drop for Crew {
    fn drop(&mut self) {
        for who in ["ida", "tove", "jonas", "eve"] {
            if self.home(who).join("cavrith/workspaces").is_dir() {
                let _ = self.command(who, &["stop", "-q"]).output();
            }
        }
    }
}

impl Crew {
    pub fn new() -> Self {
        let crew = Self { team: Team::locked() };
        let mut text = fs::read_to_string(crew.spec()).unwrap();
        text.push_str("\n[team]\nreports = \"reports\"\n");
        for who in ["ida", "tove", "jonas", "eve"] {
            let key = crew.home(who).join(".ssh/id_ed25519");
            fs::create_dir_all(key.parent().unwrap()).unwrap();
            let made =
                Command::new("ssh-keygen").args(["-q", "-t", "ed25519", "-N", "", "-C", who, "-f"]).arg(&key).output();
            assert!(made.unwrap().status.success());
            let public = fs::read_to_string(key.with_extension("pub")).unwrap();
            let roles = if who == "ida" { "\"lead\", \"member\"" } else { "\"member\"" };
            if who != "eve" {
                text.push_str(&format!("\n[team.people.{who}]\nroles = [{roles}]\nkeys = [\"{}\"]\n", public.trim()));
            }
        }
        fs::write(crew.spec(), text).unwrap();
        crew.ok("ida", &["team", "sign"]);
        crew.ok("ida", &["seal", "--sign"]);
        crew
    }

    pub fn spec(&self) -> PathBuf {
        self.team.project().join("cavrith.toml")
    }

    pub fn home(&self, who: &str) -> PathBuf {
        self.team.dir.path().join("people").join(who)
    }

    pub fn reports(&self) -> PathBuf {
        self.team.project().join("reports")
    }

    pub fn command(&self, who: &str, arguments: &[&str]) -> Command {
        let mut command = self.team.command(arguments);
        command.env("HOME", self.home(who)).env("CAVRITH_HOME", self.home(who).join("cavrith"));
        command.env_remove("SSH_AUTH_SOCK");
        command
    }

    pub fn run(&self, who: &str, arguments: &[&str]) -> Output {
        self.command(who, arguments).output().unwrap()
    }

    pub fn ok(&self, who: &str, arguments: &[&str]) -> String {
        let output = self.run(who, arguments);
        assert!(output.status.success(), "{who}: cavrith {arguments:?}: {}", told(&output));
        told(&output)
    }

    /// A report, after a build; where it lies.
    fn report(&self, who: &str) -> PathBuf {
        self.ok(who, &["build", "-q"]);
        let output = self.run(who, &["verify", "--report", "--json"]);
        let answer: Value = serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", told(&output)));
        assert_eq!(answer["report"]["by"], who);
        PathBuf::from(answer["report"]["put"].as_str().unwrap())
    }

    fn roster(&self) -> Value {
        let output = self.run("ida", &["roster", "--json"]);
        serde_json::from_slice(&output.stdout).unwrap_or_else(|_| panic!("{}", told(&output)))
    }

    /// How somebody stands, and the note about it.
    fn stands(&self, who: &str) -> (String, String) {
        let roster = self.roster();
        let member = roster["members"].as_array().unwrap().iter().find(|member| member["name"] == who).unwrap().clone();
        let text = |key: &str| member[key].as_str().unwrap_or_default().to_owned();
        (text("standing"), text("note"))
    }
}

/// The statement in a report.
fn statement(path: &Path) -> Value {
    let envelope: Value = serde_json::from_slice(&fs::read(path).unwrap()).unwrap();
    assert_eq!(envelope["payloadType"], "application/vnd.in-toto+json");
    serde_json::from_slice(&STANDARD.decode(envelope["payload"].as_str().unwrap()).unwrap()).unwrap()
}

#[test]
fn a_lead_sees_who_is_the_same_and_who_is_not_and_in_which_file() {
    let crew = Crew::new();
    let never = crew.run("ida", &["roster"]);
    assert!(never.status.code() == Some(1) && told(&never).contains("nobody has reported yet"), "{}", told(&never));
    crew.report("ida");
    crew.ok("tove", &["start", "-q", "--wait"]);
    let script = "printf '#!/bin/sh\\necho quill 2.4.1\\n' > /opt/quill/2.4.1/bin/quill; echo x > /etc/tide.conf";
    crew.ok("tove", &["run", "-q", "--account", "root", "--", "sh", "-c", script]);
    let report = crew.report("tove");
    let shown = crew.run("ida", &["roster"]);
    let text = told(&shown);
    assert!(shown.status.success(), "{text}");
    assert!(text.contains("different       tove      just now"), "{text}");
    assert!(
        text.contains("scratch: /opt/quill/2.4.1/bin/quill size") && text.contains("scratch: /etc/tide.conf"),
        "{text}"
    );
    assert!(text.contains("never reported  jonas") && text.contains("same            ida"), "{text}");
    assert!(text.contains("3 members: 1 same, 1 different, 1 never reported"), "{text}");
    assert!(text.lines().all(|line| line.chars().count() <= 100), "{text}");
    assert_eq!(crew.run("ida", &["roster", "--check"]).status.code(), Some(1));
    // The form of the statement.
    let statement = statement(&report);
    assert_eq!(statement["_type"], "https://in-toto.io/Statement/v1");
    assert_eq!(statement["predicateType"], "urn:cavrith:report:1");
    let schema: Value = serde_json::from_str(include_str!("../../../../docs/report.schema.json")).unwrap();
    let schema = jsonschema::validator_for(&schema).unwrap();
    let errors: Vec<_> = schema.iter_errors(&statement).map(|error| error.to_string()).collect();
    assert!(errors.is_empty(), "{errors:#?}");
    let machine = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap();
    assert!(
        !statement.to_string().contains(machine.trim())
            && !statement.to_string().contains(crew.team.dir.path().to_str().unwrap())
    );
    // Values in commas, for tables.
    let csv = crew.ok("ida", &["roster", "--csv"]);
    assert!(csv.contains("member,standing,reported,seal,note,ready-millis,spec and lock,signature,image"), "{csv}");
    // Two of them, without a seal.
    let between = crew.run("ida", &["roster", "--compare", "ida", "tove"]);
    assert!(
        between.status.code() == Some(1)
            && told(&between).contains("scratch: /etc/tide.conf\n    ida          as sealed"),
        "{}",
        told(&between)
    );
    // Tove takes it back.
    crew.ok("tove", &["stop", "-q"]);
    crew.ok("tove", &["drift", "--undo", "--yes", "-q"]);
    std::thread::sleep(std::time::Duration::from_millis(5));
    crew.report("tove");
    crew.report("jonas");
    assert!(crew.ok("ida", &["roster", "--check"]).contains("3 members: 3 same"));
    assert_eq!(crew.stands("tove"), ("same".to_owned(), String::new()));
}

#[test]
fn older_seals_and_old_reports_are_stale_and_missing_ones_are_noticed() {
    let crew = Crew::new();
    crew.report("tove");
    let first = crew.report("tove");
    crew.report("tove");
    assert_eq!(crew.stands("tove").0, "same");
    // One in the middle is gone.
    fs::remove_file(first).unwrap();
    assert_eq!(crew.stands("tove").1, "a report is missing that another one goes on from");
    let old = crew.run("ida", &["roster", "--longest", "0 s"]);
    assert!(told(&old).contains("stale           tove"), "{}", told(&old));
    // Another seal makes all of them old.
    crew.team.step("echo new > /etc/new");
    crew.ok("ida", &["lock", "-q"]);
    crew.ok("ida", &["seal", "--sign", "-q"]);
    let (standing, note) = crew.stands("tove");
    assert!(standing == "stale" && note.contains("missing"), "{standing} {note}");
    crew.report("jonas");
    assert_eq!(crew.stands("jonas").0, "same");
    // A lock that was edited has nothing to hold reports against.
    let lock = crew.team.project().join("cavrith.lock");
    let text = fs::read_to_string(&lock).unwrap();
    fs::write(&lock, text.replace("by = \"ida\"", "by = \"tove\"")).unwrap();
    assert_eq!(crew.run("ida", &["roster"]).status.code(), Some(1));
}

/// A report whose statement was changed, signed with some key by OpenSSH itself.
fn forged(crew: &Crew, from: &Path, who: &str, change: impl Fn(&mut Value)) -> String {
    let mut statement = statement(from);
    change(&mut statement);
    let payload = serde_json::to_vec(&statement).unwrap();
    let kind = "application/vnd.in-toto+json";
    let mut encoded = format!("DSSEv1 {} {kind} {} ", kind.len(), payload.len()).into_bytes();
    encoded.extend(&payload);
    let text = crew.team.dir.path().join("to-sign");
    fs::write(&text, encoded).unwrap();
    let _ = fs::remove_file(text.with_extension("sig"));
    let key = crew.home(who).join(".ssh/id_ed25519");
    let signed = Command::new("ssh-keygen")
        .args(["-q", "-Y", "sign", "-n", "cavrith-report", "-f"])
        .arg(key)
        .arg(&text)
        .output()
        .unwrap();
    assert!(signed.status.success(), "{}", told(&signed));
    let armoured = fs::read_to_string(crew.team.dir.path().join("to-sign.sig")).unwrap();
    let signature: String = armoured.lines().filter(|line| !line.starts_with("---")).collect();
    json!({ "payloadType": kind, "payload": STANDARD.encode(payload), "signatures": [{ "keyid": "x", "sig": signature }] }).to_string()
}

#[test]
fn what_is_not_a_report_of_the_member_s_own_is_refused_with_the_reason() {
    let crew = Crew::new();
    let real = crew.report("tove");
    let good = fs::read_to_string(&real).unwrap();
    // Signed by OpenSSH, an unchanged statement is a report like any other.
    let same = forged(&crew, &real, "tove", |_| ());
    let put = |name: &str, text: &str| fs::write(crew.reports().join(name), text).unwrap();
    put("tove-by-openssh.json", &same);
    assert_eq!(crew.roster()["refused"], json!([]));
    fs::remove_file(crew.reports().join("tove-by-openssh.json")).unwrap();
    let later = |statement: &mut Value, by: i64| {
        let measured = statement["predicate"]["times"]["measured"].as_i64().unwrap();
        statement["predicate"]["times"]["measured"] = (measured + by).into();
    };
    let tove = |change: &dyn Fn(&mut Value)| forged(&crew, &real, "tove", change);
    let envelope = |change: &dyn Fn(&mut Value)| {
        let mut value: Value = serde_json::from_str(&good).unwrap();
        change(&mut value);
        value.to_string()
    };
    let attempts: Vec<(&str, String, &str)> = vec![
        ("stranger", forged(&crew, &real, "eve", |_| ()), "a key that nobody in the team has"),
        (
            "in another's name",
            forged(&crew, &real, "jonas", |_| ()),
            "it says that tove signed it, and the key is jonas's",
        ),
        ("another workspace", tove(&|one| one["predicate"]["workspace"] = "harbour".into()), "of another workspace"),
        ("the future", tove(&|one| later(one, 3_600_000)), "from the future"),
        ("contradicts itself", tove(&|one| one["predicate"]["standing"] = "different".into()), "contradicts itself"),
        ("no aspects", tove(&|one| one["predicate"]["aspects"] = json!([])), "contradicts itself"),
        (
            "a hidden difference",
            tove(&|one| {
                one["predicate"]["aspects"][0]["differences"] = json!([{ "what": "x", "expected": "a", "here": "b" }]);
            }),
            "contradicts itself",
        ),
        (
            "other subjects",
            tove(&|one| one["subject"][0]["digest"]["blake3"] = "00".repeat(32).into()),
            "do not fit each other",
        ),
        ("no subjects", tove(&|one| one["subject"] = json!([])), "do not fit each other"),
        (
            "another predicate",
            tove(&|one| one["predicateType"] = "https://slsa.dev/provenance/v1".into()),
            "of another kind",
        ),
        (
            "another statement",
            tove(&|one| one["_type"] = "https://in-toto.io/Statement/v0.1".into()),
            "of another kind",
        ),
        ("no predicate", tove(&|one| one["predicate"] = json!({})), "it is no report"),
        (
            "altered",
            envelope(&|one| {
                let payload = STANDARD.decode(one["payload"].as_str().unwrap()).unwrap();
                let text = String::from_utf8(payload).unwrap().replace("\"same\"", "\"sane\"");
                one["payload"] = STANDARD.encode(text).into();
            }),
            "does not fit",
        ),
        ("another type", envelope(&|one| one["payloadType"] = "text/plain".into()), "of another kind"),
        ("no signature", envelope(&|one| one["signatures"] = json!([])), "has 0 signatures"),
        (
            "two signatures",
            envelope(&|one| {
                let first = one["signatures"][0].clone();
                one["signatures"] = json!([first, first]);
            }),
            "has 2 signatures",
        ),
        ("a broken signature", envelope(&|one| one["signatures"][0]["sig"] = "AAAA".into()), "cannot be read"),
        ("base64 of nothing", envelope(&|one| one["payload"] = "!".into()), "it is no report"),
        ("empty", String::new(), "it is no report"),
        ("not JSON", "<html>".to_owned(), "it is no report"),
        ("an array", "[]".to_owned(), "it is no report"),
        ("deep", "[".repeat(100_000), "it is no report"),
        ("long", " ".repeat(5 << 20), "it is no report"),
    ];
    for (name, text, why) in &attempts {
        put("attempt.json", text);
        let roster = crew.roster();
        let refused = roster["refused"][0][1].as_str().unwrap_or_else(|| panic!("{name}: {roster}"));
        assert!(refused.contains(why), "{name}: {refused}");
        assert_eq!(roster["members"].as_array().unwrap().len(), 3, "{name}");
    }
    assert!(attempts.len() >= 20);
    // A signature of the same key for another purpose is none.
    let lock = fs::read_to_string(crew.team.project().join("cavrith.team")).unwrap();
    let signature =
        lock.lines().find_map(|line| line.strip_prefix("signature = \"")).unwrap().trim_end_matches('"').to_owned();
    put("attempt.json", &envelope(&|one| one["signatures"][0]["sig"] = signature.clone().into()));
    assert!(crew.roster()["refused"][0][1].as_str().unwrap().contains("another purpose"));
    // The same report under another name is one report, and an older one takes nothing from a newer one.
    fs::write(crew.reports().join("attempt.json"), &good).unwrap();
    let roster = crew.roster();
    let member = roster["members"].as_array().unwrap().iter().find(|member| member["name"] == "tove").unwrap();
    assert_eq!((&roster["refused"], &member["earlier"]), (&json!([]), &json!([])));
    // One that goes on from a later one was not made in its turn.
    let next = crew.report("tove");
    let digest = blake3::hash(&fs::read(next).unwrap()).to_hex().to_string();
    put(
        "attempt.json",
        &tove(&|one| {
            later(one, -1000);
            one["predicate"]["previous"] = digest.clone().into();
        }),
    );
    assert_eq!(crew.stands("tove").1, "a report is backdated: it goes on from a later one");
}

#[test]
fn a_report_needs_a_member_s_key_and_may_be_without_a_name() {
    let crew = Crew::new();
    crew.ok("eve", &["build", "-q"]);
    let eve = crew.run("eve", &["verify", "--report"]);
    assert!(
        eve.status.code() == Some(3) && told(&eve).contains("those who may are ida, jonas, tove"),
        "{}",
        told(&eve)
    );
    assert!(!crew.reports().exists());
    crew.ok("eve", &["verify", "--report", "--anonymous"]);
    let file = fs::read_dir(crew.reports()).unwrap().next().unwrap().unwrap().path();
    let statement = statement(&file);
    assert_eq!(
        (&statement["predicate"]["by"], &statement["predicate"]["machine"]["kernel"]),
        (&Value::Null, &"".into())
    );
    let roster = crew.roster();
    assert_eq!((&roster["unnamed"]["same"], &roster["refused"]), (&1.into(), &json!([])));
    // Into a folder that somebody names; what nobody sends is only kept.
    let folder = crew.team.dir.path().join("sent");
    fs::create_dir(&folder).unwrap();
    crew.ok("tove", &["build", "-q"]);
    crew.ok("tove", &["verify", "--report", "--to", folder.to_str().unwrap()]);
    let shown = crew.ok("ida", &["roster", folder.to_str().unwrap()]);
    assert!(shown.contains("same            tove"), "{shown}");
    // The project's folder is visible inside, so a link in the place of the reports' leads nowhere.
    fs::rename(crew.reports(), crew.team.dir.path().join("moved")).unwrap();
    std::os::unix::fs::symlink("../..", crew.reports()).unwrap();
    let led = crew.run("tove", &["verify", "--report"]);
    assert!(led.status.code() == Some(2) && !told(&led).contains("reported as"), "{}", told(&led));
    let led = crew.run("ida", &["roster"]);
    assert!(led.status.code() == Some(2) && told(&led).contains("leads out of the project"), "{}", told(&led));
}

#[test]
fn the_page_is_whole_and_nothing_in_a_report_is_markup_in_it() {
    let crew = Crew::new();
    let real = crew.report("tove");
    let evil = "<script>alert(1)</script>\"'&\u{202e}\u{1b}[31m";
    let text = forged(&crew, &real, "tove", |one| {
        one["predicate"]["times"]["measured"] = (one["predicate"]["times"]["measured"].as_i64().unwrap() + 1000).into();
        one["predicate"]["standing"] = "different".into();
        one["predicate"]["aspects"][0]["standing"] = "different".into();
        one["predicate"]["aspects"][0]["differences"] =
            json!([{ "what": evil, "expected": evil, "here": evil, "diff": format!("a\nb\n+{evil}\n-{evil}\n") }]);
        one["predicate"]["machine"]["kernel"] = evil.into();
        one["predicate"]["cavrith"] = evil.into();
    });
    fs::write(crew.reports().join("<img src=x>.json"), "{").unwrap();
    fs::write(crew.reports().join("tove-2.json"), text).unwrap();
    let page = crew.team.dir.path().join("roster.html");
    let shown = crew.ok("ida", &["roster", "--html", page.to_str().unwrap()]);
    assert!(!shown.contains('\u{1b}'), "{shown}");
    let html = fs::read_to_string(&page).unwrap();
    assert!(html.starts_with("<!doctype html>") && html.ends_with("</html>\n"));
    assert!(
        !html.contains("<script>alert")
            && !html.contains("<img")
            && !html.contains('\u{202e}')
            && !html.contains('\u{1b}')
    );
    assert!(html.contains("&lt;script&gt;alert(1)&lt;/script&gt;") && html.contains("<ins>+&lt;script"), "{html}");
    // Nothing comes from elsewhere.
    for from in ["http:", "https:", "src=", "@import", "url("] {
        assert!(!html.replace("&lt;img src=x&gt;", "").contains(from), "{from}");
    }
    assert_eq!(html.matches("<tbody data-standing").count(), 3);
}

/// A page in a real browser: what it says after a script of ours ran in it, and what its console was told.
fn browsed(page: &Path, size: &str, script: &str) -> Option<(String, String)> {
    let browser = ["chromium", "chromium-browser", "google-chrome"].into_iter().find_map(|name| {
        let path = std::env::var_os("PATH")?;
        std::env::split_paths(&path).map(|dir| dir.join(name)).find(|program| program.is_file())
    })?;
    let html = fs::read_to_string(page).unwrap();
    let mine = page.with_extension("tried.html");
    let script = format!("<script>{script}</script></body>");
    fs::write(&mine, html.replace("</body>", &script)).unwrap();
    let profile = tempfile::tempdir().unwrap();
    let mut command = Command::new(browser);
    command.args(["--headless", "--no-sandbox", "--disable-gpu", "--enable-logging=stderr", "--dump-dom"]);
    command.arg(format!("--window-size={size}")).arg(format!("--user-data-dir={}", profile.path().display()));
    let output = command.arg(format!("file://{}", mine.display())).output().unwrap();
    let console = String::from_utf8_lossy(&output.stderr).into_owned();
    let console: String = console.lines().filter(|line| line.contains("CONSOLE")).collect();
    Some((String::from_utf8_lossy(&output.stdout).into_owned(), console))
}

#[test]
fn the_page_filters_sorts_and_opens_in_a_real_browser() {
    let crew = Crew::new();
    crew.report("ida");
    crew.ok("tove", &["start", "-q", "--wait"]);
    crew.ok("tove", &["run", "-q", "--account", "root", "--", "sh", "-c", "echo x > /etc/tide.conf"]);
    crew.report("tove");
    let page = crew.team.dir.path().join("roster.html");
    crew.ok("ida", &["roster", "--html", page.to_str().unwrap()]);
    let script = "
        {
        const told = [], names = () => [...document.querySelectorAll('#matrix tbody')].filter(one => !one.hidden).map(one => one.rows[0].cells[0].textContent).join(' ');
        told.push(names());
                search.value = 'TIDE.conf'; search.dispatchEvent(new Event('input')); told.push(names());
        search.value = ''; search.dispatchEvent(new Event('input'));
                standing.value = 'never reported'; standing.dispatchEvent(new Event('change')); told.push(names());
        standing.value = ''; standing.dispatchEvent(new Event('change'));
        const head = document.querySelector('#matrix thead button'); head.click(); told.push(names()); head.click(); told.push(names());
        const name = [...document.querySelectorAll('#matrix tbody th button')].find(one => one.textContent === 'tove');
        const more = name.closest('tbody').rows[1];
        told.push(more.hidden); name.click(); told.push(more.hidden, name.getAttribute('aria-expanded'), more.textContent.includes('/etc/tide.conf'));
        told.push(document.documentElement.scrollWidth <= innerWidth);
        document.title = told.join('|');
        }";
    for size in ["1280,800", "390,844"] {
        let Some((dom, console)) = browsed(&page, size, script) else { return };
        assert_eq!(console, "", "{size}");
        let title = dom.split("<title>").nth(1).and_then(|rest| rest.split("</title>").next()).unwrap();
        assert_eq!(
            title, "tove jonas ida|tove|jonas|ida jonas tove|tove jonas ida|true|false|true|true|true",
            "{size}"
        );
    }
}
