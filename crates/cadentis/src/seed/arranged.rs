//! Views that the people of the demo put together.

use super::SITE_KEY;
use crate::Failure;
use cadentis_answers::Answers;
use cadentis_answers::changes::Author;
use cadentis_answers::changes::saved_views::{self as changes, Wanted};
use cadentis_answers::compute::Compute;
use cadentis_core::saved_view::{Piece, SavedView};
use cadentis_store::Db;
use std::time::Duration;

/// What those of booking look at in the morning, and what hangs on the wall of the office.
pub async fn arrange_views(db: &Db) -> Result<(), Failure> {
    let site = db.site_by_key(SITE_KEY).await?.ok_or("the site of the demo is gone")?;
    let answers = Answers::new(db.clone(), Compute::start(1, 8, Duration::from_secs(60))?);
    let (goals, journeys) = (db.goals(site.id).await?, db.journeys(site.id).await?);
    let goal = goals.first().ok_or("the goal of the demo is gone")?.id;
    let journey =
        |slug: &str| journeys.iter().find(|j| j.slug == slug).map(|j| j.id).ok_or("a journey");
    let book = journey("book-a-crossing")?;
    let query = |says: &str| Piece::Query { query: says.into() };
    let text = "Look at the lanes first: a failed run from one place alone is the network or the runner, from all of them the site.\n\n\
                The crew on watch writes what it found beside the incident, not here.";
    let mornings = vec![
        Piece::Text { text: text.into() },
        Piece::Goal { goal },
        Piece::LineUp { journey: book, location: None },
        query("p75 of LCP, count of page views by family and device top 6 by count of page views"),
        query(
            "p95 of request time, share of requests failed by request top 5 by p95 of request time",
        ),
    ];
    let wall = vec![
        Piece::Journey { journey: book },
        Piece::LineUp { journey: book, location: None },
        query("count of page views, share with errors by release and time"),
    ];
    for (name, who, span_s, pieces) in [
        ("Mornings of booking", "Ines", 43_200, mornings),
        ("Wall of the office", "Tor", 21_600, wall),
    ] {
        let by = Author::named(who).ok_or("nobody keeps it")?;
        let definition = SavedView { span_s, pieces };
        let wanted = Wanted { known: None, name: name.into(), definition, team: None };
        changes::save(&answers, &by, &site, wanted).await?.map_err(|why| why.to_string())?;
    }
    Ok(())
}
