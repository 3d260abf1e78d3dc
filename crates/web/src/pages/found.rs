//! Find: the box on every page, and the same as a page for whoever has no scripts.

use crate::State;
use crate::error::PageError;
use crate::frame::{Frame, all_of, family_link, named_link};
use crate::respond::{TWELVE_HOURS, html};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::find::{self, Hit, What};
use cadentis_core::text::clean;

/// What is looked for has so many characters at most.
const LONGEST: usize = 200;

#[derive(Template)]
#[template(path = "found.html")]
struct Page {
    frame: Frame,
    text: String,
    list: String,
}

/// What was found, as it hangs below the box.
#[derive(Template)]
#[template(path = "found_list.html")]
struct List {
    rows: Vec<Row>,
    is_nothing: bool,
}

struct Row {
    link: String,
    name: String,
    what: &'static str,
    beside: String,
}

fn row(frame: &Frame, hit: Hit) -> Row {
    let base = &frame.base;
    let at = |path: String| format!("{base}{path}?{}", frame.query);
    let key = &hit.key;
    let link = match hit.what {
        What::Journey | What::Step => at(format!("/journeys/{key}")),
        What::Location => at(format!("/locations/{key}")),
        What::Goal => format!("{}#goal-{key}", at("/goals".into())),
        What::Alert => at(format!("/alerts/{key}")),
        What::Incident => at(format!("/incidents/{key}")),
        What::Report => at(format!("/reports/{key}")),
        What::View => at(format!("/views/{key}")),
        What::Marker => at(format!("/markers/{key}")),
        What::Dependency => at("/dependencies".into()),
        What::Query => {
            format!("{}&{}", named_link(&format!("{base}/queries"), &[("q", key)]), frame.query)
        }
        What::Family => format!("{}&{}", family_link(base, key), frame.query),
        What::Error => {
            let to = named_link(&format!("{base}/visitors/errors"), &[("name", key)]);
            format!("{to}&{}", frame.query)
        }
        What::Host => {
            let of = [("what", "resource"), ("host", key)];
            let to = named_link(&format!("{base}/visitors/requests"), &of);
            format!("{to}&{}", frame.query)
        }
        What::Request => {
            let to = named_link(&format!("{base}/visitors/requests"), &[("name", key)]);
            format!("{to}&{}", frame.query)
        }
    };
    Row { link, name: hit.name, what: hit.what.word(), beside: hit.beside }
}

/// `GET /find`: whatever has a name that `for` is part of.
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let text = clean(all_of(&request, "for").pop().unwrap_or_default().trim(), LONGEST, None);
    let is_part = request.headers().contains_key("hx-request");
    let frame = match is_part {
        true => Frame::part(&request, "", TWELVE_HOURS)?,
        false => Frame::load(&state, &request, "", TWELVE_HOURS).await?,
    };
    let hits = find::ask(&state.answers, &frame.site, &text, frame.now).await?;
    let mut rows: Vec<Row> = hits.into_iter().map(|hit| row(&frame, hit)).collect();
    let is_nothing = rows.is_empty() && !text.is_empty();
    // Ids of people are kept as hashes only: nobody knows whether this is one before it is looked up, which is noted.
    if frame.who.sees_people() && !text.is_empty() {
        let to = named_link(&format!("{}/visitors/find", frame.base), &[("who", &text)]);
        rows.push(Row {
            link: format!("{to}&{}", frame.query),
            name: format!("Look for a person or a visit of the id “{text}”"),
            what: "person",
            beside: String::new(),
        });
    }
    let list = List { rows, is_nothing };
    match is_part {
        true => html(&list),
        false => html(&Page { list: list.render()?, text, frame }),
    }
}
