//! Goals as OpenSLO (openslo/v1) writes them, out and in.
//!
//! The shapes are those of the OpenSLO specification, version 1 (from memory: its text is not at hand here). What our indicators are
//! stands where the specification leaves it to each program, in `metricSource.spec`; what it has no words for at all is told.

use super::definition::{DAYS, ServiceHours};
use super::{Combine, FailedRuns, Measure, Period};
use crate::text::slug;
use jiff::civil::Time;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A goal by the names of what it is over.
#[derive(Debug, Clone, PartialEq)]
pub struct Said {
    /// Its name.
    pub name: String,
    /// What counts as good.
    pub measure: Measure,
    /// How several journeys are one goal.
    pub combine: Combine,
    /// Of which journeys, by their names in addresses.
    pub journeys: Vec<String>,
    /// At which locations, by theirs; all of them without.
    pub locations: Vec<String>,
    /// Only then; always without.
    pub service_hours: Option<ServiceHours>,
    /// Over what.
    pub period: Period,
    /// The promised share.
    pub promised: f64,
}

/// A document of the file that is no goal here: what it is called, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotSaid {
    /// What it is called; its kind where it has no name.
    pub what: String,
    /// Why.
    pub why: String,
}

/// A file has so many bytes at most, and so many documents.
pub const LONGEST: usize = 1_000_000;
/// The most documents.
pub const MOST: usize = 200;

const VERSION: &str = "openslo/v1";
/// What our indicators are measured by.
const OURS: &str = "Cadentis";

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Document {
    api_version: String,
    kind: String,
    metadata: Metadata,
    spec: Spec,
}

/// As much of any document as says what it is.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Head {
    #[serde(default)]
    api_version: String,
    #[serde(default)]
    kind: String,
    metadata: Option<Metadata>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Metadata {
    name: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    display_name: Option<String>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    annotations: BTreeMap<String, String>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Spec {
    #[serde(default, skip_serializing_if = "String::is_empty")]
    description: String,
    #[serde(default)]
    service: String,
    #[serde(skip_serializing_if = "Option::is_none")]
    indicator: Option<Indicator>,
    #[serde(default)]
    time_window: Vec<TimeWindow>,
    #[serde(default)]
    budgeting_method: String,
    #[serde(default)]
    objectives: Vec<Objective>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Indicator {
    metadata: Option<Metadata>,
    spec: IndicatorSpec,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct IndicatorSpec {
    #[serde(skip_serializing_if = "Option::is_none")]
    ratio_metric: Option<Ratio>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Ratio {
    #[serde(default)]
    counter: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    good: Option<Metric>,
    total: Metric,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Metric {
    metric_source: Source,
}

#[derive(Debug, Serialize, Deserialize)]
struct Source {
    #[serde(default, rename = "type")]
    kind: String,
    #[serde(default)]
    spec: Ours,
}

/// What our indicators are.
#[derive(Debug, Default, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Ours {
    #[serde(default)]
    counts: String,
    #[serde(default)]
    measure: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    limit_ms: Option<f64>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    failed_runs: String,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    share_of: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    journeys: Vec<String>,
    #[serde(default, skip_serializing_if = "String::is_empty")]
    together: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    locations: Vec<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    service_hours: Option<Hours>,
}

#[derive(Debug, Serialize, Deserialize)]
struct Hours {
    days: Vec<String>,
    from: String,
    until: String,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct TimeWindow {
    duration: String,
    #[serde(default)]
    is_rolling: bool,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    calendar: Option<Calendar>,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Calendar {
    start_time: String,
    time_zone: String,
}

#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
struct Objective {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    target: Option<f64>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    target_percent: Option<f64>,
}

fn ours(said: &Said, counts: &str) -> Ours {
    let (limit_ms, failed_runs) = match &said.measure {
        Measure::Performance { limit_ms, failed } => {
            let word = if *failed == FailedRuns::CountAsBad { "bad" } else { "left_out" };
            (Some(*limit_ms), word.into())
        }
        _ => (None, String::new()),
    };
    let hours = |h: &ServiceHours| Hours {
        days: DAYS.iter().zip(h.days).filter(|(_, on)| *on).map(|(d, _)| d.0.into()).collect(),
        from: h.from.strftime("%H:%M").to_string(),
        until: h.until.strftime("%H:%M").to_string(),
    };
    Ours {
        counts: counts.into(),
        measure: said.measure.word().into(),
        limit_ms,
        failed_runs,
        share_of: said.measure.of_page_views().map_or(String::new(), ToString::to_string),
        journeys: said.journeys.clone(),
        together: if said.journeys.len() > 1 { said.combine.word().into() } else { String::new() },
        locations: said.locations.clone(),
        service_hours: said.service_hours.as_ref().map(hours),
    }
}

/// What the specification has no words for, of a goal.
pub fn unsaid(said: &Said) -> Vec<&'static str> {
    let mut all = vec!["maintenance, carve-outs and the versions before"];
    if said.service_hours.is_some() {
        all.push("service hours, which other programs do not read");
    }
    if !said.locations.is_empty() {
        all.push("locations, which other programs do not read");
    }
    all
}

fn document(service: &str, zone: &str, said: &Said) -> Document {
    // Any beginning of such a period says the same; this one is a Monday and the first of a quarter.
    let calendar = || Calendar { start_time: "2024-01-01 00:00:00".into(), time_zone: zone.into() };
    let (duration, is_rolling) = match said.period {
        Period::Month => ("1M".to_string(), false),
        Period::Quarter => ("1Q".into(), false),
        Period::Week => ("1w".into(), false),
        Period::Days(days) => (format!("{days}d"), true),
    };
    let metric = |counts: &str| Metric {
        metric_source: Source { kind: OURS.into(), spec: ours(said, counts) },
    };
    let ratio = Ratio { counter: true, good: Some(metric("good")), total: metric("all") };
    let name = match slug(&said.name) {
        name if name.is_empty() => "goal".into(),
        name => name,
    };
    Document {
        api_version: VERSION.into(),
        kind: "SLO".into(),
        metadata: Metadata {
            name: name.clone(),
            display_name: Some(said.name.clone()),
            annotations: BTreeMap::from([("cadentis/unsaid".into(), unsaid(said).join("; "))]),
        },
        spec: Spec {
            description: String::new(),
            service: service.into(),
            indicator: Some(Indicator {
                metadata: Some(Metadata { name, display_name: None, annotations: BTreeMap::new() }),
                spec: IndicatorSpec { ratio_metric: Some(ratio) },
            }),
            time_window: vec![TimeWindow {
                duration,
                is_rolling,
                calendar: (!is_rolling).then(calendar),
            }],
            budgeting_method: method(&said.measure).into(),
            objectives: vec![Objective { target: Some(said.promised), target_percent: None }],
        },
    }
}

/// Uptime counts pieces of time, all else counts what happened.
fn method(measure: &Measure) -> &'static str {
    match measure {
        Measure::Uptime => "Timeslices",
        _ => "Occurrences",
    }
}

/// Goals of a service as one file, a document each.
pub fn write(service: &str, zone: &str, goals: &[Said]) -> String {
    let one = |said: &Said| {
        // What holds nothing but texts and numbers is always written.
        serde_saphyr::to_string(&document(service, zone, said)).unwrap_or_default()
    };
    goals.iter().map(|said| format!("---\n{}", one(said).trim_start_matches("---\n"))).collect()
}

/// What a file says: goals, and what is none here, with why.
///
/// # Errors
/// When it is no YAML, too long, or of too many documents.
pub fn read(text: &str, zone: &str) -> Result<Vec<Result<Said, NotSaid>>, String> {
    if text.len() > LONGEST {
        return Err(format!("a file has at most {LONGEST} bytes"));
    }
    let documents = documents(text);
    if documents.len() > MOST {
        return Err(format!("a file has at most {MOST} documents"));
    }
    if documents.is_empty() {
        return Err("there is no document in it".into());
    }
    Ok(documents.into_iter().map(|text| of_document(&text, zone)).collect())
}

/// The documents of a file, parted where a line says `---` (YAML 1.2, 9.1.4), without those that hold nothing.
fn documents(text: &str) -> Vec<String> {
    let mut all = vec![String::new()];
    for line in text.lines() {
        let begins = line == "---" || line.starts_with("--- ") || line.trim_end() == "...";
        match all.last_mut() {
            Some(last) if !begins => {
                last.push_str(line);
                last.push('\n');
            }
            _ => all.push(String::new()),
        }
    }
    let holds = |d: &String| d.lines().any(|l| !l.trim().is_empty() && !l.trim().starts_with('#'));
    all.into_iter().filter(holds).collect()
}

fn of_document(text: &str, zone: &str) -> Result<Said, NotSaid> {
    let short = |e: &dyn std::fmt::Display| -> String {
        let says = e.to_string();
        let line = says.lines().next().unwrap_or_default();
        line.chars().take(200).collect()
    };
    let not = |what: &str, why: String| NotSaid { what: what.chars().take(80).collect(), why };
    let head: Head = serde_saphyr::from_str(text)
        .map_err(|e| not("a document", format!("it cannot be read: {}", short(&e))))?;
    let name = head.metadata.as_ref().map(|m| m.display_name.as_ref().unwrap_or(&m.name).clone());
    let what = name.clone().unwrap_or_else(|| head.kind.clone());
    let no = |why: String| not(&what, why);
    if head.api_version != VERSION {
        return Err(no(format!("it is of {}, and {VERSION} is read", quoted(&head.api_version))));
    }
    if head.kind != "SLO" {
        return Err(no(format!("a {} is no goal and is passed over", quoted(&head.kind))));
    }
    let read: Document = serde_saphyr::from_str(text)
        .map_err(|e| no(format!("it cannot be read: {}", short(&e))))?;
    of_slo(&read, name.unwrap_or_default(), zone).map_err(no)
}

fn quoted(text: &str) -> String {
    format!("“{}”", text.chars().take(40).collect::<String>())
}

fn of_slo(read: &Document, name: String, zone: &str) -> Result<Said, String> {
    let spec = &read.spec;
    let Some(indicator) = &spec.indicator else {
        return Err("it points at an indicator in another document".into());
    };
    let Some(ratio) = &indicator.spec.ratio_metric else {
        return Err("its indicator is no ratio of good to all".into());
    };
    let source = &ratio.total.metric_source;
    if source.kind != OURS {
        let kind = quoted(&source.kind);
        return Err(format!("it is measured by {kind}: what that is here cannot be known"));
    }
    let ours = &source.spec;
    let measure = match ours.measure.as_str() {
        "availability" => Measure::Availability,
        "uptime" => Measure::Uptime,
        "performance" => Measure::Performance {
            limit_ms: ours.limit_ms.ok_or("performance has a limit, limitMs")?,
            failed: match ours.failed_runs.as_str() {
                "" | "bad" => FailedRuns::CountAsBad,
                "left_out" => FailedRuns::LeftOut,
                other => {
                    return Err(format!("failedRuns is bad or left_out, not {}", quoted(other)));
                }
            },
        },
        "experience" => Measure::Experience(
            ours.share_of.parse().map_err(|e| format!("shareOf cannot be read: {e}"))?,
        ),
        other => {
            let other = quoted(other);
            return Err(format!(
                "{other} is none of availability, uptime, performance, experience"
            ));
        }
    };
    let wanted = method(&measure);
    if spec.budgeting_method != wanted {
        let given = quoted(&spec.budgeting_method);
        return Err(format!("{} is budgeted by {wanted}, not {given}", measure.word()));
    }
    let combine = match ours.together.as_str() {
        "" => Combine::Pooled,
        word => Combine::ALL
            .into_iter()
            .find(|c| c.word() == word)
            .ok_or_else(|| format!("{} is none of pooled, all, any", quoted(word)))?,
    };
    let promised = match spec.objectives.as_slice() {
        [one] => one.target.or(one.target_percent.map(|p| p / 100.0)),
        [] => return Err("it has no objective".into()),
        _ => return Err("it has several objectives, and a goal promises one share".into()),
    };
    Ok(Said {
        name,
        measure,
        combine,
        journeys: ours.journeys.clone(),
        locations: ours.locations.clone(),
        service_hours: ours.service_hours.as_ref().map(hours).transpose()?,
        period: period(&spec.time_window, zone)?,
        promised: promised.ok_or("its objective has no target")?,
    })
}

fn hours(given: &Hours) -> Result<ServiceHours, String> {
    let time = |text: &str| {
        Time::strptime("%H:%M", text).map_err(|_| format!("{} is no time of day", quoted(text)))
    };
    if let Some(day) = given.days.iter().find(|d| DAYS.iter().all(|(word, _)| word != d)) {
        return Err(format!("{} is no day of the week", quoted(day)));
    }
    let days = DAYS.map(|(word, _)| given.days.iter().any(|d| d == word));
    Ok(ServiceHours { days, from: time(&given.from)?, until: time(&given.until)? })
}

fn period(windows: &[TimeWindow], zone: &str) -> Result<Period, String> {
    let [window] = windows else {
        return Err("it has to have one time window".into());
    };
    let duration = window.duration.as_str();
    if window.is_rolling {
        let (number, unit) = duration
            .split_at(duration.len() - usize::from(duration.is_ascii() && !duration.is_empty()));
        let many: Option<u16> = number.parse().ok();
        let days = match (many, unit) {
            (Some(n), "d") => Some(n),
            (Some(n), "w") => n.checked_mul(7),
            (Some(n), "h") if n % 24 == 0 => Some(n / 24),
            _ => None,
        };
        let days = days.filter(|d| (1..=366).contains(d));
        let says = || format!("a rolling window is 1 to 366 whole days, not {}", quoted(duration));
        return days.map(Period::Days).ok_or_else(says);
    }
    if let Some(calendar) = &window.calendar
        && calendar.time_zone != zone
    {
        let given = quoted(&calendar.time_zone);
        return Err(format!("its calendar is that of {given}, and this site’s is {zone}"));
    }
    match duration {
        "1M" => Ok(Period::Month),
        "1Q" | "3M" => Ok(Period::Quarter),
        "1w" | "7d" => Ok(Period::Week),
        other => Err(format!("a calendar window is 1w, 1M or 1Q, not {}", quoted(other))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const ZONE: &str = "Europe/Oslo";

    fn said() -> Said {
        Said {
            name: "Crossings can be booked".into(),
            measure: Measure::Availability,
            combine: Combine::Pooled,
            journeys: vec!["book-a-crossing".into()],
            locations: vec![],
            service_hours: None,
            period: Period::Month,
            promised: 0.995,
        }
    }

    fn one(text: &str) -> Result<Said, String> {
        let mut all = read(text, ZONE).unwrap();
        assert_eq!(all.len(), 1, "{text}");
        all.remove(0).map_err(|not| format!("{}: {}", not.what, not.why))
    }

    #[test]
    fn what_another_program_means_is_told_and_never_guessed() {
        let text = write("ferries", ZONE, &[said()]);
        assert_eq!(one(&text), Ok(said()), "{text}");
        for (from, to, why) in [
            ("openslo/v1", "openslo/v2alpha", "it is of “openslo/v2alpha”"),
            ("kind: SLO", "kind: AlertPolicy", "a “AlertPolicy” is no goal and is passed over"),
            ("type: Cadentis", "type: Elsewhere", "it is measured by “Elsewhere”"),
            ("Occurrences", "Timeslices", "availability is budgeted by Occurrences"),
            ("measure: availability", "measure: luck", "“luck” is none of"),
            ("1M", "2M", "a calendar window is 1w, 1M or 1Q"),
            (ZONE, "America/Halifax", "its calendar is that of “America/Halifax”"),
            ("target: 0.995", "objectivesAre: elsewhere", "its objective has no target"),
            ("ratioMetric", "thresholdMetric", "no ratio of good to all"),
            ("indicator:", "indicatorRef:", "it points at an indicator in another document"),
        ] {
            assert!(text.contains(from), "{from} is not in {text}");
            let told = one(&text.replace(from, to)).expect_err(to);
            assert!(told.contains(why) && told.starts_with("Crossings can be booked: "), "{told}");
        }
        let percent = text.replace("target: 0.995", "targetPercent: 99.5");
        assert_eq!(one(&percent).map(|s| s.promised), Ok(0.995));
        let several = text.replace("  - target: 0.995", "  - target: 0.995\n  - target: 0.9");
        assert!(
            several != text && one(&several).is_err_and(|e| e.contains("several objectives")),
            "{several}"
        );
        for (duration, period) in [
            ("28d", Ok(28)),
            ("4w", Ok(28)),
            ("48h", Ok(2)),
            ("36h", Err(())),
            ("0d", Err(())),
            ("", Err(())),
            ("é", Err(())),
        ] {
            let window = TimeWindow { duration: duration.into(), is_rolling: true, calendar: None };
            let told = super::period(&[window], ZONE);
            assert_eq!(told.map_err(|_| ()), period.map(Period::Days), "{duration}");
        }
    }

    #[test]
    fn a_file_of_many_documents_is_read_one_by_one_and_one_that_would_grow_is_refused() {
        let other = Said { name: "é / \"quoted\": yes".into(), ..said() };
        let text = format!(
            "# goals\n{}---\n: [\n---\nnothing: here\n",
            write("x", ZONE, &[said(), other.clone()])
        );
        let all = read(&text, ZONE).unwrap();
        assert_eq!((all.len(), &all[0], &all[1]), (4, &Ok(said()), &Ok(other)));
        assert!(all[2..].iter().all(Result::is_err), "{all:?}");
        assert!(read("", ZONE).is_err() && read("---\n---\n# x\n", ZONE).is_err());
        assert!(read(&"---\na: 1\n".repeat(MOST + 1), ZONE).unwrap_err().contains("200 documents"));
        assert!(read(&"x".repeat(LONGEST + 1), ZONE).unwrap_err().contains("bytes"));
        // Each line doubles what the one before stands for: a reader that follows runs out of memory.
        let mut bomb = "apiVersion: openslo/v1\nkind: SLO\na0: &a0 [x, x]\n".to_string();
        for n in 1..60 {
            bomb += &format!("a{n}: &a{n} [*a{}, *a{}]\n", n - 1, n - 1);
        }
        assert!(one(&bomb).is_err());
    }

    fn names() -> impl Strategy<Value = Vec<String>> {
        prop::collection::vec("[a-z]{1,8}(-[a-z0-9]{1,4})?", 0..3)
    }

    proptest! {
        #[test]
        fn what_is_written_is_read_back_as_it_was(
            name in "[^\\p{C}]{1,40}",
            kind in 0..4,
            limit_ms in 1.0_f64..60_000.0,
            left_out in any::<bool>(),
            (journeys, locations) in (names(), names()),
            together in 0..3_usize,
            hours in prop::option::of((prop::array::uniform7(any::<bool>()), 0_i8..24, 0_i8..60)),
            (period, days) in (0..4_usize, 1_u16..=366),
            promised in 0.000_1_f64..0.999_999,
        ) {
            prop_assume!(!name.trim().is_empty());
            let said = Said {
                name,
                measure: match kind {
                    0 => Measure::Availability,
                    1 => Measure::Uptime,
                    2 => {
                        let failed = if left_out { FailedRuns::LeftOut } else { FailedRuns::CountAsBad };
                        Measure::Performance { limit_ms, failed }
                    }
                    _ => Measure::Experience("share of LCP within 2.5 s for family \"Timetable\" or \"a: b\"".parse().unwrap()),
                },
                combine: if journeys.len() > 1 { Combine::ALL[together] } else { Combine::Pooled },
                journeys,
                locations,
                service_hours: hours.map(|(days, hour, minute)| ServiceHours {
                    days,
                    from: Time::constant(hour, minute, 0, 0),
                    until: Time::constant(23 - hour, 0, 0, 0),
                }),
                period: [Period::Week, Period::Month, Period::Quarter, Period::Days(days)][period],
                promised,
            };
            let text = write("ferries", ZONE, std::slice::from_ref(&said));
            prop_assert_eq!(one(&text), Ok(said), "{}", text);
        }

        #[test]
        fn no_text_makes_it_panic(text in "(---\n|apiVersion: openslo/v1\n|kind: SLO\n|[ -~]{0,20}\n|\\PC{0,10}){0,12}") {
            let _ = read(&text, ZONE);
        }
    }
}
