//! What a script's texts can name while it plays: variables and secrets.

use cadentis_core::journey::text::{Used, fill, used};
use cadentis_core::journey::{Ladder, Send};
use cadentis_core::visitor::beacon::owns;
use std::collections::HashMap;

/// Why a text could not be filled.
pub enum Unfilled {
    /// The script's own doing.
    Variable(String),
    /// Nobody gave this secret to the runner.
    Secret(String),
    /// This secret is for other hosts than this one.
    NotHere { secret: String, host: String, hosts: Vec<String> },
}

#[derive(Default)]
pub struct Values {
    variables: HashMap<String, String>,
    secrets: HashMap<String, String>,
    /// Hosts that each secret is for, with everything below; one that is not named is for any.
    hosts: HashMap<String, Vec<String>>,
}

impl Values {
    pub fn new(
        given: [(&str, String); 3],
        secrets: &HashMap<String, String>,
        hosts: &HashMap<String, Vec<String>>,
    ) -> Values {
        let variables = given.into_iter().map(|(n, v)| (n.to_string(), v)).collect();
        Values { variables, secrets: secrets.clone(), hosts: hosts.clone() }
    }

    /// That every secret which a text names may be shown to this host: a script, or a page that it is led to, can ask for
    /// one anywhere.
    pub fn may_go_to(&self, text: &str, host: &str) -> Result<(), Unfilled> {
        for used in used(text) {
            let Used::Secret(name) = used else { continue };
            let Some(hosts) = self.hosts.get(name) else { continue };
            if !owns(hosts, host) {
                return Err(Unfilled::NotHere {
                    secret: name.into(),
                    host: host.into(),
                    hosts: hosts.clone(),
                });
            }
        }
        Ok(())
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
        let address = self.text(&send.address)?;
        let host = url::Url::parse(&address).ok();
        let host = host.as_ref().and_then(url::Url::host_str).unwrap_or_default();
        let texts = send.headers.iter().map(|(_, value)| value).chain(&send.body);
        for text in texts.chain([&send.address]) {
            self.may_go_to(text, host)?;
        }
        Ok(Send {
            method: send.method.clone(),
            address,
            headers: send
                .headers
                .iter()
                .map(|(n, v)| Ok((n.clone(), self.text(v)?)))
                .collect::<Result<_, _>>()?,
            body: send.body.as_deref().map(|b| self.text(b)).transpose()?,
        })
    }
}
