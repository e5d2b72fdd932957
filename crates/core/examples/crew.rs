//! A made-up crew for looking at the roster, and for measuring it: `crew PROJECT COUNT NOW-MILLIS` signs a team of so
//! many into a sealed project, and writes their reports into its folder `reports`. Everything follows from the numbers.

use std::collections::BTreeSet;
use std::error::Error;
use std::fs;
use std::path::Path;

use cavrith_core::digest::ContentDigest;
use cavrith_core::lock::Lock;
use cavrith_core::report::{self, Joined, Machine, Report, ReportedAspect, ReportedSeal, Revision, Times};
use cavrith_core::seal::{Seal, SealSignature};
use cavrith_core::signature::sign_once;
use cavrith_core::team::history::{Change, TeamFile, digest, text};
use cavrith_core::team::{CHANGE, Person, REPORT, Role, SEAL, Team};
use cavrith_core::verdict::{Aspect, Difference};

const NAMES: [&str; 20] = [
    "ida", "tove", "jonas", "sven", "maren", "eskil", "liv", "oskar", "frida", "nils", "signe", "anton", "karin",
    "ludvig", "elin", "gustav", "astrid", "henrik", "tuva", "viggo",
];

/// The aspects of a workspace, and what of them is measured.
const ASPECTS: [(&str, &str); 13] = [
    ("spec and lock", "the spec's meaning, the lock's pins"),
    ("signature", "ida, by change 1 of the team"),
    ("image", "347 entries, 2.1 MB read"),
    ("packages", "1 package"),
    ("toolchain probes", "3 probes"),
    ("extensions", "1 extension"),
    ("settings", "the editor's settings file"),
    ("environment", "9 variables"),
    ("account", "crew"),
    ("folders", "1 folder"),
    ("ports", "1 port"),
    ("services", "1 service, start step or name"),
    ("scratch", "nothing was changed inside"),
];

/// Numbers that look random and are the same every time.
struct Numbers(u64);

impl Numbers {
    fn below(&mut self, bound: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % bound.max(1)
    }
}

fn seed(number: usize) -> [u8; 32] {
    *blake3::hash(format!("crew {number}").as_bytes()).as_bytes()
}

fn name(number: usize) -> String {
    let (round, place) = (number / NAMES.len(), number % NAMES.len());
    if round == 0 { NAMES[place].to_owned() } else { format!("{}-{}", NAMES[place], round + 1) }
}

fn main() -> Result<(), Box<dyn Error>> {
    let arguments: Vec<String> = std::env::args().collect();
    let [_, project, count, now] = arguments.as_slice() else { return Err("crew PROJECT COUNT NOW-MILLIS".into()) };
    let (project, count, now): (&Path, usize, u64) = (Path::new(project), count.parse()?, now.parse()?);
    let mut team = Team::default();
    for number in 0..count {
        let (_, key) = sign_once(&seed(number), REPORT, b"")?;
        let roles = if number == 0 { vec![Role::Lead, Role::Member] } else { vec![Role::Member] };
        let person = Person { roles: roles.into_iter().collect(), keys: BTreeSet::from([key]) };
        team.people.insert(name(number), person);
    }
    let change = text(None, "ida", &team);
    let (signature, _) = sign_once(&seed(0), CHANGE, change.as_bytes())?;
    let history = TeamFile { team: 1, changes: vec![Change { by: "ida".to_owned(), signature, people: team }] };
    fs::write(project.join("cavrith.team"), history.to_text())?;
    let place = project.join("cavrith.lock");
    let mut lock = Lock::parse(&fs::read_to_string(&place)?)?;
    let names: Vec<String> = lock.variant_names().into_iter().map(str::to_owned).collect();
    for variant in &names {
        let Some(seal) = lock.of_variant(variant).and_then(|pins| pins.seal) else { continue };
        let team = digest(&change);
        let (signature, _) = sign_once(&seed(0), SEAL, seal.signed_text(variant, &team).as_bytes())?;
        let signature = Some(SealSignature { by: "ida".to_owned(), team, signature });
        lock.set_seal(variant, Some(Seal { signature, ..seal }));
    }
    fs::write(&place, lock.to_text())?;
    let seal = lock.seal.ok_or("the project is not sealed")?;
    let reports = project.join("reports");
    fs::create_dir_all(&reports)?;
    let mut numbers = Numbers(7);
    for number in 0..count {
        // Some never reported.
        if numbers.below(23) == 7 {
            continue;
        }
        let mut previous = None;
        let rounds = 1 + numbers.below(4);
        let odd = numbers.below(11) == 3;
        for round in (0..rounds).rev() {
            let is_last = round == 0;
            let measured = now - round * 6 * 86_400_000 - numbers.below(5 * 86_400_000);
            let report = made(
                &seal,
                number,
                (measured, previous),
                is_last && odd,
                is_last || numbers.below(3) > 0,
                &mut numbers,
            );
            let (payload, signed) = report::payload(&report);
            let (signature, key) = sign_once(&seed(number), REPORT, &signed)?;
            let text = report::envelope(&payload, &key, signature);
            previous = Some(ContentDigest::of(text.as_bytes()));
            fs::write(reports.join(format!("{}-{measured}.json", name(number))), text)?;
        }
    }
    Ok(())
}

fn made(
    seal: &Seal,
    number: usize,
    (measured, previous): (u64, Option<ContentDigest>),
    odd: bool,
    current: bool,
    numbers: &mut Numbers,
) -> Report {
    let mut aspects: Vec<ReportedAspect> = ASPECTS
        .iter()
        .map(|(name, measured)| ReportedAspect {
            standing: "same".to_owned(),
            more: 0,
            aspect: Aspect::new(*name, *measured, Vec::new()),
        })
        .collect();
    let scratch = aspects.len() - 1;
    let mut standing = "same";
    if odd {
        standing = "different";
        let one = &mut aspects[scratch];
        one.standing = "different".to_owned();
        one.aspect.measured = "2 changes by hand".to_owned();
        let diff = "--- a/etc/sailings.conf\n+++ b/etc/sailings.conf\n@@ -1,3 +1,3 @@\n [harbour]\n-depth = 6\n+depth = 7\n pier = \"north\"\n";
        let mut changed = Difference::new("/etc/sailings.conf", "content 71c5d2a0e4b1f36c", "content 9d2f80b7c3a5e614");
        changed.from = Some("step \"frame the site\"".to_owned());
        changed.diff = Some(diff.to_owned());
        one.aspect.differences = vec![Difference::new("package tide-tables", "nothing", "1.4-2"), changed];
    } else if current && numbers.below(29) == 5 {
        standing = "not-measured";
        aspects[10].standing = "not-measured".to_owned();
        aspects[10].aspect.unmeasured = vec!["this machine's own loopback carries nothing".to_owned()];
    }
    let (digest, words) = match current {
        true => (report::seal_digest(seal), seal.words.clone()),
        false => (ContentDigest::of(b"an older seal"), "hapog-tisun-mufel-kanor".to_owned()),
    };
    let joined = Joined {
        fetch: 300 + numbers.below(1500),
        image: 2500 + numbers.below(9000) + if numbers.below(14) == 0 { 41_000 } else { 0 },
        start: 150 + numbers.below(400),
    };
    let kind = ["range", "range", "single", "root"][numbers.below(4) as usize];
    Report {
        cavrith: env!("CARGO_PKG_VERSION").to_owned(),
        workspace: "timetable".to_owned(),
        variant: "main".to_owned(),
        by: Some(name(number)),
        seal: ReportedSeal { words, digest, image: seal.image, workspace: seal.workspace },
        spec: seal.spec,
        lock: seal.pins,
        revision: Some(Revision { commit: "4be1c07d9a23f5680c14e7b2d8a96f30517ec4d2".to_owned(), changed: odd }),
        machine: Machine {
            kernel: "6.1.0-40-amd64".to_owned(),
            architecture: "x86_64".to_owned(),
            member: kind.to_owned(),
        },
        standing: standing.to_owned(),
        aspects,
        times: Times { measured, verify_millis: 400 + numbers.below(900), joined: Some(joined) },
        previous,
    }
}
