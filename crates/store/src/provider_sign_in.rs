//! What was begun at a provider of OpenID Connect and waits for its answer.

use crate::db::{Db, Result};
use sqlx::FromRow;
use uuid::Uuid;

/// So long somebody may take at the provider, in seconds.
pub const BEGUN_S: i64 = 600;
/// So many wait at most; of more the oldest are given up. Anybody can begin.
const MOST: i64 = 20_000;

/// What was begun.
#[derive(Debug, Clone, PartialEq, Eq, FromRow)]
pub struct Begun {
    /// SHA-256 of what the cookie of the browser holds.
    pub browser: Vec<u8>,
    /// What stands in the token.
    pub nonce: String,
    /// What only whoever began can show for the code.
    pub verifier: String,
    /// Where whoever it is wanted to go.
    pub way_on: String,
    /// The session whose owner proves again who they are.
    pub session: Option<Uuid>,
    /// Seconds since 1970.
    pub begun_at_s: i64,
}

impl Db {
    /// Keeps what was begun; the answer comes with what `state` is the SHA-256 of.
    pub async fn begin_at_provider(&self, state: &[u8], begun: &Begun) -> Result<()> {
        let mut tx = self.lane.begin().await?;
        let sql = "DELETE FROM provider_sign_in WHERE begun_at < now() - $1 * interval '1 second'
                     OR state IN (SELECT state FROM provider_sign_in ORDER BY begun_at DESC OFFSET $2)";
        sqlx::query(sql).bind(BEGUN_S as f64).bind(MOST - 1).execute(&mut *tx).await?;
        let sql = "INSERT INTO provider_sign_in (state, browser, nonce, verifier, way_on, session)
                   VALUES ($1, $2, $3, $4, $5, $6)";
        let add = sqlx::query(sql).bind(state).bind(&begun.browser).bind(&begun.nonce);
        let add = add.bind(&begun.verifier).bind(&begun.way_on).bind(begun.session);
        add.execute(&mut *tx).await?;
        tx.commit().await?;
        Ok(())
    }

    /// Lets whatever was begun be so many seconds older: for tests of what ends.
    pub async fn age_sign_ins(&self, by_s: i64) -> Result<()> {
        let sql = "UPDATE provider_sign_in SET begun_at = begun_at - $1 * interval '1 second'";
        sqlx::query(sql).bind(by_s as f64).execute(&self.lane).await?;
        Ok(())
    }

    /// Takes what was begun, once: an answer that comes again, or late, finds nothing.
    pub async fn take_begun(&self, state: &[u8]) -> Result<Option<Begun>> {
        let sql = "DELETE FROM provider_sign_in WHERE state = $1
                   RETURNING browser, nonce, verifier, way_on, session,
                     extract(epoch FROM begun_at)::bigint AS begun_at_s, begun_at > now() - $2 * interval '1 second' AS is_good";
        #[derive(FromRow)]
        struct Taken {
            #[sqlx(flatten)]
            begun: Begun,
            is_good: bool,
        }
        let taken: Option<Taken> =
            sqlx::query_as(sql).bind(state).bind(BEGUN_S as f64).fetch_optional(&self.lane).await?;
        Ok(taken.filter(|t| t.is_good).map(|t| t.begun))
    }
}
