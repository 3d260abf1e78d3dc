//! Goals: what was promised, what is left of the error budget, and the proof.

use super::{Figure, TWELVE_HOURS, Working, html, redirect};
use crate::State;
use crate::draw::{Axis, band, line, ticks};
use crate::error::PageError;
use crate::format;
use crate::frame::{Frame, WIDTH, drawn_windows, tone};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::goals;
use cadentis_answers::views::Views;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::goal::budget::{self, Metric};
use cadentis_core::goal::{
    self, Check, Combine, ErrorBudget, Measure, Minutes, Period, Promise, Score, Standing, Tally,
    Track, error_budget, measure,
};
use cadentis_core::run::Spell;
use cadentis_core::run::spell::Gathered;
use cadentis_core::stats::{Proof, share};
use cadentis_core::text;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::sites::{Goal, LeftOut};
use futures::TryFutureExt;
use jiff::SignedDuration;
use serde::Deserialize;
use std::collections::BTreeMap;

#[derive(Template)]
#[template(path = "goals.html")]
struct Page {
    frame: Frame,
    goals: Vec<Card>,
    /// What could be promised as long as nothing is: address and name of each journey.
    journeys: Vec<(String, String)>,
    wrong: Option<String>,
    budget_vitals: Vec<&'static str>,
    budgets: Vec<(String, Vec<(String, &'static str)>)>,
}

struct Card {
    name: String,
    says: String,
    month: String,
    readings: Vec<Figure>,
    from_s: i64,
    to_s: i64,
    ticks: Vec<(f64, String)>,
    windows: Vec<(f64, f64, String)>,
    area: String,
    line: String,
    pace: String,
    reads: String,
    now_x: Option<f64>,
    locations: Vec<LocationRow>,
    /// Link, from, to, lasted, where, failed runs.
    spells: Vec<(String, String, String, String, String, u64)>,
    proof: Vec<Working>,
}

struct LocationRow {
    name: String,
    availability: String,
    tone: &'static str,
    counted: String,
    failed: u64,
    unmeasured: u64,
    left_out: u64,
    spent: String,
}

pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> std::result::Result<HttpResponse, PageError> {
    show(&state, &request, None).await
}

#[derive(Deserialize)]
pub struct NewGoal {
    journey: String,
    name: String,
    promised: String,
}

impl NewGoal {
    /// Name and promised share, or what of them cannot be.
    fn read(&self) -> std::result::Result<(String, f64), String> {
        let name = text::clean(self.name.trim(), 80, None);
        if name.is_empty() {
            return Err("A goal has a name.".into());
        }
        let percent = self.promised.trim().trim_end_matches('%').trim();
        let share =
            percent.parse::<f64>().ok().filter(|p| (50.0..100.0).contains(p)).map(|p| p / 100.0);
        let share = share.ok_or(
            "A promise is from 50 to below 100 per cent: nothing is left to spend of 100.",
        )?;
        Ok((name, share))
    }
}

/// `POST /goals`: the first goal of an installation that has none.
pub async fn make(
    state: web::Data<State>,
    request: HttpRequest,
    given: web::Form<NewGoal>,
) -> std::result::Result<HttpResponse, PageError> {
    let site = state.site().await?;
    let journey = super::journey_of(&state, site.id, &given.journey).await?;
    match given.read() {
        Ok((name, promised)) => {
            state.db.add_goal(site.id, journey.id, &name, promised).await?;
            Ok(redirect("/goals"))
        }
        Err(says) => show(&state, &request, Some(says)).await,
    }
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    wrong: Option<String>,
) -> std::result::Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let mut goals = Vec::new();
    for goal in state.db.goals(frame.site.id).await? {
        goals.push(card(state, &frame, &goal).await?);
    }
    let journeys = match goals.is_empty() {
        true => {
            state.db.journeys(frame.site.id).await?.into_iter().map(|j| (j.slug, j.name)).collect()
        }
        false => vec![],
    };
    let views = Views::load(
        &state.answers,
        frame.site.id,
        frame.past(),
        &Filter::default(),
        Attribute::Family,
        &[Vital::Lcp, Vital::Inp, Vital::Cls],
        1,
    )
    .await?;
    let limits = state.db.budgets(frame.site.id).await?;
    let vitals = [Vital::Lcp, Vital::Inp, Vital::Cls];
    let budgets = views
        .values()
        .into_iter()
        .map(|(family, pool)| {
            let cells = vitals.map(|v| {
                let reading = pool.measured(v).reading(0.75);
                match budget::holding(&limits, Metric::Vital(v), Some(&family)) {
                    Some(b) => (
                        format!("{} of {}", format::vital(v, &reading), v.text(b.limit)),
                        tone(b.judge(&reading).state),
                    ),
                    None => (format::vital(v, &reading), "nodata"),
                }
            });
            (family, cells.to_vec())
        })
        .collect();
    html(&Page {
        goals,
        journeys,
        wrong,
        budget_vitals: vitals.map(Vital::name).to_vec(),
        budgets,
        frame,
    })
}

/// How an uptime was come by.
pub fn uptime_proof(uptime: &Score, every_s: i64) -> Proof {
    let good = format!("slots of {} min in which at least one location got through", every_s / 60);
    uptime.proof("uptime", &good, "slots with a counted run", 1.0)
}

async fn card(state: &State, frame: &Frame, goal: &Goal) -> std::result::Result<Card, PageError> {
    let (site, zone) = (&frame.site, &frame.site.zone);
    // The month of the stretch's end: the goal's own window.
    let month = Stretch::month_of(frame.past().to, zone);
    let past = Stretch { from: month.from, to: month.to.min(frame.now) };
    let out = goals::left_out(&state.answers, site, goal, month).await?;
    let windows = LeftOut::cover(&out);
    let counted = goal::counted(month, &[], &windows, zone);
    let journeys = state.db.journeys(site.id).await?;
    let journey = journeys
        .iter()
        .find(|j| j.id == goal.journey_id)
        .ok_or_else(|| PageError::NotFound(format!("the journey of the goal {}", goal.name)))?;
    let (series, checks, located) = futures::try_join!(
        goals::budget_over(&state.answers, site, goal, past, 240),
        state.db.checks(goal.journey_id, site.id, past).err_into(),
        state.db.locations_of(journey).err_into(),
    )?;
    let mut here: BTreeMap<i32, Vec<Check>> = BTreeMap::new();
    for (location, check) in &checks {
        here.entry(*location).or_default().push(*check);
    }
    let runs: Vec<_> =
        here.iter().map(|(location, checks)| (*location, measure::verdicts(checks))).collect();
    let tracks: Vec<Track> = runs
        .iter()
        .map(|(location, runs)| Track { journey: journey.id, location: *location, runs })
        .collect();
    let mut score = measure::score(
        Measure::Availability,
        Combine::Pooled,
        &tracks,
        i64::from(journey.every_s),
        &counted,
    );
    for (location, cadence) in &located {
        // What was due before the location's first run was never going to be played: it came later.
        let Some((_, here)) = runs.iter().find(|(id, _)| *id == location.id) else { continue };
        let Some((first, _)) = here.first() else { continue };
        let since = Stretch {
            from: past.from.max(*first),
            to: past.to - SignedDuration::from_secs(i64::from(journey.every_s)),
        };
        score.missing += measure::missing(cadence.due(since), here, &counted);
    }
    let promise =
        Promise { promised: goal.promised, period: Period::Month, zone, counted: &counted };
    let budget = promise.budget(past.to, score);
    let all: Vec<Check> = checks.iter().map(|(_, c)| *c).collect();
    let tally = Tally::of(&all, &windows);
    let minutes = Minutes::of(&tracks, &counted, past);
    let day = SignedDuration::from_hours(24);
    let burn_month = error_budget::burn_rate(&budget.score, goal.promised);
    let burn_day = error_budget::burn_rate(&minutes.between(past.to - day, past.to), goal.promised);
    let forecast = minutes.forecast(&budget, past.to, day.as_secs());
    let uptime = goal::uptime(&all, i64::from(journey.every_s), &windows);
    let month_name = month.from.to_zoned(zone.clone()).strftime("%B %Y").to_string();

    let axis = Axis { stretch: month, left: 196.0, width: WIDTH - 232.0 };
    let y = |b: &ErrorBudget| 120.0 - 112.0 * b.left_share().unwrap_or(0.0).clamp(-0.04, 1.0);
    let points: Vec<(f64, f64)> =
        series.iter().map(|(s, b)| (axis.x(at_second(*s)), y(b))).collect();
    let left = budget.left_share();
    let says = match (left, forecast.at) {
        _ if budget.score.counted() == 0 => "No counted run yet in this month.".to_string(),
        (Some(l), _) if l < 0.0 => {
            format!(
                "Missed for {month_name}: the error budget is overspent by {}.",
                length_text(-budget.left_ms())
            )
        }
        (_, Some(end)) if end < month.to => format!(
            "At the pace of the last 24 hours the error budget runs out in {}, before the month ends.",
            length_text(Stretch { from: past.to, to: end }.ms())
        ),
        _ => {
            format!(
                "On course for {month_name}: at the pace of the last 24 hours the error budget outlasts the month."
            )
        }
    };
    let burn_text = |b: Option<f64>| b.map_or("–".into(), |b| format!("{b:.1}×"));
    let readings = vec![
        Figure::new(
            format::percent(budget.score.share(), 2, Some(goal.promised)),
            format!("availability · goal {:.2} %", goal.promised * 100.0),
            tone(Standing::of_share(budget.score.share(), goal.promised)),
        ),
        Figure::new(
            format::percent(uptime.share(), 2, Some(1.0)),
            "uptime · reached from somewhere".into(),
            "within",
        ),
        Figure::new(
            length_text(budget.left_ms()),
            format!("error budget left of {}", length_text(budget.allowed_ms())),
            tone(Standing::of_error_budget(left)),
        ),
        Figure::new(
            burn_text(burn_month),
            "burn rate · this month".into(),
            if burn_month.is_some_and(|b| b > 1.0) { "strained" } else { "within" },
        ),
        Figure::new(
            burn_text(burn_day),
            "burn rate · last 24 h".into(),
            if burn_day.is_some_and(|b| b > 1.0) { "strained" } else { "within" },
        ),
    ];
    let failed_all = budget.score.bad;
    let locations = located
        .iter()
        .map(|(l, _)| {
            let of_location = here.get(&l.id).map_or(&[][..], Vec::as_slice);
            let t = Tally::of(of_location, &windows);
            LocationRow {
                name: l.name.clone(),
                availability: format::percent(t.availability(), 2, Some(goal.promised)),
                tone: tone(Standing::of_share(t.availability(), goal.promised)),
                counted: format::thousands(t.counted()),
                failed: t.failed,
                unmeasured: t.unmeasured,
                left_out: t.left_out,
                spent: format::percent(share(t.failed, failed_all).filter(|s| *s > 0.0), 0, None)
                    .replace("no data", "–"),
            }
        })
        .collect();
    let mut spells = Vec::new();
    for (l, _) in &located {
        let of_location = here.get(&l.id).into_iter().flatten();
        let here: Vec<Check> = of_location.copied().filter(|c| !windows.contains(c.at)).collect();
        spells.extend(Spell::of(&here, 2).into_iter().map(|s| (s, l.name.as_str())));
    }
    let hour = SignedDuration::from_hours(1);
    let spells = Gathered::of(spells, past.to)
        .into_iter()
        .take(8)
        .map(|t| {
            let around = (
                Stretch::moment(t.stretch.from - hour),
                Stretch::moment((t.stretch.to + hour).min(past.to)),
            );
            let to = if t.lasts { "still".into() } else { format::day_clock(t.stretch.to, zone) };
            (
                format!("/?from={}&to={}", around.0, around.1),
                format::day_clock(t.stretch.from, zone),
                to,
                length_text(t.stretch.ms()),
                cadentis_core::finding::list(&t.places),
                t.runs,
            )
        })
        .collect();
    let mut window = vec![
        format!("{month_name} in {}, {} to {}.", frame.zone, month.from, month.to),
        format!("Judged up to {}.", format::day_clock(past.to, zone)),
        format!(
            "{} locations of “{}”, every {} min.",
            located.len(),
            journey.name,
            journey.every_s / 60
        ),
    ];
    window.extend(out.iter().map(|w| {
        let kind = w.author.as_ref().map_or("Maintenance".into(), |a| format!("Carve-out by {a}"));
        format!("{kind}, not counted: {} ({}).", w.stretch.words(zone), w.why)
    }));
    let availability = score
        .proof("availability", "runs that got through", "counted runs", goal.promised)
        .noting(format!("slow runs got through: {} of them", format::thousands(tally.slow)));
    let spent = budget.proof().noting(
        "burn rate = share of bad / share that may be bad; 1 spends the budget exactly by the end of the window",
    );
    let proof = vec![
        Working::new("Window", window),
        Working::of("Availability", &availability),
        Working::of(
            "Uptime, reached from somewhere",
            &uptime_proof(&uptime, i64::from(journey.every_s)),
        ),
        Working::of("Error budget", &spent),
        Working::of(
            "Forecast",
            &forecast.proof("the last 24 hours", |at| format::day_clock(at, zone)),
        ),
    ];
    Ok(Card {
        name: goal.name.clone(),
        says,
        readings,
        from_s: month.from.as_second(),
        to_s: month.to.as_second(),
        ticks: ticks(&axis, zone),
        windows: drawn_windows(&out, &axis),
        area: band(&points.iter().map(|(x, y)| (*x, *y, 120.0)).collect::<Vec<_>>()),
        line: line(points.iter().map(|p| Some(*p))),
        pace: line([Some((axis.left, 8.0)), Some((axis.right(), 120.0))]),
        reads: serde_json::to_string(
            &series
                .iter()
                .map(|(s, b)| (*s, format!("{} left", length_text(b.left_ms()))))
                .collect::<Vec<_>>(),
        )
        .unwrap_or_default(),
        now_x: month.contains(frame.now).then(|| axis.x(frame.now)),
        month: month_name,
        locations,
        spells,
        proof,
    })
}
