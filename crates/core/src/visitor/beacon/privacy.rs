//! What is taken away before anything is stored.

use hmac::{Hmac, KeyInit, Mac};
use sha2::{Digest, Sha256};
use std::net::IpAddr;

/// The address with the part that tells one household from another set to zero: IPv4 keeps /24,
/// IPv6 keeps /48 (common practice, no published source). An IPv4 address written as IPv6 is
/// masked as IPv4.
pub fn mask(ip: IpAddr) -> IpAddr {
    match ip.to_canonical() {
        IpAddr::V4(v4) => {
            let [a, b, c, _] = v4.octets();
            IpAddr::from([a, b, c, 0])
        }
        IpAddr::V6(v6) => {
            let [a, b, c, ..] = v6.segments();
            IpAddr::from([a, b, c, 0, 0, 0, 0, 0])
        }
    }
}

/// Makes of a person's id what is kept of it. The key is the server's alone: whoever has the database, and the site's
/// public key, cannot try ids out.
#[derive(Clone)]
pub struct PersonKey([u8; 32]);

impl std::fmt::Debug for PersonKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("PersonKey(…)")
    }
}

impl PersonKey {
    /// Out of a secret that the server has for other things, too: nothing that is made with the one tells of the other.
    pub fn derived(secret: &[u8]) -> PersonKey {
        PersonKey(hmac(secret, &[b"cadentis person ids 1"]))
    }

    /// What is kept of the id that a page gives for a person: the first eight bytes of HMAC-SHA-256 (RFC 2104) over
    /// the site's key and the id, so that the same person is known again within the site. 0, nobody, for no id.
    pub fn person(&self, site_key: &str, id: &str) -> u64 {
        match id {
            "" => 0,
            _ => first_eight(&hmac(&self.0, &[site_key.as_bytes(), &[0], id.as_bytes()])),
        }
    }
}

fn hmac(key: &[u8], pieces: &[&[u8]]) -> [u8; 32] {
    // A key of any length will do for HMAC; the empty answer stands for what cannot happen.
    let Ok(mac) = Hmac::<Sha256>::new_from_slice(key) else { return [0; 32] };
    pieces.iter().fold(mac, |mac, piece| mac.chain_update(piece)).finalize().into_bytes().into()
}

fn first_eight(hash: &[u8]) -> u64 {
    u64::from_be_bytes(hash.first_chunk().copied().unwrap_or([1; 8])).max(1)
}

/// What was kept of a person's id before the server had a key for it: SHA-256 over the site's public key and the id.
/// Only looked for, until the last of these have left with their time; never stored.
pub fn person_of_before(site_key: &str, id: &str) -> u64 {
    match id {
        "" => 0,
        _ => first_eight(
            &Sha256::new().chain_update(site_key).chain_update([0]).chain_update(id).finalize(),
        ),
    }
}

/// An address without its query and fragment, where tokens and names hide.
pub fn cut_query(url: &str) -> &str {
    url.split(['?', '#']).next().unwrap_or("")
}

/// A text with the queries and fragments of all addresses in it cut: stacks and messages quote addresses whole.
pub fn cut_queries(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(at) = rest.find("://").map(|at| at + 3) {
        // What stands before an address may hold a question mark of its own.
        let (before, address) = rest.split_at(at);
        out.push_str(before);
        let ends = |c: char| c.is_whitespace() || matches!(c, ')' | '"' | '\'' | '>');
        let (address, after) = address.split_at(address.find(ends).unwrap_or(address.len()));
        out.push_str(cut_query(address));
        // Line and column stand behind the query.
        if let Some(query) = address.find(['?', '#']).map(|n| &address[n..]) {
            let place = query.trim_end_matches(|c: char| c.is_ascii_digit() || c == ':');
            let place = &query[place.len()..];
            out.push_str(place.find(':').map_or("", |n| &place[n..]));
        }
        rest = after;
    }
    out + rest
}

/// An address whose query has only these parameters left, in the order of the address.
pub fn keep_query(url: &str, names: &[String]) -> String {
    let cut = cut_query(url);
    let query =
        url.split('#').next().and_then(|u| u.split_once('?')).map_or("", |(_, query)| query);
    let kept: Vec<&str> = query
        .split('&')
        .filter(|pair| names.iter().any(|n| pair.split('=').next() == Some(n.as_str())))
        .collect();
    if kept.is_empty() { cut.to_string() } else { format!("{cut}?{}", kept.join("&")) }
}

/// Whether the browser names itself as a program that visits pages on its own.
///
/// Such programs follow the convention of saying so in words (common practice, no published
/// source); those that hide are not caught by a name.
pub fn is_bot(user_agent: &str) -> bool {
    let ua = user_agent.to_ascii_lowercase();
    ua.is_empty()
        || [
            "bot", "crawl", "spider", "slurp", "headless", "preview", "http://", "https://",
            "python", "curl/", "wget/",
        ]
        .iter()
        .any(|word| ua.contains(word))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_keep_their_network_and_lose_the_household() {
        for (ip, want) in [
            ("198.51.100.77", "198.51.100.0"),
            ("2001:db8:1:2:3:4:5:6", "2001:db8:1::"),
            ("::ffff:198.51.100.77", "198.51.100.0"),
        ] {
            assert_eq!(mask(ip.parse().unwrap()).to_string(), want);
        }
    }

    #[test]
    fn a_person_is_known_again_on_the_same_site_only_and_not_by_name() {
        // The hash of "key", a zero byte and "ada" as sha256sum prints it.
        assert_eq!(format!("{:016x}", person_of_before("key", "ada")), "37592a0d12edcc9d");
        let (ours, others) = (PersonKey::derived(b"one secret"), PersonKey::derived(b"another"));
        assert_ne!(ours.person("key", "ada"), person_of_before("key", "ada"));
        assert_ne!(
            ours.person("key", "ada"),
            others.person("key", "ada"),
            "the server's key matters"
        );
        assert_ne!(ours.person("key", "ada"), ours.person("other", "ada"));
        assert_ne!(ours.person("key", "ada"), ours.person("key", "eve"));
        assert_eq!(ours.person("key", "ada"), ours.clone().person("key", "ada"));
        assert_eq!(ours.person("key", ""), 0);
    }

    #[test]
    fn the_keyed_hash_is_the_one_of_the_standard() {
        // RFC 4231, section 4.3 (test case 2).
        let hash = hmac(b"Jefe", &[b"what do ya want ", b"for nothing?"]);
        let text: String = hash.iter().map(|b| format!("{b:02x}")).collect();
        assert_eq!(text, "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843");
    }

    #[test]
    fn queries_and_fragments_are_cut() {
        assert_eq!(cut_query("https://a.example/p?token=1#x"), "https://a.example/p");
        assert_eq!(cut_query("https://a.example/p#token=1?x"), "https://a.example/p");
        let stack = "Error: https://a.example/p?t=1 is gone\n    at f (https://a.example/s.js?v=3:12:7)\n  at https://a.example/#x:1:2";
        let cut = "Error: https://a.example/p is gone\n    at f (https://a.example/s.js:12:7)\n  at https://a.example/:1:2";
        assert_eq!(cut_queries(stack), cut);
        assert_eq!(cut_queries("what? no address"), "what? no address");
        assert_eq!(
            cut_queries("Unexpected '?' at https://a.example/s.js:1:2"),
            "Unexpected '?' at https://a.example/s.js:1:2"
        );
        let keep = |url| keep_query(url, &["q".to_string(), "page".to_string()]);
        assert_eq!(
            keep("https://a.example/p?token=1&q=ferry&quiet=1&page=2#x"),
            "https://a.example/p?q=ferry&page=2"
        );
        assert_eq!(keep("https://a.example/p?token=1"), "https://a.example/p");
        assert_eq!(keep("https://a.example/p#?q=1"), "https://a.example/p");
    }
}
