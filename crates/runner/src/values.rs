//! What a script's texts can name while it plays: variables and secrets.

use cadentis_core::journey::text::{Used, fill};
use cadentis_core::journey::{Ladder, Send};
use std::collections::HashMap;

/// Why a text could not be filled.
pub enum Unfilled {
    /// The script's own doing.
    Variable(String),
    /// Nobody gave this secret to the runner.
    Secret(String),
}

#[derive(Default)]
pub struct Values {
    variables: HashMap<String, String>,
    secrets: HashMap<String, String>,
}

impl Values {
    pub fn new(given: [(&str, String); 3], secrets: &HashMap<String, String>) -> Values {
        let variables = given.into_iter().map(|(n, v)| (n.to_string(), v)).collect();
        Values { variables, secrets: secrets.clone() }
    }

    pub fn set(&mut self, name: &str, value: String) {
        self.variables.insert(name.to_string(), value);
    }

    pub fn text(&self, text: &str) -> Result<String, Unfilled> {
        let value = |used: Used<'_>| match used {
            Used::Variable(name) => self.variables.get(name).cloned(),
            Used::Secret(name) => self.secrets.get(name).cloned(),
        };
        fill(text, value).map_err(|used| match used {
            Used::Variable(name) => Unfilled::Variable(name.into()),
            Used::Secret(name) => Unfilled::Secret(name.into()),
        })
    }

    pub fn ladder(&self, ladder: &Ladder) -> Result<Ladder, Unfilled> {
        ladder.map(&|text| self.text(text))
    }

    pub fn send(&self, send: &Send) -> Result<Send, Unfilled> {
        Ok(Send {
            method: send.method.clone(),
            address: self.text(&send.address)?,
            headers: send
                .headers
                .iter()
                .map(|(n, v)| Ok((n.clone(), self.text(v)?)))
                .collect::<Result<_, _>>()?,
            body: send.body.as_deref().map(|b| self.text(b)).transpose()?,
        })
    }
}
