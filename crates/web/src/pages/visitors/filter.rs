//! The line that says which page views a page is about, and narrows them.

use crate::State;
use crate::error::PageError;
use crate::format;
use crate::frame::own_parameters;
use crate::frame::{Asked, Frame};
use crate::limits::query;
use crate::respond::{TWELVE_HOURS, html};
use crate::view::{Choice, Link};
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use cadentis_answers::pooled::p75;
use cadentis_answers::views::Views;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::{Attribute, Filter};
use serde::Deserialize;

/// What a page on visitors begins with.
pub struct FilterLine {
    /// What is wanted, with the address without it.
    pub chips: Vec<Link>,
    pub nothing: String,
    /// What is to be known of counts where not every visit reports.
    pub sampled: Option<String>,
    /// Phone, desktop, all: each with its address, and whether it is on.
    pub split: Vec<Choice>,
    /// Each attribute, with the address of its values.
    pub attributes: Vec<Link>,
}

impl FilterLine {
    pub fn of(frame: &Frame, attributes: &[String]) -> FilterLine {
        let to =
            |filter: &Filter| format!("{}?{}{}", frame.here, frame.own, frame.query_with(filter));
        let chips = frame.filter.parts().flat_map(|(attribute, values)| {
            values.iter().map(|value| {
                let shown = if value.is_empty() { "not told" } else { value };
                let without = to(&frame.filter.clone().without(attribute, value));
                Link::new(without, format!("{} {shown}", attribute.title()))
            })
        });
        let only = |device: Option<&str>| {
            let other = ["phone", "tablet", "desktop"];
            let bare =
                other.iter().fold(frame.filter.clone(), |f, d| f.without(&Attribute::Device, d));
            device.map_or(bare.clone(), |d| bare.and(Attribute::Device, d))
        };
        let split = [("phone", Some("phone")), ("desktop", Some("desktop")), ("all", None)].map(
            |(word, device)| Choice::new(to(&only(device)), word, only(device) == frame.filter),
        );
        let attributes =
            Attribute::ALL.into_iter().chain(attributes.iter().map(|l| Attribute::Own(l.clone())));
        FilterLine {
            chips: chips.collect(),
            nothing: to(&Filter::default()),
            sampled: sampled(frame),
            split: split.to_vec(),
            attributes: attributes
                .map(|a| {
                    let address = format!(
                        "{}/visitors/values?attribute={}&path={}&{}{}",
                        frame.base,
                        a.name(),
                        frame.here,
                        frame.own,
                        frame.query
                    );
                    Link::new(address, a.title())
                })
                .collect(),
        }
    }
}

fn sampled(frame: &Frame) -> Option<String> {
    let (least, most) = frame.site.collecting.shares_in(frame.past());
    let percent = |share: f64| format!("{} %", share * 100.0);
    let share = if least == most {
        percent(least)
    } else {
        format!("{} to {}", percent(least), percent(most))
    };
    (least < 1.0).then(|| {
        format!("{share} of visits report in this stretch; counts are of those, but where ≈ stands before them.")
    })
}

#[derive(Debug, Default, Deserialize)]
struct FilterQuery {
    attribute: Option<String>,
    path: Option<String>,
}

#[derive(Template)]
#[template(path = "filter_values.html")]
struct Values {
    rows: Vec<ValueRow>,
    more: usize,
}

/// A value of an attribute, and whether it is wanted already.
struct ValueRow {
    name: String,
    page_views: String,
    /// p75 of LCP.
    p75: String,
    link: String,
    wanted: bool,
}

/// So many values of an attribute are offered.
const OFFERED: usize = 14;

/// `GET /visitors/values?attribute=…`: the values of an attribute in the stretch, most page views first, each a link
/// that narrows the page by it.
pub async fn values_part(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let asked = Asked::load(&request, TWELVE_HOURS)?;
    let wanted = query::<FilterQuery>(&request)?;
    let attribute = wanted.attribute.as_deref().and_then(Attribute::parse);
    let attribute =
        attribute.ok_or_else(|| PageError::NotFound("this attribute of page views".into()))?;
    // Only pages of ours are led back to.
    let visitors = format!("{}/visitors", asked.base());
    let path = wanted.path.filter(|p| p.starts_with(&visitors)).unwrap_or(visitors);
    let here: Vec<String> = asked
        .filter
        .parts()
        .filter(|(a, _)| **a == attribute)
        .flat_map(|(_, values)| values.to_vec())
        .collect();
    // Alternatives of the same attribute are offered, too: it is left out of what narrows.
    let others = here.iter().fold(asked.filter.clone(), |f, value| f.without(&attribute, value));
    let views = Views::load(
        &state.answers,
        asked.site.id,
        asked.past(),
        &others,
        attribute.clone(),
        &[Vital::Lcp],
        1,
    )
    .await?;
    let values = views.values();
    let own = own_parameters(&request, &["attribute", "path"]);
    let row = |(value, pool): &(String, cadentis_core::visitor::Pool)| {
        let filter = asked.filter.clone();
        let on = here.contains(value);
        let filter = if on {
            filter.without(&attribute, value)
        } else {
            filter.and(attribute.clone(), value)
        };
        ValueRow {
            name: if value.is_empty() { "not told".to_string() } else { value.clone() },
            page_views: format::thousands(pool.page_views),
            p75: format::vital(Vital::Lcp, &p75(pool, Vital::Lcp)),
            link: format!("{path}?{own}{}", asked.query_with(&filter)),
            wanted: on,
        }
    };
    let rows = values.iter().take(OFFERED).map(row).collect();
    html(&Values { rows, more: values.len().saturating_sub(OFFERED) })
}
