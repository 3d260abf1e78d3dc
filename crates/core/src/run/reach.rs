//! What a location may reach: web addresses only, and none of the networks that are denied to it.
//!
//! Whoever writes a script chooses what a runner opens. A runner in somebody's data centre stands beside machines that trust
//! their neighbours, first of all those that hand out credentials.

use ipnet::IpNet;
use serde::{Deserialize, Serialize};
use std::net::IpAddr;

/// Networks that are denied to public locations unless somebody says otherwise: this machine itself, addresses that lead
/// no further than its own link (RFC 3927, RFC 4291) and where clouds hand out credentials (common practice, no published
/// source).
pub const DENIED_TO_PUBLIC: [&str; 8] = [
    "0.0.0.0/8",
    "127.0.0.0/8",
    "169.254.0.0/16",
    "100.100.100.200/32",
    "::/128",
    "::1/128",
    "fe80::/10",
    "fd00:ec2::254/128",
];

/// Private networks (RFC 1918, RFC 4193): what stands in them trusts its neighbours.
const PRIVATE: [&str; 4] = ["10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16", "fc00::/7"];

/// The most networks that one location is denied.
pub const MAX_DENIED: usize = 100;

/// Networks that must not be reached.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "Vec<String>", into = "Vec<String>")]
pub struct Denied(Vec<IpNet>);

impl Denied {
    /// Reads networks such as `10.0.0.0/8`, or single addresses.
    ///
    /// # Errors
    /// Names the text that is none.
    pub fn parse<'a>(texts: impl IntoIterator<Item = &'a str>) -> Result<Denied, String> {
        let mut all = Vec::new();
        for text in texts.into_iter().map(str::trim).filter(|t| !t.is_empty()) {
            let net =
                text.parse::<IpNet>().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from));
            let shown: String = text.chars().take(60).collect();
            all.push(
                net.ok_or_else(|| {
                    format!("`{shown}` is no network such as 10.0.0.0/8 or fe80::/10")
                })?
                .trunc(),
            );
        }
        match all.len() {
            0..=MAX_DENIED => Ok(Denied(all)),
            n => Err(format!("{n} networks; at most {MAX_DENIED}")),
        }
    }

    /// What public locations are denied at first.
    pub fn to_public() -> Denied {
        Denied::parse(DENIED_TO_PUBLIC).unwrap_or_default()
    }

    /// What nobody on the internet has any business with: what public locations are denied, and private networks.
    pub fn private() -> Denied {
        Denied::parse(DENIED_TO_PUBLIC.into_iter().chain(PRIVATE)).unwrap_or_default()
    }

    /// Whether everything may be reached.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether this address is denied, however it is written: an IPv4 address inside an IPv6 one counts as itself.
    pub fn holds(&self, ip: IpAddr) -> bool {
        let ip = ip.to_canonical();
        // NAT64 (RFC 6052): the last four bytes are an IPv4 address.
        let inside = match ip {
            IpAddr::V6(v6)
                if v6.octets()[..12] == [0, 0x64, 0xff, 0x9b, 0, 0, 0, 0, 0, 0, 0, 0] =>
            {
                v6.octets().last_chunk::<4>().copied().map(IpAddr::from)
            }
            _ => None,
        };
        self.0.iter().any(|net| net.contains(&ip) || inside.is_some_and(|v4| net.contains(&v4)))
    }

    /// As people write them.
    pub fn texts(&self) -> Vec<String> {
        self.0.iter().map(ToString::to_string).collect()
    }
}

impl TryFrom<Vec<String>> for Denied {
    type Error = String;

    fn try_from(texts: Vec<String>) -> Result<Denied, String> {
        Denied::parse(texts.iter().map(String::as_str))
    }
}

impl From<Denied> for Vec<String> {
    fn from(denied: Denied) -> Vec<String> {
        denied.texts()
    }
}

/// Whether an address is one of the web: whatever else a browser could open leads into the machine it runs on.
///
/// ```
/// use cadentis_core::run::reach::is_web;
/// assert!(is_web("https://book.marram.example/") && is_web("HTTP://10.0.0.5:8080/x"));
/// assert!(!is_web("file:///etc/hostname") && !is_web(" file:///x") && !is_web("javascript:alert(1)") && !is_web("x"));
/// ```
pub fn is_web(address: &str) -> bool {
    let scheme =
        address.split_once("://").map(|(scheme, rest)| (scheme.to_ascii_lowercase(), rest));
    matches!(scheme, Some((s, rest)) if matches!(s.as_str(), "http" | "https") && !rest.is_empty())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn public_locations_reach_neither_themselves_nor_what_hands_out_credentials() {
        let denied = Denied::to_public();
        for ip in [
            "127.0.0.1",
            "127.9.9.9",
            "169.254.169.254",
            "0.0.0.0",
            "::1",
            "fe80::1",
            "::ffff:169.254.169.254",
            "64:ff9b::169.254.169.254",
            "fd00:ec2::254",
        ] {
            assert!(denied.holds(ip.parse().unwrap()), "{ip}");
        }
        for ip in ["198.51.100.7", "10.0.0.1", "2001:db8::1", "64:ff9b::198.51.100.7"] {
            assert!(!denied.holds(ip.parse().unwrap()), "{ip}");
        }
        assert!(
            !Denied::default().holds("127.0.0.1".parse().unwrap()),
            "nothing is denied where nothing was said"
        );
    }

    #[test]
    fn what_is_no_network_is_named() {
        assert_eq!(
            Denied::parse(["10.0.0.0/8", "office"]).unwrap_err(),
            "`office` is no network such as 10.0.0.0/8 or fe80::/10"
        );
        assert_eq!(
            Denied::parse(["10.1.2.3/8", " ", "10.0.0.9"]).unwrap().texts(),
            ["10.0.0.0/8", "10.0.0.9/32"]
        );
        assert!(Denied::parse(vec!["10.0.0.0/8"; MAX_DENIED + 1]).is_err());
    }

    proptest! {
        #[test]
        fn a_list_is_read_back_as_it_was_written(nets in prop::collection::vec((any::<u32>(), 0u8..=32), 0..20)) {
            let texts: Vec<String> = nets.iter().map(|(ip, n)| format!("{}/{n}", std::net::Ipv4Addr::from(*ip))).collect();
            let denied = Denied::try_from(texts).unwrap();
            prop_assert_eq!(Denied::try_from(denied.texts()).unwrap(), denied);
        }

        #[test]
        fn only_addresses_of_the_web_are_of_the_web(scheme in "[a-z]{1,8}", rest in "\\PC{0,12}") {
            let address = format!("{scheme}:{rest}");
            prop_assert_eq!(is_web(&address), (scheme == "http" || scheme == "https") && rest.starts_with("//") && rest.len() > 2);
        }
    }
}
