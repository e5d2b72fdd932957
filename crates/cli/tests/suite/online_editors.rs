//! Real clients on a real base: editors outside with servers inside, and everything that comes over SSH. Not run by
//! itself. Outside it takes Neovim, rsync, git and OpenSSH's clients.

use std::fs;
use std::process::Command;

use crate::team::{Team, told};

const SPEC: &str = r#"spec = 1

[workspace]
name = "timetable"

[base]
debian   = "trixie"
packages = ["clangd", "gcc", "libc6-dev", "python3-pylsp", "python3-debugpy", "rust-analyzer", "rust-src", "cargo", "gdb", "git", "rsync", "openssh-client"]
"#;

const TIDE_C: &str = "#include <stdio.h>\n\nstatic int tide_at(int hour) { return hour % 12; }\n\nint main(void) {\n    printf(\"%d\\n\", tide_at(7));\n    return 0;\n}\n";
const TIDE_PY: &str = "import json\n\ndef level(hour):\n    return hour % 12\n\nprint(json.dumps(level(7)))\n";
const TIDE_RS: &str = "fn tide(hour: u32) -> u32 {\n    hour % 12\n}\n\nfn main() {\n    let first = tide(3);\n    std::process::exit(first as i32);\n}\n";

/// The answers that Neovim gets of a server.
fn answers(team: &Team, server: &[&str], file: &str, root: &str, asks: &str) -> Vec<serde_json::Value> {
    let command: Vec<_> = [crate::team::PROGRAM, "-q", "speak", "--"].iter().chain(server).collect();
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/data/editor.lua");
    let mut editor = Command::new("nvim");
    editor.args(["--headless", "-u", "NONE", "-c"]).arg(format!("luafile {script}")).current_dir(team.project());
    editor.env("CAVRITH_HOME", team.home()).env("HOME", team.dir.path());
    editor.env("EDITOR_SERVER", serde_json::to_string(&command).unwrap());
    editor.env("EDITOR_FILE", team.project().join(file)).env("EDITOR_ROOT", team.project().join(root));
    let output = editor.env("EDITOR_ASKS", asks).output().unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let found: Vec<_> = text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    assert!(!found.is_empty(), "{text} {}", told(&output));
    found
}

#[test]
#[ignore = "needs a mirror of the Debian archive, and Neovim"]
fn online_neovim_outside_knows_what_three_servers_inside_know() {
    let team = Team::new();
    fs::write(team.project().join("cavrith.toml"), SPEC).unwrap();
    fs::create_dir_all(team.project().join("crate/src")).unwrap();
    for (name, text) in [
        ("tide.c", TIDE_C),
        ("tide.py", TIDE_PY),
        ("crate/src/main.rs", TIDE_RS),
        ("crate/Cargo.toml", "[package]\nname = \"ferry\"\nversion = \"0.1.0\"\nedition = \"2021\"\n"),
    ] {
        fs::write(team.project().join(name), text).unwrap();
    }
    team.ok(&["lock", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    let whole = r#"{"context":{"includeDeclaration":true}}"#;
    let c = answers(
        &team,
        &["clangd"],
        "tide.c",
        ".",
        &format!(
            r#"[["textDocument/definition",5,7],["textDocument/definition",5,20],["textDocument/references",2,13,{whole}],
                ["textDocument/completion",5,22],["textDocument/rename",2,13,{{"newName":"level_at"}}]]"#
        ),
    );
    let path = |answer: &serde_json::Value| answer["path"].as_str().unwrap_or_default().to_owned();
    let lines = |answer: &serde_json::Value| answer["lines"].as_u64().unwrap();
    let text = |answer: &serde_json::Value| answer["text"].as_str().unwrap_or_default().replace("\\/", "/");
    let project = team.project().canonicalize().unwrap().display().to_string();
    // Into the system's headers, which are shown as copies.
    assert!(path(&c[0]).ends_with("/sources/usr/include/stdio.h") && lines(&c[0]) > 500, "{}", c[0]);
    assert_eq!((path(&c[1]), lines(&c[1])), (format!("{project}/tide.c"), 8), "{}", c[1]);
    assert_eq!(text(&c[2]).matches(&format!("file://{project}/tide.c")).count(), 2, "{}", c[2]);
    assert!(text(&c[3]).contains("tide_at"), "{}", c[3]);
    assert!(
        text(&c[4]).contains(&format!("file://{project}/tide.c\":[")) && text(&c[4]).contains("level_at"),
        "{}",
        c[4]
    );
    let asks = format!(
        r#"[["textDocument/definition",5,13],["textDocument/references",2,5,{whole}],["textDocument/completion",5,14],
            ["textDocument/rename",2,5,{{"newName":"level_at"}}]]"#
    );
    let python = answers(&team, &["pylsp"], "tide.py", ".", &asks);
    assert!(path(&python[0]).contains("/sources/usr/lib/python3") && lines(&python[0]) > 100, "{}", python[0]);
    assert_eq!(text(&python[1]).matches(&format!("file://{project}/tide.py")).count(), 2, "{}", python[1]);
    assert!(text(&python[2]).contains("dumps") && text(&python[3]).contains("level_at"), "{} {}", python[2], python[3]);
    let asks = format!(
        r#"[["textDocument/definition",5,17],["textDocument/references",0,4,{whole}],["textDocument/completion",5,18],
            ["textDocument/rename",0,4,{{"newName":"level"}}]]"#
    );
    let rust = answers(&team, &["rust-analyzer"], "crate/src/main.rs", "crate", &asks);
    assert_eq!((path(&rust[0]), lines(&rust[0])), (format!("{project}/crate/src/main.rs"), 8), "{}", rust[0]);
    assert_eq!(text(&rust[1]).matches("crate/src/main.rs").count(), 2, "{}", rust[1]);
    assert!(text(&rust[2]).contains("tide") && text(&rust[3]).contains("\"newText\":\"level\""), "{}", rust[3]);
    over_ssh(&team);
    team.ok(&["stop", "-q"]);
}

/// What takes a program on both sides: rsync, git, and the client's own agent.
fn over_ssh(team: &Team) {
    let dir = team.dir.path();
    let config = dir.join("ssh-config");
    team.ok(&["ssh-config", "--apply", "--file", config.to_str().unwrap()]);
    let run = |program: &str, arguments: &[&str]| {
        let mut command = Command::new(program);
        command.args(arguments).current_dir(dir).env("GIT_SSH_COMMAND", format!("ssh -F {}", config.display()));
        let output = command.env("CAVRITH_HOME", team.home()).output().unwrap();
        assert!(output.status.success(), "{program} {arguments:?}: {}", told(&output));
        String::from_utf8(output.stdout).unwrap()
    };
    let shell = format!("ssh -F {}", config.display());
    fs::create_dir(dir.join("piers")).unwrap();
    (0..500).for_each(|number| fs::write(dir.join(format!("piers/{number}")), number.to_string()).unwrap());
    run("rsync", &["-a", "-e", &shell, "piers/", "timetable.cavrith:/tmp/piers/"]);
    run("rsync", &["-a", "--delete", "-e", &shell, "timetable.cavrith:/tmp/piers/", "back/"]);
    assert_eq!(fs::read_to_string(dir.join("back/499")).unwrap(), "499");
    let made = "git init -q -b main /tmp/repo && cd /tmp/repo && git -c user.name=Ida -c user.email=ida@brindle.example commit -q --allow-empty -m first";
    team.ok(&["run", "-q", "--", "sh", "-c", made]);
    run("git", &["clone", "-q", "timetable.cavrith:/tmp/repo", "clone"]);
    assert!(run("git", &["-C", "clone", "log", "--format=%s"]).contains("first"));
    let agent = "eval $(ssh-agent -s) > /dev/null; ssh-keygen -q -t ed25519 -N '' -f k; ssh-add -q k; $0 -A timetable.cavrith 'ssh-add -L; ssh-add -D'; ssh-add -l; kill $SSH_AGENT_PID";
    let output = Command::new("sh")
        .args(["-c", &agent.replace("$0", &shell)])
        .current_dir(dir)
        .env("CAVRITH_HOME", team.home())
        .output()
        .unwrap();
    let text = told(&output);
    // Inside it lists the key, and cannot take it away.
    assert_eq!(text.matches("ED25519").count() + text.matches("ssh-ed25519").count(), 2, "{text}");
}

/// What members of a company use, and a server of the company inside, whose authority nobody else knows.
const BELIEVED: &str = r#"spec = 1

[workspace]
name = "timetable"

[base]
debian   = "trixie"
packages = ["ca-certificates", "ca-certificates-java", "curl", "wget", "git", "python3-pip", "nodejs", "npm", "cargo", "default-jdk-headless"]

[services.harbour]
run   = "python3 serve.py"
ready = { port = 9443 }
"#;

const SERVE: &str = r#"import http.server, ssl
s = http.server.ThreadingHTTPServer(("127.0.0.1", 9443), http.server.SimpleHTTPRequestHandler)
c = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
c.load_cert_chain("server.pem", "server.key")
s.socket = c.wrap_socket(s.socket, server_side=True)
s.serve_forever()
"#;

/// Each client fetches something that is there; one line for each that does.
const CLIENTS: &str = r#"u=https://localhost:9443
t() { n=$1; shift; if "$@" > /tmp/out 2>&1; then echo "$n"; else echo "no $n: $(tail -n 3 /tmp/out)" >&2; fi; }
t curl curl -sSf $u/serve.py
t wget wget -q -O /dev/null $u/serve.py
t python python3 -c "import urllib.request; urllib.request.urlopen('$u/serve.py').read()"
t node node -e "fetch('$u/serve.py').then(r => process.exit(r.ok ? 0 : 1)).catch(() => process.exit(1))"
t git git clone -q $u/repo.git /tmp/clone-$$
t npm sh -c "cd /tmp && npm pack --fetch-retries=0 $u/board-1.0.0.tgz"
t pip pip download -q --no-deps --no-build-isolation -d /tmp/pip --disable-pip-version-check --index-url $u/simple tide
t cargo sh -c "cd crate && cargo fetch"
t java java Fetch.java $u/serve.py
"#;

#[test]
#[ignore = "needs a mirror of the Debian archive, and openssl"]
fn online_nine_clients_believe_an_authority_that_only_the_member_knows() {
    let team = Team::new();
    let project = team.project();
    let put = |name: &str, text: &str| {
        fs::create_dir_all(project.join(name).parent().unwrap()).unwrap();
        fs::write(project.join(name), text).unwrap();
    };
    put("cavrith.toml", BELIEVED);
    put("serve.py", SERVE);
    put("clients.sh", CLIENTS);
    put(
        "Fetch.java",
        "import java.net.*; public class Fetch { public static void main(String[] a) throws Exception { new URL(a[0]).openStream().readAllBytes(); } }\n",
    );
    put(
        "crate/Cargo.toml",
        "[package]\nname = \"ferry\"\nversion = \"0.1.0\"\nedition = \"2021\"\n[dependencies]\ntide = \"1\"\n",
    );
    put("crate/src/lib.rs", "");
    put(
        "crate/.cargo/config.toml",
        "[source.crates-io]\nreplace-with = \"harbour\"\n[source.harbour]\nregistry = \"sparse+https://localhost:9443/index/\"\n",
    );
    put("index/config.json", "{\"dl\":\"https://localhost:9443/dl\"}");
    put("package/package.json", "{\"name\":\"board\",\"version\":\"1.0.0\"}");
    put("tide-1.0/PKG-INFO", "Metadata-Version: 2.1\nName: tide\nVersion: 1.0\n");
    put("tide-1.0/pyproject.toml", "[build-system]\nrequires = []\nbuild-backend = \"own\"\nbackend-path = [\".\"]\n");
    put(
        "tide-1.0/own.py",
        "import os\ndef prepare_metadata_for_build_wheel(d, *a):\n    os.mkdir(d + '/tide-1.0.dist-info')\n    open(d + '/tide-1.0.dist-info/METADATA', 'w').write('Metadata-Version: 2.1\\nName: tide\\nVersion: 1.0\\n')\n    return 'tide-1.0.dist-info'\n",
    );
    put("crates/tide-1.0.0/Cargo.toml", "[package]\nname = \"tide\"\nversion = \"1.0.0\"\nedition = \"2021\"\n");
    put("crates/tide-1.0.0/src/lib.rs", "");
    let script = r#"set -e
openssl req -x509 -newkey rsa:2048 -nodes -keyout ca.key -out ../ca.pem -days 30 -subj /CN=Harbour -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign 2>/dev/null
openssl req -newkey rsa:2048 -nodes -keyout server.key -out server.csr -subj /CN=localhost 2>/dev/null
printf 'subjectAltName=DNS:localhost' > ext
openssl x509 -req -in server.csr -CA ../ca.pem -CAkey ca.key -CAcreateserial -out server.pem -days 30 -extfile ext 2>/dev/null
tar czf board-1.0.0.tgz package
mkdir -p simple/tide dl/tide/1.0.0 index/ti/de
tar czf simple/tide/tide-1.0.tar.gz tide-1.0
echo '<a href="tide-1.0.tar.gz">tide-1.0.tar.gz</a>' > simple/tide/index.html
tar czf dl/tide/1.0.0/download -C crates tide-1.0.0
printf '{"name":"tide","vers":"1.0.0","deps":[],"cksum":"%s","features":{},"yanked":false}\n' $(sha256sum < dl/tide/1.0.0/download | cut -d' ' -f1) > index/ti/de/tide
git init -q --bare repo.git
git -c user.name=Ida -c user.email=ida@brindle.example -C . init -q work && cd work && git -c user.name=Ida -c user.email=ida@brindle.example commit -q --allow-empty -m first
git push -q ../repo.git HEAD:refs/heads/main && git -C ../repo.git symbolic-ref HEAD refs/heads/main && git -C ../repo.git update-server-info
"#;
    let made = Command::new("sh").args(["-c", script]).current_dir(&project).output().unwrap();
    assert!(made.status.success(), "{}", told(&made));
    team.ok(&["lock", "-q"]);
    team.ok(&["start", "-q", "--wait"]);
    let clients = || told(&team.run(&["run", "-q", "--", "sh", "clients.sh"]));
    let without = clients();
    assert!(!without.lines().any(|line| CLIENTS.contains(&format!("\nt {line} "))), "{without}");
    team.ok(&["stop", "-q"]);
    let config = format!("[network]\ncertificates = [\"{}\"]\n", project.parent().unwrap().join("ca.pem").display());
    fs::write(team.home().join("config.toml"), config).unwrap();
    team.ok(&["start", "-q", "--wait"]);
    let with = clients();
    let passed: Vec<_> = with.lines().filter(|line| CLIENTS.contains(&format!("\nt {line} "))).collect();
    assert_eq!(passed, ["curl", "wget", "python", "node", "git", "npm", "pip", "cargo", "java"], "{with}");
    team.ok(&["stop", "-q"]);
}
