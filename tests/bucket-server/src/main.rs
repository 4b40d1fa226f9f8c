//! An S3-compatible server for the tests of buckets: files in a folder, and conditional writes that are sound because one
//! lock is held around each request that changes something.
//!
//! `bucket-server FOLDER KEY SECRET` listens on a free port of this machine and prints it. Each folder in FOLDER is a bucket.

use std::error::Error;
use std::sync::Arc;

use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::service::service_fn;
use hyper::{Method, Request};
use hyper_util::rt::{TokioExecutor, TokioIo};
use hyper_util::server::conn::auto::Builder;
use s3s::auth::SimpleAuth;
use s3s::service::{S3Service, S3ServiceBuilder};
use tokio::net::TcpListener;
use tokio::sync::RwLock;

#[tokio::main]
async fn main() -> Result<(), Box<dyn Error>> {
    let [_, folder, key, secret] = &std::env::args().collect::<Vec<_>>()[..] else {
        return Err("usage: bucket-server FOLDER KEY SECRET".into());
    };
    let mut builder =
        S3ServiceBuilder::new(s3s_fs::FileSystem::new(folder).map_err(|error| format!("{error:?}"))?);
    builder.set_auth(SimpleAuth::from_single(key.clone(), secret.clone()));
    let (service, lock) = (builder.build(), Arc::new(RwLock::new(())));
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("{}", listener.local_addr()?.port());
    loop {
        let (stream, _) = listener.accept().await?;
        let (service, lock) = (service.clone(), Arc::clone(&lock));
        tokio::spawn(async move {
            let answer = service_fn(|request| answer(service.clone(), Arc::clone(&lock), request));
            // A client that goes away is no trouble of ours.
            let _ = Builder::new(TokioExecutor::new()).serve_connection(TokioIo::new(stream), answer).await;
        });
    }
}

/// Answers a request, which is read whole first so that nobody waits for a slow client, and carried out to its end even
/// where the client goes away: a write that is given up in the middle would leave new bytes under the old validator.
async fn answer(
    service: S3Service,
    lock: Arc<RwLock<()>>,
    request: Request<Incoming>,
) -> Result<hyper::Response<s3s::Body>, Box<dyn Error + Send + Sync>> {
    let (head, body) = request.into_parts();
    let body = body.collect().await?.to_bytes();
    let request = Request::from_parts(head, s3s::Body::from(body));
    let carried_out = tokio::spawn(async move {
        if matches!(*request.method(), Method::GET | Method::HEAD) {
            let _held = lock.read().await;
            service.call(request).await
        } else {
            let _held = lock.write().await;
            service.call(request).await
        }
    });
    let answer = carried_out.await?;
    answer.map_err(|error| format!("{error:?}").into())
}
