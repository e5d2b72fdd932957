//! A small web server with the faults that real ones have.

use std::collections::HashMap;
use std::io::{BufRead as _, BufReader, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

/// What is wrong with the answers of one path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Fault {
    /// The first answers so many times break off in the middle.
    BreaksOff(u32),
    /// The first answers so many times are 503.
    Busy(u32),
    /// It ignores that only a part was asked for.
    NoParts,
    /// It ignores that only a part was asked for, and breaks off in the middle each time.
    NeverWhole,
}

#[derive(Default)]
struct State {
    files: HashMap<String, Vec<u8>>,
    faults: HashMap<String, Fault>,
    /// How paths begin that not everybody may ask for: what is said to strangers, and what has to be shown.
    guards: Vec<(String, String, String)>,
    /// Method, path and range of every request.
    log: Vec<String>,
}

pub struct Server {
    pub url: String,
    state: Arc<Mutex<State>>,
}

impl Server {
    pub fn new() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let url = format!("http://{}", listener.local_addr().unwrap());
        let state = Arc::new(Mutex::new(State::default()));
        let shared = Arc::clone(&state);
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let shared = Arc::clone(&shared);
                std::thread::spawn(move || answer(stream, &shared));
            }
        });
        Self { url, state }
    }

    pub fn put(&self, path: &str, bytes: impl Into<Vec<u8>>) -> String {
        self.state.lock().unwrap().files.insert(path.to_owned(), bytes.into());
        format!("{}{path}", self.url)
    }

    pub fn get_bytes(&self, path: &str) -> Vec<u8> {
        self.state.lock().unwrap().files[path].clone()
    }

    pub fn get(&self, path: &str) -> String {
        String::from_utf8(self.get_bytes(path)).unwrap()
    }

    pub fn remove(&self, path: &str) {
        self.state.lock().unwrap().files.remove(path);
    }

    pub fn fault(&self, path: &str, fault: Fault) {
        self.state.lock().unwrap().faults.insert(path.to_owned(), fault);
    }

    /// Lets only those in who show something.
    pub fn guard(&self, beginning: &str, challenge: &str, shown: &str) {
        let guard = (beginning.to_owned(), challenge.to_owned(), shown.to_owned());
        self.state.lock().unwrap().guards.push(guard);
    }

    /// Serves a folder with everything in it.
    pub fn put_folder(&self, path: &str, dir: &std::path::Path) {
        for entry in std::fs::read_dir(dir).unwrap() {
            let entry = entry.unwrap();
            let inner = format!("{path}/{}", entry.file_name().to_str().unwrap());
            if entry.file_type().unwrap().is_dir() {
                self.put_folder(&inner, &entry.path());
            } else {
                self.put(&inner, std::fs::read(entry.path()).unwrap());
            }
        }
    }

    /// The requests since the last call.
    pub fn requests(&self) -> Vec<String> {
        std::mem::take(&mut self.state.lock().unwrap().log)
    }
}

fn answer(stream: TcpStream, state: &Mutex<State>) -> Option<()> {
    let mut reader = BufReader::new(stream.try_clone().ok()?);
    let mut stream = stream;
    loop {
        let mut request = String::new();
        if reader.read_line(&mut request).ok()? == 0 {
            return None;
        }
        let (mut from, mut shown) = (None, String::new());
        loop {
            let mut header = String::new();
            reader.read_line(&mut header).ok()?;
            if let Some((name, value)) = header.split_once(": ")
                && name.eq_ignore_ascii_case("authorization")
            {
                shown = value.trim().to_owned();
            }
            let header = header.trim().to_ascii_lowercase();
            if header.is_empty() {
                break;
            }
            if let Some(range) = header.strip_prefix("range: bytes=") {
                from = range.trim_end_matches('-').parse::<usize>().ok();
            }
        }
        let path = percent_decoded(request.split(' ').nth(1)?);
        let mut state = state.lock().ok()?;
        state.log.push(format!("GET {path}{}", from.map_or_else(String::new, |from| format!(" from {from}"))));
        let file = state.files.get(&path).cloned();
        let guard = state.guards.iter().find(|(beginning, ..)| path.starts_with(beginning.as_str()));
        if let Some((_, challenge, _)) = guard.filter(|(.., expected)| *expected != shown) {
            let answer =
                format!("HTTP/1.1 401 Unauthorized\r\nwww-authenticate: {challenge}\r\ncontent-length: 0\r\n\r\n");
            stream.write_all(answer.as_bytes()).ok()?;
            continue;
        }
        let fault = state.faults.get_mut(&path);
        let mut break_off = false;
        let mut busy = false;
        let mut no_parts = false;
        match fault {
            Some(Fault::BreaksOff(left)) if *left > 0 => {
                *left -= 1;
                break_off = true;
            }
            Some(Fault::Busy(left)) if *left > 0 => {
                *left -= 1;
                busy = true;
            }
            Some(Fault::NoParts) => no_parts = true,
            Some(Fault::NeverWhole) => (no_parts, break_off) = (true, true),
            _ => {}
        }
        drop(state);
        if busy {
            stream.write_all(b"HTTP/1.1 503 Service Unavailable\r\ncontent-length: 0\r\n\r\n").ok()?;
            continue;
        }
        let Some(file) = file else {
            stream.write_all(b"HTTP/1.1 404 Not Found\r\ncontent-length: 0\r\n\r\n").ok()?;
            continue;
        };
        let from = from.filter(|_| !no_parts);
        let begin = from.unwrap_or(0);
        if begin > 0 && begin >= file.len() {
            stream.write_all(b"HTTP/1.1 416 Range Not Satisfiable\r\ncontent-length: 0\r\n\r\n").ok()?;
            continue;
        }
        let body = &file[begin..];
        let status = if from.is_some() { "206 Partial Content" } else { "200 OK" };
        let range = from.map_or_else(String::new, |from| {
            format!("content-range: bytes {from}-{}/{}\r\n", file.len() - 1, file.len())
        });
        write!(stream, "HTTP/1.1 {status}\r\ncontent-length: {}\r\n{range}\r\n", body.len()).ok()?;
        if break_off {
            stream.write_all(&body[..body.len() / 2]).ok()?;
            let _ = stream.shutdown(std::net::Shutdown::Both);
            return None;
        }
        stream.write_all(body).ok()?;
    }
}

fn percent_decoded(path: &str) -> String {
    let mut out = Vec::new();
    let mut bytes = path.bytes();
    while let Some(byte) = bytes.next() {
        if byte == b'%' {
            let digits = [bytes.next().unwrap(), bytes.next().unwrap()];
            out.push(u8::from_str_radix(std::str::from_utf8(&digits).unwrap(), 16).unwrap());
        } else {
            out.push(byte);
        }
    }
    String::from_utf8(out).unwrap()
}
