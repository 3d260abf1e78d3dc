//! `cadentis runner`: plays for locations, beside the server or behind a firewall.

use crate::{Failure, asked_to_end};
use cadentis_runner::agent::{self, Post};
use std::path::PathBuf;
use std::time::Duration;

#[derive(clap::Args)]
pub struct Args {
    /// The server's address, for example http://127.0.0.1:7070
    #[arg(long)]
    server: String,
    /// A JSON file: a list of locations with name, token and, if needed, the address of a SOCKS5 proxy
    #[arg(long)]
    locations: PathBuf,
}

pub async fn runner(args: Args) -> Result<(), Failure> {
    let text = std::fs::read_to_string(&args.locations).map_err(|e| format!("{}: {e}", args.locations.display()))?;
    let posts: Vec<Post> = serde_json::from_str(&text).map_err(|e| format!("{}: {e}", args.locations.display()))?;
    cadentis_processes::adopt_orphans();
    tokio::select! {
        () = agent::work(args.server.trim_end_matches('/'), &posts) => {}
        () = asked_to_end() => {}
    }
    // A browser in mid-run goes with us; the lease runs out and the run is played again.
    cadentis_processes::end_all(Duration::from_secs(2));
    Ok(())
}
