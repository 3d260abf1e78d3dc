//! `cadentis world`: the stand-ins of the demo. Says where they are in a file, for the runners.

use crate::{Failure, asked_to_end};
use cadentis_standins::freight::Office;
use cadentis_standins::network::{Path, Proxy};
use cadentis_standins::places::{FREIGHT_HOST, FREIGHT_KEY, PLACES};
use cadentis_standins::receivers::Receivers;
use cadentis_standins::site::{Ports, Site};
use cadentis_standins::visitors;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::net::SocketAddr;
use std::path::PathBuf;

#[derive(clap::Args)]
pub struct Args {
    /// The address of the server that takes beacons
    #[arg(long)]
    server: SocketAddr,
    /// The site key of the booking site
    #[arg(long)]
    key: String,
    /// Page views a day that the generator makes; 0 for none
    #[arg(long, default_value_t = 50_000.0)]
    views_a_day: f64,
    /// The port of loopback that takes mail; 0 chooses one
    #[arg(long, default_value_t = 0)]
    smtp_port: u16,
    /// Where to write the addresses
    #[arg(long)]
    say: PathBuf,
}

/// Where the stand-ins are.
#[derive(Debug, Serialize, Deserialize)]
pub struct Whereabouts {
    pub booking: SocketAddr,
    /// The outbox of the demo.
    pub outbox: SocketAddr,
    /// The proxy of each location, by its slug.
    pub proxies: HashMap<String, SocketAddr>,
}

/// Page views of the freight office in a day.
pub const FREIGHT_VIEWS: f64 = 400.0;

/// The made-up name under which pages of the made-up site reach our server.
pub const COLLECT_HOST: &str = "collect.cadentis.example";

pub async fn world(args: Args) -> Result<(), Failure> {
    cadentis_processes::adopt_orphans();
    let tag = format!("http://{COLLECT_HOST}/snippet.js");
    let site = Site::start(Ports::default(), Some((&tag, &args.key)))?;
    let office = Office::start(&format!("http://{COLLECT_HOST}"))?;
    let mut hosts = site.hosts();
    hosts.insert(FREIGHT_HOST.into(), office.address);
    hosts.insert(COLLECT_HOST.into(), args.server);
    let mut proxies = HashMap::new();
    let mut locations = Vec::new();
    for place in PLACES {
        let proxy = Proxy::start(Path::from(place), hosts.clone()).await?;
        proxies.insert(place.slug.to_string(), proxy.address);
        locations.push((place.slug.to_string(), proxy));
    }
    let receivers = Receivers::start(args.smtp_port, locations).await?;
    for (begins, says) in crate::seed::ANSWERS {
        receivers.answer(begins, says);
    }
    if args.views_a_day > 0.0 {
        let address = format!("http://{}/beacons/{}", args.server, args.key);
        tokio::spawn(visitors::keep_arriving(visitors::visit, address, args.views_a_day));
        let address = format!("http://{}/beacons/{FREIGHT_KEY}", args.server);
        let freight = visitors::keep_arriving(visitors::office, address, FREIGHT_VIEWS);
        tokio::spawn(freight);
        tokio::spawn(visitors::keep_visiting(proxies.values().copied().collect()));
    }
    let whereabouts = Whereabouts { booking: site.booking, outbox: receivers.http, proxies };
    // Written whole and then put in place, so that nobody reads half of it.
    let draft = args.say.with_extension("draft");
    std::fs::write(&draft, serde_json::to_string_pretty(&whereabouts)?)?;
    std::fs::rename(&draft, &args.say)?;
    asked_to_end().await;
    // A visitor's browser that is open goes with us.
    cadentis_processes::end_all(std::time::Duration::from_secs(2));
    office.stop().await;
    site.stop().await;
    Ok(())
}
