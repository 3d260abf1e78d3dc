//! How page views are collected: what page families would take of them, and work on their history.

use crate::{Answers, Result};
use cadentis_core::calendar::Stretch;
use cadentis_core::visitor::beside::proposals;
use cadentis_core::visitor::family::OTHER;
use cadentis_core::visitor::slices::rows;
use cadentis_core::visitor::{Families, Filter, Sheet, privacy};
use cadentis_store::sheet::Filed;
use cadentis_store::site::Site;
use cadentis_store::task::Task;
use jiff::SignedDuration;
use std::collections::BTreeMap;

/// A day is enough to see which pages there are.
const LOOKED_AT: SignedDuration = SignedDuration::from_hours(24);
/// The most paths that are told of a family.
const EXAMPLES: usize = 3;

/// What a family would take.
pub struct Taken {
    /// Its name.
    pub family: String,
    /// Page views.
    pub page_views: u64,
    /// Addresses.
    pub paths: usize,
    /// Some of them, the most visited first.
    pub examples: Vec<String>,
}

/// What families would take.
pub struct Preview {
    /// Page views in all.
    pub page_views: u64,
    /// Each family that takes something, the largest first.
    pub families: Vec<Taken>,
    /// Addresses that no family takes.
    pub loose: usize,
    /// Patterns for pages that none of the site's own families takes, and the page views of each, the largest first.
    pub proposals: Vec<(String, u64)>,
}

/// The most patterns that are proposed.
const PROPOSED: usize = 8;

/// What these patterns, each with the name of its family, would take of the last day of the stretch.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn preview(
    answers: &Answers,
    site: &Site,
    stretch: Stretch,
    patterns: &[(String, String)],
) -> Result<Preview> {
    let stretch = Stretch { from: stretch.from.max(stretch.to - LOOKED_AT), to: stretch.to };
    let path = ["path".to_string()];
    let sheets = answers.db.sheets_of(Filed::PageViews, site.id, stretch, &path).await?;
    let (patterns, families) = (patterns.to_vec(), site.families.clone());
    let computing = answers.computed(move || {
        let mut paths: BTreeMap<String, u64> = BTreeMap::new();
        sheets.iter().for_each(|s| count(s, stretch, &mut paths));
        let mut preview = taken(&patterns, &paths);
        let loose = paths.iter().filter(|(path, _)| families.of(path) == OTHER);
        preview.proposals = proposals(loose.map(|(path, n)| (path.as_str(), *n)));
        preview.proposals.truncate(PROPOSED);
        preview
    });
    computing.await
}

fn count(sheet: &Sheet, stretch: Stretch, paths: &mut BTreeMap<String, u64>) {
    let Some(words) = sheet.words("path") else { return };
    let mut of = vec![0u64; words.values.len()];
    let keep = rows(sheet, stretch, &Filter::default());
    words.codes.iter().zip(keep).filter(|(_, keep)| *keep).for_each(|(code, _)| of[code] += 1);
    for (path, n) in words.values.iter().zip(of) {
        *paths.entry(privacy::cut_query(path).to_string()).or_default() += n;
    }
}

fn taken(patterns: &[(String, String)], paths: &BTreeMap<String, u64>) -> Preview {
    let families = Families::new(patterns.iter().cloned());
    let mut by: BTreeMap<&str, Vec<(&String, u64)>> = BTreeMap::new();
    for (path, n) in paths {
        by.entry(families.of(path)).or_default().push((path, *n));
    }
    let loose = by.get(OTHER).map_or(0, Vec::len);
    let family = |(name, mut paths): (&str, Vec<(&String, u64)>)| {
        paths.sort_by_key(|p| std::cmp::Reverse(p.1));
        Taken {
            family: name.into(),
            page_views: paths.iter().map(|(_, n)| n).sum(),
            paths: paths.len(),
            examples: paths.iter().take(EXAMPLES).map(|(p, _)| p.to_string()).collect(),
        }
    };
    let mut families: Vec<Taken> = by.into_iter().map(family).collect();
    families.sort_by_key(|t| std::cmp::Reverse(t.page_views));
    Preview { page_views: paths.values().sum(), families, loose, proposals: Vec::new() }
}

/// The newest work on history for families, if there was ever any.
///
/// # Errors
/// When the database does not answer.
pub async fn families_task(answers: &Answers, site_id: i32) -> Result<Option<Task>> {
    Ok(answers.db.families_task(site_id).await?)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_preview_counts_every_page_view_once_and_names_the_most_visited_paths() {
        let paths = ["/a", "/a/1", "/a/2", "/a/3", "/b", "/c"];
        let paths = paths.into_iter().zip([5, 1, 2, 3, 7, 4]).map(|(p, n)| (p.to_string(), n));
        let patterns = [("/a/*".to_string(), "A".to_string()), ("/b".into(), "B".into())];
        let told = taken(&patterns, &paths.collect());
        assert_eq!(told.page_views, 22);
        assert_eq!(told.families.iter().map(|f| f.page_views).sum::<u64>(), 22);
        let a = told.families.iter().find(|f| f.family == "A").unwrap();
        assert_eq!((a.paths, a.examples[0].as_str()), (3, "/a/3"));
        assert_eq!(told.loose, 2, "/a and /c");
    }
}
