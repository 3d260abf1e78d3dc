//! Page views from files: read by the core, checked like those that come as beacons, put where their time is.

use crate::{Agent, Sender, page_view};
use cadentis_core::visitor::PageView;
use cadentis_core::visitor::import::{Defaults, Format, FromFile, read};
use cadentis_core::visitor::privacy::PersonKey;
use cadentis_store::site::Site;
use cadentis_store::{Db, StoreError};
use jiff::{SignedDuration, Timestamp};
use std::borrow::Cow;
use std::net::{IpAddr, Ipv4Addr};
use std::time::Duration;

/// What became of a file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Imported {
    /// Page views that were read, and those of them that were not there before.
    pub read: u64,
    pub new: u64,
    /// The moments of the first and the last of them.
    pub stretch: Option<(Timestamp, Timestamp)>,
    /// What was not taken, each with its place and why.
    pub wrong: Vec<String>,
    /// Names of columns that say nothing to us.
    pub ignored: Vec<String>,
}

/// Page views older than this are not taken: each hour of them would be written by itself.
const OLDEST_DAYS: i64 = 800;

/// Takes page views from files.
#[derive(Clone)]
pub struct Importer {
    db: Db,
    persons: Option<PersonKey>,
}

impl Importer {
    /// Takes them into this database; `persons` makes of people's ids what is kept of them.
    pub fn new(db: Db, persons: Option<PersonKey>) -> Importer {
        Importer { db, persons }
    }

    /// Takes the page views of a file; what cannot be taken is told, the rest is there.
    ///
    /// # Errors
    /// When the database is away. Hours that were written stay; bringing the file again adds what is missing.
    pub async fn file(
        &self,
        site: &Site,
        format: Format,
        text: String,
        defaults: Defaults,
        now: Timestamp,
    ) -> cadentis_store::Result<Imported> {
        let (of, id, persons) = (site.clone(), site.id, self.persons.clone());
        // Half a second for a large file: beside what else is answered.
        let read = tokio::task::spawn_blocking(move || {
            views_of(format, &text, &defaults, &of, persons.as_ref(), now)
        });
        let (mut imported, views) = read.await.map_err(|e| StoreError::Content {
            place: "file of page views",
            says: e.to_string(),
        })?;
        imported.new = self.db.import_page_views(id, views).await?;
        Ok(imported)
    }
}

/// What a file holds, and what of it may come.
fn views_of(
    format: Format,
    text: &str,
    defaults: &Defaults,
    site: &Site,
    persons: Option<&PersonKey>,
    now: Timestamp,
) -> (Imported, Vec<PageView>) {
    let file = read(format, text, defaults);
    let mut imported = Imported {
        wrong: file.wrong,
        ignored: file.ignored.into_iter().collect(),
        ..Imported::default()
    };
    let mut views = Vec::with_capacity(file.told.len());
    for told in file.told {
        match may_come(&told, site, now) {
            Ok(()) => views.push(from_file(told, site, persons)),
            Err(says) => imported.wrong.push(says),
        }
    }
    imported.read = views.len() as u64;
    let moments = views.iter().map(|v| v.at);
    imported.stretch = moments.clone().min().zip(moments.max());
    (imported, views)
}

fn may_come(told: &FromFile, site: &Site, now: Timestamp) -> Result<(), String> {
    let (place, host) = (&told.place, told.beacon.host());
    if !site.owns(&host) {
        return Err(format!("{place}.url: {host} is not a domain of this site"));
    }
    let age_ms = now.as_millisecond() - told.beacon.at_ms;
    match age_ms {
        ..0 => Err(format!("{place}.at: in the future")),
        _ if age_ms > OLDEST_DAYS * 86_400_000 => {
            Err(format!("{place}.at: more than {OLDEST_DAYS} days ago"))
        }
        _ => Ok(()),
    }
}

fn from_file(told: FromFile, site: &Site, persons: Option<&PersonKey>) -> PageView {
    // Nothing is known of when it came nor of who sent it: it counts as having come at its own moment.
    let at = Timestamp::from_millisecond(told.beacon.at_ms).unwrap_or(Timestamp::UNIX_EPOCH);
    let sender = Sender {
        origin: None,
        user_agent: "",
        ip: IpAddr::V4(Ipv4Addr::UNSPECIFIED),
        country: &told.country,
        region: &told.region,
        city: &told.city,
    };
    let view = page_view(
        told.beacon,
        site,
        &sender,
        Agent::of(""),
        persons,
        at + SignedDuration::from_millis(1),
    );
    let or =
        |said: String, else_: Cow<'static, str>| if said.is_empty() { else_ } else { said.into() };
    PageView {
        at,
        received_at: at,
        browser: or(told.browser, view.browser),
        os: or(told.os, view.os),
        ..view
    }
}

/// Puts an hour of history into new families, if that is asked for, and says how long to rest.
///
/// # Errors
/// When the database does not do it now.
pub async fn work_on_tasks(db: &Db) -> Result<Duration, String> {
    let worked = db.work_on_a_task().await.map_err(|e| e.to_string())?;
    Ok(if worked { Duration::ZERO } else { Duration::from_secs(1) })
}
