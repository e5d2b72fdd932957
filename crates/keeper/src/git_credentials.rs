//! The member's credentials for git, asked for inside and given by git outside: for hosts that the member named, and
//! only to read. Inside, git's own client of its credential cache asks (git-credential-cache(1)), so nothing has to be
//! there but git: it writes a request to a socket, a line `action=…` and the fields of git-credential(1), and reads the
//! answer.

use std::collections::BTreeMap;
use std::io::{self, Read as _, Write as _};
use std::os::unix::net::UnixStream;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use cavrith_engine::personal::GitCredentials;
use cavrith_sandbox::background;
use cavrith_sandbox::programs::find_program;

/// Where its socket is inside.
pub(crate) const SOCKET: &str = "/run/git-credentials";
/// Bytes that a request or an answer may have.
const LONGEST: u64 = 64 << 10;
/// How long whoever asks has for asking, and git outside for its answer: somebody may have to confirm it.
const PATIENCE: Duration = Duration::from_secs(120);

/// What git inside is told, in the variables of git-config(1), ENVIRONMENT: whom to ask for credentials, and that a
/// file of a synced folder with the same time and length is the same, though it has another number on that disk.
pub(crate) fn variables(asks: bool, has_copies: bool) -> Vec<(String, String)> {
    let mut settings = Vec::new();
    settings.extend(asks.then(|| ("credential.helper", format!("cache --socket {SOCKET}"))));
    if has_copies {
        settings.push(("core.checkStat", "minimal".to_owned()));
        settings.push(("core.trustctime", "false".to_owned()));
    }
    if settings.is_empty() {
        return Vec::new();
    }
    let mut variables = vec![("GIT_CONFIG_COUNT".to_owned(), settings.len().to_string())];
    for (number, (key, value)) in settings.into_iter().enumerate() {
        variables.push((format!("GIT_CONFIG_KEY_{number}"), key.to_owned()));
        variables.push((format!("GIT_CONFIG_VALUE_{number}"), value));
    }
    variables
}

/// One request. `used` gets the host whose credentials were given.
pub(crate) fn attend(mut stream: UnixStream, wish: &GitCredentials, mut used: impl FnMut(&str)) -> io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let mut text = String::new();
    (&stream).take(LONGEST).read_to_string(&mut text)?;
    // What git outside keeps is not for the inside to change, so it is told of nothing else.
    let Some(wanted) = wanted(&text, &wish.hosts) else { return Ok(()) };
    let Some(answer) = fill(&wanted.request, &wish.env)? else { return Ok(()) };
    // Before the client has it, so that nothing is used that is not shown.
    used(&wanted.host);
    stream.write_all(answer.as_bytes())
}

/// What is asked of git outside.
struct Wanted {
    host: String,
    request: String,
}

/// A request for credentials of a host that may be asked for.
fn wanted(text: &str, hosts: &[String]) -> Option<Wanted> {
    let field = |name: &str| text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix('='));
    let (host, protocol) = (field("host")?, field("protocol")?);
    // Without encryption only where that was written.
    let named = |written: &String| match written.split_once("://") {
        Some((scheme, rest)) => scheme == protocol && rest.trim_end_matches('/') == host,
        None => protocol == "https" && written == host,
    };
    if field("action") != Some("get") || !hosts.iter().any(named) {
        return None;
    }
    let mut request = format!("protocol={protocol}\nhost={host}\n");
    for name in ["path", "username"] {
        if let Some(value) = field(name).filter(|value| !value.contains(['\0', '\r'])) {
            request += &format!("{name}={value}\n");
        }
    }
    Some(Wanted { host: host.to_owned(), request: request + "\n" })
}

/// Asks git outside. In no repository: what is written in the project's own configuration is not run.
fn fill(request: &str, env: &BTreeMap<String, String>) -> io::Result<Option<String>> {
    let program = find_program("git").ok_or_else(|| io::Error::other("git is not installed"))?;
    let mut command = Command::new(program);
    command.args(["credential", "fill"]).current_dir("/").env_clear().envs(env);
    command.env("GIT_DIR", "/dev/null").env("GIT_TERMINAL_PROMPT", "0");
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
    let mut child = background::companion(&mut command)?;
    if let Some(mut stdin) = child.stdin.take() {
        // One that ended before it read everything gives nothing.
        let _ = stdin.write_all(request.as_bytes());
    }
    let stdout = child.stdout.take();
    let reader = std::thread::spawn(move || {
        let mut text = String::new();
        let read = stdout.map(|stdout| stdout.take(LONGEST).read_to_string(&mut text));
        read.transpose().map(|_| text)
    });
    let good = ended_well(&mut child)?;
    let text = reader.join().map_err(|_| io::Error::other("what git says cannot be read"))??;
    let given =
        |name: &str| text.lines().find(|line| line.strip_prefix(name).is_some_and(|rest| rest.starts_with('=')));
    Ok(match (given("username"), given("password")) {
        (Some(user), Some(password)) if good => Some(format!("{user}\n{password}\n")),
        _ => None,
    })
}

fn ended_well(child: &mut Child) -> io::Result<bool> {
    let begun = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(status.success());
        }
        if begun.elapsed() > PATIENCE {
            let _ = child.kill();
            let _ = child.wait();
            return Ok(false);
        }
        std::thread::sleep(Duration::from_millis(5));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_named_hosts_are_asked_about_and_nothing_else_is_passed_on() {
        let hosts = ["git.pier.example", "http://plain.pier.example:8080/"].map(str::to_owned);
        let ask = |text: &str| wanted(text, &hosts).map(|wanted| wanted.request);
        let given =
            ask("action=get\ntimeout=900\nprotocol=https\nhost=git.pier.example\nusername=tove\nurl=x\nquit=1\n");
        assert_eq!(given.unwrap(), "protocol=https\nhost=git.pier.example\nusername=tove\n\n");
        assert!(ask("action=get\nprotocol=http\nhost=plain.pier.example:8080\n").is_some());
        for refused in [
            "action=get\nprotocol=http\nhost=git.pier.example\n",
            "action=get\nprotocol=https\nhost=git.pier.example.other\n",
            "action=get\nprotocol=https\nhost=plain.pier.example:8080\n",
            "action=store\nprotocol=https\nhost=git.pier.example\nusername=a\npassword=b\n",
            "action=erase\nprotocol=https\nhost=git.pier.example\n",
            "action=get\nprotocol=cert\nhost=\n",
            "",
        ] {
            assert_eq!(ask(refused), None, "{refused}");
        }
    }
}
