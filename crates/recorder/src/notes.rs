//! What people should know about a step's network when the step failed, or was recorded.

use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};

/// Notes that are kept; a step that tries more says the same again and again.
const MOST: usize = 50;

/// What was noticed.
#[derive(Debug, Default)]
pub struct Notes {
    names: Mutex<BTreeSet<String>>,
    asked: Mutex<BTreeSet<String>>,
    refused: Mutex<Vec<String>>,
}

impl Notes {
    pub(crate) fn looked_for(&self, name: &str) {
        let mut names = self.names.lock().unwrap_or_else(PoisonError::into_inner);
        if names.len() < MOST {
            names.insert(name.to_owned());
        }
    }

    pub(crate) fn asked(&self, host: &str) {
        let name = host.split(':').next().unwrap_or(host);
        let mut asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        if asked.len() < MOST && !asked.contains(name) {
            asked.insert(name.to_owned());
        }
    }

    pub(crate) fn refused(&self, what: String) {
        let mut refused = self.refused.lock().unwrap_or_else(PoisonError::into_inner);
        if refused.len() < MOST && !refused.contains(&what) {
            refused.push(what);
        }
    }

    /// What was refused, in words, each once and the first first.
    pub fn refusals(&self) -> Vec<String> {
        self.refused.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Names that were looked for, and whose hosts were then asked nothing by http or https.
    pub fn unasked(&self) -> Vec<String> {
        let names = self.names.lock().unwrap_or_else(PoisonError::into_inner);
        let asked = self.asked.lock().unwrap_or_else(PoisonError::into_inner);
        names.iter().filter(|name| !asked.contains(*name)).cloned().collect()
    }
}
