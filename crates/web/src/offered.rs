//! How what is being typed could go on, as options of its field.

use crate::error::PageError;
use crate::respond::html;
use actix_web::HttpResponse;
use askama::Template;

#[derive(Template)]
#[template(path = "measure_options.html")]
struct Options {
    options: Vec<String>,
}

/// So many ways to go on are offered.
const MOST: usize = 40;

/// Options that go on with a text: what was begun of a word is replaced by what completes it.
pub fn offered(
    text: &str,
    words: impl IntoIterator<Item = String>,
) -> Result<HttpResponse, PageError> {
    let kept = match text.char_indices().rev().find(|(_, c)| c.is_whitespace()) {
        Some((at, c)) => &text[..at + c.len_utf8()],
        None => "",
    };
    let words = words.into_iter().take(MOST);
    html(&Options { options: words.map(|word| format!("{kept}{word}")).collect() })
}
