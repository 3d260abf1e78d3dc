//! Goals: what was promised, what is left of the error budget, and the proof.

use crate::State;
use crate::access::{By, InSite};
use crate::draw::{Axis, band, line, ticks};
use crate::error::PageError;
use crate::format;
use crate::frame::{Frame, WIDTH, base, drawn_windows, tone};
use crate::respond::journey_of;
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::view::{Cell, Choice, Figure, Mark, Window, Working};
use crate::words::uptime_proof;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes;
use cadentis_answers::goals::{self, AtLocation, FailedFor, Limited, VITALS};
use cadentis_answers::kept::Site;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, length_text};
use cadentis_core::goal::{ErrorBudget, Standing};
use cadentis_core::text;
use cadentis_core::timing::Vital;
use jiff::SignedDuration;
use serde::Deserialize;

#[derive(Template)]
#[template(path = "goals.html")]
struct Page {
    frame: Frame,
    goals: Vec<Card>,
    /// What could be promised as long as nothing is.
    journeys: Vec<Choice>,
    wrong: Option<String>,
    budget_vitals: Vec<&'static str>,
    budgets: Vec<FamilyRow>,
}

/// A page family with a cell for each vital.
struct FamilyRow {
    family: String,
    cells: Vec<Cell>,
}

struct Card {
    name: String,
    says: String,
    month: String,
    readings: Vec<Figure>,
    from_s: i64,
    to_s: i64,
    ticks: Vec<Mark>,
    windows: Vec<Window>,
    area: String,
    line: String,
    pace: String,
    reads: String,
    now_x: Option<f64>,
    locations: Vec<LocationRow>,
    spells: Vec<SpellRow>,
    proof: Vec<Working>,
}

/// A time in which it failed.
struct SpellRow {
    link: String,
    from: String,
    to: String,
    lasted: String,
    places: String,
    failed: u64,
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
) -> Result<HttpResponse, PageError> {
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
    fn read(&self) -> Result<(String, f64), String> {
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
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    given: web::Form<NewGoal>,
) -> Result<HttpResponse, PageError> {
    let journey = journey_of(&state, site.id, &given.journey).await?;
    match given.read() {
        Ok((name, promised)) => {
            changes::journeys::add_goal(&state.answers, &by, &journey, &name, promised).await?;
            Ok(redirect(&format!("{}/goals", base(&site))))
        }
        Err(says) => show(&state, &request, Some(says)).await,
    }
}

async fn show(
    state: &web::Data<State>,
    request: &HttpRequest,
    wrong: Option<String>,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let told = goals::ask(&state.answers, &frame.site, &frame.range(), frame.now).await?;
    let cell = |(vital, limited): (&Vital, &Limited)| {
        let says = format::vital(*vital, &limited.reading);
        match limited.limit {
            Some((limit, standing)) => {
                Cell::new(format!("{says} of {}", vital.text(limit)), tone(standing))
            }
            None => Cell::new(says, "nodata"),
        }
    };
    let family = |(family, cells): (String, [Limited; 3])| FamilyRow {
        family,
        cells: VITALS.iter().zip(&cells).map(cell).collect(),
    };
    let promisable = |j: cadentis_answers::kept::Journey| Choice::new(j.slug, j.name, false);
    let nothing_yet = told.cards.is_empty();
    html(&Page {
        goals: told.cards.iter().map(|c| card(&frame, c)).collect(),
        journeys: match nothing_yet {
            true => told.journeys.into_iter().map(promisable).collect(),
            false => Vec::new(),
        },
        wrong,
        budget_vitals: VITALS.map(Vital::name).to_vec(),
        budgets: told.families.into_iter().map(family).collect(),
        frame,
    })
}

/// What is said first of a goal.
fn says(c: &goals::Card, month_name: &str) -> String {
    match (c.budget.left_share(), c.forecast.at) {
        _ if c.budget.score.counted() == 0 => "No counted run yet in this month.".to_string(),
        (Some(l), _) if l < 0.0 => format!(
            "Missed for {month_name}: the error budget is overspent by {}.",
            length_text(-c.budget.left_ms())
        ),
        (_, Some(end)) if end < c.month.to => format!(
            "At the pace of the last 24 hours the error budget runs out in {}, before the month ends.",
            length_text(Stretch { from: c.past.to, to: end }.ms())
        ),
        _ => format!(
            "On course for {month_name}: at the pace of the last 24 hours the error budget outlasts the month."
        ),
    }
}

fn figures(c: &goals::Card) -> Vec<Figure> {
    let (budget, promised) = (&c.budget, c.goal.promised);
    let burn = |rate: Option<f64>, label: &str| {
        let fast = rate.is_some_and(|b| b > 1.0);
        Figure::new(
            rate.map_or("–".into(), |b| format!("{b:.1}×")),
            label.into(),
            if fast { "strained" } else { "within" },
        )
    };
    vec![
        Figure::new(
            format::percent(budget.score.share(), 2, Some(promised)),
            format!("availability · goal {:.2} %", promised * 100.0),
            tone(Standing::of_share(budget.score.share(), promised)),
        ),
        Figure::new(
            format::percent(c.uptime.share(), 2, Some(1.0)),
            "uptime · reached from somewhere".into(),
            "within",
        ),
        Figure::new(
            length_text(budget.left_ms()),
            format!("error budget left of {}", length_text(budget.allowed_ms())),
            tone(Standing::of_error_budget(budget.left_share())),
        ),
        burn(c.burn_month, "burn rate · this month"),
        burn(c.burn_day, "burn rate · last 24 h"),
    ]
}

fn location_row(l: &AtLocation, promised: f64) -> LocationRow {
    let t = &l.tally;
    LocationRow {
        name: l.location.name.clone(),
        availability: format::percent(t.availability(), 2, Some(promised)),
        tone: tone(Standing::of_share(t.availability(), promised)),
        counted: format::thousands(t.counted()),
        failed: t.failed,
        unmeasured: t.unmeasured,
        left_out: t.left_out,
        spent: match l.spent.filter(|s| *s > 0.0) {
            Some(spent) => format::percent(Some(spent), 0, None),
            None => "–".into(),
        },
    }
}

fn spell_row(t: &FailedFor, past: Stretch, site: &Site) -> SpellRow {
    let zone = &site.zone;
    let hour = SignedDuration::from_hours(1);
    let (from, to) = (t.stretch.from - hour, (t.stretch.to + hour).min(past.to));
    let places: Vec<&str> = t.places.iter().map(String::as_str).collect();
    SpellRow {
        link: format!("{}?from={}&to={}", base(site), Stretch::moment(from), Stretch::moment(to)),
        from: format::day_clock(t.stretch.from, zone),
        to: if t.lasts { "still".into() } else { format::day_clock(t.stretch.to, zone) },
        lasted: length_text(t.stretch.ms()),
        places: cadentis_core::finding::list(&places),
        failed: t.runs,
    }
}

fn proof(frame: &Frame, c: &goals::Card, month_name: &str) -> Vec<Working> {
    let zone = &frame.site.zone;
    let every_s = i64::from(c.journey.every_s);
    let mut window = vec![
        format!("{month_name} in {}, {} to {}.", frame.zone, c.month.from, c.month.to),
        format!("Judged up to {}.", format::day_clock(c.past.to, zone)),
        format!(
            "{} locations of “{}”, every {} min.",
            c.locations.len(),
            c.journey.name,
            every_s / 60
        ),
    ];
    window.extend(c.left_out.iter().map(|w| {
        let kind = w.author.as_ref().map_or("Maintenance".into(), |a| format!("Carve-out by {a}"));
        format!("{kind}, not counted: {} ({}).", w.stretch.words(zone), w.why)
    }));
    let availability = c
        .score
        .proof("availability", "runs that got through", "counted runs", c.goal.promised)
        .noting(format!("slow runs got through: {} of them", format::thousands(c.tally.slow)));
    let spent = c.budget.proof().noting(
        "burn rate = share of bad / share that may be bad; 1 spends the budget exactly by the end of the window",
    );
    let forecast = c.forecast.proof("the last 24 hours", |at| format::day_clock(at, zone));
    vec![
        Working::new("Window", window),
        Working::of("Availability", &availability),
        Working::of("Uptime, reached from somewhere", &uptime_proof(&c.uptime, every_s)),
        Working::of("Error budget", &spent),
        Working::of("Forecast", &forecast),
    ]
}

fn card(frame: &Frame, c: &goals::Card) -> Card {
    let zone = &frame.site.zone;
    let month_name = c.month.from.to_zoned(zone.clone()).strftime("%B %Y").to_string();
    let axis = Axis { stretch: c.month, left: 196.0, width: WIDTH - 232.0 };
    let y = |b: &ErrorBudget| 120.0 - 112.0 * b.left_share().unwrap_or(0.0).clamp(-0.04, 1.0);
    let points: Vec<(f64, f64)> =
        c.course.iter().map(|(s, b)| (axis.x(at_second(*s)), y(b))).collect();
    let reads: Vec<(i64, String)> =
        c.course.iter().map(|(s, b)| (*s, format!("{} left", length_text(b.left_ms())))).collect();
    Card {
        name: c.goal.name.clone(),
        says: says(c, &month_name),
        readings: figures(c),
        from_s: c.month.from.as_second(),
        to_s: c.month.to.as_second(),
        ticks: ticks(&axis, zone),
        windows: drawn_windows(&c.left_out, &axis),
        area: band(&points.iter().map(|(x, y)| (*x, *y, 120.0)).collect::<Vec<_>>()),
        line: line(points.iter().map(|p| Some(*p))),
        pace: line([Some((axis.left, 8.0)), Some((axis.right(), 120.0))]),
        reads: serde_json::to_string(&reads).unwrap_or_default(),
        now_x: c.month.contains(frame.now).then(|| axis.x(frame.now)),
        locations: c.locations.iter().map(|l| location_row(l, c.goal.promised)).collect(),
        spells: c.failed.iter().map(|t| spell_row(t, c.past, &frame.site)).collect(),
        proof: proof(frame, c, &month_name),
        month: month_name,
    }
}
