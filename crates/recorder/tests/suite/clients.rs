//! Real package managers, as far as this machine has them, on made-up registries: recorded, and then answered from the
//! record alone, which comes to the same files.

use std::collections::BTreeMap;
use std::fs;
use std::io::{Cursor, Write as _};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use cavrith_core::record::{Record, Request};
use cavrith_recorder::recording::{Fetch, Recording};
use cavrith_recorder::replaying::Replay;
use cavrith_sources::web::Exchange;
use cavrith_store::Store;

use crate::{Places, answered};

/// What a made-up web has, by its addresses: a type and a body.
type Web = BTreeMap<String, (&'static str, Vec<u8>)>;

/// Where a client works, with everything that it finds of this machine's own settings left out.
struct Bench {
    dir: tempfile::TempDir,
}

impl Bench {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir(dir.path().join("home")).unwrap();
        Self { dir }
    }

    /// A client that goes through the recorder; it has to succeed.
    fn run(&self, places: Places, pem: &str, command: &[&str]) {
        let certificate = self.dir.path().join("certificate.pem");
        fs::write(&certificate, pem).unwrap();
        let proxy = format!("http://{}", places.proxy);
        let mut process = Command::new(command[0]);
        process.args(&command[1..]).current_dir(self.dir.path()).stdin(Stdio::null()).env_clear();
        process.env("PATH", std::env::var_os("PATH").unwrap()).env("HOME", self.dir.path().join("home"));
        // Where this machine's Python is one of several, it has to know which.
        process.envs(std::env::vars_os().filter(|(name, _)| name.to_string_lossy().starts_with("PYENV")));
        for name in ["http_proxy", "https_proxy", "HTTP_PROXY", "HTTPS_PROXY"] {
            process.env(name, &proxy);
        }
        for name in ["PIP_CERT", "NODE_EXTRA_CA_CERTS", "npm_config_cafile", "GIT_SSL_CAINFO"] {
            process.env(name, &certificate);
        }
        process.env("PIP_CONFIG_FILE", "/dev/null").env("PIP_DISABLE_PIP_VERSION_CHECK", "1");
        process.env("npm_config_update_notifier", "false").env("npm_config_fetch_retries", "0");
        let output = process.output().unwrap();
        let said = [output.stdout, output.stderr].concat();
        assert!(output.status.success(), "{command:?}: {}", String::from_utf8_lossy(&said));
    }

    /// Every file beneath a directory, with what is in it.
    fn files(&self, beneath: &str) -> BTreeMap<PathBuf, Vec<u8>> {
        let top = self.dir.path().join(beneath);
        let (mut files, mut open) = (BTreeMap::new(), vec![top.clone()]);
        while let Some(dir) = open.pop() {
            for entry in fs::read_dir(&dir).unwrap().map(Result::unwrap) {
                match entry.file_type().unwrap().is_dir() {
                    true => open.push(entry.path()),
                    false => {
                        let name = entry.path().strip_prefix(&top).unwrap().to_owned();
                        files.insert(name, fs::read(entry.path()).unwrap_or_default());
                    }
                }
            }
        }
        files
    }
}

fn is_here(program: &str) -> bool {
    let version = Command::new(program).arg("--version").stdin(Stdio::null()).output();
    version.is_ok_and(|output| output.status.success())
}

fn answer(status: u16, kind: &str, body: Vec<u8>) -> Exchange {
    let headers = vec![("content-type".to_owned(), kind.to_owned())];
    Exchange { status, headers, length: Some(body.len() as u64), body: Box::new(Cursor::new(body)) }
}

/// A web that has these things and no others.
fn made_of(web: Web) -> Box<Fetch<'static>> {
    Box::new(move |request, _, _| {
        let found = web.get(&request.url).map(|(kind, body)| answer(200, kind, body.clone()));
        Ok(found.unwrap_or_else(|| answer(404, "text/plain", b"there is no such thing\n".to_vec())))
    })
}

/// Records what `work` fetches of a web, and then has it work again without the web. Gives the record.
fn twice(fetch: &Fetch<'_>, work: impl Fn(&Bench, Places, &str), beneath: &str) -> Record {
    let home = tempfile::tempdir().unwrap();
    let store = Store::open(home.path()).unwrap();
    let recording = Recording::new(&store, fetch);
    let first = Bench::new();
    answered(&recording, |places, pem| work(&first, places, pem));
    assert_eq!(recording.notes().refusals(), Vec::<String>::new());
    let record = recording.into_record();
    let record = Record::parse(&record.to_text()).unwrap();
    let body = |digest: &_| fs::File::open(store.blob(digest).unwrap());
    let replay = Replay::new(&record, &body);
    let second = Bench::new();
    answered(&replay, |places, pem| work(&second, places, pem));
    assert_eq!(replay.notes().refusals(), Vec::<String>::new());
    let (files, again) = (first.files(beneath), second.files(beneath));
    assert!(!files.is_empty());
    assert_eq!(files.keys().collect::<Vec<_>>(), again.keys().collect::<Vec<_>>());
    for (path, bytes) in &files {
        assert!(again[path] == *bytes, "{} differs", path.display());
    }
    record
}

/// A wheel (binary distribution format, 1.0) with one module.
fn wheel(name: &str, version: &str, needs: &str) -> Vec<u8> {
    let info = format!("{name}-{version}.dist-info");
    let files = [
        (format!("{name}.py"), format!("NAME = {name:?}\n")),
        (format!("{info}/METADATA"), format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\n{needs}")),
        (
            format!("{info}/WHEEL"),
            "Wheel-Version: 1.0\nGenerator: brindle\nRoot-Is-Purelib: true\nTag: py3-none-any\n".to_owned(),
        ),
        (format!("{info}/RECORD"), format!("{name}.py,,\n{info}/METADATA,,\n{info}/WHEEL,,\n{info}/RECORD,,\n")),
    ];
    let mut archive = zip::ZipWriter::new(Cursor::new(Vec::new()));
    for (path, text) in files {
        archive.start_file(path, zip::write::SimpleFileOptions::default()).unwrap();
        archive.write_all(text.as_bytes()).unwrap();
    }
    archive.finish().unwrap().into_inner()
}

#[test]
fn pip_installs_made_up_packages_from_a_record() {
    if !is_here("pip3") {
        return;
    }
    let mut web = Web::new();
    for (name, needs) in [("tides", "Requires-Dist: harbour\n"), ("harbour", "")] {
        let file = format!("{name}-1.2.0-py3-none-any.whl");
        let page = format!("<html><body><a href=\"/files/{file}\">{file}</a></body></html>");
        web.insert(format!("https://index.brindle.example/simple/{name}/"), ("text/html", page.into_bytes()));
        let address = format!("https://index.brindle.example/files/{file}");
        web.insert(address, ("application/octet-stream", wheel(name, "1.2.0", needs)));
    }
    let index = "https://index.brindle.example/simple";
    let install =
        ["pip3", "install", "-q", "--no-cache-dir", "--no-compile", "--target", "site", "--index-url", index, "tides"];
    let record = twice(&*made_of(web), |bench, places, pem| bench.run(places, pem, &install), "site");
    assert_eq!(record.hosts(), ["index.brindle.example"]);
    assert_eq!(record.answers.len(), 4, "{}", record.to_text());
}

/// A package of npm's: a tar archive, packed with gzip, of one directory.
fn package(name: &str, needs: &str) -> Vec<u8> {
    let pack = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    let mut archive = tar::Builder::new(pack);
    let manifest = format!("{{\"name\":\"{name}\",\"version\":\"1.2.0\",\"dependencies\":{{{needs}}}}}");
    for (path, text) in
        [("package/package.json", manifest), ("package/index.js", format!("exports.name = {name:?};\n"))]
    {
        let mut header = tar::Header::new_gnu();
        header.set_size(text.len() as u64);
        header.set_mode(0o644);
        archive.append_data(&mut header, path, text.as_bytes()).unwrap();
    }
    archive.into_inner().unwrap().finish().unwrap()
}

#[test]
fn npm_installs_made_up_packages_from_a_record() {
    if !is_here("npm") {
        return;
    }
    let mut web = Web::new();
    for (name, needs) in [("tides", "\"harbour\":\"^1.0.0\""), ("harbour", "")] {
        let tarball = format!("https://packages.brindle.example/{name}/-/{name}-1.2.0.tgz");
        let entry = format!(
            "{{\"name\":\"{name}\",\"version\":\"1.2.0\",\"dependencies\":{{{needs}}},\"dist\":{{\"tarball\":\"{tarball}\"}}}}"
        );
        let page = format!(
            "{{\"name\":\"{name}\",\"dist-tags\":{{\"latest\":\"1.2.0\"}},\"versions\":{{\"1.2.0\":{entry}}}}}"
        );
        web.insert(format!("https://packages.brindle.example/{name}"), ("application/json", page.into_bytes()));
        web.insert(tarball, ("application/octet-stream", package(name, needs)));
    }
    let work = |bench: &Bench, places: Places, pem: &str| {
        fs::write(bench.dir.path().join("package.json"), "{\"name\":\"board\",\"version\":\"1.0.0\"}\n").unwrap();
        let registry = "--registry=https://packages.brindle.example/";
        bench.run(places, pem, &["npm", "install", "--no-audit", "--no-fund", registry, "tides"]);
        assert!(Path::new(&bench.dir.path().join("node_modules/harbour/index.js")).is_file());
    };
    let record = twice(&*made_of(web), work, "node_modules");
    assert_eq!(record.hosts(), ["packages.brindle.example"]);
    assert_eq!(record.answers.len(), 4, "{}", record.to_text());
}

/// A repository with one commit, and what it answers over smart HTTP (gitprotocol-http(5)), by git's own program.
struct Repository {
    dir: tempfile::TempDir,
}

impl Repository {
    fn new() -> Self {
        let dir = tempfile::tempdir().unwrap();
        let git = |arguments: &[&str]| {
            let mut command = Command::new("git");
            command.args(arguments).current_dir(dir.path()).env("HOME", dir.path()).env("GIT_CONFIG_NOSYSTEM", "1");
            assert!(command.stdin(Stdio::null()).status().unwrap().success(), "git {arguments:?}");
        };
        git(&["init", "-q", "-b", "main", "tides"]);
        fs::write(dir.path().join("tides/low.csv"), "low,7\n").unwrap();
        git(&["-C", "tides", "add", "."]);
        let who = ["-c", "user.name=Ida", "-c", "user.email=ida@brindle.example"];
        git(&[&["-C", "tides"][..], &who, &["commit", "-q", "-m", "low water"]].concat());
        Self { dir }
    }

    fn fetch(&self, request: &Request, headers: &[(String, String)], body: &[u8]) -> Result<Exchange, String> {
        let path = request.url.strip_prefix("https://git.brindle.example").unwrap();
        let (path, query) = path.split_once('?').unwrap_or((path, ""));
        let header = |name: &str| headers.iter().find(|(known, _)| known.eq_ignore_ascii_case(name));
        let header = |name: &str| header(name).map_or(String::new(), |(_, value)| value.clone());
        let mut command = Command::new("git");
        command.arg("http-backend").env("GIT_PROJECT_ROOT", self.dir.path()).env("GIT_HTTP_EXPORT_ALL", "1");
        command.env("PATH_INFO", path).env("QUERY_STRING", query).env("REQUEST_METHOD", &request.method);
        command.env("CONTENT_TYPE", header("content-type")).env("CONTENT_LENGTH", body.len().to_string());
        command.env("GIT_PROTOCOL", header("git-protocol")).env("HTTP_CONTENT_ENCODING", header("content-encoding"));
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        child.stdin.take().unwrap().write_all(body).unwrap();
        let output = child.wait_with_output().unwrap().stdout;
        let end = output.windows(4).position(|four| four == b"\r\n\r\n").unwrap();
        let head = String::from_utf8_lossy(&output[..end]).into_owned();
        let kind = head.lines().find_map(|line| line.strip_prefix("Content-Type: ")).unwrap_or_default();
        Ok(answer(200, kind, output[end + 4..].to_vec()))
    }
}

#[test]
fn git_clones_from_a_record() {
    if !is_here("git") {
        return;
    }
    let repository = Repository::new();
    let fetch = |request: &Request, headers: &[(String, String)], body: &[u8]| repository.fetch(request, headers, body);
    let work = |bench: &Bench, places: Places, pem: &str| {
        bench.run(places, pem, &["git", "clone", "-q", "https://git.brindle.example/tides"]);
        // What git notes of the disk is taken out of a layer; here it would differ.
        fs::remove_file(bench.dir.path().join("tides/.git/index")).unwrap();
        fs::remove_dir_all(bench.dir.path().join("tides/.git/logs")).unwrap();
    };
    let record = twice(&fetch, work, "tides");
    let methods: Vec<_> = record.answers.keys().map(|request| request.method.as_str()).collect();
    assert!(methods.contains(&"GET") && methods.contains(&"POST"), "{}", record.to_text());
}
