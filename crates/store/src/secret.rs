//! Secrets of a site: sealed before they come here, opened after they leave.
//!
//! [`Vault`] holds the key, which is never in the database. A secret is sealed with
//! XChaCha20-Poly1305 under a nonce of its own, bound to its site and name: a row copied to another
//! name does not open.

use crate::db::{Db, Result};
use chacha20poly1305::aead::{Aead, KeyInit, Payload};
use chacha20poly1305::{Key, XChaCha20Poly1305, XNonce};
use hmac::{Hmac, Mac};
use jiff::Timestamp;
use jiff_sqlx::ToSqlx;
use rand::RngCore;
use sha2::{Digest, Sha256};
use std::collections::HashMap;

const NONCE: usize = 24;

/// Seals and opens secrets: with the newest of its keys it seals, and opens with any.
#[derive(Clone)]
pub struct Vault {
    /// Newest first, each with its id.
    keys: Vec<(String, XChaCha20Poly1305)>,
    /// What links are signed with, made of the same keys.
    links: Vec<[u8; 32]>,
}

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault")
    }
}

/// Why a key or a sealed secret is of no use.
#[derive(Debug, thiserror::Error, PartialEq)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum VaultError {
    #[error("a key is 64 hexadecimal digits, each on a line of its own; this is something else")]
    NoKey,
    #[error("the secret {0} was sealed with another key")]
    OtherKey(String),
}

impl Vault {
    /// Takes keys of 64 hexadecimal digits, a line each, the newest first.
    ///
    /// # Errors
    /// When there is none, or something else.
    pub fn new(keys: &str) -> std::result::Result<Vault, VaultError> {
        let lines = keys.lines().map(str::trim).filter(|line| !line.is_empty());
        let lines: Vec<&str> = lines.collect();
        let of =
            |line: &&str| Sha256::digest(format!("links, {}", line.to_ascii_lowercase())).into();
        let links = lines.iter().map(of).collect();
        let keys: Vec<_> =
            lines.into_iter().map(Vault::key).collect::<std::result::Result<_, _>>()?;
        if keys.is_empty() { Err(VaultError::NoKey) } else { Ok(Vault { keys, links }) }
    }

    /// What shows that a link is ours: HMAC-SHA-256 (RFC 2104) of what it holds, in hexadecimal digits.
    pub fn sign_link(&self, holds: &str) -> String {
        let mac = self.links.first().and_then(|key| Vault::link_of(key, holds));
        let bytes = mac.map(|mac| mac.finalize().into_bytes());
        bytes.into_iter().flatten().map(|b| format!("{b:02x}")).collect()
    }

    /// Whether a link is ours, signed with any of the keys.
    pub fn has_signed_link(&self, holds: &str, signature: &str) -> bool {
        let pairs = signature.as_bytes().chunks(2);
        let digits = |pair: &[u8]| u8::from_str_radix(std::str::from_utf8(pair).ok()?, 16).ok();
        let Some(given) = pairs.map(digits).collect::<Option<Vec<u8>>>() else { return false };
        // Compared in a time that tells nothing of where they differ.
        let mut macs = self.links.iter().filter_map(|key| Vault::link_of(key, holds));
        macs.any(|mac| mac.verify_slice(&given).is_ok())
    }

    fn link_of(key: &[u8; 32], holds: &str) -> Option<Hmac<Sha256>> {
        let mut mac = <Hmac<Sha256> as KeyInit>::new_from_slice(key).ok()?;
        mac.update(holds.as_bytes());
        Some(mac)
    }

    fn key(key: &str) -> std::result::Result<(String, XChaCha20Poly1305), VaultError> {
        let digits = key.len() == 64 && key.bytes().all(|b| b.is_ascii_hexdigit());
        let byte =
            |at: usize| u8::from_str_radix(&key[at..at + 2], 16).map_err(|_| VaultError::NoKey);
        let bytes: Vec<u8> = match digits {
            true => (0..64).step_by(2).map(byte).collect::<std::result::Result<_, _>>()?,
            false => return Err(VaultError::NoKey),
        };
        let id = Sha256::digest(&bytes).iter().take(4).map(|b| format!("{b:02x}")).collect();
        let key = Key::try_from(bytes.as_slice()).map_err(|_| VaultError::NoKey)?;
        Ok((id, XChaCha20Poly1305::new(&key)))
    }

    /// The id of the key that it seals with.
    pub fn seals_with(&self) -> &str {
        self.keys.first().map_or("", |(id, _)| id)
    }

    /// A new key, as it stands in a key file.
    pub fn new_key() -> String {
        let mut bytes = [0u8; 32];
        rand::rng().fill_bytes(&mut bytes);
        bytes.iter().map(|b| format!("{b:02x}")).collect()
    }

    pub(crate) fn seal(&self, place: &str, secret: &str) -> Vec<u8> {
        let mut nonce = [0u8; NONCE];
        rand::rng().fill_bytes(&mut nonce);
        let payload = Payload { msg: secret.as_bytes(), aad: place.as_bytes() };
        // Encryption fails only for texts of many gigabytes.
        let newest = self.keys.first();
        let sealed = newest.and_then(|(_, key)| key.encrypt(&XNonce::from(nonce), payload).ok());
        let sealed = sealed.unwrap_or_default();
        [nonce.as_slice(), &sealed].concat()
    }

    pub(crate) fn open(&self, place: &str, sealed: &[u8]) -> Option<String> {
        let (nonce, sealed) = sealed.split_at_checked(NONCE)?;
        let nonce = XNonce::try_from(nonce).ok()?;
        let payload = || Payload { msg: sealed, aad: place.as_bytes() };
        // Whatever another key sealed does not open: the seal says so.
        let opened = self.keys.iter().find_map(|(_, key)| key.decrypt(&nonce, payload()).ok())?;
        String::from_utf8(opened).ok()
    }
}

fn place(site_id: i32, name: &str) -> String {
    format!("{site_id}/{name}")
}

/// A secret without what it is.
#[derive(Debug, Clone)]
pub struct Secret {
    /// Its name.
    pub name: String,
    /// Who set it.
    pub author: String,
    /// When.
    pub set_at: Timestamp,
    /// Hosts that it may be typed into or sent to, with everything below them; none: the domains of its site.
    pub hosts: Vec<String>,
}

/// A secret, opened.
#[derive(Clone)]
pub struct Opened {
    /// What it is.
    pub secret: String,
    /// See [`Secret::hosts`].
    pub hosts: Vec<String>,
}

impl Db {
    /// The secrets of a site, without what they are.
    pub async fn secrets(&self, site_id: i32) -> Result<Vec<Secret>> {
        let rows: Vec<(String, String, jiff_sqlx::Timestamp, Vec<String>)> = sqlx::query_as(
            "SELECT name, author, set_at, hosts FROM secret WHERE site_id = $1 ORDER BY name",
        )
        .bind(site_id)
        .fetch_all(&self.lane)
        .await?;
        Ok(rows
            .into_iter()
            .map(|(name, author, set_at, hosts)| Secret {
                name,
                author,
                set_at: set_at.to_jiff(),
                hosts,
            })
            .collect())
    }

    /// Seals and keeps a secret; one of the same name is replaced.
    pub async fn set_secret(
        &self,
        vault: &Vault,
        site_id: i32,
        (name, secret): (&str, &str),
        hosts: &[String],
        author: &str,
        now: Timestamp,
    ) -> Result<()> {
        sqlx::query(
            "INSERT INTO secret VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (site_id, name) DO UPDATE SET sealed = $3, author = $4, set_at = $5, key_id = $6, hosts = $7",
        )
        .bind(site_id)
        .bind(name)
        .bind(vault.seal(&place(site_id, name), secret))
        .bind(author)
        .bind(now.to_sqlx())
        .bind(vault.seals_with())
        .bind(hosts)
        .execute(&self.lane)
        .await?;
        Ok(())
    }

    /// Seals every secret anew with the newest key, all or none: how many there were to seal.
    ///
    /// # Errors
    /// The inner error names a secret that none of the keys opens: nothing is changed then.
    pub async fn reseal(&self, vault: &Vault) -> Result<std::result::Result<u64, VaultError>> {
        let mut tx = self.lane.begin().await?;
        let rows: Vec<(i32, String, Vec<u8>)> = sqlx::query_as(
            "SELECT site_id, name, sealed FROM secret WHERE key_id IS DISTINCT FROM $1 FOR UPDATE",
        )
        .bind(vault.seals_with())
        .fetch_all(&mut *tx)
        .await?;
        for (site_id, name, sealed) in &rows {
            let place = place(*site_id, name);
            let Some(secret) = vault.open(&place, sealed) else {
                return Ok(Err(VaultError::OtherKey(name.clone())));
            };
            let sql = "UPDATE secret SET sealed = $3, key_id = $4 WHERE site_id = $1 AND name = $2";
            sqlx::query(sql)
                .bind(site_id)
                .bind(name)
                .bind(vault.seal(&place, &secret))
                .bind(vault.seals_with())
                .execute(&mut *tx)
                .await?;
        }
        // What messages are signed with says nothing of its key: all of it is sealed anew.
        let signing: Vec<(i32, Vec<u8>)> = sqlx::query_as(
            "SELECT id, secret FROM destination WHERE secret IS NOT NULL FOR UPDATE",
        )
        .fetch_all(&mut *tx)
        .await?;
        for (id, sealed) in &signing {
            let place = crate::notice::place(*id);
            let Some(secret) = vault.open(&place, sealed) else {
                return Ok(Err(VaultError::OtherKey(place)));
            };
            sqlx::query("UPDATE destination SET secret = $2 WHERE id = $1")
                .bind(id)
                .bind(vault.seal(&place, &secret))
                .execute(&mut *tx)
                .await?;
        }
        tx.commit().await?;
        Ok(Ok((rows.len() + signing.len()) as u64))
    }

    /// Removes a secret.
    pub async fn remove_secret(&self, site_id: i32, name: &str) -> Result<()> {
        sqlx::query("DELETE FROM secret WHERE site_id = $1 AND name = $2")
            .bind(site_id)
            .bind(name)
            .execute(&self.lane)
            .await?;
        Ok(())
    }

    /// These secrets of a site, opened; those that are not there are left out.
    ///
    /// # Errors
    /// The inner error names a secret that was sealed with another key.
    pub async fn open_secrets(
        &self,
        vault: &Vault,
        site_id: i32,
        names: &[String],
    ) -> Result<std::result::Result<HashMap<String, Opened>, VaultError>> {
        let sql = "SELECT name, sealed, hosts FROM secret WHERE site_id = $1 AND name = ANY($2)";
        let rows: Vec<(String, Vec<u8>, Vec<String>)> =
            sqlx::query_as(sql).bind(site_id).bind(names).fetch_all(&self.lane).await?;
        let open = |(name, sealed, hosts): (String, Vec<u8>, Vec<String>)| match vault
            .open(&place(site_id, &name), &sealed)
        {
            Some(secret) => Ok((name, Opened { secret, hosts })),
            None => Err(VaultError::OtherKey(name)),
        };
        Ok(rows.into_iter().map(open).collect())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sealed_secret_opens_only_with_its_key_under_its_name_and_unchanged() {
        let vault = Vault::new(&Vault::new_key()).expect("a key");
        let sealed = vault.seal("1/desk", "sea & sand");
        assert!(!sealed.windows(3).any(|w| w == b"sea"));
        assert_eq!(vault.open("1/desk", &sealed).as_deref(), Some("sea & sand"));
        assert_eq!(vault.open("2/desk", &sealed), None);
        assert_ne!(sealed, vault.seal("1/desk", "sea & sand"), "a nonce of its own each time");
        let mut changed = sealed.clone();
        *changed.last_mut().expect("bytes") ^= 1;
        assert_eq!(vault.open("1/desk", &changed), None);
        assert_eq!(vault.open("1/desk", &sealed[..10]), None);
        let other = Vault::new(&Vault::new_key()).expect("a key");
        assert_eq!(other.open("1/desk", &sealed), None);
        assert_eq!(Vault::new("not hexadecimal").err(), Some(VaultError::NoKey));
    }
}
