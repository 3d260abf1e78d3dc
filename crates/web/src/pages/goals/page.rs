//! Goals: what was promised, what is left of the error budget, and the proof.

use crate::State;
use crate::budget_course::{BudgetCourse, course, figures, rate};
use crate::error::PageError;
use crate::filters;
use crate::format;
use crate::frame::{Frame, base, tone};
use crate::respond::{TWELVE_HOURS, html};
use crate::view::{Figure, Working};
use crate::words::capital;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::goals::words::{part, promise, says, workings};
use cadentis_answers::goals::{self, AtLocation, FailedFor, OfViews};
use cadentis_answers::kept::{CarveOut, Site};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::length_text;
use cadentis_core::goal::views::Trouble;
use cadentis_core::goal::{Burn, ErrorBudget, Period, Score, Standing};
use cadentis_core::stats::share::{share, share_text};
use jiff::{SignedDuration, Timestamp};

#[derive(Template)]
#[template(path = "goals.html")]
struct Page {
    frame: Frame,
    goals: Vec<Card>,
    /// Each goal in a row, when there are several.
    rows: Vec<Row>,
    /// Whether there is anything to promise something of.
    journeys: bool,
}

/// A goal in a row.
struct Row {
    id: i32,
    name: String,
    promised: String,
    share: String,
    tone: &'static str,
    left: String,
    burn: String,
    says: String,
}

struct Card {
    id: i32,
    /// What is promised, of what, over what, and since when.
    promise: String,
    /// Pairs of windows that it burns over.
    burns: Vec<BurnRow>,
    /// What it would be without the stretch that was chosen.
    what_if: Option<WhatIf>,
    carve_outs: Vec<CarveRow>,
    name: String,
    says: String,
    month: String,
    readings: Vec<Figure>,
    course: BudgetCourse,
    locations: Vec<LocationRow>,
    spells: Vec<SpellRow>,
    /// Of page views what is told in place of locations and runs.
    views: Option<ViewTables>,
    proof: Vec<Working>,
}

/// What spent the error budget of a goal over page views.
struct ViewTables {
    by: String,
    title: String,
    values: Vec<ValueRow>,
    troubles: Vec<TroubleRow>,
}

struct ValueRow {
    name: String,
    share: String,
    tone: &'static str,
    counted: String,
    bad: String,
    spent: String,
}

/// Hours that were worse than promised.
struct TroubleRow {
    link: String,
    when: String,
    share: String,
    counted: String,
    beyond: String,
}

struct BurnRow {
    windows: String,
    long: String,
    short: String,
    trigger: String,
    burns: bool,
}

/// The chosen stretch, and the share with and without it.
struct WhatIf {
    says: String,
    /// As the fields of a form have it, by the clock of the site.
    from: String,
    to: String,
}

struct CarveRow {
    id: i32,
    when: String,
    why: String,
    author: String,
    made: String,
    /// That it changed a window that was over, and that it was put back.
    beside: Vec<String>,
    in_force: bool,
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
    let state = &state;
    let request = &request;

    let frame = Frame::load(state, request, "Goals", TWELVE_HOURS).await?;
    let told = goals::ask(&state.answers, &frame.site, &frame.range(), frame.now).await?;
    let cards = told.cards;
    html(&Page {
        rows: cards.iter().map(|c| row(&frame, c)).collect(),
        goals: cards.iter().map(|c| card(&frame, c)).collect(),
        journeys: !told.journeys.is_empty(),
        frame,
    })
}

fn row(frame: &Frame, c: &goals::Card) -> Row {
    let promised = c.version.definition.promised;
    let share = c.budget.score.share();
    let name = c.version.definition.period.name(c.window, &frame.site.zone);
    Row {
        id: c.goal.id,
        name: c.goal.name.clone(),
        promised: format!("{} %", share_text(promised, 2, None)),
        share: format::percent(share, 2, Some(promised)),
        tone: tone(Standing::of_share(share, promised)),
        left: c.budget.left_text(&c.version.definition.measure),
        burn: rate(c.burn_day),
        says: says(c, &name),
    }
}

fn burn_row(b: &Burn) -> BurnRow {
    let long = |s: i64| length_text(s as f64 * 1000.0);
    BurnRow {
        windows: format!("{} and {}", long(b.pair.long_s), long(b.pair.short_s)),
        long: rate(b.long),
        short: rate(b.short),
        trigger: format!("{}×", b.pair.trigger),
        burns: b.is_burning(),
    }
}

fn what_if(frame: &Frame, c: &goals::Card) -> Option<WhatIf> {
    let (chosen, without) = c.what_if.as_ref()?;
    let promised = c.version.definition.promised;
    let percent = |b: &ErrorBudget| format::percent(b.score.share(), 3, Some(promised));
    let clock =
        |t: Timestamp| t.to_zoned(frame.site.zone.clone()).strftime("%Y-%m-%dT%H:%M").to_string();
    Some(WhatIf {
        says: format!(
            "Without {}, the stretch chosen above, the share would be {} instead of {}, with {} of the error budget left instead of {}.",
            chosen.words(&frame.site.zone),
            percent(without),
            percent(&c.budget),
            part(c, without, without.left_ms()),
            part(c, &c.budget, c.budget.left_ms())
        ),
        from: clock(chosen.from),
        to: clock(chosen.to),
    })
}

fn carve_row(frame: &Frame, c: &goals::Card, carved: &CarveOut) -> CarveRow {
    let zone = &frame.site.zone;
    let period = c.version.definition.period;
    let is_rolling = matches!(period, Period::Days(_));
    // The window that the time lies in, which may have been told to somebody before.
    let window = period.around(carved.stretch.from, zone);
    let name = period.name(window, zone);
    let mut beside = Vec::new();
    if carved.made_at >= window.to && !is_rolling {
        beside
            .push(format!("{name} was over by then: what was reported of it before has changed."));
    }
    if let Some((at, by)) = &carved.revoked {
        let again = *at >= window.to && !is_rolling;
        let changed = if again { format!(", which changed {name} again") } else { String::new() };
        beside.push(format!("Put back by {by} on {}{changed}.", format::day_clock(*at, zone)));
    }
    CarveRow {
        id: carved.id,
        when: carved.stretch.words(zone),
        why: carved.why.clone(),
        author: carved.author.clone(),
        made: format::day_clock(carved.made_at, zone),
        in_force: carved.revoked.is_none(),
        beside,
    }
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

fn view_tables(frame: &Frame, c: &goals::Card, v: &OfViews) -> ViewTables {
    let promised = c.version.definition.promised;
    let percent = |score: &Score| format::percent(score.share(), 2, Some(promised));
    let value = |(name, score): &(String, Score)| ValueRow {
        name: if name.is_empty() { "not told".into() } else { name.clone() },
        share: percent(score),
        tone: tone(Standing::of_share(score.share(), promised)),
        counted: format::thousands(score.counted()),
        bad: format::thousands(score.bad),
        spent: match share(score.bad, c.score.bad).filter(|s| *s > 0.0) {
            Some(spent) => format::percent(Some(spent), 0, None),
            None => "–".into(),
        },
    };
    let trouble = |t: &Trouble| TroubleRow {
        link: format!(
            "{}/visitors?from={}&to={}",
            base(&frame.site),
            Stretch::moment(t.stretch.from),
            Stretch::moment(t.stretch.to)
        ),
        when: t.stretch.words(&frame.site.zone),
        share: percent(&t.score),
        counted: format::thousands(t.score.counted()),
        beyond: format::thousands(t.beyond.round().max(0.0) as u64),
    };
    ViewTables {
        by: v.by.title(),
        title: capital(&v.by.title()),
        values: v.values.iter().map(value).collect(),
        troubles: v.troubles.iter().map(trouble).collect(),
    }
}

fn card(frame: &Frame, c: &goals::Card) -> Card {
    let zone = &frame.site.zone;
    let promised = c.version.definition.promised;
    let name = c.version.definition.period.name(c.window, zone);
    Card {
        id: c.goal.id,
        promise: promise(c, &frame.zone),
        burns: c.burns.iter().map(burn_row).collect(),
        what_if: what_if(frame, c),
        carve_outs: c.record.iter().map(|r| carve_row(frame, c, r)).collect(),
        name: c.goal.name.clone(),
        says: says(c, &name),
        readings: figures(c),
        course: course(frame, c, &name),
        locations: c.locations.iter().map(|l| location_row(l, promised)).collect(),
        spells: c.failed.iter().map(|t| spell_row(t, c.past, &frame.site)).collect(),
        views: c.views.as_ref().map(|v| view_tables(frame, c, v)),
        proof: workings(c, &name, (zone, &frame.zone)).into_iter().map(Working::from).collect(),
        month: name,
    }
}
