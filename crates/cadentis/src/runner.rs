//! `cadentis runner`: plays for locations, beside the server or behind a firewall.

use crate::{Failure, asked_to_end};
use cadentis_runner::agent::{self, Post};
use cadentis_runner::link::Link;
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
    /// A file of certificates (PEM) that the server's is signed with, where this system does not know them
    #[arg(long)]
    root: Option<PathBuf>,
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
    let roots = match &args.root {
        None => None,
        Some(file) => Some(
            std::fs::read(file)
                .map_err(|e| format!("the certificates in {}: {e}", file.display()))?,
        ),
    };
    let link = Link::to(&args.server, roots.as_deref()).map_err(|e| format!("--root: {e}"))?;
    let server = link.server();
    if is_unsealed(server) {
        tracing::warn!(
            "{server} is reached without TLS: tokens and secrets can be read on the way"
        );
    }
    cadentis_processes::adopt_orphans();
    tokio::select! {
        () = agent::work(&link, &posts, &keep) => {}
        () = asked_to_end() => {}
    }
    // A browser in mid-run goes with us; the lease runs out and the run is played again.
    cadentis_processes::end_all(Duration::from_secs(2));
    Ok(())
}

/// Whether what goes to this server can be read by others: not over TLS, and not on this machine.
fn is_unsealed(server: &str) -> bool {
    let Ok(url) = url::Url::parse(server) else { return false };
    let is_here = match url.host() {
        Some(url::Host::Domain(name)) => name == "localhost",
        Some(url::Host::Ipv4(ip)) => ip.is_loopback(),
        Some(url::Host::Ipv6(ip)) => ip.is_loopback(),
        None => false,
    };
    url.scheme() == "http" && !is_here
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_can_be_read_on_the_way_is_http_to_another_machine() {
        for sealed in [
            "https://cadentis.example",
            "http://127.0.0.1:7070",
            "http://localhost",
            "http://[::1]:7",
        ] {
            assert!(!is_unsealed(sealed), "{sealed}");
        }
        assert!(is_unsealed("http://cadentis.example") && is_unsealed("http://10.0.0.2:7070"));
    }
}
