//! Under which name a host is registered.
//!
//! A crate of its own: the list is code of ten thousand branches, and whoever calls it translates it again.

/// The name under which a host is registered, without its port; of an address the address.
pub fn registered(host: &str) -> &str {
    let name = match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => host,
    };
    // Not every host has a name below a public one: addresses end in a number, and hosts of a test may be one word.
    match name.rsplit('.').next() {
        Some(last) if last.bytes().all(|b| b.is_ascii_digit()) => name,
        _ => psl::domain_str(name).unwrap_or(name),
    }
}

#[cfg(test)]
mod tests {
    use super::registered;

    #[test]
    fn a_host_is_registered_below_a_public_suffix() {
        // Public Suffix List, publicsuffix.org: its own test vectors for names that are there.
        for (host, name) in [
            ("example.com", "example.com"),
            ("b.example.com", "example.com"),
            ("a.b.example.com", "example.com"),
            ("uk.com", "uk.com"),
            ("a.b.example.uk.com", "example.uk.com"),
            ("test.ac", "test.ac"),
            ("www.test.ac.jp", "test.ac.jp"),
            ("a.b.c.kobe.jp", "b.c.kobe.jp"),
            ("www.city.kobe.jp", "city.kobe.jp"),
            ("www.www.ck", "www.ck"),
            ("www.test.k12.ak.us", "test.k12.ak.us"),
            ("www.食狮.com.cn", "食狮.com.cn"),
        ] {
            assert_eq!(registered(host), name, "{host}");
        }
    }

    #[test]
    fn an_address_and_a_word_alone_are_their_own_names_and_a_port_is_none() {
        for (host, name) in [
            ("127.0.0.1", "127.0.0.1"),
            ("127.0.0.1:81", "127.0.0.1"),
            ("[::1]:81", "[::1]"),
            ("localhost:7171", "localhost"),
        ] {
            assert_eq!(registered(host), name, "{host}");
        }
        assert_eq!(registered("www.marram.example:443"), "marram.example");
        assert_eq!((registered(""), registered("co.uk"), registered("..")), ("", "co.uk", ".."));
    }
}
