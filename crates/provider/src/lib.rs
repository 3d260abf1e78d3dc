//! Who somebody is, as a provider of OpenID Connect says: the code flow of OpenID Connect Core 1.0 (section 3.1) with PKCE
//! (RFC 7636) and a nonce, by what the provider tells of itself (OpenID Connect Discovery 1.0).
//!
//! Nothing is kept here but what the provider tells of itself: whoever begins keeps [`Begun`] until the answer comes, and
//! uses it once.

#![warn(missing_docs)]

use cadentis_https::{Https, whole};
use openidconnect::core::{
    CoreAuthDisplay, CoreAuthPrompt, CoreErrorResponseType, CoreGenderClaim, CoreJsonWebKey,
    CoreJweContentEncryptionAlgorithm, CoreJwsSigningAlgorithm, CoreProviderMetadata,
    CoreResponseType, CoreRevocableToken, CoreRevocationErrorResponse,
    CoreTokenIntrospectionResponse, CoreTokenType,
};
use openidconnect::{
    AccessToken, AdditionalClaims, AuthType, AuthenticationFlow, AuthorizationCode,
    ClaimsVerificationError, Client, ClientId, ClientSecret, CsrfToken, EmptyExtraTokenFields,
    EndpointMaybeSet, EndpointNotSet, EndpointSet, IdTokenFields, IssuerUrl, Nonce,
    OAuth2TokenResponse, PkceCodeChallenge, PkceCodeVerifier, RedirectUrl, RequestTokenError,
    Scope, SignatureVerificationError, StandardErrorResponse, StandardTokenResponse, TokenResponse,
    UserInfoClaims, UserInfoError,
};
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::sync::Mutex;
use url::Url;

/// So long one request to the provider may take: somebody waits before a page.
const PATIENCE: Duration = Duration::from_secs(10);
/// What a provider tells of itself, its keys and its tokens are no longer.
const LONGEST: usize = 1 << 20;
/// What it tells of itself is asked again after so long.
const KNOWN_FOR: Duration = Duration::from_secs(3_600);
/// One that does not answer is not asked again for so long: others who come wait for nobody.
const RESTS_FOR: Duration = Duration::from_secs(5);
/// A key that is not known is a new one: new ones are asked for this often at most, whoever shows tokens.
const NEW_KEYS_EVERY: Duration = Duration::from_secs(30);
/// Somebody is in so many groups at most, each with a name so long; of more the first count.
const MOST_GROUPS: usize = 1_000;
const LONGEST_GROUP: usize = 200;
/// A subject has so many characters at most (OpenID Connect Core 1.0, section 2: 255).
const LONGEST_SUBJECT: usize = 255;

/// How a provider knows this installation.
#[derive(Debug, Clone)]
pub struct Settings {
    /// The address that the provider has as its name.
    pub issuer: String,
    /// As what this installation is registered there.
    pub client_id: String,
    /// Its secret, unless it was registered without one.
    pub client_secret: Option<String>,
    /// The claim that holds the names of somebody's groups.
    pub groups_claim: String,
    /// What the provider is called on pages.
    pub name: String,
    /// Further roots that its certificate may be signed by (PEM).
    pub roots: Option<Vec<u8>>,
}

/// A provider. A handle: clones share what is known of it.
#[derive(Debug, Clone)]
pub struct Provider {
    settings: Arc<Settings>,
    issuer: IssuerUrl,
    https: Https,
    known: Arc<Mutex<Known>>,
}

/// What is known of a provider, and since when.
#[derive(Debug, Default)]
struct Known {
    told: Option<(Instant, Arc<CoreProviderMetadata>)>,
    failed: Option<(Instant, ProviderError)>,
    /// When new keys were asked for last.
    asked_keys: Option<Instant>,
}

/// What was begun, to be kept until the answer comes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Begun {
    /// Where whoever signs in is sent.
    pub address: String,
    /// What comes back with the answer.
    pub state: String,
    /// What stands in the token.
    pub nonce: String,
    /// What only whoever began can show for the code.
    pub verifier: String,
}

/// Who somebody is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Identity {
    /// The provider.
    pub issuer: String,
    /// Somebody at the provider, for ever.
    pub subject: String,
    /// Their address.
    pub email: Option<String>,
    /// Whether the provider has made sure that it is theirs.
    pub email_is_theirs: bool,
    /// Their name.
    pub name: Option<String>,
    /// The names of the groups that they are in.
    pub groups: Vec<String>,
    /// When they proved who they are, in seconds since 1970, if it was told.
    pub proved_at_s: Option<i64>,
}

/// Why nobody is known to be anybody.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ProviderError {
    /// It does not answer, or not as a provider does.
    #[error("{0}")]
    Unreachable(String),
    /// It does not take the code.
    #[error("{0}")]
    Refused(String),
    /// What it gave cannot be believed.
    #[error("{0}")]
    NotBelieved(String),
}

/// Claims beside those that have a place of their own.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Others(HashMap<String, Value>);

impl AdditionalClaims for Others {}

type Fields = IdTokenFields<
    Others,
    EmptyExtraTokenFields,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJwsSigningAlgorithm,
>;
type Tokens = StandardTokenResponse<Fields, CoreTokenType>;
type Told = StandardErrorResponse<CoreErrorResponseType>;
type Asking = Client<
    Others,
    CoreAuthDisplay,
    CoreGenderClaim,
    CoreJweContentEncryptionAlgorithm,
    CoreJsonWebKey,
    CoreAuthPrompt,
    Told,
    Tokens,
    CoreTokenIntrospectionResponse,
    CoreRevocableToken,
    CoreRevocationErrorResponse,
    EndpointSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointNotSet,
    EndpointMaybeSet,
    EndpointMaybeSet,
>;
type Claims = openidconnect::IdTokenClaims<Others, CoreGenderClaim>;

/// Signatures that only whoever has the private key can make; a provider says which of them it makes.
const SIGNED_BY: [CoreJwsSigningAlgorithm; 8] = [
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha256,
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha384,
    CoreJwsSigningAlgorithm::RsaSsaPkcs1V15Sha512,
    CoreJwsSigningAlgorithm::RsaSsaPssSha256,
    CoreJwsSigningAlgorithm::RsaSsaPssSha384,
    CoreJwsSigningAlgorithm::RsaSsaPssSha512,
    CoreJwsSigningAlgorithm::EcdsaP256Sha256,
    CoreJwsSigningAlgorithm::EcdsaP384Sha384,
];

/// An answer that did not come.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
struct NoAnswer(String);

impl Provider {
    /// A provider by what it is known by.
    ///
    /// # Errors
    /// When its address is none, or would be asked over http although it is not on this machine; or its roots are none.
    pub fn new(settings: Settings) -> Result<Provider, String> {
        let given = &settings.issuer;
        let wrong =
            |says: &str| format!("{given} is no provider: {says}, such as https://id.example");
        let url = Url::parse(given).map_err(|_| wrong("an address has a scheme and a host"))?;
        let is_here = matches!(url.host_str(), Some("localhost" | "127.0.0.1" | "[::1]"));
        if url.scheme() != "https" && !(url.scheme() == "http" && is_here) {
            return Err(wrong("it is asked over https"));
        }
        if url.query().is_some() || url.fragment().is_some() {
            return Err(wrong("it has no query"));
        }
        let issuer = IssuerUrl::new(given.clone()).map_err(|e| wrong(&e.to_string()))?;
        let https = Https::new(settings.roots.as_deref(), PATIENCE, LONGEST)?;
        Ok(Provider { settings: Arc::new(settings), issuer, https, known: Arc::default() })
    }

    /// What it is called on pages.
    pub fn name(&self) -> &str {
        &self.settings.name
    }

    /// The address that it has as its name.
    pub fn issuer(&self) -> &str {
        &self.settings.issuer
    }

    /// What it tells of itself; with `new_keys` it is asked anew, now and then.
    async fn known(&self, new_keys: bool) -> Result<Arc<CoreProviderMetadata>, ProviderError> {
        let mut known = self.known.lock().await;
        let asks = new_keys && known.asked_keys.is_none_or(|at| at.elapsed() > NEW_KEYS_EVERY);
        if let Some((at, told)) = &known.told
            && at.elapsed() < KNOWN_FOR
            && !asks
        {
            return Ok(told.clone());
        }
        if asks {
            known.asked_keys = Some(Instant::now());
        }
        if let Some((at, e)) = &known.failed
            && at.elapsed() < RESTS_FOR
        {
            return Err(e.clone());
        }
        let ask = |request| self.ask(request);
        match CoreProviderMetadata::discover_async(self.issuer.clone(), &ask).await {
            Ok(told) => {
                let told = Arc::new(told);
                known.told = Some((Instant::now(), told.clone()));
                known.failed = None;
                Ok(told)
            }
            Err(e) => {
                let e = ProviderError::Unreachable(whole(&e));
                known.failed = Some((Instant::now(), e.clone()));
                Err(e)
            }
        }
    }

    async fn ask(
        &self,
        request: openidconnect::HttpRequest,
    ) -> Result<openidconnect::HttpResponse, NoAnswer> {
        self.https.send(request).await.map_err(NoAnswer)
    }

    fn asking(&self, told: &CoreProviderMetadata, back: &str) -> Result<Asking, ProviderError> {
        let id = ClientId::new(self.settings.client_id.clone());
        let secret = self.settings.client_secret.clone().map(ClientSecret::new);
        let back = RedirectUrl::new(back.to_string())
            .map_err(|e| ProviderError::NotBelieved(e.to_string()))?;
        let asking = Client::from_provider_metadata(told.clone(), id, secret);
        let is_said = |method: &str| {
            let methods = told.token_endpoint_auth_methods_supported();
            methods.is_some_and(|all| {
                all.iter().any(|m| serde_json::to_value(m).is_ok_and(|m| m == method))
            })
        };
        // What none is named for is shown in a header (Discovery 1.0, section 3).
        let in_body = is_said("client_secret_post") && !is_said("client_secret_basic");
        let how = if in_body { AuthType::RequestBody } else { AuthType::BasicAuth };
        Ok(asking.set_redirect_uri(back).set_auth_type(how))
    }

    /// Begins: whoever signs in is sent to the provider, and comes back to `back`. Who is to `prove` who they are does so
    /// anew, whatever the provider remembers of them.
    ///
    /// # Errors
    /// When the provider does not answer.
    pub async fn begin(&self, back: &str, prove: bool) -> Result<Begun, ProviderError> {
        let told = self.known(false).await?;
        let (challenge, verifier) = PkceCodeChallenge::new_random_sha256();
        let asking = self.asking(&told, back)?;
        let mut ask = asking
            .authorize_url(
                AuthenticationFlow::<CoreResponseType>::AuthorizationCode,
                CsrfToken::new_random,
                Nonce::new_random,
            )
            .add_scope(Scope::new("email".into()))
            .add_scope(Scope::new("profile".into()))
            .set_pkce_challenge(challenge);
        if let Some(scopes) = told.scopes_supported()
            && scopes.iter().any(|s| s.as_str() == self.settings.groups_claim)
        {
            ask = ask.add_scope(Scope::new(self.settings.groups_claim.clone()));
        }
        if prove {
            ask = ask.add_prompt(CoreAuthPrompt::Login).set_max_age(Duration::ZERO);
        }
        let (address, state, nonce) = ask.url();
        Ok(Begun {
            address: address.into(),
            state: state.into_secret(),
            nonce: nonce.secret().clone(),
            verifier: verifier.into_secret(),
        })
    }

    /// Who it is whose answer brought this code.
    ///
    /// # Errors
    /// When the provider does not answer, does not take the code, or gives what cannot be believed.
    pub async fn redeem(
        &self,
        back: &str,
        code: &str,
        nonce: &str,
        verifier: &str,
    ) -> Result<Identity, ProviderError> {
        let told = self.known(false).await?;
        let asking = self.asking(&told, back)?;
        let ask = |request| self.ask(request);
        let tokens: Tokens = asking
            .exchange_code(AuthorizationCode::new(code.to_string()))
            .map_err(|e| ProviderError::Unreachable(whole(&e)))?
            .set_pkce_verifier(PkceCodeVerifier::new(verifier.to_string()))
            .request_async(&ask)
            .await
            .map_err(refused)?;
        let nonce = Nonce::new(nonce.to_string());
        let claims = match believed(&asking, &told, &tokens, &nonce) {
            Err(Doubt::NewKey) => {
                let told = self.known(true).await?;
                believed(&self.asking(&told, back)?, &told, &tokens, &nonce)
            }
            at_once => at_once,
        };
        let claims = claims.map_err(|doubt| ProviderError::NotBelieved(doubt.to_string()))?;
        self.identity(&asking, claims, tokens.access_token().clone()).await
    }

    /// What the claims say; what they leave out is asked for.
    async fn identity(
        &self,
        asking: &Asking,
        claims: Claims,
        token: AccessToken,
    ) -> Result<Identity, ProviderError> {
        let subject = claims.subject().as_str().to_string();
        if subject.is_empty() || subject.chars().count() > LONGEST_SUBJECT {
            let says = "the subject of its token is empty or longer than 255 characters";
            return Err(ProviderError::NotBelieved(says.into()));
        }
        let mut identity = Identity {
            issuer: self.settings.issuer.clone(),
            email: claims.email().map(|e| e.as_str().to_string()),
            email_is_theirs: claims.email_verified() == Some(true),
            name: claims.name().and_then(|n| n.get(None)).map(|n| n.as_str().to_string()),
            groups: self.groups(claims.additional_claims()).unwrap_or_default(),
            proved_at_s: claims.auth_time().map(|at| at.timestamp()),
            subject,
        };
        let is_whole = identity.email.is_some()
            && identity.name.is_some()
            && self.groups(claims.additional_claims()).is_some();
        // A provider without such an address has told all there is.
        let more = match asking.user_info(token, Some(claims.subject().clone())) {
            Ok(more) if !is_whole => more,
            _ => return Ok(identity),
        };
        let ask = |request| self.ask(request);
        let more: UserInfoClaims<Others, CoreGenderClaim> =
            more.request_async(&ask).await.map_err(not_told)?;
        if identity.email.is_none() {
            identity.email = more.email().map(|e| e.as_str().to_string());
            identity.email_is_theirs = more.email_verified() == Some(true);
        }
        let name = more.name().and_then(|n| n.get(None)).map(|n| n.as_str().to_string());
        identity.name = identity.name.or(name);
        if identity.groups.is_empty() {
            identity.groups = self.groups(more.additional_claims()).unwrap_or_default();
        }
        Ok(identity)
    }

    /// The groups that a claim names: a list of texts, or one text.
    fn groups(&self, claims: &Others) -> Option<Vec<String>> {
        let fine = |name: &&str| !name.is_empty() && name.chars().count() <= LONGEST_GROUP;
        match claims.0.get(&self.settings.groups_claim)? {
            Value::String(one) => Some(vec![one.as_str()]),
            Value::Array(all) => Some(all.iter().filter_map(Value::as_str).collect()),
            _ => None,
        }
        .map(|all| all.into_iter().filter(fine).take(MOST_GROUPS).map(str::to_string).collect())
    }
}

fn refused(e: RequestTokenError<NoAnswer, Told>) -> ProviderError {
    match &e {
        RequestTokenError::ServerResponse(_) => ProviderError::Refused(whole(&e)),
        _ => ProviderError::Unreachable(whole(&e)),
    }
}

fn not_told(e: UserInfoError<NoAnswer>) -> ProviderError {
    match &e {
        UserInfoError::ClaimsVerification(_) => ProviderError::NotBelieved(whole(&e)),
        _ => ProviderError::Unreachable(whole(&e)),
    }
}

/// Why a token is not believed.
#[derive(Debug, thiserror::Error)]
enum Doubt {
    #[error("its token is signed by a key that it does not tell")]
    NewKey,
    #[error("{0}")]
    Other(String),
}

impl From<ClaimsVerificationError> for Doubt {
    fn from(e: ClaimsVerificationError) -> Doubt {
        match e {
            ClaimsVerificationError::SignatureVerification(
                SignatureVerificationError::NoMatchingKey,
            ) => Doubt::NewKey,
            e => Doubt::Other(whole(&e)),
        }
    }
}

/// What the token says, once its signature, issuer, audience, time and nonce are right.
fn believed(
    asking: &Asking,
    told: &CoreProviderMetadata,
    tokens: &Tokens,
    nonce: &Nonce,
) -> Result<Claims, Doubt> {
    let token = tokens.id_token().ok_or_else(|| Doubt::Other("it gave no token".into()))?;
    let says = told.id_token_signing_alg_values_supported();
    let algorithms = SIGNED_BY.iter().filter(|a| says.contains(a)).cloned();
    let verifier = asking.id_token_verifier().set_allowed_algs(algorithms);
    Ok(token.claims(&verifier, nonce)?.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn settings(issuer: &str) -> Settings {
        Settings {
            issuer: issuer.into(),
            client_id: "cadentis".into(),
            client_secret: None,
            groups_claim: "groups".into(),
            name: "Marram".into(),
            roots: None,
        }
    }

    #[test]
    fn a_provider_is_asked_over_https_unless_it_is_on_this_machine() {
        for fine in ["https://id.example", "https://id.example/of/us", "http://127.0.0.1:9"] {
            assert!(Provider::new(settings(fine)).is_ok(), "{fine}");
        }
        for wrong in
            ["id.example", "http://id.example", "ftp://localhost", "https://id.example/?a=b"]
        {
            let told = Provider::new(settings(wrong)).map(|_| ()).unwrap_err();
            assert!(told.starts_with(wrong) && told.contains("https"), "{told}");
        }
    }

    #[test]
    fn groups_are_one_text_or_a_list_and_what_is_neither_is_none() {
        let provider = Provider::new(settings("https://id.example")).unwrap();
        let of = |claims: Value| provider.groups(&serde_json::from_value(claims).unwrap());
        use serde_json::json;
        assert_eq!(of(json!({"groups": "ops"})), Some(vec!["ops".into()]));
        assert_eq!(of(json!({"groups": ["a", 7, "", "b"]})), Some(vec!["a".into(), "b".into()]));
        assert_eq!(of(json!({"groups": {"a": true}})), None);
        assert_eq!(of(json!({"roles": ["a"]})), None);
        let many: Vec<String> = (0..2_000).map(|n| format!("g{n}")).collect();
        assert_eq!(of(json!({ "groups": many })).map(|g| g.len()), Some(MOST_GROUPS));
    }
}
