//! A message by HTTP: POST, with a signature over the body if there is a key for it.

use super::message::{Message, Template};
use super::secrets::look_up;
use super::tls;
use moorage_adapter::secret::SecretConfig;
use reqwest::redirect::Policy;
use ring::hmac;
use secrecy::{ExposeSecret, SecretString};
use std::path::{Path, PathBuf};
use std::time::Duration;
use url::Url;

/// The header of the signature: `sha256=` and the HMAC (RFC 2104) of the body, in hexadecimal digits.
const SIGNATURE: &str = "Moorage-Signature";
/// CloudEvents 1.0, HTTP Protocol Binding, 3.2: structured mode.
const EVENT: &str = "application/cloudevents+json; charset=utf-8";
/// How much of an answer is read.
const MOST_ANSWER: usize = 500;

/// Where an address stands.
#[derive(Clone, Debug)]
pub(super) enum Address {
    /// In the project file.
    Written(Url),
    /// Where secrets are: whoever knows it may send.
    Secret(SecretConfig),
}

/// A receiver by HTTP.
#[derive(Clone, Debug)]
pub(super) struct Webhook {
    pub(super) url: Address,
    pub(super) secret: Option<SecretConfig>,
    pub(super) token: Option<SecretConfig>,
    pub(super) template: Option<Template>,
    pub(super) timeout: Duration,
    pub(super) ca_file: Option<PathBuf>,
}

/// An address that messages can go to.
pub(super) fn parse_url(text: &str) -> Option<Url> {
    let url = Url::parse(text.trim()).ok()?;
    (matches!(url.scheme(), "http" | "https") && url.has_host()).then_some(url)
}

/// The signature of a body.
pub(super) fn signature(key: &SecretString, body: &[u8]) -> String {
    let key = hmac::Key::new(hmac::HMAC_SHA256, key.expose_secret().as_bytes());
    let signed = hmac::sign(&key, body);
    let hex: String = signed.as_ref().iter().map(|byte| format!("{byte:02x}")).collect();
    format!("sha256={hex}")
}

impl Webhook {
    /// Where it goes, without what may be secret.
    pub(super) fn place(&self) -> String {
        match &self.url {
            Address::Written(url) => {
                let port = url.port().map(|port| format!(":{port}")).unwrap_or_default();
                format!("{}://{}{port}", url.scheme(), url.host_str().unwrap_or_default())
            }
            Address::Secret(_) => "an address that is kept secret".into(),
        }
    }

    async fn url(&self, folder: &Path) -> Result<Url, String> {
        match &self.url {
            Address::Written(url) => Ok(url.clone()),
            Address::Secret(secret) => {
                let text = look_up(secret, folder).await?;
                let wrong =
                    || "what is kept as its url is no address that begins with http:// or https://".into();
                parse_url(text.expose_secret()).ok_or_else(wrong)
            }
        }
    }

    /// Sends a message; gives the answer.
    pub(super) async fn send(&self, message: &Message, folder: &Path) -> Result<String, String> {
        let ca_file = self.ca_file.as_ref().map(|path| folder.join(path));
        // What a proxy's variable says goes for what people run themselves, and is no part of the project file.
        let client = reqwest::Client::builder()
            .tls_backend_preconfigured(tls::client_config(ca_file.as_deref())?)
            .redirect(Policy::none())
            .no_proxy()
            .timeout(self.timeout)
            .user_agent(concat!("moorage/", env!("CARGO_PKG_VERSION")))
            .build()
            .map_err(|e| told(&e))?;
        let (content_type, body) = match &self.template {
            Some(template) => (template.content_type(), template.render(message)),
            None => (EVENT, message.event().to_string()),
        };
        let mut request = client.post(self.url(folder).await?).header("Content-Type", content_type);
        if let Some(secret) = &self.secret {
            request = request.header(SIGNATURE, signature(&look_up(secret, folder).await?, body.as_bytes()));
        }
        if let Some(token) = &self.token {
            request = request.bearer_auth(look_up(token, folder).await?.expose_secret());
        }
        let mut answer = request.body(body).send().await.map_err(|e| told(&e))?;
        let status = answer.status();
        let mut text = Vec::new();
        while text.len() < MOST_ANSWER {
            match answer.chunk().await {
                Ok(Some(chunk)) => text.extend_from_slice(&chunk),
                // What it says beside its status is a courtesy.
                Ok(None) | Err(_) => break,
            }
        }
        text.truncate(MOST_ANSWER);
        let text = String::from_utf8_lossy(&text);
        let words = text.split_whitespace().collect::<Vec<_>>().join(" ");
        let said = if words.is_empty() { format!("{status}") } else { format!("{status}: {words}") };
        if status.is_success() { Ok(said) } else { Err(format!("it answered {said}")) }
    }
}

/// What went wrong, with its causes, and without the address: that may be a secret.
fn told(error: &reqwest::Error) -> String {
    let mut causes: Vec<String> = Vec::new();
    let mut next: Option<&dyn std::error::Error> = std::error::Error::source(error);
    while let Some(cause) = next {
        causes.push(cause.to_string());
        next = cause.source();
    }
    let what = if error.is_timeout() {
        "no answer in time"
    } else if error.is_connect() {
        "no connection"
    } else {
        "the request failed"
    };
    causes.dedup();
    if causes.is_empty() { what.into() } else { format!("{what}: {}", causes.join(": ")) }
}
