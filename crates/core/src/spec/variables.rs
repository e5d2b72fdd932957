//! Environment variables that refer to each other: `${NAME}` in a value stands for the value of another entry.

use std::collections::BTreeMap;

use super::{At, rules};
use crate::mistake::{Code, Mistake, nearest};

/// One stretch of a value.
#[derive(Debug, PartialEq, Eq)]
enum Piece<'a> {
    Plain(&'a str),
    Name(&'a str),
}

/// Cuts a value at its references. `$${` stands for `${`; a `${` without an end is plain text.
fn pieces(text: &str) -> Vec<Piece<'_>> {
    let mut pieces = Vec::new();
    let mut rest = text;
    while let Some(at) = rest.find("${") {
        if rest[..at].ends_with('$') {
            pieces.push(Piece::Plain(&rest[..at - 1]));
            pieces.push(Piece::Plain("${"));
            rest = &rest[at + 2..];
            continue;
        }
        let Some(length) = rest[at + 2..].find('}') else { break };
        pieces.push(Piece::Plain(&rest[..at]));
        pieces.push(Piece::Name(&rest[at + 2..at + 2 + length]));
        rest = &rest[at + 3 + length..];
    }
    pieces.push(Piece::Plain(rest));
    pieces.retain(|piece| *piece != Piece::Plain(""));
    pieces
}

/// The longest that values may grow to by referring to each other.
const LONGEST: usize = 128 * 1024;

/// How many may refer to each other in a row.
const DEEPEST: usize = 64;

/// Fills in what `own` refers to: entries of `own` itself, then of `outer`, whose values are filled in already.
pub(super) fn fill_in(
    own: &BTreeMap<String, At<String>>,
    outer: &BTreeMap<String, At<String>>,
    mistakes: &mut Vec<Mistake>,
) -> BTreeMap<String, At<String>> {
    let mut filler = Filler { own, outer, done: BTreeMap::new(), under_way: Vec::new(), mistakes };
    for name in own.keys() {
        filler.value(name);
    }
    let value = |(name, at): (&String, &At<String>)| {
        let value = filler.done.get(name).cloned().unwrap_or_default();
        (name.clone(), At { value, span: at.span.clone() })
    };
    own.iter().map(value).collect()
}

struct Filler<'a> {
    own: &'a BTreeMap<String, At<String>>,
    outer: &'a BTreeMap<String, At<String>>,
    done: BTreeMap<String, String>,
    under_way: Vec<String>,
    mistakes: &'a mut Vec<Mistake>,
}

impl Filler<'_> {
    fn value(&mut self, name: &str) -> String {
        if let Some(value) = self.done.get(name) {
            return value.clone();
        }
        let Some(at) = self.own.get(name) else { return String::new() };
        self.under_way.push(name.to_owned());
        let mut value = String::new();
        let too_deep = self.under_way.len() > DEEPEST;
        for piece in pieces(&at.value).into_iter().filter(|_| !too_deep) {
            match piece {
                Piece::Plain(text) => value.push_str(text),
                Piece::Name(other) => value.push_str(&self.reference(name, at, other)),
            }
            if value.len() > LONGEST {
                break;
            }
        }
        if too_deep || value.len() > LONGEST {
            let message = if too_deep {
                format!("more than {DEEPEST} variables refer to each other in a row, up to {name}")
            } else {
                format!("{name} grows longer than {} KiB by what it refers to", LONGEST >> 10)
            };
            self.mistakes.push(Mistake::new(Code::BAD_VARIABLE, at.span.clone(), message, "refer to less"));
            value.clear();
        }
        self.under_way.pop();
        self.done.insert(name.to_owned(), value.clone());
        value
    }

    fn reference(&mut self, name: &str, at: &At<String>, other: &str) -> String {
        // An entry of a step may build on the one of the same name in [env].
        let to_outer = name == other || !self.own.contains_key(other);
        if to_outer && let Some(value) = self.outer.get(other) {
            return value.value.clone();
        }
        if !self.own.contains_key(other) {
            if rules::OWN_VARIABLES.contains(&other) {
                let message = format!("{name} refers to {other}, which only programs inside have");
                let remedy = match other {
                    "HOME" => "write /home/ and the account's name: /home/crew".to_owned(),
                    "PATH" => "add directories with [workspace] path = [\"/opt/tool/bin\"]".to_owned(),
                    _ => "write its value".to_owned(),
                };
                self.mistakes.push(Mistake::new(Code::UNKNOWN_VARIABLE, at.span.clone(), message, remedy));
                return String::new();
            }
            let known = self.own.keys().chain(self.outer.keys()).map(String::as_str);
            let remedy = match nearest(other, known) {
                Some(meant) => format!("write ${{{meant}}}, or $${{ for the two letters ${{"),
                None => format!("add {other} to [env], or write $${{ for the two letters ${{"),
            };
            let message = format!("{name} refers to {other}, which is not an entry of [env]");
            self.mistakes.push(Mistake::new(Code::UNKNOWN_VARIABLE, at.span.clone(), message, remedy));
            return String::new();
        }
        if self.under_way.iter().any(|started| started == other) {
            let there = self.own.get(other).map(|other| other.span.clone()).unwrap_or_default();
            let message = format!("{name} and {other} refer to each other");
            let message = if name == other { format!("{name} refers to itself") } else { message };
            let mut mistake =
                Mistake::new(Code::VARIABLE_CYCLE, at.span.clone(), message, "write one of them without the other");
            if name != other {
                mistake = mistake.noting("this one").against(there, "and this one");
            }
            self.mistakes.push(mistake);
            return String::new();
        }
        self.value(other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_cut_at_their_references() {
        assert_eq!(pieces("a${B}c"), [Piece::Plain("a"), Piece::Name("B"), Piece::Plain("c")]);
        assert_eq!(pieces("$${B}"), [Piece::Plain("${"), Piece::Plain("B}")]);
        assert_eq!(pieces("$A ${"), [Piece::Plain("$A ${")]);
        assert_eq!(pieces(""), []);
    }

    #[test]
    fn a_value_may_not_explode() {
        let at = |value: String| At { value, span: 0..0 };
        let mut env = BTreeMap::from([("V00".to_owned(), at("ten letter".to_owned()))]);
        for level in 1..30 {
            env.insert(format!("V{level:02}"), at(format!("${{V{:02}}}", level - 1).repeat(10)));
        }
        let mut mistakes = Vec::new();
        let filled = fill_in(&env, &BTreeMap::new(), &mut mistakes);
        assert!(filled.values().all(|at| at.value.len() <= LONGEST));
        assert_eq!(mistakes[0].code, Code::BAD_VARIABLE);
    }
}
