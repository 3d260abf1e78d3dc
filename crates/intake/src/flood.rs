//! How many beacons came in this minute: from one network to one site, and to one site from all.
//!
//! Networks are counted in a table of fixed size (a count-min sketch, Cormode and Muthukrishnan 2005: several rows of
//! counters, each network in one of each row, the least of which is at most too high). So the limit holds however many networks
//! there are, and nothing grows with them.

use std::hash::{BuildHasher, RandomState};
use std::net::IpAddr;
use std::sync::Mutex;

const ROWS: usize = 2;
const WIDTH: usize = 1 << 16;

/// Limits a minute.
#[derive(Debug, Clone, Copy)]
pub struct Limits {
    /// From one masked network to one site: many people share one, but not so many.
    pub network: u32,
    /// To one site from everywhere: more than this server can take anyhow.
    pub site: u32,
}

impl Limits {
    pub const USUAL: Limits = Limits { network: 3_000, site: 3_000_000 };
}

#[derive(Debug)]
pub struct Flood {
    limits: Limits,
    /// Drawn at the start: nobody outside knows which networks share a counter.
    hashers: [RandomState; ROWS],
    minute: Mutex<Minute>,
}

#[derive(Debug)]
struct Minute {
    nth: i64,
    rows: Vec<u32>,
    sites: std::collections::HashMap<i32, u32>,
}

impl Flood {
    pub fn new(limits: Limits) -> Flood {
        let minute = Minute { nth: 0, rows: vec![0; ROWS * WIDTH], sites: Default::default() };
        Flood {
            limits,
            hashers: std::array::from_fn(|_| RandomState::new()),
            minute: Mutex::new(minute),
        }
    }

    /// Counts beacons and says whether they are more than may come in this minute.
    pub fn is_over(&self, site_id: i32, network: IpAddr, beacons: u32, minute: i64) -> bool {
        let Ok(mut held) = self.minute.lock() else { return false };
        if held.nth != minute {
            held.nth = minute;
            held.rows.fill(0);
            held.sites.clear();
        }
        let mut least = u32::MAX;
        for (row, hasher) in self.hashers.iter().enumerate() {
            let at = row * WIDTH + hasher.hash_one((site_id, network)) as usize % WIDTH;
            held.rows[at] = held.rows[at].saturating_add(beacons);
            least = least.min(held.rows[at]);
        }
        // Sites are few: only those that are known come here.
        let of_site = held.sites.entry(site_id).or_default();
        *of_site = of_site.saturating_add(beacons);
        least > self.limits.network || *of_site > self.limits.site
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::Ipv4Addr;

    fn ip(n: u32) -> IpAddr {
        Ipv4Addr::from(n << 8).into()
    }

    #[test]
    fn the_limit_of_a_network_holds_behind_however_many_others() {
        let flood = Flood::new(Limits { network: 100, site: u32::MAX });
        // Each of them as quiet as a household.
        let refused = (1..=200_000).filter(|n| flood.is_over(1, ip(*n), 1, 7)).count();
        assert_eq!(refused, 0, "nobody quiet is refused for others");
        let loud = ip(900_000);
        let taken = (0..300).filter(|_| !flood.is_over(1, loud, 1, 7)).count();
        assert!((50..=100).contains(&taken), "{taken}");
        assert!(!flood.is_over(1, loud, 1, 8), "a new minute begins at nothing");
        assert!(!flood.is_over(2, loud, 100, 8), "each site by itself");
        assert!(flood.is_over(2, loud, 1, 8));
    }

    #[test]
    fn a_site_has_a_limit_of_its_own_over_all_networks() {
        let flood = Flood::new(Limits { network: 100, site: 1_000 });
        let taken = (0..2_000).filter(|n| !flood.is_over(1, ip(*n), 1, 7)).count();
        assert_eq!(taken, 1_000);
        assert!(!flood.is_over(2, ip(1), 1, 7));
    }
}
