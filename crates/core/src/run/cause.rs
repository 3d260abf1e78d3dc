//! The likely cause of a slow or failed run, always with its evidence and how sure it is.

use super::{HostTime, Outcome, Request, RunRecord, Split, StepRecord, Where};
use crate::stats::{Method, Samples};
use serde::{Deserialize, Serialize};

/// Whose doing it most likely was.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Who {
    /// The site's own.
    Site,
    /// The way to it.
    Network,
    /// Somebody else whom its pages ask.
    ThirdParty,
    /// The page's own work in the browser.
    Page,
    /// Us.
    Runner,
}

impl Who {
    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Who::Site => "the site",
            Who::Network => "the network",
            Who::ThirdParty => "a third party",
            Who::Page => "the page's own work in the browser",
            Who::Runner => "our own runner",
        }
    }
}

/// Why a run was in trouble.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Cause {
    /// Whose doing it is.
    pub who: Who,
    /// One or two sentences with the figures behind it.
    pub says: String,
    /// Milliseconds more than usual that it explains; 0 for failures.
    pub extra_ms: f64,
    /// How sure that is.
    pub sure: Sure,
}

/// How sure a cause is: most of the difference explained by it and many usual runs to compare with, or less of either;
/// or not at all, when it explains too little, or something of another's doing explains nearly as much.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Sure {
    /// What is known leaves little room for another.
    Likely,
    /// It fits, and others would, too.
    Possible,
    /// Nothing fits well.
    NotSure,
}

/// From this part of what a step took longer on, a difference explains it.
const EXPLAINS: f64 = 0.6;
/// Below this part it explains too little to accuse anybody.
const EXPLAINS_LITTLE: f64 = 0.4;
/// Somebody else's difference of so much of the largest one leaves it open whose doing it was.
const NEARLY_AS_MUCH: f64 = 0.8;
/// Two sides of which the less slow one has so much of the other's trouble are in it together.
const COMMON: f64 = 0.25;
/// The least that a lost packet costs: the time after which common systems send it again (milliseconds; common practice,
/// RFC 6298 would have a second). Who was held up for less lost none.
const SENT_AGAIN_MS: f64 = 200.0;
/// A server that says what it did and speaks of less than this part of the difference was not surely at work so long.
const SAYS_LITTLE: f64 = 0.25;
/// A difference smaller than this is noise: a frame or two, or a timer's tick (milliseconds).
pub const WORTH_NAMING_MS: f64 = 40.0;

impl Sure {
    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Sure::Likely => "likely cause",
            Sure::Possible => "possible cause",
            Sure::NotSure => "not sure; what differs most",
        }
    }
}

/// Fewer usual runs than this make a comparison only possible, not likely.
pub const ENOUGH_USUAL: usize = 10;

/// One host and kind of work of a step, compared with usual runs.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Difference {
    /// The host; empty for what is no host's.
    pub host: String,
    /// Which part of the time.
    pub what: Where,
    /// Milliseconds in this run.
    pub ms: f64,
    /// Milliseconds in usual runs.
    pub usual_ms: f64,
    /// How many of the usual runs needed less than this run.
    pub less: usize,
    /// How many usual runs there are.
    pub of: usize,
}

impl Difference {
    /// Milliseconds more than usual.
    pub fn extra_ms(&self) -> f64 {
        self.ms - self.usual_ms
    }

    /// Whether it is more than noise.
    pub fn is_worth_naming(&self) -> bool {
        self.extra_ms().abs() >= WORTH_NAMING_MS
    }

    /// Whose doing the work was.
    fn who(&self, ours: &impl Fn(&str) -> bool) -> Who {
        match (self.what, ours(&self.host)) {
            (Where::Browser, _) => Who::Page,
            (_, false) => Who::ThirdParty,
            (Where::Waiting, true) => Who::Site,
            (_, true) => Who::Network,
        }
    }
}

/// A request is slower than usual when it takes half as long again, and longer by what a person could notice.
const TIMES_SLOWER: f64 = 1.5;
const NOTICED_MS: f64 = 80.0;

/// Whether a request took so much longer than usual that it is pointed at; both in milliseconds.
pub fn is_slower_than_usual(took_ms: f64, usual_ms: f64) -> bool {
    took_ms > usual_ms * TIMES_SLOWER && took_ms - usual_ms > NOTICED_MS
}

/// How a step differs from the same step of usual runs, largest difference first.
pub fn differences(step: &Split, usual: &[Split]) -> Vec<Difference> {
    let mut keys: Vec<(&str, Where)> = std::iter::once(step)
        .chain(usual)
        .flat_map(|s| s.parts.iter().map(|p| (p.host.as_str(), p.what)))
        .collect();
    keys.sort_unstable();
    keys.dedup();
    let mut all: Vec<Difference> = keys
        .into_iter()
        .map(|(host, what)| {
            let ms = step.ms(host, what);
            let others: Vec<f64> = usual.iter().map(|u| u.ms(host, what)).collect();
            Difference {
                host: host.to_string(),
                what,
                ms,
                less: others.iter().filter(|o| **o < ms).count(),
                of: others.len(),
                usual_ms: Samples::new(others).percentile(0.5, Method::NearestRank).unwrap_or(0.0),
            }
        })
        .collect();
    all.sort_by(|a, b| b.extra_ms().abs().total_cmp(&a.extra_ms().abs()));
    all
}

/// The likely cause of what happened in a run, or `None` when there is nothing to explain.
///
/// `usual` holds the splits of the same step in recent runs that passed at the same location.
/// `ours` says whether a host belongs to the site.
pub fn likely_cause(
    run: &RunRecord,
    usual: &[Split],
    ours: impl Fn(&str) -> bool,
) -> Option<Cause> {
    match run.outcome {
        Outcome::Passed => None,
        Outcome::Unmeasured => Some(Cause {
            who: Who::Runner,
            says: run
                .trouble
                .as_ref()
                .map_or_else(|| "The runner could not finish.".into(), |t| t.says.clone()),
            extra_ms: 0.0,
            sure: Sure::Likely,
        }),
        Outcome::Failed => {
            failed_cause(run.counted_steps().find(|s| s.outcome == Outcome::Failed)?, ours)
        }
        Outcome::Slow => slow_cause(trouble_step(run)?, usual, ours),
    }
}

/// The step to look at first: the failed one, else the one furthest over its budget, else the
/// longest.
pub fn trouble_step(run: &RunRecord) -> Option<&StepRecord> {
    run.counted_steps().max_by(|a, b| {
        let key = |s: &StepRecord| {
            let over = s.budget_ms.map_or(f64::MIN, |b| s.duration_ms - b);
            (s.outcome == Outcome::Failed, if over > 0.0 { over } else { f64::MIN }, s.duration_ms)
        };
        let (a, b) = (key(a), key(b));
        a.0.cmp(&b.0).then(a.1.total_cmp(&b.1)).then(a.2.total_cmp(&b.2))
    })
}

fn failed_cause(step: &StepRecord, ours: impl Fn(&str) -> bool) -> Option<Cause> {
    let trouble = step.trouble.as_ref().map(|t| t.says.as_str()).unwrap_or_default();
    let weight = |r: &&Request| (r.kind == "document", ours(r.host()), r.failed.is_some());
    let Some(request) = step.requests.iter().filter(|r| r.is_failed()).max_by_key(weight) else {
        return Some(Cause {
            who: Who::Site,
            says: format!(
                "Every request was answered, but the page was not as expected: {trouble}"
            ),
            extra_ms: 0.0,
            sure: Sure::Possible,
        });
    };
    let what = format!("{} {}", request.host(), request.path());
    let (who, says, sure) = match (&request.failed, ours(request.host())) {
        (Some(words), true) => {
            (Who::Network, format!("{what} was not reached ({words})"), Sure::Possible)
        }
        (Some(words), false) => {
            (Who::ThirdParty, format!("{what} was not reached ({words})"), Sure::Possible)
        }
        (None, true) => (Who::Site, format!("{what} answered {}", request.status), Sure::Likely),
        (None, false) => {
            (Who::ThirdParty, format!("{what} answered {}", request.status), Sure::Possible)
        }
    };
    let trace = request.trace.as_ref().map_or(String::new(), |t| format!(", trace {t}"));
    Some(Cause { who, says: format!("{says}{trace}."), extra_ms: 0.0, sure })
}

/// Hosts whose requests took longer than in any usual run, and longer by what a person could notice, with how much
/// longer than the middle one: more on the way, and more of waiting.
fn slower_hosts(split: &Split, usual: &[Split]) -> Vec<HostTime> {
    let middle = |of: &dyn Fn(&HostTime) -> f64, host: &str| {
        let all: Vec<f64> = usual.iter().map(|u| of(&u.host_time(host))).collect();
        Samples::new(all).percentile(0.5, Method::NearestRank).unwrap_or(0.0)
    };
    let more = |now: &HostTime| HostTime {
        host: now.host.clone(),
        way_ms: now.way_ms - middle(&|h| h.way_ms, &now.host),
        wait_ms: now.wait_ms - middle(&|h| h.wait_ms, &now.host),
    };
    let most = |host: &str| usual.iter().map(|u| u.host_time(host).total_ms()).fold(0.0, f64::max);
    let slower = split.hosts.iter().filter(|h| h.total_ms() > most(&h.host)).map(more);
    slower.filter(|h| h.total_ms() > NOTICED_MS).collect()
}

/// A host of the site and one of others that were slower than usual at once, each the slowest of its side.
struct AtOnce<'a> {
    site: &'a HostTime,
    other: &'a HostTime,
}

impl AtOnce<'_> {
    /// `None` unless some of both were slower than usual.
    fn of(slower: &[HostTime], ours: impl Fn(&str) -> bool) -> Option<AtOnce<'_>> {
        let largest = |of_site: bool| {
            let side = slower.iter().filter(|h| ours(&h.host) == of_site);
            side.max_by(|a, b| a.total_ms().total_cmp(&b.total_ms()))
        };
        Some(AtOnce { site: largest(true)?, other: largest(false)? })
    }

    /// The less slow of the two, then the slower one.
    fn by_size(&self) -> (&HostTime, &HostTime) {
        match self.site.total_ms() < self.other.total_ms() {
            true => (self.site, self.other),
            false => (self.other, self.site),
        }
    }

    /// Whether the less slow one has enough of it to be in the same trouble.
    fn is_shared(&self) -> bool {
        let (less, more) = self.by_size();
        less.total_ms() >= COMMON * more.total_ms()
    }

    /// Whether the less slow one cannot have met what the other met: it lost no packet, and each of its requests took
    /// only a little of what one of the other's took longer.
    fn is_beside(&self, step: &StepRecord) -> bool {
        let each = |side: &HostTime| {
            let asked = |r: &&Request| !r.is_beacon() && r.host() == side.host;
            side.total_ms() / step.requests.iter().filter(asked).count().max(1) as f64
        };
        let (less, more) = self.by_size();
        !self.is_shared() && less.total_ms() < SENT_AGAIN_MS && each(less) < COMMON * each(more)
    }

    /// What both have in common is the way to them.
    ///
    /// One side that has only a little of it leaves open whose doing it was; when servers only took longer to answer it
    /// is possible and no more.
    fn cause(&self, slower: &[HostTime], usual: usize) -> (String, Sure) {
        let way_ms = slower.iter().map(|h| h.way_ms.max(0.0)).sum::<f64>();
        let sure = match self.is_shared() {
            false => Sure::NotSure,
            true if way_ms >= NOTICED_MS && usual >= ENOUGH_USUAL => Sure::Likely,
            true => Sure::Possible,
        };
        let says = format!(
            "{} and {} were slow at once: requests to them took {:.2} s and {:.2} s longer than usual here, and what they \
             share is the network.",
            self.site.host,
            self.other.host,
            self.site.total_ms() / 1000.0,
            self.other.total_ms() / 1000.0
        );
        (says, sure)
    }
}

/// How long the site's servers say they worked for the requests that the page waited for (Server Timing), in
/// milliseconds; `None` when they say nothing. The longest of a request's figures counts: they may hold one another.
fn said_by_servers(step: &StepRecord, split: &Split, host: &str) -> Option<f64> {
    let requests =
        split.chain.iter().filter_map(|nth| step.requests.get(*nth)).filter(|r| r.host() == host);
    let said =
        requests.filter_map(|r| r.asked.server.iter().filter_map(|m| m.ms).max_by(f64::total_cmp));
    said.reduce(|a, b| a + b)
}

fn slow_cause(step: &StepRecord, usual: &[Split], ours: impl Fn(&str) -> bool) -> Option<Cause> {
    if usual.is_empty() {
        return None;
    }
    let split = Split::of(step);
    let all = differences(&split, usual);
    let more: f64 = all.iter().map(Difference::extra_ms).sum();
    // Several parts may be of one doing: a lossy place holds up a handshake here and an answer there.
    let explained = |who: Who| -> f64 {
        all.iter().filter(|d| d.who(&ours) == who).map(|d| d.extra_ms().max(0.0)).sum()
    };
    let first = all.iter().max_by(|a, b| a.extra_ms().total_cmp(&b.extra_ms()))?;
    if first.extra_ms() <= 0.0 {
        return None;
    }
    let who = first.who(&ours);
    let slower = slower_hosts(&split, usual);
    let at_once = AtOnce::of(&slower, &ours).filter(|_| who != Who::Page);
    if let Some(both) = at_once.as_ref().filter(|both| !both.is_beside(step)) {
        let (says, sure) = both.cause(&slower, first.of);
        return Some(Cause { who: Who::Network, says, extra_ms: more, sure });
    }
    let said = said_by_servers(step, &split, &first.host).filter(|_| who == Who::Site);
    let unsaid = said.filter(|ms| *ms < SAYS_LITTLE * first.extra_ms());
    let others =
        [Who::Site, Who::Network, Who::ThirdParty, Who::Page].into_iter().filter(|w| *w != who);
    let others = others.map(explained).fold(0.0, f64::max);
    let sure = match explained(who) {
        _ if unsaid.is_some() => Sure::NotSure,
        extra if extra < EXPLAINS_LITTLE * more || others >= NEARLY_AS_MUCH * extra => {
            Sure::NotSure
        }
        extra if extra >= EXPLAINS * more && first.of >= ENOUGH_USUAL && at_once.is_none() => {
            Sure::Likely
        }
        _ => Sure::Possible,
    };
    let took = format!("{:.2} s", first.ms / 1000.0);
    let what = match first.what {
        Where::Queueing => format!("requests to {} queued for {took}", first.host),
        Where::Connecting => format!("{} took {took} to accept connections", first.host),
        Where::Waiting => format!("{} took {took} to answer", first.host),
        Where::Receiving => format!("{} took {took} to deliver", first.host),
        Where::Browser => format!("the browser was at work for {took}"),
    };
    Some(Cause {
        who,
        says: format!(
            "{what}; usually {:.2} s here ({} of the last {} usual runs needed less){}.",
            first.usual_ms / 1000.0,
            first.less,
            first.of,
            unsaid.map_or(String::new(), |ms| format!(
                "; the server itself speaks of {:.2} s of work",
                ms / 1000.0
            ))
        ),
        extra_ms: first.extra_ms(),
        sure,
    })
}

#[cfg(test)]
mod tests {
    use super::super::ServerTiming;
    use super::super::split::tests::{request, step};
    use super::*;

    fn run(outcome: Outcome, mut steps: Vec<StepRecord>) -> RunRecord {
        for s in &mut steps {
            s.outcome = outcome;
        }
        RunRecord { outcome, ..RunRecord::of_steps(steps) }
    }

    fn search(connect_map: f64, wait_api: f64) -> StepRecord {
        let mut s = step(
            connect_map + wait_api + 500.0,
            vec![
                request("http://book.marram.example/sailings", 0.0, 20.0, 80.0, 10.0),
                request("http://book.marram.example/api/sailings", 120.0, 0.0, wait_api, 10.0),
                request(
                    "http://tiles.isles-map.example/map.js",
                    140.0 + wait_api,
                    connect_map,
                    60.0,
                    40.0,
                ),
            ],
        );
        s.budget_ms = Some(1500.0);
        s
    }

    fn ours(host: &str) -> bool {
        host.ends_with("marram.example")
    }

    #[test]
    fn a_third_party_slow_to_connect_is_named_with_its_evidence() {
        let usual: Vec<Split> =
            (0..20).map(|i| Split::of(&search(50.0 + f64::from(i), 100.0))).collect();
        let cause =
            likely_cause(&run(Outcome::Slow, vec![search(1930.0, 110.0)]), &usual, ours).unwrap();
        assert_eq!((cause.who, cause.sure), (Who::ThirdParty, Sure::Likely));
        assert_eq!(
            cause.says,
            "tiles.isles-map.example took 1.93 s to accept connections; usually 0.06 s here (20 of the last 20 usual runs needed less)."
        );
    }

    #[test]
    fn a_slow_api_of_the_sites_own_is_the_site() {
        let usual: Vec<Split> = (0..20).map(|_| Split::of(&search(50.0, 100.0))).collect();
        let cause =
            likely_cause(&run(Outcome::Slow, vec![search(52.0, 1400.0)]), &usual, ours).unwrap();
        assert_eq!(cause.who, Who::Site);
    }

    /// The cause of a slow search, compared with twenty usual ones.
    fn cause_of(step: StepRecord) -> Cause {
        let usual: Vec<Split> =
            (0..20).map(|i| Split::of(&search(50.0 + f64::from(i), 100.0))).collect();
        likely_cause(&run(Outcome::Slow, vec![step]), &usual, ours).unwrap()
    }

    #[test]
    fn a_site_and_a_supplier_that_are_slow_at_once_share_the_network() {
        let cause = cause_of(search(1060.0, 700.0));
        assert_eq!((cause.who, cause.sure), (Who::Network, Sure::Likely));
        assert!(cause.says.contains("took 0.60 s and 1.00 s longer"), "{}", cause.says);
        // Servers only took longer to answer: two at once are one network rather than two faults, but that is no proof.
        let mut both = search(60.0, 700.0);
        both.requests[2].phases.wait_ms += 800.0;
        both.duration_ms += 800.0;
        assert_eq!(
            (cause_of(both).who, cause_of(search(60.0, 700.0)).who),
            (Who::Network, Who::Site)
        );
        // The supplier has a little of it, and what it has may be a lost packet: it may be the site alone.
        let little = |wait_ms| {
            let mut s = search(60.0, 1_500.0);
            s.requests[2].phases.wait_ms += wait_ms;
            cause_of(s)
        };
        assert_eq!((little(220.0).who, little(220.0).sure), (Who::Network, Sure::NotSure));
        // No packet is lost for less, and the site's own took far longer: what the supplier met is beside it.
        assert_eq!((little(150.0).who, little(150.0).sure), (Who::Site, Sure::Possible));
        // Many requests that were each a little late add up: each of the supplier's was as late as each of the site's.
        let mut many = search(60.0, 160.0);
        many.requests[2].phases.wait_ms += 90.0;
        for _ in 0..9 {
            many.requests.push(many.requests[1].clone());
        }
        let usual: Vec<Split> = (0..20)
            .map(|i| {
                let mut s = search(50.0 + f64::from(i), 100.0);
                (0..9).for_each(|_| s.requests.push(s.requests[1].clone()));
                Split::of(&s)
            })
            .collect();
        let cause = likely_cause(&run(Outcome::Slow, vec![many]), &usual, ours).unwrap();
        assert_eq!((cause.who, cause.sure), (Who::Network, Sure::NotSure), "{}", cause.says);
        let alone = little(50.0);
        assert_eq!((alone.who, alone.sure), (Who::Site, Sure::Likely));
        // Two hosts of the site share more than the network.
        let mut own = search(60.0, 700.0);
        own.requests[2].url = "http://static.marram.example/map.js".into();
        own.requests[2].phases.wait_ms += 800.0;
        assert_eq!(cause_of(own).who, Who::Site);
    }

    #[test]
    fn a_server_that_says_it_was_quick_is_not_blamed_for_sure() {
        let says = |ms| vec![ServerTiming { name: "db".into(), ms: Some(ms), says: String::new() }];
        let mut slow = search(60.0, 1_400.0);
        slow.requests[1].asked.server = says(45.0);
        let cause = cause_of(slow.clone());
        assert_eq!((cause.who, cause.sure), (Who::Site, Sure::NotSure));
        assert!(
            cause.says.ends_with("; the server itself speaks of 0.04 s of work."),
            "{}",
            cause.says
        );
        slow.requests[1].asked.server = says(900.0);
        assert_eq!(cause_of(slow).sure, Sure::Likely);
    }

    #[test]
    fn with_few_usual_runs_a_cause_is_only_possible() {
        let usual = vec![Split::of(&search(50.0, 100.0)); 3];
        let cause =
            likely_cause(&run(Outcome::Slow, vec![search(1930.0, 100.0)]), &usual, ours).unwrap();
        assert_eq!(cause.sure, Sure::Possible);
    }

    #[test]
    fn a_503_of_the_site_is_told_with_its_trace() {
        let mut s = search(50.0, 100.0);
        s.requests[1].status = 503;
        // W3C Trace Context, section 3.2: example trace id.
        s.requests[1].trace = Some("0af7651916cd43dd8448eb211c80319c".into());
        let cause = likely_cause(&run(Outcome::Failed, vec![s]), &[], ours).unwrap();
        assert_eq!(cause.who, Who::Site);
        assert!(
            cause
                .says
                .ends_with("/api/sailings answered 503, trace 0af7651916cd43dd8448eb211c80319c.")
        );
    }

    #[test]
    fn our_own_trouble_is_ours_and_a_passed_run_needs_no_cause() {
        assert_eq!(
            likely_cause(&run(Outcome::Unmeasured, vec![]), &[], ours).unwrap().who,
            Who::Runner
        );
        assert_eq!(likely_cause(&run(Outcome::Passed, vec![search(1.0, 1.0)]), &[], ours), None);
    }
}
