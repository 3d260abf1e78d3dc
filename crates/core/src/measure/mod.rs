//! Measures: the one vocabulary of what budgets, goals, alerts and queries are about.
//!
//! A [`Measure`] says which number; a [`Scope`] says of what. Both are written as people say them and read back:
//! `p75 of LCP for family "Timetable" and device "phone"`. The words are one table ([`forms::FORMS`]), which reads, prints,
//! completes, and makes the reference page.
//!
//! - [`forms`]: every form a measure has; [`scope`]: what it is narrowed to; [`text`]: reading and completing both
//! - [`part`]: what is gathered of samples, and what it comes to
//! - [`sheets`]: gathering from page views and what happened on them; [`runs`]: from runs
//! - [`windowed`]: the same number over a window that moves on minute by minute

pub mod forms;
pub mod part;
pub mod posted;
pub mod runs;
pub mod scope;
pub mod sheets;
pub mod text;
pub mod windowed;

pub use part::Part;
pub use scope::{Key, Scope};
pub use text::{Measured, TextError, complete, value_begun};

use crate::run::Counts;
use crate::timing::Vital;
use serde::Serialize;

/// What a measure is read of: where its samples come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Subject {
    /// Runs of journeys.
    Runs,
    /// Page views of visitors.
    PageViews,
    /// Requests that pages make.
    Requests,
    /// What visitors press.
    Actions,
    /// What goes wrong in pages.
    Errors,
    /// What is promised.
    Goals,
    /// What the site stands on.
    Dependencies,
}

impl Subject {
    /// All of them, in the order of the reference.
    pub const ALL: [Subject; 7] = [
        Subject::Runs,
        Subject::PageViews,
        Subject::Requests,
        Subject::Actions,
        Subject::Errors,
        Subject::Goals,
        Subject::Dependencies,
    ];

    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            Subject::Runs => "runs",
            Subject::PageViews => "page views",
            Subject::Requests => "requests",
            Subject::Actions => "actions",
            Subject::Errors => "errors",
            Subject::Goals => "goals",
            Subject::Dependencies => "dependencies",
        }
    }
}

/// What a value is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Unit {
    /// A share, 0 to 1.
    Share,
    /// Milliseconds.
    Ms,
    /// A number of things.
    Count,
    /// A number without a unit.
    Plain,
    /// Bytes.
    Bytes,
    /// So many times as fast as it may be.
    Times,
    /// A state: 0 ok, 1 unknown, 2 degraded, 3 down.
    State,
}

/// Which way is worse.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "snake_case")]
pub enum Worse {
    /// The more, the worse.
    Above,
    /// The less, the worse.
    Below,
}

impl Worse {
    /// Whether a value is beyond a level: worse than it. The level itself is not beyond.
    pub fn is_beyond(self, value: f64, level: f64) -> bool {
        match self {
            Worse::Above => value > level,
            Worse::Below => value < level,
        }
    }

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Worse::Above => "above",
            Worse::Below => "below",
        }
    }

    /// The worse of two values.
    pub fn worst(self, a: f64, b: f64) -> f64 {
        match self {
            Worse::Above => a.max(b),
            Worse::Below => a.min(b),
        }
    }
}

/// What is read off many samples.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Statistic {
    /// The percentile at this share of the samples, 0 to 1.
    Percentile(f64),
    /// The arithmetic mean.
    Mean,
    /// The share of samples up to this limit, which is in the samples' own unit.
    Within(f64),
}

/// A number that each page view may tell.
#[derive(Debug, Clone, PartialEq)]
pub enum Figure {
    /// A vital.
    Vital(Vital),
    /// Until it had loaded.
    Load,
    /// Looking up the name.
    Dns,
    /// Connecting.
    Connect,
    /// A number that the site's own pages tell.
    Own(String),
}

impl Figure {
    /// The column of sheets that holds it.
    pub fn column(&self) -> String {
        match self {
            Figure::Vital(vital) => vital.name().to_lowercase(),
            Figure::Load => "load".into(),
            Figure::Dns => "dns".into(),
            Figure::Connect => "connect".into(),
            Figure::Own(name) => format!("number.{name}"),
        }
    }

    /// What it is counted in.
    pub fn unit(&self) -> Unit {
        match self {
            Figure::Vital(Vital::Cls) | Figure::Own(_) => Unit::Plain,
            _ => Unit::Ms,
        }
    }
}

/// Part of a run whose time is measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Span {
    /// All of it.
    Run,
    /// A step of it, which the scope names.
    Step,
    /// Until a mark was set, which the scope names, from its step's beginning.
    Mark,
    /// What the network took.
    Network,
    /// What the server took.
    Server,
    /// What the browser took.
    Browser,
}

/// What of a run is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tallied {
    /// Requests that it made.
    Requests,
    /// Bytes that came.
    Bytes,
    /// Of them those of hosts that are not the site's.
    ThirdPartyBytes,
    /// Errors of scripts that nothing caught.
    ScriptErrors,
}

impl Tallied {
    /// What of the counts of a run it is.
    pub fn of(self, counts: &Counts) -> u64 {
        match self {
            Tallied::Requests => counts.requests,
            Tallied::Bytes => counts.bytes,
            Tallied::ThirdPartyBytes => counts.third_party_bytes,
            Tallied::ScriptErrors => counts.script_errors,
        }
    }

    /// What one value of it is counted in.
    fn unit(self) -> Unit {
        match self {
            Tallied::Requests | Tallied::ScriptErrors => Unit::Count,
            Tallied::Bytes | Tallied::ThirdPartyBytes => Unit::Bytes,
        }
    }
}

/// How a page view can end badly.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Ended {
    /// Left before it had loaded.
    Abandoned,
    /// Nothing was ever drawn.
    Blank,
    /// Something went wrong in its scripts.
    WithErrors,
}

/// What of page views is counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Counted {
    /// Page views themselves.
    PageViews,
    /// Different people, as far as pages tell who it was.
    People,
    /// Different visits.
    Visits,
}

/// What happens on pages that takes time and can fail.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Happening {
    /// A request by fetch or XHR.
    Request,
    /// Something that a visitor pressed.
    Action,
}

/// Which number.
#[derive(Debug, Clone, PartialEq)]
pub enum Measure {
    /// How many runs were played and measured.
    RunCount,
    /// The share of runs that got through.
    Availability,
    /// The share of runs that were slow.
    RunsSlow,
    /// The share of runs that failed.
    RunsFailed,
    /// A time of the runs that got through.
    RunTime(Span, Statistic),
    /// What runs that got through fetched, and errors of scripts in all that were measured.
    RunTally(Tallied, Statistic),
    /// Locations whose newest run failed.
    FailingLocations,
    /// Days that are left of the certificates that the newest runs saw: of the one that ends first.
    CertificateDays,
    /// Time since the newest run that was measured.
    RunSilence,
    /// How many there were.
    Views(Counted),
    /// A number of page views.
    ViewFigure(Figure, Statistic),
    /// The share of page views whose vital is good, or poor.
    ViewsRated(Vital, Rated),
    /// Apdex of the largest paint, with T in milliseconds.
    Apdex(f64),
    /// The share of page views that ended badly.
    ViewsEnded(Ended),
    /// Time since the newest page view.
    ViewSilence,
    /// How many there were.
    HappenedCount(Happening),
    /// How long they took, in milliseconds.
    HappenedTime(Happening, Statistic),
    /// The share of them that failed.
    HappenedFailed(Happening),
    /// How many errors there were.
    ErrorCount,
    /// How many kinds of them.
    ErrorKinds,
    /// How many kinds of them that had not been seen for two weeks.
    NewErrorKinds,
    /// How many people they happened to.
    ErrorPeople,
    /// What is left of a goal's error budget, as a share of it.
    BudgetLeft,
    /// How fast it burns, over both of two windows (in seconds): the slower of the two rates.
    Burn {
        /// The long window.
        long_s: i64,
        /// The short window.
        short_s: i64,
    },
    /// How long the error budget lasts at the pace of the last day.
    BudgetLasts,
    /// The state that is posted of a dependency.
    DependencyState,
}

/// How a vital is rated at the ends that matter.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Rated {
    /// As it should be.
    Good,
    /// Poor.
    Poor,
}

impl Measure {
    /// Whether what it is read of may be narrowed by this, where its subject may: steps and marks are asked about by their
    /// own times alone.
    pub fn is_narrowed_by(&self, key: &Key) -> bool {
        match key {
            Key::Step if self.subject() == Subject::Runs => {
                matches!(self, Measure::RunTime(Span::Step, _))
            }
            Key::Mark => matches!(self, Measure::RunTime(Span::Mark, _)),
            _ => true,
        }
    }

    /// What it is read of.
    pub fn subject(&self) -> Subject {
        use Measure as M;
        match self {
            M::RunCount
            | M::Availability
            | M::RunsSlow
            | M::RunsFailed
            | M::RunTime(..)
            | M::RunTally(..)
            | M::FailingLocations
            | M::CertificateDays
            | M::RunSilence => Subject::Runs,
            M::Views(_)
            | M::ViewFigure(..)
            | M::ViewsRated(..)
            | M::Apdex(_)
            | M::ViewsEnded(_)
            | M::ViewSilence => Subject::PageViews,
            M::HappenedCount(what) | M::HappenedTime(what, _) | M::HappenedFailed(what) => {
                match what {
                    Happening::Request => Subject::Requests,
                    Happening::Action => Subject::Actions,
                }
            }
            M::ErrorCount | M::ErrorKinds | M::NewErrorKinds | M::ErrorPeople => Subject::Errors,
            M::BudgetLeft | M::Burn { .. } | M::BudgetLasts => Subject::Goals,
            M::DependencyState => Subject::Dependencies,
        }
    }

    /// What its value is counted in.
    pub fn unit(&self) -> Unit {
        use Measure as M;
        match self {
            M::RunTime(_, statistic) | M::HappenedTime(_, statistic) => statistic.unit(Unit::Ms),
            M::RunTally(tallied, statistic) => match (tallied.unit(), statistic) {
                // A mean of whole numbers is none.
                (Unit::Count, Statistic::Mean) => Unit::Plain,
                (of, statistic) => statistic.unit(of),
            },
            M::ViewFigure(figure, statistic) => statistic.unit(figure.unit()),
            M::Availability
            | M::RunsSlow
            | M::RunsFailed
            | M::ViewsRated(..)
            | M::ViewsEnded(_)
            | M::HappenedFailed(_)
            | M::BudgetLeft => Unit::Share,
            M::Apdex(_) => Unit::Plain,
            M::RunSilence | M::ViewSilence | M::BudgetLasts => Unit::Ms,
            M::RunCount
            | M::FailingLocations
            | M::CertificateDays
            | M::Views(_)
            | M::HappenedCount(_)
            | M::ErrorCount
            | M::ErrorKinds
            | M::NewErrorKinds
            | M::ErrorPeople => Unit::Count,
            M::Burn { .. } => Unit::Times,
            M::DependencyState => Unit::State,
        }
    }

    /// Which way is worse.
    pub fn worse(&self) -> Worse {
        use Measure as M;
        match self {
            M::Availability
            | M::RunCount
            | M::Views(_)
            | M::ViewsRated(_, Rated::Good)
            | M::Apdex(_)
            | M::HappenedCount(_)
            | M::CertificateDays
            | M::BudgetLeft
            | M::BudgetLasts => Worse::Below,
            M::RunTime(_, Statistic::Within(_))
            | M::ViewFigure(_, Statistic::Within(_))
            | M::HappenedTime(_, Statistic::Within(_)) => Worse::Below,
            _ => Worse::Above,
        }
    }

    /// Whether nothing at all is a value of it: no page views are nought page views, while the percentile of none is no data.
    pub fn is_nought_without_samples(&self) -> bool {
        matches!(
            self,
            Measure::RunCount
                | Measure::FailingLocations
                | Measure::Views(_)
                | Measure::HappenedCount(_)
                | Measure::ErrorCount
                | Measure::ErrorKinds
                | Measure::NewErrorKinds
                | Measure::ErrorPeople
        )
    }

    /// The share of its samples that it is the percentile at, if it is one.
    pub fn percentile(&self) -> Option<f64> {
        match self {
            Measure::RunTime(_, Statistic::Percentile(p))
            | Measure::RunTally(_, Statistic::Percentile(p))
            | Measure::ViewFigure(_, Statistic::Percentile(p))
            | Measure::HappenedTime(_, Statistic::Percentile(p)) => Some(*p),
            _ => None,
        }
    }

    /// Whether its readings have an interval, given enough samples.
    pub fn has_interval(&self) -> bool {
        self.percentile().is_some() || self.unit() == Unit::Share
    }

    /// Whether it tells for how long nothing came: it looks at what was before a window, too.
    pub fn is_silence(&self) -> bool {
        matches!(self, Measure::RunSilence | Measure::ViewSilence)
    }

    /// What one of its samples is, in words.
    pub fn samples_words(&self) -> &'static str {
        match self {
            Measure::RunTime(Span::Step, _) => "runs that came through the step",
            Measure::CertificateDays => "runs that saw a certificate",
            Measure::RunTally(Tallied::ScriptErrors, _) => "runs whose requests are known",
            Measure::RunTime(..) | Measure::RunTally(..) => "runs that got through",
            Measure::ViewFigure(..) | Measure::ViewsRated(..) | Measure::Apdex(_) => {
                "page views that told it"
            }
            Measure::HappenedTime(Happening::Request, _) => "requests that told how long they took",
            Measure::HappenedTime(Happening::Action, _) => "actions that told how long they took",
            Measure::DependencyState => "states that were posted",
            Measure::BudgetLeft | Measure::Burn { .. } | Measure::BudgetLasts => "runs that count",
            _ => self.subject().words(),
        }
    }
}

impl Statistic {
    /// What it is counted in, of samples that are counted in `of`.
    pub fn unit(self, of: Unit) -> Unit {
        match self {
            Statistic::Percentile(_) | Statistic::Mean => of,
            Statistic::Within(_) => Unit::Share,
        }
    }
}

impl Unit {
    /// A value as people read it.
    pub fn text(self, value: f64) -> String {
        match self {
            Unit::Share => format!("{} %", crate::stats::share_text(value, 2, None)),
            Unit::Ms if value.abs() >= 60_000.0 => crate::calendar::stretch::length_text(value),
            Unit::Ms if value.abs() >= 1_000.0 => format!("{:.2} s", value / 1_000.0),
            Unit::Ms if value == 0.0 => "0 s".into(),
            Unit::Ms => format!("{value:.0} ms"),
            Unit::Count => crate::stats::proof::counted(value.round().max(0.0) as u64),
            Unit::Bytes => text::size_words(value),
            Unit::Plain => crate::stats::proof::plain(value),
            Unit::Times => format!("{value:.1} times"),
            Unit::State => {
                let state = crate::dependency::State::ALL.get(value.max(0.0) as usize);
                state.map_or("unknown", |s| s.word()).into()
            }
        }
    }
}

/// The level of a state, as measures count it.
pub fn state_level(state: crate::dependency::State) -> f64 {
    crate::dependency::State::ALL.iter().position(|s| *s == state).unwrap_or(1) as f64
}
