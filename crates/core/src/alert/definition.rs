//! What an alert says: a measure over a window, levels, and how long it has to last.

use crate::calendar::stretch::at_second;
use crate::calendar::{Cover, Stretch, Window};
use crate::goal::definition::ServiceHours;
use crate::goal::period;
use crate::measure::text::{length, read_size, size};
use crate::measure::{Measured, Subject, Unit, Worse};
use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp};
use serde::{Deserialize, Serialize};
use std::fmt::Write;

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// Somebody should look at it.
    Warning,
    /// Somebody has to do something now.
    Critical,
}

impl Severity {
    /// Both, the lesser first.
    pub const ALL: [Severity; 2] = [Severity::Warning, Severity::Critical];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            Severity::Warning => "warning",
            Severity::Critical => "critical",
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<Severity> {
        Severity::ALL.into_iter().find(|s| s.word() == word)
    }
}

/// What it means that there is nothing to judge.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum NoData {
    /// Nothing: it stays as it is.
    #[default]
    Keep,
    /// That all is well.
    Clear,
    /// That something is wrong.
    Open,
}

impl NoData {
    /// All of them.
    pub const ALL: [NoData; 3] = [NoData::Keep, NoData::Clear, NoData::Open];

    /// In one word.
    pub fn word(self) -> &'static str {
        match self {
            NoData::Keep => "keep",
            NoData::Clear => "clear",
            NoData::Open => "open",
        }
    }

    /// The one of this word.
    pub fn of_word(word: &str) -> Option<NoData> {
        NoData::ALL.into_iter().find(|n| n.word() == word)
    }

    /// As people say it.
    pub fn words(self) -> &'static str {
        match self {
            NoData::Keep => "stays as it is",
            NoData::Clear => "counts as well",
            NoData::Open => "counts as trouble",
        }
    }
}

/// When it opens.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Rule {
    /// Beyond a level, in the unit of the measure. The levels themselves are within.
    Level {
        /// From here on a warning.
        warning: Option<f64>,
        /// From here on critical.
        critical: Option<f64>,
        /// It clears at this level or on its good side; without, at the least of the others.
        clear: Option<f64>,
    },
    /// Unlike its usual ([`super::usual`]): levels are in spreads on its worse side. The levels themselves are within.
    Unusual {
        /// From here on a warning.
        warning: Option<f64>,
        /// From here on critical.
        critical: Option<f64>,
        /// It clears at this level or nearer; without, at the least of the others.
        clear: Option<f64>,
    },
    /// A goal's error budget burns over one of the paired windows of [`crate::goal::burn::PAIRS`]: over the two shorter pairs
    /// critical, over the longest a warning.
    Burns,
}

impl Rule {
    /// The levels of a warning, of what is critical, and at which it clears if it says; none of a rule that has none.
    pub fn levels(&self) -> [Option<f64>; 3] {
        match *self {
            Rule::Level { warning, critical, clear }
            | Rule::Unusual { warning, critical, clear } => [warning, critical, clear],
            Rule::Burns => [None; 3],
        }
    }
}

/// What an alert says.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Definition {
    /// Which number, of what.
    pub measured: Measured,
    /// When it opens.
    pub rule: Rule,
    /// Over so many seconds the measure is read.
    pub window_s: i64,
    /// And every so many seconds.
    pub every_s: i64,
    /// In so many evaluations running it has to be so.
    pub running: u32,
    /// With fewer samples nothing is judged.
    #[serde(default)]
    pub least_samples: u64,
    /// From fewer locations nothing is judged.
    #[serde(default)]
    pub least_places: u32,
    /// What no data means.
    #[serde(default)]
    pub no_data: NoData,
    /// Only then; always without.
    #[serde(default)]
    pub service_hours: Option<ServiceHours>,
}

/// Windows are at most so long, in seconds: a day.
pub const LONGEST_WINDOW_S: i64 = 86_400;
/// Evaluations are at most so far apart, in seconds: an hour.
pub const LONGEST_EVERY_S: i64 = 3_600;
/// It has to be so in at most so many evaluations running.
pub const MOST_RUNNING: u32 = 60;

/// Levels beyond the usual are at most so many spreads.
pub const MOST_SPREADS: f64 = 100.0;

/// Why something cannot be an alert.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum Unfit {
    #[error("an alert has a level: a warning, a critical one, or both")]
    NoLevel,
    #[error("a level is a number that the measure can have")]
    NoNumber,
    #[error("the critical level is worse than the warning: {0} it")]
    Order(&'static str),
    #[error(
        "the clear level is on the good side of the other levels, or one of them: not {0} them"
    )]
    ClearSide(&'static str),
    #[error("a window is 1 minute to 24 hours long, in whole minutes")]
    Window,
    #[error("evaluations are 1 to 60 minutes apart, in whole minutes")]
    Every,
    #[error(
        "a window is no shorter than the time between two evaluations: what lies between would be seen by nobody"
    )]
    Gap,
    #[error("it has to be so in 1 to {MOST_RUNNING} evaluations running")]
    Running,
    #[error("only what runs tell comes from locations")]
    Places,
    #[error("at least so many samples: from 0 to a million")]
    Samples,
    #[error("service hours need one day of the week at least, and two times of day that differ")]
    Hours,
    #[error(
        "only what has samples of its own has a usual: not what is judged, posted, or how long nothing came"
    )]
    NoUsual,
    #[error("levels beyond the usual are 1 to {MOST_SPREADS} spreads, and it clears from 0 on")]
    Spreads,
    #[error(
        "an error budget that burns is that of a goal: “burn rate over 1 h and 5 min for goal …”"
    )]
    NoGoal,
}

impl Unfit {
    /// The field that is wrong.
    pub fn field(&self) -> &'static str {
        match self {
            Unfit::NoLevel | Unfit::NoNumber | Unfit::Order(_) | Unfit::Spreads => "critical",
            Unfit::ClearSide(_) => "clear",
            Unfit::Window | Unfit::Gap => "window",
            Unfit::Every => "every",
            Unfit::Running => "running",
            Unfit::Places => "least_locations",
            Unfit::Samples => "least_samples",
            Unfit::Hours => "service_hours",
            Unfit::NoGoal | Unfit::NoUsual => "measure",
        }
    }
}

impl Definition {
    /// Whether it can be watched.
    ///
    /// # Errors
    /// Says the first thing that is wrong with it.
    pub fn check(&self) -> Result<(), Unfit> {
        let minutes = |s: i64, most: i64| (60..=most).contains(&s) && s % 60 == 0;
        let hours = self.service_hours.as_ref();
        let is_of_runs = self.measured.measure.subject() == Subject::Runs;
        let checks = [
            (minutes(self.window_s, LONGEST_WINDOW_S), Unfit::Window),
            (minutes(self.every_s, LONGEST_EVERY_S), Unfit::Every),
            (self.every_s <= self.window_s || !self.has_window(), Unfit::Gap),
            ((1..=MOST_RUNNING).contains(&self.running), Unfit::Running),
            (self.least_samples <= 1_000_000, Unfit::Samples),
            (self.least_places == 0 || (is_of_runs && self.least_places <= 1_000), Unfit::Places),
            (hours.is_none_or(|h| h.days.contains(&true) && h.from != h.until), Unfit::Hours),
        ];
        if let Some((_, why)) = checks.into_iter().find(|(fine, _)| !fine) {
            return Err(why);
        }
        self.check_rule()
    }

    fn check_rule(&self) -> Result<(), Unfit> {
        let of_goal = self.measured.measure.subject() == Subject::Goals;
        let [warning, critical, clear] = self.rule.levels();
        match self.rule {
            Rule::Burns if of_goal => return Ok(()),
            Rule::Burns => return Err(Unfit::NoGoal),
            Rule::Unusual { .. } if !self.has_window() => return Err(Unfit::NoUsual),
            _ => {}
        }
        let can_be = |v: f64| v.is_finite() && v.abs() < 1e12;
        if [warning, critical, clear].into_iter().flatten().any(|v| !can_be(v)) {
            return Err(Unfit::NoNumber);
        }
        if matches!(self.rule, Rule::Unusual { .. }) {
            let fits = |v: f64| (1.0..=MOST_SPREADS).contains(&v);
            let levels = [warning, critical].into_iter().flatten();
            if !levels.into_iter().all(fits) || clear.is_some_and(|c| c < 0.0) {
                return Err(Unfit::Spreads);
            }
        }
        let worse = self.side();
        if let (Some(warning), Some(critical)) = (warning, critical)
            && !worse.is_beyond(critical, warning)
        {
            return Err(Unfit::Order(worse.word()));
        }
        let Some(least) = warning.or(critical) else { return Err(Unfit::NoLevel) };
        match clear {
            Some(clear) if worse.is_beyond(clear, least) => Err(Unfit::ClearSide(worse.word())),
            _ => Ok(()),
        }
    }

    /// Whether it is read over the window: what is judged and posted has windows of its own.
    pub fn has_window(&self) -> bool {
        let measure = &self.measured.measure;
        !matches!(measure.subject(), Subject::Goals | Subject::Dependencies)
            && !measure.is_silence()
    }

    /// The moments after one and up to another at which it is evaluated: whole multiples of its interval, so that a trial
    /// and the watch look at the same ones.
    pub fn moments(&self, after: Timestamp, up_to: Timestamp) -> Vec<Timestamp> {
        let every = self.every_s.max(60);
        let first = after.as_second().div_euclid(every) + 1;
        (first..=up_to.as_second().div_euclid(every)).map(|nth| at_second(nth * every)).collect()
    }

    /// Of a stretch the time in which it is judged. A window has to lie outside of what is left out as a whole, and what
    /// has been silent because runs were held is no silence: so much longer nothing is judged after it.
    pub fn judged(&self, stretch: Stretch, left_out: &Cover, zone: &TimeZone) -> Cover {
        let after_s = match self.measured.measure.is_silence() {
            true => self.clears_at().map_or(0, |ms| (ms / 1e3) as i64),
            false if self.has_window() => self.window_s,
            false => 0,
        };
        let longer = |s: &Stretch| Stretch { to: s.to + SignedDuration::from_secs(after_s), ..*s };
        let out = Cover::of(left_out.stretches().iter().map(longer));
        let hours: Vec<Window> = self.service_hours.iter().map(|h| h.window(zone)).collect();
        period::counted(stretch, &hours, &out, zone)
    }

    /// So many minutes it has to be beyond a level before it opens.
    pub fn opens_after_min(&self) -> i64 {
        (self.every_s * i64::from(self.running.max(1)) + 59) / 60
    }

    /// Which way is worse.
    pub fn worse(&self) -> Worse {
        self.measured.measure.worse()
    }

    /// On which side of its levels what is judged is worse: of the measure itself, or of how far beyond its usual it is.
    pub fn side(&self) -> Worse {
        match self.rule {
            Rule::Level { .. } => self.worse(),
            Rule::Unusual { .. } | Rule::Burns => Worse::Above,
        }
    }

    /// In what levels are counted.
    pub fn level_unit(&self) -> Unit {
        match self.rule {
            Rule::Level { .. } => self.measured.measure.unit(),
            Rule::Unusual { .. } => Unit::Plain,
            Rule::Burns => Unit::Times,
        }
    }

    /// The level at which it clears, if it has levels.
    pub fn clears_at(&self) -> Option<f64> {
        let [warning, critical, clear] = self.rule.levels();
        clear.or(warning).or(critical)
    }

    /// What it says, in one sentence.
    pub fn sentence(&self) -> String {
        let mut says = self.opens_when();
        if self.running > 1 {
            let _ = write!(says, " in {} evaluations running", self.running);
        }
        let mut least = Vec::new();
        if self.least_samples > 0 {
            let what = self.measured.measure.samples_words();
            least.push(format!("{} {what}", crate::stats::proof::counted(self.least_samples)));
        }
        if self.least_places > 0 {
            least.push(format!("{} locations", self.least_places));
        }
        if !least.is_empty() {
            let _ = write!(says, ", with at least {}", least.join(" from "));
        }
        if let Some(clear) = self.clears_at() {
            let good = match (self.rule, self.worse()) {
                (Rule::Unusual { .. }, _) => {
                    return self.ended(says + &format!("; clears within {clear} of it"));
                }
                (_, Worse::Above) => "at or below",
                (_, Worse::Below) => "at or above",
            };
            let _ = write!(says, "; clears {good} {}", exact(self.level_unit(), clear));
        }
        self.ended(says)
    }

    fn ended(&self, mut says: String) -> String {
        if let Some(hours) = &self.service_hours {
            let _ = write!(says, "; only {}", hours.words());
        }
        says.push('.');
        says
    }

    /// The beginning of the sentence.
    fn opens_when(&self) -> String {
        let (unit, worse) = (self.level_unit(), self.worse().word());
        let over = match self.has_window() {
            true => format!(" over {}", length(self.window_s as f64 * 1e3)),
            false => String::new(),
        };
        let [warning, critical, _] = self.rule.levels();
        let levels = |before: &str, after: &str| match (warning, critical) {
            (Some(w), Some(c)) => {
                format!("{before} {}{after} (warning {before} {})", exact(unit, c), exact(unit, w))
            }
            (Some(w), None) => format!("{before} {}{after} (warning)", exact(unit, w)),
            (None, Some(c)) => format!("{before} {}{after}", exact(unit, c)),
            (None, None) => String::new(),
        };
        match self.rule {
            Rule::Burns => {
                let goal = self.measured.scope.of(&crate::measure::Key::Goal).join(", ");
                format!(
                    "Opens when the error budget of “{goal}” burns too fast over 1 h and 5 min, 6 h and 30 min (critical) or 3 d and 6 h (warning)"
                )
            }
            Rule::Level { .. } => {
                format!("Opens when {}{over} is {}", self.measured, levels(worse, ""))
            }
            Rule::Unusual { .. } => {
                let after = format!(" spreads {worse} it");
                let levels = levels("more than", &after);
                format!("Opens when {}{over} is unlike its usual: {levels}", self.measured)
            }
        }
    }
}

/// A level as it is typed and read back to the last bit: never rounded.
pub fn exact(unit: Unit, value: f64) -> String {
    match unit {
        Unit::Share => {
            let percent = value * 100.0;
            // 0.29 is 28.999999999999996 %; what is meant is read back.
            let short = (percent * 1e9).round() / 1e9;
            format!("{short} %")
        }
        Unit::Ms => length(value),
        Unit::State => unit.text(value),
        Unit::Bytes => size(value),
        Unit::Count | Unit::Plain | Unit::Times => value.to_string(),
    }
}

/// A level that was typed, in the unit of its measure.
///
/// # Errors
/// Says what would be right.
pub fn level(unit: Unit, typed: &str) -> Result<f64, String> {
    let typed = typed.trim();
    let plain =
        |text: &str| text.trim().replace(',', ".").parse::<f64>().ok().filter(|v| v.is_finite());
    let says = |right: &str| Err(format!("“{typed}” is no level: write {right}"));
    match unit {
        Unit::Share => match typed.strip_suffix('%').and_then(plain) {
            Some(percent) => Ok(percent / 100.0),
            None => says("a share such as 2.5 %"),
        },
        Unit::Ms => {
            let end = typed.find(|c: char| c.is_alphabetic()).unwrap_or(typed.len());
            let (number, name) = typed.split_at(end);
            let factor = crate::measure::text::ms_of_unit(name.trim());
            match plain(number).zip(factor) {
                Some((value, factor)) => Ok(value * factor),
                None => says("a time with its unit, such as 2.5 s, 300 ms or 10 min"),
            }
        }
        Unit::Bytes => match read_size(&typed.replace(',', ".")) {
            Some(bytes) => Ok(bytes),
            None => says("a size with its unit, such as 1.5 MB or 300 kB"),
        },
        Unit::State => match crate::dependency::State::of_word(typed) {
            Some(state) => Ok(crate::measure::state_level(state)),
            None => says("ok, unknown or degraded: worse than that opens it"),
        },
        Unit::Count | Unit::Plain | Unit::Times => match plain(typed) {
            Some(value) => Ok(value),
            None => says("a number"),
        },
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn slow(warning: Option<f64>, critical: Option<f64>, clear: Option<f64>) -> Definition {
        Definition {
            measured: "p75 of LCP for family \"Sailings list\" and device \"phone\""
                .parse()
                .unwrap(),
            rule: Rule::Level { warning, critical, clear },
            window_s: 300,
            every_s: 60,
            running: 3,
            least_samples: 50,
            least_places: 0,
            no_data: NoData::Keep,
            service_hours: None,
        }
    }

    fn of(measured: &str, rule: Rule) -> Definition {
        Definition {
            measured: measured.parse().unwrap(),
            rule,
            least_samples: 0,
            ..slow(None, None, None)
        }
    }

    #[test]
    fn an_alert_is_one_sentence() {
        assert_eq!(
            slow(Some(2_200.0), Some(2_500.0), Some(2_000.0)).sentence(),
            "Opens when p75 of LCP for family \"Sailings list\" and device \"phone\" over 5 min is above 2.5 s (warning above \
             2.2 s) in 3 evaluations running, with at least 50 page views that told it; clears at or below 2 s."
        );
        let fails = of(
            "failing locations for journey \"book\"",
            Rule::Level { warning: None, critical: Some(1.0), clear: None },
        );
        assert_eq!(
            Definition { running: 1, least_places: 2, ..fails }.sentence(),
            "Opens when failing locations for journey \"book\" over 5 min is above 1, with at least 2 locations; clears at or below 1."
        );
        let unusual = Rule::Unusual { warning: Some(4.0), critical: Some(8.0), clear: Some(2.5) };
        assert_eq!(
            Definition { running: 1, window_s: 3_600, ..of("count of page views", unusual) }
                .sentence(),
            "Opens when count of page views over 1 h is unlike its usual: more than 8 spreads below it (warning more than 4); \
             clears within 2.5 of it."
        );
        let burns = of("burn rate over 1 h and 5 min for goal \"Booking works\"", Rule::Burns);
        assert!(burns.sentence().starts_with(
            "Opens when the error budget of “Booking works” burns too fast over 1 h and 5 min"
        ));
        let share = of(
            "availability",
            Rule::Level { warning: Some(0.29), critical: None, clear: Some(0.999) },
        );
        assert!(
            share.sentence().contains("is below 29 % (warning)")
                && share.sentence().contains("at or above 99.9 %")
        );
    }

    fn unlike(warning: f64, critical: f64, clear: Option<f64>) -> Rule {
        Rule::Unusual { warning: Some(warning), critical: Some(critical), clear }
    }

    #[test]
    fn what_cannot_be_an_alert_is_told_by_what_is_wrong_with_it() {
        let fine = slow(Some(2_200.0), Some(2_500.0), Some(2_000.0));
        assert_eq!(fine.check(), Ok(()));
        for (wrong, why) in [
            (slow(None, None, None), Unfit::NoLevel),
            (slow(None, None, Some(1.0)), Unfit::NoLevel),
            (slow(None, Some(f64::NAN), None), Unfit::NoNumber),
            (slow(Some(2_500.0), Some(2_500.0), None), Unfit::Order("above")),
            (slow(Some(2_200.0), Some(2_500.0), Some(2_300.0)), Unfit::ClearSide("above")),
            (Definition { window_s: 90, ..fine.clone() }, Unfit::Window),
            (Definition { window_s: 90_000, ..fine.clone() }, Unfit::Window),
            (Definition { every_s: 0, ..fine.clone() }, Unfit::Every),
            (Definition { every_s: 600, ..fine.clone() }, Unfit::Gap),
            (Definition { running: 0, ..fine.clone() }, Unfit::Running),
            (Definition { least_places: 2, ..fine.clone() }, Unfit::Places),
            (Definition { rule: Rule::Burns, ..fine.clone() }, Unfit::NoGoal),
            (of("silence of runs", unlike(4.0, 8.0, None)), Unfit::NoUsual),
            (of("count of page views", unlike(4.0, 0.5, None)), Unfit::Spreads),
            (of("count of page views", unlike(4.0, 8.0, Some(-1.0))), Unfit::Spreads),
            (of("count of page views", unlike(8.0, 4.0, None)), Unfit::Order("above")),
            (of("count of page views", unlike(4.0, 8.0, Some(5.0))), Unfit::ClearSide("above")),
            (
                of(
                    "availability",
                    Rule::Level { warning: Some(0.9), critical: Some(0.95), clear: None },
                ),
                Unfit::Order("below"),
            ),
            (
                of(
                    "availability",
                    Rule::Level { warning: Some(0.9), critical: None, clear: Some(0.8) },
                ),
                Unfit::ClearSide("below"),
            ),
        ] {
            assert_eq!(wrong.check(), Err(why), "{}", wrong.sentence());
        }
        // What has windows of its own is looked at as seldom as wanted.
        let state = of(
            "state for dependency \"payments\"",
            Rule::Level { warning: Some(1.0), critical: None, clear: None },
        );
        assert_eq!(Definition { every_s: 900, ..state }.check(), Ok(()));
    }

    #[test]
    fn it_is_judged_in_service_hours_and_when_its_whole_window_lies_outside_of_maintenance() {
        let at = |text: &str| text.parse::<Timestamp>().unwrap();
        let day = Stretch { from: at("2026-11-20T00:00:00Z"), to: at("2026-11-21T00:00:00Z") };
        let out = Cover::from(Stretch {
            from: at("2026-11-20T10:00:00Z"),
            to: at("2026-11-20T11:00:00Z"),
        });
        let utc = TimeZone::UTC;
        let fine = slow(Some(2_200.0), None, None);
        let judged = |alert: &Definition, clock: &str| {
            alert.judged(day, &out, &utc).contains(at(&format!("2026-11-20T{clock}:00Z")))
        };
        let of =
            |alert: &Definition| ["09:59", "10:00", "11:04", "11:05"].map(|c| judged(alert, c));
        assert_eq!(of(&fine), [true, false, false, true], "five minutes longer than it lasts");
        let silent = self::of(
            "silence of runs",
            Rule::Level { warning: Some(600_000.0), critical: None, clear: None },
        );
        assert!(!judged(&silent, "11:09") && judged(&silent, "11:10"), "ten minutes");
        let hours = ServiceHours {
            days: [true; 7],
            from: jiff::civil::time(6, 0, 0, 0),
            until: jiff::civil::time(9, 30, 0, 0),
        };
        let open = Definition { service_hours: Some(hours), ..fine.clone() };
        assert!(judged(&open, "09:29") && !judged(&open, "09:30") && !judged(&open, "05:59"));
        let moments = fine.moments(at("2026-11-20T10:00:00Z"), at("2026-11-20T10:02:59Z"));
        assert_eq!(moments, [at("2026-11-20T10:01:00Z"), at("2026-11-20T10:02:00Z")]);
    }

    proptest! {
        #[test]
        fn a_level_is_read_back_as_it_was(thousandths in 1i64..100_000_000, nth in 0usize..5) {
            let unit = [Unit::Share, Unit::Ms, Unit::Count, Unit::Plain, Unit::Times][nth];
            let value = thousandths as f64 / 1e3;
            let value = if unit == Unit::Share { value / 100.0 } else { value };
            let back = level(unit, &exact(unit, value)).unwrap();
            prop_assert!((back - value).abs() <= 1e-12 * value, "{unit:?} {} {back}", exact(unit, value));
        }

        #[test]
        fn no_text_that_is_typed_for_a_level_does_harm(typed in "[0-9a-z%., é-]{0,12}") {
            for unit in [Unit::Share, Unit::Ms, Unit::Count, Unit::Plain, Unit::Times, Unit::State] {
                if let Err(says) = level(unit, &typed) {
                    prop_assert!(says.contains("is no level: write "));
                }
            }
        }
    }
}
