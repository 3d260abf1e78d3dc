//! What went wrong in pages, gathered into kinds.

use crate::views::Views;
use crate::{Answers, Range, Result};
use cadentis_core::visitor::Attribute;
use cadentis_core::visitor::errors::{Kind, Occurrence, kinds};
use cadentis_core::visitor::happening::pattern;
use cadentis_core::visitor::timeline::{Bucket, Timeline};
use futures::future::OptionFuture;

/// So many are read at most, the newest.
pub const MOST: usize = 20_000;

/// What went wrong.
pub struct Errors {
    /// Each kind once, the one that touched most visits first.
    pub kinds: Vec<Kind>,
    /// How many were read.
    pub read: u64,
    /// Whether there were more than could be read: then only the newest were.
    pub cut: bool,
    /// The course of the chosen kind, or of all; `None` when not all were read.
    pub over: Option<Vec<Bucket>>,
    /// The same of what the stretch is compared with.
    pub over_before: Option<Vec<Bucket>>,
    /// The page views they happened on, by time.
    pub views: Views,
    /// Those of what it is compared with.
    pub views_before: Option<Views>,
}

/// What went wrong on a site, and the course of one kind of it if `name` says which (by its pattern).
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    name: Option<&str>,
) -> Result<Errors> {
    let (filter, by) = (&range.filter, Attribute::Device);
    let found = async { Ok(answers.db.errors(site_id, range.stretch, filter, MOST).await?) };
    let found_before = async {
        match range.against {
            Some(a) => Ok(answers.db.errors(site_id, a, filter, MOST).await?),
            None => Ok(Vec::new()),
        }
    };
    let before: OptionFuture<_> = range
        .against
        .map(|a| Views::rolled(answers, site_id, a, filter, by.clone(), &[], range.points))
        .into();
    let (found, found_before, views, views_before) = futures::try_join!(
        found,
        found_before,
        Views::load(answers, site_id, range.stretch, filter, by.clone(), &[], range.points),
        async { before.await.transpose() },
    )?;
    let (bucket_s, name) = (views.bucket_s, name.map(String::from));
    let (kinds, over, over_before, read) = answers
        .computed(move || {
            let over = |found: &[Occurrence]| course(found, name.as_deref(), bucket_s);
            (kinds(&found), over(&found), over(&found_before), found.len())
        })
        .await?;
    Ok(Errors {
        kinds,
        read: read as u64,
        cut: read == MOST,
        over,
        over_before,
        views,
        views_before,
    })
}

/// How many there were over time; of what was not read to its end no line could be drawn.
fn course(found: &[Occurrence], name: Option<&str>, bucket_s: i64) -> Option<Vec<Bucket>> {
    if found.len() == MOST {
        return None;
    }
    let mut over = Timeline::new(bucket_s);
    let wanted = found.iter().filter(|o| name.is_none_or(|n| pattern(&o.text) == *n));
    wanted.for_each(|o| over.add(o.at.as_millisecond(), true, None));
    Some(over.buckets())
}
