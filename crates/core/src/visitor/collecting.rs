//! What a site lets be collected from its visitors, and for how long.

use super::beacon::is_label_name;
use serde::{Deserialize, Serialize};

/// Settings that the snippet gets with the site's own copy of it, and the intake holds to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Collecting {
    /// Share of visits that report, over 0 to 1.
    pub sample: f64,
    /// Names of query parameters that are kept; all others are cut.
    pub keep: Vec<String>,
    /// Phrases that must not appear in a page; only which one was found is sent.
    pub phrases: Vec<String>,
    /// Origins whose requests get a traceparent.
    pub trace: Vec<String>,
    /// Nothing is sent before the page says that the visitor agreed.
    pub consent: bool,
}

impl Default for Collecting {
    fn default() -> Collecting {
        Collecting { sample: 1.0, keep: vec![], phrases: vec![], trace: vec![], consent: false }
    }
}

/// No site has more of each.
const MOST: usize = 20;

impl Collecting {
    /// # Errors
    /// Which setting cannot be, and what would be right.
    pub fn check(&self) -> Result<(), String> {
        if !(self.sample > 0.0 && self.sample <= 1.0) {
            return Err(format!("The share of visits is over 0 and at most 1, not {}.", self.sample));
        }
        for (what, list) in [("query parameters", &self.keep), ("phrases", &self.phrases), ("origins", &self.trace)] {
            if list.len() > MOST {
                return Err(format!("At most {MOST} {what}; these are {}.", list.len()));
            }
        }
        if let Some(name) = self.keep.iter().find(|n| !is_label_name(n)) {
            return Err(format!("“{name}” is no name of a query parameter: a letter, then letters, digits, - and _."));
        }
        if let Some(phrase) = self.phrases.iter().find(|p| p.chars().count() < 4 || p.chars().count() > 120) {
            return Err(format!("A phrase has 4 to 120 characters; “{phrase}” has {}.", phrase.chars().count()));
        }
        let is_origin = |o: &str| {
            let rest = o.strip_prefix("https://").or_else(|| o.strip_prefix("http://"));
            rest.is_some_and(|host| !host.is_empty() && !host.contains(['/', '?', '#', ' ']))
        };
        if let Some(origin) = self.trace.iter().find(|o| !is_origin(o)) {
            return Err(format!("“{origin}” is no origin: https:// and a host, such as https://api.marram.example."));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_setting_that_cannot_be_is_named_with_what_would_be_right() {
        let usual = Collecting::default();
        let with = |change: fn(&mut Collecting)| {
            let mut c = Collecting::default();
            change(&mut c);
            c.check().unwrap_err()
        };
        assert_eq!(usual.check(), Ok(()));
        assert_eq!(with(|c| c.sample = 0.0), "The share of visits is over 0 and at most 1, not 0.");
        assert!(with(|c| c.sample = f64::NAN).contains("not NaN"));
        assert!(with(|c| c.keep = vec!["a b".into()]).starts_with("“a b” is no name"));
        assert!(with(|c| c.phrases = vec!["abc".into()]).ends_with("“abc” has 3."));
        assert!(with(|c| c.trace = vec!["api.example/x".into()]).contains("is no origin"));
        assert_eq!(with(|c| c.keep = vec!["a".into(); 21]), "At most 20 query parameters; these are 21.");
    }
}
