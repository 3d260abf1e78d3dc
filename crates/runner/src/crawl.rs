//! Links, looked at one after another: the pages an address leads to, and whether they are there.
//!
//! Pages are read as they are served; what their scripts add is not seen. One request at a time: whoever is looked
//! at shall not feel it.

use crate::play::{Done, Player, Stop, clock};
use cadentis_core::journey::Send;
use cadentis_core::run::Link;
use html5gum::{Token, Tokenizer};
use std::collections::{BTreeSet, HashSet, VecDeque};
use std::time::Duration;
use tokio::time::Instant;
use url::Url;

/// How far to go.
#[derive(Debug, Clone, Copy)]
pub struct Most {
    pub links: usize,
    pub deep: u32,
    /// Hosts whose pages are followed; the others' are only looked at.
    pub hosts: usize,
}

/// Redirects are followed so often; a browser gives up after 20 (Fetch, section 4.5), a crawl sooner.
const REDIRECTS: usize = 10;
/// No single answer may take longer.
const ANSWER: Duration = Duration::from_secs(15);

struct Waiting {
    address: Url,
    on: String,
    text: String,
    depth: u32,
}

/// What an address answered, after redirects.
struct Answered {
    status: u16,
    failed: Option<String>,
    /// Where it ended, and the page there.
    at: Url,
    page: String,
}

impl Player<'_> {
    pub(crate) async fn crawl(&mut self, from: &str, most: Most) -> Result<Done, Stop> {
        let began = clock();
        let until = Instant::now() + self.doing.patience;
        let begin =
            Url::parse(from).map_err(|e| Stop::Unmet(format!("{from} is no address ({e}).")))?;
        let mut hosts: BTreeSet<String> = begin.host_str().map(String::from).into_iter().collect();
        let mut known: HashSet<String> = HashSet::from([begin.to_string()]);
        let mut waiting = VecDeque::from([Waiting {
            address: begin,
            on: String::new(),
            text: String::new(),
            depth: 0,
        }]);
        while let Some(link) = waiting.pop_front() {
            if Instant::now() > until {
                let seen = self.doing.links.len();
                let secs = self.doing.patience.as_secs();
                let left = waiting.len() + 1;
                return Err(Stop::Unmet(format!(
                    "The crawl had looked at {seen} links after {secs} s, with {left} known and not looked at; give it longer with `up to`, or fewer links."
                )));
            }
            let begun = clock();
            let answered = self.follow_redirects(&link.address).await;
            let own = answered.at.host_str().is_some_and(|h| hosts.contains(h));
            self.doing.links.push(Link {
                address: link.address.to_string(),
                status: answered.status,
                failed: answered.failed,
                on: link.on,
                text: link.text,
                depth: link.depth,
                ms: clock() - begun,
            });
            if link.depth >= most.deep || answered.status >= 400 || !own {
                continue;
            }
            for (address, text) in links_of(&answered.page, &answered.at) {
                if known.len() >= most.links {
                    break;
                }
                if !known.insert(address.to_string()) {
                    continue;
                }
                if let Some(host) = address.host_str().filter(|_| hosts.len() < most.hosts) {
                    hosts.insert(host.to_string());
                }
                waiting.push_back(Waiting {
                    address,
                    on: answered.at.to_string(),
                    text,
                    depth: link.depth + 1,
                });
            }
        }
        Ok(Done::acted(began, clock()))
    }

    async fn follow_redirects(&mut self, address: &Url) -> Answered {
        let mut at = address.clone();
        for _ in 0..=REDIRECTS {
            let send = Send {
                method: "GET".into(),
                address: at.to_string(),
                headers: Vec::new(),
                body: None,
            };
            let begun = clock();
            let (record, answer) = self.wire.send(&send, ANSWER).await;
            if let Ok(mut evidence) = self.evidence.lock() {
                evidence.add(begun, record);
            }
            let answer = match answer {
                Ok(answer) => answer,
                Err(e) => {
                    return Answered {
                        status: 0,
                        failed: Some(e.to_string()),
                        at,
                        page: String::new(),
                    };
                }
            };
            let header = |name: &str| {
                answer.headers.iter().find(|(n, _)| n == name).map(|(_, v)| v.as_str())
            };
            if (300..400).contains(&answer.status)
                && let Some(next) = header("location").and_then(|l| at.join(l).ok())
            {
                at = next;
                continue;
            }
            let is_page = header("content-type").is_some_and(|t| t.starts_with("text/html"));
            let page = if is_page { answer.body } else { String::new() };
            return Answered { status: answer.status, failed: None, at, page };
        }
        let failed = Some(format!("more than {REDIRECTS} redirects"));
        Answered { status: 0, failed, at, page: String::new() }
    }
}

/// The addresses a page leads to or asks for, each with its words or its kind of element, without what follows a #.
fn links_of(page: &str, at: &Url) -> Vec<(Url, String)> {
    let mut base = at.clone();
    let mut found: Vec<(Url, String)> = Vec::new();
    // The link whose words are being read.
    let mut open: Option<usize> = None;
    for token in Tokenizer::new(page).flatten() {
        match token {
            Token::StartTag(tag) => {
                let name = String::from_utf8_lossy(&tag.name).into_owned();
                let of = |attribute: &str| {
                    let value = tag.attributes.get(attribute.as_bytes())?;
                    Some(String::from_utf8_lossy(value).trim().to_string())
                };
                let leads = match name.as_str() {
                    "base" => {
                        if let Some(joined) = of("href").and_then(|h| at.join(&h).ok()) {
                            base = joined;
                        }
                        None
                    }
                    "a" | "area" => of("href"),
                    "link"
                        if of("rel").is_some_and(|r| {
                            r.contains("preconnect") || r.contains("dns-prefetch")
                        }) =>
                    {
                        None
                    }
                    "link" => of("href"),
                    "img" | "script" | "iframe" | "source" => of("src"),
                    _ => None,
                };
                let Some(mut address) =
                    leads.filter(|l| !l.is_empty()).and_then(|l| base.join(&l).ok())
                else {
                    continue;
                };
                if !["http", "https"].contains(&address.scheme()) {
                    continue;
                }
                address.set_fragment(None);
                open = (name == "a").then_some(found.len());
                let text = if name == "a" { String::new() } else { name };
                found.push((address, text));
            }
            Token::EndTag(tag) if *tag.name == *b"a" => open = None,
            Token::String(words) => {
                if let Some((_, text)) = open.and_then(|i| found.get_mut(i)) {
                    let words = String::from_utf8_lossy(&words)
                        .split_whitespace()
                        .collect::<Vec<_>>()
                        .join(" ");
                    let joined = format!("{text} {words}");
                    *text = joined.trim().chars().take(80).collect();
                }
            }
            _ => {}
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_a_page_leads_to_is_found_with_its_words_and_joined_to_its_base() {
        let page = r##"<!doctype html><base href="/shop/"><a href="a?x=1#top">One <b>link</b></a><a href=mailto:x@y>mail</a>
            <img src=//pics.example/p.png><link rel=preconnect href=https://cdn.example><script src="app.js"></script>
            <!-- <a href="/hidden">not there</a> --><a>no address</a><a href="">empty</a>"##;
        let at = Url::parse("http://a.example/deep/page").expect("an address");
        let found: Vec<(String, String)> =
            links_of(page, &at).into_iter().map(|(u, t)| (u.to_string(), t)).collect();
        let wanted = [
            ("http://a.example/shop/a?x=1", "One link"),
            ("http://pics.example/p.png", "img"),
            ("http://a.example/shop/app.js", "script"),
        ];
        assert_eq!(found, wanted.map(|(u, t)| (u.to_string(), t.to_string())));
    }
}
