//! Reports of timings, of usage, and of what a kept query comes to: all of them queries.

use crate::queries::{self, Over};
use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::{at_second, day_clock, length_text};
use cadentis_core::measure::{Key, Measure, Scope, Unit};
use cadentis_core::query::{By, Query, Value};
use cadentis_core::report::{
    self, Cell, Definition, Document, Figure, Section, Table, Tone, Working,
};
use cadentis_core::stats::Reading;
use cadentis_core::stats::proof::counted;
use cadentis_core::stats::share::NO_DATA;
use cadentis_core::text::capital;
use cadentis_store::journey::Journey;
use cadentis_store::location::Location;
use cadentis_store::site::Site;
use std::sync::Arc;

/// What timings of journeys are.
const OF_RUNS: &str =
    "count of runs, availability, p50 of run duration, p75 of run duration, p95 of run duration";
/// What timings of pages are.
const OF_PAGES: &str = "count of page views, p75 of LCP, p75 of INP, p75 of CLS, share with errors";
/// What usage of runs is.
const OF_USE: &str = "count of runs, mean of run duration, mean of bytes per run";
/// A query has so many rows in a report.
const ROWS: usize = 50;
/// Of pieces of time about so many.
const POINTS: i64 = 31;

fn text(unit: Unit, value: Option<f64>) -> String {
    value.map_or(NO_DATA.into(), |v| unit.text(v))
}

fn cell(unit: Unit, r: &Reading) -> Cell {
    Cell::number(text(unit, r.value), r.value)
}

/// The journeys and locations that a report is about, and how many of what it names are gone.
struct About {
    journeys: Vec<Journey>,
    locations: Vec<Location>,
    scope: Scope,
    gone: usize,
    /// Whether nothing is left of what it names.
    is_nothing: bool,
}

async fn about(answers: &Answers, site: &Site, definition: &Definition) -> Result<About> {
    let (journeys, locations) =
        futures::try_join!(answers.db.journeys(site.id), answers.db.locations())?;
    let mut scope = Scope::default();
    let (mut gone, mut is_nothing) = (0, false);
    let mut narrow = |key: Key, wanted: &[i32], all: Vec<(i32, String)>| {
        let there: Vec<&String> =
            all.iter().filter(|(id, _)| wanted.contains(id)).map(|(_, slug)| slug).collect();
        gone += wanted.len() - there.len();
        is_nothing |= !wanted.is_empty() && there.is_empty();
        let narrowed = |scope: Scope, slug: &String| scope.and(key.clone(), slug);
        scope = there.into_iter().fold(std::mem::take(&mut scope), narrowed);
    };
    let of = |id: i32, slug: &String| (id, slug.clone());
    narrow(
        Key::Journey,
        &definition.journeys,
        journeys.iter().map(|j| of(j.id, &j.slug)).collect(),
    );
    narrow(
        Key::Location,
        &definition.locations,
        locations.iter().map(|l| of(l.id, &l.slug)).collect(),
    );
    Ok(About { journeys, locations, scope, gone, is_nothing })
}

fn note_gone(about: &About, document: &mut Document) {
    if about.gone > 0 {
        document.also.push(format!(
            "{} of the journeys and locations that this report names {} taken away; what is left of their runs is not told.",
            about.gone,
            if about.gone == 1 { "was" } else { "were" }
        ));
    }
    let named = |key: &Key| about.scope.of(key).to_vec();
    let mut says = Vec::new();
    for (title, slugs, names) in [
        (
            "Journeys",
            named(&Key::Journey),
            about.journeys.iter().map(|j| (&j.slug, &j.name)).collect::<Vec<_>>(),
        ),
        (
            "Locations",
            named(&Key::Location),
            about.locations.iter().map(|l| (&l.slug, &l.name)).collect(),
        ),
    ] {
        let of: Vec<&str> = names
            .iter()
            .filter(|(slug, _)| slugs.contains(slug))
            .map(|(_, n)| n.as_str())
            .collect();
        if !of.is_empty() {
            says.push((title.to_string(), of.join(", ")));
        }
    }
    document.facts.extend(says);
}

/// Which time a report is about: all of what it covers, or the hours of it that it is narrowed to, which it says.
fn over(
    site: &Site,
    (definition, covers): (&Definition, Stretch),
    document: &mut Document,
) -> Over {
    let mut over = Over::all_of(covers);
    let hours = definition.hours.as_ref().filter(|_| definition.kind.takes_hours());
    if let Some(hours) = hours {
        let zone = site.zone.iana_name().unwrap_or("the site's zone");
        document.facts.push(("Hours".into(), format!("{} in {zone}", hours.words())));
        over.only = Some(Arc::new(hours.window(&site.zone).cover(covers, &site.zone)));
    }
    over
}

/// What page views of a report are narrowed to, which it says; `None` where that cannot be read any more, which it says too.
fn narrowed(definition: &Definition, document: &mut Document) -> Option<Scope> {
    match report::narrowed(&definition.filter) {
        Ok(scope) => {
            if !definition.filter.is_empty() {
                document.facts.push(("Page views".into(), format!("of {}", definition.filter)));
            }
            Some(scope)
        }
        Err(e) => {
            document.also.push(format!("The filter of this report cannot be read any more: {e}."));
            None
        }
    }
}

/// A query by one thing that is ours, narrowed.
fn asked(measures: &str, rest: &str, scope: &Scope) -> Option<Query> {
    let mut query: Query = format!("{measures}{rest}").parse().ok()?;
    for (key, values) in scope.parts() {
        query.scope = values.iter().fold(query.scope, |s, value| s.and(key.clone(), value));
    }
    Some(query)
}

fn named(value: &Value, site: &Site) -> String {
    match value {
        Value::Text(text) if text.is_empty() => "not told".into(),
        Value::Text(text) => text.clone(),
        Value::Time(second) => day_clock(at_second(*second), &site.zone),
    }
}

/// A query as a table, or why there is none; notes are what the readings rest on.
async fn answered(
    answers: &Answers,
    site: &Site,
    query: &Query,
    over: &Over,
) -> Result<std::result::Result<(queries::Answered, Vec<String>), String>> {
    let told = queries::ask(answers, site, query, over, (POINTS, false)).await?;
    Ok(told.map_err(|not_there| not_there.to_string()).map(|told| {
        let mut notes = Vec::new();
        let table = &told.table;
        notes.push(match table.is_merged {
            true => {
                "Percentiles are read off merged sketches: within 1 % of the exact value.".into()
            }
            false => "Every sample was read: percentiles by nearest rank.".to_string(),
        });
        if table.left_out > 0 {
            notes
                .push(format!("Left out: {} samples during maintenance.", counted(table.left_out)));
        }
        if table.beyond > 0 {
            let beyond = counted(table.beyond);
            notes.push(format!("{beyond} samples lie in groups that were too many to tell apart."));
        }
        if table.kept > table.rows.len() {
            notes.push(format!("{} of {} rows are told.", table.rows.len(), table.kept));
        }
        (told, notes)
    }))
}

fn table(query: &Query, told: &queries::Answered, site: &Site) -> Table {
    let rows: Vec<String> = query.by.iter().map(|by| capital(&by.title())).collect();
    let measures: Vec<String> = query.measures.iter().map(|m| format!("#{m}")).collect();
    let units: Vec<Unit> = query.measures.iter().map(Measure::unit).collect();
    let first = if rows.is_empty() { vec![String::new()] } else { rows };
    let titles: Vec<&str> = first.iter().chain(&measures).map(String::as_str).collect();
    let mut table = Table::of(&titles);
    let cells = |of: &[Reading]| -> Vec<Cell> {
        units.iter().zip(of).map(|(unit, r)| cell(*unit, r)).collect()
    };
    if query.by.len() < 2 {
        for row in told.table.rows.iter().take(ROWS) {
            let name = Cell::text(named(&row.value, site));
            table.row([name].into_iter().chain(cells(&row.cells)).collect());
        }
        let all = Cell::text(if query.by.is_empty() { "everything" } else { "all together" });
        table.row([all].into_iter().chain(cells(&told.table.all)).collect());
        return table;
    }
    for row in told.table.rows.iter().take(ROWS) {
        for (column, across) in told.table.columns.iter().zip(&row.across) {
            let Some(across) = across else { continue };
            let names = [Cell::text(named(&row.value, site)), Cell::text(named(column, site))];
            table.row(names.into_iter().chain(cells(across)).collect());
        }
    }
    table
}

/// Adds a query's table; what could not be asked is said in its place.
async fn put(
    answers: &Answers,
    site: &Site,
    (title, query): (&str, &Query),
    over: &Over,
    document: &mut Document,
) -> Result<Option<queries::Answered>> {
    match answered(answers, site, query, over).await? {
        Err(why) => {
            document.also.push(format!("{title}: {why}."));
            Ok(None)
        }
        Ok((told, notes)) => {
            document.sections.push(Section::table(title, table(query, &told, site)));
            let mut lines = vec![format!("Asked: {query}.")];
            lines.extend(notes);
            document.working.push(Working { title: title.into(), lines });
            Ok(Some(told))
        }
    }
}

fn figure(text: String, label: impl Into<String>, value: Option<f64>) -> Figure {
    Figure { text, label: label.into(), tone: Tone::Plain, value }
}

fn figures(query: &Query, told: &queries::Answered) -> Vec<Figure> {
    let each = query.measures.iter().zip(&told.table.all);
    each.map(|(m, r)| figure(text(m.unit(), r.value), m.to_string(), r.value)).collect()
}

pub(super) async fn timings(
    answers: &Answers,
    site: &Site,
    (definition, covers): (&Definition, Stretch),
    document: &mut Document,
) -> Result<()> {
    let about = about(answers, site, definition).await?;
    note_gone(&about, document);
    let over = over(site, (definition, covers), document);
    let mut slowest = None;
    if !about.is_nothing {
        for (title, rest) in [("Journeys", " by journey"), ("Locations", " by location")] {
            let Some(query) = asked(OF_RUNS, rest, &about.scope) else { continue };
            let told = put(answers, site, (title, &query), &over, document).await?;
            if let (Some(told), "Journeys") = (told, title) {
                document.figures = figures(&query, &told);
                let rows = told.table.rows.iter();
                slowest = rows
                    .filter_map(|r| Some((named(&r.value, site), r.cells.get(3)?.value?)))
                    .max_by(|a, b| a.1.total_cmp(&b.1));
            }
        }
    }
    // Page views belong to no journey and no location.
    let mut pages = None;
    if definition.journeys.is_empty() && definition.locations.is_empty() {
        let rest = " by family top 30 by count of page views";
        let scope = narrowed(definition, document);
        if let Some(query) = scope.and_then(|scope| asked(OF_PAGES, rest, &scope)) {
            let told = put(answers, site, ("Page families", &query), &over, document).await?;
            pages = told.and_then(|t| t.table.all.get(1)?.value);
        }
    }
    let journey = slowest.map(|(name, ms)| {
        format!(
            "The slowest journey was {name}: three of four runs took {} or less.",
            Unit::Ms.text(ms)
        )
    });
    let page = pages.map(|ms| {
        format!(
            "For visitors the largest contentful paint came within {} in three of four page views.",
            Unit::Ms.text(ms)
        )
    });
    let says: Vec<String> = journey.into_iter().chain(page).collect();
    document.says = match says.is_empty() {
        true => "Nothing was played and nobody came.".into(),
        false => says.join(" "),
    };
    Ok(())
}

/// What runs used.
#[derive(Debug, Clone, Copy, Default)]
struct Used {
    runs: f64,
    ms: f64,
    bytes: f64,
}

impl Used {
    fn absorb(&mut self, other: &Used) {
        self.runs += other.runs;
        self.ms += other.ms;
        self.bytes += other.bytes;
    }

    fn cells(&self) -> [Cell; 3] {
        [
            Cell::number(counted(self.runs as u64), Some(self.runs)),
            Cell::number(length_text(self.ms), Some(self.ms)),
            Cell::number(Unit::Bytes.text(self.bytes), Some(self.bytes)),
        ]
    }
}

pub(super) async fn usage(
    answers: &Answers,
    site: &Site,
    (definition, covers): (&Definition, Stretch),
    document: &mut Document,
) -> Result<()> {
    let about = about(answers, site, definition).await?;
    note_gone(&about, document);
    let over = over(site, (definition, covers), document);
    let used = |cells: &[Reading]| {
        let value = |nth: usize| cells.get(nth).and_then(|r| r.value).unwrap_or(0.0);
        Used { runs: value(0), ms: value(0) * value(1), bytes: value(0) * value(2) }
    };
    let mut whole = Used::default();
    if !about.is_nothing {
        if let Some(query) = asked(OF_USE, " by journey", &about.scope)
            && let Ok((told, _)) = answered(answers, site, &query, &over).await?
        {
            whole = used(&told.table.all);
            let mut journeys =
                Table::of(&["Journey", "team", "environment", "#runs", "#browser time", "#came"]);
            let mut teams: Vec<(String, Used)> = Vec::new();
            for row in &told.table.rows {
                let name = named(&row.value, site);
                let known = about.journeys.iter().find(|j| j.name == name);
                let team = known.map_or("", |j| j.owner.as_str());
                let team = if team.is_empty() { "nobody" } else { team };
                let used = used(&row.cells);
                let names = [name.as_str(), team, known.map_or("", |j| j.environment.as_str())];
                journeys.row(names.map(Cell::text).into_iter().chain(used.cells()).collect());
                match teams.iter_mut().find(|(t, _)| t == team) {
                    Some((_, all)) => all.absorb(&used),
                    None => teams.push((team.into(), used)),
                }
            }
            let mut by_team = Table::of(&["Team", "#runs", "#browser time", "#came"]);
            for (team, used) in teams {
                by_team.row([Cell::text(team)].into_iter().chain(used.cells()).collect());
            }
            document.sections.push(Section::table("Journeys", journeys));
            document.sections.push(Section::table("Teams", by_team));
        }
        if let Some(query) = asked(OF_USE, " by location", &about.scope)
            && let Ok((told, _)) = answered(answers, site, &query, &over).await?
        {
            let mut places = Table::of(&["Location", "#runs", "#browser time", "#came"]);
            for row in &told.table.rows {
                let name = Cell::text(named(&row.value, site));
                places.row([name].into_iter().chain(used(&row.cells).cells()).collect());
            }
            document.sections.push(Section::table("Locations", places));
        }
    }
    let mut views = 0.0;
    let is_of_all = definition.journeys.is_empty() && definition.locations.is_empty();
    let scope = if is_of_all { narrowed(definition, document) } else { None };
    let rest = " by family top 30 by count of page views";
    if let Some(query) = scope.and_then(|scope| asked("count of page views", rest, &scope))
        && let Some(told) = put(answers, site, ("Page views", &query), &over, document).await?
    {
        views = told.table.all.first().and_then(|r| r.value).unwrap_or(0.0);
    }
    document.says = format!(
        "{} runs used {} of browser time, and {} came; {} page views were collected.",
        counted(whole.runs as u64),
        length_text(whole.ms),
        Unit::Bytes.text(whole.bytes),
        counted(views as u64)
    );
    document.figures = vec![
        figure(counted(whole.runs as u64), "runs", Some(whole.runs)),
        figure(length_text(whole.ms), "of browser time", Some(whole.ms)),
        figure(Unit::Bytes.text(whole.bytes), "came in runs", Some(whole.bytes)),
        figure(counted(views as u64), "page views", Some(views)),
    ];
    document.working.push(Working {
        title: "Usage".into(),
        lines: vec![
            "Runs: those that were counted; unmeasured ones and those during maintenance are left out.".into(),
            "Came: runs times their mean bytes, of runs that got through and whose requests are known; with headers, without what the browser's own cache answered.".into(),
            "Browser time: runs times their mean duration, as the journeys' clocks measured it; starting and ending a browser is not in it.".into(),
        ],
    });
    Ok(())
}

pub(super) async fn query(
    answers: &Answers,
    site: &Site,
    (definition, covers): (&Definition, Stretch),
    document: &mut Document,
) -> Result<()> {
    let query: Query = match definition.query.parse() {
        Ok(query) => query,
        Err(e) => {
            document.says = format!("The query of this report cannot be asked any more: {e}.");
            return Ok(());
        }
    };
    document.facts.push(("Query".into(), query.to_string()));
    let over = over(site, (definition, covers), document);
    let title = match query.by.iter().map(By::title).collect::<Vec<_>>() {
        by if by.is_empty() => "Everything".to_string(),
        by => format!("By {}", by.join(" and ")),
    };
    if let Some(told) = put(answers, site, (&title, &query), &over, document).await? {
        document.figures = figures(&query, &told);
        let says: Vec<String> =
            document.figures.iter().map(|f| format!("{}: {}", capital(&f.label), f.text)).collect();
        document.says = says.join("; ") + ".";
    } else {
        document.says = "The query of this report cannot be asked any more.".into();
    }
    Ok(())
}
