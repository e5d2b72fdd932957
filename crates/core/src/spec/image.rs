//! The table `[image]`: how the image is run elsewhere.

use super::document::Value;
use super::reader::{Reader, TableAt};
use super::{Image, rules, steps};
use crate::mistake::{Code, Mistake};

pub(super) fn read(reader: &mut Reader<'_>, table: &TableAt<'_>) -> Image {
    let command = steps::command(reader, table, "command").flatten();
    let arguments = reader.texts(table, "arguments").map(|texts| texts.value).unwrap_or_default();
    let arguments = arguments.into_iter().map(|text| text.value).collect();
    let directory = reader.text(table, "directory").and_then(|path| rules::inside_path(reader, "directory", path));
    let account = reader.text(table, "account");
    let ports = reader.texts(table, "ports").map(|texts| texts.value);
    let ports = ports.map(|ports| ports.iter().filter_map(|port| read_port(reader, port)).collect());
    let signal = reader.text(table, "signal");
    if let Some(signal) = &signal {
        rules::one_of(reader, "signal", signal, super::keys::find("image.signal").map_or(&[], |key| key.values));
    }
    let mut labels = std::collections::BTreeMap::new();
    if let Some(inner) = reader.subtable(table, "labels", "image.labels") {
        for entry in inner.entries() {
            match &entry.node.value {
                Value::Text(text) => drop(labels.insert(entry.name.clone(), text.clone())),
                _ => drop(reader.text_of("", &entry.name, &entry.node)),
            }
        }
    }
    Image { command, arguments, directory, account, ports, labels, signal: signal.map(|signal| signal.value) }
}

/// A port as container images write it: a number, and the protocol if it is not TCP.
fn read_port(reader: &mut Reader<'_>, port: &super::At<String>) -> Option<String> {
    let (number, protocol) = port.value.split_once('/').unwrap_or((&port.value, "tcp"));
    if number.parse::<u16>().is_ok_and(|number| number > 0) && matches!(protocol, "tcp" | "udp") {
        return Some(format!("{number}/{protocol}"));
    }
    let message = format!("{:?} is not a port", port.value);
    let remedy = "write a number from 1 to 65535, and /udp behind it if it is not TCP";
    reader.push(Mistake::new(Code::BAD_PORT, port.span.clone(), message, remedy));
    None
}
