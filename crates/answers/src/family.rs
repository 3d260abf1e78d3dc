//! One page family: how it did, and what single page views of it tell.

use crate::views::Views;
use crate::visitors::compared;
use crate::{Answers, Range, Result, compute};
use cadentis_core::goal::budget::Budget;
use cadentis_core::timing::Vital;
use cadentis_core::visitor::errors::{Kind, kinds};
use cadentis_core::visitor::load_parts::{self, PartsMs, around_p75, moments};
use cadentis_core::visitor::party::{self, Party, third_parties};
use cadentis_core::visitor::slices::{Named, by_name, every_hour, rows};
use cadentis_core::visitor::{Attribute, Seen};
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use cadentis_store::visits::with_filter;

/// How a page family did.
pub struct Family {
    /// Its page views, over time.
    pub views: Views,
    /// Those of what the stretch is compared with.
    pub before: Option<Views>,
    /// Page views of all families in the stretch.
    pub whole: u64,
    /// The site's limits.
    pub budgets: Vec<Budget>,
}

/// How this family did; `None` when nobody looked at it in the stretch nor in what it is compared with.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn ask(
    answers: &Answers,
    site_id: i32,
    range: &Range,
    name: &str,
    vitals: &[Vital],
) -> Result<Option<Family>> {
    let by = Attribute::Family;
    let (views, before, budgets) = futures::try_join!(
        Views::load(
            answers,
            site_id,
            range.stretch,
            &range.filter,
            by.clone(),
            vitals,
            range.points
        ),
        compared(answers, site_id, range, by, vitals),
        async { Ok(answers.db.budgets(site_id).await?) },
    )?;
    let whole = views.all().page_views;
    let (views, before) = (views.only(name), before.map(|b| b.only(name)));
    let seen =
        views.all().page_views > 0 || before.as_ref().is_some_and(|b| b.all().page_views > 0);
    Ok(seen.then_some(Family { views, before, whole, budgets }))
}

/// Where a vital comes from: page views by the element or script that it is due to.
pub struct Origin {
    /// The column that names it.
    pub column: &'static str,
    /// The vital that is due to it.
    pub vital: Vital,
    /// Columns whose medians are told beside.
    pub beside: &'static [&'static str],
}

/// What is looked at of each family.
pub const ORIGINS: [Origin; 4] = [
    Origin {
        column: "lcp_element",
        vital: Vital::Lcp,
        beside: &["ttfb", "lcp_delay", "lcp_fetch", "lcp_render"],
    },
    Origin { column: "inp_element", vital: Vital::Inp, beside: &[] },
    Origin { column: "inp_script", vital: Vital::Inp, beside: &[] },
    Origin { column: "cls_element", vital: Vital::Cls, beside: &[] },
];

/// What single page views of a family tell.
pub struct Loads {
    /// Its page views by release, over time.
    pub by_release: Views,
    /// Every so manieth hour was read: 1 when all were.
    pub every: i64,
    /// How many page views were read.
    pub read: u64,
    /// Of how many LCP is known.
    pub with_lcp: u64,
    /// Where the time until LCP went, in means over so many page views around the 75th percentile.
    pub spent: Option<(PartsMs, usize)>,
    /// For each of [`ORIGINS`], the elements or scripts with most page views first.
    pub named: Vec<Vec<Named>>,
    /// Hosts of others, the costliest first.
    pub parties: Vec<Party>,
    /// The slowest page views by LCP.
    pub slowest: Vec<Seen>,
    /// What went wrong, by kinds.
    pub kinds: Vec<Kind>,
    /// How many of them were read.
    pub errors: u64,
}

/// So many script errors of one family are read at most, the newest.
const MOST_ERRORS: usize = 5_000;
/// So many of the slowest page views are told.
const SLOWEST: usize = 12;

/// What single page views of this family tell.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn loads(
    answers: &Answers,
    site: &Site,
    range: &Range,
    name: &str,
    vitals: &[Vital],
) -> Result<Loads> {
    let filter = range.filter.clone().and(Attribute::Family, name);
    let (site_id, past) = (site.id, range.stretch);
    let columns: Vec<&str> = ORIGINS
        .iter()
        .flat_map(|o| o.beside.iter().copied().chain([o.column]))
        .chain(["inp", "cls"])
        .chain(load_parts::COLUMNS)
        .collect();
    let (columns, told) = (with_filter(&columns, &filter), with_filter(&party::COLUMNS, &filter));
    let by = Attribute::Release;
    let by_release = Views::load(answers, site_id, past, &filter, by, vitals, range.points).await?;
    let every = every_hour(by_release.all().page_views);
    let (sheets, slowest, errors, told) = futures::try_join!(
        answers.db.some_hours_of(Filed::PageViews, site_id, past, &columns, every),
        answers.db.slowest_page_views(site_id, past, &filter, Vital::Lcp, SLOWEST),
        answers.db.errors(site_id, past, &filter, MOST_ERRORS),
        answers.db.some_hours_of(Filed::Happenings, site_id, past, &told, every),
    )?;
    let site = site.clone();
    let computing = answers.computed(move || {
        let kept = |s| rows(s, past, &filter).iter().filter(|keep| **keep).count();
        let moments = moments(&sheets, past, &filter);
        let by_origin = |o: &Origin| {
            compute::go_on();
            by_name(&sheets, past, &filter, o.column, &o.vital.name().to_lowercase(), o.beside)
        };
        Loads {
            every,
            read: sheets.iter().map(kept).sum::<usize>() as u64,
            with_lcp: moments.len() as u64,
            spent: around_p75(&moments),
            named: ORIGINS.iter().map(by_origin).collect(),
            parties: third_parties(&told, past, &filter, |host| site.owns(host)),
            slowest,
            kinds: kinds(&errors),
            errors: errors.len() as u64,
            by_release,
        }
    });
    computing.await
}
