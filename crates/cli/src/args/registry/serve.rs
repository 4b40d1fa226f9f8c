//! Options of `registry serve`.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::Duration;

use bibliotax_app::failure::Failure;
use bibliotax_app::registry::read_through::{self, Request};
use bibliotax_app::registry_storage;
use bibliotax_disk::error::At;
use bibliotax_server::serve::{Listening, Tls, tls};
use bibliotax_server::{App, Limits, Served};

use crate::args::size::read_size;
use crate::exit_status::Exit;
use crate::json;
use crate::run::Run;
use crate::server_log;

/// Serve a registry over HTTP
///
/// Everybody who reaches the server can read; publishing needs a token (`bibliotax registry token issue`). Requests and failures
/// are logged to standard error as JSON lines; --quiet logs only failures. Clients show the request's id with each failure. Ctrl-C
/// finishes running requests, then ends the server.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Examples:\n  bibliotax registry serve ../registry\n  bibliotax registry serve ../registry --listen 0.0.0.0:443 --cert chain.pem --key key.pem\n  bibliotax registry serve --read-through https://packages.seedhouse.example ../copy"
)]
pub struct Serve {
    /// The registry: a folder, or `s3://BUCKET/PREFIX`, which several servers can serve at once
    registry: String,
    /// Serve a cache of the registry at this URL; the folder keeps what was downloaded
    #[arg(long, value_name = "URL")]
    read_through: Option<String>,
    /// Check the original for changes after so many seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 30, requires = "read_through")]
    fresh: u64,
    /// Serve outdated answers while the original is unreachable
    #[arg(long, requires = "read_through")]
    stale: bool,
    /// The address and port to listen on; port 0 uses any free one
    #[arg(long, value_name = "ADDRESS", default_value = "127.0.0.1:8630")]
    listen: SocketAddr,
    /// The TLS certificate chain, as PEM
    #[arg(long, value_name = "FILE", requires = "key")]
    cert: Option<PathBuf>,
    /// The certificate's private key, as PEM
    #[arg(long, value_name = "FILE", requires = "cert")]
    key: Option<PathBuf>,
    /// End when standard input ends, for programs that start the server
    #[arg(long)]
    until_input_ends: bool,
    /// Serve other machines without TLS, behind a proxy that sets `x-forwarded-for`
    #[arg(long, conflicts_with = "cert")]
    plain: bool,
    /// Limit the size of unfinished uploads [default: 64G]
    #[arg(long, value_name = "SIZE", value_parser = read_size)]
    uploads: Option<u64>,
}

impl Serve {
    pub fn run(&self, run: &Run<'_>) -> Result<Exit, Failure> {
        let served = self.served(run)?;
        self.check_encryption()?;
        let tls = self.tls(run)?;
        if let Some(why) = tls.as_ref().and_then(|tls| tls.out_of_time.as_ref()) {
            run.ui.warn(format!("clients won't trust this server: {why}"));
        }
        server_log::begin(run.ui.is_quiet());
        let app = App::new(served.clone(), self.limits(), tls.is_some())?;
        let runtime = tokio::runtime::Runtime::new().at("start", "the server")?;
        runtime.block_on(self.listen(run, &served, tls, app))
    }

    async fn listen(
        &self,
        run: &Run<'_>,
        served: &Served,
        tls: Option<Tls>,
        app: Arc<App>,
    ) -> Result<Exit, Failure> {
        let scheme = if tls.is_some() { "https" } else { "http" };
        let listening = Listening::on(self.listen, tls, app).await;
        let listening = listening.map_err(|error| cannot_listen(self.listen, &error))?;
        // Clients that connect meanwhile wait for an answer, and aren't refused.
        if let Some(how) = tokio::task::block_in_place(|| served.check_changes())? {
            run.ui.say(format!("changes are made {how}"));
        }
        let address = listening.address().at("listen on", self.listen.to_string())?;
        run.ui.say(format!("serving {} at {scheme}://{address}/", served.registry().name()));
        run.ui.report(|| json::registry::Serving { url: format!("{scheme}://{address}/") });
        listening.run(stop(self.until_input_ends)).await;
        Ok(Exit::Done)
    }

    fn served(&self, run: &Run<'_>) -> Result<Served, Failure> {
        let place = &self.registry;
        run.working(|context| match &self.read_through {
            None => Ok(Served::Writable(registry_storage::open(place, context)?)),
            Some(url) => {
                let request = Request {
                    folder: place.clone(),
                    url: url.clone(),
                    fresh: Duration::from_secs(self.fresh),
                    is_stale_allowed: self.stale,
                };
                read_through::open(&request, context).map(Served::ReadOnly)
            }
        })
    }

    fn limits(&self) -> Limits {
        let limits = Limits { is_behind_proxy: self.plain, ..Limits::default() };
        Limits { pending: self.uploads.unwrap_or(limits.pending), ..limits }
    }

    /// Other machines are served without TLS only where that is said.
    fn check_encryption(&self) -> Result<(), Failure> {
        if self.cert.is_some() || self.plain || self.listen.ip().is_loopback() {
            return Ok(());
        }
        let message = format!("{} can be reached from other machines, and nothing is encrypted", self.listen);
        Err(Failure::new("serve.plain", message)
            .advice("add a certificate (`--cert`, `--key`), or use `--plain` behind a proxy that has one"))
    }

    fn tls(&self, run: &Run<'_>) -> Result<Option<Tls>, Failure> {
        let (Some(cert), Some(key)) = (&self.cert, &self.key) else { return Ok(None) };
        let tls = tls(&run.folder().join(cert), &run.folder().join(key));
        tls.map(Some).map_err(|error| {
            Failure::new("serve.certificate", error.to_string())
                .advice("both files must be PEM: the certificate chain, and its private key")
        })
    }
}

fn cannot_listen(address: SocketAddr, error: &std::io::Error) -> Failure {
    let what = match error.kind() {
        std::io::ErrorKind::AddrInUse => "another program uses this address",
        std::io::ErrorKind::PermissionDenied => "this needs more rights than you have",
        _ => "the system refuses",
    };
    Failure::new("serve.address", format!("can't listen on {address}: {what}"))
        .advice("choose another with `--listen`; port 0 uses any free one")
}

/// Over when somebody asks the program to end, or when its input ends, where that matters.
async fn stop(until_input_ends: bool) {
    tokio::select! {
        () = signalled() => (),
        () = input_ended(), if until_input_ends => (),
    }
}

/// Over when the standard input is.
async fn input_ended() {
    let (over, ended) = tokio::sync::oneshot::channel();
    // A thread of its own: the runtime would wait for one of its own that reads.
    std::thread::spawn(move || {
        // Whether it ends or breaks is the same here.
        let _ = std::io::copy(&mut std::io::stdin(), &mut std::io::sink());
        over.send(())
    });
    let _ = ended.await;
}

async fn signalled() {
    let interrupted = tokio::signal::ctrl_c();
    #[cfg(unix)]
    {
        use tokio::signal::unix::{SignalKind, signal};
        if let Ok(mut terminated) = signal(SignalKind::terminate()) {
            tokio::select! { _ = interrupted => (), _ = terminated.recv() => () }
            return;
        }
    }
    let _ = interrupted.await;
}
