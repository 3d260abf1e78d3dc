//! `GET /api`: the description of the API for people, made of the document that programs read.

use super::v1;
use crate::State;
use crate::error::PageError;
use crate::respond::html;
use actix_web::{HttpRequest, HttpResponse, web};
use askama::Template;
use serde_json::Value;

#[derive(Template)]
#[template(path = "api.html")]
struct Page {
    /// What is said first.
    says: Vec<Piece>,
    server: String,
    questions: Vec<Question>,
}

/// A piece of a text; what stands between backticks in the document is code.
struct Piece {
    is_code: bool,
    text: String,
}

fn pieces(text: &str) -> Vec<Piece> {
    let piece = |(nth, text): (usize, &str)| Piece { is_code: nth % 2 == 1, text: text.into() };
    text.split('`').enumerate().map(piece).filter(|p| !p.text.is_empty()).collect()
}

/// One thing that can be asked.
struct Question {
    method: String,
    path: String,
    says: Vec<Piece>,
    parameters: Vec<Parameter>,
    answers: Vec<Answer>,
}

struct Parameter {
    name: String,
    is_in: String,
    is_required: bool,
    says: Vec<Piece>,
}

struct Answer {
    status: String,
    says: Vec<Piece>,
    /// Media types of its body.
    kinds: String,
}

fn text(value: &Value, name: &str) -> String {
    value[name].as_str().unwrap_or_default().trim().to_string()
}

fn question(path: &str, method: &str, of: &Value) -> Question {
    let parameter = |p: &Value| Parameter {
        name: text(p, "name"),
        is_in: text(p, "in"),
        is_required: p["required"] == true,
        says: pieces(&text(p, "description")),
    };
    let answer = |(status, a): (&String, &Value)| Answer {
        status: status.clone(),
        says: pieces(&text(a, "description")),
        kinds: a["content"].as_object().map_or(String::new(), |kinds| {
            kinds.keys().map(String::as_str).collect::<Vec<_>>().join(", ")
        }),
    };
    let says = [text(of, "summary"), text(of, "description")];
    Question {
        method: method.to_uppercase(),
        path: path.to_string(),
        says: pieces(&says.into_iter().filter(|s| !s.is_empty()).collect::<Vec<_>>().join(" ")),
        parameters: of["parameters"].as_array().into_iter().flatten().map(parameter).collect(),
        answers: of["responses"].as_object().into_iter().flatten().map(answer).collect(),
    }
}

/// `GET /api`
pub async fn page(
    state: web::Data<State>,
    request: HttpRequest,
) -> Result<HttpResponse, PageError> {
    let document = v1::described();
    let paths = document["paths"].as_object().into_iter().flatten();
    let questions = paths.flat_map(|(path, methods)| {
        let methods = methods.as_object().into_iter().flatten();
        methods.map(move |(method, of)| question(path, method, of))
    });
    html(&Page {
        says: pieces(&text(&document["info"], "description")),
        server: state.door.address(&request),
        questions: questions.collect(),
    })
}
