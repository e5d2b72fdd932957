//! Answering for every name: the resolver inside a step's network (RFC 1035). Each name has one address, at which the
//! recorder listens; which host is meant, the request says. No question leaves the machine.

use std::net::Ipv4Addr;

/// The address of every name: one of those that are set aside for trying out networks (RFC 2544).
pub const ADDRESS: Ipv4Addr = Ipv4Addr::new(198, 18, 0, 1);

const HEADER: usize = 12;
const A: u16 = 1;
const ANY: u16 = 255;
const INTERNET: u16 = 1;
/// Seconds that an answer may be kept.
const KEPT: u32 = 60;

/// The answer to a question, and the name that it is about. Nothing for what is no question. `own` is the name of the
/// step's machine.
pub fn answer(question: &[u8], own: &str) -> Option<(Vec<u8>, String)> {
    let header = question.get(..HEADER)?;
    let (flags, count) = (u16::from_be_bytes([header[2], header[3]]), u16::from_be_bytes([header[4], header[5]]));
    // A standard query, of which there is one.
    if flags & 0xf800 != 0 || count != 1 {
        return None;
    }
    let (name, end) = read_name(question)?;
    let kind = u16::from_be_bytes(question.get(end..end + 2)?.try_into().ok()?);
    let class = u16::from_be_bytes(question.get(end + 2..end + 4)?.try_into().ok()?);
    let has_address = matches!(kind, A | ANY) && class == INTERNET && name != "localhost";
    let mut answer = header[..2].to_vec();
    // An answer, recursion wished and available, no error.
    answer.extend((0x8080 | flags & 0x0100).to_be_bytes());
    answer.extend([0, 1, 0, u8::from(has_address), 0, 0, 0, 0]);
    answer.extend(&question[HEADER..end + 4]);
    if has_address {
        // The name that stands at the beginning of the question.
        answer.extend([0xc0, HEADER as u8]);
        answer.extend(A.to_be_bytes());
        answer.extend(INTERNET.to_be_bytes());
        answer.extend(KEPT.to_be_bytes());
        answer.extend([0, 4]);
        answer.extend(if name == own { Ipv4Addr::LOCALHOST } else { ADDRESS }.octets());
    }
    Some((answer, name))
}

/// The name of a question, and where it ends. A question has no pointers.
fn read_name(question: &[u8]) -> Option<(String, usize)> {
    let (mut name, mut at) = (String::new(), HEADER);
    loop {
        let length = usize::from(*question.get(at)?);
        at += 1;
        match length {
            0 => return Some((name.to_ascii_lowercase(), at)),
            1..=63 => {}
            _ => return None,
        }
        let label = question.get(at..at + length)?;
        if !name.is_empty() {
            name.push('.');
        }
        name.push_str(&String::from_utf8_lossy(label));
        at += length;
        if name.len() > 255 {
            return None;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn question(name: &str, kind: u16) -> Vec<u8> {
        let mut question = vec![7, 9, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0];
        for label in name.split('.') {
            question.push(label.len() as u8);
            question.extend(label.as_bytes());
        }
        question.push(0);
        question.extend(kind.to_be_bytes());
        question.extend([0, 1]);
        question
    }

    #[test]
    fn every_name_has_the_one_address_and_nothing_else() {
        let (answer, name) = answer(&question("Index.Brindle.example", 1), "cavrith").unwrap();
        assert_eq!(name, "index.brindle.example");
        assert_eq!((&answer[..2], &answer[2..4], &answer[6..8]), (&[7, 9][..], &[0x81, 0x80][..], &[0, 1][..]));
        assert_eq!(&answer[answer.len() - 4..], ADDRESS.octets());
        // No IPv6, no services: there is no error, and nothing in the answer.
        for kind in [28, 33, 65, 16] {
            let (answer, _) = super::answer(&question("index.brindle.example", kind), "cavrith").unwrap();
            assert_eq!(&answer[6..8], &[0, 0]);
        }
    }

    #[test]
    fn what_is_no_question_is_not_answered() {
        let good = question("a.example", 1);
        for end in 0..good.len() {
            assert!(answer(&good[..end], "cavrith").is_none(), "{end}");
        }
        let mut bad = good.clone();
        bad[2] = 0x80;
        assert!(answer(&bad, "cavrith").is_none(), "an answer");
        bad = good.clone();
        bad[12] = 0xc0;
        assert!(answer(&bad, "cavrith").is_none(), "a pointer, which could lead in a circle");
    }
}
