//! `cadentis play`: one script from the command line. Needs no database.

use crate::{Failure, asked_to_end};
use cadentis_core::journey;
use cadentis_core::run::{Outcome, RunRecord, Trouble};
use cadentis_runner::{Setting, play as play_script};
use cadentis_standins::network::{Path, Proxy};
use cadentis_standins::places;
use cadentis_standins::site::{Ports, Site};
use quick_junit::{NonSuccessKind, Report, TestCase, TestCaseStatus, TestSuite};
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
    /// Write it to this file, too, as JUnit XML: a test case for each step
    #[arg(long)]
    junit: Option<PathBuf>,
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
    if let Some(file) = &args.junit {
        let written = junit(&script, &record).to_string().map_err(|e| e.to_string())?;
        std::fs::write(file, written).map_err(|e| format!("{}: {e}", file.display()))?;
    }
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

/// What a pipeline shows of a run: each step of the script as a test case. Slow and failed steps are failures, what our own
/// trouble kept from being measured is an error, and what was not reached is skipped.
fn junit(script: &journey::Journey, record: &RunRecord) -> Report {
    let line = |t: &Trouble| match t.line {
        0 => t.says.clone(),
        line => format!("line {line}: {}", t.says),
    };
    let mut suite = TestSuite::new(script.name.as_str());
    for step in &record.steps {
        let says = step.trouble.as_ref().or(record.trouble.as_ref()).map(line);
        let mut status = match step.outcome {
            Outcome::Passed => TestCaseStatus::success(),
            Outcome::Slow | Outcome::Failed => TestCaseStatus::non_success(NonSuccessKind::Failure),
            Outcome::Unmeasured => TestCaseStatus::non_success(NonSuccessKind::Error),
        };
        if step.outcome != Outcome::Passed {
            status.set_type(step.outcome.word()).set_message(says.unwrap_or_default());
        }
        let mut case = TestCase::new(step.name.as_str(), status);
        case.set_classname(script.name.as_str());
        case.set_time(Duration::from_secs_f64(step.duration_ms.max(0.0) / 1000.0));
        suite.add_test_case(case);
    }
    let reached = |name: &str| record.steps.iter().any(|s| s.name == name);
    for step in script.steps.iter().filter(|s| !reached(&s.name)) {
        let mut status = TestCaseStatus::skipped();
        status.set_message("not reached");
        let mut case = TestCase::new(step.name.as_str(), status);
        case.set_classname(script.name.as_str());
        suite.add_test_case(case);
    }
    // A run that broke off before its first step, or between two, is told all the same.
    let is_told = record.steps.iter().any(|s| s.outcome == record.outcome);
    if let Some(trouble) = record.trouble.as_ref().filter(|_| !is_told) {
        let kind = match record.outcome {
            Outcome::Unmeasured => NonSuccessKind::Error,
            _ => NonSuccessKind::Failure,
        };
        let mut status = TestCaseStatus::non_success(kind);
        status.set_type(record.outcome.word()).set_message(line(trouble));
        suite.add_test_case(TestCase::new("the whole run", status));
    }
    let mut report = Report::new("cadentis play");
    report.set_time(Duration::from_secs_f64(record.duration_ms.max(0.0) / 1000.0));
    report.add_test_suite(suite);
    report
}

fn cannot(args: &Args, says: &str) -> ExitCode {
    if let Some(file) = &args.junit {
        let mut status = TestCaseStatus::non_success(NonSuccessKind::Error);
        status.set_type("unmeasured").set_message(says);
        let mut suite = TestSuite::new(args.file.display().to_string());
        suite.add_test_case(TestCase::new("the script can be read", status));
        let mut report = Report::new("cadentis play");
        report.add_test_suite(suite);
        let text = report.to_string().map_err(|e| e.to_string());
        let written = text.and_then(|text| std::fs::write(file, text).map_err(|e| e.to_string()));
        if let Err(e) = written {
            eprintln!("{}: {e}", file.display());
        }
    }
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
