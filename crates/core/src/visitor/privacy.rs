//! What is taken away before anything is stored.

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

/// An address without its query and fragment, where tokens and names hide.
pub fn cut_query(url: &str) -> &str {
    url.split(['?', '#']).next().unwrap_or("")
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
    fn queries_and_fragments_are_cut() {
        assert_eq!(cut_query("https://a.example/p?token=1#x"), "https://a.example/p");
        assert_eq!(cut_query("https://a.example/p#token=1?x"), "https://a.example/p");
    }
}
