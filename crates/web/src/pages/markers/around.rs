//! What was before and after a marker, in words: what surely moved first, then every reading with its interval.

use crate::format::{self, NO_DATA};
use crate::frame::{Frame, family_link};
use crate::view::Working;
use cadentis_answers::markers::{Around, Measured, Pair, Side};
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::stats::compare::Shift;
use cadentis_core::stats::share_text;
use cadentis_core::timing::Vital;

/// What a page says of the time around a marker.
pub struct Compared {
    /// What surely moved, or that nothing did.
    pub says: Vec<String>,
    /// What makes the comparison weaker.
    pub but: Vec<String>,
    pub before: String,
    pub after: String,
    /// Addresses of both stretches.
    pub before_query: String,
    pub after_query: String,
    /// Page views: a row a measure.
    pub rows: Vec<Row>,
    /// Devices, each with a column of its own.
    pub devices: Vec<String>,
    /// Measures of page families that surely moved, and of journeys.
    pub families: Vec<Named>,
    pub journeys: Vec<Named>,
    pub proof: Vec<Working>,
}

/// A measure of a page family or a journey.
pub struct Named {
    pub name: String,
    pub link: String,
    pub row: Row,
}

/// A measure before and after.
pub struct Row {
    pub name: String,
    pub before: String,
    pub after: String,
    pub by: String,
    pub interval: String,
    pub verdict: Verdict,
    /// The same of each device.
    pub devices: Vec<Verdict>,
}

/// What can be said of a difference.
pub struct Verdict {
    pub says: String,
    pub tone: &'static str,
}

fn name(what: Measured) -> String {
    match what {
        Measured::Vital(vital) => format!("{} at p75", vital.name()),
        Measured::WithErrors => "with a script error".into(),
        Measured::Abandoned => "left before they had loaded".into(),
        Measured::Duration => "duration at p75".into(),
        Measured::Availability => "availability".into(),
    }
}

fn value(what: Measured, value: f64) -> String {
    match what {
        Measured::Vital(vital) => vital.text(value),
        Measured::Duration => format!("{} s", format::seconds(value)),
        _ => format!("{} %", share_text(value, 2, None)),
    }
}

/// A difference with its sign, in the unit of what is compared.
fn difference(what: Measured, by: f64) -> String {
    match what {
        Measured::Vital(Vital::Cls) => format::signed(by, 3),
        Measured::Vital(Vital::Inp) => format!("{} ms", format::signed(by, 0)),
        Measured::Vital(_) | Measured::Duration => format!("{} s", format::difference_s(by)),
        _ => format!("{} points", format::signed(by * 100.0, 2)),
    }
}

fn verdict(pair: &Pair) -> Verdict {
    let more = |shift: &Shift| if shift.by() > 0.0 { "more" } else { "less" };
    let (says, tone) = match (pair.shift, pair.is_worse()) {
        (None, _) => (NO_DATA.to_string(), "nodata"),
        (Some(shift), Some(true)) => (format!("surely {}", more(&shift)), "broken"),
        (Some(shift), Some(false)) => (format!("surely {}", more(&shift)), "within"),
        (Some(shift), None) if shift.interval.is_none() => ("too few to say".into(), "nodata"),
        (Some(shift), None) if shift.is_sure() => {
            (format!("{}, hardly to notice", more(&shift)), "")
        }
        (Some(_), None) => ("not surely".into(), ""),
    };
    Verdict { says, tone }
}

fn row(pair: &Pair, devices: Vec<Verdict>) -> Row {
    let what = pair.what;
    let of = |pick: fn(&Shift) -> f64| pair.shift.map_or(NO_DATA.into(), |s| value(what, pick(&s)));
    let interval = pair.shift.and_then(|s| s.interval);
    Row {
        name: name(what),
        before: of(|s| s.before),
        after: of(|s| s.after),
        by: pair.shift.map_or(String::new(), |s| difference(what, s.by())),
        interval: interval.map_or(String::new(), |i| {
            format!("{} to {}", difference(what, i.low), difference(what, i.high))
        }),
        verdict: verdict(pair),
        devices,
    }
}

/// Measures of each, as far as they are wanted.
fn named(sides: &[Side], link: impl Fn(&Side) -> String, wanted: fn(&Pair) -> bool) -> Vec<Named> {
    let of = |side: &Side| {
        let (name, link) = (side.name.clone(), link(side));
        let pairs = side.pairs.iter().filter(|p| wanted(p));
        pairs
            .map(|p| Named { name: name.clone(), link: link.clone(), row: row(p, Vec::new()) })
            .collect::<Vec<_>>()
    };
    sides.iter().flat_map(of).collect()
}

/// What surely moved of all page views, and on which devices alone; then of journeys.
fn moved(around: &Around) -> Vec<String> {
    let mut all = Vec::new();
    let Some((every, devices)) = around.visitors.split_first() else { return all };
    let said = |pair: &Pair, who: &str| {
        let shift = pair.shift?;
        let direction = if shift.by() > 0.0 { "rose" } else { "fell" };
        let what = match pair.what {
            Measured::WithErrors => "page views with a script error".to_string(),
            Measured::Abandoned => "page views left before they had loaded".to_string(),
            what => name(what),
        };
        let (was, is) = (value(pair.what, shift.before), value(pair.what, shift.after));
        let by = difference(pair.what, shift.by().abs()).replace('+', "");
        Some(format!("{what}{who} surely {direction} by {by}, from {was} to {is}"))
    };
    for (nth, pair) in every.pairs.iter().enumerate() {
        let which = |worse: bool| -> Vec<&str> {
            let moved = |s: &&Side| s.pairs.get(nth).and_then(Pair::is_worse) == Some(worse);
            devices.iter().filter(moved).map(|s| s.name.as_str()).collect()
        };
        match pair.is_worse() {
            Some(worse) => {
                let on = which(worse);
                let alone = (!on.is_empty() && on.len() < devices.len())
                    .then(|| format!("; surely on {} alone", on.join(" and ")));
                all.extend(said(pair, "").map(|s| s + &alone.unwrap_or_default()));
            }
            // What moves on one device can be lost in all of them.
            None => {
                let only = devices
                    .iter()
                    .filter(|s| s.pairs.get(nth).is_some_and(|p| p.is_worse().is_some()));
                all.extend(
                    only.filter_map(|s| said(s.pairs.get(nth)?, &format!(" on {}", s.name))),
                );
            }
        }
    }
    for journey in &around.journeys {
        let of = journey.pairs.iter().filter(|p| p.is_worse().is_some());
        all.extend(of.filter_map(|p| said(p, &format!(" of “{}”", journey.name))));
    }
    all.into_iter().map(|s| crate::words::capital(&s) + ".").collect()
}

pub fn compared(frame: &Frame, around: &Around) -> Compared {
    let zone = &frame.site.zone;
    let views = around.visitors.first().map_or([0, 0], |s| s.count);
    let mut says = moved(around);
    if says.is_empty() {
        let (a, b) = (format::thousands(views[0]), format::thousands(views[1]));
        says.push(match (views, around.journeys.is_empty()) {
            ([0, 0], true) => "Nothing was measured around it.".into(),
            _ => format!("Nothing moved surely, as far as {a} page views before and {b} after and the runs of journeys tell."),
        });
    }
    let mut but: Vec<String> = around
        .others
        .iter()
        .map(|m| {
            format!(
                "“{}” lies in the same time, on {}.",
                m.said.title,
                format::day_clock(m.at, zone)
            )
        })
        .collect();
    if around.is_maintained {
        but.push("Maintenance lies in the same time.".into());
    }
    if around.after.ms() + 1_000.0 < around.before.ms() {
        but.push(format!(
            "What comes after it is {} long until now.",
            length_text(around.after.ms())
        ));
    }
    let every = around.visitors.first();
    let devices = around.visitors.get(1..).unwrap_or_default();
    let of_device = |nth: usize| {
        let of = |s: &Side| {
            s.pairs.get(nth).map_or(Verdict { says: NO_DATA.into(), tone: "nodata" }, |p| {
                let verdict = verdict(p);
                let by = p.shift.map_or(String::new(), |s| difference(p.what, s.by()));
                Verdict {
                    says: format!("{by} {}", verdict.says).trim().to_string(),
                    tone: verdict.tone,
                }
            })
        };
        devices.iter().map(of).collect()
    };
    let pairs = every.map_or(&[][..], |s| s.pairs.as_slice());
    let proof = pairs.iter().filter_map(|p| Some(Working::of(name(p.what), &p.proof()?)));
    let query = |s: &cadentis_core::calendar::Stretch| {
        use cadentis_core::calendar::Stretch;
        format!("from={}&to={}", Stretch::moment(s.from), Stretch::moment(s.to))
    };
    Compared {
        says,
        but,
        before: around.before.words(zone),
        after: around.after.words(zone),
        before_query: query(&around.before),
        after_query: query(&around.after),
        rows: pairs.iter().enumerate().map(|(nth, p)| row(p, of_device(nth))).collect(),
        devices: devices.iter().map(|s| s.name.clone()).collect(),
        families: named(
            &around.families,
            |s| format!("{}&{}", family_link(&frame.base, &s.name), query(&around.after)),
            |p| p.is_worse().is_some(),
        ),
        journeys: named(
            &around.journeys,
            |s| format!("{}/journeys/{}?{}", frame.base, s.slug, query(&around.after)),
            |_| true,
        ),
        proof: proof.collect(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_core::calendar::Stretch;
    use cadentis_core::stats::Interval;
    use jiff::Timestamp;

    fn pair(before: f64, after: f64, width: f64) -> Pair {
        let by = after - before;
        let interval = Some(Interval { low: by - width, high: by + width });
        let shift = Some(Shift { before, after, interval });
        Pair { what: Measured::Vital(Vital::Lcp), shift, samples: [100, 100] }
    }

    fn side(name: &str, pair: Pair) -> Side {
        Side { name: name.into(), slug: String::new(), count: [100, 100], pairs: vec![pair] }
    }

    fn around(visitors: Vec<Side>) -> Around {
        let at = Timestamp::UNIX_EPOCH;
        let stretch = Stretch { from: at, to: at };
        Around {
            before: stretch,
            after: stretch,
            visitors,
            families: vec![],
            journeys: vec![],
            others: vec![],
            is_maintained: false,
        }
    }

    #[test]
    fn what_surely_moved_is_said_with_the_devices_it_moved_on_alone() {
        let all = |phone: Pair, desktop: Pair, every: Pair| {
            moved(&around(vec![side("", every), side("phone", phone), side("desktop", desktop)]))
        };
        let (worse, same) = (|| pair(2_000.0, 2_310.0, 100.0), || pair(2_000.0, 2_010.0, 100.0));
        assert_eq!(
            all(worse(), same(), worse()),
            ["LCP at p75 surely rose by 0.31 s, from 2.00 s to 2.31 s; surely on phone alone."]
        );
        assert_eq!(
            all(worse(), worse(), worse()),
            ["LCP at p75 surely rose by 0.31 s, from 2.00 s to 2.31 s."]
        );
        assert_eq!(
            all(worse(), same(), same()),
            ["LCP at p75 on phone surely rose by 0.31 s, from 2.00 s to 2.31 s."]
        );
        assert!(all(same(), same(), same()).is_empty());
    }

    #[test]
    fn a_verdict_says_too_few_or_not_surely_rather_than_guess() {
        let says = |pair: Pair| verdict(&pair).says;
        assert_eq!(says(pair(2_000.0, 2_310.0, 100.0)), "surely more");
        assert_eq!(says(pair(2_000.0, 1_500.0, 100.0)), "surely less");
        assert_eq!(says(pair(2_000.0, 2_310.0, 400.0)), "not surely");
        assert_eq!(says(pair(2_000.0, 2_020.0, 10.0)), "more, hardly to notice");
        let few = Pair {
            shift: Some(Shift { before: 1.0, after: 2.0, interval: None }),
            ..pair(1.0, 2.0, 1.0)
        };
        assert_eq!(says(few), "too few to say");
        let none = Pair { shift: None, ..pair(1.0, 2.0, 1.0) };
        assert_eq!(says(none), NO_DATA);
    }
}
