//! What a run fetched and what went wrong in its scripts, as numbers.

use super::RunRecord;
use serde::Serialize;

/// What a run fetched, and how many errors of scripts nothing caught, over its steps that count.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize)]
pub struct Counts {
    /// Requests that were made, whatever became of them; what the browser's own cache answered is none.
    pub requests: u64,
    /// Bytes that came, with headers.
    pub bytes: u64,
    /// Of them those that came from hosts which are not the site's.
    pub third_party_bytes: u64,
    /// Errors of scripts that nothing caught.
    pub script_errors: u64,
}

impl Counts {
    /// What a record tells; `None` when no request of it is known, as of records that were thinned.
    pub fn of(record: &RunRecord, owns: impl Fn(&str) -> bool) -> Option<Counts> {
        let steps = || record.counted_steps();
        let all = || steps().flat_map(|s| &s.requests).filter(|r| !r.from_cache);
        all().next()?;
        let without_port = |host: &str| host.rsplit_once(':').map_or(host, |(h, _)| h).to_string();
        let theirs = all().filter(|r| !owns(&without_port(r.host())));
        Some(Counts {
            requests: all().count() as u64,
            bytes: all().map(|r| r.bytes).fold(0, u64::saturating_add),
            third_party_bytes: theirs.map(|r| r.bytes).fold(0, u64::saturating_add),
            script_errors: steps().flat_map(|s| &s.console).filter(|c| c.uncaught).count() as u64,
        })
    }

    /// As numbers in this order.
    pub fn numbers(self) -> [u64; 4] {
        [self.requests, self.bytes, self.third_party_bytes, self.script_errors]
    }

    /// From numbers in the order of [`Counts::numbers`].
    pub fn from_numbers(numbers: [u64; 4]) -> Counts {
        let [requests, bytes, third_party_bytes, script_errors] = numbers;
        Counts { requests, bytes, third_party_bytes, script_errors }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::run::{Console, Request, StepRecord};
    use crate::timing::Phases;

    fn request(url: &str, bytes: u64, from_cache: bool) -> Request {
        Request {
            url: url.into(),
            method: "GET".into(),
            kind: "image".into(),
            status: 200,
            start_ms: 0.0,
            phases: Phases::default(),
            bytes,
            protocol: "h2".into(),
            from_cache,
            failed: None,
            trace: None,
            asked: Default::default(),
        }
    }

    #[test]
    fn what_came_is_told_by_whose_it_is_and_caches_and_cleaning_up_count_nothing() {
        let said =
            |uncaught| Console { at_ms: 0.0, level: "error".into(), text: "no".into(), uncaught };
        let mut first = StepRecord::begun("Open", 0.0, None);
        first.requests = vec![
            request("http://book.marram.example:8080/", 1_000, false),
            request("http://tiles.isles-map.example/4.png", 300, false),
            request("http://book.marram.example/logo.svg", 50, true),
        ];
        first.console = vec![said(true), said(false)];
        let mut after = StepRecord::begun("Sign out", 0.0, None);
        after.requests = vec![request("http://book.marram.example/out", 9, false)];
        after.clean_up = true;
        let counts = Counts::of(&RunRecord::of_steps(vec![first, after]), |host| {
            host == "book.marram.example"
        });
        let counted =
            Counts { requests: 2, bytes: 1_300, third_party_bytes: 300, script_errors: 1 };
        assert_eq!(counts, Some(counted));
        assert_eq!(Counts::from_numbers(counted.numbers()), counted);
        assert_eq!(Counts::of(&RunRecord::of_steps(vec![]), |_| true), None, "nothing is known");
    }
}
