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
    /// The location to play for
    #[arg(long, required_unless_present = "locations")]
    location: Option<String>,
    /// The token of that location; in a file or in CADENTIS_TOKEN no list of processes shows it
    #[arg(long, env = "CADENTIS_TOKEN", hide_env_values = true)]
    token: Option<String>,
    /// A file that holds the token
    #[arg(long, conflicts_with = "token")]
    token_file: Option<PathBuf>,
    /// The address of a SOCKS5 proxy that leads out of that location
    #[arg(long)]
    proxy: Option<std::net::SocketAddr>,
    /// Host and port of something that is always there, to tell our own network's trouble from the site's
    #[arg(long)]
    control: Option<String>,
    /// Where records wait that the server cannot take yet [default: cadentis-kept in the folder for temporary files]
    #[arg(long)]
    keep: Option<PathBuf>,
    /// For several locations, a JSON file: a list with name, token and, if needed, proxy and control
    #[arg(long, conflicts_with = "location")]
    locations: Option<PathBuf>,
}

pub async fn runner(args: Args) -> Result<(), Failure> {
    let token = match (&args.token, &args.token_file) {
        (None, Some(file)) => {
            let text = std::fs::read_to_string(file)
                .map_err(|e| format!("the token in {}: {e}", file.display()))?;
            Some(text.trim().to_string())
        }
        (token, _) => token.clone(),
    };
    let posts = match (&args.locations, args.location, token) {
        (Some(file), ..) => {
            let text =
                std::fs::read_to_string(file).map_err(|e| format!("{}: {e}", file.display()))?;
            serde_json::from_str::<Vec<Post>>(&text)
                .map_err(|e| format!("{}: {e}", file.display()))?
        }
        (None, Some(name), Some(token)) => {
            vec![Post { name, token, proxy: args.proxy, control: args.control }]
        }
        _ => {
            return Err(
                "give --location and its token (--token-file, --token or CADENTIS_TOKEN), or --locations".into()
            );
        }
    };
    let keep = args.keep.unwrap_or_else(|| std::env::temp_dir().join("cadentis-kept"));
    cadentis_processes::adopt_orphans();
    tokio::select! {
        () = agent::work(args.server.trim_end_matches('/'), &posts, &keep) => {}
        () = asked_to_end() => {}
    }
    // A browser in mid-run goes with us; the lease runs out and the run is played again.
    cadentis_processes::end_all(Duration::from_secs(2));
    Ok(())
}
