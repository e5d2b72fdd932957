//! Who may sign what: the history of a team, allowed signers, and signatures over seals, with keys of all kinds.

use cavrith_core::seal::{Seal, SealSignature};
use cavrith_core::signature::{self, BadKey, BadSignature, PublicKey, Signature, signer};
use cavrith_core::team::history::{BadHistory, Change, Move, TeamFile, digest, text};
use cavrith_core::team::{self, BadTeam, Person, Refusal, Role, Team, signers};
use proptest::prelude::*;
use ssh_key::private::{EcdsaKeypair, Ed25519Keypair, RsaKeypair};
use ssh_key::public::KeyData;
use ssh_key::{EcdsaCurve, PrivateKey};

/// A source of numbers that gives the same ones every time, so that keys are the same in every run.
struct Numbers(u64);

impl Numbers {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        self.0 ^ (self.0 >> 29)
    }
}

impl ssh_key::rand_core::RngCore for Numbers {
    fn next_u32(&mut self) -> u32 {
        self.next() as u32
    }
    fn next_u64(&mut self) -> u64 {
        self.next()
    }
    fn fill_bytes(&mut self, bytes: &mut [u8]) {
        bytes.iter_mut().for_each(|byte| *byte = self.next() as u8);
    }
    fn try_fill_bytes(&mut self, bytes: &mut [u8]) -> Result<(), ssh_key::rand_core::Error> {
        self.fill_bytes(bytes);
        Ok(())
    }
}

impl ssh_key::rand_core::CryptoRng for Numbers {}

fn ed25519(seed: u8) -> PrivateKey {
    PrivateKey::from(Ed25519Keypair::from_seed(&[seed; 32]))
}

fn public(key: &PrivateKey) -> PublicKey {
    PublicKey::of(key.public_key().key_data().clone()).unwrap()
}

fn sign(key: &PrivateKey, namespace: &str, text: &str) -> Signature {
    signature::sign(key, namespace, text.as_bytes()).unwrap()
}

fn person(roles: &[Role], keys: &[&PrivateKey]) -> Person {
    Person { roles: roles.iter().copied().collect(), keys: keys.iter().map(|key| public(key)).collect() }
}

fn team(people: &[(&str, &[Role], &PrivateKey)]) -> Team {
    Team { people: people.iter().map(|(name, roles, key)| ((*name).to_owned(), person(roles, &[key]))).collect() }
}

const LEAD: &[Role] = &[Role::Lead, Role::Member];
const MEMBER: &[Role] = &[Role::Member];

/// A change, signed by whoever has the key.
fn change(file: &mut TeamFile, people: Team, by: &str, key: &PrivateKey) {
    let before = file
        .changes
        .iter()
        .fold(None, |before, change| Some(digest(&text(before.as_ref(), &change.by, &change.people))));
    let signature = sign(key, team::CHANGE, &text(before.as_ref(), by, &people));
    file.changes.push(Change { by: by.to_owned(), signature, people });
}

/// Ida began, let Tove and Jonas in, and made Tove a lead.
fn history() -> TeamFile {
    let (ida, tove, jonas) = (ed25519(1), ed25519(2), ed25519(3));
    let mut file = TeamFile::default();
    change(&mut file, team(&[("ida", LEAD, &ida)]), "ida", &ida);
    let all: &[(&str, &[Role], &PrivateKey)] =
        &[("ida", LEAD, &ida), ("tove", MEMBER, &tove), ("jonas", MEMBER, &jonas)];
    change(&mut file, team(all), "ida", &ida);
    let two: &[(&str, &[Role], &PrivateKey)] = &[("ida", LEAD, &ida), ("tove", LEAD, &tove), ("jonas", MEMBER, &jonas)];
    change(&mut file, team(two), "ida", &ida);
    file
}

fn seal() -> Seal {
    let setup: cavrith_core::setup::Setup = serde_json::from_value(serde_json::json!({
        "account": "crew", "project": "/code", "host-name": "timetable", "env": {}, "folders": [], "ports": {},
        "extensions": {}, "settings": "",
    }))
    .unwrap();
    let image = "11".repeat(32).parse().unwrap();
    Seal {
        rules: 6,
        words: cavrith_core::digest::ImageFingerprint::spoken(&image),
        image,
        workspace: setup.fingerprint(&image),
        spec: "22".repeat(32).parse().unwrap(),
        pins: "33".repeat(32).parse().unwrap(),
        listing: None,
        setup,
        layers: Vec::new(),
        machine_root: None,
        probes: Vec::new(),
        signature: None,
    }
}

fn sealed_by(file: &TeamFile, by: &str, key: &PrivateKey) -> Seal {
    let team = file.prove().unwrap().digest();
    let seal = seal();
    let signature = sign(key, team::SEAL, &seal.signed_text("main", &team));
    Seal { signature: Some(SealSignature { by: by.to_owned(), team, signature }), ..seal }
}

#[test]
fn keys_of_all_kinds_sign_and_are_recognised() {
    let numbers = &mut Numbers(7);
    let rsa = RsaKeypair::random(numbers, 2048).unwrap();
    let ecdsa = |numbers: &mut Numbers, curve| PrivateKey::from(EcdsaKeypair::random(numbers, curve).unwrap());
    let keys = [
        ed25519(9),
        ecdsa(numbers, EcdsaCurve::NistP256),
        ecdsa(numbers, EcdsaCurve::NistP384),
        ecdsa(numbers, EcdsaCurve::NistP521),
        PrivateKey::from(rsa),
    ];
    for key in &keys {
        let armoured = sign(key, "cavrith-seal", "the ferry leaves at nine").armoured();
        assert_eq!(signer(&armoured, "cavrith-seal", b"the ferry leaves at nine").unwrap(), public(key));
        let wrong = signer(&armoured, "cavrith-seal", b"the ferry leaves at ten");
        assert_eq!(wrong, Err(BadSignature::Wrong));
        let other = signer(&armoured, "cavrith-report", b"the ferry leaves at nine");
        assert_eq!(other, Err(BadSignature::Namespace("cavrith-seal".to_owned())));
        // A key is written as it is read.
        assert_eq!(PublicKey::parse(&public(key).to_string()).unwrap(), public(key));
    }
}

#[test]
fn weak_private_and_foreign_keys_are_refused() {
    // The modulus of 2048 bits, without its last 128 bytes.
    let numbers = &mut Numbers(3);
    let long = RsaKeypair::random(numbers, 2048).unwrap().public;
    let n = ssh_key::Mpint::from_positive_bytes(&long.n.as_positive_bytes().unwrap()[..128]).unwrap();
    let short = ssh_key::public::RsaPublicKey { n, e: long.e };
    assert_eq!(PublicKey::of(KeyData::Rsa(short)), Err(BadKey::Short(1024)));
    let private = ed25519(1).to_openssh(ssh_key::LineEnding::LF).unwrap();
    assert_eq!(PublicKey::parse(&private), Err(BadKey::Private));
    assert_eq!(PublicKey::parse("~/.ssh/id_ed25519.pub"), Err(BadKey::Unreadable));
    assert_eq!(PublicKey::parse(""), Err(BadKey::Unreadable));
}

#[test]
fn a_signature_of_any_changed_byte_is_none() {
    let armoured = sign(&ed25519(1), "cavrith-seal", "text").armoured();
    let mut held = 0;
    for at in armoured.find('\n').unwrap()..armoured.rfind("\n-----").unwrap() {
        let mut bytes = armoured.clone().into_bytes();
        bytes[at] = if bytes[at] == b'A' { b'B' } else { b'A' };
        let Ok(changed) = String::from_utf8(bytes) else { continue };
        // The last letters of base64 may have bits that mean nothing.
        if Signature::of_armoured(&changed) == Signature::of_armoured(&armoured) {
            continue;
        }
        assert!(signer(&changed, "cavrith-seal", b"text").is_err(), "byte {at}");
        held += 1;
    }
    assert!(held > 200, "{held}");
}

#[test]
fn the_history_tells_who_let_whom_in_and_is_read_as_it_was_written() {
    let file = history();
    assert_eq!(TeamFile::parse(&file.to_text()).unwrap(), file);
    let proved = file.prove().unwrap();
    let names: Vec<_> = proved.changes.iter().map(|change| change.by.name.as_str()).collect();
    assert_eq!(names, ["ida", "ida", "ida"]);
    assert_eq!(proved.changes[2].moves, [Move::Roles { name: "tove".to_owned(), roles: LEAD.to_vec() }]);
    assert_eq!(proved.now.people.len(), 3);
    // It goes on from each of its own changes, and from nothing else.
    for (index, change) in proved.changes.iter().enumerate() {
        proved.goes_on_from(index + 1, &change.digest).unwrap();
        assert!(proved.goes_on_from(index + 2, &change.digest).is_err());
    }
}

#[test]
fn nobody_but_a_lead_changes_the_team() {
    let (ida, tove, jonas, stranger) = (ed25519(1), ed25519(2), ed25519(3), ed25519(4));
    let everybody_leads: &[(&str, &[Role], &PrivateKey)] =
        &[("ida", LEAD, &ida), ("tove", LEAD, &tove), ("jonas", LEAD, &jonas)];
    let refusal = |by: &str, key: &PrivateKey, people: Team| {
        let mut file = history();
        change(&mut file, people, by, key);
        match file.prove() {
            Err(BadHistory::Change { number: 4, why }) => why,
            other => panic!("{other:?}"),
        }
    };
    // A member writes himself in as a lead, and signs it himself.
    let why = refusal("jonas", &jonas, team(everybody_leads));
    assert_eq!(why, Refusal::Role { name: "jonas".to_owned(), role: Role::Lead });
    // A stranger adds himself.
    let with_stranger: &[(&str, &[Role], &PrivateKey)] = &[("ida", LEAD, &ida), ("eve", LEAD, &stranger)];
    assert!(matches!(refusal("eve", &stranger, team(with_stranger)), Refusal::Stranger { .. }));
    // Somebody signs in another one's name.
    let why = refusal("ida", &tove, team(everybody_leads));
    assert_eq!(why, Refusal::Claimed { claimed: "ida".to_owned(), name: "tove".to_owned() });
}

#[test]
fn a_history_cannot_be_cut_exchanged_or_edited() {
    let whole = history();
    let proved_digest = whole.prove().unwrap().digest();
    // Left out, turned round, edited.
    for forge in [
        |file: &mut TeamFile| drop(file.changes.remove(1)),
        |file: &mut TeamFile| file.changes.swap(1, 2),
        |file: &mut TeamFile| file.changes[1].people = Team { people: file.changes[2].people.people.clone() },
        |file: &mut TeamFile| file.changes[2].by = "tove".to_owned(),
        |file: &mut TeamFile| {
            let people = &mut file.changes[2].people.people;
            people.get_mut("jonas").unwrap().roles.insert(Role::Lead);
        },
    ] {
        let mut file = history();
        forge(&mut file);
        assert!(matches!(file.prove(), Err(BadHistory::Change { .. })), "{file:?}");
    }
    // A shorter one holds by itself; whoever knew the longer one sees it.
    let mut cut = history();
    cut.changes.truncate(2);
    let error = cut.prove().unwrap().goes_on_from(3, &proved_digest).unwrap_err();
    assert!(error.to_string().contains("3 changes"), "{error}");
    // Another first lead is another team.
    let eve = ed25519(4);
    let mut other = TeamFile::default();
    change(&mut other, team(&[("ida", LEAD, &eve)]), "ida", &eve);
    let first = whole.prove().unwrap().changes[0].digest;
    assert!(other.prove().unwrap().goes_on_from(1, &first).is_err());
}

#[test]
fn a_seal_is_believed_from_a_lead_of_the_same_revision_only() {
    let (ida, tove, jonas, eve) = (ed25519(1), ed25519(2), ed25519(3), ed25519(4));
    let file = history();
    let proved = file.prove().unwrap();
    let refused = |seal: &Seal| team::seal_signer(Some(&proved), "main", seal).unwrap_err();
    for (name, key) in [("ida", &ida), ("tove", &tove)] {
        let signer = team::seal_signer(Some(&proved), "main", &sealed_by(&file, name, key)).unwrap().unwrap();
        assert_eq!((signer.name.as_str(), signer.key), (name, public(key)));
    }
    assert_eq!(team::seal_signer(Some(&proved), "main", &seal()).unwrap(), None);
    let why = refused(&sealed_by(&file, "jonas", &jonas));
    assert_eq!(why, Refusal::Role { name: "jonas".to_owned(), role: Role::Lead });
    assert!(matches!(refused(&sealed_by(&file, "ida", &eve)), Refusal::Stranger { .. }));
    assert!(matches!(refused(&sealed_by(&file, "ida", &tove)), Refusal::Claimed { .. }));
    let good = sealed_by(&file, "ida", &ida);
    // Every part of the seal is held by the signature.
    for forge in [
        |seal: &mut Seal| seal.image = "44".repeat(32).parse().unwrap(),
        |seal: &mut Seal| seal.spec = "44".repeat(32).parse().unwrap(),
        |seal: &mut Seal| seal.pins = "44".repeat(32).parse().unwrap(),
        |seal: &mut Seal| seal.listing = Some("44".repeat(32).parse().unwrap()),
        |seal: &mut Seal| seal.rules = 5,
        |seal: &mut Seal| drop(seal.setup.env.insert("PATH".to_owned(), "/tmp".to_owned())),
    ] {
        let mut forged = good.clone();
        forge(&mut forged);
        assert_eq!(refused(&forged), Refusal::Signature(BadSignature::Wrong));
    }
    // That of one variant is none of another.
    let other = team::seal_signer(Some(&proved), "release", &good).unwrap_err();
    assert_eq!(other, Refusal::Signature(BadSignature::Wrong));
    // Without a team, nobody could have signed it.
    assert_eq!(team::seal_signer(None, "main", &good).unwrap_err(), Refusal::NoTeam);
    // Of a team that this one never was.
    let mut shorter = TeamFile::default();
    change(&mut shorter, team(&[("ida", LEAD, &ida), ("tove", LEAD, &tove)]), "ida", &ida);
    let elsewhere = team::seal_signer(Some(&shorter.prove().unwrap()), "main", &good).unwrap_err();
    assert_eq!(elsewhere, Refusal::OtherTeam);
    // A lead who left it seals no more, whatever day they say it was.
    let mut later = history();
    change(&mut later, team(&[("tove", LEAD, &tove), ("jonas", MEMBER, &jonas)]), "tove", &tove);
    let gone = team::seal_signer(Some(&later.prove().unwrap()), "main", &good).unwrap_err();
    assert!(matches!(gone, Refusal::Stranger { .. }), "{gone:?}");
}

#[test]
fn a_team_needs_a_lead_and_keys_of_their_own() {
    let (ida, tove) = (ed25519(1), ed25519(2));
    assert_eq!(team(&[("tove", MEMBER, &tove)]).check(), Err(BadTeam::NoLead));
    let shared = team(&[("ida", LEAD, &ida), ("tove", MEMBER, &ida)]).check();
    assert!(matches!(shared, Err(BadTeam::Shared { .. })), "{shared:?}");
    let mut without = team(&[("ida", LEAD, &ida)]);
    without.people.insert("tove".to_owned(), Person::default());
    assert_eq!(without.check(), Err(BadTeam::NoKey("tove".to_owned())));
    for name in ["", "a b", "\u{1b}[31mida", "ida\n", "-ida", "ïda", &"x".repeat(65)] {
        assert_eq!(team(&[(name, LEAD, &ida)]).check(), Err(BadTeam::Name(name.to_owned())), "{name:?}");
    }
    team(&[("ida@brindle.example", LEAD, &ida)]).check().unwrap();
}

#[test]
fn allowed_signers_are_read_as_openssh_writes_them() {
    let key = public(&ed25519(1));
    let read = |line: &str| signers::parse(&format!("# the crew\n\n{line}\n"));
    let roles = |line: &str| read(line).unwrap().people["ida"].roles.iter().copied().collect::<Vec<_>>();
    assert_eq!(roles(&format!("ida {key}")), Role::ALL);
    assert_eq!(roles(&format!("ida namespaces=\"cavrith-seal,cavrith-team\" {key} a comment")), [Role::Lead]);
    assert_eq!(roles(&format!("ida,tove namespaces=\"git, cavrith-report\" {key}")), [Role::Member]);
    for (line, why) in [
        (format!("*@brindle.example {key}"), "pattern"),
        (format!("ida cert-authority {key}"), "certificates"),
        (format!("ida valid-before=\"20260101\" {key}"), "valid-before"),
        (format!("ida namespaces=\"cavrith-*\" {key}"), "pattern"),
        (format!("ida namespaces=\"git\" {key}"), "allow nothing"),
        ("ida".to_owned(), "no key"),
        ("ida ssh-ed25519 AAAA".to_owned(), "public key"),
    ] {
        let bad = read(&line).unwrap_err();
        assert!(bad.line == 3 && bad.why.contains(why), "{line}: {bad}");
    }
    // What is written is read as the same.
    let file = history();
    let team = &file.changes.last().unwrap().people;
    assert_eq!(&signers::parse(&signers::to_text(team)).unwrap(), team);
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(200))]

    /// No text makes a reader fall over, and none is taken for a history that holds.
    #[test]
    fn foreign_texts_are_no_history(garbage in "\\PC{0,200}", cut in 0usize..3000, letter in any::<char>()) {
        let _ = TeamFile::parse(&garbage);
        let _ = signers::parse(&garbage);
        let _ = signer(&garbage, "cavrith-seal", b"text");
        let whole = history().to_text();
        let mut changed: Vec<char> = whole.chars().collect();
        let at = cut % changed.len();
        if changed[at] != letter && !changed[at].is_whitespace() && !letter.is_whitespace() {
            changed[at] = letter;
            let changed: String = changed.into_iter().collect();
            // In a comment, it says the same.
            let held = TeamFile::parse(&changed).ok().filter(|file| file.prove().is_ok());
            prop_assert!(held.is_none_or(|file| file == history()));
        }
    }
}

#[test]
fn what_is_signed_is_the_same_text_for_ever() {
    // Whoever changes these texts makes every signature that was ever made worthless.
    let file = history();
    let first = &file.changes[0];
    insta::assert_snapshot!("text_of_a_change", text(None, &first.by, &first.people));
    insta::assert_snapshot!("text_of_a_seal", seal().signed_text("main", &digest("")));
    assert_eq!(signature::to_be_signed("cavrith-seal", b"x").len(), 6 + 4 + 12 + 4 + 4 + 6 + 4 + 64);
}
