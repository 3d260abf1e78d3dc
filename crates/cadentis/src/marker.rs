//! `cadentis marker`: a pipeline pins what it did to the time axis, through the API.

use crate::Failure;
use crate::asking::{ServerArgs, why_not};
use cadentis_core::marker::Kind;
use cadentis_https::{Method, StatusCode};
use serde_json::json;
use std::process::ExitCode;

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
    #[command(flatten)]
    server: ServerArgs,
}

/// Prints the id of the marker.
pub async fn marker(args: Args) -> Result<ExitCode, Failure> {
    let kind = Kind::of_word(&args.kind).unwrap_or_default().word();
    let said = json!({
        "title": args.title, "kind": kind, "version": args.of_version, "detail": args.detail, "link": args.link, "at": args.at,
    });
    let (status, told) = args.server.ask(Method::POST, "/markers", Some(&said)).await?;
    match (status, told["id"].as_i64()) {
        (StatusCode::CREATED, Some(id)) => {
            println!("{id}");
            Ok(ExitCode::SUCCESS)
        }
        _ => Err(format!("not pinned ({status}): {}", why_not(&told)).into()),
    }
}
