//! `cadentis play`: one script from the command line. Needs no database.

use crate::{Failure, asked_to_end};
use cadentis_core::journey;
use cadentis_core::run::{Outcome, RunRecord};
use cadentis_runner::{Setting, play as play_script};
use cadentis_standins::network::{Path, Proxy};
use cadentis_standins::places;
use cadentis_standins::site::{Ports, Site};
use serde_json::json;
use std::path::PathBuf;
use std::process::ExitCode;
use std::time::Duration;

#[derive(clap::Args)]
pub struct Args {
    /// The script
    file: PathBuf,
    /// Play as from this location of the demo (its name or slug), on a booking site of its own
    #[arg(long)]
    location: Option<String>,
    /// A SOCKS5 proxy to go through
    #[arg(long, conflicts_with = "location")]
    proxy: Option<std::net::SocketAddr>,
    /// Say it as JSON
    #[arg(long)]
    json: bool,
}

/// 0 passed, 1 failed or slow, 2 unmeasured or a script that cannot be read.
pub async fn play(args: Args) -> Result<ExitCode, Failure> {
    let script =
        match std::fs::read_to_string(&args.file).map_err(|e| e.to_string()).and_then(|text| {
            journey::parse(&text).and_then(|j| j.with_parts(&[])).map_err(|e| e.to_string())
        }) {
            Ok(script) => script,
            Err(e) => return Ok(cannot(&args, &format!("{}: {e}", args.file.display()))),
        };
    let mut setting = Setting { proxy: args.proxy, pictures: false, ..Setting::default() };
    // Kept until the end: the stand-ins live as long as the run.
    let mut _site = None;
    if let Some(name) = &args.location {
        let Some(place) = places::PLACES.into_iter().find(|p| p.slug == name || p.name == name)
        else {
            let names: Vec<&str> = places::PLACES.iter().map(|p| p.slug).collect();
            return Ok(cannot(
                &args,
                &format!("no location is called {name}; there are {}", names.join(", ")),
            ));
        };
        let site = Site::start(Ports::default(), None)?;
        let proxy = Proxy::start(Path::from(place), site.hosts()).await?;
        setting.proxy = Some(proxy.address);
        setting.runner = place.name.to_string();
        setting.location = place.name.to_string();
        _site = Some(site);
    }
    cadentis_processes::adopt_orphans();
    let record = tokio::select! {
        record = play_script(&script, &setting, |_| {}) => record,
        () = asked_to_end() => {
            cadentis_processes::end_all(Duration::from_secs(2));
            return Ok(ExitCode::from(2));
        }
    };
    if args.json {
        print_json(&record)
    } else {
        print_text(&script.name, &record)
    }
    Ok(ExitCode::from(match record.outcome {
        Outcome::Passed => 0,
        Outcome::Slow | Outcome::Failed => 1,
        Outcome::Unmeasured => 2,
    }))
}

fn cannot(args: &Args, says: &str) -> ExitCode {
    if args.json {
        println!(
            "{}",
            json!({ "outcome": "unmeasured", "duration_ms": 0, "steps": [], "error": { "message": says } })
        );
    } else {
        eprintln!("{says}");
    }
    ExitCode::from(2)
}

fn print_json(record: &RunRecord) {
    let error = |t: &cadentis_core::run::Trouble| json!({ "line": t.line, "message": t.says });
    let steps: Vec<_> = record
        .steps
        .iter()
        .map(|s| {
            let mut step = json!({
                "name": s.name, "outcome": s.outcome.word(), "duration_ms": s.duration_ms,
                "budget_ms": s.budget_ms, "marks": s.marks, "vitals": s.vitals, "requests": s.requests.len(),
            });
            if let Some(trouble) = &s.trouble {
                step["error"] = error(trouble);
            }
            step
        })
        .collect();
    let mut whole = json!({
        "outcome": record.outcome.word(), "duration_ms": record.duration_ms, "steps": steps, "browser": record.browser,
    });
    if let Some(trouble) = &record.trouble {
        whole["error"] = error(trouble);
    }
    println!("{whole}");
}

fn print_text(name: &str, record: &RunRecord) {
    println!(
        "{name}: {} in {:.2} s ({})",
        record.outcome.word(),
        record.duration_ms / 1000.0,
        record.browser
    );
    for s in &record.steps {
        let budget = s.budget_ms.map(|b| format!(" of {:.1} s", b / 1000.0)).unwrap_or_default();
        println!(
            "  {:<10} {:>6.2} s{budget:<10}  {}  ({} requests)",
            s.outcome.word(),
            s.duration_ms / 1000.0,
            s.name,
            s.requests.len()
        );
        for mark in &s.marks {
            println!("             {:>6.2} s  mark {}", mark.at_ms / 1000.0, mark.name);
        }
    }
    if let Some(t) = &record.trouble {
        let line = if t.line > 0 { format!("line {}: ", t.line) } else { String::new() };
        println!("  {line}{}", t.says);
    }
}
