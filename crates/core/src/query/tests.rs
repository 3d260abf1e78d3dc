//! Queries: read and printed, and what groups come to beside the same measure of each group alone.

use super::groups::{MOST_GROUPS, Reach, of_runs, of_sheets};
use super::*;
use crate::calendar::stretch::at_second;
use crate::calendar::{Cover, Stretch};
use crate::measure::runs::Played;
use crate::measure::sheets::Gather;
use crate::measure::{Measured, Part, forms, sheets};
use crate::run::Outcome;
use crate::stats::Reading;
use crate::visitor::Attribute;
use crate::visitor::sheet::{Column, Sheet};
use proptest::prelude::*;
use std::collections::HashMap;
use std::sync::Arc;

fn query(text: &str) -> Query {
    text.parse().unwrap_or_else(|e| panic!("{text}: {e}"))
}

#[test]
fn a_query_is_read_in_whatever_order_and_printed_in_one() {
    let written = "count of page views, p75 of LCP top 5 by p75 of LCP where count of page views above 30 and share abandoned below 5% \
                   for device \"phone\" or \"tablet\" by country and time";
    let printed = "count of page views, p75 of LCP by country and time for device \"phone\" or \"tablet\" \
                   where count of page views above 30 and share abandoned below 5 % top 5 by p75 of LCP";
    assert_eq!(query(written).to_string(), printed);
    assert_eq!(query(written), query(printed));
    let q = query(written);
    assert_eq!(q.needed().len(), 3, "what the condition asks for is worked out beside");
    assert_eq!(q.order(), 1);
    assert_eq!(
        query("p95 of run duration by journey where p95 of run duration above 2.5s").conditions[0]
            .level,
        2_500.0
    );
}

#[test]
fn what_is_wrong_is_told_where_it_stands_with_what_would_be_right() {
    for (text, column, says) in [
        ("", 1, "where"),
        ("p75 of LCP, availability", 13, "is of runs, the measures before it of page views"),
        ("p75 of LCP, p75 of LCP", 13, "stands here twice"),
        (
            "p75 of LCP by person",
            15,
            "cannot be told apart by “person”, only by time, family, device",
        ),
        ("p75 of LCP by journey", 15, "cannot be told apart by “journey”"),
        ("availability by step", 21, "only a step's time is told apart by step"),
        ("p75 of LCP by family and", 25, "the end, where one of"),
        ("p75 of LCP by family and device and country", 37, "at most"),
        ("p75 of LCP by family by device", 22, "“by” stands here twice"),
        ("p75 of LCP where count of page views over 3", 38, "“above” or “below”"),
        ("p75 of LCP where share abandoned above 5", 40, "per cent, such as 5 %"),
        ("p75 of LCP where p75 of LCP above 5", 35, "a number with a unit"),
        ("p75 of LCP top many", 16, "from 1 to 1000"),
        ("p75 of LCP top 1000000", 16, "from 1 to 1000"),
        ("silence of page views by device", 1, "looks beyond the stretch"),
        ("count of new error kinds by error", 1, "looks beyond"),
        ("p75 of LCP for colour \"red\"", 16, "narrowed by “colour”"),
        ("p75 of LCP nonsense", 12, "where a comma, “by”"),
        ("p75 of step duration by location", 33, "one journey and one step"),
    ] {
        match text.parse::<Query>() {
            Ok(q) => panic!("{text} is {q}"),
            Err(e) => {
                assert!(e.to_string().contains(says), "{text}: {e}");
                assert_eq!(e.column, column, "{text}: {e}");
            }
        }
    }
}

#[test]
fn completing_word_by_word_leads_from_the_first_measure_to_the_last_part() {
    let offers = |text: &str, word: &str| {
        let next = complete(text);
        assert!(next.iter().any(|n| n == word), "{text}| offers {next:?}");
    };
    offers("", "p75");
    offers("p75 of LCP ", "by");
    offers("p75 of LCP, count of ", "page");
    offers("p75 of LCP b", "by");
    offers("p75 of LCP by ", "family");
    offers("p75 of LCP by fam", "family");
    offers("p75 of LCP by family ", "and");
    offers("p75 of LCP by family and ", "time");
    offers("p75 of LCP by family for ", "device");
    offers("p75 of LCP by family for device \"phone\" ", "where");
    offers("p75 of LCP where count of page views ", "above");
    offers("p75 of LCP where count of page views above 30 ", "top");
    offers("p75 of LCP top ", "20");
    offers("p75 of LCP top 20 ", "by");
    offers("p75 of LCP top 20 by ", "p75");
    assert!(!complete("p75 of LCP by family and ").contains(&"family".to_string()));
    // Values are named by whoever knows them, as of a measure alone.
    assert_eq!(
        begun("p75 of LCP, mean of load by family for device \"ph").as_deref(),
        None,
        "an open quotation mark"
    );
    assert_eq!(
        begun("p75 of LCP by family for device ").as_deref(),
        Some("p75 of LCP for device ")
    );
}

fn any_query() -> impl Strategy<Value = Query> {
    let grouped: Vec<Measure> = forms::forms()
        .filter_map(|f| f.example.parse::<Measured>().ok())
        .map(|m| m.measure)
        .filter(|m| {
            matches!(m.subject(), Subject::PageViews | Subject::Requests | Subject::Errors)
                && !m.is_silence()
        })
        .filter(|m| *m != Measure::NewErrorKinds)
        .collect();
    let subject =
        prop::sample::select(vec![Subject::PageViews, Subject::Requests, Subject::Errors]);
    subject.prop_flat_map(move |subject| {
        let of: Vec<Measure> = grouped.iter().filter(|m| m.subject() == subject).cloned().collect();
        let measure = prop::sample::select(of);
        let by = prop::sample::subsequence(By::of_subject(subject), 0..=MOST_BY);
        let condition = (measure.clone(), any::<bool>(), 0u32..10_000).prop_map(
            |(measure, is_above, level)| {
                let level = match measure.unit() {
                    Unit::Share => f64::from(level) / 100.0,
                    _ => f64::from(level),
                };
                Condition { measure, is_above, level }
            },
        );
        let values = prop::collection::vec("[ -~äø]{1,10}", 0..3);
        let top = prop::option::of((1..=MOST_ROWS, prop::option::of(measure.clone())));
        (
            prop::collection::vec(measure, 1..4),
            by,
            values,
            prop::collection::vec(condition, 0..3),
            top,
        )
            .prop_map(|(mut measures, by, values, conditions, top)| {
                let mut seen: Vec<Measure> = Vec::new();
                measures.retain(|m| {
                    let is_new = !seen.contains(m);
                    seen.push(m.clone());
                    is_new
                });
                let key = Key::Attribute(Attribute::Country);
                let scope = values.iter().fold(Scope::default(), |s, v| s.and(key.clone(), v));
                let top = top.map(|(many, by)| Top { many, by });
                Query { measures, by, scope, conditions, top }
            })
    })
}

/// An hour of page views: minute, device, country, LCP.
fn hour(nth: i64, views: &[(u32, u8, u8, Option<f32>)]) -> Sheet {
    let mut sheet = Sheet::new(nth * 3_600);
    let device = |d: &u8| ["phone", "desktop", ""][usize::from(*d % 3)];
    let country = |c: &u8| format!("C{}", c % 7);
    let columns = [
        ("at", Column::Moments(views.iter().map(|v| v.0 % 60 * 60_000).collect())),
        ("family", Column::words(views.iter().map(|_| "Any"))),
        ("device", Column::words(views.iter().map(|v| device(&v.1)))),
        ("country", Column::words(views.iter().map(|v| country(&v.2)))),
        ("lcp", Column::numbers(views.iter().map(|v| v.3))),
        ("visit", Column::ids(views.iter().map(|v| u128::from(v.1) + 1))),
    ];
    columns.into_iter().for_each(|(name, column)| sheet.put(name, column).unwrap());
    sheet
}

fn some_hours() -> impl Strategy<Value = Vec<Sheet>> {
    let lcp = prop::option::of((0u32..8_000).prop_map(|ms| ms as f32));
    let views = prop::collection::vec((any::<u32>(), any::<u8>(), any::<u8>(), lcp), 1..60);
    let hours = prop::collection::vec(views, 1..4);
    hours.prop_map(|hours| {
        let sorted = hours.into_iter().map(|mut h| {
            h.sort_by_key(|v| v.0 % 60);
            h
        });
        sorted.enumerate().map(|(nth, h)| hour(nth as i64, &h)).collect()
    })
}

proptest! {
    #[test]
    fn what_is_printed_is_read_back_as_it_was(query in any_query()) {
        let text = query.to_string();
        prop_assert_eq!(text.parse::<Query>(), Ok(query), "{}", text);
    }

    #[test]
    fn nothing_that_is_typed_breaks_it(text in "[a-z\", 0-9%.]{0,40}|(p75 of LCP|by|for|where|top|and|,|device|\"|family|above| |9){0,14}") {
        let _ = text.parse::<Query>();
        let _ = complete(&text);
        let _ = begun(&text);
    }

    #[test]
    fn each_group_comes_to_what_the_same_measure_comes_to_of_it_alone(sheets in some_hours(), exact in any::<bool>()) {
        let query = query("p75 of LCP, count of page views, share of LCP within 2.5 s, count of visits, mean of LCP by device and country");
        let stretch = Stretch { from: at_second(600), to: at_second(3 * 3_600 - 600) };
        let reach = Reach { stretch, bucket_s: 3_600, exact, only: None };
        let found = of_sheets(&sheets, &query, &reach);
        let told = table(&query, found, stretch.to.as_second());
        let (mut views, mut by_device) = (0, 0);
        let alone = |scope: &Scope, measure: &Measure| {
            let wanted = Gather { measure, scope, stretch, bucket_s: 3_600, exact };
            let mut alone = Part::default();
            sheets::gather(&sheets, &wanted).values().for_each(|part| alone.absorb(part));
            alone.reading(measure, stretch.to.as_second())
        };
        let same = |cells: &[Reading], scope: &Scope| {
            for (measure, cell) in query.measures.iter().zip(cells) {
                let alone = alone(scope, measure);
                prop_assert_eq!(cell.samples, alone.samples);
                let close = match (cell.value, alone.value) {
                    (Some(a), Some(b)) => (a - b).abs() <= 1e-9 * b.abs(),
                    (a, b) => a == b,
                };
                prop_assert!(close, "{} {:?} {:?}", measure, cell, alone);
            }
            Ok(())
        };
        let and = |scope: Scope, key: Attribute, value: &Value| match value {
            Value::Text(text) => scope.and(Key::Attribute(key), text),
            Value::Time(_) => scope,
        };
        for row in &told.rows {
            let of_row = and(Scope::default(), Attribute::Device, &row.value);
            same(&row.cells, &of_row)?;
            by_device += row.cells[1].samples;
            for (column, cells) in told.columns.iter().zip(&row.across) {
                let of_cell = and(of_row.clone(), Attribute::Country, column);
                match cells {
                    Some(cells) => {
                        same(cells, &of_cell)?;
                        views += cells[1].samples;
                    }
                    None => prop_assert_eq!(alone(&of_cell, &query.measures[1]).samples, 0),
                }
            }
        }
        same(&told.all, &Scope::default())?;
        prop_assert_eq!((views, by_device), (told.all[1].samples, told.all[1].samples), "each lies in one group");
        let values: Vec<_> = told.rows.iter().map(|r| r.cells[0].value).collect();
        prop_assert!(values.windows(2).all(|w| w[1].is_none() || w[0] >= w[1]), "the highest first: {:?}", values);
    }

    #[test]
    fn what_is_looked_at_beside_others_is_what_the_same_query_counts(sheets in some_hours(), of_share in any::<bool>()) {
        let stretch = Stretch { from: at_second(600), to: at_second(3 * 3_600 - 600) };
        let reach = Reach { stretch, bucket_s: 3_600, exact: true, only: None };
        let asked = match of_share {
            true => "share of LCP within 2.5 s for country \"C1\" or \"C2\"",
            false => "p75 of LCP for country \"C1\" or \"C2\"",
        };
        let asked = query(asked);
        let keys = asked.unsaid([Attribute::Device, Attribute::Country].map(Key::Attribute));
        prop_assert_eq!(&keys, &[Key::Attribute(Attribute::Device)], "countries are said");
        let (here, all) = apart::of_sheets(&sheets, &asked, stretch, &keys);
        let parts = |text: &str| {
            let groups = of_sheets(&sheets, &query(text), &reach).groups;
            let each = groups.into_iter().map(|(key, mut parts)| (key[0].clone(), parts.remove(0)));
            each.collect::<HashMap<Value, Part>>()
        };
        let narrowed = parts(&format!("{asked} by device"));
        let counted = parts("count of page views by device");
        let narrowly = parts("count of page views by device for country \"C1\" or \"C2\"");
        for ((_, here), (_, all)) in here.iter().zip(&all) {
            for (value, n) in here {
                let whole = all.iter().find(|(v, _)| v == value).map(|(_, n)| *n).unwrap_or_default();
                let of = |parts: &HashMap<Value, Part>| {
                    parts.get(&Value::Text(value.clone())).cloned().unwrap_or_default()
                };
                let (share, looked, everything) = (of(&narrowed), of(&narrowly), of(&counted));
                match of_share {
                    true => prop_assert_eq!((*n, whole), (share.samples - share.hits, share.samples)),
                    false => prop_assert_eq!((*n, whole), (looked.samples, everything.samples)),
                }
            }
        }
        let sum = |counts: &[apart::Counts]| counts[0].1.iter().map(|(_, n)| n).sum::<u64>();
        let samples = |parts: &HashMap<Value, Part>| parts.values().map(|p| p.samples).sum::<u64>();
        let whole = if of_share { samples(&narrowed) } else { samples(&counted) };
        prop_assert_eq!(sum(&all), whole, "each lies beside the others once");
    }

    #[test]
    fn where_only_some_hours_are_asked_for_what_came_in_others_counts_nowhere(sheets in some_hours(), from in 0i64..7_000, long in 1i64..7_000) {
        let query = query("count of page views, mean of LCP by device and time");
        let stretch = Stretch { from: at_second(0), to: at_second(4 * 3_600) };
        let piece = Stretch { from: at_second(from), to: at_second(from + long) };
        let of = |stretch: Stretch, only: Option<Cover>| {
            let reach = Reach { stretch, bucket_s: 1_800, exact: true, only: only.map(Arc::new) };
            table(&query, of_sheets(&sheets, &query, &reach), stretch.to.as_second())
        };
        let within = of(stretch, Some(Cover::of([piece])));
        let alone = of(piece, None);
        let cells = |t: &Table| t.rows.iter().map(|r| (r.value.clone(), r.cells[0].samples)).collect::<Vec<_>>();
        prop_assert_eq!(cells(&within), cells(&alone));
        prop_assert_eq!(within.all[0].samples, alone.all[0].samples);
        let rest = of(stretch, Some(Cover::of([stretch]).without(&Cover::of([piece]))));
        let all = of(stretch, None);
        prop_assert_eq!(rest.all[0].samples + within.all[0].samples, all.all[0].samples, "each lies inside or outside");
    }

    #[test]
    fn pieces_of_time_hold_each_what_came_in_them_in_their_order(sheets in some_hours(), minutes in prop::sample::select(vec![5i64, 30, 60, 120])) {
        let query = query("count of page views by time");
        let stretch = Stretch { from: at_second(0), to: at_second(4 * 3_600) };
        let reach = Reach { stretch, bucket_s: minutes * 60, exact: true, only: None };
        let told = table(&query, of_sheets(&sheets, &query, &reach), stretch.to.as_second());
        let scope = Scope::default();
        let measure = &query.measures[0];
        let wanted = Gather { measure, scope: &scope, stretch, bucket_s: minutes * 60, exact: true };
        let parts = sheets::gather(&sheets, &wanted);
        let course: Vec<(Value, u64)> = parts.iter().map(|(at, p)| (Value::Time(*at), p.samples)).collect();
        let rows: Vec<(Value, u64)> = told.rows.iter().map(|r| (r.value.clone(), r.cells[0].samples)).collect();
        prop_assert_eq!(rows, course);
    }
}

#[test]
fn conditions_let_go_of_groups_and_the_order_may_be_another_number() {
    let views: Vec<_> = (0..60u32).map(|n| (n, (n % 3) as u8, 0, Some(n as f32 * 10.0))).collect();
    let mut more = views.clone();
    more.extend((0..9u32).map(|_| (59, 1, 0, Some(9_000.0))));
    let sheets = [hour(0, &more)];
    let stretch = Stretch { from: at_second(0), to: at_second(3_600) };
    let reach = Reach { stretch, bucket_s: 3_600, exact: true, only: None };
    let of = |text: &str| {
        let q = query(text);
        let told = table(&q, of_sheets(&sheets, &q, &reach), 3_600);
        let names = told.rows.iter().map(|r| format!("{:?}", r.value)).collect::<Vec<_>>();
        (names.join(" "), told.found, told.kept)
    };
    let name = |n: &str| format!("Text({n:?})");
    let (most, found, kept) = of("count of page views by device top 1");
    assert_eq!((most, found, kept), (name("desktop"), 3, 3));
    let (rest, _, kept) = of("count of page views by device where count of page views below 21");
    assert_eq!((rest, kept), (format!("{} {}", name(""), name("phone")), 2));
    let (_, _, kept) = of(
        "count of page views by device where count of page views above 20 and share of LCP within 5 s above 99.5 %",
    );
    assert_eq!(kept, 0, "the level itself is not above it");
    let (slow, ..) = of("count of page views by device top 1 by p99 of LCP");
    assert_eq!(slow, name("desktop"));
}

#[test]
fn groups_beyond_the_most_are_counted_in_the_whole_alone_and_told() {
    let most = MOST_GROUPS / 2;
    let many = most as i64 + 50;
    let runs: Vec<Played> =
        (0..many).map(|n| Played { journey: n as i32, ..Played::passed(n, 1) }).collect();
    let query = query("count of runs, availability by journey");
    let stretch = Stretch { from: at_second(0), to: at_second(many) };
    let reach = Reach { stretch, bucket_s: 3_600, exact: true, only: None };
    let found = of_runs(&runs, &query, &reach, |run, _| run.journey.to_string());
    let told = table(&query, found, many);
    assert_eq!((told.found, told.beyond, told.rows.len()), (most, 50, ROWS));
    assert_eq!(told.all[0].value, Some(many as f64));
}

#[test]
fn bad_runs_are_looked_at_beside_good_ones_and_those_that_were_not_measured_are_neither() {
    let of = |outcome, location| Played { outcome, ..Played::passed(0, location) };
    let mut runs = vec![of(Outcome::Passed, 1); 40];
    runs.extend(vec![of(Outcome::Failed, 2); 30]);
    runs.extend([of(Outcome::Passed, 2), of(Outcome::Unmeasured, 1)]);
    runs.push(Played { is_counted: false, ..of(Outcome::Failed, 1) });
    let keys = query("availability").unsaid([Key::Location, Key::Fault]);
    assert_eq!(keys, [Key::Location]);
    let name = |run: &Played, _: &Key| run.location.to_string();
    for (share, bad) in [("availability", 30), ("share failed", 30), ("share slow", 0)] {
        let share = query(share).measures.remove(0);
        let (here, all) = apart::of_runs(&runs, &share, &keys, name);
        let sum = |counts: &[apart::Counts]| counts[0].1.iter().map(|(_, n)| n).sum::<u64>();
        assert_eq!((sum(&here), sum(&all)), (bad, 71), "{share}");
    }
    let (here, all) = apart::of_runs(&runs, &query("availability").measures[0], &keys, name);
    let told = apart::apart(&apart::beside(&here, &all));
    let told: Vec<_> = told.iter().map(|a| (a.value.as_str(), a.here, a.others)).collect();
    assert_eq!(told, [("2", (30, 30), (1, 41))]);
}

#[test]
fn a_group_is_looked_into_by_naming_it() {
    let asked = query("p75 of LCP by family and device for country \"NO\" top 5");
    let within = asked.within(0, &Value::Text("Timetable".into())).unwrap();
    assert_eq!(
        within.to_string(),
        "p75 of LCP by device for family \"Timetable\" and country \"NO\" top 5"
    );
    let narrowed = query("p75 of LCP by country for country \"NO\" or \"SE\"");
    assert_eq!(
        narrowed.within(0, &Value::Text("SE".into())).unwrap().to_string(),
        "p75 of LCP for country \"SE\""
    );
    assert_eq!(query("p75 of LCP by time").within(0, &Value::Time(0)), None);
    let toggled = asked.toggled(&By::Key(Key::Attribute(Attribute::Os)));
    assert_eq!(toggled.by.len(), 2, "the older gives way");
    assert_eq!(toggled.toggled(&toggled.by[1]).by.len(), 1);
}

#[test]
fn what_is_picked_and_let_go_reads_as_it_would_be_written() {
    let query: Query =
        "p75 of LCP by family for device \"phone\" or \"tablet\" and country \"NO\" where count of page views above 30 top 5 by p75 of LCP"
            .parse()
            .unwrap();
    let says = |query: Query| query.to_string();
    let count = "count of page views".parse::<Query>().unwrap().measures.remove(0);
    let both = query.toggled_measure(&count);
    assert!(says(both.clone()).starts_with("p75 of LCP, count of page views by family for "));
    assert_eq!(both.toggled_measure(&count), query, "and let go of again");
    assert_eq!(query.toggled_measure(&query.measures[0]), query, "the last one stays");
    let device = Key::of_word("device").unwrap();
    let wider = query.widened(&device, "phone");
    assert!(
        says(wider.clone()).contains("for device \"tablet\" and country \"NO\" where"),
        "{wider}"
    );
    assert!(!says(wider.widened(&device, "tablet")).contains("device"));
    assert_eq!(query.widened(&device, "watch"), query);
    assert!(!says(query.without_condition(0)).contains("where"));
    assert_eq!(query.without_condition(1), query);
    assert!(says(query.with_top(Some(20))).ends_with("top 20 by p75 of LCP"));
    assert!(says(query.with_top(None)).ends_with("above 30"));
    for subject in [Subject::PageViews, Subject::Requests, Subject::Errors, Subject::Runs] {
        let offered = Query::offered(subject);
        assert!(offered.len() >= 3, "{subject:?}: {offered:?}");
        for measure in offered {
            let asked = Query {
                measures: vec![measure],
                by: Vec::new(),
                scope: Scope::default(),
                conditions: Vec::new(),
                top: None,
            };
            assert_eq!(asked.subject(), subject);
            assert_eq!(says(asked.clone()).parse::<Query>(), Ok(asked));
        }
    }
}

#[test]
fn steps_tell_the_times_of_steps_of_one_journey_apart_and_nothing_else() {
    let by_step = "p75 of step duration, mean of step duration by step for journey \"book\"";
    let read = query(by_step);
    assert_eq!(read.to_string(), by_step);
    let value = Value::Text("Search sailings".into());
    let inner = read.within(0, &value).expect("a row narrows it");
    assert_eq!(
        inner.to_string(),
        "p75 of step duration, mean of step duration for journey \"book\" and step \"Search sailings\""
    );
    for (text, says) in [
        ("p75 of step duration by step", "steps are those of one journey"),
        (
            "p75 of step duration by step for journey \"a\" or \"b\"",
            "steps are those of one journey",
        ),
        ("p75 of step duration by step for journey \"a\" and step \"b\"", "and no step"),
        ("availability by step for journey \"a\"", "only a step's time"),
        ("p75 of step duration, availability by step for journey \"a\"", "only a step's time"),
        ("p75 of LCP by step", "cannot be told apart"),
        ("p75 of step duration for journey \"a\"", "asks for one journey and one step"),
    ] {
        let wrong = text.parse::<Query>().unwrap_err();
        assert!(wrong.says.contains(says), "{text}: {}", wrong.says);
    }
    assert!(
        !By::of_subject(Subject::Runs).contains(&By::Key(Key::Step)),
        "it is not offered to all"
    );
}
