//! The hypervisor's monitor: QMP, one object of JSON in each line (QEMU's `qmp-spec.txt`, section 2).

use std::io::{self, BufRead as _, BufReader, Write as _};
use std::os::unix::net::UnixStream;
use std::sync::Mutex;
use std::time::Duration;

use serde_json::{Value, json};

use crate::host::mutex::locked;

/// How long an answer is waited for, unless more is asked of it.
const ANSWER: Duration = Duration::from_secs(20);

/// The way to a hypervisor's monitor.
#[derive(Debug)]
pub struct Monitor {
    lines: Mutex<BufReader<UnixStream>>,
}

impl Monitor {
    /// Greets it.
    ///
    /// # Errors
    /// When it is no such monitor, or says nothing in time.
    pub fn greet(socket: UnixStream) -> io::Result<Self> {
        socket.set_read_timeout(Some(ANSWER))?;
        let monitor = Self { lines: Mutex::new(BufReader::new(socket)) };
        next(&mut locked(&monitor.lines))?;
        monitor.order("qmp_capabilities", &json!({}))?;
        Ok(monitor)
    }

    /// Gives an order, and waits for its answer.
    ///
    /// # Errors
    /// What the hypervisor says against it.
    pub fn order(&self, name: &str, arguments: &Value) -> io::Result<Value> {
        self.order_within(name, arguments, ANSWER)
    }

    /// As [`Self::order`], when it may take longer.
    ///
    /// # Errors
    /// What the hypervisor says against it.
    pub fn order_within(&self, name: &str, arguments: &Value, limit: Duration) -> io::Result<Value> {
        let mut lines = locked(&self.lines);
        lines.get_ref().set_read_timeout(Some(limit))?;
        let mut line = json!({ "execute": name, "arguments": arguments }).to_string();
        line.push('\n');
        lines.get_mut().write_all(line.as_bytes())?;
        loop {
            let said = next(&mut lines)?;
            if let Some(error) = said.get("error") {
                let text = error.get("desc").and_then(Value::as_str).unwrap_or("it refused");
                return Err(io::Error::other(text.to_owned()));
            }
            // Events come in between.
            if let Some(answer) = said.get("return") {
                return Ok(answer.clone());
            }
        }
    }

    /// Halts the machine, or lets it go on.
    ///
    /// # Errors
    /// What the hypervisor says against it.
    pub fn halt(&self, halted: bool) -> io::Result<()> {
        self.order(if halted { "stop" } else { "cont" }, &json!({})).map(drop)
    }

    /// Writes the machine's memory to its disk under a name, so that it goes on from there when it is started with it.
    ///
    /// # Errors
    /// What the hypervisor says against it.
    pub fn save(&self, name: &str, limit: Duration) -> io::Result<()> {
        let line = json!({ "command-line": format!("savevm {name}") });
        let said = self.order_within("human-monitor-command", &line, limit)?;
        match said.as_str().map(str::trim).unwrap_or_default() {
            "" => Ok(()),
            why => Err(io::Error::other(why.to_owned())),
        }
    }
}

fn next(lines: &mut BufReader<UnixStream>) -> io::Result<Value> {
    let mut line = String::new();
    if lines.read_line(&mut line)? == 0 {
        return Err(io::ErrorKind::UnexpectedEof.into());
    }
    Ok(serde_json::from_str(&line)?)
}
