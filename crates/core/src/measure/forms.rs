//! Every form a measure has: its words and slots, what it means, an example.
//!
//! This one table reads measures, prints them, knows what could come next while somebody types, and makes the reference.

use super::{Counted, Ended, Figure, Happening, Measure, Rated, Span, Statistic, Subject, Tallied};
use crate::timing::Vital;

/// One form of a measure.
pub struct Form {
    /// What it is read of.
    pub subject: Subject,
    /// What it is made of.
    pub pieces: &'static [Piece],
    /// What it means, as a sentence.
    pub says: &'static str,
    /// A measure of this form, with what it is narrowed to.
    pub example: &'static str,
    pub(super) make: fn(&[Value]) -> Option<Measure>,
    pub(super) unmake: fn(&Measure) -> Option<Vec<Value>>,
}

/// One piece of a form.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Piece {
    /// A word that stands there as it is.
    Word(&'static str),
    /// Room for what differs.
    Slot(Slot),
}

/// What can stand in a form's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Slot {
    /// A percentile, such as `p75`.
    Percentile,
    /// A number that page views tell: a vital, load, DNS, connect, or `number "name"`.
    Figure,
    /// A vital.
    Vital,
    /// A limit, such as `2.5 s` or `0.1`.
    Limit,
    /// A length of time, such as `1 h`.
    Length,
}

impl Slot {
    /// What belongs there, as people say it.
    pub fn words(self) -> &'static str {
        match self {
            Slot::Percentile => "a percentile from p1 to p99.99",
            Slot::Figure => {
                "LCP, INP, CLS, FCP, TTFB, load, DNS, connect, or number \"…\" with the name of a number of your pages"
            }
            Slot::Vital => "LCP, INP, CLS, FCP or TTFB",
            Slot::Limit => "a limit such as 2.5 s, 300 ms or 0.1",
            Slot::Length => "a length such as 5 min, 1 h or 3 d",
        }
    }

    /// What could be typed there first.
    pub(super) fn beginnings(self) -> &'static [&'static str] {
        match self {
            Slot::Percentile => &["p50", "p75", "p90", "p95", "p99"],
            Slot::Figure => {
                &["LCP", "INP", "CLS", "FCP", "TTFB", "load", "DNS", "connect", "number"]
            }
            Slot::Vital => &["LCP", "INP", "CLS", "FCP", "TTFB"],
            Slot::Limit => &["1 s", "2.5 s", "300 ms"],
            Slot::Length => &["5 min", "30 min", "1 h", "6 h"],
        }
    }
}

/// What stood in a slot.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// A share, 0 to 1.
    Percentile(f64),
    /// A number of page views.
    Figure(Figure),
    /// A vital.
    Vital(Vital),
    /// A limit, and whether it was written as a time.
    Limit(f64, bool),
    /// Seconds.
    Length(i64),
}

const fn w(word: &'static str) -> Piece {
    Piece::Word(word)
}

const P: Piece = Piece::Slot(Slot::Percentile);
const FIGURE: Piece = Piece::Slot(Slot::Figure);
const VITAL: Piece = Piece::Slot(Slot::Vital);
const LIMIT: Piece = Piece::Slot(Slot::Limit);
const LENGTH: Piece = Piece::Slot(Slot::Length);

fn statistic(statistic: Statistic, is_time: bool) -> Option<Value> {
    match statistic {
        Statistic::Percentile(p) => Some(Value::Percentile(p)),
        Statistic::Mean => None,
        Statistic::Within(limit) => Some(Value::Limit(limit, is_time)),
    }
}

/// A form without slots.
macro_rules! plain {
    ($subject:ident, [$($piece:expr),+ $(,)?], $measure:expr, $says:expr, $example:expr $(,)?) => {
        Form {
            subject: Subject::$subject,
            pieces: &[$($piece),+],
            says: $says,
            example: $example,
            make: |_| Some($measure),
            unmake: |m| (*m == $measure).then(Vec::new),
        }
    };
}

/// Three forms of one time: percentile, mean, share within a limit.
macro_rules! times {
    ($subject:ident, [$($name:expr),+ $(,)?], |$s:ident| $measure:expr, $pattern:pat => $held:expr, $what:expr, [$p:expr, $mean:expr, $within:expr $(,)?]) => {
        [
            Form {
                subject: Subject::$subject,
                pieces: &[P, w("of"), $($name),+],
                says: concat!("The percentile of ", $what, "."),
                example: $p,
                make: |v| {
                    let Some(Value::Percentile(p)) = v.first() else { return None };
                    let $s = Statistic::Percentile(*p);
                    Some($measure)
                },
                unmake: |m| match m {
                    $pattern => matches!($held, Statistic::Percentile(_))
                        .then(|| statistic($held, true).into_iter().collect()),
                    _ => None,
                },
            },
            Form {
                subject: Subject::$subject,
                pieces: &[w("mean"), w("of"), $($name),+],
                says: concat!("The mean of ", $what, "."),
                example: $mean,
                make: |_| {
                    let $s = Statistic::Mean;
                    Some($measure)
                },
                unmake: |m| match m {
                    $pattern => ($held == Statistic::Mean).then(Vec::new),
                    _ => None,
                },
            },
            Form {
                subject: Subject::$subject,
                pieces: &[w("share"), w("of"), $($name,)+ w("within"), LIMIT],
                says: concat!("The share of them within a limit, which itself is within: of ", $what, "."),
                example: $within,
                make: |v| {
                    let Some(Value::Limit(limit, true)) = v.first() else { return None };
                    let $s = Statistic::Within(*limit);
                    Some($measure)
                },
                unmake: |m| match m {
                    $pattern => matches!($held, Statistic::Within(_))
                        .then(|| statistic($held, true).into_iter().collect()),
                    _ => None,
                },
            },
        ]
    };
}

/// Two forms of what is counted of each run: percentile and mean.
macro_rules! tallies {
    ($tallied:ident, [$($name:expr),+ $(,)?], $what:expr, [$p:expr, $mean:expr $(,)?]) => {
        [
            Form {
                subject: Subject::Runs,
                pieces: &[P, w("of"), $($name),+],
                says: concat!("The percentile of ", $what, "."),
                example: $p,
                make: |v| {
                    let Some(Value::Percentile(p)) = v.first() else { return None };
                    Some(Measure::RunTally(Tallied::$tallied, Statistic::Percentile(*p)))
                },
                unmake: |m| match m {
                    Measure::RunTally(Tallied::$tallied, Statistic::Percentile(p)) => {
                        Some(vec![Value::Percentile(*p)])
                    }
                    _ => None,
                },
            },
            plain!(
                Runs,
                [w("mean"), w("of"), $($name),+],
                Measure::RunTally(Tallied::$tallied, Statistic::Mean),
                concat!("The mean of ", $what, "."),
                $mean
            ),
        ]
    };
}

static RUN_REQUESTS: [Form; 2] = tallies!(
    Requests,
    [w("requests"), w("per"), w("run")],
    "how many requests a run made that got through",
    ["p95 of requests per run for journey \"book-a-crossing\"", "mean of requests per run"]
);

static RUN_BYTES: [Form; 2] = tallies!(
    Bytes,
    [w("bytes"), w("per"), w("run")],
    "how many bytes came, with headers, in a run that got through",
    ["p75 of bytes per run", "mean of bytes per run for journey \"book-a-crossing\""]
);

static RUN_THIRD_PARTY: [Form; 2] = tallies!(
    ThirdPartyBytes,
    [w("third-party"), w("bytes"), w("per"), w("run")],
    "how many bytes came from hosts that are not the site's, in a run that got through",
    ["p75 of third-party bytes per run", "mean of third-party bytes per run"]
);

static RUN_SCRIPT_ERRORS: [Form; 2] = tallies!(
    ScriptErrors,
    [w("script"), w("errors"), w("per"), w("run")],
    "how many errors of scripts nothing caught in a run, whatever became of it",
    ["p95 of script errors per run", "mean of script errors per run"]
);

static RUNS: [Form; 7] = [
    plain!(
        Runs,
        [w("availability")],
        Measure::Availability,
        "The share of runs that got through; unmeasured ones decide nothing.",
        "availability for journey \"book-a-crossing\""
    ),
    plain!(
        Runs,
        [w("share"), w("failed")],
        Measure::RunsFailed,
        "The share of runs that failed.",
        "share failed for location \"lisbon\""
    ),
    plain!(
        Runs,
        [w("share"), w("slow")],
        Measure::RunsSlow,
        "The share of runs that got through, but over a limit of their script.",
        "share slow for journey \"book-a-crossing\""
    ),
    plain!(
        Runs,
        [w("count"), w("of"), w("runs")],
        Measure::RunCount,
        "How many runs were played and measured.",
        "count of runs"
    ),
    plain!(
        Runs,
        [w("failing"), w("locations")],
        Measure::FailingLocations,
        "How many locations there are whose newest run failed.",
        "failing locations for journey \"book-a-crossing\""
    ),
    plain!(
        Runs,
        [w("certificate"), w("days"), w("left")],
        Measure::CertificateDays,
        "How many whole days are left of the certificates that the newest runs saw, of the one that ends first; negative once it has.",
        "certificate days left for journey \"book-a-crossing\""
    ),
    plain!(
        Runs,
        [w("silence"), w("of"), w("runs")],
        Measure::RunSilence,
        "How long ago the newest run was due that was measured.",
        "silence of runs for journey \"book-a-crossing\""
    ),
];

static RUN_TIMES: [Form; 3] = times!(
    Runs,
    [w("run"), w("duration")],
    |s| Measure::RunTime(Span::Run, s),
    Measure::RunTime(Span::Run, held) => *held,
    "how long runs took that got through",
    [
        "p95 of run duration for journey \"book-a-crossing\"",
        "mean of run duration",
        "share of run duration within 8 s",
    ]
);

static STEP_TIMES: [Form; 3] = times!(
    Runs,
    [w("step"), w("duration")],
    |s| Measure::RunTime(Span::Step, s),
    Measure::RunTime(Span::Step, held) => *held,
    "how long a step took in runs that came through it",
    [
        "p75 of step duration for journey \"book-a-crossing\" and step \"Search sailings\"",
        "mean of step duration for journey \"book-a-crossing\" and step \"Search sailings\"",
        "share of step duration within 2.5 s for journey \"book-a-crossing\" and step \"Search sailings\"",
    ]
);

static MARK_TIMES: [Form; 3] = times!(
    Runs,
    [w("mark"), w("time")],
    |s| Measure::RunTime(Span::Mark, s),
    Measure::RunTime(Span::Mark, held) => *held,
    "how long after its step's beginning a mark was set, in runs that set it",
    [
        "p75 of mark time for journey \"book-a-crossing\" and mark \"map in place\"",
        "mean of mark time for journey \"book-a-crossing\" and mark \"map in place\"",
        "share of mark time within 1.5 s for journey \"book-a-crossing\" and mark \"map in place\"",
    ]
);

static NETWORK_TIMES: [Form; 3] = times!(
    Runs,
    [w("network"), w("time")],
    |s| Measure::RunTime(Span::Network, s),
    Measure::RunTime(Span::Network, held) => *held,
    "what of a run's time the network took",
    ["p75 of network time", "mean of network time", "share of network time within 500 ms"]
);

static SERVER_TIMES: [Form; 3] = times!(
    Runs,
    [w("server"), w("time")],
    |s| Measure::RunTime(Span::Server, s),
    Measure::RunTime(Span::Server, held) => *held,
    "what of a run's time the server took",
    ["p75 of server time", "mean of server time", "share of server time within 2 s"]
);

static BROWSER_TIMES: [Form; 3] = times!(
    Runs,
    [w("browser"), w("time")],
    |s| Measure::RunTime(Span::Browser, s),
    Measure::RunTime(Span::Browser, held) => *held,
    "what of a run's time the browser took",
    ["p75 of browser time", "mean of browser time", "share of browser time within 2 s"]
);

static VIEWS: [Form; 7] = [
    plain!(
        PageViews,
        [w("count"), w("of"), w("page"), w("views")],
        Measure::Views(Counted::PageViews),
        "How many page views there were.",
        "count of page views for device \"phone\""
    ),
    plain!(
        PageViews,
        [w("count"), w("of"), w("visits")],
        Measure::Views(Counted::Visits),
        "How many visits they belong to.",
        "count of visits"
    ),
    plain!(
        PageViews,
        [w("count"), w("of"), w("people")],
        Measure::Views(Counted::People),
        "How many people they were shown to, as far as pages tell who it was.",
        "count of people"
    ),
    plain!(
        PageViews,
        [w("share"), w("abandoned")],
        Measure::ViewsEnded(Ended::Abandoned),
        "The share of page views that were left before they had loaded.",
        "share abandoned for connection \"3g\""
    ),
    plain!(
        PageViews,
        [w("share"), w("blank")],
        Measure::ViewsEnded(Ended::Blank),
        "The share of page views on which nothing was ever drawn.",
        "share blank for browser \"Safari\""
    ),
    plain!(
        PageViews,
        [w("share"), w("with"), w("errors")],
        Measure::ViewsEnded(Ended::WithErrors),
        "The share of page views on which a script went wrong.",
        "share with errors for device \"phone\""
    ),
    plain!(
        PageViews,
        [w("silence"), w("of"), w("page"), w("views")],
        Measure::ViewSilence,
        "How long ago the newest page view began.",
        "silence of page views"
    ),
];

static FIGURES: [Form; 6] = [
    Form {
        subject: Subject::PageViews,
        pieces: &[P, w("of"), FIGURE],
        says: "The percentile of a number that page views tell.",
        example: "p75 of LCP for family \"Timetable\" and device \"phone\"",
        make: |v| match v {
            [Value::Percentile(p), Value::Figure(figure)] => {
                Some(Measure::ViewFigure(figure.clone(), Statistic::Percentile(*p)))
            }
            _ => None,
        },
        unmake: |m| match m {
            Measure::ViewFigure(figure, Statistic::Percentile(p)) => {
                Some(vec![Value::Percentile(*p), Value::Figure(figure.clone())])
            }
            _ => None,
        },
    },
    Form {
        subject: Subject::PageViews,
        pieces: &[w("mean"), w("of"), FIGURE],
        says: "The mean of a number that page views tell.",
        example: "mean of TTFB for country \"NO\" or \"SE\"",
        make: |v| match v {
            [Value::Figure(figure)] => Some(Measure::ViewFigure(figure.clone(), Statistic::Mean)),
            _ => None,
        },
        unmake: |m| match m {
            Measure::ViewFigure(figure, Statistic::Mean) => {
                Some(vec![Value::Figure(figure.clone())])
            }
            _ => None,
        },
    },
    Form {
        subject: Subject::PageViews,
        pieces: &[w("share"), w("of"), FIGURE, w("within"), LIMIT],
        says: "The share of page views within a limit, which itself is within, of those that told the number.",
        example: "share of LCP within 2.5 s for family \"Timetable\"",
        make: |v| match v {
            [Value::Figure(figure), Value::Limit(limit, is_time)] => (*is_time
                == (figure.unit() == super::Unit::Ms))
                .then(|| Measure::ViewFigure(figure.clone(), Statistic::Within(*limit))),
            _ => None,
        },
        unmake: |m| match m {
            Measure::ViewFigure(figure, Statistic::Within(limit)) => {
                let is_time = figure.unit() == super::Unit::Ms;
                Some(vec![Value::Figure(figure.clone()), Value::Limit(*limit, is_time)])
            }
            _ => None,
        },
    },
    Form {
        subject: Subject::PageViews,
        pieces: &[w("share"), w("of"), VITAL, w("good")],
        says: "The share of page views whose vital is good, by its published threshold, of those that told it.",
        example: "share of CLS good for device \"phone\"",
        make: |v| match v {
            [Value::Vital(vital)] => Some(Measure::ViewsRated(*vital, Rated::Good)),
            _ => None,
        },
        unmake: |m| match m {
            Measure::ViewsRated(vital, Rated::Good) => Some(vec![Value::Vital(*vital)]),
            _ => None,
        },
    },
    Form {
        subject: Subject::PageViews,
        pieces: &[w("share"), w("of"), VITAL, w("poor")],
        says: "The share of page views whose vital is poor, by its published threshold, of those that told it.",
        example: "share of INP poor",
        make: |v| match v {
            [Value::Vital(vital)] => Some(Measure::ViewsRated(*vital, Rated::Poor)),
            _ => None,
        },
        unmake: |m| match m {
            Measure::ViewsRated(vital, Rated::Poor) => Some(vec![Value::Vital(*vital)]),
            _ => None,
        },
    },
    Form {
        subject: Subject::PageViews,
        pieces: &[w("Apdex"), w("at"), LIMIT],
        says: "Apdex of the largest paint: satisfied up to T, tolerating up to four times T.",
        example: "Apdex at 2 s for family \"Timetable\"",
        make: |v| match v {
            [Value::Limit(t_ms, true)] => Some(Measure::Apdex(*t_ms)),
            _ => None,
        },
        unmake: |m| match m {
            Measure::Apdex(t_ms) => Some(vec![Value::Limit(*t_ms, true)]),
            _ => None,
        },
    },
];

static REQUEST_TIMES: [Form; 3] = times!(
    Requests,
    [w("request"), w("time")],
    |s| Measure::HappenedTime(Happening::Request, s),
    Measure::HappenedTime(Happening::Request, held) => *held,
    "how long requests took that pages make",
    [
        "p95 of request time for request \"GET /api/sailings\"",
        "mean of request time",
        "share of request time within 800 ms",
    ]
);

static ACTION_TIMES: [Form; 3] = times!(
    Actions,
    [w("action"), w("time")],
    |s| Measure::HappenedTime(Happening::Action, s),
    Measure::HappenedTime(Happening::Action, held) => *held,
    "how long actions took until what they led to had come",
    ["p75 of action time", "mean of action time", "share of action time within 1 s"]
);

static HAPPENED: [Form; 8] = [
    plain!(
        Requests,
        [w("count"), w("of"), w("requests")],
        Measure::HappenedCount(Happening::Request),
        "How many requests pages made.",
        "count of requests"
    ),
    plain!(
        Requests,
        [w("share"), w("of"), w("requests"), w("failed")],
        Measure::HappenedFailed(Happening::Request),
        "The share of requests that failed; with a fault, by whose fault.",
        "share of requests failed for fault \"gateway\""
    ),
    plain!(
        Actions,
        [w("count"), w("of"), w("actions")],
        Measure::HappenedCount(Happening::Action),
        "How many actions visitors began.",
        "count of actions"
    ),
    plain!(
        Actions,
        [w("share"), w("of"), w("actions"), w("failed")],
        Measure::HappenedFailed(Happening::Action),
        "The share of actions that failed.",
        "share of actions failed"
    ),
    plain!(
        Errors,
        [w("count"), w("of"), w("errors")],
        Measure::ErrorCount,
        "How many errors there were in pages: of scripts, consoles, resources, phrases that must not appear.",
        "count of errors for device \"phone\""
    ),
    plain!(
        Errors,
        [w("count"), w("of"), w("error"), w("kinds")],
        Measure::ErrorKinds,
        "How many kinds of error there were; what differs from one to the next is taken out of their texts.",
        "count of error kinds"
    ),
    plain!(
        Errors,
        [w("count"), w("of"), w("new"), w("error"), w("kinds")],
        Measure::NewErrorKinds,
        "How many kinds of error were seen that had not been seen for two weeks.",
        "count of new error kinds"
    ),
    plain!(
        Errors,
        [w("people"), w("with"), w("errors")],
        Measure::ErrorPeople,
        "How many people they happened to, as far as pages tell who it was.",
        "people with errors"
    ),
];

static JUDGED: [Form; 4] = [
    plain!(
        Goals,
        [w("error"), w("budget"), w("left")],
        Measure::BudgetLeft,
        "What is left of a goal's error budget in its window, as a share of it.",
        "error budget left for goal \"Booking works\""
    ),
    Form {
        subject: Subject::Goals,
        pieces: &[w("burn"), w("rate"), w("over"), LENGTH, w("and"), LENGTH],
        says: "How many times as fast as it may a goal's error budget burns: over both windows, the slower of the two.",
        example: "burn rate over 1 h and 5 min for goal \"Booking works\"",
        make: |v| match v {
            [Value::Length(a), Value::Length(b)] => {
                Some(Measure::Burn { long_s: *a.max(b), short_s: *a.min(b) })
            }
            _ => None,
        },
        unmake: |m| match m {
            Measure::Burn { long_s, short_s } => {
                Some(vec![Value::Length(*long_s), Value::Length(*short_s)])
            }
            _ => None,
        },
    },
    plain!(
        Goals,
        [w("error"), w("budget"), w("lasts")],
        Measure::BudgetLasts,
        "How long a goal's error budget lasts at the pace of the last day.",
        "error budget lasts for goal \"Booking works\""
    ),
    plain!(
        Dependencies,
        [w("state")],
        Measure::DependencyState,
        "What is posted of a dependency: ok, unknown, degraded or down.",
        "state for dependency \"payments\""
    ),
];

/// Every form, in the order of the reference.
pub fn forms() -> impl Iterator<Item = &'static Form> {
    let groups: [&'static [Form]; 16] = [
        &RUNS,
        &RUN_TIMES,
        &STEP_TIMES,
        &MARK_TIMES,
        &NETWORK_TIMES,
        &SERVER_TIMES,
        &BROWSER_TIMES,
        &RUN_REQUESTS,
        &RUN_BYTES,
        &RUN_THIRD_PARTY,
        &RUN_SCRIPT_ERRORS,
        &VIEWS,
        &FIGURES,
        &REQUEST_TIMES,
        &ACTION_TIMES,
        &HAPPENED,
    ];
    groups.into_iter().chain([&JUDGED[..]]).flatten()
}

/// The form that a measure has, with what stands in its slots.
pub(super) fn of(measure: &Measure) -> Option<(&'static Form, Vec<Value>)> {
    forms().find_map(|form| Some((form, (form.unmake)(measure)?)))
}
