//! The web vitals, their thresholds and ratings.
//!
//! Thresholds apply to the 75th percentile of page views. Source: web.dev/articles/vitals and the
//! page of each metric there (values from memory, equal to the constants in web-vitals 6.2.3).

use serde::{Deserialize, Serialize};

/// What is measured of how a page loads and answers (web.dev, "Web Vitals").
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Vital {
    /// Largest contentful paint.
    Lcp,
    /// Interaction to next paint.
    Inp,
    /// Cumulative layout shift.
    Cls,
    /// First contentful paint.
    Fcp,
    /// Time to the first byte.
    Ttfb,
}

/// How a value is rated.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub enum Rating {
    /// As it should be.
    Good,
    /// Not as it should be, and not poor.
    NeedsImprovement,
    /// Poor.
    Poor,
}

impl Rating {
    /// As people say it.
    pub fn name(self) -> &'static str {
        match self {
            Rating::Good => "good",
            Rating::NeedsImprovement => "needs improvement",
            Rating::Poor => "poor",
        }
    }
}

impl Vital {
    /// All of them, in the order in which they are told.
    pub const ALL: [Vital; 5] = [Vital::Lcp, Vital::Inp, Vital::Cls, Vital::Fcp, Vital::Ttfb];

    /// Its abbreviation.
    pub fn name(self) -> &'static str {
        match self {
            Vital::Lcp => "LCP",
            Vital::Inp => "INP",
            Vital::Cls => "CLS",
            Vital::Fcp => "FCP",
            Vital::Ttfb => "TTFB",
        }
    }

    /// What the letters stand for.
    pub fn title(self) -> &'static str {
        match self {
            Vital::Lcp => "largest contentful paint",
            Vital::Inp => "interaction to next paint",
            Vital::Cls => "cumulative layout shift",
            Vital::Fcp => "first contentful paint",
            Vital::Ttfb => "time to first byte",
        }
    }

    /// (good up to, poor above): milliseconds, or the unitless score of layout shift.
    pub const fn thresholds(self) -> (f64, f64) {
        match self {
            Vital::Lcp => (2500.0, 4000.0),
            Vital::Inp => (200.0, 500.0),
            Vital::Cls => (0.1, 0.25),
            Vital::Fcp => (1800.0, 3000.0),
            Vital::Ttfb => (800.0, 1800.0),
        }
    }

    /// How a value is rated.
    pub fn rate(self, value: f64) -> Rating {
        let (good, poor) = self.thresholds();
        if value <= good {
            Rating::Good
        } else if value <= poor {
            Rating::NeedsImprovement
        } else {
            Rating::Poor
        }
    }

    /// The value with its unit: seconds for loads, milliseconds for interactions, bare for shift.
    pub fn text(self, value: f64) -> String {
        match self {
            Vital::Cls => format!("{value:.2}"),
            Vital::Inp => format!("{value:.0} ms"),
            _ => format!("{:.2} s", value / 1000.0),
        }
    }

    /// The one of this abbreviation, however it is written.
    pub fn parse(word: &str) -> Option<Vital> {
        Vital::ALL.into_iter().find(|v| v.name().eq_ignore_ascii_case(word))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn thresholds_are_those_of_web_dev_and_belong_to_the_better_rating() {
        use Rating::*;
        for (vital, value, want) in [
            (Vital::Lcp, 2500.0, Good),
            (Vital::Lcp, 4000.0, NeedsImprovement),
            (Vital::Lcp, 4000.1, Poor),
            (Vital::Inp, 200.0, Good),
            (Vital::Inp, 500.1, Poor),
            (Vital::Cls, 0.1, Good),
            (Vital::Cls, 0.25, NeedsImprovement),
            (Vital::Fcp, 1800.1, NeedsImprovement),
            (Vital::Ttfb, 1800.0, NeedsImprovement),
            (Vital::Ttfb, 800.0, Good),
        ] {
            assert_eq!(vital.rate(value), want, "{} {value}", vital.name());
        }
    }
}
