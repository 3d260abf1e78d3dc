//! Links that were looked at: what came back, and where they stand.

use serde::{Deserialize, Serialize};

/// One address that pages lead to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Link {
    /// Where it leads.
    pub address: String,
    /// Status of the answer, after redirects; 0 when none came.
    pub status: u16,
    /// Why no answer came, or what else is wrong with it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed: Option<String>,
    /// The first page that leads there; empty for the address it began with.
    pub on: String,
    /// The words, or the kind of element, that lead there.
    pub text: String,
    /// How many links away from the beginning.
    pub depth: u32,
    /// From the first request to the end of the last answer, in milliseconds.
    pub ms: f64,
}

impl Link {
    /// No answer, or one that says that there is nothing. A page that wants to know who one is (401, 403) or how
    /// often one asks (429) is there.
    pub fn is_broken(&self) -> bool {
        self.failed.is_some()
            || self.status == 0
            || (self.status >= 400 && ![401, 403, 429].contains(&self.status))
    }

    /// One sentence on the links that lead nowhere; `None` when all lead somewhere.
    pub fn complaint(all: &[Link]) -> Option<String> {
        let broken: Vec<&Link> = all.iter().filter(|l| l.is_broken()).collect();
        let first = broken.first()?;
        let how = first.failed.clone().unwrap_or_else(|| format!("status {}", first.status));
        let on = if first.on.is_empty() { String::new() } else { format!(" on {}", first.on) };
        let more = if broken.len() > 1 {
            format!(", and {} more", broken.len() - 1)
        } else {
            String::new()
        };
        Some(format!(
            "{} of {} links are broken: {} ({how}){on}{more}.",
            broken.len(),
            all.len(),
            first.address
        ))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_link_is_broken_when_nothing_is_there_not_when_it_wants_to_know_who_asks() {
        let link = |status, failed: Option<&str>| Link {
            address: format!("http://a.example/{status}"),
            status,
            failed: failed.map(String::from),
            on: "http://a.example/".into(),
            text: "x".into(),
            depth: 1,
            ms: 1.0,
        };
        let all = [
            link(200, None),
            link(404, None),
            link(403, None),
            link(0, Some("no answer")),
            link(302, Some("in circles")),
        ];
        assert_eq!(
            all.iter().map(Link::is_broken).collect::<Vec<_>>(),
            [false, true, false, true, true]
        );
        assert_eq!(
            Link::complaint(&all).as_deref(),
            Some(
                "3 of 5 links are broken: http://a.example/404 (status 404) on http://a.example/, and 2 more."
            )
        );
        assert_eq!(Link::complaint(&all[..1]), None);
    }
}
