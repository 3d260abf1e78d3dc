//! What groups of a provider give, and whoever comes with groups.

use crate::db::{Db, Result};
use crate::person::{self, Given};
use cadentis_core::access::Role;
use cadentis_core::groups::{Grant, Rule, by_groups};
use sqlx::{FromRow, PgConnection, PgExecutor};

/// A rule as it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptRule {
    /// Its id.
    pub id: i32,
    /// What it says.
    pub rule: Rule,
}

/// Whoever comes from a provider.
#[derive(Debug, Clone, Copy)]
pub struct Arriving<'a> {
    /// The provider.
    pub issuer: &'a str,
    /// Who they are there.
    pub subject: &'a str,
    /// Their address, if the provider has made sure that it is theirs.
    pub email: Option<&'a str>,
    /// Their name.
    pub name: &'a str,
    /// The groups that they are in.
    pub groups: &'a [String],
}

/// What became of whoever came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Arrived {
    /// They are somebody, by this id.
    In(i32),
    /// They may sign in no more.
    Gone,
    /// Their address belongs to somebody else of the provider.
    Taken,
    /// They are nobody here yet, and have no address that is surely theirs.
    NoAddress,
}

#[derive(FromRow)]
struct Row {
    id: i32,
    group_name: String,
    is_administrator: bool,
    sees_people: bool,
    site_id: Option<i32>,
    role: Option<String>,
    team_id: Option<i32>,
}

impl Row {
    fn rule(self) -> Option<KeptRule> {
        let role = self.role.as_deref().and_then(Role::of);
        let grant = match (self.site_id.zip(role), self.team_id) {
            (Some((site, role)), _) => Grant::Role(site, role),
            (None, Some(team)) => Grant::Team(team),
            (None, None) if self.is_administrator => Grant::Administrator,
            (None, None) if self.sees_people => Grant::People,
            (None, None) => return None,
        };
        Some(KeptRule { id: self.id, rule: Rule { group: self.group_name, grant } })
    }
}

async fn rules(conn: impl PgExecutor<'_>) -> Result<Vec<KeptRule>> {
    let sql = "SELECT id, group_name, is_administrator, sees_people, site_id, role, team_id FROM group_rule
               ORDER BY group_name, id";
    let rows: Vec<Row> = sqlx::query_as(sql).fetch_all(conn).await?;
    Ok(rows.into_iter().filter_map(Row::rule).collect())
}

impl Db {
    /// What groups give.
    pub async fn group_rules(&self) -> Result<Vec<KeptRule>> {
        rules(&self.lane).await
    }

    /// Adds a rule; `false` when there is such a one, or its site or team is not there.
    pub async fn add_group_rule(&self, rule: &Rule) -> Result<bool> {
        let (site, role, team) = match rule.grant {
            Grant::Role(site, role) => (Some(site), Some(role.word()), None),
            Grant::Team(team) => (None, None, Some(team)),
            Grant::Administrator | Grant::People => (None, None, None),
        };
        let sql =
            "INSERT INTO group_rule (group_name, is_administrator, sees_people, site_id, role, team_id)
                   SELECT $1, $2, $3, $4, $5, $6 WHERE ($4 IS NULL OR EXISTS (SELECT FROM site WHERE id = $4))
                     AND ($6 IS NULL OR EXISTS (SELECT FROM team WHERE id = $6)) ON CONFLICT DO NOTHING";
        let add = sqlx::query(sql).bind(&rule.group).bind(rule.grant == Grant::Administrator);
        let add = add.bind(rule.grant == Grant::People).bind(site).bind(role).bind(team);
        Ok(add.execute(&self.lane).await?.rows_affected() > 0)
    }

    /// Removes a rule: what it was.
    pub async fn remove_group_rule(&self, id: i32) -> Result<Option<KeptRule>> {
        let sql = "DELETE FROM group_rule WHERE id = $1
                   RETURNING id, group_name, is_administrator, sees_people, site_id, role, team_id";
        let row: Option<Row> = sqlx::query_as(sql).bind(id).fetch_optional(&self.lane).await?;
        Ok(row.and_then(Row::rule))
    }

    /// Who somebody of a provider is here, if they have come before.
    pub async fn id_at_provider(&self, issuer: &str, subject: &str) -> Result<Option<i32>> {
        let sql = "SELECT id FROM person WHERE issuer = $1 AND subject = $2";
        Ok(sqlx::query_scalar(sql).bind(issuer).bind(subject).fetch_optional(&self.lane).await?)
    }

    /// Somebody comes from a provider: who is known there is known here; who is not is whoever has the address, or somebody
    /// new who has only what their groups give. `beside` are rules that stand in the settings.
    pub async fn arrive(&self, who: &Arriving<'_>, beside: &[Rule]) -> Result<Arrived> {
        let mut tx = self.lane.begin().await?;
        let id = match known(&mut tx, who).await? {
            Arrived::In(id) => id,
            other => return Ok(other),
        };
        let kept = rules(&mut *tx).await?;
        let rules: Vec<Rule> =
            kept.into_iter().map(|k| k.rule).chain(beside.iter().cloned()).collect();
        put_groups(&mut tx, id, who.groups, &rules).await?;
        tx.commit().await?;
        Ok(Arrived::In(id))
    }
}

/// Who somebody of a provider is here; somebody new is made.
async fn known(tx: &mut PgConnection, who: &Arriving<'_>) -> Result<Arrived> {
    let sql =
        "SELECT id, gone_at IS NOT NULL FROM person WHERE issuer = $1 AND subject = $2 FOR UPDATE";
    let found: Option<(i32, bool)> =
        sqlx::query_as(sql).bind(who.issuer).bind(who.subject).fetch_optional(&mut *tx).await?;
    match found {
        Some((_, true)) => return Ok(Arrived::Gone),
        Some((id, false)) => return Ok(Arrived::In(id)),
        None => {}
    }
    let Some(email) = who.email else { return Ok(Arrived::NoAddress) };
    let nothing = Given { is_administrator: false, sees_people: false, roles: Vec::new() };
    // Two who come at once with one address: the second finds what the first made.
    person::insert(tx, email, who.name, &nothing).await?;
    let sql = "SELECT id, gone_at IS NOT NULL, subject IS NOT NULL FROM person WHERE email = $1 FOR UPDATE";
    let found: Option<(i32, bool, bool)> =
        sqlx::query_as(sql).bind(email).fetch_optional(&mut *tx).await?;
    let id = match found {
        None | Some((_, true, _)) => return Ok(Arrived::Gone),
        Some((_, false, true)) => return Ok(Arrived::Taken),
        Some((id, false, false)) => id,
    };
    let sql = "UPDATE person SET issuer = $2, subject = $3 WHERE id = $1";
    sqlx::query(sql).bind(id).bind(who.issuer).bind(who.subject).execute(&mut *tx).await?;
    Ok(Arrived::In(id))
}

/// Gives somebody what rules give, and takes what they do not; the last administrator stays one.
async fn put_groups(
    tx: &mut PgConnection,
    id: i32,
    groups: &[String],
    rules: &[Rule],
) -> Result<()> {
    let by = by_groups(rules, groups);
    let is_administrator = match by.is_administrator {
        Some(false) if person::leaves_none(tx, id).await? => None,
        given => given,
    };
    let sql = "UPDATE person SET groups = $2, is_administrator = coalesce($3, is_administrator),
                 sees_people = coalesce($4, sees_people) WHERE id = $1";
    let put = sqlx::query(sql).bind(id).bind(groups).bind(is_administrator).bind(by.sees_people);
    put.execute(&mut *tx).await?;
    let sites: Vec<i32> = by.roles.iter().map(|(site, _)| *site).collect();
    let sql = "DELETE FROM member WHERE person_id = $1 AND site_id = ANY ($2)";
    sqlx::query(sql).bind(id).bind(sites).execute(&mut *tx).await?;
    let given: Vec<(i32, Role)> =
        by.roles.into_iter().filter_map(|(site, role)| Some((site, role?))).collect();
    person::put_roles(tx, id, &given).await?;
    let (teams, is_in): (Vec<i32>, Vec<bool>) = by.teams.into_iter().unzip();
    let sql = "DELETE FROM team_member WHERE person_id = $1 AND team_id = ANY ($2)";
    sqlx::query(sql).bind(id).bind(&teams).execute(&mut *tx).await?;
    let sql = "INSERT INTO team_member SELECT t, $1 FROM unnest($2::integer[], $3::boolean[]) AS given (t, is_in)
               WHERE is_in";
    sqlx::query(sql).bind(id).bind(teams).bind(is_in).execute(tx).await?;
    Ok(())
}
