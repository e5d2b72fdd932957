//! `cavrith demo`: the whole story, in a folder, without a network.
//!
//! Everything in it is done by the real program, started as the people of the story would start it.

mod assets;
mod attach;
mod layout;
mod proof;
mod registry;

use std::ffi::OsStr;
use std::fs;
use std::io::{self, Read as _, Write as _};
use std::net::TcpStream;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use cavrith_core::path::shown;

use registry::Served;

use crate::args::{Color, Demo};
use crate::commands::Outcome;
use crate::failure::Failure;
use crate::screen::{Screen, styled};

/// A file that marks a folder as one of ours, which may be removed again.
const MARK: &str = ".cavrith-demo";

pub fn exec(screen: &Screen, command: &Demo) -> Outcome {
    if let Some(file) = &command.spoil {
        return spoil(file);
    }
    let dir = std::path::absolute(&command.dir).map_err(own("use the folder"))?;
    let program = std::env::current_exe().map_err(own("find this program"))?;
    if command.clear {
        return remove(&dir);
    }
    if command.again && dir.join(MARK).is_file() {
        // In a process of its own: anyone who has stepped into a user namespace cannot start others that do.
        spawn_quiet(&program, &[OsStr::new("demo"), OsStr::new("--clear"), dir.as_os_str()])?;
    }
    if dir.exists() && fs::read_dir(&dir).map_or(true, |mut entries| entries.next().is_some()) {
        let text = format!(
            "{} is there already; name another folder, or write --again to remove an earlier demo in it",
            dir.display()
        );
        return Err(Failure::Own(2, text));
    }
    let story = Story { screen, dir: &dir, program: &program };
    story.play()
}

fn own(doing: &'static str) -> impl Fn(io::Error) -> Failure {
    move |error| Failure::Own(3, format!("cannot {doing}: {error}"))
}

/// Removes an earlier demo. Its keepers end when their directories are gone. Its stores hold files of several owners,
/// so an ordinary user needs all of them for that.
fn remove(dir: &Path) -> Outcome {
    if !dir.join(MARK).is_file() {
        return Err(Failure::Own(2, format!("{} is not a demo", dir.display())));
    }
    cavrith_sandbox::ids::enter()?;
    cavrith_store::removing::remove(dir)?;
    Ok(0)
}

/// Runs this program for something that is not a part of the story.
fn spawn_quiet(program: &Path, arguments: &[&OsStr]) -> Result<(), Failure> {
    let status = Command::new(program).args(arguments).status().map_err(own("start cavrith"))?;
    if status.success() {
        Ok(())
    } else {
        Err(Failure::Own(3, "the story stops here; what is wrong is said above".to_owned()))
    }
}

/// Changes a file of a store, which may belong to another of the image's owners.
fn spoil(file: &Path) -> Outcome {
    cavrith_sandbox::ids::enter()?;
    let mut file = fs::File::options().append(true).open(file).map_err(own("change the file"))?;
    file.write_all(b"# a quick fix, only here\n").map_err(own("change the file"))?;
    Ok(0)
}

struct Story<'a> {
    screen: &'a Screen,
    dir: &'a Path,
    program: &'a Path,
}

/// Somebody in the story, with a home of their own.
struct Person {
    name: &'static str,
    home: PathBuf,
    project: PathBuf,
}

impl Story<'_> {
    fn person(&self, name: &'static str) -> Person {
        let own = self.dir.join(name);
        Person { name, home: own.join("home"), project: own.join("timetable") }
    }

    fn play(&self) -> Outcome {
        fs::create_dir_all(self.dir).map_err(own("make the folder"))?;
        fs::write(self.dir.join(MARK), "").map_err(own("write into the folder"))?;
        layout::depot(&self.dir.join("depot")).map_err(own("lay out the depot"))?;
        let (lead, tove, jonas) = (self.person("ida"), self.person("tove"), self.person("jonas"));
        layout::project(&lead.project).map_err(own("lay out the project"))?;

        self.narrate("Brindle Ferry keeps a site with sailing times. Ida leads its team, and describes the workspace.");
        self.write_spec(&lead, assets::DRAFT)?;
        self.run(&lead, &["check"], 1)?;
        self.narrate("She mends her spec, pins every input, builds the image, and seals what must come out.");
        self.write_spec(&lead, assets::SPEC)?;
        for command in [&["check"][..], &["lock"], &["build"], &["seal"]] {
            self.run(&lead, command, 0)?;
        }
        self.narrate(
            "She packs the project with its image into one file, a parcel, and puts it into the team's registry.",
        );
        let served = registry::start().map_err(own("start a registry on the loopback"))?;
        let reference = format!("{}/brindle/timetable:sealed", served.host);
        self.run(&lead, &["pack", "../timetable.parcel"], 0)?;
        self.run(&lead, &["push", &reference, "--parcel", "../timetable.parcel"], 0)?;
        self.narrate(
            "Tove joins from there with one command: every layer is proved against the seal while it is written.",
        );
        self.join(&tove, &reference)?;
        let lived = self.live(&tove);
        // Whatever became of it, nothing runs on when the story is over.
        self.command(&tove).args(["stop", "--quiet"]).stdin(Stdio::null()).status().map_err(own("start cavrith"))?;
        lived?;
        self.narrate("Jonas is at sea, without a network. He joins from the file.");
        self.join(&jonas, "../ida/timetable.parcel")?;
        self.run(&jonas, &["stop"], 0)?;
        self.narrate("He mends something by hand, in his store, and tells nobody. Verify does.");
        let file = self.find_quill(&jonas)?;
        self.show_command(&jonas, &format!("echo '# a quick fix, only here' >> {}", self.short(&file)));
        spawn_quiet(self.program, &[OsStr::new("demo"), OsStr::new("--spoil"), file.as_os_str()])?;
        self.run(&jonas, &["verify"], 1)?;
        self.narrate("He takes the fix back by building all of it himself, from the depot, and is the same again.");
        self.run(&jonas, &["build", "--fresh"], 0)?;
        self.run(&jonas, &["verify"], 0)?;
        self.release(&lead)?;
        // What is left for anybody to try needs nothing that is gone with this story.
        let before = [&lead, &jonas].map(|person| (person, kept_files(person)));
        self.tides(&lead, &jonas, &served)?;
        self.narrate("It waits on a branch until somebody has read it; both folders are as they were.");
        for (person, files) in before {
            put_back(person, &files).map_err(own("put the project's files back"))?;
        }
        let proved = self.proof(&lead, &tove, &jonas);
        for person in [&lead, &jonas] {
            let mut stop = self.command(person);
            stop.args(["stop", "--all", "--quiet"]).stdin(Stdio::null()).status().map_err(own("start cavrith"))?;
        }
        proved?;
        self.last_words(&tove);
        Ok(0)
    }

    /// Joins a project, from the folder that a person's own projects lie in.
    fn join(&self, person: &Person, source: &str) -> Result<(), Failure> {
        let above = Person { project: self.dir.join(person.name), home: person.home.clone(), ..*person };
        fs::create_dir_all(&above.project).map_err(own("make the folder"))?;
        self.run(&above, &["join", source, "timetable"], 0)
    }

    /// A variant for production: sealed beside the workspace, and served by nothing but what is in it.
    fn release(&self, lead: &Person) -> Result<(), Failure> {
        self.narrate("The harbours want the site alone, without tools. Ida describes a variant that takes the framed site from the workspace's image.");
        self.write_spec(lead, &format!("{}{}", assets::SPEC, assets::RELEASE))?;
        self.show_command(lead, "cat cavrith.toml            # its last lines");
        assets::RELEASE.trim().lines().for_each(|line| self.screen.result(line));
        for command in [&["lock"][..], &["seal"], &["export", "root", "--variant", "release", "../release.tar"]] {
            self.run(lead, command, 0)?;
        }
        let root = self.dir.join("harbour");
        self.show_command(lead, "mkdir ../../harbour && tar -xf ../release.tar -C ../../harbour");
        fs::create_dir(&root).map_err(own("make the folder"))?;
        let archive = self.dir.join("ida/release.tar");
        let mut tar = Command::new("tar");
        tar.args([OsStr::new("-xf"), archive.as_os_str(), OsStr::new("-C"), root.as_os_str()]);
        let unpacked = status_of(&mut tar).map_err(own("start tar"))?;
        if !unpacked {
            return Err(Failure::Own(5, "the story stops here: tar cannot unpack the release".to_owned()));
        }
        // The server is linked statically, so it runs wherever its root lies.
        let port = free_port().map_err(own("find a port"))?;
        self.show_command(
            lead,
            &format!("../../harbour/bin/busybox httpd -f -p 127.0.0.1:{port} -h ../../harbour/srv/site &"),
        );
        let mut server = Command::new(root.join("bin/busybox"));
        server.args(["httpd", "-f", "-p", &format!("127.0.0.1:{port}"), "-h"]).arg(root.join("srv/site"));
        let mut server = server.stdin(Stdio::null()).spawn().map_err(own("start the server"))?;
        let fetched = self.fetch_soon(port, "frame.html", "<");
        let _ = server.kill();
        let _ = server.wait();
        fetched
    }

    /// A step that fetches: recorded by the lead, built from the record by a member who has no network.
    fn tides(&self, lead: &Person, member: &Person, served: &Served) -> Result<(), Failure> {
        self.narrate("The pages are to show tides, which a harbour office publishes on the web. A step may fetch them, once: Ida records it. (The office is this program, too; her configuration says where it is.)");
        let config =
            format!("[recording.mirrors]\n\"{}\" = \"http://{}{}\"\n", assets::OFFICE, served.host, registry::TIDES);
        fs::write(lead.home.join("config.toml"), config).map_err(own("write the configuration"))?;
        self.write_spec(lead, &format!("{}{}", assets::SPEC, assets::TIDES))?;
        self.show_command(lead, "cat cavrith.toml            # its last lines");
        assets::TIDES.trim().lines().for_each(|line| self.screen.result(line));
        for command in [&["lock"][..], &["record"], &["depot", "fill", "../tables"]] {
            self.run(lead, command, 0)?;
        }
        let first = lead.project.join("cavrith.records/bring-the-tides.record");
        self.show_command(lead, "cat cavrith.records/bring-the-tides.record");
        let text = fs::read_to_string(&first).map_err(own("read the record"))?;
        text.lines().for_each(|line| self.screen.result(shown(line.as_bytes())));
        self.narrate(
            "Jonas takes her spec, lock and record. Without a network, his step is answered from the record alone.",
        );
        fs::create_dir_all(member.project.join("cavrith.records")).map_err(own("make the folder"))?;
        for file in ["cavrith.toml", "cavrith.lock", "cavrith.records/bring-the-tides.record"] {
            fs::copy(lead.project.join(file), member.project.join(file)).map_err(own("copy the project's files"))?;
        }
        let offline = [("CAVRITH_OFFLINE", "1"), ("CAVRITH_DEPOTS", "../../ida/tables")];
        self.run_with(member, &offline, &["build"], 0)?;
        self.narrate(
            "The office publishes December. Nobody notices, until Ida records anew; what moved can be reviewed.",
        );
        served.publish();
        self.run(lead, &["build", "--fresh", "--quiet"], 0)?;
        let earlier = lead.project.join("../earlier.record");
        self.show_command(lead, "cp cavrith.records/bring-the-tides.record ../earlier.record");
        fs::copy(&first, &earlier).map_err(own("copy the record"))?;
        self.run(lead, &["lock", "--update", "bring the tides"], 0)?;
        self.run(lead, &["record", "--review", "../earlier.record", "cavrith.records/bring-the-tides.record"], 0)
    }

    /// Gets a page from a server that was started a moment ago.
    fn fetch_soon(&self, port: u16, page: &str, part: &str) -> Result<(), Failure> {
        for _ in 0..50 {
            if TcpStream::connect(("127.0.0.1", port)).is_ok() {
                break;
            }
            std::thread::sleep(Duration::from_millis(50));
        }
        self.fetch(port, page, part)
    }

    fn narrate(&self, text: &str) {
        self.screen.result(format_args!("\n{}", styled(self.screen.out.strong, text)));
    }

    fn write_spec(&self, person: &Person, text: &str) -> Result<(), Failure> {
        fs::write(person.project.join("cavrith.toml"), text).map_err(own("write the spec"))
    }

    fn show_command(&self, person: &Person, line: &str) {
        self.screen
            .result(format_args!("\n{} {line}", styled(self.screen.out.faint, format_args!("{} $", person.name))));
    }

    fn short(&self, path: &Path) -> String {
        path.strip_prefix(self.dir).unwrap_or(path).display().to_string()
    }

    fn command(&self, person: &Person) -> Command {
        let mut command = Command::new(self.program);
        command.current_dir(&person.project).env("CAVRITH_HOME", &person.home);
        let color = if self.screen.out.good == anstyle::Style::new() { Color::Never } else { Color::Always };
        command.args(["--color", if color == Color::Always { "always" } else { "never" }]);
        command
    }

    /// Runs this program as a person would, and stops the story when it ends with another code than expected.
    fn run(&self, person: &Person, arguments: &[&str], expected: i32) -> Result<(), Failure> {
        self.run_with(person, &[], arguments, expected)
    }

    /// As [`Self::run`], with variables of the environment.
    fn run_with(
        &self,
        person: &Person,
        variables: &[(&str, &str)],
        arguments: &[&str],
        expected: i32,
    ) -> Result<(), Failure> {
        let quoted = |word: &&str| if word.contains(' ') { format!("\"{word}\"") } else { (*word).to_owned() };
        let line: Vec<_> = variables
            .iter()
            .map(|(name, value)| format!("{name}={value}"))
            .chain(["cavrith".to_owned()])
            .chain(arguments.iter().map(quoted))
            .collect();
        self.show_command(person, &line.join(" "));
        // What it writes to standard error is part of the story, in its place; written to one stream it cannot come out
        // of order.
        let output = self
            .command(person)
            .envs(variables.iter().copied())
            .args(arguments)
            .stdin(Stdio::null())
            .output()
            .map_err(own("start cavrith"))?;
        for stream in [&output.stderr, &output.stdout] {
            for line in String::from_utf8_lossy(stream).trim_end().lines() {
                self.screen.result(line);
            }
        }
        if output.status.code() == Some(expected) {
            return Ok(());
        }
        let code = output.status.code().unwrap_or(1);
        let text = format!(
            "the story stops here: cavrith {} ended with {}, not {expected}",
            arguments.join(" "),
            output.status
        );
        Err(Failure::Own(u8::try_from(code).ok().filter(|code| *code != 0).unwrap_or(1), text))
    }

    /// The workspace in use: started with its service, a page edited outside and seen inside, the spec changed and
    /// followed.
    fn live(&self, person: &Person) -> Result<(), Failure> {
        self.narrate("Her workspace runs in the background, with the site as a service; she looks at it from outside.");
        let site = self.port_of(person, "site")?;
        self.fetch(site, "", "<tr>")?;
        self.narrate("She edits a page with her own tools, outside. It is the same file inside.");
        self.show_command(person, "echo '<p>The Petrel sails an hour later today.</p>' > news.html");
        let news = person.project.join("news.html");
        fs::write(&news, "<p>The Petrel sails an hour later today.</p>\n").map_err(own("edit a page"))?;
        self.run(person, &["run", "--", "cat", "/code/news.html"], 0)?;
        self.fetch(site, "news.html", "an hour later")?;
        self.attach(person)?;
        self.narrate("The spec changes: a preview of the raw tables, on a port of its own, and a name. Only that is brought about; the site goes on.");
        self.write_spec(person, &format!("{}{}", assets::SPEC, assets::MORE))?;
        for command in [&["status"][..], &["apply"]] {
            self.run(person, command, 0)?;
        }
        let preview = self.port_of(person, "preview")?;
        self.fetch(preview, "sailings.csv", "Outer Skerry")?;
        for command in [&["list"][..], &["stop"]] {
            self.run(person, command, 0)?;
        }
        self.write_spec(person, assets::SPEC)
    }

    /// The port outside at which one of the workspace's is reached.
    fn port_of(&self, person: &Person, name: &str) -> Result<u16, Failure> {
        let output = self
            .command(person)
            .args(["status", "--json"])
            .stdin(Stdio::null())
            .output()
            .map_err(own("start cavrith"))?;
        let status: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        let ports = status["status"]["ports"].as_array().cloned().unwrap_or_default();
        let port = ports.iter().find(|port| port["name"] == name).and_then(|port| port["outside"].as_u64());
        port.and_then(|port| u16::try_from(port).ok())
            .ok_or_else(|| Failure::Own(5, format!("the story stops here: the port {name} is not carried")))
    }

    /// Gets a page, and shows the lines that have `part` in them.
    fn fetch(&self, port: u16, page: &str, part: &str) -> Result<(), Failure> {
        let stopped =
            |why: &str| Failure::Own(5, format!("the story stops here: the site could not be fetched: {why}"));
        let text = get(port, page).map_err(|error| stopped(&error.to_string()))?;
        let what = format_args!("what http://127.0.0.1:{port}/{page} answers:");
        self.screen.result(format_args!("\n{}", styled(self.screen.out.faint, what)));
        let mut lines = text.lines().filter(|line| line.contains(part)).take(3).peekable();
        if lines.peek().is_none() {
            return Err(stopped(&format!("{part} is not in what it answers")));
        }
        lines.for_each(|line| self.screen.result(shown(line.as_bytes())));
        Ok(())
    }

    /// The program quill in a person's store.
    fn find_quill(&self, person: &Person) -> Result<PathBuf, Failure> {
        let layers = fs::read_dir(person.home.join("store/layers")).map_err(own("list the store"))?;
        let mut files = layers.flatten().map(|layer| layer.path().join("root/opt/quill/2.4.1/bin/quill"));
        files
            .find(|file| file.exists())
            .ok_or_else(|| Failure::Own(5, "the story stops here: quill is not in the store".to_owned()))
    }

    fn last_words(&self, person: &Person) {
        let dir = self.dir.display();
        let (home, project) = (self.short(&person.home), self.short(&person.project));
        self.narrate("All of it lies in this folder, for you to try:");
        let path = std::env::var_os("PATH").unwrap_or_default();
        let installed = std::env::split_paths(&path).any(|directory| directory.join("cavrith").is_file());
        if !installed {
            self.screen.result(format_args!("    alias cavrith={}", self.program.display()));
        }
        for line in [
            format!("    cd {dir}/{project}"),
            format!("    export CAVRITH_HOME={dir}/{home}"),
            "    cavrith start                      # then open the address it names".to_owned(),
            "    cavrith enter                      # a shell inside; your folder is /code".to_owned(),
            "    cavrith status                     # how it stands; cavrith stop ends it".to_owned(),
            "    cavrith build                      # nothing to do; then change a step in cavrith.toml".to_owned(),
            "    cavrith verify --json".to_owned(),
        ] {
            self.screen.result(line);
        }
    }
}

/// Files of a project that a branch would have, and what stands in them.
fn kept_files(person: &Person) -> Vec<(&'static str, Vec<u8>)> {
    let read = |name| Some((name, fs::read(person.project.join(name)).ok()?));
    ["cavrith.toml", "cavrith.lock", "cavrith.listing"].into_iter().filter_map(read).collect()
}

fn put_back(person: &Person, files: &[(&str, Vec<u8>)]) -> io::Result<()> {
    fs::remove_dir_all(person.project.join("cavrith.records"))?;
    files.iter().try_for_each(|(name, bytes)| fs::write(person.project.join(name), bytes))
}

/// Whether a program of this machine succeeds.
fn status_of(command: &mut Command) -> io::Result<bool> {
    Ok(command.stdin(Stdio::null()).status()?.success())
}

/// A port that nobody listens on.
fn free_port() -> io::Result<u16> {
    Ok(std::net::TcpListener::bind(("127.0.0.1", 0))?.local_addr()?.port())
}

/// One page over HTTP/1.0 (RFC 1945), head and all.
fn get(port: u16, page: &str) -> io::Result<String> {
    let mut stream = TcpStream::connect(("127.0.0.1", port))?;
    stream.set_read_timeout(Some(Duration::from_secs(5)))?;
    stream.write_all(format!("GET /{page} HTTP/1.0\r\nHost: 127.0.0.1\r\n\r\n").as_bytes())?;
    let mut page = String::new();
    stream.read_to_string(&mut page)?;
    Ok(page)
}
