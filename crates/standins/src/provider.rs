//! A provider of OpenID Connect that knows a few made-up people, and gives false tokens when it is told to.
//!
//! It signs by another library than those who check.

use actix_web::dev::ServerHandle;
use actix_web::http::header::{AUTHORIZATION, LOCATION};
use actix_web::{App, HttpRequest, HttpResponse, HttpServer, web};
use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::rand::SystemRandom;
use ring::rsa::KeyPair as RsaKeyPair;
use ring::signature::{ECDSA_P256_SHA256_FIXED_SIGNING, EcdsaKeyPair, KeyPair, RSA_PKCS1_SHA256};
use ring::{digest, hmac};
use rsa::pkcs8::EncodePrivateKey;
use rsa::traits::PublicKeyParts;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::HashMap;
use std::io;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use uuid::Uuid;

/// As what an installation is registered.
pub const CLIENT_ID: &str = "cadentis of the ferries";
/// Its secret, with what has to be written otherwise in a header.
pub const CLIENT_SECRET: &str = "ferry: fog + 4%";

/// Somebody whom the provider knows.
#[derive(Debug, Clone, Default)]
pub struct Known {
    pub subject: String,
    pub email: Option<String>,
    pub email_verified: bool,
    pub name: Option<String>,
    pub groups: Vec<String>,
}

/// What is wrong with what the provider gives.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Fault {
    #[default]
    None,
    /// It answers nothing but 503.
    Down,
    /// The token is for another sign-in.
    Nonce,
    /// For another installation.
    Audience,
    /// Of another provider.
    Issuer,
    /// Its time is over.
    Expired,
    /// Signed by a key that the provider does not have, under the name of one that it has.
    ForeignKey,
    /// Not signed at all.
    Unsigned,
    /// Signed with the secret that the installation has, too.
    Shared,
    /// Groups, name and address are told only where they are asked for.
    Sparing,
    /// The same, of somebody else.
    SparingOfAnother,
    /// It remembers who somebody is from yesterday, whatever it is asked.
    Remembers,
}

enum Key {
    Curve(Box<EcdsaKeyPair>),
    /// With modulus and exponent as others see them.
    Rsa(Box<RsaKeyPair>, [String; 2]),
}

/// What a code stands for.
struct Granted {
    subject: String,
    nonce: String,
    challenge: String,
    back: String,
}

struct World {
    people: Vec<Known>,
    fault: Fault,
    key: (String, Key),
    codes: HashMap<String, Granted>,
    tokens: HashMap<String, String>,
}

/// A provider; it ends with the process.
pub struct Provider {
    pub address: SocketAddr,
    handle: ServerHandle,
    world: Arc<Mutex<World>>,
}

#[derive(Clone)]
struct Shared(Arc<Mutex<World>>);

impl Shared {
    fn lock(&self) -> MutexGuard<'_, World> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// A key with a name that no other has.
fn curve() -> (String, Key) {
    let random = SystemRandom::new();
    let algorithm = &ECDSA_P256_SHA256_FIXED_SIGNING;
    let made = EcdsaKeyPair::generate_pkcs8(algorithm, &random).expect("a key is made");
    let key = EcdsaKeyPair::from_pkcs8(algorithm, made.as_ref(), &random).expect("a key");
    (Uuid::new_v4().to_string(), Key::Curve(Box::new(key)))
}

/// The same of the kind that every provider has (Core 1.0, section 15.1).
fn rsa() -> (String, Key) {
    let made = rsa::RsaPrivateKey::new(&mut rsa::rand_core::OsRng, 2048).expect("a key is made");
    let der = made.to_pkcs8_der().expect("a key is written");
    let key = RsaKeyPair::from_pkcs8(der.as_bytes()).expect("a key");
    let public = [made.n(), made.e()].map(|part| URL_SAFE_NO_PAD.encode(part.to_bytes_be()));
    (Uuid::new_v4().to_string(), Key::Rsa(Box::new(key), public))
}

impl Key {
    fn algorithm(&self) -> &'static str {
        match self {
            Key::Curve(_) => "ES256",
            Key::Rsa(..) => "RS256",
        }
    }

    fn sign(&self, what: &[u8]) -> Vec<u8> {
        let random = SystemRandom::new();
        match self {
            Key::Curve(key) => key.sign(&random, what).expect("it is signed").as_ref().to_vec(),
            Key::Rsa(key, _) => {
                let mut signed = vec![0; key.public().modulus_len()];
                key.sign(&RSA_PKCS1_SHA256, &random, what, &mut signed).expect("it is signed");
                signed
            }
        }
    }

    /// As others see it (RFC 7517 and 7518).
    fn public(&self, name: &str) -> Value {
        let text = |bytes: &[u8]| URL_SAFE_NO_PAD.encode(bytes);
        match self {
            Key::Curve(key) => {
                let point = key.public_key().as_ref();
                json!({"kty": "EC", "crv": "P-256", "use": "sig", "alg": "ES256", "kid": name,
                    "x": text(&point[1..33]), "y": text(&point[33..])})
            }
            Key::Rsa(_, [n, e]) => {
                json!({"kty": "RSA", "use": "sig", "alg": "RS256", "kid": name, "n": n, "e": e})
            }
        }
    }
}

impl Provider {
    /// Starts a provider of these people in the background on any free port.
    ///
    /// # Errors
    /// When no port can be had.
    pub fn start(people: Vec<Known>) -> io::Result<Provider> {
        let (codes, tokens) = (HashMap::new(), HashMap::new());
        let world = World { people, fault: Fault::None, key: curve(), codes, tokens };
        let world = Arc::new(Mutex::new(world));
        let shared = Shared(world.clone());
        let server = HttpServer::new(move || {
            App::new()
                .app_data(web::Data::new(shared.clone()))
                .route("/.well-known/openid-configuration", web::get().to(told))
                .route("/keys", web::get().to(keys))
                .route("/authorize", web::get().to(authorize))
                .route("/as/{subject}", web::get().to(is))
                .route("/token", web::post().to(token))
                .route("/userinfo", web::get().to(userinfo))
        })
        .workers(1)
        .disable_signals()
        .shutdown_timeout(1)
        .bind(("127.0.0.1", 0))?;
        let address = server.addrs()[0];
        let server = server.run();
        let handle = server.handle();
        tokio::spawn(server);
        Ok(Provider { address, handle, world })
    }

    /// Its name, which is its address.
    pub fn issuer(&self) -> String {
        format!("http://{}", self.address)
    }

    fn lock(&self) -> MutexGuard<'_, World> {
        self.world.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// From now on this is wrong.
    pub fn fail(&self, fault: Fault) {
        self.lock().fault = fault;
    }

    /// From now on it signs with a new key, of the kind that every provider has when `is_rsa`.
    pub fn change_key(&self, is_rsa: bool) {
        self.lock().key = if is_rsa { rsa() } else { curve() };
    }

    /// From now on this is what it knows of somebody.
    pub fn knows(&self, known: Known) {
        let mut world = self.lock();
        world.people.retain(|p| p.subject != known.subject);
        world.people.push(known);
    }

    pub async fn stop(self) {
        self.handle.stop(false).await;
    }
}

fn issuer(request: &HttpRequest) -> String {
    format!("http://{}", request.connection_info().host())
}

fn down() -> HttpResponse {
    HttpResponse::ServiceUnavailable().body("the provider is away")
}

async fn told(world: web::Data<Shared>, request: HttpRequest) -> HttpResponse {
    let world = world.lock();
    if world.fault == Fault::Down {
        return down();
    }
    let issuer = issuer(&request);
    HttpResponse::Ok().json(json!({
        "issuer": issuer,
        "authorization_endpoint": format!("{issuer}/authorize"),
        "token_endpoint": format!("{issuer}/token"),
        "userinfo_endpoint": format!("{issuer}/userinfo"),
        "jwks_uri": format!("{issuer}/keys"),
        "response_types_supported": ["code"],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": ["RS256", "ES256", "HS256", "none"],
        "scopes_supported": ["openid", "email", "profile", "groups"],
        "code_challenge_methods_supported": ["S256"],
    }))
}

async fn keys(world: web::Data<Shared>) -> HttpResponse {
    let world = world.lock();
    let (name, key) = &world.key;
    HttpResponse::Ok().json(json!({"keys": [key.public(name)]}))
}

#[derive(Deserialize)]
struct Asked {
    response_type: String,
    client_id: String,
    redirect_uri: String,
    scope: String,
    state: String,
    nonce: String,
    code_challenge: String,
    code_challenge_method: String,
}

impl Asked {
    /// What is wrong with it, if anything is.
    fn wrong(&self) -> Option<&'static str> {
        let checks = [
            (self.response_type == "code", "only codes are given"),
            (self.client_id == CLIENT_ID, "no such client"),
            (self.redirect_uri.ends_with("/sign-in/answer"), "not registered"),
            (self.scope.split(' ').any(|s| s == "openid"), "not about a person"),
            (self.code_challenge_method == "S256", "no challenge"),
            (self.state.len() >= 16 && self.nonce.len() >= 16, "what could be guessed"),
        ];
        checks.into_iter().find(|(fine, _)| !fine).map(|(_, says)| says)
    }
}

/// Whoever signs in says who they are with one press.
async fn authorize(
    world: web::Data<Shared>,
    asked: web::Query<Asked>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(says) = asked.wrong() {
        return HttpResponse::BadRequest().body(says);
    }
    let world = world.lock();
    let links = world.people.iter().map(|p| {
        let name = p.name.as_deref().unwrap_or(&p.subject);
        let query = request.query_string().replace('&', "&amp;").replace('"', "&quot;");
        format!("<p><a href=\"/as/{}?{query}\">{name}</a></p>", p.subject)
    });
    let links: String = links.collect();
    let html = format!(
        "<!doctype html><meta charset=utf-8><title>Marram account</title><h1>Who are you?</h1>{links}"
    );
    HttpResponse::Ok().content_type("text/html; charset=utf-8").body(html)
}

async fn is(
    world: web::Data<Shared>,
    subject: web::Path<String>,
    asked: web::Query<Asked>,
    request: HttpRequest,
) -> HttpResponse {
    if let Some(says) = asked.wrong() {
        return HttpResponse::BadRequest().body(says);
    }
    let asked = asked.into_inner();
    let code = Uuid::new_v4().simple().to_string();
    let granted = Granted {
        subject: subject.into_inner(),
        nonce: asked.nonce,
        challenge: asked.code_challenge,
        back: asked.redirect_uri.clone(),
    };
    world.lock().codes.insert(code.clone(), granted);
    let back = reqwest::Url::parse_with_params(
        &asked.redirect_uri,
        [("code", code.as_str()), ("state", &asked.state), ("iss", &issuer(&request))],
    );
    match back {
        Ok(back) => HttpResponse::SeeOther().insert_header((LOCATION, back.as_str())).finish(),
        Err(_) => HttpResponse::BadRequest().body("not an address"),
    }
}

#[derive(Deserialize)]
struct Redeemed {
    grant_type: String,
    code: String,
    redirect_uri: String,
    #[serde(default)]
    code_verifier: String,
}

/// Who an installation says it is, in a header (RFC 6749, 2.3.1: both parts written as in a form).
fn is_registered(request: &HttpRequest) -> bool {
    let form = |text: &str| -> String {
        let pairs = [("a", text)];
        let url = reqwest::Url::parse_with_params("http://a/", pairs).expect("an address");
        url.query().unwrap_or_default().trim_start_matches("a=").to_string()
    };
    let plain = format!("{}:{}", form(CLIENT_ID), form(CLIENT_SECRET));
    let wanted = format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(plain));
    request.headers().get(AUTHORIZATION).is_some_and(|shown| shown == wanted.as_str())
}

fn refused(why: &str) -> HttpResponse {
    HttpResponse::BadRequest().json(json!({ "error": why }))
}

async fn token(
    world: web::Data<Shared>,
    request: HttpRequest,
    sent: web::Form<Redeemed>,
) -> HttpResponse {
    let mut world = world.lock();
    if world.fault == Fault::Down {
        return down();
    }
    if !is_registered(&request) {
        return refused("invalid_client");
    }
    let Some(granted) = world.codes.remove(&sent.code) else { return refused("invalid_grant") };
    let challenge = digest::digest(&digest::SHA256, sent.code_verifier.as_bytes());
    let fits = URL_SAFE_NO_PAD.encode(challenge.as_ref()) == granted.challenge;
    if sent.grant_type != "authorization_code" || !fits || sent.redirect_uri != granted.back {
        return refused("invalid_grant");
    }
    let access = Uuid::new_v4().simple().to_string();
    let token = world.token(&issuer(&request), &granted);
    world.tokens.insert(access.clone(), granted.subject);
    HttpResponse::Ok().json(json!({
        "access_token": access, "token_type": "Bearer", "expires_in": 300, "id_token": token,
    }))
}

impl World {
    fn claims(&self, subject: &str) -> Value {
        let known = self.people.iter().find(|p| p.subject == subject).cloned().unwrap_or_default();
        let mut claims = json!({"sub": subject, "groups": known.groups});
        if let Some(name) = known.name {
            claims["name"] = name.into();
        }
        if let Some(email) = known.email {
            claims["email"] = email.into();
            claims["email_verified"] = known.email_verified.into();
        }
        claims
    }

    /// The token of somebody, with what is wrong with it.
    fn token(&self, issuer: &str, granted: &Granted) -> String {
        let now = jiff::Timestamp::now().as_second();
        let mut claims = match self.fault {
            Fault::Sparing | Fault::SparingOfAnother => json!({"sub": granted.subject}),
            _ => self.claims(&granted.subject),
        };
        claims["iss"] = issuer.into();
        claims["aud"] = CLIENT_ID.into();
        claims["nonce"] = granted.nonce.clone().into();
        claims["iat"] = now.into();
        claims["exp"] = (now + 300).into();
        claims["auth_time"] = now.into();
        match self.fault {
            Fault::Nonce => claims["nonce"] = "of another sign-in".into(),
            Fault::Audience => claims["aud"] = "another installation".into(),
            Fault::Issuer => claims["iss"] = "https://id.marram.example".into(),
            Fault::Expired => {
                claims["iat"] = (now - 900).into();
                claims["exp"] = (now - 600).into();
            }
            Fault::Remembers => claims["auth_time"] = (now - 86_400).into(),
            _ => {}
        }
        let (name, key) = &self.key;
        let algorithm = match self.fault {
            Fault::Unsigned => "none",
            Fault::Shared => "HS256",
            _ => key.algorithm(),
        };
        let head = json!({"typ": "JWT", "alg": algorithm, "kid": name});
        let text = |value: &Value| URL_SAFE_NO_PAD.encode(value.to_string());
        let signed = format!("{}.{}", text(&head), text(&claims));
        let signature = match self.fault {
            Fault::Unsigned => Vec::new(),
            Fault::Shared => {
                let key = hmac::Key::new(hmac::HMAC_SHA256, CLIENT_SECRET.as_bytes());
                hmac::sign(&key, signed.as_bytes()).as_ref().to_vec()
            }
            Fault::ForeignKey => curve().1.sign(signed.as_bytes()),
            _ => key.sign(signed.as_bytes()),
        };
        format!("{signed}.{}", URL_SAFE_NO_PAD.encode(signature))
    }
}

async fn userinfo(world: web::Data<Shared>, request: HttpRequest) -> HttpResponse {
    let world = world.lock();
    let shown = request.headers().get(AUTHORIZATION).and_then(|v| v.to_str().ok());
    let token = shown.and_then(|v| v.strip_prefix("Bearer ")).unwrap_or_default();
    let Some(subject) = world.tokens.get(token) else {
        return HttpResponse::Unauthorized().finish();
    };
    let mut claims = world.claims(subject);
    if world.fault == Fault::SparingOfAnother {
        claims["sub"] = "somebody else".into();
    }
    HttpResponse::Ok().json(claims)
}
