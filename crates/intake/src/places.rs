//! Which country an address is in, by a table that comes with the program.
//!
//! The table is @ip-location-db/geo-whois-asn-country-mmdb 2.3.2026061719 from npm (CC0-1.0; statistics by the Number
//! Resource Organization, nro.net, CC BY 4.0), packed with gzip. Networks are looked up after masking: a /24 or /48 lies
//! in one country.

use flate2::read::GzDecoder;
use maxminddb::Reader;
use std::io::Read;
use std::net::IpAddr;
use std::sync::LazyLock;

const IPV4: &[u8] = include_bytes!("../places/country-ipv4.mmdb.gz");
const IPV6: &[u8] = include_bytes!("../places/country-ipv6.mmdb.gz");

type Table = Option<Reader<Vec<u8>>>;

static TABLES: LazyLock<(Table, Table)> = LazyLock::new(|| (open(IPV4), open(IPV6)));

fn open(packed: &[u8]) -> Table {
    let mut table = Vec::new();
    GzDecoder::new(packed).read_to_end(&mut table).ok()?;
    Reader::from_source(table).ok()
}

/// The ISO 3166 code of the country, if the table knows it.
pub fn country(ip: IpAddr) -> Option<String> {
    let ip = ip.to_canonical();
    let table = if ip.is_ipv4() { &TABLES.0 } else { &TABLES.1 };
    let code: String = table
        .as_ref()?
        .lookup(ip)
        .ok()?
        .decode_path(&[maxminddb::PathElement::Key("country_code")])
        .ok()??;
    (code.len() == 2).then(|| code.to_ascii_uppercase())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_of_both_kinds_have_a_country_and_reserved_ones_have_none() {
        // Networks of national registries and universities, which do not move.
        for (ip, want) in [
            ("129.240.0.0", Some("NO")),
            ("2001:700::", Some("NO")),
            ("::ffff:129.240.0.0", Some("NO")),
            ("127.0.0.1", None),
        ] {
            assert_eq!(country(ip.parse().unwrap()).as_deref(), want, "{ip}");
        }
    }
}
