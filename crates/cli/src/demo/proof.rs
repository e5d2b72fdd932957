//! The last act: the team signs, one of it changes something by hand, everybody reports, and the lead adopts what was
//! changed.

use std::fs;
use std::io::{self, Read as _, Write as _};
use std::os::unix::fs::OpenOptionsExt as _;

use ssh_key::private::Ed25519Keypair;
use ssh_key::{LineEnding, PrivateKey};

use super::{Person, Story, own};
use crate::failure::Failure;

/// Files of a project that everybody has from version control.
const SHARED: [&str; 4] = ["cavrith.toml", "cavrith.lock", "cavrith.listing", "cavrith.team"];

/// What Jonas does inside.
const BY_HAND: &str = "mkdir -p /etc/profile.d && echo 'export SAILINGS_YEAR=2027' > /etc/profile.d/sailings.sh && echo 'depth = 7' > /etc/harbour.conf";

impl Story<'_> {
    /// Who is the same, proved by everybody's own signature.
    pub(super) fn proof(&self, lead: &Person, tove: &Person, jonas: &Person) -> Result<(), Failure> {
        self.narrate(
            "Is everybody the same? Ida writes into the spec who is in the team, and signs that and the seal with her SSH key.",
        );
        let mut people = String::new();
        for (person, roles) in [(lead, "\"lead\", \"member\""), (tove, "\"member\""), (jonas, "\"member\"")] {
            let key = self.write_key(person).map_err(own("write a key"))?;
            let table = format!("\n[team.people.{}]\nroles = [{roles}]\nkeys  = [\"{key}\"]\n", person.name);
            people.push_str(&table);
        }
        let path = lead.project.join("cavrith.toml");
        let spec = fs::read_to_string(&path).map_err(own("read the spec"))?;
        self.write_spec(lead, &format!("{spec}{people}"))?;
        self.show_command(lead, "cat cavrith.toml            # its last lines");
        people.trim().lines().for_each(|line| self.screen.result(line));
        self.run(lead, &["team", "sign", "--key", "../key"], 0)?;
        self.run(lead, &["seal", "--sign", "--key", "../key"], 0)?;
        self.share(lead, &[tove, jonas])?;
        self.narrate("Jonas has set two things by hand inside. Cavrith tells which.");
        self.run(jonas, &["start"], 0)?;
        self.run(jonas, &["run", "--account", "root", "--", "sh", "-c", BY_HAND], 0)?;
        self.run(jonas, &["drift"], 1)?;
        self.narrate("Everybody reports what verify measures, signed; Ida lays the reports side by side.");
        fs::create_dir_all(self.dir.join("reports")).map_err(own("make the folder"))?;
        for (person, expected) in [(lead, 0), (tove, 0), (jonas, 1)] {
            self.report(person, expected)?;
        }
        self.run(lead, &["roster", "../../reports"], 0)?;
        self.narrate("All of the team can use that. Jonas packs what he changed, and Ida joins it beside her own.");
        self.run(jonas, &["stop"], 0)?;
        self.run(jonas, &["pack", "--scratch", "../by-hand.parcel"], 0)?;
        let above = Person { project: self.dir.join(lead.name), home: lead.home.clone(), ..*lead };
        // What nobody sealed is not the same.
        self.run(&above, &["join", "--yes", "../jonas/by-hand.parcel", "by-hand"], 1)?;
        self.narrate("She adopts it: into the spec, locked, built, and held against what he had.");
        let by_hand = Person { project: above.project.join("by-hand"), home: lead.home.clone(), ..*lead };
        self.run(&by_hand, &["drift", "--adopt", "--yes"], 0)?;
        self.run(&by_hand, &["drop", "--yes", "--quiet"], 0)?;
        self.narrate("She has read the change, and seals it.");
        self.share(&by_hand, &[lead])?;
        fs::remove_dir_all(&by_hand.project).map_err(own("remove the folder"))?;
        self.run(lead, &["seal", "--sign", "--key", "../key"], 0)?;
        self.share(lead, &[tove, jonas])?;
        for person in [tove, jonas] {
            self.run(person, &["build", "--quiet"], 0)?;
        }
        for person in [lead, tove, jonas] {
            self.report(person, 0)?;
        }
        self.run(lead, &["roster", "../../reports", "--check", "--html", "../../roster.html"], 0)
    }

    fn report(&self, person: &Person, expected: i32) -> Result<(), Failure> {
        self.run(person, &["verify", "--quiet", "--report", "--to", "../../reports", "--key", "../key"], expected)
    }

    /// What version control would do.
    fn share(&self, from: &Person, to: &[&Person]) -> Result<(), Failure> {
        for person in to {
            for name in SHARED {
                fs::copy(from.project.join(name), person.project.join(name))
                    .map_err(own("copy the project's files"))?;
            }
        }
        Ok(())
    }

    /// A person's SSH key, made for the story. Gives its public half.
    fn write_key(&self, person: &Person) -> io::Result<String> {
        let mut seed = [0; 32];
        fs::File::open("/dev/urandom")?.read_exact(&mut seed)?;
        let mut key = PrivateKey::from(Ed25519Keypair::from_seed(&seed));
        key.set_comment(person.name);
        let text = key.to_openssh(LineEnding::LF).map_err(io::Error::other)?;
        let path = self.dir.join(person.name).join("key");
        let mut file = fs::File::options().write(true).create_new(true).mode(0o600).open(path)?;
        file.write_all(text.as_bytes())?;
        key.public_key().to_openssh().map_err(io::Error::other)
    }
}
