//! The protocols of language servers and debuggers (the Language Server Protocol and the Debug Adapter Protocol, "Base
//! Protocol" of both), between an editor on one side of the wall and a server on the other: whatever names a file is
//! rewritten, and nothing else is touched, not even the order of the keys.
//!
//! A file is named by a whole string: an address (`file:///code/a.c`, RFC 8089), as a value or as a key, or a bare
//! path. What people wrote or read, which may begin like a path, has keys of its own ([`PROSE`]).

use std::borrow::Cow;
use std::collections::HashMap;

use crate::encode::{percent_decoded, percent_encoded};

/// Bytes that a message may have.
pub const LONGEST: usize = 256 << 20;
/// Bytes that the head of a message may have.
const LONGEST_HEAD: usize = 8 << 10;
/// Keys of texts, in which nothing is changed.
const PROSE: [&[u8]; 14] = [
    b"text",
    b"newText",
    b"insertText",
    b"filterText",
    b"sortText",
    b"label",
    b"value",
    b"documentation",
    b"detail",
    b"message",
    b"output",
    b"expression",
    b"title",
    b"name",
];
/// How an address of a file begins.
const ADDRESS: &str = "file://";

/// Where a path is on the other side of the wall; nothing when it stays as it is.
pub trait Places {
    /// An address of a file.
    fn of_address(&mut self, path: &str) -> Option<String>;
    /// A bare path, under a key.
    fn of_path(&mut self, path: &str, key: &[u8]) -> Option<String>;
}

/// Pairs of directories that are the same, the longest first: here, and there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Folders(Vec<(String, String)>);

impl Folders {
    /// From pairs of paths without a slash at their end.
    pub fn new(mut pairs: Vec<(String, String)>) -> Self {
        pairs.sort_by_key(|(here, _)| std::cmp::Reverse(here.len()));
        Self(pairs)
    }

    /// Where a path is there.
    pub fn there(&self, path: &str) -> Option<String> {
        self.0.iter().find_map(|(here, there)| {
            let rest = path.strip_prefix(here.as_str())?;
            (rest.is_empty() || rest.starts_with('/')).then(|| format!("{there}{rest}"))
        })
    }
}

/// A path without `.`, `..` and empty parts; it does not lead above the root.
pub fn normal(path: &str) -> String {
    let mut parts: Vec<&str> = Vec::new();
    for part in path.split('/') {
        match part {
            "" | "." => {}
            ".." => drop(parts.pop()),
            part => parts.push(part),
        }
    }
    format!("/{}", parts.join("/"))
}

/// What is not a message of these protocols.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum BadMessage {
    /// It has no length.
    #[error("a message begins with Content-Length, and this one with \"{0}\"")]
    NoLength(String),
    /// It is longer than any that makes sense.
    #[error("a message says that it has {0} bytes")]
    TooLong(usize),
    /// Its head does not end.
    #[error("the head of a message does not end")]
    Endless,
}

/// The first message of some bytes: the length of its head, and that of its body. Nothing: more has to come.
///
/// # Errors
/// When it cannot be one.
pub fn first_message(bytes: &[u8]) -> Result<Option<(usize, usize)>, BadMessage> {
    let shown = || String::from_utf8_lossy(&bytes[..bytes.len().min(40)]).escape_default().to_string();
    let Some(end) = bytes.windows(4).take(LONGEST_HEAD).position(|four| four == b"\r\n\r\n") else {
        let begins = b"content-";
        let count = bytes.len().min(begins.len());
        if !bytes[..count].eq_ignore_ascii_case(&begins[..count]) {
            return Err(BadMessage::NoLength(shown()));
        }
        return if bytes.len() > LONGEST_HEAD { Err(BadMessage::Endless) } else { Ok(None) };
    };
    let head = String::from_utf8_lossy(&bytes[..end]);
    let length = head.split("\r\n").find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.trim().eq_ignore_ascii_case("Content-Length").then(|| value.trim().parse::<usize>().ok()).flatten()
    });
    match length {
        None => Err(BadMessage::NoLength(shown())),
        Some(length) if length > LONGEST => Err(BadMessage::TooLong(length)),
        Some(length) => Ok(Some((end + 4, length))),
    }
}

/// A message with its head, as it is on the other side.
pub fn message(body: &[u8], places: &mut impl Places) -> Vec<u8> {
    let body = without_process(rewritten(body, places));
    let head = format!("Content-Length: {}\r\n\r\n", body.len());
    [head.as_bytes(), &body].concat()
}

/// A JSON text in which what names a file is as it is on the other side.
fn rewritten<'a>(body: &'a [u8], places: &mut impl Places) -> Cow<'a, [u8]> {
    let mut out: Vec<u8> = Vec::new();
    // Everything before this is in `out` already.
    let mut taken = 0;
    let mut known: HashMap<&[u8], Option<Vec<u8>>> = HashMap::new();
    let mut key: &[u8] = b"";
    let mut at = 0;
    while let Some(begin) = body[at..].iter().position(|byte| *byte == b'"').map(|found| at + found) {
        let Some(end) = end_of_string(body, begin) else { break };
        at = end + 1;
        let inner = &body[begin + 1..end];
        let is_key = body[at..].iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b':');
        let mut new = || string(inner, key, is_key, places).and_then(|new| serde_json::to_vec(&new).ok());
        // One file is named again and again.
        let new = match inner.starts_with(b"file:") && (is_key || !PROSE.contains(&key)) {
            true => known.entry(inner).or_insert_with(new).clone(),
            false => new(),
        };
        if let Some(new) = new {
            out.extend(&body[taken..begin]);
            out.extend(new);
            taken = at;
        }
        if is_key {
            key = inner;
        }
    }
    if taken == 0 {
        return Cow::Borrowed(body);
    }
    out.extend(&body[taken..]);
    Cow::Owned(out)
}

/// The first message of an editor names its own process, for the server to end with it; that number means nothing, or
/// another process, on the other side of the wall. The server ends with the connection anyway.
fn without_process(body: Cow<'_, [u8]>) -> Cow<'_, [u8]> {
    const KEY: &[u8] = b"\"processId\"";
    let find = |needle: &[u8]| body.windows(needle.len()).take(1 << 16).position(|found| found == needle);
    let Some(key) = find(b"\"initialize\"").and_then(|_| find(KEY)) else { return body };
    let is_gap = |byte: &u8| byte.is_ascii_whitespace() || *byte == b':';
    let begin = key + KEY.len() + body[key + KEY.len()..].iter().take_while(|byte| is_gap(byte)).count();
    let digits = body[begin..].iter().take_while(|byte| byte.is_ascii_digit()).count();
    if digits == 0 {
        return body;
    }
    Cow::Owned([&body[..begin], b"null", &body[begin + digits..]].concat())
}

/// The place of the quotation mark that ends a string.
fn end_of_string(body: &[u8], begin: usize) -> Option<usize> {
    let mut at = begin + 1;
    loop {
        let found = at + body.get(at..)?.iter().position(|byte| matches!(byte, b'"' | b'\\'))?;
        if body[found] == b'"' {
            return Some(found);
        }
        at = found + 2;
    }
}

/// What a string is on the other side; nothing when that is the same.
fn string(inner: &[u8], key: &[u8], is_key: bool, places: &mut impl Places) -> Option<String> {
    let begins = inner.first()?;
    let may_be_path = *begins == b'/' || (*begins == b'\\' && inner.starts_with(b"\\/"));
    let may_be_address = *begins == b'f' && inner.starts_with(b"file:");
    if !(may_be_path || may_be_address) || (!is_key && PROSE.contains(&key)) {
        return None;
    }
    let text: String = serde_json::from_slice(&[b"\"", inner, b"\""].concat()).ok()?;
    if let Some(rest) = text.strip_prefix(ADDRESS) {
        return address(rest, places);
    }
    // Paths are no keys of these protocols.
    let path = if is_key { None } else { text.starts_with('/').then_some(text.as_str()) }?;
    let there = places.of_path(path, key)?;
    (there != path).then_some(there)
}

/// An address without its beginning.
fn address(rest: &str, places: &mut impl Places) -> Option<String> {
    let path = rest.strip_prefix("localhost").filter(|path| path.starts_with('/')).unwrap_or(rest);
    if !path.starts_with('/') {
        return None;
    }
    let (path, more) = path.find(['#', '?']).map_or((path, ""), |at| path.split_at(at));
    let plain = percent_decoded(path)?;
    let there = places.of_address(&plain)?;
    // As it came, as far as that is the same: some editors compare addresses by their letters.
    let same = plain.bytes().rev().zip(there.bytes().rev()).take_while(|(one, other)| one == other).count();
    let kept = suffix(path, same);
    let same_plain = percent_decoded(kept)?.len();
    Some(format!("{ADDRESS}{}{kept}{more}", percent_encoded(&there[..there.len() - same_plain], "/:@!$&'()*+,;=")))
}

/// The end of an encoded path that stands for at most so many bytes, from a slash on.
fn suffix(path: &str, count: usize) -> &str {
    let mut at = path.len();
    for (found, _) in path.rmatch_indices('/') {
        match percent_decoded(&path[found..]) {
            Some(plain) if plain.len() <= count => at = found,
            _ => break,
        }
    }
    &path[at..]
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    struct Both(Folders);

    impl Places for Both {
        fn of_address(&mut self, path: &str) -> Option<String> {
            self.0.there(path)
        }
        fn of_path(&mut self, path: &str, _: &[u8]) -> Option<String> {
            self.0.there(path)
        }
    }

    fn inward(text: &str) -> String {
        let mut places = Both(Folders::new(vec![("/home/tove/a b".to_owned(), "/code".to_owned())]));
        String::from_utf8(rewritten(text.as_bytes(), &mut places).into_owned()).unwrap()
    }

    #[test]
    fn what_names_a_file_is_rewritten_and_nothing_else() {
        for (text, wanted) in [
            (r#"{"uri" : "file:///home/tove/a%20b/x%2Fy.c#L3"}"#, r#"{"uri" : "file:///code/x%2Fy.c#L3"}"#),
            (r#"{"rootPath":"/home/tove/a b","n":1.50}"#, r#"{"rootPath":"/code","n":1.50}"#),
            (r#"{"rootPath":"\/home\/tove\/a b\/c"}"#, r#"{"rootPath":"/code/c"}"#),
            (r#"{"changes":{"file:///home/tove/a%20b/x":[]}}"#, r#"{"changes":{"file:///code/x":[]}}"#),
            (r#"{"args":["-I","/home/tove/a b/include"]}"#, r#"{"args":["-I","/code/include"]}"#),
        ] {
            assert_eq!(inward(text), wanted);
        }
        for same in [
            r#"{"text":"/home/tove/a b/x is a path"}"#,
            r#"{"newText":"file:///home/tove/a%20b"}"#,
            r#"{"uri":"file:///home/tove/a%20bc/x"}"#,
            r#"{"uri":"untitled:/home/tove/a b"}"#,
            r#"{"a":"he said \"/home/tove/a b\""}"#,
            r#"{"/home/tove/a b":1}"#,
            r#"{"unfinished":"file:///home"#,
            r#"{"uri":"file://pier/home/tove/a%20b"}"#,
            r#"{"uri":"file:///home/tove/a%2"}"#,
        ] {
            assert_eq!(inward(same), same);
        }
    }

    #[test]
    fn an_editor_s_process_is_nobody_s_inside() {
        let mut places = Both(Folders::default());
        let text = br#"{"method":"initialize","params":{"processId": 4242,"rootUri":null}}"#;
        let sent = message(text, &mut places);
        assert!(String::from_utf8_lossy(&sent).ends_with(r#"{"processId": null,"rootUri":null}}"#));
        let attach = br#"{"command":"attach","arguments":{"processId":4242}}"#;
        assert!(message(attach, &mut places).ends_with(attach));
    }

    #[test]
    fn messages_are_told_apart_by_their_heads() {
        assert_eq!(first_message(b"Content-Length: 12\r\n\r\n{"), Ok(Some((22, 12))));
        assert_eq!(first_message(b"Content-Type: x\r\ncontent-length:2\r\n\r\n"), Ok(Some((37, 2))));
        assert_eq!(first_message(b"Content-Le"), Ok(None));
        assert_eq!(first_message(b""), Ok(None));
        assert!(matches!(first_message(b"thread panicked"), Err(BadMessage::NoLength(_))));
        assert!(matches!(first_message(b"Content-Length: x\r\n\r\n"), Err(BadMessage::NoLength(_))));
        assert!(matches!(first_message(b"Content-Length: 99999999999\r\n\r\n"), Err(BadMessage::TooLong(_))));
        let endless = [&b"Content-X: "[..], &[b'a'; LONGEST_HEAD]].concat();
        assert_eq!(first_message(&endless), Err(BadMessage::Endless));
        assert_eq!(normal("/a/../../b/./c//"), "/b/c");
    }

    proptest! {
        #[test]
        fn paths_go_there_and_come_back(name in "[^\0/]{1,20}", nested in "[^\0/]{0,20}") {
            prop_assume!(![".", ".."].contains(&name.as_str()) && ![".", ".."].contains(&nested.as_str()));
            let outside = format!("/home/tove/{name}");
            let file = format!("{outside}/{nested}x");
            let address = format!("file://{}", percent_encoded(&file, "/"));
            let text = serde_json::json!({ "uri": address, "rootPath": file, "text": file }).to_string();
            let mut places = Both(Folders::new(vec![(outside.clone(), "/code".to_owned())]));
            let inside = rewritten(text.as_bytes(), &mut places).into_owned();
            let mut back = Both(Folders::new(vec![("/code".to_owned(), outside)]));
            let value: serde_json::Value = serde_json::from_slice(&rewritten(&inside, &mut back)).unwrap();
            prop_assert_eq!(percent_decoded(value["uri"].as_str().unwrap()), percent_decoded(&address));
            prop_assert_eq!(value["rootPath"].as_str(), Some(file.as_str()));
            let value: serde_json::Value = serde_json::from_slice(&inside).unwrap();
            prop_assert!(value["rootPath"].as_str().unwrap().starts_with("/code/"));
            prop_assert_eq!(value["text"].as_str(), Some(file.as_str()));
        }

        #[test]
        fn no_bytes_make_it_fall_over(bytes in proptest::collection::vec(any::<u8>(), 0..300)) {
            let mut places = Both(Folders::new(vec![("/a".to_owned(), "/b".to_owned())]));
            let _ = (rewritten(&bytes, &mut places), first_message(&bytes));
        }
    }
}
