//! The member's SSH agent inside (draft-ietf-sshm-ssh-agent): their commands may ask which keys there are, and have it
//! sign; they can change nothing of it. Keys never come in. Each use is counted, and shown in the status.

use std::io::{self, Read, Write};
use std::os::unix::net::UnixStream;
use std::time::Duration;

/// Where its socket is inside.
pub(crate) const SOCKET: &str = "/run/ssh-agent";
/// Bytes that a message may have, as OpenSSH's own agent takes them.
const LONGEST: u32 = 256 << 10;
/// How long the agent has for its answer, since somebody may have to touch a key, and whoever asked for taking it.
const PATIENCE: Duration = Duration::from_secs(120);
/// Which keys are there (section 3.5 of the draft).
const IDENTITIES: u8 = 11;
/// Sign something (section 3.6).
const SIGN: u8 = 13;
/// No.
const FAILURE: [u8; 5] = [0, 0, 0, 1, 5];

/// One connection, until it ends; the agent outside is connected to when it is asked first.
pub(crate) fn attend(
    mut stream: UnixStream,
    connect: impl Fn() -> io::Result<UnixStream>,
    mut signed: impl FnMut(),
) -> io::Result<()> {
    stream.set_write_timeout(Some(PATIENCE))?;
    let mut outside: Option<UnixStream> = None;
    while let Some(message) = message(&mut stream)? {
        let kind = message.first().copied();
        if kind != Some(IDENTITIES) && kind != Some(SIGN) {
            stream.write_all(&FAILURE)?;
            continue;
        }
        let answered = ask(&mut outside, &connect, &message);
        match answered {
            Ok(answer) => {
                // Before the client has it, so that nothing is used that is not shown.
                if kind == Some(SIGN) && answer.first() != Some(&FAILURE[4]) {
                    signed();
                }
                send(&mut stream, &answer)?;
            }
            Err(_) => {
                outside = None;
                stream.write_all(&FAILURE)?;
            }
        }
    }
    Ok(())
}

fn ask(
    outside: &mut Option<UnixStream>,
    connect: &impl Fn() -> io::Result<UnixStream>,
    message: &[u8],
) -> io::Result<Vec<u8>> {
    let stream = match outside {
        Some(stream) => stream,
        None => {
            let stream = connect()?;
            stream.set_read_timeout(Some(PATIENCE))?;
            stream.set_write_timeout(Some(PATIENCE))?;
            outside.insert(stream)
        }
    };
    send(stream, message)?;
    self::message(stream)?.ok_or_else(|| io::ErrorKind::UnexpectedEof.into())
}

fn send(to: &mut impl Write, message: &[u8]) -> io::Result<()> {
    let length = u32::try_from(message.len()).map_err(io::Error::other)?;
    to.write_all(&[&length.to_be_bytes()[..], message].concat())
}

/// The next message, without its length; nothing at the end.
fn message(from: &mut impl Read) -> io::Result<Option<Vec<u8>>> {
    let mut length = [0; 4];
    match from.read_exact(&mut length) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        other => other?,
    }
    let length = u32::from_be_bytes(length);
    if length == 0 || length > LONGEST {
        return Err(io::ErrorKind::InvalidData.into());
    }
    let mut message = vec![0; length as usize];
    from.read_exact(&mut message)?;
    Ok(Some(message))
}

#[cfg(test)]
mod tests {
    use std::os::unix::net::UnixListener;
    use std::thread;

    use super::*;

    #[test]
    fn only_questions_for_keys_and_signatures_reach_the_agent() {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("agent");
        let agent = UnixListener::bind(&path).unwrap();
        let heard = thread::spawn(move || {
            let (mut stream, _) = agent.accept().unwrap();
            let mut kinds = Vec::new();
            while let Ok(Some(asked)) = message(&mut stream) {
                kinds.push(asked[0]);
                send(&mut stream, &[asked[0] + 1, 7]).unwrap();
            }
            kinds
        });
        let (mut client, inside) = UnixStream::pair().unwrap();
        let attending = thread::spawn(move || {
            let mut count = 0;
            let ended = attend(inside, || UnixStream::connect(&path), || count += 1);
            (count, ended.is_ok())
        });
        // Add a key, remove all, lock, an extension: refused; then what may be asked.
        for kind in [17, 19, 22, 27, 25] {
            send(&mut client, &[kind, 1, 2, 3]).unwrap();
            assert_eq!(message(&mut client).unwrap().unwrap(), [5], "{kind}");
        }
        for kind in [IDENTITIES, SIGN, SIGN] {
            send(&mut client, &[kind]).unwrap();
            assert_eq!(message(&mut client).unwrap().unwrap(), [kind + 1, 7]);
        }
        // What is longer than any message ends the connection.
        client.write_all(&u32::MAX.to_be_bytes()).unwrap();
        assert_eq!(client.read(&mut [0; 8]).unwrap(), 0);
        assert_eq!(attending.join().unwrap(), (2, false));
        assert_eq!(heard.join().unwrap(), [IDENTITIES, SIGN, SIGN]);
    }
}
