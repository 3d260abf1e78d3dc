//! Data of older versions, moved by the migrations on a real PostgreSQL.

use super::CLUSTER;
use cadentis_core::calendar::Stretch;
use cadentis_core::calendar::stretch::at_second;
use cadentis_core::visitor::errors::kinds;
use cadentis_core::visitor::{Attribute, Filter};
use cadentis_store::Db;
use cadentis_store::page_view_hour::RolledUp;
use sqlx::postgres::PgPool;

/// The version in which a page view was a row of columns.
const COLUMNS: i64 = 5;

#[tokio::test]
async fn page_views_that_were_rows_of_columns_become_texts_and_tell_the_same() {
    let cluster = &*CLUSTER;
    let url = cluster
        .create_database(&format!("old{}", uuid::Uuid::new_v4().simple()))
        .expect("a database");
    let pool = PgPool::connect(&url).await.expect("a connection");
    sqlx::migrate!("./migrations").run_to(COLUMNS, &pool).await.expect("the old version");
    // A day of two hundred page views in two hours, one in ten with an error, one in four abandoned without a paint.
    let at = at_second(1_794_996_000);
    for sql in [
        "INSERT INTO site (key, name, zone, domains, families, apdex_t_s) VALUES ('k', 'S', 'UTC', '{a.example}', '[]', 1.5)",
        "CREATE TABLE page_view_20261118 PARTITION OF page_view FOR VALUES FROM ('2026-11-18 00:00Z') TO ('2026-11-19 00:00Z')",
        "INSERT INTO page_view SELECT 1, to_timestamp(1794996000 + n * 36), gen_random_uuid(), 1, gen_random_uuid(),
             to_timestamp(1794996003 + n * 36), 'Home', '/', CASE n % 2 WHEN 0 THEN 'phone' ELSE 'desktop' END, 'NO', 'Chrome',
             'Linux', '4g', '198.51.100.0', CASE WHEN n % 4 > 0 THEN 1000 + n END, NULL, 0.05, 400, 90, 1500, NULL, NULL,
             n % 4 = 0, false, CASE n % 10 WHEN 0 THEN 1 ELSE 0 END, CASE n % 10 WHEN 0 THEN 'berth ' || n || ' is gone' END
         FROM generate_series(0, 199) n",
    ] {
        sqlx::query(sql).execute(&pool).await.expect(sql);
    }
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("the moves");
    let day = Stretch { from: at, to: at_second(at.as_second() + 7_200) };
    let ids = db.page_view_ids(1, day).await.expect("ids");
    assert_eq!(ids.len(), 200);
    let everything = Filter::default();
    let of = async |db: &Db| {
        let wrong = kinds(&db.errors(1, day, &everything, 1_000).await.expect("errors"));
        let slowest = db
            .slowest_page_views(1, day, &everything, cadentis_core::timing::Vital::Lcp, 1)
            .await
            .expect("views");
        (
            wrong[0].pattern.clone(),
            wrong[0].count,
            slowest[0].lcp,
            slowest[0].device.clone(),
            slowest[0].load,
        )
    };
    let want =
        ("berth ‹n› is gone".to_string(), 20, Some(1_199.0), "desktop".to_string(), Some(1_500.0));
    assert_eq!(of(&db).await, want, "from rows");
    while db.roll_up_one().await.expect("rolled up") != RolledUp::Nothing {}
    assert_eq!(of(&db).await, want, "from sheets");
    let cells = db.cells(1, day, &[Attribute::Device], &[]).await.expect("cells");
    let counts = cells.iter().map(|c| (c.cell.page_views, c.cell.abandoned, c.cell.with_errors));
    let sums = counts.fold((0, 0, 0), |a, c| (a.0 + c.0, a.1 + c.1, a.2 + c.2));
    assert_eq!(sums, (200, 50, 20));
    db.close().await;
}

/// The version in which maintenance was a single stretch.
const STRETCHES: i64 = 20;

#[tokio::test]
async fn maintenance_that_was_a_stretch_comes_once_at_the_same_time() {
    let name = format!("old{}", uuid::Uuid::new_v4().simple());
    let url = CLUSTER.create_database(&name).expect("a database");
    let pool = PgPool::connect(&url).await.expect("a connection");
    sqlx::migrate!("./migrations").run_to(STRETCHES, &pool).await.expect("the old version");
    for sql in [
        "INSERT INTO site (key, slug, name, zone, domains, families, apdex_t_s)
             VALUES ('k', 's', 'S', 'Europe/Oslo', '{a.example}', '[]', 1.5)",
        "INSERT INTO maintenance (site_id, from_at, to_at, why)
             VALUES (1, '2026-11-20 23:30:00+01', '2026-11-21 00:40:00+01', 'Database “moved”')",
    ] {
        sqlx::query(sql).execute(&pool).await.expect(sql);
    }
    let db = Db::connect(&url).expect("an address");
    db.migrate().await.expect("the moves");
    let at = |text: &str| text.parse().expect("a moment");
    let within = Stretch { from: at("2026-11-01T00:00:00Z"), to: at("2026-12-01T00:00:00Z") };
    let found = db.maintenance(1, within).await.expect("rows");
    let stretch = Stretch { from: at("2026-11-20T22:30:00Z"), to: at("2026-11-20T23:40:00Z") };
    assert_eq!(found.iter().map(|l| l.stretch).collect::<Vec<_>>(), [stretch]);
    assert_eq!((found[0].why.as_str(), found[0].is_held), ("Database “moved”", false));
    assert!(found[0].reach.is_everything());
}
