//! Security keys: there is none here, so an agent of ours (draft-miller-ssh-agent) makes what one would sign (OpenSSH,
//! `PROTOCOL.u2f`). OpenSSH's own program says whether it did that right.

use std::fs;
use std::io::{Read, Write};
use std::os::unix::net::{UnixListener, UnixStream};
use std::path::PathBuf;
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use ring::rand::SystemRandom;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, Ed25519KeyPair, KeyPair as _};
use sha2::{Digest as _, Sha256};

use crate::signatures::Signers;
use crate::team::told;

const APPLICATION: &[u8] = b"ssh:";

/// A text with its length before it (RFC 4251, section 5).
fn string(bytes: &[u8]) -> Vec<u8> {
    [&u32::try_from(bytes.len()).unwrap().to_be_bytes(), bytes].concat()
}

/// A number, as `mpint` (the same section).
fn number(bytes: &[u8]) -> Vec<u8> {
    let first = bytes.iter().position(|byte| *byte != 0).unwrap_or(bytes.len());
    let bytes = &bytes[first..];
    let sign: &[u8] = if bytes.first().is_some_and(|byte| byte & 0x80 != 0) { &[0] } else { &[] };
    string(&[sign, bytes].concat())
}

/// What is in a security key.
enum Chip {
    Ed25519(Ed25519KeyPair),
    Ecdsa(EcdsaKeyPair),
}

impl Chip {
    fn algorithm(&self) -> &'static str {
        match self {
            Self::Ed25519(_) => "sk-ssh-ed25519@openssh.com",
            Self::Ecdsa(_) => "sk-ecdsa-sha2-nistp256@openssh.com",
        }
    }

    fn public(&self) -> Vec<u8> {
        let key = match self {
            Self::Ed25519(pair) => string(pair.public_key().as_ref()),
            Self::Ecdsa(pair) => [string(b"nistp256"), string(pair.public_key().as_ref())].concat(),
        };
        [string(self.algorithm().as_bytes()), key, string(APPLICATION)].concat()
    }

    fn sign(&self, text: &[u8], flags: u8) -> Vec<u8> {
        let counter = 7_u32.to_be_bytes();
        let signed = [&Sha256::digest(APPLICATION)[..], &[flags], &counter, &Sha256::digest(text)[..]].concat();
        let made = match self {
            Self::Ed25519(pair) => pair.sign(&signed).as_ref().to_vec(),
            Self::Ecdsa(pair) => {
                let made = pair.sign(&SystemRandom::new(), &signed).unwrap();
                let (r, s) = made.as_ref().split_at(32);
                [number(r), number(s)].concat()
            }
        };
        [string(self.algorithm().as_bytes()), string(&made), vec![flags], counter.to_vec()].concat()
    }
}

/// An agent with one security key. `flags` are those that it signs with; bit 0 says that somebody touched it.
fn agent(socket: &PathBuf, chip: Chip, flags: Arc<AtomicU8>) {
    let listener = UnixListener::bind(socket).unwrap();
    std::thread::spawn(move || {
        for stream in listener.incoming().flatten() {
            let _ = serve(stream, &chip, &flags);
        }
    });
}

fn serve(mut stream: UnixStream, chip: &Chip, flags: &AtomicU8) -> std::io::Result<()> {
    loop {
        let mut length = [0; 4];
        stream.read_exact(&mut length)?;
        let mut request = vec![0; u32::from_be_bytes(length) as usize];
        stream.read_exact(&mut request)?;
        let answer = match request[0] {
            // Which keys there are.
            11 => [&[12][..], &1_u32.to_be_bytes(), &string(&chip.public()), &string(b"ida")].concat(),
            // A signature: key, text, flags.
            13 => {
                let key = u32::from_be_bytes(request[1..5].try_into().unwrap()) as usize;
                let rest = &request[5 + key..];
                let text = u32::from_be_bytes(rest[..4].try_into().unwrap()) as usize;
                let made = chip.sign(&rest[4..4 + text], flags.load(Ordering::SeqCst));
                [vec![14], string(&made)].concat()
            }
            _ => vec![5],
        };
        stream.write_all(&string(&answer))?;
    }
}

#[test]
fn a_security_key_signs_through_the_agent_when_it_is_touched() {
    let chips = [
        Chip::Ed25519(Ed25519KeyPair::from_seed_unchecked(&[7; 32]).unwrap()),
        Chip::Ecdsa({
            let random = SystemRandom::new();
            let made = EcdsaKeyPair::generate_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, &random).unwrap();
            EcdsaKeyPair::from_pkcs8(&ECDSA_P256_SHA256_FIXED_SIGNING, made.as_ref(), &random).unwrap()
        }),
    ];
    for chip in chips {
        let name = chip.algorithm();
        let signers = Signers::new();
        let public = format!("{name} {} ida", STANDARD.encode(chip.public()));
        signers.write_keys(&[("ida", "\"lead\"", public)]);
        let socket = signers.team.dir.path().join("agent");
        let flags = Arc::new(AtomicU8::new(1));
        agent(&socket, chip, Arc::clone(&flags));
        let run =
            |arguments: &[&str]| signers.command("ida", arguments).env("SSH_AUTH_SOCK", &socket).output().unwrap();
        let ok = |arguments: &[&str]| {
            let output = run(arguments);
            assert!(output.status.success(), "{name}: {arguments:?}: {}", told(&output));
            told(&output)
        };
        ok(&["team", "sign"]);
        assert!(ok(&["seal", "--sign"]).contains("signed by ida SHA256:"));
        assert!(ok(&["check"]).contains("signed by ida"));
        let proof = signers.team.dir.path().join("proof");
        ok(&["team", "proof", proof.to_str().unwrap()]);
        let mut command = Command::new("ssh-keygen");
        command.args(["-Y", "verify", "-f"]).arg(proof.join("signers")).args(["-I", "ida", "-n", "cavrith-seal", "-s"]);
        command.arg(proof.join("seal.json.sig")).stdin(fs::File::open(proof.join("seal.json")).unwrap());
        let output = command.output().unwrap();
        assert!(output.status.success(), "{name}: {}", told(&output));
        // One that nobody touched is refused before it is written anywhere.
        let lock = fs::read_to_string(signers.team.project().join("cavrith.lock")).unwrap();
        flags.store(0, Ordering::SeqCst);
        let lines: Vec<_> = lock.lines().filter(|line| !line.starts_with("signature")).collect();
        assert!(lines.len() < lock.lines().count(), "{lock}");
        fs::write(
            signers.spec(),
            fs::read_to_string(signers.spec())
                .unwrap()
                .replace("SITE_PORT = \"8080\"", "SITE_PORT = \"8080\"\nPIER = \"n\""),
        )
        .unwrap();
        ok(&["lock", "-q"]);
        let before = fs::read_to_string(signers.team.project().join("cavrith.lock")).unwrap();
        let output = run(&["seal", "--sign"]);
        assert!(
            !output.status.success() && told(&output).contains("without being touched"),
            "{name}: {}",
            told(&output)
        );
        assert_eq!(fs::read_to_string(signers.team.project().join("cavrith.lock")).unwrap(), before);
        flags.store(1, Ordering::SeqCst);
        ok(&["seal", "--sign"]);
    }
}
