//! Where statements go: each to any connection of the pool, or all to one transaction, so that a change and the line that
//! tells of it are there both or neither.

use crate::db::{Db, Result, content};
use futures::StreamExt;
use futures::future::BoxFuture;
use futures::stream::{self, BoxStream};
use sqlx::postgres::{PgPool, PgQueryResult, PgRow, PgStatement, PgTypeInfo, Postgres};
use sqlx::{Describe, Either, Error, Execute, Executor, PgConnection, SqlStr, Transaction};
use std::ops::{Deref, DerefMut};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use tokio::sync::{Mutex, OwnedMappedMutexGuard, OwnedMutexGuard};

type Whole = Transaction<'static, Postgres>;

/// Where statements go.
#[derive(Debug, Clone)]
pub(crate) struct Lane {
    pool: PgPool,
    one: Option<Arc<One>>,
}

/// A transaction that several hands write into, one after the other.
#[derive(Debug)]
struct One {
    whole: Arc<Mutex<Option<Whole>>>,
    /// A statement failed, or a part was given up: nothing of the whole may stay.
    is_spoilt: AtomicBool,
}

impl One {
    async fn lock(
        &self,
    ) -> std::result::Result<OwnedMappedMutexGuard<Option<Whole>, Whole>, Error> {
        let guard = self.whole.clone().lock_owned().await;
        // It is over: whoever still writes has kept a handle for too long.
        OwnedMutexGuard::try_map(guard, Option::as_mut).map_err(|_| Error::PoolClosed)
    }
}

impl Lane {
    pub(crate) fn any(pool: PgPool) -> Lane {
        Lane { pool, one: None }
    }

    /// The pool itself: for what cannot be a part of a whole.
    pub(crate) fn pool(&self) -> &PgPool {
        &self.pool
    }

    /// A transaction of its own. Whoever asks may go away in the middle of its beginning: SQLx would then give the connection
    /// back with the transaction open, so it is begun to its end whoever waits, and rolled back when nobody does.
    pub(crate) async fn whole(&self, begin: &'static str) -> std::result::Result<Whole, Error> {
        let pool = self.pool.clone();
        let begun = tokio::spawn(async move { pool.begin_with(begin).await }).await;
        begun.unwrap_or(Err(Error::WorkerCrashed))
    }

    /// A transaction, or a part of the one that everything goes to.
    pub(crate) async fn begin(&self) -> std::result::Result<Part, Error> {
        Ok(match &self.one {
            None => Part::Own(self.whole("BEGIN").await?),
            Some(one) => {
                let guard = one.lock().await?;
                Part::Of(Share { guard, one: one.clone(), is_done: false })
            }
        })
    }
}

/// A transaction of its own, or a part of one.
#[derive(Debug)]
pub(crate) enum Part {
    Own(Whole),
    Of(Share),
}

/// A part of a transaction. Given up without being committed it spoils the whole.
#[derive(Debug)]
pub(crate) struct Share {
    guard: OwnedMappedMutexGuard<Option<Whole>, Whole>,
    one: Arc<One>,
    is_done: bool,
}

impl Drop for Share {
    fn drop(&mut self) {
        if !self.is_done {
            self.one.is_spoilt.store(true, Ordering::Relaxed);
        }
    }
}

impl Part {
    pub(crate) async fn commit(self) -> std::result::Result<(), Error> {
        match self {
            Part::Own(own) => own.commit().await,
            Part::Of(mut share) => {
                share.is_done = true;
                Ok(())
            }
        }
    }

    pub(crate) async fn rollback(self) -> std::result::Result<(), Error> {
        match self {
            Part::Own(own) => own.rollback().await,
            Part::Of(_) => Ok(()),
        }
    }
}

impl Deref for Part {
    type Target = PgConnection;

    fn deref(&self) -> &PgConnection {
        match self {
            Part::Own(own) => own,
            Part::Of(share) => &share.guard,
        }
    }
}

impl DerefMut for Part {
    fn deref_mut(&mut self) -> &mut PgConnection {
        match self {
            Part::Own(own) => own,
            Part::Of(share) => &mut share.guard,
        }
    }
}

impl<'c> Executor<'c> for &Lane {
    type Database = Postgres;

    fn fetch_many<'e, 'q: 'e, E>(
        self,
        query: E,
    ) -> BoxStream<'e, std::result::Result<Either<PgQueryResult, PgRow>, Error>>
    where
        'c: 'e,
        E: 'q + Execute<'q, Postgres>,
    {
        let Some(one) = self.one.clone() else { return (&self.pool).fetch_many(query) };
        // Whole: whoever reads half of it would keep all others from writing.
        let all = async move {
            let mut whole = match one.lock().await {
                Ok(whole) => whole,
                Err(e) => return vec![Err(e)],
            };
            let all: Vec<_> = (&mut **whole).fetch_many(query).collect().await;
            if all.iter().any(std::result::Result::is_err) {
                one.is_spoilt.store(true, Ordering::Relaxed);
            }
            all
        };
        stream::once(all).flat_map(stream::iter).boxed()
    }

    fn fetch_optional<'e, 'q: 'e, E>(
        self,
        query: E,
    ) -> BoxFuture<'e, std::result::Result<Option<PgRow>, Error>>
    where
        'c: 'e,
        E: 'q + Execute<'q, Postgres>,
    {
        let Some(one) = self.one.clone() else { return (&self.pool).fetch_optional(query) };
        Box::pin(async move {
            let mut whole = one.lock().await?;
            let found = (&mut **whole).fetch_optional(query).await;
            found.inspect_err(|_| one.is_spoilt.store(true, Ordering::Relaxed))
        })
    }

    fn prepare_with<'e>(
        self,
        sql: SqlStr,
        parameters: &'e [PgTypeInfo],
    ) -> BoxFuture<'e, std::result::Result<PgStatement, Error>>
    where
        'c: 'e,
    {
        let Some(one) = self.one.clone() else {
            return (&self.pool).prepare_with(sql, parameters);
        };
        Box::pin(async move { (&mut **one.lock().await?).prepare_with(sql, parameters).await })
    }

    fn describe<'e>(
        self,
        sql: SqlStr,
    ) -> BoxFuture<'e, std::result::Result<Describe<Postgres>, Error>>
    where
        'c: 'e,
    {
        let Some(one) = self.one.clone() else { return (&self.pool).describe(sql) };
        Box::pin(async move { (&mut **one.lock().await?).describe(sql).await })
    }
}

/// A transaction that a [`Db`] writes into, until it is committed or given up.
#[derive(Debug)]
pub struct OneChange {
    one: Arc<One>,
}

impl OneChange {
    /// Keeps all that was written.
    ///
    /// # Errors
    /// When the database does not answer, or something of it failed: then nothing is kept.
    pub async fn commit(self) -> Result<()> {
        let whole = self.one.whole.lock().await.take();
        match whole {
            Some(whole) if !self.one.is_spoilt.load(Ordering::Relaxed) => {
                Ok(whole.commit().await?)
            }
            _ => Err(content("a change", "a part of it was given up, so nothing of it is kept")),
        }
    }
}

impl Db {
    /// The same database with everything that is written through it in one transaction. Given up without being committed,
    /// nothing of it is kept.
    pub async fn in_one(&self) -> Result<(Db, OneChange)> {
        let whole = self.lane.whole("BEGIN").await?;
        let whole = Arc::new(Mutex::new(Some(whole)));
        let one = Arc::new(One { whole, is_spoilt: AtomicBool::new(false) });
        let lane = Lane { pool: self.lane.pool().clone(), one: Some(one.clone()) };
        Ok((self.on(lane), OneChange { one }))
    }
}
