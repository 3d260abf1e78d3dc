//! One incident: what it is, whose doing, whom it touched, what was done.

use super::drawn::{Course, unit};
use super::told::NoticeRow;
use super::{about_link, length, tone};
use crate::State;
use crate::access::{After, By, InSite};
use crate::course::Chart;
use crate::error::PageError;
use crate::fields::{self, Fields};
use crate::filters;
use crate::format;
use crate::frame::{Frame, base};
use crate::respond::{TWELVE_HOURS, html, redirect};
use crate::view::{Figure, Link};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::alerts as changes;
use cadentis_answers::incidents::{self, AroundAlert, Found};
use cadentis_answers::kept::{Incident, LeftOut, Site, What};
use cadentis_answers::notices;
use cadentis_core::alert::incident::Doing;
use cadentis_core::calendar::Stretch;
use cadentis_core::run::cause::Who;
use cadentis_core::stats::{Reading, share_text};
use jiff::Timestamp;
use jiff::tz::TimeZone;

#[derive(Template)]
#[template(path = "incident.html")]
struct Page {
    frame: Frame,
    id: i32,
    title: String,
    tone: &'static str,
    /// How it stands, beside its title.
    stands: String,
    doing: String,
    /// What it looked like when it was noticed.
    then: Option<String>,
    figures: Vec<Figure>,
    alerts: Vec<AlertRow>,
    evidence: Vec<Evidence>,
    runs: Vec<RunRow>,
    spent: Vec<String>,
    events: Vec<EventRow>,
    told: Vec<NoticeRow>,
    /// Tickets that stand for it elsewhere.
    tickets: Vec<Link>,
    links: Vec<Link>,
    is_acknowledged: bool,
    can_close: bool,
}

/// One of its alerts.
struct AlertRow {
    name: String,
    link: Option<String>,
    sentence: String,
    tone: &'static str,
    severity: &'static str,
    opened: String,
    cleared: String,
    /// What was told when it opened, and what is known of the whole time now.
    then: String,
    now: String,
    chart: Option<Chart>,
}

/// Something that tells whose doing it is.
struct Evidence {
    what: String,
    says: String,
    so: String,
}

/// Runs from one place of which the same is said.
struct RunRow {
    link: String,
    at: String,
    more: String,
    location: String,
    tone: &'static str,
    says: String,
}

struct EventRow {
    at: String,
    what: &'static str,
    says: String,
    author: String,
}

/// What happened, as a list says it.
fn event_words(what: What) -> &'static str {
    match what {
        What::Joined => "another alert",
        What::Left => "one alert less",
        other => other.word(),
    }
}

/// Whose doing it is, in a sentence.
fn doing_words(found: &Found) -> String {
    let (troubled, told) = found.evidence.troubled();
    let release = found.markers.iter().rfind(|m| {
        m.at <= found.incident.since && m.said.kind == cadentis_core::marker::Kind::Release
    });
    let with = release.map_or(String::new(), |m| {
        format!(
            " It began {} after “{}”.",
            length(m.at, found.incident.since.max(m.at)),
            m.said.title
        )
    });
    let places = match (troubled.len(), told) {
        (_, 0) => " No run was played meanwhile.".to_string(),
        (0, _) => String::new(),
        (n, told) if n == told => format!(" All {told} locations had it."),
        (n, told) => format!(" {n} of {told} locations had it."),
    };
    match &found.doing {
        Doing::Places(places) => format!(
            "The doing of {} alone, or of the way from there: other locations got through meanwhile.",
            places.join(" and ")
        ),
        Doing::Of(Who::Site) => format!("The site's doing.{places}{with}"),
        Doing::Of(Who::Network) => format!("The network's doing, on the way to the site.{places}"),
        Doing::Of(Who::ThirdParty) => format!("A third party's doing.{places}"),
        Doing::Of(Who::Page) => {
            format!("The page's own work in the browser.{places}{with}")
        }
        Doing::Of(Who::Runner) => {
            "Our own runner's doing: the site is not to blame for what it measured.".into()
        }
        Doing::NotSure => format!("Whose doing it is cannot be told surely.{places}{with}"),
    }
}

/// Whose doing it was said to be, in a few words.
fn doing_short(doing: &Doing) -> String {
    match doing {
        Doing::Places(places) => format!("the doing of {} alone", places.join(" and ")),
        Doing::Of(Who::Page) => Who::Page.words().into(),
        Doing::Of(who) => format!("{}’s doing", who.words()),
        Doing::NotSure => "nobody’s doing surely".into(),
    }
}

/// What it looked like when it was noticed, beside what it is now.
fn then_words(found: &Found, zone: &TimeZone) -> Option<String> {
    let then = found.incident.at_opening.as_ref()?;
    let (troubled, told) = then.places;
    let places = match told {
        0 => "no run had been played".to_string(),
        told => format!("{troubled} of {told} locations had it"),
    };
    let touched = then.page_views.map(|n| format!("{} page views", format::thousands(n)));
    let left = then.left.iter().map(|(goal, left)| {
        format!("{} of the error budget of “{goal}” left", format::percent(Some(*left), 1, None))
    });
    let all: Vec<String> = [places].into_iter().chain(touched).chain(left).collect();
    Some(format!(
        "When it was noticed, {}, it looked like {}: {}.",
        format::day_clock(then.at, zone),
        doing_short(&then.doing),
        all.join(", ")
    ))
}

fn evidence(found: &Found, zone: &TimeZone) -> Vec<Evidence> {
    let mut all = Vec::new();
    let mut add = |what: &str, says: String, so: &str| {
        all.push(Evidence { what: what.into(), says, so: so.into() });
    };
    let (troubled, told) = found.evidence.troubled();
    if told > 0 {
        let names: Vec<&str> = troubled.iter().map(|p| p.name.as_str()).take(4).collect();
        let more = troubled.len().saturating_sub(names.len());
        let of = match (names.is_empty(), more) {
            (true, _) => String::new(),
            (_, 0) => format!(": {}", names.join(", ")),
            (_, more) => format!(": {} and {more} more", names.join(", ")),
        };
        let so = match troubled.len() {
            0 => "no location in trouble",
            n if n * 3 <= told && told > 1 => "some places, not the site",
            n if n == told => "not one place",
            _ => "more than one place",
        };
        add(
            "locations",
            format!("{} of {told} in more trouble than before{of}", troubled.len()),
            so,
        );
    }
    let [before, during] = found.touched.lcp;
    if let (Some(b), Some(d)) = (before.value, during.value) {
        let by = found.touched.shift.map_or(String::new(), |s| {
            let surely = if s.is_sure() { "surely" } else { "not surely" };
            format!(" ({} s, {surely})", format::difference_s(s.by()))
        });
        let so = match found.evidence.visitors {
            Some(true) => "visitors have it, too",
            Some(false) => "visitors do not have it",
            None => "visitors do not tell",
        };
        let says =
            format!("p75 of LCP {} s, before {} s{by}", format::seconds(d), format::seconds(b));
        add("visitors", says, so);
    }
    for (who, n) in &found.evidence.causes {
        let runs = if *n == 1 { "1 run".to_string() } else { format!("{n} runs") };
        add("likely causes", format!("{runs}: {}", who.words()), "");
    }
    for m in found.markers.iter().filter(|m| m.at <= found.lasted.to) {
        let when = match m.at <= found.incident.since {
            true => format!("{} before it began", length(m.at, found.incident.since)),
            false => format!("{} after it began", length(found.incident.since, m.at)),
        };
        add(m.said.kind.word(), m.said.title.clone(), &when);
    }
    for (name, state, since) in &found.dependencies {
        let says =
            format!("{name} said {} since {}", state.word(), format::day_clock(*since, zone));
        add("dependency", says, "");
    }
    for l in &found.left_out {
        add("maintenance", l.why.clone(), &l.stretch.words(zone));
    }
    all
}

fn reading(read: &Reading, text: impl Fn(f64) -> String) -> String {
    read.value.map_or(format::NO_DATA.into(), text)
}

fn figures(found: &Found, frame: &Frame) -> Vec<Figure> {
    let i = &found.incident;
    let until = i.cleared_at.unwrap_or(frame.now);
    let lasted = match i.cleared_at {
        Some(_) => format!("from {}", format::day_clock(i.opened_at, &frame.site.zone)),
        None => format!("since {}", format::day_clock(i.opened_at, &frame.site.zone)),
    };
    let acknowledged = match &i.acknowledged {
        Some((at, by)) => {
            Figure::new(length(i.opened_at, *at), format!("until acknowledged, by {by}"), "")
        }
        None => Figure::new(
            "nobody".into(),
            "has acknowledged it".into(),
            if i.cleared_at.is_none() { "broken" } else { "" },
        ),
    };
    let count = |r: &Reading| reading(r, |v| format::thousands(v as u64));
    vec![
        Figure::new(length(i.opened_at, until), lasted, tone(Some(i.severity))),
        Figure::new(length(i.since, i.noticed_at), "until it was noticed".into(), ""),
        acknowledged,
        Figure::new(
            count(&found.touched.page_views),
            format!("page views meanwhile, of {} visits", count(&found.touched.visits)),
            "",
        ),
    ]
}

fn alert_row(
    frame: &Frame,
    (around, left_out): (Stretch, &[LeftOut]),
    a: &AroundAlert,
) -> AlertRow {
    let open = &a.open;
    let (unit, _) = unit(&open.definition);
    let to = open.cleared_at.unwrap_or(frame.now);
    let chart = a.course.iter().any(|e| e.judged().is_some()).then(|| {
        let span = Stretch { from: open.opened_at, to };
        let course = Course {
            definition: &open.definition,
            stretch: around,
            every_s: a.every_s,
            sub: "as it is judged",
            spans: vec![(span, open.name.clone(), tone(Some(open.severity)))],
            left_out,
        };
        course.chart(frame, a.course.iter().copied())
    });
    let now = a.now.and_then(|e| e.value);
    AlertRow {
        link: open.alert_id.map(|id| format!("{}/alerts/{id}?{}", frame.base, frame.query)),
        sentence: open.definition.sentence(),
        tone: tone(Some(open.severity)),
        severity: open.severity.word(),
        opened: format::day_clock(open.opened_at, &frame.site.zone),
        cleared: open.cleared_at.map_or("now".into(), |at| format::day_clock(at, &frame.site.zone)),
        then: open.value.map_or(format::NO_DATA.into(), |v| {
            format!(
                "{} of {} {}",
                unit.text(v),
                format::thousands(open.samples),
                open.definition.measured.measure.samples_words()
            )
        }),
        now: match (now, open.value) {
            (None, _) => "nothing can be told of it any more".into(),
            (Some(now), Some(then)) if now == then => {
                "it is the same by what has come since".into()
            }
            (Some(now), _) => format!("by what has come since it is {}", unit.text(now)),
        },
        name: open.name.clone(),
        chart,
    }
}

fn links(found: &Found, frame: &Frame) -> Vec<Link> {
    let at = about_link(frame, &found.incident.about);
    let query = frame.query_of(&found.around);
    let page = at.map(|l| Link::new(format!("{}{query}", l.link), l.name));
    page.into_iter().collect()
}

fn spent(found: &Found) -> Vec<String> {
    let percent = |share: Option<f64>| {
        share.map_or("nothing".into(), |s| format!("{} %", share_text(s, 1, None)))
    };
    let says = |s: &incidents::Spent| {
        format!(
            "{}: {} of its error budget was left when it began, {} at its end",
            s.goal,
            percent(s.left[0]),
            percent(s.left[1])
        )
    };
    // What cannot be seen in the figures is not worth a line.
    let visible = |s: &&incidents::Spent| percent(s.left[0]) != percent(s.left[1]);
    found.spent.iter().filter(visible).map(says).collect()
}

/// Runs in trouble, the first of those of which the same is said and how many more there are.
fn runs(found: &Found, frame: &Frame) -> Vec<RunRow> {
    let mut rows: Vec<(RunRow, usize)> = Vec::new();
    for r in &found.runs {
        let says = r.cause.as_ref().map_or_else(
            || r.run.trouble.clone().unwrap_or_else(|| "nothing tells why".into()),
            |c| format!("{}: {}", c.sure.words(), c.says),
        );
        if let Some((_, n)) =
            rows.iter_mut().find(|(row, _)| row.location == r.location && row.says == says)
        {
            *n += 1;
            continue;
        }
        let row = RunRow {
            link: frame.run_link(&r.run.id),
            at: format::day_clock(r.run.due_at, &frame.site.zone),
            more: String::new(),
            location: r.location.clone(),
            tone: crate::frame::tone_of(r.run.outcome),
            says,
        };
        rows.push((row, 1));
    }
    let told = |(row, n): (RunRow, usize)| RunRow {
        more: if n > 1 { format!("and {} more of those looked at", n - 1) } else { String::new() },
        ..row
    };
    rows.into_iter().map(told).collect()
}

async fn found(state: &State, site: &Site, id: i32) -> Result<Found, PageError> {
    let found = incidents::one(&state.answers, site, id, Timestamp::now()).await?;
    found.ok_or_else(|| PageError::NotFound(format!("the incident {id}")))
}

fn stands(i: &Incident) -> String {
    let rehearsal = if i.is_rehearsal { "rehearsal, " } else { "" };
    let again = match i.reopened {
        0 => String::new(),
        1 => ", opened again once".into(),
        n => format!(", opened again {n} times"),
    };
    let stands = match (&i.closed, i.now) {
        (Some((_, by)), _) => format!("closed by {by}"),
        (None, None) => "cleared".into(),
        (None, Some(severity)) => severity.word().into(),
    };
    format!("{rehearsal}{stands}{again}")
}

/// `GET /incidents/{id}`
pub async fn page(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let found = found(&state, &site, id).await?;
    let frame = Frame::load(&state, &request, "Alerts", TWELVE_HOURS).await?;
    let told = notices::of_incident(&state.answers, id).await?;
    let tickets = notices::tickets(&state.answers, id).await?;
    let i = &found.incident;
    let clock = |at: Timestamp| format::day_clock(at, &site.zone);
    let event = |e: &cadentis_answers::kept::Event| EventRow {
        at: clock(e.at),
        what: event_words(e.what),
        says: e.says.clone(),
        author: e.author.clone(),
    };
    html(&Page {
        id,
        title: i.title.clone(),
        tone: tone(Some(i.severity)),
        stands: stands(i),
        doing: doing_words(&found),
        then: then_words(&found, &site.zone),
        figures: figures(&found, &frame),
        alerts: found
            .alerts
            .iter()
            .map(|a| alert_row(&frame, (found.around, &found.left_out), a))
            .collect(),
        evidence: evidence(&found, &site.zone),
        runs: runs(&found, &frame),
        spent: spent(&found),
        events: found.events.iter().map(event).collect(),
        told: told.iter().map(|n| NoticeRow::of(&frame, n)).collect(),
        tickets: tickets.into_iter().map(|t| Link::new(t.link, t.name)).collect(),
        links: links(&found, &frame),
        is_acknowledged: i.acknowledged.is_some(),
        can_close: i.cleared_at.is_some() && i.closed.is_none(),
        frame,
    })
}

/// A text inside Markdown: nothing of it is read as a mark.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if "\\`*_{}[]<>#|!~".contains(c) {
            out.push('\\');
        }
        out.push(if c == '\n' { ' ' } else { c });
    }
    out
}

/// `GET /incidents/{id}/markdown`: what is known of it, for what is written about it afterwards.
pub async fn markdown(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let found = found(&state, &site, id).await?;
    let frame = Frame::part(&request, "Alerts", TWELVE_HOURS)?;
    let i = &found.incident;
    let mut text =
        format!("# Incident {id}: {}\n\n{}\n\n", plain(&i.title), plain(&doing_words(&found)));
    if let Some(then) = then_words(&found, &site.zone) {
        text += &format!("{}\n\n", plain(&then));
    }
    for f in figures(&found, &frame) {
        text += &format!("- {} {}\n", plain(&f.value), plain(&f.label));
    }
    text += &format!("\nAll times in {}.\n\n## What opened it\n\n", site.zone_name());
    for a in found.alerts.iter().map(|a| alert_row(&frame, (found.around, &found.left_out), a)) {
        text += &format!(
            "- **{}** ({}), {} to {}: {}. {}\n",
            plain(&a.name),
            a.severity,
            a.opened,
            a.cleared,
            plain(&a.then),
            plain(&a.sentence)
        );
    }
    text += "\n## Why we think so\n\n| what | | so |\n|---|---|---|\n";
    for e in evidence(&found, &site.zone) {
        text += &format!("| {} | {} | {} |\n", plain(&e.what), plain(&e.says), plain(&e.so));
    }
    text += "\n## What happened\n\n";
    for e in &found.events {
        let by =
            if e.author.is_empty() { String::new() } else { format!(", {}", plain(&e.author)) };
        let at = format::day_clock(e.at, &site.zone);
        text += &format!("- {at} {}{by}: {}\n", event_words(e.what), plain(&e.says));
    }
    for s in spent(&found) {
        text += &format!("\n{}\n", plain(&s));
    }
    let name = format!("attachment; filename=\"incident-{id}.md\"");
    Ok(HttpResponse::Ok()
        .content_type("text/markdown; charset=utf-8")
        .insert_header(("content-disposition", name))
        .body(text))
}

async fn incident_of(state: &State, site: &Site, id: i32) -> Result<Incident, PageError> {
    let found = incidents::kept(&state.answers, site, id).await?;
    found.ok_or_else(|| PageError::NotFound(format!("the incident {id}")))
}

/// `POST /incidents/{id}/acknowledge`
pub async fn acknowledge(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    let incident = incident_of(&state, &site, id).await?;
    changes::acknowledge(&state.answers, &by, &incident, Timestamp::now()).await?;
    Ok(redirect(&format!("{}/incidents/{id}", base(&site))))
}

/// `POST /incidents/{id}/note`
pub async fn note(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
    fields: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    let incident = incident_of(&state, &site, id).await?;
    let says = fields::line(&fields, "says", changes::LONGEST_NOTE);
    changes::note(&state.answers, &by, &incident, &says, Timestamp::now()).await?;
    Ok(redirect(&format!("{}/incidents/{id}#events", base(&site))))
}

/// `POST /incidents/{id}/close`
pub async fn close(
    state: web::Data<State>,
    InSite(site): InSite,
    After(id): After<i32>,
    By(by): By,
) -> Result<HttpResponse, PageError> {
    let incident = incident_of(&state, &site, id).await?;
    changes::close(&state.answers, &by, &incident, Timestamp::now()).await?;
    Ok(redirect(&format!("{}/incidents/{id}", base(&site))))
}

#[cfg(test)]
mod tests {
    use super::*;
    use cadentis_answers::incidents::Touched;
    use cadentis_core::alert::Severity;
    use cadentis_core::alert::incident::{About, AtOpening, Evidence, Place};
    use cadentis_core::calendar::stretch::at_second;
    use cadentis_core::marker::{Kind, Said};

    const BEGAN: i64 = 1_795_000_000;

    fn place(name: &str, failed: u64) -> Place {
        Place { name: name.into(), before: (12, 0), during: (12, failed) }
    }

    /// An incident with this evidence.
    fn found(places: Vec<Place>, causes: Vec<(Who, u64)>, visitors: Option<bool>) -> Found {
        let (began, ended) = (at_second(BEGAN), at_second(BEGAN + 1_800));
        let incident = Incident {
            id: 7,
            site_id: 1,
            about: About::Journey("book".into()),
            title: "Booking fails".into(),
            severity: Severity::Critical,
            now: None,
            since: began,
            opened_at: at_second(BEGAN + 60),
            noticed_at: at_second(BEGAN + 95),
            cleared_at: Some(ended),
            reopened: 0,
            acknowledged: None,
            closed: None,
            is_rehearsal: false,
            at_opening: None,
        };
        let (none, lasted) = (Reading::NONE, Stretch { from: began, to: ended });
        let evidence = Evidence { places, causes, visitors };
        Found {
            doing: evidence.doing(),
            evidence,
            incident,
            lasted,
            around: lasted,
            alerts: Vec::new(),
            events: Vec::new(),
            runs: Vec::new(),
            touched: Touched {
                page_views: none,
                visits: none,
                abandoned: none,
                lcp: [none; 2],
                shift: None,
            },
            spent: Vec::new(),
            markers: Vec::new(),
            dependencies: Vec::new(),
            left_out: Vec::new(),
        }
    }

    fn marker(kind: Kind, title: &str, at_s: i64) -> cadentis_answers::kept::Marker {
        let said = Said { kind, title: title.into(), ..Said::default() };
        cadentis_answers::kept::Marker {
            id: 1,
            at: at_second(at_s),
            said,
            is_everywhere: false,
            author: "Ada".into(),
            edits: 0,
            removed_at: None,
        }
    }

    #[test]
    fn whose_doing_it_is_is_told_with_where_it_was_and_what_was_released_before() {
        let everywhere = || vec![place("Bergen", 9), place("Halifax", 8), place("Lisbon", 9)];
        let mut site = found(everywhere(), vec![(Who::Site, 20)], Some(true));
        assert_eq!(doing_words(&site), "The site's doing. All 3 locations had it.");
        // A release before it is named, one that came after it is not.
        site.markers = vec![
            marker(Kind::Release, "40.3", BEGAN - 300),
            marker(Kind::Release, "40.4", BEGAN + 600),
        ];
        assert_eq!(
            doing_words(&site),
            "The site's doing. All 3 locations had it. It began 5 min after “40.3”."
        );
        let mut places = everywhere();
        (places[1].during, places[2].during) = ((12, 0), (12, 0));
        let alone = found(places, vec![(Who::Network, 9)], Some(false));
        assert_eq!(
            doing_words(&alone),
            "The doing of Bergen alone, or of the way from there: other locations got through meanwhile."
        );
        let ours = found(everywhere(), vec![(Who::Runner, 9)], None);
        assert!(doing_words(&ours).starts_with("Our own runner's doing"), "{}", doing_words(&ours));
        let nobody = found(Vec::new(), Vec::new(), None);
        assert_eq!(
            doing_words(&nobody),
            "Whose doing it is cannot be told surely. No run was played meanwhile."
        );
    }

    #[test]
    fn what_it_looked_like_when_it_was_noticed_is_told_only_where_it_was_kept() {
        let mut kept = found(vec![place("Bergen", 9)], vec![(Who::Site, 9)], None);
        let zone = TimeZone::UTC;
        assert_eq!(then_words(&kept, &zone), None);
        let opening = |doing, places| AtOpening {
            at: at_second(BEGAN + 95),
            doing,
            places,
            page_views: Some(1_240),
            left: vec![("Bookable".into(), 0.4375)],
        };
        kept.incident.at_opening = Some(opening(Doing::NotSure, (1, 4)));
        let says = then_words(&kept, &zone).unwrap();
        assert!(
            says.ends_with(
                "it looked like nobody’s doing surely: 1 of 4 locations had it, 1,240 page views, 43.8 % of the error \
                 budget of “Bookable” left."
            ),
            "{says}"
        );
        for (doing, words) in [
            (Doing::Of(Who::Site), "the site’s doing: no run had been played"),
            (Doing::Of(Who::Page), "the page's own work in the browser: no run"),
            (
                Doing::Places(vec!["Bergen".into(), "Halifax".into()]),
                "the doing of Bergen and Halifax alone",
            ),
        ] {
            kept.incident.at_opening = Some(opening(doing, (0, 0)));
            let says = then_words(&kept, &zone).unwrap();
            assert!(says.contains(&format!("it looked like {words}")), "{says}");
        }
    }

    #[test]
    fn what_tells_whose_doing_it_is_stands_line_by_line() {
        let places =
            vec![place("Bergen", 9), place("Halifax", 0), place("Lisbon", 0), place("Oslo", 0)];
        let mut told = found(places, vec![(Who::ThirdParty, 1), (Who::Site, 3)], Some(false));
        let lcp = |ms| Reading { value: Some(ms), samples: 90, interval: None };
        told.touched.lcp = [lcp(1_900.0), lcp(2_400.0)];
        told.markers = vec![marker(Kind::Release, "40.3", BEGAN - 300)];
        told.dependencies = vec![(
            "Payment gateway".into(),
            cadentis_core::dependency::State::Down,
            at_second(BEGAN),
        )];
        let lines: Vec<String> = evidence(&told, &TimeZone::UTC)
            .into_iter()
            .map(|e| format!("{} | {} | {}", e.what, e.says, e.so))
            .collect();
        assert_eq!(
            lines[..5],
            [
                "locations | 1 of 4 in more trouble than before: Bergen | some places, not the site",
                "visitors | p75 of LCP 2.40 s, before 1.90 s | visitors do not have it",
                "likely causes | 1 run: a third party | ",
                "likely causes | 3 runs: the site | ",
                "release | 40.3 | 5 min before it began",
            ]
        );
        assert!(lines[5].starts_with("dependency | Payment gateway said down since "), "{lines:?}");
    }

    #[test]
    fn nothing_that_people_wrote_is_read_as_a_mark() {
        assert_eq!(plain("a | b\n# [x](y) <i>"), "a \\| b \\# \\[x\\](y) \\<i\\>");
    }
}
