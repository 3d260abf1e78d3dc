//! For how long the certificates are good of hosts whose pages a journey opened.

use crate::wire::Wire;
use cadentis_core::run::RunRecord;
use std::collections::BTreeSet;
use std::time::Duration;

/// So many hosts of a run are asked, each for so long at most.
const MOST_HOSTS: usize = 3;
const PATIENCE: Duration = Duration::from_secs(3);

impl Wire {
    /// A browser does not say for how long a certificate is good: the hosts whose pages it opened are asked once more, beside
    /// the run's time. One that does not answer then says nothing here; what did not answer the run is not asked.
    pub async fn look_at_certificates(&self, record: &mut RunRecord) {
        let mut asked: Vec<String> = Vec::new();
        for step in &mut record.steps {
            let pages = step.requests.iter().filter(|r| r.kind == "document" && r.status > 0);
            let hosts: BTreeSet<String> = pages.filter_map(|r| secured(&r.url)).collect();
            for host in hosts {
                if asked.len() >= MOST_HOSTS || asked.contains(&host) {
                    continue;
                }
                if let Ok((_, Some(days))) = self.open(&host, true, PATIENCE).await {
                    step.saw_certificate(days);
                }
                asked.push(host);
            }
        }
    }
}

/// Host and port of an address of the web whose connections are secured.
fn secured(address: &str) -> Option<String> {
    let url = url::Url::parse(address).ok().filter(|url| url.scheme() == "https")?;
    // The port stands behind the last colon; an address of IPv6 is looked up without its brackets.
    let host = url.host_str()?.trim_matches(['[', ']']);
    Some(format!("{host}:{}", url.port_or_known_default()?))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_secured_has_a_certificate_to_look_at() {
        let all = [
            ("https://book.marram.example/search?day=3", Some("book.marram.example:443")),
            ("https://book.marram.example:8443/", Some("book.marram.example:8443")),
            ("https://[::1]:8443/", Some("::1:8443")),
            ("http://book.marram.example/", None),
            ("about:blank", None),
            ("book.marram.example", None),
        ];
        for (address, at) in all {
            assert_eq!(secured(address).as_deref(), at, "{address}");
        }
    }
}
