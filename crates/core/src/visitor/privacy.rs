//! What is taken away before anything is stored.

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

/// What is kept of the id that a page gives for a person: the first eight bytes of SHA-256 over the site's key and the
/// id, so that the same person is known again within the site and nothing leads back. 0, nobody, for no id.
pub fn person(site_key: &str, id: &str) -> u64 {
    if id.is_empty() {
        return 0;
    }
    let hash = Sha256::new().chain_update(site_key).chain_update([0]).chain_update(id).finalize();
    u64::from_be_bytes(hash.as_slice().first_chunk().copied().unwrap_or([1; 8])).max(1)
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
    let query = url.split('#').next().and_then(|u| u.split_once('?')).map_or("", |(_, query)| query);
    let kept: Vec<&str> =
        query.split('&').filter(|pair| names.iter().any(|n| pair.split('=').next() == Some(n.as_str()))).collect();
    if kept.is_empty() { cut.to_string() } else { format!("{cut}?{}", kept.join("&")) }
}

/// Whether the browser names itself as a program that visits pages on its own.
///
/// Such programs follow the convention of saying so in words (common practice, no published
/// source); those that hide are not caught by a name.
pub fn is_bot(user_agent: &str) -> bool {
    let ua = user_agent.to_ascii_lowercase();
    ua.is_empty()
        || ["bot", "crawl", "spider", "slurp", "headless", "preview", "http://", "https://", "python", "curl/", "wget/"]
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
        assert_eq!(format!("{:016x}", person("key", "ada")), "37592a0d12edcc9d");
        assert_ne!(person("key", "ada"), person("other", "ada"));
        assert_ne!(person("key", "ada"), person("key", "eve"));
        assert_eq!(person("key", ""), 0);
    }

    #[test]
    fn queries_and_fragments_are_cut() {
        assert_eq!(cut_query("https://a.example/p?token=1#x"), "https://a.example/p");
        assert_eq!(cut_query("https://a.example/p#token=1?x"), "https://a.example/p");
        let stack = "Error: https://a.example/p?t=1 is gone\n    at f (https://a.example/s.js?v=3:12:7)\n  at https://a.example/#x:1:2";
        let cut =
            "Error: https://a.example/p is gone\n    at f (https://a.example/s.js:12:7)\n  at https://a.example/:1:2";
        assert_eq!(cut_queries(stack), cut);
        assert_eq!(cut_queries("what? no address"), "what? no address");
        assert_eq!(
            cut_queries("Unexpected '?' at https://a.example/s.js:1:2"),
            "Unexpected '?' at https://a.example/s.js:1:2"
        );
        let keep = |url| keep_query(url, &["q".to_string(), "page".to_string()]);
        assert_eq!(keep("https://a.example/p?token=1&q=ferry&quiet=1&page=2#x"), "https://a.example/p?q=ferry&page=2");
        assert_eq!(keep("https://a.example/p?token=1"), "https://a.example/p");
        assert_eq!(keep("https://a.example/p#?q=1"), "https://a.example/p");
    }
}
