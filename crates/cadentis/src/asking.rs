//! How commands for pipelines ask a server, through its API.

use crate::Failure;
use cadentis_https::{Https, Method, Request, StatusCode, header};
use serde_json::Value;
use std::time::Duration;

/// Which server, which site, and by what right.
#[derive(clap::Args)]
pub struct ServerArgs {
    /// Name of the site in addresses
    #[arg(long, env = "CADENTIS_SITE")]
    pub site: String,
    /// Address of the server
    #[arg(long, env = "CADENTIS_SERVER")]
    pub server: String,
    /// A token of the site ; in CADENTIS_TOKEN no list of processes shows it
    #[arg(long, env = "CADENTIS_TOKEN", hide_env_values = true)]
    pub token: String,
}

/// An answer comes within this time, and is no longer.
const PATIENCE: Duration = Duration::from_secs(20);
const LONGEST: usize = 1024 * 1024;
/// The longest list that is read.
const MOST_LISTED: usize = 100_000;

/// A part of an address: nothing in it leads elsewhere.
pub fn part(text: &str) -> String {
    url::form_urlencoded::byte_serialize(text.as_bytes()).collect::<String>().replace('+', "%20")
}

impl ServerArgs {
    /// What the server answers to a question about the site.
    pub async fn ask(
        &self,
        method: Method,
        path: &str,
        said: Option<&Value>,
    ) -> Result<(StatusCode, Value), Failure> {
        let (status, told, _) = self.send(method, path, said).await?;
        Ok((status, told))
    }

    /// Everything of a list that the server tells page by page.
    pub async fn ask_all(&self, path: &str) -> Result<(StatusCode, Value), Failure> {
        let (mut all, mut next) = (Vec::new(), Some(format!("{path}?limit=1000")));
        while let Some(page) = next {
            let (status, told, link) = self.send(Method::GET, &page, None).await?;
            let Value::Array(those) = told else { return Ok((status, told)) };
            all.extend(those);
            // A page that leads on to itself would never end.
            next = link.filter(|link| *link != page).filter(|_| all.len() < MOST_LISTED);
        }
        Ok((StatusCode::OK, Value::Array(all)))
    }

    /// The answer to a question about the site, and where in the site the next page of it is.
    async fn send(
        &self,
        method: Method,
        path: &str,
        said: Option<&Value>,
    ) -> Result<(StatusCode, Value, Option<String>), Failure> {
        let server = self.server.trim_end_matches('/');
        let request = Request::builder()
            .method(method)
            .uri(format!("{server}/api/v1/sites/{}{path}", part(&self.site)))
            .header(header::AUTHORIZATION, format!("Bearer {}", self.token))
            .header(header::CONTENT_TYPE, "application/json")
            .body(said.map_or_else(Vec::new, |said| said.to_string().into_bytes()))
            .map_err(|e| {
                format!("{server} is no address of a server such as https://cadentis.example: {e}")
            })?;
        let answer = Https::new(None, PATIENCE, LONGEST)?.send(request).await;
        let answer = answer.map_err(|e| format!("{server} did not answer: {e}"))?;
        let link = answer.headers().get(header::LINK).and_then(|link| link.to_str().ok());
        let next = link.and_then(|link| led_on(path, link));
        let (status, body) = (answer.status(), answer.into_body());
        Ok((status, serde_json::from_slice(&body).unwrap_or_default(), next))
    }
}

/// Where the next page of a list is by its `Link` (RFC 8288). Only parameters are taken from it: a list goes on below its own
/// address.
fn led_on(path: &str, link: &str) -> Option<String> {
    let (target, how) = link.strip_prefix('<')?.split_once('>')?;
    let (_, asked) = target.split_once('?')?;
    let path = path.split('?').next().unwrap_or_default();
    how.contains("rel=\"next\"").then(|| format!("{path}?{asked}"))
}

/// What a server says of why it did not.
pub fn why_not(told: &Value) -> &str {
    let why = told["errors"][0]["detail"].as_str().or(told["detail"].as_str());
    why.unwrap_or("the server did not say why")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_list_goes_on_below_its_own_address_wherever_its_link_leads() {
        let next = |link| led_on("/scripts?limit=1000", link);
        let want = Some("/scripts?limit=2&cursor=x".to_string());
        assert_eq!(next("</api/v1/sites/a/scripts?limit=2&cursor=x>; rel=\"next\""), want);
        assert_eq!(next("<https://evil.example/?limit=2&cursor=x>; rel=\"next\""), want);
        for none in
            ["", "</scripts?cursor=x>; rel=\"prev\"", "</scripts>; rel=\"next\"", "?cursor=x"]
        {
            assert_eq!(next(none), None, "{none}");
        }
    }
}
