//! `cadentis marker`: a pipeline pins what it did to the time axis, through the API.

use crate::Failure;
use cadentis_core::marker::Kind;
use cadentis_https::{Https, Method, Request, StatusCode, header};
use serde_json::{Value, json};
use std::process::ExitCode;
use std::time::Duration;

#[derive(clap::Args)]
pub struct Args {
    /// What happened, in a word or two
    title: String,
    /// What it tells of
    #[arg(long, default_value = "release", value_parser = ["release", "change", "note"])]
    kind: String,
    /// The version of a release
    #[arg(long = "version", value_name = "VERSION", default_value = "")]
    of_version: String,
    /// More of it
    #[arg(long, default_value = "")]
    detail: String,
    /// Where more is found: an address over http or https
    #[arg(long, default_value = "")]
    link: String,
    /// When, such as 2026-11-22T05:00:00Z; now without
    #[arg(long)]
    at: Option<String>,
    /// Name of the site in addresses
    #[arg(long, env = "CADENTIS_SITE")]
    site: String,
    /// Address of the server
    #[arg(long, env = "CADENTIS_SERVER")]
    server: String,
    /// A token of the site that may pin markers; in CADENTIS_TOKEN no list of processes shows it
    #[arg(long, env = "CADENTIS_TOKEN", hide_env_values = true)]
    token: String,
}

/// An answer comes within this time, and is no longer.
const PATIENCE: Duration = Duration::from_secs(20);
const LONGEST: usize = 64 * 1024;

/// Prints the id of the marker.
pub async fn marker(args: Args) -> Result<ExitCode, Failure> {
    let kind = Kind::of_word(&args.kind).unwrap_or_default().word();
    let said = json!({
        "title": args.title, "kind": kind, "version": args.of_version, "detail": args.detail, "link": args.link, "at": args.at,
    });
    let server = args.server.trim_end_matches('/');
    // A part of an address: nothing in it leads elsewhere.
    let site: String = url::form_urlencoded::byte_serialize(args.site.as_bytes()).collect();
    let request = Request::builder()
        .method(Method::POST)
        .uri(format!("{server}/api/v1/sites/{site}/markers"))
        .header(header::AUTHORIZATION, format!("Bearer {}", args.token))
        .header(header::CONTENT_TYPE, "application/json")
        .body(said.to_string().into_bytes())
        .map_err(|e| {
            format!("{server} is no address of a server such as https://cadentis.example: {e}")
        })?;
    let answer = Https::new(None, PATIENCE, LONGEST)?.send(request).await;
    let answer = answer.map_err(|e| format!("{server} did not answer: {e}"))?;
    let (status, body) = (answer.status(), answer.into_body());
    let told: Value = serde_json::from_slice(&body).unwrap_or_default();
    match (status, told["id"].as_i64()) {
        (StatusCode::CREATED, Some(id)) => {
            println!("{id}");
            Ok(ExitCode::SUCCESS)
        }
        _ => {
            let why = told["errors"][0]["detail"].as_str().or(told["detail"].as_str());
            Err(format!("not pinned ({status}): {}", why.unwrap_or("the server did not say why"))
                .into())
        }
    }
}
