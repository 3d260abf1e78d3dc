//! People: who they are and what they may do, and the links that let somebody in once.

use crate::db::{Db, Result};
use cadentis_core::access::Role;
use jiff::Timestamp;
use sqlx::{PgConnection, Row};

/// Somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// Their id.
    pub id: i32,
    /// In lower case.
    pub email: String,
    /// Their name.
    pub name: String,
    /// Looks after the installation.
    pub is_administrator: bool,
    /// Sees single visits and persons.
    pub sees_people: bool,
    /// Whether they have chosen a password.
    pub has_password: bool,
    /// Since when they may not sign in any more.
    pub gone_at: Option<Timestamp>,
    /// Their role on each site that they are a member of.
    pub roles: Vec<(i32, Role)>,
    /// Who they are at the provider that they sign in by.
    pub subject: Option<String>,
    /// The groups that they were in there when they signed in last.
    pub groups: Vec<String>,
}

/// What somebody may do.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Given {
    /// Looks after the installation.
    pub is_administrator: bool,
    /// Sees single visits and persons.
    pub sees_people: bool,
    /// Their role on each site that they are a member of.
    pub roles: Vec<(i32, Role)>,
}

/// What became of a change of somebody's rights.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Changed {
    /// It was done.
    Done,
    /// There is nobody with this id.
    Nobody,
    /// Nobody would look after the installation any more.
    LastAdministrator,
}

/// What [`person`] reads of a `person p`, but for their roles.
pub(crate) const COLUMNS: &str = "p.id, p.email, p.name, p.is_administrator, p.sees_people, p.password IS NOT NULL AS has_password,
       p.gone_at, p.subject, p.groups";

/// Reads people: those that what follows it says.
fn people(which: &str) -> String {
    format!(
        "SELECT {COLUMNS}, coalesce(array_agg(m.site_id) FILTER (WHERE m.site_id IS NOT NULL), '{{}}') AS sites,
           coalesce(array_agg(m.role) FILTER (WHERE m.site_id IS NOT NULL), '{{}}') AS roles
         FROM person p LEFT JOIN member m ON m.person_id = p.id {which}"
    )
}

pub(crate) fn person(row: &sqlx::postgres::PgRow) -> Result<Person> {
    let (sites, roles): (Vec<i32>, Vec<String>) = (row.try_get("sites")?, row.try_get("roles")?);
    let gone_at: Option<jiff_sqlx::Timestamp> = row.try_get("gone_at")?;
    Ok(Person {
        id: row.try_get("id")?,
        email: row.try_get("email")?,
        name: row.try_get("name")?,
        is_administrator: row.try_get("is_administrator")?,
        sees_people: row.try_get("sees_people")?,
        has_password: row.try_get("has_password")?,
        gone_at: gone_at.map(|at| at.to_jiff()),
        subject: row.try_get("subject")?,
        groups: row.try_get("groups")?,
        roles: sites.into_iter().zip(roles.iter().filter_map(|r| Role::of(r))).collect(),
    })
}

impl Db {
    /// Adds somebody without a password; `None` when the address is somebody's already.
    pub async fn add_person(&self, email: &str, name: &str, given: &Given) -> Result<Option<i32>> {
        let mut tx = self.lane.begin().await?;
        let id = insert(&mut tx, email, name, given).await?;
        tx.commit().await?;
        Ok(id)
    }

    /// Everybody, those who are gone last.
    pub async fn people(&self) -> Result<Vec<Person>> {
        let sql = people("GROUP BY p.id ORDER BY p.gone_at IS NOT NULL, p.name, p.id");
        let rows = sqlx::query(sqlx::AssertSqlSafe(sql)).fetch_all(&self.lane).await?;
        rows.iter().map(person).collect()
    }

    /// Who has this address, with the hash of their password; nobody who is gone.
    pub async fn person_at(&self, email: &str) -> Result<Option<(Person, Option<String>)>> {
        let sql = people("WHERE p.email = $1 AND p.gone_at IS NULL GROUP BY p.id");
        let row =
            sqlx::query(sqlx::AssertSqlSafe(sql)).bind(email).fetch_optional(&self.lane).await?;
        let Some(row) = row else { return Ok(None) };
        let found = person(&row)?;
        let hash = self.password_of(found.id).await?;
        Ok(Some((found, hash)))
    }

    /// The hash of somebody's password.
    pub async fn password_of(&self, id: i32) -> Result<Option<String>> {
        let sql = "SELECT password FROM person WHERE id = $1 AND gone_at IS NULL";
        let found: Option<Option<String>> =
            sqlx::query_scalar(sql).bind(id).fetch_optional(&self.lane).await?;
        Ok(found.flatten())
    }

    /// Whether nobody looks after the installation yet. Somebody may be here who came by a provider.
    pub async fn has_nobody(&self) -> Result<bool> {
        let sql = format!("SELECT {NOBODY}");
        Ok(sqlx::query_scalar(sqlx::AssertSqlSafe(sql)).fetch_one(&self.lane).await?)
    }

    /// Sets somebody's password. Whoever was signed in as them is so no more, and no link lets anybody in.
    pub async fn set_password(&self, id: i32, hash: &str) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        put_password(&mut tx, id, hash).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Changes what somebody may do: of sites that are not named they are no member any more.
    pub async fn set_given(&self, id: i32, given: &Given) -> Result<Changed> {
        let mut tx = self.lane.begin().await?;
        if !given.is_administrator && leaves_none(&mut tx, id).await? {
            return Ok(Changed::LastAdministrator);
        }
        let sql = "UPDATE person SET is_administrator = $2, sees_people = $3 WHERE id = $1";
        let done = sqlx::query(sql).bind(id).bind(given.is_administrator).bind(given.sees_people);
        if done.execute(&mut *tx).await?.rows_affected() == 0 {
            return Ok(Changed::Nobody);
        }
        let sql = "DELETE FROM member WHERE person_id = $1";
        sqlx::query(sql).bind(id).execute(&mut *tx).await?;
        put_roles(&mut tx, id, &given.roles).await?;
        tx.commit().await?;
        Ok(Changed::Done)
    }

    /// Lets somebody sign in no more, at once: their sessions end. Or lets them again.
    pub async fn set_gone(&self, id: i32, gone: bool) -> Result<Changed> {
        let mut tx = self.lane.begin().await?;
        if gone && leaves_none(&mut tx, id).await? {
            return Ok(Changed::LastAdministrator);
        }
        let sql = "UPDATE person SET gone_at = CASE WHEN $2 THEN coalesce(gone_at, now()) END WHERE id = $1";
        let done = sqlx::query(sql).bind(id).bind(gone).execute(&mut *tx).await?;
        if done.rows_affected() == 0 {
            return Ok(Changed::Nobody);
        }
        for sql in [
            "DELETE FROM session WHERE person_id = $1",
            "DELETE FROM door_link WHERE person_id = $1",
        ] {
            sqlx::query(sql).bind(id).execute(&mut *tx).await?;
        }
        tx.commit().await?;
        Ok(Changed::Done)
    }

    /// Keeps a link for so many seconds: it sets the password of `person_id`, whose older one is worth nothing afterwards, or
    /// makes the first administrator: each server that starts meanwhile makes one.
    pub async fn add_link(&self, token: &[u8], person_id: Option<i32>, for_s: i64) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        sqlx::query("DELETE FROM door_link WHERE person_id = $1")
            .bind(person_id)
            .execute(&mut *tx)
            .await?;
        let sql = "INSERT INTO door_link (token, person_id, ends_at) VALUES ($1, $2, now() + $3 * interval '1 second')";
        let add = sqlx::query(sql).bind(token).bind(person_id).bind(for_s as f64);
        add.execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// For whom a link is, if it is still good: their name and address, or nobody yet.
    pub async fn link(&self, token: &[u8]) -> Result<Option<Option<(i32, String, String)>>> {
        let sql = format!(
            "SELECT l.person_id, p.name, p.email FROM door_link l LEFT JOIN person p ON p.id = l.person_id
             WHERE l.token = $1 AND l.ends_at > now() AND p.gone_at IS NULL AND (l.person_id IS NOT NULL OR {NOBODY})"
        );
        let found: Option<(Option<i32>, Option<String>, Option<String>)> =
            sqlx::query_as(sqlx::AssertSqlSafe(sql)).bind(token).fetch_optional(&self.lane).await?;
        Ok(found.map(|(id, name, email)| Some((id?, name?, email?))))
    }

    /// Uses a link up: sets the password of whoever it is for. `first` is the address and name of the first administrator.
    /// Gives who it was, or `None` when the link is good no more.
    pub async fn use_link(
        &self,
        token: &[u8],
        first: Option<(&str, &str)>,
        hash: &str,
    ) -> Result<Option<i32>> {
        let mut tx = self.lane.begin().await?;
        // One at a time: two links for the first administrator make one.
        sqlx::query("LOCK TABLE door_link IN EXCLUSIVE MODE").execute(&mut *tx).await?;
        let sql = format!(
            "DELETE FROM door_link WHERE token = $1 AND ends_at > now() AND (person_id IS NOT NULL OR {NOBODY})
             RETURNING person_id"
        );
        let used: Option<Option<i32>> = sqlx::query_scalar(sqlx::AssertSqlSafe(sql))
            .bind(token)
            .fetch_optional(&mut *tx)
            .await?;
        let id = match (used, first) {
            (None, _) | (Some(None), None) => return Ok(None),
            (Some(Some(id)), _) => id,
            (Some(None), Some((email, name))) => {
                let given = Given { is_administrator: true, sees_people: true, roles: Vec::new() };
                match insert(&mut tx, email, name, &given).await? {
                    Some(id) => id,
                    None => match make_administrator(&mut tx, email).await? {
                        Some(id) => id,
                        None => return Ok(None),
                    },
                }
            }
        };
        put_password(&mut tx, id, hash).await?;
        tx.commit().await?;
        Ok(Some(id))
    }
}

/// Whether nobody looks after the installation; once somebody does there is always somebody.
const NOBODY: &str = "NOT EXISTS (SELECT FROM person WHERE is_administrator)";

/// Whoever has this address and came by a provider looks after the installation from now on.
async fn make_administrator(tx: &mut PgConnection, email: &str) -> Result<Option<i32>> {
    let sql = "UPDATE person SET is_administrator = true, sees_people = true WHERE email = $1 AND gone_at IS NULL
               RETURNING id";
    Ok(sqlx::query_scalar(sql).bind(email).fetch_optional(tx).await?)
}

pub(crate) async fn insert(
    tx: &mut PgConnection,
    email: &str,
    name: &str,
    given: &Given,
) -> Result<Option<i32>> {
    let sql =
        "INSERT INTO person (email, name, is_administrator, sees_people) VALUES ($1, $2, $3, $4)
               ON CONFLICT DO NOTHING RETURNING id";
    let add = sqlx::query_scalar(sql).bind(email).bind(name).bind(given.is_administrator);
    let id: Option<i32> = add.bind(given.sees_people).fetch_optional(&mut *tx).await?;
    if let Some(id) = id {
        put_roles(tx, id, &given.roles).await?;
    }
    Ok(id)
}

pub(crate) async fn put_roles(tx: &mut PgConnection, id: i32, roles: &[(i32, Role)]) -> Result<()> {
    let (sites, roles): (Vec<i32>, Vec<&str>) =
        roles.iter().map(|(site, role)| (*site, role.word())).unzip();
    let sql =
        "INSERT INTO member SELECT $1, s, r FROM unnest($2::integer[], $3::text[]) AS given (s, r)
               ON CONFLICT (person_id, site_id) DO UPDATE SET role = excluded.role";
    sqlx::query(sql).bind(id).bind(sites).bind(roles).execute(tx).await?;
    Ok(())
}

async fn put_password(tx: &mut PgConnection, id: i32, hash: &str) -> Result<()> {
    let sql = "UPDATE person SET password = $2 WHERE id = $1 AND gone_at IS NULL";
    sqlx::query(sql).bind(id).bind(hash).execute(&mut *tx).await?;
    for sql in
        ["DELETE FROM session WHERE person_id = $1", "DELETE FROM door_link WHERE person_id = $1"]
    {
        sqlx::query(sql).bind(id).execute(&mut *tx).await?;
    }
    Ok(())
}

/// Whether nobody would look after the installation without this one. Administrators are locked: two who remove each
/// other do it one after the other.
pub(crate) async fn leaves_none(tx: &mut PgConnection, id: i32) -> Result<bool> {
    let sql =
        "SELECT id FROM person WHERE is_administrator AND gone_at IS NULL ORDER BY id FOR UPDATE";
    let administrators: Vec<i32> = sqlx::query_scalar(sql).fetch_all(tx).await?;
    Ok(administrators == [id])
}
