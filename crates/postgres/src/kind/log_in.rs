//! How to log in to a server, as both sections of the project file say it. The words are those of the server's own
//! connection strings.

use crate::wire::address::{ChannelBinding, Password, PostgresAddress, SslMode};
use moorage_adapter::kind::{Key, Opening};
use moorage_adapter::secret::SecretConfig;
use moorage_core::model::finding::{End, Finding, Fix};
use moorage_core::project::error::Mistake;
use moorage_core::project::section::Section;
use serde::Deserialize;
use std::path::PathBuf;
use std::sync::Arc;
use toml::Spanned;

/// How an address is written.
pub(super) const ADDRESS: &str = "url = \"postgres://user@host:5432/database\"";

/// The keys of logging in, with their meaning.
pub(super) const KEYS: [Key; 6] = [
    Key {
        names: &["password"],
        meaning: "`{ env = \"NAME\" }`, `{ file = \"path\" }` or `{ command = [\"program\", \"argument\"] }`; looked up for each connection anew, so a token that is good for minutes will do. While it is changed at the server and here one after the other, a run that was let in before tries for a minute",
    },
    Key {
        names: &["sslmode"],
        meaning: "`disable`, `prefer` (if not given), `require`, `verify-ca`, `verify-full`",
    },
    Key {
        names: &["sslrootcert"],
        meaning: "PEM file with the certificates of trusted authorities; the system's own if not given. A server may also show a certificate that stands in this file itself",
    },
    Key {
        names: &["sslcert", "sslkey"],
        meaning: "PEM files with our own certificate and its key, to log in with; the key readable by its owner alone",
    },
    Key {
        names: &["channel_binding"],
        meaning: "whether a SCRAM log-in is bound to the encrypted channel, so that nobody in between can pass it on: `prefer` (if not given), `require`, `disable`",
    },
    Key {
        names: &["role"],
        meaning: "the role that sessions take on (SET ROLE), so that what they make belongs to it; following the log is done with the user's own rights",
    },
];

/// What a section says of logging in.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct LogIn {
    password: Option<Spanned<SecretConfig>>,
    sslmode: Option<SslMode>,
    sslrootcert: Option<String>,
    sslcert: Option<Spanned<String>>,
    sslkey: Option<Spanned<String>>,
    channel_binding: Option<ChannelBinding>,
    role: Option<String>,
}

impl LogIn {
    /// Reads the keys of logging in of a section; what else stands in it is handed back.
    pub(super) fn read(end: &str, section: &Section) -> Result<(Self, Section), Mistake> {
        let keys: Vec<&str> = moorage_adapter::kind::names(&KEYS).collect();
        let (own, rest) = section.parted(&keys);
        let found: Self = own.read()?;
        let both = "sslcert and sslkey together: the files of our certificate and of its key";
        match (&found.sslcert, &found.sslkey) {
            (Some(cert), None) => {
                return Err(Mistake::at(cert.span(), format!("{end} has `sslcert` without `sslkey`"), both));
            }
            (None, Some(key)) => {
                return Err(Mistake::at(key.span(), format!("{end} has `sslkey` without `sslcert`"), both));
            }
            _ => SecretConfig::check(end, found.password.as_ref())?,
        }
        Ok((found, rest))
    }

    /// The address with everything that the section says of logging in.
    pub(super) fn address(
        &self,
        end: &str,
        url: &str,
        opening: Opening<'_>,
    ) -> Result<PostgresAddress, String> {
        let mut address = PostgresAddress::parse(url).map_err(|e| e.to_string())?;
        let instead = opening.instead;
        let is_other = instead.user.is_some();
        address.user = instead.user.unwrap_or(address.user);
        if is_other || instead.password.is_some() {
            address.password = instead.password.map(Password::Given);
        } else if let Some(secret) = &self.password {
            let (folder, end, secret) =
                (opening.folder.to_path_buf(), end.to_string(), secret.get_ref().clone());
            address.password = Some(Password::Asked(Arc::new(move || {
                secret.look_up(&folder).map_err(|what| format!("the password of {end}: {what}"))
            })));
        }
        address.sslmode = self.sslmode.unwrap_or(address.sslmode);
        address.channel_binding = self.channel_binding.unwrap_or(address.channel_binding);
        address.role.clone_from(&self.role);
        // An administrator need not be a member of it.
        address.takes_role = !is_other;
        let text = |value: &Option<Spanned<String>>| value.as_ref().map(|v| v.get_ref().clone());
        let files = [
            (&mut address.sslrootcert, self.sslrootcert.clone()),
            (&mut address.sslcert, text(&self.sslcert)),
            (&mut address.sslkey, text(&self.sslkey)),
        ];
        for (of_address, of_section) in files {
            let path = of_section.map(PathBuf::from).or_else(|| of_address.take());
            *of_address = path.map(|path| opening.folder.join(path));
        }
        if address.sslcert.is_some() != address.sslkey.is_some() {
            return Err("sslcert and sslkey are only of use together".into());
        }
        Ok(address)
    }
}

/// What is to be said of a section: secrets that stand in it. `end` is `source harbour`.
pub(super) fn findings(end: &str, url: &str) -> Vec<Finding> {
    let user_info = url.split_once("://").and_then(|(_, rest)| rest.split_once('@')).map(|(user, _)| user);
    let in_address = user_info.is_some_and(|user| user.contains(':')) || url.contains("password=");
    if !in_address {
        let found = format!("{end}: no password stands in the file");
        return vec![Finding::ok(End::Project, "secrets", found)];
    }
    let (list, name) = end.split_once(' ').unwrap_or((end, end));
    let variable: String =
        name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_uppercase() } else { '_' }).collect();
    let fix = format!(
        "take it out of `url`, and write in [{list}s.{name}]: password = {{ env = \"{variable}_PASSWORD\" }}"
    );
    let why = "whoever reads the file, or its history, has the password";
    let found = format!("{end}: a password stands in the address");
    vec![Finding::warning(End::Project, "secrets", found, why, Fix::step(fix))]
}
