//! Why there is no connection, with advice.

use std::error::Error;
use std::io;
use std::time::Duration;

use jiff::Timestamp;
use rustls::client::verify_server_cert_signed_by_trust_anchor;
use rustls::pki_types::{CertificateDer, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{CertificateError, RootCertStore};

/// Most names of a certificate that are shown.
const MAX_NAMES: usize = 5;

/// What became of a connection, in words.
pub fn what_broke(error: &reqwest::Error) -> String {
    if let Some(problem) = find::<rustls::Error>(error) {
        return of_tls(problem);
    }
    let of_system = find::<io::Error>(error).map(io::Error::kind);
    match of_system {
        _ if error.is_redirect() => "it redirects to an unsafe place, or in a circle",
        Some(io::ErrorKind::ConnectionRefused) => "nothing listens there: the connection was refused",
        _ if is_without_address(error) => "the host doesn't exist, or its name can't be looked up",
        _ if error.is_timeout() && error.is_connect() => "no connection within 10 seconds",
        _ if error.is_timeout() => "it doesn't answer in time",
        _ if error.is_connect() => "it can't be connected to",
        _ => "the connection broke off",
    }
    .to_owned()
}

/// Whether a connection failed because of how the server secures it, which another try would not change.
pub fn is_about_tls(error: &reqwest::Error) -> bool {
    find::<rustls::Error>(error).is_some()
}

fn of_tls(problem: &rustls::Error) -> String {
    match problem {
        rustls::Error::InvalidCertificate(problem) => of_certificate(problem),
        rustls::Error::InvalidMessage(_) => "it doesn't speak TLS on this port: is it `http://`?".to_owned(),
        rustls::Error::AlertReceived(alert) => format!("it refuses to encrypt ({alert:?})"),
        _ => "there is no common way to encrypt".to_owned(),
    }
}

fn of_certificate(problem: &CertificateError) -> String {
    match problem {
        CertificateError::Expired => "its certificate has expired".to_owned(),
        CertificateError::ExpiredContext { not_after, .. } => {
            format!("its certificate expired{}", on(*not_after))
        }
        CertificateError::NotValidYet => "its certificate is not valid yet".to_owned(),
        CertificateError::NotValidYetContext { not_before, .. } => {
            format!("its certificate is not valid yet; it becomes valid{} (is this machine's clock right?)", on(*not_before))
        }
        CertificateError::NotValidForName => "its certificate is for another host".to_owned(),
        CertificateError::NotValidForNameContext { presented, .. } => {
            let names: Vec<&str> = presented.iter().take(MAX_NAMES).map(|name| plain_name(name)).collect();
            let names = if names.is_empty() { "no host at all".to_owned() } else { names.join(", ") };
            format!("its certificate is for another host: {names}")
        }
        CertificateError::UnknownIssuer => {
            "this machine doesn't trust the authority of its certificate; a file named by SSL_CERT_FILE can add the authority"
                .to_owned()
        }
        _ => "this machine doesn't trust its certificate".to_owned(),
    }
}

/// Why a certificate chain in PEM is not valid at a time; `None` where it is. Issuers are not checked.
pub fn out_of_time(chain: &[CertificateDer<'_>], now: Timestamp) -> Option<String> {
    let now = UnixTime::since_unix_epoch(Duration::from_secs(now.as_second().try_into().ok()?));
    let algorithms = rustls::crypto::ring::default_provider().signature_verification_algorithms.all;
    chain.iter().find_map(|certificate| {
        let parsed = ParsedCertificate::try_from(certificate).ok()?;
        // Its time is checked before its issuer, which isn't known here.
        let roots = RootCertStore::empty();
        match verify_server_cert_signed_by_trust_anchor(&parsed, &roots, &[], now, algorithms) {
            Err(rustls::Error::InvalidCertificate(
                problem @ (CertificateError::ExpiredContext { .. }
                | CertificateError::NotValidYetContext { .. }),
            )) => Some(of_certificate(&problem)),
            _ => None,
        }
    })
}

/// A name of a certificate without what kind of name it is.
fn plain_name(name: &str) -> &str {
    let inner = name.split_once('(').and_then(|(_, inner)| inner.strip_suffix(')'));
    inner.unwrap_or(name).trim_matches('"')
}

/// The day of a time, as part of a sentence.
fn on(time: UnixTime) -> String {
    let seconds = i64::try_from(time.as_secs()).ok();
    let time = seconds.and_then(|seconds| Timestamp::from_second(seconds).ok());
    time.map(|time| format!(" on {}", time.strftime("%Y-%m-%d"))).unwrap_or_default()
}

/// Whether a connection failed before there was an address: the library tells that in words alone.
fn is_without_address(error: &reqwest::Error) -> bool {
    causes(error).any(|cause| cause.to_string().contains("dns error"))
}

/// The first cause of a kind.
fn find<E: Error + 'static>(error: &reqwest::Error) -> Option<&E> {
    causes(error).find_map(|cause| cause.downcast_ref())
}

/// All causes of an error, the nearest first.
fn causes(error: &reqwest::Error) -> impl Iterator<Item = &(dyn Error + 'static)> {
    std::iter::successors(error.source(), |cause| next(*cause))
}

/// What an error was caused by.
fn next<'e>(error: &'e (dyn Error + 'static)) -> Option<&'e (dyn Error + 'static)> {
    match error.downcast_ref::<io::Error>() {
        // An error of the system's kind passes over what it holds when it is asked for its source.
        Some(error) => error.get_ref().map(|inner| inner as &(dyn Error + 'static)),
        None => error.source(),
    }
}
