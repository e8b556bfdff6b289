//! What a connection goes over: who is at its ends, whether others can read it, and until when its certificates count.

use crate::wire::address::{PostgresAddress, SslMode};
use crate::wire::certificate::{Certificate, day};
use crate::wire::link::{Link, listed};
use crate::wire::tls;
use moorage_core::model::finding::{End, Finding, Fix};

/// So many days before its end a certificate is worth a warning.
const SOON_DAYS: i64 = 30;

/// What is to be said of a connection at a time, in seconds since 1970.
pub(crate) fn inspect(end: End, address: &PostgresAddress, link: &Link, now: i64) -> Vec<Finding> {
    let Some((own, peer)) = link.ends else {
        return vec![Finding::ok(
            end,
            "connection",
            format!("Unix socket {}, on this machine", address.host_text()),
        )];
    };
    let mut ends = format!("from {} to {} port {}", own.ip(), peer.ip(), peer.port());
    if link.addresses.len() > 1 {
        ends.push_str(&format!("; {} has the addresses {}", address.host, listed(&link.addresses)));
    }
    let local = peer.ip().is_loopback();
    let mut found = vec![match &link.tls {
        Some(tls) => Finding::ok(end, "connection", format!("encrypted ({}), {ends}", tls.version)),
        None if local => Finding::ok(end, "connection", format!("not encrypted, {ends}: on this machine"))
            .because("if a tunnel stands there, what it leads through is for you to know"),
        None => Finding::warning(
            end,
            "connection",
            format!("not encrypted, {ends}"),
            "whoever is on the way can read rows, and change them",
            Fix::step("set sslmode = \"verify-full\"; the server needs ssl = on and a certificate"),
        ),
    }];
    if address.sslmode == SslMode::Prefer && link.tls.is_some() && !local {
        found.push(Finding::warning(
            end,
            "sslmode",
            "sslmode is prefer: encrypted now, and without if someone says that the server cannot",
            "whoever is on the way can say so, and read rows",
            Fix::step(
                "set sslmode = \"verify-full\", and sslrootcert to the file with the authority's certificate",
            ),
        ));
    }
    let server = link.tls.as_ref().and_then(|tls| tls.certificate.clone());
    found.extend(server.map(|certificate| lasts(end, "the server's certificate", &certificate, now)));
    let own = address.sslcert.as_ref().and_then(|path| tls::certificates("sslcert", path).ok());
    let own = own.and_then(|chain| Certificate::read(chain.first()?).ok());
    found.extend(own.map(|certificate| lasts(end, "our own certificate", &certificate, now)));
    found
}

fn lasts(end: End, whose: &str, certificate: &Certificate, now: i64) -> Finding {
    let (subject, until) = (&certificate.subject, day(certificate.not_after));
    let days = (certificate.not_after - now).div_euclid(24 * 3600);
    let found = match days {
        ..0 => format!("{whose} ({subject}) expired on {until}"),
        0..2 => format!("{whose} ({subject}) expires on {until}"),
        _ => format!("{whose} ({subject}) is good until {until}, for {days} days"),
    };
    if days >= SOON_DAYS {
        return Finding::ok(end, "certificate", found);
    }
    let why = "behind that day connections fail wherever it is checked";
    Finding::warning(end, "certificate", found, why, Fix::step("have a new one made and put in place before"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use moorage_core::model::finding::Severity;

    fn said(peer: &str, encrypted: bool, mode: SslMode, days: i64) -> Vec<(Severity, String)> {
        let mut address = PostgresAddress::parse("postgres://u@db.example/d").unwrap();
        address.sslmode = mode;
        let key = rcgen::KeyPair::generate().unwrap();
        let mut params = rcgen::CertificateParams::new(vec!["db.example".to_string()]).unwrap();
        params.not_after = rcgen::date_time_ymd(2030, 1, 1);
        let made = params.self_signed(&key).unwrap();
        let certificate = Certificate::read(made.der()).unwrap();
        let now = certificate.not_after - days * 24 * 3600;
        let peer = peer.parse().unwrap();
        let tls =
            crate::wire::link::Tls { version: "TLS 1.3", certificate: Some(certificate), end_point: None };
        let tls = Some(tls).filter(|_| encrypted);
        let link = Link { ends: Some(("10.0.0.5:4000".parse().unwrap(), peer)), addresses: vec![peer], tls };
        inspect(End::Source, &address, &link, now).into_iter().map(|f| (f.severity, f.found)).collect()
    }

    #[rstest::rstest]
    #[case::plain("10.0.0.9:5432", false, SslMode::Prefer, 400, &[(Severity::Warning, "not encrypted, from 10.0.0.5 to 10.0.0.9 port 5432")])]
    #[case::at_home("127.0.0.1:5432", false, SslMode::Disable, 400, &[(Severity::Ok, "on this machine")])]
    #[case::preferred("10.0.0.9:5432", true, SslMode::Prefer, 400, &[(Severity::Ok, "encrypted (TLS 1.3)"), (Severity::Warning, "prefer"), (Severity::Ok, "until 2030-01-01, for 400 days")])]
    #[case::soon("10.0.0.9:5432", true, SslMode::Require, 7, &[(Severity::Ok, "encrypted"), (Severity::Warning, "for 7 days")])]
    #[case::over("10.0.0.9:5432", true, SslMode::Require, -1, &[(Severity::Ok, "encrypted"), (Severity::Warning, "expired on 2030-01-01")])]
    fn a_connection_is_described(
        #[case] peer: &str,
        #[case] encrypted: bool,
        #[case] mode: SslMode,
        #[case] days: i64,
        #[case] expected: &[(Severity, &str)],
    ) {
        let said = said(peer, encrypted, mode, days);
        assert_eq!(said.len(), expected.len(), "{said:?}");
        for ((severity, words), (expected_severity, part)) in said.iter().zip(expected) {
            assert!(severity == expected_severity && words.contains(part), "{said:?}");
        }
    }
}
