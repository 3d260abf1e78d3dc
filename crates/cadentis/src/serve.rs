//! `cadentis serve`: pages, API, intake, due runs and roll-up in one process. Any number may run on
//! one database.

use crate::{Failure, asked_to_end};
use cadentis_intake::Intake;
use cadentis_store::Db;
use cadentis_store::secrets::Vault;
use jiff::Timestamp;
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

#[derive(clap::Args)]
pub struct Args {
    /// Where to listen
    #[arg(long, default_value = "127.0.0.1:7070")]
    listen: SocketAddr,
    /// The PostgreSQL database
    #[arg(long, env = "DATABASE_URL")]
    database_url: String,
    /// How many batches of beacons may wait to be written
    #[arg(long, default_value_t = 4096)]
    queue: usize,
    /// The key that secrets are sealed with: 64 hexadecimal digits
    #[arg(long, env = "CADENTIS_SECRET_KEY", hide_env_values = true)]
    secret_key: Option<String>,
    /// A file that holds that key; made with a new one if it is not there
    #[arg(long, conflicts_with = "secret_key")]
    secret_key_file: Option<PathBuf>,
    /// Make no due runs
    #[arg(long)]
    no_cadence: bool,
}

/// What seals secrets, if a key was given.
fn vault(args: &Args) -> Result<Option<Vault>, Failure> {
    let key = match (&args.secret_key, &args.secret_key_file) {
        (Some(key), _) => key.clone(),
        (None, Some(file)) => key_from(file).map_err(|e| format!("{}: {e}", file.display()))?,
        (None, None) => return Ok(None),
    };
    Ok(Some(Vault::new(&key)?))
}

fn key_from(file: &Path) -> std::io::Result<String> {
    use std::io::Write;
    use std::os::unix::fs::OpenOptionsExt;
    match std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(file) {
        Ok(mut new) => {
            let key = Vault::new_key();
            writeln!(new, "{key}")?;
            Ok(key)
        }
        Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => std::fs::read_to_string(file),
        Err(e) => Err(e),
    }
}

pub async fn serve(args: Args) -> Result<(), Failure> {
    let db = Db::connect(&args.database_url)?;
    let intake = Intake::start(db.clone(), args.queue);
    let ready = Arc::new(AtomicBool::new(false));
    tokio::spawn(keep_house(db.clone(), !args.no_cadence, ready.clone()));
    let vault = vault(&args)?;
    let state = cadentis_web::State { db: db.clone(), intake: intake.clone(), ready, vault };
    let web =
        cadentis_web::bind(state, args.listen, 2).map_err(|e| format!("cannot listen on {}: {e}", args.listen))?;
    tracing::info!("listening on http://{}", web.address);
    let handle = web.server.handle();
    tokio::spawn(async move {
        asked_to_end().await;
        handle.stop(true).await;
    });
    web.server.await?;
    intake.write_counts().await;
    db.close().await;
    Ok(())
}

/// Migrates as soon as the database answers, then keeps days, due runs and cells up to date. A
/// database that goes away is waited for.
async fn keep_house(db: Db, cadence: bool, ready: Arc<AtomicBool>) {
    while let Err(e) = prepare(&db).await {
        tracing::warn!("waiting for the database: {e}");
        tokio::time::sleep(Duration::from_secs(2)).await;
    }
    ready.store(true, Ordering::Relaxed);
    tokio::spawn(cadentis_intake::roll_up(db.clone()));
    tokio::spawn(cadentis_intake::import::work_on_tasks(db.clone()));
    let mut beats: u64 = 0;
    loop {
        let now = Timestamp::now();
        let kept = async {
            if beats.is_multiple_of(240) {
                db.ensure_days_around(now).await?;
                let (days, columns) = db.forget_rows(now).await?;
                if days + columns > 0 {
                    tracing::info!(
                        "rows of {days} days and {columns} columns about people have left: their time is over"
                    );
                }
                for site in db.sites().await? {
                    let gone = db.forget(&site, now).await?;
                    if gone > 0 {
                        tracing::info!("{gone} pieces of evidence of {} have left: their time is over", site.name);
                    }
                }
            }
            if cadence {
                db.make_due(now).await?;
            }
            Ok::<(), cadentis_store::StoreError>(())
        };
        if let Err(e) = kept.await {
            tracing::warn!("due runs wait: {e}");
        }
        beats += 1;
        tokio::time::sleep(Duration::from_secs(5)).await;
    }
}

async fn prepare(db: &Db) -> cadentis_store::Result<()> {
    db.migrate().await?;
    db.ensure_days_around(Timestamp::now()).await
}
