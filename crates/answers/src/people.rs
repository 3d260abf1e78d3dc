//! People at the door: signing in and out, links that let somebody choose a password, and what everybody may do.
//!
//! Passwords are kept as argon2id; what cookies and links hold is kept as its SHA-256. Whoever tries in vain waits longer
//! each time, by account and by network, and hears the same whether there is such an account or not.

use crate::changes::{self, Author, One, told};
use crate::compute::ComputeError;
use crate::{Answers, Result};
use argon2::password_hash::{PasswordHash, PasswordHasher, PasswordVerifier, SaltString};
use argon2::{Algorithm, Argon2, Params, Version};
use cadentis_core::access::{
    FREE_TRIES, FREE_TRIES_OF_NETWORK, LONGEST_PASSWORD, PROVED_S, Rights, SHORTEST_PASSWORD, Scope,
};
use cadentis_core::text;
pub use cadentis_store::api_token::ApiToken;
pub use cadentis_store::audit::Done;
pub use cadentis_store::person::{Changed, Given, Person};
pub use cadentis_store::session::{Session, Signed, SiteName};
use jiff::Timestamp;
use rand::RngCore;
use sha2::{Digest, Sha256};
use std::fmt::Write;
use std::net::IpAddr;
use std::sync::LazyLock;
use uuid::Uuid;

/// A link that an administrator gives somebody is good for so many seconds.
const LINK_S: i64 = 3 * 86_400;
/// The link that makes the first administrator is good for so many seconds after the server was started.
const FIRST_LINK_S: i64 = 86_400;
/// An address is no longer than this (RFC 5321, 4.5.3.1.3).
const LONGEST_EMAIL: usize = 254;
/// Of what a browser says of itself so much is kept.
const LONGEST_BROWSER: usize = 120;

/// What a cookie or a link holds.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Token(String);

impl Token {
    pub(crate) fn new() -> Token {
        let mut bytes = [0u8; 32];
        rand::rng().fill_bytes(&mut bytes);
        Token(hex(&bytes))
    }

    /// As it stands in a cookie or a link.
    pub fn text(&self) -> &str {
        &self.0
    }
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().fold(String::new(), |mut text, b| {
        let _ = write!(text, "{b:02x}");
        text
    })
}

pub(crate) fn hashed(token: &str) -> Vec<u8> {
    Sha256::digest(token.as_bytes()).to_vec()
}

/// Argon2id with 19 MiB, two passes, one lane (RFC 9106; the parameters are common practice, no published source).
fn hasher() -> Argon2<'static> {
    Argon2::new(Algorithm::Argon2id, Version::V0x13, Params::default())
}

fn hash_of(password: &str) -> Option<String> {
    let mut salt = [0u8; 16];
    rand::rng().fill_bytes(&mut salt);
    let salt = SaltString::encode_b64(&salt).ok()?;
    Some(hasher().hash_password(password.as_bytes(), &salt).ok()?.to_string())
}

/// What a password is held against when there is no such account: it takes as long.
static NOBODYS: LazyLock<String> =
    LazyLock::new(|| hash_of("nobody's password").unwrap_or_default());

fn is_right(password: &str, hash: &str) -> bool {
    PasswordHash::new(hash)
        .is_ok_and(|hash| hasher().verify_password(password.as_bytes(), &hash).is_ok())
}

/// Why a password is not taken.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[expect(missing_docs, reason = "each says what it is when it is told")]
pub enum Weak {
    #[error("A password has {SHORTEST_PASSWORD} characters at least.")]
    Short,
    #[error("A password has {LONGEST_PASSWORD} bytes at most.")]
    Long,
    #[error(
        "This one would be guessed. Several words that have nothing to do with each other are better."
    )]
    Guessable,
}

/// Whether a password is good enough; `about` is what others know of who chooses it.
///
/// # Errors
/// When it is too short, too long, or would be guessed in less than 10⁸ tries (a zxcvbn score below 3).
pub fn is_strong(password: &str, about: &[&str]) -> std::result::Result<(), Weak> {
    if password.chars().count() < SHORTEST_PASSWORD {
        return Err(Weak::Short);
    }
    if password.len() > LONGEST_PASSWORD {
        return Err(Weak::Long);
    }
    let parts = about.iter().flat_map(|a| a.split(|c: char| !c.is_alphanumeric()));
    let about: Vec<&str> = about.iter().copied().chain(parts).filter(|a| !a.is_empty()).collect();
    match zxcvbn::zxcvbn(password, &about).score() {
        zxcvbn::Score::Three | zxcvbn::Score::Four => Ok(()),
        _ => Err(Weak::Guessable),
    }
}

/// An address as it is kept: in lower case, without what it cannot hold. `None` when it is none.
pub fn email_of(given: &str) -> Option<String> {
    let email = text::clean(given.trim(), LONGEST_EMAIL, None).to_lowercase();
    let (name, host) = email.split_once('@')?;
    let fine = !name.is_empty() && host.contains('.') && !email.contains(char::is_whitespace);
    (fine && !host.contains('@') && given.trim().len() <= LONGEST_EMAIL).then_some(email)
}

/// Those behind one address share their tries; of IPv6 a whole /64 is one household (RFC 6177).
fn network(address: IpAddr) -> String {
    match address.to_canonical() {
        IpAddr::V4(v4) => format!("network {v4}"),
        IpAddr::V6(v6) => {
            let [a, b, c, d, ..] = v6.segments();
            format!("network {a:x}:{b:x}:{c:x}:{d:x}::/64")
        }
    }
}

/// What came of signing in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignIn {
    /// Whoever it is is in.
    In(Token),
    /// Address or password is wrong; which of them is not told.
    Wrong,
    /// It was not looked at: so many seconds must pass first.
    Wait(i64),
}

/// Where somebody comes from.
#[derive(Debug, Clone, Copy)]
pub struct From<'a> {
    /// Their address.
    pub address: IpAddr,
    /// What their browser says of itself.
    pub browser: &'a str,
}

/// Signs somebody in by address and password.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn sign_in(
    answers: &Answers,
    email: &str,
    password: &str,
    from: From<'_>,
) -> Result<SignIn> {
    if !answers.sign_on.takes_passwords() {
        return Ok(SignIn::Wrong);
    }
    let email = email_of(email).unwrap_or_default();
    let (account, network) = (format!("account {email}"), network(from.address));
    if let Some(wait) = take_try(answers, &account, &network).await? {
        return Ok(SignIn::Wait(wait));
    }
    let found = answers.db.person_at(&email).await?;
    let (person, hash) = found.map_or((None, None), |(person, hash)| (Some(person), hash));
    let right = verified(answers, password, hash).await?;
    let Some(person) = person.filter(|_| right) else { return Ok(SignIn::Wrong) };
    came_in(answers, &account, &network).await?;
    Ok(SignIn::In(begin(answers, &person, from, 0).await?))
}

/// Takes a try, which counts as vain until it is known to be right: of a thousand at once only the first are looked at. Gives
/// how long whoever it is must wait instead.
async fn take_try(answers: &Answers, account: &str, network: &str) -> Result<Option<i64>> {
    let wait = answers.db.take_try(network, FREE_TRIES_OF_NETWORK).await?;
    if wait > 0 {
        return Ok(Some(wait));
    }
    let wait = answers.db.take_try(account, FREE_TRIES).await?;
    Ok((wait > 0).then_some(wait))
}

/// Forgets the vain tries of an account whose owner has come in, and the try itself of the network.
async fn came_in(answers: &Answers, account: &str, network: &str) -> Result<()> {
    answers.db.forget_tries(account).await?;
    Ok(answers.db.give_try_back(network).await?)
}

async fn verified(answers: &Answers, password: &str, hash: Option<String>) -> Result<bool> {
    if password.len() > LONGEST_PASSWORD {
        return Ok(false);
    }
    let password = password.to_string();
    let checking = answers.computed(move || match &hash {
        Some(hash) => is_right(&password, hash),
        None => {
            is_right(&password, &NOBODYS);
            false
        }
    });
    checking.await
}

async fn hash(answers: &Answers, password: &str) -> Result<String> {
    let password = password.to_string();
    let hash = answers.computed(move || hash_of(&password)).await?;
    Ok(hash.ok_or(ComputeError::Failed)?)
}

/// Begins a session of somebody who proved so many seconds ago who they are.
///
/// # Errors
/// When the database does not answer.
pub async fn begin(
    answers: &Answers,
    person: &Person,
    from: From<'_>,
    proved_ago_s: i64,
) -> Result<Token> {
    let token = Token::new();
    let browser = text::clean(from.browser, LONGEST_BROWSER, None);
    let hash = hashed(token.text());
    let one = answers.one().await?;
    one.db.begin_session(&hash, person.id, &browser, from.address, proved_ago_s).await?;
    noted(one, person, Some(from.address), "signed in", "").await?;
    Ok(token)
}

async fn noted(
    one: One,
    by: &Person,
    address: Option<IpAddr>,
    what: &str,
    which: &str,
) -> Result<()> {
    changes::noted(one, &Author::person(by, address), what, which).await
}

/// Who has this session, if it has not ended.
///
/// # Errors
/// When the database does not answer.
pub async fn signed(answers: &Answers, token: &str) -> Result<Option<Signed>> {
    // Nothing else was ever given out.
    if token.len() != 64 {
        return Ok(None);
    }
    Ok(answers.db.signed(&hashed(token)).await?)
}

/// What somebody may do on this site; without a site, what they may do on any of theirs.
pub fn rights(signed: &Signed, site_id: Option<i32>) -> Rights {
    let asked = |site: i32| site_id.is_none_or(|id| id == site);
    let roles = signed.person.roles.iter().filter(|(site, _)| asked(*site));
    Rights {
        is_administrator: signed.person.is_administrator,
        role: roles.map(|(_, role)| *role).max(),
        sees_people: signed.person.sees_people,
        proved: signed.proved_for_s < PROVED_S,
    }
}

/// Whether this is the password of whoever is signed in; it need not be typed again for a while then. Wrong ones count as
/// tries at the account.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn prove(
    answers: &Answers,
    signed: &Signed,
    password: &str,
    address: IpAddr,
) -> Result<SignIn> {
    if !answers.sign_on.takes_passwords() {
        return Ok(SignIn::Wrong);
    }
    let (account, network) = (format!("account {}", signed.person.email), network(address));
    if let Some(wait) = take_try(answers, &account, &network).await? {
        return Ok(SignIn::Wait(wait));
    }
    let hash = answers.db.password_of(signed.person.id).await?;
    if !verified(answers, password, hash).await? {
        return Ok(SignIn::Wrong);
    }
    came_in(answers, &account, &network).await?;
    answers.db.prove(signed.session).await?;
    Ok(SignIn::In(Token(String::new())))
}

/// Sets the password of somebody who is signed in: all their sessions end, and a new one begins.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn set_password(
    answers: &Answers,
    person: &Person,
    password: &str,
    from: From<'_>,
) -> Result<Token> {
    let hash = hash(answers, password).await?;
    let one = answers.one().await?;
    one.db.set_password(person.id, &hash).await?;
    noted(one, person, Some(from.address), "changed their password", "").await?;
    begin(answers, person, from, 0).await
}

/// Ends a session of somebody; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn end(answers: &Answers, signed: &Signed, session: Uuid) -> Result<bool> {
    Ok(answers.db.end_session(signed.person.id, session).await?)
}

/// The sessions of somebody, newest first.
///
/// # Errors
/// When the database does not answer.
pub async fn sessions(answers: &Answers, signed: &Signed) -> Result<Vec<Session>> {
    Ok(answers.db.sessions_of(signed.person.id).await?)
}

/// Everybody.
///
/// # Errors
/// When the database does not answer.
pub async fn all(answers: &Answers) -> Result<Vec<Person>> {
    Ok(answers.db.people().await?)
}

/// What was done before a moment, newest first, so many at most; of whose name `who` is a part, if it is not empty.
///
/// # Errors
/// When the database does not answer.
pub async fn done(
    answers: &Answers,
    before: Option<Timestamp>,
    who: &str,
    most: i64,
) -> Result<Vec<Done>> {
    Ok(answers.db.done_before(before, who, most).await?)
}

/// The link that makes the first administrator, while there is none.
///
/// # Errors
/// When the database does not answer.
pub async fn first_link(answers: &Answers) -> Result<Option<Token>> {
    if !answers.sign_on.takes_passwords() || !answers.db.has_nobody().await? {
        return Ok(None);
    }
    let token = Token::new();
    answers.db.add_link(&hashed(token.text()), None, FIRST_LINK_S).await?;
    Ok(Some(token))
}

/// Whether nobody looks after this installation yet.
///
/// # Errors
/// When the database does not answer.
pub async fn has_nobody(answers: &Answers) -> Result<bool> {
    Ok(answers.db.has_nobody().await?)
}

/// For whom a link is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Invited {
    /// The first administrator, who is to say who they are.
    First,
    /// Somebody who chooses a password.
    Somebody {
        /// Their name.
        name: String,
        /// Their address.
        email: String,
    },
}

/// For whom this link is, if it is still good.
///
/// # Errors
/// When the database does not answer.
pub async fn invited(answers: &Answers, token: &str) -> Result<Option<Invited>> {
    if !answers.sign_on.takes_passwords() {
        return Ok(None);
    }
    let found = answers.db.link(&hashed(token)).await?;
    Ok(found.map(|person| match person {
        None => Invited::First,
        Some((_, name, email)) => Invited::Somebody { name, email },
    }))
}

/// Uses a link up: the password is set, and whoever it is is in. `None` when the link is good no more. `first` is the
/// address and the name of the first administrator.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn accept(
    answers: &Answers,
    token: &str,
    first: Option<(&str, &str)>,
    password: &str,
    from: From<'_>,
) -> Result<Option<Token>> {
    if !answers.sign_on.takes_passwords() {
        return Ok(None);
    }
    let hash = hash(answers, password).await?;
    let one = answers.one().await?;
    let Some(id) = one.db.use_link(&hashed(token), first, &hash).await? else {
        return Ok(None);
    };
    let Some(person) = all(&one).await?.into_iter().find(|p| p.id == id) else {
        return Ok(None);
    };
    noted(one, &person, Some(from.address), "chose a password", "").await?;
    Ok(Some(begin(answers, &person, from, 0).await?))
}

/// Somebody new, or a new link for somebody: what they choose a password by.
///
/// # Errors
/// When the database does not answer.
pub async fn link_for(answers: &Answers, by: &Author, id: i32) -> Result<Token> {
    let token = Token::new();
    let one = answers.one().await?;
    one.db.add_link(&hashed(token.text()), Some(id), LINK_S).await?;
    let name = name_of(&one, id).await?;
    changes::noted(one, by, "made a link for", name).await?;
    Ok(token)
}

async fn name_of(answers: &Answers, id: i32) -> Result<String> {
    let all = answers.db.people().await?;
    Ok(all.into_iter().find(|p| p.id == id).map_or_else(|| format!("person {id}"), |p| p.name))
}

/// What became of inviting somebody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Invitation {
    /// The address is somebody's already.
    Taken,
    /// They choose a password by the link.
    Link(Token),
    /// They come by the provider, which knows their address.
    ByProvider,
}

/// Adds somebody.
///
/// # Errors
/// When the database does not answer.
pub async fn invite(
    answers: &Answers,
    by: &Author,
    email: &str,
    name: &str,
    given: &Given,
) -> Result<Invitation> {
    let one = answers.one().await?;
    let Some(id) = one.db.add_person(email, name, given).await? else {
        return Ok(Invitation::Taken);
    };
    changes::noted(one, by, "invited", name).await?;
    if !answers.sign_on.takes_passwords() {
        return Ok(Invitation::ByProvider);
    }
    Ok(Invitation::Link(link_for(answers, by, id).await?))
}

/// Changes what somebody may do.
///
/// # Errors
/// When the database does not answer.
pub async fn set_given(answers: &Answers, by: &Author, id: i32, given: &Given) -> Result<Changed> {
    let one = answers.one().await?;
    let before = told::rights_now(&one, id).await?;
    let changed = one.db.set_given(id, given).await?;
    if changed == Changed::Done {
        let (which, after) = (name_of(&one, id).await?, told::rights_now(&one, id).await?);
        let parts = (&before, &after);
        changes::noted_change(one, by, "changed the rights of", &which, parts).await?;
    }
    Ok(changed)
}

/// Lets somebody sign in no more, or again.
///
/// # Errors
/// When the database does not answer.
pub async fn set_gone(answers: &Answers, by: &Author, id: i32, gone: bool) -> Result<Changed> {
    let one = answers.one().await?;
    let changed = one.db.set_gone(id, gone).await?;
    if changed == Changed::Done {
        let what = if gone { "shut out" } else { "let in again" };
        let name = name_of(&one, id).await?;
        changes::noted(one, by, what, name).await?;
    }
    Ok(changed)
}

/// Adds somebody with a password, for a demo.
///
/// # Errors
/// When the database does not answer or too much waits.
pub async fn add_with_password(
    answers: &Answers,
    email: &str,
    name: &str,
    given: &Given,
    password: &str,
) -> Result<()> {
    if let Some(id) = answers.db.add_person(email, name, given).await? {
        answers.db.set_password(id, &hash(answers, password).await?).await?;
    }
    Ok(())
}

/// Signs somebody of a demo in, whose passwords everybody knows.
///
/// # Errors
/// When the database does not answer.
pub async fn sign_in_without(
    answers: &Answers,
    email: &str,
    from: From<'_>,
) -> Result<Option<Token>> {
    match answers.db.person_at(email).await? {
        Some((person, _)) => Ok(Some(begin(answers, &person, from, 0).await?)),
        None => Ok(None),
    }
}

/// A token for a program, which is shown once.
///
/// # Errors
/// When the database does not answer.
pub async fn make_token(
    answers: &Answers,
    by: &Author,
    site_id: i32,
    name: &str,
    scopes: &[Scope],
    days: i32,
) -> Result<Token> {
    let token = Token::new();
    let hash = hashed(token.text());
    let one = answers.one().await?;
    let id = one.db.add_api_token(&hash, site_id, name, scopes, by.name(), days).await?;
    let made = told::token_now(&one, site_id, id).await?;
    changes::noted_change(one, by, "made the token", name, (&Vec::new(), &made)).await?;
    Ok(token)
}

/// The token that a program shows, while it is good.
///
/// # Errors
/// When the database does not answer.
pub async fn shown_token(answers: &Answers, token: &str) -> Result<Option<ApiToken>> {
    if token.len() != 64 {
        return Ok(None);
    }
    Ok(answers.db.api_token(&hashed(token)).await?)
}

/// The tokens of a site, newest first.
///
/// # Errors
/// When the database does not answer.
pub async fn tokens(answers: &Answers, site_id: i32) -> Result<Vec<ApiToken>> {
    Ok(answers.db.api_tokens(site_id).await?)
}

/// Takes a token away at once; whether there was one.
///
/// # Errors
/// When the database does not answer.
pub async fn remove_token(answers: &Answers, by: &Author, site_id: i32, id: Uuid) -> Result<bool> {
    let one = answers.one().await?;
    let before = told::token_now(&one, site_id, id).await?;
    match one.db.remove_api_token(site_id, id).await? {
        Some(name) => {
            let told = (&before, &Vec::new());
            changes::noted_change(one, by, "took away the token", name, told).await?;
            Ok(true)
        }
        None => Ok(false),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_password_is_kept_so_that_only_itself_is_right() {
        let hash = hash_of("four fern ferries fog").unwrap();
        assert!(hash.starts_with("$argon2id$v=19$m=19456,t=2,p=1$"), "{hash}");
        assert!(is_right("four fern ferries fog", &hash));
        assert!(!is_right("four fern ferries fox", &hash) && !is_right("", &hash));
        assert_ne!(hash, hash_of("four fern ferries fog").unwrap(), "each has a salt of its own");
        assert!(!is_right("anything", "no hash at all"));
    }

    #[test]
    fn a_password_that_would_be_guessed_is_not_taken() {
        assert_eq!(is_strong("short", &[]), Err(Weak::Short));
        assert_eq!(is_strong(&"a long one ".repeat(30), &[]), Err(Weak::Long));
        for guessed in ["password12", "qwertyuiop", "aaaaaaaaaaaa", "1234567890"] {
            assert_eq!(is_strong(guessed, &[]), Err(Weak::Guessable), "{guessed}");
        }
        let about = ["ida.holm@marram.example", "Ida Holm"];
        assert_eq!(is_strong("holm marram", &about), Err(Weak::Guessable));
        assert_eq!(is_strong("four fern ferries fog", &about), Ok(()));
    }

    #[test]
    fn an_address_is_kept_in_one_form_and_what_is_none_is_refused() {
        assert_eq!(email_of(" Ida@Marram.Example ").as_deref(), Some("ida@marram.example"));
        let long = format!("{}@marram.example", "a".repeat(250));
        for wrong in
            ["", "ida", "@marram.example", "ida@marram", "a b@c.example", "a@b@c.example", &long]
        {
            assert_eq!(email_of(wrong), None, "{wrong}");
        }
    }

    #[test]
    fn one_household_is_one_network() {
        let of = |a: &str| network(a.parse().unwrap());
        assert_eq!(of("2001:db8:1:2::9"), of("2001:db8:1:2:ffff::1"));
        assert_ne!(of("2001:db8:1:2::9"), of("2001:db8:1:3::9"));
        assert_eq!(of("::ffff:198.51.100.7"), of("198.51.100.7"));
        assert_ne!(of("198.51.100.7"), of("198.51.100.8"));
    }
}
