//! How long questions about thirty days take: when first asked, and again.
//!
//! `cadentis-bench-questions DATABASE_URL [ROUNDS]`, of a demo with its history (`cadentis demo --views 9000000
//! --no-runners`). Prints the first time and the median, and least, of the others. Each question is asked first of a new
//! process's empty memory only when it stands alone: name it as the third argument.

use cadentis_answers::compute::Compute;
use cadentis_answers::kept::Site;
use cadentis_answers::requests::Kind;
use cadentis_answers::{
    Answers, Range, actions, errors, funnels, goals, queries, requests, sites, visitors,
};
use cadentis_core::calendar::Stretch;
use cadentis_core::goal::Definition;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::Filter;
use cadentis_store::Db;
use std::time::{Duration, Instant};

// As the server has it.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

type Failure = Box<dyn std::error::Error + Send + Sync>;

const QUESTIONS: [&str; 11] = [
    "requests",
    "actions",
    "errors",
    "funnels",
    "visitors",
    "visitors with two filters",
    "query by one",
    "query by two",
    "query by two with a condition",
    "query of requests",
    "experience goal tried on six months",
];

/// What queries among these say.
fn says(name: &str) -> Option<&'static str> {
    Some(match name {
        "query by one" => "p75 of LCP by device",
        "query by two" => "p75 of LCP, count of page views by family and country",
        "query by two with a condition" => {
            "p75 of LCP by family and country where p75 of LCP above 2 s"
        }
        "query of requests" => "p95 of request time, share of requests failed by request",
        _ => return None,
    })
}

/// The share of page views that is promised.
const SEEN: &str = "share of LCP within 2.5 s for family \"Sailings list\"";

#[tokio::main]
async fn main() -> Result<(), Failure> {
    let args: Vec<String> = std::env::args().collect();
    let url = args.get(1).ok_or("which database? give its address")?;
    let rounds: usize = args.get(2).map_or(Ok(5), |n| n.parse())?;
    let db = Db::connect(url)?;
    let answers = Answers::new(db.clone(), Compute::start(2, 256, Duration::from_secs(60))?);
    let site = sites::all(&answers).await?.into_iter().next().ok_or("no site in it")?;
    let wanted = |name: &&&str| args.get(3).is_none_or(|only| only == **name);
    for name in QUESTIONS.iter().filter(wanted) {
        let mut took = Vec::new();
        let mut said = String::new();
        for _ in 0..=rounds {
            let begun = Instant::now();
            said = ask(&answers, &site, name).await?;
            took.push(begun.elapsed().as_secs_f64() * 1_000.0);
        }
        let first = took.remove(0);
        took.sort_by(f64::total_cmp);
        let (median, least) = (took.get(rounds / 2).unwrap_or(&first), took.first());
        let least = least.unwrap_or(&first);
        println!("{name}: first {first:.0} ms, then {median:.0} ms ({least:.0}); {said}");
    }
    db.close().await;
    Ok(())
}

/// Asks one question of the last thirty days; what it found, in a word or two.
async fn ask(answers: &Answers, site: &Site, name: &str) -> Result<String, Failure> {
    let site_id = site.id;
    let (two, _) = Filter::parse(["device:phone", "country:NO"]);
    let range = |filter| Range {
        stretch: Stretch::last(30 * 86_400, jiff::Timestamp::now()),
        against: None,
        filter,
        points: 48,
    };
    let everything = range(Filter::default());
    if let Some(says) = says(name) {
        let query = says.parse()?;
        let over = queries::Over::all_of(everything.stretch);
        let told = queries::ask(answers, site, &query, &over, (96, false)).await??;
        return Ok(format!("{} rows, {} columns", told.table.found, told.table.columns.len()));
    }
    Ok(match name {
        "experience goal tried on six months" => {
            let seen = Definition {
                measure: cadentis_core::goal::Measure::Experience(SEEN.parse()?),
                journeys: Vec::new(),
                ..Definition::monthly(0, 0.8)
            };
            let told = goals::tried(answers, site, None, &seen, jiff::Timestamp::now()).await?;
            let counted: u64 = told.windows.iter().map(|w| w.judged.score.counted()).sum();
            format!("{counted} page views")
        }
        "requests" => {
            let told =
                requests::ask(answers, site_id, &everything, Kind::Request, &requests::Which::All)
                    .await?;
            format!("{} requests", told.families.iter().map(|f| f.count).sum::<u64>())
        }
        "actions" => {
            let told = actions::ask(answers, site_id, &everything, None).await?;
            format!("{} attempts", told.actions.iter().map(|a| a.attempts).sum::<u64>())
        }
        "errors" => {
            let told = errors::ask(answers, site_id, &everything, None).await?;
            format!("{} read, {} kinds", told.read, told.kinds.len())
        }
        "funnels" => {
            let told = funnels::ask(answers, site_id, &everything).await?;
            let began: u64 = told.funnels.iter().map(|f| f.now.began()).sum();
            format!("{} funnels, {began} began", told.funnels.len())
        }
        name => {
            let range = if name == "visitors" { everything } else { range(two) };
            let told = visitors::ask(answers, site_id, &range, Vital::Lcp, &Vital::ALL).await?;
            format!("{} page views", told.views.all().page_views)
        }
    })
}
