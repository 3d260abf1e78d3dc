//! Reports of goals: each promise, whether it was kept, what spent its error budget, and how that was come by.

use crate::goals::words::{measured, part, promise, workings};
use crate::goals::{Card, of_window};
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{day_clock, length_text};
use cadentis_core::finding::list;
use cadentis_core::goal::definition::BEGINNING;
use cadentis_core::goal::{FailedRuns, Measure, Period, Standing};
use cadentis_core::report::{
    Body, Cell, Course, Definition, Document, Figure, Kind, Section, Table, Tone, Working,
};
use cadentis_core::stats::proof::counted;
use cadentis_core::stats::share::{percent, share, share_text};
use cadentis_core::text::capital;
use cadentis_store::goal::Goal;
use cadentis_store::site::Site;
use jiff::SignedDuration;

/// Windows of a goal in one report at most: a quarter has 13 weeks.
const MOST_WINDOWS: usize = 14;
/// Labels of days on the axis of a course.
const TICKS: i64 = 4;

pub(super) fn tone(standing: Standing) -> Tone {
    match standing {
        Standing::Within => Tone::Within,
        Standing::Strained => Tone::Strained,
        Standing::Broken => Tone::Broken,
        Standing::NoData => Tone::Plain,
    }
}

/// Moments in whose windows a goal is judged by a report: windows that lie in its time, else the one that holds its end, as far
/// as that has come by then.
fn judged_in(goal: &Goal, covers: Stretch, site: &Site) -> Vec<jiff::Timestamp> {
    let moment = SignedDuration::from_secs(1);
    let mut ends = Vec::new();
    let mut end = covers.to - moment;
    while ends.len() < MOST_WINDOWS {
        let (version, window) = goal.judged_at(end, &site.zone);
        if matches!(version.definition.period, Period::Days(_)) {
            return vec![covers.to];
        }
        if window.from < covers.from {
            break;
        }
        if window.to <= covers.to {
            ends.push(end);
        }
        end = window.from - moment;
    }
    if ends.is_empty() {
        return vec![covers.to - moment];
    }
    ends.reverse();
    ends
}

/// Each goal with its windows in the time, the oldest first.
async fn cards(
    answers: &Answers,
    site: &Site,
    (definition, covers): (&Definition, Stretch),
) -> Result<(Vec<Card>, usize)> {
    let (goals, journeys) =
        futures::try_join!(answers.db.goals(site.id), answers.db.journeys(site.id))?;
    let wanted = |g: &Goal| definition.goals.is_empty() || definition.goals.contains(&g.id);
    let there = |id: &&i32| goals.iter().any(|g| g.id == **id);
    let gone = definition.goals.len() - definition.goals.iter().filter(there).count();
    let mut all = Vec::new();
    for goal in goals.into_iter().filter(wanted) {
        for end in judged_in(&goal, covers, site) {
            let of = (end, None);
            all.push(of_window(answers, site, of, covers.to, goal.clone(), &journeys).await?);
        }
    }
    Ok((all, gone))
}

/// Whether the promise was kept, as far as its window is over.
fn is_kept(c: &Card) -> Option<bool> {
    c.budget.score.share().map(|s| s >= c.version.definition.promised)
}

fn share_of(c: &Card) -> String {
    percent(c.budget.score.share(), 2, Some(c.version.definition.promised))
}

fn is_over(c: &Card, covers: Stretch) -> bool {
    c.window.to <= covers.to
}

/// Whether failed runs are nothing to it: then times of failure spent nothing.
fn leaves_failed_out(c: &Card) -> bool {
    matches!(c.version.definition.measure, Measure::Performance { failed: FailedRuns::LeftOut, .. })
}

/// What spent most of it, as the end of a sentence.
fn mostly(c: &Card, site: &Site) -> String {
    let zone = &site.zone;
    if leaves_failed_out(c) {
        return String::new();
    }
    let worst = c.failed.iter().max_by_key(|f| f.runs);
    if let (Some(f), 1..) = (worst, c.score.bad) {
        let many = share(f.runs.min(c.score.bad), c.score.bad).unwrap_or(0.0) >= 0.5;
        let places: Vec<&str> = f.places.iter().map(String::as_str).collect();
        let places = list(&places);
        let when = day_clock(f.stretch.from, zone);
        let length = length_text(f.stretch.ms());
        return match many {
            true => {
                format!(", most of it from {when} on, when it failed from {places} for {length}")
            }
            false => {
                format!("; what spent most began on {when}: it failed from {places} for {length}")
            }
        };
    }
    let views = c.views.as_ref().and_then(|v| v.troubles.first());
    views.map_or(String::new(), |t| format!("; the worst hours were {}", t.stretch.words(zone)))
}

/// The sentence that matters, of one goal.
fn sentence(c: &Card, site: &Site, covers: Stretch) -> String {
    let measure = &c.version.definition.measure;
    let Some(kept) = is_kept(c) else {
        return "Nothing was counted: nothing can be said of the promise.".into();
    };
    let verdict = match (kept, is_over(c, covers)) {
        (true, true) => "The promise was kept",
        (false, true) => "The promise was not kept",
        (true, false) => "The promise is kept so far",
        (false, false) => "The promise is not kept so far",
    };
    let spent = match c.budget.allowed_ms() > 0.0 {
        true => format!(
            " {} of the error budget of {} was spent{}.",
            capital(&part(c, &c.budget, c.budget.spent_ms())),
            part(c, &c.budget, c.budget.allowed_ms()),
            mostly(c, site)
        ),
        false => String::new(),
    };
    let spent = match measure.of_page_views() {
        // Of page views the whole is said by the share alone.
        Some(_) => format!(
            " {} of the error budget was spent{}.",
            part(c, &c.budget, c.budget.spent_ms()),
            mostly(c, site)
        ),
        None => spent,
    };
    format!("{verdict}: {}.{spent}", share_of(c))
}

fn figures(c: &Card) -> Vec<Figure> {
    let says = &c.version.definition;
    let share = c.budget.score.share();
    let figure = |text: String, label: String, tone: Tone, value: Option<f64>| Figure {
        text,
        label,
        tone,
        value,
    };
    let mut all = vec![figure(
        share_of(c),
        format!("{}, promised {} %", measured(&says.measure), share_text(says.promised, 3, None)),
        tone(Standing::of_share(share, says.promised)),
        share,
    )];
    if let Some(uptime) = c.uptime.filter(|_| says.measure != Measure::Uptime && c.views.is_none())
    {
        let text = percent(uptime.share(), 2, Some(1.0));
        all.push(figure(
            text,
            "uptime, reached from somewhere".into(),
            Tone::Plain,
            uptime.share(),
        ));
    }
    let left = c.budget.left_share();
    all.push(figure(
        part(c, &c.budget, c.budget.left_ms()),
        match c.views {
            Some(_) => "of the error budget left".into(),
            None => format!("error budget left of {}", length_text(c.budget.allowed_ms())),
        },
        tone(Standing::of_error_budget(left)),
        left,
    ));
    let what = if c.views.is_some() { "samples counted" } else { "runs counted" };
    let count = c.score.counted();
    all.push(figure(counted(count), what.into(), Tone::Plain, Some(count as f64)));
    all
}

/// A row for each window of each goal.
fn overview(cards: &[Card], site: &Site, covers: Stretch) -> Table {
    let mut table = Table::of(&[
        "Goal",
        "window",
        "#promised",
        "#share",
        "#counted",
        "#not good",
        "#error budget spent",
        "kept",
    ]);
    for c in cards {
        let says = &c.version.definition;
        let share = c.budget.score.share();
        let spent = c.budget.left_share().map(|left| 1.0 - left);
        let so_far = if is_over(c, covers) { "" } else { ", so far" };
        table.row(vec![
            Cell::text(&c.goal.name),
            Cell::text(format!("{}{so_far}", says.period.name(c.window, &site.zone))),
            Cell::number(format!("{} %", share_text(says.promised, 3, None)), Some(says.promised)),
            Cell::number(share_of(c), share)
                .standing(tone(Standing::of_share(share, says.promised))),
            Cell::number(counted(c.score.counted()), Some(c.score.counted() as f64)),
            Cell::number(counted(c.score.bad), Some(c.score.bad as f64)),
            Cell::number(spent.map_or("–".into(), |s| percent(Some(s), 0, None)), spent),
            Cell::text(match is_kept(c) {
                None => "nothing counted",
                Some(true) => "yes",
                Some(false) => "no",
            }),
        ]);
    }
    table
}

fn course(c: &Card, site: &Site) -> Course {
    let ticks = (0..=TICKS).filter_map(|nth| {
        let second = c.window.from.as_second() + c.window.seconds() * nth / TICKS;
        let at = jiff::Timestamp::from_second(second).ok()?;
        Some((second, at.to_zoned(site.zone.clone()).strftime("%-d %b").to_string()))
    });
    Course {
        from_s: c.window.from.as_second(),
        to_s: c.window.to.as_second(),
        points: c.course.iter().filter_map(|(s, b)| Some((*s, b.left_share()?))).collect(),
        left_out: c
            .left_out
            .iter()
            .map(|l| (l.stretch.from.as_second(), l.stretch.to.as_second()))
            .collect(),
        ticks: ticks.collect(),
    }
}

fn by_location(c: &Card) -> Table {
    let promised = c.version.definition.promised;
    let mut table = Table::of(&[
        "Location",
        "#counted",
        "#failed",
        "#unmeasured",
        "#left out",
        "#availability",
        "#of what was not good",
    ]);
    for l in &c.locations {
        let (t, share) = (&l.tally, l.tally.availability());
        let number = |n: u64| Cell::number(counted(n), Some(n as f64));
        table.row(vec![
            Cell::text(&l.location.name),
            number(t.counted()),
            number(t.failed),
            number(t.unmeasured),
            number(t.left_out),
            Cell::number(percent(share, 2, Some(promised)), share)
                .standing(tone(Standing::of_share(share, promised))),
            Cell::number(l.spent.map_or("–".into(), |s| percent(Some(s), 0, None)), l.spent),
        ]);
    }
    table
}

fn what_spent(c: &Card, site: &Site) -> Table {
    let mut table = Table::of(&["From", "to", "#lasted", "where", "#failed runs"]);
    let mut failed: Vec<_> = c.failed.iter().collect();
    failed.sort_by_key(|f| f.stretch.from);
    for f in failed {
        let places: Vec<&str> = f.places.iter().map(String::as_str).collect();
        let to = match f.lasts {
            true => "still at its end".into(),
            false => day_clock(f.stretch.to, &site.zone),
        };
        table.row(vec![
            Cell::text(day_clock(f.stretch.from, &site.zone)),
            Cell::text(to),
            Cell::number(length_text(f.stretch.ms()), Some(f.stretch.ms())),
            Cell::text(list(&places)),
            Cell::number(counted(f.runs), Some(f.runs as f64)),
        ]);
    }
    table
}

/// What did not count, each reason with how often and how long; in the order in which they began.
fn left_out(c: &Card, site: &Site) -> Table {
    let mut table = Table::of(&["What", "why", "by", "#times", "#together", "the first"]);
    let mut groups: Vec<(&str, &str, u64, f64, jiff::Timestamp)> = Vec::new();
    for l in &c.left_out {
        let Some(within) = l.stretch.common(&c.past) else { continue };
        let by = l.author.as_deref().unwrap_or_default();
        match groups.iter_mut().find(|(why, who, ..)| *why == l.why && *who == by) {
            Some((_, _, times, ms, first)) => {
                (*times, *ms) = (*times + 1, *ms + within.ms());
                *first = (*first).min(l.stretch.from);
            }
            None => groups.push((&l.why, by, 1, within.ms(), l.stretch.from)),
        }
    }
    groups.sort_by_key(|(.., first)| *first);
    for (why, by, times, ms, first) in groups {
        table.row(vec![
            Cell::text(if by.is_empty() { "Maintenance" } else { "Carve-out" }),
            Cell::text(why),
            Cell::text(by),
            Cell::number(counted(times), Some(times as f64)),
            Cell::number(length_text(ms), Some(ms)),
            Cell::text(day_clock(first, &site.zone)),
        ]);
    }
    table
}

fn views(c: &Card, site: &Site) -> Vec<Section> {
    let Some(v) = &c.views else { return Vec::new() };
    let promised = c.version.definition.promised;
    let title = capital(&v.by.title());
    let mut table = Table::of(&[&title, "#good", "#counted", "#not good", "#of what was not good"]);
    for (name, score) in &v.values {
        let spent = share(score.bad, c.score.bad);
        table.row(vec![
            Cell::text(if name.is_empty() { "not told" } else { name }),
            Cell::number(percent(score.share(), 2, Some(promised)), score.share())
                .standing(tone(Standing::of_share(score.share(), promised))),
            Cell::number(counted(score.counted()), Some(score.counted() as f64)),
            Cell::number(counted(score.bad), Some(score.bad as f64)),
            Cell::number(percent(spent, 0, None), spent),
        ]);
    }
    let mut hours = Table::of(&["When", "#good", "#counted", "#beyond what may be"]);
    for t in &v.troubles {
        let beyond = t.beyond.round().max(0.0);
        hours.row(vec![
            Cell::text(t.stretch.words(&site.zone)),
            Cell::number(percent(t.score.share(), 2, Some(promised)), t.score.share()),
            Cell::number(counted(t.score.counted()), Some(t.score.counted() as f64)),
            Cell::number(counted(beyond as u64), Some(beyond)),
        ]);
    }
    vec![
        Section::table(format!("By {}", v.by.title()), table),
        Section::table("Hours that were worse than promised, those that took most first", hours),
    ]
}

/// Everything about one window of a goal; `of` names the goal where there are several.
fn in_full(c: &Card, site: &Site, of: &str) -> Vec<Section> {
    let mut all = vec![Section {
        title: "Error budget left".into(),
        note: "Dotted: spending evenly. Grey: not counted.".into(),
        body: Body::Course(course(c, site)),
    }];
    match c.views {
        Some(_) => all.extend(views(c, site)),
        None => {
            all.push(Section::table("By location", by_location(c)));
            let spent = what_spent(c, site);
            if !spent.rows.is_empty() && !leaves_failed_out(c) {
                let note = match c.failed.len() {
                    crate::goals::MOST_TROUBLES => {
                        "The newest eight times of two failed runs in a row or more."
                    }
                    _ => {
                        "Times of two failed runs in a row or more, up to the first one that got through."
                    }
                };
                all.push(Section::table("What spent it", spent).noting(note));
            }
        }
    }
    let out = left_out(c, site);
    if !out.rows.is_empty() {
        all.push(Section::table("Left out, and why", out));
    }
    if !of.is_empty() {
        for section in &mut all {
            section.title = format!("{of}: {}", section.title);
        }
    }
    all
}

pub(super) async fn write(
    answers: &Answers,
    site: &Site,
    (definition, covers): (&Definition, Stretch),
    document: &mut Document,
) -> Result<()> {
    let (cards, gone) = cards(answers, site, (definition, covers)).await?;
    if gone > 0 {
        document.also.push(format!(
            "{} of the goals that this report is about {} taken away.",
            gone,
            if gone == 1 { "was" } else { "were" }
        ));
    }
    let zone_name = site.zone_name();
    for c in &cards {
        let version = c.version.version;
        let from = match c.version.from == BEGINNING {
            true => "the beginning".to_string(),
            false => c.version.from.to_zoned(site.zone.clone()).strftime("%-d %b %Y").to_string(),
        };
        let fact = (
            format!("Promise, {}", c.goal.name),
            format!("{} Version {version}, from {from} on.", promise(c, zone_name)),
        );
        if !document.facts.contains(&fact) {
            document.facts.push(fact);
        }
        if c.window != covers {
            let name = c.version.definition.period.name(c.window, &site.zone);
            let until = day_clock(c.past.to, &site.zone);
            let up_to = if is_over(c, covers) { String::new() } else { format!(", up to {until}") };
            let judged = ("Judged".to_string(), format!("{}: {name}{up_to}", c.goal.name));
            document.facts.push(judged);
        }
    }
    match cards.as_slice() {
        [] => document.says = "There is no goal to report of.".into(),
        [one] => {
            document.says = sentence(one, site, covers);
            document.figures = figures(one);
        }
        many => {
            let judged: Vec<&Card> = many.iter().filter(|c| is_kept(c).is_some()).collect();
            if judged.len() < many.len() {
                let not = many.len() - judged.len();
                let them = if not == 1 { "one promise" } else { "the others" };
                document.also.push(format!("Nothing was counted for {them}: see table 1."));
            }
            let broken: Vec<&&Card> = judged.iter().filter(|c| is_kept(c) == Some(false)).collect();
            let missed = |c: &&&Card| {
                let says = &c.version.definition;
                let window = says.period.name(c.window, &site.zone);
                let promised = share_text(says.promised, 3, None);
                format!("{} in {window} ({} of {promised} %)", c.goal.name, share_of(c))
            };
            let told: Vec<String> = broken.iter().map(missed).collect();
            let told: Vec<&str> = told.iter().map(String::as_str).collect();
            document.says = match (broken.len(), judged.len()) {
                (_, 0) => "Nothing was counted: nothing can be said of the promises.".into(),
                (0, 1) => "The promise of which something was counted was kept.".into(),
                (0, n) => format!("All {n} promises were kept."),
                (_, n) => format!(
                    "{} of {n} promises were kept. Not kept: {}.",
                    n - broken.len(),
                    list(&told)
                ),
            };
            let kept = judged.len() - broken.len();
            document.figures.push(Figure {
                text: format!("{kept} of {}", judged.len()),
                label: "promises kept".into(),
                tone: if broken.is_empty() { Tone::Within } else { Tone::Broken },
                value: share(kept as u64, judged.len() as u64),
            });
        }
    }
    if cards.len() != 1 || definition.kind == Kind::GoalsShort {
        document.sections.push(Section::table("Goals", overview(&cards, site, covers)));
    }
    if definition.kind == Kind::GoalsFull {
        let is_one = cards.len() == 1;
        for c in &cards {
            let name = c.version.definition.period.name(c.window, &site.zone);
            let of = if is_one { String::new() } else { format!("{}, {name}", c.goal.name) };
            document.sections.extend(in_full(c, site, &of));
        }
    }
    for c in &cards {
        let name = c.version.definition.period.name(c.window, &site.zone);
        for (title, lines) in workings(c, &name, (&site.zone, zone_name)) {
            // What comes next is nothing that an issue of the past tells.
            if title == "Forecast" {
                continue;
            }
            let title = match cards.len() {
                1 => title,
                _ => format!("{}, {name}: {title}", c.goal.name),
            };
            document.working.push(Working { title, lines });
        }
    }
    Ok(())
}
