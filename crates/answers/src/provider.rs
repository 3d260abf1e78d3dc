//! Signing in by a provider of OpenID Connect, and what its groups give.

use crate::changes::{self, Author, told};
use crate::people::{self, From, Token};
use crate::{Answers, Result};
use cadentis_core::groups::{Grant, Rule};
use cadentis_core::text;
use cadentis_provider::{Identity, Provider, ProviderError};
pub use cadentis_store::group_rule::KeptRule;
use cadentis_store::group_rule::{Arrived, Arriving};
use cadentis_store::provider_sign_in::Begun;
use cadentis_store::session::Signed;
use std::sync::Arc;

/// A name has at most so many characters.
const LONGEST_NAME: usize = 80;
/// The clock of a provider may be so many seconds behind ours.
const CLOCKS_DIFFER_S: i64 = 30;

/// How an installation lets people in.
#[derive(Debug, Clone, Default)]
pub struct SignOn {
    /// The provider, if there is one.
    provider: Option<Provider>,
    /// The group whose members look after the installation, whatever is set up on pages.
    administrators: Option<Arc<str>>,
    /// Whether passwords let nobody in.
    without_passwords: bool,
}

impl SignOn {
    /// By this provider; members of `administrators` look after the installation. Without passwords it is the only way.
    pub fn by(
        provider: Provider,
        administrators: Option<String>,
        without_passwords: bool,
    ) -> SignOn {
        let administrators = administrators.map(Into::into);
        SignOn { provider: Some(provider), administrators, without_passwords }
    }

    /// What the provider is called on pages.
    pub fn name(&self) -> Option<&str> {
        self.provider.as_ref().map(Provider::name)
    }

    /// The group that stands in the settings.
    pub fn administrators(&self) -> Option<&str> {
        self.administrators.as_deref()
    }

    /// Whether passwords let people in.
    pub fn takes_passwords(&self) -> bool {
        !self.without_passwords
    }

    fn settled(&self) -> Vec<Rule> {
        let rule = |group: &str| Rule { group: group.into(), grant: Grant::Administrator };
        self.administrators.as_deref().map(rule).into_iter().collect()
    }
}

/// What was begun.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Away {
    /// Where whoever signs in is sent.
    pub address: String,
    /// What their browser shows when they come back.
    pub browser: Token,
}

/// Why somebody is not in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotIn {
    /// There is no provider.
    None,
    /// The provider does not answer, or not as one does.
    Unreachable(String),
    /// The provider did not say who it is, or what it said is not believed.
    Refused(String),
    /// The answer belongs to nothing that this browser began, or comes late, or again.
    Stale,
    /// Who it is may not sign in.
    NotAllowed(&'static str),
}

/// What came of an answer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Came {
    /// Whoever it is is in, on the way to an address of ours.
    In(Token, String),
    /// Whoever is signed in has proved who they are.
    Proved(String),
    /// Nobody is in, on the way there.
    Out(NotIn, String),
}

/// An answer as it came.
#[derive(Debug, Clone, Copy, Default)]
pub struct Answered<'a> {
    /// What was sent along.
    pub state: &'a str,
    /// What the token is given for.
    pub code: Option<&'a str>,
    /// Why there is none.
    pub error: Option<&'a str>,
    /// Who says so (RFC 9207).
    pub issuer: Option<&'a str>,
}

fn not_in(e: ProviderError) -> NotIn {
    match e {
        ProviderError::Unreachable(says) => NotIn::Unreachable(says),
        ProviderError::Refused(says) | ProviderError::NotBelieved(says) => NotIn::Refused(says),
    }
}

/// Begins: whoever signs in goes to the provider, and comes back to `back`, an address of ours; then on to `way_on`. `who`
/// is somebody who is signed in and proves again who they are.
///
/// # Errors
/// When the database does not answer.
pub async fn begin(
    answers: &Answers,
    back: &str,
    way_on: &str,
    who: Option<&Signed>,
) -> Result<std::result::Result<Away, NotIn>> {
    let Some(provider) = &answers.sign_on.provider else { return Ok(Err(NotIn::None)) };
    let begun = match provider.begin(back, who.is_some()).await {
        Ok(begun) => begun,
        Err(e) => {
            tracing::warn!("{} was not reached: {e}", provider.issuer());
            return Ok(Err(not_in(e)));
        }
    };
    let browser = Token::new();
    let kept = Begun {
        browser: people::hashed(browser.text()),
        nonce: begun.nonce,
        verifier: begun.verifier,
        way_on: way_on.into(),
        session: who.map(|w| w.session),
        begun_at_s: 0,
    };
    answers.db.begin_at_provider(&people::hashed(&begun.state), &kept).await?;
    Ok(Ok(Away { address: begun.address, browser }))
}

/// An answer has come back to `back` in a browser that shows `browser`; `who` is signed in there.
///
/// # Errors
/// When the database does not answer.
pub async fn finish(
    answers: &Answers,
    back: &str,
    answered: Answered<'_>,
    browser: &str,
    who: Option<&Signed>,
    from: From<'_>,
) -> Result<Came> {
    let out = |why| Ok(Came::Out(why, "/".into()));
    let Some(provider) = &answers.sign_on.provider else { return out(NotIn::None) };
    let Some(begun) = answers.db.take_begun(&people::hashed(answered.state)).await? else {
        return out(NotIn::Stale);
    };
    if begun.browser != people::hashed(browser) {
        return out(NotIn::Stale);
    }
    let out = |why| Ok(Came::Out(why, begun.way_on.clone()));
    if answered.issuer.is_some_and(|issuer| issuer != provider.issuer()) {
        return out(NotIn::Refused("the answer comes from somebody else".into()));
    }
    let Some(code) = answered.code else {
        let says = text::clean(answered.error.unwrap_or("no code came"), 200, None);
        return out(NotIn::Refused(says));
    };
    let identity = match provider.redeem(back, code, &begun.nonce, &begun.verifier).await {
        Ok(identity) => identity,
        Err(e) => {
            tracing::warn!("{} did not say who it is: {e}", provider.issuer());
            return out(not_in(e));
        }
    };
    match begun.session {
        Some(session) => match who.filter(|who| who.session == session) {
            Some(who) => proved(answers, who, &identity, begun).await,
            None => out(NotIn::Stale),
        },
        None => match arrived(answers, &identity, from).await? {
            Ok(token) => Ok(Came::In(token, begun.way_on)),
            Err(why) => out(why),
        },
    }
}

/// Whoever is signed in has proved it, if it is them and they did so since they were asked.
async fn proved(
    answers: &Answers,
    who: &Signed,
    identity: &Identity,
    begun: Begun,
) -> Result<Came> {
    let out = |why| Ok(Came::Out(NotIn::NotAllowed(why), begun.way_on.clone()));
    let same = answers.db.id_at_provider(&identity.issuer, &identity.subject).await?;
    if same != Some(who.person.id) {
        return out("Somebody else signed in there.");
    }
    if identity.proved_at_s.is_none_or(|at| at < begun.begun_at_s - CLOCKS_DIFFER_S) {
        return out("It does not say that you proved anew who you are.");
    }
    answers.db.prove(who.session).await?;
    Ok(Came::Proved(begun.way_on))
}

/// Lets somebody in whom the provider knows, with what their groups give.
async fn arrived(
    answers: &Answers,
    identity: &Identity,
    from: From<'_>,
) -> Result<std::result::Result<Token, NotIn>> {
    let email = identity.email.as_deref().filter(|_| identity.email_is_theirs);
    let email = email.and_then(people::email_of);
    let name = identity.name.as_deref().or(identity.email.as_deref()).unwrap_or_default();
    let name = text::clean(name.trim(), LONGEST_NAME, None);
    let arriving = Arriving {
        issuer: &identity.issuer,
        subject: &identity.subject,
        email: email.as_deref(),
        name: if name.is_empty() { &identity.subject } else { &name },
        groups: &identity.groups,
    };
    let one = answers.one().await?;
    let before = one.db.id_at_provider(&identity.issuer, &identity.subject).await?;
    let was = match before {
        Some(id) => told::rights_now(&one, id).await?,
        None => Vec::new(),
    };
    let id = match one.db.arrive(&arriving, &answers.sign_on.settled()).await? {
        Arrived::In(id) => id,
        Arrived::Gone => return Ok(Err(NotIn::NotAllowed("You may sign in here no more."))),
        Arrived::Taken => {
            let says = "Your address belongs to somebody else who signs in by it: an administrator can shut them out.";
            return Ok(Err(NotIn::NotAllowed(says)));
        }
        Arrived::NoAddress => {
            let says = "It does not say by which address you are known, or has not made sure that it is yours.";
            return Ok(Err(NotIn::NotAllowed(says)));
        }
    };
    let Some(person) = people::all(&one).await?.into_iter().find(|p| p.id == id) else {
        return Ok(Err(NotIn::NotAllowed("You may sign in here no more.")));
    };
    let became = told::rights_now(&one, id).await?;
    if was == became {
        // Nothing was changed that would have to be kept, and their session must not wait for it.
        drop(one);
    } else {
        let by = Author::person(&person, Some(from.address));
        let what = "came with other rights by their groups:";
        changes::noted_change(one, &by, what, &person.name, (&was, &became)).await?;
    }
    // Whom the provider remembered has proved nothing just now.
    let now = answers.db.now().await?.as_second();
    let proved_ago_s = identity.proved_at_s.map_or(i64::from(u32::MAX), |at| (now - at).max(0));
    Ok(Ok(people::begin(answers, &person, from, proved_ago_s).await?))
}

/// What groups give, as pages have set it up.
///
/// # Errors
/// When the database does not answer.
pub async fn rules(answers: &Answers) -> Result<Vec<KeptRule>> {
    Ok(answers.db.group_rules().await?)
}

/// Lets a group give something; `false` when it does already, or what it would give is not there.
///
/// # Errors
/// When the database does not answer.
pub async fn add_rule(answers: &Answers, by: &Author, rule: &Rule) -> Result<bool> {
    let one = answers.one().await?;
    let added = one.db.add_group_rule(rule).await?;
    if added {
        let gives = in_words(answers, rule.grant).await?;
        let which = format!("{}: {gives}", rule.group);
        changes::noted(one, by, "lets a group give", which).await?;
    }
    Ok(added)
}

/// Lets a group give something no more; whether it did.
///
/// # Errors
/// When the database does not answer.
pub async fn remove_rule(answers: &Answers, by: &Author, id: i32) -> Result<bool> {
    let one = answers.one().await?;
    let Some(kept) = one.db.remove_group_rule(id).await? else { return Ok(false) };
    let gives = in_words(answers, kept.rule.grant).await?;
    let which = format!("{}: {gives}", kept.rule.group);
    changes::noted(one, by, "lets a group give no more", which).await?;
    Ok(true)
}

async fn in_words(answers: &Answers, grant: Grant) -> Result<String> {
    Ok(match grant {
        Grant::Administrator => "administrator".into(),
        Grant::People => "sees people".into(),
        Grant::Role(id, role) => {
            let sites = answers.db.sites().await?;
            let name = sites.iter().find(|s| s.id == id).map_or("a site", |s| s.name.as_str());
            format!("{} of {name}", role.word())
        }
        Grant::Team(id) => {
            let teams = answers.db.teams().await?;
            let name = teams.iter().find(|t| t.id == id).map_or("a team", |t| t.name.as_str());
            format!("member of {name}")
        }
    })
}
