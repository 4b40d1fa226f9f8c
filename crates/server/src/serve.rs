//! Listens: TLS or plain connections, time limits for headers, graceful shutdown.

use std::convert::Infallible;
use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::sync::Arc;

use axum::Router;
use axum::body::Body;
use bibliotax_registry::client::http::out_of_time;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use hyper_util::server::graceful::{GracefulShutdown, Watcher};
use jiff::Timestamp;
use rustls::ServerConfig;
use rustls::pki_types::pem::PemObject;
use rustls::pki_types::{CertificateDer, PrivateKeyDer};
use tokio::io::{AsyncRead, AsyncWrite};
use tokio::net::{TcpListener, TcpStream};
use tokio_rustls::TlsAcceptor;
use tower::ServiceExt;

use crate::app::App;
use crate::authentication::Client;
use crate::connections::{Activity, AnswerBody, Connections, Watched};
use crate::routes::router;

/// Most bytes of a request's head.
const MAX_HEAD_SIZE: usize = 32 << 10;

/// A server that listens and was not yet asked anything.
pub struct Listening {
    listener: TcpListener,
    tls: Option<TlsAcceptor>,
    app: Arc<App>,
}

/// How a server encrypts, and what keeps clients from trusting it now.
pub struct Tls {
    config: Arc<ServerConfig>,
    /// Why its certificate is not valid now.
    pub out_of_time: Option<String>,
}

/// The certificate chain and the key in these PEM files, for TLS.
pub fn tls(certificates: &Path, key: &Path) -> io::Result<Tls> {
    let wrong = |path: &Path, error: &dyn std::fmt::Display| {
        io::Error::other(format!("{} can't be used for TLS: {error}", path.display()))
    };
    let chain = CertificateDer::pem_file_iter(certificates).map_err(|error| wrong(certificates, &error))?;
    let chain = chain.collect::<Result<Vec<_>, _>>().map_err(|error| wrong(certificates, &error))?;
    let private = PrivateKeyDer::from_pem_file(key).map_err(|error| wrong(key, &error))?;
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = ServerConfig::builder_with_provider(provider).with_safe_default_protocol_versions();
    let builder = builder.map_err(|error| wrong(certificates, &error))?.with_no_client_auth();
    let out_of_time = out_of_time(&chain, Timestamp::now());
    let mut config = builder.with_single_cert(chain, private).map_err(|error| wrong(key, &error))?;
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Ok(Tls { config: Arc::new(config), out_of_time })
}

impl Listening {
    /// Listens on an address; port 0 takes any that is free.
    pub async fn on(address: SocketAddr, tls: Option<Tls>, app: Arc<App>) -> io::Result<Self> {
        let listener = TcpListener::bind(address).await?;
        Ok(Self { listener, tls: tls.map(|tls| TlsAcceptor::from(tls.config)), app })
    }

    /// The address that it listens on.
    pub fn address(&self) -> io::Result<SocketAddr> {
        self.listener.local_addr()
    }

    /// Answers until `stop` is over, then lets what is under way end, for as long as the limits say.
    pub async fn run(self, stop: impl Future<Output = ()>) {
        let graceful = GracefulShutdown::new();
        let connections = Connections::new();
        let mut stop = std::pin::pin!(stop);
        let router = router(&self.app);
        let clearing = tokio::spawn(Arc::clone(&self.app).clear_now_and_then());
        loop {
            let accepted = tokio::select! {
                accepted = self.listener.accept() => accepted,
                () = &mut stop => break,
            };
            // A connection that is gone before it was taken is nobody's fault; with too many open files one makes room.
            let Ok((stream, peer)) = accepted else {
                connections.close_one();
                tokio::time::sleep(std::time::Duration::from_millis(20)).await;
                continue;
            };
            // One that is too many is closed without a word, which costs least.
            let Some(admitted) = connections.admit(peer.ip(), &self.app.limits) else { continue };
            let (tls, watcher) = (self.tls.clone(), graceful.watcher());
            let activity = Arc::clone(&admitted.activity);
            let connection =
                Connection { peer: peer.ip(), app: Arc::clone(&self.app), router: router.clone(), activity };
            tokio::spawn(async move {
                tokio::select! {
                    () = connection.serve(stream, tls, watcher) => {}
                    () = connection.activity.over(&connection.app.limits) => {}
                }
                drop(admitted);
            });
        }
        clearing.abort();
        drop(self.listener);
        let patience = self.app.limits.stopping;
        // What is not done by then is cut off: its clients try again.
        let _ = tokio::time::timeout(patience, graceful.shutdown()).await;
    }
}

/// One connection of a client.
struct Connection {
    peer: IpAddr,
    app: Arc<App>,
    router: Router,
    activity: Arc<Activity>,
}

impl Connection {
    async fn serve(&self, stream: TcpStream, tls: Option<TlsAcceptor>, watcher: Watcher) {
        // Small answers wait for nothing.
        let _ = stream.set_nodelay(true);
        let stream = Watched::new(stream, Arc::clone(&self.activity));
        match tls {
            None => self.talk(stream, watcher).await,
            Some(tls) => {
                let accepted = tokio::time::timeout(self.app.limits.head, tls.accept(stream)).await;
                if let Ok(Ok(stream)) = accepted {
                    self.talk(stream, watcher).await;
                }
            }
        }
    }

    async fn talk<S>(&self, stream: S, watcher: Watcher)
    where
        S: AsyncRead + AsyncWrite + Unpin + Send + 'static,
    {
        let limits = &self.app.limits;
        let mut builder = Builder::new(TokioExecutor::new());
        builder.http1().timer(TokioTimer::new()).header_read_timeout(limits.head).max_buf_size(MAX_HEAD_SIZE);
        builder
            .http2()
            .timer(TokioTimer::new())
            .max_header_list_size(MAX_HEAD_SIZE as u32)
            .keep_alive_interval(Some(limits.silence));
        let service = service_fn(move |request: hyper::Request<Incoming>| {
            let (router, answering) = (self.router.clone(), self.activity.begin());
            let client = Client::new(self.app.client_address(self.peer, request.headers()));
            let mut request = request.map(Body::new);
            request.extensions_mut().insert(client);
            async move {
                let answer = router.oneshot(request).await?;
                Ok::<_, Infallible>(answer.map(|body| AnswerBody::new(body, answering)))
            }
        });
        let connection = builder.serve_connection(TokioIo::new(stream), service);
        // A client that breaks off has what it wanted.
        let _ = watcher.watch(connection.into_owned()).await;
    }
}
