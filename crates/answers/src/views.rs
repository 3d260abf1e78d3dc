//! Page views of a stretch, pooled by bucket of time and by an attribute.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::slices::{Selection, in_halves, is_read_exactly, pools};
use cadentis_core::visitor::timeline::is_whole;
use cadentis_core::visitor::{Attribute, Filter, Pool, Sheet};
use cadentis_store::sheet::Filed;
use std::collections::BTreeMap;

/// Page views of a stretch, pooled.
pub struct Views {
    /// Seconds of a bucket.
    pub bucket_s: i64,
    /// By (beginning of the bucket in seconds, value of the attribute).
    pools: Vec<(i64, String, Pool)>,
}

/// A bucket of a course: its middle in seconds since 1970, and what it comes to.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// In seconds since 1970.
    pub middle_s: i64,
    /// In the unit of what is drawn.
    pub value: f64,
}

impl Views {
    /// Reads the stretch in at most `most` buckets. `by` is what they are told apart by.
    pub async fn load(
        answers: &Answers,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        by: Attribute,
        vitals: &[Vital],
        most: i64,
    ) -> Result<Views> {
        if is_read_exactly(stretch) {
            return Views::filed(
                answers,
                site_id,
                stretch,
                filter,
                by,
                vitals,
                stretch.bucket_seconds(most),
            )
            .await;
        }
        Views::rolled(answers, site_id, stretch, filter, by, vitals, most).await
    }

    /// Reads whole hours, however short the stretch: for lines beside others.
    pub async fn rolled(
        answers: &Answers,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        by: Attribute,
        vitals: &[Vital],
        most: i64,
    ) -> Result<Views> {
        let bucket_s = stretch.bucket_seconds(most).max(3_600);
        if !filter.is_empty() || !Attribute::ROLLED.contains(&by) {
            return Views::filed(answers, site_id, stretch, filter, by, vitals, bucket_s).await;
        }
        let by = [by];
        let [views] = Views::of_cells(answers, site_id, stretch, &by, vitals, bucket_s).await?;
        Ok(views)
    }

    /// Whole hours by each of these attributes, all read at once.
    async fn of_cells<const N: usize>(
        answers: &Answers,
        site_id: i32,
        stretch: Stretch,
        by: &[Attribute; N],
        vitals: &[Vital],
        bucket_s: i64,
    ) -> Result<[Views; N]> {
        let cells = match bucket_s % 86_400 {
            0 => answers.db.cells_by_day(site_id, stretch, by, vitals).await?,
            _ => answers.db.cells(site_id, stretch, by, vitals).await?,
        };
        let mut pools: [BTreeMap<(i64, String), Pool>; N] =
            std::array::from_fn(|_| BTreeMap::new());
        for c in cells {
            let bucket = c.hour.as_second().div_euclid(bucket_s) * bucket_s;
            let Some(of_attribute) = pools.get_mut(c.by) else { continue };
            let pool = of_attribute.entry((bucket, c.value)).or_default();
            pool.count(c.cell.page_views, c.cell.abandoned, c.cell.blank, c.cell.with_errors);
            pool.add_rated(&c.cell.vitals);
        }
        Ok(pools.map(|pools| Views {
            bucket_s,
            pools: pools.into_iter().map(|((b, v), p)| (b, v, p)).collect(),
        }))
    }

    /// The whole stretch in one bucket, told apart by each of these attributes: columns that several of them need are
    /// read once.
    ///
    /// # Errors
    /// When the database does not answer or too much waits.
    pub async fn by_each<const N: usize>(
        answers: &Answers,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        attributes: &[Attribute; N],
        vitals: &[Vital],
    ) -> Result<[Views; N]> {
        let exact = is_read_exactly(stretch);
        if !exact && filter.is_empty() && attributes.iter().all(|a| Attribute::ROLLED.contains(a)) {
            let bucket_s = stretch.bucket_seconds(1).max(3_600);
            return Views::of_cells(answers, site_id, stretch, attributes, vitals, bucket_s).await;
        }
        let bucket_s =
            if exact { stretch.bucket_seconds(1) } else { stretch.bucket_seconds(1).max(3_600) };
        let (filter, vitals, attributes) = (filter.clone(), vitals.to_vec(), attributes.clone());
        let mut columns: Vec<String> = Vec::new();
        for by in &attributes {
            let wanted = Selection {
                stretch,
                filter: &filter,
                bucket_s,
                by: Some(by),
                vitals: &vitals,
                exact,
            };
            columns.extend(wanted.columns());
        }
        columns.sort();
        columns.dedup();
        let sheets = answers.db.sheets_of(Filed::PageViews, site_id, stretch, &columns).await?;
        let computing = answers.computed(move || {
            let of = |by: &Attribute| {
                let wanted = Selection {
                    stretch,
                    filter: &filter,
                    bucket_s,
                    by: Some(by),
                    vitals: &vitals,
                    exact,
                };
                Views { bucket_s, pools: pooled(&sheets, &wanted) }
            };
            attributes.each_ref().map(of)
        });
        computing.await
    }

    /// Reads the columns that are asked about, page view by page view.
    async fn filed(
        answers: &Answers,
        site_id: i32,
        stretch: Stretch,
        filter: &Filter,
        by: Attribute,
        vitals: &[Vital],
        bucket_s: i64,
    ) -> Result<Views> {
        let exact = is_read_exactly(stretch);
        let (filter, vitals) = (filter.clone(), vitals.to_vec());
        let wanted =
            Selection { stretch, filter: &filter, bucket_s, by: Some(&by), vitals: &vitals, exact };
        let sheets =
            answers.db.sheets_of(Filed::PageViews, site_id, stretch, &wanted.columns()).await?;
        answers
            .computed(move || {
                let wanted = Selection {
                    stretch,
                    filter: &filter,
                    bucket_s,
                    by: Some(&by),
                    vitals: &vitals,
                    exact,
                };
                Views { bucket_s, pools: pooled(&sheets, &wanted) }
            })
            .await
    }

    /// Everything in one.
    pub fn all(&self) -> Pool {
        self.gather(|_, _| true)
    }

    /// One pool a bucket, in order of time; only `value` of the attribute if given.
    pub fn buckets(&self, value: Option<&str>) -> Vec<(i64, Pool)> {
        let mut buckets: BTreeMap<i64, Pool> = BTreeMap::new();
        for (bucket, v, pool) in &self.pools {
            if value.is_none_or(|wanted| wanted == v) {
                buckets.entry(*bucket).or_default().absorb(pool);
            }
        }
        buckets.into_iter().collect()
    }

    /// The percentile `p` of a vital in each bucket that lies inside the stretch as a whole: half a bucket would draw a
    /// spike. Only `value` of the attribute if given.
    pub fn course(&self, value: Option<&str>, vital: Vital, p: f64, inside: Stretch) -> Vec<Point> {
        let point = |(begin_s, pool): (i64, Pool)| {
            let middle_s = begin_s + self.bucket_s / 2;
            let value = pool.measured(vital).reading(p).value?;
            is_whole(begin_s, self.bucket_s, inside).then_some(Point { middle_s, value })
        };
        self.buckets(value).into_iter().filter_map(point).collect()
    }

    /// Only those with this value of the attribute.
    pub fn only(&self, value: &str) -> Views {
        let pools = self.pools.iter().filter(|(_, v, _)| v == value).cloned().collect();
        Views { bucket_s: self.bucket_s, pools }
    }

    /// Each value of the attribute with the beginning of the first bucket it was seen in.
    pub fn since(&self) -> Vec<(String, i64, Pool)> {
        let mut values: BTreeMap<&str, (i64, Pool)> = BTreeMap::new();
        for (bucket, value, pool) in &self.pools {
            let (since, held) = values.entry(value).or_insert_with(|| (*bucket, Pool::default()));
            *since = (*since).min(*bucket);
            held.absorb(pool);
        }
        values.into_iter().map(|(value, (since, pool))| (value.to_string(), since, pool)).collect()
    }

    /// One pool a value of the attribute, most page views first.
    pub fn values(&self) -> Vec<(String, Pool)> {
        let mut values: BTreeMap<&str, Pool> = BTreeMap::new();
        for (_, value, pool) in &self.pools {
            values.entry(value).or_default().absorb(pool);
        }
        let mut values: Vec<(String, Pool)> =
            values.into_iter().map(|(v, p)| (v.to_string(), p)).collect();
        values.sort_by_key(|(_, p)| std::cmp::Reverse(p.page_views));
        values
    }

    fn gather(&self, wanted: impl Fn(i64, &str) -> bool) -> Pool {
        let mut all = Pool::default();
        for (bucket, value, pool) in &self.pools {
            if wanted(*bucket, value) {
                all.absorb(pool);
            }
        }
        all
    }
}

/// The pools of all hours, by bucket and value.
fn pooled(sheets: &[Sheet], wanted: &Selection<'_>) -> Vec<(i64, String, Pool)> {
    let (mut all, back) = in_halves(sheets, |half| {
        let mut by: BTreeMap<(i64, String), Pool> = BTreeMap::new();
        for (bucket, value, pool) in half.iter().flat_map(|s| pools(s, wanted)) {
            by.entry((bucket, value)).or_default().absorb(&pool);
        }
        by
    });
    for (key, pool) in back {
        all.entry(key).or_default().absorb(&pool);
    }
    let mut pools = Vec::with_capacity(all.len());
    while let Some(((bucket, value), pool)) = all.pop_first() {
        pools.push((bucket, value, pool));
    }
    pools
}
