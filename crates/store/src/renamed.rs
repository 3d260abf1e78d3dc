//! What names a page family follows it when it is called something else: limits, funnels, alerts, goals, queries, views and
//! reports.

use crate::db::{Result, content};
use cadentis_core::alert::Definition as Watched;
use cadentis_core::goal::{Definition as Promised, Measure};
use cadentis_core::measure::{Key, Measured};
use cadentis_core::query::Query;
use cadentis_core::report::Definition as Issued;
use cadentis_core::saved_view::SavedView;
use cadentis_core::visitor::Attribute;
use sqlx::PgConnection;
use sqlx::types::Json;

/// Calls a page family of a site by its new name wherever it is named, but for page views that are kept: these have the name
/// of their time until history is put into the new families.
pub(crate) async fn rename_family(
    tx: &mut PgConnection,
    site_id: i32,
    was: &str,
    is: &str,
) -> Result<()> {
    for sql in [
        "UPDATE budget SET family = $3 WHERE site_id = $1 AND family = $2",
        "UPDATE funnel SET steps = array_replace(steps, $2, $3) WHERE site_id = $1 AND $2 = ANY (steps)",
        "UPDATE site SET family_t = family_t - $2 || jsonb_build_object($3, family_t -> $2) WHERE id = $1 AND family_t ? $2",
    ] {
        sqlx::query(sql).bind(site_id).bind(was).bind(is).execute(&mut *tx).await?;
    }
    let renamed =
        |measured: &Measured| measured.renamed(&Key::Attribute(Attribute::Family), was, is);

    let sql = "SELECT id, measured FROM measured_budget WHERE site_id = $1 ORDER BY id";
    let limits: Vec<(i32, String)> = sqlx::query_as(sql).bind(site_id).fetch_all(&mut *tx).await?;
    for (id, text) in limits {
        let measured: Measured =
            text.parse().map_err(|_| content("measured_budget.measured", &text))?;
        let Some(measured) = renamed(&measured) else { continue };
        let sql = "UPDATE measured_budget SET measured = $2 WHERE id = $1";
        sqlx::query(sql).bind(id).bind(measured.to_string()).execute(&mut *tx).await?;
    }

    let sql = "SELECT id, definition FROM alert WHERE site_id = $1 ORDER BY id FOR UPDATE";
    let alerts: Vec<(i32, Json<Watched>)> =
        sqlx::query_as(sql).bind(site_id).fetch_all(&mut *tx).await?;
    for (id, Json(definition)) in alerts {
        let Some(measured) = renamed(&definition.measured) else { continue };
        let definition = Watched { measured, ..definition };
        let sql = "UPDATE alert SET definition = $2, revision = revision + 1 WHERE id = $1";
        sqlx::query(sql).bind(id).bind(Json(definition)).execute(&mut *tx).await?;
    }

    let key = Key::Attribute(Attribute::Family);
    let sql = "SELECT id, says FROM saved_query WHERE site_id = $1 ORDER BY id FOR UPDATE";
    let queries: Vec<(i32, String)> = sqlx::query_as(sql).bind(site_id).fetch_all(&mut *tx).await?;
    for (id, text) in queries {
        let query: Query = text.parse().map_err(|_| content("saved_query.says", &text))?;
        let Some(query) = query.renamed(&key, was, is) else { continue };
        let sql = "UPDATE saved_query SET says = $2 WHERE id = $1";
        sqlx::query(sql).bind(id).bind(query.to_string()).execute(&mut *tx).await?;
    }

    let sql = "SELECT id, definition FROM saved_view WHERE site_id = $1 ORDER BY id FOR UPDATE";
    let views: Vec<(i32, Json<SavedView>)> =
        sqlx::query_as(sql).bind(site_id).fetch_all(&mut *tx).await?;
    for (id, Json(definition)) in views {
        let Some(definition) = definition.renamed(&key, was, is) else { continue };
        let sql = "UPDATE saved_view SET definition = $2, version = version + 1 WHERE id = $1";
        sqlx::query(sql).bind(id).bind(Json(definition)).execute(&mut *tx).await?;
    }

    let sql = "SELECT id, definition FROM report WHERE site_id = $1 ORDER BY id FOR UPDATE";
    let reports: Vec<(i32, Json<Issued>)> =
        sqlx::query_as(sql).bind(site_id).fetch_all(&mut *tx).await?;
    for (id, Json(definition)) in reports {
        let Some(definition) = definition.renamed(&key, was, is) else { continue };
        let sql = "UPDATE report SET definition = $2, version = version + 1 WHERE id = $1";
        sqlx::query(sql).bind(id).bind(Json(definition)).execute(&mut *tx).await?;
    }

    let sql = "SELECT v.goal_id, v.version, v.definition FROM goal g JOIN goal_version v ON v.goal_id = g.id
               WHERE g.site_id = $1 ORDER BY 1, 2 FOR UPDATE";
    let versions: Vec<(i32, i32, Json<Promised>)> =
        sqlx::query_as(sql).bind(site_id).fetch_all(&mut *tx).await?;
    for (goal_id, version, Json(definition)) in versions {
        let Some(of) = definition.measure.of_page_views().and_then(renamed) else { continue };
        let definition = Promised { measure: Measure::Experience(of), ..definition };
        let sql = "UPDATE goal_version SET definition = $3 WHERE goal_id = $1 AND version = $2";
        let set = sqlx::query(sql).bind(goal_id).bind(version).bind(Json(definition));
        set.execute(&mut *tx).await?;
    }
    Ok(())
}
