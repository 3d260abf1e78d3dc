//! `cadentis gate`: a pipeline asks whether what is to be released is surely slower than what is live.

use crate::Failure;
use crate::asking::{ServerArgs, part, why_not};
use cadentis_https::{Method, StatusCode};
use jiff::{SignedDuration, Timestamp};
use serde_json::Value;
use std::process::ExitCode;

#[derive(clap::Args)]
pub struct Args {
    /// The journey of what is to be released, by its name in addresses
    candidate: String,
    /// The journey of what is live
    #[arg(long)]
    against: String,
    /// How much longer it may take, in per cent
    #[arg(long, default_value_t = 5.0)]
    allow: f64,
    /// Runs of so many hours up to now
    #[arg(long, default_value_t = 24, value_parser = clap::value_parser!(i64).range(1..=24 * 60))]
    hours: i64,
    /// Print the answer of the server as it is
    #[arg(long)]
    json: bool,
    #[command(flatten)]
    server: ServerArgs,
}

/// 0 passes, 1 surely worse than allowed, 2 too few runs, or nobody could be asked.
pub async fn gate(args: Args) -> Result<ExitCode, Failure> {
    let from = Timestamp::now() - SignedDuration::from_hours(args.hours);
    let path = format!(
        "/journeys/{}/gate/{}?from={from}&allowed={}",
        part(&args.against),
        part(&args.candidate),
        args.allow / 100.0
    );
    let told = match args.server.ask(Method::GET, &path, None).await {
        Ok((StatusCode::OK, told)) => told,
        Ok((status, told)) => {
            eprintln!("not compared ({status}): {}", why_not(&told));
            return Ok(ExitCode::from(2));
        }
        Err(e) => {
            eprintln!("not compared: {e}");
            return Ok(ExitCode::from(2));
        }
    };
    match args.json {
        true => println!("{told}"),
        false => print(&args, &told),
    }
    Ok(ExitCode::from(match told["verdict"].as_str() {
        Some("passes") => 0,
        Some("worse") => 1,
        _ => 2,
    }))
}

fn print(args: &Args, told: &Value) {
    let words = |verdict: &Value| match verdict.as_str() {
        Some("passes") => "passes",
        Some("worse") => "surely worse than allowed",
        _ => "too few runs",
    };
    let seconds =
        |ms: &Value| ms.as_f64().map_or("–".into(), |ms| format!("{:.2} s", ms / 1000.0));
    let moved = |ms: &Value| ms.as_f64().map_or("–".into(), |ms| format!("{:+.2}", ms / 1000.0));
    println!("{} beside {}: {}", args.candidate, args.against, words(&told["verdict"]));
    println!(
        "  {} runs live, {} to be released; {} and {} of them failed: {}",
        told["live_runs"],
        told["candidate_runs"],
        told["live_failed"],
        told["candidate_failed"],
        words(&told["failures"])
    );
    for pair in told["pairs"].as_array().into_iter().flatten() {
        println!(
            "  {:>8} {:>8}  {} s ({} to {}, 95 %)  {}  {}",
            seconds(&pair["live_p75_ms"]),
            seconds(&pair["candidate_p75_ms"]),
            moved(&pair["difference_ms"]),
            moved(&pair["low_ms"]),
            moved(&pair["high_ms"]),
            pair["step"].as_str().unwrap_or("the whole run"),
            words(&pair["verdict"])
        );
    }
}
