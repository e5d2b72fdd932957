//! A small registry (OCI Distribution Specification 1.1), with the faults that real ones have.

use std::collections::{BTreeMap, BTreeSet};
use std::io::{BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

use sha2::{Digest as _, Sha256};

/// What goes wrong with the next request of a method.
#[derive(Debug, Clone)]
pub enum Fault {
    /// It is answered with this status, and these headers.
    Status(u16, &'static str),
    /// The connection breaks after so many bytes of the body have been taken.
    Breaks(usize),
    /// What is asked for comes back with a byte changed.
    Bends,
    /// What is asked for never ends.
    Endless,
    /// It goes on at another host.
    Elsewhere(String),
}

#[derive(Default)]
pub struct State {
    pub blobs: BTreeMap<String, Vec<u8>>,
    /// Which image has which blob.
    has: BTreeSet<(String, String)>,
    /// By name and tag or digest: media type and bytes.
    pub manifests: BTreeMap<(String, String), (String, Vec<u8>)>,
    uploads: BTreeMap<String, Vec<u8>>,
    started: usize,
    faults: Vec<(&'static str, Fault)>,
    /// What has to be shown.
    token: Option<String>,
    /// It lists by itself what refers to a manifest.
    pub lists_referrers: bool,
    /// What was shown to it.
    pub shown: Vec<String>,
    pub log: Vec<String>,
}

pub struct Registry {
    pub host: String,
    pub state: Arc<Mutex<State>>,
}

pub fn digest(bytes: &[u8]) -> String {
    format!("sha256:{}", Sha256::digest(bytes).iter().map(|byte| format!("{byte:02x}")).collect::<String>())
}

impl Registry {
    pub fn new() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let host = listener.local_addr().unwrap().to_string();
        let state = Arc::new(Mutex::new(State::default()));
        let (shared, own) = (Arc::clone(&state), host.clone());
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (shared, own) = (Arc::clone(&shared), own.clone());
                std::thread::spawn(move || serve(stream, &shared, &own));
            }
        });
        Self { host, state }
    }

    /// Something goes wrong with the next request of this method; several are taken one after the other.
    pub fn fault(&self, method: &'static str, fault: Fault) {
        self.state.lock().unwrap().faults.push((method, fault));
    }

    /// Whether every fault has had its turn.
    pub fn faults_are_over(&self) -> bool {
        self.state.lock().unwrap().faults.is_empty()
    }

    /// Only those who show a token are let in, which is given for this name and password.
    pub fn guard(&self, token: &str) {
        self.state.lock().unwrap().token = Some(token.to_owned());
    }

    /// The requests since the last call.
    pub fn requests(&self) -> Vec<String> {
        std::mem::take(&mut self.state.lock().unwrap().log)
    }

    pub fn manifest(&self, name: &str, which: &str) -> serde_json::Value {
        let state = self.state.lock().unwrap();
        serde_json::from_slice(&state.manifests[&(name.to_owned(), which.to_owned())].1).unwrap()
    }

    pub fn blob(&self, digest: &serde_json::Value) -> Vec<u8> {
        self.state.lock().unwrap().blobs[digest.as_str().unwrap()].clone()
    }
}

struct Answer {
    status: u16,
    headers: String,
    body: Vec<u8>,
}

fn answer(status: u16, headers: impl Into<String>, body: impl Into<Vec<u8>>) -> Answer {
    Answer { status, headers: headers.into(), body: body.into() }
}

fn serve(stream: TcpStream, state: &Mutex<State>, host: &str) -> Option<()> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut stream = stream;
    loop {
        let mut request = String::new();
        if reader.read_line(&mut request).ok()? == 0 {
            return None;
        }
        let mut headers = BTreeMap::new();
        loop {
            let mut header = String::new();
            reader.read_line(&mut header).ok()?;
            let Some((name, value)) = header.trim().split_once(": ") else { break };
            headers.insert(name.to_ascii_lowercase(), value.to_owned());
        }
        let mut words = request.split(' ');
        let (method, target) = (words.next()?.to_owned(), words.next()?.to_owned());
        let length: usize = headers.get("content-length").map_or(0, |text| text.parse().unwrap());
        let fault = {
            let mut state = state.lock().ok()?;
            state.log.push(format!("{method} {}", target.split('?').next().unwrap_or_default()));
            let position = state.faults.iter().position(|(of, _)| *of == method);
            position.map(|position| state.faults.remove(position).1)
        };
        let mut body = vec![0; length];
        if let Some(Fault::Breaks(after)) = fault {
            let after = after.min(length);
            reader.read_exact(&mut body[..after]).ok()?;
            body.truncate(after);
            state.lock().ok()?.keep(&target, &body);
            return None;
        }
        reader.read_exact(&mut body).ok()?;
        if matches!(fault, Some(Fault::Endless)) {
            stream.write_all(b"HTTP/1.1 200 x\r\nconnection: close\r\n\r\n").ok()?;
            while stream.write_all(&[b'['; 64 * 1024]).is_ok() {}
            return None;
        }
        if let Some(authorization) = headers.get("authorization") {
            state.lock().ok()?.shown.push(authorization.clone());
        }
        let mut reply = match &fault {
            Some(Fault::Status(status, headers)) => answer(*status, *headers, ""),
            Some(Fault::Elsewhere(location)) => answer(202, format!("location: {location}\r\n"), ""),
            _ => state.lock().ok()?.answer(host, &method, &target, &headers, &body),
        };
        if matches!(fault, Some(Fault::Bends)) && !reply.body.is_empty() {
            let middle = reply.body.len() / 2;
            reply.body[middle] ^= 1;
        }
        let head = format!(
            "HTTP/1.1 {} x\r\n{}content-length: {}\r\n\r\n",
            reply.status,
            reply.headers,
            if method == "HEAD" { 0 } else { reply.body.len() }
        );
        stream.write_all(head.as_bytes()).ok()?;
        if method != "HEAD" {
            stream.write_all(&reply.body).ok()?;
        }
    }
}

impl State {
    /// Loses an image.
    pub fn forget(&mut self, name: &str) {
        self.has.retain(|(image, _)| image != name);
        self.manifests.retain(|(image, _), _| image != name);
    }

    /// Changes a byte of every blob.
    pub fn spoil(&mut self) {
        self.blobs.values_mut().filter(|blob| !blob.is_empty()).for_each(|blob| blob[0] ^= 1);
    }

    /// Makes the image of a tag one for another architecture.
    pub fn now_for(&mut self, name: &str, tag: &str, architecture: &str) {
        let (kind, manifest) = self.manifests[&(name.to_owned(), tag.to_owned())].clone();
        let mut manifest: serde_json::Value = serde_json::from_slice(&manifest).unwrap();
        let config = &self.blobs[manifest["config"]["digest"].as_str().unwrap()];
        let mut config: serde_json::Value = serde_json::from_slice(config).unwrap();
        config["architecture"] = architecture.into();
        let config = serde_json::to_vec(&config).unwrap();
        manifest["config"]["digest"] = digest(&config).into();
        manifest["config"]["size"] = config.len().into();
        self.has.insert((name.to_owned(), digest(&config)));
        self.blobs.insert(digest(&config), config);
        let manifest = serde_json::to_vec(&manifest).unwrap();
        self.manifests.insert((name.to_owned(), digest(&manifest)), (kind.clone(), manifest.clone()));
        self.manifests.insert((name.to_owned(), tag.to_owned()), (kind, manifest));
    }

    /// What had arrived of a chunk when its connection broke.
    fn keep(&mut self, target: &str, bytes: &[u8]) {
        if let Some(upload) = self.uploads.get_mut(target) {
            upload.extend(bytes);
        }
    }

    fn answer(
        &mut self,
        host: &str,
        method: &str,
        target: &str,
        headers: &BTreeMap<String, String>,
        body: &[u8],
    ) -> Answer {
        let (path, query) = target.split_once('?').unwrap_or((target, ""));
        let query = query.replace("%3A", ":");
        let asked =
            |key: &str| query.split('&').find_map(|pair| pair.strip_prefix(&format!("{key}=")).map(str::to_owned));
        let shown = headers.get("authorization").cloned().unwrap_or_default();
        if path == "/token" {
            // Name `ida`, password `low water`.
            let known = shown == "Basic aWRhOmxvdyB3YXRlcg==";
            let token = self.token.clone().unwrap_or_default();
            return if known { answer(200, "", format!("{{\"token\":\"{token}\"}}")) } else { answer(401, "", "") };
        }
        if self.token.as_ref().is_some_and(|token| shown != format!("Bearer {token}")) {
            let challenge = format!("www-authenticate: Bearer realm=\"http://{host}/token\",service=\"pier\"\r\n");
            return answer(401, challenge, "");
        }
        let Some(rest) = path.strip_prefix("/v2/") else { return answer(404, "", "") };
        if let Some((name, which)) = rest.split_once("/manifests/") {
            let key = (name.to_owned(), which.to_owned());
            return match method {
                "PUT" => {
                    let value: serde_json::Value = serde_json::from_slice(body).unwrap();
                    // What a manifest names has to be there.
                    let named = value["layers"].as_array().into_iter().flatten().chain([&value["config"]]);
                    for one in named.filter_map(|one| one["digest"].as_str()) {
                        if !self.has.contains(&(name.to_owned(), one.to_owned())) {
                            let text =
                                "{\"errors\":[{\"code\":\"MANIFEST_BLOB_UNKNOWN\",\"message\":\"a blob is missing\"}]}";
                            return answer(400, "", text);
                        }
                    }
                    if which.starts_with("sha256:") && which != digest(body) {
                        let text = "{\"errors\":[{\"code\":\"DIGEST_INVALID\",\"message\":\"other bytes\"}]}";
                        return answer(400, "", text);
                    }
                    let kind = headers.get("content-type").cloned().unwrap_or_default();
                    self.manifests.insert(key, (kind.clone(), body.to_vec()));
                    self.manifests.insert((name.to_owned(), digest(body)), (kind, body.to_vec()));
                    let mut headers = String::new();
                    if let Some(subject) = value["subject"]["digest"].as_str().filter(|_| self.lists_referrers) {
                        headers.push_str(&format!("oci-subject: {subject}\r\n"));
                    }
                    answer(201, headers, "")
                }
                _ => match self.manifests.get(&key) {
                    Some((kind, bytes)) => answer(200, format!("content-type: {kind}\r\n"), bytes.clone()),
                    None => answer(404, "", ""),
                },
            };
        }
        if let Some((name, which)) = rest.split_once("/referrers/").filter(|_| self.lists_referrers) {
            // Two on a page, of every kind.
            let from = asked("from").and_then(|from| from.parse().ok()).unwrap_or(0_usize);
            let own = self.manifests.iter().filter(|((of, digest), _)| of == name && digest.starts_with("sha256:"));
            let read = own.map(|((_, digest), (_, bytes))| {
                (digest, bytes.len(), serde_json::from_slice::<serde_json::Value>(bytes).unwrap())
            });
            let all: Vec<_> = read.filter(|(_, _, value)| value["subject"]["digest"] == which).collect();
            let listed: Vec<_> = all.iter().skip(from).take(2).map(|(digest, size, value)| {
                serde_json::json!({ "mediaType": value["mediaType"], "digest": digest, "size": size, "artifactType": value["artifactType"] })
            }).collect();
            let next = format!("link: <{path}?from={}>; rel=\"next\"\r\n", from + 2);
            let index = serde_json::json!({ "schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json", "manifests": listed });
            return answer(200, if from + 2 < all.len() { next } else { String::new() }, index.to_string());
        }
        if let Some((name, which)) = rest.split_once("/blobs/sha256:") {
            let digest = format!("sha256:{which}");
            let blob = self.blobs.get(&digest).filter(|_| self.has.contains(&(name.to_owned(), digest.clone())));
            return blob.map_or_else(|| answer(404, "", ""), |bytes| answer(200, "", bytes.clone()));
        }
        let range = |upload: &[u8]| format!("range: 0-{}\r\n", upload.len().saturating_sub(1));
        match method {
            "POST" if rest.ends_with("/blobs/uploads/") => {
                let name = rest.trim_end_matches("/blobs/uploads/").to_owned();
                if let (Some(digest), Some(from)) = (asked("mount"), asked("from"))
                    && self.has.contains(&(from.clone(), digest.clone()))
                {
                    self.log.push(format!("mounted from {from}"));
                    self.has.insert((name, digest));
                    return answer(201, "", "");
                }
                self.started += 1;
                let number = format!("{path}{}", self.started);
                self.uploads.insert(number.clone(), Vec::new());
                answer(202, format!("location: {number}\r\n"), "")
            }
            "PATCH" => {
                let Some(upload) = self.uploads.get_mut(path) else { return answer(404, "", "") };
                let from = headers.get("content-range").and_then(|range| range.split('-').next()?.parse().ok());
                if from != Some(upload.len()) {
                    let headers = range(upload);
                    return answer(416, headers, "");
                }
                upload.extend(body);
                answer(202, format!("location: {path}\r\n{}", range(upload)), "")
            }
            "GET" => match self.uploads.get(path) {
                Some(upload) => answer(204, format!("location: {path}\r\n{}", range(upload)), ""),
                None => answer(404, "", ""),
            },
            "PUT" => {
                let Some(mut upload) = self.uploads.remove(path) else { return answer(404, "", "") };
                upload.extend(body);
                let digest = digest(&upload);
                if asked("digest").as_deref() != Some(&digest) {
                    return answer(400, "", "{\"errors\":[{\"code\":\"DIGEST_INVALID\",\"message\":\"other bytes\"}]}");
                }
                let name = rest.split("/blobs/uploads/").next().unwrap_or_default().to_owned();
                self.has.insert((name, digest.clone()));
                self.blobs.insert(digest, upload);
                answer(201, "", "")
            }
            _ => answer(405, "", ""),
        }
    }
}
