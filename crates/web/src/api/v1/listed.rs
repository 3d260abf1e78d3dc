//! Lists, a page at a time: an array, and in `Link` (RFC 8288) where the next page is. What leads on is what the last of a page is
//! ordered by, so that nothing is told twice or left out because something before it was taken away meanwhile.

use super::asked::{read, wrong};
use crate::problem::Problem;
use actix_web::http::header::LINK;
use actix_web::{HttpRequest, HttpResponse};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use url::form_urlencoded;

/// What a list is ordered by: a number, then an id, then a text.
pub(super) type Key = (i64, i64, String);

/// Ordered by a number and, where that is the same, by id.
pub(super) fn numbered(order: i64, id: i32) -> Key {
    (order, i64::from(id), String::new())
}

/// Ordered by its name alone.
pub(super) fn named(name: &str) -> Key {
    (0, 0, name.into())
}

/// Which page of a list.
#[derive(Debug, Default, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
#[expect(dead_code, reason = "described; read by `paged`")]
pub(super) struct WhichPage {
    /// What leads on from the page before: of its `next`, or in its `Link`.
    cursor: Option<String>,
    /// So many at most; 100 when it does not say.
    #[param(minimum = 1, maximum = 1000)]
    limit: Option<u32>,
}

/// A list that has no other parameters.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Nothing {}

/// Which page of a list is wanted.
#[derive(Debug)]
pub(super) struct Page {
    pub(super) after: Option<Key>,
    pub(super) most: usize,
    /// The address without its cursor.
    path: String,
    asked: String,
}

/// The page that is asked for, and the parameters beside it.
pub(super) fn paged<T: DeserializeOwned>(request: &HttpRequest) -> Result<(Page, T), Box<Problem>> {
    let (page, rest) = cut(request.path(), request.query_string())?;
    Ok((page, read(&rest)?))
}

/// The page that is asked for, and the other parameters as they were written.
pub(super) fn cut(path: &str, query: &str) -> Result<(Page, String), Box<Problem>> {
    let written = |pairs: &[(String, String)]| {
        form_urlencoded::Serializer::new(String::new()).extend_pairs(pairs).finish()
    };
    let pairs: Vec<(String, String)> =
        form_urlencoded::parse(query.as_bytes()).into_owned().collect();
    let (cursors, asked): (Vec<_>, Vec<_>) =
        pairs.into_iter().partition(|(name, _)| name == "cursor");
    let after = match &cursors[..] {
        [] => None,
        [(_, text)] => Some(key_of(text).ok_or_else(no_cursor)?),
        _ => return Err(wrong("?cursor", "There is one `cursor` at most.")),
    };
    let (limits, rest): (Vec<_>, Vec<_>) =
        asked.iter().cloned().partition(|(name, _)| name == "limit");
    let most = match &limits[..] {
        [] => 100,
        [(_, text)] => {
            let read = text.parse().ok().filter(|n| (1..=1_000).contains(n));
            read.ok_or_else(|| wrong("?limit", "`limit` is from 1 to 1000."))?
        }
        _ => return Err(wrong("?limit", "There is one `limit` at most.")),
    };
    Ok((Page { after, most, path: path.into(), asked: written(&asked) }, written(&rest)))
}

/// What is said of a cursor that no answer led on with.
pub(super) fn no_cursor() -> Box<Problem> {
    wrong("?cursor", "`cursor` is none that an answer of ours led on with.")
}

pub(super) fn cursor_of((order, id, text): &Key) -> String {
    URL_SAFE_NO_PAD.encode(format!("{order} {id} {text}"))
}

fn key_of(cursor: &str) -> Option<Key> {
    let text = String::from_utf8(URL_SAFE_NO_PAD.decode(cursor).ok()?).ok()?;
    let mut parts = text.splitn(3, ' ');
    let mut number = || parts.next()?.parse().ok();
    Some((number()?, number()?, parts.next()?.into()))
}

impl Page {
    /// After which moment and id a list goes on that is read page by page, in the order in which it is told: `sign` is -1 where
    /// the newest comes first.
    pub(super) fn after_moment(&self, sign: i64) -> Result<Option<(Timestamp, i32)>, Box<Problem>> {
        let Some((order, id, _)) = &self.after else { return Ok(None) };
        let at = order.checked_mul(sign).and_then(|us| Timestamp::from_microsecond(us).ok());
        let id = id.checked_mul(sign).and_then(|id| i32::try_from(id).ok());
        at.zip(id).map(Some).ok_or_else(no_cursor)
    }

    /// Those of a list that are on this page, in the order of the list, and what leads on from it. A list that is read page by
    /// page gives one more than it wants.
    pub(super) fn of<T>(
        &self,
        mut all: Vec<T>,
        key: impl Fn(&T) -> Key,
    ) -> (Vec<T>, Option<String>) {
        all.sort_by_cached_key(&key);
        if let Some(after) = &self.after {
            all.retain(|one| key(one) > *after);
        }
        let more = all.len() > self.most;
        all.truncate(self.most);
        let next = all.last().filter(|_| more).map(|last| cursor_of(&key(last)));
        (all, next)
    }

    /// A page of a list as its answer.
    pub(super) fn told<T, S: Serialize>(
        &self,
        all: Vec<T>,
        key: impl Fn(&T) -> Key,
        shape: impl Fn(T) -> S,
    ) -> HttpResponse {
        let (those, next) = self.of(all, key);
        let mut answer = HttpResponse::Ok();
        if let Some(next) = next {
            let and = if self.asked.is_empty() { "" } else { "&" };
            let link = format!("<{}?{}{and}cursor={next}>; rel=\"next\"", self.path, self.asked);
            answer.insert_header((LINK, link));
        }
        answer.json(those.into_iter().map(shape).collect::<Vec<_>>())
    }
}

/// Says in the description of every array that is told page by page where the next page is.
pub(super) fn described(operation: &mut Value) {
    let mut parameters = operation["parameters"].as_array().into_iter().flatten();
    let is_paged = parameters.any(|p| p["name"] == "cursor");
    let Some(answer) = operation.pointer_mut("/responses/200") else { return };
    let is_array = answer.pointer("/content/application~1json/schema/type");
    if is_paged && is_array.is_some_and(|kind| kind == "array") {
        answer["headers"] = json!({ "Link": {
            "description": "Where the next page is, with `rel=\"next\"` (RFC 8288); not there on the last one.",
            "schema": { "type": "string" },
        }});
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn page(query: &str) -> Page {
        cut("/things", query).map(|(page, _)| page).unwrap()
    }

    #[test]
    fn a_cursor_leads_on_from_where_it_was_given_and_nothing_else_is_one() {
        let key = (-1_795_000_200_123_456, -7, "a b\u{1F6A2}".to_string());
        assert_eq!(key_of(&cursor_of(&key)), Some(key.clone()));
        let whole = cursor_of(&key);
        for tampered in ["", "x", "AAAA", &whole[1..], "LTk5OTk5OTk5OTk5OTk5OTk5OTk5IHg"] {
            let told = cut("/things", &format!("cursor={tampered}&kind=a"));
            assert!(told.is_err(), "{tampered}");
        }
        for bad in ["limit=0", "limit=1001", "limit=x", "limit=5&limit=6"] {
            assert!(cut("/things", bad).is_err(), "{bad}");
        }
        let (of, rest) = cut("/things", "kind=a%26b&limit=7&only=x").unwrap();
        assert_eq!((of.most, rest.as_str()), (7, "kind=a%26b&only=x"));
    }

    proptest! {
        #[test]
        fn pages_together_are_the_list_in_order_whatever_is_taken_away_meanwhile(
            mut things in proptest::collection::vec((-3i64..3, -2i64..2, "[a-c ]{0,3}"), 0..40),
            most in 1usize..7,
            gone in proptest::collection::vec(any::<proptest::sample::Index>(), 0..5),
        ) {
            things.sort();
            things.dedup();
            let mut there = things.clone();
            let (mut told, mut query) = (Vec::new(), format!("limit={most}"));
            for nth in 0.. {
                let (those, next) = page(&query).of(there.clone(), Key::clone);
                prop_assert!(those.len() <= most);
                told.extend(those);
                let Some(next) = next else { break };
                query = format!("limit={most}&cursor={next}");
                // What was told is taken away: all that was not is told still.
                if let Some(gone) = gone.get(nth) {
                    let gone = gone.get(&told).clone();
                    there.retain(|t| *t != gone);
                }
            }
            prop_assert_eq!(told, things);
        }
    }
}
