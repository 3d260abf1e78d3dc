//! What a site lets be collected from its visitors, and for how long.

use crate::calendar::Stretch;
use crate::visitor::beacon::is_attribute_name;
use jiff::Timestamp;
use serde::{Deserialize, Serialize};

/// Settings that the snippet gets with the site's own copy of it, and the intake holds to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Collecting {
    /// Share of visits that report, over 0 to 1.
    pub sample: f64,
    /// Shares that held before, each up to a moment, in order of time.
    pub before: Vec<(Timestamp, f64)>,
    /// Names of query parameters that are kept; all others are cut.
    pub keep: Vec<String>,
    /// Phrases that must not appear in a page; only which one was found is sent.
    pub phrases: Vec<String>,
    /// Origins whose requests get a traceparent.
    pub trace: Vec<String>,
    /// Nothing is sent before the page says that the visitor agreed.
    pub consent: bool,
}

impl Default for Collecting {
    fn default() -> Collecting {
        Collecting {
            sample: 1.0,
            before: vec![],
            keep: vec![],
            phrases: vec![],
            trace: vec![],
            consent: false,
        }
    }
}

/// Where scores break because T, in seconds, is another: of a page family, or of all pages without one.
pub fn t_break(family: Option<&str>, (was, is): (f64, f64)) -> Option<(String, &'static str)> {
    let of = family.map_or(String::new(), |name| format!(" of {name}"));
    let title = format!("Apdex T{of} {was} s → {is} s");
    (was != is).then_some((title, "Scores before and after it cannot be compared."))
}

/// A share of visits in per cent, as it was typed: a hundredth of seven, a hundred times, is a little more than seven.
pub fn percent_text(share: f64) -> String {
    ((share * 1e8).round() / 1e6).to_string()
}

/// Where figures break, in a title and a sentence for the time axis: T in seconds and the share of visits that reports, as
/// they were and as they are.
pub fn breaks(t_s: (f64, f64), sample: (f64, f64)) -> Vec<(String, &'static str)> {
    let share = (sample.0 != sample.1).then(|| {
        let (was, is) = (percent_text(sample.0), percent_text(sample.1));
        let title = format!("{was} % → {is} % of visits report");
        (title, "Counts of those that report change with it.")
    });
    t_break(None, t_s).into_iter().chain(share).collect()
}

/// No site has more of each.
const MOST: usize = 20;

/// So many earlier shares are known.
const MOST_BEFORE: usize = 50;

impl Collecting {
    /// These settings from this moment on, where others held.
    pub fn after(mut self, held: &Collecting, now: Timestamp) -> Collecting {
        self.before = held.before.clone();
        if self.sample != held.sample {
            self.before.push((now, held.sample));
            let over = self.before.len().saturating_sub(MOST_BEFORE);
            self.before.drain(..over);
        }
        self
    }

    /// The share of visits that reported at a moment.
    pub fn sample_at(&self, at: Timestamp) -> f64 {
        self.before.iter().find(|(until, _)| at < *until).map_or(self.sample, |(_, share)| *share)
    }

    /// How many there were in all, from counts of those that reported at each moment: each stands for 1 ÷ share.
    ///
    /// ```
    /// # use cadentis_core::visitor::Collecting;
    /// let tenth = Collecting { sample: 0.1, ..Collecting::default() };
    /// assert_eq!(tenth.estimated_total([(jiff::Timestamp::now(), 12)]), 120.0);
    /// ```
    pub fn estimated_total(&self, counts: impl IntoIterator<Item = (Timestamp, u64)>) -> f64 {
        counts.into_iter().map(|(at, n)| n as f64 / self.sample_at(at)).sum()
    }

    /// The least and the greatest share of visits that reported in a stretch.
    pub fn shares_in(&self, stretch: Stretch) -> (f64, f64) {
        let changed =
            self.before.iter().map(|(until, _)| *until).filter(|at| stretch.contains(*at));
        let shares = std::iter::once(stretch.from).chain(changed).map(|at| self.sample_at(at));
        shares.fold((1.0, 0.0), |(least, most), share| (least.min(share), most.max(share)))
    }

    /// # Errors
    /// Which setting cannot be, and what would be right.
    pub fn check(&self) -> Result<(), String> {
        if !(self.sample > 0.0 && self.sample <= 1.0) {
            return Err(format!(
                "The share of visits is over 0 and at most 1, not {}.",
                self.sample
            ));
        }
        for (what, list) in
            [("query parameters", &self.keep), ("phrases", &self.phrases), ("origins", &self.trace)]
        {
            if list.len() > MOST {
                return Err(format!("At most {MOST} {what}; these are {}.", list.len()));
            }
        }
        if let Some(name) = self.keep.iter().find(|n| !is_attribute_name(n)) {
            return Err(format!(
                "“{name}” is no name of a query parameter: a letter, then letters, digits, - and _."
            ));
        }
        if let Some(phrase) =
            self.phrases.iter().find(|p| p.chars().count() < 4 || p.chars().count() > 120)
        {
            return Err(format!(
                "A phrase has 4 to 120 characters; “{phrase}” has {}.",
                phrase.chars().count()
            ));
        }
        let is_origin = |o: &str| {
            let rest = o.strip_prefix("https://").or_else(|| o.strip_prefix("http://"));
            rest.is_some_and(|host| !host.is_empty() && !host.contains(['/', '?', '#', ' ']))
        };
        if let Some(origin) = self.trace.iter().find(|o| !is_origin(o)) {
            return Err(format!(
                "“{origin}” is no origin: https:// and a host, such as https://api.marram.example."
            ));
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_of_a_sample_are_scaled_by_the_share_of_their_own_time() {
        let at = |s: i64| Timestamp::from_second(s).unwrap();
        let all = Collecting::default();
        let half = Collecting { sample: 0.5, ..all.clone() }.after(&all, at(100));
        let tenth = Collecting { sample: 0.1, ..all.clone() }.after(&half, at(200));
        assert_eq!([99, 100, 199, 200].map(|s| tenth.sample_at(at(s))), [1.0, 0.5, 0.5, 0.1]);
        assert_eq!(
            tenth.estimated_total([(at(50), 7), (at(150), 7), (at(250), 7)]),
            7.0 + 14.0 + 70.0
        );
        let between = |from, to| tenth.shares_in(Stretch { from: at(from), to: at(to) });
        assert_eq!(
            [between(0, 50), between(50, 150), between(120, 900)],
            [(1.0, 1.0), (0.5, 1.0), (0.1, 0.5)]
        );
        let same = Collecting { consent: true, ..tenth.clone() }.after(&tenth, at(300));
        assert_eq!(same.before, tenth.before, "another setting is no change of the share");
    }

    #[test]
    fn figures_break_where_t_or_the_share_changes_and_nowhere_else() {
        assert_eq!(breaks((1.5, 1.5), (0.5, 0.5)), []);
        let titles: Vec<String> =
            breaks((1.5, 2.0), (1.0, 0.25)).into_iter().map(|b| b.0).collect();
        assert_eq!(titles, ["Apdex T 1.5 s → 2 s", "100 % → 25 % of visits report"]);
    }

    #[test]
    fn a_score_breaks_where_the_t_of_its_own_pages_changes_and_says_of_which() {
        assert_eq!(t_break(Some("Pay"), (2.0, 2.0)), None);
        let title = |family, t_s| t_break(family, t_s).map(|b| b.0);
        assert_eq!(title(Some("Pay"), (1.5, 2.5)).as_deref(), Some("Apdex T of Pay 1.5 s → 2.5 s"));
        assert_eq!(title(None, (1.5, 0.1)).as_deref(), Some("Apdex T 1.5 s → 0.1 s"));
    }

    #[test]
    fn a_share_of_visits_is_told_in_the_digits_in_which_it_was_typed() {
        for typed in ["7", "14", "28", "29", "55", "56", "57", "58", "0.001", "12.345", "100"] {
            let share = typed.parse::<f64>().unwrap() / 100.0;
            assert_eq!(percent_text(share), typed, "{share}");
        }
    }

    #[test]
    fn each_setting_that_cannot_be_is_named_with_what_would_be_right() {
        let usual = Collecting::default();
        let with = |change: fn(&mut Collecting)| {
            let mut c = Collecting::default();
            change(&mut c);
            c.check().unwrap_err()
        };
        assert_eq!(usual.check(), Ok(()));
        assert_eq!(with(|c| c.sample = 0.0), "The share of visits is over 0 and at most 1, not 0.");
        assert!(with(|c| c.sample = f64::NAN).contains("not NaN"));
        assert!(with(|c| c.keep = vec!["a b".into()]).starts_with("“a b” is no name"));
        assert!(with(|c| c.phrases = vec!["abc".into()]).ends_with("“abc” has 3."));
        assert!(with(|c| c.trace = vec!["api.example/x".into()]).contains("is no origin"));
        assert_eq!(
            with(|c| c.keep = vec!["a".into(); 21]),
            "At most 20 query parameters; these are 21."
        );
    }
}
