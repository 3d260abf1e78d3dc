//! The 75th percentile of LCP over thirty days, for all and for phones in one country: from cells and sheets, and as
//! PostgreSQL computes it from a plain table of the same numbers with `percentile_cont`.
//!
//! `cadentis-bench-percentiles DATABASE_URL`, of a demo with its history.

use cadentis_core::calendar::Stretch;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::slices::{Selection, pools};
use cadentis_core::visitor::{Attribute, Filter, Pool};
use cadentis_store::Db;
use cadentis_store::sheet::Filed;
use std::time::{Duration, Instant};

type Failure = Box<dyn std::error::Error + Send + Sync>;

const P: f64 = 0.75;
const ROUNDS: usize = 5;

#[tokio::main]
async fn main() -> Result<(), Failure> {
    let url = std::env::args().nth(1).ok_or("which database? give its address")?;
    let db = Db::connect(&url)?;
    let site = db.sites().await?.into_iter().next().ok_or("no site in it")?;
    let stretch = Stretch::last(30 * 86_400, jiff::Timestamp::now());
    let (filter, _) = Filter::parse(["device:phone", "country:NO"]);
    let columns = ["lcp", "device", "country", "at"].map(String::from);
    let mut rows = Vec::new();
    for sheet in db.sheets_of(Filed::PageViews, site.id, stretch, &columns).await? {
        let keep = cadentis_core::visitor::slices::rows(&sheet, stretch, &Filter::default());
        let (devices, countries, lcp) =
            (sheet.texts("device"), sheet.texts("country"), sheet.figures("lcp"));
        let told = (0..sheet.rows).filter(|row| keep[*row]);
        rows.extend(told.filter_map(|r| {
            Some((lcp.at(r)?, devices.at(r).to_string(), countries.at(r).to_string()))
        }));
    }
    println!("{} page views with LCP in thirty days, medians of {ROUNDS}", rows.len());
    for only in [None, Some(("phone", "NO"))] {
        let (mut ours, mut theirs) = (Vec::new(), Vec::new());
        let (mut said, mut wanted) = (f64::NAN, f64::NAN);
        for _ in 0..ROUNDS {
            let begun = Instant::now();
            let pool = if only.is_some() {
                from_sheets(&db, site.id, stretch, &filter).await?
            } else {
                from_cells(&db, site.id, stretch).await?
            };
            said = pool.measured(Vital::Lcp).reading(P).value.unwrap_or(f64::NAN);
            ours.push(begun.elapsed());
            let (value, took) = db.percentile_cont(&rows, P, only).await?;
            wanted = value.unwrap_or(f64::NAN);
            theirs.push(took);
        }
        println!(
            "{}: {:.0} ms beside {:.0} ms of percentile_cont; {said:.1} beside {wanted:.1} ({:+.2} %)",
            if only.is_some() { "phones in one country" } else { "all" },
            median(ours),
            median(theirs),
            100.0 * (said / wanted - 1.0)
        );
    }
    Ok(())
}

fn median(mut all: Vec<Duration>) -> f64 {
    all.sort();
    all[all.len() / 2].as_secs_f64() * 1_000.0
}

async fn from_cells(db: &Db, site_id: i32, stretch: Stretch) -> Result<Pool, Failure> {
    let mut pool = Pool::default();
    for c in db.cells_by_day(site_id, stretch, &[Attribute::Device], &[Vital::Lcp]).await? {
        pool.count(c.cell.page_views, c.cell.abandoned, c.cell.blank, c.cell.with_errors);
        pool.add_rated(&c.cell.vitals);
    }
    Ok(pool)
}

async fn from_sheets(
    db: &Db,
    site_id: i32,
    stretch: Stretch,
    filter: &Filter,
) -> Result<Pool, Failure> {
    let wanted = Selection {
        stretch,
        filter,
        bucket_s: 86_400,
        by: None,
        vitals: &[Vital::Lcp],
        exact: false,
    };
    let mut pool = Pool::default();
    for sheet in db.sheets_of(Filed::PageViews, site_id, stretch, &wanted.columns()).await? {
        pools(&sheet, &wanted).iter().for_each(|(_, _, part)| pool.absorb(part));
    }
    Ok(pool)
}
