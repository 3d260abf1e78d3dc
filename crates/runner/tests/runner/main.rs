//! Journeys played in a real Chromium against the stand-in site, over the network of one of its places.

mod causes;
mod play;
mod record;
mod words;

use cadentis_standins::network::{Path, Proxy};
use cadentis_standins::places::by_slug;
use cadentis_standins::site::{Ports, Site};

/// One test at a time: browsers that share two cores measure each other.
static ALONE: tokio::sync::Mutex<()> = tokio::sync::Mutex::const_new(());

struct World {
    site: Site,
    proxy: Proxy,
}

async fn world(slug: &str) -> World {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let site = Site::start(Ports::default(), None).expect("the site starts");
    let place = by_slug(slug).expect("a place of the demo");
    let proxy = Proxy::start(Path::from(place), site.hosts()).await.expect("the proxy starts");
    World { site, proxy }
}
