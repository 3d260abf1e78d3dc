//! `cadentis new-key` and `cadentis rekey`: keys that secrets are sealed with, made and changed.

use crate::Failure;
use crate::serve::new_key;
use cadentis_store::Db;
use cadentis_store::secret::Vault;
use std::path::{Path, PathBuf};

#[derive(clap::Args)]
pub struct NewKey {
    /// The file, which must not be there yet
    file: PathBuf,
}

#[derive(clap::Args)]
pub struct Rekey {
    /// The file that holds the keys, newest first
    #[arg(long)]
    secret_key_file: PathBuf,
    /// The PostgreSQL database
    #[arg(long, env = "DATABASE_URL", required_unless_present = "add")]
    database_url: Option<String>,
    /// Only put a new key before the others: servers that are started again then seal with it, and open with all
    #[arg(long)]
    add: bool,
}

pub fn make(args: &NewKey) -> Result<(), Failure> {
    let file = args.file.display();
    new_key(&args.file).map_err(|e| format!("a new key in {file}: {e}"))?;
    println!("A new key is in {file}. Keep a copy of it, apart from backups of the database.");
    Ok(())
}

/// Puts a new key before the others, in one step: nobody ever reads half a file.
fn add(file: &Path) -> Result<(), Failure> {
    let said = |e: std::io::Error| format!("the keys in {}: {e}", file.display());
    let keys = std::fs::read_to_string(file).map_err(said)?;
    Vault::new(&keys)?;
    let draft = file.with_extension("new");
    let text = format!("{}\n{}\n", Vault::new_key(), keys.trim());
    crate::seed::for_us_alone(&draft, &text).map_err(said)?;
    std::fs::rename(&draft, file).map_err(said)?;
    println!(
        "A new key stands first in {}. Start every server again, then run this without --add.",
        file.display()
    );
    Ok(())
}

pub async fn rekey(args: Rekey) -> Result<(), Failure> {
    let file = &args.secret_key_file;
    let Some(url) = args.database_url.filter(|_| !args.add) else { return add(file) };
    let keys = std::fs::read_to_string(file)
        .map_err(|e| format!("the keys in {}: {e}", file.display()))?;
    let vault = Vault::new(&keys)?;
    let db = Db::connect(&url)?;
    let done = db.reseal(&vault).await?;
    db.close().await;
    let count = done.map_err(|e| format!("nothing was changed: {e}"))?;
    println!("{count} secrets are sealed with the key {} now.", vault.seals_with());
    println!("The older keys stay in {}: by the last of them people are known.", file.display());
    Ok(())
}
