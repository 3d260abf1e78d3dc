//! How many statements a question costs, and what it says.

use super::{World, world};
use cadentis_answers::journeys::StepTrouble;
use cadentis_answers::now::At;
use cadentis_answers::{journeys, location, now};
use cadentis_core::goal::Standing;
use cadentis_core::run::Outcome;
use cadentis_core::run::cause::{Sure, Who};
use cadentis_core::run::place::Whose;
use jiff::Timestamp;
use std::cell::Cell;
use std::sync::LazyLock;
use tracing::span::{Attributes, Id, Record};
use tracing::{Event, Metadata, Subscriber};

thread_local! {
    /// Statements asked for on this thread, which a test has for itself.
    static ASKED: Cell<u64> = const { Cell::new(0) };
}

/// Counts what SQLx tells of each statement.
struct Statements;

impl Subscriber for Statements {
    fn enabled(&self, about: &Metadata<'_>) -> bool {
        about.target() == "sqlx::query"
    }
    fn new_span(&self, _: &Attributes<'_>) -> Id {
        Id::from_u64(1)
    }
    fn record(&self, _: &Id, _: &Record<'_>) {}
    fn record_follows_from(&self, _: &Id, _: &Id) {}
    fn event(&self, _: &Event<'_>) {
        ASKED.set(ASKED.get() + 1);
    }
    fn enter(&self, _: &Id) {}
    fn exit(&self, _: &Id) {}
}

static COUNTING: LazyLock<()> = LazyLock::new(|| {
    tracing::subscriber::set_global_default(Statements).expect("nobody else listens")
});

/// How many statements are asked of the database meanwhile.
async fn counted<T>(work: impl Future<Output = T>) -> (u64, T) {
    LazyLock::force(&COUNTING);
    let before = ASKED.get();
    let answer = work.await;
    (ASKED.get() - before, answer)
}

/// Twelve rounds that pass; then the even journeys fail from Halifax only and the odd ones are slow everywhere.
async fn played(w: &World) {
    for round in 0..12 {
        w.plays(5 * round, |_, _| (Outcome::Passed, [300.0, 400.0])).await;
    }
    for round in 12..18 {
        w.plays(5 * round, |journey, place| match (journey % 2, place) {
            (0, 1) => (Outcome::Failed, [300.0, 900.0]),
            (0, _) => (Outcome::Passed, [300.0, 400.0]),
            _ => (Outcome::Slow, [300.0, 2_400.0]),
        })
        .await;
    }
}

#[tokio::test]
async fn now_journeys_and_a_location_cost_no_statement_more_for_ten_journeys_than_for_two() {
    let mut costs = Vec::new();
    for journeys in [2, 10] {
        let w = world(journeys).await;
        played(&w).await;
        let range = w.range();
        let site = w.site.id;
        let (now, found) =
            counted(now::ask(&w.answers, &w.site, &range, range.stretch, Timestamp::now())).await;
        assert_eq!(found.expect("an answer").needs.len(), journeys, "each of them needs somebody");
        let (rows, found) = counted(journeys::ask(&w.answers, site, &range, |_, _| true)).await;
        assert_eq!(found.expect("an answer").rows.len(), journeys);
        let (place, found) = counted(location::ask(&w.answers, &w.site, &range, "halifax")).await;
        let found = found.expect("an answer").expect("a location");
        assert_eq!((found.journeys.len(), found.troubles.len()), (journeys, journeys));
        costs.push([now, rows, place]);
    }
    assert!(costs[0].iter().all(|n| (4..40).contains(n)), "statements are counted: {costs:?}");
    assert_eq!(costs[0], costs[1], "now, journeys, location");
}

#[tokio::test]
async fn now_says_what_is_the_matter_with_its_newest_run_and_its_likely_cause_and_what_is_over_needs_nobody()
 {
    let w = world(3).await;
    played(&w).await;
    let range = w.range();
    let found = now::ask(&w.answers, &w.site, &range, range.stretch, Timestamp::now())
        .await
        .expect("an answer");
    // Failing from one place is worse than being slow.
    assert!(found.needs.windows(2).all(|m| m[0].finding.weight >= m[1].finding.weight));
    let of = |wanted: &str| {
        let found = found.needs.iter().find_map(|m| match &m.at {
            At::Journey { slug, run, cause } if slug == wanted => {
                Some((m.finding.state, run.clone(), cause.clone()))
            }
            _ => None,
        });
        let (state, run, cause) = found.unwrap_or_else(|| panic!("{wanted}"));
        (state, run.expect("the newest such run"), cause.expect("a cause"))
    };
    let (state, run, cause) = of("j0");
    assert_eq!((state, run.outcome, cause.who), (Standing::Broken, Outcome::Failed, Who::Site));
    assert!(cause.says.contains("answered 503"), "{}", cause.says);
    let (state, run, cause) = of("j1");
    assert_eq!((state, run.outcome, cause.who), (Standing::Strained, Outcome::Slow, Who::Site));
    assert_eq!(cause.sure, Sure::Likely, "twelve usual runs to compare with: {}", cause.says);
    let first = found.first.expect("a journey");
    assert_eq!((first.played.journey.slug.as_str(), first.played.runs.all().len()), ("j0", 36));
    assert!(found.silent.is_empty() || found.silent.len() == 6, "all play in the same minutes");

    // Two rounds later all is well.
    for round in 18..20 {
        w.plays(5 * round, |_, _| (Outcome::Passed, [300.0, 400.0])).await;
    }
    let range = w.range();
    let over = now::ask(&w.answers, &w.site, &range, range.stretch, Timestamp::now())
        .await
        .expect("an answer");
    assert_eq!((over.needs.len(), over.cleared.len()), (0, 3));
}

#[tokio::test]
async fn journeys_say_which_step_is_in_trouble_and_a_location_whose_its_trouble_was() {
    let w = world(2).await;
    played(&w).await;
    let range = w.range();
    let found =
        journeys::ask(&w.answers, w.site.id, &range, |_, at| at.iter().any(|l| l.slug == "bergen"))
            .await;
    let rows = found.expect("an answer").rows;
    assert!(rows.iter().all(journeys::Row::is_in_trouble));
    let failing = &rows[0].steps[0];
    assert!(
        matches!(failing.trouble, StepTrouble::Failed(6))
            && failing.nth == 1
            && failing.name == "Search"
    );
    assert_eq!(rows[0].tally.failed, 6);
    let StepTrouble::Over { p75, budget_ms } = rows[1].steps[0].trouble else {
        panic!("over its budget")
    };
    assert_eq!((p75.value, p75.samples, budget_ms), (Some(2_400.0), 36, 1_000.0));
    assert_eq!(rows[1].duration[0].value, Some(700.0), "two thirds of the runs were as usual");
    let none = journeys::ask(&w.answers, w.site.id, &range, |_, _| false).await.expect("an answer");
    assert_eq!(
        (none.rows.len(), none.known.len()),
        (0, 2),
        "what it could be narrowed by is told all the same"
    );

    let at = location::ask(&w.answers, &w.site, &range, "halifax")
        .await
        .expect("an answer")
        .expect("a location");
    let whose: Vec<_> = at.troubles.iter().map(|t| (t.slug.as_str(), t.whose)).collect();
    assert!(whose.contains(&("j1", Whose::Site)), "slow from everywhere: {whose:?}");
    assert!(
        whose.iter().any(|(slug, whose)| *slug == "j0" && *whose != Whose::Site),
        "from here only: {whose:?}"
    );
    assert!(
        location::ask(&w.answers, &w.site, &range, "nowhere").await.expect("an answer").is_none()
    );
}
