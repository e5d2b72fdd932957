//! Editors outside: language servers and debuggers inside for them, and places opened with them.

use std::fs;
use std::io::{Read as _, Write as _};
use std::os::unix::fs::PermissionsExt as _;
use std::process::{Child, ChildStdin, ChildStdout, Stdio};

use crate::owners::Someone;
use crate::team::{Team, told};

/// A server that writes down what it hears, and answers with what `answer` has: messages one after the other.
const SERVER: &str = "#!/bin/sh\ncat answer\nexec cat > /tmp/heard\n";

fn message(body: &str) -> String {
    format!("Content-Length: {}\r\n\r\n{body}", body.len())
}

/// A server inside, and an editor outside that speaks with it.
struct Spoken {
    child: Child,
    to: Option<ChildStdin>,
    from: ChildStdout,
}

impl Spoken {
    fn new(who: &Someone, command: &[&str]) -> Self {
        let mut child = who.command(&[&["speak", "--"], command].concat());
        let mut child = child.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
        let (to, from) = (child.stdin.take(), child.stdout.take().unwrap());
        Self { child, to, from }
    }

    fn send(&mut self, body: &str) {
        self.to.as_mut().unwrap().write_all(message(body).as_bytes()).unwrap();
    }

    fn receive(&mut self) -> String {
        let mut head = Vec::new();
        while !head.ends_with(b"\r\n\r\n") {
            let mut byte = [0];
            self.from.read_exact(&mut byte).unwrap();
            head.push(byte[0]);
        }
        let head = String::from_utf8(head).unwrap();
        let mut body = vec![0; head.trim().rsplit(' ').next().unwrap().parse().unwrap()];
        self.from.read_exact(&mut body).unwrap();
        String::from_utf8(body).unwrap()
    }
}

#[test]
fn what_names_a_file_is_right_on_both_sides_and_the_image_s_files_are_shown() {
    let make = || {
        let team = Team::locked();
        team.change("inside  = \"/code\"", "inside  = \"/code\"\nexcept  = [\"modules\"]");
        team.ok(&["lock"]);
        team
    };
    for who in Someone::each(make) {
        let kind = who.kind;
        let project = who.project().canonicalize().unwrap();
        let outside = project.display().to_string();
        let forged = "/code/../../../etc/passwd";
        let answer = format!(
            "{}{}",
            message(
                r#"{"uri":"file:///etc/passwd","also":"file:///code/serve.sh","text":"/code/serve.sh","targetUri":"file:///code/modules/tide.js"}"#
            ),
            message(&format!(
                r#"{{"uri":"file://{forged}","path":"{forged}","program":"/bin/sh","gone":"file:///etc/none"}}"#
            ))
        );
        fs::write(project.join("answer"), answer).unwrap();
        fs::write(project.join("server.sh"), SERVER).unwrap();
        fs::set_permissions(project.join("server.sh"), fs::Permissions::from_mode(0o755)).unwrap();
        who.ok(&["start", "-q", "--wait"]);
        who.ok(&["run", "-q", "--", "sh", "-c", "echo inside > modules/tide.js"]);
        let mut spoken = Spoken::new(&who, &["./server.sh"]);
        spoken.send(&format!(
            r#"{{"method":"initialize","processId":1,"rootUri":"file://{outside}","text":"{outside}"}}"#
        ));
        let first: serde_json::Value = serde_json::from_str(&spoken.receive()).unwrap();
        assert_eq!(first["also"], format!("file://{outside}/serve.sh"), "{kind}");
        assert_eq!(first["text"], "/code/serve.sh", "{kind}");
        let copy = first["uri"].as_str().unwrap().strip_prefix("file://").unwrap().to_owned();
        assert!(fs::read_to_string(&copy).unwrap().contains("crew:"), "{kind}: {copy}");
        assert_eq!(fs::metadata(&copy).unwrap().permissions().mode() & 0o777, 0o444, "{kind}");
        // What stays inside of the project's folder is shown, too, and not looked for where it is not.
        let inside = first["targetUri"].as_str().unwrap().strip_prefix("file://").unwrap();
        assert_eq!(fs::read_to_string(inside).unwrap(), "inside\n", "{kind}: {inside}");
        assert!(!inside.starts_with(&outside), "{kind}: {inside}");
        // A path that leads up leads to the inside's own file, never to this machine's.
        let second: serde_json::Value = serde_json::from_str(&spoken.receive()).unwrap();
        assert_eq!(second["uri"], format!("file://{copy}"), "{kind}");
        assert_eq!((&second["path"], &second["program"]), (&copy.clone().into(), &"/bin/sh".into()), "{kind}");
        assert!(second["gone"].as_str().unwrap().ends_with("/sources/etc/none"), "{kind}");
        // The copy's own address leads back.
        let long = "low water ".repeat(1_200_000);
        spoken.send(&format!(r#"{{"uri":"file://{copy}","value":"{long}"}}"#));
        drop(spoken.to.take());
        let ended = spoken.child.wait_with_output().unwrap();
        assert!(ended.status.success(), "{kind}: {}", told(&ended));
        let heard = who.ok(&["run", "-q", "--", "cat", "/tmp/heard"]);
        let begins = r#"{"method":"initialize","processId":null,"rootUri":"file:///code","text":""#;
        assert!(heard.contains(begins) && heard.contains(&format!("\"text\":\"{outside}\"")), "{kind}");
        assert!(
            heard.contains(r#"{"uri":"file:///etc/passwd","value":"low"#) && heard.ends_with("low water \"}"),
            "{kind}"
        );
        who.ok(&["stop", "-q"]);
    }
}

#[test]
fn what_is_no_message_ends_it_and_a_server_ends_with_its_editor() {
    for who in Someone::each(Team::locked).take(1) {
        let mut spoken = Spoken::new(&who, &["echo", "thread panicked at the pier"]);
        spoken.to.take();
        let ended = spoken.child.wait_with_output().unwrap();
        assert!(ended.status.code() == Some(5) && told(&ended).contains("thread panicked"), "{}", told(&ended));
        let mut missing = Spoken::new(&who, &["no-such-server"]);
        missing.to.take();
        let ended = missing.child.wait_with_output().unwrap();
        assert!(told(&ended).contains("no such program inside"), "{}", told(&ended));
        let mut staying = Spoken::new(&who, &["sh", "-c", "printf 'Content-Length: 2\\r\\n\\r\\n{}'; exec sleep 66"]);
        assert_eq!(staying.receive(), "{}");
        staying.child.kill().unwrap();
        staying.child.wait().unwrap();
        crate::running::soon("the server ends", || !who.ok(&["run", "-q", "--", "ps"]).contains("sleep 66"));
        who.ok(&["stop", "-q"]);
        who.team.assert_clean();
    }
}

#[test]
fn a_place_is_opened_by_whom_the_member_chose_and_by_nobody_a_project_chose() {
    for who in Someone::each(Team::locked).take(1) {
        let bin = who.dir().join("bin");
        fs::create_dir(&bin).unwrap();
        let (said, tool) = (who.dir().join("said"), bin.join("lamp"));
        fs::write(&tool, format!("#!/bin/sh\necho \"$@\" >> {}\n", said.display())).unwrap();
        fs::set_permissions(&tool, fs::Permissions::from_mode(0o755)).unwrap();
        let open = |arguments: &[&str]| {
            let mut command = who.command(&[&["open"], arguments].concat());
            command.env("HOME", who.dir()).env("PATH", format!("{}:/usr/bin:/bin", bin.display()));
            command.stdin(Stdio::null()).output().unwrap()
        };
        let unknown = open(&["--with", "lamp"]);
        assert!(told(&unknown).contains("[editors.lamp]"), "{}", told(&unknown));
        who.configure(
            "[personal]\neditor = \"lamp\"\n[editors.lamp]\ncommand = [\"lamp\", \"{path}\", \"{line}\", \"{file}\"]\n\
             [editors.far]\ncommand = [\"lamp\", \"{host}\"]\n",
        );
        let opened = open(&["serve.sh:3"]);
        assert!(opened.status.success(), "{}", told(&opened));
        let project = who.project().canonicalize().unwrap();
        assert_eq!(fs::read_to_string(&said).unwrap(), format!("/code/serve.sh 3 {}/serve.sh\n", project.display()));
        assert!(told(&open(&["../none/x"])).contains("lies in no folder of the workspace"));
        let far = open(&["--with", "far"]);
        assert!(told(&far).contains("cavrith ssh-config --apply first"), "{}", told(&far));
        // The team's profile has a command of its own, which nobody allowed: it is told and not run.
        who.configure("");
        let spec = fs::read_to_string(who.project().join("cavrith.lock")).unwrap();
        assert!(spec.contains("[editor]"), "the demo has an editor");
        let lock = spec.replace("[editor]\n", "[editor]\nopen = [\"lamp\", \"hostile\"]\n");
        fs::write(who.project().join("cavrith.lock"), lock).unwrap();
        let refused = open(&["serve.sh"]);
        assert!(!refused.status.success(), "{}", told(&refused));
        assert!(!fs::read_to_string(&said).unwrap().contains("hostile"), "{}", told(&refused));
        who.run(&["stop", "-q"]);
    }
}
