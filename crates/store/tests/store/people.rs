//! People, sessions, tries and tokens, on a real PostgreSQL.

use super::{db, db_at};
use cadentis_core::access::{FREE_TRIES, IDLE_S, LONGEST_S, Role, Scope, wait_s};
use cadentis_store::Db;
use cadentis_store::person::{Changed, Given};
use std::net::IpAddr;

const ADMINISTRATOR: Given =
    Given { is_administrator: true, sees_people: false, roles: Vec::new() };

fn here() -> IpAddr {
    "198.51.100.7".parse().expect("an address")
}

fn reader() -> Given {
    Given { is_administrator: false, sees_people: true, roles: vec![(1, Role::Reader)] }
}

async fn add(db: &Db, name: &str, given: Given) -> i32 {
    let email = format!("{name}@marram.example");
    db.add_person(&email, name, &given).await.expect("rows").expect("a new one")
}

#[tokio::test]
async fn somebody_is_known_by_one_address_and_has_what_was_given_until_it_is_changed() {
    let (db, _) = db().await;
    assert!(db.has_nobody().await.expect("rows"));
    let ines = add(&db, "ines", ADMINISTRATOR).await;
    let ada = add(&db, "ada", reader()).await;
    assert_eq!(
        db.add_person("ada@marram.example", "Another", &reader()).await.expect("rows"),
        None
    );
    assert!(!db.has_nobody().await.expect("rows"));
    let (found, hash) = db.person_at("ada@marram.example").await.expect("rows").expect("Ada");
    assert_eq!(
        (found.id, found.roles, found.sees_people, hash),
        (ada, vec![(1, Role::Reader)], true, None)
    );
    assert!(!found.has_password);
    // An editor now; then a member of nothing.
    let editor = Given { roles: vec![(1, Role::Editor)], sees_people: false, ..reader() };
    assert_eq!(db.set_given(ada, &editor).await.expect("rows"), Changed::Done);
    let of = async |id: i32| {
        let all = db.people().await.expect("rows");
        all.into_iter().find(|p| p.id == id).expect("somebody")
    };
    assert_eq!((of(ada).await.roles, of(ada).await.sees_people), (vec![(1, Role::Editor)], false));
    let none = Given { roles: Vec::new(), ..editor };
    assert_eq!(db.set_given(ada, &none).await.expect("rows"), Changed::Done);
    assert!(of(ada).await.roles.is_empty());
    assert_eq!(db.set_given(999, &none).await.expect("rows"), Changed::Nobody);
    // Whoever is shut out is last in the list and cannot be found by their address.
    assert_eq!(db.set_gone(ada, true).await.expect("rows"), Changed::Done);
    assert!(db.person_at("ada@marram.example").await.expect("rows").is_none());
    assert_eq!(db.people().await.expect("rows").last().map(|p| p.id), Some(ada));
    assert_eq!(db.set_gone(ada, false).await.expect("rows"), Changed::Done);
    assert!(db.person_at("ada@marram.example").await.expect("rows").is_some());
    assert_eq!(db.set_gone(ines, true).await.expect("rows"), Changed::LastAdministrator);
    assert_eq!(db.set_given(ines, &reader()).await.expect("rows"), Changed::LastAdministrator);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn however_administrators_remove_each_other_one_is_left() {
    let (db, _) = db().await;
    for round in 0..20 {
        let mut ids = Vec::new();
        for n in 0..3 {
            ids.push(add(&db, &format!("a{round}-{n}"), ADMINISTRATOR).await);
        }
        // Those of the rounds before go first.
        for p in db.people().await.expect("rows") {
            if p.is_administrator && !ids.contains(&p.id) {
                db.set_gone(p.id, true).await.expect("rows");
            }
        }
        let tasks: Vec<_> = ids
            .iter()
            .map(|id| {
                let (db, id) = (db.clone(), *id);
                tokio::spawn(async move {
                    match id % 2 {
                        0 => db.set_gone(id, true).await,
                        _ => db.set_given(id, &reader()).await,
                    }
                })
            })
            .collect();
        let mut refused = 0;
        for task in tasks {
            let changed = task.await.expect("it ran").expect("rows");
            refused += usize::from(changed == Changed::LastAdministrator);
        }
        let left = db.people().await.expect("rows");
        let left = left.iter().filter(|p| p.is_administrator && p.gone_at.is_none()).count();
        assert_eq!((left, refused), (1, 1), "round {round}");
    }
}

#[tokio::test]
async fn a_link_is_used_once_while_it_is_good_and_the_newest_for_somebody_alone() {
    let (db, _) = db().await;
    let ada = add(&db, "ada", reader()).await;
    db.add_link(b"first", Some(ada), 60).await.expect("a link");
    db.add_link(b"second", Some(ada), 60).await.expect("a link");
    assert!(db.link(b"first").await.expect("rows").is_none(), "the older one is worth nothing");
    let for_whom = db.link(b"second").await.expect("rows").flatten().expect("Ada");
    assert_eq!(for_whom, (ada, "ada".into(), "ada@marram.example".into()));
    db.begin_session(b"before", ada, "", here(), 0).await.expect("a session");
    assert_eq!(db.use_link(b"first", None, "hash").await.expect("rows"), None);
    assert_eq!(db.use_link(b"second", None, "hash").await.expect("rows"), Some(ada));
    assert_eq!(db.use_link(b"second", None, "other").await.expect("rows"), None);
    assert_eq!(db.password_of(ada).await.expect("rows").as_deref(), Some("hash"));
    assert!(db.signed(b"before").await.expect("rows").is_none(), "whoever was in is out");
    db.add_link(b"late", Some(ada), -1).await.expect("a link");
    assert!(db.link(b"late").await.expect("rows").is_none());
    assert_eq!(db.use_link(b"late", None, "other").await.expect("rows"), None);
    // Somebody looks after it: nobody becomes the first administrator any more.
    add(&db, "ines", ADMINISTRATOR).await;
    db.add_link(b"owner", None, 60).await.expect("a link");
    assert!(db.link(b"owner").await.expect("rows").is_none());
    let first = Some(("eve@marram.example", "Eve"));
    assert_eq!(db.use_link(b"owner", first, "hash").await.expect("rows"), None);
    // Whoever is shut out is let in by no link.
    db.add_link(b"third", Some(ada), 60).await.expect("a link");
    db.set_gone(ada, true).await.expect("rows");
    assert!(db.link(b"third").await.expect("rows").is_none());
}

#[tokio::test]
async fn a_session_lasts_while_it_is_used_and_never_longer_than_it_may() {
    let (db, _) = db().await;
    let ada = add(&db, "ada", reader()).await;
    for token in [b"one", b"two"] {
        db.begin_session(token, ada, "Chromium", here(), 0).await.expect("a session");
    }
    let signed = db.signed(b"one").await.expect("rows").expect("signed in");
    assert_eq!((signed.person.id, signed.sites.len(), signed.proved_for_s), (ada, 1, 0));
    assert!(db.signed(b"three").await.expect("rows").is_none());
    let sessions = db.sessions_of(ada).await.expect("rows");
    assert_eq!(
        (sessions.len(), sessions[0].address, sessions[0].browser.as_str()),
        (2, here(), "Chromium")
    );
    // One is used after eleven hours, the other is not.
    db.age_sessions(IDLE_S - 60).await.expect("older");
    assert!(db.signed(b"one").await.expect("rows").is_some());
    db.age_sessions(120).await.expect("older");
    assert!(db.signed(b"one").await.expect("rows").is_some());
    assert!(db.signed(b"two").await.expect("rows").is_none());
    assert_eq!(db.sessions_of(ada).await.expect("rows").len(), 1);
    db.prove(signed.session).await.expect("rows");
    let again = db.signed(b"one").await.expect("rows").expect("signed in");
    assert_eq!(again.proved_for_s, 0, "the password was typed just now");
    db.begin_session(b"new", ada, "", here(), 0).await.expect("a session");
    let id = db.signed(b"new").await.expect("rows").expect("signed in").session;
    assert!(!db.end_session(ada + 1, id).await.expect("rows"), "nobody ends another's");
    assert!(db.end_session(ada, id).await.expect("rows"));
    assert!(db.signed(b"new").await.expect("rows").is_none());
    db.age_sessions(LONGEST_S).await.expect("older");
    assert!(db.signed(b"one").await.expect("rows").is_none());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn of_many_tries_at_once_only_the_free_ones_are_looked_at_from_whatever_server() {
    let (one, _, url) = db_at().await;
    let two = Db::connect(&url).expect("an address");
    let tasks: Vec<_> = (0..60)
        .map(|n| {
            let db = if n % 2 == 0 { one.clone() } else { two.clone() };
            tokio::spawn(async move { db.take_try("account x", FREE_TRIES).await })
        })
        .collect();
    let mut taken = 0;
    for task in tasks {
        let wait = task.await.expect("it ran").expect("rows");
        assert!(wait <= wait_s(FREE_TRIES + 1, FREE_TRIES), "{wait}");
        taken += u32::from(wait == 0);
    }
    // A second may go by while they come.
    assert!((FREE_TRIES..FREE_TRIES + 3).contains(&taken), "{taken}");
    assert_eq!(
        one.take_try("account y", FREE_TRIES).await.expect("rows"),
        0,
        "another's is another"
    );
    one.forget_tries("account x").await.expect("rows");
    for _ in 0..FREE_TRIES {
        assert_eq!(two.take_try("account x", FREE_TRIES).await.expect("rows"), 0);
    }
    assert!(two.take_try("account x", FREE_TRIES).await.expect("rows") > 0);
    // One that was not in vain is given back.
    for _ in 0..40 {
        assert_eq!(one.take_try("network z", 5).await.expect("rows"), 0);
        one.give_try_back("network z").await.expect("rows");
    }
}

#[tokio::test]
async fn a_token_is_good_for_its_site_until_its_day_and_is_seen_when_it_is_shown() {
    let (db, _) = db().await;
    let scopes = [Scope::Read, Scope::Markers];
    let id = db.add_api_token(b"hash", 1, "releases", &scopes, "Ines", 30).await.expect("a token");
    db.add_api_token(b"over", 1, "old", &scopes, "Ines", 0).await.expect("a token");
    assert_eq!(
        db.api_tokens(1).await.expect("rows").iter().filter(|t| t.seen_at.is_some()).count(),
        0
    );
    let found = db.api_token(b"hash").await.expect("rows").expect("a token");
    assert_eq!((found.id, found.site_id, found.scopes.as_slice()), (id, 1, &scopes[..]));
    assert!(db.api_token(b"over").await.expect("rows").is_none());
    assert!(db.api_token(b"nobody's").await.expect("rows").is_none());
    let all = db.api_tokens(1).await.expect("rows");
    assert_eq!(all.len(), 2, "those that have ended are still told");
    assert!(all.iter().find(|t| t.id == id).is_some_and(|t| t.seen_at.is_some()));
    assert_eq!(db.remove_api_token(2, id).await.expect("rows"), None, "not of another site");
    assert_eq!(db.remove_api_token(1, id).await.expect("rows").as_deref(), Some("releases"));
    assert!(db.api_token(b"hash").await.expect("rows").is_none());
}

#[tokio::test]
async fn sites_of_one_name_have_names_of_their_own_in_addresses() {
    let (db, _) = db().await;
    for name in ["Marram Ferries", "marram ferries!", "…"] {
        let site = cadentis_store::site::NewSite {
            key: name,
            name,
            zone: "UTC",
            domains: &["a.example".into()],
            families: &[],
            apdex_t_s: 1.5,
        };
        db.add_site(&site).await.expect("a site");
    }
    let slugs: Vec<String> = db.sites().await.expect("rows").into_iter().map(|s| s.slug).collect();
    assert_eq!(slugs, ["marram-ferries", "marram-ferries-2", "marram-ferries-3", "site"]);
    assert_eq!(db.site_by_slug("marram-ferries-2").await.expect("rows").map(|s| s.id), Some(2));
    assert!(db.site_by_slug("nowhere").await.expect("rows").is_none());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_written_in_one_is_there_whole_once_it_is_committed_and_otherwise_not_at_all() {
    let (db, _) = db().await;
    let names = async || -> Vec<String> {
        db.teams().await.expect("rows").into_iter().map(|t| t.name).collect()
    };
    // Given up, with a part that had begun and ended.
    let (within, one) = db.in_one().await.expect("a transaction");
    let id = within.add_team("Desk").await.expect("rows").expect("a new one");
    assert!(within.set_team(id, "Bridge", &[]).await.expect("rows"));
    assert_eq!(within.teams().await.expect("rows").len(), 1, "it sees what it wrote");
    assert!(names().await.is_empty(), "nobody else does");
    drop((within, one));
    assert!(names().await.is_empty());
    // Kept.
    let (within, one) = db.in_one().await.expect("a transaction");
    let id = within.add_team("Desk").await.expect("rows").expect("a new one");
    assert!(within.set_team(id, "Bridge", &[]).await.expect("rows"));
    one.commit().await.expect("committed");
    assert_eq!(names().await, ["Bridge"]);
    assert!(within.add_team("Late").await.is_err(), "it is over");
    // A part that gave itself up, and a statement that failed: nothing of the whole is kept, whatever was made of it.
    let (within, one) = db.in_one().await.expect("a transaction");
    within.add_team("Quay").await.expect("rows");
    assert!(!within.set_team(999, "Nobody", &[]).await.expect("rows"));
    assert!(one.commit().await.is_err());
    let (within, one) = db.in_one().await.expect("a transaction");
    within.add_team("Quay").await.expect("rows");
    assert!(within.add_team("no text \0").await.is_err());
    assert!(one.commit().await.is_err());
    assert_eq!(names().await, ["Bridge"]);
    // Two at once through one wait for each other.
    let (within, one) = db.in_one().await.expect("a transaction");
    let (a, b) = futures::join!(within.add_team("A"), within.teams());
    assert!(a.expect("rows").is_some() && !b.expect("rows").is_empty());
    one.commit().await.expect("committed");
    assert_eq!(names().await, ["A", "Bridge"]);
}
