//! What a check is about, and the kind of server it is at.

use crate::as_source::catalog::IdentityBy;
use crate::as_source::named::Point;
use crate::wire::address::PostgresAddress;
use crate::wire::connect::Session;
use moorage_adapter::{Inspected, Result};
use moorage_core::model::finding::Fix;
use moorage_core::model::sql::quote_ident;

/// All that a check is about.
pub(crate) struct Check<'a> {
    pub(crate) address: &'a PostgresAddress,
    pub(crate) session: &'a Session,
    pub(crate) capture: &'a Point,
    pub(crate) inspected: &'a Inspected<'a>,
    pub(crate) by: IdentityBy,
    pub(super) managed: Option<Managed>,
}

impl Check<'_> {
    pub(super) fn user(&self) -> String {
        quote_ident(self.address.acts_as())
    }
}

/// A server whose provider keeps the settings, told by a role that only such servers have.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Managed {
    /// Settings are in a parameter group, and replication is a role that is granted.
    ParameterGroup,
    /// Settings are flags of the instance.
    Flags,
    /// Settings are server parameters.
    ServerParameters,
}

impl Managed {
    pub(super) async fn of(session: &Session) -> Result<Option<Self>> {
        let sql = "SELECT rolname::text FROM pg_roles WHERE rolname IN ('rds_superuser', 'cloudsqlsuperuser', 'azure_pg_admin') LIMIT 1";
        let row = session.maybe("looking for a provider's roles", sql, &[]).await?;
        Ok(row.map(|row| match row.get::<_, String>(0).as_str() {
            "rds_superuser" => Self::ParameterGroup,
            "cloudsqlsuperuser" => Self::Flags,
            _ => Self::ServerParameters,
        }))
    }

    pub(super) fn words(self) -> &'static str {
        match self {
            Self::ParameterGroup => {
                "a managed server whose settings are in a parameter group (role rds_superuser is there)"
            }
            Self::Flags => {
                "a managed server whose settings are flags of the instance (role cloudsqlsuperuser is there)"
            }
            Self::ServerParameters => {
                "a managed server whose settings are server parameters (role azure_pg_admin is there)"
            }
        }
    }
}

/// How a setting is changed on this server.
pub(super) fn setting(managed: Option<Managed>, name: &str, value: &str, restart: bool) -> Fix {
    let restarted = if restart { "restart the server" } else { "" };
    let then = if restart { ", then restart the server" } else { "" };
    match (managed, name) {
        (None, _) => {
            let reload = if restart { None } else { Some("SELECT pg_reload_conf()".to_string()) };
            Fix::run([format!("ALTER SYSTEM SET {name} = '{value}'")].into_iter().chain(reload))
                .then(restarted)
        }
        (Some(Managed::ParameterGroup), "wal_level") => Fix::step(
            "set rds.logical_replication = 1 in the server's parameter group, then restart the server",
        ),
        (Some(Managed::Flags), "wal_level") => {
            Fix::step("set the flag cloudsql.logical_decoding = on, which restarts the server")
        }
        (Some(Managed::ParameterGroup), _) => {
            Fix::step(format!("set {name} = {value} in the server's parameter group{then}"))
        }
        (Some(Managed::Flags), _) => Fix::step(format!("set the flag {name} = {value}{then}")),
        (Some(Managed::ServerParameters), _) => {
            Fix::step(format!("set the server parameter {name} = {value}{then}"))
        }
    }
}

/// How a role is let replicate on this server.
pub(super) fn replication_grant(managed: Option<Managed>, user: &str) -> String {
    match managed {
        Some(Managed::ParameterGroup) => format!("GRANT rds_replication TO {user}"),
        _ => format!("ALTER ROLE {user} REPLICATION"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_setting_is_changed_where_its_server_keeps_it() {
        let own = setting(None, "wal_level", "logical", true);
        assert_eq!(own.statements, ["ALTER SYSTEM SET wal_level = 'logical'"]);
        assert_eq!(own.step, "restart the server");
        let of = |m, name| setting(Some(m), name, "logical", true).step;
        assert!(of(Managed::ParameterGroup, "wal_level").contains("rds.logical_replication = 1"));
        assert!(of(Managed::Flags, "wal_level").contains("cloudsql.logical_decoding"));
        assert!(of(Managed::ServerParameters, "wal_level").contains("parameter wal_level = logical"));
        assert_eq!(
            replication_grant(Some(Managed::ParameterGroup), "\"m\""),
            "GRANT rds_replication TO \"m\""
        );
    }
}
