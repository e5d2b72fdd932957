//! A small registry for the story, on the loopback and in memory: as much of the OCI Distribution Specification 1.1 as
//! a push and a pull take. It trusts whoever speaks to it, and is gone with this process. Beside it are the tide tables
//! that a harbour office publishes on the web.

use std::collections::HashMap;
use std::io::{self, BufRead as _, BufReader, Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex, PoisonError};

use cavrith_core::digest::Sha256Digest;

/// What it keeps.
#[derive(Default)]
struct Shelf {
    blobs: HashMap<String, Vec<u8>>,
    /// Media type and bytes by name and tag or digest.
    manifests: HashMap<String, (String, Vec<u8>)>,
    uploads: HashMap<String, Vec<u8>>,
    begun: u64,
    /// Of how many months the harbour office has published its tide tables.
    months: usize,
}

/// How the addresses of the harbour office's files begin.
pub const TIDES: &str = "/tides/";
/// Its tide tables: the month, and the first lines.
const TABLES: [(&str, &str); 3] = [
    ("october.csv", "day,low,high\n1,04:12,10:31\n2,04:55,11:14\n"),
    ("november.csv", "day,low,high\n1,05:02,11:20\n2,05:47,12:05\n"),
    ("december.csv", "day,low,high\n1,05:31,11:52\n2,06:18,12:39\n"),
];

/// A registry that runs, and the harbour office's web site beside it.
pub struct Served {
    /// Host and port.
    pub host: String,
    shelf: Arc<Mutex<Shelf>>,
}

impl Served {
    /// The harbour office publishes one more month.
    pub fn publish(&self) {
        self.shelf.lock().unwrap_or_else(PoisonError::into_inner).months += 1;
    }
}

/// Starts it. It ends with this process.
pub fn start() -> io::Result<Served> {
    let listener = TcpListener::bind(("127.0.0.1", 0))?;
    let host = listener.local_addr()?.to_string();
    let shelf = Arc::new(Mutex::new(Shelf { months: 2, ..Shelf::default() }));
    let served = Served { host, shelf: shelf.clone() };
    std::thread::Builder::new().name("registry".to_owned()).spawn(move || {
        for stream in listener.incoming().flatten() {
            let shelf = shelf.clone();
            // One that breaks off is its own affair.
            let _ = std::thread::Builder::new().spawn(move || serve(&stream, &shelf));
        }
    })?;
    Ok(served)
}

struct Answer {
    status: u16,
    headers: Vec<(&'static str, String)>,
    body: Vec<u8>,
}

fn answer(status: u16) -> Answer {
    Answer { status, headers: Vec::new(), body: Vec::new() }
}

fn serve(stream: &TcpStream, shelf: &Mutex<Shelf>) -> io::Result<()> {
    let mut reader = BufReader::new(stream);
    loop {
        let mut request = String::new();
        if reader.read_line(&mut request)? == 0 {
            return Ok(());
        }
        let (mut length, mut kind) = (0, String::new());
        loop {
            let mut header = String::new();
            reader.read_line(&mut header)?;
            let Some((name, value)) = header.trim_end().split_once(':') else { break };
            match name.to_ascii_lowercase().as_str() {
                "content-length" => length = value.trim().parse().unwrap_or(0),
                "content-type" => kind = value.trim().to_owned(),
                _ => {}
            }
        }
        let mut body = Vec::new();
        reader.by_ref().take(length).read_to_end(&mut body)?;
        let mut words = request.split(' ');
        let (method, target) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
        let answer = shelf.lock().unwrap_or_else(PoisonError::into_inner).answer(method, target, kind, body);
        let mut head = format!("HTTP/1.1 {} demo\r\ncontent-length: {}\r\n", answer.status, answer.body.len());
        answer.headers.iter().for_each(|(name, value)| head.push_str(&format!("{name}: {value}\r\n")));
        // In one piece: a second one would wait for the other side's word that the first has arrived.
        let mut whole = format!("{head}\r\n").into_bytes();
        whole.extend(answer.body.iter().filter(|_| method != "HEAD"));
        let mut stream = stream;
        stream.write_all(&whole)?;
    }
}

fn digest(bytes: &[u8]) -> String {
    format!("sha256:{}", Sha256Digest::of(bytes))
}

impl Shelf {
    fn answer(&mut self, method: &str, target: &str, kind: String, body: Vec<u8>) -> Answer {
        let (path, query) = target.split_once('?').unwrap_or((target, ""));
        if let Some(file) = path.strip_prefix(TIDES) {
            return self.tides(file);
        }
        let Some(rest) = path.strip_prefix("/v2/") else { return answer(404) };
        if let Some((name, which)) = rest.split_once("/manifests/") {
            return self.manifest(method, name, which, kind, body);
        }
        if rest.contains("/blobs/uploads/") {
            return self.upload(method, path, query, &body);
        }
        let blob = rest.rsplit_once("/blobs/").and_then(|(_, digest)| self.blobs.get(digest));
        blob.map_or_else(|| answer(404), |bytes| Answer { body: bytes.clone(), ..answer(200) })
    }

    /// A file of the harbour office.
    fn tides(&self, file: &str) -> Answer {
        let published = &TABLES[..self.months.min(TABLES.len())];
        if file == "list" {
            let names: String = published.iter().map(|(name, _)| format!("{name}\n")).collect();
            return Answer { body: names.into_bytes(), ..answer(200) };
        }
        let found = published.iter().find(|(name, _)| *name == file);
        found.map_or_else(|| answer(404), |(_, text)| Answer { body: text.as_bytes().to_vec(), ..answer(200) })
    }

    fn manifest(&mut self, method: &str, name: &str, which: &str, kind: String, body: Vec<u8>) -> Answer {
        if method == "PUT" {
            let own = digest(&body);
            if which.starts_with("sha256:") && which != own {
                return answer(400);
            }
            for which in [which, own.as_str()] {
                self.manifests.insert(format!("{name} {which}"), (kind.clone(), body.clone()));
            }
            return answer(201);
        }
        match self.manifests.get(&format!("{name} {which}")) {
            Some((kind, bytes)) => {
                Answer { headers: vec![("content-type", kind.clone())], body: bytes.clone(), ..answer(200) }
            }
            None => answer(404),
        }
    }

    fn upload(&mut self, method: &str, path: &str, query: &str, body: &[u8]) -> Answer {
        match method {
            "POST" => {
                self.begun += 1;
                let location = format!("{}{}", path.trim_end_matches('/').to_owned() + "/", self.begun);
                self.uploads.insert(location.clone(), Vec::new());
                Answer { headers: vec![("location", location)], ..answer(202) }
            }
            "PATCH" => {
                let Some(upload) = self.uploads.get_mut(path) else { return answer(404) };
                upload.extend(body);
                let range = format!("0-{}", upload.len().saturating_sub(1));
                Answer { headers: vec![("location", path.to_owned()), ("range", range)], ..answer(202) }
            }
            "PUT" => {
                let Some(mut upload) = self.uploads.remove(path) else { return answer(404) };
                upload.extend(body);
                let own = digest(&upload);
                if !query.replace("%3A", ":").contains(&own) {
                    return answer(400);
                }
                self.blobs.insert(own, upload);
                answer(201)
            }
            _ => answer(405),
        }
    }
}
