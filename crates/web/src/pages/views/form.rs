//! A view is put together or changed: pieces are added, moved and dropped before anything is kept.

use super::view_of;
use crate::State;
use crate::access::{After, By, InSite};
use crate::error::PageError;
use crate::fields::{self, Fields, Wrong, says_of, sentence};
use crate::frame::{Frame, all_of, base};
use crate::respond::{TWELVE_HOURS, html_with, redirect};
use crate::view::{Choice, Link};
use crate::words::capital;
use actix_web::http::StatusCode;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::changes::saved_views::{self as changes, LONGEST_NAME, NotKept, Wanted};
use cadentis_answers::kept::{Site, View};
use cadentis_answers::saved_views::{self, Offered};
use cadentis_answers::teams;
use cadentis_core::saved_view::{
    LONGEST_TEXT, MOST_PIECES, Piece, SPANS, SavedView, Wrong as WrongView, moved,
};
use cadentis_core::text::clean;

#[derive(Template)]
#[template(path = "view_form.html")]
struct Page {
    frame: Frame,
    id: Option<i32>,
    typed: Typed,
    wrong: Option<Wrong>,
    pieces: Vec<Row>,
    spans: Vec<Choice>,
    teams: Vec<Choice>,
    /// What can be added, in groups.
    groups: Vec<Group>,
    /// Views that a query could be put into instead.
    others: Vec<Link>,
}

impl Page {
    fn says_of(&self, field: &str) -> Option<&str> {
        says_of(self.wrong.as_ref(), field)
    }
}

struct Group {
    name: &'static str,
    all: Vec<Choice>,
}

/// A piece as a row of the form.
struct Row {
    kind: &'static str,
    /// What kind it is, in words.
    word: &'static str,
    /// What it is called; nothing where it is not there any more.
    title: String,
    of: String,
    /// What is typed, or what is chosen once.
    is_text: bool,
    is_query: bool,
    is_wrong: bool,
}

/// What was typed and chosen.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Typed {
    name: String,
    span_s: i64,
    team: String,
    version: i32,
    pieces: Vec<Piece>,
}

const KINDS: [(&str, &str); 5] = [
    ("text", "Text"),
    ("query", "Query"),
    ("goal", "Goal"),
    ("journey", "Journey"),
    // What it is stands in its name.
    ("line_up", ""),
];

fn kind(piece: &Piece) -> (&'static str, &'static str) {
    match piece {
        Piece::Text { .. } => KINDS[0],
        Piece::Query { .. } => KINDS[1],
        Piece::Goal { .. } => KINDS[2],
        Piece::Journey { .. } => KINDS[3],
        Piece::LineUp { .. } => KINDS[4],
    }
}

/// What a piece is of, as a field holds it.
fn of(piece: &Piece) -> String {
    match piece {
        Piece::Text { text: of } | Piece::Query { query: of } => of.clone(),
        Piece::Goal { goal: id } | Piece::Journey { journey: id } => id.to_string(),
        Piece::LineUp { journey, location: None } => journey.to_string(),
        Piece::LineUp { journey, location: Some(at) } => format!("{journey} {at}"),
    }
}

/// A piece of this kind of what a field holds; nothing where that is none.
fn piece(kind: &str, of: &str) -> Option<Piece> {
    let id = |text: &str| text.parse::<i32>().ok();
    Some(match kind {
        "text" => Piece::Text { text: clean(of, LONGEST_TEXT + 1, Some('\n')) },
        "query" => Piece::Query { query: clean(of.trim(), LONGEST_TEXT, None) },
        "goal" => Piece::Goal { goal: id(of)? },
        "journey" => Piece::Journey { journey: id(of)? },
        "line_up" => match of.split_once(' ') {
            None => Piece::LineUp { journey: id(of)?, location: None },
            Some((journey, at)) => Piece::LineUp { journey: id(journey)?, location: Some(id(at)?) },
        },
        _ => return None,
    })
}

impl Typed {
    fn of_fields(sent: &Fields) -> Typed {
        // Each `piece` is followed by what it is `of`: they are read in the order in which they stand.
        let mut pieces: Vec<(String, String)> = Vec::new();
        for (name, value) in sent {
            if name == "piece" && pieces.len() <= MOST_PIECES {
                pieces.push((value.clone(), String::new()));
            } else if name == "of"
                && let Some((_, of)) = pieces.last_mut()
            {
                *of = value.clone();
            }
        }
        let mut typed = Typed {
            name: fields::line(sent, "name", LONGEST_NAME + 1),
            span_s: fields::one(sent, "span").parse().unwrap_or_default(),
            team: fields::one(sent, "team"),
            version: fields::one(sent, "version").parse().unwrap_or_default(),
            pieces: pieces.iter().filter_map(|(kind, of)| piece(kind, of)).collect(),
        };
        let nth = |name: &str| fields::one(sent, name).parse::<usize>().ok();
        if let Some(nth) = nth("up").filter(|nth| *nth > 0) {
            typed.pieces = moved(typed.pieces, nth, nth - 1);
        }
        if let Some(nth) = nth("down") {
            typed.pieces = moved(typed.pieces, nth, nth + 1);
        }
        if let Some(nth) = nth("drop").filter(|nth| *nth < typed.pieces.len()) {
            typed.pieces.remove(nth);
        }
        if !fields::one(sent, "add").is_empty() {
            let what = fields::one(sent, "what");
            let (kind, of) = what.split_once(' ').unwrap_or((what.as_str(), ""));
            typed.pieces.extend(piece(kind, of));
        }
        typed
    }

    fn from(view: &View) -> Typed {
        Typed {
            name: view.name.clone(),
            span_s: view.definition.span_s,
            team: view.team.as_ref().map_or(String::new(), |(id, _)| id.to_string()),
            version: view.version,
            pieces: view.definition.pieces.clone(),
        }
    }

    fn usual() -> Typed {
        Typed {
            name: String::new(),
            span_s: TWELVE_HOURS,
            team: String::new(),
            version: 0,
            pieces: Vec::new(),
        }
    }
}

/// Whether pieces were added, moved or dropped, and nothing is to be kept yet.
fn only_arranges(sent: &Fields) -> bool {
    sent.iter().any(|(name, _)| matches!(name.as_str(), "up" | "down" | "drop" | "add"))
}

fn groups(offered: &Offered) -> Vec<Group> {
    let choice = |kind: &str, of: &str, name: &str| {
        Choice::new(format!("{kind} {of}").trim_end(), name, false)
    };
    let journeys = &offered.journeys;
    let lanes = journeys.iter().flat_map(|j| {
        let whole = choice("line_up", &j.id.to_string(), &format!("{}, all locations", j.name));
        let at = offered.locations.iter().map(|l| {
            choice("line_up", &format!("{} {}", j.id, l.id), &format!("{} from {}", j.name, l.name))
        });
        std::iter::once(whole).chain(at).collect::<Vec<_>>()
    });
    let queries = offered.queries.iter().map(|q| choice("query", &q.says, &q.name));
    vec![
        Group {
            name: "Written here",
            all: vec![choice("text", "", "A text"), choice("query", "", "A query")],
        },
        Group { name: "Kept queries", all: queries.collect() },
        Group {
            name: "Goals",
            all: offered.goals.iter().map(|g| choice("goal", &g.id.to_string(), &g.name)).collect(),
        },
        Group {
            name: "Journeys, a sentence and readings",
            all: journeys.iter().map(|j| choice("journey", &j.id.to_string(), &j.name)).collect(),
        },
        Group { name: "Lanes of journeys", all: lanes.collect() },
    ]
}

async fn show(
    state: &State,
    frame: Frame,
    (id, typed): (Option<i32>, Typed),
    (wrong, wrong_piece): (Option<Wrong>, Option<usize>),
    others: Vec<Link>,
) -> Result<HttpResponse, PageError> {
    let offered = saved_views::offered(&state.answers, &frame.site).await?;
    let row = |(nth, piece): (usize, &Piece)| {
        let (kind, word) = kind(piece);
        let title = offered.title(piece).unwrap_or("not there any more".into());
        let (is_text, is_query) = (kind == "text", kind == "query");
        let is_wrong = wrong_piece == Some(nth);
        Row { kind, word, title, of: of(piece), is_text, is_query, is_wrong }
    };
    let theirs = teams::all(&state.answers).await?;
    let nobody = Choice::new("", "every editor", typed.team.is_empty());
    let team = |t: &teams::Team| Choice::new(t.id, &t.name, typed.team == t.id.to_string());
    let spans = SPANS.iter().map(|(s, words)| Choice::new(s, words, *s == typed.span_s));
    let bad = wrong.is_some();
    let status = if bad { StatusCode::UNPROCESSABLE_ENTITY } else { StatusCode::OK };
    html_with(
        status,
        &Page {
            pieces: typed.pieces.iter().enumerate().map(row).collect(),
            spans: spans.collect(),
            teams: std::iter::once(nobody).chain(theirs.iter().map(team)).collect(),
            groups: groups(&offered).into_iter().filter(|g| !g.all.is_empty()).collect(),
            id,
            typed,
            wrong,
            others,
            frame,
        },
    )
}

/// The query that an address brings along, as a piece.
fn brought(request: &HttpRequest) -> Option<Piece> {
    let query = all_of(request, "query").pop().filter(|q| !q.trim().is_empty())?;
    piece("query", &query)
}

/// `GET /views/new`: with a query to begin with, when one is given with `query`.
pub async fn new(state: web::Data<State>, request: HttpRequest) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Queries", TWELVE_HOURS).await?;
    let mut typed = Typed::usual();
    let mut others = Vec::new();
    if let Some(piece) = brought(&request) {
        let query = crate::frame::own_parameters(&request, &[]);
        let all = saved_views::list(&state.answers, &frame.site).await?;
        let link = |v: &View| {
            Link::new(
                format!("{}/views/{}/change?{query}{}", frame.base, v.id, frame.query),
                &v.name,
            )
        };
        others = all.iter().map(link).collect();
        typed.pieces.push(piece);
    }
    show(&state, frame, (None, typed), (None, None), others).await
}

/// `GET /views/{id}/change`: with a query at its end, when one is given with `query`.
pub async fn change(
    state: web::Data<State>,
    id: After<i32>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let frame = Frame::load(&state, &request, "Queries", TWELVE_HOURS).await?;
    let view = view_of(&state, &frame.site, id.0).await?;
    let mut typed = Typed::from(&view);
    typed.pieces.extend(brought(&request));
    show(&state, frame, (Some(view.id), typed), (None, None), Vec::new()).await
}

async fn save(
    state: &State,
    (site, by): (Site, cadentis_answers::changes::Author),
    id: Option<i32>,
    request: &HttpRequest,
    sent: &Fields,
) -> Result<HttpResponse, PageError> {
    let typed = Typed::of_fields(sent);
    let mut wrong = (None, None);
    if !only_arranges(sent) {
        let wanted = Wanted {
            known: id.map(|id| (id, typed.version)),
            name: typed.name.clone(),
            definition: SavedView { span_s: typed.span_s, pieces: typed.pieces.clone() },
            team: typed.team.parse().ok(),
        };
        match changes::save(&state.answers, &by, &site, wanted).await? {
            Ok(id) => return Ok(redirect(&format!("{}/views/{id}", base(&site)))),
            Err(not) => {
                let nth = match &not {
                    NotKept::Wrong(WrongView::Piece(nth, _)) => Some(*nth),
                    _ => None,
                };
                wrong = (Some((not.field(), sentence(&capital(&not.to_string())))), nth);
            }
        }
    }
    let frame = Frame::load(state, request, "Queries", TWELVE_HOURS).await?;
    show(state, frame, (id, typed), wrong, Vec::new()).await
}

/// `POST /views`
pub async fn make(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    request: HttpRequest,
    sent: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    save(&state, (site, by), None, &request, &sent).await
}

/// `POST /views/{id}`
pub async fn changed(
    state: web::Data<State>,
    InSite(site): InSite,
    By(by): By,
    id: After<i32>,
    request: HttpRequest,
    sent: web::Form<Fields>,
) -> Result<HttpResponse, PageError> {
    view_of(&state, &site, id.0).await?;
    save(&state, (site, by), Some(id.0), &request, &sent).await
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sent(pairs: &[(&str, &str)]) -> Fields {
        pairs.iter().map(|(n, v)| (n.to_string(), v.to_string())).collect()
    }

    #[test]
    fn pieces_come_back_as_they_were_sent_empty_ones_too_and_move_one_by_one() {
        let mut all = vec![
            ("name", "Booking"),
            ("span", "86400"),
            ("piece", "text"),
            ("of", ""),
            ("piece", "line_up"),
            ("of", "2 4"),
            ("piece", "query"),
            ("of", "count of errors"),
        ];
        let typed = Typed::of_fields(&sent(&all));
        let kinds = |typed: &Typed| typed.pieces.iter().map(|p| kind(p).0).collect::<Vec<_>>();
        assert_eq!(kinds(&typed), ["text", "line_up", "query"]);
        assert_eq!(typed.pieces[1], Piece::LineUp { journey: 2, location: Some(4) });
        for p in &typed.pieces {
            assert_eq!(piece(kind(p).0, &of(p)).as_ref(), Some(p), "what is shown is what is read");
        }
        all.push(("down", "0"));
        assert_eq!(kinds(&Typed::of_fields(&sent(&all))), ["line_up", "text", "query"]);
        *all.last_mut().unwrap() = ("up", "0");
        assert_eq!(kinds(&Typed::of_fields(&sent(&all))), ["text", "line_up", "query"]);
        *all.last_mut().unwrap() = ("drop", "1");
        assert_eq!(kinds(&Typed::of_fields(&sent(&all))), ["text", "query"]);
        all.pop();
        all.extend([("what", "goal 7"), ("add", "1")]);
        assert_eq!(Typed::of_fields(&sent(&all)).pieces[3], Piece::Goal { goal: 7 });
        assert!(only_arranges(&sent(&all)) && !only_arranges(&sent(&all[..8])));
    }

    #[test]
    fn a_form_of_thousands_of_pieces_is_read_as_one_too_many() {
        let many: Fields = (0..5_000)
            .flat_map(|_| [("piece".to_string(), "goal".to_string()), ("of".into(), "1".into())])
            .collect();
        assert_eq!(Typed::of_fields(&many).pieces.len(), MOST_PIECES + 1);
    }
}
