//! One piece of a saved view.

use super::view_of;
use crate::State;
use crate::access::InSite;
use crate::asked::{self, Found};
use crate::at_journey;
use crate::budget_course::{self, BudgetCourse};
use crate::error::PageError;
use crate::fields::sentence;
use crate::filters;
use crate::frame::Frame;
use crate::limits::query;
use crate::respond::html;
use crate::view::Figure;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::goals::words::{promise, says};
use cadentis_answers::kept::Journey;
use cadentis_answers::queries::Over;
use cadentis_answers::{journey, queries, saved_views};
use cadentis_core::query::Query;
use cadentis_core::saved_view::{Piece, paragraphs};
use serde::Deserialize;

#[derive(Template)]
#[template(path = "piece.html")]
struct Part {
    /// What it is called; what somebody wrote needs no heading.
    title: String,
    /// Where more is told of it.
    link: Option<String>,
    body: Body,
}

enum Body {
    Text(Vec<String>),
    Asked(Box<Found>),
    Goal(Box<Goal>),
    Journey {
        says: Vec<String>,
        readings: Vec<Figure>,
    },
    Lanes(String),
    /// It cannot be shown, and why.
    Not(String),
}

struct Goal {
    says: String,
    promise: String,
    readings: Vec<Figure>,
    course: BudgetCourse,
}

#[derive(Deserialize, Default)]
struct Of {
    version: Option<i32>,
}

/// `GET /views/{id}/pieces/{nth}`: over the stretch of the address. It is asked for by the page of the view, which says of which
/// version: whoever has an older one is told.
pub async fn part(
    state: web::Data<State>,
    InSite(site): InSite,
    path: web::Path<(String, i32, usize)>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let (_, id, nth) = path.into_inner();
    let view = view_of(&state, &site, id).await?;
    let asked_of = query::<Of>(&request)?.version;
    if asked_of.is_some_and(|version| version != view.version) {
        return Err(PageError::Gone("This view was changed: load its page again.".into()));
    }
    let piece = view.definition.pieces.get(nth);
    let piece = piece.ok_or_else(|| PageError::NotFound(format!("piece {nth} of this view")))?;
    let frame = Frame::part(&request, "Queries", view.definition.span_s)?;
    let offered = saved_views::offered(&state.answers, &frame.site).await?;
    let gone = || Part {
        title: String::new(),
        link: None,
        body: Body::Not("What this piece showed was taken away.".into()),
    };
    let Some(title) = offered.title(piece) else { return html(&gone()) };
    let journey = |id: i32| offered.journeys.iter().find(|j| j.id == id);
    let (link, body) = match piece {
        Piece::Text { text } => (None, Body::Text(paragraphs(text))),
        Piece::Query { query } => match query.parse::<Query>() {
            Ok(query) => {
                (Some(asked::link(&frame, &query)), of_query(&state, &frame, &query).await?)
            }
            Err(e) => (Some(asked::address(&frame, query)), Body::Not(sentence(&e))),
        },
        Piece::Goal { goal } => {
            let link = format!("{}/goals?{}#goal-{goal}", frame.base, frame.query);
            (Some(link), of_goal(&state, &frame, *goal).await?)
        }
        Piece::Journey { journey: id } | Piece::LineUp { journey: id, .. } => {
            let Some(j) = journey(*id) else { return html(&gone()) };
            let link = format!("{}/journeys/{}?{}", frame.base, j.slug, frame.query);
            (Some(link), of_journey(&state, &frame, j, piece).await?)
        }
    };
    // A link opens what it was made for alone.
    let link = link.filter(|_| frame.who.shared.is_none());
    let title = if matches!(body, Body::Text(_)) { String::new() } else { title };
    html(&Part { title, link, body })
}

async fn of_query(state: &State, frame: &Frame, query: &Query) -> Result<Body, PageError> {
    let over = Over { against: frame.against, ..Over::all_of(frame.past()) };
    let of = (frame.points(), true);
    Ok(match queries::ask(&state.answers, &frame.site, query, &over, of).await? {
        Err(not_there) => Body::Not(sentence(&not_there)),
        Ok(answered) => Body::Asked(Box::new(asked::found(frame, query, &answered))),
    })
}

async fn of_goal(state: &State, frame: &Frame, id: i32) -> Result<Body, PageError> {
    let (site, now) = (&frame.site, frame.now);
    let card = saved_views::goal(&state.answers, site, id, &frame.range(), now).await?;
    let Some(card) = card else {
        return Ok(Body::Not("This goal was taken away.".into()));
    };
    let name = card.version.definition.period.name(card.window, &site.zone);
    Ok(Body::Goal(Box::new(Goal {
        says: says(&card, &name),
        promise: promise(&card, &frame.zone),
        readings: budget_course::figures(&card),
        course: budget_course::course(frame, &card, &name),
    })))
}

async fn of_journey(
    state: &State,
    frame: &Frame,
    j: &Journey,
    piece: &Piece,
) -> Result<Body, PageError> {
    let range = frame.range();
    let at = journey::ask(&state.answers, &frame.site, &range, frame.stretch, j).await?;
    Ok(match piece {
        Piece::LineUp { location, .. } => {
            let wanted = |id: i32| location.is_none_or(|only| only == id);
            Body::Lanes(at_journey::lanes(frame, j, &at, |l| wanted(l.id))?)
        }
        _ => Body::Journey {
            says: at_journey::sentences(frame, &at),
            readings: at_journey::figures(&at),
        },
    })
}
